//! Numbers of rows in a graph's tables.

use nubrik_bytes::layout;

/// A file's number in [`Graph::files`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct FileId(pub u32);

layout!(FileId(number));

/// A step's number in [`Graph::steps`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct StepId(pub u32);

layout!(StepId(number));

/// A target's number in [`Graph::targets`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct TargetId(pub u32);

layout!(TargetId(number));

/// A tool's number in [`Graph::tools`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct ToolId(pub u32);

layout!(ToolId(number));

impl FileId {
    /// The row's place in its table.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

impl StepId {
    /// The row's place in its table.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

impl TargetId {
    /// The row's place in its table.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

impl ToolId {
    /// The row's place in its table.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}
