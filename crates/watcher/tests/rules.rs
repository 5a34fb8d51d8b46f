//! What a watcher never takes for the same, rule by rule.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod watched;

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};

use nubrik_bytes::Digest;
use nubrik_disk::Below;
use nubrik_memory::Roles;
use nubrik_source::FilePath;
use nubrik_watcher::{Doubt, WatcherEnding, WatcherLife, WatcherPlace, serve};
use watched::{Watched, append, map_to_write};

/// A workspace in which everything that can be known is known; `None` where that is nothing.
fn known() -> Option<Watched> {
    let watched = Watched::that_can_be_known()?;
    watched.seal();
    watched.rest();
    assert!(!watched.doubts("src/a"));
    Some(watched)
}

fn path(text: &str) -> FilePath {
    FilePath::from_text(text.into())
}

#[test]
fn a_file_that_somebody_opened_and_mapped_is_doubted_without_a_word() {
    let Some(mut watched) = known() else { return };
    let file = fs::File::options()
        .read(true)
        .write(true)
        .open(watched.top().join("src/a"))
        .unwrap();
    watched.mapped.push(map_to_write(&file).unwrap());
    drop(file);
    assert!(watched.doubts("src/a"));
    // Looked at again, it is still written to.
    watched.rest();
    assert!(watched.doubts("src/a"));
    watched.mapped.clear();
    watched.rest();
    assert!(!watched.doubts("src/a"));
    watched.stop();
}

#[test]
fn a_file_that_somebody_had_open_before_is_doubted_under_all_its_names() {
    let Some(mut watched) = Watched::that_can_be_known() else {
        return;
    };
    let top = watched.top();
    fs::remove_file(top.join("out/a")).unwrap();
    fs::hard_link(top.join("src/a"), top.join("out/a")).unwrap();
    watched.open.push(
        fs::File::options()
            .append(true)
            .open(top.join("src/a"))
            .unwrap(),
    );
    watched.seal();
    watched.rest();
    assert!(watched.doubts("src/a") && watched.doubts("out/a"));
    assert!(!watched.doubts("src/b.c"));
    watched.open.clear();
    watched.rest();
    assert!(!watched.doubts("src/a") && !watched.doubts("out/a"));
    watched.stop();
}

#[test]
fn a_file_is_doubted_by_whatever_name_it_is_written_to() {
    let Some(mut watched) = known() else { return };
    let elsewhere = watched.folder.path().join("elsewhere/other");
    fs::hard_link(watched.top().join("src/a"), &elsewhere).unwrap();
    watched.rest();
    watched.seal_again(&[(path("src/a"), Roles::READ)]);
    watched.rest();
    assert!(!watched.doubts("src/a"));
    append(&elsewhere).unwrap();
    assert!(watched.doubts("src/a"));
    watched.stop();
}

#[test]
fn what_links_lead_to_is_always_doubted() {
    let Some(mut watched) = Watched::that_can_be_known() else {
        return;
    };
    let top = watched.top();
    symlink(
        watched.folder.path().join("elsewhere/file"),
        top.join("src/link"),
    )
    .unwrap();
    symlink("src", top.join("moved")).unwrap();
    watched.seal();
    watched.rest();
    assert!(watched.doubts("src/link"), "a link at the end");
    assert!(!watched.doubts("//src/link"), "the link itself");
    assert!(watched.doubts("moved/a"), "a link on the way");
    assert!(watched.doubts("moved/link"), "nothing behind a link");
    assert!(
        watched.doubts(
            watched
                .folder
                .path()
                .join("elsewhere/file")
                .to_str()
                .unwrap()
        )
    );
    fs::remove_file(top.join("src/link")).unwrap();
    assert!(watched.doubts("//src/link"));
    watched.stop();
}

