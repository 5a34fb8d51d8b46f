//! The files of a seal: itself and its log, its graph and heap, its trails. All paths are those in the tool's own folder.

use std::fs::File;
use std::io::{self, Read, Write};
use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_confine::map_file;
use rustix::fs::{AtFlags, Dir, Mode, OFlags};

use crate::below::Below;
use crate::reading::read_open;
use crate::seal::Seal;
use crate::snapshot::Snapshot;
use crate::trails::Trails;

/// The folder of all seals.
pub(super) const FOLDER: &str = "seals";

/// How many seals are kept in a workspace.
const SEALS: usize = 16;

/// How much they may take together, in bytes.
const SEALS_SIZE: u64 = 512 << 20;

/// Endings of the files of a seal; the first is the seal itself.
const SEAL_FILES: [&str; 6] = ["", GRAPHS[0], GRAPHS[1], HEAP, TRAILS, LOG];

/// Endings of the two files in which a graph may lie: the older one is written over.
const GRAPHS: [&str; 2] = [".graph", ".graph-2"];

/// Where what its steps and targets are lies.
const HEAP: &str = ".heap";

/// Where what its declarations' values were taken from lies.
const TRAILS: &str = ".trails";

/// Where later changes of a seal lie.
const LOG: &str = ".log";

/// The log of a seal may grow to this size before the seal is written anew, in bytes.
const LOG_LIMIT: u64 = 256 << 10;

/// What went wrong with a file.
pub(super) type FileProblem = (String, io::Error);

/// Writes a file over what is there: giving a file's blocks back is slow on some disks. One that is written
/// in part only is not taken for whole, by its digest.
fn write_over(own: &Below, path: &str, bytes: &[u8]) -> io::Result<()> {
    let mut file = match own.open(path, OFlags::CREATE | OFlags::WRONLY) {
        Ok(file) => file,
        // What stands there is no file.
        Err(_) => own.fresh_file(path, 0o644)?,
    };
    file.write_all(bytes)?;
    file.set_len(bytes.len() as u64)
}

/// Writes a seal, in place of the one before and its log.
pub(super) fn write_seal(own: &Below, path: &str, bytes: &[u8]) -> Result<(), FileProblem> {
    let log = format!("{path}{LOG}");
    own.remove(&log).map_err(|e| (log, e))?;
    own.write_whole(path, bytes).map_err(|e| (path.to_owned(), e))
}

pub(super) fn read_seal(own: &Below, path: &str) -> Option<Seal> {
    let bytes = map_file(&own.open_to_read(path).ok()?).ok()?;
    let log = own.open_to_read(&format!("{path}{LOG}")).and_then(|log| read_open(log, LOG_LIMIT * 2));
    Seal::decode(Arc::new(bytes), &log.unwrap_or_default()).ok()
}

pub(super) fn read_snapshot(own: &Below, path: &str, seal: &Seal) -> Option<Snapshot> {
    let mapped = |ending: &str| map_file(&own.open_to_read(&format!("{path}{ending}")).ok()?).ok();
    let heap = mapped(HEAP)?;
    let maps = GRAPHS.iter().filter_map(|ending| mapped(ending));
    let bytes = maps.into_iter().find(|bytes| Snapshot::digest_in(bytes) == seal.graph)?;
    Snapshot::decode(&bytes, Arc::new(heap)).ok()
}

pub(super) fn read_trails(own: &Below, path: &str, snapshot: &Snapshot) -> Option<Trails> {
    let bytes = map_file(&own.open_to_read(&format!("{path}{TRAILS}")).ok()?).ok()?;
    Trails::decode(&bytes, snapshot.trails).ok()
}

/// Writes a graph, and its trails where they are new; gives its digest.
pub(super) fn save_graph(
    own: &Below,
    path: &str,
    old: Option<Digest>,
    mut snapshot: Snapshot,
    trails: Option<&Trails>,
) -> Result<Digest, FileProblem> {
    if snapshot.is_wasteful() {
        snapshot = snapshot.compacted();
    }
    if let Some(trails) = trails {
        let bytes = trails.encode();
        snapshot.trails = Trails::digest_in(&bytes);
        let path = format!("{path}{TRAILS}");
        own.write_whole(&path, &bytes).map_err(|e| (path, e))?;
    }
    let heap = format!("{path}{HEAP}");
    snapshot.heap.save(own, &heap).map_err(|e| (heap, e))?;
    let graph = snapshot.encode();
    let is_old = |path: &str| {
        let mut start = [0; 40];
        let read = own.open_to_read(path).and_then(|mut file| file.read_exact(&mut start));
        read.is_ok() && old == Some(Snapshot::digest_in(&start))
    };
    let [one, other] = GRAPHS.map(|ending| format!("{path}{ending}"));
    let place = if is_old(&one) { other } else { one };
    write_over(own, &place, &graph).map_err(|e| (place, e))?;
    Ok(Snapshot::digest_in(&graph))
}

/// The log of a seal, to be added to, and how it begins where it is new; `None` where the seal is to be
/// written anew.
pub(super) fn open_log(own: &Below, path: &str, seal: &Seal) -> Option<(File, Vec<u8>)> {
    let path = format!("{path}{LOG}");
    let log = own.open(&path, OFlags::CREATE | OFlags::APPEND | OFlags::WRONLY).ok()?;
    let length = log.metadata().map_or(u64::MAX, |m| m.len());
    if length != seal.log_length || length > LOG_LIMIT {
        return None;
    }
    Some((log, if length == 0 { seal.log_header() } else { Vec::new() }))
}

/// Removes the oldest seals, so that neither their number nor their size grows.
pub(super) fn forget_old_seals(own: &Below) {
    let Ok(folder) = own.folder(FOLDER) else { return };
    let listed = rustix::fs::openat(&folder, ".", OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty());
    let mut seals: Vec<(i64, i64, String)> = listed
        .and_then(Dir::new)
        .into_iter()
        .flatten()
        .filter_map(|entry| {
            let name = entry.ok()?.file_name().to_str().ok()?.to_owned();
            let found = rustix::fs::statat(&folder, name.as_str(), AtFlags::SYMLINK_NOFOLLOW).ok()?;
            // Nothing else in the folder is ours.
            let is_seal = name.len() == NAME && name.bytes().all(|b| b.is_ascii_hexdigit());
            is_seal.then_some((found.st_mtime, found.st_mtime_nsec as i64, name))
        })
        .collect();
    seals.sort();
    let mut size = 0;
    for (number, (_, _, name)) in seals.iter().rev().enumerate() {
        let files = SEAL_FILES.map(|ending| format!("{name}{ending}"));
        let length = |file: &String| rustix::fs::statat(&folder, file.as_str(), AtFlags::SYMLINK_NOFOLLOW);
        size +=
            files.iter().filter_map(|file| length(file).ok()).map(|found| found.st_size as u64).sum::<u64>();
        // The one that is about to be written is one more.
        if number + 1 >= SEALS || size > SEALS_SIZE {
            files.iter().for_each(|file| drop(own.remove(&format!("{FOLDER}/{file}"))));
        }
    }
}

/// How many hexadecimal digits name a seal.
pub(super) const NAME: usize = 24;
