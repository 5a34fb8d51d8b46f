//! Everything that people and programs see. Two columns throughout: a word that says what a line
//! is, then the fact.

pub mod console;
pub mod coverage;
pub mod diagnostics;
mod excerpts;
pub mod failure;
mod json_lines;
pub mod json_text;
pub mod lanes;
mod lines;
pub mod live;
mod news;
mod onlookers;
pub mod paint;
pub mod plain;
pub mod screen;
pub mod step_line;
pub mod summary;
pub mod telling;
pub mod text;
pub mod verdicts;
pub mod visible;
