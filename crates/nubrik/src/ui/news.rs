//! What was said already, and what is kept back to be said at once: of many steps the same is said
//! once.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_engine::{Failure, Verdict};
use nubrik_graph::StepId;
use parking_lot::{Mutex, MutexGuard};

/// What a build has said so far.
#[derive(Default)]
pub struct SaidSoFar {
    told: Mutex<SaidThings>,
}

/// Steps that were not begun, by their verdict and why.
pub type Together = BTreeMap<(&'static str, String), Vec<StepId>>;

#[derive(Default)]
struct SaidThings {
    /// Tools that were said to be missing: the mend is said once.
    missing_tools: BTreeSet<String>,
    /// Told together, so that what failed stays in sight.
    together: Together,
    /// How many steps were reused that printed something when they ran, and one of them.
    silent: (usize, Option<StepId>),
    /// What failures printed, and of which step: the same is not shown twice.
    printed: BTreeMap<Vec<u8>, StepId>,
}

impl SaidSoFar {
    fn told(&self) -> MutexGuard<'_, SaidThings> {
        self.told.lock()
    }

    /// Whether a failure says more than one that was shown before.
    pub fn is_news(&self, failure: &Failure) -> bool {
        match failure {
            Failure::NoTool(problem) => self.told().missing_tools.insert(problem.name.to_string()),
            _ => true,
        }
    }

    /// The step whose failure printed the same before.
    pub fn printed_before(&self, id: StepId, printed: &[u8]) -> Option<StepId> {
        if printed.is_empty() {
            return None;
        }
        let before = &mut self.told().printed;
        match before.get(printed) {
            Some(other) => Some(*other),
            None => {
                before.insert(printed.to_vec(), id);
                None
            }
        }
    }

    /// Keeps back that a step was not begun.
    pub fn keep_back(&self, id: StepId, verdict: Verdict, why: String) {
        self.told()
            .together
            .entry((verdict.word(), why))
            .or_default()
            .push(id);
    }

    /// Keeps back that a reused step had printed something.
    pub fn keep_silent(&self, id: StepId) {
        let silent = &mut self.told().silent;
        *silent = (silent.0 + 1, silent.1.or(Some(id)));
    }

    /// How many reused steps had printed something and one of them, and the steps that were not
    /// begun.
    pub fn kept_back(&self) -> (Option<(usize, StepId)>, Together) {
        let mut told = self.told();
        let (count, one) = std::mem::take(&mut told.silent);
        (
            one.map(|id| (count, id)),
            std::mem::take(&mut told.together),
        )
    }
}
