//! Steps that other machines run now.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use nubrik_graph::StepId;

use crate::examine::Examined;
use crate::reason::Reason;

/// A step that took so many times as long as it should is begun once more: here if there is time for it, or else on another
/// machine. The first end counts.
const LATE: u32 = 3;

/// No step is late before this.
const NOT_LATE: Duration = Duration::from_secs(2);

/// A step that was sent and not answered yet.
pub(crate) struct SentStep {
    pub now: Examined,
    pub reason: Reason,
    pub at: Instant,
    pub forecast: Duration,
    /// Whether it was sent to a second machine.
    pub is_doubled: bool,
    /// Whether this machine cannot run it.
    pub is_bound: bool,
}

impl SentStep {
    /// Whether it should be over.
    pub(crate) fn is_late(&self) -> bool {
        self.at.elapsed() > (self.forecast * LATE).max(NOT_LATE)
    }
}

/// Steps that were sent, by their numbers.
pub(crate) type SentSteps = HashMap<StepId, SentStep>;
