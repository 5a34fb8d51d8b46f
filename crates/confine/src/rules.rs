//! What a command may reach.

use std::io;
use std::os::fd::{AsFd, AsRawFd, OwnedFd, RawFd};
use std::path::{Path, PathBuf};

use rustix::fs::{Mode, OFlags};

use crate::sys;

/// What this machine's kernel offers to confine a command.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Support {
    /// The version of its path rules; `None` where it has none.
    pub path_rules: Option<u32>,
    /// Whether new sockets can be refused.
    pub network_filter: bool,
}

/// What this machine's kernel offers.
pub fn support() -> Support {
    Support {
        path_rules: sys::path_rules_version(),
        network_filter: sys::network_filter_works(),
    }
}

// Rights of `linux/landlock.h`, in the order of their bits.
const EXECUTE: u64 = 1;
const WRITE_FILE: u64 = 1 << 1;
const READ_FILE: u64 = 1 << 2;
const READ_FOLDER: u64 = 1 << 3;
const ALL_OF_VERSION_1: u64 = (1 << 13) - 1;
const MOVE: u64 = 1 << 13;
const TRUNCATE: u64 = 1 << 14;
const CONTROL_DEVICE: u64 = 1 << 15;

/// A kind of access to a path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Access {
    /// Reading and executing a file, or everything in a folder.
    Read,
    /// Everything, at and below a folder.
    Write,
    /// Reading, writing and controlling a terminal.
    Terminal,
}

/// Folders of the system that every command may read, kept open.
pub struct SystemFolders {
    version: Option<u32>,
    open: Vec<(OwnedFd, u64)>,
    canonical: Vec<PathBuf>,
}

/// The last one is what installed packages of TeX generate for all users; tools of it do nothing
/// without it.
pub(crate) const READABLE: [&str; 10] = [
    "/usr",
    "/lib",
    "/lib64",
    "/lib32",
    "/bin",
    "/sbin",
    "/etc",
    "/opt",
    "/proc",
    "/var/lib/texmf",
];
pub(crate) const DEVICES: [&str; 5] = [
    "/dev/null",
    "/dev/zero",
    "/dev/full",
    "/dev/random",
    "/dev/urandom",
];

fn open_path(path: &Path) -> io::Result<OwnedFd> {
    Ok(rustix::fs::open(
        path,
        OFlags::PATH | OFlags::CLOEXEC,
        Mode::empty(),
    )?)
}

impl SystemFolders {
    /// Opens the system's folders, but none that `workspace` lies in: that would open the
    /// workspace.
    pub fn open(workspace: &Path) -> SystemFolders {
        let version = sys::path_rules_version();
        let mut open = Vec::new();
        let mut canonical: Vec<PathBuf> = Vec::new();
        for folder in READABLE {
            // On many systems `/bin` and `/lib` are links into `/usr`: one rule represents both.
            let Ok(real) = Path::new(folder).canonicalize() else {
                continue;
            };
            if workspace.starts_with(&real) || canonical.iter().any(|other| real.starts_with(other))
            {
                continue;
            }
            canonical.push(real);
            if let Ok(fd) = open_path(Path::new(folder)) {
                open.push((fd, EXECUTE | READ_FILE | READ_FOLDER));
            }
        }
        for device in DEVICES {
            if let Ok(fd) = open_path(Path::new(device)) {
                open.push((
                    fd,
                    READ_FILE | WRITE_FILE | if version >= Some(3) { TRUNCATE } else { 0 },
                ));
            }
        }
        SystemFolders {
            version,
            open,
            canonical,
        }
    }

    /// Whether a path (absolute, with links followed) is in one of them, or is a device that all
    /// may use.
    pub fn cover(&self, path: &Path) -> bool {
        self.canonical.iter().any(|folder| path.starts_with(folder))
            || DEVICES.iter().any(|device| path == Path::new(device))
    }
}

/// Rules for one command: what is not allowed is refused.
pub struct RuleSet {
    fd: Option<OwnedFd>,
    version: u32,
}

impl RuleSet {
    /// Rules that allow reading the system's folders; no rules where the kernel has none.
    ///
    /// # Errors
    /// When the kernel refuses.
    pub fn new(system: &SystemFolders) -> io::Result<RuleSet> {
        Self::with(system, false)
    }

    /// The same for a command that may send signals to processes which are not its own: one that
    /// stops another.
    ///
    /// # Errors
    /// When the kernel refuses.
    pub fn with_signals(system: &SystemFolders) -> io::Result<RuleSet> {
        Self::with(system, true)
    }

    fn with(system: &SystemFolders, signals: bool) -> io::Result<RuleSet> {
        let Some(version) = system.version else {
            return Ok(RuleSet {
                fd: None,
                version: 0,
            });
        };
        let mut handled = ALL_OF_VERSION_1;
        for (since, right) in [(2, MOVE), (3, TRUNCATE), (5, CONTROL_DEVICE)] {
            if version >= since {
                handled |= right;
            }
        }
        let fd = sys::create_rules(handled, version, signals)?;
        for (place, access) in &system.open {
            sys::allow_below(fd.as_fd(), place.as_fd(), *access)?;
        }
        Ok(RuleSet {
            fd: Some(fd),
            version,
        })
    }

    /// Allows access to a path; a folder represents all that is in it.
    ///
    /// # Errors
    /// When the path cannot be opened or the kernel refuses.
    pub fn allow(&self, path: &Path, access: Access) -> io::Result<()> {
        let Some(fd) = &self.fd else { return Ok(()) };
        let place = open_path(path)?;
        let is_folder = rustix::fs::fstat(&place).is_ok_and(|s| {
            rustix::fs::FileType::from_raw_mode(s.st_mode) == rustix::fs::FileType::Directory
        });
        let rights = match (access, is_folder) {
            (Access::Read, true) => EXECUTE | READ_FILE | READ_FOLDER,
            (Access::Read, false) => EXECUTE | READ_FILE,
            (Access::Terminal, _) => {
                let control = if self.version >= 5 { CONTROL_DEVICE } else { 0 };
                READ_FILE | WRITE_FILE | control
            }
            (Access::Write, _) => {
                let mut all = ALL_OF_VERSION_1;
                if self.version >= 2 {
                    all |= MOVE;
                }
                if self.version >= 3 {
                    all |= TRUNCATE;
                }
                all
            }
        };
        sys::allow_below(fd.as_fd(), place.as_fd(), rights)
    }

    pub(crate) fn descriptor(&self) -> Option<RawFd> {
        self.fd.as_ref().map(AsRawFd::as_raw_fd)
    }
}
