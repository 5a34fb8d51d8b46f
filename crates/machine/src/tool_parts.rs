//! What belongs to a tool besides its own file, as far as it can be known: what runs a script, what
//! a program is linked with, what a script names, what a compiler starts and where it looks for
//! headers.
//!
//! Where the line is drawn is in `docs/language.md` (The machine); whoever moves it raises the
//! key's version.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_bytes::{Digest, Encoder};
use nubrik_disk::{Signature, open_file, read_file};
use nubrik_source::{FilePath, WsPath};

use crate::asking::Asking;
use crate::machine::Machine;
use crate::search_path::on_path;

/// Programs that C and C++ compiler drivers start.
const STARTED_BY_COMPILERS: [&str; 7] = [
    "cc1",
    "cc1plus",
    "as",
    "ld",
    "collect2",
    "lto1",
    "lto-wrapper",
];

/// A script longer than this is not looked through, in bytes.
const SCRIPT_LIMIT: u64 = 1 << 20;

/// How many files of a folder that a script names count; a larger one is taken for more than the
/// script's own.
const FOLDER_LIMIT: usize = 2000;

/// How far scripts are followed that name scripts.
const SCRIPT_DEPTH: u32 = 4;

/// How many folders of headers are watched.
const HEADER_FOLDERS: usize = 20_000;

/// What follows `#!` in a script's first line; `None` for what is no script.
pub(crate) fn first_line(program: &Path) -> Option<String> {
    let mut start = [0u8; 256];
    let mut file = open_file(program).ok()?;
    let mut count = 0;
    while count < start.len() {
        match file.read(&mut start[count..]) {
            Ok(0) | Err(_) => break,
            Ok(more) => count += more,
        }
    }
    let line = start[..count]
        .strip_prefix(b"#!")?
        .split(|b| *b == b'\n')
        .next()?;
    Some(String::from_utf8_lossy(line).trim().to_owned())
}

/// The programs that run a script, as its first line says: the interpreter, and where that only
/// looks for another one by its name, what it finds.
pub(crate) fn interpreters(script: &Path, search_path: &[PathBuf]) -> Vec<FilePath> {
    if let Some(interpreter) = interpreter_of_program(script) {
        return match interpreter.starts_with('/') {
            true => vec![FilePath::of_machine(&interpreter)],
            false => WsPath::root()
                .resolve(&interpreter)
                .iter()
                .map(FilePath::from)
                .collect(),
        };
    }
    let Some(line) = first_line(script) else {
        return Vec::new();
    };
    let mut words = line.split_whitespace();
    let Some(interpreter) = words.next() else {
        return Vec::new();
    };
    let mut found: Vec<FilePath> = match interpreter.starts_with('/') {
        true => vec![FilePath::of_machine(interpreter)],
        // From the folder in which the script is started.
        false => WsPath::root()
            .resolve(interpreter)
            .iter()
            .map(FilePath::from)
            .collect(),
    };
    if Path::new(interpreter)
        .file_name()
        .is_some_and(|name| name == "env")
        && let Some(name) = words.find(|w| !w.starts_with('-') && !w.contains('='))
    {
        found.extend(looked_up(name, search_path));
    }
    found
}

/// What the head of a compiled program (ELF, 64 bits) names as its interpreter: the one that loads
/// it.
fn interpreter_of_program(program: &Path) -> Option<String> {
    /// Heads are at the beginning; so much of a file is looked at, in bytes.
    const LOOKED_AT: usize = 64 << 10;
    const INTERPRETER: u64 = 3;
    let mut head = Vec::new();
    std::io::Read::read_to_end(
        &mut std::io::Read::take(nubrik_disk::open_file(program).ok()?, LOOKED_AT as u64),
        &mut head,
    )
    .ok()?;
    // Class and order of bytes: 64 bits, the lowest first.
    if !head.starts_with(b"\x7fELF\x02\x01") {
        return None;
    }
    let number = |at: usize, size: usize| {
        let bytes = head.get(at..at.checked_add(size)?)?;
        Some(
            bytes
                .iter()
                .rev()
                .fold(0, |number, byte| number << 8 | u64::from(*byte)),
        )
    };
    let (table, row, count) = (
        number(32, 8)? as usize,
        number(54, 2)? as usize,
        number(56, 2)? as usize,
    );
    for number_of_row in 0..count {
        let at = table.checked_add(number_of_row.checked_mul(row)?)?;
        if number(at, 4)? == INTERPRETER {
            let (from, size) = (number(at + 8, 8)? as usize, number(at + 32, 8)? as usize);
            let text = head.get(from..from.checked_add(size)?)?;
            let text = text.split(|byte| *byte == 0).next()?;
            return String::from_utf8(text.to_vec())
                .ok()
                .filter(|text| !text.is_empty());
        }
    }
    None
}

