//! Namespaces: a user without privileges, networks of one's own, and rooms: views of the machine in which commands see
//! only what was put there.
//!
//! What is made here is made by short-lived children that share memory with the thread that waits for them. They do
//! system calls only.

use std::ffi::CStr;
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd, RawFd};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, MutexGuard, OnceLock, PoisonError};

use rustix::event::{PollFd, PollFlags};
use rustix::process::PidfdFlags;

use super::process::{Exit, end, spare, wait};
use super::start::{STACK, stay_visible, with_stacks, without_signals};

/// Runs a child that shares memory with this thread, which waits until it has ended.
fn run_child(
    child: extern "C" fn(*mut libc::c_void) -> libc::c_int,
    flags: libc::c_int,
    data: *mut libc::c_void,
) -> io::Result<()> {
    let flags = flags | libc::CLONE_VM | libc::CLONE_VFORK | libc::SIGCHLD;
    with_stacks(|[stack, _]| {
        // SAFETY: the child runs on a stack of its own, whose upper end is aligned to 16 bytes; CLONE_VFORK stops this thread
        // until it has ended, so that what `data` points to outlives its use.
        let id = without_signals(|| unsafe { libc::clone(child, stack, flags, data) });
        if id < 0 {
            return Err(io::Error::last_os_error());
        }
        wait(id);
        Ok(())
    })
}

struct Holder {
    network: bool,
    ends: [RawFd; 2],
}

/// Runs in a copy of this process that is apart already: makes its network usable and waits until the other end
/// of a pipe is closed. Only system calls.
extern "C" fn hold(holder: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to this copy of the parent's `Holder`; all else are system calls on variables of
    // this function.
    unsafe {
        let holder = &*holder.cast::<Holder>();
        libc::close(holder.ends[1]);
        let mut code = 0;
        if holder.network {
            code = i32::from(!bring_up_loopback());
        }
        let mut byte = 0u8;
        libc::read(holder.ends[0], (&raw mut byte).cast(), 1);
        libc::_exit(code)
    }
}

/// Makes a user without privileges, and with `network` a network in which only its own processes are: handles
/// that keep both alive. Whoever is not the superuser stays who they are; the superuser becomes nobody.
pub(crate) fn new_apart(network: bool) -> io::Result<(OwnedFd, Option<OwnedFd>)> {
    /// The number of `nobody`, nearly everywhere.
    const NOBODY: u32 = 65534;
    let (reading, writing) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)?;
    let mut holder = Holder { network, ends: [reading.as_raw_fd(), writing.as_raw_fd()] };
    let mut stack = vec![0u128; STACK / 16];
    let flags = libc::CLONE_NEWUSER | if network { libc::CLONE_NEWNET } else { 0 } | libc::SIGCHLD;
    // SAFETY: the child is a copy of this process, on a stack of its own, and does system calls only.
    let id =
        unsafe { libc::clone(hold, stack.as_mut_ptr_range().end.cast(), flags, (&raw mut holder).cast()) };
    if id < 0 {
        return Err(io::Error::last_os_error());
    }
    let own = |name: &str| format!("/proc/{id}/{name}");
    let inside = |number: u32| if number == 0 { NOBODY } else { number };
    let (user, group) = (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw());
    let made = std::fs::write(own("setgroups"), "deny")
        .and_then(|()| std::fs::write(own("uid_map"), format!("{} {user} 1", inside(user))))
        .and_then(|()| std::fs::write(own("gid_map"), format!("{} {group} 1", inside(group))))
        .and_then(|()| {
            let open = |name: &str| std::fs::File::open(own(name)).map(OwnedFd::from);
            Ok((open("ns/user")?, if network { Some(open("ns/net")?) } else { None }))
        });
    drop(writing);
    match wait(id) {
        Exit::Code(0) => made,
        _ => Err(io::Error::other("the kernel does not let the new network be used")),
    }
}

