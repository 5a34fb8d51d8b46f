//! How fast bytes come: who gives a few now and then holds a build as well as who gives none.

use std::time::{Duration, Instant};

/// A least speed, and how much came in the span of time that is measured now.
pub(crate) struct Pace {
    /// How long is measured at once.
    span: Duration,
    /// The fewest bytes a second.
    slowest: u64,
    since: Instant,
    bytes: u64,
}

impl Pace {
    /// Measures from a moment on.
    pub fn new(span: Duration, slowest: u64, now: Instant) -> Pace {
        Pace {
            span,
            slowest,
            since: now,
            bytes: 0,
        }
    }

    /// Counts bytes that came at a moment. Says whether fewer came in a whole span than the least
    /// speed gives.
    pub fn is_too_slow(&mut self, bytes: usize, now: Instant) -> bool {
        self.bytes += bytes as u64;
        let passed = now.saturating_duration_since(self.since);
        if passed < self.span {
            return false;
        }
        let is_too_slow = self.bytes < passed.as_secs() * self.slowest;
        (self.since, self.bytes) = (now, 0);
        is_too_slow
    }

    /// The words for it, after "it".
    pub fn words(&self) -> String {
        format!(
            "gave fewer than {} KiB a second for {} seconds",
            self.slowest >> 10,
            self.span.as_secs()
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn drops_are_too_slow_also_after_a_fast_beginning() {
        let (begin, span) = (Instant::now(), Duration::from_secs(30));
        let at = |seconds: u64| begin + Duration::from_secs(seconds);
        let mut pace = Pace::new(span, 1 << 10, begin);
        assert!(
            !pace.is_too_slow(50 << 20, at(1)),
            "nothing is said before a span has passed"
        );
        assert!(!pace.is_too_slow(1, at(30)), "the first span was fast");
        assert!((31..60).all(|second| !pace.is_too_slow(1, at(second))));
        assert!(pace.is_too_slow(1, at(60)), "a byte a second is none");
        assert_eq!(
            pace.words(),
            "gave fewer than 1 KiB a second for 30 seconds"
        );
    }

    #[test]
    fn a_slow_line_that_goes_on_is_waited_for() {
        let begin = Instant::now();
        let mut pace = Pace::new(Duration::from_secs(30), 1 << 10, begin);
        assert!(
            (1..600).all(|second| !pace.is_too_slow(2 << 10, begin + Duration::from_secs(second)))
        );
    }
}
