//! `[watching]`: whether a watcher is kept.

use nubrik_diagnostic::nearest;
use toml::de::{DeTable, DeValue};

use super::{SettingsProblem, problem, sorted};

const KEYS: [&str; 1] = ["keep"];

/// Whether a watcher is kept.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct WatchingSettings {
    /// Whether each command that looks for changes leaves a watcher behind, which the next one
    /// asks.
    pub keep: bool,
}

/// Reads the table.
pub(super) fn watching(table: &DeTable<'_>) -> Result<WatchingSettings, SettingsProblem> {
    let mut settings = WatchingSettings::default();
    for (key, value) in sorted(table) {
        match (&**key.get_ref(), value.get_ref()) {
            ("keep", DeValue::Boolean(keep)) => settings.keep = *keep,
            ("keep", _) => {
                let message = "`keep` is true or false".to_owned();
                return Err(problem(
                    value.span(),
                    message,
                    Some("keep = true".to_owned()),
                ));
            }
            (unknown, _) => {
                let near = nearest(unknown, KEYS).map(str::to_owned);
                let known = format!(
                    "`watching` has no `{unknown}`; there is: {}",
                    KEYS.join(", ")
                );
                return Err(problem(key.span(), known, near));
            }
        }
    }
    Ok(settings)
}
