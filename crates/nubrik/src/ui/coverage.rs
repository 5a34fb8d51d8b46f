//! Which lines tests ran: file by file, what did not run, and a sum.

use std::ops::RangeInclusive;

use nubrik_answers::{ChangedSince, Covered, test_path};
use nubrik_graph::Graph;
use nubrik_reports::coverage::LineCounts;
use nubrik_wording::counted;

use super::console::{Console, OutputStream, out};
use super::paint::{Ink, Paint};
use super::text::{cut, padded, width};

/// How many files are shown one by one, and how many names of other things.
const FILES: usize = 40;
const NAMES: usize = 4;

/// Shows which lines ran, for people or programs.
pub fn show(console: Console, graph: &Graph, covered: &Covered, changed: Option<ChangedSince<'_>>) {
    if console.is_json() {
        covered
            .events(changed)
            .for_each(|event| console.event(&event));
        return console.event(&covered.sum_event(graph, changed));
    }
    out!(
        console,
        "{}",
        render(graph, covered, changed, console.paint(OutputStream::Output))
    );
}

fn render(
    graph: &Graph,
    covered: &Covered,
    changed: Option<ChangedSince<'_>>,
    paint: Paint,
) -> String {
    let files: Vec<(&str, &LineCounts)> = covered
        .lines
        .files
        .iter()
        .map(|(p, lines)| (p.as_str(), lines))
        .collect();
    let files: Vec<_> = files
        .into_iter()
        .filter(|(_, lines)| !lines.is_empty())
        .collect();
    let mut out = format!("\n{}", by_file(&files, paint));
    if let Some(changed) = changed {
        out.push_str(&changed_lines(covered, changed, paint));
    }
    out.push_str(&not_told(graph, covered, paint));
    let (ran, all) = covered.lines.total();
    let sum = match all {
        0 => "no test reported lines that can run".to_owned(),
        _ => {
            let share = percent(ran, all);
            format!(
                "{} of the lines ran: {ran} of {all} in {}",
                share.trim_start(),
                counted(files.len(), "file")
            ) + &branches_of(covered)
        }
    };
    out.push_str(&paint.ink(Ink::Strong, &sum));
    out.push('\n');
    out
}

/// How many branches were taken, where a counter knows them.
fn branches_of(covered: &Covered) -> String {
    let branches = covered.lines.branch_sum();
    if branches.all == 0 {
        return String::new();
    }
    let share = percent(branches.taken, branches.all);
    format!(
        "; {} of the branches: {} of {}",
        share.trim_start(),
        branches.taken,
        branches.all
    )
}

/// What of a file did not run: lines, and lines of which a branch was never taken.
fn not_run(lines: &LineCounts) -> String {
    let missed = lines.uncovered();
    let partly: Vec<RangeInclusive<u32>> = lines
        .partly_run()
        .into_iter()
        .map(|line| line..=line)
        .collect();
    let told = [("not run: ", missed), ("partly: ", partly)];
    let told = told.iter().filter(|(_, lines)| !lines.is_empty());
    told.map(|(word, lines)| format!("{word}{}", ranges(lines)))
        .collect::<Vec<_>>()
        .join("; ")
}

/// A line for each file, with what did not run; of many files those with most of it.
fn by_file(files: &[(&str, &LineCounts)], paint: Paint) -> String {
    let mut out = String::new();
    let mut told = files.to_vec();
    if told.len() > FILES {
        told.sort_by_key(|(path, lines)| (std::cmp::Reverse(lines.len() - lines.covered()), *path));
        told.truncate(FILES);
        told.sort_by_key(|(path, _)| *path);
    }
    let column = told
        .iter()
        .map(|(path, _)| width(path))
        .max()
        .unwrap_or(0)
        .min(44);
    let counts = |lines: &LineCounts| format!("{} of {}", lines.covered(), lines.len());
    let of_counts = told
        .iter()
        .map(|(_, lines)| counts(lines).len())
        .max()
        .unwrap_or(0);
    let room = paint.width.map_or(usize::MAX, |all| {
        all.saturating_sub(5 + 2 + column + 2 + of_counts + 2)
    });
    for (path, lines) in &told {
        let missed = not_run(lines);
        let ink = if missed.is_empty() {
            Ink::Calm
        } else {
            Ink::Doubt
        };
        let share = paint.ink(ink, &percent(lines.covered(), lines.len()));
        let missed = match missed.is_empty() || room < 12 {
            true => String::new(),
            false => format!("  {}", cut(&missed, room, paint.glyph("…", "..."))),
        };
        let (path, counts) = (padded(path, column), counts(lines));
        out.push_str(&format!(
            "{share}  {path}  {counts:>of_counts$}{}\n",
            paint.ink(Ink::Faint, &missed)
        ));
    }
    if files.len() > told.len() {
        let rest = files.len() - told.len();
        let text = format!(
            "and {rest} more files, with fewer lines that did not run; --coverage-file lines.info has all"
        );
        out.push_str(&format!("{}\n", paint.ink(Ink::Faint, &text)));
    }
    if !files.is_empty() {
        out.push('\n');
    }
    out
}

