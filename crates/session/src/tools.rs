//! Finding tools on the machine, and what each consists of.
//!
//! A compiler driver is not the compiler: the programs that it starts count, too, and are found by
//! asking the driver. What was found is remembered with the metadata of every file, and found again
//! when one of them changes.

use std::collections::{BTreeSet, HashMap};
use std::ffi::OsString;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex, PoisonError};

use nubrik_confine::{Access, Capture, Ended, PipelineSpec, RuleSet, StageSpec};
use nubrik_engine::{FoundTool, Outside, Signature, ToolProblem};
use nubrik_store::{Decoder, Digest, Encoder, Truncated};

use crate::machine::Machine;

/// Programs that C and C++ compiler drivers start.
const STARTED_BY_COMPILERS: [&str; 7] = ["cc1", "cc1plus", "as", "ld", "collect2", "lto1", "lto-wrapper"];

/// What to install for tools that many definitions use: tool, what it is, package on Debian and Fedora.
const PACKAGES: [(&str, &str, &str); 10] = [
    ("cc", "a C compiler", "gcc"),
    ("gcc", "a C compiler", "gcc"),
    ("clang", "a C compiler", "clang"),
    ("c++", "a C++ compiler", "g++ (Fedora: gcc-c++)"),
    ("g++", "a C++ compiler", "g++ (Fedora: gcc-c++)"),
    ("ar", "an archiver", "binutils"),
    ("ld", "a linker", "binutils"),
    ("python3", "Python", "python3"),
    ("perl", "Perl", "perl"),
    ("awk", "awk", "gawk"),
];

