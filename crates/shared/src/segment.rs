//! Segments: records of results by their keys, and where the contents are that they name.

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, OnceLock};

use nubrik_bytes::{Decoder, Digest, Encoder, Layout, Truncated, layout};
use nubrik_store::RecordEntry;
use parking_lot::Mutex;

use crate::bundle::{Squeezer, expanded, expanded_after, squeezed};

const VERSION: u8 = 3;

/// Segments of this version have no dictionary.
const WITHOUT_DICTIONARY: u8 = 2;

/// How many bytes of records are compressed together.
const BLOCK: usize = 64 << 10;

/// So many bytes of records are put before each block when it is compressed, at most: records name
/// the same headers and tools again and again, more of them than a block has.
const DICTIONARY: usize = 256 << 10;

/// A dictionary has at most one byte of so many that its segment has.
const OF_ALL: usize = 8;

/// From so many records some are taken for the dictionary.
const SAMPLES: usize = 64;

/// So many blocks are held open at most.
const OPEN: usize = 512;

/// The most bytes that a block may expand to: a record is never parted.
const BLOCK_LIMIT: u64 = 64 << 20;

/// The largest segment that is taken, in bytes.
pub(crate) const SEGMENT_LIMIT: u64 = 512 << 20;

/// Where a content is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct ContentSpot {
    /// The pack that it is in; an object of its own without one.
    pub pack: Option<Digest>,
    /// Where it begins in the pack.
    pub at: u64,
    /// How many bytes it has there.
    pub stored: u64,
    /// How many bytes it has itself.
    pub raw: u64,
}

/// The results of a key, and what they were made of.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct KeyedResult {
    /// The folder of the step, which says which one it is.
    pub folder: String,
    /// What the step was made of, for comparisons: bytes that only those read who wrote them.
    pub made_of: Vec<u8>,
    /// The results.
    pub entries: Vec<RecordEntry>,
}

layout!(KeyedResult {
    folder,
    made_of,
    entries
});

/// Results by their keys.
pub(crate) type KeyedResults = BTreeMap<Digest, KeyedResult>;

/// Where contents are, by their digests.
pub(crate) type Spots = BTreeMap<Digest, ContentSpot>;

/// Objects that lead from one content to another one (the first by which they are sorted), each
/// with how many bytes it has.
pub(crate) type Shortcuts = BTreeMap<(Digest, Digest), (Digest, u64)>;

/// What a segment holds.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct SegmentParts {
    pub results: KeyedResults,
    pub spots: Spots,
    pub shortcuts: Shortcuts,
}

layout!(ContentSpot {
    pack,
    at,
    stored,
    raw
});

/// Records and spots that were read.
pub(crate) struct RecordSegment {
    packs: Vec<Digest>,
    /// By digest: the number of the pack, or none; where; how long there; how long.
    spots: Vec<(Digest, u32, u64, u64, u64)>,
    /// The beginnings of keys, sorted: in which block, and where there.
    keys: Vec<(u64, u32, u32)>,
    /// The same by the digests of the steps' folders.
    folders: Vec<(u64, u32, u32)>,
    /// What leads from one content to another one: the new one, the old one, the object, and its
    /// length.
    shortcuts: Vec<(Digest, Digest, Digest, u64)>,
    blocks: Vec<(u64, Vec<u8>)>,
    /// Some records, compressed: what was before each block when it was. Nothing where there was
    /// nothing.
    dictionary: (u64, Vec<u8>),
    open: Mutex<HashMap<u32, Option<Arc<Vec<u8>>>>>,
    /// The dictionary as it is put before blocks; nothing where it is damaged.
    before: OnceLock<Option<Vec<u8>>>,
}

layout!(RecordSegment { packs, spots, keys, folders, shortcuts, blocks, dictionary } without {
    open: Mutex::default(),
    before: OnceLock::new(),
});

/// A segment as it was before there were dictionaries.
struct PlainSegment {
    packs: Vec<Digest>,
    spots: Vec<(Digest, u32, u64, u64, u64)>,
    keys: Vec<(u64, u32, u32)>,
    folders: Vec<(u64, u32, u32)>,
    shortcuts: Vec<(Digest, Digest, Digest, u64)>,
    blocks: Vec<(u64, Vec<u8>)>,
}

