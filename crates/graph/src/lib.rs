//! What is to be made, as flat data: files, steps and targets by number, and queries over them.
//!
//! The graph knows nothing of the language that described it nor of the engine that runs it.

mod cycles;
mod model;
mod order;
mod service;
mod sets;

pub use cycles::{Cycle, Edge, is_acyclic, shortest_cycles};
pub use model::{
    ArchiveFormat, Check, Effect, FileId, FileNode, Graph, Limits, ListFile, Native, OutputNode, Pipeline,
    Place, Placement, Program, ResultFile, Role, SECRET, Stage, Step, StepId, Target, TargetId, ToolId,
    WorkFolder, url_name,
};
pub use order::{Closure, longest_chains};
pub use service::{
    Mark, SERVICE_PATIENCE, Service, ServiceCommand, ServiceProgram, ServiceStage, Serving, instance_folder,
    shown_marks, unmarked,
};
pub use sets::{FileSets, Needs, SetId};
