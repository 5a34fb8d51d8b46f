//! Running a command: its words, folder and environment, confined by the kernel where it can,
//! captured, and ended whole. The only crate with unsafe code, all of it in `sys`.

mod apart;
mod pipeline;
mod record;
mod rules;
mod running;
mod sys;

pub use apart::{Apart, end_left_over, start_of_process};
pub use pipeline::{Capture, Ended, PipelineSpec, StageSpec, run};
pub use record::{Found, Hidden, Recorder, Touch, Touched, can_record};
pub use rules::{Access, RuleSet, Support, SystemFolders, support};
pub use running::{Echo, Running};
pub use sys::{
    CancelSwitch, become_reaper, end_orphans, give_up_network, map_file, raise_open_file_limit, spare,
};
