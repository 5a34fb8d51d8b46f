//! Contents on their way to a store, while a build goes on. What was put is written down, so that a
//! build that was cut off puts nothing twice.

use std::collections::BTreeSet;
use std::fs;
use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use nubrik_bytes::{Decoder, Digest, Encoder, Layout};
use nubrik_store::LocalStore;
use parking_lot::Mutex;

use crate::aligned;
use crate::bundle::{PACK, SMALL, squeezed};
use crate::fetching::NearContents;
use crate::index::object;
use crate::pack::{ClosedPack, GrowingPack};
use crate::segment::{ContentSpot, Shortcuts, Spots};
use crate::shelf::{SharedStore, SharedTrouble};

/// About so many packs of bytes wait in memory until they are put.
const WAITING: usize = 4;

/// What leads to a content from another one is put if it is shorter than the content by at least
/// this factor.
const WORTH: u64 = 2;

/// Contents of at least so many bytes are laid beside others one after another.
const LARGE: u64 = 16 << 20;

/// What was put longer ago than this and is behind no head may have been removed.
const REMEMBERED: Duration = Duration::from_secs(12 * 3600);

/// How often who waits looks whether all is put.
const LOOK: Duration = Duration::from_millis(2);

/// What was put so far.
#[derive(Clone, Default)]
pub(crate) struct Uploaded {
    /// Where contents are that were not there before.
    pub spots: Spots,
    /// What leads to them from others.
    pub shortcuts: Shortcuts,
    /// Contents that this machine has no more.
    pub lost: BTreeSet<Digest>,
    pub contents: usize,
    pub moved: u64,
    pub raw: u64,
    pub trouble: Option<SharedTrouble>,
}

/// An object to be put, and the contents in it.
struct Parcel {
    name: String,
    bytes: Vec<u8>,
    contents: Vec<(Digest, ContentSpot)>,
}

impl Parcel {
    fn of(
        ClosedPack {
            digest,
            bytes,
            contents,
        }: ClosedPack,
    ) -> Parcel {
        Parcel {
            name: object("packs", &digest),
            bytes,
            contents,
        }
    }
}

/// What is wanted of who puts contents.
enum Offer {
    /// A content, and whether it may be executed.
    Content(Digest, bool),
    /// What leads to a content from another one, which was at the same place before.
    Shortcut { new: Digest, old: Digest },
}

/// What all that work on it share.
struct UploadWork {
    shared: Arc<SharedStore>,
    local: Arc<LocalStore>,
    done: Mutex<Uploaded>,
    is_late: AtomicBool,
}

/// Puts contents in the background.
pub struct Uploads {
    shared_work: Arc<UploadWork>,
    /// Who works on it, once anything was offered.
    work: Mutex<Option<(Sender<Offer>, JoinHandle<()>)>>,
}

fn journal_of(shared: &SharedStore) -> PathBuf {
    shared.accepted().cache.join("uploaded")
}

/// What was put before and is behind no head yet.
fn remembered(shared: &SharedStore) -> Spots {
    let journal = journal_of(shared);
    let changed = fs::metadata(&journal).and_then(|data| data.modified());
    if !changed.is_ok_and(|time| time.elapsed().is_ok_and(|age| age < REMEMBERED)) {
        return Spots::new();
    }
    let bytes = fs::read(&journal).unwrap_or_default();
    let mut from = Decoder::new(&bytes);
    let mut spots = Spots::new();
    // The last row may be cut off.
    while let Ok((digest, spot)) = <(Digest, ContentSpot)>::read(&mut from) {
        spots.insert(digest, spot);
    }
    spots
}

impl Uploads {
    /// Waits for contents.
    pub fn new(shared: Arc<SharedStore>, local: Arc<LocalStore>) -> Uploads {
        let shared_work = UploadWork {
            shared,
            local,
            done: Mutex::default(),
            is_late: AtomicBool::new(false),
        };
        Uploads {
            shared_work: Arc::new(shared_work),
            work: Mutex::default(),
        }
    }

