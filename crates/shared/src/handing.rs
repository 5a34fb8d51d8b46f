//! Contents that go from one machine to another without being behind a head: what a job needs, and
//! what came of it.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::PathBuf;

use nubrik_bytes::{Decoder, Digest, Encoder, Layout};
use nubrik_store::LocalStore;
use parking_lot::Mutex;

use crate::bundle::{SMALL, content, squeezed};
use crate::fetching::NearContents;
use crate::index::{HANDED, object, object_with};
use crate::pack::{ClosedPack, GrowingPack};
use crate::publish::damaged;
use crate::segment::ContentSpot;
use crate::shelf::{HandedSpots, SharedStore, SharedTrouble};

/// Where a content is, as rows say it.
enum RowKind {
    /// A head leads there.
    Headed = 0,
    /// It was handed over.
    Handed = 1,
    /// It is in the row itself.
    Carried = 2,
}

/// A row that was read.
enum HeardRow<'r> {
    /// Where a content is, and whether no head leads there.
    At(Digest, ContentSpot, bool),
    /// A content: how many bytes it has, and its frame.
    Carried(Digest, u64, &'r [u8]),
}

/// How many bytes of what was heard are kept for later builds.
const TOLD_LIMIT: u64 = 8 << 20;

/// The most contents that one job may name.
const MOST: usize = 1 << 20;

impl SharedStore {
    /// Where a content is, as heads or others say.
    pub(crate) fn spot(&self, digest: &Digest) -> Option<ContentSpot> {
        self.headed_spot(digest)
            .or_else(|| self.handed().lock().get(digest).map(|(spot, _)| *spot))
    }

    /// The object that a content is in, or that it is.
    pub(crate) fn object_of(&self, digest: &Digest, spot: &ContentSpot) -> String {
        let is_handed = || {
            self.handed()
                .lock()
                .get(digest)
                .is_some_and(|(_, is_handed)| *is_handed)
        };
        let is_handed = self.index().spot(digest).is_none() && is_handed();
        match (&spot.pack, is_handed) {
            (Some(pack), true) => object(HANDED, pack),
            (None, true) => object(HANDED, digest),
            (_, false) => object_with(digest, spot),
        }
    }

    /// Brings contents there that are not, and gives bytes that say where all of them are. Up to
    /// `aboard` compressed bytes of small ones are in these bytes themselves, the first time that
    /// they are handed over: what is wanted more than once is better put.
    ///
    /// # Errors
    /// When one cannot be put, or this machine has none of that digest.
    pub fn hand_over(
        &self,
        contents: &[Digest],
        local: &LocalStore,
        aboard: usize,
    ) -> Result<Vec<u8>, SharedTrouble> {
        let mut rows = Encoder::new();
        let mut left = aboard;
        let mut known: BTreeMap<Digest, Option<ContentSpot>> = BTreeMap::new();
        for digest in contents {
            known.entry(*digest).or_insert_with(|| self.spot(digest));
        }
        let mut pack = GrowingPack::default();
        for (digest, _) in known.iter().filter(|(_, spot)| spot.is_none()) {
            let missing = || {
                SharedTrouble::Machine(format!(
                    "the content {} is not kept here",
                    &digest.hex()[..12]
                ))
            };
            let bytes = local.read(digest).ok_or_else(missing)?;
            let frame = squeezed(&bytes).map_err(damaged)?;
            let (stored, raw) = (frame.len() as u64, bytes.len() as u64);
            if raw < SMALL && frame.len() <= left && self.carried.lock().insert(*digest) {
                left -= frame.len();
                rows.u8(RowKind::Carried as u8);
                digest.write(&mut rows);
                rows.u64(raw);
                rows.bytes(&frame);
                continue;
            }
            if raw >= SMALL {
                self.put(&object(HANDED, digest), &frame)?;
                self.handed().lock().insert(
                    *digest,
                    (
                        ContentSpot {
                            pack: None,
                            at: 0,
                            stored,
                            raw,
                        },
                        true,
                    ),
                );
                continue;
            }
            self.put_handed(pack.add(*digest, &frame, raw))?;
        }
        self.put_handed(pack.close())?;
        for digest in known.keys() {
            if let Some(spot) = self.spot(digest) {
                let is_handed = self.index().spot(digest).is_none();
                let is_handed =
                    is_handed && self.handed().lock().get(digest).is_some_and(|(_, is)| *is);
                write_spot(&mut rows, digest, &spot, is_handed);
            }
        }
        Ok(rows.bytes)
    }

    /// Brings bytes there that are too many for a message, and gives their digest.
    ///
    /// # Errors
    /// When they cannot be put.
    pub fn hand_over_bytes(&self, bytes: &[u8]) -> Result<Digest, SharedTrouble> {
        let digest = Digest::of(bytes);
        self.put(&object(HANDED, &digest), bytes)?;
        Ok(digest)
    }

