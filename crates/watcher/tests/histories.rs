//! Random changes of a workspace, `NUBRIK_TEST_CASES` times 400: whatever a full look at a seal
//! finds changed, the watcher has among its doubts.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod watched;

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::Path;

use proptest::test_runner::{RngAlgorithm, TestRng};
use rand_like::Dice;
use watched::{FILES, FOLDERS, Watched, append, map_to_write};

/// How many changes each history has.
const CHANGES: usize = 400;

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

/// One change of what is there; what it was, in words.
fn change(watched: &mut Watched, dice: &mut Dice) -> String {
    let top = watched.top();
    let folder = top.join(dice.one_of(&FOLDERS));
    let file = folder.join(dice.one_of(&FILES));
    let other = top.join(dice.one_of(&FOLDERS)).join(dice.one_of(&FILES));
    let outside = watched
        .folder
        .path()
        .join("elsewhere")
        .join(dice.one_of(&FILES));
    let moved = top.join(dice.one_of(&["moved", "src/moved"]));
    let kind = dice.below(26);
    let done = match kind {
        0..=2 => fs::write(&file, format!("{} bytes", dice.below(1 << 30))),
        3 => append(&file),
        4 => fs::remove_file(&file),
        5 => fs::rename(&file, &other),
        6 => fs::remove_file(&other).and_then(|()| fs::hard_link(&file, &other)),
        7 => fs::remove_file(&outside)
            .or(Ok(()))
            .and_then(|()| fs::hard_link(&file, &outside)),
        // By a name that is not watched.
        8 => append(&outside),
        9 => fs::rename(&outside, &file),
        10 => fs::rename(&folder, &moved),
        11 => fs::rename(&moved, &folder),
        12 => fs::remove_dir_all(&folder),
        13 => fs::create_dir_all(&folder),
        14 => symlink("elsewhere", folder.join("link")),
        15 => fs::remove_file(folder.join("link")),
        16 => symlink(
            watched.folder.path().join("elsewhere/file"),
            folder.join("link"),
        ),
        17 => append(&watched.folder.path().join("elsewhere/file")),
        // A folder becomes a link to another one.
        18 => fs::rename(&folder, &moved).and_then(|()| symlink(&moved, &folder)),
        19 => fs::set_permissions(
            &file,
            fs::Permissions::from_mode(0o600 | dice.below(64) as u32),
        ),
        20 => fs::File::options()
            .append(true)
            .open(&file)
            .map(|open| watched.open.push(open)),
        21 => {
            let number = dice.below(watched.open.len().max(1));
            match watched.open.get_mut(number) {
                Some(open) => std::io::Write::write_all(open, b"more"),
                None => Ok(()),
            }
        }
        22 => map(watched, &file),
        23 => write_mapped(watched, dice),
        24 => {
            // The file goes on in memory: its descriptor and its mapping end.
            watched.open.clear();
            watched.mapped.clear();
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
fn map(watched: &mut Watched, path: &Path) -> std::io::Result<()> {
    let file = fs::File::options().read(true).write(true).open(path)?;
    if file.metadata()?.size() == 0 {
        return Ok(());
    }
    watched.mapped.push(map_to_write(&file)?);
    Ok(())
}

fn write_mapped(watched: &mut Watched, dice: &mut Dice) -> std::io::Result<()> {
    let number = dice.below(watched.mapped.len().max(1));
    let Some(mapped) = watched.mapped.get_mut(number) else {
        return Ok(());
    };
    mapped[0] = mapped[0].wrapping_add(1);
    // A page that is written back gets the file a new time when it is written to again.
    mapped.flush()
}

fn history(seed: u8) -> (usize, usize, usize) {
    let mut dice = Dice(TestRng::from_seed(RngAlgorithm::ChaCha, &[seed; 32]));
    let mut watched = Watched::new();
    watched.seal();
    let mut history = Vec::new();
    for _ in 0..CHANGES {
        for _ in 0..dice.below(4) {
            history.push(change(&mut watched, &mut dice));
        }
        match dice.below(24) {
            0 => watched.seal(),
            1..=2 => {
                let paths = watched.paths();
                let some: Vec<_> = (0..5).map(|_| dice.one_of(&paths).clone()).collect();
                watched.seal_again(&some);
            }
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
    println!(
        "{} answers, {} doubts a time, {} changes a time",
        sum.0,
        sum.1 / sum.0,
        sum.2 / sum.0
    );
    // It is of use only where it knows most.
    assert!(sum.0 > histories * CHANGES / 2, "only {} answers", sum.0);
}
