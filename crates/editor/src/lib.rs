//! Answers an editor over the language server protocol: errors as one types, names completed and
//! explained, ways from a name to what it means. What it answers comes from the texts as they are
//! typed and from the last evaluation; the next one goes on beside.

mod completing;
mod document;
mod places;
mod problems;
mod reading;
mod renaming;
mod server;
mod state;
mod wire;

pub use server::{Runner, serve};
