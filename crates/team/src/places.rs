//! The place of a shared cache, as objects that can be asked; the credentials for it come from
//! variables and files of the person.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_disk::OwnFolder;
use nubrik_shared::{Acceptance, SharedStore};
use nubrik_web::{Address, Asker, Credential, Objects, StorageKey, TlsFiles};
use nubrik_workspace::{SharedPlace, SharedSettings};

use crate::agreeing::{must_be_agreed, secret_of_store};
use crate::trouble::TeamTrouble;

/// The folder of a person for copies of what shared caches have.
///
/// # Errors
/// That no variable names one.
pub fn cache_folder() -> Result<PathBuf, TeamTrouble> {
    Ok(OwnFolder::Cache
        .find()
        .map_err(TeamTrouble::NoOwnFolder)?
        .join("shared"))
}

/// What of a store is remembered.
fn state_folder() -> Result<PathBuf, TeamTrouble> {
    Ok(OwnFolder::State
        .find()
        .map_err(TeamTrouble::NoOwnFolder)?
        .join("shared"))
}

/// The objects of a store. `nubrik.toml` names it, unless a person named it just now.
pub(crate) fn objects_of(place: &SharedPlace, is_typed: bool) -> Result<Objects, TeamTrouble> {
    if !is_typed {
        must_be_agreed(secret_of_store(place).as_ref())?;
    }
    // As for registries and the server of jobs.
    let of_machine = std::env::var_os("SSL_CERT_FILE")
        .map(PathBuf::from)
        .filter(|path| path.is_file());
    let trusted = place
        .certificates
        .clone()
        .into_iter()
        .chain(of_machine)
        .collect();
    let tls = TlsFiles {
        trusted,
        client: nubrik_web::client_certificate(),
    };
    if let Some(bucket) = place.at.strip_prefix("s3://") {
        let endpoint = place.endpoint.as_deref().ok_or(TeamTrouble::NoEndpoint)?;
        let address = Address::parse(&format!("{}/{bucket}", endpoint.trim_end_matches('/')))?.0;
        let key = storage_key(place.region()).ok_or(TeamTrouble::NoStorageKey)?;
        return Ok(Objects::new(address, Asker::Signing(key), tls));
    }
    let at = &place.at;
    let address = if at.starts_with('/') {
        Address::of_folder(Path::new(at)).ok_or_else(|| TeamTrouble::NoFolder(at.clone()))?
    } else {
        Address::parse(at)?.0
    };
    let asker = match &place.secret {
        None => Asker::Anybody,
        Some(name) => {
            let secret = std::env::var(name).ok().filter(|secret| !secret.is_empty());
            let secret = secret.ok_or_else(|| TeamTrouble::SecretUnset(name.clone()))?;
            Asker::Known(match secret.split_once(':') {
                Some((user, password)) => Credential::Basic(user.to_owned(), password.to_owned()),
                None => Credential::Bearer(secret),
            })
        }
    };
    Ok(Objects::new(address, asker, tls))
}

/// The key for object storage, from where its ordinary clients look: variables, then the file of
/// profiles.
fn storage_key(region: &str) -> Option<StorageKey> {
    let variable = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let region = region.to_owned();
    if let (Some(id), Some(secret)) = (
        variable("AWS_ACCESS_KEY_ID"),
        variable("AWS_SECRET_ACCESS_KEY"),
    ) {
        return Some(StorageKey {
            id,
            secret,
            token: variable("AWS_SESSION_TOKEN"),
            region,
        });
    }
    let home = || Some(PathBuf::from(std::env::var_os("HOME")?).join(".aws/credentials"));
    let file = variable("AWS_SHARED_CREDENTIALS_FILE")
        .map(PathBuf::from)
        .or_else(home)?;
    let profile = variable("AWS_PROFILE").unwrap_or_else(|| "default".to_owned());
    key_of_profile(&fs::read_to_string(file).ok()?, &profile, region)
}

/// The key of a profile in a file of profiles: `[name]`, and lines of names and values.
fn key_of_profile(text: &str, profile: &str, region: String) -> Option<StorageKey> {
    let mut values: std::collections::HashMap<&str, &str> = std::collections::HashMap::new();
    let mut is_here = false;
    for line in text.lines().map(str::trim) {
        if let Some(name) = line
            .strip_prefix('[')
            .and_then(|rest| rest.strip_suffix(']'))
        {
            is_here = name.trim() == profile;
        } else if let Some((name, value)) = line.split_once('=').filter(|_| is_here) {
            values.insert(name.trim(), value.trim());
        }
    }
    let value = |name: &str| values.get(name).map(|value| (*value).to_owned());
    let (id, secret) = (value("aws_access_key_id")?, value("aws_secret_access_key")?);
    Some(StorageKey {
        id,
        secret,
        token: value("aws_session_token"),
        region,
    })
}

/// A store that was agreed to, of which these channels are wanted.
///
/// # Errors
/// Why it cannot be asked.
pub fn store_of(
    settings: &SharedSettings,
    channels: Vec<String>,
) -> Result<Arc<SharedStore>, TeamTrouble> {
    let objects = objects_of(&settings.place, false)?;
    let name = settings.root.digest().hex()[..32].to_owned();
    let cache = cache_folder()?;
    let state = state_folder()?;
    let accepted = Acceptance {
        root: settings.root,
        channels,
        cache: cache.join(&name),
        seen: state.join(name),
    };
    let store = SharedStore::new(objects, accepted);
    Ok(Arc::new(match &settings.mirror {
        Some(mirror) => store.with_mirror(objects_of(mirror, false)?),
        None => store,
    }))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn keys_are_found_in_profiles() {
        let text = "[default]\naws_access_key_id = A\n aws_secret_access_key=b\n[ci]\naws_access_key_id=C\naws_secret_access_key=d\naws_session_token = e\n";
        let key = |profile: &str| key_of_profile(text, profile, "north".to_owned());
        assert_eq!(
            (key("default").unwrap().id, key("default").unwrap().token),
            ("A".to_owned(), None)
        );
        assert_eq!(key("ci").unwrap().token.as_deref(), Some("e"));
        assert!(key("other").is_none());
    }
}
