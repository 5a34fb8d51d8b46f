//! `nubrik test` and jobs: verdicts that are kept, cases, choices, quarantine, secrets.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::sandbox::{Run, Sandbox};
use nubrik_testing::{Need, skip};

const DEFINITIONS: &str = r#"
target table = step { run = `sort {in "heights.csv"} > {out "sorted.csv"}` }
test sorted = check { run = `sort -c {table}` }
test station tagged slow = {each s in ["ardle", "tarn"] give
    s: check { say = "station {s}", run = `grep -q {s} {table}` }
}
test cases = check { run = `cp {in "cases.tap"} {out report "cases.tap"}`, report = "report" }
test alone = check { run = `test -s {in "alone.txt"}` }
"#;

fn workspace() -> Sandbox {
    Sandbox::new(&[
        ("tide/targets.nub", DEFINITIONS),
        ("tide/heights.csv", "tarn,4\nardle,12\n"),
        ("tide/cases.tap", "1..2\nok 1 - ebb\nok 2 - flow\n"),
        ("tide/alone.txt", "x\n"),
    ])
}

/// Tests with the state of their steps, sorted.
fn states(run: &Run) -> Vec<String> {
    let tests = run.events().into_iter().filter(|e| e["event"] == "test");
    let mut states: Vec<String> = tests
        .map(|e| {
            format!(
                "{} {}",
                e["target"].as_str().unwrap().trim_start_matches("tide/"),
                e["state"].as_str().unwrap()
            )
        })
        .collect();
    states.sort();
    states
}

#[test]
fn verdicts_stand_until_something_they_depend_on_changes() {
    let sandbox = workspace();
    let run = sandbox.run(&["test", "--json"]).expect(0);
    assert_eq!(
        states(&run),
        [
            "alone ran",
            "cases ran",
            "sorted ran",
            "station/ardle ran",
            "station/tarn ran"
        ]
    );
    let summary = run.summary();
    assert_eq!(
        summary["tests"],
        serde_json::json!({ "ran": 5, "current": 0, "reused": 0, "failed": 0, "quarantined": 0, "skipped": 0 })
    );
    assert_eq!(
        summary["cases"],
        serde_json::json!({ "passed": 6, "failed": 0, "skipped": 0 })
    );
    let text = sandbox.run(&["test", "--plain"]).expect(0).stdout;
    assert!(text.contains("current   tide/station/tarn"), "{text}");
    assert!(
        text.contains("5 tests passed, all up to date: nothing they depend on changed; 6 cases."),
        "{text}"
    );
    // What is tested keeps its bytes: no test runs.
    sandbox.write("tide/heights.csv", "ardle,12\ntarn,4\n");
    let run = sandbox.run(&["test", "--json"]).expect(0);
    assert_eq!(
        (run.ran(), run.summary()["tests"]["current"].clone()),
        (vec!["make sorted.csv".to_owned()], 5.into())
    );
    // It changes: only the tests that reach it run.
    sandbox.write("tide/heights.csv", "ardle,13\ntarn,4\n");
    let run = sandbox.run(&["test", "--json"]).expect(0);
    assert_eq!(
        states(&run),
        [
            "alone current",
            "cases current",
            "sorted ran",
            "station/ardle ran",
            "station/tarn ran"
        ]
    );
    // Back again: what passed then passed.
    sandbox.write("tide/heights.csv", "ardle,12\ntarn,4\n");
    let run = sandbox.run(&["test", "--json"]).expect(0);
    assert_eq!(run.summary()["tests"]["ran"], 0);
    // Building runs no tests, and tests publish nothing.
    let run = sandbox.run(&["build", "--json"]).expect(0);
    assert_eq!(run.summary()["steps"], 1);
    assert_eq!(
        sandbox
            .files_below("out/default")
            .keys()
            .collect::<Vec<_>>(),
        ["out/default/tide/table/sorted.csv"]
    );
}

#[test]
fn failures_are_shown_and_never_kept() {
    let sandbox = workspace();
    sandbox.write(
        "tide/cases.tap",
        "1..2\nok 1 - ebb\nnot ok 2 - flow\n# wanted 4.2\n",
    );
    sandbox.write("tide/heights.csv", "tarn,4\n");
    let text = sandbox.run(&["test"]).expect(1).stdout;
    assert!(
        text.contains("tide/cases   1 of 2 cases failed\n  flow\n    wanted 4.2\n"),
        "{text}"
    );
    assert!(
        text.contains("5 tests: 3 passed, 2 failed; 6 cases."),
        "{text}"
    );
    let run = sandbox.run(&["test", "--json"]).expect(1);
    assert_eq!(states(&run)[1], "cases failed", "a failure runs again");
    assert_eq!(run.summary()["tests"]["current"], 3);
    // Only those that failed; what is left is said with why.
    let text = sandbox.run(&["test", "--failed"]).expect(1).stdout;
    assert!(
        text.contains("skipped   3 tests: passed the last time"),
        "{text}"
    );
    sandbox.write("tide/cases.tap", "1..2\nok 1 - ebb\nok 2 - flow\n");
    sandbox.write("tide/heights.csv", "tarn,4\nardle,12\n");
    let run = sandbox.run(&["test", "--failed", "--json"]).expect(0);
    assert_eq!(states(&run), ["cases ran", "station/ardle ran"]);
    let text = sandbox.run(&["test", "--failed"]).expect(0).stdout;
    assert!(text.contains("no test to run; 5 tests skipped"), "{text}");
}

