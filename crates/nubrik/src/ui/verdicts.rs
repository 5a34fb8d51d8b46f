//! The results of tests: which passed, which failed, case by case, and a sum.

use std::collections::BTreeMap;

use nubrik_answers::{FlakyTest, Round, TestEvent, TestResult, TestSummaryEvent, flaky_tests};
use nubrik_engine::Verdict;
use nubrik_graph::Graph;
use nubrik_reports::cases::{Case, CaseOutcome};
use nubrik_wording::{counted, duration, plural};

use super::paint::{Ink, Paint};
use super::step_line::ink_of;
use super::text::{cut, harmless, padded, width};
use crate::ui::console::OutputStream;
use crate::ui::console::{Console, out};

/// How many unchanged tests are listed one by one; more of them are only counted.
const TOLD: usize = 12;

/// How many of the slowest cases are named, and from which time on, in seconds.
const SLOWEST: (usize, f64) = (3, 0.5);

/// Shows the results of tests, for people or programs.
pub fn show(
    console: Console,
    graph: &Graph,
    rounds: &[Round],
    skipped: &BTreeMap<String, usize>,
    micros: u64,
    cancelled: bool,
    left_out: usize,
) {
    let Some(last) = rounds.last() else { return };
    if console.is_json() {
        last.results
            .iter()
            .for_each(|result| console.event(&TestEvent::of(graph, result)));
        flaky_tests(rounds)
            .iter()
            .for_each(|flaky| console.event(flaky));
        let is_whole = !cancelled && left_out == 0;
        let sum = TestSummaryEvent::of(last, skipped.values().sum(), micros, is_whole);
        return console.event(&sum);
    }
    let paint = console.paint(OutputStream::Output);
    out!(
        console,
        "{}",
        render(graph, rounds, skipped, micros, cancelled, paint)
    );
}

/// Shows how many tests are skipped, by why.
pub fn show_skipped(console: Console, skipped: &BTreeMap<String, usize>) {
    if !console.is_json() {
        out!(
            console,
            "{}",
            render_skipped(skipped, console.paint(OutputStream::Output))
        );
    }
}

fn render_skipped(skipped: &BTreeMap<String, usize>, paint: Paint) -> String {
    let word = paint.ink(Ink::Faint, &format!("{:<10}", "skipped"));
    let lines = skipped.iter().map(|(why, count)| {
        let tests = counted(*count, "test");
        format!("{word}{tests}: {why}\n")
    });
    lines.collect()
}

fn render(
    graph: &Graph,
    rounds: &[Round],
    skipped: &BTreeMap<String, usize>,
    micros: u64,
    cancelled: bool,
    paint: Paint,
) -> String {
    let mut out = String::new();
    let Some(last) = rounds.last() else {
        return out;
    };
    out.push_str(&standing(last, paint));
    out.push_str(&failing_cases(last, paint));
    out.push_str(&unsteady(rounds, last, paint));
    out.push_str(&render_skipped(skipped, paint));
    if !out.is_empty() || last.summary.counts.ran > 0 || last.summary.counts.failed > 0 {
        out.push('\n');
    }
    out.push_str(&by_package(graph, last, paint));
    out.push_str(&slowest(last, paint));
    let bad = last
        .results
        .iter()
        .any(|r| !r.passed && r.quarantined.is_none())
        || cancelled;
    let ink = if bad { Ink::Wrong } else { Ink::Strong };
    let text = sentence(
        last,
        rounds.len(),
        skipped.values().sum(),
        micros,
        cancelled,
    );
    out.push_str(&paint.in_lines(0, &text, |line| paint.ink(ink, line)));
    out.push('\n');
    out
}

