//! What goes wrong: failing steps, missing tools, interrupts, kills, several programs at once.

use std::fs;
use std::process::Stdio;

use crate::sandbox::{Sandbox, finish, wait_until, without_times};
use nubrik_testing::{Need, skip};

/// Whether a process whose command line holds `mark` is alive.
fn is_alive(mark: &str) -> bool {
    fs::read_dir("/proc").unwrap().flatten().any(|entry| {
        let line = fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let status = fs::read_to_string(entry.path().join("stat")).unwrap_or_default();
        String::from_utf8_lossy(&line).contains(mark) && !status.contains(") Z ")
    })
}

fn signal(id: u32, name: &str) {
    let kill = std::process::Command::new("kill")
        .args([&format!("-{name}"), &id.to_string()])
        .status();
    assert!(kill.unwrap().success());
}

#[test]
fn a_failing_step_shows_its_command_and_output_once() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:c\" as c\ntarget bad = c.program { sources = \"bad.c\" }\n",
        ),
        ("bad.c", "int main(void) { return undeclared_name; }\n"),
    ]);
    let run = sandbox.run(&["build"]).expect(1);
    assert!(
        run.stdout
            .contains("command   cc -MD -MF .nubrik/made/bad/@bad.c.o/bad.c.d -c bad.c"),
        "{}",
        run.stdout
    );
    assert!(run.stdout.contains("undeclared_name"), "{}", run.stdout);
    assert!(
        run.stdout.contains("failed    bad   compile bad.c"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout
            .contains("defined   targets.nub:2, by way of nub:c:"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout.contains("1 of 2 steps failed, 1 blocked."),
        "{}",
        run.stdout
    );
    // It is not taken for a result, and runs again.
    let run = sandbox.run(&["build", "--json"]).expect(1);
    assert_eq!(run.reason("compile bad.c"), "failed last time");
    sandbox.write("bad.c", "int main(void) { return 0; }\n");
    assert_eq!(sandbox.build().ran().len(), 2);
}

#[test]
fn output_is_shown_once_and_unbroken() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target all = [each n in [1, 2, 3] give step { run = `sh {in \"say.sh\"} {n} {out \"f{n}\"}` }]\n",
        ),
        (
            "say.sh",
            "for i in 1 2 3; do echo \"said by $1\"; sleep 0.01; done; exit 1\n",
        ),
    ]);
    let run = sandbox
        .run(&["build", "--plain", "--keep-going", "--jobs", "3"])
        .expect(1);
    for n in 1..=3 {
        let whole = format!("    said by {n}\n").repeat(3);
        assert_eq!(run.stdout.matches(&whole).count(), 1, "{}", run.stdout);
        assert_eq!(run.stdout.matches(&format!("said by {n}")).count(), 3);
    }
}

#[test]
fn a_failure_names_what_was_written_before_it() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target t = step { run = sh`echo half > {out \"page\"}; mkdir -p {outfolder \"empty\"} {outfolder \"full\"}; touch {out \"nothing\"} {outfolder \"full\"}/a; cat other` }\n",
    )]);
    // It fails quickly, and is run once more to see why.
    sandbox.write("other", "");
    let files = [".nubrik/made/t/@page/page", ".nubrik/made/t/@page/full"];
    let run = sandbox.run(&["build"]).expect(1);
    let told: Vec<&str> = run
        .stdout
        .lines()
        .filter_map(|line| line.strip_prefix("  wrote     "))
        .collect();
    assert_eq!(told, files, "{}", run.stdout);
    assert_eq!(sandbox.read(files[0]), "half\n");
    let events = sandbox.run(&["build", "--json"]).expect(1).events();
    let step = events
        .iter()
        .find(|event| event["event"] == "step")
        .unwrap();
    assert_eq!(step["wrote"], serde_json::json!(files));
}

#[test]
fn a_failure_keeps_the_last_good_result() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target copy = step { run = `sh -c 'cp \"$1\" \"$2\"; ! grep -q bad \"$1\"' sh {in \"in\"} {out \"copy\"}` }\n",
        ),
        ("in", "good"),
    ]);
    sandbox.build();
    sandbox.write("in", "bad");
    sandbox.run(&["build", "--json"]).expect(1);
    assert_eq!(sandbox.read("out/default/copy"), "good");
    sandbox.write("in", "good");
    let run = sandbox.build();
    assert_eq!(run.said("reused"), ["make copy"]);
}

const INDEPENDENT: &str = "
    target bad = step { run = `false {out \"bad\"}` }
    target after = step { run = `cp {bad} {out \"after\"}` }
    target good = step { run = `cp {in \"x\"} {out \"good\"}` }
";

