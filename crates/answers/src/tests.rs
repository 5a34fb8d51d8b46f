//! Answers about one small workspace: `code` makes a file from `a.txt`, `tides` one from that, and
//! `check` reads both.

use std::collections::HashSet;

use nubrik_engine::{Capacity, PlannedStep, Reason, State, Verdict};
use nubrik_graph::{
    FileId, FileNode, Graph, OutputNode, ResultFile, Step, StepId, Tables, Target, TargetId,
};
use nubrik_lang::Evaluation;
use nubrik_session::{BuildRecord, StepRecord};
use nubrik_source::WsPath;

use crate::{
    ForecastEvent, NoPath, PlanCounts, TargetAnswers, TargetsOf, TreeShape, WhyAnswer, dearest,
    dependency_path, kept_builds, kinds_of, targets_of_file,
};

fn graph() -> Graph {
    let mut tables = Tables::default();
    tables.files.push(FileNode {
        path: WsPath::from_normal("a.txt"),
        maker: None,
        folder: false,
    });
    let needs: [&[u32]; 3] = [&[0], &[1], &[1, 2]];
    for (number, (name, needs)) in (0..).zip(["code", "tides", "check"].iter().zip(needs)) {
        let folder = WsPath::from_normal(&format!(".nubrik/made/{name}"));
        let file = FileId(number + 1);
        let maker = Some(StepId(number));
        tables.files.push(FileNode {
            path: folder.child("x"),
            maker,
            folder: false,
        });
        let result = ResultFile {
            address: (*name).into(),
            file,
            publish: WsPath::from_normal(name),
        };
        let tags = if *name == "tides" {
            vec!["water".into()]
        } else {
            Vec::new()
        };
        tables.targets.push(Target {
            results: vec![result],
            kind: "step".into(),
            tags,
            ..Target::plain(name)
        });
        let inputs = needs
            .iter()
            .map(|need| FileId(*need))
            .collect::<Vec<_>>()
            .into();
        let outputs = vec![OutputNode::new(file, "x")];
        tables.steps.push(Box::new(Step {
            inputs,
            outputs,
            target: TargetId(number),
            ..Step::empty(folder)
        }));
    }
    tables.finish().unwrap()
}

/// An evaluation of everything; of it the targets with these numbers were asked for.
fn asked(targets: &[u32]) -> Evaluation {
    let graph = graph();
    let targets: Vec<TargetId> = targets.iter().copied().map(TargetId).collect();
    let requested = targets
        .iter()
        .map(|id| graph.target(*id).results[0].file)
        .collect();
    let mut evaluation = Evaluation::default();
    (evaluation.graph, evaluation.targets, evaluation.requested) = (graph, targets, requested);
    evaluation
}

#[test]
fn a_file_means_its_target_or_all_that_use_it() {
    let (graph, out) = (graph(), WsPath::from_normal("out/default"));
    let meant = |path: &str| targets_of_file(&graph, &out, &WsPath::from_normal(path));
    assert_eq!(meant("out/default/tides"), ["tides"]);
    assert_eq!(meant("a.txt"), ["code", "tides", "check"]);
    assert_eq!(meant(".nubrik/made/code/x"), ["tides", "check"]);
    assert!(meant("b.txt").is_empty() && meant("out/ship/tides").is_empty());
}

#[test]
fn a_target_is_shown_with_its_needs_and_users() {
    let (evaluation, state) = (asked(&[1]), State::default());
    let whole = graph();
    let answers = TargetAnswers::of(
        &evaluation,
        &whole,
        &state,
        WsPath::from_normal("out/default"),
    );
    let answer = answers.each().next().unwrap();
    assert_eq!(
        (answer.needs(), answer.users()),
        (vec!["code"], &["check"][..])
    );
    assert_eq!(
        (answer.results(), answer.steps()),
        (vec!["out/default/tides".to_owned()], &[StepId(1)][..])
    );
    assert_eq!(
        answer.files(&[FileId(0), FileId(1)]),
        ["a.txt", "x of code"]
    );
    assert_eq!(answer.last_micros(StepId(1)), None);
}

#[test]
fn paths_lead_from_users_to_needs_only() {
    let goals = |name: &str| HashSet::from([name.into()]);
    let (from_check, from_code) = (asked(&[2]), asked(&[0]));
    let hops = dependency_path(&from_check, &goals("code")).unwrap();
    assert_eq!(
        (hops[0].target, hops[0].needs, &*hops[0].files),
        ("check", "code", &["x"][..])
    );
    let none = |leads_back| Some(NoPath { leads_back });
    assert_eq!(
        dependency_path(&from_code, &goals("check")).err(),
        none(true)
    );
    assert_eq!(
        dependency_path(&from_code, &goals("code")).err(),
        none(false),
        "nothing depends on itself"
    );
}

