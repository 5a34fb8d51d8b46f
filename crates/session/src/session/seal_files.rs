//! The files of a seal: itself and its log, its graph and heap, its trails.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_store::Digest;

use super::BuildProblem;
use crate::seal::Seal;
use crate::snapshot::Snapshot;
use crate::state_file::write_whole;
use crate::trails::Trails;

/// How many seals are kept in a workspace.
const SEALS: usize = 16;

/// How much they may take together, in bytes.
const SEALS_SIZE: u64 = 512 << 20;

/// Endings of the files of a seal; the first is the seal itself.
const SEAL_FILES: [&str; 6] = ["", GRAPHS[0], GRAPHS[1], "heap", "trails", "log"];

/// Endings of the two files in which a graph may lie: the older one is written over.
const GRAPHS: [&str; 2] = ["graph", "graph-2"];

/// The log of a seal may grow to this size before the seal is written anew, in bytes.
const LOG_LIMIT: u64 = 256 << 10;

/// Writes a file over what is there: giving a file's blocks back is slow on some disks. One that is written
/// in part only is not taken for whole, by its digest.
fn write_over(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut file = File::options().create(true).write(true).truncate(false).open(path)?;
    file.write_all(bytes)?;
    file.set_len(bytes.len() as u64)
}

/// Where what its steps and targets are lies.
fn heap_path(seal: &Path) -> PathBuf {
    seal.with_extension("heap")
}

/// Where what its declarations' values were taken from lies.
fn trails_path(seal: &Path) -> PathBuf {
    seal.with_extension("trails")
}

/// Where later changes of a seal lie.
pub(super) fn log_path(seal: &Path) -> PathBuf {
    seal.with_extension("log")
}

pub(super) fn read_seal(path: &Path) -> Option<Seal> {
    let bytes = nubrik_confine::map_file(path).ok()?;
    let log = fs::read(log_path(path)).unwrap_or_default();
    Seal::decode(Arc::new(bytes), &log).ok()
}

pub(super) fn read_snapshot(path: &Path, seal: &Seal) -> Option<Snapshot> {
    let heap = nubrik_confine::map_file(&heap_path(path)).ok()?;
    let maps = GRAPHS.iter().filter_map(|ending| nubrik_confine::map_file(&path.with_extension(ending)).ok());
    let bytes = maps.into_iter().find(|bytes| Snapshot::digest_in(bytes) == seal.graph)?;
    Snapshot::decode(&bytes, Arc::new(heap)).ok()
}

pub(super) fn read_trails(path: &Path, snapshot: &Snapshot) -> Option<Trails> {
    let bytes = nubrik_confine::map_file(&trails_path(path)).ok()?;
    Trails::decode(&bytes, snapshot.trails).ok()
}

/// Writes a graph, and its trails where they are new; gives its digest.
pub(super) fn save_graph(
    path: &Path,
    old: Option<Digest>,
    mut snapshot: Snapshot,
    trails: Option<&Trails>,
) -> Result<Digest, BuildProblem> {
    if snapshot.is_wasteful() {
        snapshot = snapshot.compacted();
    }
    if let Some(trails) = trails {
        let bytes = trails.encode();
        snapshot.trails = Trails::digest_in(&bytes);
        write_whole(&trails_path(path), &bytes)?;
    }
    let heap = heap_path(path);
    snapshot.heap.save(&heap).map_err(|e| BuildProblem::Own(heap, e))?;
    let graph = snapshot.encode();
    let is_old = |path: &PathBuf| {
        let mut start = [0; 40];
        let read = File::open(path).and_then(|mut file| io::Read::read_exact(&mut file, &mut start));
        read.is_ok() && old == Some(Snapshot::digest_in(&start))
    };
    let [one, other] = GRAPHS.map(|ending| path.with_extension(ending));
    let place = if is_old(&one) { other } else { one };
    write_over(&place, &graph).map_err(|e| BuildProblem::Own(place, e))?;
    Ok(Snapshot::digest_in(&graph))
}

/// The log of a seal, to be added to, and how it begins where it is new; `None` where the seal is to be
/// written anew.
pub(super) fn open_log(path: &Path, seal: &Seal) -> Option<io::Result<(File, Vec<u8>)>> {
    let log = match File::options().create(true).append(true).open(log_path(path)) {
        Ok(log) => log,
        Err(e) => return Some(Err(e)),
    };
    let length = log.metadata().map_or(u64::MAX, |m| m.len());
    if length != seal.log_length || length > LOG_LIMIT {
        return None;
    }
    Some(Ok((log, if length == 0 { seal.log_header() } else { Vec::new() })))
}

/// Removes the oldest seals, so that neither their number nor their size grows.
pub(super) fn forget_old_seals(folder: &Path) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    let dated = entries.flatten().filter_map(|e| Some((e.metadata().ok()?.modified().ok()?, e.path())));
    let mut seals: Vec<_> = dated.filter(|(_, path)| path.extension().is_none()).collect();
    seals.sort();
    let mut size = 0;
    for (number, (_, path)) in seals.iter().rev().enumerate() {
        let files = SEAL_FILES.map(|ending| path.with_extension(ending));
        size += files.iter().filter_map(|file| fs::metadata(file).ok()).map(|data| data.len()).sum::<u64>();
        // The one that is about to be written is one more.
        if number + 1 >= SEALS || size > SEALS_SIZE {
            files.iter().for_each(|file| drop(fs::remove_file(file)));
        }
    }
}
