//! How long a folder's definitions may be tried.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

use nubrik_confine::CancelSwitch;

/// How long all tries may take together.
#[derive(Default)]
pub struct TimeLimit {
    limit: Option<Duration>,
    is_over: AtomicBool,
}

impl TimeLimit {
    /// So long.
    pub fn of(limit: Duration) -> TimeLimit {
        TimeLimit {
            limit: Some(limit),
            is_over: AtomicBool::new(false),
        }
    }

    /// Whether time ran out.
    pub fn is_over(&self) -> bool {
        self.is_over.load(Ordering::Relaxed)
    }

    /// Does something, and throws the switch when time runs out before it is done.
    pub(crate) fn during<T>(&self, cancel: &CancelSwitch, work: impl FnOnce() -> T) -> T {
        let Some(limit) = self.limit else {
            return work();
        };
        std::thread::scope(|scope| {
            let (done, is_done) = channel::<()>();
            scope.spawn(move || {
                // Somebody who stops it stops it earlier.
                if is_done.recv_timeout(limit) == Err(RecvTimeoutError::Timeout)
                    && !cancel.is_thrown()
                {
                    self.is_over.store(true, Ordering::Relaxed);
                    cancel.throw();
                }
            });
            let result = work();
            drop(done);
            result
        })
    }

    /// Why something was not tried, when all was stopped.
    pub(crate) fn why_stopped(&self) -> String {
        let why = if self.is_over() {
            "the time was over before it was tried"
        } else {
            STOPPED
        };
        why.to_owned()
    }
}

const STOPPED: &str = "it was stopped before it was tried";

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_switch_is_thrown_when_time_is_over_and_only_then() {
        let (cancel, limit) = (
            CancelSwitch::new().unwrap(),
            TimeLimit::of(Duration::from_secs(600)),
        );
        assert_eq!(limit.during(&cancel, || 7), 7);
        assert!(!cancel.is_thrown() && !limit.is_over());
        let short = TimeLimit::of(Duration::from_millis(1));
        assert!(short.during(&cancel, || cancel.wait(Duration::from_secs(60))));
        assert!(short.is_over() && short.why_stopped().contains("time"));
        // Somebody else stopped it first.
        let other = TimeLimit::of(Duration::from_millis(1));
        other.during(&cancel, || std::thread::sleep(Duration::from_millis(20)));
        assert!(!other.is_over() && other.why_stopped() == STOPPED);
    }
}
