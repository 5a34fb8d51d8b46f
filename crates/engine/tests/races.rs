//! What two steps do to one another when a source changes under both of them.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod fake;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use fake::{Bench, Joins, StoreOn};
use nubrik_engine::{Event, Listener, Options, Request, build};
use nubrik_graph::StepId;
use nubrik_source::WsPath;

/// Waits for a moment.
fn wait(moment: &AtomicBool) {
    while !moment.load(Ordering::SeqCst) {
        std::thread::yield_now();
    }
}

/// Lets the second step, which has its key, begin when the first one has ended.
struct OneAfterTheOther {
    examined: Arc<AtomicBool>,
    ended: AtomicBool,
}

impl Listener for OneAfterTheOther {
    fn hear(&self, event: &Event) {
        match event {
            Event::Done {
                step: StepId(0), ..
            } => self.ended.store(true, Ordering::SeqCst),
            Event::WillRun {
                step: StepId(1), ..
            } => {
                self.examined.store(true, Ordering::SeqCst);
                wait(&self.ended);
            }
            _ => {}
        }
    }
}

#[test]
fn a_step_whose_key_is_older_than_a_change_that_another_one_noticed_keeps_no_result() {
    let mut joins = Joins::new();
    joins.step(&["a"], &[]);
    joins.step(&["a"], &[]);
    let bench = Bench::new(&[("a", "ebb ")]);
    let examined = Arc::new(AtomicBool::new(false));
    // The first step runs while the source changes, and the second one has its key by then.
    let has_key = examined.clone();
    let before_first = move |made: &str| {
        if made.contains("f0") {
            wait(&has_key)
        }
    };
    assert!(bench.machine.before_run.set(Box::new(before_first)).is_ok());
    *bench.machine.moves.lock() = Some("a".to_owned());
    let graph = joins.finished();
    let files: Vec<_> = graph
        .steps
        .iter()
        .map(|step| step.outputs[0].file)
        .collect();
    let store = StoreOn(&bench.store, &bench.machine);
    let options = Options {
        jobs: 2,
        keep_going: true,
        ..Options::plain()
    };
    let (request, out) = (Request::whole(&graph, &files), WsPath::from_normal("out"));
    let heard = OneAfterTheOther {
        examined,
        ended: AtomicBool::new(false),
    };
    let outcome = build(
        request,
        &out,
        &bench.state,
        &bench.machine,
        Some(&store),
        &heard,
        options,
    );
    assert_eq!(
        (outcome.summary.counts.failed, outcome.summary.counts.ran),
        (2, 0)
    );
}
