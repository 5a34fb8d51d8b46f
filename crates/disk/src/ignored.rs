//! What a folder says of names in it and below that nobody is to see.

use std::io;
use std::path::Path;

use ignore::gitignore::{Gitignore, GitignoreBuilder};

use crate::reading::read_file;

/// The name of the file that says it.
pub const IGNORE_FILE: &str = ".gitignore";

/// An ignore file may have so many bytes.
const IGNORE_LIMIT: u64 = 1 << 20;

/// The patterns in a folder's ignore file, none where it has no such file.
///
/// # Errors
/// When something else than a file of bounded size has that name, or it cannot be read.
pub fn ignored_in(folder: &Path) -> io::Result<Gitignore> {
    let bytes = match read_file(&folder.join(IGNORE_FILE), IGNORE_LIMIT) {
        Err(e)
            if matches!(
                e.kind(),
                io::ErrorKind::NotFound | io::ErrorKind::NotADirectory
            ) =>
        {
            return Ok(Gitignore::empty());
        }
        read => read?,
    };
    let mut builder = GitignoreBuilder::new(folder);
    for line in String::from_utf8_lossy(&bytes).lines() {
        // A line that is no pattern ignores nothing.
        let _ = builder.add_line(None, line);
    }
    Ok(builder.build().unwrap_or_else(|_| Gitignore::empty()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_plain_files_say_it() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join(IGNORE_FILE);
        let is_ignored = |name: &str| {
            ignored_in(folder.path())
                .map(|found| found.matched(folder.path().join(name), false).is_ignore())
        };
        assert!(!is_ignored("a.o").unwrap());
        std::fs::write(&file, "*.o\n[\n").unwrap();
        assert!(is_ignored("a.o").unwrap() && !is_ignored("a.c").unwrap());
        std::fs::remove_file(&file).unwrap();
        std::os::unix::fs::symlink("/dev/zero", &file).unwrap();
        assert!(is_ignored("a.o").is_err());
    }
}
