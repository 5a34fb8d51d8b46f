//! An address of a registry, and what says where it is.

use std::path::PathBuf;

use nubrik_web::{Address, Agreement, Credential};

use crate::PinProblem;

/// An address of a registry, and who asks there.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Origin {
    /// Where it is.
    pub address: Address,
    /// Who asks.
    pub credential: Option<Credential>,
    /// What said so: a file, or a variable.
    pub said_by: String,
    /// The scope of names that it is for, such as `@isles`; `None` for all that have no origin of their own.
    pub scope: Option<String>,
}

/// What settings are read from, besides `nubrik.toml`.
pub trait ClientSettings {
    /// A variable of the environment; `None` if it is not set, or empty.
    fn variable(&self, name: &str) -> Option<String>;
    /// The text of a file; `None` if there is none.
    fn text(&self, path: &std::path::Path) -> Option<String>;
    /// Where a program is that is on the path, behind all links.
    fn program(&self, name: &str) -> Option<PathBuf>;
    /// The workspace's root.
    fn root(&self) -> PathBuf;
    /// Whether the person agreed to something that the workspace asks for.
    fn agrees(&self, asked: &Agreement) -> bool;
}

/// That a person was not asked yet.
pub(crate) fn not_agreed(asked: &Agreement, said_by: &str) -> PinProblem {
    PinProblem::new(format!("{said_by} would {asked}, and you did not agree to that"))
        .mend("nubrik agree   says all that this workspace asks for")
}
