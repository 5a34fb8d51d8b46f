//! The rule of the house: what is written below a workspace or a shared folder goes through `disk`,
//! which follows no link. Every other place that opens a file for writing, moves or removes one is
//! listed here, with the reason why nobody else can have put a link there.

use std::collections::BTreeMap;
use std::fs;

use crate::sources::{crates, sources};

/// Calls that write, move or remove by a path.
const CALLS: [&str; 14] = [
    "File::create",
    "File::options",
    "OpenOptions::new",
    "fs::write(",
    "fs::rename(",
    "fs::copy(",
    "fs::hard_link(",
    "fs::create_dir(",
    "fs::create_dir_all(",
    "fs::remove_file(",
    "fs::remove_dir(",
    "fs::remove_dir_all(",
    "fs::set_permissions(",
    "os::unix::fs::symlink(",
];

/// Files with such calls, how many, and why they may.
const DOORS: &[(&str, usize, &str)] = &[
    (
        "archive/pack.rs",
        1,
        "makes a new file, in the folder of a step that was made anew",
    ),
    (
        "archive/unpack.rs",
        5,
        "refuses entries below links, in a folder that was made for it",
    ),
    (
        "confine/sys/apart.rs",
        3,
        "groups of processes of the kernel, below /sys",
    ),
    (
        "explorer/serve.rs",
        3,
        "the socket in `.nubrik`, which is this user's and no link; what was there is removed before",
    ),
    (
        "explorer/write.rs",
        3,
        "the folder for pages that the person named: empty, or a copy of pages, which is removed before",
    ),
    (
        "images/changes.rs",
        2,
        "a copy of a root in that cache: nothing of its commands runs any more, and no link of theirs is followed",
    ),
    (
        "images/cache.rs",
        15,
        "the person's own cache of images, which nobody else may write to; removal follows no link",
    ),
    (
        "images/make.rs",
        1,
        "a file that the caller has for itself: in the folder of a step that was made anew",
    ),
    (
        "images/files.rs",
        4,
        "the person's own cache of images, which nobody else may write to",
    ),
    (
        "machine/client_answers.rs",
        2,
        "a temporary folder that is made with a name that nobody knows",
    ),
    (
        "machine/natives.rs",
        1,
        "the folder of a step that was made anew",
    ),
    (
        "machine/temporary.rs",
        3,
        "private temporary folders with names that nobody knows",
    ),
    (
        "adopt/folder.rs",
        1,
        "makes a new file, and follows no link for that",
    ),
    (
        "nubrik/commands/clean.rs",
        1,
        "the store of this user, in their own cache; removal follows no link",
    ),
    (
        "nubrik/commands/demo.rs",
        1,
        "a folder that the command makes",
    ),
    (
        "nubrik/commands/manual.rs",
        2,
        "a folder that the person named",
    ),
    (
        "nubrik/commands/shared.rs",
        1,
        "makes a new file for a key that the person named, and follows no link for that",
    ),
    (
        "nubrik/commands/writing.rs",
        6,
        "a file that the person named, outside of any workspace: a new one beside it takes its place",
    ),
    (
        "pins/gathering.rs",
        1,
        "a folder that the person named; what is in it goes through `Below`",
    ),
    (
        "pins/go/resolve.rs",
        1,
        "an archive in `.nubrik/archives`, which was reached without links when it was fetched",
    ),
    (
        "workspace/archives.rs",
        1,
        "the person's own folder for what programs remember",
    ),
    (
        "workers/place.rs",
        1,
        "the folder that a worker was given to work in",
    ),
    (
        "workspace/place.rs",
        1,
        "makes `out` and `.nubrik`, and takes none that is a link or somebody else's",
    ),
    (
        "shared/handing.rs",
        2,
        "the person's own cache of a shared cache",
    ),
    (
        "shared/loading.rs",
        1,
        "the person's own cache of a shared cache",
    ),
    (
        "shared/own_files.rs",
        4,
        "the person's own cache of a shared cache",
    ),
    (
        "shared/publish.rs",
        1,
        "the person's own cache of a shared cache",
    ),
    (
        "shared/rest.rs",
        1,
        "the person's own cache of a shared cache",
    ),
    (
        "shared/uploads.rs",
        2,
        "the person's own cache of a shared cache",
    ),
    (
        "testing/layouts.rs",
        4,
        "for tests alone, in folders that they make",
    ),
    (
        "store/local.rs",
        18,
        "the store, which is this user's and which nobody else may write to",
    ),
    (
        "store/upkeep.rs",
        4,
        "the store, which is this user's and which nobody else may write to",
    ),
    (
        "web/agreements.rs",
        1,
        "the person's own folder for what programs remember",
    ),
    (
        "web/objects/folder.rs",
        1,
        "the top of a team's folder, as the person agreed to it; what is in it goes through `Below`",
    ),
];

/// How many such calls a source has, those of its tests left out.
fn calls(text: &str) -> usize {
    let own = text.split("#[cfg(test)]").next().unwrap_or_default();
    let lines = own
        .lines()
        .filter(|line| !line.trim_start().starts_with("//"));
    lines
        .map(|line| {
            CALLS
                .iter()
                .map(|call| line.matches(call).count())
                .sum::<usize>()
        })
        .sum()
}

#[test]
fn every_other_way_to_write_is_known() {
    let mut found = BTreeMap::new();
    for entry in fs::read_dir(crates())
        .unwrap()
        .flatten()
        .filter(|entry| entry.path().is_dir())
    {
        // That is the door.
        if entry.file_name() == "disk" {
            continue;
        }
        let mut texts = Vec::new();
        sources(&entry.path().join("src"), &mut texts);
        let src = entry.path().display().to_string();
        for (path, text) in texts {
            let below = path.strip_prefix(&src).unwrap().trim_start_matches("/src/");
            if !below.ends_with("tests.rs") && calls(&text) > 0 {
                found.insert(
                    format!("{}/{below}", entry.file_name().to_str().unwrap()),
                    calls(&text),
                );
            }
        }
    }
    let known: BTreeMap<String, usize> = DOORS
        .iter()
        .map(|(file, count, _)| ((*file).to_owned(), *count))
        .collect();
    assert_eq!(
        found, known,
        "write through `nubrik_disk::Below`, or say here why no link can be there"
    );
    assert!(DOORS.iter().all(|(_, _, reason)| reason.len() > 10));
}

#[test]
fn calls_are_counted_without_comments_and_tests() {
    let text = "let a = fs::write(b, c);\n// fs::write(b, c);\nfs::rename(a, b);\n#[cfg(test)]\nfs::write(d, e);\n";
    assert_eq!(calls(text), 2);
    assert_eq!(calls("folder.replace(\"a\", write)?;\n"), 0);
}

/// An event belongs to who finds the answer: the program prints it, and makes none of its own.
#[test]
fn no_event_is_made_in_the_program_itself() {
    // What turns any event into a line.
    let prints = ["src/ui/console.rs", "src/ui/json_text.rs"];
    let mut found = Vec::new();
    sources(&crates().join("nubrik/src"), &mut found);
    assert!(found.len() > 50);
    let makes = |(path, text): &&(String, String)| {
        !prints.iter().any(|name| path.ends_with(name)) && text.contains("Serialize")
    };
    let makers: Vec<&str> = found
        .iter()
        .filter(makes)
        .map(|(path, _)| path.as_str())
        .collect();
    assert!(makers.is_empty(), "{makers:?}");
}