#[test]
fn keep_going_builds_what_does_not_depend_on_a_failure() {
    let sandbox = Sandbox::new(&[("targets.nub", INDEPENDENT), ("x", "x")]);
    let run = sandbox
        .run(&["build", "--json", "--keep-going", "--jobs", "1"])
        .expect(1);
    assert_eq!(
        (run.ran(), run.said("failed"), run.said("blocked")),
        (
            vec!["make good".into()],
            vec!["make bad".into()],
            vec!["make after".into()]
        )
    );
    assert_eq!(
        run.reason("make after"),
        "needs bad, where \"make bad\" failed"
    );
    let sandbox = Sandbox::new(&[("targets.nub", INDEPENDENT), ("x", "x")]);
    let run = sandbox.run(&["build", "--json", "--jobs", "1"]).expect(1);
    assert_eq!(
        (run.said("unstarted"), run.summary()["ok"].as_bool()),
        (vec!["make good".to_owned()], Some(false))
    );
}

#[test]
fn a_missing_tool_is_named_with_what_was_searched() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = `skerrin-plotter {out \"a\"}` }\n",
    )]);
    let run = sandbox.run(&["build"]).expect(4);
    assert!(
        run.stdout
            .contains("there is no tool `skerrin-plotter` on this machine"),
        "{}",
        run.stdout
    );
    assert!(run.stdout.contains("searched  /"), "{}", run.stdout);
    let mut command = sandbox.command(&["build"]);
    sandbox.write(
        "targets.nub",
        "use \"nub:c\" as c\ntarget a = c.program { sources = \"a.c\" }\n",
    );
    sandbox.write("a.c", "int main(void) { return 0; }\n");
    command.env("PATH", "/nowhere");
    let run = finish(command).expect(4);
    assert!(
        run.stdout
            .contains("try       install a C compiler; the package is called gcc"),
        "{}",
        run.stdout
    );
    sandbox.build();
}

#[test]
fn an_undeclared_file_is_named_with_the_line_to_add() {
    let sandbox = Sandbox::new(&[
        (
            "tide/targets.nub",
            "use \"nub:c\" as c\ntarget a = c.program { sources = \"src/a.c\" }\n",
        ),
        (
            "tide/src/a.c",
            "#include \"hidden.h\"\nint main(void) { return 0; }\n",
        ),
        ("tide/src/hidden.h", ""),
    ]);
    let run = sandbox.run(&["build"]).expect(1);
    assert!(
        run.stdout
            .contains("try       internal = [\"src/hidden.h\"]   in tide/a at tide/targets.nub:2"),
        "{}",
        run.stdout
    );
}

#[test]
fn outputs_that_were_not_made_are_an_error() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = `sh -c 'echo > \"$1.txt\"' sh {out \"a\"}` }\n",
    )]);
    let run = sandbox.run(&["build", "--plain"]).expect(1);
    assert!(
        run.stdout.contains("did not make its output a"),
        "{}",
        run.stdout
    );
    assert!(run.stdout.contains("made      a.txt"), "{}", run.stdout);
}

#[test]
fn undeclared_writes_and_reads_are_refused() {
    if nubrik_confine::support().path_rules.is_none() {
        skip(Need::Confinement, "this kernel has no path rules");
        return;
    }
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target w = step { run = `sh -c 'echo x > secret; echo y > \"$1\"' sh {out \"w\"}` }
             target r = step { run = `sh -c 'cat secret > \"$1\"' sh {out \"r\"}` }
             target o = step { run = `sh -c 'echo z >> \"$1\"; cp \"$1\" \"$2\"' sh {in \"in\"} {out \"o\"}` }\n",
        ),
        ("secret", "kept"),
        ("in", "kept"),
    ]);
    let run = sandbox.run(&["build", "--json", "--keep-going"]).expect(1);
    assert_eq!(run.said("failed"), ["make r"]);
    assert_eq!(
        (sandbox.read("secret"), sandbox.read("in")),
        ("kept".into(), "kept".into())
    );
}

#[test]
fn interrupting_ends_the_whole_tree_and_leaves_nothing_half() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target slow = step { run = `sh -c 'echo half > \"$1\"; sh -c \"sleep 91.75; true\"; true' sh {out \"slow\"}` }\n",
    )]);
    for (name, code) in [("INT", 130), ("TERM", 143), ("HUP", 129)] {
        let mut child = sandbox
            .command(&["build", "--plain"])
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        wait_until("the step runs", || is_alive("sleep\u{0}91.75"));
        signal(child.id(), name);
        assert_eq!(child.wait().unwrap().code(), Some(code));
        assert!(!is_alive("sleep\u{0}91.75"), "a process outlived SIG{name}");
        assert!(!sandbox.exists("out/default/slow"));
    }
    let run = sandbox.run(&["plan", "--plain"]).expect(0);
    assert!(
        run.stdout.contains("was stopped last time"),
        "{}",
        run.stdout
    );
}

