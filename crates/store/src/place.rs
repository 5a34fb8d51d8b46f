//! The folder of a person in which the store of all workspaces is.

use std::path::PathBuf;

/// The folder of the person's store.
pub fn store_folder() -> Option<PathBuf> {
    let absolute = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|p| p.is_absolute());
    let cache = absolute("XDG_CACHE_HOME").or_else(|| absolute("HOME").map(|home| home.join(".cache")))?;
    Some(cache.join("nubrik/store"))
}
