//! Nub's syntax: any text becomes a lossless tree, and parsing never fails.
//!
//! What is wrong comes back as diagnostics beside the tree; the tree's tokens in order are the
//! text.
//!
//! ```
//! use nubrik_source::Sources;
//!
//! let text: std::sync::Arc<str> = "target  tide = write { path = \"t\", text = \"ebb\" }  # to come\n".into();
//! let file = Sources::default().add("targets.nub", text.clone());
//! let parsed = nubrik_syntax::parse(file, &text);
//! assert!(parsed.diagnostics.is_empty());
//! // The formatter knows one form of each text.
//! let tidy = "target tide = write { path = \"t\", text = \"ebb\" }  # to come\n";
//! assert_eq!(nubrik_syntax::format(file, &text).as_deref(), Ok(tidy));
//! ```

mod format;
mod grammar;
mod habits;
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
