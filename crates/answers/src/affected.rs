//! The part of a request that changes since a revision can affect.

use nubrik_graph::{FileId, TargetId};
use nubrik_lang::Evaluation;
use nubrik_session::{ChangedFiles, Session, SinceProblem};
use serde::Serialize;

/// The part of a request that changes can affect.
pub struct Affected {
    /// Targets, in the order of the request.
    pub targets: Vec<TargetId>,
    /// Requested files that they make.
    pub files: Vec<FileId>,
    skipped: usize,
    since: String,
}

/// How many targets were skipped, for programs.
#[derive(Serialize)]
pub struct SkippedEvent {
    event: &'static str,
    /// How many.
    pub targets: usize,
    /// Why.
    pub reason: String,
}

/// What a revision means: of a branch it is where this work left it.
fn since_words(changed: &ChangedFiles, revision: &str) -> String {
    let base = changed.base();
    match base.is_merge_base {
        true => format!(
            "{}, where this work left {revision}",
            &base.commit[..base.commit.len().min(10)]
        ),
        false => revision.to_owned(),
    }
}

impl Affected {
    /// The part of everything that was requested. The session took notes while it evaluated
    /// ([`Session::take_notes`]).
    ///
    /// # Errors
    /// Where git does not know.
    pub fn of(
        session: &Session,
        evaluation: &Evaluation,
        revision: &str,
    ) -> Result<Affected, SinceProblem> {
        let graph = &evaluation.graph;
        let changed = session.changed_since(revision, evaluation)?;
        let (steps, targets) = (changed.steps_reached(graph), changed.targets_reached(graph));
        let (kept, skipped): (Vec<TargetId>, Vec<TargetId>) = evaluation
            .targets
            .iter()
            .partition(|target| targets[target.index()]);
        let by_change = |file: &FileId| {
            graph
                .file(*file)
                .maker
                .is_some_and(|maker| steps[maker.index()])
        };
        let files = evaluation
            .requested
            .iter()
            .copied()
            .filter(by_change)
            .collect();
        Ok(Affected {
            targets: kept,
            files,
            skipped: skipped.len(),
            since: since_words(&changed, revision),
        })
    }

    /// How much was left out, and why; `None` where nothing was.
    pub fn skipped(&self) -> Option<SkippedEvent> {
        let depend = if self.skipped == 1 {
            "it depends"
        } else {
            "they depend"
        };
        let reason = format!("nothing {depend} on changed since {}", self.since);
        (self.skipped > 0).then_some(SkippedEvent {
            event: "skipped",
            targets: self.skipped,
            reason,
        })
    }
}
