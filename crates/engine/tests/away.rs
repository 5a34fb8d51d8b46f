//! Results that others gave: what nothing here needs stays where it is, and what cannot be had is
//! made here.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod fake;

use std::collections::VecDeque;
use std::sync::atomic::Ordering;

use fake::{Bench, FakeStore, Joins, team};
use nubrik_engine::Options;
use proptest::prelude::*;

const TAKES: Options = Options {
    shared_root: Some(team()),
    stay_away: true,
    ..Options::plain()
};

/// A machine without any state of its own, and a store with what another one made of the same.
fn newcomer(files: &[(&str, &str)], store: FakeStore) -> Bench {
    let bench = Bench {
        store,
        ..Bench::new(files)
    };
    bench.store.is_given.store(true, Ordering::SeqCst);
    bench.store.is_far.store(true, Ordering::SeqCst);
    bench
}

/// Three steps in a row, of which the last one is asked for.
fn row() -> Joins {
    let mut joins = Joins::new();
    let first = joins.step(&["a"], &[]);
    let second = joins.step(&["b"], &[first]);
    joins.step(&["c"], &[second]);
    joins
}

const SOURCES: [(&str, &str); 3] = [("a", "ebb "), ("b", "flow "), ("c", "slack")];

fn given(joins: &Joins) -> FakeStore {
    let mut other = Bench::new(&SOURCES);
    other.build(joins);
    other.store
}

#[test]
fn only_what_is_asked_for_comes_until_a_step_needs_more() {
    let joins = row();
    let mut bench = newcomer(&SOURCES, given(&joins));
    let (outcome, log) = bench.build_with(&joins, TAKES);
    let here = "not in this workspace yet";
    assert_eq!(
        log,
        [
            "began 3",
            &format!("reused 0: {here}"),
            &format!("reused 1: {here}"),
            &format!("reused 2: {here}")
        ]
    );
    assert!(outcome.is_complete());
    assert_eq!(bench.machine.text("made/@f2/f2").unwrap(), "slackflow ebb ");
    assert_eq!(
        (
            bench.machine.text("made/@f0/f0"),
            bench.machine.text("made/@f1/f1")
        ),
        (None, None)
    );
    assert_eq!(bench.store.brought.load(Ordering::SeqCst), 1);
    assert_eq!(
        bench.build_with(&joins, TAKES).1,
        ["began 3", "current 0", "current 1", "current 2"]
    );
    // The last step runs again: it reads what the second one made, and nobody reads what the first
    // one did.
    bench.machine.write("c", "neap ");
    let (_, log) = bench.build_with(&joins, TAKES);
    assert_eq!(
        log,
        [
            "began 3",
            "current 0",
            "current 1",
            "will run 2",
            "ran 2: c changed"
        ]
    );
    assert_eq!(bench.machine.text("made/@f2/f2").unwrap(), "neap flow ebb ");
    assert_eq!(bench.machine.text("made/@f0/f0"), None);
    // It is here now, and somebody edits it.
    bench.machine.write("made/@f1/f1", "something else");
    let (_, log) = bench.build_with(&joins, TAKES);
    assert_eq!(log[2], "reused 1: its output f1 was edited");
}

#[test]
fn results_of_the_store_in_use_count_and_of_no_other_one() {
    let joins = row();
    let ran = |shared_root, bench: &mut Bench| {
        bench.store.is_far.store(false, Ordering::SeqCst);
        let options = Options {
            shared_root,
            ..Options::plain()
        };
        bench.build_with(&joins, options).0.summary.counts.ran
    };
    let newcomer = || newcomer(&SOURCES, given(&joins));
    assert_eq!(ran(Some(team()), &mut newcomer()), 0);
    assert_eq!(ran(Some(nubrik_bytes::Digest([8; 32])), &mut newcomer()), 3);
    assert_eq!(ran(None, &mut newcomer()), 3);
}

#[test]
fn what_cannot_be_had_any_more_is_made_with_all_that_it_needs() {
    let joins = row();
    let mut bench = newcomer(&SOURCES, given(&joins));
    bench.build_with(&joins, TAKES);
    bench.machine.write("c", "neap ");
    bench.store.loses.store(true, Ordering::SeqCst);
    let (outcome, log) = bench.build_with(&joins, TAKES);
    assert_eq!(
        log,
        [
            "began 3",
            "current 0",
            "current 1",
            "unstarted 2: the build stopped first"
        ]
    );
    assert!(outcome.lost == 2 && !outcome.is_complete());
    let (outcome, log) = bench.build_with(
        &joins,
        Options {
            stay_away: false,
            ..TAKES
        },
    );
    let lost = "its result was not downloaded before, and cannot be now";
    assert_eq!(
        log,
        [
            "began 3",
            "will run 0",
            &format!("ran 0: {lost}"),
            "will run 1",
            &format!("ran 1: {lost}"),
            "will run 2",
            "ran 2: c changed"
        ]
    );
    assert!(outcome.is_complete());
    assert_eq!(bench.machine.text("made/@f2/f2").unwrap(), "neap flow ebb ");
}

