//! What is in archives.

use std::io::{Cursor, Read};

/// No more than so many bytes are unpacked: what inflates further is looked at as it is.
const LIMIT: u64 = 1 << 30;

/// Reads to the end, if that is not too far away.
fn read_all(from: impl Read) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    from.take(LIMIT + 1).read_to_end(&mut bytes).ok()?;
    (bytes.len() as u64 <= LIMIT).then_some(bytes)
}

/// What some bytes in gzip are.
pub(crate) fn unpacked(bytes: &[u8]) -> Option<Vec<u8>> {
    bytes
        .starts_with(&[0x1f, 0x8b])
        .then(|| read_all(flate2::read::MultiGzDecoder::new(bytes)))
        .flatten()
}

/// The entries of an archive in their order, by their names; nothing where it is none.
pub(crate) fn entries(bytes: &[u8]) -> Option<Vec<(String, Vec<u8>)>> {
    if bytes.starts_with(b"!<arch>\n") {
        return of_ar(bytes);
    }
    if bytes.starts_with(b"PK\x03\x04") {
        return of_zip(bytes);
    }
    // The mark of the format, in all tar archives but those of before 1988.
    (bytes.get(257..262) == Some(b"ustar"))
        .then(|| of_tar(bytes))
        .flatten()
}

/// So many bytes of a file say whether it may be an archive.
pub const HEAD: u64 = 262;

/// Whether a file that begins so may be an archive.
pub fn may_be_archive(head: &[u8]) -> bool {
    let begins = |mark: &[u8]| head.starts_with(mark);
    begins(b"!<arch>\n")
        || begins(b"PK\x03\x04")
        || begins(&[0x1f, 0x8b])
        || head.get(257..262) == Some(b"ustar")
}

/// The names in an archive, alone or in gzip, in their order, with how many bytes each has; nothing
/// where it is none.
pub fn listed(bytes: &[u8]) -> Option<Vec<(String, u64)>> {
    let inside = unpacked(bytes);
    let entries = entries(inside.as_deref().unwrap_or(bytes))?;
    Some(
        entries
            .into_iter()
            .map(|(name, content)| (name, content.len() as u64))
            .collect(),
    )
}

fn of_ar(bytes: &[u8]) -> Option<Vec<(String, Vec<u8>)>> {
    let archive = object::read::archive::ArchiveFile::parse(bytes).ok()?;
    let entry = |member: object::read::Result<object::read::archive::ArchiveMember<'_>>| {
        let member = member.ok()?;
        Some((
            String::from_utf8_lossy(member.name()).into_owned(),
            member.data(bytes).ok()?.to_vec(),
        ))
    };
    archive.members().map(entry).collect()
}

fn of_tar(bytes: &[u8]) -> Option<Vec<(String, Vec<u8>)>> {
    let mut archive = tar::Archive::new(bytes);
    let entry = |entry: std::io::Result<tar::Entry<'_, &[u8]>>| {
        let entry = entry.ok()?;
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        let link = entry.link_name_bytes().map(|link| link.into_owned());
        Some((
            name,
            match link {
                Some(link) => link,
                None => read_all(entry)?,
            },
        ))
    };
    archive.entries().ok()?.map(entry).collect()
}

fn of_zip(bytes: &[u8]) -> Option<Vec<(String, Vec<u8>)>> {
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).ok()?;
    let mut entries = Vec::new();
    for number in 0..archive.len() {
        let file = archive.by_index(number).ok()?;
        let name = file.name().ok()?.into_owned();
        entries.push((name, read_all(file)?));
    }
    Some(entries)
}
