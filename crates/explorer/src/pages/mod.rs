//! The pages, one file for each part.

pub(crate) mod builds;
pub(crate) mod compared;
pub(crate) mod external;
pub(crate) mod finding;
pub(crate) mod graphs;
pub(crate) mod naming;
pub(crate) mod options;
pub(crate) mod origins;
pub(crate) mod overview;
pub(crate) mod sources;
pub(crate) mod target;
pub(crate) mod targets;
pub(crate) mod tests;
pub(crate) mod timeline;
pub(crate) mod words;
