//! Finding tools on the machine. What each consists of is in `tool_parts.rs`; what was found is
//! remembered with the metadata of every file, and found again when one of them changes.

use std::collections::{BTreeSet, HashMap};
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Layout, Truncated};
use nubrik_confine::{Found, PathUse, Recorder, UsedPath};
use nubrik_disk::Signature;
use nubrik_engine::{FoundTool, OutsideFiles, OutsideSystem, ToolProblem};
use nubrik_source::FilePath;
use parking_lot::Mutex;

use crate::asking::Asking;
use crate::machine::Machine;
use crate::search_path::{folders_of, on_path};
use crate::tool_parts::{
    first_line, header_folders, library_folders, parts, search_folders, state_of,
};

/// What to install for tools that many definitions use: tool, what it is, package on Debian and
/// Fedora.
const PACKAGES: [(&str, &str, &str); 26] = [
    ("cc", "a C compiler", "gcc"),
    ("gcc", "a C compiler", "gcc"),
    ("clang", "a C compiler", "clang"),
    ("c++", "a C++ compiler", "g++ (Fedora: gcc-c++)"),
    ("g++", "a C++ compiler", "g++ (Fedora: gcc-c++)"),
    (
        "gfortran",
        "a Fortran compiler",
        "gfortran (Fedora: gcc-gfortran)",
    ),
    (
        "javac",
        "a Java compiler",
        "default-jdk-headless (Fedora: java-devel)",
    ),
    (
        "java",
        "Java",
        "default-jre-headless (Fedora: java-headless)",
    ),
    ("go", "Go", "golang-go (Fedora: golang)"),
    ("node", "Node", "nodejs"),
    ("rustc", "a Rust compiler", "rustc (Fedora: rust)"),
    ("unzip", "a program that unpacks zip archives", "unzip"),
    ("zip", "a program that makes zip archives", "zip"),
    ("ar", "an archiver", "binutils"),
    ("ld", "a linker", "binutils"),
    ("python3", "Python", "python3"),
    (
        "mypy",
        "a type checker of Python",
        "mypy (Fedora: python3-mypy)",
    ),
    ("perl", "Perl", "perl"),
    ("awk", "awk", "gawk"),
    (
        "pdflatex",
        "LaTeX",
        "texlive-latex-recommended (Fedora: texlive-scheme-basic)",
    ),
    (
        "lualatex",
        "LaTeX",
        "texlive-luatex (Fedora: texlive-lualatex-math)",
    ),
    ("xelatex", "LaTeX", "texlive-xetex"),
    ("biber", "a program for bibliographies", "biber"),
    ("cmark", "a converter of Markdown", "cmark"),
    ("groff", "a formatter of manuals", "groff"),
    ("qpdf", "a program that joins PDFs", "qpdf"),
];

/// A tool that was found, with the metadata of its files.
#[derive(Clone, PartialEq, Debug)]
struct Remembered {
    tool: FoundTool,
    /// The file under its name on the search path, then all of its parts.
    files: Vec<(Arc<str>, Signature)>,
    /// Folders in and below those in which it looks for headers.
    folders: Vec<(Arc<str>, Signature)>,
    /// What it said of its version, by the word that asked for it.
    versions: Vec<(Arc<str>, Option<Arc<str>>)>,
}

/// Finds tools on a search path.
pub(crate) struct ToolFinder {
    folders: Vec<PathBuf>,
    search_path: OsString,
    remembered: Mutex<HashMap<Arc<str>, Remembered>>,
    /// Names that were looked for in this run.
    asked: Mutex<BTreeSet<Arc<str>>>,
}

impl ToolFinder {
    /// A finder that knows what an earlier run found on the same search path.
    pub fn new(search_path: OsString, remembered: &[u8]) -> ToolFinder {
        let folders = folders_of(&search_path);
        let remembered = decode(remembered, &search_path.to_string_lossy()).unwrap_or_default();
        ToolFinder {
            folders,
            search_path,
            remembered: Mutex::new(remembered),
            asked: Mutex::default(),
        }
    }

    /// What was found, for the next run.
    pub fn encode(&self) -> Vec<u8> {
        let remembered = self.remembered.lock();
        let mut tools: Vec<(&Arc<str>, &Remembered)> = remembered.iter().collect();
        tools.sort_by_key(|(name, _)| *name);
        let mut out = Encoder::new();
        out.text(FORMAT);
        out.text(&self.search_path.to_string_lossy());
        out.list(&tools, |out, (name, found)| {
            out.text(name);
            out.text(&found.tool.path.to_string_lossy());
            out.digest(&found.tool.identity);
            found.files.write(out);
            found.folders.write(out);
            found.tool.search.write(out);
            found.tool.libraries.write(out);
            found.versions.write(out);
        });
        out.bytes
    }

