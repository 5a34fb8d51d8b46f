//! Reports to keep: a build, or tests as they stand, as one page that needs nothing else, as
//! Markdown for the pages of a CI system, and as JUnit XML. What failed comes first, with what it
//! printed and the command that repeats it.

use std::collections::HashMap;
use std::fmt::Write;

use maud::{DOCTYPE, Markup, html};
use nubrik_graph::Target;
use nubrik_reports::cases::{CaseOutcome, Suite, TestReport};
use nubrik_reports::findings::{
    FindingKind, FindingPlace, Gravity, SourceFinding, messages, sarif,
};
use nubrik_session::{BuildRecord, StepRecord};
use nubrik_wording::{counted, duration};

use crate::look::{STYLE, raw, state};
use crate::pages::builds::{end_of, failures, repeat, steps, sums};
use crate::pages::sources::text_of;
use crate::pages::tests::{TestedTarget, all};
use crate::pages::timeline::timeline;
use crate::site::Site;

/// So much of what something printed is put into Markdown, in bytes: pages of CI systems take only
/// so much.
const PRINTED: usize = 4_000;

/// So many steps are listed in Markdown.
const STEPS: usize = 100;

/// What a report is about.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ReportOf {
    /// A build that is remembered, by its number.
    Build(u64),
    /// All tests, as they stand.
    Tests,
}

impl Site {
    /// A report as one page of HTML without scripts; nothing where nothing is kept of the build.
    pub fn report_html(&self, what: ReportOf) -> Option<String> {
        let (title, body) = match what {
            ReportOf::Build(number) => {
                let build = self.builds().iter().find(|build| build.build == number)?;
                (format!("Build {number}"), build_html(build))
            }
            ReportOf::Tests => ("Tests".to_owned(), tests_html(&all(self))),
        };
        let document = html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    title { (title) " – " (self.name) }
                    style { (raw(STYLE.to_owned())) }
                }
                body { main #main { h1 { (title) " of " (self.name) } (body) } }
            }
        };
        Some(document.into_string())
    }

    /// The same as Markdown.
    pub fn report_markdown(&self, what: ReportOf) -> Option<String> {
        match what {
            ReportOf::Build(number) => {
                let build = self.builds().iter().find(|build| build.build == number)?;
                Some(build_markdown(build))
            }
            ReportOf::Tests => Some(tests_markdown(&all(self))),
        }
    }

    /// What failed, with its places in sources, as SARIF; `version` is that of this program.
    pub fn report_sarif(&self, what: ReportOf, version: &str) -> Option<String> {
        let found = match what {
            ReportOf::Build(number) => build_findings(
                self,
                self.builds().iter().find(|build| build.build == number)?,
            ),
            ReportOf::Tests => test_findings(self),
        };
        Some(format!("{:#}\n", sarif(&found, version)))
    }

    /// The cases of all tests that ran, as JUnit XML.
    pub fn report_junit(&self) -> String {
        let tests = all(self);
        let ran = tests.iter().filter(|test| !test.last.is_empty());
        let suite = |test: &TestedTarget<'_>| {
            Suite::of(
                test.address,
                test.micros,
                &test.all_cases(),
                test.quarantined,
            )
        };
        let suites: Vec<Suite> = ran.map(suite).collect();
        TestReport { suites, mark: None }.to_xml()
    }
}

/// What failed, for findings.
struct FailedThing<'t> {
    kind: FindingKind,
    /// The name of the test, or of the target.
    name: &'t str,
    /// The target that it belongs to, if it is still there.
    target: Option<&'t Target>,
    /// What is known of the failure, with what was printed.
    text: &'t str,
}

