//! Results in one file, for machines that have no shared cache between them: a CI system keeps it,
//! and hands it to the next job.
//!
//! ```text
//! nbcf, byte 1               what it is, and the version
//! one stream of zstd with a checksum, which holds
//!   1, executable (a byte), digest, u64 bytes, the bytes     a content
//!   2, key, u64 bytes, a record of one result                a result, behind all its contents
//!   0, u64 contents, u64 results                             the end
//! ```
//!
//! A result comes behind the contents that it needs: of a file that broke off, all that was read is
//! right.

use std::collections::{BTreeSet, HashSet};
use std::fmt;
use std::fs::File;
use std::io::{self, Read, Write};
use std::path::Path;

use nubrik_bytes::Digest;

use crate::record::RESULTS_PER_KEY;
use crate::upkeep::contents_of;
use crate::{
    Basis, LocalStore, Opened, Provenance, Record, RecordEntry, Store, StoreError, StoredContent,
};

const MAGIC: &[u8; 4] = b"nbcf";
const VERSION: u8 = 1;

/// How hard is compressed: as contents of shared caches are.
const LEVEL: i32 = 6;

/// The largest record that is read, in bytes.
const RECORD_LIMIT: u64 = 256 << 20;

const END: u8 = 0;
const CONTENT: u8 = 1;
const RESULT: u8 = 2;

/// Why a file of results is not written or read.
#[derive(Debug)]
pub enum CacheFileProblem {
    /// It cannot be read or written.
    Unusable(io::Error),
    /// It is something else.
    NoCacheFile,
    /// A newer program wrote it.
    OtherVersion(u8),
    /// It is damaged, or not whole. What was read before is kept.
    Damaged(String),
    /// The store of this machine cannot be used.
    Store(StoreError),
}

impl fmt::Display for CacheFileProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            CacheFileProblem::Unusable(error) => error.fmt(f),
            CacheFileProblem::NoCacheFile => {
                f.write_str("it is no file that `nubrik cache save` wrote")
            }
            CacheFileProblem::OtherVersion(version) => {
                write!(
                    f,
                    "it has version {version}, and this program reads version {VERSION}"
                )
            }
            CacheFileProblem::Damaged(why) => write!(f, "it is damaged or not whole: {why}"),
            CacheFileProblem::Store(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for CacheFileProblem {}

/// What a file of results holds.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct CacheFileAmount {
    /// Results.
    pub results: u64,
    /// Contents of files.
    pub contents: u64,
    /// How many bytes these have.
    pub bytes: u64,
}