#[test]
fn cases_are_listed_and_written_as_one_report() {
    let sandbox = workspace();
    sandbox.write(
        "tide/cases.tap",
        "1..3\nok 1 - ebb\nnot ok 2 - flow\nok 3 # SKIP no gauge\n",
    );
    sandbox
        .run(&["test", "--junit", "reports/all.xml"])
        .expect(1);
    let report = sandbox.read("reports/all.xml");
    assert!(
        report.contains("<testsuites tests=\"7\" failures=\"1\" skipped=\"1\""),
        "{report}"
    );
    assert!(
        report.contains("<testsuite name=\"tide/cases\" tests=\"3\" failures=\"1\" skipped=\"1\""),
        "{report}"
    );
    let list = sandbox
        .run(&["list", "--cases", "--plain", "tide/cases"])
        .expect(0)
        .stdout;
    assert_eq!(
        list,
        "failed    tide/cases\n  passed    ebb\n  failed    flow\n  skipped   case 3\n"
    );
    // A report that is none, and one that was not made.
    sandbox.write("tide/cases.tap", "nothing of that sort\n");
    let text = sandbox
        .run(&["test", "--plain", "tide/cases"])
        .expect(1)
        .stdout;
    assert!(
        text.contains("its report cannot be read: it tells of no case"),
        "{text}"
    );
    // A plain program that fails shows what it printed, once.
    sandbox.write(
        "tide/targets.nub",
        "test loud = check { run = sh`echo 'spring tide'; exit 3` }\n",
    );
    let text = sandbox.run(&["test", "--plain"]).expect(1).stdout;
    assert_eq!(text.matches("    spring tide\n").count(), 1, "{text}");
    assert!(text.contains("exited with code 3"), "{text}");
}

#[test]
fn tests_are_chosen_by_address_tag_and_what_they_use() {
    let sandbox = workspace();
    let tests =
        |args: &[&str]| states(&sandbox.run(&[&["test", "--json"], args].concat()).expect(0));
    assert_eq!(tests(&["tide/alone"]), ["alone ran"]);
    assert_eq!(tests(&["tide/station/ardle"]), ["station/ardle ran"]);
    assert_eq!(
        tests(&["tide/s*"]),
        ["sorted ran", "station/ardle current", "station/tarn ran"]
    );
    assert_eq!(tests(&["--tag", "slow"]).len(), 2);
    // A target means the tests that use it.
    assert_eq!(
        tests(&["tide/table"]),
        [
            "sorted current",
            "station/ardle current",
            "station/tarn current"
        ]
    );
    let wrong = sandbox.run(&["test", "--tag", "slwo"]).expect(2).stderr;
    assert!(
        wrong.contains("no test here is tagged `slwo`") && wrong.contains("--tag slow"),
        "{wrong}"
    );
    let wrong = sandbox.run(&["test", "tide/aloen"]).expect(2).stderr;
    assert!(wrong.contains("tide/alone"), "{wrong}");
    let empty = Sandbox::new(&[(
        "targets.nub",
        "target a = write { path = \"a\", text = \"a\" }\n",
    )]);
    assert_eq!(
        empty
            .run(&["test", "--plain"])
            .expect(0)
            .stdout
            .split(". ")
            .next(),
        Some("there are no tests here\n")
    );
}

