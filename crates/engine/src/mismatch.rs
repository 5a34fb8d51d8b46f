//! Why a result that was made elsewhere is not taken here.

use std::sync::Arc;

/// Why this machine is not known to be as a result needs it that was made elsewhere.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum RestMismatch {
    /// A path of the system is another one here.
    Other(Arc<str>),
    /// The list of these paths is not on this machine.
    NotHere,
}
