//! System calls that are about paths: where in a call the path is, and what it is for.

/// What a command did with a path, the mildest first.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum PathUse {
    /// Asked whether it is there, and what it is.
    LookedUp,
    /// Opened it for reading.
    Read,
    /// Started it as a program.
    Started,
    /// Made, changed or removed it, or asked to.
    Written,
}

/// A path in a call: which arguments hold the folder that it starts from and the path, and what it
/// is for.
pub(crate) struct PathArgument {
    pub call: i64,
    /// Argument with the folder, or with the open file itself; `None` where the path starts from
    /// the current one.
    pub folder: Option<usize>,
    pub path: usize,
    pub use_: CallUse,
}

pub(crate) enum CallUse {
    Always(PathUse),
    /// Reading or writing, by the flags in this argument.
    ByFlags(usize),
    /// The same, where this argument points to the flags.
    ByFlagsAt(usize),
}

const fn at(call: i64, folder: usize, path: usize, touch: PathUse) -> PathArgument {
    PathArgument {
        call,
        folder: Some(folder),
        path,
        use_: CallUse::Always(touch),
    }
}

const fn here(call: i64, path: usize, touch: PathUse) -> PathArgument {
    PathArgument {
        call,
        folder: None,
        path,
        use_: CallUse::Always(touch),
    }
}

/// A call about an open file or folder.
const fn of_open(call: i64, touch: PathUse) -> PathArgument {
    PathArgument {
        call,
        folder: Some(0),
        path: OF_OPEN,
        use_: CallUse::Always(touch),
    }
}

/// In the place of a path's argument: the call is about the open file or folder itself.
pub(crate) const OF_OPEN: usize = usize::MAX;

pub(crate) const ARGUMENTS: &[PathArgument] = &[
    PathArgument {
        call: libc::SYS_openat,
        folder: Some(0),
        path: 1,
        use_: CallUse::ByFlags(2),
    },
    PathArgument {
        call: libc::SYS_openat2,
        folder: Some(0),
        path: 1,
        use_: CallUse::ByFlagsAt(2),
    },
    here(libc::SYS_execve, 0, PathUse::Started),
    at(libc::SYS_execveat, 0, 1, PathUse::Started),
    here(libc::SYS_chdir, 0, PathUse::LookedUp),
    at(libc::SYS_newfstatat, 0, 1, PathUse::LookedUp),
    at(libc::SYS_statx, 0, 1, PathUse::LookedUp),
    here(libc::SYS_statfs, 0, PathUse::LookedUp),
    at(libc::SYS_faccessat, 0, 1, PathUse::LookedUp),
    at(libc::SYS_faccessat2, 0, 1, PathUse::LookedUp),
    at(libc::SYS_readlinkat, 0, 1, PathUse::LookedUp),
    at(libc::SYS_name_to_handle_at, 0, 1, PathUse::LookedUp),
    here(libc::SYS_getxattr, 0, PathUse::LookedUp),
    here(libc::SYS_lgetxattr, 0, PathUse::LookedUp),
    here(libc::SYS_listxattr, 0, PathUse::LookedUp),
    here(libc::SYS_llistxattr, 0, PathUse::LookedUp),
    at(GETXATTRAT, 0, 1, PathUse::LookedUp),
    at(LISTXATTRAT, 0, 1, PathUse::LookedUp),
    at(FILE_GETATTR, 0, 1, PathUse::LookedUp),
    here(libc::SYS_inotify_add_watch, 1, PathUse::LookedUp),
    at(libc::SYS_mkdirat, 0, 1, PathUse::Written),
    at(libc::SYS_mknodat, 0, 1, PathUse::Written),
    at(libc::SYS_unlinkat, 0, 1, PathUse::Written),
    at(libc::SYS_renameat2, 0, 1, PathUse::Written),
    at(libc::SYS_renameat2, 2, 3, PathUse::Written),
    at(libc::SYS_linkat, 0, 1, PathUse::Read),
    at(libc::SYS_linkat, 2, 3, PathUse::Written),
    at(libc::SYS_symlinkat, 1, 2, PathUse::Written),
    here(libc::SYS_truncate, 0, PathUse::Written),
    at(libc::SYS_fchmodat, 0, 1, PathUse::Written),
    at(FCHMODAT2, 0, 1, PathUse::Written),
    at(libc::SYS_fchownat, 0, 1, PathUse::Written),
    at(libc::SYS_utimensat, 0, 1, PathUse::Written),
    here(libc::SYS_setxattr, 0, PathUse::Written),
    here(libc::SYS_lsetxattr, 0, PathUse::Written),
    here(libc::SYS_removexattr, 0, PathUse::Written),
    here(libc::SYS_lremovexattr, 0, PathUse::Written),
    at(SETXATTRAT, 0, 1, PathUse::Written),
    at(REMOVEXATTRAT, 0, 1, PathUse::Written),
    at(FILE_SETATTR, 0, 1, PathUse::Written),
    of_open(libc::SYS_getdents64, PathUse::Read),
    of_open(libc::SYS_fstat, PathUse::LookedUp),
];

