//! What is kept of a step's results.

use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Layout, Truncated, layout};

/// Version of the record's byte layout; a record of another version is a miss.
const VERSION: u8 = 3;
const MAGIC: &[u8; 4] = b"nbrc";

/// An input that the commands listed, with its content at that time.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct FoundInput {
    /// From the workspace's root, or absolute for a file of the system.
    pub path: Arc<str>,
    /// Its content.
    pub digest: Digest,
}

layout!(FoundInput { path, digest });

/// Something in an output folder.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct TreeEntry {
    /// Path below the folder.
    pub path: Arc<str>,
    /// What it is.
    pub kind: TreeKind,
}

/// What something in an output folder is. Everything that a later step could see of it is here, so
/// that a folder that comes from the store is the same as one that was just made.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum TreeKind {
    /// A file.
    File {
        /// Its content.
        digest: Digest,
        /// Whether it may be executed.
        executable: bool,
    },
    /// A symbolic link.
    Link {
        /// Where it leads, as it is written.
        target: Arc<str>,
    },
    /// A folder with nothing in it. Other folders follow from the paths of what is in them.
    EmptyFolder,
}

/// An output's content.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum OutputRecord {
    /// A file.
    File {
        /// Its content.
        digest: Digest,
        /// Whether it may be executed.
        executable: bool,
    },
    /// A folder: what is in it, sorted by path.
    Folder(Vec<TreeEntry>),
}

impl OutputRecord {
    /// The contents of its files, and whether each may be executed.
    pub fn contents(&self) -> Vec<(Digest, bool)> {
        match self {
            OutputRecord::File { digest, executable } => vec![(*digest, *executable)],
            OutputRecord::Folder(entries) => entries
                .iter()
                .filter_map(|entry| match entry.kind {
                    TreeKind::File { digest, executable } => Some((digest, executable)),
                    TreeKind::Link { .. } | TreeKind::EmptyFolder => None,
                })
                .collect(),
        }
    }

    /// A digest of the whole output: content and whether it may be executed.
    pub fn digest(&self) -> Digest {
        let mut out = Encoder::new();
        match self {
            OutputRecord::File {
                digest,
                executable: false,
            } => return *digest,
            OutputRecord::File {
                digest,
                executable: true,
            } => {
                out.text("executable");
                out.digest(digest);
            }
            OutputRecord::Folder(entries) => {
                out.text("folder");
                entries.write(&mut out);
            }
        }
        Digest::of(&out.bytes)
    }
}

/// 0 or 1 (executable) and a digest, or 2 and what is in a folder.
impl Layout for OutputRecord {
    fn write(&self, out: &mut Encoder) {
        match self {
            OutputRecord::File { digest, executable } => {
                executable.write(out);
                digest.write(out);
            }
            OutputRecord::Folder(entries) => {
                out.u8(2);
                entries.write(out);
            }
        }
    }

    fn read(from: &mut Decoder<'_>) -> Result<OutputRecord, Truncated> {
        Ok(match from.u8()? {
            flag @ (0 | 1) => OutputRecord::File {
                executable: flag == 1,
                digest: from.digest()?,
            },
            2 => {
                let entries = Vec::read(from)?;
                // Who made the bytes may be anybody who may write a line of a shared cache, or work
                // for others.
                if !can_be_a_folder(&entries) {
                    return Err(Truncated);
                }
                OutputRecord::Folder(entries)
            }
            _ => return Err(Truncated),
        })
    }
}

/// What a result rests on of the machine that made it, besides what identifies its step.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub enum Basis {
    /// Nobody looked: the result counts on this machine only.
    #[default]
    Unnoted,
    /// Contents of the store that say it, sorted.
    Noted(Vec<Digest>),
    /// It cannot be said, and why: the result counts on this machine only.
    Unfit(Arc<str>),
}

layout!(enum Basis { 0 => Unnoted, 1 => Noted(parts), 2 => Unfit(why) });

/// Where a result comes from.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub enum Provenance {
    /// A step of this machine.
    #[default]
    Here,
    /// A shared store: it counts where that store is used, and where the machine is as the result
    /// needs it.
    Shared {
        /// The digest of the key by which the store's people are known.
        root: Digest,
        /// The public key of who signed it.
        writer: [u8; 32],
    },
    /// A file of results that a person had read: it counts where the machine is as the result needs
    /// it.
    Loaded,
}

layout!(enum Provenance { 0 => Here, 1 => Shared { root, writer }, 2 => Loaded });