/// A tool that was found, with the metadata of its files.
#[derive(Clone, PartialEq, Debug)]
struct Remembered {
    tool: FoundTool,
    /// The file under its name on the search path, then all of its parts.
    files: Vec<(Arc<str>, Signature)>,
    /// What it told of its version, by the word that asked for it.
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
        let folders = std::env::split_paths(&search_path).filter(|p| p.is_absolute()).collect();
        let remembered = decode(remembered, &search_path.to_string_lossy()).unwrap_or_default();
        ToolFinder { folders, search_path, remembered: Mutex::new(remembered), asked: Mutex::default() }
    }

    /// What was found, for the next run.
    pub fn encode(&self) -> Vec<u8> {
        let remembered = self.remembered.lock().unwrap_or_else(PoisonError::into_inner);
        let mut tools: Vec<(&Arc<str>, &Remembered)> = remembered.iter().collect();
        tools.sort_by_key(|(name, _)| *name);
        let mut out = Encoder::new();
        out.text("nubrik tools 2");
        out.text(&self.search_path.to_string_lossy());
        out.list(&tools, |out, (name, found)| {
            out.text(name);
            out.text(&found.tool.path.to_string_lossy());
            out.digest(&found.tool.identity);
            out.list(&found.files, |out, (path, signature)| {
                out.text(path);
                for number in
                    [signature.size, signature.changed as u64, signature.touched as u64, signature.inode]
                {
                    out.u64(number);
                }
                out.u32(signature.mode);
            });
            out.list(&found.versions, |out, (word, version)| {
                out.text(word);
                out.text(version.as_deref().unwrap_or(""));
            });
        });
        out.bytes
    }

    /// Files of all tools looked for, with their metadata; `None` for places in which one would be
    /// found first, and is not.
    pub fn looked_at(&self) -> Vec<(Arc<str>, Option<Signature>)> {
        let remembered = self.remembered.lock().unwrap_or_else(PoisonError::into_inner);
        let asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        let mut files: Vec<(Arc<str>, Option<Signature>)> = Vec::new();
        for name in asked.iter() {
            let found = remembered.get(name);
            let first = found.and_then(|f| f.files.first()).map(|(path, _)| path.clone());
            for folder in &self.folders {
                let path: Arc<str> = folder.join(&**name).to_string_lossy().into();
                if Some(&path) == first.as_ref() {
                    break;
                }
                files.push((path, None));
            }
            files.extend(found.into_iter().flat_map(|f| f.files.iter().map(|(p, s)| (p.clone(), Some(*s)))));
        }
        files.sort_by(|a, b| a.0.cmp(&b.0));
        files.dedup_by(|a, b| a.0 == b.0);
        files
    }

    /// The version that a tool is known by, for people: what it told when definitions asked it, or else what it
    /// says to `--version`, in a box where it can change nothing. It is asked once, as long as it stays the same.
    pub fn version_told(&self, machine: &Machine, name: &Arc<str>) -> Option<Arc<str>> {
        const QUIETLY: &str = "--version, quietly";
        let remembered = || self.remembered.lock().unwrap_or_else(PoisonError::into_inner);
        let found = remembered().get(name).map(|found| (found.versions.clone(), found.tool.clone()));
        let (versions, tool) = found?;
        let known = versions.iter().find_map(|(_, version)| version.clone());
        if known.is_some() || versions.iter().any(|(word, _)| **word == *QUIETLY) {
            return known;
        }
        let said = ask_quietly(machine, &tool)?;
        let version = first_version(&said).map(Arc::from);
        if let Some(found) = remembered().get_mut(name) {
            found.versions.push((QUIETLY.into(), version.clone()));
        }
        version
    }

    /// A tool's version, as it tells it when it is asked with a word.
    pub fn version(&self, machine: &Machine, name: &Arc<str>, word: &Arc<str>) -> Option<Arc<str>> {
        let tool = self.find(machine, name).ok()?;
        let remembered = || self.remembered.lock().unwrap_or_else(PoisonError::into_inner);
        let known = remembered().get(name).and_then(|f| f.versions.iter().find(|(w, _)| w == word).cloned());
        if let Some((_, version)) = known {
            return version;
        }
        let asked = Command::new(&tool.path)
            .arg(&**word)
            .env_clear()
            .env("PATH", &self.search_path)
            .env("LC_ALL", "C")
            .stdin(Stdio::null())
            .output()
            .ok()?;
        // Some tools tell it on standard error.
        let said = [asked.stdout, asked.stderr].concat();
        let version = first_version(&String::from_utf8_lossy(&said)).map(Arc::from);
        if let Some(found) = remembered().get_mut(name) {
            found.versions.push((word.clone(), version.clone()));
        }
        version
    }

    /// The folders in which tools are searched for.
    pub fn folders(&self) -> Vec<String> {
        self.folders.iter().map(|f| f.display().to_string()).collect()
    }

    /// What to install for a tool, where that is known.
    pub fn mend(name: &str) -> Option<String> {
        let package = PACKAGES.iter().find(|p| p.0 == name)?;
        Some(format!("install {}; the package is called {}", package.1, package.2))
    }

    /// Finds a tool by its name.
    pub fn find(&self, machine: &Machine, name: &Arc<str>) -> Result<FoundTool, ToolProblem> {
        self.asked.lock().unwrap_or_else(PoisonError::into_inner).insert(name.clone());
        let on_path = self.on_path(name);
        let known = self.remembered.lock().unwrap_or_else(PoisonError::into_inner).get(name).cloned();
        if let (Some(known), Some(on_path)) = (&known, &on_path) {
            let same_place = known.files.first().is_some_and(|(p, _)| **p == *on_path.to_string_lossy());
            if same_place && known.files.iter().all(|(path, s)| machine.check(path) == Some(*s)) {
                return Ok(known.tool.clone());
            }
        }
        let found = on_path.and_then(|path| self.look_closely(machine, name, &path));
        let Some(found) = found else {
            self.remembered.lock().unwrap_or_else(PoisonError::into_inner).remove(name);
            return Err(ToolProblem { name: name.clone(), searched: self.folders(), mend: Self::mend(name) });
        };
        self.remembered.lock().unwrap_or_else(PoisonError::into_inner).insert(name.clone(), found.clone());
        Ok(found.tool)
    }

    fn on_path(&self, name: &str) -> Option<PathBuf> {
        self.folders
            .iter()
            .map(|folder| folder.join(name))
            .find(|path| path.metadata().is_ok_and(|m| m.is_file() && m.permissions().mode() & 0o111 != 0))
    }

    fn look_closely(&self, machine: &Machine, name: &str, on_path: &Path) -> Option<Remembered> {
        let found_at = on_path;
        let real = self.real_program(name, on_path);
        let on_path = real.as_deref().unwrap_or(on_path);
        let program = on_path.canonicalize().ok()?;
        let mut parts: Vec<(String, PathBuf)> = vec![(name.to_owned(), program.clone())];
        if let Some(interpreter) = self.interpreter(&program) {
            parts.push(("#!".to_owned(), interpreter));
        }
        if is_compiler_driver(name) {
            // All at once: nothing can run before the answers are there.
            let asked: Vec<_> = STARTED_BY_COMPILERS.map(|name| (name, self.ask(&program, name))).into();
            for (started, asking) in asked {
                if let Some(path) = asking.and_then(|asking| self.answer(asking)) {
                    parts.push((started.to_owned(), path));
                }
            }
        }
        let mut identity = Encoder::new();
        let mut files =
            vec![(Arc::<str>::from(found_at.to_string_lossy()), machine.check(found_at.to_str()?)?)];
        for (name, path) in &parts {
            let path: Arc<str> = path.to_string_lossy().into();
            let signature = machine.check(&path)?;
            identity.text(name);
            identity.digest(&machine.digest(&path).ok()?);
            files.push((path, signature));
        }
        let tool = FoundTool {
            // Called by the name it was found under: some programs look at it.
            path: on_path.to_owned(),
            identity: Digest::of(&identity.bytes),
            parts: files.iter().map(|(path, _)| path.clone()).collect(),
        };
        Some(Remembered { tool, files, versions: Vec::new() })
    }

    /// The interpreter itself, where a script of the same name stands before it and chooses one of
    /// several: what it chooses would depend on more than a step may see.
    fn real_program(&self, name: &str, on_path: &Path) -> Option<PathBuf> {
        if !name.starts_with("python") || first_line(on_path)?.is_empty() {
            return None;
        }
        let asked = Command::new(on_path)
            .args(["-I", "-c", "import sys; print(sys.executable)"])
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .output()
            .ok()?;
        let path = PathBuf::from(String::from_utf8(asked.stdout).ok()?.trim());
        path.is_file().then_some(path)
    }

    /// The program that runs a script.
    fn interpreter(&self, program: &Path) -> Option<PathBuf> {
        let line = first_line(program)?;
        let mut words = line.split_whitespace();
        let interpreter = Path::new(words.next()?);
        let path = match interpreter.file_name()?.to_str()? {
            "env" => self.on_path(words.find(|w| !w.starts_with('-') && !w.contains('='))?)?,
            _ => interpreter.to_owned(),
        };
        path.canonicalize().ok()
    }

    /// Asks a compiler driver for a program that it starts.
    fn ask(&self, driver: &Path, program: &str) -> Option<Child> {
        Command::new(driver)
            .arg(format!("-print-prog-name={program}"))
            .env_clear()
            .env("PATH", &self.search_path)
            .env("LC_ALL", "C")
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .ok()
    }

    /// Takes a driver's answer; a bare name is looked up as the driver would.
    fn answer(&self, asking: Child) -> Option<PathBuf> {
        let answer = String::from_utf8(asking.wait_with_output().ok()?.stdout).ok()?;
        let answer = Path::new(answer.trim());
        let path = if answer.is_absolute() { answer.to_owned() } else { self.on_path(answer.to_str()?)? };
        path.canonicalize().ok().filter(|p| p.is_file())
    }
}

