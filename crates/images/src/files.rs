//! Contents of files of images, kept once each: layers and roots share them as further names of the
//! same file.

use std::collections::hash_map::RandomState;
use std::fs::{File, Permissions};
use std::hash::{BuildHasher, Hasher as _};
use std::io::{self, Read, Write};
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use nubrik_bytes::{Digest, Hasher, Layout};
use rustix::fs::{AtFlags, CWD, Mode, OFlags, Timespec, Timestamps, XattrFlags};

use crate::problem::{ImageResult, refused};
use crate::tree::ImageFile;

/// Files of at most so many bytes are read whole before anything is written: most are kept already,
/// or small.
const IN_MEMORY: u64 = 1 << 20;

/// So many bytes at once, in which nothing is written where all of them are zero.
const PIECE: usize = 64 << 10;

/// The files of all images of a person on this machine.
pub(crate) struct FilePool {
    folder: PathBuf,
}

/// What a layer says of a file besides its content.
pub(crate) struct FileHead {
    pub size: u64,
    pub mode: u32,
    pub time: i64,
    pub attributes: Vec<(Vec<u8>, Vec<u8>)>,
}

impl FilePool {
    /// The pool in a folder, with a folder for each first byte of a name.
    pub fn open(folder: &Path) -> ImageResult<FilePool> {
        if !folder.join("ff").is_dir() {
            for byte in 0..=255u8 {
                let inner = folder.join(format!("{byte:02x}"));
                std::fs::create_dir_all(&inner).map_err(refused(&inner))?;
            }
        }
        Ok(FilePool {
            folder: folder.to_owned(),
        })
    }

    /// Where a file is, if it is there.
    pub fn path_of(&self, file: &ImageFile) -> PathBuf {
        let name = Digest::of(&file.to_bytes()).hex();
        self.folder.join(&name[..2]).join(&name[2..])
    }

    /// Keeps what a reader gives as the content of a file.
    pub fn keep(&self, head: FileHead, content: &mut dyn Read) -> ImageResult<ImageFile> {
        let broken = |why: io::Error| crate::problem::ImageProblem::Image(why.to_string());
        if head.size > IN_MEMORY {
            return self.keep_large(head, content);
        }
        let mut bytes = Vec::with_capacity(head.size as usize);
        content.read_to_end(&mut bytes).map_err(broken)?;
        let FileHead {
            size: _,
            mode,
            time,
            attributes,
        } = head;
        let digest = Digest::of(&bytes);
        let node = ImageFile {
            digest,
            size: bytes.len() as u64,
            mode,
            time,
            attributes,
        };
        let path = self.path_of(&node);
        if !path.exists() {
            let temporary = self.fresh_name();
            let file = self.fresh_file(&temporary)?;
            let written = (&file)
                .write_all(&bytes)
                .and_then(|()| finish(&file, &node));
            self.settle(&temporary, written, &path)?;
        }
        Ok(node)
    }

    fn keep_large(&self, head: FileHead, content: &mut dyn Read) -> ImageResult<ImageFile> {
        let temporary = self.fresh_name();
        let file = self.fresh_file(&temporary)?;
        let discard = |why| {
            let _ = std::fs::remove_file(&temporary);
            why
        };
        let mut hasher = Hasher::new();
        let mut piece = vec![0; PIECE];
        let mut at = 0u64;
        loop {
            let count = match read_piece(content, &mut piece) {
                Ok(0) => break,
                Ok(count) => count,
                Err(why) => {
                    return Err(discard(crate::problem::ImageProblem::Image(
                        why.to_string(),
                    )));
                }
            };
            hasher.update(&piece[..count]);
            // A hole stays one.
            if piece[..count].iter().any(|byte| *byte != 0) {
                file.write_all_at(&piece[..count], at)
                    .map_err(|why| discard(refused(&temporary)(why)))?;
            }
            at += count as u64;
        }
        let FileHead {
            size: _,
            mode,
            time,
            attributes,
        } = head;
        let node = ImageFile {
            digest: hasher.finish(),
            size: at,
            mode,
            time,
            attributes,
        };
        let written = file.set_len(at).and_then(|()| finish(&file, &node));
        let path = self.path_of(&node);
        self.settle(&temporary, written, &path)?;
        Ok(node)
    }

