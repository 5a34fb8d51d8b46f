//! Keys, plan, reasons, schedule and execution: from a graph to results that are true.
//!
//! The engine sees neither definitions nor a terminal: it gets a graph, reaches the machine through
//! [`Outside`], keeps results in a [`nubrik_store::Store`], and speaks in [`Event`]s.
//!
//! ```
//! use nubrik_engine::{ListingContext, parse_listing};
//! use nubrik_source::WsPath;
//!
//! // What a compiler lists is understood from where it ran.
//! let work = WsPath::from_normal("tide");
//! let around = ListingContext { roots: &["/w"], work: &work, follow: &|_| None, exists: &|_| true };
//! let listed = parse_listing("fit.o: fit.c ../include/fit.h /usr/include/math.h", &around);
//! let listed: Vec<&str> = listed.iter().map(|file| file.as_str()).collect();
//! assert_eq!(listed, ["/usr/include/math.h", "include/fit.h", "tide/fit.c"]);
//! ```

mod away;
mod basis;
mod build;
mod candidates;
mod comparison;
mod differences;
mod early;
mod elsewhere;
mod event;
mod examine;
mod failures;
mod fetch;
mod files;
mod found;
mod inside;
mod keeping;
mod key;
mod mismatch;
mod notices;
mod observe;
mod observed;
mod of_system;
mod outside;
mod passed_over;
mod perform;
mod performer;
mod plan;
mod play;
mod queue;
mod reason;
mod refusals;
mod rooted;
mod run;
mod schedule;
mod seen;
mod sending;
mod sent;
mod service_failures;
mod state;
mod step_end;
mod table;
mod there;
mod verify;
mod words;

pub use build::{Build, EditedAt, Options, Outcome, Outreach, Request};
pub use comparison::{Comparison, Difference, Part};
pub use elsewhere::{HeldAgainst, MadeElsewhere, held_against};
pub use event::{
    Event, Failure, IS_FILE, IS_FOLDER, Listener, Notice, PlannedStep, Refusal, SharedUse,
    StepCounts, Summary, Verdict,
};
pub use failures::{LabelledLine, survived};
pub use files::FileTable;
pub use found::{ListingContext, parse_listing};
pub use key::{KEY_VERSION, declared_key};
pub use mismatch::RestMismatch;
pub use nubrik_disk::{MadeThing, Signature, TreeFile, TreeFileKind};
pub use observe::{ObservedStep, in_box, observe};
pub use outside::{
    CONSTANT_ROOT, FoundTool, Job, JobEnd, Lent, OpenRoot, Outside, OutsideFiles, OutsideRoots,
    OutsideServices, OutsideSystem, OutsideWork, Readable, Readables, ServiceFailure,
    ServiceProblem, ToolProblem, Work, WorkProblem, is_cut_off, is_own_end,
};
pub use performer::{Errand, FailedElsewhere, NamedThings, Performer, SetFile, StepAnswer};
pub use plan::{Supposed, plan};
pub use play::{Played, PlayedCrew, play};
pub use queue::{Capacity, Forecast, forecast};
pub use reason::Reason;
pub use rooted::ROOT;
pub use run::build;
pub use seen::{Named, Recording, Seen, Touch, Touched};
pub use state::{
    ChangeList, Changes, FileEntry, Published, State, StepMemory, memory_for_others,
    memory_of_others,
};
pub use table::{FileBytes, Table};
pub use there::identity_of;
pub use verify::{OtherOutput, VerifiedStep, VerifyEnd, verify};