/// What stands behind `#!` in a script's first line; empty for a program that is none.
fn first_line(program: &Path) -> Option<String> {
    let mut start = [0u8; 256];
    let count = std::io::Read::read(&mut std::fs::File::open(program).ok()?, &mut start).ok()?;
    let line =
        start[..count].strip_prefix(b"#!").map(|rest| rest.split(|b| *b == b'\n').next().unwrap_or(rest));
    Some(String::from_utf8_lossy(line.unwrap_or_default()).trim().to_owned())
}

/// What a tool says to `--version`, in a box in which it reads the system's folders and its own only, writes
/// nothing and has no network; `None` when everything is being stopped.
fn ask_quietly(machine: &Machine, tool: &FoundTool) -> Option<String> {
    let rules = RuleSet::new(machine.system()).ok()?;
    for part in &tool.parts {
        if let Some(folder) = crate::machine::needed_folder(Path::new(&**part), machine.root()) {
            rules.allow(&folder, Access::Read).ok()?;
        }
    }
    let word = tool.path.file_name()?.to_string_lossy().into_owned();
    let words = crate::machine::called_by(&tool.path, &[word.as_str().into(), "--version".into()]);
    let stage = StageSpec { program: tool.path.clone(), words, stdin: None, stdout: None, stderr: None };
    let environment: Vec<(String, String)> =
        crate::CONFINED_ENVIRONMENT.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
    let spec = PipelineSpec {
        stages: vec![stage],
        folder: machine.root(),
        work: machine.root(),
        environment: &environment,
        rules: Some(&rules),
        filter_network: machine.filters_network(),
        apart: None,
        timeout: Some(std::time::Duration::from_secs(2)),
        memory: None,
        recorder: None,
        attached: false,
    };
    let mut capture = Capture::new(4 << 10);
    match nubrik_confine::run(&spec, &mut capture, machine.cancel()) {
        Ended::Cancelled => None,
        Ended::Well => Some(String::from_utf8_lossy(&capture.bytes).into_owned()),
        // What it says of words that it does not know is no version.
        _ => Some(String::new()),
    }
}

