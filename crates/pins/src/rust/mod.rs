//! Rust's crates, from a sparse index.

mod features;
mod index;
mod manifest;
mod platform;
mod resolve;

pub(crate) use index::{locate, newest};
pub(crate) use resolve::resolve;
