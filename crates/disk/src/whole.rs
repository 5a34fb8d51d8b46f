//! Telling when files that somebody else writes are whole.

use std::path::PathBuf;

/// Does something, and tells meanwhile of each of some files when it is whole: closed after it was
/// written, or moved to its place. Each is announced by its number, perhaps more than once. Where
/// the system does not tell, none is.
///
/// ```
/// let folder = tempfile::tempdir()?;
/// let file = folder.path().join("tide");
/// let (tell, told) = std::sync::mpsc::sync_channel(8);
/// nubrik_disk::while_watching(&[file.clone()], &|number| drop(tell.send(number)), &mut || {
///     std::fs::write(&file, "ebb").unwrap();
///     # #[cfg(target_os = "linux")]
///     assert_eq!(told.recv(), Ok(0));
/// });
/// # Ok::<(), std::io::Error>(())
/// ```
pub fn while_watching(files: &[PathBuf], whole: &(dyn Fn(usize) + Sync), act: &mut dyn FnMut()) {
    #[cfg(target_os = "linux")]
    if let Some(watch) = linux::Watch::of(files) {
        return watch.during(whole, act);
    }
    let _ = (files, whole);
    act();
}

#[cfg(target_os = "linux")]
mod linux {
    use std::collections::HashMap;
    use std::ffi::OsString;
    use std::mem::MaybeUninit;
    use std::os::fd::OwnedFd;
    use std::os::unix::ffi::OsStringExt;
    use std::path::{Path, PathBuf};

    use rustix::event::{PollFd, PollFlags, poll};
    use rustix::fs::inotify::{CreateFlags, Reader, WatchFlags, add_watch, init};
    use rustix::pipe::{PipeFlags, pipe_with};

    /// Room for a few events at a time.
    const ROOM: usize = 4 << 10;

    pub(super) struct Watch {
        events: OwnedFd,
        /// Numbers of files by their folder's watch and their name.
        files: HashMap<(i32, OsString), usize>,
    }

    impl Watch {
        /// A watch on the folders of some files; `None` where there can be none.
        pub(super) fn of(files: &[PathBuf]) -> Option<Watch> {
            let events = init(CreateFlags::CLOEXEC | CreateFlags::NONBLOCK).ok()?;
            let mut watches: HashMap<&Path, i32> = HashMap::new();
            let mut numbers = HashMap::new();
            for (number, file) in files.iter().enumerate() {
                let folder = file.parent()?;
                let watch = match watches.get(folder) {
                    Some(watch) => *watch,
                    None => {
                        let what = WatchFlags::CLOSE_WRITE | WatchFlags::MOVED_TO;
                        let only = WatchFlags::ONLYDIR | WatchFlags::DONT_FOLLOW;
                        let watch = add_watch(&events, folder, what | only).ok()?;
                        watches.insert(folder, watch);
                        watch
                    }
                };
                numbers.insert((watch, file.file_name()?.to_owned()), number);
            }
            Some(Watch {
                events,
                files: numbers,
            })
        }

        pub(super) fn during(self, whole: &(dyn Fn(usize) + Sync), act: &mut dyn FnMut()) {
            let Ok((ended, end)) = pipe_with(PipeFlags::CLOEXEC) else {
                return act();
            };
            std::thread::scope(|scope| {
                scope.spawn(|| self.tell(&ended, whole));
                // Dropped also if `act` panics: the thread ends then.
                let end = end;
                act();
                drop(end);
            });
        }

        /// Tells of files until the other end of `ended` is closed.
        fn tell(&self, ended: &OwnedFd, whole: &(dyn Fn(usize) + Sync)) {
            let mut room = [MaybeUninit::uninit(); ROOM];
            let mut reader = Reader::new(&self.events, &mut room);
            loop {
                match reader.next() {
                    Ok(event) => {
                        let name = event
                            .file_name()
                            .map(|name| OsString::from_vec(name.to_bytes().to_vec()));
                        let number = name.and_then(|name| self.files.get(&(event.wd(), name)));
                        if let Some(number) = number {
                            whole(*number);
                        }
                        continue;
                    }
                    Err(rustix::io::Errno::INTR) => continue,
                    Err(rustix::io::Errno::AGAIN) => {}
                    Err(_) => return,
                }
                let mut fds = [
                    PollFd::new(&self.events, PollFlags::IN),
                    PollFd::new(ended, PollFlags::IN),
                ];
                match poll(&mut fds, None) {
                    Ok(_) if fds[1].revents().is_empty() => {}
                    Err(rustix::io::Errno::INTR) => {}
                    _ => return,
                }
            }
        }
    }
}