/// The findings of what failed: each place in a source that its text names, and, where it names
/// none or is of a test, one at its definition.
fn findings_of(site: &Site, failed: &FailedThing<'_>) -> Vec<SourceFinding> {
    let root = format!("{}/", site.session.workspace.root.display());
    let target = failed.target;
    let known = |path: &str| site.paths().contains(path).then(|| path.to_owned());
    // Programs name files from where they run, or from where their package is.
    let source = |path: &str| {
        let path = path.strip_prefix(&root).unwrap_or(path);
        known(path).or_else(|| known(target?.package.resolve(path).ok()?.as_str()))
    };
    let finding = |place, kind, gravity, message: String| SourceFinding {
        place,
        kind,
        gravity,
        message,
        target: failed.name.to_owned(),
    };
    let placed = messages(failed.text, &source).into_iter();
    let mut found: Vec<SourceFinding> = placed
        .map(|(place, gravity, message)| {
            finding(Some(place), FindingKind::Message, gravity, message)
        })
        .collect();
    let says_why = found
        .iter()
        .any(|finding| finding.gravity == Gravity::Error);
    if !says_why || failed.kind == FindingKind::Test {
        let place = target
            .filter(|target| known(&target.place.file).is_some())
            .map(|target| FindingPlace {
                path: target.place.file.to_string(),
                line: target.place.line,
                column: None,
            });
        let text = text_of(failed.text.trim_end().as_bytes(), PRINTED);
        found.push(finding(place, failed.kind, Gravity::Error, text));
    }
    found
}

/// All targets by their addresses.
fn targets_of(site: &Site) -> HashMap<&str, &Target> {
    site.graph()
        .targets
        .iter()
        .map(|target| (&*target.address, target))
        .collect()
}

/// All that failed in a build.
fn build_findings(site: &Site, build: &BuildRecord) -> Vec<SourceFinding> {
    let targets = targets_of(site);
    let failed = build.done.iter().filter(|step| step.state == "failed");
    let of_step = failed.flat_map(|step| {
        // A variant is named behind the target.
        let target = targets
            .get(step.target.split(" (").next().unwrap_or(&step.target))
            .copied();
        let (name, kind) = match &step.test {
            Some(test) => (test.as_str(), FindingKind::Test),
            None => (step.target.as_str(), FindingKind::Step),
        };
        let text = format!(
            "{}: {}\n{}",
            step.say,
            step.why(),
            step.printed.as_deref().unwrap_or("")
        );
        findings_of(
            site,
            &FailedThing {
                kind,
                name,
                target,
                text: &text,
            },
        )
    });
    of_step.collect()
}

/// All that failed of the tests as they stand; what is quarantined is no finding.
fn test_findings(site: &Site) -> Vec<SourceFinding> {
    let (tests, targets) = (all(site), targets_of(site));
    let failed = tests
        .iter()
        .filter(|test| test.last == "failed" && test.quarantined.is_none());
    let of_test = failed.flat_map(|test| {
        let cases = test.all_cases();
        let failed = cases
            .iter()
            .filter(|case| case.outcome == CaseOutcome::Failed);
        let texts: Vec<String> = failed
            .map(|case| format!("{}\n{}", case.name, case.text))
            .collect();
        let (kind, text) = (FindingKind::Test, texts.join("\n"));
        findings_of(
            site,
            &FailedThing {
                kind,
                name: test.address,
                target: targets.get(test.target).copied(),
                text: &text,
            },
        )
    });
    of_test.collect()
}

fn repeat_test(test: &TestedTarget<'_>) -> String {
    if test.address == test.target {
        return format!("nubrik test {}", test.target);
    }
    format!(
        "nubrik test {} --filter {}",
        test.target,
        nubrik_graph::shown_word(test.address)
    )
}

fn build_html(build: &BuildRecord) -> Markup {
    let title = |step: &StepRecord| html! { span.name { (step.target) } };
    html! {
        (sums(build, None))
        (failures(build, &title))
        @if let Some(picture) = timeline(build) { h2 { "Timeline" } div.scroll { (picture) } }
        (steps(build, &title))
    }
}