    /// Bytes that somebody handed over, of a digest and at most so many; `None` where they cannot
    /// be had.
    pub fn handed_bytes(&self, digest: &Digest, limit: u64) -> Option<Vec<u8>> {
        let bytes = self.get(&object(HANDED, digest), None, limit)?;
        (Digest::of(&bytes) == *digest).then_some(bytes)
    }

    /// Removes what was handed over so long ago, in seconds, where the store is a folder. Gives how
    /// many objects.
    ///
    /// # Errors
    /// When one of them cannot be removed.
    pub(crate) fn remove_jobs(&self, older: u64) -> Result<usize, SharedTrouble> {
        self.remove_older(HANDED, self.now().saturating_sub(older))
    }

    fn put_handed(&self, pack: Option<ClosedPack>) -> Result<(), SharedTrouble> {
        let Some(ClosedPack {
            digest,
            bytes,
            contents,
        }) = pack
        else {
            return Ok(());
        };
        self.put(&object(HANDED, &digest), &bytes)?;
        self.handed().lock().extend(
            contents
                .into_iter()
                .map(|(content, spot)| (content, (spot, true))),
        );
        Ok(())
    }

    /// Where contents are to which no head leads, as far as that was heard.
    fn handed(&self) -> &Mutex<HandedSpots> {
        self.handed.get_or_init(|| {
            let bytes = std::fs::read(self.told_file()).unwrap_or_default();
            let spots = rows_of(&bytes).filter_map(|row| match row {
                HeardRow::At(digest, spot, is_handed) => Some((digest, (spot, is_handed))),
                HeardRow::Carried(..) => None,
            });
            Mutex::new(spots.collect())
        })
    }

    fn told_file(&self) -> PathBuf {
        self.accepted().cache.join("heard")
    }

    /// The same as [`SharedStore::learn`], and for later builds, too: what others made and was not
    /// fetched is found by them.
    pub fn learn_for_later(&self, rows: &[u8], local: &LocalStore) {
        self.learn(rows, local);
        // What is in the rows themselves is kept already.
        let mut spots = Encoder::new();
        for row in rows_of(rows) {
            if let HeardRow::At(digest, spot, is_handed) = row {
                write_spot(&mut spots, &digest, &spot, is_handed);
            }
        }
        let file = self.told_file();
        let length = std::fs::metadata(&file).map_or(0, |data| data.len());
        // What is forgotten so is made again if it was not fetched by then.
        let is_full = length > TOLD_LIMIT;
        let mut how = std::fs::File::options();
        how.create(true)
            .write(true)
            .append(!is_full)
            .truncate(is_full);
        let written = std::fs::create_dir_all(&self.accepted().cache)
            .and_then(|()| how.open(&file))
            .and_then(|mut file| file.write_all(&spots.bytes));
        // Where it cannot be written, later builds make again what was not fetched.
        let _ = written;
    }

    /// Takes note of where contents are, as someone said who may, and keeps those that came with
    /// that. Whatever comes from there has the right digest, or does not count.
    pub fn learn(&self, rows: &[u8], local: &LocalStore) {
        for row in rows_of(rows) {
            match row {
                HeardRow::At(digest, spot, is_handed) => {
                    self.handed().lock().insert(digest, (spot, is_handed));
                }
                HeardRow::Carried(digest, raw, frame) if raw < SMALL && !local.has(&digest) => {
                    if let Some(bytes) = content(frame, raw, &digest) {
                        // What cannot be kept is missing when it is wanted.
                        let _ = local.keep_content(&bytes, &digest, false);
                    }
                }
                HeardRow::Carried(..) => {}
            }
        }
    }
}

/// Writes where a content is.
fn write_spot(rows: &mut Encoder, digest: &Digest, spot: &ContentSpot, is_handed: bool) {
    rows.u8(if is_handed {
        RowKind::Handed
    } else {
        RowKind::Headed
    } as u8);
    digest.write(rows);
    spot.write(rows);
}

/// Rows as far as they can be read.
fn rows_of(rows: &[u8]) -> impl Iterator<Item = HeardRow<'_>> {
    let mut from = Decoder::new(rows);
    let row = move || {
        let kind = from.u8().ok()?;
        let digest = from.digest().ok()?;
        if kind == RowKind::Carried as u8 {
            let raw = from.u64().ok()?;
            return Some(HeardRow::Carried(digest, raw, from.bytes().ok()?));
        }
        let spot = ContentSpot::read(&mut from).ok()?;
        let is_handed = kind == RowKind::Handed as u8;
        (is_handed || kind == RowKind::Headed as u8)
            .then_some(HeardRow::At(digest, spot, is_handed))
    };
    std::iter::from_fn(row).take(MOST)
}
