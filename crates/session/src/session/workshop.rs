//! A session that may change its workspace: no other one does in the meantime.

use std::fs::{self, File};
use std::io;
use std::ops::Deref;
use std::sync::OnceLock;
use std::time::Duration;

use nubrik_disk::{Signature, read_open};
use nubrik_engine::{Changes, Listener, Options, OutsideFiles, Request};
use nubrik_graph::{Graph, Step};
use nubrik_lang::{AddressPattern, AnswerText, Evaluation};
use nubrik_memory::{Chronicle, Results, STATE_FILE};
use nubrik_source::FilePath;
use rustix::fs::OFlags;

use super::building::StepListener;
use super::{BuildProblem, BuildReport, Session, TOOLS_FILE, TOOLS_LIMIT};
use nubrik_team::NoStore;
use nubrik_workspace::OpenProblem;

/// How often a session that waits for another one looks whether that is done.
const LOOK_AGAIN: Duration = Duration::from_millis(20);

/// A session that holds its workspace's lock, until this is dropped: everything that changes a
/// workspace is done by it.
pub struct Workshop<'s> {
    pub(super) session: &'s mut Session,
    _lock: File,
}

impl Deref for Workshop<'_> {
    type Target = Session;

    fn deref(&self) -> &Session {
        self.session
    }
}

impl Drop for Workshop<'_> {
    fn drop(&mut self) {
        self.session.is_held = false;
    }
}

impl Session {
    /// Makes sure that no other session changes this workspace in the meantime; `waiting` is called
    /// when one does and has to be waited for. `None` when everything is to stop before that.
    ///
    /// # Errors
    /// When the tool's own files cannot be written.
    pub fn lock(&mut self, waiting: impl FnOnce()) -> Result<Option<Workshop<'_>>, BuildProblem> {
        self.had_results = self
            .workspace
            .make_folders()
            .map_err(|problem| match problem {
                OpenProblem::Io(path, e) => BuildProblem::Own(path, e),
                _ => BuildProblem::Own(
                    self.workspace.root.clone(),
                    io::Error::other("cannot make its folders"),
                ),
            })?;
        if self
            .store
            .as_ref()
            .is_err_and(|why| *why != NoStore::Unwanted)
        {
            self.store = self.opened_store();
        }
        self.layer();
        let flags = OFlags::CREATE | OFlags::WRONLY;
        let file = self
            .own()?
            .open("lock", flags)
            .map_err(|e| self.own_problem(("lock".to_owned(), e)))?;
        let mut waiting = Some(waiting);
        loop {
            match file.try_lock() {
                Ok(()) => break,
                Err(fs::TryLockError::WouldBlock) => {
                    if let Some(waiting) = waiting.take() {
                        waiting();
                    }
                    // A thread that waits in the kernel does not hear signals.
                    if self.machine.cancel().wait(LOOK_AGAIN) {
                        return Ok(None);
                    }
                }
                Err(fs::TryLockError::Error(e)) => {
                    return Err(self.own_problem(("lock".to_owned(), e)));
                }
            }
        }
        self.is_held = true;
        // What was looked at before may have changed while nothing was held.
        self.state = OnceLock::new();
        Ok(Some(Workshop {
            session: self,
            _lock: file,
        }))
    }
}

