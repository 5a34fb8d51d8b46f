//! What definitions become: words, inputs, outputs and addresses of steps.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod memory_world;

use memory_world::MemoryWorld;
use nubrik_graph::{Graph, Step};
use nubrik_lang::{AddressPattern, Evaluation, Evaluator};
use nubrik_source::WsPath;

fn evaluate(files: &[(&str, &str)]) -> Evaluation {
    let world = MemoryWorld::new(files);
    let evaluation = Evaluator::new(&world).request(&[AddressPattern::below(&WsPath::root())]);
    assert!(
        evaluation.diagnostics.is_empty(),
        "{:#?}",
        evaluation.diagnostics
    );
    evaluation
}

/// The words of a step's commands, and its inputs, candidates and outputs, as text.
fn shown(graph: &Graph, step: &Step) -> String {
    let mut lines = Vec::new();
    for pipeline in &step.commands {
        let stages: Vec<String> = pipeline
            .stages
            .iter()
            .map(|stage| {
                let mut words: Vec<String> = stage.words.iter().map(|w| format!("[{w}]")).collect();
                for (sign, file) in [
                    ("<", &stage.stdin),
                    (">", &stage.stdout),
                    ("2>", &stage.stderr),
                ] {
                    words.extend(file.as_ref().map(|f| format!("{sign}[{f}]")));
                }
                words.join(" ")
            })
            .collect();
        lines.push(stages.join(" | "));
    }
    let paths = |ids: &[nubrik_graph::FileId]| {
        let mut paths: Vec<&str> = ids.iter().map(|f| graph.file(*f).path.as_str()).collect();
        paths.sort_unstable();
        paths.join(" ")
    };
    let mut fact = |name: &str, text: String| {
        if !text.is_empty() {
            lines.push(format!("{name}: {text}"));
        }
    };
    fact("reads", paths(&step.inputs));
    fact("may read", paths(&graph.uncertain(step)));
    fact(
        "makes",
        step.outputs
            .iter()
            .map(|o| &*o.name)
            .collect::<Vec<_>>()
            .join(" "),
    );
    fact(
        "env",
        step.env
            .iter()
            .map(|(n, v)| format!("{n}={v}"))
            .collect::<Vec<_>>()
            .join(" "),
    );
    lines.join("\n")
}

fn only_step(definition: &str) -> String {
    let files = [
        ("targets.nub", definition),
        ("a.csv", ""),
        ("b c.csv", ""),
        ("inc/x.h", ""),
        ("inc/deep/y.h", ""),
    ];
    let evaluation = evaluate(&files);
    assert_eq!(evaluation.graph.steps.len(), 1);
    shown(&evaluation.graph, &evaluation.graph.steps[0])
}

#[test]
fn holes_become_words() {
    assert_eq!(
        only_step(
            "target t = step { run = `join {glob(\"*.csv\")} -D{[\"x\", \"y z\"]} \"{name} it\" 'no {hole}' a\\ b {{ {[]} {none} \"\" --n={3} {out \"t\"}` }
             let name = \"as\""
        ),
        "[join] [a.csv] [b c.csv] [-Dx] [-Dy z] [as it] [no {hole}] [a b] [{] [] [--n=3] [.nubrik/made/t/@t/t]
reads: a.csv b c.csv
makes: t"
    );
}

#[test]
fn pipes_redirects_and_several_commands() {
    assert_eq!(
        only_step("target t = step { run = [`sort < {in \"a.csv\"} | uniq -c 2> {out log \"log\"} > {out table \"deep/table\"}`, `check {out table \"deep/table\"} {scratch \"s\"}`] }"),
        "[sort] <[a.csv] | [uniq] [-c] >[.nubrik/made/t/@deep+table/deep/table] 2>[.nubrik/made/t/@deep+table/log]
[check] [.nubrik/made/t/@deep+table/deep/table] [.nubrik/made/t/@deep+table/.scratch/s]
reads: a.csv
makes: deep/table log"
    );
}

