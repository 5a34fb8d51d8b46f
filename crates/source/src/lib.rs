//! Where things are: file ids, spans in them, and paths inside a workspace.
//!
//! This is the ground floor: it needs nothing and every other crate may use it.
//!
//! ```
//! use nubrik_source::WsPath;
//!
//! let package = WsPath::from_normal("tide/pages");
//! assert_eq!(package.resolve("../data/fit.csv").as_ref().map(WsPath::as_str), Ok("tide/data/fit.csv"));
//! assert_eq!(package.resolve("/kit/flags.nub").as_ref().map(WsPath::as_str), Ok("kit/flags.nub"));
//! assert!(package.resolve("../../../etc").is_err());
//! ```

mod file_path;
mod joined;
mod path;
mod sources;

pub use file_path::{FilePath, FilePlace};
pub use joined::{shared_text, written_text};
pub use path::{
    OWN_FOLDER, PathProblem, PathWithin, RESULTS_FOLDER, SETTINGS_FILE, TARGETS_FILE, WsPath,
};
pub use sources::{LineColumn, Sources, Span, TextId};
