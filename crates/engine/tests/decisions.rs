//! What the engine does and does not do, by its event log, on a machine in memory.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod fake;

use std::sync::atomic::Ordering;

use fake::{Bench, Joins, Log, StoreOn};
use nubrik_engine::{Options, Request, State, Supposed, plan};
use proptest::prelude::*;

/// Two steps in a row over sources `a` and `b`.
fn chain() -> (Bench, Joins) {
    let mut joins = Joins::new();
    let first = joins.step(&["a"], &[]);
    joins.step(&["b"], &[first]);
    (Bench::new(&[("a", "ebb "), ("b", "flow")]), joins)
}

#[test]
fn events_come_in_pairs_and_the_second_build_is_quiet() {
    let (mut bench, joins) = chain();
    assert_eq!(
        bench.build(&joins),
        [
            "began 2",
            "will run 0",
            "ran 0: never built here",
            "will run 1",
            "ran 1: never built here"
        ]
    );
    assert_eq!(bench.machine.text("made/@f1/f1").unwrap(), "flowebb ");
    assert_eq!(bench.build(&joins), ["began 2", "current 0", "current 1"]);
}

#[test]
fn reasons_name_the_file_and_the_target() {
    let (mut bench, joins) = chain();
    bench.build(&joins);
    bench.machine.write("a", "neap ");
    assert_eq!(
        bench.build(&joins),
        [
            "began 2",
            "will run 0",
            "ran 0: a changed",
            "will run 1",
            "ran 1: f0 of t0 changed"
        ]
    );
}

#[test]
fn the_same_output_cuts_off_what_follows() {
    let mut joins = Joins::new();
    let first = joins.step(&["a", "empty"], &[]);
    joins.step(&[], &[first]);
    let mut bench = Bench::new(&[("a", "ebb"), ("empty", "")]);
    bench.build(&joins);
    // The bytes move from one source to the other: the step runs, its result is the same.
    bench.machine.write("a", "");
    bench.machine.write("empty", "ebb");
    let log = bench.build(&joins);
    assert_eq!(
        log,
        ["began 2", "will run 0", "ran 0: a changed", "current 1"]
    );
}

#[test]
fn an_earlier_state_is_reused_and_a_store_that_lost_it_is_no_harm() {
    let (mut bench, joins) = chain();
    bench.build(&joins);
    bench.machine.write("a", "neap ");
    bench.build(&joins);
    bench.machine.write("a", "ebb ");
    assert_eq!(
        bench.build(&joins),
        [
            "began 2",
            "reused 0: a changed",
            "reused 1: f0 of t0 changed"
        ]
    );
    assert_eq!(bench.machine.text("made/@f1/f1").unwrap(), "flowebb ");
    bench.store.loses.store(true, Ordering::SeqCst);
    bench.machine.write("a", "neap ");
    let log = bench.build(&joins);
    assert_eq!(
        log,
        [
            "began 2",
            "will run 0",
            "ran 0: a changed",
            "will run 1",
            "ran 1: f0 of t0 changed"
        ]
    );
}

#[test]
fn contents_count_and_files_are_read_only_when_their_metadata_changed() {
    let (mut bench, joins) = chain();
    bench.build(&joins);
    bench.machine.take_digested();
    bench.build(&joins);
    assert!(
        bench.machine.take_digested().is_empty(),
        "nothing is read when nothing was touched"
    );
    bench.machine.write("a", "ebb ");
    bench.machine.wait();
    assert_eq!(bench.build(&joins), ["began 2", "current 0", "current 1"]);
    assert_eq!(
        bench.machine.take_digested().keys().collect::<Vec<_>>(),
        ["a"]
    );
    // A file so young that it could change again without a trace is read again the next time.
    bench.machine.write("b", "flow");
    bench.build(&joins);
    bench.machine.take_digested();
    bench.build(&joins);
    assert_eq!(
        bench.machine.take_digested().keys().collect::<Vec<_>>(),
        ["b"]
    );
    bench.build(&joins);
    assert!(bench.machine.take_digested().is_empty());
}