    /// Says that a content will be needed there.
    pub(crate) fn offer(&self, digest: Digest, executable: bool) {
        self.send(Offer::Content(digest, executable));
    }

    /// Says that a content was at a place where another one was before.
    pub(crate) fn offer_shortcut(&self, new: Digest, old: Digest) {
        self.send(Offer::Shortcut { new, old });
    }

    fn send(&self, offer: Offer) {
        let mut work = self.work.lock();
        let (sender, _) = work.get_or_insert_with(|| {
            let (sender, offered) = channel();
            let shared_work = self.shared_work.clone();
            (
                sender,
                std::thread::spawn(move || shared_work.work(&offered)),
            )
        });
        // Who does not listen any more has failed, and says so at the end.
        let _ = sender.send(offer);
    }

    /// Waits until all that was offered is put, or until a time; then nothing more is. Gives what
    /// was put since the last time.
    pub(crate) fn finish(&self, until: Option<Instant>) -> Uploaded {
        let Some((sender, thread)) = self.work.lock().take() else {
            return Uploaded::default();
        };
        drop(sender);
        while !thread.is_finished() && until.is_none_or(|until| Instant::now() < until) {
            std::thread::sleep(LOOK);
        }
        self.shared_work.is_late.store(true, Ordering::Relaxed);
        if thread.join().is_err() {
            let problem = "what puts contents there has ended too early".to_owned();
            self.shared_work
                .done
                .lock()
                .trouble
                .get_or_insert(SharedTrouble::Machine(problem));
        }
        self.shared_work.is_late.store(false, Ordering::Relaxed);
        std::mem::take(&mut *self.shared_work.done.lock())
    }

    /// Forgets what was put: a head leads to it now.
    pub(crate) fn forget(&self) {
        let _ = fs::remove_file(journal_of(&self.shared_work.shared));
    }
}

impl UploadWork {
    fn is_over(&self) -> bool {
        self.is_late.load(Ordering::Relaxed) || self.done.lock().trouble.is_some()
    }

    fn work(&self, offered: &Receiver<Offer>) {
        let before = remembered(&self.shared);
        let mut packing = Packing::default();
        let mut shortcuts: Vec<(Digest, Digest)> = Vec::new();
        for offer in offered {
            match offer {
                _ if self.is_over() => {}
                Offer::Content(digest, executable) => {
                    self.take(digest, executable, &before, &mut packing)
                }
                Offer::Shortcut { new, old } => shortcuts.push((new, old)),
            }
        }
        packing.close();
        self.put(&std::mem::take(&mut packing.parcels));
        // Those of large files one after another: both files and an index of one are in memory.
        let (small, large): (Vec<_>, Vec<_>) = shortcuts
            .into_iter()
            .filter_map(|(new, old)| Some((new, old, *packing.large.get(&new)?)))
            .partition(|(_, _, spot)| spot.raw < LARGE);
        self.shared
            .wire
            .each(&small, |(new, old, spot)| self.put_shortcut(new, old, spot));
        large
            .iter()
            .for_each(|(new, old, spot)| self.put_shortcut(new, old, spot));
    }

    /// Compresses a content that is not there yet.
    fn take(&self, digest: Digest, executable: bool, before: &Spots, packing: &mut Packing) {
        if !packing.seen.insert(digest) || self.shared.has(&digest) {
            return;
        }
        if let Some(spot) = before.get(&digest) {
            self.done.lock().spots.insert(digest, *spot);
            return;
        }
        let near = self.local.content(&digest, executable);
        // What workers made may be there only for a while.
        let Some(bytes) = near.or_else(|| self.content(&digest)) else {
            self.done.lock().lost.insert(digest);
            return;
        };
        match squeezed(&bytes) {
            Ok(frame) => packing.add(digest, frame, bytes.len() as u64),
            Err(e) => self.fail(&e),
        }
        if packing
            .parcels
            .iter()
            .map(|parcel| parcel.bytes.len())
            .sum::<usize>()
            >= WAITING * PACK
        {
            self.put(&std::mem::take(&mut packing.parcels));
        }
    }

