//! What tests of images share.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// Everything below a folder: its path, with its kind, permissions and content.
pub fn listed(folder: &Path) -> Vec<String> {
    let mut all = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(at) = open.pop() {
        for entry in fs::read_dir(&at).unwrap().flatten() {
            let path = entry.path();
            let name = path.strip_prefix(folder).unwrap().display().to_string();
            let found = path.symlink_metadata().unwrap();
            let mode = found.mode() & 0o7777;
            all.push(if found.is_dir() {
                open.push(path);
                format!("{name}/ {mode:o}")
            } else if found.is_symlink() {
                format!("{name} -> {}", path.read_link().unwrap().display())
            } else {
                format!(
                    "{name} {mode:o} {}",
                    String::from_utf8_lossy(&fs::read(&path).unwrap())
                )
            });
        }
    }
    all.sort();
    all
}