/// One result of a step: of several, the one whose found inputs are as they were.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct RecordEntry {
    /// What the commands listed as read, sorted by path. Empty where they list nothing.
    pub found: Vec<FoundInput>,
    /// Digest of the names of all candidates at that time.
    pub candidate_names: Digest,
    /// Candidates that were there, were not read, and whose being there mattered.
    pub passed_over: Vec<Arc<str>>,
    /// The outputs in the order of the step.
    pub outputs: Vec<OutputRecord>,
    /// What the commands printed.
    pub printed: Vec<u8>,
    /// How long they took, in microseconds.
    pub micros: u64,
    /// What it rests on of the machine.
    pub basis: Basis,
    /// Where it comes from.
    pub origin: Provenance,
}

// A record says where each of its results comes from; to others it is a result of who signs it.
layout!(RecordEntry { found, candidate_names, passed_over, outputs, printed, micros, basis } without {
    origin: Provenance::Here,
});

/// How many results are kept under one key.
pub const RESULTS_PER_KEY: usize = 8;

/// Results kept under one key, the newest first.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Record {
    /// The results.
    pub entries: Vec<RecordEntry>,
}

/// Whether entries are of one folder as a listing of it would give them: plain paths, sorted, each
/// once, nothing below something that is no folder, and links that lead to places in it or to the
/// system.
fn can_be_a_folder(entries: &[TreeEntry]) -> bool {
    let is_sorted = entries.is_sorted_by(|one, next| one.path < next.path);
    let is_fine = |entry: &TreeEntry| match &entry.kind {
        TreeKind::Link { target } => nubrik_disk::leads_inside(&entry.path, target),
        TreeKind::File { .. } | TreeKind::EmptyFolder => true,
    };
    if !is_sorted
        || !entries
            .iter()
            .all(|entry| is_plain(&entry.path) && is_fine(entry))
    {
        return false;
    }
    // In the order of their names, all that is below something comes right after it.
    let mut by_names: Vec<&str> = entries.iter().map(|entry| &*entry.path).collect();
    by_names.sort_unstable_by(|one, other| one.split('/').cmp(other.split('/')));
    let is_below = |path: &str, above: &str| {
        path.strip_prefix(above)
            .is_some_and(|rest| rest.starts_with('/'))
    };
    by_names.windows(2).all(|pair| !is_below(pair[1], pair[0]))
}

/// Whether a path leads below the folder that it is in, by names alone.
fn is_plain(path: &str) -> bool {
    path.split('/')
        .all(|name| !matches!(name, "" | "." | "..") && !name.contains('\0'))
}

layout!(TreeEntry { path, kind });

/// 0 or 1 (executable) and a digest, 2 and where a link leads, or 3.
impl Layout for TreeKind {
    fn write(&self, out: &mut Encoder) {
        match self {
            TreeKind::File { digest, executable } => {
                executable.write(out);
                digest.write(out);
            }
            TreeKind::Link { target } => {
                out.u8(2);
                target.write(out);
            }
            TreeKind::EmptyFolder => out.u8(3),
        }
    }

    fn read(from: &mut Decoder<'_>) -> Result<TreeKind, Truncated> {
        Ok(match from.u8()? {
            flag @ (0 | 1) => TreeKind::File {
                executable: flag == 1,
                digest: from.digest()?,
            },
            2 => TreeKind::Link {
                target: Layout::read(from)?,
            },
            3 => TreeKind::EmptyFolder,
            _ => return Err(Truncated),
        })
    }
}

impl Record {
    /// The record as bytes: magic, version, the key that it is kept under, entries, and a digest of
    /// all that. With the key in it, a record that lies in another one's place is not taken for
    /// that.
    pub fn encode(&self, key: &Digest) -> Vec<u8> {
        let mut out = Encoder::new();
        out.bytes.extend_from_slice(MAGIC);
        out.u8(VERSION);
        out.digest(key);
        out.list(&self.entries, |out, entry| {
            entry.write(out);
            entry.origin.write(out);
        });
        let check = Digest::of(&out.bytes);
        out.digest(&check);
        out.bytes
    }