fn tests_html(tests: &[TestedTarget<'_>]) -> Markup {
    let failed: Vec<_> = tests.iter().filter(|test| test.last == "failed").collect();
    html! {
        p.lead { (summary(tests)) }
        @for test in &failed {
            div.step {
                h2 { span.name { (test.address) } }
                p { (state("failed")) @if let Some(why) = test.quarantined { ", " (state("quarantined")) ": " (why) } @if test.is_flaky { ", " (state("flaky")) } }
                @if let Some(failure) = test.failure { p { (failure) } }
                @for case in test.cases.iter().filter(|case| case.outcome == CaseOutcome::Failed) {
                    h3 { span.name { (case.name) } }
                    @if !case.text.is_empty() { pre.wrap { (text_of(case.text.as_bytes(), 16_000)) } }
                }
                @if let Some(printed) = test.printed.filter(|printed| !printed.is_empty()) { details open[test.cases.is_empty()] { summary { "What it printed" } pre.wrap { (text_of(printed.as_bytes(), 32_000)) } } }
                p { "Reproduce: " code { (repeat_test(test)) } }
            }
        }
        h2 { "All tests" }
        div.scroll { table {
            thead { tr { th scope="col" { "State" } th scope="col" { "Test" } th.number scope="col" { "Cases" } th.number scope="col" { "Took" } th scope="col" { "Notes" } } }
            tbody { @for test in tests {
                tr {
                    td { @if test.last.is_empty() { "never ran" } @else { (state(test.last)) } }
                    td.name { (test.address) }
                    td.number { (test.all_cases().len()) }
                    td.number { @if test.micros > 0 { (duration(test.micros)) } }
                    td {
                        @if test.is_flaky { (state("flaky")) " " } @if let Some(why) = test.quarantined { (state("quarantined")) ": " (why) }
                        @if !test.cases.is_empty() { details { summary { "its cases" } ul { @for case in &test.cases { li { (state(case.outcome.word())) " " span.name { (case.name) } } } } } }
                    }
                }
            } }
        } }
    }
}

/// How tests stand, in a line.
fn summary(tests: &[TestedTarget<'_>]) -> String {
    let count = |word: &str| tests.iter().filter(|test| test.last == word).count();
    let (failed, passed, never) = (count("failed"), count("passed"), count(""));
    let quarantined = tests
        .iter()
        .filter(|test| test.last == "failed" && test.quarantined.is_some())
        .count();
    let mut text = format!("{} of {} passed", passed, counted(tests.len(), "test"));
    for (number, word) in [
        (failed, "failed"),
        (quarantined, "of these quarantined"),
        (never, "never ran here"),
    ] {
        if number > 0 {
            let _ = write!(text, ", {number} {word}");
        }
    }
    text
}

/// A text that means nothing more in Markdown.
fn plain(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '\\' | '`' | '*' | '_' | '[' | ']' | '#' | '|' | '~' => out.extend(['\\', c]),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '&' => out.push_str("&amp;"),
            '\n' | '\r' => out.push(' '),
            c => out.push(c),
        }
    }
    out
}

/// A word of code in Markdown.
fn code(text: &str) -> String {
    let text = text.replace(['\n', '\r'], " ");
    if !text.contains('`') && !text.contains('|') {
        return format!("`{text}`");
    }
    plain(&text)
}

/// A block of text in Markdown, whatever it holds.
fn block(text: &str) -> String {
    let longest = text.split(|c| c != '`').map(str::len).max().unwrap_or(0);
    let fence = "`".repeat(longest.max(2) + 1);
    let text = text_of(text.trim_end().as_bytes(), PRINTED);
    format!("{fence}text\n{text}\n{fence}\n\n")
}

fn build_markdown(build: &BuildRecord) -> String {
    let mut out = format!("# Build {}: {}\n\n", build.build, end_of(build));
    let (counts, took) = (build.counts.sentence(), duration(build.micros));
    let _ = writeln!(
        out,
        "{}, after {took}. {counts}.\n",
        plain(&build.request())
    );
    for step in build.done.iter().filter(|step| step.state == "failed") {
        let _ = writeln!(
            out,
            "## Failed: {} {}\n",
            code(&step.target),
            plain(&step.say)
        );
        let _ = writeln!(out, "{}\n", plain(&step.why()));
        if let Some(printed) = step
            .printed
            .as_deref()
            .filter(|printed| !printed.trim().is_empty())
        {
            out.push_str(&block(printed));
        }
        let _ = writeln!(out, "Reproduce: {}\n", code(&repeat(step)));
    }
    if !build.done.is_empty() {
        let head = format!("{} not current", counted(build.done.len(), "step"));
        let _ = writeln!(out, "<details><summary>{head}</summary>\n");
        out.push_str("| state | target | step | took | why |\n|---|---|---|---|---|\n");
        for step in build.done.iter().take(STEPS) {
            let took = if step.micros > 0 {
                duration(step.micros)
            } else {
                String::new()
            };
            let on = step
                .machine
                .as_ref()
                .map_or_else(String::new, |machine| format!("on {machine}: "));
            let why = plain(&format!("{on}{}", step.reason));
            let _ = writeln!(
                out,
                "| {} | {} | {} | {took} | {why} |",
                step.state,
                code(&step.target),
                plain(&step.say)
            );
        }
        if build.done.len() > STEPS {
            let _ = writeln!(out, "\nand {} more", build.done.len() - STEPS);
        }
        out.push_str("\n</details>\n");
    }
    out
}

