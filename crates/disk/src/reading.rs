//! Reading files that may be anything: a checkout can hold links to devices that never end, and
//! pipes that no one writes.

use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use crate::below::regular;

/// Opens a file to read it; whatever else is there, or is led to by a link, is refused without
/// being waited for.
///
/// # Errors
/// When it is not there, cannot be read, or is not a file.
pub fn open_file(path: &Path) -> io::Result<File> {
    // Opening a pipe would wait for a writer.
    regular(
        File::options()
            .read(true)
            .custom_flags(nonblock())
            .open(path)?,
    )
}

fn nonblock() -> i32 {
    rustix::fs::OFlags::NONBLOCK.bits() as i32
}

/// Reads a file, but not more than `limit` bytes.
///
/// # Errors
/// When it cannot be opened as a file, or has more.
pub fn read_file(path: &Path, limit: u64) -> io::Result<Vec<u8>> {
    read_open(open_file(path)?, limit)
}

/// The most that a definition file has, and whatever else is read as one text, in bytes.
pub const TEXT_LIMIT: u64 = 16 << 20;

/// Reads a file of UTF-8 text of at most [`TEXT_LIMIT`] bytes.
///
/// # Errors
/// When it cannot be opened as a file, has more, or is no text.
pub fn read_text(path: &Path) -> io::Result<String> {
    String::from_utf8(read_file(path, TEXT_LIMIT)?)
        .map_err(|_| io::Error::new(io::ErrorKind::InvalidData, "it is not UTF-8 text"))
}

/// Reads an open file, but not more than `limit` bytes: that it had fewer when it was opened is no
/// promise.
///
/// # Errors
/// When it cannot be read, or has more.
pub fn read_open(file: File, limit: u64) -> io::Result<Vec<u8>> {
    let size = file.metadata()?.len().min(limit);
    let mut bytes = Vec::with_capacity(size as usize + 1);
    file.take(limit + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > limit {
        return Err(io::Error::other(format!(
            "it has more than {}",
            crate::reading::sized(limit)
        )));
    }
    Ok(bytes)
}

/// A number of bytes, for people: whole powers only.
pub fn sized(bytes: u64) -> String {
    match bytes {
        b if b >= 1 << 30 => format!("{} GiB", b >> 30),
        b if b >= 1 << 20 => format!("{} MiB", b >> 20),
        b => format!("{} KiB", b >> 10),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_files_are_read_and_only_so_much() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("file");
        std::fs::write(&file, "tide").unwrap();
        assert_eq!(read_file(&file, 4).unwrap(), b"tide");
        assert!(read_file(&file, 3).is_err());
        let link = folder.path().join("endless");
        std::os::unix::fs::symlink("/dev/zero", &link).unwrap();
        assert_eq!(
            read_file(&link, 4).unwrap_err().to_string(),
            "it is not a file"
        );
        let pipe = folder.path().join("pipe");
        let (fifo, mode) = (rustix::fs::FileType::Fifo, rustix::fs::Mode::RWXU);
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, fifo, mode, 0).unwrap();
        assert!(read_file(&pipe, 4).is_err());
        assert!(read_file(folder.path(), 4).is_err());
        assert_eq!(sized(16 << 20), "16 MiB");
    }
}
