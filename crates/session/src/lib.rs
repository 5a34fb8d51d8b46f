//! Opens a workspace on disk and offers what front ends need: evaluation, builds, plans.
//!
//! Here the traits of the floors below meet the machine: definitions and folders on disk, tools,
//! processes, the state of the workspace and the store.
//!
//! ```
//! use std::sync::Arc;
//!
//! use nubrik_confine::CancelSwitch;
//! use nubrik_lang::AddressPattern;
//! use nubrik_session::Session;
//!
//! let folder = tempfile::tempdir()?;
//! std::fs::write(folder.path().join("nubrik.toml"), "")?;
//! std::fs::write(folder.path().join("targets.nub"), "target tide = write { path = \"t\", text = \"ebb\" }\n")?;
//! let session = Session::open(folder.path(), Arc::new(CancelSwitch::new()?)).map_err(|_| "no workspace")?;
//! let evaluation = session.evaluate(&[AddressPattern::below(&session.workspace.folder)]);
//! assert_eq!(&*evaluation.graph.target(evaluation.targets[0]).address, "tide");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod kits;
mod session;
mod world;

pub use kits::kit_topics;
pub use nubrik_machine::{
    CONFINED_ENVIRONMENT, EffectEnd, EffectProblem, IMAGES_UNUSED, ImageAmount, KnownImage,
    LibraryIndex, Machine, OutputListener, WatchedCommand, defined_symbols, images_amount,
    known_image, on_persons_path, own_network_works, prune_images, system_functions, verify_images,
};
pub use nubrik_memory::{BuildRecord, Results, Sealed, SharedRecord, StepRecord};
pub use nubrik_revisions::{ChangedFiles, ChangedLines, ComparedWith, SinceProblem};
pub use nubrik_source::SETTINGS_FILE;
pub use nubrik_store::store_folder;
pub use nubrik_watcher::{
    Doubt, EditTrouble, EditWatch, WATCHER_LOG, WatcherEnding, WatcherHeld, WatcherLife,
    WatcherStatus, serve as serve_watcher,
};
pub use nubrik_web::{Agreement, Agreements, Listener};
pub use nubrik_workspace::{
    KitArchive, OpenProblem, SETTINGS, Settings, SettingsProblem, SharedPlace, SharedSettings,
    WorkersSettings, Workspace, WorkspaceSetting,
};
pub use session::{
    BuildEnd, BuildProblem, BuildReport, CACHE_LIMIT, ChoiceProblem, DifferentTool, GivenAway,
    KitNews, LookedFor, MachineLacks, Narrowed, Reached, SavedResults, Session, SharedCache,
    Standing, StartWatcher, StaysHere, Workshop, load_results, own_labels, read_pins, this_program,
};

/// Whether a library of this name is installed, as its `.pc` file says.
pub fn has_library(name: &str) -> bool {
    let request = nubrik_lang::LibraryRequest {
        names: vec![name.into()],
        for_static: false,
    };
    let path = std::env::var(nubrik_machine::LIBRARY_PATH_VARIABLE).ok();
    !nubrik_machine::search_library(&request, path.as_deref(), &mut |_| {})
        .found
        .is_empty()
}

/// The folders of headers of all libraries that are installed.
pub fn installed_libraries() -> LibraryIndex {
    LibraryIndex::of(
        std::env::var(nubrik_machine::LIBRARY_PATH_VARIABLE)
            .ok()
            .as_deref(),
    )
}

/// Runs a person's command in a folder that is nobody's workspace, and notes all programs that it
/// starts: see [`nubrik_machine::Machine::watch`], also for `original`. Nothing where this
/// machine's kernel cannot do that.
///
/// # Errors
/// When the command cannot be confined.
pub fn watch_command(
    folder: &std::path::Path,
    command: &str,
    original: &std::path::Path,
    cancel: std::sync::Arc<nubrik_confine::CancelSwitch>,
) -> std::io::Result<Option<WatchedCommand>> {
    let search_path = std::env::var_os("PATH").unwrap_or_default();
    let machine = Machine::new(folder, search_path, &[], cancel)?;
    if machine.can_watch() {
        machine.watch(command, original).map(Some)
    } else {
        Ok(None)
    }
}
