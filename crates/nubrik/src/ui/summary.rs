//! The line that sums up a build, and where the results are.

use nubrik_engine::Summary;
use nubrik_session::Results;
use nubrik_wording::duration;

use super::paint::{Ink, Paint};
use super::text::width;

/// How many results are listed; more of them are only counted.
const LISTED_RESULTS: usize = 6;

/// The summary of a build, in a sentence.
pub fn sentence(summary: &Summary, micros: u64, cancelled: bool) -> String {
    let counts = summary.counts.sentence();
    if summary.counts.steps == 0 {
        return counts;
    }
    if cancelled {
        return format!(
            "stopped after {}: {counts}. What is done stays done; build again to go on",
            duration(micros)
        );
    }
    let mut text = format!("{counts}. {}", duration(micros));
    // A chain of one step says nothing that its own line does not.
    let mut names: Vec<&str> = summary.chain.iter().map(|(target, _)| &**target).collect();
    names.dedup();
    if names.len() > 1 && summary.chain_micros * 5 > micros {
        text.push_str(&format!(
            ", critical path {}: {}",
            duration(summary.chain_micros),
            chain_text(names)
        ));
    }
    text
}

/// A chain by the names of its parts; of a long one the ends.
pub fn chain_text(names: Vec<&str>) -> String {
    let names = if names.len() > 5 {
        [&names[..2], &["…"], &names[names.len() - 2..]].concat()
    } else {
        names
    };
    names.join(" > ")
}

/// The summary and the results of a build for people.
pub fn render(
    summary: &Summary,
    results: &Results,
    micros: u64,
    cancelled: bool,
    paint: Paint,
) -> String {
    let ok = summary.counts.is_well() && summary.unpublished == 0 && !cancelled;
    let ink = if ok { Ink::Strong } else { Ink::Wrong };
    let sentence = sentence(summary, micros, cancelled);
    // What does not fit on one line goes on below, not in the middle of a word.
    let lines = match (paint.width, sentence.split_once(", critical path ")) {
        (Some(columns), Some((first, rest))) if width(&sentence) >= columns => {
            vec![format!("{first},"), format!("critical path {rest}")]
        }
        _ => vec![sentence],
    };
    let lines = lines
        .iter()
        .map(|line| paint.in_lines(0, line, |line| paint.ink(ink, line)) + "\n");
    let mut out: String = lines.collect();
    if ok {
        if results.len() > LISTED_RESULTS {
            // All of them are below the folder of the profile: `out/default`, `out/ship`.
            let folder: Vec<&str> = results
                .iter()
                .next()
                .unwrap_or("")
                .split('/')
                .take(2)
                .collect();
            out.push_str(&format!(
                "{} results in {}\n",
                results.len(),
                folder.join("/")
            ));
        } else {
            results
                .iter()
                .for_each(|path| out.push_str(&format!("{path}\n")));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use nubrik_engine::StepCounts;

    fn chain(names: &[&str]) -> Vec<(std::sync::Arc<str>, std::sync::Arc<str>)> {
        names.iter().map(|n| ((*n).into(), "work".into())).collect()
    }

    fn three_ran() -> Summary {
        Summary {
            counts: StepCounts {
                steps: 3,
                ran: 3,
                ..StepCounts::default()
            },
            chain_micros: 900_000,
            ..Summary::default()
        }
    }

    #[test]
    fn says_how_long_it_took_and_that_it_was_stopped() {
        let done = Summary {
            chain_micros: 0,
            ..three_ran()
        };
        assert_eq!(sentence(&done, 1_500_000, false), "3 of 3 steps ran. 1.50s");
        assert!(
            sentence(&done, 2_000_000, true)
                .starts_with("stopped after 2.00s: 3 of 3 steps ran. What")
        );
        assert_eq!(
            sentence(&Summary::default(), 0, false),
            "nothing to build here"
        );
    }

    #[test]
    fn names_the_chain_that_the_rest_waited_for() {
        let mut done = three_ran();
        done.chain = chain(&["tide/wave", "tide/wave", "tide/cast"]);
        let text = sentence(&done, 1_000_000, false);
        assert!(
            text.ends_with("1.00s, critical path 0.90s: tide/wave > tide/cast"),
            "{text}"
        );
        // Neither a chain within one target nor a short one is worth a word.
        done.chain = chain(&["tide/wave", "tide/wave"]);
        assert!(sentence(&done, 1_000_000, false).ends_with("1.00s"));
        done.chain = chain(&["a", "b"]);
        assert!(sentence(&done, 100_000_000, false).ends_with("1min 40s"));
        done.chain = chain(&["a", "b", "c", "d", "e", "f", "g"]);
        assert!(sentence(&done, 1_000_000, false).ends_with("a > b > … > f > g"));
    }

    #[test]
    fn narrow_terminals_get_whole_words() {
        let mut done = three_ran();
        done.chain = chain(&["tide/wave", "tide/cast"]);
        let narrow = Paint {
            colours: false,
            glyphs: true,
            width: Some(40),
            plain: false,
        };
        let text = render(
            &done,
            &["out/default/x"].into_iter().collect(),
            1_000_000,
            false,
            narrow,
        );
        assert_eq!(
            text,
            "3 of 3 steps ran. 1.00s,\ncritical path 0.90s: tide/wave >\ntide/cast\nout/default/x\n"
        );
        let results: Results = (0..7).map(|i| format!("out/default/{i}")).collect();
        assert!(render(&done, &results, 1, false, narrow).ends_with("7 results in out/default\n"));
    }
}
