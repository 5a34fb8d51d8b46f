//! Writes the list of the demo's files, so that the program carries them.

use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};

fn main() {
    let demo = PathBuf::from(std::env::var_os("CARGO_MANIFEST_DIR").unwrap_or_default()).join("../../demo");
    println!("cargo::rerun-if-changed={}", demo.display());
    let mut files = Vec::new();
    collect(&demo, &mut files);
    files.sort();
    let mut list = String::from("[\n");
    for path in files {
        let name = path.strip_prefix(&demo).unwrap_or(&path).display().to_string();
        let _ = writeln!(list, "    ({name:?}, include_str!({:?})),", path.display().to_string());
    }
    list.push(']');
    let out = PathBuf::from(std::env::var_os("OUT_DIR").unwrap_or_default()).join("demo_files.rs");
    if let Err(e) = fs::write(&out, list) {
        println!("cargo::error=cannot write {}: {e}", out.display());
    }
}

/// Files of the demo, without what a build leaves in it.
fn collect(folder: &Path, files: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        let name = entry.file_name();
        if name == "out" || name == ".nubrik" {
            continue;
        }
        if path.is_dir() { collect(&path, files) } else { files.push(path) }
    }
}
