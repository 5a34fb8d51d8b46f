//! Tests that failed and run again: who passes then is flaky, and has not failed.

use std::collections::HashMap;

use nubrik_engine::Verdict;
use nubrik_graph::StepId;

use crate::ui::round::{Round, TestResult};

/// Whether a test runs again: its own verdict is a failure that counts.
pub fn is_to_run_again(result: &TestResult) -> bool {
    result.verdict == Verdict::Failed && result.quarantined.is_none()
}

/// Puts what became of tests in another round in the place of their failures.
pub fn take_over(round: &mut Round, again: Round) {
    let places: HashMap<StepId, usize> = round.results.iter().map(|r| r.step).zip(0..).collect();
    for new in again.results.into_iter().filter(|new| new.passed || new.verdict == Verdict::Failed) {
        let Some(old) = places.get(&new.step).and_then(|place| round.results.get_mut(*place)) else {
            continue;
        };
        let failed_before = old.failed_before + 1;
        if new.passed {
            let counts = &mut round.summary.counts;
            counts.failed = counts.failed.saturating_sub(1);
            counts.count(new.verdict);
        }
        *old = TestResult { failed_before, ..new };
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
        let counts = StepCounts { steps: 3, ran: 1, failed: 2, ..StepCounts::default() };
        let results = vec![
            result(0, Verdict::Ran, None),
            result(1, Verdict::Failed, None),
            result(2, Verdict::Failed, None),
        ];
        let mut round = Round { results, summary: Summary { counts, ..Summary::default() } };
        let again = |verdict| Round { results: vec![result(1, verdict, None)], summary: Summary::default() };
        take_over(&mut round, again(Verdict::Failed));
        assert_eq!((round.summary.counts.failed, round.results[1].failed_before), (2, 1));
        // One that did not run because the build was stopped has failed all the same.
        take_over(&mut round, again(Verdict::Unstarted));
        assert_eq!(round.results[1].verdict, Verdict::Failed);
        take_over(&mut round, again(Verdict::Ran));
        assert_eq!((round.summary.counts.failed, round.summary.counts.ran), (1, 2));
        assert!(round.results[1].passed && round.results[1].failed_before == 2);
        assert_eq!(round.results[2].failed_before, 0);
    }

    #[test]
    fn what_does_not_count_and_what_was_not_tried_does_not_run_again() {
        assert!(is_to_run_again(&result(0, Verdict::Failed, None)));
        assert!(!is_to_run_again(&result(0, Verdict::Failed, Some("spring tides"))));
        assert!(!is_to_run_again(&result(0, Verdict::Blocked, None)));
        assert!(!is_to_run_again(&result(0, Verdict::Ran, None)));
    }
}
