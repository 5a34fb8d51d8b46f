//! What is put into the sandbox of a command: what it declares, as the machine has it.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::io;
use std::path::PathBuf;
use std::sync::{Arc, OnceLock};

use nubrik_confine::{CommonPlaces, SandboxPlace};
use nubrik_disk::{Below, Signature};
use nubrik_engine::{Readable, Readables};
use parking_lot::Mutex;
use rustix::fs::{FileType, Mode, OFlags};

use crate::machine::Machine;

/// A folder with so many declared files in and below it is shown whole if there is nothing else in
/// it: that is quicker than to show each file.
const WHOLE_FROM: usize = 48;

/// How many things are shown one by one at most: the kernel has a limit for all sandboxes of a
/// namespace.
const MOST_PLACES: usize = 60_000;

/// A folder that changed later than so long before it was listed may have changed again unseen, in
/// nanoseconds.
const COARSENESS: i64 = 2_000_000_000;

/// What a sandbox is to show.
#[derive(Default)]
pub(crate) struct Furnishing {
    /// What many commands declare.
    shared: Option<Arc<Layout>>,
    /// What these commands declare, and what they need besides.
    own: Layout,
}

/// Things to show, none of them twice and none inside another one.
#[derive(Default)]
pub(crate) struct Layout {
    /// Sorted, as far as it is what is declared.
    put: Vec<Put>,
    /// Folders among these that are shown whole because exactly what is in them is declared.
    whole: BTreeSet<Arc<str>>,
    /// These and those below them, as they were.
    watched: Vec<FolderBefore>,
    /// What of it many sandboxes show.
    common: OnceLock<CommonPlaces>,
}

/// Layouts of sets that many commands declare, by the sets.
#[derive(Default)]
pub(crate) struct Layouts {
    known: Mutex<HashMap<Vec<usize>, HeldLayout>>,
}

/// A layout, and the sets that it is of: while they are held, no others can be at their places in
/// memory.
type HeldLayout = (Vec<Arc<[Readable]>>, Arc<Layout>);

/// A folder as it was before a command ran.
struct FolderBefore {
    folder: Arc<str>,
    signature: Signature,
    entries: Entries,
}

#[derive(PartialEq, Eq, PartialOrd, Ord)]
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

impl Layouts {
    /// The layout of some sets: the one of an earlier command while the folders that it shows whole
    /// are as they were.
    fn of(&self, machine: &Machine, sets: &[Arc<[Readable]>]) -> Arc<Layout> {
        let lock = || self.known.lock();
        let key: Vec<usize> = sets.iter().map(|set| set.as_ptr() as usize).collect();
        let known = lock().get(&key).map(|(_, layout)| layout.clone());
        if let Some(known) = known.filter(|known| known.disturbed(machine).is_none()) {
            return known;
        }
        let layout = Arc::new(Layout::of(machine, sets.iter().flat_map(|set| set.iter())));
        lock().insert(key, (sets.to_vec(), layout.clone()));
        layout
    }
}

