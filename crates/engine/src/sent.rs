//! Steps that other machines run now.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use nubrik_graph::StepId;

use crate::examine::Examined;
use crate::reason::Reason;

/// A step that was sent and not answered yet.
pub(crate) struct SentStep {
    pub now: Examined,
    pub reason: Reason,
    pub at: Instant,
    pub forecast: Duration,
}

/// Steps that were sent, by their numbers.
pub(crate) type SentSteps = HashMap<StepId, SentStep>;
