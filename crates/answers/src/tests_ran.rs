//! Tests that ran, and those that ran again: a test that passes then is flaky, and has not failed.

use std::collections::{BTreeMap, HashMap};

use nubrik_engine::{Failure, Reason, Summary, Verdict};
use nubrik_graph::{Graph, StepId};
use nubrik_reports::cases::{Case, CaseOutcome, Suite, TestRun};
use nubrik_session::Session;
use nubrik_wording::counted;
use serde::Serialize;

use crate::build_events::SummaryEvent;
use crate::{rounded, seconds};

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

/// What was heard of a test while it ran.
pub struct TestEnd {
    /// What became of its step.
    pub verdict: Verdict,
    /// Why the step ran, or need not.
    pub reason: Reason,
    /// How long it took, in microseconds.
    pub micros: u64,
    /// How it failed.
    pub failure: Option<Failure>,
    /// Everything that it printed.
    pub printed: Vec<u8>,
}

impl TestResult {
    /// The result of a test of a graph, from what was heard of it and what is kept of its report.
    pub fn of(session: &Session, graph: &Graph, id: StepId, end: &TestEnd) -> TestResult {
        let step = graph.step(id);
        let memory = session
            .state()
            .steps
            .get(step.folder.as_str())
            .filter(|m| !m.outputs.is_empty());
        let check = step.check.as_ref();
        let address = check.map_or("", |c| &c.address).to_owned();
        let passed = matches!(
            end.verdict,
            Verdict::Ran | Verdict::Current | Verdict::Reused
        );
        let micros = match end.verdict {
            Verdict::Current => memory.as_ref().map_or(0, |m| m.micros),
            _ => end.micros,
        };
        let tried = passed || end.verdict == Verdict::Failed;
        let reported = tried
            .then(|| session.cases(graph, step))
            .flatten()
            .unwrap_or_default();
        let has_report = !reported.is_empty();
        let reason = match &end.failure {
            Some(failure) => failure.to_string(),
            None => end.reason.to_string(),
        };
        let run = TestRun {
            path: &address,
            target: &graph.owner(id).address,
            outcome: match (passed, tried) {
                (true, _) => CaseOutcome::Passed,
                (false, true) => CaseOutcome::Failed,
                (false, false) => CaseOutcome::Skipped,
            },
            micros,
            reason: Some(&*reason).filter(|reason| !reason.is_empty()),
            has_exited: end
                .failure
                .as_ref()
                .is_some_and(|failure| failure.code().is_some()),
            printed: &String::from_utf8_lossy(&end.printed),
        };
        let cases = run.cases(reported);
        TestResult {
            step: id,
            address,
            verdict: end.verdict,
            passed,
            unchanged: end.reason == Reason::Unchanged,
            reason,
            micros,
            build: memory.map(|m| m.build),
            cases,
            has_report,
            quarantined: check
                .and_then(|c| c.quarantined.as_deref())
                .map(str::to_owned),
            failed_before: 0,
        }
    }

    /// Whether it passed only when it ran again.
    pub fn is_flaky(&self) -> bool {
        self.passed && self.failed_before > 0
    }

    /// Whether its failure counts, or that it could not run.
    pub fn is_bad(&self) -> bool {
        !self.passed && self.quarantined.is_none()
    }

    /// Whether it runs again, where failed tests do: its own verdict is a failure that counts.
    pub fn is_to_run_again(&self) -> bool {
        self.verdict == Verdict::Failed && self.quarantined.is_none()
    }

    /// The test as reports have it: the cases of a flaky one say so.
    pub fn suite(&self) -> Suite {
        let mut cases = self.cases.clone();
        if self.is_flaky() {
            let times = counted(self.failed_before as usize, "time");
            let passed = cases
                .iter_mut()
                .filter(|case| case.outcome == CaseOutcome::Passed);
            passed.for_each(|case| {
                case.text = format!("flaky: the test failed {times} before it passed")
            });
        }
        Suite::of(
            &self.address,
            self.micros,
            &cases,
            self.quarantined.as_deref(),
        )
    }
}

/// One run of all chosen tests.
pub struct Round {
    /// The results of those that were heard of.
    pub results: Vec<TestResult>,
    /// The sums of all steps that the run looked at.
    pub summary: Summary,
}

impl Round {
    /// Whether a test failed that counts, or another step did.
    pub fn has_failed(&self) -> bool {
        self.results.iter().any(TestResult::is_bad) || self.summary.counts.failed > 0
    }

