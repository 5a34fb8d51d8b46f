//! Steps that reach beyond what they declare: stopped, named, with what to write.

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

/// How a workspace's steps are confined.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Means {
    Sandboxes,
    Rules,
}

/// The means that this machine has to confine and to record. What is missing is said.
fn means() -> Vec<Means> {
    let support = nubrik_confine::support();
    let recorded = support.network_filter && nubrik_confine::can_record();
    let sandboxes = nubrik_confine::Sandboxes::new(&std::env::temp_dir());
    let found = [
        (Means::Sandboxes, recorded && sandboxes.is_ok()),
        (Means::Rules, recorded && support.path_rules.is_some()),
    ];
    let has = |(means, there): (Means, bool)| {
        if !there {
            skip(
                Need::Confinement,
                format_args!("this kernel cannot confine by {means:?} and record"),
            );
        }
        there.then_some(means)
    };
    found.into_iter().filter_map(has).collect()
}

fn is_confined() -> bool {
    !means().is_empty()
}

const SOURCES: [(&str, &str); 3] = [
    ("tide/salt.txt", "salt\n"),
    ("tide/wave.txt", "wave\n"),
    ("tide/helper.sh", "cat tide/salt.txt\n"),
];

fn workspace(targets: &str) -> Sandbox {
    let sandbox = Sandbox::new(&SOURCES);
    sandbox.write("tide/targets.nub", targets);
    sandbox
}

/// A workspace whose steps are confined so.
fn confined(means: Means, targets: &str) -> Sandbox {
    let mut sandbox = workspace(targets);
    sandbox.without_sandboxes = means == Means::Rules;
    sandbox
}

/// What a build of one target that fails prints.
fn refused(means: Means, target: &str) -> String {
    confined(means, target)
        .run(&["build", "--plain"])
        .expect(1)
        .stdout
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
                "try       reads = [\"salt.txt\"]   or {in \"salt.txt\"} in the command at tide/targets.nub:1",
            ],
        ),
        // What the command prints need not say so.
        (
            "target a = step { run = sh`cat tide/salt.txt > {out \"a.txt\"} 2>&1 || exit 3` }",
            [
                "code 3, and was not allowed to read tide/salt.txt",
                "try       reads = [\"salt.txt\"]",
            ],
        ),
        (
            "target a = step { run = sh`cp {in \"wave.txt\"} {out \"c.txt\"}; echo x > tide/new.txt` }",
            [
                "refused   writing tide/new.txt",
                "a step writes only its own outputs: {out \"new.txt\"}",
            ],
        ),
        (
            "target a = step { run = sh`sh tide/helper.sh > {out \"e.txt\"}` }",
            [
                "refused   reading tide/helper.sh",
                "try       reads = [\"helper.sh\"]",
            ],
        ),
        (
            "target one = step { run = `cp {in \"wave.txt\"} {out \"one.txt\"}` }\n\
             target two = step { run = `cp {one} {out \"two.txt\"}` }\n\
             target a = step { run = sh`cat {two}; d=.nubrik; cat $d/made/tide/one/@one.txt/one.txt > {out \"g.txt\"}` }",
            [
                "was not allowed to read .nubrik/made/tide/one/@one.txt/one.txt",
                "declare what tide/one makes: needs = one, or reads = one",
            ],
        ),
    ] {
        for means in means() {
            let printed = refused(means, target);
            for wanted in wanted {
                assert!(
                    printed.contains(wanted),
                    "{means:?}: {wanted}\n---\n{printed}"
                );
            }
        }
    }
}

/// Words that connect somewhere, and say yes.
fn connects(address: &str, port: u16) -> String {
    format!(
        "perl -e 'use Socket; socket(S, PF_INET, SOCK_STREAM, 0) && \
         connect(S, pack_sockaddr_in({port}, inet_aton(\"{address}\"))) or die \"no: \".$!; print \"yes\"'"
    )
}

/// Words that connect to another machine, at an address that nobody has (RFC 5737).
fn reaches_far(more: &str) -> String {
    format!("{} {more}", connects("203.0.113.1", 80))
}

