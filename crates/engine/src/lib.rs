//! Keys, plan, reasons, schedule and execution: from a graph to results that are true.
//!
//! The engine sees neither definitions nor a terminal: it gets a graph, reaches the machine through
//! [`Outside`], keeps results in a [`nubrik_store::Store`], and speaks in [`Event`]s.
//!
//! ```
//! use nubrik_engine::{Listed, ListingContext, parse_listing};
//!
//! // What a compiler lists is understood from where it ran.
//! let around = ListingContext { roots: &["/w"], work: "tide", follow: &|_| None, exists: &|_| true };
//! let listed = parse_listing("fit.o: fit.c ../include/fit.h /usr/include/math.h", &around);
//! let inside = |path: &str| Listed::Inside(path.to_owned());
//! assert_eq!(listed, [inside("include/fit.h"), inside("tide/fit.c"), Listed::System("/usr/include/math.h".into())]);
//! ```

mod build;
mod candidates;
mod command_text;
mod differences;
mod event;
mod examine;
mod files;
mod found;
mod keeping;
mod key;
mod observe;
mod outside;
mod perform;
mod plan;
mod queue;
mod reason;
mod schedule;
mod state;
mod table;
mod words;

pub use build::{Build, Options, Outcome, Request, build};
pub use command_text::{shown_command, shown_service, shown_word};
pub use differences::{Comparison, Difference, Part};
pub use event::{Event, Failure, Listener, Notice, PlannedStep, Refusal, Summary, Verdict};
pub use files::FileTable;
pub use found::{Listed, ListingContext, parse_listing};
pub use key::{KEY_VERSION, declared_key};
pub use nubrik_disk::{MadeThing, Signature, TreeFile, TreeFileKind};
pub use observe::{StepAudit, audit, in_box};
pub use outside::{
    CONSTANT_ROOT, FoundTool, Job, JobEnd, Lent, Outside, Readable, Readables, Seen, ServiceFailure,
    ServiceProblem, ToolProblem, Touch, Touched, Work,
};
pub use plan::{Supposed, plan};
pub use queue::{Capacity, Forecast, forecast};
pub use reason::Reason;
pub use state::{ChangeList, Changes, FileEntry, Published, State, StepMemory};
pub use table::{FileBytes, Stored, Table};
