//! This machine, seen from a workspace: its tools and libraries, the services that are started on
//! it, and the commands of steps, jobs and samples, each confined to what it may reach.
//!
//! ```
//! use std::sync::Arc;
//!
//! use nubrik_confine::CancelSwitch;
//! use nubrik_engine::{OutsideFiles, OutsideSystem};
//! use nubrik_machine::Machine;
//! use nubrik_source::{FilePath, WsPath};
//!
//! let folder = tempfile::tempdir()?;
//! std::fs::write(folder.path().join("tide"), "ebb")?;
//! let search = std::env::var_os("PATH").unwrap_or_default();
//! let machine = Machine::new(folder.path(), search, &[], Arc::new(CancelSwitch::new()?))?;
//! assert!(machine.check(&FilePath::from(&WsPath::from_normal("tide"))).is_some_and(|found| found.is_file()));
//! assert!(machine.tool(&"sh".into()).is_ok());
//! # Ok::<(), std::io::Error>(())
//! ```

mod asking;
mod boxes;
mod client_answers;
mod clock;
mod effects;
mod extract;
mod fetch;
mod fullness;
mod ground;
mod kept_images;
mod labels;
mod libraries;
mod loader_list;
mod machine;
mod natives;
mod places;
mod residents;
mod roots;
mod samples;
mod search_path;
mod services;
mod symbols;
mod temporary;
mod tool_parts;
mod tools;
mod ways;
mod web_access;
mod workers;

pub use effects::{EffectEnd, EffectProblem};
pub use ground::{
    CONFINED_ENVIRONMENT, Environment, Looked, LookingScope, Question, WatchedCommand,
    circumstances,
};
pub use kept_images::{
    IMAGES_UNUSED, KnownImage, images_amount, images_folder, known_image, look_after_images,
    prune_images, verify_images,
};
pub use libraries::{LIBRARY_PATH_VARIABLE, LibraryIndex, search_library};
pub use machine::Machine;
pub use nubrik_images::ImageAmount;
pub use search_path::on_persons_path;
pub use services::{OutputListener, end_left_over, own_network_works};
pub use symbols::{defined_symbols, system_functions};
pub use web_access::WebAccess;