#[test]
fn trees_go_down_and_up() {
    let (graph, state) = (graph(), State::default());
    let down = TreeShape::of(&graph, &["check"], false, &state);
    assert_eq!(down.below(down.roots()[0]), [TargetId(0), TargetId(1)]);
    assert_eq!((down.events(0).len(), down.events(9).len()), (1, 3));
    let up = TreeShape::of(&graph, &["code"], true, &state);
    assert_eq!(up.below(up.roots()[0]), [TargetId(1), TargetId(2)]);
}

#[test]
fn a_kind_or_tag_that_nobody_has_names_those_that_there_are() {
    let graph = graph();
    let all: Vec<&Target> = graph.targets.iter().collect();
    let with_tag = TargetsOf {
        tag: Some("water"),
        kind: None,
    }
    .among(&all)
    .unwrap();
    assert_eq!(&*with_tag[0].address, "tides");
    let nothing = TargetsOf {
        tag: None,
        kind: Some("stop"),
    }
    .among(&all)
    .unwrap_err();
    assert_eq!(
        (nothing.known, nothing.near, nothing.is_tag),
        (vec!["step"], Some("step"), false)
    );
    assert!(
        TargetsOf {
            tag: Some("x"),
            kind: None
        }
        .among(&[])
        .unwrap()
        .is_empty(),
        "there is nothing to name"
    );
    assert_eq!(
        (kinds_of(&all)[0].kind, kinds_of(&all)[0].targets),
        ("step", 3)
    );
}

#[test]
fn plans_are_counted_and_lead_back_to_their_cause() {
    let evaluation = asked(&[2]);
    let planned = |step: u32, verdict, reason, micros| PlannedStep {
        step: StepId(step),
        verdict,
        reason,
        micros,
        comparison: None,
    };
    let changed = |path: &str| Reason::InputChanged {
        path: path.into(),
        target: None,
    };
    let plan = [
        planned(0, Verdict::Ran, changed("a.txt"), Some(2_000_000)),
        planned(
            1,
            Verdict::Unstarted,
            changed(".nubrik/made/code/x"),
            Some(1_000_000),
        ),
        planned(2, Verdict::Unstarted, changed(".nubrik/made/tides/x"), None),
    ];
    let counts = PlanCounts::of(&evaluation.graph, &plan);
    assert_eq!(
        counts.in_words(3),
        "1 of 3 steps would run, 2 may follow; 1 has no known time"
    );
    assert_eq!((counts.micros(), counts.targets.len()), (3_000_000, 3));
    let capacity = Capacity {
        processors: 2,
        memory: 0,
    };
    let event =
        serde_json::to_value(ForecastEvent::of(&evaluation.graph, &plan, capacity)).unwrap();
    assert_eq!(
        (&event["expected_seconds"], &event["unknown"]),
        (&3.0.into(), &1.into())
    );
    let why = WhyAnswer::of(&evaluation, &plan, &State::default());
    let chain: Vec<&str> = why
        .chain()
        .iter()
        .map(|cause| cause.target.as_str())
        .collect();
    assert_eq!(chain, ["check", "tides", "code"]);
    assert!(matches!(why, WhyAnswer::Pending(Verdict::Unstarted, _)));
    assert!(matches!(
        WhyAnswer::of(&evaluation, &[], &State::default()),
        WhyAnswer::NoSteps
    ));
}

#[test]
fn builds_that_are_kept_are_named_in_runs() {
    let step = |target: &str, micros| StepRecord {
        target: target.to_owned(),
        say: "compile".to_owned(),
        micros,
        ..serde_json::from_value(serde_json::json!({
            "target": "", "say": "", "state": "ran", "reason": "", "from": 0, "micros": 0
        }))
        .unwrap()
    };
    let build = |build, done| BuildRecord {
        version: 1,
        build,
        began: 0,
        micros: 1,
        asked: Vec::new(),
        profile: None,
        cancelled: false,
        counts: Default::default(),
        shared: None,
        done,
    };
    let records = [
        build(1, vec![step("code", 3), step("tides", 4)]),
        build(2, vec![step("code", 3)]),
        build(6, Vec::new()),
        build(7, Vec::new()),
        build(8, Vec::new()),
    ];
    assert_eq!(kept_builds(&records), "builds 1, 2, 6 to 8 are kept");
    assert_eq!(kept_builds(&records[..1]), "build 1 is kept");
    let most = dearest(&records, 1);
    assert_eq!(
        (most[0].target, most[0].micros, most[0].runs, most.len()),
        ("code", 6, 2, 1)
    );
}
