//! What is proposed for small trees, as text. Each file in `trees/` holds the files of a tree and,
//! after `=== proposal`, what is proposed for it; with NUBRIK_WRITE_PROPOSALS=1 the latter is
//! written.

#![allow(clippy::expect_used, clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::collections::BTreeSet;
use std::fmt::Write;
use std::fs;
use std::path::Path;

use nubrik_survey::{
    Answers, DefinitionWriter, InstalledFile, MachineView, Proposal, SourceTree, survey,
};

/// A machine with two libraries.
struct SmallMachine;

impl MachineView for SmallMachine {
    fn has_library(&self, name: &str) -> bool {
        ["zlib", "gtest", "gtest_main", "lapack"].contains(&name)
    }

    fn has_program(&self, _: &str) -> bool {
        false
    }

    fn has_file(&self, _: &str) -> bool {
        false
    }

    fn library_with(&self, file: &str) -> Option<InstalledFile> {
        (file == "moons.mod").then(|| InstalledFile {
            library: "moons".into(),
            is_in_plain_folder: true,
        })
    }

    fn has_function(&self, name: &str) -> bool {
        ["strdup", "alarm"].contains(&name)
    }
}

fn parts(text: &str) -> (Vec<(String, String)>, &str) {
    let (sources, expected) = text.split_once("=== proposal\n").unwrap_or((text, ""));
    let mut files: Vec<(String, String)> = Vec::new();
    for line in sources.split_inclusive('\n') {
        match line.strip_prefix("--- ") {
            Some(path) => files.push((path.trim().to_owned(), String::new())),
            None => files.last_mut().expect("a path first").1.push_str(line),
        }
    }
    (files, expected)
}

fn written(tree: &SourceTree, proposal: &Proposal) -> String {
    let writer = DefinitionWriter::new(tree, "", proposal, &BTreeSet::new());
    let mut text = String::new();
    for package in proposal.packages() {
        let mine: Vec<_> = proposal
            .definitions
            .iter()
            .filter(|one| one.address.package == package)
            .collect();
        writeln!(text, "# {package}/targets.nub").unwrap();
        text.push_str(writer.package(&mine).split_once('\n').unwrap().1);
    }
    for pin in &proposal.pins {
        let features: Vec<&str> = pin.features.iter().map(String::as_str).collect();
        let bare = if pin.is_bare { " bare" } else { "" };
        writeln!(
            text,
            "pin {} {} {:?} [{}]{bare}",
            pin.registry,
            pin.name,
            pin.requirement,
            features.join(",")
        )
        .unwrap();
    }
    for left in &proposal.left_out {
        writeln!(text, "left out {}: {}", left.what, left.why).unwrap();
    }
    for question in &proposal.questions {
        writeln!(
            text,
            "question {}: {} {:?}",
            question.id, question.text, question.choices
        )
        .unwrap();
    }
    text
}

#[test]
fn trees_get_the_definitions_that_they_should() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/trees");
    let writes = std::env::var_os("NUBRIK_WRITE_PROPOSALS").is_some();
    let mut paths: Vec<_> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .collect();
    paths.sort();
    assert!(paths.len() > 10);
    for path in paths {
        let text = fs::read_to_string(&path).unwrap();
        let (files, expected) = parts(&text);
        let files: Vec<(&str, &str)> = files
            .iter()
            .map(|(path, text)| (path.as_str(), text.as_str()))
            .collect();
        let tree = SourceTree::of(&files);
        let proposal = survey(&tree, "", &Answers::new(), &SmallMachine);
        let found = written(&tree, &proposal);
        if writes {
            let sources = text.split("=== proposal\n").next().unwrap();
            fs::write(&path, format!("{sources}=== proposal\n{found}")).unwrap();
        } else {
            assert_eq!(found, expected, "{}", path.display());
        }
        // What is written can be read, and is as the formatter has it.
        for package in proposal.packages() {
            let writer = DefinitionWriter::new(&tree, "", &proposal, &BTreeSet::new());
            let mine: Vec<_> = proposal
                .definitions
                .iter()
                .filter(|one| one.address.package == package)
                .collect();
            let text: std::sync::Arc<str> = writer.package(&mine).into();
            let tidy = nubrik_syntax::format(nubrik_source::TextId(0), &text).expect("definitions");
            assert_eq!(tidy, *text, "{}", path.display());
        }
    }
}

#[test]
fn a_survey_says_the_same_each_time() {
    let files = [
        (
            "a/Cargo.toml",
            "[package]\nname = \"a\"\n[dependencies]\nb = { path = \"../b\" }\nlog = \"0.4\"\n",
        ),
        ("a/src/main.rs", "fn main() {}\n"),
        ("b/Cargo.toml", "[package]\nname = \"b\"\n"),
        ("b/src/lib.rs", ""),
    ];
    let tree = SourceTree::of(&files);
    let once = || written(&tree, &survey(&tree, "", &Answers::new(), &SmallMachine));
    assert_eq!(once(), once());
}
