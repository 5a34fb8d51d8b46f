//! Steps that reach beyond what they declare: stopped, named, and told what to write.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod sandbox;

use sandbox::Sandbox;

/// Whether this machine confines and records; says so where it does not.
fn is_confined() -> bool {
    let support = nubrik_confine::support();
    let all = support.path_rules.is_some() && support.network_filter && nubrik_confine::can_record();
    if !all {
        println!("skipped: this kernel cannot confine and record");
    }
    all
}

const SOURCES: [(&str, &str); 3] =
    [("tide/salt.txt", "salt\n"), ("tide/wave.txt", "wave\n"), ("tide/helper.sh", "cat tide/salt.txt\n")];

fn workspace(targets: &str) -> Sandbox {
    let sandbox = Sandbox::new(&SOURCES);
    sandbox.write("tide/targets.nub", targets);
    sandbox
}

/// What a build of one target that fails prints.
fn refused(target: &str) -> String {
    workspace(target).run(&["build", "--plain"]).expect(1).stdout
}

#[test]
fn a_refused_file_is_named_with_the_words_to_add() {
    if !is_confined() {
        return;
    }
    for (target, wanted) in [
        (
            "target a = step { run = sh`cat tide/salt.txt > {out \"a.txt\"}` }",
            [
                "refused   reading tide/salt.txt",
                "mend      reads = [\"salt.txt\"]   or {in \"salt.txt\"} in the command at tide/targets.nub:1",
            ],
        ),
        // What the command prints need not say so.
        (
            "target a = step { run = sh`cat tide/salt.txt > {out \"a.txt\"} 2>&1 || exit 3` }",
            ["code 3, and was refused reading tide/salt.txt", "mend      reads = [\"salt.txt\"]"],
        ),
        (
            "target a = step { run = sh`cp {in \"wave.txt\"} {out \"c.txt\"}; echo x > tide/new.txt` }",
            ["refused   writing tide/new.txt", "a step writes only its own outputs: {out \"new.txt\"}"],
        ),
        (
            "target a = step { run = sh`sh tide/helper.sh > {out \"e.txt\"}` }",
            ["refused   reading tide/helper.sh", "mend      reads = [\"helper.sh\"]"],
        ),
        (
            "target one = step { run = `cp {in \"wave.txt\"} {out \"one.txt\"}` }\n\
             target two = step { run = `cp {one} {out \"two.txt\"}` }\n\
             target a = step { run = sh`cat {two}; cat .nubrik/made/tide/one/@one.txt/one.txt > {out \"g.txt\"}` }",
            [
                "was refused reading .nubrik/made/tide/one/@one.txt/one.txt",
                "declare what tide/one makes: needs = one, or reads = one",
            ],
        ),
    ] {
        let printed = refused(target);
        for wanted in wanted {
            assert!(printed.contains(wanted), "{wanted}\n---\n{printed}");
        }
    }
}

#[test]
fn the_network_is_refused_and_named() {
    if !is_confined() {
        return;
    }
    if !std::path::Path::new("/usr/bin/perl").exists() {
        return println!("skipped: there is no perl to ask for the network");
    }
    let printed = refused(
        "target a = step { run = `perl -e 'use Socket; socket(S, PF_INET, SOCK_STREAM, 0) or die \"no: \".$!' {out \"a\"}` }",
    );
    assert!(printed.contains("and was refused the network"), "{printed}");
    assert!(printed.contains("mend      network = true   at tide/targets.nub:1"), "{printed}");
}

