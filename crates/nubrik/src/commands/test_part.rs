//! `nubrik test --part`: which of the chosen tests this machine runs, where several share them.

use std::path::Path;

use nubrik_answers::{ChosenTests, PartEvent};
use nubrik_graph::{Graph, StepId};
use nubrik_reports::parts::{PartMark, Split, TestPart, TestTimes, times_of};
use nubrik_wording::{counted, duration};

use super::joining::read_report;
use super::{CommandResult, labelled};
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// The times in the report that is named.
pub fn read_times(console: Console, file: Option<&Path>) -> CommandResult<Option<TestTimes>> {
    file.map(|file| Ok(times_of(&read_report(console, file)?)))
        .transpose()
}

/// Keeps the tests of a part, and gives the mark for its report. All machines split alike if they
/// have the same tests and the same file of times: what this machine remembers does not count,
/// because others remember other times.
pub fn keep_part(
    console: Console,
    graph: &Graph,
    (part, times): (TestPart, Option<&TestTimes>),
    chosen: &mut ChosenTests,
) -> PartMark {
    let path = |step: StepId| {
        graph
            .step(step)
            .check
            .as_ref()
            .map_or("", |check| &check.address)
    };
    let paths: Vec<&str> = chosen.tests.iter().map(|(_, step)| path(*step)).collect();
    let split = Split::new(&paths, times.unwrap_or(&TestTimes::new()), part.of());
    let all = chosen.tests.len();
    chosen.leave(|step| (!split.has(path(step), part)).then(|| "in other parts".to_owned()));
    let tests = chosen.tests.len();
    let mark = split.mark(part);
    if console.is_json() {
        console.event(&PartEvent::of(
            part,
            (&split, &mark),
            tests,
            all,
            times.is_some(),
        ));
    } else {
        let mut text = format!("{part}: {} of {all}", counted(tests, "test"));
        if times.is_some() {
            text.push_str(&format!(
                ", which took {} together",
                duration(split.micros(part))
            ));
            if split.unknown() > 0 {
                let of = counted(split.unknown(), "test");
                text.push_str(&format!("; the times of {of} are not known"));
            }
        }
        let paint = console.paint(OutputStream::Output);
        outln!(console, "{}", labelled(paint, Ink::Calm, "part", &text));
    }
    mark
}