layout!(PlainSegment {
    packs,
    spots,
    keys,
    folders,
    shortcuts,
    blocks
});

impl From<PlainSegment> for RecordSegment {
    fn from(plain: PlainSegment) -> RecordSegment {
        let PlainSegment {
            packs,
            spots,
            keys,
            folders,
            shortcuts,
            blocks,
        } = plain;
        let (dictionary, open, before) = Default::default();
        RecordSegment {
            packs,
            spots,
            keys,
            folders,
            shortcuts,
            blocks,
            dictionary,
            open,
            before,
        }
    }
}

/// The first bytes of a key, as they are sorted.
pub(crate) fn beginning(key: &Digest) -> u64 {
    let mut first = [0; 8];
    first.copy_from_slice(&key.0[..8]);
    u64::from_be_bytes(first)
}

/// A record as blocks have it.
fn write_record(block: &mut Encoder, key: &Digest, result: &KeyedResult) {
    key.write(block);
    result.write(block);
}

/// Records from all over a segment, so that what is in many of them is in these; nothing where
/// there are few records.
fn dictionary_of(results: &KeyedResults) -> Vec<u8> {
    // A dictionary of zstd's own kind would begin with another byte.
    let mut some = Encoder::new();
    some.u8(0);
    let mut count = 0;
    for (key, result) in results.iter().step_by(results.len() / SAMPLES + 1) {
        write_record(&mut some, key, result);
        count += 1;
        if some.bytes.len() >= DICTIONARY {
            break;
        }
    }
    let all = some.bytes.len() / count.max(1) * results.len();
    let most = if all < 2 * BLOCK {
        0
    } else {
        DICTIONARY.min(all / OF_ALL)
    };
    some.bytes.truncate(most);
    some.bytes
}

/// A segment as bytes.
///
/// # Errors
/// When something cannot be compressed.
pub(crate) fn encode(parts: &SegmentParts) -> std::io::Result<Vec<u8>> {
    let SegmentParts {
        results,
        spots,
        shortcuts,
    } = parts;
    let mut packs: Vec<Digest> = spots.values().filter_map(|spot| spot.pack).collect();
    packs.sort_unstable();
    packs.dedup();
    let mut keys: Vec<(u64, u32, u32)> = Vec::new();
    let mut folders: Vec<(u64, u32, u32)> = Vec::new();
    let mut blocks: Vec<(u64, Vec<u8>)> = Vec::new();
    let mut block = Encoder::new();
    let before = dictionary_of(results);
    let mut squeezer = Squeezer::after(&before)?;
    for (key, result) in results {
        let (number, at) = (blocks.len() as u32, block.bytes.len() as u32);
        keys.push((beginning(key), number, at));
        folders.push((beginning(&Digest::of(result.folder.as_bytes())), number, at));
        write_record(&mut block, key, result);
        if block.bytes.len() >= BLOCK {
            blocks.push((block.bytes.len() as u64, squeezer.squeezed(&block.bytes)?));
            block = Encoder::new();
        }
    }
    blocks.push((block.bytes.len() as u64, squeezer.squeezed(&block.bytes)?));
    folders.sort_unstable();
    let number = |pack: &Digest| packs.binary_search(pack).ok();
    let row = |(digest, spot): (&Digest, &ContentSpot)| {
        let number = spot
            .pack
            .as_ref()
            .and_then(number)
            .map_or(u32::MAX, |number| number as u32);
        (*digest, number, spot.at, spot.stored, spot.raw)
    };
    let spots = spots.iter().map(row).collect();
    let shortcut = |((new, old), (object, length)): (&(Digest, Digest), &(Digest, u64))| {
        (*new, *old, *object, *length)
    };
    let shortcuts = shortcuts.iter().map(shortcut).collect();
    let dictionary = (before.len() as u64, squeezed(&before)?);
    let (open, before) = Default::default();
    let segment = RecordSegment {
        packs: packs.clone(),
        spots,
        keys,
        folders,
        shortcuts,
        blocks,
        dictionary,
        open,
        before,
    };
    Ok(segment.to_version(VERSION))
}

