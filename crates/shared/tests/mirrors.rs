//! A mirror in front of a store: what it has does not come from far away, what it lacks is copied
//! there, and nothing of it is believed that the store would not be believed.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use nubrik_bytes::Digest;
use nubrik_shared::{
    Acceptance, KeyList, KeyedResult, LayeredStore, Member, Publisher, SecretKey, SharedStore,
    Uploads,
};
use nubrik_store::{Basis, LocalStore, OutputRecord, RecordEntry, Store};
use nubrik_web::{Address, Asker, Objects, TlsFiles};

/// Two sites: a store in one, a mirror of it in the other.
struct Sites {
    folder: tempfile::TempDir,
    root: SecretKey,
    writer: SecretKey,
}

fn objects(folder: &Path) -> Objects {
    Objects::new(
        Address::of_folder(folder).unwrap(),
        Asker::Anybody,
        TlsFiles::default(),
    )
}

/// Contents that no compression makes small: one for a pack, one that is an object of its own, and
/// one in a pack that is not fetched as a whole.
fn content_of(name: &str) -> Vec<u8> {
    let length = match name {
        "large" => 400_000,
        "small" => 900,
        _ => 200_000,
    };
    let mut state = Digest::of(name.as_bytes());
    let mut bytes = Vec::new();
    while bytes.len() < length {
        state = Digest::of(&state.0);
        bytes.extend(state.0);
    }
    bytes
}

const NAMES: [&str; 9] = ["large", "small", "a", "b", "c", "d", "e", "f", "g"];

impl Sites {
    /// A store with a result of each name.
    fn new() -> Sites {
        let (root, writer) = (
            SecretKey::generate().unwrap(),
            SecretKey::generate().unwrap(),
        );
        let sites = Sites {
            folder: tempfile::tempdir().unwrap(),
            root,
            writer,
        };
        let member = Member {
            name: "ci".to_owned(),
            key: sites.writer.public(),
            channels: Vec::new(),
        };
        let list = KeyList {
            sequence: 1,
            expires: u64::MAX,
            members: vec![member],
            revoked: Vec::new(),
        };
        objects(&sites.store())
            .put(&KeyList::object(), &list.sign(&sites.root))
            .unwrap();
        sites.give(&NAMES);
        sites
    }

    fn store(&self) -> PathBuf {
        self.folder.path().join("store")
    }

    fn mirror(&self) -> PathBuf {
        self.folder.path().join("mirror")
    }

    fn local(&self, machine: &str) -> Arc<LocalStore> {
        let folder = self.folder.path().join(machine).join("local");
        fs::create_dir_all(folder.parent().unwrap()).unwrap();
        Arc::new(LocalStore::open(&folder).unwrap())
    }

    /// What a machine knows of the store, asked at an address.
    fn shared_at(&self, machine: &str, store: Objects) -> SharedStore {
        let own = self.folder.path().join(machine);
        let accepted = Acceptance {
            root: self.root.public(),
            channels: vec!["main".to_owned()],
            cache: own.join("cache"),
            seen: own.join("seen"),
        };
        SharedStore::new(store, accepted)
    }

    /// The same with the mirror.
    fn near(&self, machine: &str) -> SharedStore {
        self.shared_at(machine, objects(&self.store()))
            .with_mirror(objects(&self.mirror()))
    }

    /// Gives results of some names.
    fn give(&self, names: &[&str]) {
        let local = self.local("ci");
        let shared = Arc::new(self.shared_at("ci", objects(&self.store())));
        let uploads = Uploads::new(shared.clone(), local.clone());
        let result = |name: &&str| {
            let digest = local.keep_bytes(&content_of(name)).unwrap();
            let entry = RecordEntry {
                outputs: vec![OutputRecord::File {
                    digest,
                    executable: false,
                }],
                basis: Basis::Noted(vec![digest]),
                ..RecordEntry::default()
            };
            let result = KeyedResult {
                folder: (*name).to_owned(),
                made_of: Vec::new(),
                entries: vec![entry],
            };
            (Digest::of(name.as_bytes()), result)
        };
        let results: Vec<(Digest, KeyedResult)> = names.iter().map(result).collect();
        let key = SecretKey::parse(&self.writer.to_text()).unwrap();
        Publisher::new(key, "main".to_owned(), None)
            .publish(&shared, &uploads, &results, &[])
            .unwrap();
    }

    /// Which of all names a machine is given, by what it knows of the store; all that it is given
    /// is right.
    fn given(&self, machine: &str, shared: SharedStore) -> (Vec<&'static str>, Arc<SharedStore>) {
        let shared = Arc::new(shared);
        let store = LayeredStore::new(self.local(machine), shared.clone(), None);
        let is_given = |name: &&'static str| {
            let Some(record) = store.record(&Digest::of(name.as_bytes())) else {
                return false;
            };
            let OutputRecord::File { digest, .. } = record.entries[0].outputs[0] else {
                return false;
            };
            let Some(bytes) = store.bytes(&digest) else {
                return false;
            };
            assert!(bytes == content_of(name), "{name}");
            true
        };
        let given = NAMES.into_iter().filter(is_given).collect();
        shared.finish_copies(Instant::now() + Duration::from_secs(60));
        (given, shared)
    }
}

