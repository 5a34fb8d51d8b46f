//! What an evaluation is, without the numbers of its rows: two that mean the same are equal.

use std::collections::BTreeSet;

use nubrik_bytes::Encoder;
use nubrik_diagnostic::Severity;
use nubrik_graph::{FileId, Purpose, Step, TargetId, write_step, write_target};
use nubrik_lang::Evaluation;

/// What an evaluation without errors is, without the numbers of rows.
#[derive(PartialEq, Debug)]
pub struct Described {
    /// Targets and results that were asked for, in their order.
    targets: Vec<Vec<u8>>,
    requested: Vec<Vec<u8>>,
    /// All declared targets, steps and files.
    rows: BTreeSet<Vec<u8>>,
    steps: BTreeSet<Vec<u8>>,
    files: BTreeSet<(String, bool)>,
}

/// What an evaluation resulted in, without the numbers of its rows; `None` where something is
/// wrong.
pub fn described(evaluation: &Evaluation) -> Option<Described> {
    if evaluation
        .diagnostics
        .iter()
        .any(|d| d.severity == Severity::Error)
    {
        return None;
    }
    let graph = &evaluation.graph;
    let bytes = |write: &dyn Fn(&mut Encoder)| {
        let mut out = Encoder::new();
        write(&mut out);
        out.bytes
    };
    let target =
        |id: &TargetId| bytes(&|out| write_target(graph, graph.target(*id), Purpose::Whole, out));
    let step = |step: &Step| {
        let mut may_read: Vec<&str> = graph
            .candidates(step)
            .map(|f| graph.file(f).path.as_str())
            .collect();
        may_read.sort_unstable();
        bytes(&|out| {
            write_step(graph, step, Purpose::Whole, out);
            out.text(&graph.target(step.target).address);
            out.list(&may_read, |out, path| out.text(path));
        })
    };
    let file = |id: &FileId| graph.file(*id).path.as_str().as_bytes().to_vec();
    let rows = graph.targets.iter().filter(|row| row.is_declared());
    Some(Described {
        targets: evaluation.targets.iter().map(target).collect(),
        requested: evaluation.requested.iter().map(file).collect(),
        rows: rows
            .map(|row| bytes(&|out| write_target(graph, row, Purpose::Whole, out)))
            .collect(),
        steps: graph.steps.iter().map(|s| step(s)).collect(),
        files: graph
            .files
            .iter()
            .map(|file| (file.path.to_string(), file.folder))
            .collect(),
    })
}
