use serde::{Deserialize, Serialize};

/// A height of the tide.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
pub struct Height {
    /// The station's code.
    pub station: String,
    /// Above the station's zero.
    pub centimetres: i32,
}

/// Reads a height.
pub fn read(text: &str) -> Result<Height, serde_json::Error> {
    serde_json::from_str(text)
}