#[test]
fn since_a_revision_only_what_it_can_affect_is_tested() {
    let sandbox = workspace();
    let git = |args: &[&str]| {
        let done = Command::new("git")
            .args([
                "-c",
                "user.name=Ardle",
                "-c",
                "user.email=ardle@skerrin.example",
            ])
            .args(args)
            .current_dir(&sandbox.folder)
            .output();
        done.is_ok_and(|d| d.status.success())
    };
    if !(git(&["init", "-q"]) && git(&["add", "-A"]) && git(&["commit", "-qm", "all"])) {
        return skip(Need::Git, "there is no git");
    }
    let since = |args: &[&str]| sandbox.run(&[&["test", "--json", "--since"], args].concat());
    assert_eq!(states(&since(&["HEAD"]).expect(0)), [""; 0]);
    sandbox.write("tide/alone.txt", "y\n");
    assert_eq!(
        states(&since(&["HEAD"]).expect(0)),
        ["alone ran"],
        "an uncommitted change counts"
    );
    git(&["commit", "-qam", "one"]);
    assert_eq!(states(&since(&["HEAD~1"]).expect(0)), ["alone current"]);
    sandbox.write("tide/heights.csv", "tarn,5\nardle,12\n");
    assert_eq!(since(&["HEAD"]).expect(0).summary()["tests"]["skipped"], 2);
    let text = sandbox
        .run(&["test", "--plain", "--since", "HEAD"])
        .expect(0)
        .stdout;
    assert!(
        text.contains("skipped   2 tests: nothing they depend on changed since HEAD"),
        "{text}"
    );
    // Definitions of a package mean all that it makes.
    sandbox.write("tide/targets.nub", &format!("{DEFINITIONS}# more\n"));
    assert_eq!(states(&since(&["HEAD"]).expect(0)).len(), 5);
    // Other commands keep to the same.
    sandbox.run(&["build"]).expect(0);
    sandbox.write(".gitignore", ".nubrik\nout\n");
    git(&[
        "rm",
        "-rq",
        "--cached",
        "--ignore-unmatch",
        ".nubrik",
        "out",
    ]);
    git(&["add", "-A"]);
    git(&["commit", "-qm", "two"]);
    let text = |args: &[&str]| {
        sandbox
            .run(&[args, &["--plain", "--since", "HEAD"]].concat())
            .expect(0)
            .stdout
    };
    let skipped = |count: &str| format!("skipped   {count} on changed since HEAD\n");
    assert_eq!(text(&["list"]), skipped("5 targets: nothing they depend"));
    let nothing = format!(
        "nothing to build here\n{}",
        skipped("1 target: nothing it depends")
    );
    assert_eq!(text(&["plan"]), nothing);
    assert_eq!(text(&["build"]), nothing);
    sandbox.write("tide/alone.txt", "z\n");
    let listed = text(&["list"]);
    assert!(
        listed.contains("alone") && !listed.contains("station") && listed.contains("4 targets:"),
        "{listed}"
    );
    assert_eq!(
        sandbox
            .run(&["list", "--json", "--since", "HEAD"])
            .expect(0)
            .events()
            .len(),
        2
    );
    sandbox.write("tide/heights.csv", "tarn,6\nardle,13\n");
    sandbox.write("extra.txt", "1\n");
    sandbox.write(
        "targets.nub",
        "target extra = step { run = `cp {in \"extra.txt\"} {out \"extra\"}` }\n",
    );
    let built = text(&["build"]);
    assert!(
        built.contains("ran       extra") && sandbox.exists("out/default/extra"),
        "{built}"
    );
    let planned = text(&["plan"]);
    assert!(planned.contains("nothing would run"), "{planned}");
    let both = sandbox
        .run(&["build", "--observe", "--since", "HEAD"])
        .expect(2)
        .stderr;
    assert!(both.contains("--observe"), "{both}");
    let wrong = sandbox
        .run(&["test", "--since", "nowhere"])
        .expect(2)
        .stderr;
    assert!(
        wrong.contains("git cannot tell what changed since `nowhere`"),
        "{wrong}"
    );
    let wrong = sandbox.run(&["list", "--since=-p"]).expect(2).stderr;
    assert!(wrong.contains("no revision begins with `-`"), "{wrong}");
    // A checkout of the newest commit alone, as CI makes them.
    assert!(git(&["add", "-A"]) && git(&["commit", "-qm", "more"]));
    let (from, shallow) = (
        format!("file://{}", sandbox.folder.display()),
        sandbox.folder.with_extension("copy"),
    );
    assert!(git(&[
        "clone",
        "-q",
        "--depth",
        "1",
        &from,
        shallow.to_str().unwrap()
    ]));
    let copy = sandbox.command_in(shallow.to_str().unwrap(), &["test", "--since", "HEAD~1"]);
    let wrong = crate::sandbox::finish(copy).expect(2).stderr;
    assert!(
        wrong.contains("holds the newest commits only") && wrong.contains("--unshallow"),
        "{wrong}"
    );
    fs::remove_dir_all(sandbox.folder.join(".git")).unwrap();
    let wrong = sandbox.run(&["plan", "--since", "HEAD"]).expect(2).stderr;
    assert!(wrong.contains("in no git repository"), "{wrong}");
}

