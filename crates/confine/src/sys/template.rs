//! What all sandboxes begin from: a user, and a view of the machine with nothing of the workspace
//! in it. More is added while sandboxes are there.

use std::ffi::CStr;
use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, FromRawFd, OwnedFd, RawFd};

use super::apart::bring_up_loopback;
use super::children::{run_child, stay_visible};
use super::orders::{
    AT_RECURSIVE, Furnish, MOVE_FROM_DESCRIPTOR, MOVE_MOUNT, OPEN_TREE, OPEN_TREE_CLONE, Order,
    error, open,
};

/// What all sandboxes begin from: handles that keep its namespaces.
pub(crate) struct TemplateHandle {
    /// The user, who has all privileges over the sandboxes and none over the machine.
    user: OwnedFd,
    /// The view of the machine as it is, from which more can be taken.
    machine: OwnedFd,
    /// The view with which sandboxes begin.
    view: OwnedFd,
}

struct NewTemplate<'a> {
    /// The user and the view of the machine of another one, that this one begins from.
    base: Option<[RawFd; 2]>,
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
        if let Some([user, machine]) = new.base
            && (libc::setns(user, libc::CLONE_NEWUSER) < 0
                || libc::setns(machine, libc::CLONE_NEWNS) < 0
                || libc::unshare(libc::CLONE_NEWNS) < 0)
        {
            new.first.failed = Some((usize::MAX, error()));
            libc::_exit(0)
        }
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

/// Makes what all sandboxes begin from: of a new user, or of that of `base`, whose view of the
/// machine it begins in. `first` lays out the view that shows the machine, too, `then` takes that
/// away; `own` are the paths of this user's namespace, of the view after `first`, and of the view
/// after `then`.
///
/// # Errors
/// When the kernel does not offer that to this user.
pub(crate) fn found_template(
    base: Option<&TemplateHandle>,
    first: &[Order<'_>],
    then: &[Order<'_>],
    own: [&CStr; 3],
) -> io::Result<TemplateHandle> {
    let (first, then) = (Furnish::new(first), Furnish::new(then));
    let based = base.map(|base| [base.user.as_raw_fd(), base.machine.as_raw_fd()]);
    let mut new = NewTemplate {
        base: based,
        first,
        then,
        own,
        user: -1,
        machine: -1,
        view: -1,
    };
    let flags = libc::CLONE_FILES
        | if base.is_none() {
            libc::CLONE_NEWUSER | libc::CLONE_NEWNS
        } else {
            0
        };
    run_child(lay_out_template, flags, (&raw mut new).cast())?;
    stay_visible();
    // SAFETY: the child opened them in the table of descriptors that both share; nothing else owns
    // them.
    let take = |fd: RawFd| (fd >= 0).then(|| unsafe { OwnedFd::from_raw_fd(fd) });
    let taken = [new.user, new.machine, new.view].map(take);
    match taken {
        [Some(user), Some(machine), Some(view)] => Ok(TemplateHandle {
            user,
            machine,
            view,
        }),
        _ => Err(new
            .first
            .problem()
            .or(new.then.problem())
            .unwrap_or_else(|| {
                io::Error::other("the kernel does not tell where its namespaces are")
            })),
    }
}

impl TemplateHandle {
    /// The view with which sandboxes begin.
    pub fn view(&self) -> BorrowedFd<'_> {
        self.view.as_fd()
    }

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

/// Runs in a child: takes something of the machine, and shows it in the view with which sandboxes
/// begin. Only system calls.
extern "C" fn take_source(new: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable; all else are system calls on variables
    // of this function.
    unsafe {
        let new = &mut *new.cast::<NewSource<'_>>();
        let [user, machine, view] = new.template;
        let done = 'done: {
            if libc::setns(user, libc::CLONE_NEWUSER) < 0
                || libc::setns(machine, libc::CLONE_NEWNS) < 0
            {
                break 'done false;
            }
            let flags = OPEN_TREE_CLONE | AT_RECURSIVE | libc::O_CLOEXEC as u32;
            let tree = libc::syscall(OPEN_TREE, libc::AT_FDCWD, new.from.as_ptr(), flags) as RawFd;
            if tree < 0 || libc::setns(view, libc::CLONE_NEWNS) < 0 {
                break 'done false;
            }
            let place = if new.folder {
                Order::Folder { at: new.at }
            } else {
                Order::File { at: new.at }
            };
            if !place.carry_out() {
                break 'done false;
            }
            let empty = c"".as_ptr();
            let (here, at) = (libc::AT_FDCWD, new.at.as_ptr());
            libc::syscall(MOVE_MOUNT, tree, empty, here, at, MOVE_FROM_DESCRIPTOR) == 0
                && Order::Attributes {
                    at: new.at,
                    set: new.set,
                    whole: true,
                }
                .carry_out()
        };
        if !done {
            new.error = error();
        }
        libc::_exit(0)
    }
}

/// Shows a file or folder of the machine in the view with which sandboxes begin, from now on, with
/// attributes that it has in all of them.
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
    let mut new = NewSource {
        template,
        from,
        at,
        folder,
        set,
        error: 0,
    };
    run_child(take_source, 0, (&raw mut new).cast())?;
    stay_visible();
    if new.error == 0 {
        Ok(())
    } else {
        Err(io::Error::from_raw_os_error(new.error))
    }
}

struct NewFolder<'a> {
    template: [RawFd; 2],
    at: &'a CStr,
    error: i32,
}

/// Runs in a child: makes a folder in the view with which sandboxes begin. Only system calls.
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

/// Makes a folder in the view with which sandboxes begin.
///
/// # Errors
/// When the kernel refuses.
pub(crate) fn add_folder(template: &TemplateHandle, at: &CStr) -> io::Result<()> {
    let handles = [&template.user, &template.view].map(AsRawFd::as_raw_fd);
    let mut new = NewFolder {
        template: handles,
        at,
        error: 0,
    };
    run_child(make_folder, 0, (&raw mut new).cast())?;
    stay_visible();
    if new.error == 0 {
        Ok(())
    } else {
        Err(io::Error::from_raw_os_error(new.error))
    }
}

struct NewNetwork {
    user: RawFd,
    network: RawFd,
    error: i32,
}

/// Runs in a child that shares descriptors with the parent. Only system calls.
extern "C" fn make_network(new: *mut libc::c_void) -> libc::c_int {
    // SAFETY: the pointer is to the parent's live variable; all else are system calls on variables
    // of this function.
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
/// A network in which no one is yet, for commands in sandboxes, which can reach one another there.
///
/// # Errors
/// When the kernel refuses.
pub(crate) fn new_network(template: &TemplateHandle) -> io::Result<OwnedFd> {
    let mut new = NewNetwork {
        user: template.user.as_raw_fd(),
        network: -1,
        error: 0,
    };
    run_child(make_network, libc::CLONE_FILES, (&raw mut new).cast())?;
    stay_visible();
    if new.network < 0 {
        return Err(io::Error::from_raw_os_error(new.error));
    }
    // SAFETY: the child opened it in the table of descriptors that both share; nothing else owns
    // it.
    Ok(unsafe { OwnedFd::from_raw_fd(new.network) })
}
