//! What becomes of a step in a build.

use std::sync::Arc;

use crate::away::WhyNotTaken;
use crate::event::{Failure, Refusal, Verdict};
use crate::examine::Examined;
use crate::reason::Reason;

/// A step that is to run here.
pub(crate) struct RunHere {
    pub(crate) now: Examined,
    pub(crate) reason: Reason,
    /// Why nothing was taken for it that others gave, where that counts.
    pub(crate) why: Option<WhyNotTaken>,
}

/// What became of a step that was attended to.
pub(crate) enum Attended {
    /// It is done with.
    Ended(Box<StepEnd>),
    /// Another machine runs it, which will be answered.
    Sent,
    /// It is to run here.
    ToRun(Box<RunHere>),
}

impl From<StepEnd> for Attended {
    fn from(end: StepEnd) -> Attended {
        Attended::Ended(Box::new(end))
    }
}

pub(crate) struct StepEnd {
    pub(crate) verdict: Verdict,
    pub(crate) reason: Reason,
    pub(crate) micros: u64,
    pub(crate) printed: Vec<u8>,
    pub(crate) failure: Option<Failure>,
    pub(crate) survived: Vec<Refusal>,
    /// The other machine that ran it.
    pub(crate) machine: Option<Arc<str>>,
}

impl StepEnd {
    pub(crate) fn new(verdict: Verdict, reason: Reason) -> StepEnd {
        StepEnd {
            verdict,
            reason,
            micros: 0,
            printed: Vec::new(),
            failure: None,
            survived: Vec::new(),
            machine: None,
        }
    }
}
