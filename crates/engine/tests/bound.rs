//! Steps that only another kind of machine runs: what counts of it is asked there, and nothing is
//! done where nobody is.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod fake;

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use fake::{Bench, FakeMachine, FakeStore, Joins, Log, StoreOn, team};
use nubrik_bytes::Digest;
use nubrik_bytes::Layout;
use nubrik_engine::{
    Changes, Errand, FailedElsewhere, Failure, NamedThings, Options, Performer, Request, State,
    StepAnswer, build,
};
use nubrik_graph::StepId;
use nubrik_source::WsPath;
use nubrik_store::Store;
use parking_lot::Mutex;

/// A board on which a kind of step runs.
struct Board<'b> {
    other: StoreOn<'b>,
    /// What its tool is; nothing where nobody is there.
    tool: Option<&'static str>,
    fails: bool,
    asked: Mutex<Vec<Arc<str>>>,
    answers: Mutex<VecDeque<(StepId, StepAnswer)>>,
}

fn board<'b>(other: &'b Bench, tool: Option<&'static str>, fails: bool) -> Board<'b> {
    let other = StoreOn(&other.store, &other.machine);
    Board {
        other,
        tool,
        fails,
        asked: Mutex::default(),
        answers: Mutex::default(),
    }
}

impl Performer for Board<'_> {
    fn begin(&self) {}

    fn has_place(&self, _: &[Arc<str>], _: bool) -> bool {
        false
    }

    fn ask(&self, machine: &[Arc<str>], names: &[Arc<str>]) -> Result<NamedThings, Arc<str>> {
        assert!(machine.iter().any(|label| &**label == "board"));
        let tool = self.tool.ok_or("the board is off")?;
        self.asked.lock().extend(names.iter().cloned());
        Ok(names
            .iter()
            .map(|name| (name.clone(), Some(Digest::of(tool.as_bytes()))))
            .collect())
    }

    fn send(&self, errand: &Errand) -> bool {
        assert!(errand.is_bound && errand.machine.iter().any(|label| &**label == "board"));
        let answer = match (self.tool, self.fails, self.other.record(&errand.first_key)) {
            (None, ..) => return false,
            (_, true, _) => StepAnswer::Failed(Box::new(FailedElsewhere {
                failure: Failure::Code(3),
                printed: b"no water".to_vec(),
                micros: 7,
                machine: "board-1".into(),
            })),
            (_, _, Some(record)) => {
                StepAnswer::Made(Box::new(record.entries[0].clone()), "board-1".into())
            }
            (_, _, None) => StepAnswer::Not("it has another key there".into()),
        };
        self.answers.lock().push_back((errand.step, answer));
        true
    }

    fn receive(&self, within: Duration) -> Option<(StepId, StepAnswer)> {
        let next = self.answers.lock().pop_front();
        if next.is_none() {
            std::thread::sleep(within / 20);
        }
        next
    }

    fn withdraw(&self, _: StepId) {}

    fn abandon(&self) {}
}

/// A step here, one on the board that reads it, and one here that reads that.
fn steps() -> Joins {
    let mut joins = Joins::new();
    let first = joins.step(&["a"], &[]);
    let second = joins.step(&[], &[first]);
    joins.step(&["c"], &[second]);
    joins.graph.steps[second as usize]
        .machine
        .push("board".into());
    joins
}

const SOURCES: [(&str, &str); 2] = [("a", "ebb "), ("c", "slack")];

fn built(
    (machine, store, state): (&FakeMachine, &FakeStore, &mut State),
    board: Option<&Board<'_>>,
) -> (bool, Vec<String>) {
    let graph = steps().finished();
    let files = [graph.steps.last().unwrap().outputs[0].file];
    let log = Log::default();
    let store = StoreOn(store, machine);
    let performer = board.map(|board| board as &dyn Performer);
    let request = Request {
        performer,
        ..Request::whole(&graph, &files)
    };
    let options = Options {
        jobs: 1,
        shared_root: Some(team()),
        ..Options::plain()
    };
    let mut outcome = build(
        request,
        &WsPath::from_normal("out"),
        state,
        machine,
        Some(&store),
        &log,
        options,
    );
    let changes = std::mem::take(&mut outcome.changes);
    machine.wait();
    state.take(Changes::of_bytes(&changes.to_bytes()).unwrap());
    (outcome.is_complete(), log.0.into_inner())
}

