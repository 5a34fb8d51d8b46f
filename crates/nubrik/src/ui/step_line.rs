//! The line about a step: state, target, what it does, time, why. Where a reason matters most it is
//! never cut: if it has no place in the line, it has lines of its own.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use nubrik_engine::Verdict;
use nubrik_graph::{Graph, StepId};

use super::paint::{Ink, Paint};
use super::text::{cut, padded, width, wrapped};
use super::visible::visible;

/// Columns of the state at the beginning of a line; lines below it begin there.
pub const STATE: usize = 10;

/// Columns of a time.
const TIME: usize = 8;

/// Columns between a target and what a step does, and on both sides of the time.
const GAPS: [usize; 3] = [3, 2, 2];

/// Columns for a reason beside the rest: most first builds have one of this width.
const SHORT_REASON: usize = 15;

/// The widest target and the widest text that lines are aligned for.
const WIDEST: (usize, usize) = (40, 36);

/// So much of what a step does is left where a long target needs room.
const LEAST_SAY: usize = 8;

/// What a line about a step says.
#[derive(Clone, Copy)]
pub struct StepRow<'t> {
    /// Its state, or what would become of it, and the colour of that.
    pub word: (&'t str, Ink),
    /// Its target, with its variant if that is shown.
    pub target: &'t str,
    /// What it does.
    pub say: &'t str,
    /// How long it took; may be empty.
    pub took: &'t str,
    /// Why; may be empty.
    pub why: &'t str,
    /// Whether all of the reason is shown, also where the line has no room for it. Of a step that
    /// went as usual the beginning is enough, and lines stay half as many.
    pub needs_reason: bool,
}

/// Widths of the columns of some step lines.
#[derive(Clone, Copy)]
pub struct Columns {
    /// Of targets.
    target: usize,
    /// Of targets with their variants.
    titled: usize,
    say: usize,
}

impl Columns {
    /// Widths that fit some rows: the title of each, and what its step does.
    pub fn of_rows<'t>(rows: impl Iterator<Item = (&'t str, &'t str)>) -> Columns {
        let mut columns = Columns {
            target: 0,
            titled: 0,
            say: 0,
        };
        for (title, say) in rows {
            let target = title.split_once(" (").map_or(title, |(target, _)| target);
            columns.target = columns.target.max(width(target)).min(WIDEST.0);
            columns.titled = columns.titled.max(width(title)).min(WIDEST.0);
            columns.say = columns.say.max(width(say)).min(WIDEST.1);
        }
        columns
    }

    /// The columns on a terminal of some width. Variants give way first, then what steps do: why
    /// they ran says more.
    fn within(self, terminal: usize) -> Columns {
        let rest = STATE + GAPS.iter().sum::<usize>() + TIME + 1;
        // The narrowest ones have no room for times.
        let room = match terminal.saturating_sub(rest) {
            ..24 => terminal.saturating_sub(STATE + GAPS[0] + 1),
            room if room >= 30 + SHORT_REASON => room - SHORT_REASON,
            room => room,
        };
        let target = if self.titled + self.say <= room {
            self.titled
        } else {
            self.target
        };
        let target = target.min(room - room.min(self.say.min(room * 2 / 5)));
        Columns {
            target,
            titled: target,
            say: self.say.min(room - target),
        }
    }

    /// The line about a step, cut to the terminal's width, and the reason, if it has no place
    /// there.
    fn laid_out(self, paint: Paint, row: StepRow<'_>) -> (String, Option<String>) {
        // Widths are those of what is shown.
        let [target, say, why] = [row.target, row.say, row.why].map(visible);
        let columns = paint.width.map_or(
            Columns {
                target: self.titled,
                ..self
            },
            |w| self.within(w),
        );
        let both = columns.target + columns.say;
        let target_width = columns
            .target
            .max(width(&target).min(both.saturating_sub(LEAST_SAY)));
        let say_width = both.saturating_sub(target_width);
        let more = paint.glyph("…", "...");
        let fitted = |text: &str, columns: usize| match paint.width {
            Some(_) => padded(&cut(text, columns, more), columns),
            None => padded(text, columns),
        };
        let used = STATE + target_width + say_width + GAPS.iter().sum::<usize>() + TIME;
        // Where the reason is below, its sandbox in the line is for what the step does.
        let free = paint.width.map_or(0, |w| w.saturating_sub(used + 1));
        let is_below = row.needs_reason && width(&why) > free;
        let more_say = if is_below {
            width(&say).saturating_sub(say_width).min(free)
        } else {
            0
        };
        let (target, say) = (
            fitted(&target, target_width),
            fitted(&say, say_width + more_say),
        );
        let used = STATE + width(&target) + width(&say) + GAPS.iter().sum::<usize>() + TIME;
        let took = if paint.width.is_some_and(|w| w < used) {
            String::new()
        } else {
            format!("{:>TIME$}", row.took)
        };
        let is_beside = paint.width.is_none_or(|w| used + width(&why) < w);
        let beside = match paint.width {
            _ if is_beside => why.to_string(),
            // A few letters of a reason say nothing.
            Some(w) if !row.needs_reason && w > used + SHORT_REASON => {
                cut(&why, w - used - 1, more)
            }
            _ => String::new(),
        };
        let line = format!(
            "{}{target}   {say}  {took}  {}",
            paint.ink(row.word.1, &format!("{:<STATE$}", row.word.0)),
            paint.ink(Ink::Faint, &beside)
        );
        (
            line.trim_end().to_owned(),
            (row.needs_reason && !is_beside).then(|| why.into_owned()),
        )
    }

    /// A line about why something is with a step, without a time. Ends with a line break.
    pub fn cause(
        self,
        paint: Paint,
        (word, ink): (&str, Ink),
        (target, say): (&str, &str),
        why: &str,
    ) -> String {
        let [target, say, why] = [target, say, why].map(visible);
        let target = padded(&target, self.titled);
        let line = format!("{target}   {}   {why}", padded(&say, self.say));
        let word = paint.ink(ink, &format!("{word:<STATE$}"));
        if paint.width.is_none_or(|w| STATE + width(&line) < w) {
            return format!("{word}{line}\n");
        }
        let head = format!("{}   {say}", target.trim_end());
        format!(
            "{word}{}\n{}",
            paint.in_lines(STATE, &head, str::to_owned),
            below_state(paint, &why)
        )
    }

    /// The line about a step that is at work: one line, without a reason that has no place in it.
    pub fn line(self, paint: Paint, row: StepRow<'_>) -> String {
        self.laid_out(paint, row).0
    }

    /// The lines about a step: below the first one, all of the reason that has no place there. Ends
    /// with a line break.
    pub fn lines(self, paint: Paint, row: StepRow<'_>) -> String {
        let (line, below) = self.laid_out(paint, row);
        line + "\n" + &below.map_or_else(String::new, |why| below_state(paint, &why))
    }
}

