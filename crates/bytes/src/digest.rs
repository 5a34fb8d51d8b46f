//! BLAKE3 digests.

use std::fmt;
use std::io::{self, Read};
use std::path::Path;

/// The BLAKE3 digest of some bytes.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct Digest(pub [u8; 32]);

impl Digest {
    /// The digest of bytes in memory.
    pub fn of(bytes: &[u8]) -> Digest {
        Digest(*blake3::hash(bytes).as_bytes())
    }

    /// The digest of a file's content.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn of_file(path: &Path) -> io::Result<Digest> {
        Digest::of_open(&mut std::fs::File::open(path)?)
    }

    /// The digest of what is left to read of an open file.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn of_open(file: &mut impl Read) -> io::Result<Digest> {
        let mut hasher = Hasher::new();
        // Small files in one read; mapping them is several times slower. On the stack: fresh memory
        // for each file costs as much as reading a small one.
        let mut buffer = [0; 16 << 10];
        loop {
            match file.read(&mut buffer) {
                Ok(0) => return Ok(hasher.finish()),
                Ok(n) => hasher.update(&buffer[..n]),
                Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
                Err(e) => return Err(e),
            }
        }
    }

    /// The digest as 64 hexadecimal digits.
    pub fn hex(&self) -> String {
        blake3::Hash::from_bytes(self.0).to_hex().to_string()
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.hex()[..16])
    }
}

/// Computes a digest piece by piece.
#[derive(Default, Clone)]
pub struct Hasher(blake3::Hasher);

impl Hasher {
    /// A hasher that has seen nothing.
    pub fn new() -> Self {
        Hasher(blake3::Hasher::new())
    }

    /// Adds bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest of everything added.
    pub fn finish(&self) -> Digest {
        Digest(*self.0.finalize().as_bytes())
    }
}