/// A machine that is all that steps say, with a tool, and what it made of some sources.
fn maker(sources: &[(&str, &str)], tool: &'static str) -> Bench {
    let mut other = Bench::new(sources);
    other.machine.is_all.store(true, Ordering::SeqCst);
    *other.machine.tool.lock() = Some(tool);
    other.build(&steps());
    other.store.is_given.store(true, Ordering::SeqCst);
    other
}

fn newcomer(other: &Bench) -> Bench {
    let bench = Bench {
        store: other.store.contents_only(),
        ..Bench::new(&SOURCES)
    };
    bench.store.is_far.store(true, Ordering::SeqCst);
    bench
}

#[test]
fn what_only_a_board_runs_counts_by_what_the_board_has() {
    let other = maker(&SOURCES, "one");
    let mut bench = newcomer(&other);
    let on = board(&other, Some("one"), false);
    let (complete, log) = built((&bench.machine, &bench.store, &mut bench.state), Some(&on));
    assert!(complete, "{log:#?}");
    assert_eq!(bench.machine.text("made/@f2/f2").unwrap(), "slackebb ");
    assert_eq!(*on.asked.lock(), [Arc::from("join")]);
    // It is asked again, and nothing changed.
    let (_, log) = built((&bench.machine, &bench.store, &mut bench.state), Some(&on));
    assert_eq!(log, ["began 3", "current 0", "current 1", "current 2"]);
    // Without it, all is taken to be as it was, and that is reported.
    let off = board(&other, None, false);
    for board in [None, Some(&off)] {
        let (complete, log) = built((&bench.machine, &bench.store, &mut bench.state), board);
        assert!(
            complete && log.iter().any(|line| line.contains("NotAsked")),
            "{log:#?}"
        );
        assert_eq!(
            log.iter()
                .filter(|line| line.starts_with("current"))
                .count(),
            3
        );
    }
    // Another tool on the board makes it run again there.
    let newer = maker(&SOURCES, "two");
    let on = board(&newer, Some("two"), false);
    bench.store = newer.store.contents_only();
    bench.store.is_far.store(true, Ordering::SeqCst);
    let (complete, log) = built((&bench.machine, &bench.store, &mut bench.state), Some(&on));
    assert!(
        complete && log.contains(&"ran 1: the tool join changed".to_owned()),
        "{log:#?}"
    );
}

#[test]
fn where_nobody_is_there_it_fails_and_says_so() {
    let other = maker(&SOURCES, "one");
    let off = board(&other, None, false);
    for board in [None, Some(&off)] {
        let mut bench = newcomer(&other);
        let (complete, log) = built((&bench.machine, &bench.store, &mut bench.state), board);
        assert!(
            !complete && log.iter().any(|line| line.starts_with("failed 1")),
            "{log:#?}"
        );
        // What only reads it is not tried, and the tool of this machine makes nothing of it.
        assert!(
            log.iter().any(|line| line.starts_with("blocked 2")),
            "{log:#?}"
        );
        assert_eq!(bench.machine.text("made/@f1/f1"), None);
    }
}

#[test]
fn what_fails_on_the_board_fails_here() {
    let other = maker(&SOURCES, "one");
    let mut bench = newcomer(&other);
    let on = board(&other, Some("one"), true);
    let (complete, log) = built((&bench.machine, &bench.store, &mut bench.state), Some(&on));
    assert!(
        !complete && log.iter().any(|line| line.starts_with("failed 1")),
        "{log:#?}"
    );
    // It runs there again, since it failed before.
    let on = board(&other, Some("one"), false);
    let (complete, log) = built((&bench.machine, &bench.store, &mut bench.state), Some(&on));
    assert!(
        complete && log.iter().any(|line| line == "ran 1: failed last time"),
        "{log:#?}"
    );
}

#[test]
fn a_result_of_another_key_does_not_count() {
    // What it made is of another tool than it says it has.
    let other = maker(&SOURCES, "two");
    let mut bench = newcomer(&other);
    let on = board(&other, Some("one"), false);
    let (complete, log) = built((&bench.machine, &bench.store, &mut bench.state), Some(&on));
    assert!(
        !complete && log.iter().any(|line| line.starts_with("failed 1")),
        "{log:#?}"
    );
}
