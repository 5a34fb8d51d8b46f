//! Keys of a person, by variables: of who writes to a shared cache, who gives jobs, and who does
//! them.

use std::fs;
use std::path::{Path, PathBuf};

use nubrik_shared::SecretKey;

use crate::trouble::TeamTrouble;

/// The key of who writes, or the file that it is in.
pub const KEY_VARIABLE: &str = "NUBRIK_SHARED_KEY";

/// The key of who gives jobs, or the file that it is in.
pub const JOBS_VARIABLE: &str = "NUBRIK_JOBS_KEY";

/// The key of who does them, or the file that it is in.
pub const WORKER_VARIABLE: &str = "NUBRIK_WORKER_KEY";

/// The key in a file.
///
/// # Errors
/// Why there is none.
pub fn key_in(file: &Path) -> Result<SecretKey, TeamTrouble> {
    let text = fs::read_to_string(file)
        .map_err(|e| TeamTrouble::KeyUnreadable(file.to_owned(), e.to_string()))?;
    SecretKey::parse(&text).ok_or_else(|| TeamTrouble::NoKeyInFile(file.to_owned()))
}

/// The key that a variable holds, or the file that it names; nothing where it is not set.
///
/// # Errors
/// That there is no key in it.
pub fn key_of(variable: &str) -> Result<Option<SecretKey>, TeamTrouble> {
    let Some(value) = std::env::var(variable)
        .ok()
        .filter(|value| !value.is_empty())
    else {
        return Ok(None);
    };
    match SecretKey::parse(&value) {
        Some(key) => Ok(Some(key)),
        None if value.starts_with("ed25519") => Err(TeamTrouble::NoKeyIn(variable.to_owned())),
        None => key_in(Path::new(&value)).map(Some),
    }
}

/// Refuses to run jobs where they could read a key of this machine.
///
/// # Errors
/// The file with a key that they could read.
pub fn keys_must_be_hidden() -> Result<(), TeamTrouble> {
    let variables = [
        WORKER_VARIABLE,
        JOBS_VARIABLE,
        KEY_VARIABLE,
        nubrik_web::CLIENT_CERTIFICATE,
    ];
    for name in variables {
        let Some(file) = std::env::var_os(name)
            .map(PathBuf::from)
            .filter(|path| path.is_absolute())
        else {
            continue;
        };
        let Ok(file) = file.canonicalize() else {
            continue;
        };
        if nubrik_confine::is_shown_to_steps(&file) {
            return Err(TeamTrouble::KeyShown(file, name));
        }
    }
    Ok(())
}
