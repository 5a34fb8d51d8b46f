//! `[shared]`: the team's store that the workspace proposes.

use nubrik_diagnostic::nearest;
use nubrik_shared::PublicKey;
use toml::de::{DeTable, DeValue};

use super::{Keyed, SettingsProblem, problem, sorted};

const KEYS: [&str; 6] = ["at", "root", "lines", "secret", "endpoint", "region"];

/// Where the region is that object storage knows if no other one is named.
const REGION: &str = "us-east-1";

/// Where a team's store is, and who asks there.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct SharedPlace {
    /// An `http:`, `https:` or `file:` address, the absolute path of a folder, or `s3://BUCKET/PREFIX`.
    pub at: String,
    /// The name of the variable that holds a token, or a user and a password with `:` between.
    pub secret: Option<String>,
    /// Of object storage: the address of the server.
    pub endpoint: Option<String>,
    /// Of object storage: its region.
    pub region: Option<String>,
}

impl SharedPlace {
    /// The region of object storage.
    pub fn region(&self) -> &str {
        self.region.as_deref().unwrap_or(REGION)
    }
}

/// A team's store, as `nubrik.toml` proposes it. A person agrees to it before it is used.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SharedSettings {
    /// Where it is.
    pub place: SharedPlace,
    /// The key that signs who belongs to it.
    pub root: PublicKey,
    /// The lines of builds whose results are wanted.
    pub lines: Vec<String>,
}

/// Reads the table.
pub(super) fn shared(
    at: std::ops::Range<usize>,
    table: &DeTable<'_>,
) -> Result<SharedSettings, SettingsProblem> {
    let (mut place, mut root, mut lines) = (SharedPlace::default(), None, vec!["main".to_owned()]);
    let wrong = |value: &Keyed<'_>, message: &str, mend: &str| {
        Err(problem(value.span(), message.to_owned(), Some(mend.to_owned())))
    };
    for (key, value) in sorted(table) {
        match (&**key.get_ref(), value.get_ref()) {
            ("at", DeValue::String(text)) if is_place(text) => place.at = text.to_string(),
            ("at", _) => {
                let message = "`at` is an address (http://, https://, file:///) without a user, the absolute path of a folder, or s3://BUCKET/PREFIX";
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
            ("secret", DeValue::String(name)) => place.secret = Some(name.to_string()),
            ("endpoint", DeValue::String(text)) if is_server(text) => place.endpoint = Some(text.to_string()),
            ("endpoint", _) => {
                let message =
                    "`endpoint` is the address of a server with the S3 protocol: http:// or https://";
                return wrong(value, message, "endpoint = \"https://storage.example\"");
            }
            ("region", DeValue::String(name)) => place.region = Some(name.to_string()),
            ("region", _) => return wrong(value, "`region` is a name", "region = \"us-east-1\""),
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
    if place.at.is_empty() {
        let message = "`shared` does not say where the store is".to_owned();
        return Err(problem(at, message, Some("at = \"https://…\"".to_owned())));
    }
    if place.at.starts_with("s3://") && place.endpoint.is_none() {
        let message = "`shared` does not say on which server the bucket is".to_owned();
        return Err(problem(at, message, Some("endpoint = \"https://storage.example\"".to_owned())));
    }
    let Some(root) = root else {
        let message = "`shared` does not say by which key the store's members are known".to_owned();
        let mend = "root = \"ed25519:…\", as `nubrik share create` prints it".to_owned();
        return Err(problem(at, message, Some(mend)));
    };
    Ok(SharedSettings { place, root, lines })
}

fn is_server(text: &str) -> bool {
    ["http://", "https://"].iter().any(|start| text.starts_with(start)) && !text.contains('@')
}

fn is_place(text: &str) -> bool {
    let is_address = ["http://", "https://", "file:///", "s3://"].iter().any(|start| text.starts_with(start));
    (is_address && !text.contains('@')) || (text.starts_with('/') && !text.contains("://"))
}
