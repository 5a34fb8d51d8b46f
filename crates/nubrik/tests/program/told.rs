//! A step that was refused something and went on without it is reported, where its definition or
//! something that it reads is new or changed; a step that failed because it was refused something
//! says what.

use crate::sandbox::{Sandbox, has_sandboxes};
use nubrik_testing::{Need, skip};

/// Whether this machine can record what commands do.
fn records() -> bool {
    let can = nubrik_confine::can_record();
    if !can {
        skip(Need::Confinement, "this kernel cannot record");
    }
    can
}

fn workspace(targets: &str) -> Sandbox {
    Sandbox::new(&[
        ("targets.nub", targets),
        ("d/a", "1"),
        ("d/b.txt", "2"),
        ("py/s.py", "import helper\n"),
        ("py/t.py", "print(1)\n"),
        ("py/helper.py", "x = 1\n"),
    ])
}

/// What is printed below a step that ended well: refusals, a reading, a mend.
fn told(sandbox: &Sandbox) -> Vec<(String, Vec<String>, Vec<String>)> {
    let texts = |value: &serde_json::Value| -> Vec<String> {
        value
            .as_array()
            .unwrap()
            .iter()
            .map(|text| text.as_str().unwrap().to_owned())
            .collect()
    };
    let mut told: Vec<_> = sandbox
        .build()
        .events()
        .into_iter()
        .filter(|event| event["event"] == "refused")
        .map(|e| {
            (
                e["target"].as_str().unwrap().to_owned(),
                texts(&e["refused"]),
                texts(&e["try"]),
            )
        })
        .collect();
    told.sort();
    told
}

#[test]
fn a_refusal_that_a_step_survives_is_told_with_the_words_to_add() {
    if !records() {
        return;
    }
    let sandbox = workspace(
        "target read = step { run = sh`cp d/a {out \"x\"}; cat d/b.txt || true`, reads = [\"d/a\"] }\n\
         target wrote = step { run = sh`cp {in \"d/a\"} {out \"x\"}; echo > d/side || true` }\n\
         target absent = step { run = sh`cp {in \"d/a\"} {out \"x\"}; cat d/none || true` }\n",
    );
    let first = told(&sandbox);
    let refused: Vec<(&str, &str)> = first.iter().map(|(t, r, _)| (&**t, &*r[0])).collect();
    assert_eq!(
        refused,
        [("read", "reading d/b.txt"), ("wrote", "writing d/side")]
    );
    assert!(
        first[0].2[0].starts_with("reads = [\"d/b.txt\"]"),
        "{first:?}"
    );
    assert!(first[1].2[0].contains("{out \"side\"}"), "{first:?}");
    // Again when an input changes, which may be its script, or the definition; not while nothing
    // changes.
    assert_eq!(told(&sandbox), []);
    sandbox.write("d/a", "3");
    assert_eq!(told(&sandbox), first);
    let changed = sandbox
        .read("targets.nub")
        .replace("cat d/b.txt ||", "cat d/b.txt >&2 ||");
    sandbox.write("targets.nub", &changed);
    assert_eq!(told(&sandbox).len(), 1);
    // What is declared is reported no more.
    let declared = changed.replace("reads = [\"d/a\"]", "reads = [\"d/a\", \"d/b.txt\"]");
    sandbox.write("targets.nub", &declared);
    assert_eq!(told(&sandbox), []);
    let text = workspace(&changed)
        .run(&["build", "--plain"])
        .expect(0)
        .stdout;
    assert!(
        text.contains("reading   it succeeded anyway; the result may be incomplete"),
        "{text}"
    );
}

#[test]
fn a_folder_shows_exactly_what_is_declared_and_what_it_lacks_is_told() {
    if !records() || !has_sandboxes() {
        return skip(
            Need::Confinement,
            "folders are refused whole where there are no sandboxes",
        );
    }
    let sandbox = workspace(
        "private let d: folder = \"d\"\n\
         target part = step { run = `ls d > {out \"x\"}`, reads = [\"d/a\"] }\n\
         target whole = step { run = `ls {d} > {out \"x\"}` }\n\
         target copied = step { run = `cp -r {d} {outfolder \"c\"}` }\n\
         target root = step { run = `find . -name a -not -path \"./.*\" > {out \"x\"}`, reads = [\"d/a\"] }\n",
    );
    let told = told(&sandbox);
    let refused: Vec<(&str, &str)> = told.iter().map(|(t, r, _)| (&**t, &*r[0])).collect();
    assert_eq!(
        refused,
        [
            ("part", "listing all of d: b.txt is not declared"),
            (
                "root",
                "listing all of the workspace's root: py is not declared"
            ),
        ]
    );
    assert!(told[0].2[0].starts_with("reads = [\"d/**\"]"), "{told:?}");
    assert_eq!(sandbox.read("out/default/part/x"), "a\n");
    assert_eq!(sandbox.read("out/default/whole/x"), "a\nb.txt\n");
    assert!(
        sandbox.exists("out/default/copied/c/d/b.txt")
            || sandbox.exists("out/default/copied/d/b.txt")
    );
    // The mend works as it is.
    let mended = sandbox.read("targets.nub").replace(
        "reads = [\"d/a\"] }\ntarget whole",
        "reads = [\"d/**\"] }\ntarget whole",
    );
    sandbox.write("targets.nub", &mended);
    sandbox.build();
    assert_eq!(sandbox.read("out/default/part/x"), "a\nb.txt\n");
}

