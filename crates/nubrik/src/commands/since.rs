//! `--since REV`: only what a change since a revision can affect, and how much was left out.

use nubrik_answers::Affected;
use nubrik_lang::Evaluation;
use nubrik_session::{Session, SinceProblem};
use nubrik_wording::counted;

use super::{CommandResult, labelled, say_wrong};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// Says why git cannot tell `what` changed since a revision.
pub fn cannot_tell(console: Console, what: &str, revision: &str, problem: &SinceProblem) -> Exit {
    let mend = match problem {
        SinceProblem::NoRepository => Some("git init   begins one"),
        SinceProblem::Shallow => Some("git fetch --unshallow   fetches the others"),
        SinceProblem::NoGit => Some("install git, or leave --since out"),
        SinceProblem::NotStarted(_) | SinceProblem::TooMuch(_) => Some("leave --since out"),
        SinceProblem::Stopped => None,
        SinceProblem::NoName | SinceProblem::Said(_) => {
            Some("name a commit, branch or tag, such as --since main")
        }
    };
    let message = format!("git cannot tell {what} changed since `{revision}`: {problem}");
    say_wrong(console, Exit::Usage, &message, mend.as_slice())
}

/// The part of a request that changes since a revision can affect, in a session that has evaluated;
/// or says why git cannot tell.
pub fn affected(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    revision: &str,
) -> CommandResult<Affected> {
    Affected::of(session, evaluation, revision)
        .map_err(|problem| cannot_tell(console, "what", revision, &problem))
}

/// Says how much was left out, and why.
pub fn say_skipped(console: Console, affected: &Affected) {
    let Some(skipped) = affected.skipped() else {
        return;
    };
    if console.is_json() {
        return console.event(&skipped);
    }
    let text = format!("{}: {}", counted(skipped.targets, "target"), skipped.reason);
    outln!(
        console,
        "{}",
        labelled(
            console.paint(OutputStream::Output),
            Ink::Faint,
            "skipped",
            &text
        )
    );
}
