//! What is remembered of a workspace, on disk: a file, and a log of what came since it was written.

use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_engine::{Changes, State};

use crate::session::BuildProblem;

/// The log may grow to this size, or to a quarter of the file if that is more, before the file is
/// written anew; in bytes.
const LOG_LIMIT: u64 = 1 << 20;

/// The two files that hold a workspace's state.
pub(crate) struct StateFile {
    file: PathBuf,
    log: PathBuf,
}

impl StateFile {
    pub fn in_folder(folder: &Path) -> StateFile {
        StateFile { file: folder.join("state"), log: folder.join("state-log") }
    }

    /// What is remembered. What is damaged is forgotten.
    pub fn load(&self) -> State {
        let Ok(bytes) = nubrik_confine::map_file(&self.file) else { return State::default() };
        let log = fs::read(&self.log).unwrap_or_default();
        State::decode(Arc::new(bytes), &log).unwrap_or_default()
    }

    /// Adds changes to a state and to the files that it was loaded from.
    pub fn save(&self, state: &mut State, changes: Changes) -> Result<(), BuildProblem> {
        let entry = State::log_entry(&state.apply(changes));
        if let Some((mut log, length)) = self.open_log(state.log_length(), entry.len() as u64) {
            log.write_all(&entry).map_err(|e| BuildProblem::Own(self.log.clone(), e))?;
            state.set_log_length(length + entry.len() as u64);
            return Ok(());
        }
        // The log goes first: an old one must not be taken for the new file's.
        match fs::remove_file(&self.log) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                return Err(BuildProblem::Own(self.log.clone(), e));
            }
            _ => state.set_log_length(0),
        }
        write_whole(&self.file, &state.encode())
    }

    /// The log, to be added to, and its length; `None` where the file is to be written anew.
    fn open_log(&self, known: u64, more: u64) -> Option<(File, u64)> {
        let mut file = File::open(&self.file).ok()?;
        let mut start = [0; 256];
        let read = std::io::Read::read(&mut file, &mut start).ok()?;
        let header = State::log_header(&start[..read])?;
        let size = file.metadata().ok()?.len();
        let mut log = File::options().create(true).append(true).open(&self.log).ok()?;
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
}

/// Writes a file whole or not at all.
pub(crate) fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), BuildProblem> {
    let temporary = path.with_extension("new");
    let written = fs::write(&temporary, bytes).and_then(|()| fs::rename(&temporary, path));
    written.map_err(|e| BuildProblem::Own(path.to_owned(), e))
}
