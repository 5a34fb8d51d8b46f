//! Folders of a person that all workspaces share.

use std::path::PathBuf;

/// The folder of the person's store.
pub fn store_folder() -> Option<PathBuf> {
    let absolute = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|p| p.is_absolute());
    let cache = absolute("XDG_CACHE_HOME").or_else(|| absolute("HOME").map(|home| home.join(".cache")))?;
    Some(cache.join("nubrik/store"))
}

/// The folder in which images of all workspaces are kept: in `nubrik/images` of the cache folder.
pub fn images_folder() -> Option<PathBuf> {
    Some(store_folder()?.parent()?.join("images"))
}
