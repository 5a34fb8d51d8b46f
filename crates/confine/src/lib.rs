//! Running a command: its words, folder and environment, confined by the kernel where it can,
//! captured, and ended whole. The only crate with unsafe code, all of it in `sys`.
//!
//! There are two ways to confine. In a [`Sandbox`] a command sees what was put there and nothing
//! else. Where the kernel does not let this user make sandboxes, a [`RuleSet`] refuses what is not
//! declared, which a command can tell from what is not there.
//!
//! ```
//! use nubrik_confine::CancelSwitch;
//!
//! // Whatever runs under a switch ends, whole, when it is thrown.
//! let switch = CancelSwitch::new()?;
//! assert!(!switch.is_thrown());
//! switch.throw();
//! assert!(switch.is_thrown());
//! # Ok::<(), std::io::Error>(())
//! ```

mod apart;
mod call_paths;
mod calls;
mod cancel;
mod filter;
mod furnish;
mod identities;
mod networks;
mod pipeline;
mod programs;
mod record;
mod rules;
mod running;
mod sandbox;
mod sys;
mod talk;

pub use apart::{Apart, end_left_over};
pub use calls::PathUse;
pub use cancel::CancelSwitch;
pub use filter::{Network, Surroundings};
pub use furnish::ROOT;
pub use networks::OwnNetwork;
pub use pipeline::{
    Capture, Confinement, Ended, OpenWhole, PipelineSpec, Reach, StageSpec, file_with_all, furnish,
    run,
};
pub use programs::{ProgramStream, StartedProgram};
pub use record::{Found, Hidden, Recorder, UsedPath, WrittenPath, can_record};
pub use rules::{Access, RuleSet, Support, SystemFolders, support};
pub use running::{Echo, Running};
pub use sandbox::{
    AllPlaces, CommonPlaces, HOME, OF_SANDBOXES, Sandbox, SandboxKind, SandboxPlace, Sandboxes,
    TEMPORARY, is_shown_to_steps, look_ahead,
};
pub use sys::{
    Writers, allow_huge_pages, become_reaper, end_adopted, end_left_of, end_orphans,
    give_up_network, left_to_inherit, map_file, raise_open_file_limit, spare, writers_of,
};
pub use talk::{Answered, Talk};
