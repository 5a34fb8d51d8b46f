//! `[shared]`: the team's store that the workspace proposes.

use nubrik_diagnostic::nearest;
use nubrik_shared::PublicKey;
use toml::de::{DeTable, DeValue};

use super::{Keyed, SettingsProblem, problem, sorted};

const KEYS: [&str; 4] = ["at", "root", "lines", "secret"];

/// A team's store, as `nubrik.toml` proposes it. A person agrees to it before it is used.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SharedSettings {
    /// Where it is: an `http:`, `https:` or `file:` address, or the absolute path of a folder.
    pub at: String,
    /// The key that signs who belongs to it.
    pub root: PublicKey,
    /// The lines of builds whose results are wanted.
    pub lines: Vec<String>,
    /// The name of the variable that holds a token, or a user and a password with `:` between.
    pub secret: Option<String>,
}

/// Reads the table.
pub(super) fn shared(
    at: std::ops::Range<usize>,
    table: &DeTable<'_>,
) -> Result<SharedSettings, SettingsProblem> {
    let (mut place, mut root, mut lines, mut secret) = (None, None, vec!["main".to_owned()], None);
    let wrong = |value: &Keyed<'_>, message: &str, mend: &str| {
        Err(problem(value.span(), message.to_owned(), Some(mend.to_owned())))
    };
    for (key, value) in sorted(table) {
        match (&**key.get_ref(), value.get_ref()) {
            ("at", DeValue::String(text)) if is_place(text) => place = Some(text.to_string()),
            ("at", _) => {
                let message = "`at` is an address (http://, https://, file:///) without a user, or the absolute path of a folder";
                return wrong(value, message, "at = \"https://store.example/nubrik\"");
            }
            ("root", DeValue::String(text)) => match PublicKey::parse(text) {
                Some(key) => root = Some(key),
                None => {
                    return wrong(
                        value,
                        "`root` is a public key",
                        "root = \"ed25519:…\", as `nubrik share create` prints it",
                    );
                }
            },
            ("root", _) => return wrong(value, "`root` is a public key", "root = \"ed25519:…\""),
            ("lines", DeValue::Array(items)) if !items.is_empty() => {
                lines = Vec::new();
                for item in items {
                    match item.get_ref() {
                        DeValue::String(line) if nubrik_shared::is_line(line) => lines.push(line.to_string()),
                        _ => {
                            return wrong(
                                item,
                                "a line is a name of letters, digits, `-`, `_`, `.` and `/`",
                                "\"main\"",
                            );
                        }
                    }
                }
            }
            ("lines", _) => {
                return wrong(value, "`lines` is a list of names of lines of builds", "lines = [\"main\"]");
            }
            ("secret", DeValue::String(name)) => secret = Some(name.to_string()),
            ("secret", _) => {
                let message = "`secret` is the name of the variable that holds a token, or a user and a password with `:` between";
                return wrong(value, message, "secret = \"STORE_TOKEN\"");
            }
            (unknown, _) => {
                let near = nearest(unknown, KEYS).map(str::to_owned);
                let known = format!("`shared` has no `{unknown}`; there is: {}", KEYS.join(", "));
                return Err(problem(key.span(), known, near));
            }
        }
    }
    match (place, root) {
        (Some(at), Some(root)) => Ok(SharedSettings { at, root, lines, secret }),
        (None, _) => Err(problem(
            at,
            "`shared` does not say where the store is".to_owned(),
            Some("at = \"https://…\"".to_owned()),
        )),
        (_, None) => {
            let mend = "root = \"ed25519:…\", as `nubrik share create` prints it".to_owned();
            Err(problem(
                at,
                "`shared` does not say by which key the store's members are known".to_owned(),
                Some(mend),
            ))
        }
    }
}

fn is_place(text: &str) -> bool {
    let is_address = ["http://", "https://", "file:///"].iter().any(|start| text.starts_with(start));
    (is_address && !text.contains('@')) || (text.starts_with('/') && !text.contains("://"))
}
