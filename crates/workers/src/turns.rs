//! How many steps run at once for others: a job may be got ready, and its result given, while
//! another one runs.

use std::time::Duration;

use nubrik_confine::CancelSwitch;
use parking_lot::{Condvar, Mutex};

/// After so long it is looked whether who waits is stopped.
const LOOK: Duration = Duration::from_millis(50);

/// Turns that those take who run something.
#[derive(Debug)]
pub struct Turns {
    free: Mutex<usize>,
    changed: Condvar,
}

/// A turn, as long as it lives.
#[derive(Debug)]
pub struct Turn<'t>(&'t Turns);

impl Turns {
    /// So many turns at once.
    pub fn new(count: usize) -> Turns {
        Turns {
            free: Mutex::new(count),
            changed: Condvar::new(),
        }
    }

    /// Waits for a turn. Nothing where who waits is stopped, or it `is_wanted` no more.
    pub fn take(&self, cancel: &CancelSwitch, is_wanted: &dyn Fn() -> bool) -> Option<Turn<'_>> {
        let mut free = self.free.lock();
        loop {
            if cancel.is_thrown() || !is_wanted() {
                return None;
            }
            if *free > 0 {
                break;
            }
            self.changed.wait_for(&mut free, LOOK);
        }
        *free -= 1;
        self.changed.notify_all();
        Some(Turn(self))
    }

    /// Waits until all turns are taken, at most so long; whether they are.
    pub fn wait_until_taken(&self, within: Duration) -> bool {
        let mut free = self.free.lock();
        self.changed
            .wait_while_for(&mut free, |free| *free > 0, within);
        *free == 0
    }
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        *self.0.free.lock() += 1;
        self.0.changed.notify_all();
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn no_more_run_than_have_turns() {
        let (turns, cancel) = (Turns::new(2), CancelSwitch::new().unwrap());
        let one = turns.take(&cancel, &|| true).unwrap();
        assert!(!turns.wait_until_taken(Duration::ZERO));
        let two = turns.take(&cancel, &|| true).unwrap();
        assert!(turns.wait_until_taken(Duration::ZERO));
        std::thread::scope(|scope| {
            let third = scope.spawn(|| turns.take(&cancel, &|| true).is_some());
            drop(one);
            assert!(third.join().unwrap());
        });
        let _one = turns.take(&cancel, &|| true).unwrap();
        // Nobody waits who is not wanted any more, or is stopped.
        assert!(turns.take(&cancel, &|| false).is_none());
        cancel.throw();
        assert!(turns.take(&cancel, &|| true).is_none());
        drop(two);
    }
}
