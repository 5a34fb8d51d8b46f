//! Learning from a build that works: the folder is copied, a command builds the copy while it is
//! watched, and what was seen becomes definitions. What these make is compared with what the
//! command made.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_confine::{CancelSwitch, Ended, PathUse, ProgramStream, StartedProgram};
use nubrik_disk::{Below, TreeFile, TreeFileKind, copy_file, entries_below, read_text};
use nubrik_graph::Graph;
use nubrik_session::{WatchedCommand, defined_symbols, watch_command};
use nubrik_source::WsPath;
use nubrik_survey::{DefinitionAddress, LearnedTarget, SeenBuild, SeenProgram, defines_of};

use crate::{AdoptProblem, AdoptedFolder, Adoption, options_of};

/// A text that is longer becomes no part of a definition, in bytes.
const LONGEST_TEXT: u64 = 64 << 10;

/// So much of what a command printed is said when it fails, in lines.
const LAST_LINES: usize = 12;

/// A folder that a command built while it was watched. The copy in which it did goes with this.
pub struct WatchedFolder {
    copy: tempfile::TempDir,
    build: SeenBuild,
}

/// A library, program or generated file, beside that of the command that was watched.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ComparedTarget {
    /// Its definition, from the workspace's root.
    pub address: String,
    /// What differs; nothing where it defines the same names for others, or has the same bytes.
    pub differences: Vec<String>,
    /// The names of a header that have other values, or none.
    pub other_values: BTreeSet<String>,
}

impl WatchedFolder {
    /// Copies a folder, and runs a command there.
    ///
    /// # Errors
    ///
    /// This machine cannot watch; the folder cannot be copied; or the command failed.
    pub fn of(
        folder: &AdoptedFolder,
        command: &str,
        cancel: Arc<CancelSwitch>,
    ) -> Result<WatchedFolder, AdoptProblem> {
        let no_copy = |error: io::Error| AdoptProblem::NoCopy { error };
        let copy = tempfile::Builder::new()
            .prefix("nubrik-adopts-")
            .tempdir()
            .map_err(no_copy)?;
        let root = copy.path().canonicalize().map_err(no_copy)?;
        let from = folder.root.join(&folder.top);
        copy_all(&from, &root, &cancel).map_err(|error| match cancel.is_thrown() {
            true => AdoptProblem::Interrupted,
            false => no_copy(error),
        })?;
        let before = entries_of(&root).map_err(no_copy)?;
        let seen = watch_command(&root, command, &folder.root, cancel)
            .map_err(|error| AdoptProblem::CannotWatch { error })?;
        let seen = seen.ok_or_else(|| AdoptProblem::CannotWatch {
            error: io::ErrorKind::Unsupported.into(),
        })?;
        let WatchedCommand {
            ended,
            printed,
            programs,
            wanted_network,
        } = seen;
        let failed = match ended {
            Ended::Well => None,
            Ended::Cancelled => return Err(AdoptProblem::Interrupted),
            Ended::Code(code) => Some(format!("it exited with code {code}")),
            Ended::Signal(signal) => Some(format!("it was ended by signal {signal}")),
            Ended::TimedOut => Some("it took too long".to_owned()),
            Ended::NotStarted(program, e) => {
                Some(format!("cannot start {}: {e}", program.display()))
            }
        };
        if let Some(how) = failed {
            let text = String::from_utf8_lossy(&printed).into_owned();
            let lines: Vec<&str> = text.lines().collect();
            let last = lines[lines.len().saturating_sub(LAST_LINES)..]
                .iter()
                .map(|line| (*line).to_owned());
            return Err(AdoptProblem::WatchFailed {
                command: command.to_owned(),
                how,
                printed: last.collect(),
                wanted_network,
            });
        }
        let after = entries_of(&root).map_err(no_copy)?;
        let build = seen_build(&root, command, programs, (&before, &after));
        Ok(WatchedFolder { copy, build })
    }

    /// What was seen.
    pub fn build(&self) -> &SeenBuild {
        &self.build
    }
}

/// All files of a folder that may be in a build, by their paths.
fn entries_of(folder: &Path) -> io::Result<BTreeMap<String, TreeFile>> {
    let open: OwnedFd = fs::File::open(folder)?.into();
    let is_source =
        |entry: &TreeFile| WsPath::checked(&entry.path).is_some_and(|path| !path.is_below_made());
    let entries = entries_below(&open)?.into_iter().filter(is_source);
    Ok(entries.map(|entry| (entry.path.clone(), entry)).collect())
}

