//! The rule of the house: crates use only those below them, and only the program knows a terminal.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::fs;
use std::path::Path;

/// Crates from the ground floor up.
const FLOORS: [&str; 12] = [
    "source",
    "diagnostic",
    "graph",
    "store",
    "archive",
    "cases",
    "confine",
    "syntax",
    "lang",
    "engine",
    "session",
    "nubrik",
];

/// Packages of the program's face, and words of it, that no other crate may hold.
const FACE: [&str; 6] = ["clap", "terminal_size", "unicode-width", "println!", "process::exit", "ExitCode"];

fn crates() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

fn sources(folder: &Path, found: &mut Vec<(String, String)>) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            sources(&path, found);
        } else {
            found.push((path.display().to_string(), fs::read_to_string(&path).unwrap()));
        }
    }
}

#[test]
fn arrows_point_down() {
    for (floor, name) in FLOORS.iter().enumerate() {
        let manifest = fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
        for (above, other) in FLOORS.iter().enumerate() {
            let uses = manifest.lines().any(|l| l.starts_with(&format!("nubrik-{other}.")));
            assert!(!uses || above < floor, "{name} uses {other}, which stands above it");
        }
    }
    let engine = fs::read_to_string(crates().join("engine/Cargo.toml")).unwrap();
    assert!(
        !engine.contains("nubrik-syntax") && !engine.contains("nubrik-lang"),
        "the engine sees no definitions"
    );
}

#[test]
fn only_the_program_has_a_face() {
    for name in FLOORS.iter().filter(|n| **n != "nubrik") {
        let manifest = fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
        let mut files = vec![("Cargo.toml".to_owned(), manifest)];
        sources(&crates().join(name).join("src"), &mut files);
        for (path, text) in files {
            for word in FACE {
                assert!(!text.contains(word), "{path} holds `{word}`");
            }
        }
    }
}

#[test]
fn unsafe_code_lives_in_one_place() {
    let mut files = Vec::new();
    for name in FLOORS {
        sources(&crates().join(name).join("src"), &mut files);
    }
    for (path, text) in files {
        let allowed = path.contains("confine/src/sys/");
        assert!(
            allowed || !(text.contains("unsafe {") || text.contains("allow(unsafe_code)")),
            "{path} holds unsafe code"
        );
    }
}
