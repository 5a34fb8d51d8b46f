//! The line that sums up a build, and where the results are.

use nubrik_engine::Summary;

use super::paint::{Ink, Paint};
use super::text::{cut, time, width};

/// How many results are listed; more of them are only counted.
const LISTED_RESULTS: usize = 6;

const RESULTS_FOLDER: &str = "out/base";

/// The summary of a build, in a sentence.
pub fn sentence(summary: &Summary, micros: u64, cancelled: bool) -> String {
    let steps = |n: usize| if n == 1 { "1 step".to_owned() } else { format!("{n} steps") };
    if summary.steps == 0 {
        return "nothing to build here".to_owned();
    }
    let mut text = if cancelled {
        format!("stopped after {}", time(micros))
    } else if summary.current == summary.steps {
        return format!("nothing to run: all {} current. {}", steps(summary.steps), time(micros));
    } else {
        format!("{} of {} ran", summary.ran, steps(summary.steps))
    };
    for (count, word) in [
        (summary.failed, "failed"),
        (summary.blocked, "blocked"),
        (summary.left, "left"),
        (summary.reused, "reused"),
        (summary.current, "current"),
    ] {
        if count > 0 {
            text.push_str(&format!(", {count} {word}"));
        }
    }
    if cancelled {
        return text + ". What is done stays done; build again to go on";
    }
    text.push_str(&format!(". {}", time(micros)));
    // A chain of one step says nothing that its own line does not.
    let mut names: Vec<&str> = summary.chain.iter().map(|(target, _)| &**target).collect();
    names.dedup();
    if names.len() > 1 && summary.chain_micros * 5 > micros {
        let names: Vec<&str> =
            if names.len() > 5 { [&names[..2], &["…"], &names[names.len() - 2..]].concat() } else { names };
        text.push_str(&format!(", of which {} waited on {}", time(summary.chain_micros), names.join(" > ")));
    }
    text
}

/// The summary and the results of a build for people.
pub fn render(summary: &Summary, results: &[String], micros: u64, cancelled: bool, paint: Paint) -> String {
    let ok = summary.failed + summary.blocked + summary.left + summary.unpublished == 0 && !cancelled;
    let ink = if ok { Ink::Strong } else { Ink::Wrong };
    let sentence = sentence(summary, micros, cancelled);
    // What does not fit on one line goes on below, not in the middle of a word.
    let lines = match (paint.width, sentence.split_once(", of which ")) {
        (Some(columns), Some((first, rest))) if width(&sentence) >= columns => {
            vec![format!("{first},"), cut(&format!("of which {rest}"), columns - 1, paint.glyph("…", "..."))]
        }
        _ => vec![sentence],
    };
    let mut out: String = lines.iter().map(|line| paint.ink(ink, line) + "\n").collect();
    if ok {
        if results.len() > LISTED_RESULTS {
            out.push_str(&format!("{} results in {RESULTS_FOLDER}\n", results.len()));
        } else {
            results.iter().for_each(|path| out.push_str(&format!("{path}\n")));
        }
    }
    out
}
