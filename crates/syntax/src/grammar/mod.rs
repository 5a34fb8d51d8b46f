//! The grammar, in small files. Each function takes what it names and leaves a node on the builder.

mod collections;
mod commands;
mod declarations;
mod expressions;
mod texts;
mod types;

pub(crate) use declarations::file;