#[test]
fn a_module_that_was_not_declared_is_named_and_looking_for_modules_is_no_news() {
    if !records()
        || !has_sandboxes()
        || std::process::Command::new("python3")
            .arg("-V")
            .output()
            .is_err()
    {
        return skip(
            Need::Python,
            "there is no python3, or there are no sandboxes",
        );
    }
    let sandbox = workspace("target t = step { run = `python3 {in \"py/t.py\"} > {out \"x\"}` }\n");
    assert_eq!(told(&sandbox), []);
    let sandbox = workspace("target s = step { run = `python3 {in \"py/s.py\"} > {out \"x\"}` }\n");
    let printed = sandbox.run(&["build"]).expect(1).stdout;
    assert!(
        printed.contains("and was not allowed to read py/helper.py"),
        "{printed}"
    );
    assert!(
        printed.contains("try       reads = [\"py/helper.py\"]"),
        "{printed}"
    );
}

#[test]
fn a_script_that_begins_to_look_elsewhere_is_reported_when_it_changes() {
    if !records() {
        return;
    }
    let sandbox = workspace("target a = step { run = `sh {in \"d/s.sh\"} {out \"x\"}` }\n");
    sandbox.write("d/s.sh", "echo 1 > $1\n");
    assert_eq!(told(&sandbox), []);
    sandbox.write("d/s.sh", "echo 1 > $1; cat d/b.txt 2> /dev/null || true\n");
    let told = told(&sandbox);
    assert_eq!(told.len(), 1, "{told:?}");
    assert_eq!(told[0].1, ["reading d/b.txt"]);
}

#[test]
fn a_step_that_only_looks_for_an_undeclared_file_and_then_fails_says_so() {
    if !records() {
        return;
    }
    if !crate::sandbox::has_sandboxes() {
        skip(
            Need::Confinement,
            "path rules hide no file from who only looks",
        );
        return;
    }
    for command in [
        "test -e d/b.txt || exit 3",
        "[ -r d/b.txt ] || echo no input >&2; [ -r d/b.txt ] || exit 3",
        "python3 -c 'import os, sys; sys.exit(3 * (not os.path.exists(\"d/b.txt\")))'",
    ] {
        if command.starts_with("python3")
            && std::process::Command::new("python3")
                .arg("-V")
                .output()
                .is_err()
        {
            skip(Need::Python, "one of the programs is Python");
            continue;
        }
        let sandbox = workspace(&format!(
            "target a = step {{ run = sh`{command}; echo > {{out \"x\"}}` }}\n"
        ));
        let printed = sandbox.run(&["build", "--plain"]).expect(1).stdout;
        assert!(
            printed.contains("looking for d/b.txt"),
            "{command}: {printed}"
        );
        assert!(
            printed.contains("try       reads = [\"d/b.txt\"]"),
            "{command}: {printed}"
        );
    }
    // A file that is not there is nobody's to declare.
    let sandbox =
        workspace("target a = step { run = sh`test -e d/none || exit 3; echo > {out \"x\"}` }\n");
    let printed = sandbox.run(&["build", "--plain"]).expect(1).stdout;
    assert!(!printed.contains("looking for"), "{printed}");
}

#[test]
fn runtimes_that_look_round_the_machine_are_never_named_as_a_cause() {
    if !records() {
        return;
    }
    let script = "exec 2> /dev/null; cat /proc/1/environ; echo > /proc/self/nothing; cat /dev/kmsg; true > /var/tmp/x; exit 4";
    let sandbox = workspace(&format!(
        "target z = step {{ run = [`sh -c '{script}'`, `touch {{out \"x\"}}`] }}\n"
    ));
    let printed = sandbox.run(&["build", "--plain"]).expect(1).stdout;
    assert!(
        printed.contains("exited with code 4\n") && !printed.contains("refused"),
        "{printed}"
    );
}
