//! Digests of what comes, computed by the method of the one that is wanted.

use std::fmt::Write as _;

use base64::prelude::*;
use sha2::Digest as _;

/// How a digest of bytes is computed.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum ChecksumMethod {
    /// Too weak to know something by it, but old indexes publish no other.
    Md5,
    /// Too weak to know something by it, but still published.
    Sha1,
    /// SHA-256.
    Sha256,
    /// SHA-512.
    Sha512,
    /// BLAKE3.
    Blake3,
}

impl ChecksumMethod {
    /// Its name in front of a digest.
    pub fn name(self) -> &'static str {
        match self {
            ChecksumMethod::Md5 => "md5",
            ChecksumMethod::Sha1 => "sha1",
            ChecksumMethod::Sha256 => "sha256",
            ChecksumMethod::Sha512 => "sha512",
            ChecksumMethod::Blake3 => "blake3",
        }
    }

    /// The method of this name.
    pub fn named(name: &str) -> Option<ChecksumMethod> {
        use ChecksumMethod::{Blake3, Md5, Sha1, Sha256, Sha512};
        [Md5, Sha1, Sha256, Sha512, Blake3]
            .into_iter()
            .find(|method| method.name() == name)
    }
}

/// Computes a digest, piece by piece.
pub struct Checksum(RunningSum);

enum RunningSum {
    Md5(md5::Md5),
    Sha1(sha1::Sha1),
    Sha256(sha2::Sha256),
    Sha512(sha2::Sha512),
    Blake3(Box<blake3::Hasher>),
}

impl Checksum {
    /// Of nothing yet.
    pub fn new(method: ChecksumMethod) -> Checksum {
        Checksum(match method {
            ChecksumMethod::Md5 => RunningSum::Md5(md5::Md5::new()),
            ChecksumMethod::Sha1 => RunningSum::Sha1(sha1::Sha1::new()),
            ChecksumMethod::Sha256 => RunningSum::Sha256(sha2::Sha256::new()),
            ChecksumMethod::Sha512 => RunningSum::Sha512(sha2::Sha512::new()),
            ChecksumMethod::Blake3 => RunningSum::Blake3(Box::default()),
        })
    }

    /// The digest of bytes, written as [`Checksum::written`] writes it.
    pub fn of(method: ChecksumMethod, bytes: &[u8]) -> String {
        let mut sum = Checksum::new(method);
        sum.take(bytes);
        sum.written(false)
    }

    /// Takes a piece.
    pub fn take(&mut self, piece: &[u8]) {
        match &mut self.0 {
            RunningSum::Md5(hasher) => hasher.update(piece),
            RunningSum::Sha1(hasher) => hasher.update(piece),
            RunningSum::Sha256(hasher) => hasher.update(piece),
            RunningSum::Sha512(hasher) => hasher.update(piece),
            RunningSum::Blake3(hasher) => drop(hasher.update(piece)),
        }
    }

    /// The digest as `sha256:0a1b…`, or in base64 instead of hexadecimal digits.
    pub fn written(self, in_base64: bool) -> String {
        let (name, bytes) = match self.0 {
            RunningSum::Md5(hasher) => ("md5", hasher.finalize().to_vec()),
            RunningSum::Sha1(hasher) => ("sha1", hasher.finalize().to_vec()),
            RunningSum::Sha256(hasher) => ("sha256", hasher.finalize().to_vec()),
            RunningSum::Sha512(hasher) => ("sha512", hasher.finalize().to_vec()),
            RunningSum::Blake3(hasher) => ("blake3", hasher.finalize().as_bytes().to_vec()),
        };
        if in_base64 {
            return format!("{name}:{}", BASE64_STANDARD.encode(bytes));
        }
        let mut out = format!("{name}:");
        for byte in bytes {
            let _ = write!(out, "{byte:02x}");
        }
        out
    }

    /// What computes digests like this one: `sha512:…=` is written in base64. `None` for one that
    /// is not of bytes.
    pub fn like(digest: &str) -> Option<(Checksum, bool)> {
        let (name, value) = digest.split_once(':')?;
        let method = ChecksumMethod::named(name)?;
        Some((
            Checksum::new(method),
            method == ChecksumMethod::Sha512 && value.ends_with('='),
        ))
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn digests_are_computed_as_they_are_wanted() {
        for (like, digest) in [
            ("md5:", "md5:9dd4e461268c8034f5c8564e155c67a6"),
            ("sha1:", "sha1:11f6ad8ec52a2984abaafd7c3b516503785c2072"),
            (
                "sha256:",
                "sha256:2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881",
            ),
            (
                "blake3:",
                &format!("blake3:{}", blake3::hash(b"x").to_hex()),
            ),
            (
                "sha512:a",
                "sha512:a4abd4448c49562d828115d13a1fccea927f52b4d5459297f8b43e42da89238bc13626e43dcb38ddb082488927ec904fb42057443983e88585179d50551afe62",
            ),
            (
                "sha512:a=",
                "sha512:pKvURIxJVi2CgRXROh/M6pJ/UrTVRZKX+LQ+QtqJI4vBNibkPcs43bCCSIkn7JBPtCBXRDmD6IWFF51QVRr+Yg==",
            ),
        ] {
            let (mut sum, in_base64) = Checksum::like(like).unwrap();
            sum.take(b"x");
            assert_eq!(sum.written(in_base64), digest);
        }
        assert!(Checksum::like("h1:abc").is_none());
    }
}
