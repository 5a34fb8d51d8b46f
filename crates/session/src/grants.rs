//! What a job may touch, for those who tell and hide: the same as its path rules say, in paths.

use std::path::{Path, PathBuf};

use nubrik_confine::SystemFolders;
use nubrik_engine::{Touch, Touched};

/// What a job may touch. All paths are absolute, with links followed.
pub(crate) struct Grants<'m> {
    pub root: PathBuf,
    pub system: &'m SystemFolders,
    /// Files, and folders with all that is in them. Sorted.
    pub readable: Vec<PathBuf>,
    /// Folders that it may write to.
    pub own: Vec<PathBuf>,
}

impl Grants<'_> {
    fn may_write(&self, path: &Path) -> bool {
        let device = path.starts_with("/dev") && self.system.cover(path);
        device || self.own.iter().any(|folder| path.starts_with(folder))
    }

    fn may_read(&self, path: &Path) -> bool {
        let declared = || path.ancestors().any(|p| self.readable.binary_search_by(|r| (**r).cmp(p)).is_ok());
        self.may_write(path) || self.system.cover(path) || declared()
    }

    /// Whether a path is to look as though nothing were there: inside the workspace, undeclared, and not
    /// on the way to something declared.
    pub fn hide(&self, path: &Path) -> bool {
        let leads_to_declared = || {
            let at = self.readable.partition_point(|r| **r < *path);
            self.readable.get(at).is_some_and(|next| next.starts_with(path))
                || self.own.iter().any(|own| own.starts_with(path))
        };
        path.starts_with(&self.root) && !self.may_read(path) && !leads_to_declared()
    }

    pub fn judge(&self, touched: nubrik_confine::Touched) -> Touched {
        let allowed = match touched.touch {
            nubrik_confine::Touch::Written => self.may_write(&touched.path),
            _ => self.may_read(&touched.path),
        };
        let inside = touched.path.strip_prefix(&self.root).map(Path::to_owned);
        let path = inside.unwrap_or(touched.path).to_string_lossy().into();
        let touch = match touched.touch {
            nubrik_confine::Touch::LookedUp => Touch::LookedUp,
            nubrik_confine::Touch::Read => Touch::Read,
            nubrik_confine::Touch::Started => Touch::Started,
            nubrik_confine::Touch::Written => Touch::Written,
        };
        let folder = match touched.found {
            nubrik_confine::Found::Nothing => None,
            nubrik_confine::Found::Folder => Some(true),
            nubrik_confine::Found::File => Some(false),
        };
        Touched { path, touch, folder, allowed }
    }
}
