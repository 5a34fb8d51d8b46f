//! What is asked for.

use crate::{Address, Credential, Trouble};

/// The most that a document may hold, in bytes.
const DOCUMENT_LIMIT: u64 = 256 << 20;

/// What is asked for.
#[derive(Clone, Debug)]
pub struct WebRequest {
    /// Where.
    pub address: Address,
    /// Who asks.
    pub credential: Option<Credential>,
    /// Which media types are wanted, as the header `Accept` has them.
    pub accept: Option<String>,
    /// The most bytes that are taken.
    pub limit: u64,
    /// Whether it may come compressed. Then it does not go on where it broke off.
    pub compressed: bool,
}

impl WebRequest {
    /// Asks for anything, as nobody.
    pub fn new(address: Address) -> WebRequest {
        WebRequest {
            address,
            credential: None,
            accept: None,
            limit: DOCUMENT_LIMIT,
            compressed: false,
        }
    }
}

/// Says that something is larger than it may be.
pub(crate) fn too_large(limit: u64) -> Trouble {
    Trouble::failed(format!("it has more than {}", nubrik_disk::sized(limit)))
}
