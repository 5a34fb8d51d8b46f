//! Pages, reports and images that a command made or handed out, and places where something is served: for programs.

use nubrik_reports::cases::{CaseOutcome, TestReport};
use nubrik_reports::parts::{PartMark, TestPart};
use serde::Serialize;

use crate::seconds;

/// A report in one of its forms, printed or written to a file.
#[derive(Serialize)]
pub struct ReportEvent<'a> {
    event: &'static str,
    form: &'static str,
    to: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    text: Option<&'a str>,
}

impl<'a> ReportEvent<'a> {
    /// A report that is in the event.
    pub fn printed(form: &'static str, text: &'a str) -> ReportEvent<'a> {
        ReportEvent { event: "report", form, to: None, text: Some(text) }
    }

    /// A report in a file.
    pub fn written(form: &'static str, to: &'a str) -> ReportEvent<'a> {
        ReportEvent { event: "report", form, to: Some(to), text: None }
    }
}

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
        let with =
            |outcome: CaseOutcome| merged.suites.iter().filter(move |suite| suite.outcome() == outcome);
        MergedEvent {
            event: "merged",
            reports,
            tests: merged.suites.len(),
            passed: with(CaseOutcome::Passed).count(),
            failed: with(CaseOutcome::Failed).map(|suite| suite.name.as_str()).collect(),
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
    /// How many tests it has.
    pub tests: usize,
    /// How many all parts have.
    pub of_tests: usize,
    seconds: f64,
    /// How many tests there are whose time is not known.
    pub untimed: usize,
}

impl<'a> PartEvent<'a> {
    /// The event about a part, which has so many of all tests, and took so many microseconds as far as that is known.
    pub fn of(
        part: TestPart,
        mark: &'a PartMark,
        (tests, of_tests): (usize, usize),
        (micros, untimed): (u64, usize),
    ) -> PartEvent<'a> {
        PartEvent {
            event: "part",
            part: part.number(),
            of: part.of(),
            split: &mark.split,
            tests,
            of_tests,
            seconds: seconds(micros),
            untimed,
        }
    }
}

/// An image that was handed to a registry.
#[derive(Serialize)]
pub struct PushedEvent<'a> {
    event: &'static str,
    digest: &'a str,
    sent: usize,
    known: usize,
}

impl<'a> PushedEvent<'a> {
    /// The event about an image with a digest, of which so many blobs were sent, and so many were there before.
    pub fn of(digest: &'a str, sent: usize, known: usize) -> PushedEvent<'a> {
        PushedEvent { event: "pushed", digest, sent, known }
    }
}

/// Pages of a workspace that were written to a folder.
#[derive(Serialize)]
pub struct WrittenEvent<'a> {
    event: &'static str,
    to: &'a str,
    pages: usize,
}

impl WrittenEvent<'_> {
    /// The event about so many pages, of which the first one is in a file.
    pub fn of(to: &str, pages: usize) -> WrittenEvent<'_> {
        WrittenEvent { event: "written", to, pages }
    }
}

/// Manual pages that were written to a folder.
#[derive(Serialize)]
pub struct ManualEvent<'a> {
    event: &'static str,
    folder: &'a str,
    pages: usize,
}

impl ManualEvent<'_> {
    /// The event about so many pages.
    pub fn of(folder: &str, pages: usize) -> ManualEvent<'_> {
        ManualEvent { event: "manual", folder, pages }
    }
}

/// The address of the explorer's first page.
#[derive(Serialize)]
pub struct ExplorerEvent<'a> {
    event: &'static str,
    address: &'a str,
}

impl ExplorerEvent<'_> {
    /// The event about an address.
    pub fn of(address: &str) -> ExplorerEvent<'_> {
        ExplorerEvent { event: "explorer", address }
    }
}

/// A service that runs, and its place.
#[derive(Serialize)]
pub struct ServingEvent<'a> {
    event: &'static str,
    target: &'a str,
    at: &'a str,
}

impl<'a> ServingEvent<'a> {
    /// The event about a service at a place.
    pub fn of(target: &'a str, at: &'a str) -> ServingEvent<'a> {
        ServingEvent { event: "serving", target, at }
    }
}

/// A file of definitions that is not in its usual form, or was not.
#[derive(Serialize)]
pub struct FormattedEvent<'a> {
    event: &'static str,
    file: &'a str,
    state: &'static str,
}

impl<'a> FormattedEvent<'a> {
    /// The event about a file; its state is `untidy` or `tidied`.
    pub fn of(file: &'a str, state: &'static str) -> FormattedEvent<'a> {
        FormattedEvent { event: "formatted", file, state }
    }
}

/// Files that changed while somebody watches.
#[derive(Serialize)]
pub struct ChangedEvent<'a> {
    event: &'static str,
    files: &'a [String],
}

impl ChangedEvent<'_> {
    /// The event about files, by their paths from the root.
    pub fn of(files: &[String]) -> ChangedEvent<'_> {
        ChangedEvent { event: "changed", files }
    }
}
