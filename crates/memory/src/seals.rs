//! The files of a seal: itself and its log, its graph and heap, its trails. All paths are those in
//! the tool's own folder.

use std::io::{self, Read, Write};
use std::sync::Arc;

use nubrik_bytes::{Digest, Frame};
use nubrik_confine::map_file;
use nubrik_disk::Below;
use nubrik_engine::FileBytes;
use rustix::fs::{AtFlags, Dir, Mode, OFlags};

use crate::journal::{FileProblem, replace};
use crate::seal::{NewSeal, Seal};
use crate::snapshot::Snapshot;
use crate::trails::Trails;

/// What is kept of requests, of one kind: files in a folder, some for each request.
pub(crate) struct RequestFiles {
    /// The folder of all of them.
    pub folder: &'static str,
    /// Endings of the files of a request; the first is the seal itself.
    pub endings: &'static [&'static str],
    /// How many requests are kept.
    pub count: usize,
    /// How much they may take together, in bytes.
    pub size: u64,
}

impl RequestFiles {
    /// Where the seal of a request is, which a digest names.
    pub fn path(&self, request: &Digest) -> String {
        format!("{}/{}", self.folder, &request.hex()[..NAME])
    }
}

/// What is kept of builds.
const SEALS: RequestFiles = RequestFiles {
    folder: "seals",
    endings: &["", GRAPHS[0], GRAPHS[1], HEAP, TRAILS, ".log"],
    count: 16,
    size: 512 << 20,
};

/// Endings of the two files in which a graph may lie: the older one is written over.
const GRAPHS: [&str; 2] = [".graph", ".graph-2"];

/// Where what its steps and targets are lies.
const HEAP: &str = ".heap";

/// Where what its declarations' values were taken from lies.
const TRAILS: &str = ".trails";

/// Writes a file over what is there: giving a file's blocks back is slow on some disks. One that is
/// written in part only is not taken for whole, by its digest.
fn write_over(own: &Below, path: &str, bytes: &[u8]) -> io::Result<()> {
    let mut file = match own.open(path, OFlags::CREATE | OFlags::WRONLY) {
        Ok(file) => file,
        // What is there is no file.
        Err(_) => own.fresh_file(path, 0o644)?,
    };
    file.write_all(bytes)?;
    file.set_len(bytes.len() as u64)
}

/// Where the seal of a request is, which a digest names.
pub fn seal_path(request: &Digest) -> String {
    SEALS.path(request)
}

/// Writes a seal, in place of the one before and its log.
///
/// # Errors
/// When that is not possible, and which file is at fault.
pub fn write_seal(own: &Below, path: &str, seal: &NewSeal) -> Result<(), FileProblem> {
    replace(own, path, &seal.encode())
}

/// The graph that belongs to a seal; `None` where it is damaged, or another one is there. Its
/// tables are read where they lie in their file, if it stays as it is (`is_held`): nobody but the
/// holder of the workspace's lock writes over it.
pub fn read_snapshot(own: &Below, path: &str, seal: &Seal, is_held: bool) -> Option<Snapshot> {
    let open = |ending: &str| own.open_to_read(&format!("{path}{ending}")).ok();
    let heap = map_file(&open(HEAP)?).ok()?;
    let tables = |ending: &&str| -> Option<FileBytes> {
        let mut file = open(ending)?;
        if is_held {
            return Some(Arc::new(map_file(&file).ok()?));
        }
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).ok()?;
        Some(Arc::new(bytes))
    };
    let is_wanted = |tables: &FileBytes| Snapshot::id_in((**tables).as_ref()) == Some(seal.graph);
    let tables = GRAPHS.iter().filter_map(tables).find(is_wanted)?;
    Snapshot::decode(&tables, Arc::new(heap)).ok()
}

/// What the values of a graph's declarations were taken from; `None` where that is damaged, or
/// belongs to another graph.
pub fn read_trails(own: &Below, path: &str, snapshot: &Snapshot) -> Option<Trails> {
    let bytes: FileBytes =
        Arc::new(map_file(&own.open_to_read(&format!("{path}{TRAILS}")).ok()?).ok()?);
    Trails::decode(&bytes, snapshot.trails).ok()
}

/// Writes a graph, and its trails where they are new; gives its id. `old` is the id of the one that
/// is there and to be kept until the seal speaks of the new one.
///
/// # Errors
/// When that is not possible, and which file is at fault.
pub fn save_graph(
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
        snapshot.trails = Trails::id_in(&bytes).unwrap_or_default();
        let path = format!("{path}{TRAILS}");
        own.write_whole(&path, &bytes).map_err(|e| (path, e))?;
    }
    let heap = format!("{path}{HEAP}");
    snapshot.heap.save(own, &heap).map_err(|e| (heap, e))?;
    let graph = snapshot.encode();
    let is_old = |path: &str| {
        let mut start = [0; Frame::START];
        let read = own
            .open_to_read(path)
            .and_then(|mut file| file.read_exact(&mut start));
        read.is_ok() && old.is_some() && old == Snapshot::id_in(&start)
    };
    let [one, other] = GRAPHS.map(|ending| format!("{path}{ending}"));
    let place = if is_old(&one) { other } else { one };
    write_over(own, &place, &graph).map_err(|e| (place, e))?;
    Ok(Snapshot::id_in(&graph).unwrap_or_default())
}

/// Removes the oldest seals of builds, so that neither their number nor their size grows.
pub fn forget_old_seals(own: &Below) {
    forget_old(own, &SEALS);
}

/// Removes what was kept of the oldest requests.
pub(crate) fn forget_old(own: &Below, kept: &RequestFiles) {
    let Ok(folder) = own.folder(kept.folder) else {
        return;
    };
    let listed = rustix::fs::openat(
        &folder,
        ".",
        OFlags::RDONLY | OFlags::CLOEXEC,
        Mode::empty(),
    );
    let mut seals: Vec<(i64, i64, String)> = listed
        .and_then(Dir::new)
        .into_iter()
        .flatten()
        .filter_map(|entry| {
            let name = entry.ok()?.file_name().to_str().ok()?.to_owned();
            let found =
                rustix::fs::statat(&folder, name.as_str(), AtFlags::SYMLINK_NOFOLLOW).ok()?;
            // Nothing else in the folder is ours.
            let is_seal = name.len() == NAME && name.bytes().all(|b| b.is_ascii_hexdigit());
            is_seal.then_some((found.st_mtime, found.st_mtime_nsec as i64, name))
        })
        .collect();
    seals.sort();
    let mut size = 0;
    for (number, (_, _, name)) in seals.iter().rev().enumerate() {
        let files: Vec<String> = kept
            .endings
            .iter()
            .map(|ending| format!("{name}{ending}"))
            .collect();
        let length =
            |file: &String| rustix::fs::statat(&folder, file.as_str(), AtFlags::SYMLINK_NOFOLLOW);
        size += files
            .iter()
            .filter_map(|file| length(file).ok())
            .map(|found| found.st_size as u64)
            .sum::<u64>();
        // The one that is about to be written is one more.
        if number + 1 >= kept.count || size > kept.size {
            files
                .iter()
                .for_each(|file| drop(own.remove(&format!("{}/{file}", kept.folder))));
        }
    }
}

/// How many hexadecimal digits name a seal.
const NAME: usize = 24;
