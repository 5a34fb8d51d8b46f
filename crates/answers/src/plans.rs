//! A plan: how many steps come to which end, how long that takes by earlier runs, and its events.

use std::collections::{BTreeMap, HashMap};

use nubrik_engine::{Capacity, Forecast, PlannedStep, Verdict, forecast};
use nubrik_graph::{Graph, StepId};
use nubrik_wording::counted;
use serde::Serialize;

use crate::{rounded, seconds};

/// The word for what would become of a step.
pub fn planned_word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Ran => "run",
        Verdict::Reused => "reuse",
        Verdict::Unstarted => "maybe",
        Verdict::Failed => "fail",
        Verdict::Blocked => "blocked",
        Verdict::Current => "current",
    }
}

/// Whether a step would take time: it would run, or may have to.
fn takes_time(step: &PlannedStep) -> bool {
    matches!(step.verdict, Verdict::Ran | Verdict::Unstarted)
}

/// How many steps of a plan come to which end.
#[derive(Default)]
pub struct PlanCounts<'g> {
    runs: usize,
    reused: usize,
    may_follow: usize,
    fails: usize,
    blocked: usize,
    /// Those that would run, or may, and never ran here.
    without_time: usize,
    /// Of each target with steps that would run, or may: how many, and how long they took the last
    /// time, in microseconds.
    pub targets: BTreeMap<&'g str, (usize, u64)>,
}

impl<'g> PlanCounts<'g> {
    /// Those of a plan. Steps that are current count as nothing, and may be left out.
    pub fn of(graph: &'g Graph, planned: &[PlannedStep]) -> PlanCounts<'g> {
        let mut counts = PlanCounts::default();
        planned.iter().for_each(|step| counts.add(graph, step));
        counts
    }

    fn add(&mut self, graph: &'g Graph, step: &PlannedStep) {
        match step.verdict {
            Verdict::Current => {}
            Verdict::Ran => self.runs += 1,
            Verdict::Reused => self.reused += 1,
            Verdict::Unstarted => self.may_follow += 1,
            Verdict::Failed => self.fails += 1,
            Verdict::Blocked => self.blocked += 1,
        }
        if takes_time(step) {
            self.without_time += usize::from(step.micros.is_none());
            let target = self
                .targets
                .entry(&graph.owner(step.step).address)
                .or_default();
            *target = (target.0 + 1, target.1 + step.micros.unwrap_or(0));
        }
    }

    /// How long all steps that would run, or may, took the last time, in microseconds.
    pub fn micros(&self) -> u64 {
        self.targets.values().map(|target| target.1).sum()
    }

    /// The counts in a sentence; `steps` is the number of all steps.
    pub fn in_words(&self, steps: usize) -> String {
        let mut sum = format!("{} of {} would run", self.runs, counted(steps, "step"));
        for (count, what) in [
            (self.fails, "would fail"),
            (self.blocked, "would be blocked"),
            (self.reused, "would be reused"),
            (self.may_follow, "may follow"),
        ] {
            if count > 0 {
                sum.push_str(&format!(", {count} {what}"));
            }
        }
        if self.without_time > 0 {
            let have = if self.without_time == 1 {
                "has"
            } else {
                "have"
            };
            sum.push_str(&format!("; {} {have} no known time", self.without_time));
        }
        sum
    }
}

/// The steps that would run, or may have to, played through by the last times.
pub fn foreseen(graph: &Graph, planned: &[PlannedStep], capacity: Capacity) -> Forecast {
    let works = planned.iter().filter(|step| takes_time(step));
    let times: HashMap<StepId, u64> = works
        .clone()
        .map(|s| (s.step, s.micros.unwrap_or(0)))
        .collect();
    let order: Vec<StepId> = works.map(|s| s.step).collect();
    forecast(
        graph,
        &order,
        |s| times.get(&s).copied().unwrap_or(0) as f64,
        capacity,
    )
}

/// Targets of the longest chain of a forecast, in order.
pub fn chain_of<'g>(graph: &'g Graph, seen: &Forecast) -> Vec<&'g str> {
    let mut names: Vec<&str> = seen
        .chain
        .iter()
        .map(|s| &*graph.owner(*s).address)
        .collect();
    names.dedup();
    names
}

/// A step of a plan, for programs.
#[derive(Serialize)]
pub struct PlanEvent<'a> {
    event: &'static str,
    state: &'static str,
    target: &'a str,
    say: &'a str,
    reason: String,
    reason_code: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    last_seconds: Option<f64>,
}

impl<'a> PlanEvent<'a> {
    /// The event about a planned step of a graph.
    pub fn of(graph: &'a Graph, step: &PlannedStep) -> PlanEvent<'a> {
        PlanEvent {
            event: "plan",
            state: planned_word(step.verdict),
            target: &graph.owner(step.step).address,
            say: &graph.step(step.step).say,
            reason: step.reason.to_string(),
            reason_code: step.reason.code(),
            last_seconds: step.micros.map(seconds),
        }
    }
}

/// A plan as a whole, for programs.
#[derive(Serialize)]
pub struct ForecastEvent<'a> {
    event: &'static str,
    steps: usize,
    run: usize,
    fail: usize,
    blocked: usize,
    reuse: usize,
    maybe: usize,
    /// How many of those that would run, or may have to, never did.
    unknown: usize,
    at_once: usize,
    expected_seconds: f64,
    work_seconds: f64,
    chain_seconds: f64,
    /// Targets of the longest chain, in order.
    chain: Vec<&'a str>,
}

impl<'a> ForecastEvent<'a> {
    /// The event about a plan of a graph, for a machine of some capacity.
    pub fn of(graph: &'a Graph, planned: &[PlannedStep], capacity: Capacity) -> ForecastEvent<'a> {
        let counts = PlanCounts::of(graph, planned);
        let seen = foreseen(graph, planned, capacity);
        let seconds = |micros: f64| rounded(micros / 1e6);
        ForecastEvent {
            event: "forecast",
            steps: planned.len(),
            run: counts.runs,
            fail: counts.fails,
            blocked: counts.blocked,
            reuse: counts.reused,
            maybe: counts.may_follow,
            unknown: counts.without_time,
            at_once: capacity.processors,
            expected_seconds: seconds(seen.micros),
            work_seconds: seconds(seen.work),
            chain_seconds: seconds(seen.chain_micros),
            chain: chain_of(graph, &seen),
        }
    }
}
