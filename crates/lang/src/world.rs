//! What evaluation asks of the outside.

use std::sync::Arc;

use nubrik_source::WsPath;

/// An answer, or the word that it is not there yet: then evaluation suspends what needs it, goes on
/// with the rest, and is asked again when all that was wanted has been answered.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Answer<T> {
    /// The answer.
    Ready(T),
    /// It is being found; ask again.
    Pending,
}

/// What is in a folder: names only, sorted, without what is ignored.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Listing {
    /// Names of files.
    pub files: Vec<Arc<str>>,
    /// Names of folders.
    pub folders: Vec<Arc<str>>,
    /// Why the folder could not be read, if so.
    pub problem: Option<String>,
}

/// What a path is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum EntryKind {
    /// A file.
    File,
    /// A folder.
    Folder,
}

/// A definition file's text.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum DefinitionText {
    /// The text.
    Text(Arc<str>),
    /// There is no such file.
    Missing,
    /// It cannot be read, and why.
    Unreadable(String),
}

/// The outside, as definitions may see it. Answers must not change during one evaluation.
pub trait World {
    /// The text of a definition file.
    fn definition(&self, path: &WsPath) -> Answer<DefinitionText>;
    /// The text of a kit that ships with the tool, by its name without `nub:`.
    fn shipped_kit(&self, name: &str) -> Option<&'static str>;
    /// The names of the kits that ship with the tool.
    fn shipped_kits(&self) -> Vec<&'static str>;
    /// What is in a folder, without what is ignored.
    fn list(&self, folder: &WsPath) -> Answer<Arc<Listing>>;
    /// What a path is, ignored or not; `None` where nothing is.
    fn kind(&self, path: &WsPath) -> Answer<Option<EntryKind>>;
}
