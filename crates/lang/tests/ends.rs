//! Evaluation always ends, and gives the same for the same: by one thread or several, once or
//! twice.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod memory_world;

use std::collections::BTreeSet;
use std::time::Duration;

use memory_world::MemoryWorld;
use nubrik_lang::{AddressPattern, Evaluation, Evaluator, Setting, SettingValue, evaluate_below};
use nubrik_source::WsPath;
use proptest::prelude::*;

/// Stack of the thread that evaluates, as in the program.
const STACK: usize = 256 << 20;

/// Evaluates everything on a stack as large as the program's.
fn evaluate(world: &MemoryWorld, work: u64) -> Evaluation {
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().stack_size(STACK);
        let all = AddressPattern::below(&WsPath::root());
        let run = move || Evaluator::new(world).with_work_limit(work).request(&[all]);
        thread.spawn_scoped(scope, run).unwrap().join().unwrap()
    })
}

/// Expressions over names that declarations may have, so that they lead to one another.
fn expression() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("1".to_owned()),
        Just("\"x\"".to_owned()),
        Just("none".to_owned()),
        Just("[]".to_owned()),
        Just("30s".to_owned()),
        Just("host.os".to_owned()),
        "[a-f]".prop_map(|n| n),
        "[a-f]".prop_map(|n| format!("f_{n}({n}, 2)")),
        "[a-f]".prop_map(|n| format!("k_{n} {{ x = {n} }}")),
    ];
    leaf.prop_recursive(4, 24, 4, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..4).prop_map(|i| format!("[{}]", i.join(", "))),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} + {b})")),
            (inner.clone(), inner.clone())
                .prop_map(|(a, b)| format!("[each i in {a} give [i, {b}]].flat")),
            (inner.clone(), inner.clone())
                .prop_map(|(a, b)| format!("{{each i in {a} give \"k\": {b}}}")),
            (inner.clone(), inner.clone())
                .prop_map(|(a, b)| format!("{{ \"one\": {a}, \"two\": {b} }}")),
            (inner.clone(), inner.clone())
                .prop_map(|(a, b)| format!("(if {a} == {b} then {a} else {b})")),
            inner
                .clone()
                .prop_map(|a| format!("(match {a} {{ \"x\": 1, else: {a} }})")),
            inner.clone().prop_map(|a| format!("\"<{{{a}}}>\"")),
            inner
                .clone()
                .prop_map(|a| format!("({a} under {{ o = \"r\" }})")),
            inner
                .clone()
                .prop_map(|a| format!("step {{ run = `make {{{a}}} > {{out \"o\"}}` }}")),
            inner.prop_map(|a| format!("write {{ path = \"w\", text = {a} }}")),
        ]
    })
}

fn definitions() -> impl Strategy<Value = String> {
    let declaration = |name: char| {
        (expression(), 0..5u8).prop_map(move |(e, kind)| match kind {
            0 => format!("let f_{name}(x: int, y: int): list[int] = {e}\nlet {name} = 1\nkind k_{name}(x: int) {{ give {{ files = [] }} }}"),
            1 => format!("kind k_{name}(x: text) {{ let y = {e}\n give {{ files = y }} }}\nlet {name} = 2\nlet f_{name}(x: int, y: int) = 1"),
            2 => format!("let {name} = {e}\nlet f_{name}(x: text, y: int) = x\nkind k_{name}(x: files) {{ give x }}"),
            _ => format!("target {name} = {e}\nlet f_{name}(x: text, y: int) = [x, x, x]\nkind k_{name}(x: files) {{ give x }}"),
        })
    };
    let all: Vec<_> = ('a'..='f').map(declaration).collect();
    all.prop_map(|d| format!("option o: \"d\" | \"r\" = \"d\"\n{}\n", d.join("\n")))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..Default::default() })]

    #[test]
    fn any_definitions_come_to_an_end(text in definitions()) {
        let world = MemoryWorld::new(&[("targets.nub", &text)]);
        let began = std::time::Instant::now();
        let once = evaluate(&world, 50_000);
        prop_assert!(began.elapsed() < Duration::from_secs(60), "this took too long:\n{text}");
        let twice = evaluate(&world, 50_000);
        prop_assert_eq!(once.graph, twice.graph);
        prop_assert_eq!(once.diagnostics, twice.diagnostics);
    }
}