#[test]
fn steps_have_a_loopback_network_of_their_own() {
    if !means().contains(&Means::Sandboxes) {
        return;
    }
    if !std::path::Path::new("/usr/bin/perl").exists() {
        return skip(Need::Perl, "there is no perl to listen");
    }
    // Each listens at the same port, beside others and after them, and hangs up first, which keeps
    // the port for a while.
    let listens = "perl -e 'use Socket; \
                   socket(S, PF_INET, SOCK_STREAM, 0) && bind(S, pack_sockaddr_in(20001, INADDR_LOOPBACK)) && listen(S, 5) && \
                   socket(C, PF_INET, SOCK_STREAM, 0) && connect(C, getsockname(S)) or die \"no: \".$!; \
                   accept(A, S); close(A); sleep(1); close(C); print \"yes\"'";
    let one = |name: &str| {
        format!("target {name} = step {{ run = sh`{listens} > {{out \"{name}\"}}; : {name}` }}\n")
    };
    let sandbox = confined(Means::Sandboxes, &["a", "b", "c", "d"].map(one).concat());
    sandbox.run(&["build", "-j", "2"]).expect(0);
    assert_eq!(sandbox.read("out/default/tide/d"), "yes");
    // Nobody else is there.
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let near = connects("127.0.0.1", listener.local_addr().unwrap().port());
    let printed = refused(
        Means::Sandboxes,
        &format!("target a = step {{ run = `{near} {{out \"a\"}}` }}"),
    );
    assert!(
        printed.contains("Connection refused") && !printed.contains("network = true"),
        "{printed}"
    );
}

#[test]
fn the_network_is_refused_and_named() {
    if !is_confined() {
        return;
    }
    if !std::path::Path::new("/usr/bin/perl").exists() {
        return skip(Need::Perl, "there is no perl to ask for the network");
    }
    let target = format!(
        "target a = step {{ run = `{}` }}",
        reaches_far("{out \"a\"}")
    );
    for means in means() {
        let printed = refused(means, &target);
        assert!(
            printed.contains("and was not allowed to use the network"),
            "{printed}"
        );
        assert!(
            printed.contains("try       network = true   at tide/targets.nub:1"),
            "{printed}"
        );
    }
}

#[test]
fn the_network_is_there_for_those_who_say_so_after_many_who_do_not() {
    if !is_confined() || !std::path::Path::new("/usr/bin/perl").exists() {
        return skip(
            Need::Perl,
            "there is no perl to ask for the network, or nothing refuses it",
        );
    }
    // One worker performs them all, in an order that its inputs set; it has given up the network
    // long before the last ones.
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let near = connects("127.0.0.1", listener.local_addr().unwrap().port());
    let far = reaches_far("");
    let targets = format!(
        "target many = {{each n in [\"1\", \"2\", \"3\", \"4\", \"5\", \"6\", \"7\", \"8\"] give n: \
             step {{ run = sh`echo {{n}} > {{out \"n\"}}` }}}}\n\
         target open = step {{ run = `{near} {{many}} > {{out \"open\"}}`, network = true }}\n\
         target shut = step {{ run = sh`cat {{open}}; {far} > {{out \"shut\"}}` }}"
    );
    for means in means() {
        let sandbox = confined(means, &targets);
        let printed = sandbox.run(&["build", "-j", "1"]).expect(1).stdout;
        assert_eq!(sandbox.read("out/default/tide/open"), "yes", "{printed}");
        assert!(
            printed.contains("and was not allowed to use the network"),
            "{printed}"
        );
        assert!(
            printed.contains("try       network = true   at tide/targets.nub:3"),
            "{printed}"
        );
    }
}

#[test]
fn a_step_that_ends_well_when_it_runs_again_is_called_flaky() {
    if !is_confined() {
        return;
    }
    // The first run leaves a trace that the second one finds: only time does, in a box.
    let script = "target a = step { run = sh`test $(( $(date +%s%N) / 300000000 % 2 )) = 1 || ( sleep 0.3; exit 7 ); echo > {out \"a\"}` }";
    let flaky = (0..60).any(|_| {
        let run = workspace(script).run(&["build", "--plain"]);
        // So that not all tries fall into the half in which it ends well.
        std::thread::sleep(std::time::Duration::from_millis(70));
        run.stdout.contains("its result varies from run to run")
    });
    assert!(flaky, "sixty times even, or the machine is very slow");
}

#[test]
fn ways_out_of_the_box_are_shut() {
    for means in means() {
        ways_out_are_shut(means);
    }
}

