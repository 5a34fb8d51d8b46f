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

/// A path in a call: which arguments hold the folder that it starts from and the path, and what it is for.
pub(crate) struct PathArgument {
    pub call: i64,
    /// Argument with the folder; `None` where the path starts from the current one.
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
    PathArgument { call, folder: Some(folder), path, use_: CallUse::Always(touch) }
}

#[cfg(target_arch = "x86_64")]
const fn here(call: i64, path: usize, touch: PathUse) -> PathArgument {
    PathArgument { call, folder: None, path, use_: CallUse::Always(touch) }
}

pub(crate) const ARGUMENTS: &[PathArgument] = &[
    PathArgument { call: libc::SYS_openat, folder: Some(0), path: 1, use_: CallUse::ByFlags(2) },
    PathArgument { call: libc::SYS_openat2, folder: Some(0), path: 1, use_: CallUse::ByFlagsAt(2) },
    PathArgument { call: libc::SYS_execve, folder: None, path: 0, use_: CallUse::Always(PathUse::Started) },
    at(libc::SYS_execveat, 0, 1, PathUse::Started),
    at(libc::SYS_newfstatat, 0, 1, PathUse::LookedUp),
    at(libc::SYS_statx, 0, 1, PathUse::LookedUp),
    at(libc::SYS_faccessat, 0, 1, PathUse::LookedUp),
    at(libc::SYS_faccessat2, 0, 1, PathUse::LookedUp),
    at(libc::SYS_readlinkat, 0, 1, PathUse::LookedUp),
    at(libc::SYS_mkdirat, 0, 1, PathUse::Written),
    at(libc::SYS_unlinkat, 0, 1, PathUse::Written),
    at(libc::SYS_renameat, 0, 1, PathUse::Written),
    at(libc::SYS_renameat, 2, 3, PathUse::Written),
    at(libc::SYS_renameat2, 0, 1, PathUse::Written),
    at(libc::SYS_renameat2, 2, 3, PathUse::Written),
    at(libc::SYS_linkat, 0, 1, PathUse::Read),
    at(libc::SYS_linkat, 2, 3, PathUse::Written),
    at(libc::SYS_symlinkat, 1, 2, PathUse::Written),
    PathArgument { call: LISTING, folder: Some(0), path: 0, use_: CallUse::Always(PathUse::Read) },
    PathArgument { call: libc::SYS_truncate, folder: None, path: 0, use_: CallUse::Always(PathUse::Written) },
];

/// Calls that newer processors' kernels no longer have.
#[cfg(target_arch = "x86_64")]
pub(crate) const OLD_ARGUMENTS: &[PathArgument] = &[
    PathArgument { call: libc::SYS_open, folder: None, path: 0, use_: CallUse::ByFlags(1) },
    here(libc::SYS_creat, 0, PathUse::Written),
    here(libc::SYS_stat, 0, PathUse::LookedUp),
    here(libc::SYS_lstat, 0, PathUse::LookedUp),
    here(libc::SYS_access, 0, PathUse::LookedUp),
    here(libc::SYS_readlink, 0, PathUse::LookedUp),
    here(libc::SYS_mkdir, 0, PathUse::Written),
    here(libc::SYS_rmdir, 0, PathUse::Written),
    here(libc::SYS_unlink, 0, PathUse::Written),
    here(libc::SYS_rename, 0, PathUse::Written),
    here(libc::SYS_rename, 1, PathUse::Written),
    here(libc::SYS_link, 0, PathUse::Read),
    here(libc::SYS_link, 1, PathUse::Written),
    here(libc::SYS_symlink, 1, PathUse::Written),
];
#[cfg(not(target_arch = "x86_64"))]
pub(crate) const OLD_ARGUMENTS: &[PathArgument] = &[];

/// The call that lists an open folder. It has no path, only the folder.
pub(crate) const LISTING: i64 = libc::SYS_getdents64;

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
    let writes = flags & libc::O_ACCMODE != libc::O_RDONLY || flags & (libc::O_CREAT | libc::O_TRUNC) != 0;
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
    fn flags_tell_reading_from_writing() {
        let touch = |flags: i32| touch_of(flags as u64);
        assert_eq!(touch(libc::O_RDONLY | libc::O_CLOEXEC), PathUse::Read);
        assert_eq!(touch(libc::O_WRONLY), PathUse::Written);
        assert_eq!(touch(libc::O_RDWR), PathUse::Written);
        assert_eq!(touch(libc::O_RDONLY | libc::O_CREAT), PathUse::Written);
        assert_eq!(touch(libc::O_PATH), PathUse::LookedUp);
    }
}
