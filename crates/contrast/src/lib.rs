//! Where two files differ first: at which byte, in which entry of an archive, in which section of
//! an object. Archives are those of `ar`, `tar` and `zip`, alone or in `gzip`; objects are ELF,
//! Mach-O and COFF.
//!
//! ```
//! let difference = nubrik_contrast::first_difference(b"high 06:12", b"high 06:13").ok_or("the same")?;
//! assert_eq!(difference.to_string(), "byte 9: 32 and 33 (\"2\" and \"3\")");
//! # Ok::<(), &str>(())
//! ```

mod entries;
mod sections;

pub use entries::{HEAD, listed, may_be_archive};

use std::fmt;

/// So many bytes are shown of both.
const SHOWN: usize = 8;

/// An archive in an archive is looked into; so deep, and not deeper.
const DEEPEST: usize = 4;

/// Where two files differ first.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct FirstDifference {
    /// From the outermost to the innermost: what the byte is in.
    pub within: Vec<Within>,
    /// What differs there.
    pub what: Unlike,
}

/// A part of a file.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Within {
    /// What is compressed as a whole.
    Compressed,
    /// An entry of an archive, by its name.
    Entry(String),
    /// A section of an object, by its name.
    Section(String),
}

/// What differs.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Unlike {
    /// Bytes from a place on, counted from 0; empty where one file ends.
    Bytes {
        /// Where.
        at: u64,
        /// The next ones of the first file.
        one: Vec<u8>,
        /// The next ones of the second one.
        other: Vec<u8>,
    },
    /// An entry that only one of them has: its name, and whether that is the first.
    OnlyIn(String, bool),
    /// The order of the entries: which one comes first in each.
    Order(String, String),
    /// Nothing but how it is packed: times, owners, or how hard it was compressed. The first byte
    /// that differs.
    Packing(u64),
}

/// Where two files differ first; nothing where they are the same.
pub fn first_difference(one: &[u8], other: &[u8]) -> Option<FirstDifference> {
    let mut within = Vec::new();
    let what = unlike(one, other, &mut within)?;
    Some(FirstDifference { within, what })
}

fn unlike(one: &[u8], other: &[u8], within: &mut Vec<Within>) -> Option<Unlike> {
    let at = first_other_byte(one, other)?;
    if within.len() < DEEPEST {
        if let (Some(first), Some(second)) = (entries::unpacked(one), entries::unpacked(other)) {
            within.push(Within::Compressed);
            return Some(unlike(&first, &second, within).unwrap_or(Unlike::Packing(at as u64)));
        }
        if let (Some(first), Some(second)) = (entries::entries(one), entries::entries(other)) {
            return Some(
                unlike_entries(&first, &second, within).unwrap_or(Unlike::Packing(at as u64)),
            );
        }
    }
    if let Some((name, start)) =
        sections::section_at(one, at).or_else(|| sections::section_at(other, at))
    {
        within.push(Within::Section(name));
        return Some(bytes_at(one, other, at, start));
    }
    Some(bytes_at(one, other, at, 0))
}

/// The bytes of both from a place on, which is known from where its part begins.
fn bytes_at(one: &[u8], other: &[u8], at: usize, start: usize) -> Unlike {
    let shown = |bytes: &[u8]| {
        bytes
            .get(at..)
            .unwrap_or_default()
            .iter()
            .take(SHOWN)
            .copied()
            .collect()
    };
    Unlike::Bytes {
        at: (at - start) as u64,
        one: shown(one),
        other: shown(other),
    }
}

fn first_other_byte(one: &[u8], other: &[u8]) -> Option<usize> {
    match one.iter().zip(other).position(|(a, b)| a != b) {
        Some(at) => Some(at),
        None if one.len() == other.len() => None,
        None => Some(one.len().min(other.len())),
    }
}

fn unlike_entries(
    one: &[(String, Vec<u8>)],
    other: &[(String, Vec<u8>)],
    within: &mut Vec<Within>,
) -> Option<Unlike> {
    let has =
        |entries: &[(String, Vec<u8>)], name: &str| entries.iter().any(|(known, _)| known == name);
    if let Some((name, _)) = one.iter().find(|(name, _)| !has(other, name)) {
        return Some(Unlike::OnlyIn(name.clone(), true));
    }
    if let Some((name, _)) = other.iter().find(|(name, _)| !has(one, name)) {
        return Some(Unlike::OnlyIn(name.clone(), false));
    }
    for ((name, bytes), (other_name, other_bytes)) in one.iter().zip(other) {
        if name != other_name {
            return Some(Unlike::Order(name.clone(), other_name.clone()));
        }
        if bytes != other_bytes {
            within.push(Within::Entry(name.clone()));
            return unlike(bytes, other_bytes, within);
        }
    }
    None
}

impl fmt::Display for FirstDifference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for within in &self.within {
            match within {
                Within::Compressed => f.write_str("what is compressed, ")?,
                Within::Entry(name) => write!(f, "entry {name}, ")?,
                Within::Section(name) => write!(f, "section {name}, ")?,
            }
        }
        match &self.what {
            Unlike::Bytes { at, one, other } => {
                write!(f, "byte {at}: {} and {}", hex(one), hex(other))?;
                match (text(one), text(other)) {
                    (Some(one), Some(other)) => write!(f, " (\"{one}\" and \"{other}\")"),
                    _ => Ok(()),
                }
            }
            Unlike::OnlyIn(name, true) => write!(f, "{name} is only in the first"),
            Unlike::OnlyIn(name, false) => write!(f, "{name} is only in the second"),
            Unlike::Order(one, other) => {
                write!(f, "another order: {one} and {other} come at the same place")
            }
            Unlike::Packing(at) => {
                write!(
                    f,
                    "the same contents, packed otherwise (times, owners or compression) from byte {at} on"
                )
            }
        }
    }
}