fn ways_out_are_shut(means: Means) {
    let root = confined(means, "");
    let whole = root.folder.display().to_string();
    let elsewhere =
        std::path::PathBuf::from(format!("/tmp/nubrik-was-here-{}", std::process::id()));
    let elsewhere = elsewhere.display().to_string();
    for (way, command) in [
        ("absolute path", format!("cat {whole}/tide/salt.txt")),
        ("dots", "cat tide/../tide/salt.txt".to_owned()),
        (
            "this process",
            "cat /proc/self/cwd/tide/salt.txt".to_owned(),
        ),
        (
            "this process's root",
            format!("cat /proc/self/root{whole}/tide/salt.txt"),
        ),
        (
            "the tool's own folder",
            "cat /proc/$PPID/cwd/tide/salt.txt".to_owned(),
        ),
        (
            "the tool's own environment",
            "cat /proc/$PPID/environ".to_owned(),
        ),
        (
            "symbolic link",
            format!("ln -s {whole}/tide/salt.txt $TMPDIR/l; cat $TMPDIR/l"),
        ),
        (
            "hard link",
            "ln tide/salt.txt $TMPDIR/l && cat $TMPDIR/l".to_owned(),
        ),
        (
            "moving it",
            "mv tide/salt.txt $TMPDIR/l && cat $TMPDIR/l".to_owned(),
        ),
        ("writing elsewhere", "echo x > tide/new.txt".to_owned()),
        ("writing an input", "echo x > tide/wave.txt".to_owned()),
        (
            "changing an input's mode",
            "chmod 755 tide/wave.txt".to_owned(),
        ),
        ("removing an input", "rm tide/wave.txt".to_owned()),
        (
            "writing another's output",
            "echo x > .nubrik/made/tide/other/@o.txt/o.txt".to_owned(),
        ),
        (
            "changing another's output's mode",
            "chmod 755 .nubrik/made/tide/other/@o.txt/o.txt".to_owned(),
        ),
        (
            "writing a result",
            "echo x > out/default/tide/other/o.txt".to_owned(),
        ),
        (
            "writing the tool's own files",
            "echo x > .nubrik/state".to_owned(),
        ),
        ("temporary folder of all", format!("echo x > {elsewhere}")),
        ("signals", "test $PPID != 0 && kill -0 $PPID".to_owned()),
    ] {
        let is_sandbox = means == Means::Sandboxes;
        // Signals outside the box are refused from version 6 of the kernel's path rules on, and
        // modes by none.
        let cannot = way == "signals" && nubrik_confine::support().path_rules < Some(6)
            || way.ends_with("mode");
        if !is_sandbox && cannot {
            continue;
        }
        root.write(
            "tide/targets.nub",
            &format!(
                "target other = step {{ run = sh`echo o > {{out \"o.txt\"}}` }}\n\
                 target a = step {{ run = sh`: {{in \"wave.txt\"}} {{other}}; {command} > {{out \"a\"}}` }}"
            ),
        );
        let run = root.run(&["build"]);
        // A room has a temporary folder of its own at the same place.
        let may_end_well = is_sandbox && way == "temporary folder of all";
        assert!(
            may_end_well || run.stdout.contains("failed    tide/a"),
            "{means:?} {way}: {}",
            run.stdout
        );
        assert_eq!(root.read("tide/wave.txt"), "wave\n", "{means:?} {way}");
        assert_eq!(
            root.read("out/default/tide/other/o.txt"),
            "o\n",
            "{means:?} {way}"
        );
        assert!(
            !root.exists("tide/new.txt") && !std::path::Path::new(&elsewhere).exists(),
            "{means:?} {way}"
        );
    }
}

#[test]
fn what_a_step_leaves_running_is_ended() {
    for means in means() {
        for (way, is_told) in [("", false), ("setsid", true)] {
            // Once it has begun it starts no program: one that starts as its step ends may fail,
            // and nothing is left.
            let target = format!(
                "target a = step {{ run = sh`echo x > {{out \"a\"}}; {way} sh -c \"trap '' HUP TERM; : > $TMPDIR/begun; while :; do : 77.25; done\" > /dev/null 2>&1 & until test -e $TMPDIR/begun; do sleep 0.01; done` }}"
            );
            let root = confined(means, &target);
            let run = root.run(&["build", "--plain"]).expect(0);
            let left = std::process::Command::new("sh")
                .args(["-c", "ps ax -o args | grep -c '[d]o : 77.25'"])
                .output();
            let printed = format!("{means:?}: {}{}", run.stdout, run.stderr);
            assert_eq!(
                String::from_utf8_lossy(&left.unwrap().stdout).trim(),
                "0",
                "{printed}"
            );
            // Those in its own group end with it; others are someone's mistake.
            let told = printed.contains("left running by steps; stopped: tide/a");
            assert_eq!(told, is_told, "{way} {printed}");
        }
    }
}

