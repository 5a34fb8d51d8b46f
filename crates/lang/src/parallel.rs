//! Evaluation of many packages by several threads. Each thread evaluates runs of packages on its own,
//! with what they refer to; the graphs are then put together by path. What two threads made alike is
//! the same step: evaluation of the same definitions gives the same values.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, PoisonError};

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{FileId, Graph, Numbers, SetId, StepId, TargetId, ToolId};
use nubrik_source::{Span, WsPath};
use rustc_hash::{FxHashMap, FxHashSet};

use crate::address::AddressPattern;
use crate::eval::{Evaluation, Evaluator, RowDigests, Setting, check_published_across};
use crate::rows::RowIndex;
use crate::trail::{Trail, Watched};
use crate::world::World;

/// Fewer packages than this are evaluated by one thread.
const WORTH_IT: usize = 128;

/// Runs of packages for each thread: few enough that what many packages refer to is not evaluated often, and
/// enough that a thread's tables stay small.
const RUNS_PER_THREAD: usize = 12;

/// The last runs become shorter, down to so many packages, so that no thread waits long for the others.
const SHORTEST_RUN: usize = 16;

/// Evaluates everything at and below a folder by several threads; `None` where the pattern means
/// something else, or too little for that. `stack` is how much each thread gets, in bytes; `watching` whether
/// it is to be known what values were taken from.
pub fn evaluate_below(
    world: &dyn World,
    settings: &[Setting],
    pattern: &AddressPattern,
    threads: usize,
    stack: usize,
    watching: bool,
) -> Option<Evaluation> {
    if threads < 2 {
        return None;
    }
    world.expect_all_below(&pattern.path);
    let packages = Evaluator::new(world).packages_meant(pattern);
    if packages.len() < WORTH_IT {
        return None;
    }
    // With settings every run loads all definitions, to know what there is to set.
    let runs = if settings.is_empty() {
        tapering_runs(&packages, threads)
    } else {
        packages.chunks(packages.len().div_ceil(threads)).collect()
    };
    let next = AtomicUsize::new(0);
    let done: Mutex<BTreeMap<usize, Evaluation>> = Mutex::default();
    let changed = Condvar::new();
    let work = || {
        loop {
            let number = next.fetch_add(1, Ordering::Relaxed);
            let Some(packages) = runs.get(number) else { return };
            let evaluation = if watching {
                let watched = Watched::new(world);
                Evaluator::watching(&watched)
                    .with_settings(settings)
                    .request_packages(packages, pattern.wanted)
            } else {
                Evaluator::new(world).with_settings(settings).request_packages(packages, pattern.wanted)
            };
            done.lock().unwrap_or_else(PoisonError::into_inner).insert(number, evaluation);
            changed.notify_all();
        }
    };
    std::thread::scope(|scope| {
        let mut running = Vec::new();
        for _ in 0..threads {
            match std::thread::Builder::new().stack_size(stack).spawn_scoped(scope, work) {
                Ok(thread) => running.push(thread),
                Err(e) if running.is_empty() => std::panic::panic_any(format!("cannot start a thread: {e}")),
                Err(_) => break,
            }
        }
        let mut whole = Whole { parts: packages.len().div_ceil(runs[0].len()), ..Whole::default() };
        for number in 0..runs.len() {
            let mut ready = done.lock().unwrap_or_else(PoisonError::into_inner);
            let evaluation = loop {
                if let Some(evaluation) = ready.remove(&number) {
                    break evaluation;
                }
                // A thread that panicked brings nothing any more.
                if running.iter().all(std::thread::ScopedJoinHandle::is_finished)
                    && !ready.contains_key(&number)
                {
                    for thread in running {
                        if let Err(panic) = thread.join() {
                            std::panic::resume_unwind(panic);
                        }
                    }
                    return Some(whole.finish());
                }
                let patience = std::time::Duration::from_millis(50);
                ready = changed.wait_timeout(ready, patience).unwrap_or_else(PoisonError::into_inner).0;
            };
            drop(ready);
            whole.absorb(evaluation);
        }
        Some(whole.finish())
    })
}

