//! Libraries installed on the machine, by their `.pc` files (an open format: variables, `Name`,
//! `Version`, `Requires`, `Cflags`, `Libs`).

use std::collections::{HashMap, HashSet};
use std::fmt;
use std::fs;
use std::path::{Path, PathBuf};

use nubrik_lang::{LibraryAnswer, LibraryRequest, LibrarySearch};

/// Where `.pc` files lie, below each prefix.
const PREFIXES: [&str; 2] = ["/usr/local", "/usr"];

/// The variable of the environment with more folders of `.pc` files, which all readers of them
/// know.
pub const LIBRARY_PATH_VARIABLE: &str = "PKG_CONFIG_PATH";

/// How deep libraries may require one another.
const DEPTH_LIMIT: usize = 64;

/// Folders in which `.pc` files are looked for: those of `PKG_CONFIG_PATH`, then the system's.
fn folders(path: Option<&str>) -> Vec<PathBuf> {
    let mut folders: Vec<PathBuf> = path
        .map(|p| {
            std::env::split_paths(p)
                .filter(|f| f.is_absolute())
                .collect()
        })
        .unwrap_or_default();
    for prefix in PREFIXES {
        let machine = format!("{}-linux-gnu", std::env::consts::ARCH);
        for below in [
            format!("lib/{machine}/pkgconfig"),
            "lib64/pkgconfig".into(),
            "lib/pkgconfig".into(),
            "share/pkgconfig".into(),
        ] {
            folders.push(Path::new(prefix).join(below));
        }
    }
    folders
}

/// Looks for libraries; `read` takes note of each path that an answer depends on.
pub fn search_library(
    request: &LibraryRequest,
    path: Option<&str>,
    read: &mut dyn FnMut(&Path),
) -> LibrarySearch {
    let system = SystemView {
        text: &|path| fs::read_to_string(path).ok(),
        is_folder: &Path::is_dir,
    };
    search_library_in(&system, request, path, read)
}

/// A file system in which libraries are installed.
pub(crate) struct SystemView<'a> {
    /// The text of a file.
    pub text: &'a dyn Fn(&Path) -> Option<String>,
    /// Whether there is a folder.
    pub is_folder: &'a dyn Fn(&Path) -> bool,
}

/// Looks for libraries in a file system.
pub(crate) fn search_library_in(
    system: &SystemView<'_>,
    request: &LibraryRequest,
    path: Option<&str>,
    read: &mut dyn FnMut(&Path),
) -> LibrarySearch {
    let folders = folders(path);
    let there = folders.iter().filter(|folder| (system.is_folder)(folder));
    let mut search = LibrarySearch {
        searched: there.map(|folder| folder.display().to_string()).collect(),
        ..LibrarySearch::default()
    };
    for name in &request.names {
        let mut reader = Reader {
            system,
            folders: &folders,
            read,
            files: HashMap::new(),
        };
        match reader.answer(name, request.for_static) {
            Ok(Some(answer)) => search.found.push(answer),
            Ok(None) => {}
            Err(problem) => search.problem = search.problem.or(Some(problem.to_string())),
        }
    }
    search
}

/// The folders of headers of all installed libraries, by the libraries' names.
pub struct LibraryIndex {
    folders: Vec<(String, Vec<PathBuf>)>,
}

impl LibraryIndex {
    /// Reads all `.pc` files, those in the folders of `path` first.
    pub fn of(path: Option<&str>) -> LibraryIndex {
        let mut index = LibraryIndex {
            folders: Vec::new(),
        };
        for folder in folders(path) {
            for at in fs::read_dir(&folder)
                .into_iter()
                .flatten()
                .flatten()
                .map(|entry| entry.path())
            {
                let Some(name) = at.file_stem().and_then(|name| name.to_str()) else {
                    continue;
                };
                if at.extension().is_none_or(|ext| ext != "pc") {
                    continue;
                }
                let Ok(text) = fs::read_to_string(&at) else {
                    continue;
                };
                let Ok(known) = parse(&text, &folder) else {
                    continue;
                };
                let searched = known
                    .compile
                    .iter()
                    .filter_map(|flag| flag.strip_prefix("-I"));
                index
                    .folders
                    .push((name.to_owned(), searched.map(PathBuf::from).collect()));
            }
        }
        index
    }

