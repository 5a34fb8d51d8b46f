//! What failed commands printed, where it is too long to be shown: in files, so that nothing is lost.

use std::path::Path;

use nubrik_bytes::Digest;
use nubrik_disk::Below;

/// Where the files are, from the workspace's root.
const FOLDER: &str = ".nubrik/printed";

/// How much of a step's title its file's name holds, in letters.
const NAME: usize = 80;

/// Keeps what a step printed that failed, in place of what it printed when it failed before. Gives the file, from the
/// workspace's root; `None` where it cannot be written.
pub fn keep_printed(root: &Path, title: &str, printed: &[u8]) -> Option<String> {
    let plain = |c: char| if c.is_alphanumeric() || matches!(c, '.' | '-' | '_') { c } else { '-' };
    let name: String = title.chars().take(NAME).map(plain).collect();
    let digest = &Digest::of(title.as_bytes()).hex()[..8];
    let path = format!("{FOLDER}/{name}-{digest}.txt");
    let below = Below::new(root).ok()?;
    below.made_folder(FOLDER).ok()?;
    below.write_whole(&path, printed).ok()?;
    Some(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keeps_the_last_of_each_step() {
        let root = tempfile::tempdir().unwrap();
        let one = keep_printed(root.path(), "tide/../a b", b"1").unwrap();
        assert!(one.starts_with(".nubrik/printed/tide-..-a-b-"), "{one}");
        assert_eq!(keep_printed(root.path(), "tide/../a b", b"2"), Some(one.clone()));
        assert_eq!(std::fs::read(root.path().join(one)).unwrap(), b"2");
        assert_eq!(std::fs::read_dir(root.path().join(FOLDER)).unwrap().count(), 1);
    }
}
