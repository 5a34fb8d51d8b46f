//! Which files of the workspace are at which paths. Thousands of sandboxes may show the same files:
//! as long as a folder is the one that it was, and nothing was made, removed or renamed in it, what
//! was found at the names in it is not looked up again.

use std::collections::HashMap;
use std::os::fd::{AsFd, OwnedFd};
use std::time::{SystemTime, UNIX_EPOCH};

use parking_lot::Mutex;
use rustix::fs::{AtFlags, FileType, Stat};

/// Which file something is: its device and number there.
pub(crate) type Identity = (u64, u64);

/// A folder that changed less than this long ago may change again without a trace: its times tick
/// slowly, on some file systems every other second. In nanoseconds.
const QUIET: i128 = 3_000_000_000;

/// What is known of files of the workspace, by the folders in which they are.
#[derive(Default)]
pub(crate) struct Identities {
    folders: Mutex<HashMap<Box<str>, KnownFolder>>,
}

/// What a folder was when it was looked at.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) struct FolderState {
    identity: Identity,
    /// Times of the last change of what is in it, and of it itself, in nanoseconds since 1970.
    times: [i128; 2],
}

struct KnownFolder {
    state: FolderState,
    names: HashMap<Box<str>, FoundAt>,
}

/// What is at a name; `None` where nothing is.
type FoundAt = Option<(Identity, FileType)>;

/// One look at many paths.
pub(crate) struct Look<'i> {
    all: &'i Identities,
    workspace: &'i OwnedFd,
    /// What folders are now, by their paths; `None` where what is in them has to be looked up.
    folders: HashMap<&'i str, Option<FolderState>>,
}

fn at(workspace: &OwnedFd, path: &str, flags: AtFlags) -> Option<Stat> {
    rustix::fs::statat(
        workspace.as_fd(),
        if path.is_empty() { "." } else { path },
        flags,
    )
    .ok()
}

impl FolderState {
    /// What a folder is now; `None` where it changed too lately to tell.
    fn of(workspace: &OwnedFd, path: &str) -> Option<FolderState> {
        let found = at(workspace, path, AtFlags::empty())?;
        let time =
            |seconds: i64, nanos: i64| i128::from(seconds) * 1_000_000_000 + i128::from(nanos);
        #[allow(clippy::unnecessary_cast)] // The types differ from machine to machine.
        let times = [
            time(found.st_mtime as i64, found.st_mtime_nsec as i64),
            time(found.st_ctime as i64, found.st_ctime_nsec as i64),
        ];
        let now = SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .ok()?
            .as_nanos() as i128;
        let is_quiet = times.iter().all(|time| (now - time).abs() >= QUIET);
        is_quiet.then_some(FolderState {
            identity: (found.st_dev, found.st_ino),
            times,
        })
    }
}

impl Identities {
    /// Whether folders are as they were.
    pub fn are_so(workspace: &OwnedFd, states: &[(Box<str>, FolderState)]) -> bool {
        states
            .iter()
            .all(|(path, state)| FolderState::of(workspace, path) == Some(*state))
    }

    /// Begins to look at paths of a workspace.
    pub fn look<'i>(&'i self, workspace: &'i OwnedFd) -> Look<'i> {
        Look {
            all: self,
            workspace,
            folders: HashMap::new(),
        }
    }
}

impl<'i> Look<'i> {
    /// How the folders were in which was looked; nothing where one of them has changed too lately
    /// to tell, or is not there.
    pub fn states(self) -> Option<Vec<(Box<str>, FolderState)>> {
        self.folders
            .into_iter()
            .map(|(path, state)| Some((path.into(), state?)))
            .collect()
    }

    /// Which file or folder is at a path; `None` where something else is, or nothing.
    pub fn identify(&mut self, path: &'i str, folder: bool) -> Option<Identity> {
        let wanted = if folder {
            FileType::Directory
        } else {
            FileType::RegularFile
        };
        self.found(path)
            .and_then(|(identity, found)| (found == wanted).then_some(identity))
    }

