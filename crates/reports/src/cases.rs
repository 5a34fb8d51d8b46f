//! Single cases of tests, as test programs tell of them in open formats: JUnit XML and the Test
//! Anything Protocol (TAP, testanything.org). Both are read, and JUnit XML is written.
//!
//! ```
//! let cases = nubrik_reports::cases::read(b"1..2\nok 1 - ebb\nnot ok 2 - flood\n").expect("a report");
//! let words: Vec<(&str, &str)> = cases.iter().map(|c| (c.name.as_str(), c.outcome.word())).collect();
//! assert_eq!(words, [("ebb", "passed"), ("flood", "failed")]);
//! ```

mod junit;
mod tap;

pub use junit::{Suite, TestReport};

use crate::Malformed;

/// One case of a test.
#[derive(Clone, PartialEq, Debug)]
pub struct Case {
    /// What it belongs to, such as a class or file; empty where the report names none.
    pub group: String,
    /// Its name.
    pub name: String,
    /// What became of it.
    pub outcome: CaseOutcome,
    /// How long it took, in seconds, where the report says so.
    pub seconds: Option<f64>,
    /// What was said of a failure, or why it was skipped.
    pub text: String,
}

/// What became of a case.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum CaseOutcome {
    /// It passed.
    Passed,
    /// It failed.
    Failed,
    /// It was not tried.
    Skipped,
}

impl CaseOutcome {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            CaseOutcome::Passed => "passed",
            CaseOutcome::Failed => "failed",
            CaseOutcome::Skipped => "skipped",
        }
    }
}

/// How a test went, as a build or its history knows it. What its cases are, and how they are named
/// and worded in every report, is decided here alone.
#[derive(Clone, Copy, Debug)]
pub struct TestRun<'t> {
    /// Its path, which names it in all reports.
    pub path: &'t str,
    /// The target that it belongs to.
    pub target: &'t str,
    /// Its verdict.
    pub outcome: CaseOutcome,
    /// How long it took, in microseconds.
    pub micros: u64,
    /// How it failed or why it was not tried, in a few words, where that is known.
    pub reason: Option<&'t str>,
    /// Whether its program ended with an exit code: then the last lines that it printed say most of
    /// why it failed.
    pub has_exited: bool,
    /// All that it printed.
    pub printed: &'t str,
}

impl TestRun<'_> {
    /// Its cases: those that its own report lists, or the test itself where there are none.
    pub fn cases(&self, reported: Vec<Case>) -> Vec<Case> {
        let whole = |group: &str, name: &str, seconds| Case {
            group: group.to_owned(),
            name: name.to_owned(),
            outcome: self.outcome,
            seconds,
            text: self.text(),
        };
        if reported.is_empty() {
            let name = self.path.rsplit('/').next().unwrap_or(self.path);
            return vec![whole(self.target, name, Some(self.micros as f64 / 1e6))];
        }
        let mut cases = reported;
        // A report that lists no failure is not believed where the commands failed.
        let has_failure = cases.iter().any(|case| case.outcome == CaseOutcome::Failed);
        if self.outcome == CaseOutcome::Failed && !has_failure {
            cases.push(whole(self.path, "the test as a whole", None));
        }
        cases
    }

    /// Why it failed or was not tried; nothing of a test that passed.
    fn text(&self) -> String {
        let printed = self.printed.trim_end();
        let reason = self
            .reason
            .filter(|_| printed.is_empty() || !self.has_exited)
            .unwrap_or("");
        match self.outcome {
            CaseOutcome::Passed => String::new(),
            CaseOutcome::Skipped => self.reason.unwrap_or("").to_owned(),
            CaseOutcome::Failed => format!("{reason}\n{printed}").trim().to_owned(),
        }
    }
}

/// The cases that a report lists, in its order.
///
/// # Errors
/// What is wrong with the report, for people, when it is neither of the formats.
pub fn read(report: &[u8]) -> Result<Vec<Case>, Malformed> {
    let text = String::from_utf8_lossy(report);
    let text = text.trim_start_matches('\u{feff}');
    if text.trim_start().starts_with('<') {
        junit::read(text)
    } else {
        tap::read(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn failed<'t>() -> TestRun<'t> {
        TestRun {
            path: "tide/flow/ebb",
            target: "tide/flow",
            outcome: CaseOutcome::Failed,
            micros: 1_500_000,
            reason: Some("exited with code 1"),
            has_exited: true,
            printed: "no tide\n",
        }
    }

    fn shown(cases: &[Case]) -> Vec<String> {
        let line = |c: &Case| format!("{}: {} {} {:?}", c.group, c.name, c.outcome.word(), c.text);
        cases.iter().map(line).collect()
    }

    #[test]
    fn a_test_without_a_report_is_one_case() {
        assert_eq!(
            shown(&failed().cases(Vec::new())),
            ["tide/flow: ebb failed \"no tide\""]
        );
        let silent = TestRun {
            printed: "",
            ..failed()
        };
        assert_eq!(
            shown(&silent.cases(Vec::new())),
            ["tide/flow: ebb failed \"exited with code 1\""]
        );
        let ended = TestRun {
            reason: Some("timed out after 2 s"),
            has_exited: false,
            ..failed()
        };
        assert_eq!(
            shown(&ended.cases(Vec::new())),
            ["tide/flow: ebb failed \"timed out after 2 s\\nno tide\""]
        );
        let passed = TestRun {
            outcome: CaseOutcome::Passed,
            reason: None,
            ..failed()
        };
        assert_eq!(
            shown(&passed.cases(Vec::new())),
            ["tide/flow: ebb passed \"\""]
        );
        let not_tried = TestRun {
            outcome: CaseOutcome::Skipped,
            reason: Some("blocked"),
            ..failed()
        };
        assert_eq!(
            shown(&not_tried.cases(Vec::new())),
            ["tide/flow: ebb skipped \"blocked\""]
        );
    }

    #[test]
    fn a_report_without_failures_is_not_believed_of_a_test_that_failed() {
        let cases = failed().cases(read(b"1..1\nok 1 - high\n").unwrap());
        assert_eq!(
            shown(&cases),
            [
                ": high passed \"\"",
                "tide/flow/ebb: the test as a whole failed \"no tide\""
            ]
        );
        let told = failed().cases(read(b"1..1\nnot ok 1 - high\n").unwrap());
        assert_eq!(told.len(), 1);
    }

    #[test]
    fn failures_in_quarantine_are_skipped_for_who_reads_the_report() {
        let cases = failed().cases(Vec::new());
        let suite = Suite::of("tide/flow/ebb", 1_500_000, &cases, Some("spring tides"));
        assert_eq!(
            shown(&suite.cases),
            ["tide/flow: ebb skipped \"quarantined: spring tides; no tide\""]
        );
    }

    #[test]
    fn the_format_is_told_by_the_first_character() {
        assert_eq!(read(b"ok 1 - ebb\n").unwrap()[0].name, "ebb");
        let xml = b"\xef\xbb\xbf <testsuite><testcase name='flow'/></testsuite>";
        assert_eq!(read(xml).unwrap()[0].name, "flow");
        assert!(read(b"").is_err() && read(b"what is this").is_err());
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn any_bytes_are_survived(bytes in prop::collection::vec(any::<u8>(), 0..200), xml in any::<bool>()) {
            let _ = read(&bytes);
            let wrapped = [if xml { &b"<testsuite>"[..] } else { b"1..3\nok 1\n" }, &bytes].concat();
            let _ = read(&wrapped);
        }
    }
}
