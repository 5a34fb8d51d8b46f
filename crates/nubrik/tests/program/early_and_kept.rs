//! Outputs that others use before the step ends, and folders that a step finds again.

use std::fs;

use crate::sandbox::{Sandbox, wait_until};

/// A compiler that writes an interface and goes on until somebody writes into `go`. It lists
/// nothing of that file, so that a change of it is no change of an input.
const COMPILER: &str = r#"
target fit = step {
    say = "compile fit"
    run = sh`
        cp fit.c {out object "fit.o"}
        cp fit.c {scratch "begun"}
        mv {scratch "begun"} {early interface "fit.if"}
        i=0
        while ! [ -s go ] && [ $i -lt 1200 ]; do sleep 0.05; i=$((i + 1)); done
        MORE
        echo "x: fit.c" > {depfile "fit.d"}
        [ -s go ]
    `
    reads = ["fit.c", "go"]
}
target user = step { say = "compile user", run = `cp {fit.interface} {out "user.o"}` }
target program = step { say = "link", run = `cat {fit.object} {user} > {out "program"}` }
"#;

fn with_compiler(more: &str) -> Sandbox {
    let definitions = COMPILER.replace("MORE", more);
    let files = [
        ("nubrik.toml", "jobs = 3\n"),
        ("fit.c", "tides\n"),
        ("go", ""),
        ("targets.nub", &*definitions),
    ];
    Sandbox::new(&files)
}

/// Builds, and lets the compiler go on when `user` was made.
fn build_while_compiling(sandbox: &Sandbox) -> crate::sandbox::Run {
    while_compiling(sandbox, &["build", "--json"])
}

fn while_compiling(sandbox: &Sandbox, args: &[&str]) -> crate::sandbox::Run {
    std::thread::scope(|scope| {
        scope.spawn(|| {
            wait_until("who uses the interface is done", || {
                sandbox.exists("out/default/user.o")
            });
            sandbox.write("go", "on\n");
        });
        sandbox.run(args)
    })
}

#[test]
fn who_needs_an_early_output_begins_before_its_step_ends() {
    let sandbox = with_compiler("true");
    let run = build_while_compiling(&sandbox).expect(0);
    assert_eq!(run.ran(), ["compile fit", "compile user", "link"]);
    assert_eq!(sandbox.read("out/default/program"), "tides\ntides\n");
    sandbox.run(&["build"]).expect(0).says("nothing to run");
    // All of it is kept and put back as ever.
    fs::remove_dir_all(sandbox.folder.join(".nubrik/made")).unwrap();
    let run = sandbox.run(&["build", "--json"]).expect(0);
    assert!(run.ran().is_empty(), "{}", run.stdout);
}

#[test]
fn an_early_output_that_changes_afterwards_fails_its_step() {
    let sandbox = with_compiler("echo more >> {early interface \"fit.if\"}");
    let run = build_while_compiling(&sandbox).expect(1);
    assert!(
        !run.said("failed").is_empty() && run.ran().contains(&"compile user".to_owned()),
        "{}",
        run.stdout
    );
    // Again as for the first time: whoever is only informed of the end sees no change.
    sandbox.write("go", "");
    fs::remove_file(sandbox.folder.join("out/default/user.o")).unwrap();
    let run = while_compiling(&sandbox, &["build", "--rerun"]).expect(1);
    let told = "changed its early output fit.if after it had been whole";
    assert!(
        run.stdout.contains(told) && run.stdout.contains("write {out \"fit.if\"}"),
        "{}",
        run.stdout
    );
    assert!(!sandbox.exists("out/default/program"));
}

/// A checker that counts in its cache how often it ran.
const CHECKER: &str = r#"
target types = step {
    say = "check types"
    run = sh`echo >> {keptfolder "cache"}/runs; wc -l < {keptfolder "cache"}/runs > {out runs "runs"}; cat {in "a.ts"} > {out all "all"}; FLAG`
}
"#;

fn runs_after(sandbox: &Sandbox, source: &str) -> String {
    sandbox.write("a.ts", source);
    sandbox.run(&["build"]).expect(0);
    sandbox.read("out/default/types/runs").trim().to_owned()
}

#[test]
fn a_kept_folder_is_found_again_by_the_same_command_only() {
    let of = |flag: &str| CHECKER.replace("FLAG", flag);
    let sandbox = Sandbox::new(&[("a.ts", "1"), ("targets.nub", &of("true"))]);
    assert_eq!(
        ["2", "3", "4"].map(|source| runs_after(&sandbox, source)),
        ["1", "2", "3"]
    );
    // A result that is taken from the cache leaves the folder as it is.
    assert_eq!(
        [("2", "1"), ("5", "4")].map(|(source, _)| runs_after(&sandbox, source)),
        ["1", "4"]
    );
    // Another command begins without.
    sandbox.write("targets.nub", &of(": other"));
    assert_eq!(
        ["6", "7"].map(|source| runs_after(&sandbox, source)),
        ["1", "2"]
    );
    // One that fails by itself keeps it; one that is ended from outside does not.
    sandbox.write("targets.nub", &of("! grep -q bad a.ts"));
    assert_eq!(
        ["1", "2"].map(|source| runs_after(&sandbox, source)),
        ["1", "2"]
    );
    sandbox.write("a.ts", "bad");
    sandbox.run(&["build"]).expect(1);
    assert_eq!(runs_after(&sandbox, "8").parse::<u32>().unwrap().min(4), 4);
    sandbox.write("targets.nub", &of("! grep -q bad a.ts || kill -9 $$"));
    assert_eq!(
        ["1 ", "2 "].map(|source| runs_after(&sandbox, source)),
        ["1", "2"]
    );
    sandbox.write("a.ts", "bad ");
    sandbox.run(&["build"]).expect(1);
    assert_eq!(runs_after(&sandbox, "9"), "1");
}

#[test]
fn observing_a_step_tells_if_what_it_keeps_decides_its_result() {
    let definitions = CHECKER.replace("FLAG", "true");
    let sandbox = Sandbox::new(&[("a.ts", "1"), ("targets.nub", &definitions)]);
    runs_after(&sandbox, "2");
    assert_eq!(runs_after(&sandbox, "3"), "2");
    let run = sandbox.run(&["build", "--observe", "types"]);
    if run.code == 0 {
        assert!(run.stdout.contains("runs"), "{}", run.stdout);
    }
    // What it keeps is there afterwards as before.
    assert_eq!(runs_after(&sandbox, "4"), "3");
}

#[test]
fn words_that_keep_or_give_early_are_for_steps() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target early = step { run = `cp {in \"targets.nub\"} {earl \"x\"}` }\n\
         target named = step { run = `cp {in \"targets.nub\"} {out \".kept/x\"}` }\n",
    )]);
    let run = sandbox.run(&["list"]).expect(3);
    for told in ["unknown hole `earl`", "cannot be the name of an output"] {
        assert!(
            run.stderr.contains(told) || run.stdout.contains(told),
            "{told}\n{}{}",
            run.stdout,
            run.stderr
        );
    }
    sandbox.write(
        "targets.nub",
        "job go = effect { run = `cp {in \"targets.nub\"} {keptfolder \"x\"}` }\n",
    );
    sandbox
        .run(&["run", "go"])
        .expect(3)
        .says("has no outputs, listings or scratch files");
}