/// Copies all files with their modes and times, and all links, but for what the tool itself makes.
fn copy_all(from: &Path, to: &Path, cancel: &CancelSwitch) -> io::Result<()> {
    let below = Below::new(to)?;
    for (path, entry) in entries_of(from)? {
        if cancel.is_thrown() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        if let Some((folder, _)) = path.rsplit_once('/') {
            below.made_folder(folder)?;
        }
        match entry.kind {
            TreeFileKind::File => {
                use std::os::unix::fs::PermissionsExt;
                let mut source = nubrik_disk::open_file(&from.join(&path))?;
                let found = source.metadata()?;
                let mode = found.permissions().mode() & 0o777;
                let mut file = below.fresh_file(&path, mode | 0o600)?;
                copy_file(&mut source, &mut file)?;
                file.set_permissions(fs::Permissions::from_mode(mode | 0o600))?;
                // Who builds what is older than its sources goes by these.
                file.set_times(fs::FileTimes::new().set_modified(found.modified()?))?;
            }
            TreeFileKind::Link(target) => below.fresh_link(&path, &target)?,
            TreeFileKind::EmptyFolder => drop(below.made_folder(&path)?),
            // A socket or a pipe is nothing that is built from.
            TreeFileKind::Odd(_) => {}
        }
    }
    Ok(())
}

/// What was seen, with paths from the folder.
fn seen_build(
    root: &Path,
    command: &str,
    programs: Vec<StartedProgram>,
    (before, after): (&BTreeMap<String, TreeFile>, &BTreeMap<String, TreeFile>),
) -> SeenBuild {
    let is_new = |path: &String, entry: &TreeFile| {
        before
            .get(path)
            .is_none_or(|known| known.signature != entry.signature || known.kind != entry.kind)
    };
    let made: BTreeSet<String> = after
        .iter()
        .filter(|(path, entry)| is_new(path, entry))
        .map(|(path, _)| path.clone())
        .collect();
    let links = made
        .iter()
        .filter_map(|path| Some((path.clone(), target_of_link(root, path, after.get(path)?)?)))
        .collect();
    // A pipe or a link to a device would never end.
    let is_file = |path: &str| {
        after
            .get(path)
            .is_some_and(|entry| matches!(entry.kind, TreeFileKind::File))
    };
    let is_short = |path: &&String| {
        is_file(path)
            && root
                .join(path)
                .metadata()
                .is_ok_and(|found| found.len() <= LONGEST_TEXT)
    };
    let texts = made.iter().filter(is_short);
    let texts = texts
        .filter_map(|path| Some((path.clone(), read_text(&root.join(path)).ok()?)))
        .collect();
    let inside = |path: &Path| path.strip_prefix(root).ok()?.to_str().map(str::to_owned);
    let mut programs: Vec<SeenProgram> = programs
        .into_iter()
        .map(|program| seen_program(program, root, &inside))
        .collect();
    keep_what_was_there(&mut programs, root, (before, after));
    SeenBuild {
        root: root.to_string_lossy().into_owned(),
        command: command.to_owned(),
        programs,
        made,
        links,
        as_seen: BTreeSet::new(),
        texts,
    }
}

/// Where a link leads, if it is one and leads to something in the folder; from the folder.
fn target_of_link(root: &Path, path: &str, entry: &TreeFile) -> Option<String> {
    let TreeFileKind::Link(target) = &entry.kind else {
        return None;
    };
    let behind = root.join(path).parent()?.join(&**target);
    let behind = behind.canonicalize().ok()?;
    Some(behind.strip_prefix(root).ok()?.to_str()?.to_owned())
}

/// Compilers look for a header in one folder after the other: what was never there was read by
/// nobody. Nor is anything made in a folder that is not there.
fn keep_what_was_there(
    programs: &mut [SeenProgram],
    root: &Path,
    (before, after): (&BTreeMap<String, TreeFile>, &BTreeMap<String, TreeFile>),
) {
    let made_once = |program: &SeenProgram| {
        let renamed = program.renamed.iter().map(|(_, to)| to);
        let all = program.writes.iter().chain(renamed);
        all.cloned().collect::<Vec<_>>()
    };
    let ever: BTreeSet<String> = programs.iter().flat_map(made_once).collect();
    for program in programs {
        program
            .writes
            .retain(|path| root.join(path).parent().is_some_and(Path::is_dir));
        program.reads.retain(|path| {
            before.contains_key(path) || after.contains_key(path) || ever.contains(path)
        });
    }
}

