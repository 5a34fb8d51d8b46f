//! `nubrik why`

use std::sync::Arc;

use nubrik_engine::{Comparison, Difference, PlannedStep, Reason, State, Supposed, Verdict};
use nubrik_graph::{Closure, Graph, StepId};
use nubrik_lang::Evaluation;
use serde::Serialize;

use super::plan::planned_word;
use super::{CommandResult, Silent, evaluate, labelled, open, patterns};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::step_line::Columns;
use crate::ui::text::harmless;

/// One cause in a chain, from the effect to the first cause.
#[derive(Serialize)]
struct Cause {
    event: &'static str,
    target: String,
    say: String,
    reason: String,
    /// What differs from an earlier time; empty for what ran already.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    differences: Vec<Differs>,
    /// The build of that earlier time.
    #[serde(skip_serializing_if = "Option::is_none")]
    since_build: Option<u64>,
    /// The options of that earlier time, where they were others.
    #[serde(skip_serializing_if = "Option::is_none")]
    other_options: Option<String>,
}

#[derive(Serialize)]
pub struct Differs {
    part: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    before: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    now: Option<String>,
}

impl Differs {
    pub fn of(difference: &Difference) -> Differs {
        Differs {
            part: difference.part.word(),
            before: difference.before.as_deref().map(str::to_owned),
            now: difference.now.as_deref().map(str::to_owned),
        }
    }

    /// The difference in a line; nothing where there is nothing to say.
    pub fn line(&self, paint: Paint) -> Option<String> {
        let text = match (&self.before, &self.now) {
            (Some(before), Some(now)) if before == now => format!("{now} has another content"),
            (Some(before), Some(now)) => {
                format!("{} instead of {}", harmless(now, false), harmless(before, false))
            }
            (None, Some(now)) => format!("{} is new", harmless(now, false)),
            (Some(before), None) => format!("{} is gone", harmless(before, false)),
            (None, None) => return None,
        };
        Some(format!("{:10}{}  {text}\n", "", paint.ink(Ink::Busy, &format!("{:<8}", self.part))))
    }
}

/// How many differences of one step are shown; more of them are only counted.
const SHOWN: usize = 10;

pub fn why(console: Console, choice: &Choice, address: &str) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let patterns = patterns(console, &mut session, &[address.to_owned()])?;
    let evaluation = evaluate(console, &mut session, &patterns)?;
    let planned = session.plan(&evaluation, &Silent, Supposed { compare: true, ..Supposed::default() });
    let paint = console.paint(OutputStream::Output);
    let pending = chain_now(&evaluation, &planned);
    let (headline, chain) = match pending {
        Some((word, chain)) => (format!("{address} {word} now"), chain),
        None => match chain_then(&evaluation, session.state()) {
            Some((build, chain)) if build == session.state().builds => {
                (format!("{address} is current; it last ran in build {build}, the newest"), chain)
            }
            Some((build, chain)) => (
                format!("{address} is current; it last ran in build {build} of {}", session.state().builds),
                chain,
            ),
            None => (format!("{address} has no steps of its own"), Vec::new()),
        },
    };
    if console.is_json() {
        chain.iter().for_each(|link| console.event(link));
        return Ok(Exit::Done);
    }
    outln!(console, "{}", paint.ink(Ink::Strong, &headline));
    let columns = Columns::of_rows(chain.iter().map(|cause| (&*cause.target, &*cause.say)));
    for (i, cause) in chain.iter().enumerate() {
        let word = (if i == 0 { "because" } else { "since" }, Ink::Calm);
        let Cause { target, say, reason, .. } = cause;
        out!(console, "{}", columns.cause(paint, word, (target, say), reason));
        out!(console, "{}", differences(paint, cause));
    }
    Ok(Exit::Done)
}

/// The chain from a step that would run back to its first cause; `None` when nothing would run.
fn chain_now(evaluation: &Evaluation, planned: &[PlannedStep]) -> Option<(&'static str, Vec<Cause>)> {
    let graph = &evaluation.graph;
    let pending = |s: &&PlannedStep| s.verdict != Verdict::Current;
    let own = |s: &&PlannedStep| evaluation.targets.contains(&graph.step(s.step).target);
    // The last own step is the effect that people see; without one, any step behind the target.
    let effect =
        planned.iter().rev().filter(pending).find(own).or_else(|| planned.iter().rev().find(pending))?;
    let word = match planned_word(effect).0 {
        "maybe" => "might run",
        "run" => "would run",
        "reuse" => "would be reused",
        "fail" => "would fail",
        "blocked" => "would be blocked",
        word => word,
    };
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
                let maker = reason.input().and_then(|path| maker(graph, path));
                maker.and_then(|m| planned.iter().find(|p| p.step == m)).filter(pending)
            }
        };
    }
    Some((word, chain))
}

/// The chain of the target's newest run, as it was remembered.
fn chain_then(evaluation: &Evaluation, state: &State) -> Option<(u64, Vec<Cause>)> {
    let graph = &evaluation.graph;
    let steps = Closure::of(graph, evaluation.requested.iter().copied()).steps;
    let memory = |s: StepId| state.steps.get(graph.step(s).folder.shared());
    let own = steps.iter().copied().filter(|s| evaluation.targets.contains(&graph.step(*s).target));
    let newest = own.max_by_key(|s| memory(*s).map_or(0, |m| m.build))?;
    let build = memory(newest)?.build;
    let mut chain = Vec::new();
    let mut at = Some(newest);
    while let Some(step) = at {
        let because = &memory(step)?.because;
        chain.push(cause(graph, step, because.text.clone()));
        let maker = because.input.as_ref().and_then(|path| maker(graph, path));
        at = maker
            .filter(|m| memory(*m).is_some_and(|other| other.build == build) && chain.len() < steps.len());
    }
    Some((build, chain))
}

fn maker(graph: &Graph, path: &Arc<str>) -> Option<StepId> {
    graph.files.iter().find(|f| f.path.shared() == path)?.maker
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

/// What differs from the earlier time, below the line of a cause. One input that changed is said by the reason.
fn differences(paint: Paint, cause: &Cause) -> String {
    let said =
        |d: &Differs| d.part == "input" && d.now.as_ref().is_some_and(|n| cause.reason.starts_with(&**n));
    let Some(build) = cause.since_build.filter(|_| !cause.differences.iter().all(said)) else {
        return String::new();
    };
    let than = match &cause.other_options {
        Some(options) => format!("nearest to it is build {build} with {options}; what differs:"),
        None => format!("since build {build}:"),
    };
    let mut out = format!("{}\n", labelled(paint, Ink::Calm, "", &paint.ink(Ink::Faint, &than)));
    cause
        .differences
        .iter()
        .take(SHOWN)
        .filter_map(|differs| differs.line(paint))
        .for_each(|line| out.push_str(&line));
    if cause.differences.len() > SHOWN {
        let more = format!("and {} more; `--json` shows all of them", cause.differences.len() - SHOWN);
        out.push_str(&format!("{:10}{}\n", "", paint.ink(Ink::Faint, &more)));
    }
    out
}
