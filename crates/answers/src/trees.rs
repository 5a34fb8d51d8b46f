//! Targets below targets: what they need, or what uses them.

use std::collections::{HashMap, HashSet};

use nubrik_engine::State;
use nubrik_graph::{Graph, Target, TargetId, users_of};
use serde::Serialize;

use crate::seconds;

/// A tree of targets. A target that several others need is below each of them.
pub struct TreeShape<'g> {
    graph: &'g Graph,
    edges: Vec<Vec<TargetId>>,
    roots: Vec<TargetId>,
    costs: HashMap<TargetId, u64>,
}

/// A target of a tree, for programs.
#[derive(Serialize)]
pub struct TreeNodeEvent<'a> {
    event: &'static str,
    target: &'a str,
    kind: &'a str,
    needs: Vec<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    last_seconds: Option<f64>,
}

impl<'g> TreeShape<'g> {
    /// The tree from some targets, which are addresses, down to those that they need, or with
    /// `users` to those that use them.
    pub fn of<A: AsRef<str>>(
        graph: &'g Graph,
        addresses: &[A],
        users: bool,
        state: &State,
    ) -> TreeShape<'g> {
        let mut edges = graph.target_needs();
        if users {
            edges = users_of(&edges);
        }
        let index = graph.target_index();
        let roots: Vec<TargetId> = addresses
            .iter()
            .filter_map(|a| index.find(a.as_ref()))
            .collect();
        let costs = costs(graph, &reachable(&edges, &roots), state);
        TreeShape {
            graph,
            edges,
            roots,
            costs,
        }
    }

    /// The targets at the top.
    pub fn roots(&self) -> &[TargetId] {
        &self.roots
    }

    /// The targets directly below one.
    pub fn below(&self, id: TargetId) -> &[TargetId] {
        &self.edges[id.index()]
    }

    /// A target.
    pub fn target(&self, id: TargetId) -> &'g Target {
        self.graph.target(id)
    }

    /// How long the steps of a target took the last time they ran, in microseconds; `None` where
    /// none ran here.
    pub fn micros(&self, id: TargetId) -> Option<u64> {
        self.costs.get(&id).copied()
    }

    /// All targets down to a depth, each once, those of one level together.
    pub fn events(&self, depth: usize) -> Vec<TreeNodeEvent<'g>> {
        let mut queue: Vec<(TargetId, usize)> = self.roots.iter().map(|root| (*root, 0)).collect();
        let mut seen: HashSet<TargetId> = self.roots.iter().copied().collect();
        let mut events = Vec::new();
        let mut at = 0;
        while let Some(&(id, level)) = queue.get(at) {
            at += 1;
            let (target, below) = (self.target(id), self.below(id));
            events.push(TreeNodeEvent {
                event: "node",
                target: &target.address,
                kind: &target.kind,
                needs: below.iter().map(|b| &*self.target(*b).address).collect(),
                last_seconds: self.micros(id).map(seconds),
            });
            if level < depth {
                queue.extend(
                    below
                        .iter()
                        .filter(|b| seen.insert(**b))
                        .map(|b| (*b, level + 1)),
                );
            }
        }
        events
    }
}

/// Some targets, and all that edges lead to from them.
fn reachable(edges: &[Vec<TargetId>], roots: &[TargetId]) -> HashSet<TargetId> {
    let mut open = roots.to_vec();
    let mut reached: HashSet<TargetId> = open.iter().copied().collect();
    while let Some(target) = open.pop() {
        open.extend(
            edges[target.index()]
                .iter()
                .copied()
                .filter(|next| reached.insert(*next)),
        );
    }
    reached
}

/// How long the steps of each of some targets took the last time they ran, in microseconds.
fn costs(graph: &Graph, targets: &HashSet<TargetId>, state: &State) -> HashMap<TargetId, u64> {
    let mut costs = HashMap::new();
    for step in graph
        .steps
        .iter()
        .filter(|step| targets.contains(&step.target))
    {
        if let Some(memory) = state.steps.get(step.folder.shared()) {
            *costs.entry(step.target).or_default() += memory.micros;
        }
    }
    costs
}