#[test]
fn the_network_is_there_for_those_who_say_so_after_many_who_do_not() {
    if !is_confined() || !std::path::Path::new("/usr/bin/perl").exists() {
        return println!("skipped: there is no perl to ask for the network, or nothing refuses it");
    }
    // One worker performs them all, in an order that its inputs set; it has given up the network long before
    // the last ones.
    let asks = "perl -e 'use Socket; socket(S, PF_INET, SOCK_STREAM, 0) or die \"no: \".$!; print \"yes\"'";
    let targets = format!(
        "target many = {{each n in [\"1\", \"2\", \"3\", \"4\", \"5\", \"6\", \"7\", \"8\"] give n: \
             step {{ run = sh`echo {{n}} > {{out \"n\"}}` }}}}\n\
         target open = step {{ run = `{asks} {{many}} > {{out \"open\"}}`, network = true }}\n\
         target shut = step {{ run = sh`cat {{open}}; {asks} > {{out \"shut\"}}` }}"
    );
    let sandbox = workspace(&targets);
    let printed = sandbox.run(&["build", "--plain", "-j", "1"]).expect(1).stdout;
    assert_eq!(sandbox.read("out/base/tide/open"), "yes", "{printed}");
    assert!(printed.contains("and was refused the network"), "{printed}");
    assert!(printed.contains("mend      network = true   at tide/targets.nub:3"), "{printed}");
}

#[test]
fn a_step_that_ends_well_when_it_runs_again_is_called_unsteady() {
    if !is_confined() {
        return;
    }
    // The first run leaves a trace that the second one finds: only time does, in a box.
    let script = "target a = step { run = sh`test $(( $(date +%s%N) / 300000000 % 2 )) = 1 || ( sleep 0.3; exit 7 ); echo > {out \"a\"}` }";
    let unsteady = (0..60).any(|_| {
        let run = workspace(script).run(&["build", "--plain"]);
        // So that not all tries fall into the half in which it ends well.
        std::thread::sleep(std::time::Duration::from_millis(70));
        run.stdout.contains("what it does changes from run to run")
    });
    assert!(unsteady, "sixty times even, or the machine is very slow");
}

#[test]
fn ways_out_of_the_box_are_shut() {
    if !is_confined() {
        return;
    }
    let root = Sandbox::new(&SOURCES);
    let whole = root.folder.display().to_string();
    for (way, command) in [
        ("absolute path", format!("cat {whole}/tide/salt.txt")),
        ("dots", "cat tide/../tide/salt.txt".to_owned()),
        ("this process", "cat /proc/self/cwd/tide/salt.txt".to_owned()),
        ("this process's root", format!("cat /proc/self/root{whole}/tide/salt.txt")),
        ("the tool's own folder", "cat /proc/$PPID/cwd/tide/salt.txt".to_owned()),
        ("the tool's own environment", "cat /proc/$PPID/environ".to_owned()),
        ("symbolic link", format!("ln -s {whole}/tide/salt.txt $TMPDIR/l; cat $TMPDIR/l")),
        ("hard link", "ln tide/salt.txt $TMPDIR/l && cat $TMPDIR/l".to_owned()),
        ("moving it", "mv tide/salt.txt $TMPDIR/l && cat $TMPDIR/l".to_owned()),
        ("writing elsewhere", "echo x > tide/new.txt".to_owned()),
        ("writing an input", "echo x > tide/wave.txt".to_owned()),
        ("removing an input", "rm tide/wave.txt".to_owned()),
        ("writing another's output", "echo x > .nubrik/made/tide/other/@o.txt/o.txt".to_owned()),
        ("writing a result", "echo x > out/base/tide/other/o.txt".to_owned()),
        ("writing the tool's own files", "echo x > .nubrik/state".to_owned()),
        ("temporary folder of all", "echo x > /tmp/nubrik-was-here".to_owned()),
        ("signals", "kill -0 $PPID".to_owned()),
    ] {
        // Signals outside the box are refused from version 6 of the kernel's path rules on.
        if way == "signals" && nubrik_confine::support().path_rules < Some(6) {
            continue;
        }
        root.write(
            "tide/targets.nub",
            &format!(
                "target other = step {{ run = sh`echo o > {{out \"o.txt\"}}` }}\n\
                 target a = step {{ run = sh`: {{in \"wave.txt\"}} {{other}}; {command} > {{out \"a\"}}` }}"
            ),
        );
        let run = root.run(&["build", "--plain"]);
        assert!(run.stdout.contains("failed    tide/a"), "{way}: {}", run.stdout);
        assert_eq!(root.read("tide/wave.txt"), "wave\n", "{way}");
        assert_eq!(root.read("out/base/tide/other/o.txt"), "o\n", "{way}");
        assert!(!root.exists("tide/new.txt"), "{way}");
    }
}

