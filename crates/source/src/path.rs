//! Paths inside a workspace.

use std::fmt;
use std::sync::Arc;

use nubrik_bytes::{Decoder, Encoder, Layout, Truncated};

use crate::shared_text;

/// A path inside a workspace: relative to its root, `/` between parts, no `.` or `..`, no empty
/// part.
///
/// The root itself is the empty path. Cheap to clone.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct WsPath(Arc<str>);

/// Why a text is not a path inside the workspace.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum PathProblem {
    /// `..` went above the root.
    LeavesWorkspace,
    /// A NUL byte or a line end is in the text.
    OddCharacter,
}

impl fmt::Display for PathProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            PathProblem::LeavesWorkspace => "the path leaves the workspace",
            PathProblem::OddCharacter => "the path holds a line end or a NUL byte",
        })
    }
}

/// The folder at a workspace's root in which the tool keeps what is its own.
pub const OWN_FOLDER: &str = ".nubrik";

/// The file at a workspace's root that says where it is, and holds settings of the tool.
pub const SETTINGS_FILE: &str = "nubrik.toml";

/// The file that makes a folder a package.
pub const TARGETS_FILE: &str = "targets.nub";

/// The folder at a workspace's root with the results.
pub const RESULTS_FOLDER: &str = "out";

impl WsPath {
    /// Whether it is one of the folders that the tool makes, or below one: no source is there.
    pub fn is_below_made(&self) -> bool {
        self.0
            .split('/')
            .next()
            .is_some_and(|top| [OWN_FOLDER, RESULTS_FOLDER].contains(&top))
    }

    /// The workspace's root.
    pub fn root() -> Self {
        WsPath("".into())
    }

    /// Takes a text that is known to be in normal form, such as one that this type gave out.
    pub fn from_normal(text: &str) -> Self {
        debug_assert!(
            !text.starts_with('/') && !text.ends_with('/') && !text.contains("//"),
            "{text:?}"
        );
        WsPath(text.into())
    }

    /// Takes a text that came from elsewhere; `None` unless it is in normal form, so that it leads
    /// below the root.
    pub fn checked(text: &str) -> Option<Self> {
        leads_below(text).then(|| WsPath(text.into()))
    }

    /// Takes a shared text in normal form as it is.
    pub fn from_normal_text(text: Arc<str>) -> Self {
        debug_assert!(
            !text.starts_with('/') && !text.ends_with('/') && !text.contains("//"),
            "{text:?}"
        );
        WsPath(text)
    }

    /// Resolves `text` against this folder; a leading `/` starts at the root.
    ///
    /// # Errors
    /// When the path leaves the workspace or holds a character that no listing could carry.
    pub fn resolve(&self, text: &str) -> Result<WsPath, PathProblem> {
        if text.contains(['\0', '\n', '\r']) {
            return Err(PathProblem::OddCharacter);
        }
        let from_root = text.starts_with('/');
        let mut parts: Vec<&str> = if from_root {
            Vec::new()
        } else {
            self.parts().collect()
        };
        for part in text.split('/') {
            match part {
                "" | "." => {}
                ".." => {
                    parts.pop().ok_or(PathProblem::LeavesWorkspace)?;
                }
                part => parts.push(part),
            }
        }
        Ok(WsPath(parts.join("/").into()))
    }

    /// Adds one part that holds no `/`.
    pub fn child(&self, name: &str) -> WsPath {
        self.join(name)
    }

    /// A path below this folder, by what is left of it from here on, in normal form.
    pub fn join(&self, rest: &str) -> WsPath {
        debug_assert!(
            !rest.starts_with('/') && !rest.ends_with('/') && !rest.contains("//"),
            "{rest:?}"
        );
        if self.is_root() {
            return WsPath(rest.into());
        }
        WsPath(shared_text([&self.0, "/", rest]))
    }

    /// What lies at a path within this folder.
    pub fn join_within(&self, rest: &PathWithin) -> WsPath {
        if rest.is_top() {
            self.clone()
        } else {
            self.join(rest.as_str())
        }
    }

    /// The path as text; empty for the root.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The shared text behind the path.
    pub fn shared(&self) -> &Arc<str> {
        &self.0
    }

    /// Whether this is the workspace's root.
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// The parts between the slashes; none for the root.
    pub fn parts(&self) -> impl Iterator<Item = &str> {
        self.0.split('/').filter(|part| !part.is_empty())
    }

    /// The folder that holds this; `None` for the root.
    pub fn parent(&self) -> Option<WsPath> {
        if self.is_root() {
            return None;
        }
        Some(WsPath(
            self.0.rsplit_once('/').map_or("", |(dir, _)| dir).into(),
        ))
    }

    /// The last part; empty for the root.
    pub fn name(&self) -> &str {
        self.0.rsplit('/').next().unwrap_or("")
    }

    /// The last part without its last extension: `fit.tar` of `a/fit.tar.gz`.
    pub fn stem(&self) -> &str {
        let name = self.name();
        match name.rfind('.') {
            Some(dot) if dot > 0 => &name[..dot],
            _ => name,
        }
    }

    /// The last extension without its dot; empty where there is none.
    pub fn extension(&self) -> &str {
        let name = self.name();
        match name.rfind('.') {
            Some(dot) if dot > 0 => &name[dot + 1..],
            _ => "",
        }
    }

    /// The rest of this path below `folder`; `None` when it is not below it.
    pub fn below(&self, folder: &WsPath) -> Option<&str> {
        if folder.is_root() {
            return Some(&self.0);
        }
        self.0.strip_prefix(folder.as_str())?.strip_prefix('/')
    }

