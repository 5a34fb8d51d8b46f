//! What time it is for files of the workspace.

use std::fs::File;
use std::sync::OnceLock;
use std::time::{SystemTime, UNIX_EPOCH};

use nubrik_disk::{Below, Signature};
use rustix::fs::{OFlags, Timespec, Timestamps, UTIME_NOW};

/// The clock by which files of the workspace get their times: that of a file server or of a machine
/// around this one may be another one than this machine's, and goes in steps.
#[derive(Default)]
pub(crate) struct FileClock {
    file: OnceLock<Option<File>>,
}

/// The file of which the time is set to know it, below the root.
const CLOCK: &str = ".nubrik/clock";

impl FileClock {
    /// Nanoseconds since 1970; by this machine's clock where no file can be written.
    pub fn now(&self, below: &Below) -> i64 {
        let set = || {
            let file = self
                .file
                .get_or_init(|| below.open(CLOCK, OFlags::CREATE | OFlags::WRONLY).ok());
            let file = file.as_ref()?;
            let now = || Timespec {
                tv_sec: 0,
                tv_nsec: UTIME_NOW,
            };
            rustix::fs::futimens(
                file,
                &Timestamps {
                    last_access: now(),
                    last_modification: now(),
                },
            )
            .ok()?;
            let found = rustix::fs::fstat(file).ok()?;
            Some(Signature::from(&found).changed)
        };
        set().unwrap_or_else(now)
    }
}

/// Nanoseconds since 1970, by this machine's clock.
pub(crate) fn now() -> i64 {
    SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |d| d.as_nanos() as i64)
}
