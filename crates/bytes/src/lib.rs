//! Bytes that say the same on every machine: digests, and the layout of everything that is kept or
//! hashed.
//!
//! ```
//! use nubrik_bytes::{Decoder, Digest, Encoder};
//!
//! let mut out = Encoder::new();
//! out.text("tide");
//! out.list(&[3, 7], |out, height| out.u32(*height));
//! let mut from = Decoder::new(&out.bytes);
//! assert_eq!(from.text(), Ok("tide"));
//! assert_eq!(from.list(|from| from.u32()), Ok(vec![3, 7]));
//! assert!(from.is_at_end());
//! assert_eq!(Digest::of(&out.bytes), Digest::of(&out.bytes.clone()));
//! ```

mod codec;
mod digest;
mod frame;
mod layout;

pub use codec::{Decoder, Encoder, Truncated};
pub use digest::{Digest, Hasher};
pub use frame::{Frame, Magic};
pub use layout::Layout;
