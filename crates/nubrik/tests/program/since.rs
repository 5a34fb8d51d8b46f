//! What `--since` means, compared with the truth: a tree is built and committed, edited at random
//! (contents, moves, deletions, links, new and lost packages, ignore files, a submodule), and built
//! again. Whatever was not current then must have been listed.
//!
//! `NUBRIK_TEST_CASES` sets how many trees are tried.

use std::cell::Cell;
use std::collections::BTreeSet;
use std::fs;
use std::process::Command;

use crate::sandbox::{Run, Sandbox};
use nubrik_testing::{Need, skip};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

/// What each package declares: by a glob of its own folder, of all below it, of a folder whose
/// files are only counted, of what is behind a link, and of what another package makes.
const PACKAGE: &str = "target near = step { run = `cat {glob(\"*.x\", or_none = true)} /dev/null > {out \"o\"}` }\n\
    target deep = step { run = `cat {glob(\"**/*.x\", or_none = true)} /dev/null > {out \"o\"}` }\n\
    target count = write { path = \"o\", text = \"{glob(\"d/*\", or_none = true).len}\" }\n\
    target linked = step { run = `cat {glob(\"cur/*.x\", or_none = true)} /dev/null > {out \"o\"}` }\n";

const ROOT: &str = "target far = step { run = `cat {in &p/near} {in &q/near} > {out \"o\"}` }\n\
    target ext = step { run = `cat {glob(\"ext/*.x\", or_none = true)} /dev/null > {out \"o\"}` }\n";

/// Folders in which files are.
const FOLDERS: [&str; 8] = ["p", "p/d", "p/sub", "q", "q/d", "v1", "v2", "ext"];

#[derive(Clone, Debug)]
enum Edit {
    Write { folder: usize, name: char, text: u8 },
    Delete { folder: usize, name: char },
    Move { from: usize, name: char, to: usize },
    Lead { package: bool, to: bool },
    Declare { folder: usize },
    Forget { folder: usize },
    Ignore { folder: usize, name: char },
    Unignore { folder: usize },
    Reword { package: bool },
    Commit,
}

fn edit() -> impl Strategy<Value = Edit> {
    let folder = || 0..FOLDERS.len();
    let name = || prop::char::range('a', 'c');
    prop_oneof![
        4 => (folder(), name(), 0..4u8).prop_map(|(folder, name, text)| Edit::Write { folder, name, text }),
        2 => (folder(), name()).prop_map(|(folder, name)| Edit::Delete { folder, name }),
        3 => (folder(), name(), folder()).prop_map(|(from, name, to)| Edit::Move { from, name, to }),
        2 => (any::<bool>(), any::<bool>()).prop_map(|(package, to)| Edit::Lead { package, to }),
        1 => (1..3usize).prop_map(|folder| Edit::Declare { folder }),
        1 => (1..3usize).prop_map(|folder| Edit::Forget { folder }),
        2 => (folder(), name()).prop_map(|(folder, name)| Edit::Ignore { folder, name }),
        1 => folder().prop_map(|folder| Edit::Unignore { folder }),
        1 => any::<bool>().prop_map(|package| Edit::Reword { package }),
        2 => Just(Edit::Commit),
    ]
}

/// A repository with a submodule, as it is before the edits.
struct Tree(Sandbox);

fn git(folder: &std::path::Path, args: &[&str]) -> bool {
    let done = Command::new("git")
        .args([
            "-c",
            "user.name=Ardle",
            "-c",
            "user.email=ardle@skerrin.example",
        ])
        .args(["-c", "protocol.file.allow=always"])
        .args(args)
        .current_dir(folder)
        .output();
    done.is_ok_and(|done| done.status.success())
}

impl Tree {
    fn new() -> Option<Tree> {
        let sandbox = Sandbox::new(&[
            ("targets.nub", ROOT),
            ("p/targets.nub", PACKAGE),
            ("q/targets.nub", PACKAGE),
            (".gitignore", "/.nubrik\n/out\n"),
        ]);
        let other = Sandbox::new(&[("a.x", "ext a\n")]);
        let begun = |folder| {
            git(folder, &["init", "-q"])
                && git(folder, &["add", "-A"])
                && git(folder, &["commit", "-qm", "all"])
        };
        let from = other.folder.display().to_string();
        let own = &sandbox.folder;
        let added = begun(&other.folder)
            && git(own, &["init", "-q"])
            && git(own, &["submodule", "add", "-q", &from, "ext"]);
        if !added {
            skip(Need::Git, "there is no git that makes submodules");
            return None;
        }
        for (folder, at) in FOLDERS
            .iter()
            .zip(0..)
            .filter(|(folder, _)| **folder != "ext")
        {
            sandbox.write(&format!("{folder}/a.x"), &format!("{folder} {at}\n"));
            sandbox.write(&format!("{folder}/b.x"), &format!("{folder} b\n"));
        }
        for package in ["p", "q"] {
            std::os::unix::fs::symlink("../v1", own.join(package).join("cur")).unwrap();
        }
        assert!(
            git(own, &["add", "-A"])
                && git(own, &["commit", "-qm", "one"])
                && git(own, &["tag", "before"])
        );
        Some(Tree(sandbox))
    }

