//! The last result of a request, seen from now: where little changed since, only what the change
//! reaches is evaluated again, taken out of the sealed graph, and built.

use std::sync::Arc;

use nubrik_engine::{EditedAt, Listener, Options, PlannedStep, Request, Supposed};
use nubrik_graph::Graph;
use nubrik_lang::AddressPattern;
use nubrik_memory::{
    Change, Chronicle, Journal, Names, ReachedPart, Results, Seal, Sealed, Snapshot, Trails,
    read_snapshot, read_trails, splice,
};
use nubrik_source::WsPath;
use rustc_hash::FxHashSet;

use super::again::{AgainEvaluated, TouchedParts};
use super::sweeping::homes;
use super::{BuildProblem, BuildReport, Session, Workshop};

/// The last result of a request, seen from now.
pub enum Standing {
    /// Nothing that it looked at has changed.
    Holds(Sealed),
    /// Some inputs or outputs of steps changed, and only they: the steps that this reaches.
    Reached(Box<Reached>),
    /// It is to be evaluated again.
    Unknown,
}

/// The steps of a sealed request that a change reaches.
pub struct Reached {
    /// Where the seal is, in the tool's own folder.
    pub(super) path: String,
    pub(super) seal: Journal<Seal>,
    pub(super) snapshot: Snapshot,
    /// The same before a part of the definitions was evaluated again.
    before: Option<Snapshot>,
    pub(super) changes: Vec<Change>,
    pub(super) part: ReachedPart,
    /// What came of evaluating a part of the definitions again.
    pub(super) again: Option<Again>,
    /// Listed folders with other names in them, by their numbers in the seal.
    pub(super) relisted: Vec<(usize, Names)>,
    /// Whether anything changed that evaluation looked at.
    definitions: bool,
}

/// What came of evaluating a part of the definitions again.
pub(super) struct Again {
    /// How many steps the request needs now.
    pub(super) steps: usize,
    /// Results of the targets that were evaluated again, as they were.
    pub(super) gone: Vec<String>,
    /// The same now.
    pub(super) results: Vec<String>,
    /// Results that no target has any more.
    pub(super) stale: Vec<Arc<str>>,
    /// What values were taken from now, where that is something else.
    pub(super) trails: Option<Trails>,
}

impl Reached {
    /// These steps, and those that they need.
    pub fn graph(&self) -> &Arc<Graph> {
        &self.part.graph
    }

    /// Addresses of the targets that were asked for, as they were before the change.
    fn asked(&self) -> Vec<WsPath> {
        let before = self.before.as_ref().unwrap_or(&self.snapshot);
        (0..before.asked.len())
            .filter_map(|n| before.address(n))
            .map(WsPath::from_normal)
            .collect()
    }

    /// How many steps the change reaches, without those that they only need.
    pub fn steps(&self) -> usize {
        self.part.steps
    }

    /// The address of the target that makes a file, of which the seal may say what it is in the
    /// graph.
    fn maker_elsewhere(&self, path: &str) -> Option<Arc<str>> {
        let likely = self
            .seal
            .find(path)
            .map(|number| self.seal.entry(number).node);
        self.snapshot.maker_of(path, likely).map(Arc::from)
    }

    /// What is to be built of it.
    fn request<'r>(
        &'r self,
        maker_elsewhere: &'r (dyn Fn(&str) -> Option<Arc<str>> + Sync),
        edited: &'r EditedAt<'r>,
    ) -> Request<'r> {
        Request {
            graph: &self.part.graph,
            files: &self.part.requested,
            settled: &self.part.settled,
            maker_elsewhere,
            publish: true,
            again: &[],
            performer: None,
            edited,
        }
    }

    /// How many steps the request needs, and where its results are.
    fn comes_to(&self) -> (usize, Results) {
        let Sealed { steps, results } = &self.seal.sealed;
        match &self.again {
            None => (*steps, results.clone()),
            Some(again) if again.gone == again.results => (again.steps, results.clone()),
            Some(again) => (again.steps, results.changed(&again.gone, &again.results)),
        }
    }
}

/// How many threads look and read at once.
pub(super) fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

impl Session {
    /// Looks whether the last result of a request is still valid; where definitions changed, only
    /// what they reach is evaluated again.
    pub fn standing(&self, patterns: &[AddressPattern]) -> Standing {
        let path = self.seal_path(patterns);
        let Ok(own) = self.own() else {
            return Standing::Unknown;
        };
        let Some((seal, changes)) = self.sealed_at(own, &path) else {
            return Standing::Unknown;
        };
        if changes.is_empty() {
            return Standing::Holds(seal.into_value().sealed);
        }
        if self.is_held {
            // Steps are likely to run.
            nubrik_confine::look_ahead();
        }
        let reached = read_snapshot(own, &path, &seal, self.is_held)
            .and_then(|old| self.reached(patterns, (path, seal), changes, old));
        reached.map_or(Standing::Unknown, |reached| {
            Standing::Reached(Box::new(reached))
        })
    }

    /// Whether everything that the steps a change reaches take from others is remembered.
    pub fn remembers(&self, reached: &Reached) -> bool {
        let graph = &reached.part.graph;
        let Some(made) = self.made_entries(graph, reached.part.settled.iter().copied(), &[]) else {
            return false;
        };
        let sealed = |path: &str| {
            reached
                .seal
                .find(path)
                .and_then(|n| reached.seal.entry(n).signature)
        };
        made.iter()
            .all(|(path, made)| sealed(path.as_str()) == made.signature || made.is_folder)
            && reached.part.settled.iter().all(|step| {
                let memory = self.state().steps.get(graph.step(*step).folder.as_str());
                memory.is_some_and(|m| m.outputs.len() == graph.step(*step).outputs.len())
            })
    }