#[test]
fn values_that_grow_without_end_are_stopped() {
    let doubling: String = (0..64)
        .map(|i| format!("let t{} = t{i} + t{i}\n", i + 1))
        .collect();
    for (first, target) in [
        ("\"abcdefgh\"", "write { path = \"x\", text = t64 }"),
        ("[1, 2, 3]", "step { run = `x {t64} > {out \"x\"}` }"),
    ] {
        let text = format!("let t0 = {first}\n{doubling}target x = {target}\n");
        let world = MemoryWorld::new(&[("targets.nub", &text)]);
        let evaluation = evaluate(&world, 100_000_000);
        let codes: Vec<&str> = evaluation.diagnostics.iter().map(|d| d.code).collect();
        assert!(
            codes == ["too-large"] || codes == ["too-much-work"],
            "{codes:?}"
        );
    }
    // Texts that carry files, and texts of many pieces: neither is put together before it is found
    // too large.
    let text: String = (0..20)
        .map(|i| format!("let t{} = \"{{t{i}}}{{t{i}}}\"\n", i + 1))
        .collect();
    let many = "{t20}".repeat(2_000);
    for target in [
        "let c0 = \"{made}{t20}\"\nlet c1 = c0 + c0\nlet c2 = \"{c1}{c1}\"\n\
         target x = write { path = \"x\", text = \"{c2}{c2}\" }",
        &format!("target x = write {{ path = \"x\", text = \"{many}\" }}"),
        &format!("target x = write {{ path = \"x\", text = \"{{made}}{many}\" }}"),
        "let many = [each a in [1, 2, 3, 4, 5, 6, 7, 8] give t20]\n\
         target x = write { path = \"x\", text = (many + many + many + many).join(\" \") }",
    ] {
        let made = "let made = step { run = `touch {out \"made\"}` }";
        let text = format!("let t0 = \"abcd\"\n{text}{made}\n{target}\n");
        let world = MemoryWorld::new(&[("targets.nub", &text)]);
        let evaluation = evaluate(&world, 100_000_000);
        let codes: Vec<&str> = evaluation.diagnostics.iter().map(|d| d.code).collect();
        assert_eq!(codes, ["too-large"]);
    }
    let nested = "target x = write { path = \"x\", text = \"{[each a in n give [each b in n give [each c in n give [each d in n give 1]]]].len}\" }\n\
                  private let n = [each i in \"abcdefghijklmnopqrstuvwxyzabcdefghijklmnopqrstuvwxyz\".split(\"z\")[0].split(\"\\n\") give i] + [\"1\", \"2\", \"3\", \"4\", \"5\", \"6\", \"7\", \"8\", \"9\"]\n";
    let world = MemoryWorld::new(&[("targets.nub", nested)]);
    let evaluation = evaluate(&world, 5_000);
    assert_eq!(evaluation.diagnostics[0].code, "too-much-work");
}

#[test]
fn maps_that_lead_back_to_themselves_are_stopped() {
    for (text, code) in [
        (
            "kind k(x: int) { give { \"k\": k { x } } }\ntarget t = k { x = 1 }\n",
            "cycle",
        ),
        (
            "let f(x: int) = { \"f\": f(x) }\ntarget t = f(1)\n",
            "cycle",
        ),
        (
            "option o: text = \"\"\ntarget t = { \"a\": t under { o = \"{o}x\" } }\n",
            "too-deep",
        ),
        (
            "option o: text = \"\"\nlet m = { \"a\": m under { o = \"{o}x\" } }\ntarget t = step { run = `x {m} > {out \"t\"}` }\n",
            "too-deep",
        ),
    ] {
        let evaluation = evaluate(&MemoryWorld::new(&[("targets.nub", text)]), 1_000_000);
        let codes: Vec<&str> = evaluation.diagnostics.iter().map(|d| d.code).collect();
        assert_eq!(codes, [code], "{text}");
    }
    // Many lists in one: written short, and endless to go through.
    let tripled: String = (0..40)
        .map(|i| format!("let l{} = [l{i}, l{i}, l{i}]\n", i + 1))
        .collect();
    let text = format!(
        "let l0 = [\"a\"]\n{tripled}target t = step {{ run = `x {{l40}} > {{out \"t\"}}` }}\n"
    );
    let evaluation = evaluate(&MemoryWorld::new(&[("targets.nub", &text)]), 1_000_000);
    assert_eq!(evaluation.diagnostics[0].code, "too-much-work");
}