impl Layout {
    /// What commands may read, where it is now.
    fn of<'r>(machine: &Machine, readable: impl Iterator<Item = &'r Readable>) -> Layout {
        let mut layout = Layout::default();
        let mut links: BTreeMap<Arc<str>, Arc<str>> = BTreeMap::new();
        let mut sources: BTreeSet<Arc<str>> = BTreeSet::new();
        for Readable { path, folder, made } in readable {
            if *made {
                let put = if *folder { Put::Folder } else { Put::File };
                layout.put.push(put(path.shared().clone()));
                continue;
            }
            let seen = machine.seen_at(path);
            links.extend(
                seen.links
                    .into_iter()
                    .map(|(at, target)| (at.shared().clone(), target)),
            );
            let at = seen.path.shared().clone();
            if seen.leaves {
                // What it leads to is taken from the machine by its real name, in which no link is
                // left.
                if let Ok(real) = machine.root().join(path.as_str()).canonicalize() {
                    layout.put.push(Put::Outside(at, real));
                }
            } else if *folder {
                layout.put.push(Put::Folder(at));
            } else {
                sources.insert(at);
            }
        }
        layout.find_whole_folders(machine, &sources, &links);
        let is_covered = |layout: &Layout, path: &str| layout.shows_around(path);
        let single: Vec<Put> = sources
            .into_iter()
            .filter(|path| !is_covered(&layout, path))
            .map(Put::File)
            .collect();
        layout.put.extend(single);
        links.retain(|path, _| !is_covered(&layout, path));
        layout.put.extend(
            links
                .into_iter()
                .map(|(path, target)| Put::Link(path, target)),
        );
        layout
            .put
            .extend(layout.whole.iter().cloned().map(Put::Folder));
        // The same may be in several sets.
        layout.put.sort();
        layout.put.dedup();
        layout
    }

    /// The files, folders and links of the workspace in it, for all sandboxes that show them.
    fn common(&self) -> &CommonPlaces {
        self.common.get_or_init(|| {
            let (mut files, mut folders, mut links) = (Vec::new(), Vec::new(), Vec::new());
            for put in &self.put {
                match put {
                    Put::File(path) => files.push(path.clone()),
                    Put::Folder(path) => folders.push(path.clone()),
                    Put::Link(path, target) => links.push((path.clone(), target.clone())),
                    Put::Outside(..)
                    | Put::Own(_)
                    | Put::Empty(_)
                    | Put::Machine(_)
                    | Put::Terminal(_) => {}
                }
            }
            CommonPlaces::new(files, folders, links)
        })
    }

    /// Whether a folder around a path is shown whole.
    fn shows_around(&self, path: &str) -> bool {
        !self.whole.is_empty()
            && path
                .match_indices('/')
                .any(|(at, _)| self.whole.contains(&path[..at]))
    }

    /// The folder that is shown whole and in which names appeared, or went, since.
    fn disturbed(&self, machine: &Machine) -> Option<&str> {
        let is_as_before = |watched: &&FolderBefore| {
            let now = machine.listings().of(machine.below(), &watched.folder);
            now.is_some_and(|(signature, entries)| {
                let same = Arc::ptr_eq(&entries, &watched.entries) || entries == watched.entries;
                signature == watched.signature && same
            })
        };
        self.watched
            .iter()
            .find(|watched| !is_as_before(watched))
            .map(|watched| &*watched.folder)
    }

    /// Finds the topmost folders in which there is exactly what is declared, and enough of it.
    fn find_whole_folders(
        &mut self,
        machine: &Machine,
        sources: &BTreeSet<Arc<str>>,
        links: &BTreeMap<Arc<str>, Arc<str>>,
    ) {
        if sources.len() < WHOLE_FROM {
            return;
        }
        let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
        for path in sources {
            for (at, _) in path.match_indices('/') {
                *counts.entry(&path[..at]).or_default() += 1;
            }
        }
        let mut looking = Looking {
            machine,
            sources,
            links,
            exact: HashMap::new(),
            watched: Vec::new(),
        };
        // A folder comes before those in it.
        for (folder, count) in counts {
            if count >= WHOLE_FROM && !self.shows_around(folder) && looking.is_exact(folder) {
                self.whole.insert(folder.into());
            }
        }
        let mut watched = std::mem::take(&mut looking.watched);
        watched.retain(|watched| {
            self.whole.contains(&watched.folder) || self.shows_around(&watched.folder)
        });
        self.watched = watched;
    }
}

impl Put {
    /// Where it is in the workspace; nothing where it is somewhere else.
    fn path(&self) -> Option<&str> {
        match self {
            Put::File(path) | Put::Folder(path) | Put::Link(path, _) | Put::Outside(path, _) => {
                Some(path)
            }
            Put::Own(path) | Put::Empty(path) => Some(path),
            Put::Machine(_) | Put::Terminal(_) => None,
        }
    }
}

impl Furnishing {
    /// What a command may read, where it is now.
    ///
    /// # Errors
    /// When there is too much of it.
    pub fn of(machine: &Machine, readable: &Readables) -> io::Result<Furnishing> {
        let mut own = Layout::of(machine, readable.own.iter());
        let shared =
            (!readable.shared.is_empty()).then(|| machine.layouts().of(machine, &readable.shared));
        if let Some(shared) = &shared {
            own.put.retain(|put| {
                shared.put.binary_search(put).is_err()
                    && !put.path().is_some_and(|path| shared.shows_around(path))
            });
        }
        let furnishing = Furnishing { shared, own };
        let count = furnishing.all().count();
        if count > MOST_PLACES {
            return Err(io::Error::other(format!(
                "it declares {count} files that lie among others; {MOST_PLACES} can be shown to it. Put them into a folder of \
                 their own, with nothing else in it",
            )));
        }
        Ok(furnishing)
    }