/// Tests that pass and fail by turns, and failures that do not count.
fn unsteady(rounds: &[Round], last: &Round, paint: Paint) -> String {
    let line = |word: &str, text: String| {
        let word = paint.ink(Ink::Doubt, &format!("{word:<10}"));
        format!("{word}{text}\n")
    };
    let mut out = String::new();
    for flaky in flaky_tests(rounds) {
        let FlakyTest {
            target,
            passed,
            failed,
            is_tried_again,
            ..
        } = flaky;
        let text = match is_tried_again {
            true => format!("{target}   failed {}, then passed", counted(failed, "time")),
            false => {
                let all = rounds.len();
                format!("{target}   passed {passed} and failed {failed} of {all} times")
            }
        };
        out.push_str(&line("flaky", text));
    }
    for result in last.results.iter().filter(|r| r.verdict == Verdict::Failed) {
        if let Some(reason) = &result.quarantined {
            let text = format!("{}   failed, and does not count: {reason}", result.address);
            out.push_str(&line("notice", text));
        }
    }
    out
}

/// Tests that are current, each with its time and why; what was taken from the cache has a line of
/// its own.
fn standing(round: &Round, paint: Paint) -> String {
    let mut out = String::new();
    let all: Vec<&TestResult> = round
        .results
        .iter()
        .filter(|r| r.verdict == Verdict::Current)
        .collect();
    let column = all
        .iter()
        .take(TOLD)
        .map(|r| width(&r.address))
        .max()
        .unwrap_or(0)
        .min(40);
    for result in all.iter().take(TOLD) {
        let when = match result.build {
            Some(build) => format!("passed in build {build}, {}", result.reason),
            None => result.reason.clone(),
        };
        // What does not fit on the line is the reason's end.
        let room = paint
            .width
            .map_or(usize::MAX, |w| w.saturating_sub(10 + column + 3 + 8 + 3));
        let when = cut(&when, room, paint.glyph("…", "..."));
        let word = paint.ink(
            ink_of(result.verdict),
            &format!("{:<10}", result.verdict.word()),
        );
        out.push_str(&format!(
            "{word}{}   {:>8}  {}\n",
            padded(&result.address, column),
            duration(result.micros),
            paint.ink(Ink::Faint, &when)
        ));
    }
    if all.len() > TOLD {
        let more = format!(
            "{} more are unchanged, too; --json tells of each",
            all.len() - TOLD
        );
        out.push_str(&format!("{:10}{}\n", "", paint.ink(Ink::Faint, &more)));
    }
    out
}

/// The failing cases of reports; what plain programs printed is above already.
fn failing_cases(round: &Round, paint: Paint) -> String {
    let mut out = String::new();
    for result in round
        .results
        .iter()
        .filter(|r| r.has_report && r.verdict == Verdict::Failed)
    {
        let failed: Vec<&Case> = result
            .cases
            .iter()
            .filter(|c| c.outcome == CaseOutcome::Failed)
            .collect();
        let head = format!(
            "{}   {} of {} cases failed",
            result.address,
            failed.len(),
            result.cases.len()
        );
        out.push_str(&format!("{}\n", paint.ink(Ink::Wrong, &head)));
        for case in failed {
            let group = if case.group.is_empty() {
                String::new()
            } else {
                format!("{} ", case.group)
            };
            out.push_str(&format!(
                "  {}{}\n",
                paint.ink(Ink::Faint, &group),
                paint.ink(Ink::Strong, &case.name)
            ));
            let text = harmless(&case.text, paint.colours);
            text.lines()
                .for_each(|line| out.push_str(&format!("    {line}\n")));
        }
    }
    out
}

/// A line for each package, where there are several.
fn by_package(graph: &Graph, round: &Round, paint: Paint) -> String {
    let mut packages: BTreeMap<&str, (usize, usize, usize)> = BTreeMap::new();
    for result in &round.results {
        let package = graph.owner(result.step).package.as_str();
        let counts = packages
            .entry(if package.is_empty() {
                "the workspace's root"
            } else {
                package
            })
            .or_default();
        counts.0 += 1;
        counts.1 += usize::from(result.passed);
        counts.2 += result.cases.len();
    }
    if packages.len() < 2 {
        return String::new();
    }
    let column = packages.keys().map(|p| width(p)).max().unwrap_or(0);
    let mut out = String::new();
    for (package, (tests, passed, cases)) in packages {
        // The numbers are below each other: `1 test ` is as wide as `3 tests`.
        let tests_text = format!("{:<5}", plural("test", tests));
        let cases = if cases == tests {
            String::new()
        } else {
            format!("{cases} cases")
        };
        let not = tests - passed;
        let text = if not == 0 {
            "passed".to_owned()
        } else {
            format!("{passed} passed, {not} not")
        };
        let ink = if not == 0 { Ink::Calm } else { Ink::Wrong };
        out.push_str(&format!(
            "{}  {tests:>3} {tests_text}  {cases:>9}  {}\n",
            padded(package, column),
            paint.ink(ink, &text)
        ));
    }
    out
}

