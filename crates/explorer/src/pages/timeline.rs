//! Pictures of time: what ran when in a build, and how something went over builds.

use std::fmt::Write;

use maud::Markup;
use nubrik_session::{BuildRecord, StepRecord};
use nubrik_wording::{duration, xml};

use crate::look::raw;

/// How wide the time of a build is drawn, in units of the picture.
const WIDTH: f64 = 1_000.0;

/// Room on the left for the names of machines.
const LEFT: f64 = 110.0;

const ROW: f64 = 18.0;

/// More rows than this are not drawn.
const ROWS: usize = 64;

/// Steps that ran, in rows in which none is beside another one: those of this machine first, then
/// by machine.
pub(crate) fn rows(build: &BuildRecord) -> Vec<(String, Vec<&StepRecord>)> {
    let mut ran: Vec<&StepRecord> = build.done.iter().filter(|step| step.micros > 0).collect();
    ran.sort_by_key(|step| (step.machine.clone(), step.from));
    let mut rows: Vec<(String, Vec<&StepRecord>)> = Vec::new();
    for step in ran {
        let machine = step.machine.clone().unwrap_or_default();
        let is_free = |row: &(String, Vec<&StepRecord>)| {
            row.0 == machine
                && row
                    .1
                    .last()
                    .is_none_or(|last| last.from + last.micros <= step.from)
        };
        match rows.iter_mut().find(|row| is_free(row)) {
            Some(row) => row.1.push(step),
            None => rows.push((machine, vec![step])),
        }
    }
    rows
}

/// Round times up to an end, in microseconds: at most six, a power of ten, or twice or five times
/// one, apart.
fn ticks(end: u64) -> Vec<u64> {
    let mut apart = 1;
    for factor in [2, 5, 10].into_iter().cycle() {
        if end / apart <= 5 {
            break;
        }
        // 1, 2, 5, 10, 20, 50, …
        let power = 10u64.pow(apart.ilog10());
        apart = power * factor;
    }
    (0..=end / apart).map(|n| n * apart).collect()
}

/// Timeline. Nothing where nothing ran.
pub(crate) fn timeline(build: &BuildRecord) -> Option<Markup> {
    let rows = rows(build);
    if rows.is_empty() {
        return None;
    }
    let ends = build.done.iter().map(|step| step.from + step.micros);
    let end = ends.max().unwrap_or(1).max(build.micros).max(1);
    let scale = |micros: u64| LEFT + micros as f64 / end as f64 * WIDTH;
    let shown = rows.len().min(ROWS);
    let height = shown as f64 * ROW + 26.0;
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" role=\"img\" aria-label=\"Timeline\" viewBox=\"0 0 {:.0} {height:.0}\" width=\"100%\">",
        LEFT + WIDTH + 10.0
    );
    for at in ticks(end) {
        let x = scale(at);
        let near_end = x > LEFT + WIDTH - 20.0;
        let (anchor, y) = (if near_end { "end" } else { "middle" }, height - 6.0);
        let at = if at == 0 {
            "0".to_owned()
        } else {
            duration(at)
        };
        let _ = write!(
            out,
            "<line class=\"grid\" x1=\"{x:.1}\" x2=\"{x:.1}\" y1=\"0\" y2=\"{:.0}\"/><text class=\"axis soft\" x=\"{x:.1}\" y=\"{y:.0}\" text-anchor=\"{anchor}\">{at}</text>",
            height - 20.0
        );
    }
    let mut before = None;
    for (number, (machine, steps)) in rows.iter().take(ROWS).enumerate() {
        let y = number as f64 * ROW;
        if before != Some(machine) {
            write_machine(&mut out, machine, y + 13.0);
            before = Some(machine);
        }
        for step in steps {
            write_bar(&mut out, step, scale(step.from), (y, end));
        }
    }
    if rows.len() > ROWS {
        let _ = write!(
            out,
            "<text class=\"axis soft\" x=\"0\" y=\"{:.0}\">and {} more rows</text>",
            height - 6.0,
            rows.len() - ROWS
        );
    }
    Some(raw(out + "</svg>"))
}

/// The name of a machine before its rows, on such a line.
fn write_machine(out: &mut String, machine: &str, y: f64) {
    let name = match machine {
        "" => "this machine",
        machine => machine,
    };
    let cut: String = name.chars().take(16).collect();
    let cut = xml(&cut);
    let _ = write!(
        out,
        "<text class=\"axis\" x=\"0\" y=\"{y:.0}\">{cut}</text>"
    );
}

/// The bar of a step, which begins at `x`, in a row at `y`; the build took `end` microseconds.
fn write_bar(out: &mut String, step: &StepRecord, x: f64, (y, end): (f64, u64)) {
    let wide = (step.micros as f64 / end as f64 * WIDTH).max(1.5);
    let _ = write!(
        out,
        "<rect class=\"bar {}\" x=\"{x:.1}\" y=\"{:.0}\" width=\"{wide:.1}\" height=\"{:.0}\" rx=\"2\"><title>{} {}, {}: {}</title></rect>",
        xml(&step.state),
        y + 2.0,
        ROW - 5.0,
        xml(&step.target),
        xml(&step.say),
        duration(step.micros),
        xml(&step.reason)
    );
}

/// How something went, a square for each build: which build, what became of it, how long it took.
pub(crate) fn trend(builds: &[(u64, &str, u64)]) -> Markup {
    const SIDE: usize = 12;
    let last = &builds[builds.len().saturating_sub(40)..];
    let wide = last.len() * SIDE;
    let mut out = format!(
        "<svg class=\"trend\" xmlns=\"http://www.w3.org/2000/svg\" role=\"img\" aria-label=\"The last {} builds\" viewBox=\"0 0 {wide} {SIDE}\" width=\"{wide}\" height=\"{SIDE}\">",
        last.len()
    );
    for (number, (build, state, micros)) in last.iter().enumerate() {
        let _ = write!(
            out,
            "<rect class=\"square {}\" x=\"{}\" y=\"1\" width=\"{}\" height=\"{}\" rx=\"2\"><title>build {build}: {}, {}</title></rect>",
            xml(state),
            number * SIDE,
            SIDE - 2,
            SIDE - 2,
            xml(state),
            duration(*micros)
        );
    }
    raw(out + "</svg>")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ticks_are_round_and_few() {
        assert_eq!(ticks(1), [0, 1]);
        assert_eq!(ticks(5), [0, 1, 2, 3, 4, 5]);
        assert_eq!(ticks(1_760_000), [0, 500_000, 1_000_000, 1_500_000]);
        assert_eq!(ticks(999), [0, 200, 400, 600, 800]);
        for end in [1, 7, 12, 99, 101, 123_456, u64::from(u32::MAX)] {
            assert!(ticks(end).len() <= 6, "{end}");
        }
    }
}