    /// Puts the results of another round in the place of failures.
    pub fn take_over(&mut self, again: Round) {
        let places: HashMap<StepId, usize> = self.results.iter().map(|r| r.step).zip(0..).collect();
        for new in again
            .results
            .into_iter()
            .filter(|new| new.passed || new.verdict == Verdict::Failed)
        {
            let Some(old) = places
                .get(&new.step)
                .and_then(|place| self.results.get_mut(*place))
            else {
                continue;
            };
            let failed_before = old.failed_before + 1;
            if new.passed {
                let counts = &mut self.summary.counts;
                counts.failed = counts.failed.saturating_sub(1);
                counts.count(new.verdict);
            }
            *old = TestResult {
                failed_before,
                ..new
            };
        }
    }
}

/// A test that passed and failed, of the same sources, for programs and people.
#[derive(Serialize)]
pub struct FlakyTest<'a> {
    event: &'static str,
    /// Its address.
    pub target: &'a str,
    /// How many times it passed.
    pub passed: usize,
    /// How many times it failed.
    pub failed: usize,
    /// Whether it ran again because it failed; otherwise all tests ran several times.
    #[serde(skip)]
    pub is_tried_again: bool,
}

/// The flaky tests of some rounds, which all are of the same tests: first those of several rounds.
pub fn flaky_tests(rounds: &[Round]) -> Vec<FlakyTest<'_>> {
    let mut counts: BTreeMap<&str, (usize, usize)> = BTreeMap::new();
    for result in rounds.iter().flat_map(|r| &r.results) {
        let (passed, failed) = counts.entry(&result.address).or_default();
        *passed += usize::from(result.passed);
        *failed += usize::from(!result.passed && result.verdict == Verdict::Failed);
    }
    let both = counts
        .into_iter()
        .filter(|(_, (passed, failed))| *passed > 0 && *failed > 0);
    let flaky = |target, passed, failed, is_tried_again| FlakyTest {
        event: "flaky",
        target,
        passed,
        failed,
        is_tried_again,
    };
    let last = rounds.last().into_iter().flat_map(|round| &round.results);
    let again = last.filter(|result| result.is_flaky());
    both.map(|(target, (passed, failed))| flaky(target, passed, failed, false))
        .chain(again.map(|result| flaky(&result.address, 1, result.failed_before as usize, true)))
        .collect()
}

/// What became of a test, for programs.
#[derive(Serialize)]
pub struct TestEvent<'a> {
    event: &'static str,
    target: &'a str,
    state: &'static str,
    passed: bool,
    reason: &'a str,
    seconds: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    quarantined: Option<&'a str>,
    cases: Vec<CaseEvent<'a>>,
    defined: String,
}

#[derive(Serialize)]
struct CaseEvent<'a> {
    #[serde(skip_serializing_if = "str::is_empty")]
    group: &'a str,
    name: &'a str,
    state: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    seconds: Option<f64>,
    #[serde(skip_serializing_if = "str::is_empty")]
    text: &'a str,
}

