//! What is drawn of a graph, whatever it is drawn as.

use std::collections::BTreeSet;

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
