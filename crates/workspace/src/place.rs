//! Where a workspace is, and its own files.

use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use nubrik_disk::{Below, read_file};
use nubrik_source::{OWN_FOLDER, RESULTS_FOLDER, SETTINGS_FILE, WsPath};

use crate::settings::{Settings, SettingsProblem};

/// Why a workspace cannot be opened.
#[derive(Debug)]
pub enum OpenProblem {
    /// No folder from here upwards has a `nubrik.toml`.
    NoWorkspace(PathBuf),
    /// The settings are wrong.
    Settings {
        /// The file.
        path: PathBuf,
        /// Its text.
        text: String,
        /// What is wrong.
        problem: SettingsProblem,
    },
    /// Something cannot be read or made.
    Io(PathBuf, io::Error),
}

/// A workspace on disk.
#[derive(Clone, Debug)]
pub struct Workspace {
    /// Its root, absolute, links resolved.
    pub root: PathBuf,
    /// The folder that the person is in, from the root.
    pub folder: WsPath,
    /// Its settings.
    pub settings: Settings,
}

impl Workspace {
    /// Finds the workspace that a folder belongs to.
    ///
    /// # Errors
    /// When there is none, or its settings are wrong.
    pub fn find(start: &Path) -> Result<Workspace, OpenProblem> {
        let start = start
            .canonicalize()
            .map_err(|e| OpenProblem::Io(start.to_owned(), e))?;
        let Some(root) = start
            .ancestors()
            .find(|folder| folder.join(SETTINGS_FILE).is_file())
        else {
            return Err(OpenProblem::NoWorkspace(start));
        };
        let path = root.join(SETTINGS_FILE);
        let bytes =
            read_file(&path, SETTINGS_LIMIT).map_err(|e| OpenProblem::Io(path.clone(), e))?;
        let not_text = |_| io::Error::other("it is not UTF-8 text");
        let text = String::from_utf8(bytes).map_err(not_text);
        let text = text.map_err(|e| OpenProblem::Io(path.clone(), e))?;
        let mut settings = match Settings::parse(&text) {
            Ok(settings) => settings,
            Err(problem) => {
                return Err(OpenProblem::Settings {
                    path,
                    text,
                    problem,
                });
            }
        };
        let places = settings
            .shared
            .iter_mut()
            .flat_map(|shared| shared.places_mut());
        let certificates = places.filter_map(|place| place.certificates.as_mut());
        certificates.for_each(|path| *path = root.join(&*path));
        let below = start.strip_prefix(root).unwrap_or(Path::new(""));
        let folder = WsPath::root()
            .resolve(&below.to_string_lossy())
            .unwrap_or_else(|_| WsPath::root());
        Ok(Workspace {
            root: root.to_owned(),
            folder,
            settings,
        })
    }

    /// The tool's own folder in the workspace.
    pub fn own_folder(&self) -> PathBuf {
        self.root.join(OWN_FOLDER)
    }

    /// Makes the tool's own folders, hidden from git by what they hold, and makes sure that they
    /// are its own: real folders of the user who builds. Gives whether the folder of results was
    /// there before.
    ///
    /// # Errors
    /// When they cannot be made, or are not.
    pub fn make_folders(&self) -> Result<bool, OpenProblem> {
        let had_results = self.root.join("out/.gitignore").is_file();
        for name in [RESULTS_FOLDER, OWN_FOLDER] {
            let path = self.root.join(name);
            let io = |e| OpenProblem::Io(path.clone(), e);
            match fs::create_dir(&path) {
                Err(e) if e.kind() != io::ErrorKind::AlreadyExists => return Err(io(e)),
                _ => must_be_ours(&path).map_err(io)?,
            }
            hide_from_git(&Below::new(&path).map_err(io)?).map_err(io)?;
        }
        Ok(had_results)
    }

