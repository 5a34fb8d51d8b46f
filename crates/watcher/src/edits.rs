//! Edits of a workspace's files, for who does something again after each of them: heard of from the
//! kernel, or looked for again and again where that gives no more watches.

use std::collections::BTreeSet;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant, SystemTime};

use ignore::gitignore::Gitignore;
use notify::{PollWatcher, RecursiveMode, Watcher};
use nubrik_source::TARGETS_FILE;

/// Changes that follow one another so closely are one: editors write a file in several moves.
const QUIET: Duration = Duration::from_millis(80);

/// Changes that never cease are waited for no longer than this.
const PATIENCE: Duration = Duration::from_millis(1_500);

/// How often it is asked whether to end.
const TICK: Duration = Duration::from_millis(100);

/// How often all files are looked at, where the kernel gives no more watches.
const LOOKS: Duration = Duration::from_secs(1);

/// Why edits cannot be heard of.
#[derive(Debug)]
pub enum EditTrouble {
    /// Files cannot be watched at all.
    NoWatcher(notify::Error),
    /// The workspace cannot be watched.
    NoRoot(PathBuf, notify::Error),
}

impl fmt::Display for EditTrouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            EditTrouble::NoWatcher(e) => write!(f, "cannot watch files: {e}"),
            EditTrouble::NoRoot(root, e) => write!(f, "cannot watch {}: {e}", root.display()),
        }
    }
}

/// Edits of the files of a workspace.
pub struct EditWatch {
    /// Its links are resolved.
    root: PathBuf,
    changes: Receiver<notify::Result<notify::Event>>,
    /// What git ignores, and for which version of `.gitignore`.
    ignored: Option<(Option<SystemTime>, Gitignore)>,
    /// What hears of changes, as long as this is there.
    _watcher: Box<dyn Watcher>,
}

impl EditWatch {
    /// Hears of all edits from now on.
    ///
    /// # Errors
    /// When the system lets nobody watch there.
    pub fn begin(root: &Path) -> Result<EditWatch, EditTrouble> {
        let (sender, changes) = channel();
        let heard = move |event: notify::Result<notify::Event>| {
            let _ = sender.send(event);
        };
        let polling = |heard| {
            let config = notify::Config::default().with_poll_interval(LOOKS);
            PollWatcher::new(heard, config).map_err(EditTrouble::NoWatcher)
        };
        let mut watcher: Box<dyn Watcher> = match notify::recommended_watcher(heard.clone()) {
            Ok(watcher) => Box::new(watcher),
            Err(_) => Box::new(polling(heard.clone())?),
        };
        if watcher.watch(root, RecursiveMode::Recursive).is_err() {
            // The kernel watches so many folders and no more: then they are looked at again and
            // again.
            watcher = Box::new(polling(heard)?);
            let watched = watcher.watch(root, RecursiveMode::Recursive);
            watched.map_err(|e| EditTrouble::NoRoot(root.to_owned(), e))?;
        }
        Ok(EditWatch {
            root: root.to_owned(),
            changes,
            ignored: None,
            _watcher: watcher,
        })
    }

    /// Waits for files to change, and until they rest; gives their paths from the root, sorted.
    /// `None` when `is_stopped`, or when `has_ended` before anything changed.
    pub fn next(
        &mut self,
        is_stopped: &dyn Fn() -> bool,
        has_ended: &mut dyn FnMut() -> bool,
    ) -> Option<Vec<String>> {
        let mut files: BTreeSet<String> = BTreeSet::new();
        let mut first: Option<Instant> = None;
        loop {
            if is_stopped() || (files.is_empty() && has_ended()) {
                return None;
            }
            let wait = if files.is_empty() { TICK } else { QUIET };
            match self.changes.recv_timeout(wait) {
                Ok(Ok(event)) if !event.kind.is_access() => {
                    let paths: Vec<String> = event
                        .paths
                        .iter()
                        .filter_map(|path| self.relevant(path))
                        .collect();
                    if !paths.is_empty() {
                        first.get_or_insert_with(Instant::now);
                        files.extend(paths);
                    }
                }
                Ok(_) => {}
                Err(RecvTimeoutError::Timeout) if !files.is_empty() => break,
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return None,
            }
            if first.is_some_and(|since| since.elapsed() > PATIENCE) {
                break;
            }
        }
        // What came and went in the meantime, as editors do it, is no news beside what stayed.
        let there: BTreeSet<String> = files
            .iter()
            .filter(|f| self.root.join(f).exists())
            .cloned()
            .collect();
        Some(
            if there.is_empty() { files } else { there }
                .into_iter()
                .collect(),
        )
    }