/// The packages in runs of the same length, the last ones ever shorter.
fn tapering_runs(mut packages: &[WsPath], threads: usize) -> Vec<&[WsPath]> {
    let longest = packages.len().div_ceil(threads * RUNS_PER_THREAD);
    let mut runs = Vec::new();
    while !packages.is_empty() {
        let length = (packages.len() / (threads * 2)).min(longest).max(SHORTEST_RUN).min(packages.len());
        let (run, rest) = packages.split_at(length);
        runs.push(run);
        packages = rest;
    }
    runs
}

/// Evaluations put together so far.
#[derive(Default)]
struct Whole {
    /// How many evaluations as large as the first one will come: what it holds tells how much room they need.
    parts: usize,
    evaluation: Evaluation,
    /// Files by path, and steps by folder.
    files: RowIndex,
    steps: RowIndex,
    /// Targets by address and place: two kits of one folder may hold a value of the same name.
    targets: RowIndex,
    tools: FxHashMap<Arc<str>, ToolId>,
    sources: FxHashMap<Arc<str>, nubrik_source::TextId>,
    read: FxHashSet<WsPath>,
    trails: Vec<Trail>,
}

impl Whole {
    /// Makes room for as many evaluations as this one, within reason: others may hold far less.
    fn expect(&mut self, first: &Evaluation) {
        let room = |count: usize| (count * self.parts).min(count + (1 << 18));
        let (files, steps) = (room(first.graph.files.len()), room(first.graph.steps.len()));
        let (targets, requested) = (room(first.graph.targets.len()), room(first.requested.len()));
        self.files.reserve(files);
        self.evaluation.graph.files.reserve(files);
        self.steps.reserve(steps);
        self.evaluation.graph.steps.reserve(steps);
        self.targets.reserve(targets);
        self.evaluation.graph.targets.reserve(targets);
        self.evaluation.targets.reserve(targets);
        self.evaluation.requested.reserve(requested);
    }

    fn absorb(&mut self, other: Evaluation) {
        if self.targets.is_empty() {
            self.expect(&other);
        }
        let graph = &mut self.evaluation.graph;
        let tools: Vec<ToolId> = other
            .graph
            .tools
            .into_iter()
            .map(|name| {
                *self.tools.entry(name.clone()).or_insert_with(|| {
                    graph.tools.push(name);
                    ToolId(graph.tools.len() as u32 - 1)
                })
            })
            .collect();
        let mut new_files = Vec::new();
        let files: Vec<FileId> = other
            .graph
            .files
            .into_iter()
            .zip(other.digests.files)
            .map(|(node, digest)| {
                let files = &mut graph.files;
                let known = self.files.find_or_insert(digest, |n| files[n].path == node.path, files.len());
                let number = known.unwrap_or_else(|| {
                    new_files.push((files.len(), node.maker));
                    files.push(node);
                    files.len() - 1
                });
                FileId(number as u32)
            })
            .collect();
        let targets: Vec<TargetId> = other
            .graph
            .targets
            .into_iter()
            .zip(other.digests.targets)
            .map(|(mut target, digest)| {
                target.results.iter_mut().for_each(|r| r.file = files[r.file.index()]);
                let known = &graph.targets;
                let is_same = |n: usize| known[n].address == target.address && known[n].place == target.place;
                match self.targets.find_or_insert(digest, is_same, known.len()) {
                    None => {
                        graph.targets.push(target);
                        TargetId(graph.targets.len() as u32 - 1)
                    }
                    Some(number) => {
                        let known = &mut graph.targets[number];
                        if known.kind.is_empty() {
                            known.kind = target.kind;
                        }
                        if known.results.is_empty() {
                            known.results = target.results;
                        }
                        TargetId(number as u32)
                    }
                }
            })
            .collect();
        let set = |of: &[FileId]| of.iter().map(|f| files[f.index()]).collect();
        let sets: Vec<SetId> = other.graph.sets.iter().map(|of| graph.sets.intern(set(of))).collect();
        let numbers = Numbers { files: &files, tools: &tools, targets: &targets, sets: &sets };
        let steps: Vec<StepId> = other
            .graph
            .steps
            .into_iter()
            .zip(other.digests.steps)
            .map(|(step, digest)| {
                let steps = &mut graph.steps;
                let known =
                    self.steps.find_or_insert(digest, |n| steps[n].folder == step.folder, steps.len());
                let number = known.unwrap_or_else(|| {
                    let mut step = step;
                    step.renumber(&numbers);
                    steps.push(step);
                    steps.len() - 1
                });
                StepId(number as u32)
            })
            .collect();
        for (id, maker) in new_files {
            graph.files[id].maker = maker.map(|m| steps[m.index()]);
        }
        self.absorb_rest(other.requested, other.targets, other.scans, &files, &targets);
        for diagnostic in other.diagnostics {
            let diagnostic = self.moved(diagnostic, &other.sources);
            self.evaluation.diagnostics.push(diagnostic);
        }
        for path in other.read {
            if self.read.insert(path.clone()) {
                self.evaluation.read.push(path);
            }
        }
        self.evaluation.waiting |= other.waiting;
        self.trails.push(other.trail);
    }

