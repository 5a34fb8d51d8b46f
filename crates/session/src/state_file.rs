//! What is remembered of a workspace, on disk: a file, and a log of what came since it was written.

use std::fs::File;
use std::io::{self, Read, Write};
use std::sync::Arc;

use nubrik_engine::{Changes, State};
use rustix::fs::OFlags;

use crate::below::Below;
use crate::reading::read_open;

/// The log may grow to this size, or to a quarter of the file if that is more, before the file is
/// written anew; in bytes.
const LOG_LIMIT: u64 = 1 << 20;

/// A log larger than this is none of ours, in bytes.
const LARGEST_LOG: u64 = 1 << 30;

/// The two files that hold a workspace's state, in the tool's own folder.
const FILE: &str = "state";
const LOG: &str = "state-log";

/// What is remembered; `None` where that is nothing. What is damaged is forgotten.
pub(crate) fn load(own: &Below) -> Option<State> {
    let bytes = nubrik_confine::map_file(&own.open_to_read(FILE).ok()?).ok()?;
    let log = own.open_to_read(LOG).and_then(|log| read_open(log, LARGEST_LOG)).unwrap_or_default();
    State::decode(Arc::new(bytes), &log).ok()
}

/// Adds changes to a state and to the files that it was loaded from.
///
/// # Errors
/// When they cannot be written, and which.
pub(crate) fn save(
    own: &Below,
    state: &mut State,
    changes: Changes,
) -> Result<(), (&'static str, io::Error)> {
    let entry = State::log_entry(&state.apply(changes));
    if let Some((mut log, length)) = open_log(own, state.log_length(), entry.len() as u64) {
        log.write_all(&entry).map_err(|e| (LOG, e))?;
        state.set_log_length(length + entry.len() as u64);
        return Ok(());
    }
    // The log goes first: an old one must not be taken for the new file's.
    own.remove(LOG).map_err(|e| (LOG, e))?;
    state.set_log_length(0);
    own.write_whole(FILE, &state.encode()).map_err(|e| (FILE, e))
}

/// The log, to be added to, and its length; `None` where the file is to be written anew.
fn open_log(own: &Below, known: u64, more: u64) -> Option<(File, u64)> {
    let mut file = own.open_to_read(FILE).ok()?;
    let mut start = [0; 256];
    let read = file.read(&mut start).ok()?;
    let header = State::log_header(&start[..read])?;
    let size = file.metadata().ok()?.len();
    let mut log = own.open(LOG, OFlags::CREATE | OFlags::APPEND | OFlags::WRONLY).ok()?;
    let length = log.metadata().ok()?.len();
    if length != known || length + more > LOG_LIMIT.max(size / 4) {
        return None;
    }
    if length == 0 {
        log.write_all(&header).ok()?;
        return Some((log, header.len() as u64));
    }
    Some((log, length))
}
