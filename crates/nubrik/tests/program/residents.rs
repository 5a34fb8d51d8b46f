//! Programs that stay during a build, and answer requests of several steps.

use crate::sandbox::{Sandbox, has_sandboxes};
use nubrik_testing::{Need, skip};

/// Takes `["shout","FROM","TO"]`, counts its requests, and says what it sees of the workspace.
const SERVER: &str = r#"
count=0 number=0
while IFS='"' read -r _ _ _ from _ to _; do
    if [ -z "$from" ]; then echo '{"request": 0}'; continue; fi
    count=$((count + 1)) number=$((number + 1))
    if grep -q die "$from"; then exit 7; fi
    if grep -q babble "$from"; then echo what; continue; fi
    if grep -q hang "$from"; then sleep 60; fi
    if grep -q bad "$from"; then
        echo "about $from" >&2
        printf '{"request": %s, "code": 3, "printed": "it is bad\\n"}\n' $number
        continue
    fi
    tr a-z A-Z < "$from" > "$to"
    printf '{"request": %s, "printed": "request %s sees %s\\n"}\n' "$number" "$count" "$(ls | tr '\n' ' ')"
done
"#;

const SHOUTED: &str = "target all = {each t in glob(\"t*.csv\") give t.stem: step {\n\
    \x20   say = \"shout {t.stem}\"\n\
    \x20   run = `shout {t} {out \"{t.stem}.txt\"}`\n\
    \x20   answered_by = `sh {in \"serve.sh\"}`\n\
    }}\n";

fn with_server(tables: &[(&str, &str)], targets: &str) -> Sandbox {
    let mut files = vec![
        ("nubrik.toml", "jobs = 1\n"),
        ("serve.sh", SERVER),
        ("targets.nub", targets),
    ];
    files.extend(tables);
    Sandbox::new(&files)
}

#[test]
fn one_program_answers_several_steps_each_in_its_own_room() {
    let sandbox = with_server(
        &[("t1.csv", "ebb"), ("t2.csv", "flow"), ("t3.csv", "neap")],
        SHOUTED,
    );
    let run = sandbox.run(&["build"]).expect(0);
    assert_eq!(
        ["t1", "t2", "t3"].map(|t| sandbox.read(&format!("out/default/all/{t}.txt"))),
        ["EBB", "FLOW", "NEAP"]
    );
    if has_sandboxes() {
        for told in [
            "request 1 ",
            "request 2 ",
            "request 3 ",
            "sees serve.sh t1.csv",
            "sees serve.sh t3.csv",
        ] {
            assert!(run.stdout.contains(told), "{told}{}", run.stdout);
        }
    }
    sandbox.run(&["build"]).expect(0).says("nothing to run");
    // Each answer is kept for itself.
    sandbox.write("t2.csv", "surge");
    let run = sandbox.run(&["build", "--json"]).expect(0);
    assert_eq!(run.ran(), ["shout t2"]);
    // The program is an input of all of them.
    sandbox.write("serve.sh", &SERVER.replace("tr a-z A-Z", "tr a-y A-Y"));
    assert_eq!(sandbox.run(&["build", "--json"]).expect(0).ran().len(), 3);
    let shown = sandbox.run(&["show", "all"]).expect(0);
    assert!(
        shown
            .stdout
            .contains("sh serve.sh <<< '[\"shout\",\"t1.csv\","),
        "{}",
        shown.stdout
    );
    // Seen alone, it makes the same.
    sandbox.run(&["build", "--observe", "all"]);
}

#[test]
fn a_request_that_fails_fails_alone() {
    let sandbox = with_server(
        &[("t1.csv", "ebb"), ("t2.csv", "bad"), ("t3.csv", "neap")],
        SHOUTED,
    );
    let run = sandbox.run(&["build", "--keep-going"]).expect(1);
    for told in [
        "about t2.csv",
        "it is bad",
        "exited with code 3",
        "1 of 3 steps failed",
    ] {
        assert!(run.stdout.contains(told), "{told}\n{}", run.stdout);
    }
    assert_eq!(sandbox.read("out/default/all/t3.txt"), "NEAP");
}