#[test]
fn quarantine_and_repetition_tell_of_unwell_tests() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "test unwell = check { run = `false`, quarantined = \"fails at spring tide\" }\n\
         test well = check { run = `true` }\n",
    )]);
    let text = sandbox.run(&["test", "--plain"]).expect(0).stdout;
    assert!(
        text.contains("notice    unwell   failed, and does not count: fails at spring tide"),
        "{text}"
    );
    assert!(
        text.contains("2 tests: 1 passed, 1 failed in quarantine."),
        "{text}"
    );
    let run = sandbox.run(&["test", "--json"]).expect(0);
    assert_eq!(
        (
            run.summary()["ok"].clone(),
            run.summary()["tests"]["quarantined"].clone()
        ),
        (true.into(), 1.into())
    );
    let run = sandbox
        .run(&["test", "--repeat", "4", "--json", "well"])
        .expect(0);
    assert_eq!(run.ran(), ["test well"; 4]);
    // One that goes with the clock is found out.
    sandbox.write(
        "targets.nub",
        "test odd = check { run = sh`sleep 0.1; test $(( $(date +%s%N) / 100000000 % 2 )) = 1` }\n",
    );
    let found = (0..5).any(|_| {
        let run = sandbox.run(&["test", "--repeat", "6", "--plain"]);
        run.code == 1 && run.stdout.contains("flaky     odd   passed ")
    });
    assert!(found);
}

#[test]
fn what_passes_when_it_runs_again_is_flaky_and_has_not_failed() {
    let flaky = "test odd = check { run = sh`echo >> {keptfolder \"n\"}/n; test $(wc -l < {keptfolder \"n\"}/n) -ge 4` }\n";
    let known = "test known = check { run = `false`, quarantined = \"spring tides\" }\n";
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        &format!("{flaky}{known}test good = check {{ run = `true` }}\n"),
    )]);
    sandbox.run(&["test", "odd"]).expect(1);
    let run = sandbox
        .run(&["test", "--retries", "5", "--plain", "--junit", "cases.xml"])
        .expect(0);
    assert!(
        run.stdout.contains("flaky     odd   failed ") && run.stdout.contains("; 1 flaky"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout
            .contains("notice    1 test failed; trying again, 1 of 5\n"),
        "{}",
        run.stdout
    );
    // What does not count runs once, and what passed, too.
    assert_eq!(
        run.stdout.matches("test known").count(),
        1,
        "{}",
        run.stdout
    );
    assert_eq!(run.stdout.matches("test good").count(), 1, "{}", run.stdout);
    let report = sandbox.read("cases.xml");
    assert!(
        report.contains("<system-out>flaky: the test failed "),
        "{report}"
    );
    assert!(report.contains("failures=\"0\" skipped=\"1\""), "{report}");
    // It stays passed: nothing that it depends on changed.
    assert!(
        sandbox
            .run(&["test", "odd"])
            .expect(0)
            .stdout
            .contains("up to date")
    );
    // For programs; and one that always fails is a failure after all tries.
    let fresh = sandbox.copy_from_nothing();
    let run = fresh.run(&["test", "--retries", "9", "--json"]).expect(0);
    assert!(
        run.events()
            .iter()
            .any(|event| event["event"] == "flaky" && event["target"] == "odd")
    );
    assert_eq!(run.summary()["ok"], true);
    fresh.write("targets.nub", "test bad = check { run = `false` }\n");
    let run = fresh.run(&["test", "--retries", "2", "--plain"]).expect(1);
    assert_eq!(
        run.stdout.matches("error: bad: test bad").count(),
        3,
        "{}",
        run.stdout
    );
    fresh
        .run(&["test", "--retries", "2", "--repeat", "2"])
        .expect(2);
    fresh
        .run(&["test", "--retries", "2", "--dry-run"])
        .expect(2)
        .says("no test runs");
}

#[test]
fn a_check_can_stand_before_a_target() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "test good = check { run = `grep -q tide {in \"a.txt\"}` }\n\
             target released = step { run = `cp {in \"a.txt\"} {out \"released.txt\"}`, reads = good }\n",
        ),
        ("a.txt", "tide\n"),
    ]);
    sandbox.run(&["build"]).expect(0);
    sandbox.write("a.txt", "wind\n");
    let run = sandbox.run(&["build", "--plain"]).expect(1);
    assert!(run.stdout.contains("blocked   released"), "{}", run.stdout);
    assert_eq!(sandbox.read("out/default/released.txt"), "tide\n");
}

const JOBS: &str = r#"
target table = step { run = `sort {in "heights.csv"} > {out "sorted.csv"}` }
job show = effect { run = `cat {table}` }
job args = effect { run = sh`for a in "$@"; do echo "<$a>"; done; exit 7` }
job words = effect { run = `printf %s-` }
job several = [effect { say = "first", run = `echo one` }, effect { say = "second", run = `echo two` }]
job hidden = effect {
    run = sh`test "$TOKEN" = "$WANTED"; printf '%s' "$TOKEN" | wc -c`
    env = { "TOKEN": secret("TIDE_TOKEN"), "NOTE": "a note" }
}
job by_place = {each p in ["ardle", "tarn"] give p: effect { run = `echo {p}` }}
job outputs = effect { run = `cp {table} {out "x"}` }
job needs_env = effect { run = `echo {env("NOT_SET_ANYWHERE")}` }
"#;