/// Packages that use one another, a kit with an option, and some mistakes.
fn many_packages() -> MemoryWorld {
    let mut files = vec![(
        "kit/pages.nub".to_owned(),
        "option mode: \"a\" | \"b\" = \"a\"\nkind page(needs: list[file] = []): { files: files } {\n    let made = step { run = `render {mode} {needs} > {out \"{self.name}.html\"}` }\n    give { files = made }\n}\n".to_owned(),
    )];
    for p in 0..200 {
        let before = if p > 0 {
            format!("[&p{}/first, first]", p - 1)
        } else {
            "first".to_owned()
        };
        let wrong = if p % 50 == 7 {
            "target wrong = nothing_here\n"
        } else {
            ""
        };
        files.push((
            format!("p{p}/targets.nub"),
            format!("use {{ page }} from \"/kit/pages.nub\"\ntarget first = page {{}}\ntarget second = page {{ needs = {before} }}\n{wrong}"),
        ));
    }
    // Names of results that are those of another package: one evaluated far from this one, and a
    // neighbour.
    let printed = "step { run = `print > {out \"first.html\"}` }";
    files.push((
        "targets.nub".to_owned(),
        format!("target p150 = {{ \"first\": {printed} }}\n"),
    ));
    files.push((
        "p60/deep/targets.nub".to_owned(),
        format!("target first = {printed}\n"),
    ));
    files[61].1.push_str(&format!(
        "target deep = {{ \"first\": {printed}, \"alone\": {printed} }}\n"
    ));
    let files: Vec<(&str, &str)> = files
        .iter()
        .map(|(p, t)| (p.as_str(), t.as_str()))
        .collect();
    MemoryWorld::new(&files)
}

/// What a graph says, whatever the numbers in it.
fn essence(evaluation: &Evaluation) -> BTreeSet<String> {
    let graph = &evaluation.graph;
    let path = |f: &nubrik_graph::FileId| graph.file(*f).path.to_string();
    let mut lines = BTreeSet::new();
    for step in &graph.steps {
        let mut inputs: Vec<String> = step.inputs.iter().map(path).collect();
        inputs.sort();
        let words: Vec<&str> = step
            .commands
            .iter()
            .flat_map(|c| &c.stages)
            .flat_map(|s| s.words.iter().map(|w| &**w))
            .collect();
        let made: Vec<String> = step
            .outputs
            .iter()
            .map(|o| {
                format!(
                    "{} by {:?}",
                    path(&o.file),
                    graph
                        .file(o.file)
                        .maker
                        .map(|m| graph.step(m).folder.to_string())
                )
            })
            .collect();
        lines.insert(format!(
            "{} of {}: {words:?} {inputs:?} {made:?}",
            step.folder,
            graph.target(step.target).address
        ));
    }
    for target in &evaluation.targets {
        let target = graph.target(*target);
        let results: Vec<String> = target
            .results
            .iter()
            .map(|r| format!("{} {}", r.publish, path(&r.file)))
            .collect();
        lines.insert(format!("{} {} {results:?}", target.address, target.kind));
    }
    lines.extend(evaluation.requested.iter().map(path));
    let place = |d: &nubrik_diagnostic::Diagnostic| {
        d.span.map_or("-".into(), |s| evaluation.sources.place(s))
    };
    lines.extend(
        evaluation
            .diagnostics
            .iter()
            .map(|d| format!("{}: {}", place(d), d.message)),
    );
    lines
}

#[test]
fn several_threads_come_to_the_same_as_one() {
    let world = many_packages();
    let all = AddressPattern::below(&WsPath::root());
    for value in ["a", "b"] {
        let mode = Setting {
            name: "mode".into(),
            value: SettingValue::Word(value.into()),
            origin: "--set".into(),
        };
        let one = Evaluator::new(&world)
            .with_settings(std::slice::from_ref(&mode))
            .request(std::slice::from_ref(&all));
        let several = evaluate_below(&world, &[mode], &all, 3, STACK, true).unwrap();
        let errors = |code: &str| one.diagnostics.iter().filter(|d| d.code == code).count();
        assert_eq!(
            (errors("unknown-name"), errors("made-twice")),
            (4, 2),
            "{:?}",
            one.diagnostics
        );
        assert_eq!(essence(&one), essence(&several));
        assert_eq!(several.diagnostics.len(), one.diagnostics.len());
        assert_eq!(several.targets.len(), 407);
    }
    assert!(
        evaluate_below(&world, &[], &all, 1, STACK, true).is_none(),
        "one thread needs no others"
    );
    let one_target = AddressPattern::new("p7/first", &WsPath::root()).unwrap();
    assert!(
        evaluate_below(&world, &[], &one_target, 3, STACK, true).is_none(),
        "nor does one target"
    );
}