/// How many results a machine knows of, when all that it copies to its mirror is there.
fn known(shared: &SharedStore) -> usize {
    let known = shared.known().0;
    shared.finish_copies(Instant::now() + Duration::from_secs(60));
    known
}

/// All files in a folder.
fn files(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            found.extend(files(&path))
        } else {
            found.push(path)
        }
    }
    found.sort();
    found
}

#[test]
fn the_first_of_a_site_fills_its_mirror_and_the_second_takes_from_there() {
    let sites = Sites::new();
    let (given, first) = sites.given("first", sites.near("first"));
    assert_eq!(given, NAMES);
    let traffic = first.traffic();
    // All but the list of members and the head.
    let (copied, moved) = (traffic.mirror.copied, traffic.moved);
    assert!(
        copied < moved && moved < copied + 2000 && traffic.mirror.moved == 0,
        "{traffic:?}"
    );

    let (given, second) = sites.given("second", sites.near("second"));
    assert_eq!(given, NAMES);
    let traffic = second.traffic();
    let of_store = traffic.moved - traffic.mirror.moved;
    // Of the store there are the list of members and the head: these say what is new.
    assert!(of_store < 2000, "{traffic:?}");
    assert!(
        traffic.mirror.copied <= of_store,
        "at most what was signed: {traffic:?}"
    );
    assert_eq!(traffic.requests - traffic.mirror.requests, 2);
    assert_eq!(second.mirror_place().unwrap().1, None);
    // What is new in the store is seen at once.
    assert_eq!(known(&second), NAMES.len());
    sites.give(&["h"]);
    assert_eq!(known(&sites.near("second")), NAMES.len() + 1);
}

#[test]
fn what_a_mirror_lost_or_damaged_comes_from_the_store_and_is_copied_again() {
    let sites = Sites::new();
    sites.given("first", sites.near("first"));
    let copied = files(&sites.mirror());
    for (number, file) in copied.iter().enumerate() {
        let mut bytes = fs::read(file).unwrap();
        match number % 3 {
            0 => fs::remove_file(file).unwrap(),
            1 => fs::write(file, &bytes[..bytes.len() / 2]).unwrap(),
            _ => {
                let middle = bytes.len() / 2;
                bytes[middle] ^= 1;
                fs::write(file, bytes).unwrap();
            }
        }
    }
    let (given, again) = sites.given("second", sites.near("second"));
    assert_eq!(given, NAMES);
    assert!(
        again
            .mirror_place()
            .unwrap()
            .1
            .unwrap()
            .contains("is not that")
    );
    assert_eq!(again.trouble(), None, "nothing is wrong with the store");
    // Who comes next finds all of it there, and right.
    let (given, third) = sites.given("third", sites.near("third"));
    let traffic = third.traffic();
    assert!(
        given.len() == NAMES.len() && traffic.mirror.copied < 2000,
        "{traffic:?}"
    );
    assert_eq!(third.mirror_place().unwrap().1, None);
}

#[test]
fn a_mirror_gives_what_it_has_where_the_store_cannot_be_reached() {
    let sites = Sites::new();
    sites.given("first", sites.near("first"));
    // Nobody listens at this port.
    let nobody = || {
        let free = std::net::TcpListener::bind("127.0.0.1:0")
            .unwrap()
            .local_addr()
            .unwrap();
        let address = Address::parse(&format!("http://{free}/team")).unwrap().0;
        Objects::new(address, Asker::Anybody, TlsFiles::default())
    };
    let cut_off = |machine: &str| {
        sites
            .shared_at(machine, nobody())
            .with_mirror(objects(&sites.mirror()))
    };
    let (given, alone) = sites.given("new", cut_off("new"));
    assert_eq!(given, NAMES, "a machine that never saw the store");
    assert!(
        alone.trouble().is_some(),
        "it is said that the store cannot be reached"
    );
    assert!(
        sites
            .given("without", sites.shared_at("without", nobody()))
            .0
            .is_empty()
    );

    // Heads and lists of a mirror are signed, and no older than what was seen.
    sites.give(&["h"]);
    assert_eq!(known(&sites.near("seen")), NAMES.len() + 1);
    let signed = |folder: &Path| -> Vec<PathBuf> {
        let is_named = |file: &PathBuf| file.components().any(|part| part.as_os_str() == "heads");
        files(folder).into_iter().filter(is_named).collect()
    };
    let old = sites.mirror().join("old");
    let heads = signed(&sites.mirror());
    assert_eq!(heads.len(), 1);
    fs::copy(&heads[0], &old).unwrap();
    sites.give(&["i"]);
    let (_, newest) = sites.given("seen", sites.near("seen"));
    assert_eq!(known(&newest), NAMES.len() + 2);
    fs::copy(&old, &heads[0]).unwrap();
    fs::remove_dir_all(sites.folder.path().join("seen/cache/signed")).unwrap();
    assert_eq!(
        known(&sites.given("seen", cut_off("seen")).1),
        0,
        "an older head is not believed"
    );
    let mut forged = fs::read(&old).unwrap();
    forged[20] ^= 1;
    fs::write(&heads[0], forged).unwrap();
    assert_eq!(
        known(&sites.given("other", cut_off("other")).1),
        0,
        "a damaged head is not believed"
    );
}