/// Tests of a report, wherever they ran, as Markdown: what failed comes first.
pub fn tests_as_markdown(suites: &[Suite]) -> String {
    let count = |outcome: CaseOutcome| {
        suites
            .iter()
            .filter(|suite| suite.outcome() == outcome)
            .count()
    };
    let mut sums = format!(
        "{} of {} passed",
        count(CaseOutcome::Passed),
        counted(suites.len(), "test")
    );
    for outcome in [CaseOutcome::Failed, CaseOutcome::Skipped] {
        if count(outcome) > 0 {
            let _ = write!(sums, ", {} {}", count(outcome), outcome.word());
        }
    }
    let mut out = format!("# Tests: {sums}\n\n");
    for suite in suites
        .iter()
        .filter(|suite| suite.outcome() == CaseOutcome::Failed)
    {
        let _ = writeln!(out, "## Failed: {}\n", code(&suite.name));
        for case in suite
            .cases
            .iter()
            .filter(|case| case.outcome == CaseOutcome::Failed)
        {
            let _ = writeln!(out, "- {}\n", plain(&case.name));
            if !case.text.trim().is_empty() {
                out.push_str(&block(&case.text));
            }
        }
    }
    out.push_str("| state | test | cases | took | remarks |\n|---|---|---|---|---|\n");
    for suite in suites {
        let took = duration((suite.seconds.max(0.0) * 1e6) as u64);
        let said = suite
            .cases
            .iter()
            .filter(|case| case.outcome != CaseOutcome::Failed);
        let said = said
            .filter_map(|case| case.text.lines().next())
            .next()
            .unwrap_or("");
        let _ = writeln!(
            out,
            "| {} | {} | {} | {took} | {} |",
            suite.outcome().word(),
            code(&suite.name),
            suite.cases.len(),
            plain(said)
        );
    }
    out
}

fn tests_markdown(tests: &[TestedTarget<'_>]) -> String {
    let mut out = format!("# Tests: {}\n\n", summary(tests));
    for test in tests.iter().filter(|test| test.last == "failed") {
        let quarantined = if test.quarantined.is_some() {
            " (quarantined)"
        } else {
            ""
        };
        let _ = writeln!(out, "## Failed: {}{quarantined}\n", code(test.address));
        if let Some(failure) = test.failure {
            let _ = writeln!(out, "{}\n", plain(failure));
        }
        for case in test
            .cases
            .iter()
            .filter(|case| case.outcome == CaseOutcome::Failed)
        {
            let _ = writeln!(out, "- {}\n", plain(&case.name));
            if !case.text.trim().is_empty() {
                out.push_str(&block(&case.text));
            }
        }
        let printed = test
            .printed
            .filter(|printed| test.cases.is_empty() && !printed.trim().is_empty());
        out.push_str(&printed.map_or_else(String::new, block));
        let _ = writeln!(out, "Reproduce: {}\n", code(&repeat_test(test)));
    }
    out.push_str("| state | test | cases | took | remarks |\n|---|---|---|---|---|\n");
    for test in tests {
        let last = if test.last.is_empty() {
            "never ran"
        } else {
            test.last
        };
        let took = if test.micros > 0 {
            duration(test.micros)
        } else {
            String::new()
        };
        let mut remarks = if test.is_flaky {
            "flaky: both results with the same key. ".to_owned()
        } else {
            String::new()
        };
        remarks.push_str(
            &test
                .quarantined
                .map_or_else(String::new, |why| format!("quarantined: {}", plain(why))),
        );
        let _ = writeln!(
            out,
            "| {last} | {} | {} | {took} | {remarks} |",
            code(test.address),
            test.all_cases().len()
        );
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn markdown_holds_nothing_but_texts() {
        assert_eq!(plain("a|b *c* <d>\n`e`"), "a\\|b \\*c\\* &lt;d&gt; \\`e\\`");
        assert_eq!(code("a`b"), "a\\`b");
        assert_eq!(block("x\n```\ny\n"), "````text\nx\n```\ny\n````\n\n");
        assert_eq!(block("plain"), "```text\nplain\n```\n\n");
    }
}
