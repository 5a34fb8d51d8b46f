//! Steps that other machines run: whatever they answer, and however often, each step ends once, and
//! with the right result.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod fake;

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use fake::{Bench, FakeMachine, FakeStore, Joins, Log, StoreOn, team};
use nubrik_bytes::Layout;
use nubrik_engine::{
    Changes, Errand, FailedElsewhere, Failure, NamedThings, Options, Outcome, Performer, Request,
    State, StepAnswer, Verdict, build,
};
use nubrik_graph::StepId;
use nubrik_source::WsPath;
use nubrik_store::{Record, Store};
use parking_lot::Mutex;
use proptest::prelude::*;

const TAKES: Options = Options {
    shared_root: Some(team()),
    stay_away: true,
    ..Options::plain()
};

/// What another machine does with a step.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Deed {
    /// It makes it.
    Makes,
    /// It makes it, and so does a second one.
    MakesTwice,
    /// It says that it begins, and makes it.
    Begins,
    /// It does not make it.
    Refuses,
    /// The commands fail there.
    Fails,
    /// It refuses, and another one makes it nevertheless.
    RefusesAndMakes,
    /// It cannot be sent.
    IsGone,
    /// Nobody is free.
    IsBusy,
    /// It answers for a step that nobody sent.
    MakesAnother,
    /// Nothing is heard of it any more.
    Waits,
    /// It makes it, and meanwhile somebody edits a source of it here.
    MakesTooLate(&'static str),
}

const DEEDS: [Deed; 9] = [
    Deed::Makes,
    Deed::MakesTwice,
    Deed::Begins,
    Deed::Refuses,
    Deed::Fails,
    Deed::RefusesAndMakes,
    Deed::IsGone,
    Deed::IsBusy,
    Deed::MakesAnother,
];

/// Other machines that do what a script says, and answer in an order of their own.
struct Scripted<'s> {
    /// A machine that made all of it.
    other: StoreOn<'s>,
    deeds: Mutex<VecDeque<Deed>>,
    answers: Mutex<VecDeque<(StepId, StepAnswer)>>,
    is_stack: bool,
    /// The machine that sends steps.
    here: Option<&'s FakeMachine>,
    withdrawn: Mutex<Vec<StepId>>,
}

impl Scripted<'_> {
    fn deed(&self) -> Deed {
        self.deeds.lock().pop_front().unwrap_or(Deed::Makes)
    }

    fn made(&self, errand: &Errand) -> StepAnswer {
        let record = self.other.record(&errand.first_key);
        let made =
            |record: Record| StepAnswer::Made(Box::new(record.entries[0].clone()), "mill".into());
        record.map_or_else(|| StepAnswer::Not("it has none".into()), made)
    }
}

impl Performer for Scripted<'_> {
    fn begin(&self) {}

    fn ask(&self, _: &[Arc<str>], _: &[Arc<str>]) -> Result<NamedThings, Arc<str>> {
        Err("nobody is asked".into())
    }

    fn has_place(&self, _: &[Arc<str>], _: bool) -> bool {
        let mut deeds = self.deeds.lock();
        let is_busy = deeds.front() == Some(&Deed::IsBusy);
        if is_busy {
            deeds.pop_front();
        }
        !is_busy
    }

    fn send(&self, errand: &Errand) -> bool {
        let step = errand.step;
        let answers = match self.deed() {
            Deed::IsGone | Deed::IsBusy => return false,
            Deed::Waits => Vec::new(),
            Deed::Makes => vec![(step, self.made(errand))],
            Deed::MakesTwice => vec![(step, self.made(errand)), (step, self.made(errand))],
            Deed::Begins => {
                let begun = StepAnswer::Begun {
                    machine: "mill".into(),
                    unpacks: false,
                };
                vec![(step, begun), (step, self.made(errand))]
            }
            Deed::MakesTooLate(source) => {
                let made = self.made(errand);
                self.here.unwrap().write(source, "moved ");
                vec![(step, made)]
            }
            Deed::Fails => {
                let (failure, machine) = (Failure::Code(1), "mill".into());
                let failed = FailedElsewhere {
                    failure,
                    printed: Vec::new(),
                    micros: 1,
                    machine,
                };
                vec![(step, StepAnswer::Failed(Box::new(failed)))]
            }
            Deed::Refuses => vec![(step, StepAnswer::Not("not now".into()))],
            Deed::RefusesAndMakes => {
                vec![
                    (step, StepAnswer::Not("not now".into())),
                    (step, self.made(errand)),
                ]
            }
            Deed::MakesAnother => {
                vec![
                    (StepId(step.0 + 1_000), self.made(errand)),
                    (step, self.made(errand)),
                ]
            }
        };
        self.answers.lock().extend(answers);
        true
    }

    fn receive(&self, within: Duration) -> Option<(StepId, StepAnswer)> {
        let mut answers = self.answers.lock();
        let next = if self.is_stack {
            answers.pop_back()
        } else {
            answers.pop_front()
        };
        drop(answers);
        if next.is_none() {
            std::thread::sleep(within / 20);
        }
        next
    }

    fn withdraw(&self, step: StepId) {
        self.withdrawn.lock().push(step);
    }

    fn abandon(&self) {}
}

