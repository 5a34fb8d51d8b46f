//! Says why an adoption does not go on.

use nubrik_adopt::AdoptProblem;

use crate::commands::{build, own_problem, pins, say_not_opened, say_wrong, say_wrong_noted};
use crate::exit::Exit;
use crate::ui::console::{Console, errln};
use crate::ui::text::harmless;

/// Says why an adoption does not go on.
pub fn say(console: Console, problem: &AdoptProblem) -> Exit {
    let wrong = |exit, message: String, mends: &[&str]| say_wrong(console, exit, &message, mends);
    match problem {
        AdoptProblem::Interrupted => {
            errln!(console, "stopped");
            Exit::Interrupted
        }
        AdoptProblem::NoPlace { place, error } => {
            wrong(Exit::Usage, format!("cannot look at {}: {error}", place.display()), &[])
        }
        AdoptProblem::NoFolder(place) => {
            let mends = ["nubrik adopt   looks at this folder"];
            wrong(Exit::Usage, format!("{} is no folder", place.display()), &mends)
        }
        AdoptProblem::TooMuch(place) => wrong(
            Exit::Usage,
            format!("{} holds more than one project's sources, so it becomes no workspace", place.display()),
            &["nubrik adopt FOLDER   for the folder of a project"],
        ),
        AdoptProblem::OwnFolder(place) => {
            let message = format!("{} is the tool's own folder: what is in it was made", place.display());
            wrong(Exit::Usage, message, &[])
        }
        AdoptProblem::NoText { name, error } => {
            wrong(Exit::Definitions, format!("cannot read {name}: {error}"), &["nubrik lint"])
        }
        AdoptProblem::Unreadable { path, why } => {
            wrong(Exit::Definitions, format!("{path} cannot be read: {why}"), &["nubrik lint"])
        }
        AdoptProblem::Unfit(path) => {
            let message = format!("{path} is not changed: it could not be read afterwards");
            wrong(Exit::Own, message, &["nubrik adopt --check   says what differs"])
        }
        AdoptProblem::Open(problem) => say_not_opened(console, problem),
        AdoptProblem::Own(problem) => own_problem(console, problem),
        AdoptProblem::Kit { name, why } => build::say_kit_missing(console, name, why),
        AdoptProblem::ReadPins(problem) => pins::say(console, Exit::Definitions, problem),
        AdoptProblem::WritePins(problem) => pins::say(console, Exit::Failed, problem),
        AdoptProblem::Unwritable { name, error } => {
            let mends = ["check the rights and the space there"];
            wrong(Exit::Own, format!("cannot write {name}: {error}"), &mends)
        }
        AdoptProblem::ChangedBySomebody(name) => {
            let message = format!("{name} was changed by someone else in the meantime, and is left alone");
            wrong(Exit::Failed, message, &["nubrik adopt   again"])
        }
        AdoptProblem::NoCopy { error } => {
            let mends = ["TMPDIR names a folder with more room"];
            wrong(Exit::Own, format!("cannot copy the folder, to build it there: {error}"), &mends)
        }
        AdoptProblem::CannotWatch { error } => {
            let mends = ["nubrik adopt   proposes what the sources show"];
            wrong(Exit::Machine, format!("commands cannot be watched on this machine: {error}"), &mends)
        }
        AdoptProblem::WatchFailed { command, how, printed, wanted_network } => {
            let message = format!("`{command}` did not build a copy of this folder: {how}");
            let mend = match wanted_network {
                true => {
                    "fetch first what it wants from the network, which it does not have while it is watched"
                }
                false => "a command that builds this folder from nothing, such as a script of its own",
            };
            // What a stranger's build prints must not move the cursor.
            let printed: Vec<String> = printed.iter().map(|line| harmless(line, false)).collect();
            let notes: Vec<&str> = printed.iter().map(String::as_str).collect();
            say_wrong_noted(console, Exit::Failed, &message, &notes, Some(mend))
        }
        AdoptProblem::NothingLearned { command } => wrong(
            Exit::Failed,
            format!("`{command}` compiled nothing here that is left when it is over"),
            &["if all is built already, a command that begins from nothing: it runs in a copy of the folder"],
        ),
        AdoptProblem::NotAsked { id, near } => {
            let mend = near.as_ref().map(|near| format!("--answer {near}=…"));
            let mends: Vec<&str> = mend.iter().map(String::as_str).collect();
            wrong(Exit::Usage, format!("nothing is asked about `{id}`"), &mends)
        }
        AdoptProblem::NoAnswer { id, answer, choices } => {
            let mend = format!("one of: {}", choices.join(", "));
            wrong(Exit::Usage, format!("`{answer}` is no answer to {id}"), &[&mend])
        }
    }
}