impl<'a> TestEvent<'a> {
    /// The event about a result of a graph's test.
    pub fn of(graph: &Graph, result: &'a TestResult) -> TestEvent<'a> {
        let cases = result.cases.iter().map(|case| CaseEvent {
            group: &case.group,
            name: &case.name,
            state: case.outcome.word(),
            seconds: case.seconds.map(rounded),
            text: &case.text,
        });
        TestEvent {
            event: "test",
            target: &result.address,
            state: result.verdict.word(),
            passed: result.passed,
            reason: &result.reason,
            seconds: seconds(result.micros),
            quarantined: result.quarantined.as_deref(),
            cases: cases.collect(),
            defined: graph.owner(result.step).place.to_string(),
        }
    }
}

#[derive(Serialize)]
struct CaseCounts {
    passed: usize,
    failed: usize,
    skipped: usize,
}

#[derive(Serialize)]
struct TestCounts {
    ran: usize,
    current: usize,
    reused: usize,
    failed: usize,
    quarantined: usize,
    skipped: usize,
}

/// The last event of tests: the sum of a build, with counts of cases and tests.
#[derive(Serialize)]
pub struct TestSummaryEvent {
    #[serde(flatten)]
    steps: SummaryEvent,
    cases: CaseCounts,
    tests: TestCounts,
}

impl TestSummaryEvent {
    /// The sum of a round; `micros` are of all rounds together, and `is_whole` says whether all
    /// that was asked for was tried.
    pub fn of(round: &Round, skipped: usize, micros: u64, is_whole: bool) -> TestSummaryEvent {
        let (summary, results) = (&round.summary, &round.results);
        let count = |verdict: Verdict| results.iter().filter(|r| r.verdict == verdict).count();
        let cases = |outcome: CaseOutcome| {
            results
                .iter()
                .flat_map(|r| &r.cases)
                .filter(|c| c.outcome == outcome)
                .count()
        };
        TestSummaryEvent {
            steps: SummaryEvent::of(summary, summary.counts.is_well() && is_whole, micros),
            cases: CaseCounts {
                passed: cases(CaseOutcome::Passed),
                failed: cases(CaseOutcome::Failed),
                skipped: cases(CaseOutcome::Skipped),
            },
            tests: TestCounts {
                ran: count(Verdict::Ran) + count(Verdict::Failed),
                current: count(Verdict::Current),
                reused: count(Verdict::Reused),
                failed: count(Verdict::Failed) - summary.quarantined,
                quarantined: summary.quarantined,
                skipped,
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use nubrik_engine::{StepCounts, Summary};

    fn result(step: u32, verdict: Verdict, quarantined: Option<&str>) -> TestResult {
        TestResult {
            step: StepId(step),
            address: format!("tide/t{step}"),
            verdict,
            passed: matches!(verdict, Verdict::Ran | Verdict::Current),
            unchanged: false,
            reason: String::new(),
            micros: 1,
            build: None,
            cases: Vec::new(),
            has_report: false,
            quarantined: quarantined.map(str::to_owned),
            failed_before: 0,
        }
    }

    #[test]
    fn a_later_pass_takes_the_place_of_a_failure() {
        let counts = StepCounts {
            steps: 3,
            ran: 1,
            failed: 2,
            ..StepCounts::default()
        };
        let results = vec![
            result(0, Verdict::Ran, None),
            result(1, Verdict::Failed, None),
            result(2, Verdict::Failed, None),
        ];
        let mut round = Round {
            results,
            summary: Summary {
                counts,
                ..Summary::default()
            },
        };
        let again = |verdict| Round {
            results: vec![result(1, verdict, None)],
            summary: Summary::default(),
        };
        round.take_over(again(Verdict::Failed));
        assert_eq!(
            (round.summary.counts.failed, round.results[1].failed_before),
            (2, 1)
        );
        // One that did not run because the build was stopped has failed all the same.
        round.take_over(again(Verdict::Unstarted));
        assert_eq!(round.results[1].verdict, Verdict::Failed);
        round.take_over(again(Verdict::Ran));
        assert_eq!(
            (round.summary.counts.failed, round.summary.counts.ran),
            (1, 2)
        );
        assert!(round.results[1].passed && round.results[1].failed_before == 2);
        assert_eq!(round.results[2].failed_before, 0);
    }

    #[test]
    fn a_test_is_flaky_that_passed_and_failed_in_rounds_or_when_it_was_tried_again() {
        let round = |of_first, failed_before| {
            let again = TestResult {
                failed_before,
                ..result(1, Verdict::Ran, None)
            };
            let results = vec![
                result(0, of_first, None),
                again,
                result(2, Verdict::Failed, None),
            ];
            Round {
                results,
                summary: Summary::default(),
            }
        };
        let rounds = [
            round(Verdict::Failed, 0),
            round(Verdict::Blocked, 0),
            round(Verdict::Ran, 2),
        ];
        let found = flaky_tests(&rounds);
        let found: Vec<_> = found
            .iter()
            .map(|f| (f.target, f.passed, f.failed, f.is_tried_again))
            .collect();
        assert_eq!(found, [("tide/t0", 1, 1, false), ("tide/t1", 1, 2, true)]);
    }

    #[test]
    fn what_does_not_count_and_what_was_not_tried_does_not_run_again() {
        assert!(result(0, Verdict::Failed, None).is_to_run_again());
        assert!(!result(0, Verdict::Failed, Some("spring tides")).is_to_run_again());
        assert!(!result(0, Verdict::Blocked, None).is_to_run_again());
        assert!(!result(0, Verdict::Ran, None).is_to_run_again());
    }
}