    /// The path from the root of what may matter: nothing of the tool's own, of git's, or ignored,
    /// and no file that editors keep beside another one.
    fn relevant(&mut self, path: &Path) -> Option<String> {
        let inside = path.strip_prefix(&self.root).ok()?;
        let text = inside.to_str()?.to_owned();
        let mut parts = inside.components().map(|c| c.as_os_str().to_string_lossy());
        let first = parts.next()?;
        let name = inside.file_name()?.to_string_lossy();
        let of_editors =
            name.ends_with('~') || (name.starts_with('.') && name != nubrik_disk::IGNORE_FILE);
        let own = matches!(&*first, "out" | ".nubrik" | ".git");
        if own || of_editors || self.is_ignored(inside, path.is_dir()) {
            return None;
        }
        Some(text)
    }

    fn is_ignored(&mut self, inside: &Path, folder: bool) -> bool {
        let file = self.root.join(nubrik_disk::IGNORE_FILE);
        let version = file.metadata().and_then(|m| m.modified()).ok();
        if self
            .ignored
            .as_ref()
            .is_none_or(|(known, _)| *known != version)
        {
            let ignored =
                nubrik_disk::ignored_in(&self.root).unwrap_or_else(|_| Gitignore::empty());
            self.ignored = Some((version, ignored));
        }
        // Definitions count even where someone ignores them.
        inside.file_name().is_some_and(|n| n != TARGETS_FILE)
            && self
                .ignored
                .as_ref()
                .is_some_and(|(_, i)| i.matched_path_or_any_parents(inside, folder).is_ignore())
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;
    use std::cell::Cell;
    use std::fs;

    #[test]
    fn what_is_the_tools_own_ignored_or_kept_by_an_editor_is_no_edit() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        fs::write(root.join(".gitignore"), "*.log\nlogs/\n").unwrap();
        let mut edits = EditWatch::begin(&root).unwrap();
        let mut relevant = |path: &str| edits.relevant(&root.join(path)).is_some();
        for path in ["tide/fit.c", ".gitignore", "logs/targets.nub", "outer/a"] {
            assert!(relevant(path), "{path}");
        }
        for path in [
            "out/x",
            ".nubrik/state",
            ".git/index",
            "tide/fit.c~",
            "tide/.fit.c.swp",
            "a.log",
            "logs/a",
        ] {
            assert!(!relevant(path), "{path}");
        }
        assert!(edits.relevant(Path::new("/elsewhere/fit.c")).is_none());
        // Another version of the file counts from now on.
        fs::write(root.join(".gitignore"), "*.c\n").unwrap();
        fs::File::options()
            .append(true)
            .open(root.join(".gitignore"))
            .unwrap()
            .set_modified(SystemTime::UNIX_EPOCH)
            .unwrap();
        assert!(
            edits.relevant(&root.join("a.log")).is_some()
                && edits.relevant(&root.join("a.c")).is_none()
        );
    }

    #[test]
    fn edits_that_follow_closely_are_one_and_the_end_of_who_waits_is_none() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        let mut edits = EditWatch::begin(&root).unwrap();
        for name in ["b.c", "a.c", "c.tmp"] {
            fs::write(root.join(name), name).unwrap();
        }
        fs::remove_file(root.join("c.tmp")).unwrap();
        let asked = Cell::new(0);
        let never = || asked.replace(asked.get() + 1) > 600;
        assert_eq!(
            edits.next(&never, &mut || false),
            Some(vec!["a.c".to_owned(), "b.c".to_owned()])
        );
        assert_eq!(
            edits.next(&|| false, &mut || true),
            None,
            "who waits has ended"
        );
        fs::write(root.join("a.c"), "again").unwrap();
        assert_eq!(edits.next(&|| true, &mut || false), None, "it is to end");
    }
}
