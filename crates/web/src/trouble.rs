//! Why something could not be had.

use std::fmt;

/// Why something could not be had. Its text is for people and never holds a credential.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Trouble {
    /// Nothing is at this address.
    NotThere,
    /// The server wants a credential, or another one: the status that it answered.
    Refused(u16),
    /// The place gives objects, and takes none of this user: why.
    Denied(String),
    /// No answer could be had, or none that is of use.
    Failed(String),
    /// The server was reached and said nothing, or too little, for too long: how long, after "it".
    Hangs(String),
    /// It was not there in the time that was left for it.
    Late,
    /// The user stopped it.
    Stopped,
}

impl Trouble {
    /// What went wrong, in words.
    pub(crate) fn failed(what: impl Into<String>) -> Trouble {
        Trouble::Failed(what.into())
    }
}

impl fmt::Display for Trouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Trouble::NotThere => f.write_str("nothing is there"),
            Trouble::Refused(status @ 401) => write!(f, "it wants a credential (status {status})"),
            Trouble::Refused(status) => write!(f, "it refuses this (status {status})"),
            Trouble::Failed(what) | Trouble::Denied(what) => f.write_str(what),
            Trouble::Hangs(how) => write!(f, "it {how}"),
            Trouble::Late => f.write_str("it takes longer to fetch than to make here"),
            Trouble::Stopped => f.write_str("it was stopped"),
        }
    }
}

impl std::error::Error for Trouble {}
