//! Roots that commands change, and the layers of their changes.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::fs::{self, Permissions};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use nubrik_images::{
    HeldRoot, ImageCache, ImageChoice, ImagePlatform, ImageResult, ImageSettings, RootCopy,
    UnpackListener, layout_at, make_image,
};
use nubrik_testing::layouts::LayerEntry::{File, Folder};
use nubrik_testing::layouts::{ImageLayout, LayerPacking};
use nubrik_testing::{Need, skip};
use proptest::prelude::*;

mod common;
use common::listed;

/// Places that are a sandbox's.
const WITHOUT: [&str; 2] = ["dev", "var/tmp"];

struct Quiet;

impl UnpackListener for Quiet {
    fn is_stopped(&self) -> bool {
        false
    }
}

fn choice() -> ImageChoice {
    ImageChoice {
        name: None,
        platform: ImagePlatform::of_machine(),
    }
}

struct Place {
    folder: tempfile::TempDir,
    cache: ImageCache,
}

impl Place {
    fn new() -> Place {
        let folder = tempfile::tempdir().unwrap();
        let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
        Place { folder, cache }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn root(&self, image: &Path) -> HeldRoot {
        let said = self
            .cache
            .statement(&*layout_at(image).unwrap(), &choice(), &Quiet)
            .unwrap();
        self.cache
            .root(&said, &Quiet, || Ok((layout_at(image)?, choice())))
            .unwrap()
    }

    /// An image with a folder and two files, and a place where the sandbox has its own.
    fn base(&self) -> PathBuf {
        let layout = self.path("base");
        let entries = [
            Folder("etc", 0o755),
            File("etc/tide", 0o644, b"ebb"),
            File("etc/moon", 0o600, b"full"),
            File("dev/of-image", 0o644, b""),
            File("usr/share/a/b", 0o644, b"b"),
        ];
        ImageLayout::of(&[&entries], LayerPacking::Gzip).write(&layout);
        layout
    }

    fn copy(&self, image: &Path) -> RootCopy {
        self.cache
            .copy(&self.root(image), &WITHOUT, &Quiet)
            .unwrap()
    }

    /// The image with the changes of a copy as one more layer.
    fn image_with(&self, base: &Path, copy: &RootCopy, name: &str) -> PathBuf {
        let (layer, image) = (
            self.path(&format!("{name}.layer")),
            self.path(&format!("{name}.tar")),
        );
        fs::write(&layer, changes(copy).unwrap()).unwrap();
        let mut out = fs::File::create(&image).unwrap();
        let below = layout_at(base).unwrap();
        let packed = self.path(&format!("{name}.gz"));
        make_image(
            Some((&*below, &choice())),
            &choice(),
            (&layer, &packed),
            &ImageSettings::default(),
            &mut out,
        )
        .unwrap();
        image
    }
}

fn changes(copy: &RootCopy) -> ImageResult<Vec<u8>> {
    let mut bytes = Vec::new();
    copy.write_changes(&mut bytes, &Quiet).map(|()| bytes)
}

/// The names in a tar, each with its size.
fn names(bytes: &[u8]) -> Vec<String> {
    let mut tar = tar::Archive::new(bytes);
    let entries = tar.entries().unwrap().map(Result::unwrap);
    entries
        .map(|entry| format!("{} {}", entry.path().unwrap().display(), entry.size()))
        .collect()
}

#[test]
fn a_layer_holds_what_changed_and_nothing_else() {
    let place = Place::new();
    let base = place.base();
    let copy = place.copy(&base);
    let at = |path: &str| copy.root().path().join(path);
    assert_eq!(names(&changes(&copy).unwrap()), [""; 0]);
    // Of what a sandbox has there nothing is a part of it, nor the folder that is there only for
    // that.
    fs::create_dir_all(at("dev/shm")).unwrap();
    fs::create_dir_all(at("var/tmp/x")).unwrap();
    // Written again with the same, and back and forth.
    fs::write(at("etc/tide"), "ebb").unwrap();
    fs::set_permissions(at("etc/moon"), Permissions::from_mode(0o644)).unwrap();
    fs::set_permissions(at("etc/moon"), Permissions::from_mode(0o600)).unwrap();
    assert_eq!(names(&changes(&copy).unwrap()), [""; 0]);
    // The same size, and soon after the copy was made.
    fs::write(at("etc/tide"), "dry").unwrap();
    fs::remove_dir_all(at("usr/share/a")).unwrap();
    fs::write(at("usr/share/a"), "a file now").unwrap();
    fs::remove_file(at("etc/moon")).unwrap();
    fs::create_dir(at("srv")).unwrap();
    let found = changes(&copy).unwrap();
    assert_eq!(
        names(&found),
        ["etc/.wh.moon 0", "etc/tide 3", "srv 0", "usr/share/a 10"]
    );
    // In another copy, at another time.
    let other = place.copy(&base);
    let at = |path: &str| other.root().path().join(path);
    fs::create_dir(at("srv")).unwrap();
    fs::remove_file(at("etc/moon")).unwrap();
    fs::remove_dir_all(at("usr/share/a")).unwrap();
    fs::write(at("usr/share/a"), "a file now").unwrap();
    fs::write(at("etc/tide"), "dry").unwrap();
    assert_eq!(changes(&other).unwrap(), found);
    // What everybody sees is as it was, and of the copies nothing stays.
    assert_eq!(
        fs::read(place.root(&base).path().join("etc/tide")).unwrap(),
        b"ebb"
    );
    let folder = other.root().path().to_owned();
    drop((copy, other));
    assert!(!folder.exists());
    let roots = fs::read_dir(place.path("cache/v1/roots")).unwrap();
    assert_eq!(roots.count(), 1);
}

#[test]
fn what_no_layer_can_hold_is_refused() {
    let place = Place::new();
    let base = place.base();
    let refusal = |make: &dyn Fn(&Path)| {
        let copy = place.copy(&base);
        make(copy.root().path());
        changes(&copy).unwrap_err().to_string()
    };
    let pipe = refusal(&|root| {
        rustix::fs::mkfifoat(
            rustix::fs::CWD,
            root.join("etc/pipe"),
            rustix::fs::Mode::RWXU,
        )
        .unwrap();
    });
    assert_eq!(
        pipe,
        "the commands left /etc/pipe, which is a pipe: no layer holds one"
    );
    // Where no socket can be made, none can be left.
    let folder = tempfile::tempdir().unwrap();
    if std::os::unix::net::UnixListener::bind(folder.path().join("s")).is_ok() {
        let socket =
            refusal(&|root| drop(std::os::unix::net::UnixListener::bind(root.join("s")).unwrap()));
        assert_eq!(
            socket,
            "the commands left /s, which is a socket: no layer holds one"
        );
    } else {
        skip(Need::Confinement, "no socket can be made here");
    }
    let marked = refusal(&|root| fs::write(root.join("etc/.wh.tide"), "").unwrap());
    assert!(
        marked.starts_with("the commands left /etc/.wh.tide: in a layer"),
        "{marked}"
    );
}

#[test]
fn what_nobody_may_read_is_packed_with_its_permissions() {
    let place = Place::new();
    let base = place.base();
    let copy = place.copy(&base);
    let at = |path: &str| copy.root().path().join(path);
    fs::write(at("closed"), "secret").unwrap();
    fs::hard_link(at("closed"), at("same")).unwrap();
    fs::create_dir(at("shut")).unwrap();
    fs::write(at("shut/in"), "in").unwrap();
    for path in ["closed", "shut"] {
        fs::set_permissions(at(path), Permissions::from_mode(0o000)).unwrap();
    }
    let bytes = changes(&copy).unwrap();
    let mut tar = tar::Archive::new(bytes.as_slice());
    let modes = tar.entries().unwrap().map(|entry| {
        let entry = entry.unwrap();
        format!(
            "{} {:o}",
            entry.path().unwrap().display(),
            entry.header().mode().unwrap()
        )
    });
    assert_eq!(
        modes.collect::<Vec<_>>(),
        ["closed 0", "same 0", "shut 0", "shut/in 644"]
    );
}

/// Something that a command does in a root.
#[derive(Clone, Debug)]
enum Deed {
    Write(usize, u8),
    Folder(usize),
    Link(usize, usize),
    Remove(usize),
    Mode(usize, u32),
    Rename(usize, usize),
}

/// Paths in each other, and names that lie between others in the order of bytes.
const PATHS: [&str; 9] = [
    "a", "a-b", "a/b", "a/b/c", "a/b-c", "a/b/c/d", "e", "e/.f", "etc/tide",
];

fn deed() -> impl Strategy<Value = Deed> {
    let path = 0..PATHS.len();
    prop_oneof![
        (path.clone(), 0..3u8).prop_map(|(at, content)| Deed::Write(at, content)),
        path.clone().prop_map(Deed::Folder),
        (path.clone(), path.clone()).prop_map(|(at, to)| Deed::Link(at, to)),
        path.clone().prop_map(Deed::Remove),
        (
            path.clone(),
            prop_oneof![Just(0o755), Just(0o700), Just(0o744)]
        )
            .prop_map(|(at, mode)| Deed::Mode(at, mode)),
        (path.clone(), path).prop_map(|(from, to)| Deed::Rename(from, to)),
    ]
}

/// What cannot be done is not: a path may be below a file.
fn act(root: &Path, deed: &Deed) {
    // A link may lead out of the root here, where it is no root.
    let at = |path: &usize| {
        let path = root.join(PATHS[*path]);
        let is_inside = path
            .parent()
            .unwrap()
            .canonicalize()
            .is_ok_and(|folder| folder.starts_with(root));
        is_inside.then_some(path)
    };
    let _ = (|| match deed {
        Deed::Write(path, content) => {
            let path = at(path)?;
            let is_file = path
                .symlink_metadata()
                .map_or(true, |found| found.is_file());
            is_file.then(|| fs::write(path, [*content]).ok()).flatten()
        }
        Deed::Folder(path) => fs::create_dir(at(path)?).ok(),
        Deed::Link(path, to) => symlink(PATHS[*to], at(path)?).ok(),
        Deed::Remove(path) => {
            let path = at(path)?;
            fs::remove_file(&path)
                .or_else(|_| fs::remove_dir_all(&path))
                .ok()
        }
        Deed::Mode(path, mode) => {
            let path = at(path)?;
            let is_link = path.is_symlink();
            (!is_link)
                .then(|| fs::set_permissions(path, Permissions::from_mode(*mode)).ok())
                .flatten()
        }
        Deed::Rename(from, to) => fs::rename(at(from)?, at(to)?).ok(),
    })();
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn an_image_with_the_layer_is_what_the_commands_left(
        first in proptest::collection::vec(deed(), 0..12),
        then in proptest::collection::vec(deed(), 0..12),
    ) {
        let place = Place::new();
        let mut image = place.base();
        for (name, deeds) in [("first", first), ("then", then)] {
            let copy = place.copy(&image);
            deeds.iter().for_each(|deed| act(copy.root().path(), deed));
            image = place.image_with(&image, &copy, name);
            let left = listed(copy.root().path());
            let mut made = listed(place.root(&image).path());
            made.retain(|line| !line.starts_with("dev/"));
            prop_assert_eq!(made, left);
        }
    }
}
