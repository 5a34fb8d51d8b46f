//! Why something of a package cannot be used.

use std::{fmt, io};

/// Why a document of a package, or its archive, cannot be used. Its text is for people.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Unreadable {
    /// The file cannot be read.
    File(String),
    /// It does not have the form of its kind: what is wrong.
    Form(String),
    /// It belongs to another package or version: what it says of itself.
    Another(String),
}

impl Unreadable {
    /// What is wrong with its form.
    pub(crate) fn form(what: impl Into<String>) -> Unreadable {
        Unreadable::Form(what.into())
    }
}

impl fmt::Display for Unreadable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Unreadable::File(what) | Unreadable::Form(what) => f.write_str(what),
            Unreadable::Another(own) => write!(f, "it says that it is {own}"),
        }
    }
}

impl std::error::Error for Unreadable {}

impl From<io::Error> for Unreadable {
    fn from(e: io::Error) -> Unreadable {
        Unreadable::File(e.to_string())
    }
}
