//! `[steps]`: how steps run that say nothing of it themselves.

use std::sync::Arc;

use nubrik_diagnostic::nearest;
use nubrik_lang::{NO_IMAGE, StepRoots};
use nubrik_source::WsPath;
use toml::de::{DeTable, DeValue};

use super::{Keyed, SettingsProblem, problem, sorted};

const KEYS: [&str; 2] = ["root", "roots"];

/// How the images of packages are written.
const ROOTS_MEND: &str = "roots = { \"firmware\" = \"/images/cross\" }";

/// How steps run that say nothing of it themselves.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct StepSettings {
    /// The images that they run in.
    pub roots: StepRoots,
}

/// Reads the table.
pub(super) fn steps(table: &DeTable<'_>) -> Result<StepSettings, SettingsProblem> {
    let mut settings = StepSettings::default();
    for (key, value) in sorted(table) {
        match (&**key.get_ref(), value.get_ref()) {
            ("root", value_of_key) => match address(value_of_key) {
                Some(root) => settings.roots.usual = root,
                None => return Err(no_address("root", value, "root = \"/images/base\"")),
            },
            ("roots", DeValue::Table(roots)) => {
                for (package, value) in sorted(roots) {
                    let text = package.get_ref().trim_start_matches('/');
                    let Ok(path) = WsPath::root().resolve(text) else {
                        let message = format!("\"{text}\" is no package of the workspace");
                        return Err(problem(
                            package.span(),
                            message,
                            Some(ROOTS_MEND.to_owned()),
                        ));
                    };
                    let root = address(value.get_ref())
                        .ok_or_else(|| no_address(text, value, ROOTS_MEND))?;
                    if settings.roots.of_packages.insert(path, root).is_some() {
                        let message = format!("the image of {text} is said twice");
                        return Err(problem(package.span(), message, None));
                    }
                }
            }
            ("roots", _) => {
                let message =
                    "`roots` is a table: for each package, the image that its steps run in";
                return Err(problem(
                    value.span(),
                    message.to_owned(),
                    Some(ROOTS_MEND.to_owned()),
                ));
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

/// The address of an image, or nothing for the machine's own system; `None` where a value is
/// neither.
fn address(value: &DeValue<'_>) -> Option<Option<Arc<str>>> {
    match value {
        DeValue::String(text) if text == NO_IMAGE => Some(None),
        DeValue::String(text) if text.starts_with('/') && text.len() > 1 => {
            Some(Some(Arc::from(&**text)))
        }
        _ => None,
    }
}

fn no_address(key: &str, value: &Keyed<'_>, mend: &str) -> SettingsProblem {
    let message =
        format!("`{key}` is the address of an image, from the workspace's root, or \"{NO_IMAGE}\"");
    problem(value.span(), message, Some(mend.to_owned()))
}
