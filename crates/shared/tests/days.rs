//! A store over days: results are given, used, pruned and damaged; nobody is ever given anything
//! else than what was made.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use nubrik_bytes::Digest;
use nubrik_shared::{
    Acceptance, HandedOver, KeyList, KeyedResult, LayeredStore, Member, Pruned, Publisher,
    SecretKey, SharedStore, Uploads,
};
use nubrik_store::{Basis, LocalStore, OutputRecord, RecordEntry, Store};
use nubrik_web::{Address, Asker, Objects, TlsFiles};
use proptest::prelude::*;

const DAY: u64 = 86_400;

/// A team with a store in a folder, and one who writes.
struct Team {
    folder: tempfile::TempDir,
    root: SecretKey,
    ci: SecretKey,
    now: u64,
    machines: usize,
}

impl Team {
    fn new() -> Team {
        let (root, ci) = (
            SecretKey::generate().unwrap(),
            SecretKey::generate().unwrap(),
        );
        let team = Team {
            folder: tempfile::tempdir().unwrap(),
            root,
            ci,
            now: 20_000 * DAY,
            machines: 0,
        };
        let member = Member {
            name: "ci".to_owned(),
            key: team.ci.public(),
            channels: Vec::new(),
        };
        let expires = team.now + 3_000 * DAY;
        let list = KeyList {
            sequence: 1,
            expires,
            members: vec![member],
            revoked: Vec::new(),
        };
        team.objects()
            .put(&KeyList::object(), &list.sign(&team.root))
            .unwrap();
        team
    }

    fn store_folder(&self) -> PathBuf {
        self.folder.path().join("store")
    }

    fn objects(&self) -> Objects {
        Objects::new(
            Address::of_folder(&self.store_folder()).unwrap(),
            Asker::Anybody,
            TlsFiles::default(),
        )
    }

    fn shared(&self, machine: &str) -> Arc<SharedStore> {
        let own = self.folder.path().join(machine);
        let accepted = Acceptance {
            root: self.root.public(),
            channels: vec!["main".to_owned()],
            cache: own.join("cache"),
            seen: own.join("seen"),
        };
        Arc::new(SharedStore::new(self.objects(), accepted).at_time(self.now))
    }

    fn local(&self, machine: &str) -> Arc<LocalStore> {
        let folder = self.folder.path().join(machine).join("local");
        fs::create_dir_all(folder.parent().unwrap()).unwrap();
        Arc::new(LocalStore::open(&folder).unwrap())
    }

    fn publisher(&self) -> Publisher {
        Publisher::new(
            SecretKey::parse(&self.ci.to_text()).unwrap(),
            "main".to_owned(),
            None,
        )
    }

    /// Gives results of some keys, and says which other ones were used.
    fn gives(&self, keys: &[u64], used: &[u64]) -> HandedOver {
        let (local, shared) = (self.local("ci"), self.shared("ci"));
        let uploads = Uploads::new(shared.clone(), local.clone());
        let result = |key: &u64| {
            let digest = local.keep_bytes(&content_of(*key)).unwrap();
            let part = local.keep_bytes(b"what it rests on").unwrap();
            let entry = RecordEntry {
                outputs: vec![OutputRecord::File {
                    digest,
                    executable: false,
                }],
                basis: Basis::Noted(vec![part]),
                micros: *key,
                ..RecordEntry::default()
            };
            let folder = format!("made/{}", key % 5);
            (
                named(*key),
                KeyedResult {
                    folder,
                    made_of: Vec::new(),
                    entries: vec![entry],
                },
            )
        };
        let results: Vec<(Digest, KeyedResult)> = keys.iter().map(result).collect();
        let used: Vec<Digest> = used.iter().chain(keys).map(|key| named(*key)).collect();
        self.publisher()
            .publish(&shared, &uploads, &results, &used)
            .unwrap()
    }

    fn prunes(&self, days: u64) -> Pruned {
        self.publisher()
            .prune(&self.shared("ci"), days, Duration::from_secs(2 * DAY))
            .unwrap()
    }

    /// What a new machine is given of a key.
    fn taken(&mut self, key: u64) -> Option<Vec<u8>> {
        self.machines += 1;
        let machine = format!("machine{}", self.machines);
        given_of(
            &LayeredStore::new(self.local(&machine), self.shared(&machine), None),
            key,
        )
    }