    /// Another one, as it is before the edits: to make it anew would take git longer.
    fn copy(&self) -> Tree {
        let sandbox = Sandbox::new(&[]);
        let from = format!("{}/.", self.0.folder.display());
        let copied = Command::new("cp")
            .args(["-a", &from])
            .arg(&sandbox.folder)
            .status();
        assert!(copied.is_ok_and(|status| status.success()));
        Tree(sandbox)
    }

    fn apply(&self, edit: &Edit) {
        let own = &self.0.folder;
        let at = |folder: usize, name: char| own.join(FOLDERS[folder]).join(format!("{name}.x"));
        match *edit {
            Edit::Write { folder, name, text } => {
                fs::write(at(folder, name), format!("{text}\n")).unwrap()
            }
            Edit::Delete { folder, name } => drop(fs::remove_file(at(folder, name))),
            Edit::Move { from, name, to } => drop(fs::rename(at(from, name), at(to, name))),
            Edit::Lead { package, to } => {
                let link = own.join(if package { "p" } else { "q" }).join("cur");
                fs::remove_file(&link).unwrap();
                std::os::unix::fs::symlink(if to { "../v2" } else { "../v1" }, link).unwrap();
            }
            Edit::Declare { folder } => {
                fs::write(own.join(FOLDERS[folder]).join("targets.nub"), PACKAGE).unwrap();
            }
            Edit::Forget { folder } => drop(fs::remove_file(
                own.join(FOLDERS[folder]).join("targets.nub"),
            )),
            Edit::Ignore { folder, name } => {
                fs::write(
                    own.join(FOLDERS[folder]).join(".gitignore"),
                    format!("{name}.x\n"),
                )
                .unwrap();
            }
            Edit::Unignore { folder } => drop(fs::remove_file(
                own.join(FOLDERS[folder]).join(".gitignore"),
            )),
            Edit::Reword { package } => {
                let text = PACKAGE.replacen("/dev/null", "/dev/null /dev/null", 1);
                fs::write(
                    own.join(if package { "p" } else { "q" })
                        .join("targets.nub"),
                    text,
                )
                .unwrap();
            }
            Edit::Commit => {
                git(&own.join("ext"), &["add", "-A"]);
                git(&own.join("ext"), &["commit", "-qm", "more"]);
                git(own, &["add", "-A"]);
                git(own, &["commit", "-qm", "more"]);
            }
        }
    }
}

fn targets(run: &Run, is_meant: impl Fn(&serde_json::Value) -> bool) -> BTreeSet<String> {
    let meant = run
        .events()
        .into_iter()
        .filter(|event| event["target"].is_string() && is_meant(event));
    meant
        .map(|event| event["target"].as_str().unwrap().to_owned())
        .collect()
}

#[test]
fn what_changed_since_a_revision_is_never_skipped() {
    let cases = nubrik_testing::cases(24);
    let Some(first) = Tree::new() else { return };
    let (listed_ever, there_ever) = (Cell::new(0), Cell::new(0));
    let mut runner = TestRunner::new(Config {
        cases,
        failure_persistence: None,
        ..Config::default()
    });
    let tried = runner.run(&prop::collection::vec(edit(), 1..9), |edits| {
        let tree = first.copy();
        let sandbox = &tree.0;
        sandbox.run(&["build", "-q"]).expect(0);
        edits.iter().for_each(|edit| tree.apply(edit));
        let listed = targets(
            &sandbox
                .run(&["list", "--json", "--since", "before"])
                .expect(0),
            |_| true,
        );
        let there = targets(&sandbox.run(&["list", "--json"]).expect(0), |_| true);
        let built = sandbox.run(&["build", "--json", "--reasons"]).expect(0);
        let changed = targets(&built, |event| {
            event["event"] == "step" && event["state"] != "current"
        });
        let skipped: Vec<&String> = changed.difference(&listed).collect();
        prop_assert!(
            skipped.is_empty(),
            "{:?} were skipped, of which listed are {:?}",
            skipped,
            listed
        );
        listed_ever.set(listed_ever.get() + listed.len());
        there_ever.set(there_ever.get() + there.len());
        Ok(())
    });
    tried.unwrap();
    assert!(
        listed_ever.get() < there_ever.get(),
        "nothing is ever skipped"
    );
    println!(
        "listed {} of {} targets",
        listed_ever.get(),
        there_ever.get()
    );
}