    /// Files of all tools looked for, with their metadata; `None` for places in which one would be
    /// found first, and is not.
    pub fn looked_at(&self) -> Vec<(Arc<str>, Option<Signature>)> {
        let remembered = self.remembered.lock();
        let asked = self.asked.lock();
        let mut files: Vec<(Arc<str>, Option<Signature>)> = Vec::new();
        for name in asked.iter() {
            let found = remembered.get(name);
            let first = found
                .and_then(|f| f.files.first())
                .map(|(path, _)| path.clone());
            for folder in &self.folders {
                let path: Arc<str> = folder.join(&**name).to_string_lossy().into();
                if Some(&path) == first.as_ref() {
                    break;
                }
                files.push((path, None));
            }
            let looked_at = found
                .into_iter()
                .flat_map(|f| f.files.iter().chain(&f.folders));
            files.extend(looked_at.map(|(path, signature)| (path.clone(), Some(*signature))));
        }
        files.sort_by(|a, b| a.0.cmp(&b.0));
        files.dedup_by(|a, b| a.0 == b.0);
        files
    }

    /// The version that a tool is known by, for people: what it printed when definitions asked it,
    /// or else what it says to `--version`, in a box where it can change nothing. It is asked once,
    /// as long as it stays the same.
    pub fn version_told(&self, machine: &Machine, name: &Arc<str>) -> Option<Arc<str>> {
        const QUIETLY: &str = "--version, quietly";
        let remembered = || self.remembered.lock();
        let found = remembered()
            .get(name)
            .map(|found| (found.versions.clone(), found.tool.clone()));
        let (versions, tool) = found?;
        let known = versions.iter().find_map(|(_, version)| version.clone());
        if known.is_some() || versions.iter().any(|(word, _)| **word == *QUIETLY) {
            return known;
        }
        let word = tool.path.file_name()?.to_string_lossy().into_owned();
        let said = self
            .asking(machine)
            .ask_shortly(&tool.path, &word, &["--version"])
            .unwrap_or_default();
        if machine.cancel().is_thrown() {
            return None;
        }
        let version = first_version(&said).map(Arc::from);
        if let Some(found) = remembered().get_mut(name) {
            found.versions.push((QUIETLY.into(), version.clone()));
        }
        version
    }

    /// A tool's version, as it tells it when it is asked with a word.
    pub fn version(&self, machine: &Machine, name: &Arc<str>, word: &Arc<str>) -> Option<Arc<str>> {
        let tool = self.find(machine, name).ok()?;
        let remembered = || self.remembered.lock();
        let known = remembered()
            .get(name)
            .and_then(|f| f.versions.iter().find(|(w, _)| w == word).cloned());
        if let Some((_, version)) = known {
            return version;
        }
        let said = self.asking(machine).ask(&tool.path, &[word])?;
        let version = first_version(&said).map(Arc::from);
        if let Some(found) = remembered().get_mut(name) {
            found.versions.push((word.clone(), version.clone()));
        }
        version
    }

    /// The folders in which tools are searched for.
    pub fn folders(&self) -> Vec<String> {
        self.folders
            .iter()
            .map(|f| f.display().to_string())
            .collect()
    }

    /// What to install for a tool, where that is known.
    pub fn mend(name: &str) -> Option<String> {
        let package = PACKAGES.iter().find(|p| p.0 == name)?;
        Some(format!(
            "install {}; the package is called {}",
            package.1, package.2
        ))
    }

    /// The names of all files in the folders in which tools are searched for.
    pub fn names(&self) -> Vec<String> {
        let listed = self
            .folders
            .iter()
            .filter_map(|folder| std::fs::read_dir(folder).ok());
        listed
            .flatten()
            .flatten()
            .filter_map(|entry| entry.file_name().into_string().ok())
            .collect()
    }

