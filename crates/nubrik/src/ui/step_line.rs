//! The line about a step: state, target, what it does, time, why.

use nubrik_engine::Verdict;
use nubrik_graph::Graph;

use super::paint::{Ink, Paint};
use super::text::{cut, padded, width};
use super::visible::visible;

/// Widths of the columns of step lines.
#[derive(Clone, Copy)]
pub struct Columns {
    target: usize,
    say: usize,
}

impl Columns {
    /// Widths that fit the steps of a graph.
    pub fn of(graph: &Graph) -> Columns {
        let widest = |texts: &mut dyn Iterator<Item = &str>, limit: usize| {
            texts.map(width).max().unwrap_or(0).min(limit)
        };
        let steps = || graph.steps.iter();
        Columns {
            target: graph
                .steps
                .iter()
                .map(|s| {
                    let variant = if s.variant.is_empty() { 0 } else { width(&s.variant) + 3 };
                    width(&graph.target(s.target).address) + variant
                })
                .max()
                .unwrap_or(0)
                .min(40),
            say: widest(&mut steps().map(|s| &*s.say), 36),
        }
    }
}

impl Columns {
    /// The columns on a terminal of some width: what a step does gives way before why it ran.
    fn within(self, width: usize) -> Columns {
        // In a narrow terminal why it ran says more than all of what it does.
        let least = if width < 72 { 12 } else { 16 };
        let say = self.say.min(width.saturating_sub(self.target + 40).max(least));
        // Verdict, gaps and time, then what is left for target and text.
        let room = width.saturating_sub(if width < 48 { 14 } else { 26 });
        let target = self.target.min(room.saturating_sub(say).max(room / 2));
        Columns { target, say: say.min(room - target) }
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

/// A line about a step: state, target, what it does, time, why. Cut to the terminal's width.
pub fn step_line(
    paint: Paint,
    columns: Columns,
    word: (&str, Ink),
    target: &str,
    say: &str,
    took: &str,
    why: &str,
) -> String {
    // Widths are those of what is shown.
    let (target, say, why) = (&*visible(target), &*visible(say), &*visible(why));
    let more = paint.glyph("…", "...");
    let fitted = |text: &str, columns: usize| match paint.width {
        Some(_) => padded(&cut(text, columns, more), columns),
        None => padded(text, columns),
    };
    let columns = paint.width.map_or(columns, |w| columns.within(w));
    let target = fitted(target, columns.target);
    let say = fitted(say, columns.say);
    let used = 10 + width(&target) + 3 + width(&say) + 2 + 8 + 2;
    // A few letters of a reason say nothing.
    let why = paint.width.map_or(why.to_owned(), |w| match w.saturating_sub(used + 1) {
        room if room < 8 => String::new(),
        room => cut(why, room, more),
    });
    // The narrowest ones have no room for times.
    let took = if paint.width.is_some_and(|w| w < used) { String::new() } else { format!("{took:>8}") };
    let line = format!(
        "{}{target}   {say}  {took}  {}",
        paint.ink(word.1, &format!("{:<10}", word.0)),
        paint.ink(Ink::Faint, &why)
    );
    line.trim_end().to_owned()
}

/// Whether the reason of a step has its place in the step's line, at least in part.
pub fn has_room(paint: Paint, columns: Columns, why: &str) -> bool {
    let Some(terminal) = paint.width else { return true };
    let columns = columns.within(terminal);
    let used = 10 + columns.target + 3 + columns.say + 2 + 8 + 2;
    terminal.saturating_sub(used + 1) >= width(why).min(SHORT_REASON)
}

/// A reason that is cut to this still tells something.
const SHORT_REASON: usize = 16;
