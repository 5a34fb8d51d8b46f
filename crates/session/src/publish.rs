//! Copies of results where people find them. Never links: what is edited there harms nothing else.

use std::fs;
use std::io::{self, Read, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Puts a copy of a file or folder in a place where anything may stand.
///
/// # Errors
/// When something cannot be read, written or taken away. A file that was there is then still there, whole.
pub(crate) fn publish(from: &Path, to: &Path) -> io::Result<()> {
    let source = fs::File::open(from)?;
    let found = source.metadata()?;
    match found.is_dir() {
        true => publish_folder(from, to),
        false => publish_file(source, &found, to),
    }
}

/// Puts a copy of a file where there may be another one, or a folder; never half replaced.
fn publish_file(mut from: fs::File, found: &fs::Metadata, to: &Path) -> io::Result<()> {
    match create_copy(to, found) {
        Ok(mut target) => return fill(&mut from, found.len(), &mut target),
        Err(e) if e.kind() == io::ErrorKind::NotFound => {
            if let Some(parent) = to.parent() {
                fs::create_dir_all(parent)?;
            }
            return fill(&mut from, found.len(), &mut create_copy(to, found)?);
        }
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
        Err(e) => return Err(e),
    }
    if to.symlink_metadata()?.is_dir() {
        fs::remove_dir_all(to)?;
        return fill(&mut from, found.len(), &mut create_copy(to, found)?);
    }
    // Beside it first, then in its place.
    let name = to.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let beside = to.with_file_name(format!(".{name}.new"));
    let mut target = create_copy(&beside, found).or_else(|e| match e.kind() {
        // What a build that was killed left there.
        io::ErrorKind::AlreadyExists => {
            fs::remove_file(&beside)?;
            create_copy(&beside, found)
        }
        _ => Err(e),
    })?;
    fill(&mut from, found.len(), &mut target)?;
    fs::rename(&beside, to)
}

/// Puts a copy of a folder in the place of whatever stands there.
fn publish_folder(from: &Path, to: &Path) -> io::Result<()> {
    match to.symlink_metadata() {
        Ok(there) if there.is_dir() => fs::remove_dir_all(to)?,
        Ok(_) => fs::remove_file(to)?,
        Err(_) => {}
    }
    fs::create_dir_all(to)?;
    let mut open = vec![PathBuf::new()];
    while let Some(below) = open.pop() {
        for entry in fs::read_dir(from.join(&below))? {
            let path = below.join(entry?.file_name());
            let mut source = fs::File::open(from.join(&path))?;
            let found = source.metadata()?;
            if found.is_dir() {
                fs::create_dir_all(to.join(&path))?;
                open.push(path);
            } else {
                fill(&mut source, found.len(), &mut create_copy(&to.join(&path), &found)?)?;
            }
        }
    }
    Ok(())
}

/// A new file for a copy that its owner may write; an error where there is something already.
fn create_copy(to: &Path, of: &fs::Metadata) -> io::Result<fs::File> {
    let executable = of.permissions().mode() & 0o100 != 0;
    let mode = if executable { 0o755 } else { 0o644 };
    fs::OpenOptions::new().write(true).create_new(true).mode(mode).open(to)
}

/// Copies a file of known size. For small ones reading and writing takes fewer calls than having the system
/// copy.
fn fill(from: &mut fs::File, size: u64, to: &mut fs::File) -> io::Result<()> {
    const SMALL: u64 = 64 << 10;
    if size > SMALL {
        return io::copy(from, to).map(drop);
    }
    let mut bytes = vec![0; size as usize];
    from.read_exact(&mut bytes)?;
    to.write_all(&bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stands_where_anything_stood() {
        let folder = tempfile::tempdir().unwrap();
        let (from, to) = (folder.path().join("made"), folder.path().join("out/site/page"));
        fs::write(&from, "high water").unwrap();
        let shows = |text: &str| {
            publish(&from, &to).unwrap();
            assert_eq!(fs::read_to_string(&to).unwrap(), text);
            assert_eq!(to.symlink_metadata().unwrap().permissions().mode() & 0o200, 0o200);
        };
        shows("high water");
        fs::write(&from, "low water").unwrap();
        shows("low water");
        fs::remove_file(&to).unwrap();
        fs::create_dir_all(to.join("a/b")).unwrap();
        shows("low water");
        fs::remove_file(&to).unwrap();
        std::os::unix::fs::symlink("nowhere", &to).unwrap();
        shows("low water");
        // A build that was killed while it wrote beside it.
        fs::write(to.with_file_name(".page.new"), "half").unwrap();
        shows("low water");
        fs::write(&from, vec![b'x'; 100_000]).unwrap();
        shows(&"x".repeat(100_000));
    }

    #[test]
    fn folders_stand_where_files_stood() {
        let folder = tempfile::tempdir().unwrap();
        let (from, to) = (folder.path().join("made"), folder.path().join("out"));
        fs::create_dir_all(from.join("a/b")).unwrap();
        fs::write(from.join("a/b/c"), "x").unwrap();
        fs::write(&to, "a file").unwrap();
        publish(&from, &to).unwrap();
        fs::write(to.join("old"), "").unwrap();
        publish(&from, &to).unwrap();
        assert_eq!(fs::read(to.join("a/b/c")).unwrap(), b"x");
        assert!(!to.join("old").exists());
    }
}
