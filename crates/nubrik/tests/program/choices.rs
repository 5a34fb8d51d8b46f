//! What people choose for one run: less or more to read, steps again, no network, no kept results,
//! some tests.

use crate::sandbox::Sandbox;

const DEFINITIONS: &str = "target ebb = step { run = `date +%N > {out \"ebb\"}` }\n\
    target flood = step { run = `cp {ebb} {out \"flood\"}` }\n\
    test high = check { run = `test -s {flood}` }\n\
    test low = {each n in [\"one\", \"two\"] give n: check { run = `true {n}` }}\n";

fn tides() -> Sandbox {
    Sandbox::new(&[("targets.nub", DEFINITIONS)])
}

#[test]
fn steps_run_again_when_that_is_wanted_and_only_those_of_the_targets() {
    let sandbox = tides();
    sandbox.build();
    let first = sandbox.read("out/default/ebb");
    assert!(sandbox.build().ran().is_empty());
    let run = sandbox
        .run(&["build", "flood", "--rerun", "--json"])
        .expect(0);
    assert_eq!(
        (run.ran(), run.reason("make flood").as_str()),
        (vec!["make flood".to_owned()], "asked for again")
    );
    let run = sandbox.run(&["build", "--rerun", "--json"]).expect(0);
    assert_eq!(run.ran(), ["make ebb", "make flood"]);
    assert_ne!(sandbox.read("out/default/ebb"), first);
    assert!(
        sandbox.build().ran().is_empty(),
        "the seal holds after that"
    );
    sandbox.run(&["test"]).expect(0);
    let run = sandbox
        .run(&["test", "high", "--rerun", "--json"])
        .expect(0);
    assert_eq!(run.ran(), ["test high"]);
    assert!(
        sandbox
            .run(&["build", "--rerun", "-n"])
            .expect(2)
            .stderr
            .contains("cannot be used with")
    );
}

#[test]
fn less_and_more_is_told() {
    let sandbox = tides();
    let run = sandbox.run(&["build", "-v"]).expect(0).stdout;
    assert!(
        run.contains(
            "\n  command   cp .nubrik/made/ebb/@ebb/ebb .nubrik/made/flood/@flood/flood\n"
        ),
        "{run}"
    );
    for args in [
        &["build", "-q"][..],
        &["build", "--rerun", "-q"],
        &["test", "-q"],
    ] {
        let run = sandbox.run(args).expect(0);
        assert_eq!(
            (run.stdout.as_str(), run.stderr.as_str()),
            ("", ""),
            "{args:?}"
        );
    }
    sandbox.write(
        "targets.nub",
        &format!("{DEFINITIONS}target neap = step {{ run = `false {{out \"x\"}}` }}\n"),
    );
    let run = sandbox.run(&["build", "-q"]).expect(1).stdout;
    assert!(
        run.starts_with("failed    neap") && run.contains("1 of 3 steps failed"),
        "{run}"
    );
    let events = sandbox.run(&["build", "-q", "--json"]).expect(1).events();
    let steps: Vec<_> = events.iter().filter(|e| e["event"] == "step").collect();
    assert!(
        steps.len() == 1 && steps[0]["state"] == "failed",
        "{steps:?}"
    );
    let event = &sandbox
        .run(&["build", "ebb", "--rerun", "-v", "--json"])
        .expect(0)
        .events()[1];
    assert!(
        event["command"][0]
            .as_str()
            .unwrap()
            .starts_with("date +%N > "),
        "{event}"
    );
    assert!(
        sandbox
            .run(&["build", "-q", "-v"])
            .expect(2)
            .stderr
            .contains("cannot be used with")
    );
}