fn built(
    (machine, store, state): (&FakeMachine, &FakeStore, &mut State),
    joins: &Joins,
    crew: &Scripted<'_>,
    jobs: usize,
) -> (Outcome, Vec<String>) {
    let graph = joins.finished();
    let files = [graph.steps.last().unwrap().outputs[0].file];
    let log = Log::default();
    let store = StoreOn(store, machine);
    let request = Request {
        performer: Some(crew),
        ..Request::whole(&graph, &files)
    };
    let out = WsPath::from_normal("out");
    let options = Options { jobs, ..TAKES };
    let mut outcome = build(request, &out, state, machine, Some(&store), &log, options);
    let changes = std::mem::take(&mut outcome.changes);
    machine.wait();
    state.take(Changes::of_bytes(&changes.to_bytes()).unwrap());
    (outcome, log.0.into_inner())
}

fn crew<'s>(other: &'s Bench, deeds: &[Deed], is_stack: bool) -> Scripted<'s> {
    Scripted {
        other: StoreOn(&other.store, &other.machine),
        deeds: Mutex::new(deeds.iter().copied().collect()),
        answers: Mutex::default(),
        is_stack,
        here: None,
        withdrawn: Mutex::default(),
    }
}

/// A machine that made a graph's steps, whose results others take.
fn maker(files: &[(&str, &str)], joins: &Joins) -> Bench {
    let mut other = Bench::new(files);
    other.build(joins);
    other.store.is_given.store(true, Ordering::SeqCst);
    other
}

fn newcomer(files: &[(&str, &str)], other: &Bench) -> Bench {
    let bench = Bench {
        store: other.store.contents_only(),
        ..Bench::new(files)
    };
    bench.store.is_far.store(true, Ordering::SeqCst);
    bench
}

/// Three steps in a row.
fn row() -> Joins {
    let mut joins = Joins::new();
    let first = joins.step(&["a"], &[]);
    let second = joins.step(&["b"], &[first]);
    joins.step(&["c"], &[second]);
    joins
}

const SOURCES: [(&str, &str); 3] = [("a", "ebb "), ("b", "flow "), ("c", "slack")];

#[test]
fn it_is_heard_who_runs_a_step_and_what_nobody_runs_runs_here() {
    let joins = row();
    let other = maker(&SOURCES, &joins);
    let mut bench = newcomer(&SOURCES, &other);
    let mill = crew(
        &other,
        &[Deed::Begins, Deed::Refuses, Deed::MakesTwice],
        false,
    );
    let (outcome, log) = built(
        (&bench.machine, &bench.store, &mut bench.state),
        &joins,
        &mill,
        1,
    );
    assert!(outcome.is_complete());
    let expected = [
        "began 3",
        "will run 0",
        "mill runs 0",
        "ran 0: never built here",
        "will run 1",
        "will run 1",
        "ran 1: never built here",
        "will run 2",
        "ran 2: never built here",
    ];
    assert_eq!(log, expected);
    assert_eq!((outcome.summary.counts.ran, outcome.sent), (3, 2));
    assert_eq!(bench.machine.text("made/@f2/f2").unwrap(), "slackflow ebb ");
}

#[test]
fn what_fails_only_on_another_machine_is_said() {
    let joins = row();
    let other = maker(&SOURCES, &joins);
    let mut bench = newcomer(&SOURCES, &other);
    let mill = crew(&other, &[Deed::Makes, Deed::Fails, Deed::Makes], false);
    let (outcome, log) = built(
        (&bench.machine, &bench.store, &mut bench.state),
        &joins,
        &mill,
        1,
    );
    assert!(outcome.is_complete());
    let notices: Vec<&String> = log
        .iter()
        .filter(|line| line.starts_with("notice"))
        .collect();
    assert_eq!(notices.len(), 1, "{log:#?}");
    assert!(
        notices[0].contains("FailedOnlyThere") && notices[0].contains("\"mill\""),
        "{notices:?}"
    );
    assert_eq!(bench.machine.text("made/@f2/f2").unwrap(), "slackflow ebb ");
}