    /// Everything that is shown.
    fn all(&self) -> impl Iterator<Item = &Put> {
        let own = &self.own;
        let is_free = move |put: &&Put| !put.path().is_some_and(|path| own.shows_around(path));
        self.shared
            .iter()
            .flat_map(|shared| &shared.put)
            .filter(is_free)
            .chain(&own.put)
    }

    /// A folder that it may write to, and the folder in which it runs.
    pub fn add_own(&mut self, own: &str, work: &str) {
        self.own.put.push(Put::Own(own.to_owned()));
        if work != own && !work.starts_with(&format!("{own}/")) {
            self.own.put.push(Put::Empty(work.to_owned()));
        }
    }

    /// Folders and files of the machine.
    pub fn add_machine(&mut self, paths: Vec<PathBuf>) {
        self.own.put.extend(paths.into_iter().map(Put::Machine));
    }

    /// The terminal.
    pub fn add_terminal(&mut self) {
        self.own.put.push(Put::Terminal("/dev/tty".into()));
    }

    /// All places: those of many commands, where they can be told apart, and the others.
    pub fn places(&self) -> (Option<&CommonPlaces>, Vec<SandboxPlace<'_>>) {
        fn place(put: &Put) -> SandboxPlace<'_> {
            match put {
                Put::File(path) => SandboxPlace::File(path),
                Put::Folder(path) => SandboxPlace::Folder(path),
                Put::Link(path, target) => SandboxPlace::Link(path, target),
                Put::Outside(path, file) => SandboxPlace::Outside(path, file),
                Put::Own(path) => SandboxPlace::Own(path),
                Put::Empty(path) => SandboxPlace::Empty(path),
                Put::Machine(path) => SandboxPlace::Machine(path),
                Put::Terminal(path) => SandboxPlace::Terminal(path),
            }
        }
        match self.shared.as_ref().filter(|_| self.own.whole.is_empty()) {
            None => (None, self.all().map(place).collect()),
            Some(shared) => {
                let is_common =
                    |put: &&Put| matches!(put, Put::File(_) | Put::Folder(_) | Put::Link(..));
                let others = shared.put.iter().filter(|put| !is_common(put));
                (
                    Some(shared.common()),
                    others.chain(&self.own.put).map(place).collect(),
                )
            }
        }
    }

    /// The folder that is shown whole and in which names appeared, or went, since.
    pub fn disturbed(&self, machine: &Machine) -> Option<&str> {
        self.own
            .disturbed(machine)
            .or_else(|| self.shared.as_ref()?.disturbed(machine))
    }
}

struct Looking<'a> {
    machine: &'a Machine,
    sources: &'a BTreeSet<Arc<str>>,
    links: &'a BTreeMap<Arc<str>, Arc<str>>,
    exact: HashMap<String, bool>,
    watched: Vec<FolderBefore>,
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
        let Some((signature, entries)) = self.machine.listings().of(self.machine.below(), folder)
        else {
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
            self.watched.push(FolderBefore {
                folder: folder.into(),
                signature,
                entries,
            });
        }
        exact
    }
}

impl Listings {
    /// What is in a folder, with its metadata before; `None` where it cannot be read, or is reached
    /// by links.
    fn of(&self, below: &Below, folder: &str) -> Option<(Signature, Entries)> {
        let lock = || self.known.lock();
        let signature = Signature::at(below.top(), folder.as_bytes(), false)?;
        if let Some((known, entries)) = lock().get(folder)
            && *known == signature
        {
            return Some((signature, entries.clone()));
        }
        let began = crate::clock::now();
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

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use std::fs;
    use std::path::Path;

    use nubrik_confine::CancelSwitch;
    use nubrik_source::WsPath;

    use super::*;

    fn machine(files: &[String]) -> (tempfile::TempDir, Machine) {
        let folder = tempfile::tempdir().unwrap();
        for file in files {
            let path = folder.path().join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, file).unwrap();
        }
        let cancel = Arc::new(CancelSwitch::new().unwrap());
        let machine = Machine::new(folder.path(), "/usr/bin".into(), &[], cancel).unwrap();
        (folder, machine)
    }