    fn fail(&self, error: &std::io::Error) {
        let problem = format!("what is to be shared cannot be compressed: {error}");
        self.done
            .lock()
            .trouble
            .get_or_insert(SharedTrouble::Machine(problem));
    }

    fn content(&self, digest: &Digest) -> Option<Vec<u8>> {
        self.local
            .read(digest)
            .or_else(|| self.shared.content(digest))
    }

    /// Puts what leads from one content to another one, where that is worth it.
    fn put_shortcut(&self, new: &Digest, old: &Digest, spot: &ContentSpot) {
        if self.is_over() {
            return;
        }
        let (Some(old_bytes), Some(new_bytes)) = (self.content(old), self.content(new)) else {
            return;
        };
        if old_bytes.len().max(new_bytes.len()) as u64 >= aligned::LIMIT {
            return;
        }
        let bytes = match aligned::difference(&old_bytes, &new_bytes) {
            Ok(bytes) => bytes,
            Err(e) => return self.fail(&e),
        };
        let length = bytes.len() as u64;
        if length >= spot.stored / WORTH {
            return;
        }
        let digest = Digest::of(&bytes);
        self.put(&[Parcel {
            name: object("differences", &digest),
            bytes,
            contents: Vec::new(),
        }]);
        if !self.is_over() {
            self.done
                .lock()
                .shortcuts
                .insert((*new, *old), (digest, length));
        }
    }

    /// Puts objects, and writes down what is there then.
    fn put(&self, parcels: &[Parcel]) {
        self.shared.wire.each(parcels, |parcel| {
            if self.is_late.load(Ordering::Relaxed) || self.done.lock().trouble.is_some() {
                return;
            }
            let put = self.shared.put(&parcel.name, &parcel.bytes);
            let mut done = self.done.lock();
            if let Err(trouble) = put {
                done.trouble.get_or_insert(trouble);
                return;
            }
            let mut rows = Encoder::new();
            parcel.contents.iter().for_each(|row| row.write(&mut rows));
            let journal = journal_of(&self.shared);
            let written = journal
                .parent()
                .map(fs::create_dir_all)
                .transpose()
                .and_then(|_| {
                    fs::File::options()
                        .create(true)
                        .append(true)
                        .open(&journal)?
                        .write_all(&rows.bytes)
                });
            // What is not written down is put once more if this build is cut off.
            let _ = written;
            done.contents += parcel.contents.len();
            done.moved += parcel.bytes.len() as u64;
            done.raw += parcel
                .contents
                .iter()
                .map(|(_, spot)| spot.raw)
                .sum::<u64>();
            done.spots.extend(parcel.contents.iter().copied());
        });
    }
}

/// Contents that are being put together.
#[derive(Default)]
struct Packing {
    seen: BTreeSet<Digest>,
    pack: GrowingPack,
    parcels: Vec<Parcel>,
    /// Contents that are objects of their own.
    large: Spots,
}

impl Packing {
    /// Adds a content, compressed, of so many bytes.
    fn add(&mut self, digest: Digest, frame: Vec<u8>, raw: u64) {
        let stored = frame.len() as u64;
        if raw >= SMALL {
            let spot = ContentSpot {
                pack: None,
                at: 0,
                stored,
                raw,
            };
            self.large.insert(digest, spot);
            let name = object("contents", &digest);
            self.parcels.push(Parcel {
                name,
                bytes: frame,
                contents: vec![(digest, spot)],
            });
            return;
        }
        let closed = self.pack.add(digest, &frame, raw);
        self.parcels.extend(closed.map(Parcel::of));
    }

    /// Makes a parcel of what is in the pack.
    fn close(&mut self) {
        self.parcels.extend(self.pack.close().map(Parcel::of));
    }
}
