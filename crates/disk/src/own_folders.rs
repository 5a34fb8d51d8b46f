//! The folders of a person in which programs keep something, by the variables that all programs go
//! by (XDG Base Directory Specification 0.8).

use std::fmt;
use std::path::PathBuf;

/// A kind of folder of a person.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum OwnFolder {
    /// For what can be made again.
    Cache,
    /// For what is remembered.
    State,
}

/// No variable names a folder of this kind.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct NoOwnFolder(pub OwnFolder);

impl OwnFolder {
    /// Where this tool keeps what belongs in the folder. It may not be there yet.
    ///
    /// # Errors
    /// When no variable names an absolute path.
    pub fn find(self) -> Result<PathBuf, NoOwnFolder> {
        let absolute = |name: &str| {
            std::env::var_os(name)
                .map(PathBuf::from)
                .filter(|path| path.is_absolute())
        };
        let below_home = match self {
            OwnFolder::Cache => ".cache",
            OwnFolder::State => ".local/state",
        };
        let folder = absolute(self.variable()).or_else(|| Some(absolute("HOME")?.join(below_home)));
        Ok(folder.ok_or(NoOwnFolder(self))?.join("nubrik"))
    }

    fn variable(self) -> &'static str {
        match self {
            OwnFolder::Cache => "XDG_CACHE_HOME",
            OwnFolder::State => "XDG_STATE_HOME",
        }
    }
}

impl fmt::Display for NoOwnFolder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "neither {} nor HOME names a folder", self.0.variable())
    }
}

impl std::error::Error for NoOwnFolder {}

impl From<NoOwnFolder> for std::io::Error {
    fn from(none: NoOwnFolder) -> std::io::Error {
        std::io::Error::other(none)
    }
}
