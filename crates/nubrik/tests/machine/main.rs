//! The built program, where it takes what a step does not have: a terminal, a browser, the network,
//! a supervisor of its own below that of the step.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

#[path = "../sandbox/mod.rs"]
mod sandbox;

mod adopt;
mod browser;
mod commands;
mod coverage;
mod events;
mod explore;
mod explorer;
mod gallery;
mod handbook;
mod kits;
mod language;
mod made_folders;
mod terminal;
mod topics;
mod watcher;
mod watching;