#[test]
fn killing_the_program_leaves_nothing_half() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target first = step { run = `sh -c 'echo one > \"$1\"' sh {out \"first\"}` }
         target slow = step { run = `sh -c 'echo half > \"$2\"; test -e /proc/self && sleep 0.3; cp \"$1\" \"$2\"' sh {first} {out \"slow\"}` }\n",
    )]);
    for _ in 0..3 {
        let mut child = sandbox
            .command(&["build", "--plain"])
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        wait_until("the step has begun", || {
            sandbox.exists(".nubrik/made/slow/@slow/slow")
        });
        signal(child.id(), "KILL");
        child.wait().unwrap();
    }
    let run = sandbox.build();
    assert_eq!(run.ran(), ["make slow"], "what was finished was kept");
    assert_eq!(sandbox.read("out/default/slow"), "one\n");
}

#[test]
fn two_builds_at_once_do_the_work_once() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target slow = step { run = `sh -c 'sleep 0.5; echo done > \"$1\"' sh {out \"slow\"}` }\n",
    )]);
    let mut first = sandbox
        .command(&["build", "--json"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    wait_until("the first one works", || {
        sandbox.exists(".nubrik/made/slow/@slow")
    });
    let second = sandbox.run(&["build", "--json"]).expect(0);
    assert!(first.wait().unwrap().success());
    assert!(
        second
            .stdout
            .contains("another nubrik is running in this workspace"),
        "{}",
        second.stdout
    );
    assert_eq!(second.ran(), [""; 0]);
}

#[test]
fn a_damaged_store_and_state_mend_themselves() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target a = step { run = `cp {in \"in\"} {out \"a\"}` }\n",
        ),
        ("in", "tide"),
    ]);
    sandbox.build();
    let cache = sandbox
        .folder
        .parent()
        .unwrap()
        .join("cache/nubrik/store/v1");
    fn files(at: &std::path::Path, found: &mut Vec<std::path::PathBuf>) {
        for entry in fs::read_dir(at).unwrap().flatten() {
            if entry.path().is_dir() {
                files(&entry.path(), found)
            } else {
                found.push(entry.path())
            }
        }
    }
    let mut kept = Vec::new();
    ["blobs", "records"]
        .iter()
        .for_each(|part| files(&cache.join(part), &mut kept));
    assert_eq!(kept.len(), 2, "a content and a record: {kept:?}");
    for path in kept {
        fs::remove_file(&path).unwrap();
        fs::write(&path, "damaged").unwrap();
    }
    fs::write(sandbox.folder.join(".nubrik/state"), "damaged").unwrap();
    // There is none when the source was too young to be sealed.
    let _ = fs::remove_dir_all(sandbox.folder.join(".nubrik/seals"));
    let run = sandbox.build();
    assert_eq!(run.ran(), ["make a"]);
    assert_eq!(sandbox.read("out/default/a"), "tide");
    assert_eq!(sandbox.build().ran(), [""; 0]);
}

#[test]
fn an_unwritable_store_is_said_and_does_without() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target a = step { run = `cp {in \"in\"} {out \"a\"}` }\n",
        ),
        ("in", "tide"),
    ]);
    let mut command = sandbox.command(&["build", "--plain"]);
    command.env("XDG_CACHE_HOME", "/proc/nowhere");
    let run = finish(command).expect(0);
    assert!(
        run.stdout.contains("results are not being kept"),
        "{}",
        run.stdout
    );
    assert_eq!(sandbox.read("out/default/a"), "tide");
}

#[test]
fn the_failure_block_looks_as_it_should() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target a = step { say = \"draw\", run = `sh -c 'echo no ink; exit 3' sh {in \"in\"} {out \"a\"}` }\n",
        ),
        ("in", ""),
    ]);
    let run = sandbox.run(&["build"]).expect(1);
    assert_eq!(
        without_times(&run.stdout, &sandbox),
        "failed    a   draw TIME  exited with code 3
  command   sh -c 'echo no ink; exit 3' sh in .nubrik/made/a/@a/a
  folder    WORK
  defined   targets.nub:1
  look      nubrik inside a
  printed   
    no ink

1 of 1 step failed. TIME"
    );
}

#[test]
fn a_long_command_of_what_is_no_target_is_kept_in_a_file() {
    let words: String = (0..400).map(|n| format!("word{n} ")).collect();
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        &format!(
            "private let made = step {{ run = sh`false {words}; echo > {{out \"x\"}}` }}\n\
             target t = step {{ run = `cp {{made}} {{out \"y\"}}` }}\n"
        ),
    )]);
    let run = sandbox.run(&["build", "--plain"]).expect(1);
    let said = format!("{}{}", run.stdout, run.stderr);
    let whole = said
        .lines()
        .find_map(|line| line.trim().strip_prefix("whole").map(str::trim))
        .unwrap();
    assert!(sandbox.read(whole).contains("word399"), "{whole}");
}