    fn mirror_folder(&self) -> PathBuf {
        self.folder.path().join("mirror")
    }

    /// The same of a new machine with a mirror beside it.
    fn taken_by_mirror(&mut self, key: u64) -> Option<Vec<u8>> {
        self.machines += 1;
        let machine = format!("machine{}", self.machines);
        let shared = Arc::into_inner(self.shared(&machine)).unwrap();
        let near = Objects::new(
            Address::of_folder(&self.mirror_folder()).unwrap(),
            Asker::Anybody,
            TlsFiles::default(),
        );
        let shared = Arc::new(shared.with_mirror(near));
        let given = given_of(
            &LayeredStore::new(self.local(&machine), shared.clone(), None),
            key,
        );
        shared.finish_copies(Instant::now() + Duration::from_secs(60));
        given
    }

    fn files(&self, kind: &str) -> Vec<PathBuf> {
        let mut found = Vec::new();
        files_in(&self.store_folder().join("nubrik1").join(kind), &mut found);
        found.sort();
        found
    }
}

/// What a store gives of a key.
fn given_of(store: &LayeredStore, key: u64) -> Option<Vec<u8>> {
    let record = store.record(&named(key))?;
    let OutputRecord::File { digest, executable } = record.entries[0].outputs[0] else {
        return None;
    };
    store.bring(&[(digest, executable)], None);
    store.bytes(&digest)
}

fn files_in(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            files_in(&path, found)
        } else {
            found.push(path)
        }
    }
}

fn named(key: u64) -> Digest {
    Digest::of(&key.to_le_bytes())
}

/// What a step makes: a small file for most keys, a large one that differs little from others for
/// some.
fn content_of(key: u64) -> Vec<u8> {
    if !key.is_multiple_of(3) {
        return format!("the result of {key}").into_bytes();
    }
    let mut state = 7u64;
    let mut bytes: Vec<u8> = (0..40_000u64)
        .flat_map(|_| {
            state = state
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1);
            state.to_le_bytes()
        })
        .collect();
    bytes.splice(1000..1000, key.to_le_bytes());
    bytes
}

#[test]
fn a_month_later_only_what_is_used_is_there() {
    let mut team = Team::new();
    assert_eq!(team.gives(&(0..40).collect::<Vec<_>>(), &[]).results, 40);
    assert_eq!((0..40).filter_map(|key| team.taken(key)).count(), 40);
    // Nothing is given twice, and what is used is said once a day.
    assert_eq!(team.gives(&[3, 4], &[]), HandedOver::default());
    team.now += 40 * DAY;
    assert_eq!(team.gives(&[4, 6], &[7]).results, 0);
    let pruned = team.prunes(30);
    assert_eq!((pruned.kept, pruned.dropped, pruned.removed), (3, 37, 0));
    // Who began before reads by the old head: its objects are there for two days more.
    assert!(team.files("contents").len() > 10);
    assert_eq!((0..40).filter_map(|key| team.taken(key)).count(), 3);
    team.now += 3 * DAY;
    let pruned = team.prunes(30);
    assert_eq!((pruned.kept, pruned.dropped), (3, 0));
    assert!(pruned.removed > 10, "{pruned:?}");
    assert_eq!(team.files("contents").len(), 1);
    for key in [4, 6, 7] {
        assert_eq!(team.taken(key), Some(content_of(key)));
    }
    // What went is given again when it is made again.
    assert_eq!(team.gives(&[9], &[]).results, 1);
    assert_eq!(team.taken(9), Some(content_of(9)));
    assert!(team.shared("desk").verify(&|| false).wrong.is_empty());
}