struct SocketWanted {
    apart: [RawFd; 2],
    socket: RawFd,
    error: i32,
}

/// Runs in a child that shares memory and descriptors with the parent thread, which waits. Only system calls.
extern "C" fn make_socket(wanted: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable.
    unsafe {
        let wanted = &mut *wanted.cast::<SocketWanted>();
        if libc::setns(wanted.apart[0], libc::CLONE_NEWUSER) == 0
            && libc::setns(wanted.apart[1], libc::CLONE_NEWNET) == 0
        {
            let kind = libc::SOCK_STREAM | libc::SOCK_CLOEXEC | libc::SOCK_NONBLOCK;
            wanted.socket = libc::socket(libc::AF_INET, kind, 0);
        }
        wanted.error = *libc::__errno_location();
        libc::_exit(0)
    }
}

/// A socket of a network apart, which does not block. A socket belongs to the network that it was made in.
pub(crate) fn socket_apart(user: BorrowedFd<'_>, network: BorrowedFd<'_>) -> io::Result<OwnedFd> {
    let mut wanted = SocketWanted { apart: [user.as_raw_fd(), network.as_raw_fd()], socket: -1, error: 0 };
    run_child(make_socket, libc::CLONE_FILES, (&raw mut wanted).cast())?;
    stay_visible();
    if wanted.socket < 0 {
        return Err(io::Error::from_raw_os_error(wanted.error));
    }
    // SAFETY: the child made it in the table of descriptors that both share; nothing else owns it.
    Ok(unsafe { OwnedFd::from_raw_fd(wanted.socket) })
}

// Rooms.