    /// Finds a tool by its name.
    pub fn find(&self, machine: &Machine, name: &Arc<str>) -> Result<FoundTool, ToolProblem> {
        self.asked.lock().insert(name.clone());
        let on_path = self.on_path(name);
        let known = self.remembered.lock().get(name).cloned();
        if let (Some(known), Some(on_path)) = (&known, &on_path) {
            let same_place = known
                .files
                .first()
                .is_some_and(|(p, _)| **p == *on_path.to_string_lossy());
            let mut looked_at = known.files.iter().chain(&known.folders);
            if same_place
                && looked_at.all(|(path, s)| machine.check(&FilePath::of_machine(path)) == Some(*s))
            {
                return Ok(known.tool.clone());
            }
        }
        let found = on_path.and_then(|path| self.look_closely(machine, name, &path));
        let Some(found) = found else {
            self.remembered.lock().remove(name);
            let (searched, mend) = (self.folders(), Self::mend(name));
            return Err(ToolProblem {
                name: name.clone(),
                searched,
                mend,
                unanswered: None,
                image: None,
            });
        };
        let mut remembered = self.remembered.lock();
        match &found.tool.unanswered {
            None => drop(remembered.insert(name.clone(), found.clone())),
            // It is asked again.
            Some(_) => drop(remembered.remove(name)),
        }
        Ok(found.tool)
    }

    /// Whether all files of a tool are what they were when it was found in this run.
    pub fn is_as_found(&self, machine: &Machine, tool: &FoundTool) -> bool {
        let remembered = self.remembered.lock();
        let is_it = |known: &&Remembered| {
            known.tool.identity == tool.identity && known.tool.path == tool.path
        };
        let Some(files) = remembered
            .values()
            .find(is_it)
            .map(|known| known.files.clone())
        else {
            return false;
        };
        drop(remembered);
        files
            .iter()
            .all(|(path, signature)| machine.check(&FilePath::of_machine(path)) == Some(*signature))
    }

    fn on_path(&self, name: &str) -> Option<PathBuf> {
        on_path(&self.folders, name)
    }

    fn asking<'a>(&'a self, machine: &'a Machine) -> Asking<'a> {
        Asking::new(machine, &self.folders, &self.search_path)
    }

    fn look_closely(&self, machine: &Machine, name: &str, found_at: &Path) -> Option<Remembered> {
        let asking = self.asking(machine);
        let chosen = self.real_program(machine, &asking, name, found_at);
        let path = chosen.as_ref().map_or(found_at, |chosen| &chosen.program);
        let program = path.canonicalize().ok()?;
        let mut identity = Encoder::new();
        let of_program = machine.check(&FilePath::of_machine(found_at.to_str()?))?;
        let mut files = vec![(Arc::<str>::from(found_at.to_string_lossy()), of_program)];
        for (name, path) in parts(machine, &asking, name, &program) {
            let path = FilePath::of_machine(&path.to_string_lossy());
            let signature = machine.check(&path)?;
            identity.text(&name);
            identity.digest(&machine.digest(&path).ok()?);
            files.push((path.shared().clone(), signature));
        }
        // With another choice there is another tool.
        for path in chosen.iter().flat_map(|chosen| &chosen.by) {
            let path = FilePath::of_machine(&path.to_string_lossy());
            files.extend(
                machine
                    .check(&path)
                    .map(|signature| (path.shared().clone(), signature)),
            );
        }
        let search = search_folders(&asking, name, &program);
        let folders = header_folders(machine, &search);
        let tool = FoundTool {
            // Called by the name it was found under: some programs look at it.
            path: path.to_owned(),
            identity: Digest::of(&identity.bytes),
            parts: files.iter().map(|(path, _)| path.clone()).collect(),
            search,
            search_state: state_of(&folders),
            libraries: library_folders(&asking, name, &program),
            unanswered: asking.unanswered(),
        };
        Some(Remembered {
            tool,
            files,
            folders,
            versions: Vec::new(),
        })
    }

    /// The program itself, where another one is before it under its name and chooses one of
    /// several: what that chooses would depend on more than a step may see.
    fn real_program(
        &self,
        machine: &Machine,
        asking: &Asking<'_>,
        name: &str,
        on_path: &Path,
    ) -> Option<ChosenProgram> {
        let real = on_path.canonicalize().ok()?;
        let is_script = first_line(on_path).is_some();
        let is_called_otherwise = real.file_name()? != std::ffi::OsStr::new(name);
        if machine.is_system(&real.to_string_lossy()) || !(is_script || is_called_otherwise) {
            return None;
        }
        if is_script && name.starts_with("python") {
            let words = ["-I", "-c", "import sys; print(sys.executable)"];
            let answer = asking.ask_widely(on_path, &words, None)?;
            let program = PathBuf::from(answer.trim());
            return program.is_file().then_some(ChosenProgram {
                program,
                by: Vec::new(),
            });
        }
        // What it starts under the same name, when it is asked for a version.
        let recorder = Recorder::new();
        asking.ask_widely(on_path, &["--version"], Some(&recorder))?;
        let used = recorder.touched();
        let mut started = used
            .iter()
            .filter(|used| used.touch == PathUse::Started && used.found == Found::File);
        let is_it = |used: &&UsedPath| {
            used.path.file_name() == Some(std::ffi::OsStr::new(name))
                && used.path != real
                && used.path != on_path
        };
        let program = started.find(is_it)?.path.clone();
        let settings = used.iter().filter(|used| {
            used.touch == PathUse::Read
                && used.found == Found::File
                && !machine.is_system(&used.path.to_string_lossy())
                && !used
                    .path
                    .starts_with(program.parent().and_then(Path::parent).unwrap_or(&program))
        });
        let by = settings
            .map(|used| used.path.clone())
            .take(SETTINGS)
            .collect();
        Some(ChosenProgram { program, by })
    }
}

