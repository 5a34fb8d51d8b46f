//! Processes: waiting for them, asking them to end, ending them.

use std::io;
use std::sync::{Mutex, PoisonError};

/// How a process ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Exit {
    Code(i32),
    Signal(i32),
}

/// Waits for a process of ours, and takes note of its end.
pub(crate) fn wait(id: i32) -> Exit {
    let mut status = 0;
    loop {
        // SAFETY: writes one word.
        let ended = unsafe { libc::waitpid(id, &raw mut status, 0) };
        if ended == id {
            return exit_of(status);
        }
        if io::Error::last_os_error().kind() != io::ErrorKind::Interrupted {
            return Exit::Code(127);
        }
    }
}

fn exit_of(status: i32) -> Exit {
    match libc::WIFSIGNALED(status) {
        true => Exit::Signal(libc::WTERMSIG(status)),
        false => Exit::Code(libc::WEXITSTATUS(status)),
    }
}

/// Waits for all processes of a group that was ended, and tells how each of ours did.
pub(crate) fn wait_for_group(group: i32, tell: &mut dyn FnMut(i32, Exit)) {
    if group <= 0 {
        return;
    }
    loop {
        let mut status = 0;
        // SAFETY: writes one word.
        let ended = unsafe { libc::waitpid(-group, &raw mut status, 0) };
        match ended {
            id if id > 0 => tell(id, exit_of(status)),
            _ if io::Error::last_os_error().kind() == io::ErrorKind::Interrupted => {}
            _ => return,
        }
    }
}

/// Ends a process group at once.
pub(crate) fn kill_group(group: i32) {
    // SAFETY: sends a signal; a group that is gone is no harm.
    unsafe { libc::killpg(group, libc::SIGKILL) };
}

/// Asks a process group of ours to end.
pub(crate) fn ask_group_to_end(group: i32) {
    // SAFETY: sends a signal to a group whose leader was not waited for.
    unsafe { libc::killpg(group, libc::SIGTERM) };
}

/// Asks a process of ours to end.
pub(crate) fn ask_to_end(id: i32) {
    // SAFETY: sends a signal to a child that was not waited for.
    unsafe { libc::kill(id, libc::SIGTERM) };
}

/// Ends a process of ours at once.
pub(crate) fn end(id: i32) {
    // SAFETY: sends a signal to a child that was not waited for.
    unsafe { libc::kill(id, libc::SIGKILL) };
}

/// Lets processes whose parents end become children of this program, so that none is lost.
pub fn become_reaper() {
    // SAFETY: sets a flag of this process.
    unsafe { libc::prctl(libc::PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) };
}

/// Processes of this program that are no step's, and are not ended with what steps left behind.
static SPARED: Mutex<Vec<i32>> = Mutex::new(Vec::new());

/// Spares a child process from [`end_orphans`]: it is no step's. `false` takes that back.
pub fn spare(id: u32, spares: bool) {
    let mut spared = SPARED.lock().unwrap_or_else(PoisonError::into_inner);
    spared.retain(|other| *other != id as i32);
    if spares {
        spared.push(id as i32);
    }
}

/// Ends every process that steps left behind, and theirs; gives the temporary folder of each, by which its step
/// is known. To be called when no step runs.
pub fn end_orphans() -> Vec<Option<String>> {
    let mut ended = Vec::new();
    // Ending a process may hand us its children, so until there are none.
    for _ in 0..100 {
        let mut children = children_of_this();
        let spared = SPARED.lock().unwrap_or_else(PoisonError::into_inner).clone();
        children.retain(|id| !spared.contains(id));
        if children.is_empty() {
            break;
        }
        for id in children {
            ended.push(temporary_folder_of(id));
            // SAFETY: signals and waits for a child of this process.
            unsafe {
                libc::kill(id, libc::SIGKILL);
                libc::waitpid(id, std::ptr::null_mut(), 0);
            }
        }
    }
    ended
}

/// Ends every process that some commands left behind, and theirs: children of this program that have this folder for
/// temporary files. Gives how many there were.
pub fn end_left_of(temporary: &std::path::Path) -> usize {
    let mut count = 0;
    for _ in 0..100 {
        let mut children = children_of_this();
        children.retain(|id| {
            temporary_folder_of(*id).is_some_and(|folder| std::path::Path::new(&folder) == temporary)
        });
        if children.is_empty() {
            break;
        }
        count += children.len();
        for id in children {
            // SAFETY: signals and waits for a child of this process that nobody else waits for.
            unsafe {
                libc::kill(id, libc::SIGKILL);
                libc::waitpid(id, std::ptr::null_mut(), 0);
            }
        }
    }
    count
}

fn temporary_folder_of(id: i32) -> Option<String> {
    let environment = std::fs::read(format!("/proc/{id}/environ")).ok()?;
    let variable = environment.split(|b| *b == 0).find_map(|v| v.strip_prefix(b"TMPDIR="))?;
    String::from_utf8(variable.to_vec()).ok()
}

fn children_of_this() -> Vec<i32> {
    let mut children = Vec::new();
    let Ok(threads) = std::fs::read_dir("/proc/self/task") else { return children };
    for thread in threads.flatten() {
        if let Ok(list) = std::fs::read_to_string(thread.path().join("children")) {
            children.extend(list.split_whitespace().filter_map(|id| id.parse::<i32>().ok()));
        }
    }
    children
}

/// Ends a process of somebody's, by its number, and its group if it leads one.
pub(crate) fn end_stranger(id: i32) {
    // SAFETY: sends signals; whoever is gone is no harm.
    unsafe {
        if libc::getpgid(id) == id {
            libc::killpg(id, libc::SIGKILL);
        }
        libc::kill(id, libc::SIGKILL);
    }
}

/// Lets this program have as many files open as the machine allows.
pub fn raise_open_file_limit() {
    // SAFETY: reads and writes one structure.
    unsafe {
        let mut limit: libc::rlimit = std::mem::zeroed();
        if libc::getrlimit(libc::RLIMIT_NOFILE, &raw mut limit) == 0 && limit.rlim_cur < limit.rlim_max {
            limit.rlim_cur = limit.rlim_max;
            libc::setrlimit(libc::RLIMIT_NOFILE, &raw const limit);
        }
    }
}