impl LocalStore {
    /// Writes results to a file: those with all their contents, each behind them. Gives what the
    /// file holds; a result of which the store lacks a content is left out.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn save_results(
        &self,
        results: &[(Digest, RecordEntry)],
        to: &mut File,
    ) -> Result<CacheFileAmount, CacheFileProblem> {
        self.write_results(results, to)
            .map_err(CacheFileProblem::Unusable)
    }

    fn write_results(
        &self,
        results: &[(Digest, RecordEntry)],
        to: &mut File,
    ) -> io::Result<CacheFileAmount> {
        to.write_all(MAGIC)?;
        to.write_all(&[VERSION])?;
        let mut out = zstd::stream::write::Encoder::new(to, LEVEL)?;
        out.include_checksum(true)?;
        let mut amount = CacheFileAmount::default();
        let mut written: HashSet<(Digest, bool)> = HashSet::new();
        for (key, entry) in results {
            let record = Record {
                entries: vec![RecordEntry {
                    origin: Provenance::Here,
                    ..entry.clone()
                }],
            };
            let contents: BTreeSet<(Digest, bool)> = contents_of(&record).collect();
            if !contents
                .iter()
                .all(|(digest, executable)| self.is_near(digest, *executable))
            {
                continue;
            }
            let mut is_whole = true;
            for (digest, executable) in contents {
                if written.contains(&(digest, executable)) {
                    continue;
                }
                match self.open(&digest, executable).map_err(|e| e.problem)? {
                    Opened::There(content) => {
                        amount.bytes += write_content(&mut out, content, &digest, executable)?;
                        amount.contents += 1;
                        written.insert((digest, executable));
                    }
                    Opened::Missing | Opened::Damaged => is_whole = false,
                }
            }
            if is_whole {
                let bytes = record.encode(key);
                out.write_all(&[RESULT])?;
                out.write_all(&key.0)?;
                out.write_all(&(bytes.len() as u64).to_le_bytes())?;
                out.write_all(&bytes)?;
                amount.results += 1;
            }
        }
        out.write_all(&[END])?;
        out.write_all(&amount.contents.to_le_bytes())?;
        out.write_all(&amount.results.to_le_bytes())?;
        out.finish()?.flush()?;
        Ok(amount)
    }

    /// Reads the results of a file into this store. They count where the machine is as they need
    /// it. Gives what was read; what of it was here already is not written again.
    ///
    /// # Errors
    /// When the file cannot be read, or is not whole. What was read before stays.
    pub fn load_results(&self, from: &Path) -> Result<CacheFileAmount, CacheFileProblem> {
        let mut file = File::open(from).map_err(CacheFileProblem::Unusable)?;
        let mut head = [0; 5];
        file.read_exact(&mut head)
            .map_err(|_| CacheFileProblem::NoCacheFile)?;
        match head.split_last() {
            Some((version, magic)) if magic == MAGIC => match *version {
                VERSION => {}
                other => return Err(CacheFileProblem::OtherVersion(other)),
            },
            _ => return Err(CacheFileProblem::NoCacheFile),
        }
        let mut from = zstd::stream::read::Decoder::new(file).map_err(damaged)?;
        let mut amount = CacheFileAmount::default();
        loop {
            let [kind] = array(&mut from)?;
            match kind {
                CONTENT => {
                    let [executable] = array(&mut from)?;
                    let (digest, bytes) = (
                        Digest(array(&mut from)?),
                        u64::from_le_bytes(array(&mut from)?),
                    );
                    self.keep_stream(&mut from, bytes, &digest, executable != 0)?;
                    amount.contents += 1;
                    amount.bytes += bytes;
                }
                RESULT => {
                    let (key, bytes) = (
                        Digest(array(&mut from)?),
                        u64::from_le_bytes(array(&mut from)?),
                    );
                    self.keep_loaded(&key, &some(&mut from, bytes)?)?;
                    amount.results += 1;
                }
                END => {
                    let counts = [
                        u64::from_le_bytes(array(&mut from)?),
                        u64::from_le_bytes(array(&mut from)?),
                    ];
                    let rest = from.read(&mut [0]).map_err(damaged)?;
                    return match counts == [amount.contents, amount.results] && rest == 0 {
                        true => Ok(amount),
                        false => Err(damaged("its end does not fit")),
                    };
                }
                other => return Err(damaged(format!("it has a part of kind {other}"))),
            }
        }
    }

    /// Keeps a content of so many bytes that are read one after the other.
    fn keep_stream(
        &self,
        from: &mut dyn Read,
        bytes: u64,
        digest: &Digest,
        executable: bool,
    ) -> Result<(), CacheFileProblem> {
        let mut content = from.take(bytes);
        if self.is_near(digest, executable) {
            let read = io::copy(&mut content, &mut io::sink()).map_err(damaged)?;
            return if read == bytes {
                Ok(())
            } else {
                Err(damaged("it breaks off"))
            };
        }
        let mut read = None;
        let kept = self.keep_written(digest, executable, |file| {
            // What cannot be read is the file's fault, and what cannot be written the store's.
            let mut piece = vec![0; 256 << 10];
            loop {
                match content.read(&mut piece) {
                    Ok(0) => return Ok(()),
                    Ok(count) => file.write_all(&piece[..count])?,
                    Err(error) => {
                        read = Some(error);
                        return Err(io::ErrorKind::InvalidData.into());
                    }
                }
            }
        });
        match (kept, read) {
            (_, Some(error)) => Err(damaged(error)),
            (Err(error), None) => Err(CacheFileProblem::Store(error)),
            (Ok(false), None) => Err(damaged("a content is not what its digest says")),
            (Ok(true), None) => Ok(()),
        }
    }

    /// Adds a result of a file to what is kept under its key.
    fn keep_loaded(&self, key: &Digest, bytes: &[u8]) -> Result<(), CacheFileProblem> {
        let read = Record::decode(bytes, key).map_err(|_| damaged("a result cannot be read"))?;
        let mut record = self.record(key).unwrap_or_default();
        for entry in read.entries {
            if !matches!(entry.basis, Basis::Noted(_)) {
                return Err(damaged("a result does not say what it rests on"));
            }
            let is_known = |known: &RecordEntry| {
                RecordEntry {
                    origin: Provenance::Here,
                    ..known.clone()
                } == RecordEntry {
                    origin: Provenance::Here,
                    ..entry.clone()
                }
            };
            if !record.entries.iter().any(is_known) {
                record.entries.push(RecordEntry {
                    origin: Provenance::Loaded,
                    ..entry
                });
            }
        }
        record.entries.truncate(RESULTS_PER_KEY);
        self.keep_record(key, &record)
            .map_err(CacheFileProblem::Store)
    }
}