#[test]
fn what_is_gone_is_asked_for_once_and_given_once_more() {
    let mut team = Team::new();
    team.gives(&(0..30).collect::<Vec<_>>(), &[]);
    let packs = team.files("packs");
    let (small, large) = (packs.len() as u64, team.files("contents").len());
    packs
        .iter()
        .chain(&team.files("contents"))
        .for_each(|file| fs::remove_file(file).unwrap());

    let machine = team.shared("reader");
    let store = LayeredStore::new(team.local("reader"), machine.clone(), None);
    let entries = (0..30)
        .filter_map(|key| store.record(&named(key)))
        .flat_map(|record| record.entries);
    assert_eq!(entries.count(), 30, "the results are known");
    let asked = machine.traffic().requests;
    let digest = |key: u64| Digest::of(&content_of(key));
    let wanted: Vec<(Digest, bool)> = (0..30).map(|key| (digest(key), false)).collect();
    store.bring(&wanted, None);
    assert!((0..30).all(|key| store.bytes(&digest(key)).is_none()));
    assert!(
        machine.traffic().requests - asked <= small + large as u64,
        "no object is asked for twice"
    );

    // Who has them looks, and gives them once more; then nothing more.
    assert_eq!(team.gives(&(0..30).collect::<Vec<_>>(), &[]).results, 30);
    assert_eq!(
        team.gives(&(0..30).collect::<Vec<_>>(), &[]),
        HandedOver::default()
    );
    assert_eq!((0..30).filter_map(|key| team.taken(key)).count(), 30);
}

#[test]
fn a_segment_that_is_gone_is_put_again() {
    let mut team = Team::new();
    team.gives(&[1, 2], &[]);
    for part in team
        .files("segments")
        .iter()
        .chain(&team.files("manifests"))
    {
        fs::remove_file(part).unwrap();
    }
    assert_eq!(team.taken(1), None);
    assert_eq!(team.gives(&[1, 2], &[]), HandedOver::default());
    assert_eq!(team.taken(1), Some(content_of(1)));
}

#[test]
fn who_cannot_read_all_of_a_channel_writes_and_prunes_nothing_of_it() {
    let team = Team::new();
    team.gives(&[1, 2], &[]);
    let _ = fs::remove_dir_all(team.folder.path().join("ci/cache"));
    fs::remove_file(&team.files("segments")[0]).unwrap();
    let (local, shared) = (team.local("ci"), team.shared("ci"));
    let uploads = Uploads::new(shared.clone(), local);
    assert!(
        team.publisher()
            .publish(&shared, &uploads, &[], &[named(8)])
            .is_err()
    );
    assert!(
        team.publisher()
            .prune(&team.shared("ci"), 1, Duration::ZERO)
            .is_err()
    );
}

#[test]
fn ten_thousand_keys_are_known_by_four_requests() {
    let team = Team::new();
    let (local, shared) = (team.local("ci"), team.shared("ci"));
    let digest = local.keep_bytes(b"what all of them make").unwrap();
    let result = |key: u64| {
        let entry = RecordEntry {
            outputs: vec![OutputRecord::File {
                digest,
                executable: false,
            }],
            basis: Basis::Noted(vec![digest]),
            ..RecordEntry::default()
        };
        (
            named(key),
            KeyedResult {
                folder: format!("made/{key}"),
                made_of: Vec::new(),
                entries: vec![entry],
            },
        )
    };
    let results: Vec<(Digest, KeyedResult)> = (0..10_000).map(result).collect();
    let used: Vec<Digest> = results.iter().map(|(key, _)| *key).collect();
    let uploads = Uploads::new(shared.clone(), local);
    team.publisher()
        .publish(&shared, &uploads, &results, &used)
        .unwrap();
    // The list, the head, its manifest, and a segment.
    let reader = team.shared("reader");
    assert_eq!((reader.known().0, reader.traffic().requests), (10_000, 4));
    // Another day only what changes is asked for: the list and the head.
    let again = team.shared("reader");
    assert_eq!((again.known().0, again.traffic().requests), (10_000, 2));
    let bytes = fs::metadata(&team.files("segments")[0]).unwrap().len();
    assert!(bytes < 10_000 * 80, "{bytes}");
}

