//! The targets that people mean by something else than an address.

use nubrik_graph::{FileId, Graph, Role, StepId, Target, steps_after};
use nubrik_lang::Evaluation;
use nubrik_source::WsPath;

/// Addresses of the targets that a file means: those that publish it in `out`, the folder of
/// results, else those that use it.
pub fn targets_of_file<'g>(graph: &'g Graph, out: &WsPath, path: &WsPath) -> Vec<&'g str> {
    let makes = |publish: &WsPath| path.below(out).is_some_and(|rest| rest == publish.as_str());
    let results = graph.targets.iter().flat_map(|target| &target.results);
    let made: Vec<&str> = results
        .filter(|r| makes(&r.publish))
        .map(|r| &*r.address)
        .collect();
    if !made.is_empty() {
        return made;
    }
    let known = graph.files.iter().position(|file| file.path == *path);
    let Some(id) = known.map(|number| FileId(number as u32)) else {
        return Vec::new();
    };
    let uses = steps_after(graph, |step| graph.declares(graph.step(step), id));
    let is_used = |maker: StepId| uses[maker.index()];
    let needs_it = |target: &&Target| {
        target.is_declared()
            && target
                .results
                .iter()
                .any(|r| graph.file(r.file).maker.is_some_and(is_used))
    };
    graph
        .targets
        .iter()
        .filter(needs_it)
        .map(|target| &*target.address)
        .collect()
}

/// Addresses of the programs, jobs and services among the targets that were asked for, sorted:
/// those that a person can run.
pub fn runnable(evaluation: &Evaluation) -> Vec<&str> {
    let targets = evaluation
        .targets
        .iter()
        .map(|target| evaluation.graph.target(*target));
    let runs = |target: &&Target| {
        !target.private
            && (matches!(target.role, Role::Job | Role::Service) || &*target.kind == "program")
    };
    let mut all: Vec<&str> = targets
        .filter(runs)
        .map(|target| &*target.address)
        .collect();
    all.sort_unstable();
    all.dedup();
    all
}
