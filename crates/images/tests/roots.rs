//! Images, from layouts to roots on the disk.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use nubrik_images::{
    HeldRoot, ImageAmount, ImageCache, ImageChoice, ImagePlatform, ImageProblem, RootStatement,
    UnpackListener, layout_at,
};
use nubrik_testing::layouts::LayerEntry::{Device, File, Folder, HardLink, Link, Marked, Pipe};
use nubrik_testing::layouts::{ImageLayout, LayerEntry, LayerPacking, sha256, tar_of};

mod common;
use common::listed;

#[derive(Default)]
struct Quiet(AtomicBool);

impl UnpackListener for Quiet {
    fn is_stopped(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

fn choice() -> ImageChoice {
    ImageChoice {
        name: None,
        platform: ImagePlatform::of_machine(),
    }
}

fn state(cache: &ImageCache, layout: &Path) -> Result<RootStatement, ImageProblem> {
    cache.statement(&*layout_at(layout)?, &choice(), &Quiet::default())
}

fn open(cache: &ImageCache, layout: &Path) -> HeldRoot {
    let said = state(cache, layout).unwrap();
    cache
        .root(&said, &Quiet::default(), || {
            Ok((layout_at(layout)?, choice()))
        })
        .unwrap()
}

const BASE: [LayerEntry<'static>; 7] = [
    Folder("./usr/", 0o755),
    Folder("usr/bin", 0o555),
    File("usr/bin/tide", 0o755, b"ebb"),
    HardLink("usr/bin/flood", "usr/bin/tide"),
    Link("bin", "usr/bin"),
    Folder("etc", 0o750),
    File("etc/shadow", 0o600, b"closed"),
];
const OVER: [LayerEntry<'static>; 6] = [
    File("bin/new", 0o711, b"behind a link"),
    HardLink("usr/bin/again", "usr/bin/tide"),
    File("etc/.wh.shadow", 0, b""),
    File("usr/bin/.wh.flood", 0, b""),
    // A program that runs as its owner runs as whoever starts it.
    File("usr/su", 0o4755, b"su"),
    Device("dev/null"),
];

#[test]
fn a_root_is_what_its_layers_say_however_they_are_packed() {
    let folder = tempfile::tempdir().unwrap();
    let mut statements = Vec::new();
    for (number, packing) in [
        LayerPacking::Plain,
        LayerPacking::Gzip,
        LayerPacking::Zstandard,
    ]
    .into_iter()
    .enumerate()
    {
        let layout = folder.path().join(format!("layout{number}"));
        ImageLayout::of(&[&BASE, &OVER], packing).write(&layout);
        // Each in a cache of its own.
        let cache = ImageCache::open(&folder.path().join(format!("cache{number}"))).unwrap();
        let root = open(&cache, &layout);
        assert_eq!(
            listed(root.path()),
            [
                "bin -> usr/bin",
                "etc/ 750",
                "usr/ 755",
                "usr/bin/ 555",
                "usr/bin/again 755 ebb",
                "usr/bin/new 711 behind a link",
                "usr/bin/tide 755 ebb",
                "usr/su 755 su"
            ]
        );
        let found = root.path().join("usr/bin/tide").metadata().unwrap();
        assert_eq!(found.mtime(), 1_000_000_000);
        assert_eq!(
            found.ino(),
            root.path().join("usr/bin/again").metadata().unwrap().ino()
        );
        assert_eq!(
            root.program("tide", &["/nowhere".into(), "/bin".into()])
                .as_deref(),
            Some("/bin/tide")
        );
        assert_eq!(
            root.program("/usr/bin/tide", &[]).as_deref(),
            Some("/usr/bin/tide")
        );
        assert_eq!(root.program("shadow", &["/etc".into()]), None);
        assert_eq!(root.program("bin", &["/usr".into()]), None);
        statements.push(state(&cache, &layout).unwrap());
    }
    assert_eq!(statements[0], statements[1]);
    assert_eq!(statements[0], statements[2]);
    // The same in one layer, and as an archive.
    let whole = tar_of(&[
        Folder("usr", 0o755),
        Folder("usr/bin", 0o555),
        File("usr/bin/tide", 0o755, b"ebb"),
        File("usr/bin/again", 0o755, b"ebb"),
        File("usr/bin/new", 0o711, b"behind a link"),
        File("usr/su", 0o755, b"su"),
        Link("bin", "usr/bin"),
        Folder("etc", 0o750),
    ]);
    let layout = folder.path().join("one");
    ImageLayout {
        layers: vec![(whole, LayerPacking::Gzip)],
        ..ImageLayout::of(&[], LayerPacking::Gzip)
    }
    .write(&layout);
    let archive = folder.path().join("one.tar");
    let mut tar = tar::Builder::new(fs::File::create(&archive).unwrap());
    tar.append_dir_all(".", &layout).unwrap();
    tar.into_inner().unwrap();
    let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
    assert_eq!(state(&cache, &archive).unwrap(), statements[0]);
}

#[test]
fn what_leads_out_or_is_no_file_is_refused_and_nothing_is_left() {
    let cases: [(&[LayerEntry<'_>], &str); 8] = [
        (&[File("../out", 0o644, b"x")], "leads out"),
        (&[File("a/../../out", 0o644, b"x")], "leads out"),
        (&[Device("etc/disk")], "is a device"),
        (&[Pipe("etc/pipe")], "is a pipe"),
        (&[HardLink("a", "../../etc/passwd")], "leads out"),
        (&[HardLink("a", "nothing")], "which is none"),
        (
            &[Link("a", "b"), Link("b", "a"), File("a/x", 0o644, b"")],
            "too many links",
        ),
        (&[File(".wh..wh..opq", 0, b"")], "empties the whole root"),
    ];
    for (number, (entries, why)) in cases.into_iter().enumerate() {
        let folder = tempfile::tempdir().unwrap();
        let (layout, cache) = (folder.path().join("layout"), folder.path().join("cache"));
        ImageLayout::of(&[entries], LayerPacking::Gzip).write(&layout);
        let cache = ImageCache::open(&cache).unwrap();
        let said =
            state(&cache, &layout).map_or_else(|problem| problem.to_string(), |said| said.text());
        assert!(said.contains(why), "{number}: {said}");
        assert_eq!(
            fs::read_dir(folder.path().join("cache/v1/roots"))
                .unwrap()
                .count(),
            0
        );
        assert!(!folder.path().join("out").exists() && !folder.path().join("cache/out").exists());
    }
}

#[test]
fn links_of_an_image_lead_nowhere_on_this_machine() {
    let folder = tempfile::tempdir().unwrap();
    let outside = folder.path().join("outside");
    fs::create_dir(&outside).unwrap();
    let target = outside.display().to_string();
    let layout = folder.path().join("layout");
    ImageLayout::of(
        &[&[Link("way", &target)], &[File("way/planted", 0o644, b"x")]],
        LayerPacking::Plain,
    )
    .write(&layout);
    let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
    let root = open(&cache, &layout);
    // The link is followed in the root, where it leads to a folder of that name.
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 0);
    assert!(
        root.path()
            .join(target.trim_start_matches('/'))
            .join("planted")
            .is_file()
    );
    assert_eq!(root.read("/way/planted", 10).as_deref(), Some(&b"x"[..]));
    assert_eq!(root.read("/../../../etc/passwd", 1 << 20), None);
}

#[test]
fn damage_is_found_and_said() {
    let change = |what: &str, expected: &str, act: &dyn Fn(&Path, &str)| {
        let folder = tempfile::tempdir().unwrap();
        let layout = folder.path().join("layout");
        let digests = ImageLayout::of(&[&BASE], LayerPacking::Gzip).write(&layout);
        act(&layout, &digests[0]["sha256:".len()..]);
        let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
        let said = state(&cache, &layout).unwrap_err().to_string();
        assert!(said.contains(expected), "{what}: {said}");
        assert_eq!(
            fs::read_dir(folder.path().join("cache/v1/layers"))
                .unwrap()
                .count(),
            0,
            "{what}"
        );
    };
    let blob = |layout: &Path, digits: &str| layout.join("blobs/sha256").join(digits);
    change("cut off", "bytes of", &|layout, digits| {
        let bytes = fs::read(blob(layout, digits)).unwrap();
        fs::write(blob(layout, digits), &bytes[..bytes.len() / 2]).unwrap();
    });
    change("another one", "cannot be used", &|layout, digits| {
        let mut bytes = fs::read(blob(layout, digits)).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        fs::write(blob(layout, digits), bytes).unwrap();
    });
    change("missing", "is missing", &|layout, digits| {
        fs::remove_file(blob(layout, digits)).unwrap()
    });
    change("a link", "is missing", &|layout, digits| {
        fs::rename(blob(layout, digits), layout.join("elsewhere")).unwrap();
        std::os::unix::fs::symlink(layout.join("elsewhere"), blob(layout, digits)).unwrap();
    });
    change("no layout", "holds no image", &|layout, _| {
        fs::remove_file(layout.join("oci-layout")).unwrap()
    });
    change("no list", "cannot be understood", &|layout, _| {
        fs::write(layout.join("index.json"), "{").unwrap()
    });
}

#[test]
fn a_layer_that_is_not_what_the_configuration_says_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let layout = folder.path().join("layout");
    ImageLayout::of(&[&BASE], LayerPacking::Plain).write(&layout);
    let other = folder.path().join("other");
    ImageLayout::of(&[&OVER], LayerPacking::Plain).write(&other);
    // A manifest that is whole, whose configuration names the layer of another image.
    let read = |at: &Path| fs::read_to_string(at.join("index.json")).unwrap();
    let blobs = |at: &Path| {
        fs::read_dir(at.join("blobs/sha256"))
            .unwrap()
            .flatten()
            .map(|e| e.path())
            .collect::<Vec<_>>()
    };
    let config = blobs(&layout)
        .into_iter()
        .find(|p| fs::read_to_string(p).is_ok_and(|t| t.contains("rootfs")))
        .unwrap();
    let wrong = blobs(&other)
        .into_iter()
        .find(|p| fs::read_to_string(p).is_ok_and(|t| t.contains("rootfs")))
        .unwrap();
    let manifest = blobs(&layout)
        .into_iter()
        .find(|p| fs::read_to_string(p).is_ok_and(|t| t.starts_with("{\"schema")))
        .unwrap();
    let name = |path: &Path| path.file_name().unwrap().to_str().unwrap().to_owned();
    fs::copy(&wrong, layout.join("blobs/sha256").join(name(&wrong))).unwrap();
    let text = fs::read_to_string(&manifest)
        .unwrap()
        .replace(&name(&config), &name(&wrong));
    let text = text.replace(
        &format!(
            "{}\", \"size\": {}",
            name(&wrong),
            fs::metadata(&config).unwrap().len()
        ),
        &format!(
            "{}\", \"size\": {}",
            name(&wrong),
            fs::metadata(&wrong).unwrap().len()
        ),
    );
    let digest = sha256(text.as_bytes());
    fs::write(
        layout.join("blobs/sha256").join(&digest["sha256:".len()..]),
        &text,
    )
    .unwrap();
    let index = read(&layout).replace(&name(&manifest), &digest["sha256:".len()..]);
    let size = |n: u64| format!("\"size\": {n}}}]");
    let index = index.replace(
        &size(fs::metadata(&manifest).unwrap().len()),
        &size(text.len() as u64),
    );
    fs::write(layout.join("index.json"), index).unwrap();
    let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
    let said = state(&cache, &layout).unwrap_err().to_string();
    assert!(said.contains("its digest is"), "{said}");
}

#[test]
fn a_tar_whose_last_block_is_short_is_whole() {
    let folder = tempfile::tempdir().unwrap();
    let layout = folder.path().join("layout");
    let mut tar = tar_of(&[File("etc/tide", 0o644, b"ebb")]);
    tar.truncate(512 + 3);
    ImageLayout {
        layers: vec![(tar, LayerPacking::Gzip)],
        ..ImageLayout::of(&[], LayerPacking::Gzip)
    }
    .write(&layout);
    let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
    assert_eq!(
        open(&cache, &layout).read("etc/tide", 10).as_deref(),
        Some(&b"ebb"[..])
    );
    // One that ends in the middle of a file is not.
    let layout = folder.path().join("cut");
    let mut tar = tar_of(&[File("etc/tide", 0o644, &[7; 2000])]);
    tar.truncate(512 + 700);
    ImageLayout {
        layers: vec![(tar, LayerPacking::Gzip)],
        ..ImageLayout::of(&[], LayerPacking::Gzip)
    }
    .write(&layout);
    assert!(
        state(&cache, &layout)
            .unwrap_err()
            .to_string()
            .contains("cannot be used")
    );
}

#[test]
fn an_image_of_another_processor_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let layout = folder.path().join("layout");
    ImageLayout {
        architecture: "s390x",
        ..ImageLayout::of(&[&BASE], LayerPacking::Plain)
    }
    .write(&layout);
    let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
    let said = state(&cache, &layout).unwrap_err().to_string();
    assert!(
        said.contains("it is for linux/s390x, not for linux/"),
        "{said}"
    );
}

#[test]
fn variables_are_a_part_of_an_image() {
    let folder = tempfile::tempdir().unwrap();
    let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
    let said = |name: &str, env: &[&str]| {
        let layout = folder.path().join(name);
        ImageLayout {
            env,
            ..ImageLayout::of(&[&BASE], LayerPacking::Plain)
        }
        .write(&layout);
        state(&cache, &layout).unwrap()
    };
    let (one, other) = (
        said("one", &["PATH=/opt/bin"]),
        said("other", &["PATH=/opt/other"]),
    );
    assert_ne!(one, other);
    assert_eq!(one.tree(), other.tree());
    assert_eq!(one.search_path(), ["/opt/bin"]);
}

#[test]
fn a_root_that_is_damaged_or_gone_is_made_again() {
    let folder = tempfile::tempdir().unwrap();
    let layout = folder.path().join("layout");
    ImageLayout::of(&[&BASE], LayerPacking::Gzip).write(&layout);
    let cache_folder = folder.path().join("cache");
    let cache = ImageCache::open(&cache_folder).unwrap();
    let path = open(&cache, &layout).path().to_owned();
    let whole = path.parent().unwrap().join("whole");
    // In another run of the machine all of it is looked at again.
    fs::set_permissions(path.join("usr/bin/tide"), fs::Permissions::from_mode(0o644)).unwrap();
    fs::write(path.join("usr/bin/tide"), "torn").unwrap();
    fs::write(&whole, "another run").unwrap();
    let root = open(&cache, &layout);
    assert_eq!(root.read("usr/bin/tide", 10).as_deref(), Some(&b"ebb"[..]));
    assert_ne!(fs::read_to_string(&whole).unwrap(), "another run");
    // Nobody removes what is in use, or was used lately.
    cache.prune(Duration::ZERO).unwrap();
    assert!(path.join("usr/bin/tide").is_file());
    drop(root);
    cache.prune(Duration::from_secs(3600)).unwrap();
    assert!(path.join("usr/bin/tide").is_file());
    let count = cache.prune(Duration::ZERO).unwrap().files;
    assert!(count >= 2 && !path.exists());
    assert_eq!(cache.amount().unwrap(), ImageAmount::default());
    assert_eq!(
        open(&cache, &layout).read("usr/bin/tide", 10).as_deref(),
        Some(&b"ebb"[..])
    );
    // Contents that somebody removed: the layers are read again.
    let said = state(&cache, &layout).unwrap();
    fs::remove_dir_all(cache_folder.join("v1/files")).unwrap();
    let cache = ImageCache::open(&cache_folder).unwrap();
    fs::rename(cache_folder.join("v1/roots"), cache_folder.join("v1/away")).unwrap();
    fs::create_dir(cache_folder.join("v1/roots")).unwrap();
    let root = cache
        .root(&said, &Quiet::default(), || {
            Ok((layout_at(&layout)?, choice()))
        })
        .unwrap();
    assert_eq!(root.read("usr/bin/tide", 10).as_deref(), Some(&b"ebb"[..]));
}

#[test]
fn what_is_damaged_is_found_and_what_is_old_goes_once_a_day() {
    let folder = tempfile::tempdir().unwrap();
    let layout = folder.path().join("layout");
    ImageLayout::of(&[&BASE], LayerPacking::Gzip).write(&layout);
    let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
    let path = open(&cache, &layout).path().to_owned();
    assert!(cache.verify(&Quiet::default()).unwrap().is_empty());
    fs::set_permissions(path.join("usr/bin"), fs::Permissions::from_mode(0o755)).unwrap();
    fs::remove_file(path.join("usr/bin/tide")).unwrap();
    assert_eq!(
        cache.verify(&Quiet::default()).unwrap(),
        [path.parent().unwrap()]
    );
    assert!(!path.exists());
    // A folder or a link less is another root, too.
    let damages: [fn(&Path); 2] = [
        |root| fs::remove_file(root.join("bin")).unwrap(),
        |root| fs::set_permissions(root.join("usr"), fs::Permissions::from_mode(0o700)).unwrap(),
    ];
    for damage in damages {
        let path = open(&cache, &layout).path().to_owned();
        damage(&path);
        assert_eq!(
            cache.verify(&Quiet::default()).unwrap(),
            [path.parent().unwrap()]
        );
    }
    let path = open(&cache, &layout).path().to_owned();
    cache.look_after(Duration::ZERO).unwrap();
    assert!(!path.exists());
    let path = open(&cache, &layout).path().to_owned();
    // It was looked after today.
    cache.look_after(Duration::ZERO).unwrap();
    assert!(path.exists());
}

#[test]
fn an_image_that_is_another_one_now_is_not_taken() {
    let folder = tempfile::tempdir().unwrap();
    let layout = folder.path().join("layout");
    ImageLayout::of(&[&BASE], LayerPacking::Plain).write(&layout);
    let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
    let said = state(&cache, &layout).unwrap();
    fs::remove_dir_all(&layout).unwrap();
    ImageLayout::of(&[&BASE, &OVER], LayerPacking::Plain).write(&layout);
    let got = cache.root(&said, &Quiet::default(), || {
        Ok((layout_at(&layout)?, choice()))
    });
    assert!(got.err().unwrap().to_string().contains("another one"));
}

#[test]
fn who_is_stopped_leaves_nothing_half_done() {
    let folder = tempfile::tempdir().unwrap();
    let layout = folder.path().join("layout");
    ImageLayout::of(&[&BASE], LayerPacking::Gzip).write(&layout);
    let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
    let stopped = Quiet(AtomicBool::new(true));
    let said = cache.statement(&*layout_at(&layout).unwrap(), &choice(), &stopped);
    assert!(matches!(said, Err(ImageProblem::Stopped)));
    let said = state(&cache, &layout).unwrap();
    let got = cache.root(&said, &stopped, || Ok((layout_at(&layout)?, choice())));
    assert!(matches!(got, Err(ImageProblem::Stopped)));
    assert_eq!(
        fs::read_dir(folder.path().join("cache/v1/roots"))
            .unwrap()
            .count(),
        0
    );
}

#[test]
fn several_make_the_same_root_at_once() {
    let folder = tempfile::tempdir().unwrap();
    let layout = folder.path().join("layout");
    let large = vec![7u8; 3 << 20];
    let names: Vec<String> = (0..300).map(|n| format!("share/{n}")).collect();
    let mut entries: Vec<LayerEntry<'_>> = names
        .iter()
        .map(|name| File(name, 0o644, name.as_bytes()))
        .collect();
    entries.push(File("large", 0o644, &large));
    ImageLayout::of(&[&entries], LayerPacking::Gzip).write(&layout);
    let place = folder.path().join("cache");
    std::thread::scope(|scope| {
        for _ in 0..6 {
            scope.spawn(|| {
                let cache = ImageCache::open(&place).unwrap();
                let root = open(&cache, &layout);
                assert_eq!(
                    fs::read_dir(root.path().join("share")).unwrap().count(),
                    300
                );
                assert_eq!(root.path().join("large").metadata().unwrap().len(), 3 << 20);
            });
        }
    });
    assert_eq!(fs::read_dir(place.join("v1/roots")).unwrap().count(), 1);
    let left = |folder: &str| {
        let names = fs::read_dir(place.join("v1").join(folder))
            .unwrap()
            .flatten();
        names
            .filter(|entry| entry.file_name().to_string_lossy().starts_with('.'))
            .count()
    };
    assert_eq!((left("files"), left("layers")), (0, 0));
}

#[test]
fn holes_stay_holes_and_attributes_of_users_count() {
    let folder = tempfile::tempdir().unwrap();
    let cache = ImageCache::open(&folder.path().join("cache")).unwrap();
    let mut holey = vec![0u8; 8 << 20];
    holey[..5].copy_from_slice(b"begin");
    let end = holey.len() - 3;
    holey[end..].copy_from_slice(b"end");
    let layout = folder.path().join("holes");
    ImageLayout::of(&[&[File("disk", 0o600, &holey)]], LayerPacking::Gzip).write(&layout);
    let root = open(&cache, &layout);
    let found = root.path().join("disk").metadata().unwrap();
    assert_eq!(found.len(), 8 << 20);
    assert!(found.blocks() * 512 < 1 << 20, "{} blocks", found.blocks());
    assert_eq!(fs::read(root.path().join("disk")).unwrap(), holey);
    let said = |name: &str, attribute: &str| {
        let layout = folder.path().join(name);
        ImageLayout::of(&[&[Marked("file", attribute, "ebb")]], LayerPacking::Plain).write(&layout);
        (state(&cache, &layout), layout)
    };
    let (plain, _) = said("labels", "security.capability");
    let (marked, layout) = said("marks", "user.tide");
    match marked {
        Ok(marked) => {
            assert_ne!(marked, plain.unwrap());
            let mut value = [0u8; 8];
            let file = open(&cache, &layout).path().join("file");
            assert_eq!(rustix::fs::getxattr(&file, "user.tide", &mut value), Ok(3));
        }
        // This file system keeps none.
        Err(why) => assert!(matches!(why, ImageProblem::Machine(_)), "{why}"),
    }
}
