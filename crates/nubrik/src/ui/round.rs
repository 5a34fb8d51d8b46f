//! What became of tests.

use nubrik_engine::{Summary, Verdict};
use nubrik_graph::StepId;
use nubrik_reports::cases::Case;

/// What became of a test.
pub struct TestResult {
    /// The step that gives the verdict.
    pub step: StepId,
    /// Its address, down to the entry of a map.
    pub address: String,
    /// What became of the step.
    pub verdict: Verdict,
    /// Whether it passed, now or when its verdict was made.
    pub passed: bool,
    /// Whether nothing at all changed since its verdict was made.
    pub unchanged: bool,
    /// Why it ran or need not, or how it failed.
    pub reason: String,
    /// How long it took, in microseconds, now or then.
    pub micros: u64,
    /// The build in which its verdict was made or taken from the cache.
    pub build: Option<u64>,
    /// Its cases; one for a plain program.
    pub cases: Vec<Case>,
    /// Whether the cases are from a report.
    pub has_report: bool,
    /// Why a failure does not count.
    pub quarantined: Option<String>,
    /// How many times it failed before that, in the same run.
    pub failed_before: u32,
}

impl TestResult {
    /// Whether it passed only when it ran again.
    pub fn is_flaky(&self) -> bool {
        self.passed && self.failed_before > 0
    }
}

/// One run of all chosen tests.
pub struct Round {
    pub results: Vec<TestResult>,
    pub summary: Summary,
}