/// Calls that newer processors' kernels no longer have.
#[cfg(target_arch = "x86_64")]
pub(crate) const OLD_ARGUMENTS: &[PathArgument] = &[
    PathArgument {
        call: libc::SYS_open,
        folder: None,
        path: 0,
        use_: CallUse::ByFlags(1),
    },
    here(libc::SYS_creat, 0, PathUse::Written),
    here(libc::SYS_stat, 0, PathUse::LookedUp),
    here(libc::SYS_lstat, 0, PathUse::LookedUp),
    here(libc::SYS_access, 0, PathUse::LookedUp),
    here(libc::SYS_readlink, 0, PathUse::LookedUp),
    here(libc::SYS_mkdir, 0, PathUse::Written),
    here(libc::SYS_mknod, 0, PathUse::Written),
    here(libc::SYS_rmdir, 0, PathUse::Written),
    here(libc::SYS_unlink, 0, PathUse::Written),
    here(libc::SYS_rename, 0, PathUse::Written),
    here(libc::SYS_rename, 1, PathUse::Written),
    at(libc::SYS_renameat, 0, 1, PathUse::Written),
    at(libc::SYS_renameat, 2, 3, PathUse::Written),
    here(libc::SYS_link, 0, PathUse::Read),
    here(libc::SYS_link, 1, PathUse::Written),
    here(libc::SYS_symlink, 1, PathUse::Written),
    here(libc::SYS_chmod, 0, PathUse::Written),
    here(libc::SYS_chown, 0, PathUse::Written),
    here(libc::SYS_lchown, 0, PathUse::Written),
    here(libc::SYS_utime, 0, PathUse::Written),
    here(libc::SYS_utimes, 0, PathUse::Written),
    at(libc::SYS_futimesat, 0, 1, PathUse::Written),
    of_open(libc::SYS_getdents, PathUse::Read),
];
#[cfg(not(target_arch = "x86_64"))]
pub(crate) const OLD_ARGUMENTS: &[PathArgument] = &[
    at(38, 0, 1, PathUse::Written),
    at(38, 2, 3, PathUse::Written),
];

// Newer than the library's list, with the same numbers on all processors.
const FCHMODAT2: i64 = 452;
const SETXATTRAT: i64 = 463;
const GETXATTRAT: i64 = 464;
const LISTXATTRAT: i64 = 465;
const REMOVEXATTRAT: i64 = 466;
const FILE_GETATTR: i64 = 468;
const FILE_SETATTR: i64 = 469;
const FUTEX_WAKE: i64 = 454;
const FUTEX_WAIT: i64 = 455;
const FUTEX_REQUEUE: i64 = 456;
const MSEAL: i64 = 462;

