//! A workspace that a watcher in a thread watches, and a seal on it.

#![allow(dead_code)] // Each test program uses its part.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use memmap2::MmapMut;
use nubrik_bytes::Digest;
use nubrik_disk::{Below, Signature};
use nubrik_memory::{
    Entry, Journal, NewSeal, OpenJournal, Roles, Seal, SealNews, Sealed, ToLookAt, write_seal,
};
use nubrik_source::FilePath;
use nubrik_testing::{Need, skip};
use nubrik_watcher::{Doubt, WatcherAnswer, WatcherLife, WatcherPlace, can_watch, serve};

pub const SEAL: &str = "seals/one";

/// Numbers of what may have changed, or why nothing is known.
pub type Doubted = Result<Vec<u32>, Doubt>;

/// A workspace that is watched by a thread.
pub struct Watched {
    pub folder: tempfile::TempDir,
    root: Below,
    own: Below,
    program: Digest,
    serving: Option<thread::JoinHandle<()>>,
    /// What somebody keeps open, or mapped.
    pub open: Vec<fs::File>,
    pub mapped: Vec<MmapMut>,
    /// How many answers there were.
    pub believed: usize,
    /// How many paths they doubted.
    pub doubted: usize,
    /// How many paths had changed then.
    pub changed: usize,
}

/// Names of folders and files, so few that they meet again and again.
pub const FOLDERS: [&str; 5] = ["src", "src/deep", "src/deep/er", "out", "lib"];
pub const FILES: [&str; 4] = ["a", "b.c", "höhe.h", "a-b"];

impl Watched {
    /// One in which something can be known; `None` where the kernel does not say all changes of
    /// temporary files.
    pub fn that_can_be_known() -> Option<Watched> {
        let folder = Below::new(&std::env::temp_dir()).unwrap();
        match can_watch(folder.top()) {
            Ok(()) => Some(Watched::new()),
            Err(doubt) => {
                skip(
                    Need::Watching,
                    format_args!("temporary files cannot be watched: {doubt:?}"),
                );
                None
            }
        }
    }

    pub fn new() -> Watched {
        let folder = tempfile::tempdir().unwrap();
        let top = folder.path().join("ws");
        for inner in ["ws/.own/seals", "elsewhere"]
            .iter()
            .map(|s| (*s).to_owned())
        {
            fs::create_dir_all(folder.path().join(inner)).unwrap();
        }
        for inner in FOLDERS {
            fs::create_dir_all(top.join(inner)).unwrap();
            for name in &FILES[..3] {
                fs::write(top.join(inner).join(name), name).unwrap();
            }
        }
        fs::write(folder.path().join("elsewhere/file"), "elsewhere").unwrap();
        let (root, own) = (
            Below::new(&top).unwrap(),
            Below::new(&top.join(".own")).unwrap(),
        );
        let program = Digest([3; 32]);
        let mut watched = Watched {
            folder,
            root,
            own,
            program,
            serving: None,
            open: Vec::new(),
            mapped: Vec::new(),
            doubted: 0,
            changed: 0,
            believed: 0,
        };
        watched.start();
        watched
    }

    pub fn top(&self) -> PathBuf {
        self.folder.path().join("ws")
    }

    pub fn start(&mut self) {
        let (top, program) = (self.top(), self.program);
        let life = WatcherLife::Unasked(Duration::from_secs(60));
        self.serving = Some(thread::spawn(move || serve_in(&top, program, life)));
        let until = Instant::now() + Duration::from_secs(10);
        while self.place().status().is_none() {
            assert!(Instant::now() < until, "the watcher does not answer");
            thread::sleep(Duration::from_millis(1));
        }
    }

    pub fn stop(&mut self) {
        self.place().end();
        self.serving.take().unwrap().join().unwrap();
    }

