//! What a process gets from the one that starts it, and commands are not to see: limits, ignored
//! signals, the way in which the kernel presents itself, huge pages, niceness, and how likely it is
//! to be ended for want of memory. It is made the same for all of them.

use std::sync::OnceLock;

use super::orders::error;

/// A limit as commands have it: what counts at once, and how far they may raise it themselves.
#[derive(Clone, Copy)]
struct Fixed {
    resource: u32,
    name: &'static str,
    soft: libc::rlim_t,
    hard: libc::rlim_t,
}

const fn fixed(resource: u32, name: &'static str, soft: libc::rlim_t, hard: libc::rlim_t) -> Fixed {
    Fixed {
        resource,
        name,
        soft,
        hard,
    }
}

const NO_LIMIT: libc::rlim_t = libc::RLIM_INFINITY;

/// Limits of commands. How many processes a user may have is left as it is: it counts those of all
/// of the user's programs.
const LIMITS: [Fixed; 10] = [
    fixed(libc::RLIMIT_NOFILE, "open files", 4096, 4096),
    fixed(libc::RLIMIT_STACK, "the stack", 8 << 20, NO_LIMIT),
    fixed(libc::RLIMIT_CORE, "dumps", 0, 0),
    fixed(libc::RLIMIT_FSIZE, "the size of files", NO_LIMIT, NO_LIMIT),
    fixed(libc::RLIMIT_DATA, "data", NO_LIMIT, NO_LIMIT),
    fixed(libc::RLIMIT_AS, "memory", NO_LIMIT, NO_LIMIT),
    fixed(libc::RLIMIT_CPU, "processor time", NO_LIMIT, NO_LIMIT),
    fixed(libc::RLIMIT_MEMLOCK, "locked memory", 64 << 10, 64 << 10),
    fixed(libc::RLIMIT_NICE, "niceness", 0, 0),
    fixed(libc::RLIMIT_RTPRIO, "priority", 0, 0),
];

/// How likely commands are to be ended for want of memory, in the kernel's measure: sooner than
/// what a person has open. Everybody may raise it.
const SCORE: &[u8] = b"500";

/// Privileges, by their numbers in `linux/capability.h`.
const LOWER_NICENESS: u32 = 23;
const RAISE_LIMITS: u32 = 24;

/// Whether this program has a privilege: also the superuser of a container may lack some.
fn has_privilege(number: u32) -> bool {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let all = status.lines().find_map(|line| line.strip_prefix("CapEff:"));
    all.and_then(|all| u64::from_str_radix(all.trim(), 16).ok())
        .is_some_and(|all| all >> number & 1 == 1)
}

/// What is to be done in a process before it becomes a command.
struct Shedding {
    limits: [libc::rlimit; LIMITS.len()],
    /// Signals that this program was started to ignore, as bits.
    ignored: u64,
    is_presented_otherwise: bool,
    /// Whether the niceness may be set back.
    sets_niceness: bool,
    /// What cannot be made the same, in words.
    left: String,
}

fn shedding() -> &'static Shedding {
    static SHEDDING: OnceLock<Shedding> = OnceLock::new();
    SHEDDING.get_or_init(|| {
        let (raises_limits, lowers_niceness) =
            (has_privilege(RAISE_LIMITS), has_privilege(LOWER_NICENESS));
        let mut left = Vec::new();
        let limits = LIMITS.map(|fixed| {
            let mut now = libc::rlimit {
                rlim_cur: NO_LIMIT,
                rlim_max: NO_LIMIT,
            };
            // SAFETY: the pointer is to a live structure.
            unsafe { libc::getrlimit(fixed.resource as _, &raw mut now) };
            let hard = if raises_limits {
                fixed.hard
            } else {
                fixed.hard.min(now.rlim_max)
            };
            if hard < fixed.hard {
                left.push(format!("{} at most {hard}", fixed.name));
            }
            libc::rlimit {
                rlim_cur: fixed.soft.min(hard),
                rlim_max: hard,
            }
        });
        let mut ignored = 0;
        for signal in 1..=64 {
            // SAFETY: a structure of numbers, for which zero is a value; the call only asks.
            let mut action: libc::sigaction = unsafe { std::mem::zeroed() };
            // SAFETY: the pointer is to a live structure.
            let asked = unsafe { libc::sigaction(signal, std::ptr::null(), &raw mut action) };
            if asked == 0 && action.sa_sigaction == libc::SIG_IGN {
                ignored |= 1 << (signal - 1);
            }
        }
        // SAFETY: asks, and changes nothing.
        let presented = unsafe { libc::personality(0xffff_ffff) };
        // SAFETY: asks, and changes nothing. This error's place is set before, since -1 is a
        // niceness, too.
        let nice = unsafe {
            *libc::__errno_location() = 0;
            libc::getpriority(libc::PRIO_PROCESS, 0)
        };
        if nice != 0 && error() == 0 && !lowers_niceness {
            left.push(format!("niceness {nice}"));
        }
        Shedding {
            limits,
            ignored,
            is_presented_otherwise: presented != 0,
            sets_niceness: nice != 0 && lowers_niceness,
            left: left.join(", "),
        }
    })
}

/// What commands get from this program though it should be the same everywhere, in words; `None`
/// where that is nothing. It takes privileges to raise limits and to lower niceness.
pub fn left_to_inherit() -> Option<&'static str> {
    Some(shedding().left.as_str()).filter(|left| !left.is_empty())
}

/// Prepared in the parent: what a new process does about it.
pub(super) struct Inherited(&'static Shedding);

impl Inherited {
    pub fn prepared() -> Inherited {
        Inherited(shedding())
    }

    /// In a child: only system calls. What fails leaves what was inherited.
    ///
    /// # Safety
    /// Changes this process; it must be one that was made for it.
    pub unsafe fn shed(&self) {
        let shedding = self.0;
        // SAFETY: system calls on constants and on what lives as long as the program.
        unsafe {
            for (fixed, limit) in LIMITS.iter().zip(&shedding.limits) {
                libc::setrlimit(fixed.resource as _, limit);
            }
            let mut signals = shedding.ignored;
            while signals != 0 {
                libc::signal(signals.trailing_zeros() as i32 + 1, libc::SIG_DFL);
                signals &= signals - 1;
            }
            if shedding.is_presented_otherwise {
                libc::personality(0);
            }
            // This program does without them where it works little.
            libc::prctl(libc::PR_SET_THP_DISABLE, 0 as libc::c_ulong, 0, 0, 0);
            if shedding.sets_niceness {
                libc::setpriority(libc::PRIO_PROCESS, 0, 0);
            }
            let flags = libc::O_WRONLY | libc::O_CLOEXEC;
            let score = libc::open(c"/proc/self/oom_score_adj".as_ptr(), flags);
            if score >= 0 {
                libc::write(score, SCORE.as_ptr().cast(), SCORE.len());
                libc::close(score);
            }
        }
    }
}