#[test]
fn a_mirror_that_takes_nothing_is_of_use_for_what_it_has() {
    let sites = Sites::new();
    sites.given("first", sites.near("first"));
    let packs = sites.mirror().join("nubrik1/packs");
    fs::remove_dir_all(&packs).unwrap();
    fs::write(
        &packs,
        "a file in place of a folder: nothing can be put here",
    )
    .unwrap();
    let (given, second) = sites.given("second", sites.near("second"));
    assert_eq!(given, NAMES);
    assert!(second.mirror_place().unwrap().1.is_some());
    let traffic = second.traffic();
    assert!(
        traffic.mirror.moved > 400_000,
        "the large content is of the mirror: {traffic:?}"
    );

    // One that is for readers only is no trouble at all.
    let locked = sites.folder.path().join("locked");
    fs::create_dir(&locked).unwrap();
    fs::set_permissions(&locked, fs::Permissions::from_mode(0o555)).unwrap();
    if fs::create_dir(locked.join("try")).is_err() {
        let near = sites
            .shared_at("third", objects(&sites.store()))
            .with_mirror(objects(&locked));
        let (given, third) = sites.given("third", near);
        assert_eq!(
            (given.len(), third.mirror_place().unwrap().1),
            (NAMES.len(), None)
        );
    }
}

#[test]
fn a_mirror_that_hangs_is_waited_for_once_and_left_alone_for_a_while() {
    let sites = Sites::new();
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let place = format!("http://{}/copy", silent.local_addr().unwrap());
    let hanging = || {
        Objects::new(
            Address::parse(&place).unwrap().0,
            Asker::Anybody,
            TlsFiles::default(),
        )
    };
    let near = || {
        sites
            .shared_at("desk", objects(&sites.store()))
            .with_mirror(hanging())
    };
    let (given, first) = sites.given("desk", near());
    assert_eq!(given, NAMES);
    let (_, trouble) = first.mirror_place().unwrap();
    assert!(trouble.unwrap().contains("said nothing"));
    // The next build does not ask it, and says why.
    let (_, again) = sites.given("desk", near());
    assert_eq!(again.traffic().mirror.requests, 0);
    assert!(
        again
            .mirror_place()
            .unwrap()
            .1
            .unwrap()
            .contains("builds ask it again in")
    );
    // Who looks at the shared cache asks it.
    let asked = near().asked_anew();
    asked.known();
    fs::remove_dir_all(sites.folder.path().join("desk/cache/segments")).unwrap();
    let asked = near().asked_anew();
    asked.known();
    assert!(asked.traffic().mirror.requests > 0);
}

#[test]
fn a_writer_gives_its_mirror_a_copy_and_the_store_alone_is_examined() {
    let sites = Sites::new();
    let (local, shared) = (sites.local("site"), Arc::new(sites.near("site")));
    let uploads = Uploads::new(shared.clone(), local.clone());
    let digest = local.keep_bytes(&content_of("large, too")).unwrap();
    let entry = RecordEntry {
        outputs: vec![OutputRecord::File {
            digest,
            executable: false,
        }],
        basis: Basis::Noted(vec![digest]),
        ..RecordEntry::default()
    };
    let result = KeyedResult {
        folder: "large".to_owned(),
        made_of: Vec::new(),
        entries: vec![entry],
    };
    let key = SecretKey::parse(&sites.writer.to_text()).unwrap();
    let writer = Publisher::new(key, "main".to_owned(), None);
    writer
        .publish(
            &shared,
            &uploads,
            &[(Digest::of(b"large, too"), result)],
            &[],
        )
        .unwrap();
    shared.finish_copies(Instant::now() + Duration::from_secs(60));
    let (given, reader) = sites.given("reader", sites.near("reader"));
    assert_eq!(given, NAMES);
    assert!(reader.traffic().mirror.moved > 0);

    // A mirror hides nothing that the store lost from who examines it.
    sites.given("reader", sites.near("reader"));
    let lost = files(&sites.store().join("nubrik1/contents"));
    lost.iter().for_each(|file| fs::remove_file(file).unwrap());
    assert!(
        !sites
            .near("examiner")
            .without_mirror()
            .verify(&|| false)
            .wrong
            .is_empty()
    );
}
