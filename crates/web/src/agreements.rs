//! What a person agreed to send where. A checkout only proposes: what it names goes nowhere before
//! that.

use std::collections::BTreeSet;
use std::fmt;
use std::io::{self, Write};

use nubrik_disk::{Below, OwnFolder, read_text};

/// The variable that agrees where nobody can be asked: the same rows, with `;` between them.
pub const AGREED_VARIABLE: &str = "NUBRIK_AGREED";

/// The file with the rows, in the folder for what is remembered of a person.
const FILE: &str = "agreed";

/// One thing to agree to. It is kept by its words, all of them: another place or another variable
/// is another agreement.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Agreement {
    /// A shared cache: results that members of its root key signed are used.
    Store {
        /// The root key.
        root: String,
        /// Where it is, with the server of a bucket.
        at: String,
    },
    /// A server that hands steps to other machines.
    Jobs {
        /// Its address.
        at: String,
    },
    /// What a variable of the environment holds is sent somewhere.
    Secret {
        /// The variable's name.
        variable: String,
        /// Where it is sent, as it is written where it is named.
        at: String,
    },
}

/// Its row, which people read, too.
impl fmt::Display for Agreement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Agreement::Store { root, at } => write!(f, "use the shared cache {at} of {root}"),
            Agreement::Jobs { at } => write!(f, "give and take jobs at {at}"),
            Agreement::Secret { variable, at } => write!(f, "send {variable} to {at}"),
        }
    }
}

/// All that a person agreed to.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Agreements {
    rows: BTreeSet<String>,
}

impl Agreements {
    /// What the person of this process agreed to, by command or by [`AGREED_VARIABLE`].
    pub fn of_this_person() -> Agreements {
        let by_variable = std::env::var(AGREED_VARIABLE).unwrap_or_default();
        let noted = OwnFolder::State
            .find()
            .ok()
            .and_then(|folder| read_text(&folder.join(FILE)).ok());
        let noted = noted.unwrap_or_default();
        let rows = noted.lines().chain(by_variable.split([';', '\n']));
        let rows = rows.map(str::trim).filter(|row| !row.is_empty());
        Agreements {
            rows: rows.map(str::to_owned).collect(),
        }
    }

    /// Whether the person agreed to something.
    pub fn hold(&self, agreement: &Agreement) -> bool {
        self.rows.contains(&agreement.to_string())
    }

    /// Takes note of what the person agrees to besides.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn note(added: &[Agreement]) -> io::Result<()> {
        let folder = OwnFolder::State.find()?;
        std::fs::create_dir_all(&folder)?;
        let known = match read_text(&folder.join(FILE)) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => String::new(),
            known => known?,
        };
        let mut rows: BTreeSet<String> = known.lines().map(str::to_owned).collect();
        rows.extend(added.iter().map(Agreement::to_string));
        let text: String = rows.iter().map(|row| format!("{row}\n")).collect();
        Below::new(&folder)?.replace(FILE, |file| file.write_all(text.as_bytes()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_word_counts() {
        let secret = |variable: &str, at: &str| Agreement::Secret {
            variable: variable.into(),
            at: at.into(),
        };
        let agreed = Agreements {
            rows: [secret("TOKEN", "https://a.example/").to_string()].into(),
        };
        assert!(agreed.hold(&secret("TOKEN", "https://a.example/")));
        for other in [
            secret("TOKEN", "https://b.example/"),
            secret("TOKEN", "https://a.example/more"),
            secret("PASSWORD", "https://a.example/"),
            Agreement::Jobs {
                at: "https://a.example/".to_owned(),
            },
        ] {
            assert!(!agreed.hold(&other), "{other}");
        }
    }
}