#[test]
fn an_audit_tells_what_is_declared_and_what_is_read() {
    for means in means() {
        observation_tells(means);
    }
}

fn observation_tells(means: Means) {
    let root = confined(
        means,
        "target a = step {\n    run = sh`cat {in \"wave.txt\"} > {out \"a.txt\"}; test -e tide/salt.txt || :; test ! -e tide/none`\n    \
         reads = [\"helper.sh\"]\n}\ntarget clock = step { run = sh`date +%N > {out \"n\"}` }\n\
         target text = write { path = \"t\", text = \"t\" }",
    );
    let before = root.run(&["build"]).expect(0);
    assert!(before.stderr.is_empty(), "{}", before.stderr);
    let files = root.files_below("out");
    let run = root
        .run(&["build", "--observe", "--json", "tide/a", "tide/text"])
        .expect(0);
    let audit = run
        .events()
        .into_iter()
        .find(|e| e["event"] == "observed")
        .unwrap();
    assert_eq!(audit["read"], serde_json::json!(["tide/wave.txt"]));
    assert_eq!(audit["unused"], serde_json::json!(["tide/helper.sh"]));
    assert_eq!(
        audit["looked_up"],
        serde_json::json!([{ "path": "tide/none", "there": false }, { "path": "tide/salt.txt", "there": true }])
    );
    assert_eq!(audit["refused"], serde_json::json!([]));
    // Bytes that differ are shown, and the results stay as they were.
    let run = root
        .run(&["build", "--observe", "--plain", "tide/clock"])
        .expect(1);
    assert!(
        run.stdout
            .contains("differs   n: other bytes than the last time"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout
            .ends_with("1 step ran again: 1 with other bytes than before\n"),
        "{}",
        run.stdout
    );
    assert_eq!(root.files_below("out"), files);
    assert_eq!(
        root.run(&["build", "--json"]).expect(0).summary()["current"],
        3
    );
}

const ASKS: &str = "target a = step { run = sh`test -e tide/salt.txt && echo there > {out \"a.txt\"} || echo hidden > {out \"a.txt\"}; cat {in \"wave.txt\"}` }\n\
     target deep = step { run = sh`cat {a} {in \"sub/x/y.txt\"} > {out \"d.txt\"}; ls -d tide/sub tide/sub/x > /dev/null` }";

#[test]
fn undeclared_files_can_be_hidden_where_there_are_no_sandboxes() {
    if !means().contains(&Means::Rules) {
        return;
    }
    let root = confined(Means::Rules, ASKS);
    root.write("tide/sub/x/y.txt", "y\n");
    root.run(&["build"]).expect(0);
    assert_eq!(root.read("out/default/tide/a.txt"), "there\n");
    root.write("nubrik.toml", "hide_undeclared = true\n");
    let run = root.run(&["build", "--json"]).expect(0);
    assert_eq!(root.read("out/default/tide/a.txt"), "hidden\n");
    assert_eq!(root.read("out/default/tide/deep/d.txt"), "hidden\ny\n");
    assert_eq!(run.reason("make a.txt"), "sandbox settings changed");
    // To and fro runs nothing.
    root.write("nubrik.toml", "");
    let run = root.run(&["build", "--json"]).expect(0);
    assert_eq!(
        (
            run.summary()["ran"].clone(),
            run.summary()["reused"].clone()
        ),
        (0.into(), 2.into())
    );
    assert_eq!(root.read("out/default/tide/a.txt"), "there\n");
    let wrong = root.run(&["build"]);
    assert_eq!(wrong.code, 0);
    root.write("nubrik.toml", "hide_undeclared = 1\n");
    let wrong = root.run(&["build"]).expect(3);
    assert!(
        wrong.stderr.contains("`hide_undeclared` is true or false"),
        "{}",
        wrong.stderr
    );
}

#[test]
fn what_is_not_declared_is_not_there_in_a_room() {
    if !means().contains(&Means::Sandboxes) {
        return;
    }
    let mut root = confined(Means::Sandboxes, ASKS);
    root.write("tide/sub/x/y.txt", "y\n");
    root.run(&["build"]).expect(0);
    assert_eq!(root.read("out/default/tide/a.txt"), "hidden\n");
    // Nothing depends on where the workspace is, or on what else is in it.
    let other = root.sharing_store("elsewhere");
    other.write("tide/salt.txt", "more\n");
    let run = other.run(&["build", "--json"]).expect(0);
    assert_eq!(
        (
            run.summary()["ran"].clone(),
            run.summary()["reused"].clone()
        ),
        (0.into(), 2.into())
    );
    // What is made without sandboxes is no result for those who have them, nor in another place.
    root.without_sandboxes = true;
    let run = root.run(&["build", "--json"]).expect(0);
    assert_eq!(run.summary()["ran"], 2, "{}", run.stdout);
    assert_eq!(root.read("out/default/tide/a.txt"), "there\n");
}

/// Without sandboxes commands see where the workspace is: what was made at another place is made
/// again.
#[test]
fn a_workspace_that_moved_is_built_again_where_commands_see_its_place() {
    let sandbox = Sandbox::new(&[("a/nubrik.toml", ""), ("a/targets.nub", PLACE)]);
    let build = |folder: &str| {
        let mut command = sandbox.command_in(folder, &["build", "--json"]);
        command.env("NUBRIK_SANDBOX", "off");
        crate::sandbox::finish(command).expect(0)
    };
    // Old enough that a build of which nothing changed is known by one look.
    std::thread::sleep(std::time::Duration::from_millis(50));
    build("a");
    assert_eq!(build("a").summary()["ran"], 0);
    std::fs::rename(sandbox.folder.join("a"), sandbox.folder.join("b")).unwrap();
    assert_eq!(build("b").summary()["ran"], 1);
    let place = sandbox.folder.join("b").canonicalize().unwrap();
    assert_eq!(
        sandbox.read("b/out/default/here/o"),
        format!("{}\n", place.display())
    );
}

const PLACE: &str = "target here = step { run = sh`pwd > {out \"o\"}` }\n";

/// This program does without huge pages while it looks at little, and steps have them all the same.
#[test]
fn steps_may_have_huge_pages() {
    let step = "target pages = step { run = sh`cat {in \"a\"} > {out \"p\"}; \
                grep THP_enabled /proc/self/status >> {out \"p\"} || true` }\n";
    let sandbox = Sandbox::new(&[("targets.nub", step), ("a", "1")]);
    for text in ["1", "2"] {
        sandbox.write("a", text);
        sandbox.run(&["build"]).expect(0);
        let made = sandbox.read("out/default/pages/p");
        assert!(!made.contains("THP_enabled:\t0"), "{made}");
    }
}

/// Who builds may have other limits than who built before. Where those cannot be raised for steps,
/// they count.
#[test]
fn limits_of_who_builds_decide_no_result() {
    let files = [(
        "targets.nub",
        "target limits = step { run = sh`ulimit -n > {out \"l\"}; ulimit -s >> {out \"l\"}` }\n",
    )];
    let limited = |sandbox: &Sandbox| {
        let program = sandbox.command(&["build"]);
        let mut command = std::process::Command::new("sh");
        command
            .args(["-c", "ulimit -n 300; ulimit -s 4096; exec \"$0\" build"])
            .arg(program.get_program());
        let variables = program
            .get_envs()
            .filter_map(|(name, value)| Some((name, value?)));
        command
            .env_clear()
            .envs(variables)
            .current_dir(&sandbox.folder);
        crate::sandbox::finish(command).expect(0);
        sandbox.read("out/default/limits/l")
    };
    let (built_before, new) = (Sandbox::new(&files), Sandbox::new(&files));
    // Old enough that a build of which nothing changed is known by one look.
    let old = std::time::SystemTime::now() - std::time::Duration::from_secs(60);
    for file in ["targets.nub", "nubrik.toml"] {
        let file = std::fs::File::options()
            .write(true)
            .open(built_before.folder.join(file));
        file.unwrap().set_modified(old).unwrap();
    }
    built_before.run(&["build"]).expect(0);
    let first = built_before.read("out/default/limits/l");
    assert_eq!(limited(&built_before), limited(&new));
    built_before.run(&["build"]).expect(0);
    assert_eq!(built_before.read("out/default/limits/l"), first);
}
