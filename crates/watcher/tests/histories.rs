//! Random changes of a workspace, `NUBRIK_TEST_CASES` times 400: whatever a full look at a seal finds changed, the watcher has among its doubts.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use memmap2::MmapMut;
use nubrik_bytes::Digest;
use nubrik_disk::{Below, Signature};
use nubrik_memory::{Entry, Journal, NewSeal, Roles, Seal, SealNews, Sealed, ToLookAt, Version, write_seal};
use nubrik_source::FilePath;
use nubrik_watcher::{Doubt, WatcherAnswer, WatcherLife, WatcherPlace, serve};
use proptest::test_runner::{RngAlgorithm, TestRng};
use rand_like::Dice;

/// How many changes each history has.
const CHANGES: usize = 400;

const SEAL: &str = "seals/one";

/// Numbers that seem to come by chance, and are the same each time.
mod rand_like {
    use proptest::prelude::Rng;
    use proptest::test_runner::TestRng;

    pub struct Dice(pub TestRng);

    impl Dice {
        /// A number below another.
        pub fn below(&mut self, limit: usize) -> usize {
            self.0.next_u64() as usize % limit
        }

        pub fn one_of<'a, T>(&mut self, items: &'a [T]) -> &'a T {
            &items[self.below(items.len())]
        }
    }
}

/// A workspace that is watched by a thread.
struct Watched {
    folder: tempfile::TempDir,
    root: Below,
    own: Below,
    program: Digest,
    serving: Option<thread::JoinHandle<()>>,
    /// What somebody keeps open, or mapped.
    open: Vec<fs::File>,
    mapped: Vec<MmapMut>,
    /// How many paths were doubted, and how many had changed.
    doubted: usize,
    changed: usize,
    believed: usize,
}

/// Names of folders and files, so few that they meet again and again.
const FOLDERS: [&str; 5] = ["src", "src/deep", "src/deep/er", "out", "lib"];
const FILES: [&str; 4] = ["a", "b.c", "höhe.h", "a-b"];

impl Watched {
    fn new() -> Watched {
        let folder = tempfile::tempdir().unwrap();
        let top = folder.path().join("ws");
        for inner in ["ws/.own/seals", "elsewhere"].iter().map(|s| (*s).to_owned()) {
            fs::create_dir_all(folder.path().join(inner)).unwrap();
        }
        for inner in FOLDERS {
            fs::create_dir_all(top.join(inner)).unwrap();
            for name in &FILES[..3] {
                fs::write(top.join(inner).join(name), name).unwrap();
            }
        }
        fs::write(folder.path().join("elsewhere/file"), "elsewhere").unwrap();
        let (root, own) = (Below::new(&top).unwrap(), Below::new(&top.join(".own")).unwrap());
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

    fn top(&self) -> PathBuf {
        self.folder.path().join("ws")
    }

    fn start(&mut self) {
        let (top, program) = (self.top(), self.program);
        let life = WatcherLife::Unasked(Duration::from_secs(60));
        self.serving = Some(thread::spawn(move || serve_in(&top, program, life)));
        let until = Instant::now() + Duration::from_secs(10);
        while self.place().status().is_none() {
            assert!(Instant::now() < until, "the watcher does not answer");
            thread::sleep(Duration::from_millis(1));
        }
    }

    fn stop(&mut self) {
        self.place().end();
        self.serving.take().unwrap().join().unwrap();
    }

    fn place(&self) -> WatcherPlace<'_> {
        WatcherPlace::new(&self.root, &self.own, self.program)
    }

    /// All paths that are sealed: those there may ever be, one by a link, some elsewhere.
    fn paths(&self) -> Vec<(FilePath, Roles)> {
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
        paths.push((FilePath::from_text(elsewhere.to_str().unwrap().into()), Roles::READ));
        paths
    }

