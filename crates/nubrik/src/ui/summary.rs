//! The line that sums up a build, and where the results are.

use nubrik_engine::Summary;
use nubrik_session::Results;
use nubrik_wording::{counted, duration};

use super::paint::{Ink, Paint};
use super::text::{cut, width};

/// How many results are listed; more of them are only counted.
const LISTED_RESULTS: usize = 6;

/// The summary of a build, in a sentence.
pub fn sentence(summary: &Summary, micros: u64, cancelled: bool) -> String {
    let steps = |n: usize| counted(n, "step");
    if summary.steps == 0 {
        return "nothing to build here".to_owned();
    }
    let mut text = if cancelled {
        format!("stopped after {}", duration(micros))
    } else if summary.current == summary.steps {
        return format!("nothing to run: all {} current. {}", steps(summary.steps), duration(micros));
    } else if summary.failed > 0 {
        format!("{} of {} failed", summary.failed, steps(summary.steps))
    } else {
        format!("{} of {} ran", summary.ran, steps(summary.steps))
    };
    let failed_is_said = !cancelled && summary.failed > 0;
    for (count, word) in [
        (if failed_is_said { summary.ran } else { 0 }, "ran"),
        (if failed_is_said { 0 } else { summary.failed }, "failed"),
        (summary.blocked, "blocked"),
        (summary.unstarted, "unstarted"),
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
    text.push_str(&format!(". {}", duration(micros)));
    // A chain of one step says nothing that its own line does not.
    let mut names: Vec<&str> = summary.chain.iter().map(|(target, _)| &**target).collect();
    names.dedup();
    if names.len() > 1 && summary.chain_micros * 5 > micros {
        text.push_str(&format!(
            ", of which {} waited on {}",
            duration(summary.chain_micros),
            chain_text(names)
        ));
    }
    text
}

/// A chain by the names of its parts; of a long one the ends.
pub fn chain_text(names: Vec<&str>) -> String {
    let names =
        if names.len() > 5 { [&names[..2], &["…"], &names[names.len() - 2..]].concat() } else { names };
    names.join(" > ")
}

/// The summary and the results of a build for people.
pub fn render(summary: &Summary, results: &Results, micros: u64, cancelled: bool, paint: Paint) -> String {
    let ok = summary.failed + summary.blocked + summary.unstarted + summary.unpublished == 0 && !cancelled;
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
            // All of them are below the folder of the profile: `out/default`, `out/ship`.
            let folder: Vec<&str> = results.iter().next().unwrap_or("").split('/').take(2).collect();
            out.push_str(&format!("{} results in {}\n", results.len(), folder.join("/")));
        } else {
            results.iter().for_each(|path| out.push_str(&format!("{path}\n")));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn chain(names: &[&str]) -> Vec<(std::sync::Arc<str>, std::sync::Arc<str>)> {
        names.iter().map(|n| ((*n).into(), "work".into())).collect()
    }

    #[test]
    fn says_what_ran_and_what_not() {
        let all = Summary { steps: 3, current: 3, ..Summary::default() };
        assert_eq!(sentence(&all, 12_000, false), "nothing to run: all 3 steps current. 0.01s");
        let some = Summary { steps: 9, ran: 2, reused: 1, current: 6, ..Summary::default() };
        assert_eq!(sentence(&some, 1_500_000, false), "2 of 9 steps ran, 1 reused, 6 current. 1.50s");
        let bad = Summary { steps: 4, ran: 1, failed: 1, blocked: 1, unstarted: 1, ..Summary::default() };
        assert_eq!(
            sentence(&bad, 20_000, false),
            "1 of 4 steps failed, 1 ran, 1 blocked, 1 unstarted. 0.02s"
        );
        assert_eq!(sentence(&Summary::default(), 0, false), "nothing to build here");
        assert!(sentence(&some, 2_000_000, true).starts_with("stopped after 2.00s, 1 reused, 6 current."));
    }

    #[test]
    fn names_the_chain_that_the_rest_waited_for() {
        let mut done = Summary { steps: 3, ran: 3, chain_micros: 900_000, ..Summary::default() };
        done.chain = chain(&["tide/wave", "tide/wave", "tide/cast"]);
        let text = sentence(&done, 1_000_000, false);
        assert!(text.ends_with("1.00s, of which 0.90s waited on tide/wave > tide/cast"), "{text}");
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
        let mut done = Summary { steps: 3, ran: 3, chain_micros: 900_000, ..Summary::default() };
        done.chain = chain(&["tide/wave", "tide/cast"]);
        let narrow = Paint { colours: false, glyphs: true, width: Some(40), plain: false };
        let text = render(&done, &["out/default/x"].into_iter().collect(), 1_000_000, false, narrow);
        assert_eq!(
            text,
            "3 of 3 steps ran. 1.00s,\nof which 0.90s waited on tide/wave > t…\nout/default/x\n"
        );
        let results: Results = (0..7).map(|i| format!("out/default/{i}")).collect();
        assert!(render(&done, &results, 1, false, narrow).ends_with("7 results in out/default\n"));
    }
}
