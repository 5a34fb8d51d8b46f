//! Contents as they travel: each compressed by itself, small ones one behind the other in a pack.

use std::io::Read;

use nubrik_bytes::Digest;

/// Contents of fewer bytes go into packs.
pub(crate) const SMALL: u64 = 256 << 10;

/// How large a pack grows, in bytes; the last content may lead a little further.
pub(crate) const PACK: usize = 16 << 20;

/// The largest pack that is taken.
pub(crate) const PACK_LIMIT: u64 = (PACK as u64 + SMALL) * 2;

/// The largest content, in bytes.
pub(crate) const CONTENT_LIMIT: u64 = 8 << 30;

/// How hard is compressed.
const LEVEL: i32 = 6;

/// Some bytes as a frame of zstd (RFC 8878), as contents are stored.
///
/// # Errors
/// When they cannot be compressed.
pub fn squeezed(bytes: &[u8]) -> std::io::Result<Vec<u8>> {
    zstd::bulk::compress(bytes, LEVEL)
}

/// What a frame holds, if that is as much as is said and not more.
pub fn expanded(frame: &[u8], raw: u64) -> Option<Vec<u8>> {
    if raw > CONTENT_LIMIT {
        return None;
    }
    let mut bytes = Vec::new();
    let decoder = zstd::stream::read::Decoder::with_buffer(frame).ok()?;
    decoder.take(raw + 1).read_to_end(&mut bytes).ok()?;
    (bytes.len() as u64 == raw).then_some(bytes)
}

/// Compresses pieces that are much like some bytes, which are put before each of them.
pub(crate) struct Squeezer(zstd::bulk::Compressor<'static>);

impl Squeezer {
    /// # Errors
    /// When there is no memory for it.
    pub fn after(before: &[u8]) -> std::io::Result<Squeezer> {
        let compressor = match before {
            [] => zstd::bulk::Compressor::new(LEVEL),
            before => zstd::bulk::Compressor::with_dictionary(LEVEL, before),
        };
        compressor.map(Squeezer)
    }

    /// A piece as a frame of zstd.
    ///
    /// # Errors
    /// When it cannot be compressed.
    pub fn squeezed(&mut self, bytes: &[u8]) -> std::io::Result<Vec<u8>> {
        self.0.compress(bytes)
    }
}

/// What a frame holds that was compressed after some bytes, if that is as much as is said and not
/// more.
pub(crate) fn expanded_after(frame: &[u8], raw: u64, before: &[u8]) -> Option<Vec<u8>> {
    if before.is_empty() || raw > CONTENT_LIMIT {
        return expanded(frame, raw);
    }
    let mut bytes = Vec::new();
    let decoder = zstd::stream::read::Decoder::with_dictionary(frame, before).ok()?;
    decoder.take(raw + 1).read_to_end(&mut bytes).ok()?;
    (bytes.len() as u64 == raw).then_some(bytes)
}

/// The content of a frame, if its digest is the one that is wanted.
pub(crate) fn content(frame: &[u8], raw: u64, digest: &Digest) -> Option<Vec<u8>> {
    expanded(frame, raw).filter(|bytes| Digest::of(bytes) == *digest)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn only_what_was_meant_comes_back() {
        let bytes = vec![7; 100_000];
        let frame = squeezed(&bytes).unwrap();
        let digest = Digest::of(&bytes);
        assert_eq!(content(&frame, 100_000, &digest).unwrap(), bytes);
        // One that inflates further than it says is not read to its end.
        assert!(expanded(&frame, 99_999).is_none() && expanded(&frame, 100_001).is_none());
        assert!(expanded(&frame, u64::MAX).is_none() && expanded(&frame[..20], 100_000).is_none());
        assert!(content(&frame, 100_000, &Digest::of(b"other")).is_none());
    }
}
