//! The kernel's notes of what happens to files and folders (inotify).

use std::mem::MaybeUninit;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};

use rustix::fs::inotify::{self, CreateFlags, ReadFlags, WatchFlags};
use rustix::io::Errno;

/// Room for notes that are read at once, in bytes.
const ROOM: usize = 64 << 10;

/// The kernel's number of a watch. It gives none twice.
pub(crate) type WatchId = i32;

/// What is noted of a file: everything by which its content or metadata may become another, and
/// that a program opens it.
const OF_FILES: WatchFlags = WatchFlags::MODIFY
    .union(WatchFlags::ATTRIB)
    .union(WatchFlags::OPEN)
    .union(WatchFlags::CLOSE_WRITE)
    .union(WatchFlags::DELETE_SELF)
    .union(WatchFlags::MOVE_SELF);

/// What is noted of a folder: names that come and go, and metadata, its own and that of what is in
/// it.
const OF_FOLDERS: WatchFlags = WatchFlags::CREATE
    .union(WatchFlags::DELETE)
    .union(WatchFlags::MOVED_FROM)
    .union(WatchFlags::MOVED_TO)
    .union(WatchFlags::ATTRIB)
    .union(WatchFlags::DELETE_SELF)
    .union(WatchFlags::MOVE_SELF)
    .union(WatchFlags::ONLYDIR);

/// A name came into a folder or left it.
const NAMES: ReadFlags = ReadFlags::CREATE
    .union(ReadFlags::DELETE)
    .union(ReadFlags::MOVED_FROM)
    .union(ReadFlags::MOVED_TO);

/// The watch has ended, or what it is on is somewhere else.
const LEFT: ReadFlags = ReadFlags::DELETE_SELF
    .union(ReadFlags::MOVE_SELF)
    .union(ReadFlags::UNMOUNT)
    .union(ReadFlags::IGNORED);

/// Something that happened to a file or folder.
#[derive(Debug)]
pub(crate) enum Note {
    /// More than the kernel keeps: anything may have happened.
    Overflow,
    /// A name came into a folder or left it.
    Name(WatchId, Vec<u8>),
    /// Metadata of something in a folder.
    Inside(WatchId, Vec<u8>),
    /// The watched file or folder itself.
    Itself(WatchId),
    /// The same, and it is not where it was, or not watched any more.
    Left(WatchId),
}

/// Why there is no watch.
#[derive(Debug)]
pub(crate) enum NoWatch {
    /// As many are there as the kernel allows this user.
    Limit,
    /// It is gone, or another user's.
    Refused,
}

/// The watches of one process.
pub(crate) struct Watches {
    kernel: OwnedFd,
    room: Vec<MaybeUninit<u8>>,
}

impl Watches {
    /// None yet.
    pub fn new() -> rustix::io::Result<Watches> {
        let kernel = inotify::init(CreateFlags::CLOEXEC | CreateFlags::NONBLOCK)?;
        Ok(Watches {
            kernel,
            room: vec![MaybeUninit::uninit(); ROOM],
        })
    }

    /// What becomes readable when something happens.
    pub fn readable(&self) -> BorrowedFd<'_> {
        self.kernel.as_fd()
    }

    /// Watches an open file: the file itself, by whatever name it is reached.
    pub fn on_file(&self, file: impl AsFd) -> Result<WatchId, NoWatch> {
        self.on(file, OF_FILES)
    }

    /// Watches an open folder.
    pub fn on_folder(&self, folder: impl AsFd) -> Result<WatchId, NoWatch> {
        self.on(folder, OF_FOLDERS)
    }

    fn on(&self, what: impl AsFd, flags: WatchFlags) -> Result<WatchId, NoWatch> {
        let path = format!("/proc/self/fd/{}", what.as_fd().as_raw_fd());
        inotify::add_watch(&self.kernel, path, flags).map_err(|error| match error {
            Errno::NOSPC | Errno::NOMEM => NoWatch::Limit,
            _ => NoWatch::Refused,
        })
    }

    /// Ends a watch.
    pub fn end(&self, watch: WatchId) {
        // It may have ended by itself.
        let _ = inotify::remove_watch(&self.kernel, watch);
    }

    /// Everything that happened until now.
    pub fn notes(&mut self) -> Vec<Note> {
        let mut reader = inotify::Reader::new(&self.kernel, &mut self.room);
        let mut notes = Vec::new();
        loop {
            match reader.next() {
                Ok(event) => notes.push(note(&event)),
                Err(Errno::INTR) => {}
                Err(Errno::AGAIN) => return notes,
                // What cannot be read is not known.
                Err(_) => {
                    notes.push(Note::Overflow);
                    return notes;
                }
            }
        }
    }
}

fn note(event: &inotify::Event<'_>) -> Note {
    let (watch, what) = (event.wd(), event.events());
    if what.contains(ReadFlags::QUEUE_OVERFLOW) {
        return Note::Overflow;
    }
    let name = event
        .file_name()
        .map(|name| name.to_bytes().to_vec())
        .filter(|name| !name.is_empty());
    match name {
        Some(name) if what.intersects(NAMES) => Note::Name(watch, name),
        Some(name) => Note::Inside(watch, name),
        None if what.intersects(LEFT) => Note::Left(watch),
        None => Note::Itself(watch),
    }
}
