//! Evaluation suspends where an answer is missing, goes on with the rest, and asks for all at once.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod memory_world;

use memory_world::MemoryWorld;
use nubrik_lang::{AddressPattern, Evaluation, Evaluator};
use nubrik_source::WsPath;

const FILES: [(&str, &str); 5] = [
    (
        "targets.nub",
        "target a = step { run = `cat {glob(\"one/*\")} {glob(\"two/*\")} > {out \"a\"}` }\n\
         target b = step { run = `cat {glob(\"three/*\")} > {out \"b\"}` }\n\
         target c = step { run = `date > {out \"c\"}` }\n",
    ),
    ("one/x", ""),
    ("two/x", ""),
    ("three/x", ""),
    ("three/y", ""),
];

fn evaluate(world: &MemoryWorld) -> Evaluation {
    let patterns = ["a", "b", "c"].map(|a| AddressPattern::new(a, &WsPath::root()).unwrap());
    Evaluator::new(world).request(&patterns)
}

#[test]
fn asks_for_all_missing_answers_at_once() {
    let mut world = MemoryWorld::new(&FILES);
    world.slow = true;
    let first = evaluate(&world);
    assert!(first.waiting);
    assert!(first.diagnostics.is_empty(), "{:?}", first.diagnostics);
    assert_eq!(
        world.asked(),
        3,
        "both lists of the first target, and the second target's"
    );
    assert_eq!(
        first.graph.steps.len(),
        1,
        "what needs no answer is evaluated"
    );
    let second = evaluate(&world);
    assert!(!second.waiting);
    let mut quick = MemoryWorld::new(&FILES);
    quick.slow = false;
    assert_eq!(second.graph, evaluate(&quick).graph);
}

/// Each entry needs three others, and the first one waits: what waits is found out once, not once
/// for each way to it.
#[test]
fn what_waits_is_not_evaluated_for_each_that_needs_it() {
    let mut text = "let way = {\n    \"0\": glob(\"one/*\").len\n".to_owned();
    for n in 1..60 {
        let needed = (n - 3..n).map(|m: i32| format!("way[\"{}\"]", m.max(0)));
        text.push_str(&format!(
            "    \"{n}\": {}\n",
            needed.collect::<Vec<_>>().join(" + ")
        ));
    }
    text.push_str(
        "}\nlet last = way[\"59\"]\ntarget t = write { path = \"t\", text = \"{last}\" }\n",
    );
    let mut world = MemoryWorld::new(&[("targets.nub", &text), ("one/x", "")]);
    world.slow = true;
    let request =
        || Evaluator::new(&world).request(&[AddressPattern::new("t", &WsPath::root()).unwrap()]);
    let first = request();
    assert!(
        first.waiting && first.diagnostics.is_empty(),
        "{:?}",
        first.diagnostics
    );
    let second = request();
    assert!(
        !second.waiting && second.diagnostics.is_empty(),
        "{:?}",
        second.diagnostics
    );
}

#[test]
fn the_same_definitions_give_the_same_graph() {
    let world = MemoryWorld::new(&FILES);
    assert_eq!(evaluate(&world).graph, evaluate(&world).graph);
}

#[test]
fn a_private_helper_that_nothing_uses_is_doubted() {
    let world = MemoryWorld::new(&[(
        "targets.nub",
        "use \"nub:c\" as c\nprivate let unused = 1\nlet f(x: int, y: int): int = x\ntarget t = step { run = `echo {f(1, 2)} > {out \"t\"}` }\n",
    )]);
    let evaluation = Evaluator::new(&world).lint(&[]);
    let messages: Vec<&str> = evaluation
        .diagnostics
        .iter()
        .map(|d| d.message.as_str())
        .collect();
    assert_eq!(
        messages,
        [
            "the kit `c` is never used",
            "the value `unused` is never used",
            "`y` is never used"
        ]
    );
}

fn doubts(files: &[(&str, &str)]) -> Vec<String> {
    let world = MemoryWorld::new(files);
    let evaluation = Evaluator::new(&world).lint(&[]);
    let place = |d: &nubrik_diagnostic::Diagnostic| {
        d.span.map_or("-".into(), |s| evaluation.sources.place(s))
    };
    evaluation
        .diagnostics
        .iter()
        .map(|d| format!("{}: {}", place(d), d.message))
        .collect()
}

#[test]
fn what_is_probably_not_meant_is_doubted() {
    let files = [
        (
            "targets.nub",
            "option unread: bool = true\n\
             option read: bool = true\n\
             target a = step { run = `x {glob(\"src/*.c\")} {if read then [\"-r\"] else []} > {out \"a\"}` }\n\
             target b = step { run = sh`sort {glob(\"src/[ab]*.c\")} {glob(\"more/*\")} | uniq > {out \"b\"}` }\n\
             target c = step { run = sh`cat {in \"src/a.c\"} ; true > {out \"c\"}` }\n\
             target d = step { run = `x {glob([\"src/a.c\"][0] , or_none = true)} {glob(\"{\"src\"}/[bcd].c\")} > {out \"d\"}` }\n",
        ),
        ("src/a.c", ""),
        ("src/b.c", ""),
        ("src/c.c", ""),
        ("more/x", ""),
    ];
    assert_eq!(
        doubts(&files),
        [
            "targets.nub:1: no target reads the option `unread`",
            "targets.nub:4: this command needs no shell",
            "targets.nub:6: 1 of these files are also matched for `b`"
        ]
    );
}
