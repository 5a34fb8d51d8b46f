//! Orders by which sandboxes are laid out: texts of the kernel's files, folders, links, and what is
//! mounted where. They are written beforehand and carried out in a child that shares memory, by
//! system calls only.

use std::ffi::CStr;
use std::io;
use std::os::fd::RawFd;

/// Something to do while a sandbox, or what all sandboxes begin from, is laid out. Paths are those
/// of the moment.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Order<'a> {
    /// Writes a text to a file of the kernel's.
    Write { path: &'a CStr, text: &'a CStr },
    /// What is mounted from now on is no one else's business.
    Private,
    /// Mounts an empty file system in memory.
    Memory { at: &'a CStr, options: &'a CStr },
    /// Makes a folder, if it is not there.
    Folder { at: &'a CStr },
    /// Makes an empty file.
    File { at: &'a CStr },
    /// Makes an empty file that nobody may open.
    ClosedFile { at: &'a CStr },
    /// Makes a link.
    Link { at: &'a CStr, target: &'a CStr },
    /// Shows a file or folder at another place; where it is gone, that place goes as well.
    Show {
        from: &'a CStr,
        at: &'a CStr,
        whole: bool,
    },
    /// Sets attributes of what is mounted at a place (`linux/mount.h`), and with `whole` of all
    /// below it.
    Attributes { at: &'a CStr, set: u64, whole: bool },
    /// Lets a mounted place be changed again.
    Writable { at: &'a CStr },
    /// Takes away what is mounted at a place, if anything is.
    Unmount { at: &'a CStr },
    /// Removes a file or link, if it is there.
    RemoveFile { at: &'a CStr },
    /// Removes an empty folder, if it is there.
    RemoveFolder { at: &'a CStr },
    /// Makes a mounted place the root, and the root before it a folder in there.
    Pivot { at: &'a CStr, before: &'a CStr },
    /// Takes away what is mounted at a place.
    Remove { at: &'a CStr },
}

/// What is to be done, in order, and what became of it.
pub(crate) struct Furnish<'a> {
    pub orders: &'a [Order<'a>],
    /// Written: the number of the order that failed, and the error.
    pub(super) failed: Option<(usize, i32)>,
}

impl<'a> Furnish<'a> {
    pub fn new(orders: &'a [Order<'a>]) -> Furnish<'a> {
        Furnish {
            orders,
            failed: None,
        }
    }

    /// Does it all, or stops at the first thing that fails. In a child: only system calls.
    ///
    /// # Safety
    /// Changes this process; it must be one that was made for it.
    pub unsafe fn carry_out(&mut self) -> bool {
        for (number, order) in self.orders.iter().enumerate() {
            // SAFETY: as the caller vouches; all paths are nul-terminated.
            if unsafe { !order.carry_out() } {
                // SAFETY: reads this thread's variable.
                self.failed = Some((number, unsafe { *libc::__errno_location() }));
                return false;
            }
        }
        true
    }

    pub fn problem(&self) -> Option<io::Error> {
        let (number, error) = self.failed?;
        let error = io::Error::from_raw_os_error(error);
        Some(io::Error::new(
            error.kind(),
            format!("{error}, at {:?}", self.orders.get(number)),
        ))
    }
}

/// From `linux/mount.h`.
#[repr(C)]
struct MountAttributes {
    set: u64,
    clear: u64,
    propagation: u64,
    user: u64,
}

const MOUNT_SETATTR: libc::c_long = 442;
pub(super) const OPEN_TREE: libc::c_long = 428;
pub(super) const MOVE_MOUNT: libc::c_long = 429;
pub(super) const OPEN_TREE_CLONE: u32 = 1;
pub(super) const AT_RECURSIVE: u32 = 0x8000;
pub(super) const MOVE_FROM_DESCRIPTOR: u32 = 4;

pub(super) fn error() -> i32 {
    // SAFETY: reads this thread's variable.
    unsafe { *libc::__errno_location() }
}

impl Order<'_> {
    /// # Safety
    /// As for [`Furnish::carry_out`].
    pub(super) unsafe fn carry_out(&self) -> bool {
        let none: *const libc::c_char = std::ptr::null();
        // SAFETY: all pointers are to nul-terminated texts or to variables of this function.
        unsafe {
            match *self {
                Order::Write { path, text } => {
                    let file = libc::open(path.as_ptr(), libc::O_WRONLY | libc::O_CLOEXEC);
                    let bytes = text.to_bytes();
                    let written =
                        file >= 0 && libc::write(file, bytes.as_ptr().cast(), bytes.len()) >= 0;
                    if file >= 0 {
                        let kept = error();
                        libc::close(file);
                        *libc::__errno_location() = kept;
                    }
                    written
                }
                Order::Private => {
                    let flags = libc::MS_REC | libc::MS_PRIVATE;
                    libc::mount(none, c"/".as_ptr(), none, flags, std::ptr::null()) == 0
                }
                Order::Memory { at, options } => {
                    let flags = libc::MS_NOSUID | libc::MS_NODEV;
                    let kind = c"tmpfs".as_ptr();
                    libc::mount(kind, at.as_ptr(), kind, flags, options.as_ptr().cast()) == 0
                }
                Order::Folder { at } => {
                    libc::mkdir(at.as_ptr(), 0o755) == 0 || error() == libc::EEXIST
                }
                Order::File { at } => {
                    libc::mknod(at.as_ptr(), libc::S_IFREG | 0o644, 0) == 0
                        || error() == libc::EEXIST
                }
                Order::ClosedFile { at } => {
                    libc::mknod(at.as_ptr(), libc::S_IFREG, 0) == 0 || error() == libc::EEXIST
                }
                Order::Link { at, target } => {
                    libc::symlink(target.as_ptr(), at.as_ptr()) == 0 || error() == libc::EEXIST
                }
                Order::Show { from, at, whole } => {
                    let flags = libc::MS_BIND | if whole { libc::MS_REC } else { 0 };
                    let shown =
                        libc::mount(from.as_ptr(), at.as_ptr(), none, flags, std::ptr::null()) == 0;
                    let is_gone =
                        !shown && matches!(error(), libc::ENOENT | libc::ENOTDIR | libc::EACCES);
                    if is_gone {
                        libc::unlinkat(
                            libc::AT_FDCWD,
                            at.as_ptr(),
                            if whole { libc::AT_REMOVEDIR } else { 0 },
                        );
                    }
                    shown || is_gone
                }
                Order::Attributes { at, set, whole } => set_attributes(at, set, 0, whole),
                Order::Writable { at } => set_attributes(at, 0, MOUNT_READ_ONLY, false),
                Order::Unmount { at } => {
                    let flags = libc::MNT_DETACH | libc::UMOUNT_NOFOLLOW;
                    libc::umount2(at.as_ptr(), flags) == 0
                        || matches!(error(), libc::EINVAL | libc::ENOENT)
                }
                Order::RemoveFile { at } => {
                    libc::unlink(at.as_ptr()) == 0 || error() == libc::ENOENT
                }
                Order::RemoveFolder { at } => {
                    libc::rmdir(at.as_ptr()) == 0 || error() == libc::ENOENT
                }
                Order::Pivot { at, before } => {
                    libc::syscall(libc::SYS_pivot_root, at.as_ptr(), before.as_ptr()) == 0
                        && libc::chdir(c"/".as_ptr()) == 0
                }
                Order::Remove { at } => libc::umount2(at.as_ptr(), libc::MNT_DETACH) == 0,
            }
        }
    }
}

const MOUNT_READ_ONLY: u64 = 1;

/// Changes attributes of what is mounted at a place. In a child.
///
/// # Safety
/// None of its own.
unsafe fn set_attributes(at: &CStr, set: u64, clear: u64, whole: bool) -> bool {
    let attributes = MountAttributes {
        set,
        clear,
        propagation: 0,
        user: 0,
    };
    let flags = if whole { AT_RECURSIVE } else { 0 };
    let size = size_of::<MountAttributes>();
    let (here, place) = (libc::AT_FDCWD, at.as_ptr());
    // SAFETY: the path is nul-terminated, and the structure lives as long as the call.
    unsafe {
        libc::syscall(
            MOUNT_SETATTR,
            here,
            place,
            flags,
            &raw const attributes,
            size,
        ) == 0
    }
}

/// Opens a file of the kernel's for reading. In a child.
///
/// # Safety
/// None of its own; the descriptor is the caller's to close.
pub(super) unsafe fn open(path: &CStr) -> RawFd {
    // SAFETY: the path is nul-terminated.
    unsafe { libc::open(path.as_ptr(), libc::O_RDONLY | libc::O_CLOEXEC) }
}
