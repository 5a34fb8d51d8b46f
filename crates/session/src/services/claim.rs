//! Names of running instances, each held by one program at a time.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::HOME;

/// A name among all instances of the workspace that nobody else has while this lives.
pub(super) struct Claim {
    pub name: String,
    path: PathBuf,
    file: File,
}

impl Claim {
    /// Takes a name, or one beside it if somebody has that already; gives whether it is the first choice.
    pub fn take(home: &Path, name: &str) -> io::Result<(Claim, bool)> {
        for number in 1..1000 {
            let name = if number == 1 { name.to_owned() } else { format!("{name}-{number}") };
            let path = home.join(format!("{name}.claim"));
            if let Some(file) = try_lock(&path, true)? {
                return Ok((Claim { name, path, file }, number == 1));
            }
        }
        Err(io::Error::other("a thousand of it run already"))
    }

    /// Writes down which processes are to be ended should this program not come to it.
    pub fn note(&self, group: i32) {
        let start = nubrik_confine::start_of_process(group).unwrap_or(0);
        let _ = (&self.file).write_all(format!("{group} {start}\n").as_bytes());
    }
}

impl Drop for Claim {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(self.path.with_extension(""));
        let _ = fs::remove_file(&self.path);
    }
}

/// A lock on a file; `None` when somebody has it. What is locked is the file that is at this path now: one that
/// was removed meanwhile would keep nobody away.
fn try_lock(path: &Path, make: bool) -> io::Result<Option<File>> {
    loop {
        let file = File::options().read(true).write(true).create(make).truncate(false).open(path);
        let file = match file {
            Err(e) if e.kind() == io::ErrorKind::NotFound && !make => return Ok(None),
            file => file?,
        };
        match file.try_lock() {
            Ok(()) => {}
            Err(fs::TryLockError::WouldBlock) => return Ok(None),
            Err(fs::TryLockError::Error(e)) => return Err(e),
        }
        match fs::metadata(path) {
            Ok(now) if now.ino() == file.metadata()?.ino() => return Ok(Some(file)),
            _ => {}
        }
    }
}

/// Ends what services of earlier runs left behind that could not stop them; gives how many processes.
pub(crate) fn end_left_over(root: &Path) -> usize {
    let home = root.join(HOME);
    let Ok(entries) = fs::read_dir(&home) else { return 0 };
    let mut count = 0;
    for path in entries.flatten().map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "claim")) {
        let Ok(Some(file)) = try_lock(&path, false) else { continue };
        let text = io::read_to_string(&file).unwrap_or_default();
        let groups: Vec<(i32, u64)> = text
            .lines()
            .filter_map(|line| {
                let (id, start) = line.split_once(' ')?;
                Some((id.parse().ok()?, start.parse().ok()?))
            })
            .collect();
        let folder = path.with_extension("");
        count += nubrik_confine::end_left_over(&folder, &groups);
        let _ = fs::remove_dir_all(&folder);
        let _ = fs::remove_file(&path);
    }
    count
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn claims_keep_others_away_and_vanish() {
        let home = tempfile::tempdir().unwrap();
        let (one, first) = Claim::take(home.path(), "a").unwrap();
        let (two, second) = Claim::take(home.path(), "a").unwrap();
        assert_eq!((first, second), (true, false));
        assert_eq!(two.name, "a-2");
        drop(one);
        let (again, first) = Claim::take(home.path(), "a").unwrap();
        assert!(first);
        drop((two, again));
        assert_eq!(fs::read_dir(home.path()).unwrap().count(), 0);
    }
}
