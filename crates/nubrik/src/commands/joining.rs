//! `nubrik report --merge`: the reports of tests that several machines ran, as one.

use std::path::{Path, PathBuf};

use nubrik_answers::MergedEvent;
use nubrik_explorer::tests_as_markdown;
use nubrik_reports::cases::TestReport;
use nubrik_reports::parts::{Unjoined, joined};

use super::report_file::{print, write};
use super::{CommandResult, say_wrong};
use crate::arguments::ReportFiles;
use crate::exit::Exit;
use crate::ui::console::Console;

/// A report of tests in a file, in words where it cannot be read.
pub fn read_report(console: Console, file: &Path) -> CommandResult<TestReport> {
    let wrong = |message: String, mend: &str| say_wrong(console, Exit::Usage, &message, &[mend]);
    let shown = file.display();
    let bytes = std::fs::read(file).map_err(|e| {
        wrong(
            format!("cannot read the report {shown}: {e}"),
            "nubrik test --junit FILE   writes one",
        )
    })?;
    TestReport::read(&bytes).map_err(|why| {
        wrong(
            format!("{shown} is no report in JUnit XML: {why}"),
            "nubrik test --junit FILE   writes one",
        )
    })
}

/// Writes one report of several; without a file for it, prints it.
pub fn merge(console: Console, reports: &[PathBuf], to: &ReportFiles) -> CommandResult<Exit> {
    for file in to.markdown.iter().chain(&to.junit) {
        if reports.contains(file) {
            let message = format!("{} would be read and written", file.display());
            return Err(say_wrong(
                console,
                Exit::Usage,
                &message,
                &["name another file to write"],
            ));
        }
    }
    let read = reports
        .iter()
        .map(|file| Ok((file.display().to_string(), read_report(console, file)?)));
    let read = read.collect::<CommandResult<Vec<_>>>()?;
    let suites = joined(read).map_err(|why| {
        let mends: &[&str] = match why {
            Unjoined::Missing { .. } => &[
                "name the report of each part",
                "run the part that has none again",
            ],
            Unjoined::OtherSplit { .. } => {
                &["give all parts one revision, the same tests, and a copy of one --times FILE"]
            }
            Unjoined::Twice { .. } | Unjoined::TestTwice { .. } => &["name each report once"],
        };
        say_wrong(console, Exit::Failed, &why.to_string(), mends)
    })?;
    let report = TestReport { suites, mark: None };
    if let Some(file) = &to.junit {
        write(console, "junit", file, &report.to_xml())?;
    }
    let markdown = tests_as_markdown(&report.suites);
    match &to.markdown {
        Some(file) => write(console, "markdown", file, &markdown)?,
        None if to.junit.is_none() => print(console, "markdown", &markdown),
        None => {}
    }
    let merged = MergedEvent::of(reports.len(), &report);
    let exit = if merged.has_failed() {
        Exit::Failed
    } else {
        Exit::Done
    };
    if console.is_json() {
        console.event(&merged);
    }
    Ok(exit)
}
