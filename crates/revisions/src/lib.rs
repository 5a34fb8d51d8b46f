//! Which sources changed since a revision, as git says, which targets of a graph that can affect,
//! and which lines are new.

mod changed_lines;
mod git;
mod since;

pub use changed_lines::ChangedLines;
pub use git::{ComparedWith, SinceProblem};
pub use since::ChangedFiles;
