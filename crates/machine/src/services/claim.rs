//! Names of running instances, each held by one program at a time.

use std::fs::{File, TryLockError};
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::Path;
use std::sync::Arc;

use rustix::fs::{OFlags, fstat};

use super::HOME;
use nubrik_disk::Below;

use crate::temporary::Temporary;

/// A name among all instances of the workspace that no one else has while this lives.
pub(super) struct Claim {
    pub name: String,
    home: Arc<Below>,
    /// Held for its lock.
    #[allow(dead_code)]
    file: File,
}

impl Claim {
    /// Takes a name, or one beside it if someone has that already; gives whether it is the first
    /// choice.
    pub fn take(home: &Arc<Below>, name: &str) -> io::Result<(Claim, bool)> {
        for number in 1..1000 {
            let name = if number == 1 {
                name.to_owned()
            } else {
                format!("{name}-{number}")
            };
            if let Some(file) = try_lock(home, &claim_of(&name), true)? {
                return Ok((
                    Claim {
                        name,
                        home: home.clone(),
                        file,
                    },
                    number == 1,
                ));
            }
        }
        Err(io::Error::other("a thousand of it run already"))
    }
}

fn claim_of(name: &str) -> String {
    format!("{name}.claim")
}

impl Drop for Claim {
    fn drop(&mut self) {
        let _ = self.home.remove(&self.name);
        let _ = self.home.remove(&claim_of(&self.name));
    }
}

/// A lock on a file; `None` when someone has it. What is locked is the file that is at this path
/// now: one that was removed in the meantime would keep no one away.
fn try_lock(home: &Below, name: &str, make: bool) -> io::Result<Option<File>> {
    let flags = if make {
        OFlags::RDWR | OFlags::CREATE
    } else {
        OFlags::RDWR
    };
    loop {
        let file = match home.open(name, flags) {
            Err(e) if e.kind() == io::ErrorKind::NotFound && !make => return Ok(None),
            file => file?,
        };
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Ok(None),
            Err(TryLockError::Error(e)) => return Err(e),
        }
        match home.look_at(name) {
            Ok(now) if now.st_ino == fstat(&file)?.st_ino => return Ok(Some(file)),
            _ => {}
        }
    }
}

/// Ends what services of earlier runs left behind that could not stop them, and removes their
/// folders; gives how many processes. Those in sandboxes ended with the program that started them.
pub fn end_left_over(root: &Path) -> usize {
    let Ok(home) = Below::new(root)
        .and_then(|root| root.folder(HOME))
        .map(Below::of)
    else {
        return 0;
    };
    let names = claimed_names(&home).unwrap_or_default();
    let mut free: Vec<(String, File)> = Vec::new();
    for name in names {
        if let Ok(Some(lock)) = try_lock(&home, &claim_of(&name), false) {
            free.push((name, lock));
        }
    }
    if free.is_empty() {
        return 0;
    }
    let temporary = Temporary::of(root);
    let folders: Vec<_> = free
        .iter()
        .map(|(name, _)| temporary.place(&format!("{HOME}/{name}")))
        .collect();
    let count = nubrik_confine::end_left_over(&folders.iter().map(|f| &**f).collect::<Vec<_>>());
    for ((name, lock), folder) in free.into_iter().zip(folders) {
        crate::temporary::remove_folder(&folder);
        let _ = home.remove(&name);
        let _ = home.remove(&claim_of(&name));
        drop(lock);
    }
    count
}

/// Names for which there is a claim.
fn claimed_names(home: &Below) -> io::Result<Vec<String>> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let open: OwnedFd =
        rustix::fs::openat(home.top().as_fd(), ".", flags, rustix::fs::Mode::empty())?;
    let mut names = Vec::new();
    for entry in rustix::fs::Dir::read_from(open)? {
        if let Some(name) = entry?
            .file_name()
            .to_str()
            .ok()
            .and_then(|name| name.strip_suffix(".claim"))
        {
            names.push(name.to_owned());
        }
    }
    Ok(names)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn claims_keep_others_away_and_vanish() {
        let folder = tempfile::tempdir().unwrap();
        let home = Arc::new(Below::new(folder.path()).unwrap());
        let (one, first) = Claim::take(&home, "a").unwrap();
        let (two, second) = Claim::take(&home, "a").unwrap();
        assert_eq!((first, second), (true, false));
        assert_eq!(two.name, "a-2");
        drop(one);
        let (again, first) = Claim::take(&home, "a").unwrap();
        assert!(first);
        drop((two, again));
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    }

    #[test]
    fn a_claim_is_evidence_of_no_process() {
        let root = tempfile::tempdir().unwrap();
        let home = root.path().join(HOME);
        std::fs::create_dir_all(home.join("x")).unwrap();
        let mut other = std::process::Command::new("sleep")
            .arg("30")
            .current_dir(home.join("x"))
            .spawn()
            .unwrap();
        std::fs::write(home.join("x.claim"), format!("{} 0\n", other.id())).unwrap();
        std::os::unix::fs::symlink("/etc/passwd", home.join("y.claim")).unwrap();
        assert_eq!(end_left_over(root.path()), 0);
        assert!(other.try_wait().unwrap().is_none());
        assert!(!home.join("x").exists());
        other.kill().unwrap();
        other.wait().unwrap();
    }
}
