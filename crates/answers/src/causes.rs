//! Why a target would run, or why it ran the last time: the chain from the effect back to the first
//! cause.

use std::collections::HashMap;

use nubrik_engine::{Comparison, Difference, PlannedStep, Reason, State, Verdict};
use nubrik_graph::{Closure, Graph, StepId};
use nubrik_lang::Evaluation;
use serde::Serialize;

/// One cause in a chain.
#[derive(Serialize)]
pub struct Cause {
    event: &'static str,
    /// The address of its target.
    pub target: String,
    /// The text that says what its step does.
    pub say: String,
    /// Why it would run, or ran.
    pub reason: String,
    /// Differences from an earlier time; empty for a step that ran already.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub differences: Vec<Differs>,
    /// The build of that earlier time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since_build: Option<u64>,
    /// The options of that earlier time, where they were others.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub other_options: Option<String>,
}

/// One part of a step that differs from an earlier time.
#[derive(Serialize)]
pub struct Differs {
    /// The part of the step: `input`, `command`, `tool` and others.
    pub part: &'static str,
    /// Its value of then; `None` where it is new.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// Its value of now; `None` where it is gone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub now: Option<String>,
}

impl Differs {
    /// The difference as an event has it.
    pub fn of(difference: &Difference) -> Differs {
        Differs {
            part: difference.part.word(),
            before: difference.before.as_deref().map(str::to_owned),
            now: difference.now.as_deref().map(str::to_owned),
        }
    }
}

/// When a target that is current ran the last time.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct LastRun {
    /// The number of the build.
    pub build: u64,
    /// The number of the newest build of all.
    pub newest: u64,
}

/// Why a target would run now, or ran the last time.
pub enum WhyAnswer {
    /// It would not stay as it is: the verdict for its last own step, and the causes.
    Pending(Verdict, Vec<Cause>),
    /// It is current: its last run, and the causes of that.
    Current(LastRun, Vec<Cause>),
    /// It has no steps of its own.
    NoSteps,
}

impl WhyAnswer {
    /// The answer from a plan in which each step that would run is compared with its earlier times.
    pub fn of(evaluation: &Evaluation, planned: &[PlannedStep], state: &State) -> WhyAnswer {
        let makers = Makers::of(&evaluation.graph);
        if let Some((verdict, chain)) = chain_now(evaluation, planned, &makers) {
            return WhyAnswer::Pending(verdict, chain);
        }
        match chain_then(evaluation, state, &makers) {
            Some((build, chain)) => WhyAnswer::Current(
                LastRun {
                    build,
                    newest: state.builds,
                },
                chain,
            ),
            None => WhyAnswer::NoSteps,
        }
    }

    /// The causes, the effect first.
    pub fn chain(&self) -> &[Cause] {
        match self {
            WhyAnswer::Pending(_, chain) | WhyAnswer::Current(_, chain) => chain,
            WhyAnswer::NoSteps => &[],
        }
    }
}

/// The chain from a step that would run back to its first cause; `None` where nothing would run.
fn chain_now(
    evaluation: &Evaluation,
    planned: &[PlannedStep],
    makers: &Makers<'_>,
) -> Option<(Verdict, Vec<Cause>)> {
    let (graph, asked) = (&evaluation.graph, evaluation.asked());
    let by_step: HashMap<StepId, &PlannedStep> = planned.iter().map(|p| (p.step, p)).collect();
    let pending = |s: &&PlannedStep| s.verdict != Verdict::Current;
    let own = |s: &&PlannedStep| asked[graph.step(s.step).target.index()];
    // The last own step is the effect that people see; without one, any step behind the target.
    let effect = planned
        .iter()
        .rev()
        .filter(pending)
        .find(own)
        .or_else(|| planned.iter().rev().find(pending))?;
    let mut chain = Vec::new();
    let mut at = Some(effect);
    while let Some(step) = at {
        let plain = cause(graph, step.step, step.reason.to_string());
        chain.push(match &step.comparison {
            Some(comparison) => compared(plain, comparison),
            None => plain,
        });
        at = match &step.reason {
            Reason::NeedFailed { target, say } => planned.iter().find(|p| {
                let (other, node) = (graph.owner(p.step), graph.step(p.step));
                p.verdict == Verdict::Failed && other.address == *target && node.say == *say
            }),
            reason => {
                let maker = reason.input().and_then(|path| makers.find(path));
                maker
                    .and_then(|maker| by_step.get(&maker).copied())
                    .filter(pending)
            }
        };
    }
    Some((effect.verdict, chain))
}

/// The chain of the target's newest run, as it was remembered.
fn chain_then(
    evaluation: &Evaluation,
    state: &State,
    makers: &Makers<'_>,
) -> Option<(u64, Vec<Cause>)> {
    let (graph, asked) = (&evaluation.graph, evaluation.asked());
    let steps = Closure::of(graph, evaluation.requested.iter().copied()).steps;
    let memory = |s: StepId| state.steps.get(graph.step(s).folder.shared());
    let own = steps
        .iter()
        .copied()
        .filter(|s| asked[graph.step(*s).target.index()]);
    let newest = own.max_by_key(|s| memory(*s).map_or(0, |m| m.build))?;
    let build = memory(newest)?.build;
    let mut chain = Vec::new();
    let mut at = Some(newest);
    while let Some(step) = at {
        let because = &memory(step)?.because;
        chain.push(cause(graph, step, because.text.clone()));
        let maker = because.input.as_ref().and_then(|path| makers.find(path));
        at = maker.filter(|m| {
            memory(*m).is_some_and(|other| other.build == build) && chain.len() < steps.len()
        });
    }
    Some((build, chain))
}

/// The steps that make files, by the paths of these.
struct Makers<'g>(HashMap<&'g str, StepId>);

impl<'g> Makers<'g> {
    fn of(graph: &'g Graph) -> Makers<'g> {
        let made = graph
            .files
            .iter()
            .filter_map(|file| Some((file.path.as_str(), file.maker?)));
        Makers(made.collect())
    }

    fn find(&self, path: &str) -> Option<StepId> {
        self.0.get(path).copied()
    }
}

fn cause(graph: &Graph, step: StepId, reason: String) -> Cause {
    Cause {
        event: "cause",
        target: graph.owner(step).address.to_string(),
        say: graph.step(step).say.to_string(),
        reason,
        differences: Vec::new(),
        since_build: None,
        other_options: None,
    }
}

fn compared(cause: Cause, comparison: &Comparison) -> Cause {
    Cause {
        differences: comparison.differences.iter().map(Differs::of).collect(),
        since_build: Some(comparison.build),
        other_options: (!comparison.variant.is_empty()).then(|| comparison.variant.to_string()),
        ..cause
    }
}
