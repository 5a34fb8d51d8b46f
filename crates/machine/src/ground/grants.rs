//! What a job may touch, for those who tell and hide: the same as its confinement, in paths.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_engine::{Job, Named, Touch, Touched};
use nubrik_source::{FilePath, WsPath};

use crate::machine::Machine;

/// Where a sandbox has its folders for temporary files.
const ABOVE_TEMPORARY: &str = "/tmp";

/// What a job may touch. All paths are absolute, with links followed, as they are on the machine.
pub(crate) struct Grants<'m> {
    machine: &'m Machine,
    root: PathBuf,
    /// Files, and folders with all that is in them. Sorted.
    readable: Vec<PathBuf>,
    /// Folders that it may write to.
    own: Vec<PathBuf>,
    /// Whether it sees an image in place of this machine's system: all that is there is for it.
    in_image: bool,
    /// Whether it is in a sandbox, where it sees what it may read and nothing else.
    in_sandbox: bool,
    /// What it declares, in a sandbox: paths from the root, sorted, each with whether it is a
    /// folder with all that is in it.
    declared: Vec<(Arc<str>, bool)>,
}

/// Names in the workspace that no step is thought to miss: the tool's own, and what interpreters
/// leave.
fn is_aside(folder: &str, name: &str) -> bool {
    name.starts_with('.')
        || name.ends_with(".nub")
        || name == "__pycache__"
        || (folder.is_empty()
            && (name == nubrik_source::SETTINGS_FILE || name == nubrik_source::RESULTS_FOLDER))
}