#[test]
fn jobs_run_in_the_terminal_after_what_they_use() {
    let good = JOBS.replace(
        "job outputs = effect { run = `cp {table} {out \"x\"}` }\n",
        "",
    );
    let sandbox = Sandbox::new(&[("targets.nub", &good), ("heights.csv", "b\na\n")]);
    let run = sandbox.run(&["run", "show", "--plain"]).expect(0);
    assert_eq!(run.stdout, "a\nb\n");
    assert!(run.stderr.contains("ran       table"), "{}", run.stderr);
    assert!(
        !sandbox.exists("out/default"),
        "nothing was asked for to be published"
    );
    // Never kept: it runs again, and only it.
    let again = sandbox.run(&["run", "show", "--plain"]).expect(0);
    assert_eq!(
        (again.stdout.as_str(), again.stderr.as_str()),
        ("a\nb\n", "")
    );
    let run = sandbox
        .run(&["run", "args", "--", "one two", "three"])
        .expect(7);
    assert_eq!(run.stdout, "<one two>\n<three>\n");
    assert_eq!(
        sandbox
            .run(&["run", "words", "--", "a", "b"])
            .expect(0)
            .stdout,
        "a-b-"
    );
    let run = sandbox.run(&["run", "several", "--plain"]).expect(0);
    assert_eq!(
        (run.stdout.as_str(), run.stderr.as_str()),
        ("one\ntwo\n", "does      first\ndoes      second\n")
    );
    assert_eq!(
        sandbox.run(&["run", "by_place/tarn"]).expect(0).stdout,
        "tarn\n"
    );
    // What cannot be run says what to run.
    let wrong = sandbox.run(&["run", "by_place"]).expect(3).stderr;
    assert!(wrong.contains("nubrik run by_place/ardle"), "{wrong}");
    let wrong = sandbox.run(&["build", "show"]).expect(2).stderr;
    assert!(
        wrong.contains("`show` is a job") && wrong.contains("nubrik run show"),
        "{wrong}"
    );
    let wrong = sandbox.run(&["run", "needs_env"]).expect(3).stderr;
    assert!(wrong.contains("NOT_SET_ANYWHERE"), "{wrong}");
    // Others are not held up by what one job wants.
    assert!(
        sandbox
            .run(&["list", "--plain"])
            .expect(0)
            .stdout
            .contains("needs_env")
    );
    sandbox.run(&["build"]).expect(0);
    sandbox.write("targets.nub", JOBS);
    let wrong = sandbox.run(&["run", "outputs"]).expect(3).stderr;
    assert!(wrong.contains("an effect has no outputs"), "{wrong}");
}

#[test]
fn secrets_are_nowhere() {
    let good = JOBS.replace(
        "job outputs = effect { run = `cp {table} {out \"x\"}` }\n",
        "",
    );
    let sandbox = Sandbox::new(&[("targets.nub", &good), ("heights.csv", "b\na\n")]);
    let wrong = sandbox.run(&["run", "hidden"]).expect(4).stderr;
    assert!(wrong.contains("needs the secret `TIDE_TOKEN`"), "{wrong}");
    let value = "ebb-and-flow-4711";
    let mut printed = String::new();
    for args in [
        &["run", "hidden"][..],
        &["build"],
        &["list", "--json"],
        &["show", "hidden", "--json"],
        &["plan", "--json"],
        &["history", "--json"],
        &["graph", "--format", "json"],
        &["lint"],
    ] {
        let mut command = sandbox.command(args);
        let output = command
            .env("TIDE_TOKEN", value)
            .env("WANTED", value)
            .env("NOT_SET_ANYWHERE", "x")
            .output()
            .unwrap();
        if args == ["run", "hidden"] {
            assert_eq!(String::from_utf8_lossy(&output.stdout).trim(), "17");
        }
        printed.push_str(&String::from_utf8_lossy(&output.stdout));
        printed.push_str(&String::from_utf8_lossy(&output.stderr));
    }
    assert!(!printed.contains(value), "{printed}");
    // All files of the workspace, of the tool, and of the store.
    let everything = sandbox.folder.parent().unwrap();
    let mut open = vec![everything.to_path_buf()];
    let mut looked_at = 0;
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(&folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() && !path.is_symlink() {
                open.push(path);
            } else if let Ok(bytes) = fs::read(&path) {
                looked_at += 1;
                assert!(!contains(&bytes, value.as_bytes()), "{}", path.display());
            }
        }
    }
    assert!(looked_at > 10 && Path::new(everything).is_dir());
}

