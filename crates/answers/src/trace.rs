//! When the steps of a build ran, in the open trace event format.

use nubrik_session::{BuildRecord, StepRecord};
use serde::Serialize;

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

/// When the steps of a build ran, as the text of a file.
pub fn trace_of(record: &BuildRecord) -> String {
    serde_json::to_string(&events(record)).unwrap_or_default()
}

/// Steps of a build as spans, each on the first lane of its machine that is free; this machine's
/// are those of the first process.
fn events(record: &BuildRecord) -> Trace<'_> {
    let mut steps: Vec<&StepRecord> = record.done.iter().filter(|s| s.micros > 0).collect();
    steps.sort_by_key(|s| s.from);
    let mut machines: Vec<Option<&str>> = vec![None];
    let mut all_lanes: Vec<Vec<u64>> = vec![Vec::new()];
    let mut spans = Vec::new();
    for step in steps {
        let machine = step.machine.as_deref();
        let number = machines
            .iter()
            .position(|known| *known == machine)
            .unwrap_or(machines.len());
        if number == machines.len() {
            machines.push(machine);
            all_lanes.push(Vec::new());
        }
        let lanes = &mut all_lanes[number];
        let lane = lanes
            .iter()
            .position(|free| *free <= step.from)
            .unwrap_or(lanes.len());
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
            args: Args {
                target: &step.target,
                why: &step.reason,
                machine,
            },
        });
    }
    Trace {
        trace_events: spans,
        display_time_unit: "ms",
    }
}