#[test]
fn names_that_come_and_go_are_heard() {
    let Some(mut watched) = known() else { return };
    let top = watched.top();
    assert!(
        !watched.doubts("src/a-b") && !watched.doubts("src/deep") && !watched.doubts("src/moved/a")
    );
    fs::write(top.join("src/a-b"), "new").unwrap();
    assert!(watched.doubts("src/a-b") && watched.doubts("src"));
    assert!(!watched.doubts("src/deep/a") && !watched.doubts("src/a"));
    fs::rename(top.join("src/deep"), top.join("src/moved")).unwrap();
    assert!(watched.doubts("src/deep/er/a") && watched.doubts("src/moved/a"));
    watched.rest();
    // The same folder under another name, and then a new one under its old name.
    append(&top.join("src/moved/a")).unwrap();
    fs::create_dir_all(top.join("src/deep/er")).unwrap();
    watched.seal();
    watched.rest();
    assert!(!watched.doubts("src/moved/a") && !watched.doubts("src/deep/a"));
    fs::write(top.join("src/deep/a"), "new").unwrap();
    assert!(watched.doubts("src/deep/a"));
    fs::write(top.join("src/moved/a-b"), "new").unwrap();
    assert!(watched.doubts("src/moved/a-b"));
    watched.stop();
}

#[test]
fn leave_to_read_is_metadata_too() {
    let Some(mut watched) = known() else { return };
    let file = watched.top().join("src/a");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
    assert!(watched.doubts("src/a"));
    watched.rest();
    assert!(watched.doubts("src/a"), "it is not what is sealed");
    fs::set_permissions(
        watched.top().join("src/deep"),
        fs::Permissions::from_mode(0o750),
    )
    .unwrap();
    assert!(
        watched.doubts("src/deep/a"),
        "who looks may not get there any more"
    );
    watched.stop();
}

#[test]
fn a_seal_of_another_state_is_not_known() {
    let Some(mut watched) = known() else { return };
    let top = watched.top();
    let (seal, _) = watched.doubtful().unwrap();
    drop(seal);
    append(&top.join("src/a")).unwrap();
    watched.rest();
    watched.seal_again(&[(path("src/a"), Roles::READ), (path("src/new"), Roles::READ)]);
    watched.rest();
    assert!(!watched.doubts("src/a") && !watched.doubts("src/new"));
    // Another log in the place of the one that was learnt, of which nobody said anything.
    let log = top.join(".own/seals/one.log");
    let bytes = fs::read(&log).unwrap();
    fs::remove_file(&log).unwrap();
    assert_eq!(watched.doubtful().unwrap().1, Err(Doubt::Learning));
    watched.rest();
    assert!(
        watched.doubts("src/a"),
        "it is not what the file says without its log"
    );
    fs::write(&log, bytes).unwrap();
    assert_eq!(watched.doubtful().unwrap().1, Err(Doubt::Learning));
    // The same bytes in another file: whether that is whole is not known.
    watched.rest();
    assert!(!watched.doubts("src/a"));
    let file = top.join(".own/seals/one");
    let bytes = fs::read(&file).unwrap();
    fs::remove_file(&file).unwrap();
    fs::write(&file, bytes).unwrap();
    assert_eq!(watched.doubtful().unwrap().1, Err(Doubt::Learning));
    watched.rest();
    assert!(!watched.doubts("src/a"), "it was found whole");
    watched.stop();
}

#[test]
fn who_sees_other_files_or_is_another_program_is_told_nothing() {
    let Some(mut watched) = known() else { return };
    let elsewhere = Below::new(&watched.folder.path().join("elsewhere")).unwrap();
    let own = Below::new(&watched.top().join(".own")).unwrap();
    let other_root = WatcherPlace::new(&elsewhere, &own, Digest([3; 32]));
    assert!(
        watched
            .answer_of(&other_root)
            .is_some_and(|answer| answer == Err(Doubt::Elsewhere))
    );
    let root = Below::new(&watched.top()).unwrap();
    let other_program = WatcherPlace::new(&root, &own, Digest([4; 32]));
    assert!(other_program.status().is_none());
    // It has ended: the other program begins one of its own.
    watched.ended();
}

#[test]
fn a_watcher_whose_folder_is_gone_before_it_begins_just_ends() {
    let folder = tempfile::tempdir().unwrap();
    let own = folder.path().join(".own");
    fs::create_dir(&own).unwrap();
    let (root, below) = (
        Below::new(folder.path()).unwrap(),
        Below::new(&own).unwrap(),
    );
    fs::remove_dir(&own).unwrap();
    let life = WatcherLife::Unasked(std::time::Duration::from_secs(60));
    assert_eq!(
        serve(root, below, Digest([3; 32]), None, life).unwrap(),
        WatcherEnding::Gone
    );
}
