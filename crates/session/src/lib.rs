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

mod below;
mod boxes;
mod effects;
mod enclosure;
mod fetch;
mod grants;
mod heap;
mod history;
mod kits;
mod libraries;
mod listing;
mod looking;
mod machine;
mod made;
mod natives;
mod numbers;
mod places;
mod printed;
mod probes;
mod publish;
mod reading;
mod results;
mod seal;
mod services;
mod session;
mod settings;
mod since;
mod snapshot;
mod splice;
mod state_file;
mod temporary;
mod tool_parts;
mod tools;
mod trails;
mod ways;
mod workers;
mod workspace;
mod world;

pub use effects::{EffectEnd, EffectProblem};
pub use history::{BuildRecord, StepRecord};
pub use kits::kit_topics;
pub use machine::{CONFINED_ENVIRONMENT, Machine};
pub use printed::keep_printed;
pub use results::Results;
pub use seal::Sealed;
pub use services::own_network_works;
pub use session::{
    BuildProblem, BuildReport, ChoiceProblem, LookedFor, Reached, Session, Standing, Workshop, store_folder,
};
pub use settings::{Settings, SettingsProblem};
pub use since::ChangedFiles;
pub use workspace::{OpenProblem, SETTINGS_FILE, Workspace};
