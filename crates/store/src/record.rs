//! What is kept of a step's results.

use std::sync::Arc;

use crate::{Decoder, Digest, Encoder, Truncated};

/// Version of the record's byte layout; a record of another version is a miss.
const VERSION: u8 = 1;
const MAGIC: &[u8; 4] = b"nbrc";

/// An input that the commands listed, with its content at that time.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct FoundInput {
    /// From the workspace's root, or absolute for a file of the system.
    pub path: Arc<str>,
    /// Its content.
    pub digest: Digest,
}

/// A file in an output folder.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct TreeEntry {
    /// Path below the folder.
    pub path: Arc<str>,
    /// Its content.
    pub digest: Digest,
    /// Whether it may be executed.
    pub executable: bool,
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
    /// A folder: its files, sorted by path.
    Folder(Vec<TreeEntry>),
}

impl OutputRecord {
    /// A digest of the whole output: content and whether it may be executed.
    pub fn digest(&self) -> Digest {
        let mut out = Encoder::new();
        match self {
            OutputRecord::File { digest, executable: false } => return *digest,
            OutputRecord::File { digest, executable: true } => {
                out.text("executable");
                out.digest(digest);
            }
            OutputRecord::Folder(entries) => {
                out.text("folder");
                encode_tree(&mut out, entries);
            }
        }
        Digest::of(&out.bytes)
    }

    /// Writes the output: 0 or 1 (executable) and a digest, or 2 and the files of a folder.
    pub fn encode(&self, out: &mut Encoder) {
        match self {
            OutputRecord::File { digest, executable } => {
                out.u8(u8::from(*executable));
                out.digest(digest);
            }
            OutputRecord::Folder(entries) => {
                out.u8(2);
                encode_tree(out, entries);
            }
        }
    }

    /// Reads an output back.
    ///
    /// # Errors
    /// When the bytes are damaged.
    pub fn decode(from: &mut Decoder<'_>) -> Result<OutputRecord, Truncated> {
        Ok(match from.u8()? {
            flag @ (0 | 1) => OutputRecord::File { executable: flag == 1, digest: from.digest()? },
            2 => OutputRecord::Folder(from.list(|from| {
                Ok(TreeEntry { path: from.text()?.into(), digest: from.digest()?, executable: from.bool()? })
            })?),
            _ => return Err(Truncated),
        })
    }
}

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
}

/// Results kept under one key, the newest first.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Record {
    /// The results.
    pub entries: Vec<RecordEntry>,
}

fn encode_tree(out: &mut Encoder, entries: &[TreeEntry]) {
    out.list(entries, |out, entry| {
        out.text(&entry.path);
        out.digest(&entry.digest);
        out.bool(entry.executable);
    });
}

impl Record {
    /// The record as bytes: magic, version, entries, and a digest of all that.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Encoder::new();
        out.bytes.extend_from_slice(MAGIC);
        out.u8(VERSION);
        out.list(&self.entries, |out, entry| {
            out.list(&entry.found, |out, found| {
                out.text(&found.path);
                out.digest(&found.digest);
            });
            out.digest(&entry.candidate_names);
            out.list(&entry.passed_over, |out, path| out.text(path));
            out.list(&entry.outputs, |out, output| output.encode(out));
            out.bytes(&entry.printed);
            out.u64(entry.micros);
        });
        let check = Digest::of(&out.bytes);
        out.digest(&check);
        out.bytes
    }

    /// The record that bytes hold.
    ///
    /// # Errors
    /// When they are damaged or of another version.
    pub fn decode(bytes: &[u8]) -> Result<Record, Truncated> {
        let (body, check) = bytes.split_at_checked(bytes.len().saturating_sub(32)).ok_or(Truncated)?;
        if check != Digest::of(body).0 || body.get(..4) != Some(MAGIC) || body.get(4) != Some(&VERSION) {
            return Err(Truncated);
        }
        let mut from = Decoder::new(&body[5..]);
        let entries = from.list(|from| {
            Ok(RecordEntry {
                found: from
                    .list(|from| Ok(FoundInput { path: from.text()?.into(), digest: from.digest()? }))?,
                candidate_names: from.digest()?,
                passed_over: from.list(|from| Ok(from.text()?.into()))?,
                outputs: from.list(OutputRecord::decode)?,
                printed: from.bytes()?.to_vec(),
                micros: from.u64()?,
            })
        })?;
        if from.is_at_end() { Ok(Record { entries }) } else { Err(Truncated) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sample() -> Record {
        Record {
            entries: vec![RecordEntry {
                found: vec![FoundInput { path: "a.h".into(), digest: Digest::of(b"a") }],
                candidate_names: Digest::of(b"n"),
                passed_over: vec!["b.h".into()],
                outputs: vec![
                    OutputRecord::File { digest: Digest::of(b"o"), executable: true },
                    OutputRecord::Folder(vec![TreeEntry {
                        path: "x/y".into(),
                        digest: Digest::of(b"y"),
                        executable: false,
                    }]),
                ],
                printed: b"warning".to_vec(),
                micros: 12,
            }],
        }
    }

    #[test]
    fn reads_back_what_was_written() {
        assert_eq!(Record::decode(&sample().encode()).unwrap(), sample());
    }

    #[test]
    fn layout_is_fixed() {
        // A change here is a change of format: raise VERSION, and describe it in docs/formats.md.
        let digest = Digest::of(&sample().encode()).hex();
        assert_eq!(&digest[..16], "031cddc0c17a0451");
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn damage_is_noticed(at in 0usize..200, flip in 1u8..=255) {
            let mut bytes = sample().encode();
            let at = at % bytes.len();
            bytes[at] ^= flip;
            prop_assert_eq!(Record::decode(&bytes), Err(Truncated));
        }

        #[test]
        fn any_bytes_are_survived(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let mut from = Decoder::new(&bytes);
            let _ = from.list(OutputRecord::decode);
            let _ = Record::decode(&bytes);
        }
    }
}
