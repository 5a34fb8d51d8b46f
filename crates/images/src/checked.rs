//! Reading what must have a digest and a size: whether it has is known at its end, and nothing of
//! it counts before.

use std::fmt;
use std::io::{self, Read};

use sha2::{Digest as _, Sha256, Sha512};

/// The digest of a blob, by one of the methods that the specification of images registers.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug, Hash)]
pub struct BlobDigest(String);

impl BlobDigest {
    /// The digest that a text says: `sha256:` or `sha512:` and its hexadecimal digits.
    pub fn parse(text: &str) -> Option<BlobDigest> {
        let (method, digits) = text.split_once(':')?;
        let length = match method {
            "sha256" => 64,
            "sha512" => 128,
            _ => return None,
        };
        let is_hex = digits
            .bytes()
            .all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'));
        (digits.len() == length && is_hex).then(|| BlobDigest(text.to_owned()))
    }

    /// The SHA-256 of some bytes.
    pub fn of(bytes: &[u8]) -> BlobDigest {
        let mut hasher = BlobHasher::Sha256(Sha256::new());
        hasher.update(bytes);
        hasher.finish()
    }

    /// Whether it is the digest of some bytes.
    pub fn is_of(&self, bytes: &[u8]) -> bool {
        let mut hasher = self.hasher();
        hasher.update(bytes);
        hasher.finish() == *self
    }

    /// The digest as it is written.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Its method and its digits.
    pub fn parts(&self) -> (&str, &str) {
        self.0.split_once(':').unwrap_or(("", &self.0))
    }

    fn hasher(&self) -> BlobHasher {
        match self.parts().0 {
            "sha512" => BlobHasher::Sha512(Sha512::new()),
            _ => BlobHasher::Sha256(Sha256::new()),
        }
    }
}

impl fmt::Display for BlobDigest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

enum BlobHasher {
    Sha256(Sha256),
    Sha512(Sha512),
}

impl BlobHasher {
    fn update(&mut self, bytes: &[u8]) {
        match self {
            BlobHasher::Sha256(hasher) => hasher.update(bytes),
            BlobHasher::Sha512(hasher) => hasher.update(bytes),
        }
    }

    fn finish(self) -> BlobDigest {
        let hex = |bytes: &[u8]| {
            bytes
                .iter()
                .map(|byte| format!("{byte:02x}"))
                .collect::<String>()
        };
        BlobDigest(match self {
            BlobHasher::Sha256(hasher) => format!("sha256:{}", hex(&hasher.finalize())),
            BlobHasher::Sha512(hasher) => format!("sha512:{}", hex(&hasher.finalize())),
        })
    }
}

/// Computes the SHA-256 of what is written to it, and counts.
#[derive(Default)]
pub(crate) struct CountingHasher {
    hasher: Sha256,
    size: u64,
}

impl CountingHasher {
    /// How many bytes were written.
    pub fn size(&self) -> u64 {
        self.size
    }

    pub fn finish(self) -> BlobDigest {
        BlobHasher::Sha256(self.hasher).finish()
    }
}

impl io::Write for CountingHasher {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.hasher.update(bytes);
        self.size += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// A reader of something that must have a digest, and maybe a size. Its end is an error where it
/// has not.
pub(crate) struct CheckedReader<R> {
    inner: R,
    hasher: Option<BlobHasher>,
    wanted: BlobDigest,
    /// How many bytes it must have; `None` where only the digest says so.
    size: Option<u64>,
    /// How many it may have.
    most: u64,
    read: u64,
}

impl<R: Read> CheckedReader<R> {
    pub fn new(inner: R, wanted: &BlobDigest, size: Option<u64>, most: u64) -> CheckedReader<R> {
        CheckedReader {
            inner,
            hasher: Some(wanted.hasher()),
            wanted: wanted.clone(),
            size,
            most: size.unwrap_or(most).min(most),
            read: 0,
        }
    }

    /// Reads what is left, so that all of it is checked.
    pub fn finish(&mut self) -> io::Result<()> {
        io::copy(self, &mut io::sink()).map(drop)
    }

    fn at_end(&mut self) -> io::Result<()> {
        let Some(hasher) = self.hasher.take() else {
            return Ok(());
        };
        if let Some(size) = self.size.filter(|size| *size != self.read) {
            return Err(damaged(format!("it has {} bytes of {size}", self.read)));
        }
        let found = hasher.finish();
        if found == self.wanted {
            return Ok(());
        }
        Err(damaged(format!(
            "its digest is {found}, not {}",
            self.wanted
        )))
    }
}

impl<R: Read> Read for CheckedReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if buffer.is_empty() {
            return Ok(0);
        }
        let count = self.inner.read(buffer)?;
        if count == 0 {
            self.at_end()?;
            return Ok(0);
        }
        self.read += count as u64;
        if self.read > self.most {
            return Err(damaged(format!("it has more than {} bytes", self.most)));
        }
        if let Some(hasher) = &mut self.hasher {
            hasher.update(&buffer[..count]);
        }
        Ok(count)
    }
}

pub(crate) fn damaged(what: String) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(bytes: &[u8], wanted: &[u8], size: Option<u64>) -> io::Result<Vec<u8>> {
        let mut out = Vec::new();
        CheckedReader::new(bytes, &BlobDigest::of(wanted), size, 8)
            .read_to_end(&mut out)
            .map(|_| out)
    }

    #[test]
    fn what_is_cut_off_other_or_longer_is_refused_at_its_end() {
        assert_eq!(read(b"tide", b"tide", Some(4)).unwrap(), b"tide");
        assert_eq!(read(b"tide", b"tide", None).unwrap(), b"tide");
        assert!(
            read(b"tid", b"tide", Some(4))
                .unwrap_err()
                .to_string()
                .contains("3 bytes of 4")
        );
        assert!(
            read(b"tidE", b"tide", Some(4))
                .unwrap_err()
                .to_string()
                .contains("its digest is")
        );
        assert!(
            read(b"tides", b"tide", Some(4))
                .unwrap_err()
                .to_string()
                .contains("more than 4")
        );
        assert!(
            read(b"tidestides", b"tidestides", None)
                .unwrap_err()
                .to_string()
                .contains("more than 8")
        );
    }

    #[test]
    fn digests_are_of_a_method_that_is_registered() {
        let digest = BlobDigest::of(b"tide");
        assert_eq!(BlobDigest::parse(digest.as_str()), Some(digest.clone()));
        for bad in [
            "",
            "sha256:",
            "md5:00",
            &digest.as_str().to_uppercase(),
            &format!("{digest}0"),
            "sha256:../x",
        ] {
            assert_eq!(BlobDigest::parse(bad), None, "{bad}");
        }
    }
}
