//! Objects in a folder: files by their names. Those who may write there may be others than the
//! person who builds, and links that they put there are not followed.

use std::fs;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::ops::Range;
use std::path::PathBuf;
use std::time::{Duration, Instant, UNIX_EPOCH};

use nubrik_disk::Below;

use super::{ObjectStore, ObjectTurn};
use crate::Trouble;
use crate::request::too_large;

/// So long somebody may take to change an object: reading what it leads to, and putting it.
const LONGEST_TURN: Duration = Duration::from_secs(30);

/// A folder with objects.
#[derive(Debug)]
pub(super) struct FolderObjects {
    pub top: PathBuf,
}

/// The turn to change an object: a file beside it, which is removed when it is dropped.
#[derive(Debug)]
struct FolderTurn {
    folder: Below,
    name: String,
}

impl Drop for FolderTurn {
    fn drop(&mut self) {
        let _ = self.folder.remove_file(&self.name);
    }
}

impl ObjectTurn for FolderTurn {}

impl FolderObjects {
    fn folder(&self) -> Result<Below, Trouble> {
        Below::new(&self.top).map_err(failed)
    }

    fn made_folder(&self) -> Result<Below, Trouble> {
        fs::create_dir_all(&self.top).map_err(failed)?;
        self.folder()
    }
}

impl ObjectStore for FolderObjects {
    fn get(
        &self,
        name: &str,
        part: Option<&Range<u64>>,
        limit: u64,
        _: Option<Instant>,
    ) -> Result<Vec<u8>, Trouble> {
        let missing = |e: io::Error| match e.kind() {
            io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => Trouble::NotThere,
            _ => failed(e),
        };
        let mut file = Below::new(&self.top)
            .and_then(|folder| folder.open_to_read(name))
            .map_err(missing)?;
        let mut bytes = Vec::new();
        match part {
            Some(part) => {
                file.seek(SeekFrom::Start(part.start)).map_err(failed)?;
                file.take(part.end.saturating_sub(part.start))
                    .read_to_end(&mut bytes)
                    .map_err(failed)?;
            }
            None => drop(
                file.take(limit.saturating_add(1))
                    .read_to_end(&mut bytes)
                    .map_err(failed)?,
            ),
        }
        if bytes.len() as u64 > limit {
            Err(too_large(limit))
        } else {
            Ok(bytes)
        }
    }

    fn put(&self, name: &str, bytes: &[u8]) -> Result<(), Trouble> {
        let write = |file: &mut fs::File| file.write_all(bytes).and_then(|()| file.sync_all());
        self.made_folder()?.replace(name, write).map_err(failed)
    }

    fn remove(&self, name: &str) -> Result<(), Trouble> {
        self.folder()?.remove_file(name).map_err(failed)
    }

    fn turn_of(&self, name: &str) -> Result<Option<Box<dyn ObjectTurn>>, Trouble> {
        let folder = self.made_folder()?;
        let above = name.rsplit_once('/').map_or("", |(above, _)| above);
        folder.ready_folder(above).map_err(failed)?;
        let name = format!("{name}.turn");
        let began = Instant::now();
        loop {
            match folder.new_file(&name, 0o644) {
                Ok(_) => return Ok(Some(Box::new(FolderTurn { folder, name }))),
                Err(e) if e.kind() != io::ErrorKind::AlreadyExists => return Err(failed(e)),
                Err(_) if began.elapsed() > LONGEST_TURN * 2 => {
                    return Err(Trouble::failed(format!(
                        "{name} is there all the time: somebody writes, or was killed"
                    )));
                }
                Err(_) => {}
            }
            // Who was killed does not give it back.
            let age = folder.look_at(&name).ok().map(|found| {
                UNIX_EPOCH + Duration::from_secs(u64::try_from(found.st_mtime).unwrap_or_default())
            });
            if age
                .and_then(|since| since.elapsed().ok())
                .is_some_and(|age| age > LONGEST_TURN)
            {
                let _ = folder.remove_file(&name);
            }
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    fn remove_older(&self, name: &str, than: u64) -> Result<usize, Trouble> {
        // Whatever else lies there is somebody's.
        let is_digest =
            |name: &str| name.len() >= 32 && name.bytes().all(|b| b.is_ascii_hexdigit());
        let is_old = |name: &str, changed: i64| is_digest(name) && changed < than as i64;
        self.folder()?.remove_files(name, &is_old).map_err(failed)
    }
}

fn failed(e: io::Error) -> Trouble {
    match e.kind() {
        io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => {
            Trouble::Denied(e.to_string())
        }
        _ => Trouble::failed(e.to_string()),
    }
}
