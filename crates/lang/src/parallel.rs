//! Evaluation of many packages by several threads. Each thread evaluates runs of packages on its
//! own, with what they refer to; the graphs are then put together by path. What two threads made
//! alike is the same step: evaluation of the same definitions gives the same values.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{FileId, Graph, JoinedNumbers, Joining, RowDigests, Tables, TargetId};
use nubrik_source::{Span, WsPath};
use rustc_hash::{FxHashMap, FxHashSet};

use crate::address::AddressPattern;
use crate::eval::{Evaluation, Evaluator, Setting, Shares, check_published_across};
use crate::trail::{Trail, WatchedWorld};
use crate::world::World;

/// Fewer packages than this are evaluated by one thread.
const WORTH_IT: usize = 128;

/// Runs of packages for each thread: few enough that what many packages refer to is not evaluated
/// often, and enough that a thread's tables stay small.
const RUNS_PER_THREAD: usize = 12;

/// The last runs become shorter, down to so many packages, so that no thread waits long for the
/// others.
const SHORTEST_RUN: usize = 16;

/// Evaluates everything at and below a folder by several threads; `None` where the pattern means
/// something else, or too little for that. `stack` is how much each thread gets, in bytes;
/// `watching` whether it is to be known what values were taken from.
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
    let work = |brings: Sender<(usize, Evaluation)>| {
        loop {
            let number = next.fetch_add(1, Ordering::Relaxed);
            let Some(packages) = runs.get(number) else {
                return;
            };
            let evaluation = if watching {
                let watched = WatchedWorld::new(world);
                Evaluator::watching(&watched)
                    .with_settings(settings)
                    .request_packages(packages, pattern.wanted)
            } else {
                Evaluator::new(world)
                    .with_settings(settings)
                    .request_packages(packages, pattern.wanted)
            };
            // Who waits for it waits until all have ended.
            let _ = brings.send((number, evaluation));
        }
    };
    let work = &work;
    std::thread::scope(|scope| {
        let (brings, brought) = channel();
        let running = start_all(scope, threads, stack, &|| {
            let brings = brings.clone();
            move || work(brings)
        });
        let whole = Whole {
            parts: packages.len().div_ceil(runs[0].len()),
            ..Whole::default()
        };
        drop(brings);
        Some(in_order(whole, runs.len(), running, &brought))
    })
}

/// Starts as many threads as can be, at least one.
fn start_all<'scope, W>(
    scope: &'scope std::thread::Scope<'scope, '_>,
    threads: usize,
    stack: usize,
    work: &dyn Fn() -> W,
) -> Vec<std::thread::ScopedJoinHandle<'scope, ()>>
where
    W: FnOnce() + Send + 'scope,
{
    let mut running = Vec::new();
    for _ in 0..threads {
        let thread = std::thread::Builder::new().stack_size(stack);
        match thread.spawn_scoped(scope, work()) {
            Ok(thread) => running.push(thread),
            Err(e) if running.is_empty() => {
                std::panic::panic_any(format!("cannot start a thread: {e}"))
            }
            Err(_) => break,
        }
    }
    running
}

/// Puts evaluations together in the order of their runs, as threads bring them.
fn in_order(
    mut whole: Whole,
    runs: usize,
    running: Vec<std::thread::ScopedJoinHandle<'_, ()>>,
    brought: &Receiver<(usize, Evaluation)>,
) -> Evaluation {
    let mut ready = BTreeMap::new();
    for number in 0..runs {
        let evaluation = loop {
            if let Some(evaluation) = ready.remove(&number) {
                break evaluation;
            }
            let Ok((brought, evaluation)) = brought.recv() else {
                // All have ended, and one of them panicked before it brought this.
                for thread in running {
                    if let Err(panic) = thread.join() {
                        std::panic::resume_unwind(panic);
                    }
                }
                return whole.finish();
            };
            ready.insert(brought, evaluation);
        };
        whole.absorb(evaluation);
    }
    whole.finish()
}

/// The packages in runs of the same length, the last ones ever shorter.
fn tapering_runs(mut packages: &[WsPath], threads: usize) -> Vec<&[WsPath]> {
    let longest = packages.len().div_ceil(threads * RUNS_PER_THREAD);
    let mut runs = Vec::new();
    while !packages.is_empty() {
        let length = (packages.len() / (threads * 2))
            .min(longest)
            .max(SHORTEST_RUN)
            .min(packages.len());
        let (run, rest) = packages.split_at(length);
        runs.push(run);
        packages = rest;
    }
    runs
}

/// Evaluations put together so far.
#[derive(Default)]
struct Whole {
    /// How many evaluations as large as the first one will come: what it holds tells how much room
    /// they need.
    parts: usize,
    evaluation: Evaluation,
    /// The graph so far.
    graph: Joining,
    sources: FxHashMap<Arc<str>, nubrik_source::TextId>,
    read: FxHashSet<WsPath>,
    trails: Vec<Trail>,
}

