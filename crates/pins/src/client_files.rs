//! What the ordinary clients of registries have in common: an address with its credential, and
//! files in a person's folder.

use std::path::{Path, PathBuf};

use nubrik_web::{Address, Credential};

use crate::PinProblem;
use crate::origin::{ClientSettings, Origin};

/// An address that a client's settings give.
pub(crate) fn origin(
    text: &str,
    said_by: &str,
    around: &dyn ClientSettings,
) -> Result<Origin, PinProblem> {
    let text = text.strip_prefix("sparse+").unwrap_or(text);
    let (address, credential) = Address::parse(text).map_err(|what| {
        PinProblem::new(format!("the address of a registry in {said_by}: {what}"))
    })?;
    let credential = credential.or_else(|| from_netrc(&address, around));
    Ok(Origin::new(address, credential, said_by))
}

/// The person's folder.
pub(crate) fn home(around: &dyn ClientSettings) -> PathBuf {
    around
        .variable("HOME")
        .map(PathBuf::from)
        .unwrap_or_else(|| "/nonexistent".into())
}

/// A path as messages name it: without the folder of its owner.
pub(crate) fn shown(path: &Path, around: &dyn ClientSettings) -> String {
    match path.strip_prefix(home(around)) {
        Ok(below) => format!("~/{}", below.display()),
        Err(_) => path.display().to_string(),
    }
}

/// What `.netrc` says of a host.
fn from_netrc(address: &Address, around: &dyn ClientSettings) -> Option<Credential> {
    let path = around
        .variable("NETRC")
        .map_or_else(|| home(around).join(".netrc"), PathBuf::from);
    let text = around.text(&path)?;
    let host = address.host();
    let host = host
        .rsplit_once(':')
        .map_or(host.as_str(), |(name, _)| name);
    let mut words = text.split_whitespace();
    let (mut is_meant, mut user, mut password) = (false, None, None);
    while let Some(word) = words.next() {
        match word {
            "machine" => {
                if is_meant {
                    break;
                }
                is_meant = words.next() == Some(host);
            }
            "login" if is_meant => user = words.next(),
            "password" if is_meant => password = words.next(),
            _ => {}
        }
    }
    Some(Credential::Basic(user?.to_owned(), password?.to_owned()))
}