fn hex(bytes: &[u8]) -> String {
    if bytes.is_empty() {
        return "the end".to_owned();
    }
    bytes
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect::<Vec<_>>()
        .join(" ")
}

/// Bytes that people can read, if they are such.
fn text(bytes: &[u8]) -> Option<&str> {
    let is_read = !bytes.is_empty() && bytes.iter().all(|byte| (0x20..0x7f).contains(byte));
    std::str::from_utf8(bytes).ok().filter(|_| is_read)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use std::io::Write;

    use proptest::prelude::*;

    use super::*;

    fn said(one: &[u8], other: &[u8]) -> String {
        first_difference(one, other).unwrap().to_string()
    }

    #[test]
    fn what_is_in_an_archive_is_told() {
        let tar = tar_of(&[("a/high.txt", b"06:12", 7), ("low.txt", b"", 9)]);
        let names = vec![("a/high.txt".to_owned(), 5), ("low.txt".to_owned(), 0)];
        assert!(may_be_archive(&tar[..HEAD as usize]));
        assert_eq!(listed(&tar), Some(names.clone()));
        let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        gzip.write_all(&tar).unwrap();
        assert_eq!(listed(&gzip.finish().unwrap()), Some(names));
        assert!(listed(b"no archive").is_none() && !may_be_archive(b"no archive"));
    }

    fn tar_of(files: &[(&str, &[u8], u64)]) -> Vec<u8> {
        let mut tar = tar::Builder::new(Vec::new());
        for (name, bytes, time) in files {
            let mut header = tar::Header::new_gnu();
            header.set_size(bytes.len() as u64);
            header.set_mode(0o644);
            header.set_mtime(*time);
            tar.append_data(&mut header, name, *bytes).unwrap();
        }
        tar.into_inner().unwrap()
    }

    fn gzip_of(bytes: &[u8], level: u32) -> Vec<u8> {
        let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::new(level));
        gzip.write_all(bytes).unwrap();
        gzip.finish().unwrap()
    }

    #[test]
    fn plain_bytes_and_ends() {
        assert!(first_difference(b"ebb", b"ebb").is_none());
        assert_eq!(
            said(b"ebb", b"ebb tide"),
            "byte 3: the end and 20 74 69 64 65"
        );
        assert_eq!(said(b"a\x00b", b"a\x01b"), "byte 1: 00 62 and 01 62");
    }

    #[test]
    fn entries_of_archives_are_named() {
        let old = tar_of(&[("a.txt", b"high", 1), ("b.txt", b"low 12", 1)]);
        let new = tar_of(&[("a.txt", b"high", 1), ("b.txt", b"low 13", 1)]);
        assert_eq!(
            said(&old, &new),
            "entry b.txt, byte 5: 32 and 33 (\"2\" and \"3\")"
        );
        let packed = said(&gzip_of(&old, 6), &gzip_of(&new, 6));
        assert_eq!(
            packed,
            "what is compressed, entry b.txt, byte 5: 32 and 33 (\"2\" and \"3\")"
        );
        let later = tar_of(&[("a.txt", b"high", 9), ("b.txt", b"low 12", 1)]);
        assert!(said(&old, &later).starts_with("the same contents, packed otherwise"));
        let turned = tar_of(&[("b.txt", b"low 12", 1), ("a.txt", b"high", 1)]);
        assert_eq!(
            said(&old, &turned),
            "another order: a.txt and b.txt come at the same place"
        );
        let fewer = tar_of(&[("a.txt", b"high", 1)]);
        assert_eq!(said(&old, &fewer), "b.txt is only in the first");
        assert_eq!(said(&fewer, &old), "b.txt is only in the second");
        let harder = said(&gzip_of(&vec![7; 9999], 1), &gzip_of(&vec![7; 9999], 9));
        assert!(
            harder.starts_with("what is compressed, the same contents"),
            "{harder}"
        );
    }

    #[test]
    fn sections_of_objects_are_named() {
        // The program of this test is an object of the machine.
        let one = std::fs::read(std::env::current_exe().unwrap()).unwrap();
        let text = sections::range_of(&one, ".text").unwrap();
        let mut other = one.clone();
        other[text.start + 5] ^= 1;
        assert!(
            said(&one, &other).starts_with("section .text, byte 5: "),
            "{}",
            said(&one, &other)
        );
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn damaged_archives_are_files_like_others(at in 0usize..4000, flip in 1u8.., cut in any::<bool>()) {
            let old = gzip_of(&tar_of(&[("a.txt", b"high", 1), ("b.txt", b"low 12", 1)]), 6);
            for whole in [old.clone(), tar_of(&[("a.txt", b"high", 1)])] {
                let mut bytes = whole.clone();
                let at = at % bytes.len();
                bytes[at] ^= flip;
                let bytes = if cut { &bytes[..at] } else { &bytes[..] };
                prop_assert!(first_difference(&whole, bytes).is_some());
            }
        }
    }
}