    /// Whether this is `folder` or lies below it.
    pub fn is_in(&self, folder: &WsPath) -> bool {
        self == folder || self.below(folder).is_some()
    }
}

impl fmt::Display for WsPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if self.is_root() { "." } else { &self.0 })
    }
}

impl fmt::Debug for WsPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", &*self.0)
    }
}

/// Whether a text names something below a folder, or the folder itself: no part of it is empty or
/// leads elsewhere.
fn leads_below(text: &str) -> bool {
    // All paths of a graph go through here. Of most no part begins with a point, which shows
    // without a branch for each byte.
    let bytes = text.as_bytes();
    let (Some(first), Some(last)) = (bytes.first(), bytes.last()) else {
        return true;
    };
    let begins_oddly = |byte: u8| (byte == b'/') | (byte == b'.');
    let pairs = bytes.iter().zip(&bytes[1..]);
    let is_odd = pairs.fold(
        begins_oddly(*first) | (*last == b'/'),
        |is_odd, (before, byte)| is_odd | ((*before == b'/') & begins_oddly(*byte)),
    );
    !is_odd || text.split('/').all(|part| !matches!(part, "" | "." | ".."))
}

/// A path within some folder: relative to it, `/` between parts, no `.` or `..`, no empty part. The
/// empty one is the folder itself. Only a check makes one, wherever its text came from.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct PathWithin(Arc<str>);

impl PathWithin {
    /// The path of a text; `None` if that leads elsewhere.
    pub fn new(text: impl Into<Arc<str>>) -> Option<PathWithin> {
        let text = text.into();
        leads_below(&text).then_some(PathWithin(text))
    }

    /// The folder itself.
    pub fn top() -> PathWithin {
        PathWithin("".into())
    }

    /// The path as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether it is the folder itself.
    pub fn is_top(&self) -> bool {
        self.0.is_empty()
    }
}

impl Layout for PathWithin {
    fn write(&self, out: &mut Encoder) {
        out.text(self.as_str());
    }

    fn read(from: &mut Decoder<'_>) -> Result<PathWithin, Truncated> {
        PathWithin::new(from.text()?).ok_or(Truncated)
    }
}

impl fmt::Display for PathWithin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// A path may come from another machine: one that does not lead below the root is damage.
impl Layout for WsPath {
    fn write(&self, out: &mut Encoder) {
        out.text(self.as_str());
    }

    fn read(from: &mut Decoder<'_>) -> Result<WsPath, Truncated> {
        WsPath::checked(from.text()?).ok_or(Truncated)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_leads_below_if_each_of_its_parts_does() {
        let parts = ["", ".", "..", "...", "a", ".a", "a.", "..a"];
        for one in parts {
            for two in parts {
                for three in parts {
                    for text in [
                        one.to_owned(),
                        format!("{one}/{two}"),
                        format!("{one}/{two}/{three}"),
                    ] {
                        let wanted = text.is_empty()
                            || text.split('/').all(|p| !["", ".", ".."].contains(&p));
                        assert_eq!(leads_below(&text), wanted, "{text}");
                    }
                }
            }
        }
    }

    #[test]
    fn resolves_and_refuses() {
        let tide = WsPath::from_normal("tide/base");
        assert_eq!(tide.resolve("../x//./y").unwrap().as_str(), "tide/x/y");
        assert_eq!(tide.resolve("/kit/a").unwrap().as_str(), "kit/a");
        assert_eq!(tide.resolve("../..").unwrap(), WsPath::root());
        assert_eq!(tide.resolve("../../.."), Err(PathProblem::LeavesWorkspace));
        assert_eq!(tide.resolve("a\nb"), Err(PathProblem::OddCharacter));
    }

    #[test]
    fn folders_of_the_tool_are_told_from_others() {
        let is_made = |text: &str| WsPath::from_normal(text).is_below_made();
        assert!(is_made("out") && is_made(".nubrik/made/tide") && is_made("out/default/tide.bin"));
        assert!(
            !is_made("") && !is_made("outlet") && !is_made("tide/out") && !is_made(".nubrik-2")
        );
    }

    #[test]
    fn takes_names_apart() {
        let path = WsPath::from_normal("a/fit.tar.gz");
        assert_eq!(
            (path.name(), path.stem(), path.extension()),
            ("fit.tar.gz", "fit.tar", "gz")
        );
        let hidden = WsPath::from_normal(".profile");
        assert_eq!((hidden.stem(), hidden.extension()), (".profile", ""));
        assert_eq!(path.below(&WsPath::from_normal("a")), Some("fit.tar.gz"));
        assert_eq!(
            WsPath::from_normal("ab/c").below(&WsPath::from_normal("a")),
            None
        );
        assert!(path.is_in(&WsPath::root()));
    }

    #[test]
    fn paths_that_came_from_elsewhere_lead_below() {
        for path in ["", "a", "a/b", ".a/..b/c..", "a b/…"] {
            assert_eq!(WsPath::checked(path).unwrap().as_str(), path);
            assert_eq!(PathWithin::new(path).unwrap().as_str(), path);
        }
        for path in [
            "/", "/a", "a/", "a//b", ".", "..", "./a", "a/.", "a/../b", "../a", "a/..",
        ] {
            assert!(
                WsPath::checked(path).is_none() && PathWithin::new(path).is_none(),
                "{path}"
            );
        }
    }
}