#[test]
fn a_changed_tool_or_command_is_named() {
    let (mut bench, joins) = chain();
    bench.build(&joins);
    *bench.machine.tool.lock() = Some("two");
    assert!(
        bench
            .build(&joins)
            .contains(&"ran 0: the tool join changed".to_owned())
    );
    let mut changed = Joins::new();
    let first = changed.step(&["a"], &[]);
    changed.step(&["b"], &[first]);
    changed.graph.steps[0]
        .env
        .push(("DEPTH".into(), "7".into()));
    assert!(
        bench
            .build(&changed)
            .contains(&"ran 0: its command changed, targets.nub:1: DEPTH=7 is new".to_owned())
    );
    let mut more = Joins::new();
    more.step(&["a", "b"], &[]);
    more.graph.steps[0].env.push(("DEPTH".into(), "7".into()));
    assert!(
        bench
            .build(&more)
            .contains(&"ran 0: b is a new input".to_owned())
    );
    let mut less = Joins::new();
    less.step(&["b"], &[]);
    assert!(
        bench
            .build(&less)
            .contains(&"ran 0: a is no longer needed".to_owned())
    );
}

#[test]
fn a_missing_tool_or_source_fails_the_step_that_needs_it() {
    let (mut bench, joins) = chain();
    *bench.machine.tool.lock() = None;
    let (outcome, log) = bench.build_with(&joins, Options::plain());
    assert!(outcome.machine_lacks);
    assert_eq!(log[2], "blocked 1: needs t0, where \"join 0\" failed");
    let (mut bench, joins) = chain();
    bench.machine.remove("b");
    let (outcome, _) = bench.build_with(&joins, Options::plain());
    assert_eq!(
        (outcome.summary.counts.ran, outcome.summary.counts.failed),
        (1, 1)
    );
}

#[test]
fn listed_inputs_narrow_what_was_declared() {
    let mut joins = Joins::new();
    joins.listing_step(&["read.h", "unread.h", "speaks.h"]);
    // An empty file is not read by the fake compiler; what was read speaks of `unread`.
    let mut bench = Bench::new(&[("read.h", "unread "), ("unread.h", ""), ("speaks.h", "x")]);
    bench.build(&joins);
    assert_eq!(bench.state.steps.get("made/@f0").unwrap().found.len(), 2);
    assert_eq!(
        &*bench.state.steps.get("made/@f0").unwrap().passed_over[0],
        "unread.h"
    );
    bench.machine.write("read.h", "unread too ");
    assert!(
        bench
            .build(&joins)
            .contains(&"ran 0: read.h changed".to_owned())
    );
    bench.machine.write("read.h", "unread ");
    assert!(
        bench
            .build(&joins)
            .contains(&"reused 0: read.h changed".to_owned()),
        "several results under one first key"
    );
}

#[test]
fn a_name_that_appears_counts_only_where_it_may_matter() {
    let mut few = Joins::new();
    few.listing_step(&["read.h"]);
    let mut more = Joins::new();
    more.listing_step(&["read.h"]);
    // Candidates change without the command's words.
    let mut bench = Bench::new(&[("read.h", "tide "), ("other.h", ""), ("tide.h", "")]);
    bench.build(&few);
    let add = |joins: &mut Joins, path: &str| {
        let id = nubrik_graph::FileId(joins.graph.files.len() as u32);
        let path = nubrik_source::WsPath::from_normal(path);
        joins.graph.files.push(nubrik_graph::FileNode {
            path,
            maker: None,
            folder: false,
        });
        let set = joins.graph.sets.intern(vec![id]);
        let before = joins.graph.steps[0].candidates.to_vec();
        joins.graph.steps[0].candidates = before.into_iter().chain([set]).collect();
    };
    add(&mut more, "other.h");
    assert_eq!(bench.build(&more), ["began 1", "current 0"]);
    add(&mut more, "tide.h");
    assert_eq!(bench.build(&more)[2], "ran 0: tide.h appeared");
    // Back to the candidates before: the kept result is the one that is in place.
    assert_eq!(bench.build(&few), ["began 1", "current 0"]);
}