/// A program that another one chose.
struct ChosenProgram {
    program: PathBuf,
    /// Files that it read to choose.
    by: Vec<PathBuf>,
}

/// So many files that a choice was made by are watched.
const SETTINGS: usize = 16;

impl Machine {
    /// What is remembered of tools, as bytes to be given to [`Machine::new`] by a later run.
    pub fn remembered_tools(&self) -> Vec<u8> {
        self.tools().encode()
    }

    /// Files and folders that what was found of tools depends on, with their metadata.
    pub fn tools_looked_at(&self) -> Vec<(Arc<str>, Option<Signature>)> {
        self.tools().looked_at()
    }

    /// What a tool says of its version when it is asked with a word; `None` where it says nothing.
    pub fn tool_version(&self, name: &Arc<str>, word: &Arc<str>) -> Option<Arc<str>> {
        self.tools().version(self, name, word)
    }

    /// The folders in which tools are looked for.
    pub fn tool_folders(&self) -> Vec<String> {
        self.tools().folders()
    }

    /// The names of all files in these folders.
    pub fn tool_names(&self) -> Vec<String> {
        self.tools().names()
    }
}

/// The layout of what is remembered of tools.
const FORMAT: &str = "nubrik tools 6";

/// The first thing in a text that looks like a version: numbers with dots between them.
pub(crate) fn first_version(text: &str) -> Option<String> {
    let words = text.split(|c: char| c.is_whitespace() || "(),;".contains(c));
    words
        .map(|word| word.trim_start_matches(|c: char| !c.is_ascii_digit()))
        .find(|word| {
            let (first, rest) = word.split_once('.').unwrap_or((word, ""));
            let is_number =
                |part: &str| !part.is_empty() && part.bytes().all(|b| b.is_ascii_digit());
            is_number(first) && rest.starts_with(|c: char| c.is_ascii_digit())
        })
        .map(|word| word.trim_end_matches(['.', ':', '"', '\'']).to_owned())
}

fn decode(bytes: &[u8], search_path: &str) -> Result<HashMap<Arc<str>, Remembered>, Truncated> {
    let mut from = Decoder::new(bytes);
    if from.text()? != FORMAT || from.text()? != search_path {
        return Err(Truncated);
    }
    let tools = from.list(|from| {
        let name: Arc<str> = from.text()?.into();
        let (path, identity) = (PathBuf::from(from.text()?), from.digest()?);
        let (files, folders, search, libraries, versions): (
            Vec<(Arc<str>, Signature)>,
            Vec<_>,
            _,
            _,
            _,
        ) = Layout::read(from)?;
        let parts = files.iter().map(|(path, _)| path.clone()).collect();
        let search_state = state_of(&folders);
        let tool = FoundTool {
            path,
            identity,
            parts,
            search,
            search_state,
            libraries,
            unanswered: None,
        };
        Ok((
            name,
            Remembered {
                tool,
                files,
                folders,
                versions,
            },
        ))
    })?;
    Ok(tools.into_iter().collect())
}

#[cfg(test)]
mod tests {
    use super::first_version;

    #[test]
    fn reads_versions() {
        for (text, version) in [
            (
                "gcc (Debian 12.2.0-14+deb12u1) 12.2.0\nCopyright",
                Some("12.2.0-14+deb12u1"),
            ),
            ("Python 3.11.7", Some("3.11.7")),
            ("openjdk version \"17.0.15\" 2025-04-15", Some("17.0.15")),
            ("git version v2.47.3.", Some("2.47.3")),
            ("no version here 7", None),
        ] {
            assert_eq!(first_version(text).as_deref(), version, "{text}");
        }
    }
}
