//! Says why an adoption does not go on.

use nubrik_adopt::AdoptProblem;
use nubrik_source::Sources;

use crate::commands::{build, own_problem, pins, report, say_not_opened};
use crate::exit::Exit;
use crate::ui::console::{Console, errln};
use crate::ui::text::harmless;

/// Says why an adoption does not go on.
pub fn say(console: Console, problem: &AdoptProblem) -> Exit {
    if let Some(mut diagnostic) = problem.diagnostic() {
        // What a stranger's build prints must not move the cursor.
        diagnostic
            .notes
            .iter_mut()
            .for_each(|note| *note = harmless(note, false));
        report(console, &[diagnostic], &Sources::default());
    }
    match problem {
        AdoptProblem::Interrupted => {
            errln!(console, "stopped");
            Exit::Interrupted
        }
        AdoptProblem::Open(problem) => say_not_opened(console, problem),
        AdoptProblem::Own(problem) => own_problem(console, problem),
        AdoptProblem::Kit { name, why } => build::say_kit_missing(console, name, why),
        AdoptProblem::ReadPins(problem) => pins::say(console, Exit::Definitions, problem),
        AdoptProblem::WritePins(problem) => pins::say(console, Exit::Failed, problem),
        AdoptProblem::NoText { .. } | AdoptProblem::Unreadable { .. } => Exit::Definitions,
        AdoptProblem::Unfit(_) | AdoptProblem::Unwritable { .. } | AdoptProblem::NoCopy { .. } => {
            Exit::Own
        }
        AdoptProblem::ChangedBySomebody(_)
        | AdoptProblem::WatchFailed { .. }
        | AdoptProblem::NothingLearned { .. } => Exit::Failed,
        AdoptProblem::CannotWatch { .. } => Exit::Machine,
        AdoptProblem::NoPlace { .. }
        | AdoptProblem::NoFolder(_)
        | AdoptProblem::TooMuch(_)
        | AdoptProblem::OwnFolder(_)
        | AdoptProblem::NotAsked { .. }
        | AdoptProblem::NoAnswer { .. } => Exit::Usage,
    }
}
