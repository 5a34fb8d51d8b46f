//! Everything that people and programs see. Two columns throughout: a word that says what a line is,
//! then the fact.

pub mod diagnostics;
pub mod failure;
pub mod json;
pub mod live;
pub mod out;
pub mod paint;
pub mod picture;
pub mod screen;
pub mod services;
pub mod summary;
pub mod text;
pub mod verdicts;
