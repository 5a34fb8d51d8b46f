//! Modules of Go, by the protocol of module proxies, with minimal version selection.

mod archive;
mod constraint;
mod manifest;
mod proxy;
mod query;
mod resolve;
mod selection;
mod source;
mod sums;
mod versions;

pub use constraint::BuildConstraint;
pub use manifest::GoManifest;
pub use proxy::is_go_path;
pub(crate) use proxy::{locate, newest};
pub(crate) use resolve::resolve;
pub use source::{GoSource, is_standard_import};
