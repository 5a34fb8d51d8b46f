//! The folder of a person in which the store of all workspaces is.

use std::path::PathBuf;

use nubrik_disk::{NoOwnFolder, OwnFolder};

/// The folder of the person's store.
///
/// # Errors
/// When no variable names one.
pub fn store_folder() -> Result<PathBuf, NoOwnFolder> {
    Ok(OwnFolder::Cache.find()?.join("store"))
}