/// Adds results of a key to others.
pub(crate) fn add(results: &mut KeyedResults, key: Digest, more: KeyedResult) {
    match results.entry(key) {
        Entry::Vacant(place) => drop(place.insert(more)),
        Entry::Occupied(mut known) => known.get_mut().entries.extend(more.entries),
    }
}

impl RecordSegment {
    /// Reads a segment.
    ///
    /// # Errors
    /// When it is damaged, or of another version.
    pub fn decode(bytes: &[u8]) -> Result<RecordSegment, Truncated> {
        let segment = match bytes.first() {
            Some(&WITHOUT_DICTIONARY) => {
                PlainSegment::of_version(bytes, WITHOUT_DICTIONARY)?.into()
            }
            _ => RecordSegment::of_version(bytes, VERSION)?,
        };
        let RecordSegment {
            spots,
            keys,
            folders,
            shortcuts,
            ..
        } = &segment;
        let is_sorted = spots.is_sorted_by_key(|spot| spot.0)
            && keys.is_sorted_by_key(|key| key.0)
            && folders.is_sorted_by_key(|folder| folder.0)
            && shortcuts.is_sorted_by_key(|shortcut| shortcut.0);
        if is_sorted {
            Ok(segment)
        } else {
            Err(Truncated)
        }
    }

    /// How many keys it has.
    pub fn len(&self) -> usize {
        self.keys.len()
    }

    fn block(&self, number: u32) -> Option<Arc<Vec<u8>>> {
        let mut open = self.open.lock();
        if open.len() >= OPEN && !open.contains_key(&number) {
            open.clear();
        }
        open.entry(number)
            .or_insert_with(|| {
                let before = self.before()?;
                let (raw, frame) = self.blocks.get(number as usize)?;
                (*raw <= BLOCK_LIMIT)
                    .then(|| expanded_after(frame, *raw, before))
                    .flatten()
                    .map(Arc::new)
            })
            .clone()
    }

    fn before(&self) -> Option<&[u8]> {
        let before = self.before.get_or_init(|| match &self.dictionary {
            (0, _) => Some(Vec::new()),
            (raw, frame) => (*raw <= DICTIONARY as u64)
                .then(|| expanded(frame, *raw))
                .flatten(),
        });
        before.as_deref()
    }

    fn read(&self, (_, block, at): (u64, u32, u32)) -> Option<(Digest, KeyedResult)> {
        let block = self.block(block)?;
        let mut from = Decoder::new(block.get(at as usize..)?);
        let mut read = || <(Digest, KeyedResult)>::read(&mut from);
        read().ok()
    }

