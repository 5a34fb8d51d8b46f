//! Numbers of rows in a graph's tables.

/// A file's number in [`Graph::files`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct FileId(pub u32);

/// A step's number in [`Graph::steps`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct StepId(pub u32);

/// A target's number in [`Graph::targets`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct TargetId(pub u32);

/// A tool's number in [`Graph::tools`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct ToolId(pub u32);

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