/// Calls that take no path and no open folder for one, and tell nothing of what lies where in file
/// systems: these go on without a word to the recorder. What is in no table here is refused while a
/// recorder is there: a call of a newer kernel is no exception.
pub(crate) const HARMLESS: &[i64] = &[
    // Open files.
    libc::SYS_read,
    libc::SYS_write,
    libc::SYS_close,
    libc::SYS_lseek,
    libc::SYS_pread64,
    libc::SYS_pwrite64,
    libc::SYS_readv,
    libc::SYS_writev,
    libc::SYS_preadv,
    libc::SYS_pwritev,
    libc::SYS_preadv2,
    libc::SYS_pwritev2,
    libc::SYS_dup,
    libc::SYS_dup3,
    libc::SYS_fcntl,
    libc::SYS_ioctl,
    libc::SYS_flock,
    libc::SYS_fsync,
    libc::SYS_fdatasync,
    libc::SYS_ftruncate,
    libc::SYS_fallocate,
    libc::SYS_fadvise64,
    libc::SYS_readahead,
    libc::SYS_sendfile,
    libc::SYS_splice,
    libc::SYS_tee,
    libc::SYS_vmsplice,
    libc::SYS_copy_file_range,
    libc::SYS_sync,
    libc::SYS_syncfs,
    libc::SYS_sync_file_range,
    libc::SYS_close_range,
    libc::SYS_pipe2,
    libc::SYS_fchmod,
    libc::SYS_fchown,
    libc::SYS_fgetxattr,
    libc::SYS_flistxattr,
    libc::SYS_fsetxattr,
    libc::SYS_fremovexattr,
    libc::SYS_fstatfs,
    libc::SYS_fchdir,
    libc::SYS_umask,
    libc::SYS_getcwd,
    libc::SYS_memfd_create,
    libc::SYS_memfd_secret,
    libc::SYS_io_setup,
    libc::SYS_io_destroy,
    libc::SYS_io_submit,
    libc::SYS_io_cancel,
    libc::SYS_io_getevents,
    // Waiting.
    libc::SYS_ppoll,
    libc::SYS_pselect6,
    libc::SYS_epoll_create1,
    libc::SYS_epoll_ctl,
    libc::SYS_epoll_pwait,
    libc::SYS_epoll_pwait2,
    libc::SYS_eventfd2,
    libc::SYS_signalfd4,
    libc::SYS_timerfd_create,
    libc::SYS_timerfd_settime,
    libc::SYS_timerfd_gettime,
    libc::SYS_inotify_init1,
    libc::SYS_inotify_rm_watch,
    libc::SYS_futex,
    libc::SYS_futex_waitv,
    FUTEX_WAKE,
    FUTEX_WAIT,
    FUTEX_REQUEUE,
    libc::SYS_set_robust_list,
    libc::SYS_get_robust_list,
    libc::SYS_restart_syscall,
    libc::SYS_nanosleep,
    libc::SYS_clock_nanosleep,
    // Time.
    libc::SYS_gettimeofday,
    libc::SYS_settimeofday,
    libc::SYS_adjtimex,
    libc::SYS_clock_gettime,
    libc::SYS_clock_settime,
    libc::SYS_clock_getres,
    libc::SYS_clock_adjtime,
    libc::SYS_getitimer,
    libc::SYS_setitimer,
    libc::SYS_timer_create,
    libc::SYS_timer_settime,
    libc::SYS_timer_gettime,
    libc::SYS_timer_getoverrun,
    libc::SYS_timer_delete,
    libc::SYS_times,
    // Memory.
    libc::SYS_mmap,
    libc::SYS_munmap,
    libc::SYS_mremap,
    libc::SYS_mprotect,
    libc::SYS_brk,
    libc::SYS_msync,
    libc::SYS_mincore,
    libc::SYS_madvise,
    libc::SYS_process_madvise,
    libc::SYS_mlock,
    libc::SYS_mlock2,
    libc::SYS_munlock,
    libc::SYS_mlockall,
    libc::SYS_munlockall,
    libc::SYS_remap_file_pages,
    libc::SYS_mbind,
    libc::SYS_get_mempolicy,
    libc::SYS_set_mempolicy,
    libc::SYS_set_mempolicy_home_node,
    libc::SYS_migrate_pages,
    libc::SYS_move_pages,
    libc::SYS_membarrier,
    libc::SYS_pkey_alloc,
    libc::SYS_pkey_free,
    libc::SYS_pkey_mprotect,
    libc::SYS_process_vm_readv,
    libc::SYS_process_vm_writev,
    libc::SYS_process_mrelease,
    MSEAL,
    libc::SYS_shmget,
    libc::SYS_shmat,
    libc::SYS_shmdt,
    libc::SYS_shmctl,
    libc::SYS_semget,
    libc::SYS_semop,
    libc::SYS_semctl,
    libc::SYS_semtimedop,
    libc::SYS_msgget,
    libc::SYS_msgsnd,
    libc::SYS_msgrcv,
    libc::SYS_msgctl,
    libc::SYS_mq_open,
    libc::SYS_mq_unlink,
    libc::SYS_mq_timedsend,
    libc::SYS_mq_timedreceive,
    libc::SYS_mq_notify,
    libc::SYS_mq_getsetattr,
    // Processes and signals.
    libc::SYS_clone,
    libc::SYS_clone3,
    libc::SYS_exit,
    libc::SYS_exit_group,
    libc::SYS_wait4,
    libc::SYS_waitid,
    libc::SYS_kill,
    libc::SYS_tkill,
    libc::SYS_tgkill,
    libc::SYS_pidfd_open,
    libc::SYS_pidfd_send_signal,
    libc::SYS_pidfd_getfd,
    libc::SYS_ptrace,
    libc::SYS_kcmp,
    libc::SYS_unshare,
    libc::SYS_setns,
    libc::SYS_rt_sigaction,
    libc::SYS_rt_sigprocmask,
    libc::SYS_rt_sigreturn,
    libc::SYS_rt_sigpending,
    libc::SYS_rt_sigtimedwait,
    libc::SYS_rt_sigqueueinfo,
    libc::SYS_rt_tgsigqueueinfo,
    libc::SYS_rt_sigsuspend,
    libc::SYS_sigaltstack,
    libc::SYS_set_tid_address,
    libc::SYS_rseq,
    libc::SYS_prctl,
    libc::SYS_seccomp,
    libc::SYS_landlock_create_ruleset,
    libc::SYS_landlock_add_rule,
    libc::SYS_landlock_restrict_self,
    libc::SYS_personality,
    libc::SYS_sched_yield,
    libc::SYS_sched_setparam,
    libc::SYS_sched_getparam,
    libc::SYS_sched_setscheduler,
    libc::SYS_sched_getscheduler,
    libc::SYS_sched_get_priority_max,
    libc::SYS_sched_get_priority_min,
    libc::SYS_sched_rr_get_interval,
    libc::SYS_sched_setaffinity,
    libc::SYS_sched_getaffinity,
    libc::SYS_sched_setattr,
    libc::SYS_sched_getattr,
    libc::SYS_getpriority,
    libc::SYS_setpriority,
    libc::SYS_ioprio_get,
    libc::SYS_ioprio_set,
    libc::SYS_getcpu,
    libc::SYS_prlimit64,
    libc::SYS_getrusage,
    libc::SYS_sysinfo,
    libc::SYS_uname,
    libc::SYS_getrandom,
    libc::SYS_syslog,
    libc::SYS_vhangup,
    // Whose they are.
    libc::SYS_getpid,
    libc::SYS_getppid,
    libc::SYS_gettid,
    libc::SYS_getpgid,
    libc::SYS_setpgid,
    libc::SYS_getsid,
    libc::SYS_setsid,
    libc::SYS_getuid,
    libc::SYS_geteuid,
    libc::SYS_getgid,
    libc::SYS_getegid,
    libc::SYS_getresuid,
    libc::SYS_getresgid,
    libc::SYS_getgroups,
    libc::SYS_setuid,
    libc::SYS_setgid,
    libc::SYS_setreuid,
    libc::SYS_setregid,
    libc::SYS_setresuid,
    libc::SYS_setresgid,
    libc::SYS_setfsuid,
    libc::SYS_setfsgid,
    libc::SYS_setgroups,
    libc::SYS_capget,
    libc::SYS_capset,
    libc::SYS_sethostname,
    libc::SYS_setdomainname,
    // Connections: which sockets there can be, other rules say.
    libc::SYS_socket,
    libc::SYS_socketpair,
    libc::SYS_connect,
    libc::SYS_accept,
    libc::SYS_accept4,
    libc::SYS_bind,
    libc::SYS_listen,
    libc::SYS_sendto,
    libc::SYS_recvfrom,
    libc::SYS_sendmsg,
    libc::SYS_recvmsg,
    libc::SYS_sendmmsg,
    libc::SYS_recvmmsg,
    libc::SYS_shutdown,
    libc::SYS_getsockname,
    libc::SYS_getpeername,
    libc::SYS_setsockopt,
    libc::SYS_getsockopt,
];

