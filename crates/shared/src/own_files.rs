//! Files that this machine keeps for itself.

use std::fs;
use std::path::Path;

/// Writes a file of this machine's own, whole or not at all.
pub(crate) fn write_own(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let folder = path.parent().ok_or(std::io::ErrorKind::InvalidInput)?;
    fs::create_dir_all(folder)?;
    let temporary = path.with_extension(format!("{}.tmp", std::process::id()));
    fs::write(&temporary, bytes)
        .and_then(|()| fs::rename(&temporary, path))
        .inspect_err(|_| drop(fs::remove_file(&temporary)))
}