fn seen_program(
    program: StartedProgram,
    root: &Path,
    inside: &dyn Fn(&Path) -> Option<String>,
) -> SeenProgram {
    let StartedProgram {
        started_by,
        file,
        words,
        folder,
        used,
        streams,
        renamed,
    } = program;
    let [stdin, stdout, _] = streams;
    let of_file = |stream: &ProgramStream| match stream {
        ProgramStream::File(path) => inside(path),
        ProgramStream::Pipe(_) | ProgramStream::Other => None,
    };
    let of_pipe = |stream: &ProgramStream| match stream {
        ProgramStream::Pipe(name) => Some(name.clone()),
        ProgramStream::File(_) | ProgramStream::Other => None,
    };
    let (mut reads, mut lists, mut writes) = (BTreeSet::new(), BTreeSet::new(), BTreeSet::new());
    for (path, touch) in used {
        let Some(name) = inside(&path) else { continue };
        match touch {
            PathUse::LookedUp => {}
            PathUse::Read | PathUse::Started if path.is_dir() => drop(lists.insert(name)),
            PathUse::Read | PathUse::Started => drop(reads.insert(name)),
            PathUse::Written => drop(writes.insert(name)),
        }
    }
    let renamed = renamed
        .iter()
        .filter_map(|(from, to)| Some((inside(from)?, inside(to)?)));
    SeenProgram {
        started_by,
        file: inside(&file),
        folder: if folder == root {
            Some(String::new())
        } else {
            inside(&folder)
        },
        reads,
        lists,
        writes,
        renamed: renamed.collect(),
        stdin: of_file(&stdin),
        stdout: of_file(&stdout),
        pipe_in: of_pipe(&stdin),
        pipe_out: of_pipe(&stdout),
        words,
    }
}

impl Adoption<'_> {
    /// Compares what definitions make with what the command made that was watched.
    ///
    /// # Errors
    ///
    /// The workspace cannot be used.
    pub fn compare(
        &self,
        watched: &WatchedFolder,
        targets: &[LearnedTarget],
    ) -> Result<Vec<ComparedTarget>, AdoptProblem> {
        let mut session = self.open()?;
        let mut workshop = self.lock(&mut session)?;
        let options = options_of(&workshop);
        // All at once; one by one only where something cannot be evaluated.
        let all: Vec<DefinitionAddress> = targets
            .iter()
            .flat_map(|target| std::iter::once(&target.address).chain(&target.parts))
            .cloned()
            .collect();
        let whole = self.evaluate(&mut workshop, &all, options)?.ok();
        let mut compared = Vec::new();
        for target in targets {
            let address = target.address.below(&self.folder.top);
            let theirs = watched.copy.path().join(&target.path);
            let mut ours = Vec::new();
            for address in std::iter::once(&target.address).chain(&target.parts) {
                let alone = match whole {
                    Some(_) => None,
                    None => self
                        .evaluate(&mut workshop, std::slice::from_ref(address), options)?
                        .ok(),
                };
                let Some(graph) = whole
                    .as_ref()
                    .or(alone.as_ref())
                    .map(|evaluation| &evaluation.graph)
                else {
                    continue;
                };
                ours.extend(self.result_like(graph, address, &target.path));
            }
            let mut other_values = BTreeSet::new();
            if let Some(differences) = differences(&ours, &theirs, &mut other_values) {
                compared.push(ComparedTarget {
                    address,
                    differences,
                    other_values,
                });
            }
        }
        Ok(compared)
    }

    /// The file that a definition makes where a command made one: of several results, the one of the
    /// same name.
    fn result_like(
        &self,
        graph: &Graph,
        address: &DefinitionAddress,
        path: &str,
    ) -> Option<PathBuf> {
        let found = graph.find_target(&address.below(&self.folder.top))?;
        let results = graph.target(found).results.iter();
        let paths: Vec<&str> = results
            .map(|result| graph.file(result.file).path.as_str())
            .collect();
        let name = Path::new(path).file_name();
        let same = paths
            .iter()
            .find(|path| Path::new(path).file_name() == name);
        let chosen = same.or(paths.first())?;
        Some(self.folder.root.join(chosen))
    }
}