#[test]
fn how_candidates_are_cut_into_sets_is_no_change() {
    let with_sets = |cuts: &[&[usize]]| {
        let mut joins = Joins::new();
        joins.listing_step(&["read.h"]);
        let add = |joins: &mut Joins, path: &str| {
            let path = nubrik_source::WsPath::from_normal(path);
            joins.graph.files.push(nubrik_graph::FileNode {
                path,
                maker: None,
                folder: false,
            });
            nubrik_graph::FileId(joins.graph.files.len() as u32 - 1)
        };
        let files = ["one.h", "tide.h", "two.h"].map(|path| add(&mut joins, path));
        for cut in cuts {
            let set = joins
                .graph
                .sets
                .intern(cut.iter().map(|n| files[*n]).collect());
            let before = joins.graph.steps[0].candidates.to_vec();
            joins.graph.steps[0].candidates = before.into_iter().chain([set]).collect();
        }
        joins
    };
    let mut bench = Bench::new(&[
        ("read.h", "tide "),
        ("one.h", ""),
        ("tide.h", ""),
        ("two.h", ""),
    ]);
    bench.build(&with_sets(&[&[0, 1, 2]]));
    assert_eq!(
        bench.build(&with_sets(&[&[0], &[1, 2]])),
        ["began 1", "current 0"]
    );
    // Sets may overlap.
    assert_eq!(
        bench.build(&with_sets(&[&[0, 1], &[1, 2]])),
        ["began 1", "current 0"]
    );
    // A name of which `read.h` speaks is in none of them any more.
    assert_eq!(
        bench.build(&with_sets(&[&[0], &[2]]))[2],
        "ran 0: tide.h vanished"
    );
}

#[test]
fn a_source_that_changes_under_a_running_step_spoils_its_result() {
    let (mut bench, joins) = chain();
    *bench.machine.moves.lock() = Some("a".to_owned());
    let (outcome, _) = bench.build_with(&joins, Options::plain());
    assert_eq!(
        (
            outcome.summary.counts.failed,
            outcome.summary.counts.blocked
        ),
        (1, 1)
    );
    let log = bench.build(&joins);
    assert_eq!(log[2], "ran 0: failed last time");
    assert_eq!(bench.machine.text("made/@f1/f1").unwrap(), "flowmoved");
}

#[test]
fn failures_are_never_kept() {
    let (mut bench, joins) = chain();
    bench.machine.write("a", "fail");
    for _ in 0..2 {
        let (outcome, _) = bench.build_with(&joins, Options::plain());
        assert_eq!(
            (
                outcome.summary.counts.failed,
                outcome.summary.counts.blocked
            ),
            (1, 1)
        );
    }
    bench.machine.write("a", "ebb ");
    assert_eq!(bench.build(&joins)[2], "ran 0: failed last time");
}

#[test]
fn stopping_leaves_the_rest_and_says_so() {
    let (mut bench, joins) = chain();
    bench.machine.cancelled.store(true, Ordering::SeqCst);
    let (outcome, log) = bench.build_with(
        &joins,
        Options {
            keep_going: true,
            ..Options::plain()
        },
    );
    assert!(outcome.cancelled);
    assert_eq!(
        log,
        [
            "began 2",
            "unstarted 0: the build stopped first",
            "unstarted 1: the build stopped first"
        ]
    );
}

#[test]
fn a_plan_changes_nothing_and_says_what_it_cannot_know() {
    let (mut bench, joins) = chain();
    bench.build(&joins);
    bench.machine.write("a", "neap ");
    let store = StoreOn(&bench.store, &bench.machine);
    let last = joins.graph.steps[1].outputs[0].file;
    let planned = plan(
        Request::whole(&joins.finished(), &[last]),
        &bench.state,
        &bench.machine,
        Some(&store),
        &Log::default(),
        Supposed::default(),
    );
    let said: Vec<String> = planned
        .iter()
        .map(|p| format!("{} {}", p.verdict.word(), p.reason))
        .collect();
    assert_eq!(said, ["ran a changed", "unstarted if f0 of t0 changes"]);
    assert!(planned.iter().all(|p| p.micros.is_some()));
    assert_eq!(bench.machine.text("made/@f1/f1").unwrap(), "flowebb ");
}

#[test]
fn the_longest_chain_begins_first() {
    let mut joins = Joins::new();
    let short = joins.step(&["a"], &[]);
    let long = joins.step(&["b"], &[]);
    let middle = joins.step(&[], &[long]);
    joins.step(&[], &[short, middle]);
    let mut bench = Bench::new(&[("a", "x"), ("b", "y")]);
    let log = bench.build(&joins);
    assert_eq!(log[1], "will run 1", "{log:?}");
}

