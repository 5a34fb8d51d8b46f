//! What a workspace asks of a person before it is used: a shared cache, a server for jobs,
//! variables that are sent somewhere.

use nubrik_shared::PublicKey;
use nubrik_web::{Agreement, Agreements};

use crate::trouble::TeamTrouble;
use nubrik_workspace::{Settings, SharedPlace, SharedSettings, WorkersSettings};

/// Agrees to a root key where nobody can be asked: to its store and its server for jobs wherever
/// `nubrik.toml` says, if nothing secret is sent there.
const ROOT_VARIABLE: &str = "NUBRIK_SHARED_ROOT_KEY";

/// The name of the key of object storage in agreements, whichever variables or files it is from.
const STORAGE_KEY: &str = "AWS_SECRET_ACCESS_KEY";

/// The place of a store, with the server of a bucket.
fn whole_place(place: &SharedPlace) -> String {
    match &place.endpoint {
        Some(server) => format!("{} at {server}", place.at),
        None => place.at.clone(),
    }
}

/// What is sent to a store with each request, if that is secret.
pub(crate) fn secret_of_store(place: &SharedPlace) -> Option<Agreement> {
    let variable = if place.at.starts_with("s3://") {
        Some(STORAGE_KEY)
    } else {
        place.secret.as_deref()
    };
    Some(Agreement::Secret {
        variable: variable?.to_owned(),
        at: whole_place(place),
    })
}

fn store(place: &SharedPlace, root: &PublicKey) -> Agreement {
    Agreement::Store {
        root: root.to_string(),
        at: whole_place(place),
    }
}

/// What is asked of a person who uses a store, or a mirror of one: the place itself, and what it
/// gets that is secret.
pub fn asked_by_store(place: &SharedPlace, root: &PublicKey) -> Vec<Agreement> {
    [store(place, root)]
        .into_iter()
        .chain(secret_of_store(place))
        .collect()
}

fn jobs(settings: &WorkersSettings) -> Agreement {
    Agreement::Jobs {
        at: settings.at.clone(),
    }
}

fn secret_of_jobs(settings: &WorkersSettings) -> Option<Agreement> {
    let variable = settings.secret.clone()?;
    Some(Agreement::Secret {
        variable,
        at: settings.at.clone(),
    })
}

/// Whether a root key was agreed to by variable.
fn knows_root(settings: &SharedSettings) -> bool {
    std::env::var(ROOT_VARIABLE).is_ok_and(|text| PublicKey::parse(&text) == Some(settings.root))
}

/// Whether the person agreed to a store, and to its mirror if it has one.
pub fn is_accepted(settings: &SharedSettings) -> bool {
    let agreed = Agreements::of_this_person();
    knows_root(settings)
        || settings
            .places()
            .all(|place| agreed.hold(&store(place, &settings.root)))
}

/// Refuses what the person did not agree to.
///
/// # Errors
/// What that is.
pub(crate) fn must_be_agreed(asked: Option<&Agreement>) -> Result<(), TeamTrouble> {
    match asked {
        Some(asked) if !Agreements::of_this_person().hold(asked) => {
            Err(TeamTrouble::NotAgreed(asked.clone()))
        }
        _ => Ok(()),
    }
}

/// Refuses a server for jobs that the person did not agree to, or a secret that it would get.
///
/// # Errors
/// What that is.
pub(crate) fn must_agree_to_jobs(
    settings: &WorkersSettings,
    shared: Option<&SharedSettings>,
) -> Result<(), TeamTrouble> {
    if !shared.is_some_and(knows_root) {
        must_be_agreed(Some(&jobs(settings)))?;
    }
    must_be_agreed(secret_of_jobs(settings).as_ref())
}

/// What a workspace asks for a shared cache and other machines at work.
pub fn asked_for_team(settings: &Settings) -> Vec<Agreement> {
    let of_store = settings.shared.iter().flat_map(|shared| {
        shared
            .places()
            .flat_map(|place| asked_by_store(place, &shared.root))
    });
    let of_jobs = settings
        .workers
        .iter()
        .flat_map(|workers| [jobs(workers)].into_iter().chain(secret_of_jobs(workers)));
    of_store.chain(of_jobs).collect()
}

/// Agreements, and whether the person gave each already.
pub fn with_answers(asked: Vec<Agreement>) -> Vec<(Agreement, bool)> {
    let agreed = Agreements::of_this_person();
    asked
        .into_iter()
        .map(|asked| (asked.clone(), agreed.hold(&asked)))
        .collect()
}
