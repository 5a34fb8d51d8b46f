//! `--since REV`: only what a change since a revision can affect, and how much was left out.

use nubrik_graph::{FileId, TargetId};
use nubrik_lang::Evaluation;
use nubrik_session::{ChangedFiles, Session, SinceProblem};
use nubrik_wording::counted;
use serde::Serialize;

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

/// What changed since a revision, in a session that has evaluated; or says why git cannot tell.
pub fn changed(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    revision: &str,
) -> CommandResult<ChangedFiles> {
    session
        .changed_since(revision, evaluation)
        .map_err(|problem| cannot_tell(console, "what", revision, &problem))
}

/// What of a request the changes can affect.
pub struct Affected {
    /// Targets, in the order of the request.
    pub targets: Vec<TargetId>,
    /// Requested files that they make.
    pub files: Vec<FileId>,
    /// How many targets are skipped.
    pub skipped: usize,
    since: String,
}

#[derive(Serialize)]
struct SkippedEvent<'a> {
    event: &'static str,
    targets: usize,
    reason: &'a str,
}

/// What a revision means: of a branch it is where this work left it.
fn since_words(changed: &ChangedFiles, revision: &str) -> String {
    let base = changed.base();
    match base.is_merge_base {
        true => format!("{}, where this work left {revision}", &base.commit[..base.commit.len().min(10)]),
        false => revision.to_owned(),
    }
}

impl Affected {
    /// Of everything that was requested, what can be affected since a revision.
    pub fn of(
        console: Console,
        session: &Session,
        evaluation: &Evaluation,
        revision: &str,
    ) -> CommandResult<Affected> {
        let graph = &evaluation.graph;
        let changed = changed(console, session, evaluation, revision)?;
        let (steps, targets) = (changed.steps_reached(graph), changed.targets_reached(graph));
        let (kept, skipped): (Vec<TargetId>, Vec<TargetId>) =
            evaluation.targets.iter().partition(|target| targets[target.index()]);
        let by_change = |file: &FileId| graph.file(*file).maker.is_some_and(|maker| steps[maker.index()]);
        let files = evaluation.requested.iter().copied().filter(by_change).collect();
        Ok(Affected { targets: kept, files, skipped: skipped.len(), since: since_words(&changed, revision) })
    }

    /// Says how much was left out, and why.
    pub fn say_skipped(&self, console: Console) {
        if self.skipped == 0 {
            return;
        }
        let depend = if self.skipped == 1 { "it depends" } else { "they depend" };
        let reason = format!("nothing {depend} on changed since {}", self.since);
        if console.is_json() {
            return console.event(&SkippedEvent { event: "skipped", targets: self.skipped, reason: &reason });
        }
        let text = format!("{}: {reason}", counted(self.skipped, "target"));
        outln!(console, "{}", labelled(console.paint(OutputStream::Output), Ink::Faint, "skipped", &text));
    }
}