/// Where a program is looked for, up to the first folder that has it: one that appears in front is
/// another one.
pub(crate) fn looked_up(name: &str, search_path: &[PathBuf]) -> Vec<FilePath> {
    let mut found = Vec::new();
    for folder in search_path {
        let path = folder.join(name);
        found.push(FilePath::of_machine(&path.to_string_lossy()));
        if path.is_file() {
            break;
        }
    }
    found
}

/// A part of a tool: what it is to it, and its file.
pub(crate) type ToolPart = (String, PathBuf);

/// Everything that a tool consists of: its program first.
pub(crate) fn parts(
    machine: &Machine,
    asking: &Asking<'_>,
    name: &str,
    program: &Path,
) -> Vec<ToolPart> {
    let mut parts: Vec<ToolPart> = vec![(name.to_owned(), program.to_owned())];
    add_script_parts(machine, asking, program, SCRIPT_DEPTH, &mut parts);
    if is_compiler_driver(name) {
        // All at once: nothing can run before the answers are there.
        let answers: Vec<Option<PathBuf>> = std::thread::scope(|scope| {
            let asked = STARTED_BY_COMPILERS
                .map(|name| scope.spawn(move || started_program(asking, program, name)));
            asked.map(|thread| thread.join().ok().flatten()).into()
        });
        for (name, path) in STARTED_BY_COMPILERS.iter().zip(answers) {
            parts.extend(path.map(|path| ((*name).to_owned(), path)));
        }
    }
    let programs: Vec<PathBuf> = parts.iter().map(|(_, path)| path.clone()).collect();
    for program in programs {
        for library in libraries(asking, &program) {
            parts.push(("linked".to_owned(), library));
        }
    }
    let mut seen = std::collections::HashSet::new();
    parts.retain(|(_, path)| seen.insert(path.clone()));
    parts
}

/// What runs a script, and what it names: files, and folders outside of the system's with all that
/// is in them.
fn add_script_parts(
    machine: &Machine,
    asking: &Asking<'_>,
    program: &Path,
    depth: u32,
    parts: &mut Vec<ToolPart>,
) {
    if first_line(program).is_none() || depth == 0 {
        return;
    }
    for interpreter in interpreters(program, asking.folders) {
        if let Ok(path) = Path::new(interpreter.as_str()).canonicalize()
            && path.is_file()
        {
            parts.push(("#!".to_owned(), path));
        }
    }
    let Ok(text) = read_file(program, SCRIPT_LIMIT) else {
        return;
    };
    for named in absolute_paths(&String::from_utf8_lossy(&text)) {
        let Ok(path) = Path::new(&named).canonicalize() else {
            continue;
        };
        let is_ours =
            path.starts_with(machine.root()) || parts.iter().any(|(_, part)| *part == path);
        if is_ours || path.starts_with("/proc") || path.starts_with("/dev") {
            continue;
        }
        if path.is_file() {
            parts.push(("named".to_owned(), path.clone()));
            add_script_parts(machine, asking, &path, depth - 1, parts);
        } else if path.is_dir() && !machine.system().cover(&path) {
            let files = files_below(&path);
            parts.extend(files.into_iter().map(|file| ("named".to_owned(), file)));
        }
    }
}

/// Words of a text that are absolute paths of more than one name.
fn absolute_paths(text: &str) -> Vec<String> {
    let ends = |c: char| c.is_whitespace() || "\"'`$(){}[]<>;|&,=:*?#\\\0".contains(c);
    let words = text.split(ends).filter(|word| word.starts_with('/'));
    let mut paths: Vec<String> = words
        .map(|word| word.trim_end_matches(['/', '.']).to_owned())
        .filter(|path| path.matches('/').count() > 1)
        .collect();
    paths.sort();
    paths.dedup();
    paths
}

/// The files in and below a folder, sorted; none where there are too many.
fn files_below(folder: &Path) -> Vec<PathBuf> {
    let mut files = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            match entry.file_type() {
                Ok(kind) if kind.is_dir() => open.push(entry.path()),
                Ok(_) => files.push(entry.path()),
                Err(_) => {}
            }
            if files.len() + open.len() > FOLDER_LIMIT {
                return Vec::new();
            }
        }
    }
    files.sort();
    files
}