#[test]
fn folders_are_inputs_unless_the_command_lists_what_it_read() {
    let folder = "let inc: folder = \"inc\"\n";
    assert_eq!(
        only_step(&format!(
            "{folder}target t = step {{ run = `cc -I{{inc}} {{out \"t\"}}`, reads = \"*.csv\" }}"
        )),
        "[cc] [-Iinc] [.nubrik/made/t/@t/t]\nreads: a.csv b c.csv inc/deep/y.h inc/x.h\nmakes: t"
    );
    assert_eq!(
        only_step(&format!(
            "{folder}target t = step {{ run = `cc {{in \"a.csv\"}} -I{{inc}} {{depfile \"t.d\"}} {{out \"t\"}}`, reads = \"*.csv\" }}"
        )),
        "[cc] [a.csv] [-Iinc] [.nubrik/made/t/@t/t.d] [.nubrik/made/t/@t/t]
reads: a.csv
may read: b c.csv inc/deep/y.h inc/x.h
makes: t"
    );
}

#[test]
fn texts_carry_their_files() {
    let evaluation = evaluate(&[(
        "targets.nub",
        "let jar = step { run = `jar {out \"a.jar\"}` }
         let path = [jar, jar].join(\":\") + \":.\"
         target t = step { run = `java -cp {path} {out \"t\"}`, env = { \"JAR\": \"{jar}\", \"ABC\": \"x\" } }
         target u = step { run = `echo {jar.name} {out \"u\"}` }",
    )]);
    let graph = &evaluation.graph;
    let jar = ".nubrik/made/jar/@a.jar/a.jar";
    let t = graph
        .steps
        .iter()
        .find(|s| &*graph.target(s.target).address == "t")
        .unwrap();
    assert_eq!(
        shown(graph, t),
        format!(
            "[java] [-cp] [{jar}:{jar}:.] [.nubrik/made/t/@t/t]\nreads: {jar}\nmakes: t\nenv: ABC=x JAR={jar}"
        )
    );
    let u = graph
        .steps
        .iter()
        .find(|s| &*graph.target(s.target).address == "u")
        .unwrap();
    assert!(
        u.inputs.is_empty(),
        "a name taken from a file carries nothing"
    );
}

#[test]
fn addresses_keys_and_published_names_follow_the_value() {
    let evaluation = evaluate(&[
        (
            "tide/targets.nub",
            "use { note } from \"/kit/tools.nub\"
             target one = note { text = \"x\" }
             target some = { left = note { text = \"l\" }, right = { \"deep/key\": note { text = \"r\" } } }
             target files = [each n in [\"p\", \"q\"] give step { run = `echo > {out \"{n}.txt\"}` }]",
        ),
        (
            "kit/tools.nub",
            "kind note(text: text): { files: files } {
                 let made = step { say = \"{self.name} below {self.folder.path}\", run = `echo {text} > {out \"{self.name}.txt\"}` }
                 give { files = made }
             }",
        ),
    ]);
    let graph = &evaluation.graph;
    let results: Vec<String> = graph
        .targets
        .iter()
        .flat_map(|t| &t.results)
        .map(|r| format!("{} {} {}", r.address, graph.file(r.file).path, r.publish))
        .collect();
    assert_eq!(
        results,
        [
            "tide/one .nubrik/made/tide/one/@one.txt/one.txt tide/one.txt",
            "tide/some/left .nubrik/made/tide/some/left/@left.txt/left.txt tide/some/left.txt",
            "tide/some/right/deep/key .nubrik/made/tide/some/right/deep/key/@deep+key.txt/deep/key.txt tide/some/right/deep/key/deep/key.txt",
            "tide/files .nubrik/made/tide/files/@p.txt/p.txt tide/files/p.txt",
            "tide/files .nubrik/made/tide/files/@q.txt/q.txt tide/files/q.txt",
        ]
    );
    let says: Vec<&str> = graph.steps.iter().map(|s| &*s.say).collect();
    assert_eq!(says[..2], ["one below tide", "left below tide"]);
    let kinds: Vec<&str> = graph.targets.iter().map(|t| &*t.kind).collect();
    assert_eq!(kinds, ["note", "record", "list"]);
}

#[test]
fn a_step_that_many_use_is_one_step() {
    let evaluation = evaluate(&[(
        "targets.nub",
        "let shared = step { run = `date > {out \"s\"}` }
         let same(n: int): step = step { run = `echo {n} > {out \"f{n}\"}` }
         target a = step { run = `cat {shared} {same(1)} {same(1)} > {out \"a\"}` }
         target b = step { run = `cat {shared} > {out \"b\"}` }",
    )]);
    assert_eq!(evaluation.graph.steps.len(), 4);
    let needs = evaluation.graph.target_needs();
    let address = |t: &nubrik_graph::TargetId| evaluation.graph.target(*t).address.to_string();
    let b = evaluation.graph.find_target("b").unwrap();
    assert_eq!(
        needs[b.index()].iter().map(address).collect::<Vec<_>>(),
        ["shared"]
    );
}

#[test]
fn only_what_is_asked_for_is_evaluated() {
    let world = MemoryWorld::new(&[
        (
            "a/targets.nub",
            "target x = step { run = `cat {&b/y} > {out \"x\"}` }\ntarget broken = unknown_name\n",
        ),
        (
            "b/targets.nub",
            "target y = step { run = `date > {out \"y\"}` }\ntarget unused = step { run = `z {out \"z\"}` }\n",
        ),
        ("c/targets.nub", "target z = nonsense nonsense"),
    ]);
    let pattern = AddressPattern::new("b/y", &WsPath::root()).unwrap();
    let evaluation = Evaluator::new(&world).request(&[pattern]);
    assert!(
        evaluation.diagnostics.is_empty(),
        "{:?}",
        evaluation.diagnostics
    );
    assert_eq!(evaluation.graph.steps.len(), 1);
    assert!(!evaluation.read.iter().any(|p| p.as_str().starts_with("c/")));
}

#[test]
fn variants_stand_side_by_side_and_only_what_reads_an_option_has_them() {
    let graph = evaluate(&[(
        "targets.nub",
        "option mode: \"debug\" | \"release\" = \"debug\"\n\
         option name: text = \"x\"\n\
         target plain = step { run = `make > {out \"plain\"}` }\n\
         target a = step { run = `cc {mode} {plain} > {out \"a\"}` }\n\
         target all = step { run = `join {a} {a under { mode = \"release\" }} {a under { mode = \"debug\" }} \
            {a under { name = \"y\" }} {plain under { mode = \"release\" }} > {out \"all\"}` }\n",
    )])
    .graph;
    let folders: Vec<&str> = graph.steps.iter().map(|s| s.folder.as_str()).collect();
    assert_eq!(
        folders,
        [
            ".nubrik/made/plain/@plain",
            ".nubrik/made/a/@a",
            ".nubrik/made/a/~workspace.mode~release/@a",
            ".nubrik/made/all/@all"
        ],
        "an option that a target never reads makes no second one, nor does its default"
    );
    assert_eq!(&*graph.steps[2].variant, "mode=release");
    assert_eq!(graph.steps[3].variant, "".into());
    assert_eq!(graph.steps[3].inputs.len(), 3);
}

#[test]
fn what_many_steps_may_read_is_one_set() {
    let definition = "let headers = glob(\"inc/**/*.h\")\n\
        private let compile(source: file, name: text, reads_too: files): step = step {\n    \
        run = `cc -I{folder} -MF {depfile \"d\"} {source} -o {out \"{name}.o\"}`\n    reads = reads_too\n}\n\
        let folder: folder = \"inc\"\n\
        target a = [each name in [\"x\", \"y\"] give compile(\"a.c\", name, headers)]\n\
        target b = compile(\"a.c\", \"z\", [headers, \"a.h\"])\n\
        target c = compile(\"a.c\", \"w\", headers)\n";
    let files = [
        ("targets.nub", definition),
        ("a.c", ""),
        ("a.h", ""),
        ("inc/x.h", ""),
        ("inc/deep/y.h", ""),
    ];
    let evaluation = evaluate(&files);
    let graph = &evaluation.graph;
    let of = |name: &str| {
        let step = graph
            .steps
            .iter()
            .find(|s| s.outputs.iter().any(|o| &*o.name == name))
            .unwrap();
        step.candidates.clone()
    };
    // The folder holds what the glob finds: the same files are the same set.
    assert_eq!(
        (
            of("x.o").len(),
            of("x.o") == of("y.o"),
            of("x.o") == of("w.o")
        ),
        (1, true, true)
    );
    assert_eq!((of("z.o").len(), graph.sets.len()), (2, 2));
}