/// How results differ from one of the command's: libraries and programs by the names that they
/// define, classes by theirs, headers by the names with values that they define, where these are
/// not the same bytes, other files by their bytes. Nothing where there are no names, since some are
/// linked without, and where there is no result.
/// `other_values` gets the names of a header that differ.
fn differences(
    ours: &[PathBuf],
    theirs: &Path,
    other_values: &mut BTreeSet<String>,
) -> Option<Vec<String>> {
    if ours.is_empty() {
        return None;
    }
    // A shared library lies in a folder with its links.
    let file = |path: &PathBuf| {
        if path.is_dir() {
            largest_in(path)
        } else {
            Some(path.clone())
        }
    };
    let ours: Vec<PathBuf> = ours
        .iter()
        .filter_map(file)
        .filter(|path| path.exists())
        .collect();
    let Some(first) = ours.first() else {
        return Some(vec!["is not there".to_owned()]);
    };
    let all_names = |names: fn(&Path) -> Option<BTreeSet<String>>| {
        let all: Option<Vec<BTreeSet<String>>> = ours.iter().map(|path| names(path)).collect();
        all.map(|all| all.into_iter().flatten().collect::<BTreeSet<String>>())
    };
    let (own, other) = if theirs.is_dir() {
        all_names(classes_in_archive).zip(classes_in_folder(theirs))?
    } else if is_linked(theirs) {
        all_names(defined_symbols).zip(defined_symbols(theirs))?
    } else {
        let (own, other) = (fs::read(first).ok()?, fs::read(theirs).ok()?);
        if own == other {
            return Some(Vec::new());
        }
        let (own, other) = (defined_values(&own), defined_values(&other));
        let is_header = theirs.extension().is_some_and(|ext| ext == "h");
        if !is_header || other.is_empty() {
            return Some(vec!["has another content".to_owned()]);
        }
        let name = |row: &String| row.split(' ').next().map(str::to_owned);
        other_values.extend(own.symmetric_difference(&other).filter_map(name));
        (own, other)
    };
    let missing: Vec<&String> = other.difference(&own).collect();
    let more: Vec<&String> = own.difference(&other).collect();
    let mut all = Vec::new();
    for (names, what) in [(missing, "lacks"), (more, "also defines")] {
        if !names.is_empty() {
            all.push(format!("{what} {}", some_of(&names)));
        }
    }
    Some(all)
}

/// The names that a header defines, each with its value. Two headers may say the same in other words.
fn defined_values(header: &[u8]) -> BTreeSet<String> {
    let all = defines_of(&String::from_utf8_lossy(header));
    all.into_iter()
        .map(|(name, value)| format!("{name} {value}").trim().to_owned())
        .collect()
}

/// The paths of the classes in a folder, from it.
fn classes_in_folder(folder: &Path) -> Option<BTreeSet<String>> {
    let open: OwnedFd = fs::File::open(folder).ok()?.into();
    let paths = entries_below(&open)
        .ok()?
        .into_iter()
        .map(|entry| entry.path);
    Some(paths.filter(|path| path.ends_with(CLASS)).collect())
}

/// The paths of the classes in an archive.
fn classes_in_archive(archive: &Path) -> Option<BTreeSet<String>> {
    let archive = zip::ZipArchive::new(fs::File::open(archive).ok()?).ok()?;
    let names = archive
        .file_names()
        .flatten()
        .map(std::borrow::Cow::into_owned);
    Some(names.filter(|name| name.ends_with(CLASS)).collect())
}

/// How the names of compiled classes end.
const CLASS: &str = ".class";

/// Whether a file is an archive, or is linked, by the first of its bytes.
fn is_linked(path: &Path) -> bool {
    use std::io::Read;
    let mut first = [0; 8];
    let read = fs::File::open(path).and_then(|mut file| file.read_exact(&mut first));
    read.is_ok() && (first.starts_with(b"\x7fELF") || first == *b"!<arch>\n")
}

/// The names of a list, or the first ones and how many there are besides.
fn some_of(names: &[&String]) -> String {
    const SHOWN: usize = 5;
    let first: Vec<&str> = names.iter().take(SHOWN).map(|name| name.as_str()).collect();
    match names.len().saturating_sub(SHOWN) {
        0 => first.join(", "),
        more => format!("{} and {more} more", first.join(", ")),
    }
}

fn largest_in(folder: &Path) -> Option<PathBuf> {
    let entries = fs::read_dir(folder).ok()?.flatten();
    let files = entries.filter_map(|entry| {
        let found = entry.path().symlink_metadata().ok()?;
        found.is_file().then(|| (found.len(), entry.path()))
    });
    files.max().map(|(_, path)| path)
}