/// The libraries that a program is linked with when it starts, as its loader lists them: it loads
/// the program and does not run it.
fn libraries(asking: &Asking<'_>, program: &Path) -> Vec<PathBuf> {
    let Some(loader) = loader(program) else {
        return Vec::new();
    };
    let program = program.to_string_lossy();
    let Some(answer) = asking.ask(&loader, &["--list", &program]) else {
        return Vec::new();
    };
    let mut libraries: Vec<PathBuf> = answer
        .lines()
        .filter_map(|line| {
            let (path, _) = line.rsplit_once(" (0x")?;
            let path = path
                .rsplit_once(" => ")
                .map_or(path, |(_, path)| path)
                .trim();
            path.starts_with('/')
                .then(|| Path::new(path).canonicalize().ok())
                .flatten()
        })
        .collect();
    libraries.push(loader.canonicalize().unwrap_or(loader));
    libraries.sort();
    libraries.dedup();
    libraries
}

/// The loader that a program asks for (the ELF specification's `PT_INTERP`).
fn loader(program: &Path) -> Option<PathBuf> {
    const PATH_LIMIT: usize = 4096;
    let mut file = open_file(program).ok()?;
    let mut head = Vec::new();
    file.by_ref().take(64 << 10).read_to_end(&mut head).ok()?;
    let bytes = |at: usize, count: usize| head.get(at..at.checked_add(count)?);
    let number = |at: usize, count: usize| {
        Some(
            bytes(at, count)?
                .iter()
                .rev()
                .fold(0usize, |sum, byte| (sum << 8) | usize::from(*byte)),
        )
    };
    // 64 bits, little end first.
    if bytes(0, 6)? != b"\x7fELF\x02\x01" {
        return None;
    }
    let (table, size, count) = (number(32, 8)?, number(54, 2)?, number(56, 2)?);
    const INTERPRETER: usize = 3;
    let entry = (0..count.min(256))
        .map(|n| table.saturating_add(n * size))
        .find(|at| number(*at, 4) == Some(INTERPRETER))?;
    let path = bytes(
        number(entry + 8, 8)?,
        number(entry + 32, 8)?.min(PATH_LIMIT),
    )?;
    let path = std::str::from_utf8(path.strip_suffix(b"\0").unwrap_or(path)).ok()?;
    path.starts_with('/').then(|| PathBuf::from(path))
}

/// A program that a compiler driver starts; a bare name is looked up as the driver would.
fn started_program(asking: &Asking<'_>, driver: &Path, program: &str) -> Option<PathBuf> {
    let answer = asking.ask(driver, &[&format!("-print-prog-name={program}")])?;
    let answer = Path::new(answer.trim());
    let path = if answer.is_absolute() {
        answer.to_owned()
    } else {
        on_path(asking.folders, answer.to_str()?)?
    };
    path.canonicalize().ok().filter(|p| p.is_file())
}

/// The folders in which a compiler looks for headers of the system, in its order; none for other
/// tools.
pub(crate) fn search_folders(asking: &Asking<'_>, name: &str, program: &Path) -> Vec<Arc<str>> {
    if !is_compiler_driver(name) || name.contains("fortran") {
        return Vec::new();
    }
    let language = if name.contains("++") { "c++" } else { "c" };
    let Some(said) = asking.ask(program, &["-v", "-E", "-x", language, "/dev/null"]) else {
        return Vec::new();
    };
    let mut folders: Vec<Arc<str>> = Vec::new();
    for line in said
        .lines()
        .skip_while(|line| !line.contains("<...>"))
        .skip(1)
    {
        let Some(folder) = line.strip_prefix(' ') else {
            break;
        };
        let folder = folder.split(" (").next().unwrap_or(folder);
        if let Ok(folder) = Path::new(folder).canonicalize() {
            folders.push(folder.to_string_lossy().into());
        }
    }
    folders
}

/// The folders in which a compiler's linker looks for libraries of the system, in its order; none
/// for other tools.
pub(crate) fn library_folders(asking: &Asking<'_>, name: &str, program: &Path) -> Vec<Arc<str>> {
    if !is_compiler_driver(name) {
        return Vec::new();
    }
    let said = asking
        .ask(program, &["-print-search-dirs"])
        .unwrap_or_default();
    let line = said
        .lines()
        .find_map(|line| line.strip_prefix("libraries:"));
    let listed = line
        .map(|line| line.trim().trim_start_matches('=').split(':'))
        .into_iter()
        .flatten();
    // The linker has folders of its own besides those that the compiler names.
    let linker = asking
        .ask(program, &["-print-prog-name=ld"])
        .unwrap_or_default();
    let linker = Path::new(linker.trim());
    let script = linker
        .is_absolute()
        .then(|| asking.ask(linker, &["--verbose"]))
        .flatten()
        .unwrap_or_default();
    let own = script
        .split("SEARCH_DIR(\"")
        .skip(1)
        .filter_map(|rest| rest.split('"').next());
    let own = own.map(|folder| folder.trim_start_matches('='));
    let mut folders: Vec<Arc<str>> = Vec::new();
    for folder in listed
        .chain(own)
        .filter_map(|folder| Path::new(folder).canonicalize().ok())
    {
        let folder: Arc<str> = folder.to_string_lossy().into();
        if !folders.contains(&folder) {
            folders.push(folder);
        }
    }
    folders
}