    /// The library that names a folder of headers with this file in it, and that folder. A folder
    /// that all compilers search says little: there the library counts whose name begins as the
    /// file's does. Of several the one with the longest name counts: one for another language has a
    /// shorter one.
    pub fn with(&self, file: &str) -> Option<(&str, &Path)> {
        let stem = Path::new(file).file_stem()?.to_str()?;
        let has = |(name, folders): &'_ (String, Vec<PathBuf>)| {
            let at = folders
                .iter()
                .position(|folder| folder.join(file).is_file())?;
            let is_shared = is_searched_by_all(&format!("-I{}", folders[at].display()));
            (!is_shared || name.to_lowercase().starts_with(stem)).then_some((is_shared, at))
        };
        let found = self.folders.iter().filter_map(|one| Some((one, has(one)?)));
        let (one, (_, at)) = found.min_by_key(|((name, _), (is_shared, _))| {
            (*is_shared, std::cmp::Reverse(name.len()), name)
        })?;
        Some((&one.0, &one.1[at]))
    }
}

/// Whether a flag names a folder that all compilers search for headers of C.
fn is_searched_by_all(flag: &str) -> bool {
    let Some(folder) = flag
        .strip_prefix("-I")
        .map(|folder| folder.trim_end_matches('/'))
    else {
        return false;
    };
    let of_machine = format!("/usr/include/{}-linux-gnu", std::env::consts::ARCH);
    matches!(folder, "/usr/include" | "/usr/local/include") || folder == of_machine
}

/// Why an installed library cannot be used.
#[derive(Clone, PartialEq, Eq, Debug)]
enum LibraryProblem {
    /// It requires one that is not installed: the library that was asked for, and the one that it
    /// needs.
    Lacks { asked: String, needs: String },
    /// Its file does not have the right form: which file, and what is wrong.
    Form(PathBuf, PcProblem),
}

/// What is wrong in a `.pc` file.
#[derive(Clone, PartialEq, Eq, Debug)]
enum PcProblem {
    NoVersion,
    /// Variables that need one another.
    Circle,
    Undeclared(String),
    TooLong,
}

impl fmt::Display for LibraryProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            LibraryProblem::Lacks { asked, needs } => {
                write!(
                    f,
                    "the library `{asked}` requires `{needs}`, which is not installed"
                )
            }
            LibraryProblem::Form(file, problem) => write!(f, "{}: {problem}", file.display()),
        }
    }
}

impl fmt::Display for PcProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            PcProblem::NoVersion => f.write_str("it names no version"),
            PcProblem::Circle => f.write_str("its variables need one another"),
            PcProblem::Undeclared(name) => write!(f, "the variable `{name}` is not declared"),
            PcProblem::TooLong => f.write_str("a line is too long"),
        }
    }
}

struct Reader<'a> {
    system: &'a SystemView<'a>,
    folders: &'a [PathBuf],
    read: &'a mut dyn FnMut(&Path),
    files: HashMap<String, Option<PcFile>>,
}

/// What a `.pc` file says, with its variables filled in.
#[derive(Clone, Default)]
struct PcFile {
    version: String,
    compile: Vec<String>,
    link: Vec<String>,
    link_private: Vec<String>,
    requires: Vec<String>,
    requires_private: Vec<String>,
}

