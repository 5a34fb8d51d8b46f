//! How the repository is laid out, and whether what its documents say is so.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

#[path = "../sandbox/mod.rs"]
mod sandbox;

mod arrows;
mod circles;
mod documents;
mod doors;
mod sources;
mod words;