#[test]
fn offline_fails_what_needs_the_network_and_takes_what_is_kept() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = `date > {out \"a\"}`, network = true }\ntarget b = step { run = `date > {out \"b\"}` }\n",
    )]);
    let run = sandbox.run(&["build", "-k", "--offline"]).expect(1).stdout;
    assert!(
        run.contains("it needs the network, and this build is offline"),
        "{run}"
    );
    assert!(
        run.contains("try       build once without --offline: its result is kept"),
        "{run}"
    );
    assert!(sandbox.exists(".nubrik/made/b/@b/b"));
    sandbox.build();
    sandbox.run(&["build", "--offline"]).expect(0);
    sandbox.run(&["clean"]).expect(0);
    sandbox.run(&["build", "--offline"]).expect(0);
}

#[test]
fn without_the_cache_nothing_is_taken_and_nothing_is_kept() {
    let sandbox = tides();
    let run = sandbox.run(&["build", "--no-cache", "--json"]).expect(0);
    assert!(
        !run.events().iter().any(|e| e["event"] == "notice"),
        "{}",
        run.stdout
    );
    assert!(
        !sandbox
            .cached_files()
            .keys()
            .any(|path| path.contains("/blobs/")),
        "{:?}",
        sandbox.cached_files().keys()
    );
    assert!(
        sandbox.build().ran().is_empty(),
        "what the workspace has is current all the same"
    );
    sandbox.run(&["clean"]).expect(0);
    assert_eq!(sandbox.build().ran().len(), 2, "nothing was kept");
    sandbox.run(&["clean"]).expect(0);
    assert_eq!(
        sandbox
            .run(&["build", "--no-cache", "--json"])
            .expect(0)
            .ran()
            .len(),
        2,
        "nothing is taken"
    );
    sandbox.run(&["clean"]).expect(0);
    assert!(sandbox.build().ran().is_empty());
}

#[test]
fn tests_are_chosen_by_their_paths_and_planned() {
    let sandbox = tides();
    let planned = sandbox.run(&["plan", "--tests"]).expect(0).stdout;
    assert!(
        planned.contains("run       low ") && planned.contains("5 of 5 steps would run"),
        "{planned}"
    );
    assert_eq!(sandbox.run(&["test", "-n"]).expect(0).stdout, planned);
    let planned = sandbox
        .run(&["test", "-n", "--filter", "low"])
        .expect(0)
        .stdout;
    assert!(planned.contains("2 of 2 steps would run"), "{planned}");
    assert!(
        planned.ends_with("skipped   1 test: the path does not contain low\n"),
        "{planned}"
    );
    assert!(!sandbox.exists(".nubrik/made"), "nothing ran");
    let run = sandbox
        .run(&["test", "--filter", "low/o", "--filter", "high", "--json"])
        .expect(0);
    assert_eq!(run.summary()["tests"]["skipped"], 1);
    let wrong = sandbox
        .run(&["test", "--filter", "spring"])
        .expect(2)
        .stderr;
    assert!(
        wrong.starts_with("error   no test here has `spring` in its path\n"),
        "{wrong}"
    );
    let wrong = sandbox
        .run(&["test", "-n", "--repeat", "3"])
        .expect(2)
        .stderr;
    assert!(
        wrong.contains("`--repeat` cannot be used with `--dry-run`"),
        "{wrong}"
    );
}

#[test]
fn a_forecast_counts_with_the_jobs_that_are_given() {
    let sandbox = tides();
    sandbox.build();
    let planned = |jobs: &str| {
        sandbox.write("targets.nub", &DEFINITIONS.replace("date", "echo"));
        sandbox.run(&["plan", "-j", jobs]).expect(0).stdout
    };
    assert!(
        planned("1").contains(" with 1 at once") && planned("7").contains(" with 7 at once"),
        "{}",
        planned("7")
    );
}

#[test]
fn warnings_fail_where_that_is_wanted() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "private let unused = 1\ntarget a = write { path = \"a\", text = \"\" }\n",
    )]);
    let run = sandbox.run(&["lint"]).expect(0);
    assert!(run.stderr.starts_with("warning   "), "{}", run.stderr);
    sandbox.run(&["lint", "--strict"]).expect(3);
    sandbox.write(
        "targets.nub",
        "target a = write { path = \"a\", text = \"\" }\n",
    );
    sandbox.run(&["lint", "--strict"]).expect(0);
}