    /// Gives a file that was written its name, or throws it away.
    fn settle(&self, temporary: &Path, written: io::Result<()>, path: &Path) -> ImageResult<()> {
        let settled = written.and_then(|()| std::fs::rename(temporary, path));
        settled.map_err(|why| {
            let _ = std::fs::remove_file(temporary);
            refused(path)(why)
        })
    }

    fn fresh_name(&self) -> PathBuf {
        self.folder.join(fresh_name())
    }

    fn fresh_file(&self, at: &Path) -> ImageResult<File> {
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC;
        let file = rustix::fs::open(at, flags, Mode::RUSR | Mode::WUSR).map_err(io::Error::from);
        file.map(File::from).map_err(refused(at))
    }

    /// Puts a file at a place of a folder: as another name of the one that is kept, or as a copy
    /// where there cannot be more names.
    ///
    /// # Errors
    /// When it is not there (`NotFound`), or the machine refuses.
    pub fn put(&self, file: &ImageFile, folder: &File, at: &[u8]) -> io::Result<()> {
        let from = self.path_of(file);
        match rustix::fs::linkat(CWD, &from, folder, at, AtFlags::empty()) {
            Ok(()) => Ok(()),
            Err(rustix::io::Errno::MLINK | rustix::io::Errno::PERM | rustix::io::Errno::XDEV) => {
                copy(File::open(&from)?, file, folder, at).map(drop)
            }
            Err(why) => Err(why.into()),
        }
    }
}

/// A name that nothing had before, in this process or another one, of this machine or one that
/// shares the folder: what has such a name is not whole yet.
pub(crate) fn fresh_name() -> String {
    static PROCESS: OnceLock<u64> = OnceLock::new();
    static NEXT: AtomicU64 = AtomicU64::new(0);
    let process = PROCESS.get_or_init(|| RandomState::new().build_hasher().finish());
    format!(
        ".new-{process:016x}-{}",
        NEXT.fetch_add(1, Ordering::Relaxed)
    )
}

/// Reads until a piece is full, or nothing more comes.
fn read_piece(from: &mut dyn Read, piece: &mut [u8]) -> io::Result<usize> {
    let mut count = 0;
    while count < piece.len() {
        match from.read(&mut piece[count..]) {
            Ok(0) => break,
            Ok(more) => count += more,
            Err(why) if why.kind() == io::ErrorKind::Interrupted => {}
            Err(why) => return Err(why),
        }
    }
    Ok(count)
}

/// Copies a file to a place of a folder, where nothing is yet; gives how it is there.
pub(crate) fn copy(
    mut from: File,
    file: &ImageFile,
    folder: &impl std::os::fd::AsFd,
    at: &[u8],
) -> io::Result<std::fs::Metadata> {
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC;
    let copy = File::from(rustix::fs::openat(
        folder,
        at,
        flags,
        Mode::RUSR | Mode::WUSR,
    )?);
    io::copy(&mut from, &mut &copy)?;
    finish(&copy, file)?;
    copy.metadata()
}

/// Gives a file that was written its attributes, permissions and time.
fn finish(file: &File, node: &ImageFile) -> io::Result<()> {
    for (name, value) in &node.attributes {
        rustix::fs::fsetxattr(file, name.as_slice(), value, XattrFlags::empty())?;
    }
    file.set_permissions(Permissions::from_mode(node.mode))?;
    rustix::fs::futimens(file, &times(node.time))?;
    Ok(())
}

/// A time in seconds as the kernel takes it, for both of a file's own.
pub(crate) fn times(seconds: i64) -> Timestamps {
    let time = Timespec {
        tv_sec: seconds,
        tv_nsec: 0,
    };
    Timestamps {
        last_access: time,
        last_modification: time,
    }
}