#[test]
fn what_only_waits_there_is_begun_by_who_has_nothing_to_do() {
    let joins = row();
    let other = maker(&SOURCES, &joins);
    let mut bench = newcomer(&SOURCES, &other);
    let mill = crew(&other, &[Deed::Makes, Deed::Waits, Deed::Makes], false);
    let (outcome, log) = built(
        (&bench.machine, &bench.store, &mut bench.state),
        &joins,
        &mill,
        1,
    );
    assert!(outcome.is_complete());
    assert_eq!(
        (outcome.summary.counts.ran, outcome.sent),
        (3, 2),
        "{log:#?}"
    );
    assert_eq!(
        log.iter().filter(|line| *line == "will run 1").count(),
        2,
        "{log:#?}"
    );
    assert_eq!(*mill.withdrawn.lock(), [StepId(1)]);
    assert_eq!(bench.machine.text("made/@f2/f2").unwrap(), "slackflow ebb ");
}

#[test]
fn an_answer_for_sources_that_changed_meanwhile_does_not_count() {
    let joins = row();
    let other = maker(&SOURCES, &joins);
    let mut bench = newcomer(&SOURCES, &other);
    // While the first step runs there, its source changes here: the result is of what is no more.
    let mill = crew(&other, &[Deed::MakesTooLate("a")], false);
    let mill = Scripted {
        here: Some(&bench.machine),
        ..mill
    };
    let parts = (&bench.machine, &bench.store, &mut bench.state);
    let (outcome, log) = built(parts, &joins, &mill, 1);
    assert!(outcome.is_complete() && outcome.sent == 0, "{log:#?}");
    // It ran here, of what is there.
    assert_eq!(
        bench.machine.text("made/@f2/f2").unwrap(),
        "slackflow moved "
    );
    let mill = crew(&other, &[], false);
    let (_, log) = built(
        (&bench.machine, &bench.store, &mut bench.state),
        &joins,
        &mill,
        1,
    );
    assert_eq!(log, ["began 3", "current 0", "current 1", "current 2"]);
    assert_eq!(
        bench.machine.text("made/@f2/f2").unwrap(),
        "slackflow moved "
    );
}

const NAMES: [&str; 4] = ["a", "b", "c", "d"];

/// The steps, of those before one, that it reads.
fn needs_of(needs: &[usize], step: usize) -> Vec<usize> {
    let mut needs: Vec<usize> = needs
        .iter()
        .map(|need| need % step.max(1))
        .filter(|n| *n < step)
        .collect();
    needs.sort_unstable();
    needs.dedup();
    needs
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..Default::default() })]

    #[test]
    fn whatever_others_answer_each_step_ends_once_and_right(
        shape in prop::collection::vec((0usize..4, prop::collection::vec(0usize..9, 0..3)), 1..10),
        deeds in prop::collection::vec(prop::sample::select(&DEEDS[..]), 0..20),
        losses in prop::collection::vec(prop::bool::weighted(0.1), 0..10),
        is_stack in any::<bool>(),
        jobs in 1usize..4,
    ) {
        let sources: Vec<(&str, &str)> = NAMES.iter().map(|name| (*name, *name)).collect();
        let mut joins = Joins::new();
        let mut made = Vec::new();
        for (number, (source, needs)) in shape.iter().enumerate() {
            let needs: Vec<_> = needs_of(needs, number).iter().map(|need| made[*need]).collect();
            made.push(joins.step(&[NAMES[*source]], &needs));
        }
        let other = maker(&sources, &joins);
        let mut bench = newcomer(&sources, &other);
        *bench.store.losses.lock() = VecDeque::from(losses);
        let mut goes = 0;
        loop {
            let mill = crew(&other, &deeds, is_stack);
            let (outcome, log) = built((&bench.machine, &bench.store, &mut bench.state), &joins, &mill, jobs);
            for step in 0..shape.len() {
                let ends = log.iter().filter(|line| {
                    let of_step = |word: &str| line.starts_with(&format!("{word} {step}"));
                    [Verdict::Ran, Verdict::Reused, Verdict::Unstarted, Verdict::Current]
                        .iter()
                        .any(|verdict| of_step(verdict.word()) && !line.contains(&format!("{step}0:")))
                });
                prop_assert!(ends.count() <= 1, "{log:#?}");
            }
            if outcome.lost == 0 {
                prop_assert!(outcome.is_complete(), "{log:#?}");
                break;
            }
            goes += 1;
            prop_assert!(goes <= shape.len() + 2, "it does not end: {log:#?}");
        }
        let last = shape.len() - 1;
        let text = bench.machine.text(&format!("made/@f{last}/f{last}"));
        prop_assert_eq!(text, other.machine.text(&format!("made/@f{last}/f{last}")));
    }
}