fn contains(bytes: &[u8], part: &[u8]) -> bool {
    bytes.windows(part.len()).any(|w| w == part)
}

#[test]
fn lasting_jobs_end_well_when_they_are_stopped() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "job server = effect { run = sh`trap 'echo bye; exit 0' TERM; echo up; while :; do sleep 0.05; done`, lasting = true }\n\
         job short = effect { run = `sleep 60` }\n",
    )]);
    for (job, code) in [("server", 0), ("short", 130)] {
        let mut command = sandbox.command(&["run", job]);
        let mut child = command
            .stdout(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        if job == "server" {
            use std::io::BufRead;
            let mut line = String::new();
            std::io::BufReader::new(child.stdout.take().unwrap())
                .read_line(&mut line)
                .unwrap();
            assert_eq!(line, "up\n");
        } else {
            std::thread::sleep(std::time::Duration::from_millis(500));
        }
        Command::new("kill")
            .args(["-INT", &child.id().to_string()])
            .status()
            .unwrap();
        assert_eq!(child.wait().unwrap().code(), Some(code), "{job}");
    }
}

#[test]
fn a_test_that_leaves_processes_behind_is_named() {
    if !Path::new("/usr/bin/setsid").exists() {
        return skip(Need::Sessions, "there is no setsid");
    }
    // It waits without another call that looks at a path: who supervises those is gone when the
    // step ends, and they fail.
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "test leaves = check { run = sh`mkfifo $TMPDIR/never; setsid sh -c 'exec 3<> $TMPDIR/never; : > $TMPDIR/begun; read -r stays775 <&3' > /dev/null 2>&1 & until test -e $TMPDIR/begun; do sleep 0.01; done` }\n\
         test tidy = check { run = `true` }\n",
    )]);
    let text = sandbox.run(&["test", "--plain"]).expect(0).stdout;
    assert!(
        text.contains("notice    1 process left running by steps; stopped: leaves\n"),
        "{text}"
    );
    let left = Command::new("sh")
        .args(["-c", "ps ax -o args | grep -c '[s]tays775'"])
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&left.stdout).trim(), "0");
}

#[test]
fn a_test_that_hangs_fails_and_its_report_says_so() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:c\" as c\n\
             test hangs = c.test_program { sources = \"h.c\", timeout = 300ms }\n\
             test unsure = c.test_program { sources = \"h.c\", timeout = 300ms, quarantined = \"the tide is late\" }\n\
             test good = check { run = `true` }\n",
        ),
        (
            "h.c",
            "#include <unistd.h>\nint main(void) { sleep(60); return 0; }\n",
        ),
    ]);
    let run = sandbox.run(&["test", "--junit", "cases.xml"]).expect(1);
    assert!(
        run.stdout
            .contains("3 tests: 1 passed, 1 failed, 1 failed in quarantine"),
        "{}",
        run.stdout
    );
    // The place of a test is the user's line, also where a kit gives its command.
    let told = sandbox.run(&["test", "hangs", "--json"]).expect(1).events();
    let test = told.iter().find(|event| event["event"] == "test").unwrap();
    assert_eq!(test["defined"], "targets.nub:2");
    let report = sandbox.read("cases.xml");
    assert_eq!(
        report.matches("<failure message=\"timed out after").count(),
        1,
        "{report}"
    );
    let quarantined = "<skipped message=\"quarantined: the tide is late; timed out after";
    assert_eq!(report.matches(quarantined).count(), 1, "{report}");
    assert!(
        report.contains("<testsuites tests=\"3\" failures=\"1\" skipped=\"1\""),
        "{report}"
    );
}

/// Who collects the report of a run and that of the last runs counts no case twice.
#[test]
fn both_junit_reports_name_the_same_cases_in_the_same_words() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "test flow = {\n\
           \"x\": check { run = `true` },\n\
           \"y\": check { run = sh`echo no tide; exit 1` },\n\
           \"z\": check { run = sh`printf '1..1\\nok 1 - high\\n' > {out r \"z.tap\"}; exit 3`, report = \"r\" },\n\
           \"q\": check { run = sh`echo spring; exit 1`, quarantined = \"the moon\" },\n\
         }\n",
    )]);
    sandbox.run(&["test", "--junit", "run.xml"]).expect(1);
    sandbox
        .run(&["report", "tests", "--junit", "last.xml"])
        .expect(0);
    let suites = |file: &str| {
        let text = sandbox.read(file);
        let all = text
            .split("  <testsuite ")
            .skip(1)
            .map(|suite| suite.split(" time=").next().unwrap().to_owned());
        let mut all: Vec<String> = all.collect();
        let case = |line: &str| {
            line.split(" time=")
                .next()
                .unwrap_or_default()
                .trim()
                .to_owned()
        };
        all.extend(
            text.lines()
                .filter(|line| !line.contains("<testsuite"))
                .map(case),
        );
        all.sort();
        all
    };
    assert_eq!(suites("run.xml"), suites("last.xml"));
    let text = sandbox.read("run.xml");
    assert!(text.contains("classname=\"flow\" name=\"y\""), "{text}");
    assert!(
        text.contains("<failure message=\"no tide\">no tide</failure>"),
        "{text}"
    );
    assert!(text.contains("name=\"the test as a whole\""), "{text}");
}

