//! What a step in an image is made of: all of the image that can decide a result, in a few lines.

use nubrik_bytes::Digest;
use serde::{Deserialize, Serialize};

use crate::problem::{ImageResult, bad};
use crate::tree::ImageAmount;

/// Version of the document, which is in the keys of all steps in an image: raised where roots are
/// put together otherwise.
const VERSION: u32 = 1;

/// Where programs are looked for in an image that does not say it.
pub const USUAL_PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";

/// What an image is, as steps see it: not how it is packed, not in how many layers, not what made
/// it.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RootStatement {
    version: u32,
    /// The digest of the tree, as hexadecimal digits.
    tree: String,
    /// How many files it has.
    files: u64,
    /// Their bytes.
    bytes: u64,
    /// Variables that commands in it have, unless a definition says otherwise, in the order of the
    /// image.
    pub env: Vec<(String, String)>,
}

impl RootStatement {
    /// The statement of an image with this tree and these variables.
    pub(crate) fn new(
        tree: &Digest,
        ImageAmount { files, bytes }: ImageAmount,
        env: Vec<(String, String)>,
    ) -> RootStatement {
        RootStatement {
            version: VERSION,
            tree: tree.hex(),
            files,
            bytes,
            env,
        }
    }

    /// The statement that a document is.
    ///
    /// # Errors
    /// When it is none.
    pub fn parse(text: &[u8]) -> ImageResult<RootStatement> {
        match serde_json::from_slice::<RootStatement>(text) {
            Ok(statement) if statement.version != VERSION => bad(format!(
                "it is of version {}, and this program knows {VERSION}",
                statement.version
            )),
            Ok(statement) if !is_digest(&statement.tree) => bad("it names no tree"),
            Ok(statement) => Ok(statement),
            Err(why) => bad(why.to_string()),
        }
    }

    /// The document.
    pub fn text(&self) -> String {
        let text = serde_json::to_string_pretty(self).unwrap_or_default();
        text + "\n"
    }

    /// How much it is.
    pub fn amount(&self) -> ImageAmount {
        ImageAmount {
            files: self.files,
            bytes: self.bytes,
        }
    }

    /// The digest of the tree, as hexadecimal digits.
    pub fn tree(&self) -> &str {
        &self.tree
    }

    /// The folders in which programs are looked for, in their order.
    pub fn search_path(&self) -> Vec<String> {
        let said = self
            .env
            .iter()
            .find(|(name, _)| name == "PATH")
            .map(|(_, value)| value.as_str());
        let folders = said
            .filter(|path| !path.is_empty())
            .unwrap_or(USUAL_PATH)
            .split(':');
        folders
            .filter(|folder| folder.starts_with('/'))
            .map(str::to_owned)
            .collect()
    }
}

fn is_digest(text: &str) -> bool {
    text.len() == 64
        && text
            .bytes()
            .all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'))
}

/// The variables that a configuration names, in its order; of one that is there twice, the last.
pub(crate) fn variables(listed: &[String]) -> ImageResult<Vec<(String, String)>> {
    let mut all: Vec<(String, String)> = Vec::new();
    for line in listed {
        let Some((name, value)) = line.split_once('=').filter(|(name, _)| !name.is_empty()) else {
            return bad(format!("{line:?} is no variable"));
        };
        if line.contains('\0') {
            return bad(format!("the variable {name} holds a NUL byte"));
        }
        all.retain(|(known, _)| known != name);
        all.push((name.to_owned(), value.to_owned()));
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_statement_is_read_back_and_another_one_is_refused() {
        let env = variables(&[
            "PATH=/opt/bin:/bin:own".to_owned(),
            "A=1".to_owned(),
            "A=b=c".to_owned(),
        ])
        .unwrap();
        let statement = RootStatement::new(
            &Digest::of(b"tree"),
            ImageAmount { files: 2, bytes: 9 },
            env,
        );
        assert_eq!(
            RootStatement::parse(statement.text().as_bytes()).unwrap(),
            statement
        );
        assert_eq!(statement.env[1], ("A".to_owned(), "b=c".to_owned()));
        assert_eq!(statement.search_path(), ["/opt/bin", "/bin"]);
        assert!(RootStatement::parse(b"{}").is_err());
        let newer = statement.text().replace("\"version\": 1", "\"version\": 2");
        assert!(
            RootStatement::parse(newer.as_bytes())
                .unwrap_err()
                .to_string()
                .contains("version 2")
        );
        let other = statement.text().replace(statement.tree(), "../../x");
        assert!(RootStatement::parse(other.as_bytes()).is_err());
        assert!(
            variables(&["=x".to_owned()]).is_err() && variables(&["A\0=x".to_owned()]).is_err()
        );
    }
}