impl Whole {
    /// Makes room for as many evaluations as this one, within reason: others may hold far less.
    fn expect(&mut self, first: &Evaluation) {
        let room = |count: usize| (count * self.parts).min(count + (1 << 18));
        let (files, steps) = (room(first.graph.files.len()), room(first.graph.steps.len()));
        let (targets, requested) = (
            room(first.graph.targets.len()),
            room(first.shares.files.len()),
        );
        self.graph.reserve(files, steps, targets);
        self.evaluation.targets.reserve(targets);
        self.evaluation.shares.files.reserve(requested);
        self.evaluation.shares.ends.reserve(targets);
    }

    fn absorb(&mut self, other: Evaluation) {
        if self.graph.is_empty() {
            self.expect(&other);
        }
        let Evaluation { graph, digests, .. } = other;
        let JoinedNumbers { files, targets } = self.graph.absorb(graph.into_tables(), digests);
        self.absorb_rest(other.shares, other.targets, other.probes, &files, &targets);
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
        shares: Shares,
        targets: Vec<TargetId>,
        probes: Vec<FileId>,
        files: &[FileId],
        numbers: &[TargetId],
    ) {
        let all = &mut self.evaluation.shares;
        let before = all.files.len() as u32;
        all.files
            .extend(shares.files.into_iter().map(|f| files[f.index()]));
        all.ends
            .extend(shares.ends.into_iter().map(|end| before + end));
        self.evaluation
            .targets
            .extend(targets.into_iter().map(|t| numbers[t.index()]));
        self.evaluation
            .probes
            .extend(probes.into_iter().map(|f| files[f.index()]));
    }

    /// A diagnostic with its places in the sources of the whole, to which their texts are added.
    fn moved(&mut self, mut diagnostic: Diagnostic, from: &nubrik_source::Sources) -> Diagnostic {
        let mut moved = |span: Span| {
            let name = from.name(span.file);
            let known = self.sources.get(name).copied();
            let file = known.unwrap_or_else(|| {
                let file = self
                    .evaluation
                    .sources
                    .add(name, from.text(span.file).clone());
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
        evaluation.take_graph(self.graph.into_tables());
        evaluation.requested = evaluation.shares.each_once(evaluation.graph.files.len());
        let mut seen = vec![false; evaluation.graph.targets.len()];
        evaluation
            .targets
            .retain(|t| !std::mem::replace(&mut seen[t.index()], true));
        // Each run has looked at its own packages.
        let errors = check_published_across(&evaluation.graph);
        for error in errors {
            if !evaluation.diagnostics.contains(&error) {
                evaluation.diagnostics.push(error);
            }
        }
        evaluation
            .diagnostics
            .sort_by_key(|d| (d.span.map(|s| (s.file, s.start, s.end)), d.severity));
        evaluation.diagnostics.dedup();
        self.evaluation
    }
}

impl Evaluation {
    /// Takes the graph that tables are.
    pub(crate) fn take_graph(&mut self, tables: Tables) {
        match tables.finish() {
            Ok(graph) => self.graph = graph,
            Err(nubrik_graph::Flaw(what)) => {
                let error = Diagnostic::error(
                    "fault",
                    format!("the graph of these definitions is damaged: {what}"),
                );
                let error = error
                    .note("that is a fault of nubrik; please report it with these definitions");
                *self = Evaluation {
                    diagnostics: vec![error],
                    ..Evaluation::default()
                };
            }
        }
    }
}

/// A graph with nothing in it.
impl Default for Evaluation {
    fn default() -> Self {
        Evaluation {
            graph: Graph::default(),
            requested: Vec::new(),
            targets: Vec::new(),
            shares: Shares::default(),
            diagnostics: Vec::new(),
            sources: nubrik_source::Sources::default(),
            read: Vec::new(),
            kept: Vec::new(),
            answers: 0,
            probes: Vec::new(),
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
            let packages: Vec<WsPath> = (0..count)
                .map(|n| WsPath::from_normal(&format!("p{n}")))
                .collect();
            let runs = tapering_runs(&packages, threads);
            assert_eq!(runs.concat(), packages);
            assert!(
                runs.windows(2).all(|pair| pair[0].len() >= pair[1].len()),
                "{count} {threads}"
            );
        }
        let packages: Vec<WsPath> = (0..5_000)
            .map(|n| WsPath::from_normal(&format!("p{n}")))
            .collect();
        let lengths: Vec<usize> = tapering_runs(&packages, 2)
            .iter()
            .map(|run| run.len())
            .collect();
        assert_eq!(
            (lengths[0], lengths[18], *lengths.last().unwrap_or(&0)),
            (209, 209, 15),
            "{lengths:?}"
        );
    }
}
