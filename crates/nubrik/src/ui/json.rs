//! Events as JSON, one a line (`docs/formats.md` describes them).

use nubrik_answers::{Round, rounded};
use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_engine::{StepCounts, Summary, Verdict};
use nubrik_source::Sources;
use serde::Serialize;

use super::console::Console;

/// Version of the events.
pub const VERSION: u32 = 1;

#[derive(Serialize)]
pub struct BeganEvent {
    pub event: &'static str,
    pub version: u32,
    pub steps: usize,
}

#[derive(Serialize)]
pub struct StepEvent<'a> {
    pub event: &'static str,
    pub state: &'a str,
    pub target: &'a str,
    #[serde(skip_serializing_if = "str::is_empty")]
    pub variant: &'a str,
    pub say: &'a str,
    pub reason: String,
    pub reason_code: &'static str,
    pub seconds: f64,
    /// The other machine that ran it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub machine: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub command: Option<Vec<String>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub printed: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub wrote: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[serde(rename = "try")]
    pub mends: Vec<String>,
}

#[derive(Serialize)]
pub struct RefusedEvent<'a> {
    pub event: &'static str,
    pub target: &'a str,
    #[serde(skip_serializing_if = "str::is_empty")]
    pub variant: &'a str,
    pub say: &'a str,
    pub refused: Vec<String>,
    pub reading: String,
    #[serde(rename = "try")]
    pub mends: Vec<String>,
}

#[derive(Serialize)]
pub struct JobEvent<'a> {
    pub event: &'static str,
    pub state: &'a str,
    pub target: &'a str,
    pub say: &'a str,
    pub seconds: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub command: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub code: Option<i32>,
    pub defined: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub printed: Option<String>,
}

#[derive(Serialize)]
pub struct NoticeEvent {
    pub event: &'static str,
    pub text: String,
}

#[derive(Serialize)]
pub struct ResultEvent<'a> {
    pub event: &'static str,
    pub path: &'a str,
}

#[derive(Serialize)]
struct SummaryEvent {
    event: &'static str,
    version: u32,
    ok: bool,
    #[serde(flatten)]
    counts: StepCounts,
    seconds: f64,
}

#[derive(Serialize)]
struct DiagnosticEvent<'a> {
    event: &'static str,
    severity: &'static str,
    code: &'a str,
    message: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    file: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    column: Option<u32>,
    related: Vec<RelatedPlace<'a>>,
    notes: &'a [String],
    #[serde(rename = "try")]
    mends: &'a [String],
}

#[derive(Serialize)]
struct RelatedPlace<'a> {
    file: &'a str,
    line: u32,
    message: &'a str,
}

/// Prints diagnostics.
pub fn diagnostics(console: Console, list: &[Diagnostic], sources: &Sources) {
    for diagnostic in list {
        let at = diagnostic.span.map(|s| (sources.name(s.file), sources.line_column(s.file, s.start)));
        let related = diagnostic.related.iter().map(|r| RelatedPlace {
            file: sources.name(r.span.file),
            line: sources.line(r.span),
            message: &r.message,
        });
        console.event(&DiagnosticEvent {
            event: "diagnostic",
            severity: if diagnostic.severity == Severity::Error { "error" } else { "warning" },
            code: diagnostic.code,
            message: &diagnostic.message,
            file: at.as_ref().map(|a| &**a.0),
            line: at.as_ref().map(|a| a.1.line),
            column: at.as_ref().map(|a| a.1.column),
            related: related.collect(),
            notes: &diagnostic.notes,
            mends: &diagnostic.mends,
        });
    }
}

/// Prints the last line of every build: the summary, which scripts rely on.
pub fn summary(console: Console, summary: &Summary, ok: bool, seconds: f64) {
    console.event(&summary_event(summary, ok, seconds));
}

fn summary_event(summary: &Summary, ok: bool, seconds: f64) -> SummaryEvent {
    SummaryEvent { event: "summary", version: VERSION, ok, counts: summary.counts, seconds: rounded(seconds) }
}

#[derive(Serialize)]
struct Cases {
    passed: usize,
    failed: usize,
    skipped: usize,
}

#[derive(Serialize)]
struct Tests {
    ran: usize,
    current: usize,
    reused: usize,
    failed: usize,
    quarantined: usize,
    skipped: usize,
}

#[derive(Serialize)]
struct TestSummaryEvent {
    #[serde(flatten)]
    steps: SummaryEvent,
    cases: Cases,
    tests: Tests,
}

/// Prints the last line of tests: the summary of a build, with counts of cases and tests.
pub fn test_summary(console: Console, round: &Round, skipped: usize, seconds: f64, is_whole: bool) {
    let (summary, results) = (&round.summary, &round.results);
    let count = |verdict: Verdict| results.iter().filter(|r| r.verdict == verdict).count();
    let cases = |outcome: nubrik_reports::cases::CaseOutcome| {
        results.iter().flat_map(|r| &r.cases).filter(|c| c.outcome == outcome).count()
    };
    let ok = summary.counts.is_well() && is_whole;
    console.event(&TestSummaryEvent {
        steps: summary_event(summary, ok, seconds),
        cases: Cases {
            passed: cases(nubrik_reports::cases::CaseOutcome::Passed),
            failed: cases(nubrik_reports::cases::CaseOutcome::Failed),
            skipped: cases(nubrik_reports::cases::CaseOutcome::Skipped),
        },
        tests: Tests {
            ran: count(Verdict::Ran) + count(Verdict::Failed),
            current: count(Verdict::Current),
            reused: count(Verdict::Reused),
            failed: count(Verdict::Failed) - summary.quarantined,
            quarantined: summary.quarantined,
            skipped,
        },
    });
}
