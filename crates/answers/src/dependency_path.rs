//! The dependency path from one target to another.

use std::collections::HashSet;
use std::sync::Arc;

use nubrik_graph::{Graph, StepId, TargetId, shortest_way};
use nubrik_lang::Evaluation;
use serde::Serialize;

/// One edge of a path, for programs.
#[derive(Serialize)]
pub struct Hop<'a> {
    event: &'static str,
    /// The target that needs another one.
    pub target: &'a str,
    /// The one that it needs.
    pub needs: &'a str,
    /// Where it uses it: the first step that does, else the declaration.
    pub defined: String,
    /// Names of the files that it uses, sorted.
    pub files: Vec<&'a str>,
}

/// There is no path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct NoPath {
    /// Whether the goal needs the start directly.
    pub leads_back: bool,
}

/// The shortest path from the targets of an evaluation to one of the goals, which are addresses. It
/// has at least one edge.
///
/// # Errors
/// Where none of them depends on a goal.
pub fn dependency_path<'a>(
    evaluation: &'a Evaluation,
    goals: &HashSet<Arc<str>>,
) -> Result<Vec<Hop<'a>>, NoPath> {
    let graph = &evaluation.graph;
    let needs = graph.target_needs();
    let is_goal = |id: TargetId| goals.contains(&*graph.target(id).address);
    match shortest_way(&evaluation.targets, &needs, is_goal) {
        Some(way) => {
            let steps = graph.steps_of_targets();
            Ok(way
                .windows(2)
                .map(|pair| hop(graph, &steps[pair[0].index()], pair[0], pair[1]))
                .collect())
        }
        None => Err(NoPath {
            leads_back: leads_back(graph, &needs, &evaluation.targets, goals),
        }),
    }
}

/// Whether one of the goals needs one of the starts directly, as far as it was evaluated.
fn leads_back(
    graph: &Graph,
    needs: &[Vec<TargetId>],
    starts: &[TargetId],
    goals: &HashSet<Arc<str>>,
) -> bool {
    let starts: HashSet<&TargetId> = starts.iter().collect();
    let mut all = graph.targets.iter().zip(needs);
    all.any(|(target, needs)| {
        goals.contains(&target.address) && needs.iter().any(|need| starts.contains(need))
    })
}

fn hop<'g>(graph: &'g Graph, steps: &[StepId], user: TargetId, need: TargetId) -> Hop<'g> {
    let is_of_need = |file: nubrik_graph::FileId| {
        graph
            .file(file)
            .maker
            .is_some_and(|maker| graph.step(maker).target == need)
    };
    let mut place = None;
    let mut files = Vec::new();
    for step in steps.iter().map(|step| graph.step(*step)) {
        for file in graph
            .declared(step)
            .iter()
            .copied()
            .filter(|file| is_of_need(*file))
        {
            place.get_or_insert_with(|| step.place.to_string());
            files.push(graph.file(file).path.name());
        }
    }
    let user = graph.target(user);
    let results = user
        .results
        .iter()
        .map(|result| result.file)
        .filter(|file| is_of_need(*file));
    files.extend(results.map(|file| graph.file(file).path.name()));
    files.sort_unstable();
    files.dedup();
    // A step of a kit says less than the declaration that called it.
    let own = place.filter(|p| p.split(':').next() == Some(&*user.place.file));
    let defined = own.unwrap_or_else(|| user.place.to_string());
    Hop {
        event: "hop",
        target: &user.address,
        needs: &graph.target(need).address,
        defined,
        files,
    }
}