    /// The rows of a table that begin like a digest, read.
    fn rows<'s>(
        &'s self,
        table: &'s [(u64, u32, u32)],
        like: u64,
    ) -> impl Iterator<Item = (Digest, KeyedResult)> + 's {
        let first = table.partition_point(|row| row.0 < like);
        table[first..]
            .iter()
            .take_while(move |row| row.0 == like)
            .filter_map(|row| self.read(*row))
    }

    /// The results of a key.
    pub fn results(&self, key: &Digest) -> Vec<RecordEntry> {
        let rows = self.rows(&self.keys, beginning(key));
        rows.filter(|(found, _)| found == key)
            .flat_map(|(_, result)| result.entries)
            .collect()
    }

    /// All results of a step, by its folder.
    pub fn of_folder(&self, folder: &str) -> Vec<(Digest, KeyedResult)> {
        let rows = self.rows(&self.folders, beginning(&Digest::of(folder.as_bytes())));
        rows.filter(|(_, result)| result.folder == folder).collect()
    }

    /// Where a content is.
    pub fn spot(&self, digest: &Digest) -> Option<ContentSpot> {
        let at = self.spots.binary_search_by(|row| row.0.cmp(digest)).ok()?;
        let (_, pack, at, stored, raw) = self.spots[at];
        let pack = match pack {
            u32::MAX => None,
            number => Some(*self.packs.get(number as usize)?),
        };
        Some(ContentSpot {
            pack,
            at,
            stored,
            raw,
        })
    }

    /// Packs, each with where a content in it ends.
    pub fn ends_in_packs(&self) -> impl Iterator<Item = (Digest, u64)> {
        self.spots.iter().filter_map(|(_, pack, at, stored, _)| {
            Some((*self.packs.get(*pack as usize)?, at.checked_add(*stored)?))
        })
    }

    /// Everything in it, to become part of another one.
    pub fn parts(&self) -> SegmentParts {
        let mut results = KeyedResults::new();
        for (key, result) in self.keys.iter().filter_map(|row| self.read(*row)) {
            add(&mut results, key, result);
        }
        let spots = self
            .spots
            .iter()
            .filter_map(|row| Some((row.0, self.spot(&row.0)?)))
            .collect();
        let shortcuts = self
            .shortcuts
            .iter()
            .map(|(new, old, object, bytes)| ((*new, *old), (*object, *bytes)));
        SegmentParts {
            results,
            spots,
            shortcuts: shortcuts.collect(),
        }
    }

    /// What leads to a content: from which one, the object, and how many bytes it has.
    pub fn shortcuts_to(&self, new: &Digest) -> impl Iterator<Item = (Digest, Digest, u64)> {
        let first = self.shortcuts.partition_point(|row| row.0 < *new);
        self.shortcuts[first..]
            .iter()
            .take_while(|row| row.0 == *new)
            .map(|row| (row.1, row.2, row.3))
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use std::sync::LazyLock;

    use super::*;
    use nubrik_store::{Basis, OutputRecord};
    use proptest::prelude::*;

    fn entry(number: u64) -> RecordEntry {
        RecordEntry {
            outputs: vec![OutputRecord::File {
                digest: Digest::of(&number.to_le_bytes()),
                executable: false,
            }],
            micros: number,
            basis: Basis::Noted(vec![Digest::of(b"part")]),
            ..RecordEntry::default()
        }
    }

    fn result(folder: u64, entries: Vec<RecordEntry>) -> KeyedResult {
        KeyedResult {
            folder: format!("made/{folder}"),
            made_of: vec![7; 9],
            entries,
        }
    }

    fn sample(count: u64) -> SegmentParts {
        let results = (0..count)
            .map(|n| {
                (
                    Digest::of(&n.to_be_bytes()),
                    result(n % 7, vec![entry(n), entry(n + 1)]),
                )
            })
            .collect();
        let spot = |n: u64| ContentSpot {
            pack: (!n.is_multiple_of(3)).then(|| Digest::of(&[n as u8 % 3])),
            at: n,
            stored: 9,
            raw: 12,
        };
        let spots = (0..count)
            .map(|n| (Digest::of(&n.to_le_bytes()), spot(n)))
            .collect();
        let named = |n: u64| Digest::of(&n.to_le_bytes());
        let shortcuts = (1..count)
            .map(|n| ((named(n / 2), named(n)), (Digest([n as u8; 32]), n)))
            .collect();
        SegmentParts {
            results,
            spots,
            shortcuts,
        }
    }

    #[test]
    fn everything_is_found_again() {
        let parts = sample(3_000);
        let SegmentParts {
            results,
            spots,
            shortcuts,
        } = &parts;
        let bytes = encode(&parts).unwrap();
        let segment = RecordSegment::decode(&bytes).unwrap();
        assert!(segment.blocks.len() > 3, "{}", segment.blocks.len());
        for (key, result) in results {
            assert_eq!(segment.results(key), result.entries);
        }
        let of_three = segment.of_folder("made/3");
        assert_eq!(
            of_three.len(),
            results
                .values()
                .filter(|result| result.folder == "made/3")
                .count()
        );
        assert!(
            of_three.iter().all(|(key, result)| results[key] == *result)
                && segment.of_folder("made/9").is_empty()
        );
        for (digest, spot) in spots {
            assert_eq!(segment.spot(digest), Some(*spot));
        }
        assert!(
            segment.results(&Digest::of(b"no")).is_empty()
                && segment.spot(&Digest::of(b"no")).is_none()
        );
        for ((new, old), (object, bytes)) in shortcuts {
            assert!(
                segment
                    .shortcuts_to(new)
                    .any(|found| found == (*old, *object, *bytes))
            );
        }
        assert_eq!(segment.shortcuts_to(&Digest::of(b"no")).count(), 0);
        assert_eq!(segment.parts(), parts);
    }

    /// Records of compilations that read many of the same headers.
    fn compilations(count: u64) -> SegmentParts {
        let header = |n: u64| {
            [
                format!("include/tides/{n}.h").into_bytes(),
                Digest::of(&n.to_be_bytes()).0.to_vec(),
            ]
            .concat()
        };
        let made_of = |n: u64| {
            (0..60)
                .flat_map(|h| header((n * 7 + h * h) % 300))
                .collect()
        };
        let one = |n: u64| {
            let result = KeyedResult {
                made_of: made_of(n),
                ..result(n, vec![entry(n)])
            };
            (Digest::of(&n.to_be_bytes()), result)
        };
        SegmentParts {
            results: (0..count).map(one).collect(),
            ..SegmentParts::default()
        }
    }

    #[test]
    fn what_many_records_name_is_kept_once() {
        let parts = compilations(2_000);
        let bytes = encode(&parts).unwrap();
        let segment = RecordSegment::decode(&bytes).unwrap();
        assert!(segment.dictionary.0 > 100_000 && segment.dictionary.0 <= DICTIONARY as u64);
        let each = bytes.len() / 2_000;
        assert!(
            each < 700,
            "{each} bytes for each of 60 headers with 32 bytes of digest"
        );
        assert_eq!(segment.parts(), parts);
        // Few records have none, and each block is read by itself.
        let few = compilations(8);
        let segment = RecordSegment::decode(&encode(&few).unwrap()).unwrap();
        assert_eq!((segment.dictionary.0, segment.parts()), (0, few));
    }

    #[test]
    fn segments_of_before_are_read_and_others_are_not() {
        let parts = sample(3_000);
        let RecordSegment {
            packs,
            spots,
            keys,
            folders,
            shortcuts,
            ..
        } = RecordSegment::decode(&encode(&parts).unwrap()).unwrap();
        let (mut blocks, mut block, mut at) = (Vec::new(), Encoder::new(), Vec::new());
        for (key, result) in &parts.results {
            at.push((blocks.len() as u32, block.bytes.len() as u32));
            write_record(&mut block, key, result);
            if block.bytes.len() >= BLOCK {
                blocks.push((block.bytes.len() as u64, squeezed(&block.bytes).unwrap()));
                block = Encoder::new();
            }
        }
        blocks.push((block.bytes.len() as u64, squeezed(&block.bytes).unwrap()));
        assert!(
            keys.iter().map(|key| (key.1, key.2)).eq(at),
            "they are where they were"
        );
        let plain = PlainSegment {
            packs,
            spots,
            keys,
            folders,
            shortcuts,
            blocks,
        };
        let bytes = plain.to_version(WITHOUT_DICTIONARY);
        assert_eq!(RecordSegment::decode(&bytes).unwrap().parts(), parts);
        for version in [0, 1, 4, 255] {
            let other = [&[version], &bytes[1..]].concat();
            assert!(RecordSegment::decode(&other).is_err(), "version {version}");
        }
    }

    #[test]
    fn keys_that_begin_alike_are_told_apart() {
        let (mut one, mut other) = (Digest([7; 32]), Digest([7; 32]));
        (one.0[31], other.0[31]) = (1, 2);
        let results = KeyedResults::from([
            (one, result(1, vec![entry(1)])),
            (other, result(1, vec![entry(2)])),
        ]);
        let segment = RecordSegment::decode(
            &encode(&SegmentParts {
                results,
                ..SegmentParts::default()
            })
            .unwrap(),
        )
        .unwrap();
        assert_eq!(
            (segment.results(&one), segment.results(&other)),
            (vec![entry(1)], vec![entry(2)])
        );
    }

    static SOME: LazyLock<(SegmentParts, Vec<u8>)> = LazyLock::new(|| {
        let parts = compilations(200);
        let bytes = encode(&parts).unwrap();
        (parts, bytes)
    });

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn damage_is_survived(at in 0usize..100_000, flip in 1u8..=255, cut in any::<bool>()) {
            let (parts, mut bytes) = (&SOME.0, SOME.1.clone());
            let at = at % bytes.len();
            bytes[at] ^= flip;
            let bytes = if cut { &bytes[..at] } else { &bytes };
            if let Ok(segment) = RecordSegment::decode(bytes) {
                let _ = segment.parts();
                parts.results.keys().for_each(|key| drop(segment.results(key)));
            }
        }
    }
}
