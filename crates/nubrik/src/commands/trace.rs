//! `nubrik trace`

use std::path::Path;

use nubrik_session::{BuildRecord, StepRecord};
use serde::Serialize;

use super::history::find;
use super::{CommandResult, open, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, outln};

/// A span of time in the open trace event format: times in microseconds.
#[derive(Serialize)]
struct TraceSpan<'a> {
    name: &'a str,
    cat: &'a str,
    ph: &'static str,
    ts: u64,
    dur: u64,
    pid: u32,
    tid: usize,
    args: Args<'a>,
}

#[derive(Serialize)]
struct Args<'a> {
    target: &'a str,
    why: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    machine: Option<&'a str>,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Trace<'a> {
    trace_events: Vec<TraceSpan<'a>>,
    display_time_unit: &'static str,
}

pub fn trace(
    console: Console,
    choice: &Choice,
    number: Option<u64>,
    to: Option<&Path>,
) -> CommandResult<Exit> {
    let session = open(console, choice)?;
    let record = find(console, &session, number)?;
    let Some(path) = to else {
        console.event(&events(&record));
        return Ok(Exit::Done);
    };
    let text = serde_json::to_string(&events(&record)).unwrap_or_default();
    super::write_whole(path, &text).map_err(|e| {
        let message = format!("cannot write {}: {e}", path.display());
        say_wrong(console, Exit::Own, &message, &["nubrik trace --to trace.json"])
    })?;
    outln!(console, "build {} is in {}; any viewer of trace events opens it", record.build, path.display());
    Ok(Exit::Done)
}

/// Steps of a build as spans, each on the first lane of its machine that is free; this machine's are those of the first process.
fn events(record: &BuildRecord) -> Trace<'_> {
    let mut steps: Vec<&StepRecord> = record.done.iter().filter(|s| s.micros > 0).collect();
    steps.sort_by_key(|s| s.from);
    let mut machines: Vec<Option<&str>> = vec![None];
    let mut all_lanes: Vec<Vec<u64>> = vec![Vec::new()];
    let mut spans = Vec::new();
    for step in steps {
        let machine = step.machine.as_deref();
        let number = machines.iter().position(|known| *known == machine).unwrap_or(machines.len());
        if number == machines.len() {
            machines.push(machine);
            all_lanes.push(Vec::new());
        }
        let lanes = &mut all_lanes[number];
        let lane = lanes.iter().position(|free| *free <= step.from).unwrap_or(lanes.len());
        if lane == lanes.len() {
            lanes.push(0);
        }
        lanes[lane] = step.from + step.micros;
        spans.push(TraceSpan {
            name: &step.say,
            cat: &step.state,
            ph: "X",
            ts: step.from,
            dur: step.micros,
            pid: number as u32 + 1,
            tid: lane + 1,
            args: Args { target: &step.target, why: &step.reason, machine },
        });
    }
    Trace { trace_events: spans, display_time_unit: "ms" }
}
