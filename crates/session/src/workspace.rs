//! Where a workspace is, and its own files.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use nubrik_source::WsPath;

use crate::settings::{Settings, SettingsProblem};

/// The file that marks a workspace's root.
pub const SETTINGS_FILE: &str = "nubrik.toml";

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
    /// The folder that the person stands in, from the root.
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
        let start = start.canonicalize().map_err(|e| OpenProblem::Io(start.to_owned(), e))?;
        let Some(root) = start.ancestors().find(|folder| folder.join(SETTINGS_FILE).is_file()) else {
            return Err(OpenProblem::NoWorkspace(start));
        };
        let path = root.join(SETTINGS_FILE);
        let text = fs::read_to_string(&path).map_err(|e| OpenProblem::Io(path.clone(), e))?;
        let settings = match Settings::parse(&text) {
            Ok(settings) => settings,
            Err(problem) => return Err(OpenProblem::Settings { path, text, problem }),
        };
        let below = start.strip_prefix(root).unwrap_or(Path::new(""));
        let folder = WsPath::root().resolve(&below.to_string_lossy()).unwrap_or_else(|_| WsPath::root());
        Ok(Workspace { root: root.to_owned(), folder, settings })
    }

    /// The tool's own folder in the workspace.
    pub fn own_folder(&self) -> PathBuf {
        self.root.join(".nubrik")
    }

    /// Makes the tool's own folders, hidden from git by what they hold.
    ///
    /// # Errors
    /// When they cannot be made.
    pub fn make_folders(&self) -> Result<(), OpenProblem> {
        for folder in [self.own_folder(), self.root.join("out")] {
            let ignore = folder.join(".gitignore");
            if !ignore.exists() {
                fs::create_dir_all(&folder).map_err(|e| OpenProblem::Io(folder.clone(), e))?;
                fs::write(&ignore, "*\n").map_err(|e| OpenProblem::Io(ignore.clone(), e))?;
            }
        }
        Ok(())
    }
}
