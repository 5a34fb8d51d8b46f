//! How graphs are drawn.

/// How a graph is drawn.
#[derive(clap::ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum GraphFormat {
    /// Lines for people
    Text,
    /// Graphviz's language
    Dot,
    /// Mermaid's language
    Mermaid,
    /// One JSON value per node
    Json,
    /// A picture
    Svg,
}