#[test]
fn who_only_looks_brings_nothing() {
    let joins = row();
    let mut bench = newcomer(&SOURCES, given(&joins));
    bench.build_with(&joins, TAKES);
    let brought = bench.store.brought.load(Ordering::SeqCst);
    let store = fake::StoreOn(&bench.store, &bench.machine);
    let graph = joins.finished();
    let last = graph.steps.last().unwrap().outputs[0].file;
    let planned = nubrik_engine::plan(
        nubrik_engine::Request::whole(&graph, &[last]),
        &bench.state,
        &bench.machine,
        Some(&store),
        &fake::Log::default(),
        nubrik_engine::Supposed::default(),
    );
    assert!(
        planned
            .iter()
            .all(|step| step.verdict == nubrik_engine::Verdict::Current)
    );
    assert_eq!(bench.store.brought.load(Ordering::SeqCst), brought);
    assert_eq!(bench.machine.text("made/@f0/f0"), None);
}

/// Sources of the drawn graphs.
const NAMES: [&str; 4] = ["a", "b", "c", "d"];

/// What a step makes of what it reads.
fn expected(shape: &[(usize, Vec<usize>)], texts: &[String], step: usize) -> String {
    let (source, needs) = &shape[step];
    let mut needs: Vec<usize> = needs
        .iter()
        .map(|need| need % step.max(1))
        .filter(|need| *need < step)
        .collect();
    needs.sort_unstable();
    needs.dedup();
    let made = needs.iter().map(|need| expected(shape, texts, *need));
    std::iter::once(texts[*source].clone())
        .chain(made)
        .collect()
}

fn graph_of(shape: &[(usize, Vec<usize>)]) -> Joins {
    let mut joins = Joins::new();
    let mut made = Vec::new();
    for (number, (source, needs)) in shape.iter().enumerate() {
        let mut needs: Vec<usize> = needs
            .iter()
            .map(|need| need % number.max(1))
            .filter(|need| *need < number)
            .collect();
        needs.sort_unstable();
        needs.dedup();
        let needs: Vec<_> = needs.iter().map(|need| made[*need]).collect();
        made.push(joins.step(&[NAMES[*source]], &needs));
    }
    joins
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, failure_persistence: None, ..Default::default() })]

    #[test]
    fn with_a_store_that_fails_at_random_results_are_those_from_nothing(
        shape in prop::collection::vec((0usize..4, prop::collection::vec(0usize..8, 0..3)), 1..8),
        states in prop::collection::vec((prop::collection::vec("[abc]{1,2}", 4), any::<bool>()), 1..8),
        losses in prop::collection::vec(prop::bool::weighted(0.3), 0..60),
        jobs in 1usize..4,
    ) {
        let joins = graph_of(&shape);
        let named = |texts: &[String]| NAMES.iter().zip(texts).map(|(n, t)| (*n, t.clone())).collect::<Vec<_>>();
        let mut other = Bench::new(&[]);
        // Another machine makes some of the states.
        for (texts, _) in states.iter().filter(|(_, is_made)| *is_made) {
            for (name, text) in named(texts) {
                other.machine.write(name, &text);
            }
            other.machine.wait();
            other.build(&joins);
        }
        let mut bench = newcomer(&[], other.store);
        *bench.store.losses.lock() = VecDeque::from(losses);
        for (texts, _) in &states {
            for (name, text) in named(texts) {
                if bench.machine.text(name).as_deref() != Some(text.as_str()) {
                    bench.machine.write(name, &text);
                }
            }
            bench.machine.wait();
            let mut options = Options { jobs, ..TAKES };
            let mut goes = 0;
            loop {
                let (outcome, log) = bench.build_with(&joins, options);
                if outcome.lost == 0 {
                    prop_assert!(outcome.is_complete(), "{log:#?}");
                    break;
                }
                options.stay_away = false;
                goes += 1;
                prop_assert!(goes <= shape.len() + 1, "it does not end: {log:#?}");
            }
            let last = shape.len() - 1;
            let made = bench.machine.text(&format!("made/@f{last}/f{last}"));
            prop_assert_eq!(made, Some(expected(&shape, texts, last)));
        }
    }
}
