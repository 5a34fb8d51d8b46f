//! Tests: how they went, over builds and by their cases.

use std::collections::{BTreeMap, BTreeSet};

use maud::{Markup, html};
use nubrik_graph::StepId;
use nubrik_reports::cases::{Case, CaseOutcome, TestRun};
use nubrik_reports::coverage::LineCounts;
use nubrik_session::StepRecord;
use nubrik_wording::{counted, duration};

use crate::links::{About, page};
use crate::look::{SitePage, state, when};
use crate::pages::timeline::trend;
use crate::site::Site;

/// So many of the slowest cases are listed.
const SLOWEST: usize = 12;

/// So many files are listed with the lines that tests ran.
const COVERED: usize = 500;

/// So many places of a file are listed that did not run.
const MISSED: usize = 12;

/// So many cases are listed of one test.
const CASES: usize = 200;

/// A test, with what is known of it.
pub(crate) struct TestedTarget<'s> {
    pub address: &'s str,
    pub target: &'s str,
    /// Its state the last time: `passed`, `failed`, or nothing where it never ran.
    pub last: &'static str,
    pub micros: u64,
    pub quarantined: Option<&'s str>,
    pub cases: Vec<Case>,
    /// Builds in which it ran: which, what became of it, how long it took.
    pub runs: Vec<(u64, &'static str, u64)>,
    /// Whether it passed and failed with one key.
    pub is_flaky: bool,
    /// What it printed when it failed the last time, if that was its last run.
    pub printed: Option<&'s str>,
    /// How it failed then, in a few words.
    pub failure: Option<&'s str>,
    /// Whether its program ended with an exit code then.
    pub has_exited: bool,
}

impl TestedTarget<'_> {
    /// Its cases the last time, itself where its report lists none; empty where it never ran.
    pub(crate) fn all_cases(&self) -> Vec<Case> {
        self.run()
            .map(|run| run.cases(self.cases.clone()))
            .unwrap_or_default()
    }

    /// How it went the last time; none where it never ran.
    fn run(&self) -> Option<TestRun<'_>> {
        let outcome = match self.last {
            "failed" => CaseOutcome::Failed,
            "passed" => CaseOutcome::Passed,
            _ => return None,
        };
        Some(TestRun {
            path: self.address,
            target: self.target,
            outcome,
            micros: self.micros,
            reason: self.failure,
            has_exited: self.has_exited,
            printed: self.printed.unwrap_or(""),
        })
    }
}

/// All tests: first those that failed, then those that are in doubt.
pub(crate) fn all(site: &Site) -> Vec<TestedTarget<'_>> {
    let graph = site.graph();
    let mut runs: BTreeMap<&str, Vec<(u64, &'static str, u64)>> = BTreeMap::new();
    let mut ends: BTreeMap<(&str, &str), BTreeSet<&str>> = BTreeMap::new();
    let mut last: BTreeMap<&str, &StepRecord> = BTreeMap::new();
    for build in site.builds() {
        for step in &build.done {
            let (Some(test), "ran" | "failed") = (&step.test, step.state.as_str()) else {
                continue;
            };
            let word = if step.state == "ran" {
                "passed"
            } else {
                "failed"
            };
            runs.entry(test)
                .or_default()
                .push((build.build, word, step.micros));
            last.insert(test, step);
            if let Some(key) = &step.key {
                ends.entry((test, key)).or_default().insert(word);
            }
        }
    }
    let flaky: BTreeSet<&str> = ends
        .iter()
        .filter(|(_, words)| words.len() > 1)
        .map(|((test, _), _)| *test)
        .collect();
    let state = site.session.state();
    let checks = (0..graph.steps.len() as u32)
        .map(StepId)
        .filter_map(|id| Some((id, graph.step(id).check.as_deref()?)));
    let mut tests: Vec<TestedTarget<'_>> = checks
        .map(|(id, check)| {
            let step = graph.step(id);
            let memory = state.steps.get(step.folder.as_str());
            let record = last.get(&*check.address);
            TestedTarget {
                address: &check.address,
                target: &graph.owner(id).address,
                last: match &memory {
                    Some(memory) if memory.outputs.is_empty() => "failed",
                    Some(_) => "passed",
                    None => "",
                },
                micros: memory.as_ref().map_or(0, |memory| memory.micros),
                quarantined: check.quarantined.as_deref(),
                cases: memory
                    .and_then(|_| site.session.cases(graph, step))
                    .unwrap_or_default(),
                runs: runs.remove(&*check.address).unwrap_or_default(),
                is_flaky: flaky.contains(&*check.address),
                printed: record.and_then(|record| record.printed.as_deref()),
                failure: record.and_then(|record| record.failure.as_deref()),
                has_exited: record.is_some_and(|record| record.code.is_some()),
            }
        })
        .collect();
    let rank = |test: &TestedTarget<'_>| match test.last {
        "failed" => 0,
        _ if test.is_flaky => 1,
        _ => 2,
    };
    tests.sort_by_key(|test| (rank(test), test.address));
    tests
}

