//! Archives hold what was packed, are the same bytes each time, and never unpack outside.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use nubrik_archive::{Item, ItemContent, pack, unpack};
use nubrik_graph::ArchiveFormat;

fn items(folder: &Path) -> Vec<Item> {
    fs::write(folder.join("tides.txt"), "high and low\n".repeat(1000)).unwrap();
    fs::write(folder.join("empty"), "").unwrap();
    fs::write(folder.join("run"), "#!/bin/sh\n").unwrap();
    fs::set_permissions(folder.join("run"), fs::Permissions::from_mode(0o700)).unwrap();
    let item = |name: &str, file: &str| Item {
        name: name.into(),
        content: ItemContent::File(folder.join(file)),
    };
    vec![
        item("almanac/bin/run", "run"),
        item("almanac/tides.txt", "tides.txt"),
        item("almanac/a name with spaces", "empty"),
        item(&format!("almanac/{}/deep", "long".repeat(50)), "empty"),
    ]
}

#[test]
fn what_was_packed_comes_back() {
    for (name, format) in ArchiveFormat::ALL {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        let mut items = items(at);
        pack(format, items.clone(), &at.join("one")).unwrap();
        items.reverse();
        pack(format, items, &at.join("two")).unwrap();
        assert_eq!(
            fs::read(at.join("one")).unwrap(),
            fs::read(at.join("two")).unwrap(),
            "{name}"
        );
        let to = at.join("out");
        fs::create_dir(&to).unwrap();
        unpack(format, &at.join("one"), &to, 1).unwrap();
        assert_eq!(
            fs::read(to.join("tides.txt")).unwrap(),
            fs::read(at.join("tides.txt")).unwrap(),
            "{name}"
        );
        assert_eq!(
            fs::read(to.join("a name with spaces")).unwrap(),
            b"",
            "{name}"
        );
        let mode = fs::metadata(to.join("bin/run"))
            .unwrap()
            .permissions()
            .mode();
        assert_ne!(mode & 0o100, 0, "{name}: what may be executed stays so");
        let mode = fs::metadata(to.join("tides.txt"))
            .unwrap()
            .permissions()
            .mode();
        assert_eq!(mode & 0o111, 0, "{name}");
    }
}

#[test]
fn names_that_lead_out_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let mut header = tar::Header::new_gnu();
    header.set_size(1);
    header.set_mode(0o644);
    header.as_gnu_mut().unwrap().name[..7].copy_from_slice(b"../evil");
    header.set_cksum();
    let mut builder = tar::Builder::new(fs::File::create(at.join("evil.tar")).unwrap());
    builder.append(&header, &b"x"[..]).unwrap();
    builder.finish().unwrap();
    fs::create_dir(at.join("out")).unwrap();
    let refused = unpack(ArchiveFormat::Tar, &at.join("evil.tar"), &at.join("out"), 0).unwrap_err();
    assert!(refused.to_string().contains("leads out"), "{refused}");
    assert!(!at.join("evil").exists());
}

#[test]
fn damage_is_an_error() {
    for (name, format) in ArchiveFormat::ALL {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        fs::write(
            at.join("junk"),
            [b"\x1f\x8bPK".as_slice(), &[0x5a; 2000]].concat(),
        )
        .unwrap();
        fs::create_dir(at.join("out")).unwrap();
        assert!(
            unpack(format, &at.join("junk"), &at.join("out"), 0).is_err(),
            "{name}"
        );
    }
}

/// A tar file with a file `lib/real` of five bytes and links behind it: name and target.
fn with_links(at: &Path, links: &[(&str, &str)]) -> std::io::Result<()> {
    let mut builder = tar::Builder::new(fs::File::create(at.join("links.tar")).unwrap());
    let mut header = tar::Header::new_gnu();
    header.set_size(5);
    header.set_mode(0o755);
    builder
        .append_data(&mut header, "lib/real", &b"tides"[..])
        .unwrap();
    for (name, target) in links {
        let mut link = tar::Header::new_gnu();
        link.set_entry_type(tar::EntryType::Symlink);
        link.set_size(0);
        builder.append_link(&mut link, name, target).unwrap();
    }
    builder.finish().unwrap();
    fs::create_dir(at.join("out")).unwrap();
    unpack(
        ArchiveFormat::Tar,
        &at.join("links.tar"),
        &at.join("out"),
        0,
    )
}

#[test]
fn links_become_what_they_name() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    // The first one names a link that comes after it.
    with_links(at, &[("lib/first", "name"), ("lib/name", "real")]).unwrap();
    for name in ["first", "name"] {
        let path = at.join("out/lib").join(name);
        assert_eq!(fs::read(&path).unwrap(), b"tides");
        assert_eq!(
            fs::metadata(path).unwrap().permissions().mode() & 0o777,
            0o755
        );
    }
}

