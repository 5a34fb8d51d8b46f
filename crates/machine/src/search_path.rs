//! Programs by their names in the folders of a search path.

use std::ffi::OsStr;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::ground::CONFINED_ENVIRONMENT;

/// The folders of a search path. A folder that is not absolute is another one in each place, and is
/// left out.
pub fn folders_of(path: &OsStr) -> Vec<PathBuf> {
    let mut folders: Vec<PathBuf> = Vec::new();
    for folder in std::env::split_paths(path).filter(|folder| folder.is_absolute()) {
        if !folders.contains(&folder) {
            folders.push(folder);
        }
    }
    folders
}

/// The program of a name in the first of some folders that has one.
pub fn on_path(folders: &[PathBuf], name: &str) -> Option<PathBuf> {
    folders.iter().map(|folder| folder.join(name)).find(|path| {
        path.metadata()
            .is_ok_and(|m| m.is_file() && m.permissions().mode() & 0o111 != 0)
    })
}

/// The program that the person's own `PATH` finds by a name.
pub fn on_persons_path(name: &str) -> Option<PathBuf> {
    on_path(&folders_of(&std::env::var_os("PATH")?), name)
}

/// The folders in which a step's commands look for programs.
pub(crate) fn step_search_path() -> Vec<PathBuf> {
    std::env::split_paths(CONFINED_ENVIRONMENT[0].1).collect()
}

/// A process's words. A program that looks itself up by the name it was called by would find
/// another one of that name in the step's own search path: such a program is called by its whole
/// path.
pub(crate) fn called_by(program: &Path, words: &[Arc<str>]) -> Vec<String> {
    let mut words: Vec<String> = words.iter().map(|w| w.to_string()).collect();
    if let Some(name) = words.first_mut().filter(|n| !n.contains('/')) {
        let found = step_search_path()
            .into_iter()
            .map(|folder| folder.join(&*name))
            .find(|p| p.exists());
        if found.is_none_or(|found| found != program) {
            *name = program.to_string_lossy().into_owned();
        }
    }
    words
}
