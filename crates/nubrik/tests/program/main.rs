//! The built program, on workspaces in temporary folders. Each file is about one thing.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

#[path = "../sandbox/mod.rs"]
mod sandbox;

mod answers;
mod builds;
mod cache_files;
mod choices;
mod completing;
mod confined;
mod definitions;
mod early_and_kept;
mod editors;
mod hardships;
mod histories;
mod images;
mod meaning;
mod observed;
mod odd_files;
mod older;
mod pins;
mod random;
mod reports;
mod requests;
mod residents;
mod services;
mod sharing;
mod since;
mod testing;
mod told;
mod troubles;
mod workers;