fn read_state(bytes: &[u8]) -> Result<State, nubrik_bytes::Truncated> {
    State::decode(std::sync::Arc::new(bytes.to_vec()))
}

/// Whether everything that a state knows is what another one knows, though perhaps not all of it.
fn knows_nothing_else(state: &State, whole: &State) -> bool {
    let steps = state.steps.names();
    steps.iter().all(|name| {
        state
            .steps
            .get(name)
            .is_none_or(|m| whole.steps.get(name) == Some(m))
    }) && state.files.names().iter().all(|name| {
        let known = state.files.get(name);
        known.is_none() || known == whole.files.get(name)
    })
}

#[test]
fn damaged_state_is_forgotten() {
    let (mut bench, joins) = chain();
    bench.build(&joins);
    let bytes = bench.state.encode();
    assert_eq!(read_state(&bytes).unwrap(), bench.state);
    for at in 0..bytes.len() {
        let mut damaged = bytes.clone();
        damaged[at] ^= 0x41;
        if let Ok(state) = read_state(&damaged) {
            assert!(knows_nothing_else(&state, &bench.state), "byte {at}");
        }
        if let Ok(state) = read_state(&bytes[..at]) {
            assert!(knows_nothing_else(&state, &bench.state), "cut at {at}");
        }
    }
}

/// The content that a step must have, by a model too simple to be wrong.
fn expected(needs: &[(Vec<usize>, Vec<usize>)], sources: &[String], step: usize) -> String {
    let (own, steps) = &needs[step];
    let mut text: String = own.iter().map(|s| sources[*s].as_str()).collect();
    for s in steps.iter().filter(|s| **s < step) {
        text.push_str(&expected(needs, sources, *s));
    }
    text
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, failure_persistence: None, ..Default::default() })]

    #[test]
    fn after_any_edits_results_are_right_and_nothing_runs_twice(
        needs in prop::collection::vec((prop::collection::vec(0usize..4, 0..3), prop::collection::vec(0usize..6, 0..3)), 6),
        edits in prop::collection::vec((0usize..4, "[ab]{0,3}", any::<bool>()), 1..8),
        jobs in 1usize..4,
    ) {
        let names = ["s0", "s1", "s2", "s3"];
        let mut sources: Vec<String> = vec!["a".into(), "b".into(), "".into(), "ab".into()];
        let files: Vec<(&str, &str)> = names.iter().copied().zip(sources.iter().map(String::as_str)).collect();
        let mut bench = Bench::new(&files);
        let mut joins = Joins::new();
        for (i, (own, steps)) in needs.iter().enumerate() {
            let own: Vec<&str> = own.iter().map(|s| names[*s]).collect();
            let steps: Vec<u32> = steps.iter().filter(|s| **s < i).map(|s| *s as u32).collect();
            joins.step(&own, &steps);
        }
        let all: Vec<_> = joins.graph.steps.iter().map(|s| s.outputs[0].file).collect();
        let options = Options { jobs, keep_going: true, ..Options::plain() };
        bench.build_files(&joins, &all, options);
        for (source, text, spoil) in edits {
            sources[source] = text.clone();
            bench.machine.write(names[source], &text);
            if spoil {
                bench.machine.write(&format!("made/@f{source}/f{source}"), "spoilt");
            }
            bench.machine.wait();
            bench.build_files(&joins, &all, options);
            for step in 0..needs.len() {
                let made = bench.machine.text(&format!("made/@f{step}/f{step}")).unwrap();
                prop_assert_eq!(made, expected(&needs, &sources, step));
            }
            let (outcome, _) = bench.build_files(&joins, &all, options);
            prop_assert_eq!(outcome.summary.counts.current, outcome.summary.counts.steps);
        }
    }
}

#[test]
fn of_steps_that_never_ran_the_one_with_most_to_read_begins_first() {
    let mut joins = Joins::new();
    let small = joins.step(&["small"], &[]);
    let large = joins.step(&["large"], &[]);
    joins.step(&[], &[small, large]);
    let mut bench = Bench::new(&[("small", "x"), ("large", &"y".repeat(10_000))]);
    assert_eq!(bench.build(&joins)[1], "will run 1");
}
