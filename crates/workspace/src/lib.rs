//! Where a workspace is, and what its `nubrik.toml` says: settings of the tool, never build logic,
//! and kits in archives.
//!
//! ```
//! let folder = tempfile::tempdir()?;
//! std::fs::write(folder.path().join("nubrik.toml"), "jobs = 3\n")?;
//! std::fs::create_dir(folder.path().join("tides"))?;
//! let workspace = nubrik_workspace::Workspace::find(&folder.path().join("tides")).map_err(|_| "none")?;
//! assert_eq!(workspace.settings.jobs, Some(3));
//! assert_eq!(workspace.folder.as_str(), "tides");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod archives;
mod place;
mod settings;

pub use archives::{KitArchive, note_of, noted_path, unpacked};
pub use place::{OpenProblem, Workspace};
pub use settings::{
    SETTINGS, Settings, SettingsProblem, SharedPlace, SharedSettings, StepSettings,
    WorkersSettings, WorkspaceSetting,
};
