//! Steps that other machines run now.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use nubrik_graph::StepId;

use crate::examine::Examined;
use crate::reason::Reason;

/// A step that took so many times as long as it should is begun once more: here if there is time
/// for it, or else on another machine. The first end counts.
const LATE: u32 = 3;

/// No step is late before this.
const NOT_LATE: Duration = Duration::from_secs(2);

/// A step that nobody began after so long waits for others there. Whoever has nothing to do here
/// begins it then.
const NOT_BEGUN: Duration = Duration::from_millis(500);

/// A step of which nobody knows how long it takes is late after this. That its machine is gone
/// shows sooner.
const LATE_UNKNOWN: Duration = Duration::from_secs(60);

/// A step that was sent and not answered yet.
pub(crate) struct SentStep {
    pub now: Examined,
    pub reason: Reason,
    /// Since when others have it; nothing while it is being sent.
    pub at: Option<Instant>,
    /// How long it should take, or how long it is guessed to.
    pub forecast: Duration,
    /// Whether it ran before, so that this is known.
    pub is_known: bool,
    /// Whether somebody said that they began it.
    pub is_begun: bool,
    /// Whether its image was being put together there when that was said last.
    pub unpacks: bool,
    /// Whether the machine that began it is gone.
    pub is_gone: bool,
    /// Whether it was sent to a second machine.
    pub is_doubled: bool,
    /// Whether this machine cannot run it.
    pub is_bound: bool,
}

impl SentStep {
    /// Takes note that the machine that began it is gone: nobody runs it.
    pub(crate) fn lose(&mut self) {
        (self.is_gone, self.is_begun, self.is_doubled) = (true, false, false);
    }

    /// Takes note that it was sent once more: in place of the first time, or beside it where that
    /// is late.
    pub(crate) fn send_again(&mut self) {
        match self.is_gone {
            true => (self.is_gone, self.at) = (false, Some(Instant::now())),
            false => self.is_doubled = true,
        }
    }

    /// Whether others have it for longer than a time.
    fn is_there_for(&self, time: Duration) -> bool {
        self.at.is_some_and(|at| at.elapsed() > time)
    }

    /// Whether it should be over.
    pub(crate) fn is_late(&self) -> bool {
        let limit = if self.is_known {
            (self.forecast * LATE).max(NOT_LATE)
        } else {
            LATE_UNKNOWN
        };
        self.is_gone || self.is_there_for(limit)
    }

    /// Whether it waits there, while it could run here.
    pub(crate) fn only_waits(&self) -> bool {
        !self.is_begun && !self.is_bound && self.is_there_for(NOT_BEGUN)
    }
}

/// Steps that were sent, by their numbers.
pub(crate) type SentSteps = HashMap<StepId, SentStep>;

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use nubrik_bytes::Digest;

    use super::*;
    use crate::key::KeyParts;

    fn sent(ago: Duration, forecast: Duration, is_known: bool) -> SentStep {
        let none = Digest::default();
        SentStep {
            now: Examined {
                id: StepId(0),
                parts: KeyParts {
                    command: none,
                    tools: Vec::new(),
                    inputs: Vec::new(),
                },
                first_key: none,
                names: none,
                tools: Vec::new(),
            },
            reason: Reason::New,
            at: Instant::now().checked_sub(ago),
            forecast,
            is_known,
            is_begun: false,
            unpacks: false,
            is_gone: false,
            is_doubled: false,
            is_bound: false,
        }
    }

    #[test]
    fn what_never_ran_is_not_late_soon() {
        let second = Duration::from_secs(1);
        assert!(
            sent(second * 4, second, true).is_late() && !sent(second * 2, second, true).is_late()
        );
        assert!(
            !sent(second, second / 100, true).is_late()
                && sent(second * 3, second / 100, true).is_late()
        );
        assert!(!sent(second * 30, second / 100, false).is_late());
        assert!(sent(second * 61, second / 100, false).is_late());
        assert!(
            SentStep {
                is_gone: true,
                ..sent(second / 9, second, true)
            }
            .is_late(),
            "nobody runs it"
        );
    }

    #[test]
    fn what_somebody_began_does_not_only_wait() {
        let sent = sent(Duration::from_secs(1), Duration::from_secs(9), false);
        assert!(sent.only_waits());
        let sending = SentStep { at: None, ..sent };
        assert!(
            !sending.only_waits() && !sending.is_late(),
            "large inputs take time"
        );
        let there = Instant::now().checked_sub(Duration::from_secs(1));
        assert!(
            !SentStep {
                is_begun: true,
                at: there,
                ..sending
            }
            .only_waits()
        );
    }
}