    /// What a build of what a change reaches would do, and how many steps the whole request needs.
    /// Changes nothing.
    pub fn plan_reached(
        &self,
        reached: &Reached,
        listener: &dyn Listener,
    ) -> (usize, Vec<PlannedStep>) {
        let maker_elsewhere = |path: &str| reached.maker_elsewhere(path);
        let edits = self.edits();
        let edited = edits.finder();
        let request = reached.request(&maker_elsewhere, &edited);
        let planned = nubrik_engine::plan(
            request,
            self.state(),
            &self.machine,
            self.store(),
            listener,
            Supposed::default(),
        );
        (reached.comes_to().0, planned)
    }

    fn reached(
        &self,
        patterns: &[AddressPattern],
        (path, seal): (String, Journal<Seal>),
        changes: Vec<Change>,
        old: Snapshot,
    ) -> Option<Reached> {
        let definitions = changes
            .iter()
            .any(|change| seal.entry(change.number).is_evaluated());
        let trails = if definitions {
            Some(read_trails(self.own().ok()?, &path, &old)?)
        } else {
            None
        };
        let touched = self.touched(&seal, &changes, trails.as_ref())?;
        let is_same = touched.units.is_empty() && touched.definitions.is_empty();
        let (snapshot, changed, again, before) = match trails {
            Some(trails) if !is_same => {
                let spliced = self.evaluate_again(patterns, &seal, &touched, &old, &trails)?;
                (spliced.0, spliced.1, Some(spliced.2), Some(old))
            }
            _ => (old, Vec::new(), None, None),
        };
        let wanted = snapshot.reached(&touched.nodes, &changed);
        let part = snapshot.part(&wanted).ok()?;
        Some(Reached {
            path,
            seal,
            snapshot,
            changes,
            part,
            again,
            relisted: touched.relisted,
            before,
            definitions,
        })
    }

    /// Evaluates what some declarations reach again, and puts it into the graph.
    fn evaluate_again(
        &self,
        patterns: &[AddressPattern],
        seal: &Seal,
        touched: &TouchedParts,
        old: &Snapshot,
        trails: &Trails,
    ) -> Option<(Snapshot, Vec<usize>, Again)> {
        if old.asked.len() != old.asked_units.len() {
            return None;
        }
        let AgainEvaluated {
            evaluation,
            reached,
            ..
        } = self.evaluated_again(patterns, touched, old, trails)?;
        let spliced = splice(old, trails, &reached, &evaluation)?;
        let out = self.results_folder();
        let results = self.result_paths(&evaluation, &evaluation.requested);
        let mut gone: Vec<String> = spliced
            .published_before
            .iter()
            .map(|path| format!("{out}/{path}"))
            .collect();
        gone.sort();
        let before: FxHashSet<&str> = gone.iter().map(String::as_str).collect();
        let now: FxHashSet<&str> = results.iter().map(String::as_str).collect();
        // Two targets that make the same result: said when all is evaluated.
        let kept =
            |path: &str| seal.sealed.results.contains(path) || seal.sealed.results.overlaps(path);
        if now.iter().any(|path| !before.contains(path) && kept(path)) {
            return None;
        }
        let mut stale: Vec<Arc<str>> = before
            .iter()
            .filter(|path| !now.contains(*path))
            .map(|path| (*path).into())
            .collect();
        stale.sort();
        let steps = seal.sealed.steps + spliced.snapshot.steps.len() - old.steps.len();
        let trails = (spliced.trails != *trails).then_some(spliced.trails);
        let mut snapshot = spliced.snapshot;
        snapshot.trails = old.trails;
        Some((
            snapshot,
            spliced.changed,
            Again {
                steps,
                gone,
                results,
                stale,
                trails,
            },
        ))
    }
}

impl Workshop<'_> {
    /// Builds what a change reaches; nothing comes of it where results that others gave cannot be
    /// had any more, and all is to be evaluated.
    pub fn build_reached(
        &mut self,
        patterns: &[AddressPattern],
        reached: Reached,
        listener: &dyn Listener,
        options: Options,
    ) -> Result<Option<BuildReport>, BuildProblem> {
        self.prepare(listener);
        let (steps, results) = reached.comes_to();
        // The seal may be older than what was published last: a build that failed, or whose files
        // were young, writes none.
        let gone = match reached.definitions {
            true => {
                let homes = homes(patterns, || reached.asked());
                self.sweep(&homes, results.search())
            }
            false => Vec::new(),
        };
        let maker_elsewhere = |path: &str| reached.maker_elsewhere(path);
        let request = reached.request(&maker_elsewhere, &|_, _| None);
        let chronicle = Chronicle::new(listener, &reached.part.graph);
        let mut outcome = self.built(request, &chronicle, options)?;
        if outcome.lost > 0 && !outcome.cancelled {
            return Ok(None);
        }
        outcome.changes.published.extend(gone);
        self.tidy_up(&reached.part.graph, listener, &outcome);
        self.count_earlier(
            &reached.part.graph,
            &reached.part.requested,
            &mut outcome.summary,
        );
        outcome.summary.counts.current += steps.saturating_sub(outcome.summary.counts.steps);
        outcome.summary.counts.steps = steps;
        let record = self.history_record(patterns, chronicle, &outcome);
        self.remember(std::mem::take(&mut outcome.changes))?;
        if outcome.is_complete() {
            self.seal_again(reached, &outcome)?;
        }
        let micros = self.session.keep_history(record);
        Ok(Some(BuildReport::of(&outcome, results, micros)))
    }
}