impl Workshop<'_> {
    /// Finds the answers of probes that an evaluation waits for. When a probe failed, the report
    /// says so and some answers are still missing.
    ///
    /// # Errors
    /// When the tool's own files cannot be written, or an answer cannot be read.
    pub fn answer(
        &mut self,
        evaluation: &Evaluation,
        listener: &dyn Listener,
        options: Options,
    ) -> Result<BuildReport, BuildProblem> {
        nubrik_confine::raise_open_file_limit();
        nubrik_confine::become_reaper();
        let graph = &evaluation.graph;
        let heard = StepListener::new(listener, graph);
        let request = Request {
            publish: false,
            ..Request::whole(graph, &evaluation.probes)
        };
        let mut outcome = self.built(request, &heard, options)?;
        for (folder, verdict) in heard.ended(true) {
            self.session.earlier.entry(folder).or_insert(verdict);
        }
        self.session
            .probes_looked_at
            .extend(outcome.looked_at.iter().map(|(path, entry)| {
                // A file that may still change without a trace holds no seal.
                (
                    path.clone(),
                    entry.map(|e| {
                        if e.young {
                            Signature::default()
                        } else {
                            e.signature
                        }
                    }),
                )
            }));
        let changes = std::mem::take(&mut outcome.changes);
        if changes.has_news() {
            self.remember(changes)?;
        } else {
            // What only reads is no build that counts.
            self.remember_tools()?;
        }
        if outcome.summary.counts.is_well() && !outcome.cancelled {
            for file in &evaluation.probes {
                let Some(maker) = graph.file(*file).maker else {
                    continue;
                };
                let step = graph.step(maker);
                self.read_answer(graph, step)?;
            }
        }
        let micros = self.lap_micros();
        Ok(BuildReport::of(&outcome, Results::default(), micros))
    }

    /// Takes over what a probe answered. An answer that cannot be read is no empty one.
    fn read_answer(&mut self, graph: &Graph, step: &Step) -> Result<(), BuildProblem> {
        let text = |file: nubrik_graph::FileId| {
            let path = &graph.file(file).path;
            let bytes = self.machine.read(&path.into());
            let bytes =
                bytes.map_err(|e| BuildProblem::Own(self.workspace.root.join(path.as_str()), e))?;
            Ok(String::from_utf8_lossy(&bytes).into_owned())
        };
        let status = step.status.map(text).transpose()?;
        let ok = status.is_none_or(|code| code.trim() == "0");
        let answer = AnswerText {
            ok,
            text: text(step.outputs[0].file)?.into(),
            errors: "".into(),
        };
        for output in &step.outputs {
            let path = FilePath::from(&graph.file(output.file).path);
            let signature = self.machine.check(&path).map(Signature::settled);
            self.session.probes_looked_at.push((path, signature));
        }
        self.session.answers.insert(step.folder.clone(), answer);
        Ok(())
    }

    /// Builds what was evaluated.
    pub fn build(
        &mut self,
        patterns: &[AddressPattern],
        evaluation: &Evaluation,
        listener: &dyn Listener,
        options: Options,
    ) -> Result<BuildReport, BuildProblem> {
        self.build_part(
            patterns,
            evaluation,
            (&evaluation.requested, &[]),
            listener,
            options,
        )
    }

    /// Builds some of the files that were requested, and publishes them; some steps run again
    /// though nothing changed.
    pub fn build_part(
        &mut self,
        patterns: &[AddressPattern],
        evaluation: &Evaluation,
        (files, again): (&[nubrik_graph::FileId], &[nubrik_graph::StepId]),
        listener: &dyn Listener,
        options: Options,
    ) -> Result<BuildReport, BuildProblem> {
        self.prepare(listener);
        self.break_seal(patterns);
        let gone = self.remove_stale_results(patterns, evaluation);
        let chronicle = Chronicle::new(listener, &evaluation.graph);
        let request = Request {
            again,
            ..Request::whole(&evaluation.graph, files)
        };
        let mut outcome = self.built(request, &chronicle, options)?;
        outcome.changes.published.extend(gone);
        self.count_earlier(
            &evaluation.graph,
            &evaluation.requested,
            &mut outcome.summary,
        );
        let record = self.history_record(patterns, chronicle, &outcome);
        self.tidy_up(&evaluation.graph, listener, &outcome);
        let results: Results = self.result_paths(evaluation, files).into_iter().collect();
        self.remember(std::mem::take(&mut outcome.changes))?;
        // A part says nothing of the rest of the request.
        if files.len() == evaluation.requested.len() {
            self.seal(patterns, evaluation, &outcome, &results)?;
        }
        let micros = self.session.keep_history(record);
        Ok(BuildReport::of(&outcome, results, micros))
    }

    /// Builds some files of what was evaluated, without publishing them: something else needs them.
    pub fn build_files(
        &mut self,
        patterns: &[AddressPattern],
        evaluation: &Evaluation,
        files: &[nubrik_graph::FileId],
        listener: &dyn Listener,
        options: Options,
    ) -> Result<BuildReport, BuildProblem> {
        self.prepare(listener);
        let chronicle = Chronicle::new(listener, &evaluation.graph);
        let request = Request {
            publish: false,
            ..Request::whole(&evaluation.graph, files)
        };
        let mut outcome = self.built(request, &chronicle, options)?;
        let record = self.history_record(patterns, chronicle, &outcome);
        self.tidy_up(&evaluation.graph, listener, &outcome);
        self.remember(std::mem::take(&mut outcome.changes))?;
        let micros = self.session.keep_history(record);
        Ok(BuildReport::of(&outcome, Results::default(), micros))
    }

    /// Removes something below the workspace's root, links on the way never followed. Gives how
    /// many files that was.
    ///
    /// # Errors
    /// When it cannot be removed.
    pub fn remove(&self, path: &str) -> std::io::Result<usize> {
        let below = self.machine.below();
        let count = match below
            .folder(path)
            .and_then(|folder| nubrik_disk::entries_below(&folder))
        {
            Ok(entries) => entries.len(),
            Err(_) => usize::from(below.look_at(path).is_ok()),
        };
        below.remove(path)?;
        Ok(count)
    }

    /// Adds to what is remembered of the workspace, in memory and on disk.
    pub(super) fn remember(&mut self, changes: Changes) -> Result<(), BuildProblem> {
        self.session.journal();
        if let Some(mut state) = self.session.state.take() {
            let saved = state.add(self.own()?, STATE_FILE, changes);
            self.session.state = OnceLock::from(state);
            saved.map_err(|problem| self.own_problem(problem))?;
        }
        self.remember_tools()
    }

    fn remember_tools(&self) -> Result<(), BuildProblem> {
        let (own, tools) = (self.own()?, self.machine.remembered_tools());
        let before = own
            .open_to_read(TOOLS_FILE)
            .and_then(|file| read_open(file, TOOLS_LIMIT));
        if before.is_ok_and(|before| before == tools) {
            return Ok(());
        }
        own.write_whole(TOOLS_FILE, &tools)
            .map_err(|e| self.own_problem((TOOLS_FILE, e)))
    }
}
