//! What commands printed, where it is too long to be shown or kept: in files, so that nothing is
//! lost.

use std::fs::File;
use std::path::Path;

use nubrik_bytes::Digest;

use crate::Below;

/// Where the files are, from the workspace's root.
const FOLDER: &str = ".nubrik/printed";

/// How much of a step's title its file's name holds, in letters.
const NAME: usize = 80;

/// The file for what a step with some title printed, from the workspace's root.
fn place_of(title: &str) -> String {
    let plain = |c: char| {
        if c.is_alphanumeric() || matches!(c, '.' | '-' | '_') {
            c
        } else {
            '-'
        }
    };
    let name: String = title.chars().take(NAME).map(plain).collect();
    format!(
        "{FOLDER}/{name}-{}.txt",
        &Digest::of(title.as_bytes()).hex()[..8]
    )
}

/// Keeps what a step printed that failed, in place of what it printed when it failed before. Gives
/// the file, from the workspace's root; `None` where it cannot be written.
pub fn keep_printed(root: &Path, title: &str, printed: &[u8]) -> Option<String> {
    let (path, below) = (place_of(title), Below::new(root).ok()?);
    below.made_folder(FOLDER).ok()?;
    below.write_whole(&path, printed).ok()?;
    Some(path)
}

/// A new file for all that a step prints, in place of the one of before, and its path from the
/// workspace's root; `None` where it cannot be made.
pub fn file_for_printed(root: &Path, title: &str) -> Option<(File, String)> {
    let (path, below) = (place_of(title), Below::new(root).ok()?);
    below.made_folder(FOLDER).ok()?;
    // Who reads the one of before goes on with that.
    below
        .remove_file(&path)
        .or_else(|error| {
            if error.kind() == std::io::ErrorKind::NotFound {
                Ok(())
            } else {
                Err(error)
            }
        })
        .ok()?;
    Some((below.new_file(&path, 0o644).ok()?, path))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keeps_the_last_of_each_step() {
        let root = tempfile::tempdir().unwrap();
        let one = keep_printed(root.path(), "tide/../a b", b"1").unwrap();
        assert!(one.starts_with(".nubrik/printed/tide-..-a-b-"), "{one}");
        assert_eq!(
            keep_printed(root.path(), "tide/../a b", b"2"),
            Some(one.clone())
        );
        assert_eq!(std::fs::read(root.path().join(one)).unwrap(), b"2");
        assert_eq!(
            std::fs::read_dir(root.path().join(FOLDER)).unwrap().count(),
            1
        );
    }
}