/// The first thing in a text that looks like a version: numbers with dots between them.
fn first_version(text: &str) -> Option<String> {
    let words = text.split(|c: char| c.is_whitespace() || "(),;".contains(c));
    words
        .map(|word| word.trim_start_matches(|c: char| !c.is_ascii_digit()))
        .find(|word| {
            let (first, rest) = word.split_once('.').unwrap_or((word, ""));
            let is_number = |part: &str| !part.is_empty() && part.bytes().all(|b| b.is_ascii_digit());
            is_number(first) && rest.starts_with(|c: char| c.is_ascii_digit())
        })
        .map(|word| word.trim_end_matches(['.', ':', '"', '\'']).to_owned())
}

/// Whether a program of this name answers for the programs that it starts: `cc`, `gcc-13`,
/// `arm-none-eabi-gcc`, `clang++`, …
fn is_compiler_driver(name: &str) -> bool {
    let versionless = name.trim_end_matches(|c: char| c.is_ascii_digit() || c == '.' || c == '-');
    let last = versionless.rsplit_once('-').map_or(versionless, |(_, last)| last);
    matches!(last, "cc" | "gcc" | "c" | "c++" | "g++" | "clang" | "clang++" | "gfortran")
}

fn decode(bytes: &[u8], search_path: &str) -> Result<HashMap<Arc<str>, Remembered>, Truncated> {
    let mut from = Decoder::new(bytes);
    if from.text()? != "nubrik tools 2" || from.text()? != search_path {
        return Err(Truncated);
    }
    let tools = from.list(|from| {
        let name: Arc<str> = from.text()?.into();
        let (path, identity) = (PathBuf::from(from.text()?), from.digest()?);
        let files = from.list(|from| {
            let path: Arc<str> = from.text()?.into();
            let (size, changed) = (from.u64()?, from.u64()? as i64);
            let (touched, inode) = (from.u64()? as i64, from.u64()?);
            Ok((path, Signature { size, changed, touched, inode, mode: from.u32()? }))
        })?;
        let versions = from.list(|from| {
            let word: Arc<str> = from.text()?.into();
            let version = from.text()?;
            Ok((word, (!version.is_empty()).then(|| version.into())))
        })?;
        let parts = files.iter().map(|(path, _)| path.clone()).collect();
        Ok((name, Remembered { tool: FoundTool { path, identity, parts }, files, versions }))
    })?;
    Ok(tools.into_iter().collect())
}

#[cfg(test)]
mod tests {
    use super::{first_version, is_compiler_driver};

    #[test]
    fn reads_versions() {
        for (text, version) in [
            ("gcc (Debian 12.2.0-14+deb12u1) 12.2.0\nCopyright", Some("12.2.0-14+deb12u1")),
            ("Python 3.11.7", Some("3.11.7")),
            ("openjdk version \"17.0.15\" 2025-04-15", Some("17.0.15")),
            ("git version v2.47.3.", Some("2.47.3")),
            ("no version here 7", None),
        ] {
            assert_eq!(first_version(text).as_deref(), version, "{text}");
        }
    }

    #[test]
    fn knows_compiler_drivers() {
        for name in ["cc", "gcc", "gcc-13", "arm-none-eabi-gcc", "clang++-16", "c99"] {
            assert!(is_compiler_driver(name), "{name}");
        }
        for name in ["ar", "sh", "acc-stats", "tidecc2x"] {
            assert!(!is_compiler_driver(name), "{name}");
        }
    }
}
