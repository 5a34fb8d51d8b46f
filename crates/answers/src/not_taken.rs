//! Steps that are not taken from the shared cache: those that others made of something else, and
//! those without a result.

use std::collections::HashSet;

use nubrik_engine::{HeldAgainst, RestMismatch};
use nubrik_graph::{Closure, Graph, StepId};
use nubrik_lang::Evaluation;
use nubrik_session::Session;
use nubrik_shared::GivenResult;
use serde::Serialize;

use crate::causes::Differs;

/// A step that would not be taken, for programs.
#[derive(Serialize)]
pub struct NotTakenEvent<'a> {
    event: &'static str,
    target: &'a str,
    say: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    writer: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    channel: Option<&'a str>,
    differences: Vec<Differs>,
    #[serde(skip_serializing_if = "Option::is_none")]
    rests_on: Option<&'a str>,
    /// Whether the list of what the result rests on was not fetched yet.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    not_fetched: bool,
}

/// A step that others made, and not as it is here.
pub struct OtherResult {
    /// The step.
    pub step: StepId,
    /// Their result, the nearest one.
    pub given: GivenResult,
    held: HeldAgainst,
}

impl OtherResult {
    /// Its differences from the step here.
    pub fn differences(&self) -> Vec<Differs> {
        self.held.differences.iter().map(Differs::of).collect()
    }

    /// Why the system may be another one, where nothing else differs.
    pub fn mismatch(&self) -> Option<&RestMismatch> {
        self.held
            .mismatch
            .as_ref()
            .filter(|_| self.held.differences.is_empty())
    }
}

/// Steps of a request that would not be taken from the shared cache.
pub struct NotTaken<'g> {
    /// The graph that they are in.
    pub graph: &'g Graph,
    /// Steps that others made of something else, or on another machine than this.
    pub others: Vec<OtherResult>,
    /// Steps without a result.
    pub nobodys: Vec<StepId>,
    /// How many steps have commands.
    pub all: usize,
}

impl<'g> NotTaken<'g> {
    /// Those of an evaluation, in a session that looked at the shared cache.
    pub fn of(session: &Session, evaluation: &'g Evaluation) -> NotTaken<'g> {
        let graph = &evaluation.graph;
        let held = session.held_against_shared(evaluation);
        let given: HashSet<StepId> = held.iter().map(|(step, ..)| *step).collect();
        let all = Closure::of(graph, evaluation.requested.iter().copied()).steps;
        let with_commands: Vec<StepId> = all
            .into_iter()
            .filter(|step| !graph.step(*step).commands.is_empty())
            .collect();
        let others = held.into_iter().filter(|(_, _, held)| !held.is_usable());
        NotTaken {
            graph,
            others: others
                .map(|(step, given, held)| OtherResult { step, given, held })
                .collect(),
            nobodys: with_commands
                .iter()
                .copied()
                .filter(|step| !given.contains(step))
                .collect(),
            all: with_commands.len(),
        }
    }

    /// How many steps are taken.
    pub fn taken(&self) -> usize {
        self.all - self.others.len() - self.nobodys.len()
    }

    /// The same for programs.
    pub fn events(&self) -> impl Iterator<Item = NotTakenEvent<'_>> {
        let event = |step: StepId| NotTakenEvent {
            event: "not_reused",
            target: &self.graph.owner(step).address,
            say: &self.graph.step(step).say,
            writer: None,
            channel: None,
            differences: Vec::new(),
            rests_on: None,
            not_fetched: false,
        };
        let others = self.others.iter().map(move |other| NotTakenEvent {
            writer: Some(&other.given.writer),
            channel: Some(&other.given.channel),
            differences: other.differences(),
            rests_on: match other.mismatch() {
                Some(RestMismatch::Other(path)) => Some(path),
                Some(RestMismatch::NotHere) | None => None,
            },
            not_fetched: other.mismatch() == Some(&RestMismatch::NotHere),
            ..event(other.step)
        });
        others.chain(self.nobodys.iter().map(move |step| event(*step)))
    }
}
