//! Builds of before: as events, which of them are kept, and the steps that took most time.

use std::collections::BTreeMap;

use nubrik_session::{BuildRecord, StepRecord};
use serde::Serialize;

use crate::rounded;

/// A build that is remembered, for programs. Its times are seconds, as in all events; the record on
/// disk has microseconds.
#[derive(Serialize)]
pub struct BuildEvent {
    event: &'static str,
    #[serde(flatten)]
    record: serde_json::Value,
}

impl BuildEvent {
    /// The event about a build, with its steps.
    pub fn of(record: &BuildRecord) -> BuildEvent {
        let mut record = serde_json::to_value(record).unwrap_or_default();
        in_seconds(&mut record);
        BuildEvent {
            event: "build",
            record,
        }
    }

    /// The event about a build without its steps.
    pub fn of_all_but_steps(record: &BuildRecord) -> BuildEvent {
        BuildEvent::of(&BuildRecord {
            done: Vec::new(),
            ..record.clone()
        })
    }
}

/// Fields of records in microseconds, and what they are called in seconds.
const TIMES: [(&str, &str); 3] = [
    ("micros", "seconds"),
    ("from", "from_seconds"),
    ("saved_micros", "saved_seconds"),
];

/// Turns the times of a record, and of all that is in it, to seconds.
fn in_seconds(value: &mut serde_json::Value) {
    match value {
        serde_json::Value::Array(items) => items.iter_mut().for_each(in_seconds),
        serde_json::Value::Object(fields) => {
            for (micros, seconds) in TIMES {
                let found = fields.remove(micros).and_then(|found| found.as_f64());
                if let Some(found) = found {
                    fields.insert(seconds.to_owned(), rounded(found / 1e6).into());
                }
            }
            fields.values_mut().for_each(in_seconds);
        }
        _ => {}
    }
}

/// So many runs of numbers are named.
const RUNS: usize = 6;

/// Which builds are kept: `builds 1, 2, 6 to 9 are kept`.
pub fn kept_builds(records: &[BuildRecord]) -> String {
    let mut runs: Vec<(u64, u64)> = Vec::new();
    for build in records.iter().map(|record| record.build) {
        match runs.last_mut() {
            Some((_, last)) if *last + 1 == build => *last = build,
            _ => runs.push((build, build)),
        }
    }
    let shown = &runs[runs.len().saturating_sub(RUNS)..];
    let named = shown.iter().map(|(first, last)| match last - first {
        0 => first.to_string(),
        1 => format!("{first}, {last}"),
        _ => format!("{first} to {last}"),
    });
    let before = if shown.len() < runs.len() {
        "earlier ones, "
    } else {
        ""
    };
    let verb = if records.len() == 1 {
        "build"
    } else {
        "builds"
    };
    let are = if records.len() == 1 { "is" } else { "are" };
    format!(
        "{verb} {before}{} {are} kept",
        named.collect::<Vec<String>>().join(", ")
    )
}

/// The time that a step took in several builds together.
pub struct StepTime<'r> {
    /// Its target, with its variant.
    pub target: &'r str,
    /// The text that says what it does.
    pub say: &'r str,
    /// Microseconds of all runs together.
    pub micros: u64,
    /// How many times it ran.
    pub runs: usize,
}

/// The steps on which most time went in all builds together, at most `count` of them.
pub fn dearest(records: &[BuildRecord], count: usize) -> Vec<StepTime<'_>> {
    let mut sums: BTreeMap<(&str, &str), (u64, usize)> = BTreeMap::new();
    let timed = |step: &&StepRecord| step.micros > 0;
    for step in records.iter().flat_map(|r| &r.done).filter(timed) {
        let sum = sums.entry((&step.target, &step.say)).or_default();
        *sum = (sum.0 + step.micros, sum.1 + 1);
    }
    let mut sums: Vec<StepTime<'_>> = sums
        .into_iter()
        .map(|((target, say), (micros, runs))| StepTime {
            target,
            say,
            micros,
            runs,
        })
        .collect();
    sums.sort_by_key(|step| std::cmp::Reverse(step.micros));
    sums.truncate(count);
    sums
}