/// The same among calls that newer processors' kernels no longer have.
#[cfg(target_arch = "x86_64")]
pub(crate) const OLD_HARMLESS: &[i64] = &[
    libc::SYS_poll,
    libc::SYS_select,
    libc::SYS_epoll_create,
    libc::SYS_epoll_wait,
    libc::SYS_pipe,
    libc::SYS_dup2,
    libc::SYS_eventfd,
    libc::SYS_signalfd,
    libc::SYS_inotify_init,
    libc::SYS_pause,
    libc::SYS_alarm,
    libc::SYS_time,
    libc::SYS_fork,
    libc::SYS_vfork,
    libc::SYS_getpgrp,
    libc::SYS_getrlimit,
    libc::SYS_setrlimit,
    libc::SYS_arch_prctl,
    libc::SYS_modify_ldt,
    libc::SYS_get_thread_area,
    libc::SYS_set_thread_area,
    libc::SYS_iopl,
    libc::SYS_ioperm,
];
#[cfg(not(target_arch = "x86_64"))]
pub(crate) const OLD_HARMLESS: &[i64] = &[163, 164];

/// The arguments of a call that tells what is at a path: where the answer goes, and the flags.
pub(crate) enum LookCall {
    /// The answer goes to this argument, in the usual form; links at the end are followed, unless
    /// this is said.
    Plain { to: usize, follows: bool },
    /// The same, with flags.
    Flagged { to: usize, flags: usize },
    /// In the longer form, with flags and a mask.
    Long {
        to: usize,
        flags: usize,
        mask: usize,
    },
}