impl Reader<'_> {
    fn answer(
        &mut self,
        name: &str,
        for_static: bool,
    ) -> Result<Option<LibraryAnswer>, LibraryProblem> {
        let Some(file) = self.file(name)? else {
            return Ok(None);
        };
        let mut answer = LibraryAnswer {
            name: name.to_owned(),
            version: file.version,
            compile: Vec::new(),
            link: Vec::new(),
        };
        let mut seen = HashSet::new();
        self.collect(name, name, for_static, true, &mut seen, &mut answer, 0)?;
        // The search paths of the system need not be said.
        answer
            .compile
            .retain(|flag| !matches!(flag.as_str(), "-I/usr/include" | "-I/usr/local/include"));
        answer.link.retain(|flag| {
            !matches!(
                flag.trim_end_matches('/'),
                "-L/usr/lib" | "-L/usr/local/lib" | "-L/lib"
            ) && !is_system_folder(flag)
        });
        let mut told = HashSet::new();
        answer.compile.retain(|flag| told.insert(flag.clone()));
        Ok(Some(answer))
    }

    /// Adds a library's flags and those of what it requires.
    #[allow(clippy::too_many_arguments)]
    fn collect(
        &mut self,
        asked: &str,
        name: &str,
        for_static: bool,
        link: bool,
        seen: &mut HashSet<(String, bool)>,
        answer: &mut LibraryAnswer,
        depth: usize,
    ) -> Result<(), LibraryProblem> {
        if depth > DEPTH_LIMIT || !seen.insert((name.to_owned(), link)) {
            return Ok(());
        }
        let Some(file) = self.file(name)? else {
            return Err(LibraryProblem::Lacks {
                asked: asked.to_owned(),
                needs: name.to_owned(),
            });
        };
        if !seen.contains(&(name.to_owned(), !link)) {
            answer.compile.extend(file.compile.clone());
        }
        if link {
            answer.link.extend(file.link.clone());
            if for_static {
                answer.link.extend(file.link_private.clone());
            }
        }
        for required in &file.requires {
            self.collect(asked, required, for_static, link, seen, answer, depth + 1)?;
        }
        for required in &file.requires_private {
            // Its headers may be included by this library's; it is linked only statically.
            if self.file(required)?.is_some() {
                self.collect(
                    asked,
                    required,
                    for_static,
                    link && for_static,
                    seen,
                    answer,
                    depth + 1,
                )?;
            }
        }
        Ok(())
    }

    fn file(&mut self, name: &str) -> Result<Option<PcFile>, LibraryProblem> {
        if let Some(known) = self.files.get(name) {
            return Ok(known.clone());
        }
        let mut found = None;
        if !name.contains(['/', '\0']) {
            for folder in self.folders {
                let path = folder.join(format!("{name}.pc"));
                (self.read)(&path);
                if let Some(text) = (self.system.text)(&path) {
                    let wrong = |problem| LibraryProblem::Form(path.clone(), problem);
                    found = Some(parse(&text, folder).map_err(wrong)?);
                    break;
                }
            }
        }
        self.files.insert(name.to_owned(), found.clone());
        Ok(found)
    }
}

fn is_system_folder(flag: &str) -> bool {
    let Some(folder) = flag.strip_prefix("-L") else {
        return false;
    };
    let machine = format!("/usr/lib/{}-linux-gnu", std::env::consts::ARCH);
    folder.trim_end_matches('/') == machine
}

fn parse(text: &str, folder: &Path) -> Result<PcFile, PcProblem> {
    let mut variables: HashMap<String, String> = HashMap::new();
    variables.insert("pcfiledir".into(), folder.display().to_string());
    let mut file = PcFile::default();
    for line in text.replace("\\\n", " ").lines() {
        let line = line.split('#').next().unwrap_or("").trim();
        let Some(at) = line.find(['=', ':']) else {
            continue;
        };
        let (key, value) = (line[..at].trim(), line[at + 1..].trim());
        let value = filled(value, &variables, 0)?;
        if line[at..].starts_with('=') {
            variables.insert(key.to_owned(), value);
            continue;
        }
        match key {
            "Version" => file.version = value,
            "Cflags" | "CFlags" => file.compile = words(&value),
            "Libs" => file.link = words(&value),
            "Libs.private" => file.link_private = words(&value),
            "Requires" => file.requires = required(&value),
            "Requires.private" => file.requires_private = required(&value),
            _ => {}
        }
    }
    if file.version.is_empty() {
        return Err(PcProblem::NoVersion);
    }
    Ok(file)
}