/// All folders in and below those in which headers are looked for, with their metadata: names that
/// appear change it.
pub(crate) fn header_folders(machine: &Machine, search: &[Arc<str>]) -> Vec<(Arc<str>, Signature)> {
    let mut found = Vec::new();
    let mut open: Vec<PathBuf> = search
        .iter()
        .map(|folder| PathBuf::from(&**folder))
        .collect();
    while let Some(folder) = open.pop() {
        let path: Arc<str> = folder.to_string_lossy().into();
        let Some(signature) =
            nubrik_engine::OutsideFiles::check(machine, &FilePath::of_machine(&path))
        else {
            continue;
        };
        found.push((path, signature));
        if found.len() > HEADER_FOLDERS {
            break;
        }
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                open.push(entry.path());
            }
        }
    }
    found.sort_by(|a, b| a.0.cmp(&b.0));
    found.dedup_by(|a, b| a.0 == b.0);
    found
}

/// The digest of the state of such folders.
pub(crate) fn state_of(folders: &[(Arc<str>, Signature)]) -> Digest {
    let mut out = Encoder::new();
    out.list(folders, |out, (path, signature)| {
        out.text(path);
        out.u64(signature.changed as u64);
        out.u64(signature.inode);
    });
    Digest::of(&out.bytes)
}

/// Whether a program of this name answers for the programs that it starts: `cc`, `gcc-13`,
/// `arm-none-eabi-gcc`, `clang++`, …
fn is_compiler_driver(name: &str) -> bool {
    let versionless = name.trim_end_matches(|c: char| c.is_ascii_digit() || c == '.' || c == '-');
    let last = versionless
        .rsplit_once('-')
        .map_or(versionless, |(_, last)| last);
    matches!(
        last,
        "cc" | "gcc" | "c" | "c++" | "g++" | "clang" | "clang++" | "gfortran"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn knows_compiler_drivers() {
        for name in [
            "cc",
            "gcc",
            "gcc-13",
            "arm-none-eabi-gcc",
            "clang++-16",
            "c99",
        ] {
            assert!(is_compiler_driver(name), "{name}");
        }
        for name in ["ar", "sh", "acc-stats", "tidecc2x"] {
            assert!(!is_compiler_driver(name), "{name}");
        }
    }

    #[test]
    fn scripts_name_what_runs_them_and_what_they_use() {
        let folder = tempfile::tempdir().unwrap();
        let script = folder.path().join("script");
        std::fs::write(
            &script,
            "#!/usr/bin/env -S python3 -I\nexec /opt/x/helper \"$1\"\n",
        )
        .unwrap();
        let search = [folder.path().to_owned()];
        let found = interpreters(&script, &search);
        assert_eq!(found[0].as_ref(), "/usr/bin/env");
        assert_eq!(
            found[1].as_ref(),
            folder.path().join("python3").to_str().unwrap()
        );
        let text = "exec /opt/x/helper \"$1\"; PATH=/usr/bin:/bin sys.path.insert(0,\"/opt/lib\") # see /a/b.";
        assert_eq!(
            absolute_paths(text),
            ["/a/b", "/opt/lib", "/opt/x/helper", "/usr/bin"]
        );
        assert!(interpreters(Path::new("/dev/null"), &search).is_empty());
    }

    #[test]
    fn a_programs_loader_is_read_from_its_head() {
        assert!(loader(Path::new("/dev/null")).is_none());
        let shell = Path::new("/bin/sh").canonicalize().unwrap();
        if let Some(loader) = loader(&shell) {
            assert!(loader.is_file(), "{}", loader.display());
        }
        let folder = tempfile::tempdir().unwrap();
        for length in [0, 5, 6, 40, 64] {
            let path = folder.path().join("cut");
            std::fs::write(
                &path,
                &[b"\x7fELF\x02\x01".as_slice(), &[0xff; 60]].concat()[..length],
            )
            .unwrap();
            assert!(super::loader(&path).is_none());
        }
    }
}
