//! What is put into the room of a command: what it declares, as the machine has it.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::io;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use nubrik_confine::Place;
use nubrik_engine::{Readable, Signature};
use rustix::fs::{FileType, Mode, OFlags};

use crate::below::Below;
use crate::machine::Machine;

/// A folder with so many declared files in and below it is shown whole if there is nothing else in it: that is quicker
/// than to show each file.
const WHOLE_FROM: usize = 48;

/// How many things are shown one by one at most: the kernel has a limit for all rooms of a namespace.
const MOST_PLACES: usize = 60_000;

/// A folder that changed later than so long before it was listed may have changed again unseen, in nanoseconds.
const COARSENESS: i64 = 2_000_000_000;

/// What a room is to show.
#[derive(Default)]
pub(crate) struct Furnishing {
    put: Vec<Put>,
    /// Folders that are shown whole because exactly what is in them is declared, and those below them, as they were.
    watched: Vec<Watched>,
}

/// A folder as it was before a command ran.
struct Watched {
    folder: Arc<str>,
    signature: Signature,
    entries: Entries,
}

enum Put {
    File(Arc<str>),
    Folder(Arc<str>),
    Link(Arc<str>, Arc<str>),
    Outside(Arc<str>, PathBuf),
    Own(String),
    Empty(String),
    Machine(PathBuf),
    Terminal(PathBuf),
}

/// What was seen in folders of the workspace.
#[derive(Default)]
pub(crate) struct Listings {
    known: Mutex<HashMap<Arc<str>, (Signature, Entries)>>,
}

type Entries = Arc<Vec<(String, FileType)>>;

impl Furnishing {
    /// What a command may read, where it is now.
    ///
    /// # Errors
    /// When there is too much of it.
    pub fn of(machine: &Machine, readable: &[Readable]) -> io::Result<Furnishing> {
        let mut furnishing = Furnishing::default();
        let mut links: BTreeMap<Arc<str>, Arc<str>> = BTreeMap::new();
        let mut sources: BTreeSet<Arc<str>> = BTreeSet::new();
        for Readable { path, folder, made } in readable {
            if *made {
                let put = if *folder { Put::Folder } else { Put::File };
                furnishing.put.push(put(path.clone()));
                continue;
            }
            let seen = machine.seen_at(path);
            links.extend(seen.links);
            if seen.leaves {
                // What it leads to is taken from the machine by its real name, in which no link is left.
                if let Ok(real) = machine.root().join(&**path).canonicalize() {
                    furnishing.put.push(Put::Outside(seen.path, real));
                }
            } else if *folder {
                furnishing.put.push(Put::Folder(seen.path));
            } else {
                sources.insert(seen.path);
            }
        }
        let whole = furnishing.find_whole_folders(machine, &sources, &links);
        let is_covered = |path: &str| {
            !whole.is_empty() && path.match_indices('/').any(|(at, _)| whole.contains(&path[..at]))
        };
        let single = sources.into_iter().filter(|path| !is_covered(path)).map(Put::File);
        furnishing.put.extend(single);
        let links = links.into_iter().filter(|(path, _)| !is_covered(path));
        furnishing.put.extend(links.map(|(path, target)| Put::Link(path, target)));
        if furnishing.put.len() > MOST_PLACES {
            return Err(io::Error::other(format!(
                "it declares {} files that lie among others; {MOST_PLACES} can be shown to it. Put them into a folder of \
                 their own, with nothing else in it",
                furnishing.put.len()
            )));
        }
        furnishing.put.extend(whole.into_iter().map(Put::Folder));
        Ok(furnishing)
    }

    /// A folder that it may write to, and the folder in which it runs.
    pub fn add_own(&mut self, own: &str, work: &str) {
        self.put.push(Put::Own(own.to_owned()));
        if work != own && !work.starts_with(&format!("{own}/")) {
            self.put.push(Put::Empty(work.to_owned()));
        }
    }

    /// Folders and files of the machine.
    pub fn add_machine(&mut self, paths: Vec<PathBuf>) {
        self.put.extend(paths.into_iter().map(Put::Machine));
    }

    /// The terminal.
    pub fn add_terminal(&mut self) {
        self.put.push(Put::Terminal("/dev/tty".into()));
    }

