//! Programs by their names in the folders of a search path.

use std::ffi::OsStr;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;

/// The folders of a search path. A folder that is not absolute is another one in each place, and is left out.
pub fn folders_of(path: &OsStr) -> Vec<PathBuf> {
    std::env::split_paths(path).filter(|folder| folder.is_absolute()).collect()
}

/// The program of a name in the first of some folders that has one.
pub fn on_path(folders: &[PathBuf], name: &str) -> Option<PathBuf> {
    folders
        .iter()
        .map(|folder| folder.join(name))
        .find(|path| path.metadata().is_ok_and(|m| m.is_file() && m.permissions().mode() & 0o111 != 0))
}

/// The program that the person's own `PATH` finds by a name.
pub fn on_persons_path(name: &str) -> Option<PathBuf> {
    on_path(&folders_of(&std::env::var_os("PATH")?), name)
}
