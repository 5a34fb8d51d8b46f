//! Writes the list of the demo's files, so that the program carries them, and says which version it
//! is.

use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};

fn main() {
    let demo = PathBuf::from(std::env::var_os("CARGO_MANIFEST_DIR").unwrap_or_default())
        .join("../../demo");
    println!("cargo::rerun-if-changed={}", demo.display());
    let mut files = Vec::new();
    collect(&demo, &mut files);
    files.sort();
    let mut list = String::from("[\n");
    for path in files {
        let name = path
            .strip_prefix(&demo)
            .unwrap_or(&path)
            .display()
            .to_string();
        let _ = writeln!(
            list,
            "    ({name:?}, include_str!({:?})),",
            path.display().to_string()
        );
    }
    list.push(']');
    let out = PathBuf::from(std::env::var_os("OUT_DIR").unwrap_or_default()).join("demo_files.rs");
    if let Err(e) = fs::write(&out, list) {
        println!("cargo::error=cannot write {}: {e}", out.display());
    }
    let version = std::env::var("CARGO_PKG_VERSION").unwrap_or_default();
    let revision = revision().map_or_else(String::new, |revision| format!(" ({revision})"));
    println!("cargo::rustc-env=NUBRIK_VERSION={version}{revision}");
}

/// The commit of a program that is meant for use, and its day. Others are compiled again and again:
/// they do not depend on it.
fn revision() -> Option<String> {
    println!("cargo::rerun-if-env-changed=NUBRIK_REVISION");
    if let Some(given) = std::env::var("NUBRIK_REVISION")
        .ok()
        .filter(|given| !given.is_empty())
    {
        return Some(given);
    }
    // Only Cargo is beside a checkout.
    if std::env::var("PROFILE").ok()? != "release" || std::env::var_os("CARGO").is_none() {
        return None;
    }
    let top = PathBuf::from(std::env::var_os("CARGO_MANIFEST_DIR")?).join("../..");
    let said = |words: &[&str]| {
        let told = std::process::Command::new("git")
            .arg("-C")
            .arg(&top)
            .args(words)
            .output()
            .ok()?;
        told.status
            .success()
            .then(|| String::from_utf8_lossy(&told.stdout).trim().to_owned())
    };
    println!(
        "cargo::rerun-if-changed={}",
        top.join(".git/logs/HEAD").display()
    );
    let commit = said(&["log", "-1", "--format=%h, %cs"])?;
    let is_changed = !said(&["status", "--porcelain", "--untracked-files=no"])?.is_empty();
    Some(format!(
        "{commit}{}",
        if is_changed { ", changed since" } else { "" }
    ))
}

/// Files of the demo, without what a build leaves in it.
fn collect(folder: &Path, files: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        let name = entry.file_name();
        if name == "out" || name == ".nubrik" {
            continue;
        }
        if path.is_dir() {
            collect(&path, files)
        } else {
            files.push(path)
        }
    }
}
