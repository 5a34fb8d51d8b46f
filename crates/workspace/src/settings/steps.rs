//! `[steps]`: how steps run that say nothing of it themselves.

use std::sync::Arc;

use nubrik_diagnostic::nearest;
use toml::de::{DeTable, DeValue};

use super::{SettingsProblem, problem, sorted};

const KEYS: [&str; 1] = ["root"];

/// How steps run that say nothing of it themselves.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct StepSettings {
    /// The address of the image that they run in.
    pub root: Option<Arc<str>>,
}

/// Reads the table.
pub(super) fn steps(table: &DeTable<'_>) -> Result<StepSettings, SettingsProblem> {
    let mut settings = StepSettings::default();
    for (key, value) in sorted(table) {
        match (&**key.get_ref(), value.get_ref()) {
            ("root", DeValue::String(text)) if text.starts_with('/') && text.len() > 1 => {
                settings.root = Some(Arc::from(&**text));
            }
            ("root", _) => {
                let message = "`root` is the address of an image, from the workspace's root";
                let mend = "root = \"/images/base\"".to_owned();
                return Err(problem(value.span(), message.to_owned(), Some(mend)));
            }
            (unknown, _) => {
                let near = nearest(unknown, KEYS).map(str::to_owned);
                let known = format!("`steps` has no `{unknown}`; there is: {}", KEYS.join(", "));
                return Err(problem(key.span(), known, near));
            }
        }
    }
    Ok(settings)
}
