//! A watcher: a process that knows from the kernel which of the paths that a seal looked at may
//! have changed since. Who asks it looks at those alone.
//!
//! It says that a path is as it was only where that follows from what it saw: the path had the
//! metadata of the seal when every folder on the way to it and the file itself were watched, no
//! program had the file open for writing then, and nothing has happened to any of them since. Even
//! a program that only opens a file makes it doubtful: through mapped memory a file changes without
//! a word.
//! All else is doubtful: what lies elsewhere, what a link leads to, what another user owns, what
//! lies on another file system or is mounted there. Where the whole may have gone wrong (a
//! [`Doubt`]), everything is looked at.
//!
//! Who asks compares nothing with what the watcher says but where to look, so that a watcher that
//! is slow, stopped or gone costs time and never truth.

mod around;
mod client;
mod edits;
mod ground;
mod kernel;
mod messages;
mod sealed;
mod service;

pub use around::{Doubt, can_watch};
pub use client::{WatcherHeld, WatcherPlace};
pub use edits::{EditTrouble, EditWatch};
pub use messages::{WatcherAnswer, WatcherStatus};
pub use service::{WATCHER_LOG, WatcherEnding, WatcherLife, serve};