/// Something to do while a room, or what all rooms begin from, is laid out. Paths are those of the moment.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Order<'a> {
    /// Writes a text to a file of the kernel's.
    Write { path: &'a CStr, text: &'a CStr },
    /// What is mounted from now on is nobody else's business.
    Private,
    /// Mounts an empty file system in memory.
    Memory { at: &'a CStr, options: &'a CStr },
    /// Makes a folder, if it is not there.
    Folder { at: &'a CStr },
    /// Makes an empty file.
    File { at: &'a CStr },
    /// Makes a link.
    Link { at: &'a CStr, target: &'a CStr },
    /// Shows a file or folder at another place; where it is gone, that place goes as well.
    Show { from: &'a CStr, at: &'a CStr, whole: bool },
    /// Sets attributes of what is mounted at a place (`linux/mount.h`), and with `whole` of all below it.
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
    failed: Option<(usize, i32)>,
}

impl<'a> Furnish<'a> {
    pub fn new(orders: &'a [Order<'a>]) -> Furnish<'a> {
        Furnish { orders, failed: None }
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
        Some(io::Error::new(error.kind(), format!("{error}, at {:?}", self.orders.get(number))))
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
const OPEN_TREE: libc::c_long = 428;
const MOVE_MOUNT: libc::c_long = 429;
const OPEN_TREE_CLONE: u32 = 1;
const AT_RECURSIVE: u32 = 0x8000;
const MOVE_FROM_DESCRIPTOR: u32 = 4;

fn error() -> i32 {
    // SAFETY: reads this thread's variable.
    unsafe { *libc::__errno_location() }
}

impl Order<'_> {
    /// # Safety
    /// As for [`Furnish::carry_out`].
    unsafe fn carry_out(&self) -> bool {
        let none: *const libc::c_char = std::ptr::null();
        // SAFETY: all pointers are to nul-terminated texts or to variables of this function.
        unsafe {
            match *self {
                Order::Write { path, text } => {
                    let file = libc::open(path.as_ptr(), libc::O_WRONLY | libc::O_CLOEXEC);
                    let bytes = text.to_bytes();
                    let written = file >= 0 && libc::write(file, bytes.as_ptr().cast(), bytes.len()) >= 0;
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
                Order::Folder { at } => libc::mkdir(at.as_ptr(), 0o755) == 0 || error() == libc::EEXIST,
                Order::File { at } => {
                    libc::mknod(at.as_ptr(), libc::S_IFREG | 0o644, 0) == 0 || error() == libc::EEXIST
                }
                Order::Link { at, target } => {
                    libc::symlink(target.as_ptr(), at.as_ptr()) == 0 || error() == libc::EEXIST
                }
                Order::Show { from, at, whole } => {
                    let flags = libc::MS_BIND | if whole { libc::MS_REC } else { 0 };
                    let shown = libc::mount(from.as_ptr(), at.as_ptr(), none, flags, std::ptr::null()) == 0;
                    let is_gone = !shown && matches!(error(), libc::ENOENT | libc::ENOTDIR | libc::EACCES);
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
                    libc::umount2(at.as_ptr(), flags) == 0 || matches!(error(), libc::EINVAL | libc::ENOENT)
                }
                Order::RemoveFile { at } => libc::unlink(at.as_ptr()) == 0 || error() == libc::ENOENT,
                Order::RemoveFolder { at } => libc::rmdir(at.as_ptr()) == 0 || error() == libc::ENOENT,
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
    let attributes = MountAttributes { set, clear, propagation: 0, user: 0 };
    let flags = if whole { AT_RECURSIVE } else { 0 };
    let size = size_of::<MountAttributes>();
    let (here, place) = (libc::AT_FDCWD, at.as_ptr());
    // SAFETY: the path is nul-terminated, and the structure lives as long as the call.
    unsafe { libc::syscall(MOUNT_SETATTR, here, place, flags, &raw const attributes, size) == 0 }
}

/// Opens a file of the kernel's for reading. In a child.
///
/// # Safety
/// None of its own; the descriptor is the caller's to close.
unsafe fn open(path: &CStr) -> RawFd {
    // SAFETY: the path is nul-terminated.
    unsafe { libc::open(path.as_ptr(), libc::O_RDONLY | libc::O_CLOEXEC) }
}

/// What all rooms begin from: handles that keep its namespaces.
pub(crate) struct TemplateHandle {
    /// The user, who has all privileges over the rooms and none over the machine.
    user: OwnedFd,
    /// The view of the machine as it is, from which more can be taken.
    machine: OwnedFd,
    /// The view with which rooms begin.
    view: OwnedFd,
}

struct NewTemplate<'a> {
    first: Furnish<'a>,
    then: Furnish<'a>,
    /// How this process is found by its own view of processes, before and after.
    own: [&'a CStr; 3],
    user: RawFd,
    machine: RawFd,
    view: RawFd,
}

/// Runs in a child with a new user and a view of its own. Only system calls.
extern "C" fn lay_out_template(new: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable; this child was made to be changed.
    unsafe {
        let new = &mut *new.cast::<NewTemplate<'_>>();
        if new.first.carry_out() {
            new.user = open(new.own[0]);
            new.machine = open(new.own[1]);
            if libc::unshare(libc::CLONE_NEWNS) < 0 {
                new.then.failed = Some((usize::MAX, error()));
            } else if new.then.carry_out() {
                new.view = open(new.own[2]);
            }
        }
        libc::_exit(0)
    }
}

/// Makes what all rooms begin from. `first` lays out the view that shows the machine, too, `then` takes that away; `own`
/// are the paths of this user's namespace, of the view after `first`, and of the view after `then`.
///
/// # Errors
/// When the kernel does not offer that to this user.
pub(crate) fn found_template(
    first: &[Order<'_>],
    then: &[Order<'_>],
    own: [&CStr; 3],
) -> io::Result<TemplateHandle> {
    let (first, then) = (Furnish::new(first), Furnish::new(then));
    let mut new = NewTemplate { first, then, own, user: -1, machine: -1, view: -1 };
    let flags = libc::CLONE_FILES | libc::CLONE_NEWUSER | libc::CLONE_NEWNS;
    run_child(lay_out_template, flags, (&raw mut new).cast())?;
    stay_visible();
    // SAFETY: the child opened them in the table of descriptors that both share; nothing else owns them.
    let take = |fd: RawFd| (fd >= 0).then(|| unsafe { OwnedFd::from_raw_fd(fd) });
    let taken = [new.user, new.machine, new.view].map(take);
    match taken {
        [Some(user), Some(machine), Some(view)] => Ok(TemplateHandle { user, machine, view }),
        _ => Err(new
            .first
            .problem()
            .or(new.then.problem())
            .unwrap_or_else(|| io::Error::other("the kernel does not tell where its namespaces are"))),
    }
}

impl TemplateHandle {
    pub fn user(&self) -> BorrowedFd<'_> {
        std::os::fd::AsFd::as_fd(&self.user)
    }
}

struct NewSource<'a> {
    template: [RawFd; 3],
    from: &'a CStr,
    at: &'a CStr,
    folder: bool,
    set: u64,
    error: i32,
}

/// Runs in a child: takes something of the machine, and shows it in the view with which rooms begin. Only system calls.
extern "C" fn take_source(new: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable; all else are system calls on variables of this function.
    unsafe {
        let new = &mut *new.cast::<NewSource<'_>>();
        let [user, machine, view] = new.template;
        let done = 'done: {
            if libc::setns(user, libc::CLONE_NEWUSER) < 0 || libc::setns(machine, libc::CLONE_NEWNS) < 0 {
                break 'done false;
            }
            let flags = OPEN_TREE_CLONE | AT_RECURSIVE | libc::O_CLOEXEC as u32;
            let tree = libc::syscall(OPEN_TREE, libc::AT_FDCWD, new.from.as_ptr(), flags) as RawFd;
            if tree < 0 || libc::setns(view, libc::CLONE_NEWNS) < 0 {
                break 'done false;
            }
            let place = if new.folder { Order::Folder { at: new.at } } else { Order::File { at: new.at } };
            if !place.carry_out() {
                break 'done false;
            }
            let empty = c"".as_ptr();
            let (here, at) = (libc::AT_FDCWD, new.at.as_ptr());
            libc::syscall(MOVE_MOUNT, tree, empty, here, at, MOVE_FROM_DESCRIPTOR) == 0
                && Order::Attributes { at: new.at, set: new.set, whole: true }.carry_out()
        };
        if !done {
            new.error = error();
        }
        libc::_exit(0)
    }
}

/// Shows a file or folder of the machine in the view with which rooms begin, from now on, with attributes that it has in
/// all of them.
///
/// # Errors
/// When it is not there, or the kernel refuses.
pub(crate) fn add_source(
    template: &TemplateHandle,
    from: &CStr,
    at: &CStr,
    folder: bool,
    set: u64,
) -> io::Result<()> {
    let template = [&template.user, &template.machine, &template.view].map(AsRawFd::as_raw_fd);
    let mut new = NewSource { template, from, at, folder, set, error: 0 };
    run_child(take_source, 0, (&raw mut new).cast())?;
    stay_visible();
    if new.error == 0 { Ok(()) } else { Err(io::Error::from_raw_os_error(new.error)) }
}

struct NewFolder<'a> {
    template: [RawFd; 2],
    at: &'a CStr,
    error: i32,
}

/// Runs in a child: makes a folder in the view with which rooms begin. Only system calls.
extern "C" fn make_folder(new: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable.
    unsafe {
        let new = &mut *new.cast::<NewFolder<'_>>();
        let [user, view] = new.template;
        if libc::setns(user, libc::CLONE_NEWUSER) < 0
            || libc::setns(view, libc::CLONE_NEWNS) < 0
            || !(Order::Folder { at: new.at }.carry_out())
        {
            new.error = error();
        }
        libc::_exit(0)
    }
}

/// Makes a folder in the view with which rooms begin.
///
/// # Errors
/// When the kernel refuses.
pub(crate) fn add_folder(template: &TemplateHandle, at: &CStr) -> io::Result<()> {
    let handles = [&template.user, &template.view].map(AsRawFd::as_raw_fd);
    let mut new = NewFolder { template: handles, at, error: 0 };
    run_child(make_folder, 0, (&raw mut new).cast())?;
    stay_visible();
    if new.error == 0 { Ok(()) } else { Err(io::Error::from_raw_os_error(new.error)) }
}

struct NewNetwork {
    user: RawFd,
    network: RawFd,
    error: i32,
}

/// Runs in a child that shares descriptors with the parent. Only system calls.
extern "C" fn make_network(new: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable; all else are system calls on variables of this function.
    unsafe {
        let new = &mut *new.cast::<NewNetwork>();
        if libc::setns(new.user, libc::CLONE_NEWUSER) == 0
            && libc::unshare(libc::CLONE_NEWNET) == 0
            && bring_up_loopback()
        {
            new.network = open(c"/proc/self/ns/net");
        }
        new.error = error();
        libc::_exit(0)
    }
}

/// Makes a network of one's own usable. In a child: only system calls.
///
/// # Safety
/// None of its own.
unsafe fn bring_up_loopback() -> bool {
    // SAFETY: a structure of numbers, for which zero is a value; the request's number says its size.
    unsafe {
        let mut request: libc::ifreq = std::mem::zeroed();
        request.ifr_name[0] = b'l' as libc::c_char;
        request.ifr_name[1] = b'o' as libc::c_char;
        request.ifr_ifru.ifru_flags = libc::IFF_UP as libc::c_short;
        let socket = libc::socket(libc::AF_INET, libc::SOCK_DGRAM | libc::SOCK_CLOEXEC, 0);
        let done = libc::ioctl(socket, libc::SIOCSIFFLAGS, &raw const request) == 0;
        libc::close(socket);
        done
    }
}

/// A network in which nobody is yet, for commands in rooms.
///
/// # Errors
/// When the kernel refuses.
pub(crate) fn new_network(template: &TemplateHandle) -> io::Result<OwnedFd> {
    let mut new = NewNetwork { user: template.user.as_raw_fd(), network: -1, error: 0 };
    run_child(make_network, libc::CLONE_FILES, (&raw mut new).cast())?;
    stay_visible();
    if new.network < 0 {
        return Err(io::Error::from_raw_os_error(new.error));
    }
    // SAFETY: the child opened it in the table of descriptors that both share; nothing else owns it.
    Ok(unsafe { OwnedFd::from_raw_fd(new.network) })
}

/// A room: a process that keeps its namespaces, and ends with this program. When it ends, the kernel ends everything in
/// the room and waits for that.
pub(crate) struct RoomHandle {
    id: i32,
    process: OwnedFd,
    spaces: libc::c_int,
    /// What may be shown there, which nobody in the room can reach.
    sources: OwnedFd,
    /// The list of its processes, where it has its own.
    processes: Option<OwnedFd>,
    /// Its folders for temporary files, as they were when they were made.
    temporary: Mutex<TemporaryFolders>,
    /// On which the process runs that keeps it.
    #[allow(dead_code)]
    stack: Vec<u128>,
}

impl RoomHandle {
    /// A descriptor for the process that keeps it.
    pub fn process(&self) -> RawFd {
        self.process.as_raw_fd()
    }

    /// The namespaces that are its own, as flags of `clone`.
    pub fn spaces(&self) -> libc::c_int {
        self.spaces
    }

    /// A descriptor for the folder of what may be shown there.
    pub fn sources(&self) -> RawFd {
        self.sources.as_raw_fd()
    }

    pub fn temporary(&self) -> MutexGuard<'_, TemporaryFolders> {
        self.temporary.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether the process that keeps it is alive.
    pub fn is_kept(&self) -> bool {
        // SAFETY: asks for the state of a descriptor of ours.
        unsafe { !has_ended(self.process.as_raw_fd()) }
    }

    /// How many processes run in it besides the one that keeps it. Those that are about to end have a moment to do so.
    /// `None` where that cannot be told.
    pub fn running(&self) -> Option<usize> {
        const MOMENTS: u64 = 6;
        let mut count = None;
        for moment in 0..=MOMENTS {
            count = self.count();
            if matches!(count, None | Some(0)) || moment == MOMENTS {
                break;
            }
            std::thread::sleep(std::time::Duration::from_micros(200 << moment));
        }
        count
    }

    fn count(&self) -> Option<usize> {
        let processes = self.processes.as_ref()?;
        let mut buffer = [std::mem::MaybeUninit::uninit(); 16 << 10];
        rustix::fs::seek(processes, rustix::fs::SeekFrom::Start(0)).ok()?;
        let mut entries = rustix::fs::RawDir::new(processes, &mut buffer);
        let mut count = 0;
        while let Some(entry) = entries.next() {
            let entry = entry.ok()?;
            let name = entry.file_name().to_bytes();
            count += usize::from(name.iter().all(u8::is_ascii_digit) && name != b"1");
        }
        Some(count)
    }
}

impl Drop for RoomHandle {
    fn drop(&mut self) {
        end(self.id);
        wait(self.id);
        spare(self.id.unsigned_abs(), false);
    }
}

/// A room's folders for temporary files. Whoever finds them as they were made need not make them anew.
#[derive(Default)]
pub(crate) struct TemporaryFolders {
    /// Of each, what would be another one if something had been done there.
    known: [[i64; 7]; TEMPORARY_FOLDERS.len()],
}

const TEMPORARY_FOLDERS: [&CStr; 4] = [c"/tmp", c"/tmp/own", c"/tmp/home", c"/tmp/shm"];

impl TemporaryFolders {
    /// Makes them anew unless they are as they were. In a child: only system calls.
    ///
    /// # Safety
    /// Changes what this process sees; it must be one that was made for it.
    pub unsafe fn refresh(&mut self) -> bool {
        // SAFETY: as the caller vouches.
        unsafe {
            if self.look() == Some(true) {
                return true;
            }
            let options = c"mode=1777";
            let made = Order::Unmount { at: TEMPORARY_FOLDERS[0] }.carry_out()
                && Order::Memory { at: TEMPORARY_FOLDERS[0], options }.carry_out()
                && TEMPORARY_FOLDERS[1..].iter().all(|at| Order::Folder { at }.carry_out());
            made && self.look().is_some()
        }
    }

    /// Whether they are as they were when this was asked last; `None` where one is not there.
    ///
    /// # Safety
    /// None of its own.
    unsafe fn look(&mut self) -> Option<bool> {
        let mut same = true;
        for (known, at) in self.known.iter_mut().zip(TEMPORARY_FOLDERS) {
            // SAFETY: a structure of numbers, for which zero is a value, and a nul-terminated path.
            let found = unsafe {
                let mut found: libc::stat = std::mem::zeroed();
                if libc::lstat(at.as_ptr(), &raw mut found) < 0 {
                    return None;
                }
                found
            };
            let now = [
                found.st_ino as i64,
                i64::from(found.st_mode),
                found.st_size,
                found.st_ctime,
                found.st_ctime_nsec,
                found.st_mtime,
                found.st_mtime_nsec,
            ];
            same &= *known == now;
            *known = now;
        }
        Some(same)
    }
}

const WAITING: u32 = 0;
const READY: u32 = 1;
const REFUSED: u32 = 2;

struct NewRoom<'a> {
    template: [RawFd; 2],
    /// What may be shown, and what covers it for those who are in the room.
    covers: [&'a CStr; 2],
    name: &'a CStr,
    own_processes: bool,
    own_memory: bool,
    stack: *mut libc::c_void,
    /// A descriptor for this program, by which its end is seen.
    program: RawFd,
    sources: RawFd,
    processes: RawFd,
    /// Written by the one who keeps it.
    state: AtomicU32,
    id: i32,
    process: RawFd,
    error: i32,
}

/// Runs in a child: lays out a room, starts who keeps it, and waits until that is ready. Only system calls.
extern "C" fn lay_out_room(new: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable, and so are those in it; this child was made to be changed.
    unsafe {
        let pointer = new;
        let new = &mut *new.cast::<NewRoom<'_>>();
        let [user, view] = new.template;
        let memory = if new.own_memory { libc::CLONE_NEWIPC } else { 0 };
        let name = new.name.to_bytes();
        let [sources, nothing] = new.covers;
        let open = |path: &CStr, flags: libc::c_int| {
            libc::open(path.as_ptr(), flags | libc::O_DIRECTORY | libc::O_CLOEXEC)
        };
        if libc::setns(user, libc::CLONE_NEWUSER) < 0
            || libc::setns(view, libc::CLONE_NEWNS) < 0
            || libc::unshare(libc::CLONE_NEWNS | libc::CLONE_NEWUTS | memory) < 0
            || libc::sethostname(name.as_ptr().cast(), name.len()) < 0
        {
            new.error = error();
            libc::_exit(0)
        }
        new.sources = open(sources, libc::O_PATH);
        if new.sources < 0 || !(Order::Show { from: nothing, at: sources, whole: false }.carry_out()) {
            new.error = error();
            libc::_exit(0)
        }
        let processes = if new.own_processes { libc::CLONE_NEWPID } else { 0 };
        // A sibling, so that this program is its parent, with this program's descriptors: it keeps none open.
        let flags = processes
            | libc::CLONE_VM
            | libc::CLONE_FILES
            | libc::CLONE_PARENT
            | libc::CLONE_PIDFD
            | libc::SIGCHLD;
        let process = &raw mut new.process;
        new.id = libc::clone(keep_room, new.stack, flags, pointer, process);
        if new.id < 0 {
            new.error = error();
            libc::_exit(0)
        }
        while new.state.load(Ordering::Acquire) == WAITING {
            let a_while = libc::timespec { tv_sec: 0, tv_nsec: 100_000_000 };
            let private_wait = libc::FUTEX_WAIT | libc::FUTEX_PRIVATE_FLAG;
            libc::syscall(libc::SYS_futex, new.state.as_ptr(), private_wait, WAITING, &raw const a_while);
            // Who was killed meanwhile will never be ready.
            if new.state.load(Ordering::Acquire) == WAITING && has_ended(new.process) {
                new.error = libc::ESRCH;
                break;
            }
        }
        if new.own_processes && new.state.load(Ordering::Acquire) == READY {
            new.processes = open(c"/proc", libc::O_RDONLY);
        }
        libc::_exit(0)
    }
}

/// Whether a process has ended, by its descriptor. In a child.
///
/// # Safety
/// None of its own.
unsafe fn has_ended(process: RawFd) -> bool {
    let mut poll = libc::pollfd { fd: process, events: libc::POLLIN, revents: 0 };
    // SAFETY: one live structure.
    unsafe { libc::poll(&raw mut poll, 1, 0) == 1 }
}

/// Keeps a room: the first process in it, to which all go whose parents have ended. It shares memory and descriptors with
/// this program for as long as it lives, on a stack of its own; once it is ready it does nothing but wait for the end of the
/// program, by a call that touches no variable of the thread whose place it shares.
extern "C" fn keep_room(new: *mut libc::c_void) -> libc::c_int {
    // SAFETY: until it is ready the parent waits, and its variables are live; afterwards none of them is used.
    let program = unsafe {
        let new = &*new.cast::<NewRoom<'_>>();
        let program = BorrowedFd::borrow_raw(new.program);
        // Processes that come to it need not be waited for.
        libc::signal(libc::SIGCHLD, libc::SIG_IGN);
        let flags = libc::MS_RDONLY | libc::MS_NOSUID | libc::MS_NODEV | libc::MS_NOEXEC;
        let proc = c"proc".as_ptr();
        let is_ready =
            !new.own_processes || libc::mount(proc, c"/proc".as_ptr(), proc, flags, std::ptr::null()) == 0;
        let (state, wake) = (new.state.as_ptr(), libc::FUTEX_WAKE | libc::FUTEX_PRIVATE_FLAG);
        new.state.store(if is_ready { READY } else { REFUSED }, Ordering::Release);
        libc::syscall(libc::SYS_futex, state, wake, 1);
        program
    };
    loop {
        let mut wait = [PollFd::from_borrowed_fd(program, PollFlags::IN)];
        if rustix::event::poll(&mut wait, None).is_ok() && !wait[0].revents().is_empty() {
            // SAFETY: ends this process, and with it the room.
            unsafe { libc::_exit(0) }
        }
    }
}

const KEEPER_STACK: usize = 64 << 10;

/// A descriptor for this program itself, which is never closed.
fn this_program() -> io::Result<RawFd> {
    static PROGRAM: OnceLock<Option<OwnedFd>> = OnceLock::new();
    let open = || rustix::process::pidfd_open(rustix::process::getpid(), PidfdFlags::empty()).ok();
    let program = PROGRAM.get_or_init(open).as_ref().map(AsRawFd::as_raw_fd);
    program.ok_or_else(|| io::Error::other("the kernel has no descriptors for processes"))
}

/// Makes a room from the template, in which nothing is yet. What may be shown there is in the first of the folders in
/// `covers`; the second one covers it for those who are in the room.
///
/// # Errors
/// When the kernel refuses.
pub(crate) fn found_room(
    template: &TemplateHandle,
    covers: [&CStr; 2],
    name: &CStr,
    own_processes: bool,
    own_memory: bool,
) -> io::Result<RoomHandle> {
    let mut stack = vec![0u128; KEEPER_STACK / 16];
    let mut new = NewRoom {
        template: [template.user.as_raw_fd(), template.view.as_raw_fd()],
        covers,
        name,
        own_processes,
        own_memory,
        stack: stack.as_mut_ptr_range().end.cast(),
        program: this_program()?,
        sources: -1,
        processes: -1,
        state: AtomicU32::new(WAITING),
        id: -1,
        process: -1,
        error: 0,
    };
    run_child(lay_out_room, libc::CLONE_FILES, (&raw mut new).cast())?;
    stay_visible();
    // SAFETY: the child opened them in the table of descriptors that both share; nothing else owns them.
    let take = |fd: RawFd| (fd >= 0).then(|| unsafe { OwnedFd::from_raw_fd(fd) });
    let (sources, processes, process) = (take(new.sources), take(new.processes), take(new.process));
    let (Some(sources), Some(process)) = (sources, process.filter(|_| new.id >= 0)) else {
        return Err(io::Error::from_raw_os_error(new.error));
    };
    let spaces = libc::CLONE_NEWUSER
        | libc::CLONE_NEWNS
        | libc::CLONE_NEWUTS
        | if own_processes { libc::CLONE_NEWPID } else { 0 }
        | if own_memory { libc::CLONE_NEWIPC } else { 0 };
    let temporary = Mutex::default();
    // It is no step's.
    spare(new.id.unsigned_abs(), true);
    let room = RoomHandle { id: new.id, process, spaces, sources, processes, temporary, stack };
    match new.state.load(Ordering::Acquire) {
        READY => Ok(room),
        // Dropping it ends who keeps it.
        _ => Err(io::Error::other("the kernel does not show a room's own processes")),
    }
}
