//! The grammar, in small files. Each function takes what it names and leaves a node on the builder.

mod commands;
mod declarations;
mod expressions;
mod types;

pub(crate) use declarations::file;
