//! Files by their paths, wherever they are: of a workspace, of the machine around it, and links
//! themselves.

use std::borrow::Borrow;
use std::fmt;
use std::sync::Arc;

use crate::WsPath;

/// A file that someone reads, by its path. Cheap to clone, sorted by its text.
///
/// A caller that wants to know which kind of file it is asks [`FilePath::place`], and has an answer
/// for each kind.
///
/// ```
/// use nubrik_source::{FilePath, FilePlace, WsPath};
///
/// let source = FilePath::from(&WsPath::from_normal("src/fit.c"));
/// assert_eq!(source.place(), FilePlace::Workspace("src/fit.c"));
/// assert_eq!(FilePath::of_machine("/usr/include/math.h").place(), FilePlace::Machine("/usr/include/math.h"));
/// assert_eq!(FilePath::of_link(&WsPath::from_normal("src/inc")).place(), FilePlace::Link("src/inc"));
/// assert_eq!(FilePath::of_names("src").place(), FilePlace::Names("src"));
/// ```
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FilePath(Arc<str>);

nubrik_bytes::layout!(FilePath(text));

/// Where a file is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum FilePlace<'a> {
    /// In the workspace: from its root, in normal form.
    Workspace(&'a str),
    /// On the machine around it: absolute.
    Machine(&'a str),
    /// It is a symbolic link of the workspace, and not what that leads to: from the root, in normal
    /// form.
    Link(&'a str),
    /// Whether a step finds a folder, a file or nothing at a path of the workspace.
    Presence(&'a str),
    /// The names that a step finds in a folder of the workspace.
    Names(&'a str),
}

impl FilePath {
    /// What the text of a link begins with: no path in normal form does.
    pub const LINK: &str = "//";

    /// What is asked of a path, as a text: no link is written so.
    const PRESENCE: &str = "///?";
    const NAMES: &str = "///*";

    /// Whether something is at a path of the workspace.
    pub fn of_presence(path: &str) -> FilePath {
        FilePath(format!("{}{path}", FilePath::PRESENCE).into())
    }

    /// The names in a folder of the workspace.
    pub fn of_names(folder: &str) -> FilePath {
        FilePath(format!("{}{folder}", FilePath::NAMES).into())
    }

    /// A file of the machine by its absolute path.
    pub fn of_machine(path: &str) -> FilePath {
        debug_assert!(path.starts_with('/'), "{path:?}");
        // Two slashes at the beginning are one to the kernel.
        match path
            .strip_prefix('/')
            .map(|rest| rest.trim_start_matches('/'))
        {
            Some(rest) if rest.len() + 1 < path.len() => FilePath(format!("/{rest}").into()),
            _ => FilePath(path.into()),
        }
    }

    /// The workspace's root as a file to look at.
    pub fn root() -> FilePath {
        FilePath(".".into())
    }

    /// A symbolic link itself.
    pub fn of_link(path: &WsPath) -> FilePath {
        FilePath(format!("{}{}", FilePath::LINK, path.as_str()).into())
    }

    /// The file whose text was kept somewhere.
    pub fn from_text(text: Arc<str>) -> FilePath {
        FilePath(text)
    }

    /// Where it is.
    pub fn place(&self) -> FilePlace<'_> {
        if let Some(path) = self.0.strip_prefix(FilePath::PRESENCE) {
            return FilePlace::Presence(path);
        }
        if let Some(folder) = self.0.strip_prefix(FilePath::NAMES) {
            return FilePlace::Names(folder);
        }
        match self.0.strip_prefix(FilePath::LINK) {
            Some(link) => FilePlace::Link(link),
            None if self.0.starts_with('/') => FilePlace::Machine(&self.0),
            None => FilePlace::Workspace(&self.0),
        }
    }

    /// Whether it is in the workspace: a file of it, and no link.
    pub fn is_of_workspace(&self) -> bool {
        matches!(self.place(), FilePlace::Workspace(_))
    }

    /// Whether it is outside of the workspace.
    pub fn is_of_machine(&self) -> bool {
        matches!(self.place(), FilePlace::Machine(_))
    }

    /// The path of a file in the workspace; `None` for what is elsewhere, and for links.
    pub fn in_workspace(&self) -> Option<WsPath> {
        self.is_of_workspace()
            .then(|| WsPath::from_normal_text(self.0.clone()))
    }

    /// The text that it is kept, sorted and looked for by.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The same, shared.
    pub fn shared(&self) -> &Arc<str> {
        &self.0
    }

    /// The path as people know it.
    pub fn told(&self) -> Arc<str> {
        match self.place() {
            FilePlace::Link(path) | FilePlace::Presence(path) => path.into(),
            FilePlace::Names("") => "the names in the workspace's root".into(),
            FilePlace::Names(folder) => format!("the names in {folder}").into(),
            FilePlace::Workspace(_) | FilePlace::Machine(_) => self.0.clone(),
        }
    }
}

impl From<&WsPath> for FilePath {
    fn from(path: &WsPath) -> FilePath {
        FilePath(path.shared().clone())
    }
}

impl Borrow<str> for FilePath {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl AsRef<str> for FilePath {
    fn as_ref(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for FilePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.told())
    }
}

impl fmt::Debug for FilePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", &*self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_file_is_in_one_place() {
        let path = WsPath::from_normal("src/inc");
        let (file, link) = (FilePath::from(&path), FilePath::of_link(&path));
        assert_eq!(
            (file.place(), link.place()),
            (FilePlace::Workspace("src/inc"), FilePlace::Link("src/inc"))
        );
        assert_ne!(file, link);
        assert_eq!(
            (file.in_workspace(), link.in_workspace()),
            (Some(path), None)
        );
        assert_eq!(
            (link.to_string().as_str(), &*link.told()),
            ("src/inc", "src/inc")
        );
        assert!(!link.is_of_machine() && !link.is_of_workspace());
        assert_eq!(FilePath::from_text(link.shared().clone()), link);
    }

    #[test]
    fn a_file_of_the_machine_is_never_taken_for_a_link() {
        let path = FilePath::of_machine("//usr/include/math.h");
        assert_eq!(path.place(), FilePlace::Machine("/usr/include/math.h"));
        assert_eq!(FilePath::of_machine("/").place(), FilePlace::Machine("/"));
        assert_eq!(FilePath::of_machine("///").place(), FilePlace::Machine("/"));
    }
}
