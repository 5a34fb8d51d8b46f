//! Copying what is in a file.

use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::os::unix::fs::MetadataExt;

use rustix::fs::SeekFrom;
use rustix::io::Errno;

/// Up to this size reading and writing takes fewer calls than having the system copy.
const SMALL: u64 = 64 << 10;

/// Copies a file from its beginning to a new one: by reference where the file system can do that,
/// and with its holes, which take no room.
///
/// # Errors
/// When it cannot be read or written.
pub fn copy_file(from: &mut File, to: &mut File) -> io::Result<()> {
    let found = from.metadata()?;
    let size = found.len();
    if size <= SMALL {
        let mut bytes = vec![0; size as usize];
        from.read_exact(&mut bytes)?;
        return to.write_all(&bytes);
    }
    // Blocks have 512 bytes here, whatever those of the file system have.
    let has_holes = found.blocks().saturating_mul(512) < size;
    if !has_holes {
        return io::copy(from, to).map(drop);
    }
    to.set_len(size)?;
    let mut at = 0;
    while let Some(start) = seek(from, SeekFrom::Data(at))? {
        let end = seek(from, SeekFrom::Hole(start))?.unwrap_or(size);
        from.seek(io::SeekFrom::Start(start))?;
        to.seek(io::SeekFrom::Start(start))?;
        io::copy(&mut from.take(end - start), to)?;
        at = end;
    }
    Ok(())
}

/// Where the next data begins, or ends; nothing behind the last of it.
fn seek(file: &File, to: SeekFrom) -> io::Result<Option<u64>> {
    match rustix::fs::seek(file, to) {
        Ok(at) => Ok(Some(at)),
        Err(Errno::NXIO) => Ok(None),
        Err(e) => Err(e.into()),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use std::fs;
    use std::os::unix::fs::FileExt;

    use super::*;

    fn copied(write: impl FnOnce(&File)) -> (u64, u64, bool) {
        let folder = tempfile::tempdir().unwrap();
        let [from, to] = ["from", "to"].map(|name| folder.path().join(name));
        write(&File::create(&from).unwrap());
        copy_file(
            &mut File::open(&from).unwrap(),
            &mut File::create_new(&to).unwrap(),
        )
        .unwrap();
        let is_same = fs::read(&from).unwrap() == fs::read(&to).unwrap();
        let found = fs::metadata(&to).unwrap();
        (found.len(), found.blocks() * 512, is_same)
    }

    #[test]
    fn all_bytes_are_copied_and_holes_stay_holes() {
        assert_eq!(copied(|_| {}), (0, 0, true));
        let (size, _, is_same) = copied(|file| file.write_all_at(&[7; 300_000], 0).unwrap());
        assert_eq!((size, is_same), (300_000, true));
        // Holes before, between and behind.
        let (size, taken, is_same) = copied(|file| {
            file.write_all_at(b"ebb", 8 << 20).unwrap();
            file.write_all_at(b"flow", 20 << 20).unwrap();
            file.set_len(40 << 20).unwrap();
        });
        assert_eq!((size, is_same), (40 << 20, true));
        assert!(taken < 4 << 20, "{taken} bytes are taken");
        let (_, taken, is_same) = copied(|file| file.set_len(9 << 20).unwrap());
        assert!(is_same && taken == 0);
    }
}