#[test]
fn reports_say_why_a_silent_test_failed() {
    let sandbox = Sandbox::new(&[("targets.nub", "test silent = check { run = `false` }\n")]);
    sandbox.run(&["test"]).expect(1);
    sandbox
        .run(&[
            "report",
            "tests",
            "--junit",
            "t.xml",
            "--markdown",
            "t.md",
            "--html",
            "t.html",
        ])
        .expect(0);
    for file in ["t.xml", "t.md", "t.html"] {
        assert!(
            sandbox.read(file).contains("exited with code 1"),
            "{file}: {}",
            sandbox.read(file)
        );
    }
    sandbox.run(&["report", "--markdown", "b.md"]).expect(0);
    assert!(
        sandbox
            .read("b.md")
            .contains("exited with code 1; it ran since: never built here"),
        "{}",
        sandbox.read("b.md")
    );
}

#[test]
fn how_long_tests_may_take_is_a_setting() {
    let sandbox = Sandbox::new(&[
        ("nubrik.toml", "test_timeout = 1\n"),
        (
            "targets.nub",
            "test hangs = check { run = `sleep 60` }\ntest slow = check { run = `sleep 2`, timeout = 1min }\n",
        ),
    ]);
    let run = sandbox.run(&["test"]).expect(1);
    assert!(
        run.stdout.contains("hangs") && run.stdout.contains("timed out after 1.00s"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout.contains("2 tests: 1 passed, 1 failed"),
        "{}",
        run.stdout
    );
    sandbox.write("nubrik.toml", "test_timeout = 0\n");
    let wrong = sandbox.run(&["test"]).expect(3);
    assert!(
        wrong
            .stderr
            .contains("`test_timeout` is a number of seconds"),
        "{}",
        wrong.stderr
    );
}

#[test]
fn one_bad_thing_does_not_stop_the_rest() {
    let sandbox = Sandbox::new(&[
        (
            "good/targets.nub",
            "target a = step { run = sh`echo a > {out \"x\"}` }\ntest t = check { run = `true` }\n",
        ),
        (
            "good/below/targets.nub",
            "target b = step { run = sh`echo b > {out \"x\"}` }\n",
        ),
        ("unclosed/targets.nub", "target c = step { run = sh`echo\n"),
        (
            "strange/targets.nub",
            "use \"nub:nothing\" as n\ntarget d = n.x {}\ntest dt = check { run = `true` }\n",
        ),
        (
            "mixed/targets.nub",
            "target needs = step { run = sh`cat {in &unclosed/c} > {out \"x\"}` }\n\
             target fine = step { run = sh`echo fine > {out \"x\"}` }\n\
             test late = check { run = `millstone-that-is-not-there` }\n",
        ),
        ("cases.xml", "of before"),
    ]);
    // Without being asked to go on nothing is built, and no report of before is left.
    sandbox.run(&["build"]).expect(3);
    sandbox.run(&["test", "--junit", "cases.xml"]).expect(3);
    assert!(!sandbox.folder.join("cases.xml").exists());

    let run = sandbox.run(&["build", "-k"]).expect(3);
    assert!(
        run.stderr.contains("this command is never closed"),
        "{}",
        run.stderr
    );
    let left =
        "left out  mixed/needs, strange/d, unclosed/c: they have errors, or need what has some";
    assert!(run.stdout.contains(left), "{}", run.stdout);
    for made in ["good/a/x", "good/below/b/x", "mixed/fine/x"] {
        assert!(
            sandbox.folder.join("out/default").join(made).exists(),
            "{made}"
        );
    }
    // All is there, and still not all is well.
    let again = sandbox.run(&["build", "-k", "--json"]).expect(3);
    let event = |name: &str| {
        again
            .events()
            .into_iter()
            .find(|event| event["event"] == name)
            .unwrap()
    };
    assert_eq!(
        event("unevaluated")["addresses"],
        serde_json::json!(["mixed/needs", "strange/d", "unclosed/c"])
    );
    assert_eq!(
        (&event("summary")["ok"], &event("summary")["current"]),
        (&false.into(), &3.into())
    );
    // What was left out is swept by nobody.
    sandbox.write(
        "unclosed/targets.nub",
        "target c = step { run = sh`echo c > {out \"x\"}` }\n",
    );
    sandbox
        .run(&["build", "unclosed/c", "mixed/needs"])
        .expect(0);
    sandbox.write("unclosed/targets.nub", "target c = step { run = sh`echo\n");
    sandbox.run(&["build", "-k"]).expect(3);
    assert!(
        sandbox.folder.join("out/default/unclosed/c/x").exists()
            && sandbox.folder.join("out/default/mixed/needs/x").exists()
    );

    let tested = sandbox
        .run(&["test", "-k", "--junit", "cases.xml"])
        .expect(4);
    assert!(
        tested.stdout.contains("2 tests: 1 passed, 1 failed"),
        "{}",
        tested.stdout
    );
    let report = sandbox.read("cases.xml");
    assert!(report.contains("tests=\"4\" failures=\"3\""), "{report}");
    assert!(
        report.contains("no kit `nothing` ships with nubrik"),
        "{report}"
    );
    // Answers of probes are still found for what is left.
    let probing = Sandbox::new(&[
        (
            "a/targets.nub",
            "target x = step { run = sh`echo > {out \"o\"}`, folder = \"nowhere\" }\n",
        ),
        (
            "b/targets.nub",
            "let has = probe { run = `true` }.ok\ntarget y = write { path = \"o\", text = if has then \"yes\" else \"no\" }\n",
        ),
    ]);
    let run = probing.run(&["build", "-k"]).expect(3);
    assert!(
        run.stdout.contains("left out  a/x") && probing.read("out/default/b/y/o") == "yes",
        "{}",
        run.stdout
    );
    // Where nothing is left it is as without it.
    let none = sandbox.run(&["build", "-k", "strange"]).expect(3);
    assert!(!none.stdout.contains("left out"), "{}", none.stdout);
}

#[test]
fn what_is_well_in_parts_and_wrong_together_is_not_built() {
    let sandbox = Sandbox::new(&[
        (
            "p/targets.nub",
            "target q = step { run = sh`echo a > {out \"r/x\"}` }\n",
        ),
        (
            "p/q/targets.nub",
            "target r = step { run = sh`echo b > {out \"x\"}` }\n",
        ),
    ]);
    let run = sandbox.run(&["build", "-k"]).expect(3);
    assert!(run.stderr.contains("both make"), "{}", run.stderr);
    assert!(
        !run.stdout.contains("left out") && !sandbox.exists("out/default/p"),
        "{}",
        run.stdout
    );
}

#[test]
fn of_what_changed_since_a_revision_the_good_part_is_built() {
    let git = |folder: &std::path::Path, args: &[&str]| {
        let mut command = std::process::Command::new("git");
        command
            .args([
                "-c",
                "user.name=Harbour",
                "-c",
                "user.email=harbour@isles.example",
            ])
            .args(args);
        command
            .current_dir(folder)
            .output()
            .is_ok_and(|output| output.status.success())
    };
    let step =
        |text: &str| format!("target t = step {{ run = sh`echo {text} > {{out \"x\"}}` }}\n");
    let sandbox = Sandbox::new(&[
        ("changed/targets.nub", &step("a")),
        ("wrong/targets.nub", &step("b")),
        ("same/targets.nub", &step("c")),
    ]);
    let folder = &sandbox.folder;
    if !git(folder, &["init", "-q"]) {
        return skip(Need::Git, "there is no git");
    }
    assert!(git(folder, &["add", "."]) && git(folder, &["commit", "-q", "-m", "All"]));
    sandbox.write("changed/targets.nub", &step("d"));
    sandbox.write("wrong/targets.nub", "target t = step {\n");
    sandbox.run(&["build", "--since", "HEAD"]).expect(3);
    assert!(!sandbox.exists("out/default/changed"));
    let run = sandbox.run(&["build", "--since", "HEAD", "-k"]).expect(3);
    assert!(run.stdout.contains("left out  wrong"), "{}", run.stdout);
    assert_eq!(sandbox.read("out/default/changed/t/x"), "d\n");
    assert!(!sandbox.exists("out/default/same"), "{}", run.stdout);
}

#[test]
fn a_failure_in_quarantine_stops_nothing() {
    // One after the other, and the failure first.
    let sandbox = Sandbox::new(&[
        ("nubrik.toml", "jobs = 1\n"),
        (
            "targets.nub",
            "test unwell = check { run = `false`, quarantined = \"fails at spring tide\" }\n\
             target slow = step { run = sh`sleep 0.3; echo > {out \"s\"}` }\n\
             target late = step { run = sh`cp {slow} {out \"l\"}` }\n",
        ),
    ]);
    let run = sandbox
        .run(&["build", "unwell", "late", "--json"])
        .expect(0);
    assert_eq!(
        (
            &run.summary()["unstarted"],
            sandbox.exists("out/default/late/l")
        ),
        (&0.into(), true)
    );
}
