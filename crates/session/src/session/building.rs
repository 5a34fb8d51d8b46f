//! Building a request, once more where results that others gave cannot be had after all.

use std::sync::Arc;

use nubrik_engine::{Event, Listener, Notice, Options, Outcome, Request, Verdict, build};
use nubrik_graph::Graph;
use parking_lot::Mutex;

use super::{BuildProblem, Workshop};

impl Workshop<'_> {
    /// Builds a request, with reasons that name what people edited. What was known and not here,
    /// and cannot be had any more, is made in another go. Remembers of all but the last go what
    /// came of it. Of a request with settled steps there is none: what was lost may need more than
    /// these.
    pub(super) fn built(
        &mut self,
        request: Request<'_>,
        listener: &dyn Listener,
        mut options: Options,
    ) -> Result<Outcome, BuildProblem> {
        let out = self.results_folder();
        if let Err(why) = self.session.gather() {
            listener.hear(&Event::Notice(Notice::NoWorkers(why.to_string())));
        }
        loop {
            let heard = StepListener::new(listener, request.graph);
            let mut outcome = {
                let edits = self.edits();
                let edited = edits.finder();
                let performer = self
                    .crew
                    .as_deref()
                    .map(|crew| crew as &dyn nubrik_engine::Performer);
                let request = Request {
                    edited: &edited,
                    performer,
                    ..request
                };
                build(
                    request,
                    &out,
                    self.state(),
                    &self.machine,
                    self.store(),
                    &heard,
                    options,
                )
            };
            let is_last = outcome.lost == 0 || outcome.cancelled;
            let verdicts = heard.ended(is_last);
            self.session.shared_use.add(outcome.shared);
            self.session.ran_elsewhere += outcome.sent;
            if is_last {
                return Ok(outcome);
            }
            listener.hear(&Event::Notice(Notice::Lost(outcome.lost)));
            self.remember(std::mem::take(&mut outcome.changes))?;
            for (folder, verdict) in verdicts {
                let is_there = self
                    .state()
                    .steps
                    .get(&folder)
                    .is_some_and(|memory| !memory.outputs.is_empty());
                if is_there && matches!(verdict, Verdict::Ran | Verdict::Reused) {
                    self.session.earlier.entry(folder).or_insert(verdict);
                }
            }
            if !request.settled.is_empty() {
                return Ok(outcome);
            }
            // Whatever is known and not here would be lost again.
            options.stay_away = false;
        }
    }
}

/// Hears what becomes of steps, and passes it on.
pub(super) struct StepListener<'a> {
    listener: &'a dyn Listener,
    graph: &'a Graph,
    verdicts: Mutex<Vec<(Arc<str>, Verdict)>>,
    /// That steps were not begun: no news where they are in another go.
    unstarted: Mutex<Vec<Event>>,
}

impl<'a> StepListener<'a> {
    /// Passes what becomes of the steps of a graph on to someone.
    pub(super) fn new(listener: &'a dyn Listener, graph: &'a Graph) -> StepListener<'a> {
        StepListener {
            listener,
            graph,
            verdicts: Mutex::default(),
            unstarted: Mutex::default(),
        }
    }

    /// What became of steps, by their folders. If this was the end of it, it is reported which ones
    /// were not begun.
    pub(super) fn ended(self, is_last: bool) -> Vec<(Arc<str>, Verdict)> {
        let unstarted = self.unstarted.into_inner();
        unstarted
            .iter()
            .filter(|_| is_last)
            .for_each(|event| self.listener.hear(event));
        self.verdicts.into_inner()
    }
}

impl Listener for StepListener<'_> {
    fn hear(&self, event: &Event) {
        if let Event::Done { step, verdict, .. } = event {
            let folder = self.graph.step(*step).folder.shared().clone();
            self.verdicts.lock().push((folder, *verdict));
            if *verdict == Verdict::Unstarted {
                self.unstarted.lock().push(event.clone());
                return;
            }
        }
        self.listener.hear(event);
    }
}
