//! What a build says when it is over.

use nubrik_engine::{Outcome, Summary};
use nubrik_memory::Results;

/// The result of a build.
pub struct BuildReport {
    /// Counts and the longest chain.
    pub summary: Summary,
    /// How long it took, in microseconds.
    pub micros: u64,
    /// Where the requested results are, from the workspace's root.
    pub results: Results,
    /// Whether it was stopped.
    pub cancelled: bool,
    /// Whether a failure lies in the machine.
    pub machine_lacks: bool,
    /// How many steps came out otherwise when they ran again.
    pub flaky: usize,
    /// The addresses of what was asked for and could not be evaluated.
    pub left_out: Vec<String>,
}

/// How a build ended, by the worst that came of it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum BuildEnd {
    /// All that was asked for is there.
    Done,
    /// It was stopped.
    Interrupted,
    /// The machine lacks something.
    MachineLacks,
    /// Steps failed, or came out otherwise when they ran again.
    Failed,
    /// Results are made, and could not be put where people look for them.
    Unpublished,
    /// Something that was asked for could not be evaluated.
    LeftOut,
}

impl BuildReport {
    /// How the build ended.
    pub fn end(&self) -> BuildEnd {
        let counts = &self.summary.counts;
        match self {
            _ if self.cancelled => BuildEnd::Interrupted,
            _ if self.machine_lacks => BuildEnd::MachineLacks,
            _ if counts.failed + counts.blocked + counts.unstarted > 0 => BuildEnd::Failed,
            _ if self.summary.unpublished > 0 => BuildEnd::Unpublished,
            _ if self.flaky > 0 => BuildEnd::Failed,
            _ if !self.left_out.is_empty() => BuildEnd::LeftOut,
            _ => BuildEnd::Done,
        }
    }

    /// The report of what was built, with where its results are.
    pub(super) fn of(outcome: &Outcome, results: Results, micros: u64) -> BuildReport {
        let Outcome {
            summary,
            cancelled,
            machine_lacks,
            changes: _,
            looked_at: _,
            lost: _,
            shared: _,
            sent: _,
        } = outcome;
        let (summary, cancelled, machine_lacks) = (summary.clone(), *cancelled, *machine_lacks);
        BuildReport {
            summary,
            micros,
            results,
            cancelled,
            machine_lacks,
            flaky: 0,
            left_out: Vec::new(),
        }
    }
}