fn slowest(round: &Round, paint: Paint) -> String {
    let mut cases: Vec<(f64, String)> = Vec::new();
    for result in round
        .results
        .iter()
        .filter(|r| matches!(r.verdict, Verdict::Ran | Verdict::Failed))
    {
        for case in &result.cases {
            let name = if result.has_report {
                format!("{}  {}", result.address, case.name)
            } else {
                result.address.clone()
            };
            cases.extend(case.seconds.filter(|s| *s >= SLOWEST.1).map(|s| (s, name)));
        }
    }
    cases.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
    let mut out = String::new();
    for (seconds, name) in cases.iter().take(SLOWEST.0) {
        let took = duration((seconds * 1e6) as u64);
        out.push_str(&format!(
            "{}{took:>8}  {name}\n",
            paint.ink(Ink::Faint, &format!("{:<10}", "slowest"))
        ));
    }
    out
}

/// The sum, in a sentence.
fn sentence(round: &Round, rounds: usize, skipped: usize, micros: u64, cancelled: bool) -> String {
    let tests = |n: usize| counted(n, "test");
    let count = |of: &dyn Fn(&TestResult) -> bool| round.results.iter().filter(|r| of(r)).count();
    let all = round.results.len();
    if all == 0 {
        return match skipped {
            0 => "there are no tests here".to_owned(),
            _ => format!("no test to run; {} skipped", tests(skipped)),
        };
    }
    let passed = count(&|r| r.passed);
    let stand = count(&|r| matches!(r.verdict, Verdict::Current | Verdict::Reused));
    let failed = count(&|r| r.verdict == Verdict::Failed && r.quarantined.is_none());
    let unwell = count(&|r| r.verdict == Verdict::Failed && r.quarantined.is_some());
    let not_tried = all - passed - failed - unwell;
    let cases: usize = round.results.iter().map(|r| r.cases.len()).sum();
    let mut text = match (passed == all, stand == all) {
        (true, true) => up_to_date(round),
        (true, false) if stand == 0 => format!("{} passed", tests(all)),
        (true, false) => {
            let ran = all - stand;
            format!("{} passed: {ran} ran, {stand} up to date", tests(all))
        }
        (false, _) => {
            let mut parts = vec![format!("{passed} passed")];
            let counts = [
                (failed, "failed"),
                (unwell, "failed in quarantine"),
                (not_tried, "not tried"),
            ];
            let counts = counts.iter().filter(|(count, _)| *count > 0);
            parts.extend(counts.map(|(count, word)| format!("{count} {word}")));
            format!("{}: {}", tests(all), parts.join(", "))
        }
    };
    let flaky = count(&TestResult::is_flaky);
    if flaky > 0 {
        text.push_str(&format!("; {flaky} flaky"));
    }
    if cases != all {
        text.push_str(&format!("; {cases} cases"));
    }
    if skipped > 0 {
        text.push_str(&format!("; {} skipped", tests(skipped)));
    }
    if rounds > 1 {
        text.push_str(&format!("; {rounds} times"));
    }
    if cancelled {
        text.push_str(". Stopped");
    }
    format!("{text}. {}", duration(micros))
}

/// The sum of tests of which none had to run.
fn up_to_date(round: &Round) -> String {
    let all = round.results.len();
    let (stand, it) = match all {
        1 => ("up to date", "it depends"),
        _ => ("all up to date", "they depend"),
    };
    let why = match round.results.iter().all(|r| r.unchanged) {
        true => format!(": nothing {it} on changed"),
        false => String::new(),
    };
    format!("{} passed, {stand}{why}", counted(all, "test"))
}