#[test]
fn what_a_job_needs_is_there_without_a_head_as_long_as_nobody_removes_it() {
    let mut team = Team::new();
    team.gives(&[3], &[]);
    let (boss, hand) = (team.local("boss"), team.local("hand"));
    let contents: Vec<Digest> = [1, 3, 6]
        .map(|key| boss.keep_bytes(&content_of(key)).unwrap())
        .to_vec();
    let rows = team.shared("boss").hand_over(&contents, &boss, 0).unwrap();
    // What a head leads to is not put once more: one small content and a large one are.
    assert_eq!(team.files("jobs").len(), 2);
    let shared = team.shared("hand");
    shared.learn(&rows, &hand);
    let store = LayeredStore::new(hand, shared, None);
    store.bring(
        &contents
            .iter()
            .map(|digest| (*digest, false))
            .collect::<Vec<_>>(),
        None,
    );
    for (key, digest) in [1, 3, 6].iter().zip(&contents) {
        assert_eq!(store.bytes(digest), Some(content_of(*key)));
    }
    // A later build finds what an earlier one heard.
    team.shared("later")
        .learn_for_later(&rows, &team.local("later"));
    let later = LayeredStore::new(team.local("later"), team.shared("later"), None);
    assert_eq!(later.bytes(&contents[0]), Some(content_of(1)));
    // Who heard nothing of them finds none, and nobody does when they are gone.
    let stranger = LayeredStore::new(team.local("stranger"), team.shared("stranger"), None);
    assert_eq!(
        (stranger.bytes(&contents[0]), stranger.bytes(&contents[1])),
        (None, Some(content_of(3)))
    );
    team.files("jobs")
        .iter()
        .for_each(|file| fs::remove_file(file).unwrap());
    let late = team.shared("late");
    late.learn(&rows, &team.local("late"));
    assert_eq!(
        LayeredStore::new(team.local("late"), late, None).bytes(&contents[0]),
        None
    );
    // What is older than a week goes when the store is pruned, and nothing of what heads lead to.
    team.shared("boss").hand_over(&contents, &boss, 0).unwrap();
    for file in team.files("jobs") {
        let put = std::time::UNIX_EPOCH + Duration::from_secs(team.now);
        fs::File::options()
            .append(true)
            .open(file)
            .unwrap()
            .set_modified(put)
            .unwrap();
    }
    assert_eq!((team.prunes(30).removed, team.files("jobs").len()), (0, 2));
    team.now += 8 * DAY;
    assert_eq!((team.prunes(30).removed, team.files("jobs").len()), (2, 0));
    assert_eq!(team.taken(3), Some(content_of(3)));
    // Damaged rows are read as far as they go.
    team.shared("odd")
        .learn(&rows[..rows.len() / 2], &team.local("odd"));
    let lacks = Digest::of(b"nobody has this");
    assert!(team.shared("boss").hand_over(&[lacks], &boss, 0).is_err());
}

#[test]
fn small_contents_go_with_the_job_the_first_time_and_by_the_store_after_that() {
    let team = Team::new();
    let (boss, hand) = (team.local("boss"), team.local("hand"));
    let digest = |key: u64| boss.keep_bytes(&content_of(key)).unwrap();
    let shared = team.shared("boss");
    // A small one goes along, a large one does not, and neither does what would be too much.
    let rows = shared
        .hand_over(&[digest(1), digest(3)], &boss, 1000)
        .unwrap();
    assert_eq!(team.files("jobs").len(), 1);
    let other = shared.hand_over(&[digest(2)], &boss, 5).unwrap();
    assert_eq!(team.files("jobs").len(), 2);
    let there = team.shared("hand");
    there.learn(&rows, &hand);
    there.learn(&other, &hand);
    let asked = there.traffic().requests;
    let store = LayeredStore::new(hand.clone(), there.clone(), None);
    assert_eq!(
        (store.bytes(&digest(1)), there.traffic().requests),
        (Some(content_of(1)), asked)
    );
    // As a program, too, and without a request either.
    store.bring(&[(digest(1), true)], None);
    assert!(hand.is_near(&digest(1), true) && there.traffic().requests == asked);
    assert_eq!(
        (store.bytes(&digest(3)), store.bytes(&digest(2))),
        (Some(content_of(3)), Some(content_of(2)))
    );
    // The second job that wants it says where it is.
    let again = shared.hand_over(&[digest(1)], &boss, 1000).unwrap();
    assert!(team.files("jobs").len() == 3 && again.len() < rows.len());
    // Rows that were cut or changed give nothing else.
    for at in 0..rows.len() {
        let mut damaged = rows.clone();
        damaged[at] ^= 0x11;
        let odd = team.local("odd");
        let shared = team.shared("odd");
        shared.learn(&damaged, &odd);
        shared.learn(&rows[..at], &odd);
        for key in [1, 3] {
            assert!(
                odd.bytes(&digest(key))
                    .is_none_or(|bytes| bytes == content_of(key))
            );
        }
    }
}