/// A value with `${name}` filled in.
fn filled(
    value: &str,
    variables: &HashMap<String, String>,
    depth: usize,
) -> Result<String, PcProblem> {
    if depth > 16 {
        return Err(PcProblem::Circle);
    }
    let mut out = String::new();
    let mut rest = value;
    while let Some(start) = rest.find("${") {
        let Some(end) = rest[start..].find('}') else {
            break;
        };
        out.push_str(&rest[..start]);
        let name = &rest[start + 2..start + end];
        match variables.get(name) {
            Some(text) => out.push_str(text),
            None => return Err(PcProblem::Undeclared(name.to_owned())),
        }
        rest = &rest[start + end + 1..];
    }
    out.push_str(rest);
    if out.len() > 1 << 16 {
        return Err(PcProblem::TooLong);
    }
    Ok(out)
}

/// Words as a shell would split them, without anything else that a shell does.
fn words(text: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut word = String::new();
    let mut open = None;
    let mut started = false;
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        match (c, open) {
            (c, Some(quote)) if c == quote => open = None,
            ('\'' | '"', None) => {
                open = Some(c);
                started = true;
            }
            ('\\', None | Some('"')) => {
                word.extend(chars.next());
                started = true;
            }
            (c, None) if c.is_whitespace() => {
                if started {
                    words.push(std::mem::take(&mut word));
                }
                started = false;
            }
            (c, _) => {
                word.push(c);
                started = true;
            }
        }
    }
    if started {
        words.push(word);
    }
    words
}

/// Names in `zlib >= 1.2, libm`: versions that they ask for are the distribution's affair.
fn required(text: &str) -> Vec<String> {
    let spaced: String = text.replace(',', " ");
    let mut names = Vec::new();
    let mut parts = spaced.split_whitespace();
    while let Some(part) = parts.next() {
        if matches!(part, "=" | "<" | ">" | "<=" | ">=" | "!=") {
            parts.next();
        } else {
            names.push(part.to_owned());
        }
    }
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_library_of_a_file_is_the_one_that_names_its_folder() {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        for of in ["moons", "all"] {
            fs::create_dir(at.join(of)).unwrap();
        }
        fs::write(at.join("moons/moons.mod"), "").unwrap();
        fs::write(at.join("all/ebb.mod"), "").unwrap();
        for (name, include) in [("a", "all"), ("moons-fortran", "moons"), ("zz", "none")] {
            let text =
                format!("Name: x\nVersion: 1\nCflags: -I${{pcfiledir}}/{include} -I/nowhere\n");
            fs::write(at.join(format!("{name}.pc")), text).unwrap();
        }
        fs::write(at.join("b.pc"), "damaged").unwrap();
        let path = at.to_str();
        let index = LibraryIndex::of(path);
        let found = |file| index.with(file).map(|(name, _)| name);
        assert_eq!(found("moons.mod"), Some("moons-fortran"));
        assert_eq!(found("ebb.mod"), Some("a"));
        assert_eq!(found("flow.mod"), None);
    }

    #[test]
    fn reads_what_is_installed() {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        let pc = "prefix=/opt/tide\nlibdir=${prefix}/lib\nName: tide\nVersion: 2.1\n\
                  Requires: gauge >= 1\nRequires.private: moon\nCflags: -I${prefix}/include '-DNAME=a b'\nLibs: -L${libdir} -ltide\nLibs.private: -lm\n";
        fs::write(at.join("tide.pc"), pc).unwrap();
        fs::write(
            at.join("gauge.pc"),
            "Name: g\nVersion: 1.0\nLibs: -lgauge\n",
        )
        .unwrap();
        let path = at.display().to_string();
        let ask = |names: &[&str], for_static| {
            let names = names.iter().map(|n| (*n).into()).collect();
            search_library(
                &LibraryRequest { names, for_static },
                Some(&path),
                &mut |_| {},
            )
        };
        let found = ask(&["none", "tide"], false).found;
        assert_eq!(found[0].version, "2.1");
        assert_eq!(found[0].compile, ["-I/opt/tide/include", "-DNAME=a b"]);
        assert_eq!(found[0].link, ["-L/opt/tide/lib", "-ltide", "-lgauge"]);
        assert_eq!(
            ask(&["tide"], true).found[0].link,
            ["-L/opt/tide/lib", "-ltide", "-lm", "-lgauge"]
        );
        fs::write(at.join("gauge.pc"), "Version: ${x}\n").unwrap();
        assert!(ask(&["tide"], false).problem.unwrap().contains("`x`"));
    }
}