    /// The record that bytes hold for a key.
    ///
    /// # Errors
    /// When they are damaged, of another version, or of another key.
    pub fn decode(bytes: &[u8], key: &Digest) -> Result<Record, Truncated> {
        let (body, check) = bytes
            .split_at_checked(bytes.len().saturating_sub(32))
            .ok_or(Truncated)?;
        if check != Digest::of(body).0
            || body.get(..4) != Some(MAGIC)
            || body.get(4) != Some(&VERSION)
        {
            return Err(Truncated);
        }
        let mut from = Decoder::new(&body[5..]);
        if from.digest()? != *key {
            return Err(Truncated);
        }
        let entries = from.list(|from| {
            let (entry, origin) = (RecordEntry::read(from)?, Provenance::read(from)?);
            Ok(RecordEntry { origin, ..entry })
        })?;
        if from.is_at_end() {
            Ok(Record { entries })
        } else {
            Err(Truncated)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sample() -> Record {
        Record {
            entries: vec![RecordEntry {
                found: vec![FoundInput {
                    path: "a.h".into(),
                    digest: Digest::of(b"a"),
                }],
                candidate_names: Digest::of(b"n"),
                passed_over: vec!["b.h".into()],
                outputs: vec![
                    OutputRecord::File {
                        digest: Digest::of(b"o"),
                        executable: true,
                    },
                    OutputRecord::Folder(vec![
                        TreeEntry {
                            path: "x/y".into(),
                            kind: TreeKind::File {
                                digest: Digest::of(b"y"),
                                executable: false,
                            },
                        },
                        TreeEntry {
                            path: "x/z".into(),
                            kind: TreeKind::Link { target: "y".into() },
                        },
                        TreeEntry {
                            path: "z".into(),
                            kind: TreeKind::EmptyFolder,
                        },
                    ]),
                ],
                printed: b"warning".to_vec(),
                micros: 12,
                basis: Basis::Noted(vec![Digest::of(b"part")]),
                origin: Provenance::Shared {
                    root: Digest::of(b"root"),
                    writer: [7; 32],
                },
            }],
        }
    }

    #[test]
    fn reads_back_what_was_written() {
        let key = Digest::of(b"key");
        assert_eq!(
            Record::decode(&sample().encode(&key), &key).unwrap(),
            sample()
        );
        assert_eq!(
            Record::decode(&sample().encode(&key), &Digest::of(b"other")),
            Err(Truncated)
        );
    }

    #[test]
    fn folders_that_no_listing_gives_are_not_read() {
        let file = |path: &str| TreeEntry {
            path: path.into(),
            kind: TreeKind::File {
                digest: Digest::of(b"y"),
                executable: false,
            },
        };
        let link = |path: &str, to: &str| TreeEntry {
            path: path.into(),
            kind: TreeKind::Link { target: to.into() },
        };
        let is_read = |entries: &[TreeEntry]| {
            let folder = OutputRecord::Folder(entries.to_vec());
            OutputRecord::of_bytes(&folder.to_bytes()) == Ok(folder)
        };
        assert!(
            is_read(&[]) && is_read(&[file("a-b"), file("a/b"), file("a/c"), link("b", "a/c")])
        );
        // Through a link, or a file, whatever else has a name between the two.
        assert!(!is_read(&[link("zz", "a"), file("zz/profile")]));
        assert!(!is_read(&[
            link("zz", "a"),
            file("zz-x"),
            file("zz/profile")
        ]));
        assert!(
            !is_read(&[link("zz", "a"), file("zz/deep/er")]) && !is_read(&[file("a"), file("a/b")])
        );
        for path in [
            "", ".", "..", "../x", "a/../b", "/etc/x", "a//b", "a/", "a\0b",
        ] {
            assert!(!is_read(&[file(path)]), "{path:?}");
        }
        assert!(!is_read(&[file("b"), file("a")]) && !is_read(&[file("a"), file("a")]));
        assert!(!is_read(&[link("a", "../x")]) && !is_read(&[link("a", "/home/ebba/.profile")]));
    }

    #[test]
    fn layout_is_fixed() {
        // A change here is a change of format: raise VERSION, and describe it in docs/formats.md.
        let digest = Digest::of(&sample().encode(&Digest::of(b"key"))).hex();
        assert_eq!(&digest[..16], "f200c238ef1fcd0a");
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn damage_is_noticed(at in 0usize..300, flip in 1u8..=255) {
            let key = Digest::of(b"key");
            let mut bytes = sample().encode(&key);
            let at = at % bytes.len();
            bytes[at] ^= flip;
            prop_assert_eq!(Record::decode(&bytes, &key), Err(Truncated));
        }

        #[test]
        fn any_bytes_are_survived(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let mut from = Decoder::new(&bytes);
            let _ = Vec::<OutputRecord>::read(&mut from);
            let _ = Record::decode(&bytes, &Digest::of(b"key"));
        }
    }
}
