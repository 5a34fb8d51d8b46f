//! Processes: waiting for them, asking them to end, ending them.

use std::cell::Cell;
use std::collections::BTreeSet;
use std::os::fd::{AsFd, OwnedFd};

use parking_lot::{Mutex, RwLock};
use rustix::io::Errno;
use rustix::process::{Pid, Resource, Signal, WaitId, WaitIdOptions, WaitOptions, WaitStatus};

/// How a process ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum ProcessEnd {
    Code(i32),
    Signal(i32),
}

/// A process by its number; `None` where that is none.
fn process(id: i32) -> Option<Pid> {
    if id > 0 { Pid::from_raw(id) } else { None }
}

/// Waits for a process of ours, and takes note of its end.
pub(crate) fn wait(id: i32) -> ProcessEnd {
    let Some(process) = process(id) else {
        return ProcessEnd::Code(127);
    };
    loop {
        match rustix::process::waitpid(Some(process), WaitOptions::empty()) {
            Ok(Some((ended, status))) if ended == process => {
                forget_own(id);
                return exit_of(status);
            }
            Err(Errno::INTR) => {}
            // It is none of ours, or was waited for.
            _ => return ProcessEnd::Code(127),
        }
    }
}

fn exit_of(status: WaitStatus) -> ProcessEnd {
    match status.terminating_signal() {
        Some(signal) => ProcessEnd::Signal(signal),
        None => ProcessEnd::Code(status.exit_status().unwrap_or(127)),
    }
}

/// Waits for all processes of a group that was ended, and tells how each of ours did.
pub(crate) fn wait_for_group(group: i32, tell: &mut dyn FnMut(i32, ProcessEnd)) {
    let Some(group) = process(group) else { return };
    loop {
        match rustix::process::waitpgid(group, WaitOptions::empty()) {
            Ok(Some((id, status))) => {
                forget_own(id.as_raw_nonzero().get());
                tell(id.as_raw_nonzero().get(), exit_of(status));
            }
            Err(Errno::INTR) => {}
            _ => return,
        }
    }
}

/// Sends a signal to a process group; one that is gone is no harm.
fn signal_group(group: i32, signal: Signal) {
    if let Some(group) = process(group) {
        let _ = rustix::process::kill_process_group(group, signal);
    }
}

/// Sends a signal to a process; one that is gone is no harm.
fn signal(id: i32, signal: Signal) {
    if let Some(id) = process(id) {
        let _ = rustix::process::kill_process(id, signal);
    }
}

/// Ends a process group at once.
pub(crate) fn kill_group(group: i32) {
    signal_group(group, Signal::KILL);
}

/// Asks a process group of ours to end, whose leader was not waited for.
pub(crate) fn ask_group_to_end(group: i32) {
    signal_group(group, Signal::TERM);
}

/// Asks a process of ours to end that was not waited for.
pub(crate) fn ask_to_end(id: i32) {
    signal(id, Signal::TERM);
}

/// Ends a process of ours at once that was not waited for.
pub(crate) fn end(id: i32) {
    signal(id, Signal::KILL);
}

/// Ends a process of ours of which only the descriptor is known, and waits for it.
pub(super) fn end_by_handle(handle: &OwnedFd) {
    // One that has ended is no harm.
    let _ = rustix::process::pidfd_send_signal(handle, Signal::KILL);
    let wait = || rustix::process::waitid(WaitId::PidFd(handle.as_fd()), WaitIdOptions::EXITED);
    while matches!(wait(), Err(Errno::INTR)) {}
}

/// Lets processes whose parents end become children of this program, so that none is lost.
pub fn become_reaper() {
    // Which process is meant is of no importance: any number but none sets the flag of this one.
    let _ = rustix::process::set_child_subreaper(Some(rustix::process::getpid()));
}

/// Processes of this program that are no step's, and are not ended with what steps left behind.
static SPARED: Mutex<Vec<i32>> = Mutex::new(Vec::new());

/// Children that were started here and not waited for yet: others are those of processes that
/// ended.
static OWN: Mutex<BTreeSet<i32>> = Mutex::new(BTreeSet::new());

/// Held while children are started, so that nobody takes one for somebody else's that is not noted
/// yet.
static STARTING: RwLock<()> = RwLock::new(());

thread_local! {
    /// How often this thread is among those who start children.
    static STARTS: Cell<usize> = const { Cell::new(0) };
}

/// Does something in which children are started.
pub(super) fn while_starting<T>(work: impl FnOnce() -> T) -> T {
    let is_first = STARTS.get() == 0;
    let held = is_first.then(|| STARTING.read());
    STARTS.set(STARTS.get() + 1);
    let done = work();
    STARTS.set(STARTS.get() - 1);
    drop(held);
    done
}