    fn entry(&self, path: &FilePath, roles: Roles) -> Entry {
        let plain = path.as_str().strip_prefix(FilePath::LINK).unwrap_or(path.as_str());
        let follows = !roles.has(Roles::ITSELF);
        let signature = Signature::at(self.root.top(), plain.as_bytes(), follows);
        Entry { roles, ..Entry::new(signature) }
    }

    /// Seals everything as it is.
    fn seal(&self) {
        let entries: BTreeMap<_, _> =
            self.paths().into_iter().map(|(path, roles)| (path.clone(), self.entry(&path, roles))).collect();
        let sealed = Sealed::default();
        let new = NewSeal { sealed, graph: Digest::default(), env: vec![], samples: vec![], entries };
        write_seal(&self.own, SEAL, &new).unwrap();
        assert!(self.place().learn(SEAL));
    }

    /// Adds to the seal what some of its paths are now.
    fn seal_again(&self, dice: &mut Dice) {
        let mut seal = Journal::<Seal>::load(&self.own, SEAL).unwrap();
        let paths = self.paths();
        let some = (0..5).map(|_| dice.one_of(&paths).clone()).map(|(path, roles)| {
            let entry = self.entry(&path, roles);
            (path, entry)
        });
        let news = SealNews { entries: some.collect(), ..SealNews::default() };
        seal.add(&self.own, SEAL, news).unwrap();
        assert!(self.place().learn(SEAL));
    }

    fn load(&self) -> (Journal<Seal>, Version) {
        let seal = Journal::<Seal>::load(&self.own, SEAL).unwrap();
        let version = seal.version().unwrap();
        (seal, version)
    }

