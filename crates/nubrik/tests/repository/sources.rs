//! The sources of this project, for tests of its rules.

use std::fs;
use std::path::Path;

/// The folder of all crates.
pub fn crates() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// All files below a folder, with their texts.
pub fn sources(folder: &Path, found: &mut Vec<(String, String)>) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            sources(&path, found);
        } else if let Ok(text) = String::from_utf8(fs::read(&path).unwrap()) {
            // What is no text, such as an archive, is no source.
            found.push((path.display().to_string(), text));
        }
    }
}