#[test]
fn a_program_that_ends_babbles_or_hangs_is_told_and_replaced() {
    let tables = [
        ("t1.csv", "ebb"),
        ("t2.csv", "die"),
        ("t3.csv", "babble"),
        ("t4.csv", "neap"),
    ];
    let sandbox = with_server(&tables, SHOUTED);
    let run = sandbox.run(&["build", "--keep-going"]).expect(1);
    assert!(run.stdout.contains("exited with code 7"), "{}", run.stdout);
    assert!(
        run.stdout
            .contains("invalid answer of the persistent worker: what"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout
            .contains("answer each line with one line such as"),
        "{}",
        run.stdout
    );
    assert_eq!(sandbox.read("out/default/all/t4.txt"), "NEAP");
    let limited = SHOUTED.replace("    say", "    timeout = 300ms\n    say");
    let sandbox = with_server(&[("t1.csv", "hang"), ("t2.csv", "ebb")], &limited);
    let run = sandbox.run(&["build", "--keep-going"]).expect(1);
    assert!(run.stdout.contains("timed out"), "{}", run.stdout);
    assert_eq!(sandbox.read("out/default/all/t2.txt"), "EBB");
}

#[test]
fn a_room_that_cannot_become_the_next_one_ends_with_its_program() {
    // A link that leads out of the workspace takes something of the machine that was not there when
    // the sandbox was made.
    let sandbox = with_server(&[("t1.csv", "ebb"), ("t3.csv", "neap")], SHOUTED);
    let outside = sandbox.folder.parent().unwrap().join("elsewhere.csv");
    std::fs::write(&outside, "flowing").unwrap();
    std::os::unix::fs::symlink(&outside, sandbox.folder.join("t2.csv")).unwrap();
    sandbox.run(&["build"]).expect(0);
    sandbox.write("t1.csv", "low");
    sandbox.write("serve.sh", &SERVER.replace("count=0", "count=1"));
    sandbox.run(&["build"]).expect(0);
    assert_eq!(
        ["t1", "t2", "t3"].map(|t| sandbox.read(&format!("out/default/all/{t}.txt"))),
        ["LOW", "FLOWING", "NEAP"]
    );
}

#[test]
fn a_probe_may_be_answered_so() {
    let sandbox = with_server(
        &[("t1.csv", "ebb"), ("t2.csv", "flow")],
        "let answer(t: file): text = probe { run = `shout {t} {scratch \"x\"}`, answered_by = `sh {in \"serve.sh\"}` }.text\n\
         target all = write { path = \"all\", text = [each t in glob(\"t*.csv\") give answer(t)].join(\"\\n\") }\n",
    );
    sandbox.run(&["build"]).expect(0);
    let all = sandbox.read("out/default/all");
    assert!(
        !has_sandboxes()
            || all.contains("sees serve.sh t1.csv") && all.contains("sees serve.sh t2.csv"),
        "{all}"
    );
    sandbox.write("t2.csv", "surge");
    let run = sandbox.run(&["build", "--json"]).expect(0);
    assert_eq!(
        run.said("ran")
            .iter()
            .filter(|say| say.contains("probe"))
            .count(),
        1,
        "{}",
        run.stdout
    );
}

#[test]
fn what_is_observed_is_asked_alone() {
    let observed = SHOUTED.replace(
        "    say",
        "    observed = true\n    reads = \"aside/*.txt\"\n    say",
    );
    let sandbox = with_server(
        &[("t1.csv", "ebb"), ("t2.csv", "flow"), ("aside/x.txt", "1")],
        &observed,
    );
    let run = sandbox.run(&["build"]).expect(0);
    assert!(
        !has_sandboxes() || run.stdout.matches("request 1 sees").count() == 2,
        "{}",
        run.stdout
    );
    // Nobody read it: it does not count.
    sandbox.write("aside/x.txt", "2");
    let ran = sandbox.run(&["build", "--json"]).expect(0).ran();
    assert!(!has_sandboxes() || ran.is_empty(), "{ran:?}");
}

#[test]
fn a_program_may_close_what_it_does_not_need() {
    // It takes one request, closes its input and its errors, and takes its time.
    let server = "while IFS='\"' read -r _ _ _ from _ to _; do\n\
        if [ -z \"$from\" ]; then echo '{}'; continue; fi\n\
        exec < /dev/null 2>&-; sleep 0.3; cp \"$from\" \"$to\"; echo '{}'; exit 0\n\
        done\n";
    let sandbox = with_server(&[("t1.csv", "ebb"), ("t2.csv", "flow")], SHOUTED);
    sandbox.write("serve.sh", server);
    sandbox.run(&["build"]).expect(0);
    assert_eq!(
        ["t1", "t2"].map(|t| sandbox.read(&format!("out/default/all/{t}.txt"))),
        ["ebb", "flow"]
    );
}

#[test]
fn what_it_takes_in_at_its_start_is_the_same_whoever_asks_first() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "programs stay in sandboxes only");
    }
    // It would know a file that only the first one declares.
    let server = SERVER.replace("count=0", "count=$(cat aside.txt 2> /dev/null || echo 10)");
    let targets = "target a = step { run = `shout {in \"t1.csv\"} {out \"a\"}`, answered_by = `sh {in \"serve.sh\"}`, reads = \"aside.txt\" }\n\
        target b = step { run = `shout {in \"t2.csv\"} {out \"b\"}`, answered_by = `sh {in \"serve.sh\"}` }\n";
    let sandbox = with_server(
        &[
            ("t1.csv", "a long one"),
            ("t2.csv", "ebb"),
            ("aside.txt", "70\n"),
        ],
        targets,
    );
    sandbox.write("serve.sh", &server);
    let run = sandbox.run(&["build"]).expect(0);
    assert!(
        run.stdout.contains("request 11 sees") && !run.stdout.contains("request 7"),
        "{}",
        run.stdout
    );
}

#[test]
fn neither_request_nor_program_is_a_pipe() {
    let sandbox = with_server(
        &[("t1.csv", "ebb")],
        "target a = step { run = `shout {in \"t1.csv\"} > {out \"x\"}`, answered_by = `sh {in \"serve.sh\"}` }\n\
         target b = step { run = `shout {out \"x\"}`, answered_by = `sh {in \"serve.sh\"} | cat` }\n",
    );
    let run = sandbox.run(&["build"]).expect(3);
    assert_eq!(
        run.stderr
            .matches("neither a program that stays nor what it is asked has pipes")
            .count(),
        2
    );
    let two = "target a = step { run = `x {out \"x\"}`, answered_by = [`sh {in \"serve.sh\"}`, `sh {in \"serve.sh\"}`] }\n";
    sandbox.write("targets.nub", two);
    sandbox
        .run(&["build"])
        .expect(3)
        .says("one program answers, not several in a row");
}
