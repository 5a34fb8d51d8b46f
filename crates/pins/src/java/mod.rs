//! Java's archives, from a repository laid out by group, artifact and version.

mod descriptor;
mod repository;
mod resolve;
mod versions;

pub(crate) use repository::{locate, newest};
pub(crate) use resolve::resolve;
pub(crate) use versions::ArchiveVersion;
