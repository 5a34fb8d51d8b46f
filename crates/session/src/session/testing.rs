//! Running tests, and what is to be known of them.

use nubrik_engine::{Listener, Options, OutsideFiles, Request};
use nubrik_graph::{Graph, Step};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_memory::{Chronicle, Results};
use nubrik_source::FilePath;

use super::{BuildProblem, BuildReport, Session, Workshop};
use nubrik_revisions::ChangedFiles;
use nubrik_revisions::ChangedLines;
use nubrik_revisions::SinceProblem;

impl Session {
    /// The single cases that the report of a check lists; `None` where it has none that can be
    /// read.
    pub fn cases(&self, graph: &Graph, step: &Step) -> Option<Vec<nubrik_reports::cases::Case>> {
        let report = step.check.as_ref()?.report?;
        let bytes = self
            .machine
            .read(&FilePath::from(&graph.file(report).path))
            .ok()?;
        nubrik_reports::cases::read(&bytes).ok()
    }

    /// What changed since a revision of git. The evaluation must be one of a session that [takes
    /// notes](Session::take_notes); else everything counts as changed.
    ///
    /// # Errors
    /// What git says where it cannot tell.
    pub fn changed_since(
        &self,
        revision: &str,
        evaluation: &Evaluation,
    ) -> Result<ChangedFiles, SinceProblem> {
        ChangedFiles::since(
            &self.machine,
            revision,
            &evaluation.trail,
            &evaluation.graph,
        )
    }

    /// Which lines changed since a revision of git.
    ///
    /// # Errors
    /// What git says where it cannot tell.
    pub fn lines_changed_since(&self, revision: &str) -> Result<ChangedLines, SinceProblem> {
        ChangedLines::since(&self.machine, revision)
    }
}

impl Workshop<'_> {
    /// Builds what the requested tests need, and runs those of them whose verdicts are out of date,
    /// and those in `again`.
    pub fn test(
        &mut self,
        patterns: &[AddressPattern],
        evaluation: &Evaluation,
        verdicts: &[nubrik_graph::FileId],
        again: &[nubrik_graph::StepId],
        listener: &dyn Listener,
        options: Options,
    ) -> Result<BuildReport, BuildProblem> {
        self.prepare(listener);
        let chronicle = Chronicle::new(listener, &evaluation.graph);
        let request = Request {
            publish: false,
            again,
            ..Request::whole(&evaluation.graph, verdicts)
        };
        let mut outcome = self.built(request, &chronicle, options)?;
        self.count_earlier(
            &evaluation.graph,
            &evaluation.requested,
            &mut outcome.summary,
        );
        let record = self.history_record(patterns, chronicle, &outcome);
        self.tidy_up(&evaluation.graph, listener, &outcome);
        self.remember(std::mem::take(&mut outcome.changes))?;
        let micros = self.session.keep_history(record);
        Ok(BuildReport::of(&outcome, Results::default(), micros))
    }
}