/// What tests say nothing of, or nothing that can be read.
fn not_told(graph: &Graph, covered: &Covered, paint: Paint) -> String {
    let line = |word: &str, ink: Ink, text: &str| {
        format!("{}{text}\n", paint.ink(ink, &format!("{word:<10}")))
    };
    let mut out = String::new();
    for (test, problem) in &covered.unreadable {
        let text = format!(
            "{}   its coverage cannot be read: {problem}",
            test_path(graph, *test)
        );
        out.push_str(&line("malformed", Ink::Wrong, &text));
    }
    if !covered.not_covered.is_empty() {
        let names: Vec<&str> = covered
            .not_covered
            .iter()
            .map(|path| path.as_str())
            .collect();
        let text = format!("{}: {}", counted(names.len(), "file"), some(&names));
        out.push_str(&line("uncovered", Ink::Doubt, &text));
    }
    if !covered.not_counted.is_empty() {
        let names: Vec<&str> = covered
            .not_counted
            .iter()
            .map(|test| test_path(graph, *test))
            .collect();
        let text = format!(
            "{} report no lines: {}",
            counted(names.len(), "test"),
            some(&names)
        );
        out.push_str(&line("uncounted", Ink::Faint, &text));
    }
    out
}

/// What a change left uncovered.
fn changed_lines(covered: &Covered, changed: ChangedSince<'_>, paint: Paint) -> String {
    let mut out = String::new();
    for (path, lines) in &covered.lines.files {
        let missed = ranges(&lines.uncovered_of(|line| changed.lines.has(path, line)));
        if !missed.is_empty() {
            let word = paint.ink(Ink::Doubt, &format!("{:<10}", "changed"));
            out.push_str(&format!("{word}{path}   did not run: {missed}\n"));
        }
    }
    let word = paint.ink(Ink::Faint, &format!("{:<10}", "changed"));
    let revision = changed.revision;
    let text = match changed.sum(covered) {
        (_, 0) => format!("no line that can run changed since {revision}"),
        (ran, all) => format!("{ran} of {all} lines ran that changed since {revision}"),
    };
    out.push_str(&format!("{word}{text}\n"));
    out
}

/// A share, rounded down: what is whole is whole.
fn percent(part: usize, all: usize) -> String {
    format!("{:>3} %", (part * 100).checked_div(all).unwrap_or(100))
}

/// Lines for people: `3-5, 9`.
fn ranges(lines: &[RangeInclusive<u32>]) -> String {
    let one = |range: &RangeInclusive<u32>| match range.start() == range.end() {
        true => range.start().to_string(),
        false => format!("{}-{}", range.start(), range.end()),
    };
    lines.iter().map(one).collect::<Vec<_>>().join(", ")
}

/// The first of some names, and how many more there are.
fn some(names: &[&str]) -> String {
    let mut text = names
        .iter()
        .take(NAMES)
        .copied()
        .collect::<Vec<_>>()
        .join(", ");
    if names.len() > NAMES {
        text.push_str(&format!(" and {} more", names.len() - NAMES));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_are_never_rounded_up() {
        assert_eq!(
            (
                percent(999, 1000).as_str(),
                percent(3, 3).as_str(),
                percent(0, 9).as_str()
            ),
            (" 99 %", "100 %", "  0 %")
        );
        assert_eq!(ranges(&[3..=5, 9..=9]), "3-5, 9");
    }
}