/// Takes note of a child that was started and is waited for later.
pub(super) fn note_own(id: i32) {
    OWN.lock().insert(id);
}

fn forget_own(id: i32) {
    OWN.lock().remove(&id);
}

/// Ends processes that this program did not start itself, whose parents ended, and all that they
/// leave, if `is_left` says so of the folder that a process has for temporary files. Gives how many
/// there were.
pub fn end_adopted(is_left: &dyn Fn(Option<&str>) -> bool) -> usize {
    let nobody_starts = STARTING.write();
    let count = end_children(|id| {
        let is_own = OWN.lock().contains(&id);
        let is_spared = SPARED.lock().contains(&id);
        !is_own && !is_spared && is_left(temporary_folder_of(id).as_deref())
    });
    drop(nobody_starts);
    count
}

/// Ends all children that are meant, and those that ending them hands to this program. Gives how
/// many there were.
fn end_children(is_meant: impl Fn(i32) -> bool) -> usize {
    let mut count = 0;
    // Ending a process may hand us its children, so until there are none.
    for _ in 0..100 {
        let mut children = children_of_this();
        children.retain(|id| is_meant(*id));
        if children.is_empty() {
            break;
        }
        count += children.len();
        for id in children {
            end(id);
            wait(id);
        }
    }
    count
}

/// Spares a child process from [`end_orphans`]: it is no step's. `false` takes that back.
pub fn spare(id: u32, spares: bool) {
    let mut spared = SPARED.lock();
    spared.retain(|other| *other != id as i32);
    if spares {
        spared.push(id as i32);
    }
}

/// Ends every process that steps left behind, and theirs; gives the temporary folder of each, by
/// which its step is known. To be called when no step runs.
pub fn end_orphans() -> Vec<Option<String>> {
    let mut ended = Vec::new();
    // Ending a process may hand us its children, so until there are none.
    for _ in 0..100 {
        let mut children = children_of_this();
        let spared = SPARED.lock().clone();
        children.retain(|id| !spared.contains(id));
        if children.is_empty() {
            break;
        }
        for id in children {
            ended.push(temporary_folder_of(id));
            end(id);
            wait(id);
        }
    }
    ended
}

/// Ends every process that some commands left behind, and theirs: children of this program that
/// have this folder for temporary files. Gives how many there were.
pub fn end_left_of(temporary: &std::path::Path) -> usize {
    end_children(|id| {
        temporary_folder_of(id).is_some_and(|folder| std::path::Path::new(&folder) == temporary)
    })
}

fn temporary_folder_of(id: i32) -> Option<String> {
    let environment = std::fs::read(format!("/proc/{id}/environ")).ok()?;
    let variable = environment
        .split(|b| *b == 0)
        .find_map(|v| v.strip_prefix(b"TMPDIR="))?;
    String::from_utf8(variable.to_vec()).ok()
}

fn children_of_this() -> Vec<i32> {
    let mut children = Vec::new();
    let Ok(threads) = std::fs::read_dir("/proc/self/task") else {
        return children;
    };
    for thread in threads.flatten() {
        if let Ok(list) = std::fs::read_to_string(thread.path().join("children")) {
            children.extend(
                list.split_whitespace()
                    .filter_map(|id| id.parse::<i32>().ok()),
            );
        }
    }
    children
}

/// Ends a process of someone's, by its number, and its group if it leads one.
pub(crate) fn end_stranger(id: i32) {
    let Some(stranger) = process(id) else { return };
    if rustix::process::getpgid(Some(stranger)) == Ok(stranger) {
        signal_group(id, Signal::KILL);
    }
    signal(id, Signal::KILL);
}

/// Says whether the memory that this program touches from now on may come in huge pages. Work that
/// looks at little and ends touches little, and clearing a huge page takes longer than all of it;
/// an evaluation of many definitions gains by them. Programs that are started inherit it, but for
/// commands (`Inherited`). A kernel without huge pages ignores it.
pub fn allow_huge_pages(allowed: bool) {
    // SAFETY: passes numbers.
    unsafe {
        libc::prctl(
            libc::PR_SET_THP_DISABLE,
            libc::c_ulong::from(!allowed),
            0,
            0,
            0,
        )
    };
}

/// Lets this program have as many files open as the machine allows.
pub fn raise_open_file_limit() {
    let mut limit = rustix::process::getrlimit(Resource::Nofile);
    if limit.current != limit.maximum {
        limit.current = limit.maximum;
        let _ = rustix::process::setrlimit(Resource::Nofile, limit);
    }
}
