//! Who is asked while a folder gets definitions, and hears how far it is.

use std::sync::Arc;

use nubrik_engine::Listener;
use nubrik_graph::Graph;
use nubrik_pins::{PinProblem, Registry};
use nubrik_survey::SurveyQuestion;

use crate::AdoptProblem;

/// Who attends an adoption: a person at a terminal, a program, or nobody.
pub trait Attendant: Sync {
    /// The answer to a question, one of its choices. Where nobody can answer it is the first one.
    ///
    /// # Errors
    ///
    /// [`AdoptProblem::Interrupted`]: nothing is to be done.
    fn answer(&self, question: &SurveyQuestion) -> Result<String, AdoptProblem>;

    /// Hears how far it is.
    fn hear(&self, news: AdoptNews<'_>);

    /// Shows the build of a graph while `work` does it, once; what happens there is told to the
    /// listener that `work` gets.
    fn attend(&self, graph: &Graph, work: &mut dyn FnMut(&dyn Listener));
}

/// How far an adoption is.
#[derive(Debug)]
pub enum AdoptNews<'a> {
    /// Another program changes the workspace, and is waited for.
    Waits,
    /// A kit that was not there is there now.
    KitFetched {
        /// Its name.
        name: &'a str,
        /// The places that were asked.
        from: &'a [Arc<str>],
    },
    /// Versions of packages are chosen.
    Chooses {
        /// Of which registry.
        registry: Registry,
        /// How many packages are asked for.
        packages: usize,
        /// The lock files that decide about versions.
        locked: &'a [String],
    },
    /// A release is not taken, since its registry lacks something that it needs.
    PassedOver {
        /// Its name and version.
        release: &'a str,
        /// What it needs, as it asks for it.
        needs: &'a str,
    },
    /// Something about pins is wrong, and it goes on without them.
    WithoutPins(&'a PinProblem),
    /// A build is over.
    Ended {
        /// Which build of all it was, from 0; nothing for what had to be built before, and for
        /// second runs.
        round: Option<usize>,
        /// What became of its steps.
        counts: TrialCounts,
    },
}

/// How many steps of a trial's build there are.
#[derive(Clone, Copy, Default, PartialEq, Eq, Debug)]
pub struct TrialCounts {
    /// All of them.
    pub all: usize,
    /// Those that failed.
    pub failed: usize,
}
