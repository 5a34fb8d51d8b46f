//! The list by which the machine's loader finds libraries (`ld.so.cache` of glibc, format 1.1), and
//! names in folders of the system.

use std::collections::HashMap;
use std::io;
use std::sync::Arc;

/// Where the list is.
const PLACE: &str = "/etc/ld.so.cache";

/// What the list begins with, and how long its head and each of its rows are, in bytes.
const MAGIC: &[u8] = b"glibc-ld.so.cache1.1";
const HEAD: usize = 48;
const ROW: usize = 24;

/// Where libraries are, by the names that programs ask for.
#[derive(Debug, Default)]
pub(crate) struct LoaderList(HashMap<String, Arc<str>>);

impl LoaderList {
    /// The list of this machine; one without libraries where there is none, or none that can be
    /// read.
    pub fn of_machine() -> LoaderList {
        std::fs::read(PLACE)
            .ok()
            .and_then(|bytes| LoaderList::read(&bytes))
            .unwrap_or_default()
    }

    /// Where all rows of a name lead, in their order: the loader chooses by the processor.
    pub fn place_of(&self, library: &str) -> Option<Arc<str>> {
        self.0.get(library).cloned()
    }

    fn read(bytes: &[u8]) -> Option<LoaderList> {
        // An older list may stand before it, with the newer one behind.
        let start = bytes
            .windows(MAGIC.len())
            .position(|window| window == MAGIC)?;
        let list = &bytes[start..];
        let number =
            |at: usize| Some(u32::from_le_bytes(list.get(at..at + 4)?.try_into().ok()?) as usize);
        let text = |at: usize| {
            let from = list.get(at..)?;
            let end = from.iter().position(|byte| *byte == 0)?;
            std::str::from_utf8(&from[..end]).ok()
        };
        let mut places: HashMap<String, Arc<str>> = HashMap::new();
        for row in 0..number(MAGIC.len())? {
            let at = HEAD + row * ROW;
            let (name, place) = (text(number(at + 4)?)?, text(number(at + 8)?)?);
            let all = match places.get(name) {
                Some(known) => format!("{known}\n{place}").into(),
                None => place.into(),
            };
            places.insert(name.to_owned(), all);
        }
        Some(LoaderList(places))
    }
}

/// The names in a folder, each with the bits of its kind among those of a mode, sorted.
///
/// # Errors
/// When it cannot be listed.
pub(crate) fn names_in(folder: &str) -> io::Result<Vec<(String, u32)>> {
    let mut names = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let kind = rustix::fs::FileType::from_raw_mode(std::os::unix::fs::MetadataExt::mode(
            &entry.metadata()?,
        ));
        names.push((
            entry.file_name().to_string_lossy().into_owned(),
            kind.as_raw_mode(),
        ));
    }
    names.sort();
    Ok(names)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A list with these rows.
    fn list(rows: &[(&str, &str)]) -> Vec<u8> {
        let mut bytes = MAGIC.to_vec();
        bytes.extend((rows.len() as u32).to_le_bytes());
        bytes.resize(HEAD, 0);
        let mut texts: Vec<u8> = Vec::new();
        let first = HEAD + rows.len() * ROW;
        for (name, place) in rows {
            let at = |texts: &mut Vec<u8>, text: &str| {
                let at = (first + texts.len()) as u32;
                texts.extend(text.as_bytes());
                texts.push(0);
                at
            };
            let (name, place) = (at(&mut texts, name), at(&mut texts, place));
            for number in [0x303, name, place, 0, 0, 0] {
                bytes.extend(number.to_le_bytes());
            }
        }
        bytes.extend(texts);
        bytes
    }

    #[test]
    fn libraries_are_found_by_name() {
        let rows = [
            ("libm.so.6", "/lib/a/libm.so.6"),
            ("libz.so.1", "/lib/libz.so.1"),
            ("libm.so.6", "/lib/b/libm.so.6"),
        ];
        let found = LoaderList::read(&[b"ld.so-1.7.0".as_slice(), &list(&rows)].concat()).unwrap();
        assert_eq!(
            found.place_of("libz.so.1").as_deref(),
            Some("/lib/libz.so.1")
        );
        assert_eq!(
            found.place_of("libm.so.6").as_deref(),
            Some("/lib/a/libm.so.6\n/lib/b/libm.so.6")
        );
        assert_eq!(found.place_of("libno.so"), None);
        for cut in 0..list(&rows).len() {
            let _ = LoaderList::read(&list(&rows)[..cut]);
        }
        assert!(LoaderList::read(b"nothing").is_none());
    }
}