fn write_content(
    out: &mut impl Write,
    content: StoredContent,
    digest: &Digest,
    executable: bool,
) -> io::Result<u64> {
    let (mut from, bytes): (Box<dyn Read>, u64) = match content {
        StoredContent::File(file) => {
            let bytes = file.metadata()?.len();
            (Box::new(file), bytes)
        }
        StoredContent::Bytes(content) => {
            let bytes = content.len() as u64;
            (Box::new(io::Cursor::new(content)), bytes)
        }
    };
    out.write_all(&[CONTENT, u8::from(executable)])?;
    out.write_all(&digest.0)?;
    out.write_all(&bytes.to_le_bytes())?;
    match io::copy(&mut from.by_ref().take(bytes), out)? {
        copied if copied == bytes => Ok(bytes),
        _ => Err(io::Error::other("a content of the cache became shorter")),
    }
}

fn damaged(why: impl ToString) -> CacheFileProblem {
    CacheFileProblem::Damaged(why.to_string())
}

fn array<const N: usize>(from: &mut dyn Read) -> Result<[u8; N], CacheFileProblem> {
    let mut bytes = [0; N];
    from.read_exact(&mut bytes).map_err(damaged)?;
    Ok(bytes)
}

fn some(from: &mut dyn Read, count: u64) -> Result<Vec<u8>, CacheFileProblem> {
    if count > RECORD_LIMIT {
        return Err(damaged("a result is too long"));
    }
    let mut bytes = Vec::new();
    from.take(count).read_to_end(&mut bytes).map_err(damaged)?;
    if bytes.len() as u64 == count {
        Ok(bytes)
    } else {
        Err(damaged("it breaks off"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::OutputRecord;
    use proptest::prelude::*;

    fn store() -> (tempfile::TempDir, LocalStore) {
        let folder = tempfile::tempdir().unwrap();
        let store = LocalStore::open(&folder.path().join("store")).unwrap();
        (folder, store)
    }

    /// A result with a content, a file that may be executed, and a note.
    fn result(store: &LocalStore, text: &str) -> (Digest, RecordEntry) {
        let output = store.keep_bytes(text.as_bytes()).unwrap();
        let program = Digest::of(b"#!/bin/sh\n");
        store.keep_content(b"#!/bin/sh\n", &program, true).unwrap();
        let note = store
            .keep_bytes(format!("rests on {text}").as_bytes())
            .unwrap();
        let entry = RecordEntry {
            outputs: vec![
                OutputRecord::File {
                    digest: output,
                    executable: false,
                },
                OutputRecord::File {
                    digest: program,
                    executable: true,
                },
            ],
            basis: Basis::Noted(vec![note]),
            ..RecordEntry::default()
        };
        (Digest::of(format!("key of {text}").as_bytes()), entry)
    }

    fn saved(store: &LocalStore, results: &[(Digest, RecordEntry)]) -> (CacheFileAmount, Vec<u8>) {
        let file = tempfile::NamedTempFile::new().unwrap();
        let amount = store
            .save_results(results, &mut file.reopen().unwrap())
            .unwrap();
        (amount, std::fs::read(file.path()).unwrap())
    }

    fn loaded(store: &LocalStore, bytes: &[u8]) -> Result<CacheFileAmount, String> {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), bytes).unwrap();
        store
            .load_results(file.path())
            .map_err(|why| why.to_string())
    }

    #[test]
    fn results_come_to_another_store() {
        let ((_one, here), (_other, there)) = (store(), store());
        let results = [result(&here, "ebb"), result(&here, "flow")];
        let (amount, bytes) = saved(&here, &results);
        // The program is there once.
        assert_eq!((amount.results, amount.contents), (2, 5));
        assert_eq!(saved(&here, &results).1, bytes);
        for _ in 0..2 {
            assert_eq!(loaded(&there, &bytes).unwrap(), amount);
            for (key, entry) in &results {
                let record = there.record(key).unwrap();
                assert_eq!(
                    record.entries,
                    [RecordEntry {
                        origin: Provenance::Loaded,
                        ..entry.clone()
                    }]
                );
                for (digest, executable) in contents_of(&record) {
                    assert!(matches!(
                        there.open(&digest, executable),
                        Ok(Opened::There(_))
                    ));
                }
            }
        }
        // One that was made here stays one that was made here.
        loaded(&here, &bytes).unwrap();
        assert!(
            here.record(&results[0].0)
                .is_none_or(|record| record.entries.len() == 1)
        );
        here.keep_record(
            &results[0].0,
            &Record {
                entries: vec![results[0].1.clone()],
            },
        )
        .unwrap();
        loaded(&here, &bytes).unwrap();
        assert_eq!(
            here.record(&results[0].0).unwrap().entries[0].origin,
            Provenance::Here
        );
    }

    #[test]
    fn a_result_without_a_content_is_left_out() {
        let (_folder, store) = store();
        let (key, entry) = result(&store, "ebb");
        let gone = OutputRecord::File {
            digest: Digest::of(b"gone"),
            executable: false,
        };
        let lacking = RecordEntry {
            outputs: vec![gone],
            ..entry.clone()
        };
        let (amount, _) = saved(&store, &[(Digest::of(b"other"), lacking), (key, entry)]);
        assert_eq!(amount.results, 1);
    }

    #[test]
    fn what_does_not_say_what_it_rests_on_is_refused() {
        let ((_one, here), (_other, there)) = (store(), store());
        for basis in [Basis::Unnoted, Basis::Unfit("it uses a service".into())] {
            let (key, entry) = result(&here, "ebb");
            let (_, bytes) = saved(&here, &[(key, RecordEntry { basis, ..entry })]);
            assert!(
                loaded(&there, &bytes)
                    .unwrap_err()
                    .contains("does not say what it rests on")
            );
            assert!(there.record(&key).is_none());
        }
    }

    #[test]
    fn a_result_that_leads_out_of_its_folder_is_refused() {
        use crate::{TreeEntry, TreeKind};
        let ((_one, here), (_other, there)) = (store(), store());
        for (path, target) in [("a", "/home/ebba"), ("a", "../../b"), ("../a", "b")] {
            let (key, entry) = result(&here, "ebb");
            let link = TreeEntry {
                path: path.into(),
                kind: TreeKind::Link {
                    target: target.into(),
                },
            };
            let entry = RecordEntry {
                outputs: vec![OutputRecord::Folder(vec![link])],
                ..entry
            };
            let (_, bytes) = saved(&here, &[(key, entry)]);
            assert!(
                loaded(&there, &bytes)
                    .unwrap_err()
                    .contains("a result cannot be read"),
                "{path} {target}"
            );
            assert!(there.record(&key).is_none());
        }
    }

    #[test]
    fn other_files_are_refused() {
        let (_folder, store) = store();
        let results = [result(&store, "ebb")];
        let (_, mut bytes) = saved(&store, &results);
        for other in [&b""[..], b"nbc", b"a text that is long enough"] {
            assert!(
                loaded(&store, other)
                    .unwrap_err()
                    .contains("no file that `nubrik cache save` wrote")
            );
        }
        bytes[4] = 9;
        assert!(
            loaded(&store, &bytes)
                .unwrap_err()
                .contains("it has version 9")
        );
        assert!(store.load_results(Path::new("/nowhere/at/all")).is_err());
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..Default::default() })]

        #[test]
        fn damage_is_noticed_and_nothing_wrong_is_kept(at in 5usize..400, flip in 1u8..=255, cut in any::<bool>()) {
            let ((_one, here), (_other, there)) = (store(), store());
            let (_, mut bytes) = saved(&here, &[result(&here, "ebb"), result(&here, "flow")]);
            let at = 5 + at % (bytes.len() - 5);
            if cut { bytes.truncate(at) } else { bytes[at] ^= flip }
            // A bit that zstd does not use may differ.
            if loaded(&there, &bytes).is_ok() {
                prop_assert!(!cut);
            }
            let verified = there.verify(1);
            prop_assert!(verified.damaged.is_empty(), "{:?}", verified.damaged);
        }
    }
}
