//! The digest of the files in an archive, as the lists of digests have it that come with modules
//! packed as zip.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::Path;

use base64::prelude::*;
use sha2::{Digest, Sha256};

/// The digest of a list of files with their own SHA-256 in hexadecimal digits: the SHA-256, in
/// base64, of a line for each, sorted by name, of these digits, two spaces and the name.
///
/// # Errors
/// If a name has a line end: another list would have the same lines.
pub fn digest_of_listing(mut files: Vec<(String, String)>) -> io::Result<String> {
    if files.iter().any(|(name, _)| name.contains('\n')) {
        return Err(damaged("a name in the archive has a line end".to_owned()));
    }
    files.sort();
    let mut listing = Sha256::new();
    for (name, hex) in files {
        listing.update(format!("{hex}  {name}\n"));
    }
    Ok(BASE64_STANDARD.encode(listing.finalize()))
}

fn damaged(what: String) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what)
}

/// The digest of the list of all files in a zip.
///
/// # Errors
/// If the archive cannot be read, is damaged, or holds a name with a line end.
pub fn listing_digest(archive: &Path) -> io::Result<String> {
    let mut archive = zip::ZipArchive::new(BufReader::new(File::open(archive)?))
        .map_err(|e| damaged(e.to_string()))?;
    let mut lines = Vec::new();
    let mut piece = vec![0; 64 << 10];
    for i in 0..archive.len() {
        let mut entry = archive.by_index(i).map_err(|e| damaged(e.to_string()))?;
        if entry.is_dir() {
            continue;
        }
        let name = entry
            .name()
            .map_err(|e| damaged(e.to_string()))?
            .into_owned();
        let mut hasher = Sha256::new();
        loop {
            match entry.read(&mut piece)? {
                0 => break,
                count => hasher.update(&piece[..count]),
            }
        }
        let hex: String = hasher
            .finalize()
            .iter()
            .map(|byte| format!("{byte:02x}"))
            .collect();
        lines.push((name, hex));
    }
    digest_of_listing(lines)
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn a_name_with_a_line_end_is_refused() {
        let files = vec![("tide\n0000  moon".to_owned(), "00".repeat(32))];
        assert!(
            digest_of_listing(files)
                .unwrap_err()
                .to_string()
                .contains("has a line end")
        );
    }

    #[test]
    fn the_listing_does_not_depend_on_the_order_in_the_archive() {
        let folder = tempfile::tempdir().unwrap();
        let packed = |names: [&str; 2]| {
            let path = folder.path().join(names[0]);
            let mut zip = zip::ZipWriter::new(File::create(&path).unwrap());
            for name in names {
                zip.start_file(name, zip::write::SimpleFileOptions::default())
                    .unwrap();
                zip.write_all(name.as_bytes()).unwrap();
            }
            zip.finish().unwrap();
            listing_digest(&path).unwrap()
        };
        assert_eq!(packed(["a", "b"]), packed(["b", "a"]));
        // `(sha256sum a; sha256sum b) | sha256sum`, in base64.
        assert_eq!(
            packed(["a", "b"]),
            "yxP0ANy2GOQA0PfVT3zbMw03oHJyy5mhAWzaWDChBVY="
        );
        assert!(listing_digest(&folder.path().join("gone")).is_err());
    }
}
