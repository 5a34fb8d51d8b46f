//! What is to be made, as flat data: files, steps and targets by number, and queries over them.
//!
//! The graph knows nothing of the language that described it nor of the engine that runs it. Who
//! owns a type owns its walks and its bytes: renumbering is in `visit.rs`, graphs are put together
//! in `joining.rs`, and what a step is as bytes, for keys and for disk, in `layout.rs`.
//!
//! ```
//! use nubrik_graph::{Closure, FileId, FileNode, OutputNode, Step, StepId, Tables, Target};
//! use nubrik_source::WsPath;
//!
//! // One step, which reads `fit.c` and makes `fit.o`.
//! let mut tables = Tables::default();
//! let path = |path: &str| WsPath::from_normal(path);
//! tables.files.push(FileNode { path: path("fit.c"), maker: None, folder: false });
//! tables.files.push(FileNode { path: path("made/fit.o"), maker: Some(StepId(0)), folder: false });
//! let outputs = vec![OutputNode::new(FileId(1), "fit.o")];
//! tables.targets.push(Target::plain("fit"));
//! let step = Step { inputs: vec![FileId(0)].into(), outputs, ..Step::empty(path("made")) };
//! tables.steps.push(Box::new(step));
//! let graph = tables.finish().map_err(|flaw| flaw.0)?;
//! assert_eq!(Closure::of(&graph, [FileId(1)]).steps, [StepId(0)]);
//! # Ok::<(), String>(())
//! ```

mod assembly;
mod command_text;
mod cycles;
mod graph;
mod ids;
mod joining;
mod layout;
mod native;
mod order;
mod part;
mod platform;
mod rows;
mod service;
mod sets;
mod sorted;
mod step;
mod target;
mod variant;
mod visit;
mod whole;

pub use assembly::Assembly;
pub use command_text::{shown_command, shown_service, shown_word};
pub use cycles::{Cycle, Edge, components, is_acyclic, shortest_cycles};
pub use graph::{FileNode, Flaw, Graph, Tables, TargetIndex};
pub use ids::{FileId, StepId, TargetId, ToolId};
pub use joining::{JoinedNumbers, Joining, RowDigests, Taking};
pub use layout::{Purpose, write_service, write_step, write_target};
pub use native::{
    ArchiveFormat, ImageFiles, ImageSearch, ImageSource, Native, NewImage, NewLayer, Placement,
    PlainFile, Unpacking, is_digest, url_name,
};
pub use order::{Closure, longest_chains, shortest_way, steps_after, users_of};
pub use part::LoneStep;
pub use platform::{PROCESSORS, SYSTEMS, is_label, own_platform, platform_of};
pub use rows::{RowIndex, row_digest};
pub use service::{
    Mark, SERVICE_PATIENCE, Service, ServiceCommand, ServiceImage, ServiceProgram, ServiceStage,
    Serving, instance_folder, shown_marks, unmarked,
};
pub use sets::{FileSets, Needs, SetId};
pub use sorted::Sorted;
pub use step::{
    ArgumentFile, Check, Effect, KEPT, Limits, OutputNode, Pipeline, Place, Program, SECRET, Stage,
    Step, WorkFolder,
};
pub use target::{ResultFile, Role, Target};
pub use variant::{SetTo, is_variant, options_of, variant_folder, without_option, without_variant};
pub use visit::{Numbers, Renumbering};