#[test]
fn what_a_step_leaves_running_is_ended() {
    let root = workspace(
        "target a = step { run = sh`echo x > {out \"a\"}; (trap '' HUP TERM; sleep 77.25) > /dev/null 2>&1 &` }",
    );
    let run = root.run(&["build", "--plain"]).expect(0);
    let left =
        std::process::Command::new("sh").args(["-c", "ps ax -o args | grep -c '[s]leep 77.25'"]).output();
    assert_eq!(String::from_utf8_lossy(&left.unwrap().stdout).trim(), "0", "{}", run.stdout);
}

#[test]
fn an_audit_tells_what_is_declared_and_what_is_read() {
    if !is_confined() {
        return;
    }
    let root = workspace(
        "target a = step {\n    run = sh`cat {in \"wave.txt\"} > {out \"a.txt\"}; test -e tide/salt.txt; test ! -e tide/none`\n    \
         reads = [\"helper.sh\"]\n}\ntarget clock = step { run = sh`date +%N > {out \"n\"}` }\n\
         target text = write { path = \"t\", text = \"t\" }",
    );
    let before = root.run(&["build"]).expect(0);
    assert!(before.stderr.is_empty(), "{}", before.stderr);
    let files = root.files_below("out");
    let run = root.run(&["build", "--audit", "--json", "tide/a", "tide/text"]).expect(0);
    let audit = run.events().into_iter().find(|e| e["event"] == "audit").unwrap();
    assert_eq!(audit["read"], serde_json::json!(["tide/wave.txt"]));
    assert_eq!(audit["unused"], serde_json::json!(["tide/helper.sh"]));
    assert_eq!(
        audit["looked_up"],
        serde_json::json!([{ "path": "tide/none", "there": false }, { "path": "tide/salt.txt", "there": true }])
    );
    assert_eq!(audit["refused"], serde_json::json!([]));
    // Bytes that differ are told, and the results stay as they were.
    let run = root.run(&["build", "--audit", "--plain", "tide/clock"]).expect(1);
    assert!(run.stdout.contains("differs   n: other bytes than the last time"), "{}", run.stdout);
    assert!(run.stdout.ends_with("1 step ran again: 1 with other bytes than before\n"), "{}", run.stdout);
    assert_eq!(root.files_below("out"), files);
    assert_eq!(root.run(&["build", "--json"]).expect(0).summary()["current"], 3);
}

#[test]
fn undeclared_files_can_be_hidden() {
    if !is_confined() {
        return;
    }
    let root = workspace(
        "target a = step { run = sh`test -e tide/salt.txt && echo there > {out \"a.txt\"} || echo hidden > {out \"a.txt\"}; cat {in \"wave.txt\"}` }\n\
         target deep = step { run = sh`cat {a} {in \"sub/x/y.txt\"} > {out \"d.txt\"}; ls -d tide/sub tide/sub/x > /dev/null` }",
    );
    root.write("tide/sub/x/y.txt", "y\n");
    root.run(&["build"]).expect(0);
    assert_eq!(root.read("out/base/tide/a.txt"), "there\n");
    root.write("nubrik.toml", "hide_undeclared = true\n");
    let run = root.run(&["build", "--json"]).expect(0);
    assert_eq!(root.read("out/base/tide/a.txt"), "hidden\n");
    assert_eq!(root.read("out/base/tide/deep/d.txt"), "hidden\ny\n");
    assert_eq!(run.reason("make a.txt"), "what is hidden from it changed, nubrik.toml");
    // To and fro runs nothing.
    root.write("nubrik.toml", "");
    let run = root.run(&["build", "--json"]).expect(0);
    assert_eq!((run.summary()["ran"].clone(), run.summary()["reused"].clone()), (0.into(), 2.into()));
    assert_eq!(root.read("out/base/tide/a.txt"), "there\n");
    let wrong = root.run(&["build"]);
    assert_eq!(wrong.code, 0);
    root.write("nubrik.toml", "hide_undeclared = 1\n");
    let wrong = root.run(&["build"]).expect(3);
    assert!(wrong.stderr.contains("`hide_undeclared` is true or false"), "{}", wrong.stderr);
}
