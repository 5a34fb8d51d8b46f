//! What a request needs, in an order in which it can be made.

use std::collections::{HashMap, VecDeque};

use crate::{FileId, Needs, StepId, Tables, TargetId};

/// The steps behind some files.
#[derive(Debug, PartialEq, Eq, Default)]
pub struct Closure {
    /// Every step that is needed, each after those it needs.
    pub steps: Vec<StepId>,
}

impl Closure {
    /// The steps that make `files`, and all those that they need.
    ///
    /// The graph has no cycles: a step only reads files of steps that were there before it.
    pub fn of(graph: &Tables, files: impl IntoIterator<Item = FileId>) -> Closure {
        let needs_of = Needs::of(graph);
        let mut seen = vec![false; graph.steps.len()];
        let mut steps = Vec::new();
        // Depth first with an explicit stack: chains may be long.
        let mut stack: Vec<(StepId, Vec<StepId>, usize)> = Vec::new();
        let mut roots: Vec<StepId> = files
            .into_iter()
            .filter_map(|f| graph.file(f).maker)
            .collect();
        roots.sort_unstable();
        roots.dedup();
        for root in roots {
            if std::mem::replace(&mut seen[root.index()], true) {
                continue;
            }
            stack.push((root, needs_of.of_step(root), 0));
            while let Some((step, needs, next)) = stack.last_mut() {
                if let Some(&need) = needs.get(*next) {
                    *next += 1;
                    if !std::mem::replace(&mut seen[need.index()], true) {
                        stack.push((need, needs_of.of_step(need), 0));
                    }
                } else {
                    steps.push(*step);
                    stack.pop();
                }
            }
        }
        Closure { steps }
    }
}

/// For each step of `order` the length of the longest chain from its start to the end of all work:
/// its own cost and the costs of what waits for it. Indexed by step number; 0 for other steps.
///
/// `order` has each step after those it needs.
pub fn longest_chains(graph: &Tables, order: &[StepId], cost: impl Fn(StepId) -> f64) -> Vec<f64> {
    let needs_of = Needs::of(graph);
    let mut chain = vec![0.0; graph.steps.len()];
    for &step in order.iter().rev() {
        let length = chain[step.index()] + cost(step);
        chain[step.index()] = length;
        for need in needs_of.of_step(step) {
            let behind: &mut f64 = &mut chain[need.index()];
            *behind = behind.max(length);
        }
    }
    chain
}

/// By the number of each step: whether it is a start, or needs one, directly or through others.
pub fn steps_after(graph: &Tables, is_start: impl Fn(StepId) -> bool) -> Vec<bool> {
    let needs_of = Needs::of(graph);
    let mut after = vec![false; graph.steps.len()];
    let all = (0..graph.files.len() as u32).map(FileId);
    // Each step comes after those that it needs.
    for step in Closure::of(graph, all).steps {
        after[step.index()] = is_start(step)
            || needs_of
                .of_step(step)
                .iter()
                .any(|need| after[need.index()]);
    }
    after
}

/// The targets that use each one, by the lists of those that each one needs. In the order of
/// targets.
pub fn users_of(needs: &[Vec<TargetId>]) -> Vec<Vec<TargetId>> {
    let mut users = vec![Vec::new(); needs.len()];
    for (user, list) in (0..).zip(needs) {
        list.iter()
            .for_each(|need| users[need.index()].push(TargetId(user)));
    }
    users
}

/// The shortest way along edges from one of some targets to another one that is a goal, both with
/// it; nothing if there is none. What a target is itself is no way.
pub fn shortest_way(
    starts: &[TargetId],
    edges: &[Vec<TargetId>],
    is_goal: impl Fn(TargetId) -> bool,
) -> Option<Vec<TargetId>> {
    let mut from: HashMap<TargetId, Option<TargetId>> = starts.iter().map(|s| (*s, None)).collect();
    let mut queue: VecDeque<TargetId> = starts.iter().copied().collect();
    while let Some(at) = queue.pop_front() {
        if is_goal(at) && from[&at].is_some() {
            let mut way = vec![at];
            let mut back = from[&at];
            while let Some(before) = back {
                way.push(before);
                back = from[&before];
            }
            way.reverse();
            return Some(way);
        }
        for next in &edges[at.index()] {
            from.entry(*next).or_insert_with(|| {
                queue.push_back(*next);
                Some(at)
            });
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::*;
    use nubrik_source::WsPath;

    /// A graph in which step `i` makes file `i` and reads the files of `needs[i]`.
    pub(crate) fn graph_of(needs: &[&[u32]]) -> Tables {
        let mut graph = Tables::default();
        for (i, inputs) in needs.iter().enumerate() {
            let path = WsPath::from_normal(&format!("f{i}"));
            graph.files.push(FileNode {
                path: path.clone(),
                maker: Some(StepId(i as u32)),
                folder: false,
            });
            graph.steps.push(Box::new(Step {
                target: TargetId(0),
                say: "make".into(),
                commands: vec![],
                env: vec![],
                folder: path,
                inputs: inputs.iter().map(|f| FileId(*f)).collect(),
                candidates: vec![].into(),
                outputs: vec![OutputNode::new(FileId(i as u32), "f")],
                found: vec![],
                scratch: vec![],
                tools: vec![],
                place: Place {
                    file: "targets.nub".into(),
                    line: 1,
                },
                ..Step::empty(WsPath::root())
            }));
        }
        graph
    }

    #[test]
    fn orders_only_what_is_needed() {
        let graph = graph_of(&[&[], &[0], &[], &[1, 0]]);
        let closure = Closure::of(&graph, [FileId(3)]);
        assert_eq!(closure.steps, [StepId(0), StepId(1), StepId(3)]);
    }

    #[test]
    fn finds_longest_chains() {
        let graph = graph_of(&[&[], &[0], &[0], &[1, 2]]);
        let order = Closure::of(&graph, [FileId(3)]).steps;
        let costs = [1.0, 5.0, 2.0, 1.0];
        assert_eq!(
            longest_chains(&graph, &order, |s| costs[s.index()]),
            [7.0, 6.0, 3.0, 1.0]
        );
    }
}