impl<'m> Grants<'m> {
    /// What a job may touch.
    pub fn of(machine: &'m Machine, job: &Job<'_>) -> Grants<'m> {
        let root = machine.root().to_owned();
        let in_sandbox = machine.has_sandboxes();
        let whole = |path: &str| {
            let path = root.join(path);
            path.canonicalize().unwrap_or(path)
        };
        let mut readable = Vec::new();
        let mut own = vec![whole(job.folder.as_str())];
        if !in_sandbox {
            readable.extend(
                job.readable
                    .iter()
                    .map(|readable| whole(readable.path.as_str())),
            );
            let parts: Vec<&str> = job
                .tools
                .iter()
                .flat_map(|t| &t.parts)
                .map(|part| &**part)
                .collect();
            readable.extend(machine.needed(&parts));
            readable.sort();
            readable.dedup();
            own.push(machine.temporary().place(job.folder.as_str()));
        }
        let mut declared = Vec::new();
        if in_sandbox {
            declared.extend(
                job.readable
                    .iter()
                    .map(|readable| (readable.path.shared().clone(), readable.folder)),
            );
            declared.sort();
        }
        let in_image = job.root.is_some();
        Grants {
            machine,
            root,
            readable,
            own,
            in_image,
            in_sandbox,
            declared,
        }
    }

    fn may_write(&self, path: &Path) -> bool {
        let device = path.starts_with("/dev") && self.machine.system().cover(path);
        device || self.own.iter().any(|folder| path.starts_with(folder)) || self.is_temporary(path)
    }

    /// Whether a path is in the folder for temporary files that a sandbox has. The workspace, which
    /// a sandbox shows elsewhere, may lie in the machine's.
    fn is_temporary(&self, path: &Path) -> bool {
        self.in_sandbox && path.starts_with(ABOVE_TEMPORARY) && !path.starts_with(&self.root)
    }

    fn may_read(&self, path: &Path) -> bool {
        let declared = || {
            path.ancestors()
                .any(|p| self.readable.binary_search_by(|r| (**r).cmp(p)).is_ok())
        };
        self.may_write(path) || self.machine.system().cover(path) || declared()
    }

    /// Whether a path is to look as though nothing were there: inside the workspace, undeclared,
    /// and not on the way to something declared.
    pub fn hide(&self, path: &Path) -> bool {
        let leads_to_declared = || {
            let at = self.readable.partition_point(|r| **r < *path);
            self.readable
                .get(at)
                .is_some_and(|next| next.starts_with(path))
                || self.own.iter().any(|own| own.starts_with(path))
        };
        path.starts_with(&self.root) && !self.may_read(path) && !leads_to_declared()
    }

    /// What is in a folder of the workspace and is not shown in a sandbox, since the job does not
    /// declare it.
    fn lacking(&self, folder: &str) -> Vec<Arc<str>> {
        let declares = |path: &str| self.declared.binary_search_by(|(d, _)| (**d).cmp(path));
        let is_whole = |path: &str| declares(path).is_ok_and(|at| self.declared[at].1);
        let mut ends = folder.match_indices('/').map(|(at, _)| &folder[..at]);
        if folder.starts_with(".nubrik") || is_whole(folder) || ends.any(is_whole) {
            return Vec::new();
        }
        let leads_to_declared = |path: &str| {
            let below = format!("{path}/");
            let at = self.declared.partition_point(|(d, _)| **d < *below);
            declares(path).is_ok()
                || self
                    .declared
                    .get(at)
                    .is_some_and(|(d, _)| d.starts_with(&below))
        };
        let entries = std::fs::read_dir(self.root.join(folder))
            .into_iter()
            .flatten()
            .flatten();
        let names = entries.map(|entry| entry.file_name().to_string_lossy().into_owned());
        let mut lacking: Vec<Arc<str>> = names
            .filter(|name| !is_aside(folder, name))
            .filter(|name| !leads_to_declared(format!("{folder}/{name}").trim_start_matches('/')))
            .map(Arc::from)
            .collect();
        lacking.sort();
        lacking
    }

    pub fn judge(&self, touched: nubrik_confine::UsedPath) -> Touched {
        let allowed = match touched.touch {
            nubrik_confine::PathUse::Written => self.may_write(&touched.path),
            // What this machine has there says nothing of the image.
            _ if self.in_image && !touched.path.starts_with(&self.root) => true,
            _ if self.in_sandbox => touched.seen || self.may_write(&touched.path),
            _ => self.may_read(&touched.path),
        };
        let inside = touched
            .path
            .strip_prefix(&self.root)
            .ok()
            .map(Path::to_owned);
        let was_listed = self.in_sandbox
            && touched.seen
            && touched.touch == nubrik_confine::PathUse::Read
            && touched.found == nubrik_confine::Found::Folder;
        let listed = inside
            .as_ref()
            .filter(|_| was_listed && !self.may_write(&touched.path));
        let lacks = listed
            .map(|folder| self.lacking(&folder.to_string_lossy()))
            .unwrap_or_default();
        let path = match inside {
            Some(inside) => FilePath::from(&WsPath::from_normal(&inside.to_string_lossy())),
            None => FilePath::of_machine(&touched.path.to_string_lossy()),
        };
        let (touch, folder) = (touch_of(touched.touch), folder_of(touched.found));
        Touched {
            path,
            touch,
            folder,
            allowed,
            lacks,
        }
    }
}

/// A path outside of the workspace, as the engine knows it; `None` for one that is no text.
pub fn named(written: &nubrik_confine::WrittenPath) -> Option<Named> {
    let path = written.path.to_str()?.into();
    Some(Named {
        path,
        touch: touch_of(written.touch),
        folder: folder_of(written.found),
    })
}

fn touch_of(touch: nubrik_confine::PathUse) -> Touch {
    match touch {
        nubrik_confine::PathUse::LookedUp => Touch::LookedUp,
        nubrik_confine::PathUse::Read => Touch::Read,
        nubrik_confine::PathUse::Started => Touch::Started,
        nubrik_confine::PathUse::Written => Touch::Written,
    }
}

fn folder_of(found: nubrik_confine::Found) -> Option<bool> {
    match found {
        nubrik_confine::Found::Nothing => None,
        nubrik_confine::Found::Folder => Some(true),
        nubrik_confine::Found::File => Some(false),
    }
}