pub(crate) fn tests(site: &Site) -> SitePage {
    let tests = all(site);
    let failed = tests.iter().filter(|test| test.last == "failed").count();
    // A test without a report is one case.
    let ran = tests.iter().filter(|test| !test.last.is_empty());
    let cases: usize = ran.map(|test| test.cases.len().max(1)).sum();
    let mut slowest: Vec<(&TestedTarget<'_>, &Case)> = tests
        .iter()
        .flat_map(|test| test.cases.iter().map(move |case| (test, case)))
        .collect();
    slowest.retain(|(_, case)| case.seconds.is_some_and(|seconds| seconds > 0.0));
    slowest.sort_by(|a, b| {
        b.1.seconds
            .unwrap_or(0.0)
            .total_cmp(&a.1.seconds.unwrap_or(0.0))
    });
    slowest.truncate(SLOWEST);
    let body = html! {
        h1 { "Tests" }
        p.lead {
            (counted(tests.len(), "test"))
            @if cases > 0 { " with " (counted(cases, "case")) }
            @if failed > 0 { ", " (failed) " failed the last time" }
        }
        @if tests.is_empty() { p { "No target is a test: " code { "nubrik explain test" } } }
        @else { (table(site, &tests)) }
        @if !slowest.is_empty() {
            h2 { "Slowest cases" }
            div.scroll { table {
                thead { tr { th scope="col" { "Case" } th scope="col" { "Test" } th.number scope="col" { "Took" } } }
                tbody { @for (test, case) in &slowest {
                    tr { td.name { (case.name) } td { a.name href=(page(About::Target, test.target)) { (test.address) } } td.number { (duration((case.seconds.unwrap_or(0.0) * 1e6) as u64)) } }
                } }
            } }
        }
        (coverage(site))
    };
    SitePage {
        title: "Tests".to_owned(),
        part: "tests.html",
        body,
    }
}

/// Which lines tests ran, when that was asked the last time.
fn coverage(site: &Site) -> Markup {
    let Some((lines, at)) = site.lines() else {
        return html! {
            h2 { "Coverage" }
            p { "Run " code { "nubrik test --coverage" } " to see coverage. It builds an instrumented variant; the normal one is kept." }
        };
    };
    let (ran, all) = lines.total();
    let branches = lines.branch_sum();
    // Those with most lines that did not run come first.
    let mut files: Vec<_> = lines.files.iter().collect();
    files.sort_by_key(|(path, lines)| (std::cmp::Reverse(lines.len() - lines.covered()), *path));
    html! {
        h2 { "Coverage" }
        p {
            (share(ran, all)) ": " (ran) " of " (counted(all, "line")) " of " (counted(files.len(), "file"))
            @if branches.all > 0 { ", and " (branches.taken) " of " (counted(branches.all, "branch")) "," }
            " ran in the tests of " code { "nubrik test --coverage" } ", " (when(*at, site.now())) "."
        }
        div.scroll { table {
            thead { tr { th scope="col" { "File" } th.number scope="col" { "Ran" } th.number scope="col" { "Lines" } @if branches.all > 0 { th.number scope="col" { "Branches" } } th scope="col" { "" } th scope="col" { "Lines that did not run" } } }
            tbody { @for (path, lines) in files.iter().take(COVERED) {
                @let there = site.paths().contains(path.as_str()).then(|| page(About::File, path));
                tr {
                    td.name { @match &there { Some(page) => { a href=(page) { (path) } }, None => (path) } }
                    td.number { (share(lines.covered(), lines.len())) }
                    td.number { (lines.len()) }
                    @if branches.all > 0 { td.number { @let own = lines.branch_sum(); @if own.all > 0 { (own.taken) " of " (own.all) } } }
                    td { meter min="0" max=(lines.len().max(1)) value=(lines.covered()) aria-label=(format!("lines of {path} that ran")) {} }
                    td { (missed(lines, there.as_deref())) }
                }
            } }
        } }
        @if files.len() > COVERED { p.lead { "and " (files.len() - COVERED) " more: " code { "nubrik test --coverage --coverage-file lines.info" } } }
    }
}

/// A part of a whole in percent, as people read it: 100 is said only of all.
fn share(part: usize, all: usize) -> String {
    match (part, all) {
        (_, 0) => "-".to_owned(),
        (part, all) if part == all => "100 %".to_owned(),
        (part, all) => format!("{} %", (part * 100 / all).min(99)),
    }
}

/// Lines of a file that did not run, as links to them.
fn missed(lines: &LineCounts, there: Option<&str>) -> Markup {
    let ranges = lines.uncovered();
    html! {
        @for (n, range) in ranges.iter().take(MISSED).enumerate() {
            @if n > 0 { ", " }
            @let text = if range.start() == range.end() { range.start().to_string() } else { format!("{} to {}", range.start(), range.end()) };
            @match there { Some(page) => { a href=(format!("{page}#l{}", range.start())) { (text) } }, None => (text) }
        }
        @if ranges.len() > MISSED { " and " (ranges.len() - MISSED) " more places" }
    }
}

fn table(site: &Site, tests: &[TestedTarget<'_>]) -> Markup {
    html! {
        div.scroll { table {
            thead { tr { th scope="col" { "Last time" } th scope="col" { "Test" } th.number scope="col" { "Cases" } th.number scope="col" { "Took" } th scope="col" { "History" } th scope="col" { "Notes" } } }
            tbody {
                @for test in tests {
                    tr {
                        td { @if test.last.is_empty() { span.lead { "never ran" } } @else { (state(test.last)) } }
                        td.name { @match site.page_of_title(test.target) { Some(page) => { a href=(page) { (test.address) } }, None => (test.address) } }
                        td.number { @if !test.cases.is_empty() { (test.cases.len()) } }
                        td.number { @if test.micros > 0 { (duration(test.micros)) } }
                        td { @if !test.runs.is_empty() { (trend(&test.runs)) } }
                        td {
                            @if test.is_flaky { (state("flaky")) ": both results with the same key " }
                            @if let Some(why) = test.quarantined { (state("quarantined")) ": " (why) }
                            (cases(test))
                        }
                    }
                }
            }
        } }
    }
}

fn cases(test: &TestedTarget<'_>) -> Markup {
    let mut sorted: Vec<&Case> = test.cases.iter().collect();
    sorted.sort_by_key(|case| match case.outcome {
        CaseOutcome::Failed => 0,
        CaseOutcome::Skipped => 1,
        CaseOutcome::Passed => 2,
    });
    let failed = sorted
        .iter()
        .filter(|case| case.outcome == CaseOutcome::Failed)
        .count();
    html! {
        @if !sorted.is_empty() {
            details open[failed > 0] {
                summary { @if failed > 0 { (counted(failed, "failing case")) } @else { "its cases" } }
                ul { @for case in sorted.iter().take(CASES) {
                    li { (state(case.outcome.word())) " " span.name { (case.name) }
                        @if case.outcome == CaseOutcome::Failed && !case.text.is_empty() { pre.wrap { (crate::pages::sources::text_of(case.text.as_bytes(), 8_000)) } } }
                } }
                @if sorted.len() > CASES { p.lead { "and " (sorted.len() - CASES) " more" } }
            }
        }
    }
}