#[derive(Clone, Debug)]
enum Act {
    Give(Vec<u64>),
    Use(Vec<u64>),
    Wait(u64),
    Prune(u64),
    /// Something happens to an object: which one, and what.
    Damage(usize, u8),
    /// Somebody takes something by the mirror.
    TakeNear(u64),
    /// Something happens to an object of the mirror.
    DamageMirror(usize, u8),
}

fn act() -> impl Strategy<Value = Act> {
    let keys = || prop::collection::vec(0u64..30, 1..6);
    prop_oneof![
        3 => keys().prop_map(Act::Give),
        2 => keys().prop_map(Act::Use),
        1 => (1u64..40).prop_map(Act::Wait),
        1 => (1u64..30).prop_map(Act::Prune),
        1 => (any::<usize>(), any::<u8>()).prop_map(|(which, how)| Act::Damage(which, how)),
        2 => (0u64..30).prop_map(Act::TakeNear),
        2 => (any::<usize>(), any::<u8>()).prop_map(|(which, how)| Act::DamageMirror(which, how)),
    ]
}

/// Does something to a file.
fn damage(file: &Path, how: u8) {
    let mut bytes = fs::read(file).unwrap();
    match how % 4 {
        0 => fs::remove_file(file).unwrap(),
        1 => fs::write(file, b"").unwrap(),
        2 => fs::write(file, &bytes[..bytes.len() / 2]).unwrap(),
        _ => {
            let at = how as usize % bytes.len().max(1);
            if let Some(byte) = bytes.get_mut(at) {
                *byte ^= 0x20;
            }
            fs::write(file, bytes).unwrap();
        }
    }
}

/// Does something to one of the files in a folder, if there is one.
fn damage_one(folder: &Path, which: usize, how: u8) {
    let mut all = Vec::new();
    files_in(folder, &mut all);
    all.sort();
    if let Some(file) = all.get(which % all.len().max(1)) {
        damage(file, how);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, failure_persistence: None, ..Default::default() })]

    #[test]
    fn whatever_happens_nobody_is_given_anything_else(acts in prop::collection::vec(act(), 1..14)) {
        let mut team = Team::new();
        let mut last_used: BTreeMap<u64, u64> = BTreeMap::new();
        let mut is_damaged = false;
        for act in &acts {
            let today = team.now / DAY;
            match act {
                // Once something is damaged, who writes may not be able to.
                Act::Give(_) | Act::Use(_) | Act::Prune(_) if is_damaged => {}
                Act::Give(keys) => {
                    team.gives(keys, &[]);
                    last_used.extend(keys.iter().map(|key| (*key, today)));
                }
                Act::Use(keys) => {
                    let known: Vec<u64> = keys.iter().filter(|key| last_used.contains_key(key)).copied().collect();
                    team.gives(&[], &known);
                    last_used.extend(known.iter().map(|key| (*key, today)));
                }
                Act::Wait(days) => team.now += days * DAY,
                Act::Prune(days) => {
                    team.prunes(*days);
                    last_used.retain(|_, used| *used + days > today);
                }
                Act::Damage(which, how) => {
                    damage_one(&team.store_folder(), *which, *how);
                    is_damaged = true;
                }
                Act::DamageMirror(which, how) => damage_one(&team.mirror_folder(), *which, *how),
                Act::TakeNear(key) => {
                    if let Some(bytes) = team.taken_by_mirror(*key) {
                        prop_assert_eq!(bytes, content_of(*key));
                    }
                }
            }
        }
        let mut found = BTreeSet::new();
        for key in 0..30 {
            if let Some(bytes) = team.taken(key) {
                prop_assert_eq!(bytes, content_of(key));
                found.insert(key);
            }
            // Whatever happened to the mirror, the store is behind it.
            if key % 4 == 0 {
                let near = team.taken_by_mirror(key);
                prop_assert!(near.is_none() || near == Some(content_of(key)));
                prop_assert!(near.is_some() || !found.contains(&key), "the mirror hides {}", key);
            }
        }
        if !is_damaged {
            prop_assert!(last_used.keys().all(|key| found.contains(key)), "{:?} of {:?}", found, last_used);
        }
    }
}