    /// All places.
    pub fn places(&self) -> Vec<Place<'_>> {
        fn place(put: &Put) -> Place<'_> {
            match put {
                Put::File(path) => Place::File(path),
                Put::Folder(path) => Place::Folder(path),
                Put::Link(path, target) => Place::Link(path, target),
                Put::Outside(path, file) => Place::Outside(path, file),
                Put::Own(path) => Place::Own(path),
                Put::Empty(path) => Place::Empty(path),
                Put::Machine(path) => Place::Machine(path),
                Put::Terminal(path) => Place::Terminal(path),
            }
        }
        self.put.iter().map(place).collect()
    }

    /// The folder that is shown whole and in which names appeared, or went, since.
    pub fn disturbed(&self, machine: &Machine) -> Option<&str> {
        let is_as_before = |watched: &&Watched| {
            let now = machine.listings().of(machine.below(), &watched.folder);
            now.is_some_and(|(signature, entries)| {
                let same = Arc::ptr_eq(&entries, &watched.entries) || entries == watched.entries;
                signature == watched.signature && same
            })
        };
        self.watched.iter().find(|watched| !is_as_before(watched)).map(|watched| &*watched.folder)
    }

    /// The topmost folders in which there is exactly what is declared, and enough of it.
    fn find_whole_folders(
        &mut self,
        machine: &Machine,
        sources: &BTreeSet<Arc<str>>,
        links: &BTreeMap<Arc<str>, Arc<str>>,
    ) -> BTreeSet<Arc<str>> {
        if sources.len() < WHOLE_FROM {
            return BTreeSet::new();
        }
        let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
        for path in sources {
            for (at, _) in path.match_indices('/') {
                *counts.entry(&path[..at]).or_default() += 1;
            }
        }
        let mut whole: BTreeSet<Arc<str>> = BTreeSet::new();
        let mut looking = Looking { machine, sources, links, exact: HashMap::new(), watched: Vec::new() };
        // A folder comes before those in it.
        for (folder, count) in counts {
            let above = folder.match_indices('/').any(|(at, _)| whole.contains(&folder[..at]));
            if count >= WHOLE_FROM && !above && looking.is_exact(folder) {
                whole.insert(folder.into());
            }
        }
        let mut watched = std::mem::take(&mut looking.watched);
        let is_shown = |path: &str| {
            whole.contains(path) || path.match_indices('/').any(|(at, _)| whole.contains(&path[..at]))
        };
        watched.retain(|watched| is_shown(&watched.folder));
        self.watched = watched;
        whole
    }
}

struct Looking<'a> {
    machine: &'a Machine,
    sources: &'a BTreeSet<Arc<str>>,
    links: &'a BTreeMap<Arc<str>, Arc<str>>,
    exact: HashMap<String, bool>,
    watched: Vec<Watched>,
}

impl Looking<'_> {
    /// Whether all that is in a folder, and below it, is declared.
    fn is_exact(&mut self, folder: &str) -> bool {
        if let Some(known) = self.exact.get(folder) {
            return *known;
        }
        let is_exact = self.looks_exact(folder);
        self.exact.insert(folder.to_owned(), is_exact);
        is_exact
    }

    fn looks_exact(&mut self, folder: &str) -> bool {
        let Some((signature, entries)) = self.machine.listings().of(self.machine.below(), folder) else {
            return false;
        };
        let exact = entries.iter().all(|(name, kind)| {
            let path = format!("{folder}/{name}");
            match kind {
                FileType::RegularFile => self.sources.contains(path.as_str()),
                FileType::Symlink => self.links.contains_key(path.as_str()),
                FileType::Directory => self.is_exact(&path),
                _ => false,
            }
        });
        // An empty folder is not declared.
        let exact = exact && !entries.is_empty();
        if exact {
            self.watched.push(Watched { folder: folder.into(), signature, entries });
        }
        exact
    }
}

impl Listings {
    /// What is in a folder, with its metadata before; `None` where it cannot be read, or is reached by links.
    fn of(&self, below: &Below, folder: &str) -> Option<(Signature, Entries)> {
        let lock = || self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let signature = Machine::check_at(below.top(), folder.as_bytes(), false)?;
        if let Some((known, entries)) = lock().get(folder)
            && *known == signature
        {
            return Some((signature, entries.clone()));
        }
        let began = crate::machine::now();
        let open = rustix::fs::openat(
            below.folder(folder).ok()?,
            ".",
            OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC,
            Mode::empty(),
        );
        let mut entries = Vec::new();
        for entry in rustix::fs::Dir::read_from(open.ok()?).ok()? {
            let entry = entry.ok()?;
            let name = entry.file_name().to_str().ok()?;
            if name != "." && name != ".." {
                entries.push((name.to_owned(), entry.file_type()));
            }
        }
        let entries: Entries = Arc::new(entries);
        if signature.changed.max(signature.touched) + COARSENESS < began {
            lock().insert(folder.into(), (signature, entries.clone()));
        }
        Some((signature, entries))
    }
}

/// Paths without those that lie in another one of them.
pub(crate) fn outermost(mut paths: Vec<PathBuf>) -> Vec<PathBuf> {
    let all: HashSet<PathBuf> = paths.iter().cloned().collect();
    paths.retain(|path| !path.ancestors().skip(1).any(|above| all.contains(above)));
    paths.sort();
    paths.dedup();
    paths
}
