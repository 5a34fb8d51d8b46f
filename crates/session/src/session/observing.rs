//! Looking into steps: what they really do, and what it is like where they run.

use std::path::Path;

use nubrik_engine::Listener;
use nubrik_graph::{Closure, FileId, StepId};
use nubrik_lang::Evaluation;

use super::Session;

/// The steps of the targets that are asked for.
fn own_steps(evaluation: &Evaluation) -> Vec<StepId> {
    let graph = &evaluation.graph;
    let (all, asked) = (
        Closure::of(graph, evaluation.requested.iter().copied()).steps,
        evaluation.asked(),
    );
    all.into_iter()
        .filter(|step| asked[graph.step(*step).target.index()])
        .collect()
}

impl Session {
    /// What this machine lacks to confine steps as the settings want.
    pub fn unconfined(&self) -> Option<String> {
        let support = nubrik_confine::support();
        let mut missing = Vec::new();
        if !self.machine.has_sandboxes() && support.path_rules.is_none() {
            missing.push("path rules (Landlock)");
        }
        if !support.network_filter {
            missing.push("a system-call filter (seccomp)");
        }
        if self.workspace.settings.hide_undeclared && !self.machine.hides_undeclared() {
            missing.push("supervised system calls, for `hide_undeclared`");
        }
        (!missing.is_empty()).then(|| missing.join(" and "))
    }

    /// Why commands are not in sandboxes on this machine; `None` where they are.
    pub fn why_no_sandboxes(&self) -> Option<&str> {
        self.machine.why_no_sandboxes()
    }

    /// The files that must be here before steps of some targets are observed.
    pub fn needed_to_observe(&self, evaluation: &Evaluation) -> Vec<FileId> {
        let graph = &evaluation.graph;
        let steps = own_steps(evaluation);
        let mut files: Vec<FileId> = steps
            .iter()
            .flat_map(|step| graph.declared(graph.step(*step)))
            .collect();
        files.sort_unstable();
        files.dedup();
        files
    }

    /// Runs the steps of some targets once more under a recorder, and tells what they really read
    /// and wrote; their results stay as they are. Everything must have been built, in this session.
    /// `None` where this machine cannot record.
    pub fn observe(
        &self,
        evaluation: &Evaluation,
        listener: &dyn Listener,
    ) -> Option<Vec<nubrik_engine::ObservedStep>> {
        let graph = &evaluation.graph;
        let own = own_steps(evaluation);
        let observed_steps = nubrik_engine::observe(
            graph,
            &own,
            self.state(),
            &self.machine,
            self.store(),
            listener,
        );
        self.close_services(listener);
        observed_steps
    }

    /// Opens a shell in the box of a step, in this terminal: its folder made again, its
    /// environment, what it may read and write. What it needs must have been built, in this
    /// session. Gives the shell's exit code; the step's results stay as they are.
    ///
    /// # Errors
    /// When the box or the shell cannot be had.
    pub fn inside(
        &self,
        evaluation: &Evaluation,
        step: nubrik_graph::StepId,
        listener: &dyn Listener,
    ) -> Result<i32, nubrik_engine::Failure> {
        let graph = &evaluation.graph;
        let prompt = format!("inside {} $ ", graph.title(step));
        let mut ended = Ok(0);
        nubrik_engine::in_box(
            graph,
            step,
            self.state(),
            &self.machine,
            listener,
            &mut |job| {
                // With a terminal a shell with a prompt; else it reads what it is given.
                let words: &[&str] = if rustix::termios::isatty(rustix::stdio::stdin()) {
                    &["sh", "-i"]
                } else {
                    &["sh"]
                };
                ended = self
                    .machine
                    .attach(job, Path::new("/bin/sh"), words, &prompt);
            },
        )?;
        self.close_services(listener);
        ended.map_err(|e| nubrik_engine::Failure::Machine {
            problem: format!("cannot start /bin/sh: {e}"),
        })
    }
}