    fn sources(paths: &[String]) -> Vec<Readable> {
        paths
            .iter()
            .map(|p| Readable {
                path: WsPath::from_normal(p),
                folder: false,
                made: false,
            })
            .collect()
    }

    fn headers(count: usize) -> Vec<String> {
        (0..count)
            .map(|n| format!("inc/{}/h{n:02}.h", if n % 2 == 0 { "a" } else { "b" }))
            .collect()
    }

    /// Files and folders that are shown, sorted.
    fn shown(furnishing: &Furnishing) -> Vec<String> {
        let (common, own) = furnishing.places();
        let common = common.into_iter().flat_map(|common| common.places());
        let mut all: Vec<String> = common
            .chain(own)
            .map(|place| match place {
                SandboxPlace::File(path) => format!("file {path}"),
                SandboxPlace::Folder(path) => format!("folder {path}"),
                _ => "other".to_owned(),
            })
            .collect();
        all.sort();
        all
    }

    #[test]
    fn what_many_declare_is_laid_out_once_and_nothing_is_shown_twice() {
        let headers = headers(WHOLE_FROM + 2);
        let all = [
            headers.as_slice(),
            &["src/one.c".to_owned(), "src/two.c".to_owned()],
        ]
        .concat();
        let (_folder, machine) = machine(&all);
        let set: Arc<[Readable]> = sources(&headers).into();
        let of = |own: &[&str], shared: Vec<Arc<[Readable]>>| {
            let own = sources(&own.iter().map(|p| (*p).to_owned()).collect::<Vec<_>>());
            Furnishing::of(&machine, &Readables { own, shared }).unwrap()
        };
        let one = of(&["src/one.c"], vec![set.clone()]);
        assert_eq!(shown(&one), ["file src/one.c", "folder inc"]);
        // A header that is an input itself lies in the folder that is shown already; the set given
        // twice is one.
        let two = of(&["src/two.c", &headers[0]], vec![set.clone(), set.clone()]);
        assert_eq!(shown(&two), ["file src/two.c", "folder inc"]);
        let again = of(&["src/two.c"], vec![set]);
        assert!(Arc::ptr_eq(
            one.shared.as_ref().unwrap(),
            again.shared.as_ref().unwrap()
        ));
    }

    #[test]
    fn a_folder_with_something_undeclared_is_shown_file_by_file() {
        let headers = headers(WHOLE_FROM + 2);
        let (folder, machine) = machine(&headers);
        let set: Arc<[Readable]> = sources(&headers).into();
        let of = || {
            Furnishing::of(
                &machine,
                &Readables {
                    own: Vec::new(),
                    shared: vec![set.clone()],
                },
            )
            .unwrap()
        };
        let before = of();
        assert_eq!(shown(&before), ["folder inc"]);
        assert_eq!(before.disturbed(&machine), None);
        fs::write(folder.path().join("inc/a/other.h"), "undeclared").unwrap();
        assert!(
            before
                .disturbed(&machine)
                .is_some_and(|folder| Path::new(folder).starts_with("inc"))
        );
        // The layout of before is not taken again.
        let now = of();
        assert!(
            shown(&now)
                .iter()
                .all(|place| !place.contains("folder inc/a") && place != "folder inc")
        );
        assert_eq!(now.all().count(), headers.len());
    }

    #[test]
    fn what_steps_make_is_shown_as_it_is_declared() {
        let (_folder, machine) = machine(&[]);
        let made = |path: &str, folder| Readable {
            path: WsPath::from_normal(path),
            folder,
            made: true,
        };
        let own = vec![made("m/tree", true), made("m/file", false)];
        let readable = Readables {
            own: own.clone(),
            shared: vec![own.into()],
        };
        let furnishing = Furnishing::of(&machine, &readable).unwrap();
        assert_eq!(shown(&furnishing), ["file m/file", "folder m/tree"]);
    }
}
