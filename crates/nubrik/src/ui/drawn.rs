//! What is drawn of a graph, whatever it is drawn as.

/// A drawn node: a target, or a package with how many it holds.
pub struct DrawnNode {
    pub name: String,
    pub kind: String,
    /// The package that it is in; empty for a package.
    pub group: String,
    /// Whether it was asked for.
    pub focus: bool,
}

/// Nodes, and edges from what depends to what it depends on, by number.
pub struct Shape {
    pub nodes: Vec<DrawnNode>,
    pub edges: Vec<(usize, usize)>,
}