/// A text in lines of its own below a state, in a faint colour, broken between words. Ends with a
/// line break.
pub fn below_state(paint: Paint, text: &str) -> String {
    let room = paint
        .width
        .map_or(usize::MAX, |w| w.saturating_sub(STATE + 1));
    let lines = wrapped(text, room);
    lines
        .iter()
        .map(|line| format!("{:STATE$}{}\n", "", paint.ink(Ink::Faint, line)))
        .collect()
}

/// The titles of a graph's steps in lines that are shown together: a variant is shown if a target
/// has several.
pub struct Titles {
    several: HashSet<Arc<str>>,
}

impl Titles {
    /// The titles in lines about all steps of a graph.
    pub fn of(graph: &Graph) -> Titles {
        let mut variants: HashMap<&Arc<str>, &str> = HashMap::new();
        let mut several = HashSet::new();
        for step in &graph.steps {
            let address = &graph.target(step.target).address;
            if *variants.entry(address).or_insert(&step.variant) != &*step.variant {
                several.insert(address.clone());
            }
        }
        Titles { several }
    }

    /// The title of a step.
    pub fn of_step(&self, graph: &Graph, step: StepId) -> Arc<str> {
        let address = &graph.owner(step).address;
        if self.several.contains(address) {
            graph.title(step)
        } else {
            address.clone()
        }
    }

    /// Widths that fit the steps of a graph with these titles.
    pub fn columns(&self, graph: &Graph) -> Columns {
        let titles: Vec<Arc<str>> = (0..graph.steps.len())
            .map(|n| self.of_step(graph, StepId(n as u32)))
            .collect();
        Columns::of_rows(
            titles
                .iter()
                .zip(&graph.steps)
                .map(|(title, step)| (&**title, &*step.say)),
        )
    }
}

/// The colour of a verdict.
pub fn ink_of(verdict: Verdict) -> Ink {
    match verdict {
        Verdict::Ran => Ink::Busy,
        Verdict::Current => Ink::Calm,
        Verdict::Reused => Ink::Found,
        Verdict::Failed => Ink::Wrong,
        Verdict::Blocked => Ink::Doubt,
        Verdict::Unstarted => Ink::Faint,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ROWS: [(&str, &str); 3] = [
        ("tide/tidecast", "compile main.c"),
        ("tide/tidecast (mode=release)", "compile main.c"),
        ("almanac/almanac", "bind the almanac"),
    ];

    fn shown(terminal: Option<usize>, (target, say): (&str, &str), why: &str) -> String {
        let paint = Paint {
            colours: false,
            glyphs: true,
            width: terminal,
            plain: false,
        };
        let row = StepRow {
            word: ("failed", Ink::Wrong),
            target,
            say,
            took: "0.08s",
            why,
            needs_reason: true,
        };
        Columns::of_rows(ROWS.into_iter()).lines(paint, row)
    }

    #[test]
    fn a_reason_is_whole_at_each_width() {
        let why = "there is no tool `catt`; the step that needs it is in almanac/targets.nub";
        for terminal in 20..130 {
            for row in ROWS {
                let text = shown(Some(terminal), row, why);
                let words = text.split_whitespace().collect::<Vec<&str>>().join(" ");
                assert!(words.contains(why), "{terminal}:\n{text}");
                let widest = text.lines().map(width).max().unwrap();
                assert!(widest < terminal.max(32), "{terminal} < {widest}:\n{text}");
                assert!(
                    terminal < 50 || text.contains("0.08s"),
                    "{terminal}:\n{text}"
                );
            }
        }
    }

    #[test]
    fn a_short_reason_is_in_the_line_where_there_is_room() {
        assert_eq!(
            shown(Some(80), ROWS[0], "never ran here"),
            "failed    tide/tidecast     compile main.c       0.08s  never ran here\n"
        );
        assert_eq!(
            shown(Some(80), ROWS[1], "exited with code 1"),
            "failed    tide/tidecast (mode=re…   compile…     0.08s  exited with code 1\n"
        );
        assert_eq!(
            shown(Some(120), ROWS[1], "exited with code 1"),
            "failed    tide/tidecast (mode=release)   compile main.c       0.08s  exited with code 1\n"
        );
    }
}
