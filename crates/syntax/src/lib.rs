//! Nub's syntax: any text becomes a lossless tree, and parsing never fails.
//!
//! What is wrong comes back as diagnostics beside the tree; the tree's tokens in order are the text.

mod format;
mod grammar;
mod kind;
mod lexer;
mod parser;
mod tree;
pub mod views;

pub use format::format;
pub use kind::SyntaxKind;
pub use lexer::{DECLARATION_WORDS, RESERVED_WORDS, duration, is_name, is_reserved};
pub use parser::{Parse, parse};
pub use tree::{Element, Node, NodeId, Token, Tree};