    fn found(&mut self, path: &'i str) -> FoundAt {
        let fresh = |workspace: &OwnedFd| {
            let found = at(workspace, path, AtFlags::SYMLINK_NOFOLLOW)?;
            Some((
                (found.st_dev, found.st_ino),
                FileType::from_raw_mode(found.st_mode),
            ))
        };
        // The workspace itself is in no folder that is looked at.
        let (around, name) = match path.rsplit_once('/') {
            _ if path.is_empty() => return fresh(self.workspace),
            Some((around, name)) => (around, name),
            None => ("", path),
        };
        let workspace = self.workspace;
        let state = *self
            .folders
            .entry(around)
            .or_insert_with(|| FolderState::of(workspace, around));
        let Some(state) = state else {
            return fresh(workspace);
        };
        let mut known = self.all.folders.lock();
        if !known
            .get(around)
            .is_some_and(|folder| folder.state == state)
        {
            known.insert(
                around.into(),
                KnownFolder {
                    state,
                    names: HashMap::new(),
                },
            );
        }
        let Some(folder) = known.get_mut(around) else {
            return fresh(workspace);
        };
        match folder.names.get(name) {
            Some(found) => *found,
            None => {
                let found = fresh(workspace);
                folder.names.insert(name.into(), found);
                found
            }
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;
    use std::fs::{self, File, FileTimes};
    use std::os::unix::fs::MetadataExt;
    use std::path::Path;
    use std::time::Duration;

    fn inode(path: &Path) -> u64 {
        fs::symlink_metadata(path).unwrap().ino()
    }

    #[test]
    fn a_file_that_takes_the_place_of_another_is_seen() {
        let place = tempfile::tempdir().unwrap();
        let folder = place.path().join("lib");
        fs::create_dir(&folder).unwrap();
        fs::write(folder.join("a.h"), "ebb").unwrap();
        let workspace = OwnedFd::from(File::open(place.path()).unwrap());
        let identities = Identities::default();
        let of = |path: &str, is_folder| {
            identities
                .look(&workspace)
                .identify(path, is_folder)
                .map(|(_, inode)| inode)
        };
        // Longer ago than times can be too coarse: from then on what was found is known.
        let is_known = || identities.folders.lock().contains_key("lib");
        let mut waited = 0;
        while !is_known() {
            assert_eq!(of("lib/a.h", false), Some(inode(&folder.join("a.h"))));
            assert_eq!(of("lib/b.h", false), None);
            assert!(waited < 100, "the folder is never quiet");
            waited += 1;
            std::thread::sleep(Duration::from_millis(100));
        }
        fs::write(folder.join("new"), "flow").unwrap();
        fs::rename(folder.join("new"), folder.join("a.h")).unwrap();
        fs::write(folder.join("b.h"), "slack").unwrap();
        assert_eq!(of("lib/a.h", false), Some(inode(&folder.join("a.h"))));
        assert_eq!(of("lib/b.h", false), Some(inode(&folder.join("b.h"))));
        assert_eq!(
            (of("lib", true), of("lib", false)),
            (Some(inode(&folder)), None)
        );
        // Another folder of the same age in its place.
        fs::create_dir(place.path().join("other")).unwrap();
        fs::write(place.path().join("other/a.h"), "moon").unwrap();
        fs::rename(&folder, place.path().join("old")).unwrap();
        fs::rename(place.path().join("other"), &folder).unwrap();
        let long_ago = SystemTime::now() - Duration::from_secs(60);
        File::open(&folder)
            .unwrap()
            .set_times(FileTimes::new().set_modified(long_ago))
            .unwrap();
        assert_eq!(of("lib/a.h", false), Some(inode(&folder.join("a.h"))));
        assert_eq!(of("", true), Some(inode(place.path())));
    }
}