/// What kind of call tells what is at a path; `None` for others.
pub(crate) fn look_call(call: i64) -> Option<LookCall> {
    match call {
        libc::SYS_newfstatat => Some(LookCall::Flagged { to: 2, flags: 3 }),
        libc::SYS_statx => Some(LookCall::Long {
            to: 4,
            flags: 2,
            mask: 3,
        }),
        libc::SYS_fstat => Some(LookCall::Plain {
            to: 1,
            follows: true,
        }),
        #[cfg(target_arch = "x86_64")]
        libc::SYS_stat => Some(LookCall::Plain {
            to: 1,
            follows: true,
        }),
        #[cfg(target_arch = "x86_64")]
        libc::SYS_lstat => Some(LookCall::Plain {
            to: 1,
            follows: false,
        }),
        _ => None,
    }
}

/// Whether a call gives something another name.
pub(crate) fn renames(call: i64) -> bool {
    #[cfg(target_arch = "x86_64")]
    if matches!(call, libc::SYS_rename | libc::SYS_renameat) {
        return true;
    }
    #[cfg(not(target_arch = "x86_64"))]
    if call == 38 {
        return true;
    }
    call == libc::SYS_renameat2
}

/// Whether a call lists an open folder.
#[cfg(target_arch = "x86_64")]
pub(crate) fn lists_folder(call: i64) -> bool {
    matches!(call, libc::SYS_getdents64 | libc::SYS_getdents)
}

#[cfg(not(target_arch = "x86_64"))]
pub(crate) fn lists_folder(call: i64) -> bool {
    call == libc::SYS_getdents64
}

#[cfg(target_arch = "x86_64")]
pub(crate) fn makes_folder(call: i64) -> bool {
    matches!(call, libc::SYS_mkdirat | libc::SYS_mkdir)
}

#[cfg(not(target_arch = "x86_64"))]
pub(crate) fn makes_folder(call: i64) -> bool {
    call == libc::SYS_mkdirat
}

pub(crate) fn touch_of(flags: u64) -> PathUse {
    let flags = flags as i32;
    let writes =
        flags & libc::O_ACCMODE != libc::O_RDONLY || flags & (libc::O_CREAT | libc::O_TRUNC) != 0;
    match (writes, flags & libc::O_PATH != 0) {
        (_, true) => PathUse::LookedUp,
        (true, _) => PathUse::Written,
        (false, _) => PathUse::Read,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_call_is_in_one_table() {
        let noted: std::collections::HashSet<i64> = ARGUMENTS
            .iter()
            .chain(OLD_ARGUMENTS)
            .map(|argument| argument.call)
            .collect();
        let mut harmless: Vec<i64> = HARMLESS.iter().chain(OLD_HARMLESS).copied().collect();
        assert!(harmless.iter().all(|call| !noted.contains(call)));
        let count = harmless.len();
        harmless.sort_unstable();
        harmless.dedup();
        assert_eq!(harmless.len(), count);
    }

    #[test]
    fn flags_tell_reading_from_writing() {
        let touch = |flags: i32| touch_of(flags as u64);
        assert_eq!(touch(libc::O_RDONLY | libc::O_CLOEXEC), PathUse::Read);
        assert_eq!(touch(libc::O_WRONLY), PathUse::Written);
        assert_eq!(touch(libc::O_RDWR), PathUse::Written);
        assert_eq!(touch(libc::O_RDONLY | libc::O_CREAT), PathUse::Written);
        assert_eq!(touch(libc::O_PATH), PathUse::LookedUp);
    }
}
