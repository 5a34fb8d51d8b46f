//! What is loaded is what all additions resulted in, and damage is forgotten and never believed:
//! for what is kept in journals.

use std::collections::BTreeMap;
use std::fs;

use nubrik_disk::Signature;
use nubrik_engine::{Changes, FileEntry, State};
use proptest::prelude::*;

use super::*;

/// Heights of tides by place.
#[derive(Clone, PartialEq, Debug, Default)]
struct Tides(BTreeMap<String, u32>);

impl Kept for Tides {
    type News = (String, u32);
    const MAGIC: Magic = *b"tides  1";

    fn log_limit(_: u64) -> u64 {
        256
    }

    fn decode(file: FileBytes) -> Result<Tides, Truncated> {
        let bytes = (*file).as_ref();
        let frame = Frame::of(Tides::MAGIC, bytes)?;
        let entries = Decoder::new(&bytes[frame.head])
            .list(|from| Ok((from.text()?.to_owned(), from.u32()?)))?;
        Ok(Tides(entries.into_iter().collect()))
    }

    fn encode(&self) -> Vec<u8> {
        let mut out = Frame::begin(Tides::MAGIC);
        let entries: Vec<(&String, &u32)> = self.0.iter().collect();
        out.list(&entries, |out, (name, height)| {
            out.text(name);
            out.u32(**height);
        });
        Frame::end(out)
    }

    fn take(&mut self, (name, height): (String, u32)) {
        self.0.insert(name, height);
    }

    fn encode_news((name, height): &(String, u32)) -> Vec<u8> {
        let mut out = Encoder::new();
        out.text(name);
        out.u32(*height);
        out.bytes
    }

    fn decode_news(bytes: &[u8]) -> Result<(String, u32), Truncated> {
        let mut from = Decoder::new(bytes);
        Ok((from.text()?.to_owned(), from.u32()?))
    }
}

fn folder() -> (tempfile::TempDir, Below) {
    let folder = tempfile::tempdir().unwrap();
    let below = Below::new(folder.path()).unwrap();
    (folder, below)
}

fn place(number: u8) -> String {
    format!("inlet {number}")
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 64, ..Default::default() })]

    #[test]
    fn what_is_loaded_is_what_was_added(news in prop::collection::vec((0u8..9, any::<u32>(), any::<bool>()), 1..40)) {
        let (_folder, own) = folder();
        let mut known = Tides::default();
        let mut journal = Journal::from(Tides::default());
        for (number, height, reload) in news {
            known.take((place(number), height));
            journal.add(&own, "tides", (place(number), height)).unwrap();
            if reload {
                journal = Journal::load(&own, "tides").unwrap();
            }
            prop_assert_eq!(&*journal, &known);
            let loaded: Journal<Tides> = Journal::load(&own, "tides").unwrap();
            prop_assert_eq!(&*loaded, &known);
        }
    }
}

/// What is loaded after each single damage to each byte of both files, and after each cut of them;
/// and whether more can be added then.
fn damaged<T: Kept>(
    path: &str,
    journal: &mut Journal<T>,
    own: &Below,
    root: &std::path::Path,
    hear: impl Fn(Option<&T>),
) {
    for file in [path.to_owned(), log_of(path)] {
        let file = root.join(file);
        let whole = fs::read(&file).unwrap();
        for at in 0..whole.len() {
            let mut bytes = whole.clone();
            bytes[at] ^= 0x41;
            for bytes in [&bytes[..], &whole[..at]] {
                fs::write(&file, bytes).unwrap();
                hear(Journal::<T>::load(own, path).as_deref());
            }
        }
        fs::write(&file, whole).unwrap();
    }
    // Who holds it goes on as though nothing had happened, and leaves whole files behind.
    fs::write(root.join(log_of(path)), b"nblog  1 of something else").unwrap();
    journal.write(own, path).unwrap();
    hear(Journal::<T>::load(own, path).as_deref());
}

#[test]
fn damage_of_a_journal_is_forgotten() {
    let (folder, own) = folder();
    let mut journal = Journal::from(Tides::default());
    let mut stages = Vec::new();
    for height in [3, 5, 8] {
        journal
            .add(&own, "tides", (place(height), u32::from(height)))
            .unwrap();
        stages.push(journal.value.clone());
    }
    damaged("tides", &mut journal, &own, folder.path(), |loaded| {
        assert!(
            loaded.is_none_or(|loaded| stages.contains(loaded)),
            "{loaded:?}"
        );
    });
}

#[test]
fn what_another_has_added_meanwhile_is_not_believed() {
    let (_folder, own) = folder();
    let mut one = Journal::from(Tides::default());
    one.add(&own, "tides", (place(1), 1)).unwrap();
    let mut other: Journal<Tides> = Journal::load(&own, "tides").unwrap();
    other.add(&own, "tides", (place(2), 2)).unwrap();
    // The log is longer than `one` knows: it writes what it knows as a whole.
    one.add(&own, "tides", (place(3), 3)).unwrap();
    let loaded: Journal<Tides> = Journal::load(&own, "tides").unwrap();
    assert_eq!(*loaded, *one);
    // The file is another one than `other` knows.
    other.add(&own, "tides", (place(4), 4)).unwrap();
    let loaded: Journal<Tides> = Journal::load(&own, "tides").unwrap();
    assert_eq!(*loaded, *other);
}

fn entry(number: u64) -> FileEntry {
    let signature = Signature {
        size: number,
        changed: number as i64 + 5,
        touched: 6,
        inode: number + 7,
        mode: 0o100_644,
    };
    FileEntry {
        signature,
        digest: Digest::of(&[number as u8]),
        young: number.is_multiple_of(3),
    }
}

/// What one build adds: files by their names' numbers, or what is forgotten of them.
fn changes(builds: u64, files: &[(u8, Option<u64>)]) -> Changes {
    let files: Vec<(Arc<str>, Option<FileEntry>)> = files
        .iter()
        .map(|(name, value)| (format!("f{name}").into(), value.map(entry)))
        .collect();
    let published = files.iter().filter(|(_, entry)| entry.is_some());
    let published = published
        .map(|(name, entry)| (name.clone(), entry.map(|e| (e.digest, vec![e.signature]))))
        .collect();
    Changes {
        builds,
        files,
        published,
        ..Changes::default()
    }
}

#[test]
fn damage_of_a_state_is_forgotten() {
    let (folder, own) = folder();
    let mut state = Journal::from(State::default());
    let mut stages = vec![State::default()];
    let all: [&[(u8, Option<u64>)]; 3] = [
        &[(0, Some(1)), (1, Some(2)), (2, Some(3))],
        &[(0, Some(9)), (1, None)],
        &[(1, Some(4))],
    ];
    for (build, files) in (1..).zip(all) {
        state.add(&own, "state", changes(build, files)).unwrap();
        stages.push(State::decode(Arc::new(state.encode())).unwrap());
    }
    assert!(folder.path().join("state.log").exists());
    damaged(
        "state",
        &mut state,
        &own,
        folder.path(),
        |loaded: Option<&State>| {
            let Some(loaded) = loaded else { return };
            // A damaged record is one that is not there; all others are those of one moment.
            let is_of = |stage: &State| {
                stage.builds == loaded.builds
                    && (0..3).all(|n| {
                        let name = format!("f{n}");
                        [None, stage.files.get(&name)].contains(&loaded.files.get(&name))
                            && [None, stage.published.get(&name)]
                                .contains(&loaded.published.get(&name))
                    })
            };
            assert!(stages.iter().any(is_of), "{loaded:?}");
        },
    );
}
