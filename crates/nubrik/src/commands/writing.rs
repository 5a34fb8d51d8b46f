//! Files that a person names to be written.

use std::fs::File;
use std::path::{Path, PathBuf};

use nubrik_session::SETTINGS_FILE;

/// Writes a file that a person named, whole or not at all, with the folders above it. In a
/// workspace no link is followed, since a checkout may have put it there; elsewhere the person's
/// own links are, and a pipe or a device takes the text as it is.
pub fn write_whole(file: &Path, text: &str) -> std::io::Result<()> {
    write_file(file, |to| std::io::Write::write_all(to, text.as_bytes()))
}

/// The same of a file that something writes.
pub fn write_file(
    file: &Path,
    write: impl FnOnce(&mut File) -> std::io::Result<()>,
) -> std::io::Result<()> {
    let path = plain_path(file)?;
    if let Some(root) = root_around(&path)
        && let Some(inner) = path.strip_prefix(&root).ok().and_then(Path::to_str)
    {
        return nubrik_disk::Below::new(&root)?.replace(inner, write);
    }
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    // A person's own link stays one, and leads to what is written.
    let path = path.canonicalize().unwrap_or(path);
    if path.symlink_metadata().is_ok_and(|found| !found.is_file()) {
        return write(&mut File::options().write(true).open(path)?);
    }
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let temporary = path.with_file_name(format!(".{name}.{}.tmp", std::process::id()));
    let written = File::options()
        .write(true)
        .create_new(true)
        .open(&temporary)
        .and_then(|mut to| write(&mut to));
    written
        .and_then(|()| std::fs::rename(&temporary, &path))
        .inspect_err(|_| {
            let _ = std::fs::remove_file(&temporary);
        })
}

/// Removes a report of before, so that nobody takes it for the one that is to be written. Only a
/// file goes: neither a link, nor a pipe or a device.
pub fn remove_report(file: &Path) {
    let is_file = |path: &PathBuf| path.symlink_metadata().is_ok_and(|found| found.is_file());
    let Some(path) = plain_path(file).ok().filter(is_file) else {
        return;
    };
    let inner = root_around(&path)
        .and_then(|root| Some((path.strip_prefix(&root).ok()?.to_str()?.to_owned(), root)));
    // What cannot be removed is written over, or reported when that fails.
    let _ = match inner {
        Some((inner, root)) => {
            nubrik_disk::Below::new(&root).and_then(|below| below.remove_file(&inner))
        }
        None => std::fs::remove_file(path),
    };
}

/// The root of the workspace that a file is in by its path, whether it is there or not.
pub fn root_around(file: &Path) -> Option<PathBuf> {
    let path = plain_path(file).ok()?;
    path.ancestors()
        .skip(1)
        .find(|folder| folder.join(SETTINGS_FILE).is_file())
        .map(Path::to_owned)
}

/// The absolute path of a file that a person named from this folder. Its last name is as it was
/// written; where the way to it goes up again, that is followed as the kernel does.
fn plain_path(file: &Path) -> std::io::Result<PathBuf> {
    use std::path::Component;
    let whole = std::env::current_dir()?.join(file);
    let goes_up = whole.components().any(|part| part == Component::ParentDir);
    match (whole.parent(), whole.file_name()) {
        (Some(folder), Some(name)) if goes_up => Ok(folder.canonicalize()?.join(name)),
        _ => Ok(whole.components().collect()),
    }
}