#[test]
fn links_replace_nothing_and_name_something() {
    let refused = |links: &[(&str, &str)], said: &str| {
        let folder = tempfile::tempdir().unwrap();
        let error = with_links(folder.path(), links).unwrap_err().to_string();
        assert!(error.contains(said), "{links:?}: {error}");
        assert_eq!(
            fs::read(folder.path().join("out/lib/real")).unwrap(),
            b"tides"
        );
    };
    refused(&[("lib/real", "real")], "names no file");
    refused(
        &[("lib/other", "real"), ("lib/other", "real")],
        "is there twice",
    );
    refused(&[("lib/a", "b"), ("lib/b", "a")], "names no file");
    refused(&[("lib/a", "/etc/hostname")], "names no file");
    refused(&[("lib/a", "../../x")], "names no file");
}

#[test]
fn links_and_empty_folders_are_packed_as_such() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    fs::write(at.join("file"), "x").unwrap();
    let item = |name: &str, content: ItemContent| Item {
        name: name.into(),
        content,
    };
    let items = vec![
        item("d/link", ItemContent::Link("file".into())),
        item("d/file", ItemContent::File(at.join("file"))),
        item("d/empty", ItemContent::EmptyFolder),
    ];
    pack(ArchiveFormat::Tar, items, &at.join("a.tar")).unwrap();
    let mut archive = tar::Archive::new(fs::File::open(at.join("a.tar")).unwrap());
    let kinds: Vec<_> = archive
        .entries()
        .unwrap()
        .map(|e| {
            e.map(|e| {
                (
                    e.path().unwrap().display().to_string(),
                    e.header().entry_type(),
                )
            })
            .unwrap()
        })
        .collect();
    assert_eq!(
        kinds,
        [
            ("d/empty/".to_owned(), tar::EntryType::Directory),
            ("d/file".to_owned(), tar::EntryType::Regular),
            ("d/link".to_owned(), tar::EntryType::Symlink),
        ]
    );
}

/// A tar file of entries with texts.
fn tar_of(at: &Path, entries: &[(&str, &str)]) {
    let mut builder = tar::Builder::new(fs::File::create(at.join("some.tar")).unwrap());
    for (name, text) in entries {
        let mut header = tar::Header::new_gnu();
        header.set_size(text.len() as u64);
        header.set_mode(0o644);
        builder
            .append_data(&mut header, name, text.as_bytes())
            .unwrap();
    }
    builder.finish().unwrap();
    fs::create_dir(at.join("out")).unwrap();
}

#[test]
fn a_file_that_comes_again_is_the_later_one() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    tar_of(
        at,
        &[
            ("package/tide", "low"),
            ("package/moon", "full"),
            ("package/tide", "high"),
        ],
    );
    unpack(ArchiveFormat::Tar, &at.join("some.tar"), &at.join("out"), 1).unwrap();
    assert_eq!(fs::read_to_string(at.join("out/tide")).unwrap(), "high");
    assert_eq!(fs::read_to_string(at.join("out/moon")).unwrap(), "full");
}

#[test]
fn what_lies_in_no_folder_that_is_dropped_is_left_out() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    tar_of(at, &[("readme", "top"), ("package/tide", "low")]);
    unpack(ArchiveFormat::Tar, &at.join("some.tar"), &at.join("out"), 1).unwrap();
    let names: Vec<_> = fs::read_dir(at.join("out"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name())
        .collect();
    assert_eq!(names, ["tide"]);
}

#[test]
fn links_in_zip_archives_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let mut archive = zip::ZipWriter::new(fs::File::create(at.join("some.zip")).unwrap());
    archive
        .add_symlink(
            "tide",
            "/etc/passwd",
            zip::write::SimpleFileOptions::default(),
        )
        .unwrap();
    archive.finish().unwrap();
    fs::create_dir(at.join("out")).unwrap();
    let refused = unpack(ArchiveFormat::Zip, &at.join("some.zip"), &at.join("out"), 0).unwrap_err();
    assert!(refused.to_string().contains("tide is a link"), "{refused}");
    assert_eq!(fs::read_dir(at.join("out")).unwrap().count(), 0);
}

#[test]
fn what_is_no_file_is_not_packed_and_not_waited_for() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    assert!(
        std::process::Command::new("mkfifo")
            .arg(at.join("pipe"))
            .status()
            .unwrap()
            .success()
    );
    for (name, format) in ArchiveFormat::ALL {
        let items = vec![Item {
            name: "pipe".to_owned(),
            content: ItemContent::File(at.join("pipe")),
        }];
        let refused = pack(format, items, &at.join(name)).unwrap_err();
        assert!(
            refused.to_string().contains("pipe is not a file"),
            "{name}: {refused}"
        );
    }
}