    /// The tool's own folder, if it is there and its own.
    ///
    /// # Errors
    /// When it is not.
    pub fn own(&self) -> io::Result<Below> {
        let path = self.own_folder();
        must_be_ours(&path)?;
        Below::new(&path)
    }
}

/// So often a file is written once more that another program took away while it was written.
const TRIES: usize = 50;

/// Lets a folder hide what it holds from git. Several programs may do so at once, before any of
/// them holds the lock: what one writes beside the file's place another one may move or remove, and
/// then it is done, or done once more.
fn hide_from_git(folder: &Below) -> io::Result<()> {
    let mut tries = 0;
    while folder.look_at(".gitignore").is_err() {
        let Err(e) = folder.write_whole(".gitignore", b"*\n") else {
            break;
        };
        let is_of_others = matches!(
            e.kind(),
            io::ErrorKind::NotFound | io::ErrorKind::AlreadyExists
        );
        tries += 1;
        if !is_of_others || tries == TRIES {
            return Err(e);
        }
        std::thread::sleep(Duration::from_millis(1));
    }
    Ok(())
}

/// Settings may have so many bytes.
const SETTINGS_LIMIT: u64 = 1 << 20;

/// Refuses a folder of the tool's own that leads somewhere else, belongs to someone else, or that
/// everyone may write to:
/// what is in it decides what is removed and what counts as a result.
fn must_be_ours(path: &Path) -> io::Result<()> {
    let found = path.symlink_metadata()?;
    if !found.is_dir() {
        let what = if found.is_symlink() {
            "a link"
        } else {
            "no folder"
        };
        return Err(io::Error::other(format!(
            "it is {what}; nubrik needs a folder of its own there: remove it"
        )));
    }
    if found.uid() != rustix::process::geteuid().as_raw() {
        let message = format!(
            "it belongs to another user (number {}): remove it, or build as that user",
            found.uid()
        );
        return Err(io::Error::other(message));
    }
    if found.mode() & 0o002 != 0 {
        return Err(io::Error::other("everybody may write to it: chmod o-w"));
    }
    Ok(())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use std::sync::Barrier;

    use super::*;

    #[test]
    fn a_folder_that_others_may_write_to_is_not_the_tools_own() {
        use std::os::unix::fs::PermissionsExt;
        let root = tempfile::tempdir().unwrap();
        fs::write(root.path().join(SETTINGS_FILE), "").unwrap();
        let workspace = Workspace::find(root.path()).ok().unwrap();
        assert!(workspace.make_folders().is_ok());
        let own = root.path().join(OWN_FOLDER);
        assert!(workspace.own().is_ok());
        fs::set_permissions(&own, fs::Permissions::from_mode(0o707)).unwrap();
        let refused = workspace.own().err().unwrap();
        assert!(refused.to_string().contains("everybody may write to it"));
        fs::set_permissions(&own, fs::Permissions::from_mode(0o700)).unwrap();
        fs::rename(&own, root.path().join("elsewhere")).unwrap();
        std::os::unix::fs::symlink("elsewhere", &own).unwrap();
        let refused = workspace.own().err().unwrap();
        assert!(refused.to_string().contains("a link"));
    }

    #[test]
    fn folders_are_made_by_many_at_once() {
        for _ in 0..60 {
            let root = tempfile::tempdir().unwrap();
            fs::write(root.path().join(SETTINGS_FILE), "").unwrap();
            let begin = Barrier::new(8);
            std::thread::scope(|scope| {
                for _ in 0..8 {
                    scope.spawn(|| {
                        let workspace = Workspace::find(root.path()).ok().unwrap();
                        begin.wait();
                        assert!(workspace.make_folders().is_ok());
                    });
                }
            });
            for name in [RESULTS_FOLDER, OWN_FOLDER] {
                assert_eq!(
                    fs::read(root.path().join(name).join(".gitignore")).unwrap(),
                    b"*\n"
                );
            }
        }
    }
}
