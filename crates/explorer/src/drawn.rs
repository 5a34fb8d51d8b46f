//! What is drawn of a graph, whatever it is drawn as.

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::fmt::Write;

use nubrik_graph::{Graph, TargetId, users_of};
use nubrik_wording::counted;
use serde::Serialize;

/// A drawn node: a target, or a package with how many it holds.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct DrawnNode {
    /// What it is called.
    pub name: String,
    /// What it is, and what else is to be said in a few words.
    pub kind: String,
    /// The package that it is in; empty for a package.
    pub group: String,
    /// Whether it was asked for.
    pub focus: bool,
    /// The page that it leads to, if any.
    pub link: Option<String>,
}

/// Nodes, and edges from what depends to what it depends on, by number.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Shape {
    /// All nodes.
    pub nodes: Vec<DrawnNode>,
    /// All edges.
    pub edges: Vec<(usize, usize)>,
    /// Those of the edges that are drawn thick: the chain that takes longest.
    pub chain: BTreeSet<(usize, usize)>,
}

/// Targets that are reached from some by lists of their neighbours, in at most so many steps.
pub(crate) fn reached(
    neighbours: &[Vec<TargetId>],
    from: impl IntoIterator<Item = TargetId>,
    depth: Option<usize>,
) -> BTreeSet<TargetId> {
    let mut seen: BTreeSet<TargetId> = from.into_iter().collect();
    let mut queue: VecDeque<(TargetId, usize)> = seen.iter().map(|id| (*id, 0)).collect();
    while let Some((at, level)) = queue.pop_front() {
        if depth.is_some_and(|depth| level >= depth) {
            continue;
        }
        for next in &neighbours[at.index()] {
            if seen.insert(*next) {
                queue.push_back((*next, level + 1));
            }
        }
    }
    seen
}

/// A node with its edges, for programs.
#[derive(Serialize)]
pub struct GraphNodeEvent<'a> {
    event: &'static str,
    target: &'a str,
    kind: &'a str,
    #[serde(skip_serializing_if = "str::is_empty")]
    package: &'a str,
    asked_for: bool,
    needs: Vec<&'a str>,
}

impl Shape {
    /// Some targets with all that they need, or with all that uses them (`users`), in at most so
    /// many steps.
    pub fn of_targets(
        graph: &Graph,
        roots: &[TargetId],
        depth: Option<usize>,
        users: bool,
    ) -> Shape {
        let needs = graph.target_needs();
        let drawn = match users {
            true => reached(&users_of(&needs), roots.iter().copied(), depth),
            false => reached(&needs, roots.iter().copied(), depth),
        };
        let roots: BTreeSet<TargetId> = roots.iter().copied().collect();
        let numbers: HashMap<TargetId, usize> = drawn.iter().copied().zip(0..).collect();
        let node = |id: &TargetId| {
            let target = graph.target(*id);
            DrawnNode {
                name: target.address.to_string(),
                kind: if target.kind.is_empty() {
                    "value"
                } else {
                    &*target.kind
                }
                .to_owned(),
                group: target.package.to_string(),
                focus: roots.contains(id),
                link: None,
            }
        };
        let edges = drawn.iter().flat_map(|id| {
            let needed = needs[id.index()]
                .iter()
                .filter_map(|need| numbers.get(need));
            needed.map(|to| (numbers[id], *to)).collect::<Vec<_>>()
        });
        Shape {
            nodes: drawn.iter().map(node).collect(),
            edges: edges.collect(),
            ..Shape::default()
        }
    }

    /// The packages of its targets.
    pub fn of_packages(&self) -> Shape {
        let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
        self.nodes
            .iter()
            .for_each(|node| *counts.entry(&node.group).or_default() += 1);
        let numbers: HashMap<&str, usize> = counts.keys().copied().zip(0..).collect();
        let node = |(name, count): (&&str, &usize)| DrawnNode {
            name: (*name).to_owned(),
            kind: counted(*count, "target"),
            ..DrawnNode::default()
        };
        let nodes = counts.iter().map(node).collect();
        let group = |at: usize| numbers[self.nodes[at].group.as_str()];
        let edges: BTreeSet<(usize, usize)> = self
            .edges
            .iter()
            .map(|(a, b)| (group(*a), group(*b)))
            .filter(|(a, b)| a != b)
            .collect();
        Shape {
            nodes,
            edges: edges.into_iter().collect(),
            ..Shape::default()
        }
    }

    /// An event for each node.
    pub fn events(&self) -> Vec<GraphNodeEvent<'_>> {
        let mut needs: Vec<Vec<&str>> = vec![Vec::new(); self.nodes.len()];
        for (from, to) in &self.edges {
            needs[*from].push(&self.nodes[*to].name);
        }
        let nodes = self.nodes.iter().zip(needs);
        let events = nodes.map(|(node, needs)| GraphNodeEvent {
            event: "node",
            target: &node.name,
            kind: &node.kind,
            package: &node.group,
            asked_for: node.focus,
            needs,
        });
        events.collect()
    }

    /// The graph in the DOT language.
    pub fn to_dot(&self) -> String {
        let quoted =
            |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
        let mut out = String::from(
            "digraph nubrik {\n  rankdir=LR\n  node [shape=box, fontname=\"sans-serif\"]\n",
        );
        let mut groups: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
        for (n, node) in self.nodes.iter().enumerate() {
            groups.entry(&node.group).or_default().push(n);
        }
        for (i, (group, members)) in groups.iter().enumerate() {
            let inside = if group.is_empty() { "  " } else { "    " };
            if !group.is_empty() {
                let _ = writeln!(
                    out,
                    "  subgraph cluster_{i} {{\n    label={}",
                    quoted(group)
                );
            }
            for n in members {
                let node = &self.nodes[*n];
                let style = if node.focus { ", style=bold" } else { "" };
                let label = format!("{}\n{}", node.name, node.kind).replace('\n', "\\n");
                let label = format!("\"{}\"", label.replace('"', "\\\""));
                let _ = writeln!(out, "{inside}n{n} [label={label}{style}]");
            }
            if !group.is_empty() {
                out.push_str("  }\n");
            }
        }
        for (from, to) in &self.edges {
            let _ = writeln!(out, "  n{from} -> n{to}");
        }
        out + "}\n"
    }

    /// The graph as a flow chart in the Mermaid language.
    pub fn to_mermaid(&self) -> String {
        let mut out = String::from("flowchart LR\n");
        for (n, node) in self.nodes.iter().enumerate() {
            let name = node.name.replace('"', "#quot;");
            let _ = writeln!(out, "  n{n}[\"{name}<br/>{}\"]", node.kind);
        }
        for (from, to) in &self.edges {
            let _ = writeln!(out, "  n{from} --> n{to}");
        }
        out
    }
}
