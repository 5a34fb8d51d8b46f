//! Single cases of tests, as test programs tell of them in open formats: JUnit XML and the Test Anything
//! Protocol (TAP, testanything.org). Both are read, and JUnit XML is written.
//!
//! ```
//! let cases = nubrik_cases::read(b"1..2\nok 1 - ebb\nnot ok 2 - flood\n").expect("a report");
//! let words: Vec<(&str, &str)> = cases.iter().map(|c| (c.name.as_str(), c.outcome.word())).collect();
//! assert_eq!(words, [("ebb", "passed"), ("flood", "failed")]);
//! ```

mod junit;
mod tap;

pub use junit::{Suite, merged};

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

/// The cases that a report lists, in its order.
///
/// # Errors
/// What is wrong with the report, for people, when it is neither of the formats.
pub fn read(report: &[u8]) -> Result<Vec<Case>, String> {
    let text = String::from_utf8_lossy(report);
    let text = text.trim_start_matches('\u{feff}');
    if text.trim_start().starts_with('<') { junit::read(text) } else { tap::read(text) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

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