    fn absorb_rest(
        &mut self,
        requested: Vec<FileId>,
        targets: Vec<TargetId>,
        scans: Vec<FileId>,
        files: &[FileId],
        numbers: &[TargetId],
    ) {
        self.evaluation.requested.extend(requested.into_iter().map(|f| files[f.index()]));
        self.evaluation.targets.extend(targets.into_iter().map(|t| numbers[t.index()]));
        self.evaluation.scans.extend(scans.into_iter().map(|f| files[f.index()]));
    }

    /// A diagnostic with its places in the sources of the whole, to which their texts are added.
    fn moved(&mut self, mut diagnostic: Diagnostic, from: &nubrik_source::Sources) -> Diagnostic {
        let mut moved = |span: Span| {
            let name = from.name(span.file);
            let known = self.sources.get(name).copied();
            let file = known.unwrap_or_else(|| {
                let file = self.evaluation.sources.add(name, from.text(span.file).clone());
                self.sources.insert(name.clone(), file);
                file
            });
            Span { file, ..span }
        };
        diagnostic.span = diagnostic.span.map(&mut moved);
        for related in &mut diagnostic.related {
            related.span = moved(related.span);
        }
        diagnostic
    }

    fn finish(mut self) -> Evaluation {
        self.evaluation.trail = Trail::joined(std::mem::take(&mut self.trails));
        let evaluation = &mut self.evaluation;
        let mut seen = vec![false; evaluation.graph.files.len()];
        evaluation.requested.retain(|f| !std::mem::replace(&mut seen[f.index()], true));
        let mut seen = vec![false; evaluation.graph.targets.len()];
        evaluation.targets.retain(|t| !std::mem::replace(&mut seen[t.index()], true));
        // Each run has looked at its own packages.
        let errors = check_published_across(&evaluation.graph);
        for error in errors {
            if !evaluation.diagnostics.contains(&error) {
                evaluation.diagnostics.push(error);
            }
        }
        evaluation.diagnostics.sort_by_key(|d| (d.span.map(|s| (s.file, s.start, s.end)), d.severity));
        evaluation.diagnostics.dedup();
        self.evaluation
    }
}

/// A graph with nothing in it.
impl Default for Evaluation {
    fn default() -> Self {
        Evaluation {
            graph: Graph::default(),
            requested: Vec::new(),
            targets: Vec::new(),
            diagnostics: Vec::new(),
            sources: nubrik_source::Sources::default(),
            read: Vec::new(),
            scans: Vec::new(),
            effects: Vec::new(),
            services: Vec::new(),
            through: Vec::new(),
            options: Vec::new(),
            digests: RowDigests::default(),
            trail: Trail::default(),
            waiting: false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_hold_each_package_once_and_grow_shorter() {
        for (count, threads) in [(128, 2), (5_000, 2), (5_000, 64), (129, 200)] {
            let packages: Vec<WsPath> = (0..count).map(|n| WsPath::from_normal(&format!("p{n}"))).collect();
            let runs = tapering_runs(&packages, threads);
            assert_eq!(runs.concat(), packages);
            assert!(runs.windows(2).all(|pair| pair[0].len() >= pair[1].len()), "{count} {threads}");
        }
        let packages: Vec<WsPath> = (0..5_000).map(|n| WsPath::from_normal(&format!("p{n}"))).collect();
        let lengths: Vec<usize> = tapering_runs(&packages, 2).iter().map(|run| run.len()).collect();
        assert_eq!((lengths[0], lengths[18], *lengths.last().unwrap_or(&0)), (209, 209, 15), "{lengths:?}");
    }
}
