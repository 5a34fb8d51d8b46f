//! Tests that several machines share: the part of one, and their reports as one.

use nubrik_reports::cases::{CaseOutcome, TestReport};
use nubrik_reports::parts::{PartMark, Split, TestPart};
use serde::Serialize;

use crate::seconds;

/// Several reports of tests as one.
#[derive(Serialize)]
pub struct MergedEvent<'a> {
    event: &'static str,
    reports: usize,
    tests: usize,
    passed: usize,
    failed: Vec<&'a str>,
    skipped: usize,
}

impl MergedEvent<'_> {
    /// The event about a report that was made of so many.
    pub fn of(reports: usize, merged: &TestReport) -> MergedEvent<'_> {
        let with = |outcome: CaseOutcome| {
            merged
                .suites
                .iter()
                .filter(move |suite| suite.outcome() == outcome)
        };
        MergedEvent {
            event: "merged",
            reports,
            tests: merged.suites.len(),
            passed: with(CaseOutcome::Passed).count(),
            failed: with(CaseOutcome::Failed)
                .map(|suite| suite.name.as_str())
                .collect(),
            skipped: with(CaseOutcome::Skipped).count(),
        }
    }

    /// Whether a test failed.
    pub fn has_failed(&self) -> bool {
        !self.failed.is_empty()
    }
}

/// The share of the tests that this machine runs.
#[derive(Serialize)]
pub struct PartEvent<'a> {
    event: &'static str,
    part: usize,
    of: usize,
    split: &'a str,
    tests: usize,
    of_tests: usize,
    seconds: f64,
    /// How many tests there are whose time is not known.
    untimed: usize,
}

impl<'a> PartEvent<'a> {
    /// The event about a part of a split with its mark, which has so many of all tests. Its time is
    /// said where the split is by times.
    pub fn of(
        part: TestPart,
        (split, mark): (&Split, &'a PartMark),
        tests: usize,
        of_tests: usize,
        is_by_times: bool,
    ) -> PartEvent<'a> {
        PartEvent {
            event: "part",
            part: part.number(),
            of: part.of(),
            split: &mark.split,
            tests,
            of_tests,
            seconds: if is_by_times {
                seconds(split.micros(part))
            } else {
                0.0
            },
            untimed: split.unknown(),
        }
    }
}
