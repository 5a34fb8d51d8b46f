//! The server for jobs of a team.

use nubrik_workers::ExchangePlace;
use nubrik_workspace::{SharedSettings, WorkersSettings};

use crate::agreeing::must_agree_to_jobs;
use crate::trouble::TeamTrouble;

/// Where the exchange is, with the user that a variable names.
///
/// # Errors
/// That the person did not agree to it, or that the variable names no user.
pub fn exchange_of(
    settings: &WorkersSettings,
    shared: Option<&SharedSettings>,
) -> Result<ExchangePlace, TeamTrouble> {
    must_agree_to_jobs(settings, shared)?;
    let user = match &settings.secret {
        None => None,
        Some(name) => {
            let secret = std::env::var(name).ok();
            let user = secret.as_deref().and_then(|secret| secret.split_once(':'));
            let (user, password) = user.ok_or_else(|| TeamTrouble::NoUser(name.clone()))?;
            Some((user.to_owned(), password.to_owned()))
        }
    };
    Ok(ExchangePlace {
        at: settings.at.clone(),
        user,
        client: nubrik_web::client_certificate(),
        pool: settings.pool.clone(),
    })
}
