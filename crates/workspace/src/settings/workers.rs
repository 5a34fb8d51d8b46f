//! `[workers]`: other machines that run steps.

use nubrik_diagnostic::nearest;
use toml::de::{DeTable, DeValue};

use super::{Keyed, SettingsProblem, problem, secret, sorted, with_password};

const KEYS: [&str; 3] = ["at", "pool", "secret"];

// What is wrong with a value, and how it is mended.
const NO_SERVER: (&str, &str) = (
    "`at` is the address of a NATS server: nats:// or tls://, without a user",
    "at = \"nats://jobs.example:4222\"",
);
const NO_POOL: (&str, &str) = (
    "`pool` is a name of letters, digits, `-` and `_`",
    "pool = \"linux\"",
);

/// Where jobs for other machines go.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct WorkersSettings {
    /// The address of the server.
    pub at: String,
    /// The pool that jobs are put into.
    pub pool: String,
    /// The name of the variable that holds a user and a password with `:` between.
    pub secret: Option<String>,
}

/// Reads the table.
pub(super) fn workers(
    at: std::ops::Range<usize>,
    table: &DeTable<'_>,
) -> Result<WorkersSettings, SettingsProblem> {
    let mut settings = WorkersSettings {
        at: String::new(),
        pool: "default".to_owned(),
        secret: None,
    };
    for (key, value) in sorted(table) {
        let text = |value: &Keyed<'_>| match value.get_ref() {
            DeValue::String(text) => Some(text.to_string()),
            _ => None,
        };
        let wrong = |(message, mend): (&str, &str)| {
            problem(value.span(), message.to_owned(), Some(mend.to_owned()))
        };
        match &**key.get_ref() {
            "at" => {
                with_password("at", value).map_or(Ok(()), Err)?;
                settings.at = text(value)
                    .filter(|text| is_server(text))
                    .ok_or_else(|| wrong(NO_SERVER))?
            }
            "pool" => {
                let pool = text(value).filter(|text| nubrik_workers::is_pool(text));
                settings.pool = pool.ok_or_else(|| wrong(NO_POOL))?;
            }
            "secret" => {
                settings.secret = Some(secret("a user and a password with `:` between", value)?)
            }
            unknown => {
                let near = nearest(unknown, KEYS).map(str::to_owned);
                let known = format!(
                    "`workers` has no `{unknown}`; there is: {}",
                    KEYS.join(", ")
                );
                return Err(problem(key.span(), known, near));
            }
        }
    }
    if settings.at.is_empty() {
        let message = "`workers` does not say where the server is".to_owned();
        return Err(problem(at, message, Some(NO_SERVER.1.to_owned())));
    }
    Ok(settings)
}

fn is_server(text: &str) -> bool {
    ["nats://", "tls://"]
        .iter()
        .any(|start| text.starts_with(start) && text.len() > start.len())
        && !text.contains('@')
}
