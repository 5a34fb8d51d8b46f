//! Steps as they are here, compared with what other machines made of them.

use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_graph::{Graph, StepId};
use nubrik_store::Store;

use crate::build::{Build, Options, Outreach, Request};
use crate::comparison::{Difference, Part};
use crate::event::{Event, Listener};
use crate::mismatch::RestMismatch;
use crate::outside::Outside;
use crate::state::{State, StepMemory};

/// What another machine made of a step.
#[derive(Clone, Debug)]
pub struct MadeElsewhere {
    /// The step.
    pub step: StepId,
    /// What it was made of there.
    pub memory: StepMemory,
    /// What each of its results rests on.
    pub bases: Vec<Vec<Digest>>,
}

/// A step as it is here, compared with a result that another machine made.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct HeldAgainst {
    /// What it is made of otherwise.
    pub differences: Vec<Difference>,
    /// Why the result does not rest on the same system as here, as far as that is known.
    pub mismatch: Option<RestMismatch>,
}

impl HeldAgainst {
    /// Whether the result would be taken.
    pub fn is_usable(&self) -> bool {
        self.differences.is_empty() && self.mismatch.is_none()
    }
}

/// Holds steps against what other machines made of them, in the same order. Of made inputs those
/// contents count that are remembered.
pub fn held_against(
    graph: &Graph,
    made: &[MadeElsewhere],
    before: &State,
    outside: &dyn Outside,
    store: &dyn Store,
) -> Vec<HeldAgainst> {
    let settled: Vec<StepId> = (0..graph.steps.len() as u32).map(StepId).collect();
    let options = Options {
        keep_going: true,
        reach: Outreach::Nothing,
        ..Options::plain()
    };
    let request = Request {
        settled: &settled,
        ..Request::whole(graph, &[])
    };
    let build = Build::new(request, before, outside, Some(store), &Unheard, options);
    made.iter().map(|made| build.held_against(made)).collect()
}

/// Nobody listens.
struct Unheard;

impl Listener for Unheard {
    fn hear(&self, _: &Event) {}
}

impl Build<'_> {
    fn held_against(&self, made: &MadeElsewhere) -> HeldAgainst {
        let mut differences = self.differences(made.step, &made.memory, &self.describe(made.step));
        if differences.is_empty()
            && let Ok(now) = self.examine(made.step)
            && now.first_key != made.memory.first_key
        {
            // Something that has no word of its own, such as a file of the system that the command
            // names.
            let other = now
                .parts
                .inputs
                .iter()
                .find(|input| !made.memory.inputs.contains(input));
            let path: Arc<str> = other.map_or_else(
                || "how steps are identified".into(),
                |(path, _)| path.told(),
            );
            differences.push(Difference {
                part: Part::Input,
                before: Some(path.clone()),
                now: Some(path),
            });
        }
        let mut mismatch = None;
        for parts in &made.bases {
            mismatch = self.rests_here(parts).err();
            if mismatch.is_none() {
                break;
            }
        }
        HeldAgainst {
            differences,
            mismatch,
        }
    }
}
