//! JavaScript's packages, by the documents of a registry.

mod index;
mod manifest;
mod place;
mod resolve;

pub use index::is_name;
pub(crate) use index::{locate, newest};
pub(crate) use resolve::resolve;