    /// Asks, and compares with a full look.
    fn ask(&mut self, history: &[String]) {
        let (seal, version) = self.load();
        let Some(answer) = self.place().doubtful(SEAL, version) else { return };
        let changes = seal.check(&self.root, ToLookAt::All, |_| Digest::default(), 1).unwrap();
        let doubtful = match answer {
            WatcherAnswer::Doubtful(numbers) => numbers,
            WatcherAnswer::All(doubt) => {
                assert!(matches!(doubt, Doubt::Learning | Doubt::Overflow), "{doubt:?}");
                return;
            }
            other => panic!("{other:?}"),
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
    fn rest(&self) {
        assert!(self.place().learn(SEAL));
        let (mut last, mut same) = (0, 0);
        while same < 3 {
            let now = self.place().status().map_or(0, |status| status.same);
            (last, same) = if now == last { (last, same + 1) } else { (now, 0) };
            thread::sleep(Duration::from_millis(1));
        }
    }

    /// One change of what is there; what it was, in words.
    fn change(&mut self, dice: &mut Dice) -> String {
        let top = self.top();
        let folder = top.join(dice.one_of(&FOLDERS));
        let file = folder.join(dice.one_of(&FILES));
        let other = top.join(dice.one_of(&FOLDERS)).join(dice.one_of(&FILES));
        let outside = self.folder.path().join("elsewhere").join(dice.one_of(&FILES));
        let moved = top.join(dice.one_of(&["moved", "src/moved"]));
        let kind = dice.below(26);
        let done = match kind {
            0..=2 => fs::write(&file, format!("{} bytes", dice.below(1 << 30))),
            3 => append(&file),
            4 => fs::remove_file(&file),
            5 => fs::rename(&file, &other),
            6 => fs::remove_file(&other).and_then(|()| fs::hard_link(&file, &other)),
            7 => fs::remove_file(&outside).or(Ok(())).and_then(|()| fs::hard_link(&file, &outside)),
            // By a name that is not watched.
            8 => append(&outside),
            9 => fs::rename(&outside, &file),
            10 => fs::rename(&folder, &moved),
            11 => fs::rename(&moved, &folder),
            12 => fs::remove_dir_all(&folder),
            13 => fs::create_dir_all(&folder),
            14 => symlink("elsewhere", folder.join("link")),
            15 => fs::remove_file(folder.join("link")),
            16 => symlink(self.folder.path().join("elsewhere/file"), folder.join("link")),
            17 => append(&self.folder.path().join("elsewhere/file")),
            // A folder becomes a link to another one.
            18 => fs::rename(&folder, &moved).and_then(|()| symlink(&moved, &folder)),
            19 => fs::set_permissions(&file, fs::Permissions::from_mode(0o600 | dice.below(64) as u32)),
            20 => fs::File::options().append(true).open(&file).map(|open| self.open.push(open)),
            21 => {
                let number = dice.below(self.open.len().max(1));
                match self.open.get_mut(number) {
                    Some(open) => std::io::Write::write_all(open, b"more"),
                    None => Ok(()),
                }
            }
            22 => self.map(&file),
            23 => self.write_mapped(dice),
            24 => {
                // The file goes on in memory: its descriptor and its mapping end.
                self.open.clear();
                self.mapped.clear();
                Ok(())
            }
            _ => fs::read(&file).map(drop),
        };
        format!(
            "{kind} {} {} {} {:?}",
            file.display(),
            other.display(),
            moved.display(),
            done.err().map(|e| e.kind())
        )
    }

    /// Maps a file and closes it: nothing but the mapping is left.
    fn map(&mut self, path: &Path) -> std::io::Result<()> {
        let file = fs::File::options().read(true).write(true).open(path)?;
        if file.metadata()?.size() == 0 {
            return Ok(());
        }
        self.mapped.push(map_to_write(&file)?);
        Ok(())
    }

    fn write_mapped(&mut self, dice: &mut Dice) -> std::io::Result<()> {
        let number = dice.below(self.mapped.len().max(1));
        let Some(mapped) = self.mapped.get_mut(number) else { return Ok(()) };
        mapped[0] = mapped[0].wrapping_add(1);
        // A page that is written back gets the file a new time when it is written to again.
        mapped.flush()
    }
}

fn serve_in(top: &Path, program: Digest, life: WatcherLife) {
    let (root, own) = (Below::new(top).unwrap(), Below::new(&top.join(".own")).unwrap());
    serve(root, own, program, None, life).unwrap();
}

/// A file as memory that is written to.
#[allow(unsafe_code)]
fn map_to_write(file: &fs::File) -> std::io::Result<MmapMut> {
    // SAFETY: what is mapped is the test's own, and nothing is read from it.
    unsafe { MmapMut::map_mut(file) }
}

fn append(path: &Path) -> std::io::Result<()> {
    let mut file = fs::File::options().append(true).open(path)?;
    std::io::Write::write_all(&mut file, b"more")
}

fn history(seed: u8) -> (usize, usize, usize) {
    let mut dice = Dice(TestRng::from_seed(RngAlgorithm::ChaCha, &[seed; 32]));
    let mut watched = Watched::new();
    watched.seal();
    let mut history = Vec::new();
    for _ in 0..CHANGES {
        for _ in 0..dice.below(4) {
            history.push(watched.change(&mut dice));
        }
        match dice.below(24) {
            0 => watched.seal(),
            1..=2 => watched.seal_again(&mut dice),
            3 => {
                watched.stop();
                watched.start();
            }
            4..=12 => watched.rest(),
            _ => {}
        }
        watched.ask(&history);
    }
    watched.stop();
    (watched.believed, watched.doubted, watched.changed)
}

#[test]
fn what_changed_is_always_doubted() {
    let histories = nubrik_testing::cases(6) as usize;
    let mut sum = (0, 0, 0);
    for seed in 0..histories {
        let (believed, doubted, changed) = history(seed as u8);
        sum = (sum.0 + believed, sum.1 + doubted, sum.2 + changed);
    }
    println!("{} answers, {} doubts a time, {} changes a time", sum.0, sum.1 / sum.0, sum.2 / sum.0);
    // It is of use only where it knows most.
    assert!(sum.0 > histories * CHANGES / 2, "only {} answers", sum.0);
}
