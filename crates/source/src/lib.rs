//! Where things stand: file ids, spans in them, and paths inside a workspace.
//!
//! This is the ground floor: it needs nothing and every other crate may use it.

mod joined;
mod path;
mod sources;

pub use joined::{shared_text, written_text};
pub use path::{PathProblem, WsPath};
pub use sources::{LineColumn, Sources, Span, TextId};