    pub fn place(&self) -> WatcherPlace<'_> {
        WatcherPlace::new(&self.root, &self.own, self.program)
    }

    /// All paths that are sealed: those there may ever be, one by a link, some elsewhere.
    pub fn paths(&self) -> Vec<(FilePath, Roles)> {
        let listed = Roles::LISTED.and(Roles::KIND);
        let mut paths = vec![(FilePath::from_text(".".into()), listed)];
        for folder in FOLDERS.iter().chain(&["moved", "src/moved"]) {
            paths.push((FilePath::from_text((*folder).into()), listed));
            for name in FILES.iter().chain(&["link"]) {
                let path = format!("{folder}/{name}");
                paths.push((FilePath::from_text(path.as_str().into()), Roles::READ));
                let itself = FilePath::from_text(format!("{}{path}", FilePath::LINK).into());
                paths.push((itself, Roles::ITSELF));
            }
        }
        let elsewhere = self.folder.path().join("elsewhere/file");
        paths.push((
            FilePath::from_text(elsewhere.to_str().unwrap().into()),
            Roles::READ,
        ));
        paths
    }

    pub fn entry(&self, path: &FilePath, roles: Roles) -> Entry {
        let plain = path
            .as_str()
            .strip_prefix(FilePath::LINK)
            .unwrap_or(path.as_str());
        let follows = !roles.has(Roles::ITSELF);
        let signature = Signature::at(self.root.top(), plain.as_bytes(), follows);
        Entry {
            roles,
            ..Entry::new(signature)
        }
    }

    /// Seals everything as it is.
    pub fn seal(&self) {
        let entries: BTreeMap<_, _> = self
            .paths()
            .into_iter()
            .map(|(path, roles)| (path.clone(), self.entry(&path, roles)))
            .collect();
        let sealed = Sealed::default();
        let new = NewSeal {
            sealed,
            graph: Digest::default(),
            env: vec![],
            samples: vec![],
            entries,
        };
        write_seal(&self.own, SEAL, &new).unwrap();
        assert!(self.place().learn(SEAL));
    }

    /// Adds to the seal what some of its paths are now.
    pub fn seal_again(&self, some: &[(FilePath, Roles)]) {
        let mut seal = Journal::<Seal>::load(&self.own, SEAL).unwrap();
        let entries = some
            .iter()
            .map(|(path, roles)| (path.clone(), self.entry(path, *roles)));
        seal.add(
            &self.own,
            SEAL,
            SealNews {
                entries: entries.collect(),
                ..SealNews::default()
            },
        )
        .unwrap();
        assert!(self.place().learn(SEAL));
    }

    /// Asks what may have changed: the seal, with the numbers in it.
    pub fn doubtful(&self) -> Option<(Journal<Seal>, Doubted)> {
        let numbers = self.answer_of(&self.place())?;
        let seal = OpenJournal::<Seal>::open(&self.own, SEAL).unwrap();
        Some((seal.checked().unwrap(), numbers))
    }

    /// What somebody is answered who asks what may have changed.
    pub fn answer_of(&self, place: &WatcherPlace<'_>) -> Option<Doubted> {
        let open = OpenJournal::<Seal>::open(&self.own, SEAL).unwrap();
        match place.doubtful(SEAL, open.version, open.signature)? {
            WatcherAnswer::Doubtful(numbers) => Some(Ok(numbers)),
            WatcherAnswer::All(doubt) => Some(Err(doubt)),
            other => panic!("{other:?}"),
        }
    }

    /// Waits until the watcher has ended by itself.
    pub fn ended(&mut self) {
        self.serving.take().unwrap().join().unwrap();
    }

    /// Whether a path is among what may have changed.
    pub fn doubts(&self, path: &str) -> bool {
        let (seal, numbers) = self.doubtful().expect("an answer");
        let number = seal.find(path).unwrap() as u32;
        numbers.expect("numbers").contains(&number)
    }

    /// Asks, and compares with a full look. What happened before is for people.
    pub fn ask(&mut self, history: &[String]) {
        let Some((seal, doubtful)) = self.doubtful() else {
            return;
        };
        let changes = seal
            .check(&self.root, ToLookAt::All, |_| Digest::default(), 1)
            .unwrap();
        let doubtful = match doubtful {
            Ok(numbers) => numbers,
            Err(doubt) => {
                assert!(
                    matches!(doubt, Doubt::Learning | Doubt::Overflow),
                    "{doubt:?}"
                );
                return;
            }
        };
        for change in &changes {
            assert!(
                doubtful.contains(&(change.number as u32)),
                "{:?} changed to {:?}, and the watcher does not know; it was {:?}; before: {:#?}",
                seal.path(change.number),
                change.now,
                seal.entry(change.number),
                &history[history.len().saturating_sub(12)..]
            );
        }
        self.believed += 1;
        self.doubted += doubtful.len();
        self.changed += changes.len();
    }

    /// Waits until the watcher has looked at all that it doubts.
    pub fn rest(&self) {
        assert!(self.place().learn(SEAL));
        let (mut last, mut same) = (0, 0);
        while same < 3 {
            let now = self.place().status().map_or(0, |status| status.same);
            (last, same) = if now == last {
                (last, same + 1)
            } else {
                (now, 0)
            };
            thread::sleep(Duration::from_millis(1));
        }
    }
}

fn serve_in(top: &Path, program: Digest, life: WatcherLife) {
    let (root, own) = (
        Below::new(top).unwrap(),
        Below::new(&top.join(".own")).unwrap(),
    );
    serve(root, own, program, None, life).unwrap();
}

/// A file as memory that is written to.
#[allow(unsafe_code)]
pub fn map_to_write(file: &fs::File) -> std::io::Result<MmapMut> {
    // SAFETY: what is mapped is the test's own, and nothing is read from it.
    unsafe { MmapMut::map_mut(file) }
}

pub fn append(path: &Path) -> std::io::Result<()> {
    let mut file = fs::File::options().append(true).open(path)?;
    std::io::Write::write_all(&mut file, b"more")
}
