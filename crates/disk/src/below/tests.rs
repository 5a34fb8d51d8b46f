//! Folders reached without links, in a workspace of somebody who put some there.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{PermissionsExt, symlink};

use super::*;

/// A workspace, and a folder outside of it with something precious in it.
fn two() -> (tempfile::TempDir, std::path::PathBuf, Below) {
    let folder = tempfile::tempdir().unwrap();
    let (inside, outside) = (folder.path().join("workspace"), folder.path().join("home"));
    fs::create_dir_all(&inside).unwrap();
    fs::create_dir_all(outside.join("letters")).unwrap();
    fs::write(outside.join("letters/thesis"), "precious").unwrap();
    let below = Below::new(&inside).unwrap();
    (folder, outside, below)
}

fn precious(outside: &Path) -> bool {
    fs::read_to_string(outside.join("letters/thesis")).is_ok_and(|text| text == "precious")
}

#[test]
fn links_on_the_way_are_removed_and_not_followed() {
    let (folder, outside, below) = two();
    let inside = folder.path().join("workspace");
    for (link, target) in [("a", "letters"), ("b", ""), ("c", "letters/thesis")] {
        symlink(outside.join(target), inside.join(link)).unwrap();
    }
    below.made_folder("a/sub").unwrap();
    below.fresh_folder("b").unwrap();
    below
        .fresh_file("c", 0o644)
        .unwrap()
        .write_all(b"new")
        .unwrap();
    assert!(inside.join("a/sub").is_dir() && inside.join("b").is_dir() && precious(&outside));
    assert_eq!(fs::read(inside.join("c")).unwrap(), b"new");
    symlink(outside.join("letters"), inside.join("d")).unwrap();
    below.remove("d/thesis").unwrap();
    assert!(precious(&outside));
    assert!(below.open_to_read("d/thesis").is_err() && below.folder("d").is_err());
    below.remove("d").unwrap();
    assert!(precious(&outside) && inside.join("d").symlink_metadata().is_err());
}

#[test]
fn files_are_replaced_whole_and_by_short_names() {
    let (folder, outside, below) = two();
    let name = "n".repeat(255);
    below.write_whole(&format!("deep/{name}"), b"one").unwrap();
    below.write_whole(&format!("deep/{name}"), b"two").unwrap();
    let inside = folder.path().join("workspace/deep");
    assert_eq!(fs::read(inside.join(&name)).unwrap(), b"two");
    assert_eq!(fs::read_dir(&inside).unwrap().count(), 1);
    symlink(outside.join("letters/thesis"), inside.join(beside("x"))).unwrap();
    below.write_whole("deep/x", b"three").unwrap();
    assert!(precious(&outside));
}

#[test]
fn what_is_a_persons_is_replaced_without_following_links() {
    let (folder, outside, below) = two();
    let inside = folder.path().join("workspace");
    let write =
        |path: &str, text: &str| below.replace(path, |file| file.write_all(text.as_bytes()));
    write("new/deep/file", "one").unwrap();
    fs::set_permissions(
        inside.join("new/deep/file"),
        fs::Permissions::from_mode(0o600),
    )
    .unwrap();
    write("new/deep/file", "two").unwrap();
    assert_eq!(fs::read(inside.join("new/deep/file")).unwrap(), b"two");
    assert_eq!(
        fs::metadata(inside.join("new/deep/file"))
            .unwrap()
            .permissions()
            .mode()
            & 0o777,
        0o600
    );
    symlink(outside.join("letters"), inside.join("folder")).unwrap();
    symlink(outside.join("letters/thesis"), inside.join("file")).unwrap();
    for path in [
        "folder/thesis",
        "folder/more/x",
        "folder",
        "file",
        "new/deep/file/x",
        "new",
    ] {
        assert!(write(path, "stranger").is_err(), "{path}");
    }
    write("fine", "three").unwrap();
    assert!(precious(&outside) && fs::read_dir(outside.join("letters")).unwrap().count() == 1);
    assert!(inside.join("folder").is_symlink() && inside.join("file").is_symlink());
    let failed = below.replace("fine", |_| Err(io::ErrorKind::StorageFull.into()));
    assert!(failed.is_err() && fs::read(inside.join("fine")).unwrap() == b"three");
}

#[test]
fn closed_folders_can_be_removed() {
    let (folder, _, below) = two();
    let inside = folder.path().join("workspace");
    fs::create_dir_all(inside.join("a/b/c")).unwrap();
    fs::write(inside.join("a/b/c/file"), "").unwrap();
    fs::create_dir_all(inside.join("a/d/e")).unwrap();
    for (path, mode) in [
        ("a/d", 0o444),
        ("a/b/c", 0o000),
        ("a/b", 0o555),
        ("a", 0o100),
    ] {
        fs::set_permissions(inside.join(path), fs::Permissions::from_mode(mode)).unwrap();
    }
    below.remove("a").unwrap();
    assert!(!inside.join("a").exists());
    below.remove("a").unwrap();
}

#[test]
fn folders_of_any_depth_can_be_removed() {
    let (folder, outside, below) = two();
    let inside = folder.path().join("workspace");
    let mut at = below.made_folder("deep").unwrap();
    for _ in 0..2500 {
        rustix::fs::symlinkat(&outside, &at, "link").unwrap();
        rustix::fs::mkdirat(&at, "d", Mode::RWXU).unwrap();
        at = rustix::fs::openat(&at, "d", FOLDER, Mode::empty()).unwrap();
    }
    drop(at);
    below.remove("deep").unwrap();
    assert!(precious(&outside) && fs::read_dir(&inside).unwrap().next().is_none());
}

#[test]
fn a_new_file_takes_no_place_and_follows_no_link() {
    let (folder, outside, below) = two();
    let inside = folder.path().join("workspace");
    symlink(outside.join("letters"), inside.join("link")).unwrap();
    symlink(outside.join("letters/thesis"), inside.join("file")).unwrap();
    assert!(
        below.new_file("link/thesis", 0o644).is_err() && below.new_file("link/new", 0o644).is_err()
    );
    assert!(below.new_file("file", 0o644).is_err() && precious(&outside));
    below.new_file("fine", 0o644).unwrap();
}

#[test]
fn only_files_are_opened() {
    let (folder, _, below) = two();
    let pipe = folder.path().join("workspace/pipe");
    rustix::fs::mknodat(rustix::fs::CWD, &pipe, FileType::Fifo, Mode::RWXU, 0).unwrap();
    // This would wait for a writer.
    assert!(below.open_to_read("pipe").is_err());
    below.fresh_file("pipe", 0o644).unwrap();
    assert!(below.open_to_read("pipe").is_ok());
}

#[test]
fn moves_put_things_where_anything_stood() {
    let (folder, outside, below) = two();
    let inside = folder.path().join("workspace");
    fs::create_dir_all(inside.join("to/full")).unwrap();
    fs::write(inside.join("to/full/x"), "").unwrap();
    fs::create_dir_all(inside.join("from")).unwrap();
    fs::write(inside.join("from/y"), "").unwrap();
    below.rename("from", "to/full").unwrap();
    assert!(inside.join("to/full/y").exists() && !inside.join("to/full/x").exists());
    symlink(&outside, inside.join("link")).unwrap();
    below.rename("to/full", "link/letters").unwrap();
    assert!(precious(&outside) && inside.join("link/letters/y").exists());
}
