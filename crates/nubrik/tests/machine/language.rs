//! What the language's forms do on a real machine: options, probes, samples, tools, fetching,
//! folders.

use std::io::{Read, Write};
use std::net::TcpListener;

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

#[test]
fn options_stand_side_by_side_and_to_and_fro_runs_nothing() {
    let sandbox = Sandbox::new(&[
        ("nubrik.toml", "[profiles]\nship = { mode = \"release\" }\n"),
        (
            "targets.nub",
            "## How it is made.\noption mode: \"debug\" | \"release\" = \"debug\"\n\
             target plain = step { run = `echo plain > {out \"plain\"}` }\n\
             target made = step { run = `echo {mode} > {out \"made\"}` }\n\
             target both = stage { \"a\": made under { mode = \"debug\" }, \"b\": made under { mode = \"release\" } }\n",
        ),
    ]);
    assert_eq!(sandbox.run(&["build", "--json"]).expect(0).ran().len(), 4);
    assert_eq!(sandbox.read("out/default/both/b"), "release\n");
    let ship = sandbox
        .run(&["build", "--json", "--profile", "ship"])
        .expect(0);
    assert_eq!(
        ship.ran().len(),
        0,
        "everything is there already: {}",
        ship.stdout
    );
    assert_eq!(sandbox.read("out/ship/made"), "release\n");
    let shown = sandbox
        .run(&["build", "--profile", "ship"])
        .expect(0)
        .stdout;
    assert!(shown.contains("out/ship/made\n"), "{shown}");
    assert_eq!(sandbox.read("out/default/made"), "debug\n");
    assert_eq!(sandbox.run(&["build", "--json"]).expect(0).ran().len(), 0);
    let set = sandbox
        .run(&["build", "--json", "--set", "mode=release", "made"])
        .expect(0);
    assert_eq!(set.ran().len(), 0);
    assert_eq!(sandbox.read("out/default/made"), "release\n");
    sandbox
        .run(&["build", "made", "--set", "mode=debug"])
        .expect(0);
    assert_eq!(sandbox.read("out/default/made"), "debug\n");
    let wrong = |args: &[&str], code| sandbox.run(args).expect(code).stderr;
    assert_eq!(
        wrong(&["build", "--set", "mdoe=release"], 2),
        "error   no option is called `mdoe` (--set)\n  try   mode\n  try   `nubrik options` shows what can be set\n"
    );
    let value = wrong(&["build", "--set", "mode=fast"], 2);
    assert!(
        value.starts_with(
            "error   expected \"debug\" or \"release\", found \"fast\" for the option `mode` (--set)\n"
        ),
        "{value}"
    );
    assert_eq!(
        wrong(&["build", "--profile", "shp"], 2),
        "error   there is no profile `shp` in nubrik.toml\n  try   --profile ship\n"
    );
    assert_eq!(
        wrong(&["build", "--set", "mode"], 2),
        "error   `mode` sets nothing\n  try   --set mode=value\n"
    );
    assert_eq!(
        sandbox
            .run(&["options", "--profile", "ship"])
            .expect(0)
            .stdout,
        "mode  \"debug\" | \"release\"\n  about     How it is made.\n  value     \"release\"; its default is \"debug\"\n  \
         declared  targets.nub:2 as workspace.mode\n  read by   made\n\nprofiles of nubrik.toml\n  ship  mode = \"release\"\n"
    );
}

#[test]
fn a_probe_is_asked_once_and_decides_what_runs() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "private let has = {each f in glob(\"ask/*\") give f.name: probe { run = `grep -q yes {f}`, may_fail = true }.ok}\n\
             target answers = write { path = \"answers\", text = [each k, ok in has give \"{k}={if ok then 1 else 0}\"].join(\" \") }\n\
             private let list = probe { run = `cat {in \"list\"}` }.lines\n\
             target words = step { run = `echo {list} > {out \"words\"}` }\n",
        ),
        ("ask/a", "yes\n"),
        ("ask/b", "no\n"),
        ("list", "x y\nz\n"),
    ]);
    let run = sandbox.run(&["build", "--json"]).expect(0);
    assert_eq!(run.ran().len(), 5, "{}", run.stdout);
    assert_eq!(sandbox.read("out/default/answers"), "a=1 b=0");
    assert_eq!(sandbox.read("out/default/words"), "x y z\n");
    assert_eq!(sandbox.run(&["build", "--json"]).expect(0).ran().len(), 0);
    sandbox.write("ask/b", "yes\n");
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).ran().len(),
        2,
        "one question, and what its answer decides"
    );
    sandbox.write("ask/a", "yes, indeed\n");
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).ran().len(),
        1,
        "the same answer changes nothing"
    );
    sandbox.write("targets.nub", "let list = probe { run = `cat {in \"gone\"}` }\ntarget words = step { run = `echo {list.lines} > {out \"words\"}` }\n");
    sandbox.run(&["build", "--plain"]).expect(3);
    sandbox.write("targets.nub", "let list = probe { run = `false` }\ntarget words = step { run = `echo {list.lines} > {out \"words\"}` }\n");
    let failed = sandbox.run(&["build", "--plain"]).expect(1);
    assert!(
        failed.stdout.contains("probe for list"),
        "{}",
        failed.stdout
    );
    let listed = sandbox.run(&["list", "--plain"]).expect(1);
    assert!(
        listed.stderr.contains("probe for list"),
        "a reading command says why it cannot: {}",
        listed.stderr
    );
}

#[test]
fn samples_and_variables_are_looked_at_each_time() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "private let revision = sample { run = `cat {in \"REVISION\"}` }\n\
             target stamp = write { path = \"stamp\", text = \"{revision.text} {env(\"TIDE_CHANNEL\", default = \"draft\")}\" }\n\
             target other = step { run = `date > {out \"other\"}` }\n",
        ),
        ("REVISION", "r1\n"),
    ]);
    sandbox.run(&["build"]).expect(0);
    assert_eq!(sandbox.read("out/default/stamp"), "r1 draft");
    assert_eq!(sandbox.run(&["build", "--json"]).expect(0).ran().len(), 0);
    sandbox.write("REVISION", "r2\n");
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).ran(),
        ["write stamp"]
    );
    assert_eq!(sandbox.read("out/default/stamp"), "r2 draft");
    sandbox.write(
        "targets.nub",
        "target t = write { path = \"t\", text = sample { run = `false` }.text }\n",
    );
    let failed = sandbox.run(&["build"]).expect(3);
    assert!(
        failed.stderr.starts_with("error   this sample failed\n"),
        "{}",
        failed.stderr
    );
    sandbox.write(
        "targets.nub",
        "target t = write { path = \"t\", text = env(\"TIDE_NOT_SET\") }\n",
    );
    let failed = sandbox.run(&["build"]).expect(3);
    assert!(
        failed.stderr.contains("try   TIDE_NOT_SET=… nubrik build"),
        "{}",
        failed.stderr
    );
}

#[test]
fn a_sample_writes_nothing() {
    if nubrik_confine::support().path_rules.is_none() {
        skip(Need::Confinement, "this kernel has no path rules");
        return;
    }
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target t = write { path = \"t\", text = \"{sample { run = `touch made-by-sample`, may_fail = true }.ok}x\" }\n".replace("{sample", "{if sample").replace(".ok}", ".ok then 1 else 0}").as_str(),
    )]);
    sandbox.run(&["build"]).expect(0);
    assert!(!sandbox.exists("made-by-sample"));
    assert_eq!(sandbox.read("out/default/t"), "0x");
}

#[test]
fn tools_are_checked_for_their_version() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "let cc = tool { names = [\"no-such-cc\", \"cc\"], at_least = \"3\" }\n\
         target t = step { run = `{cc} -E -P {in \"t.c\"} -o {out \"t.i\"}`, env = { \"V\": cc.version } }\n",
        ),
        ("t.c", "int x;\n"),
    ]);
    sandbox.run(&["build"]).expect(0);
    assert_eq!(sandbox.read("out/default/t.i").trim(), "int x;");
    sandbox.write(
        "targets.nub",
        "target t = step { run = `{tool { names = \"cc\", at_least = \"999\" }} > {out \"t\"}` }\n",
    );
    let old = sandbox.run(&["build"]).expect(3).stderr;
    assert!(
        old.starts_with("error   the machine has no `cc` of version 999 or newer\n"),
        "{old}"
    );
    sandbox.write(
        "targets.nub",
        "target t = step { run = `{tool { names = \"no-such-tool\" }} > {out \"t\"}` }\n",
    );
    let doctor = sandbox.run(&["doctor", "--plain"]).expect(4);
    assert!(
        doctor.stdout.contains("missing   tool     no-such-tool"),
        "{}",
        doctor.stdout
    );
    sandbox.write(
        "targets.nub",
        "target t = step { run = `cc {in \"t.c\"} > {out \"t\"}` }\n",
    );
    let doctor = sandbox.run(&["doctor", "--plain"]).expect(0);
    assert!(
        doctor.stdout.contains("there     tool     cc "),
        "{}",
        doctor.stdout
    );
}

#[test]
fn what_the_tool_makes_itself_is_the_same_bytes_each_time() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target script = write { path = \"run\", text = \"#!/bin/sh\\necho tides\\n\", executable = true }\n\
             target tree = stage { \"bin/run\": script, \"doc/\": glob(\"*.md\"), \"data\": \"data\" }\n\
             target all = {\n    \"gz\": pack { path = \"all.tar.gz\", prefix = \"all-1\", files = tree }\n    \
             \"zst\": pack { path = \"all.tar.zst\", files = { \"x\": tree } }\n    \"zip\": pack { path = \"all.zip\", files = tree }\n}\n\
             target back = unpack { archive = all[\"gz\"], strip = 1 }\n",
        ),
        ("a.md", "A\n"),
        ("b.md", "B\n"),
        ("data/deep/x", "1\n"),
    ]);
    sandbox.run(&["build"]).expect(0);
    assert_eq!(sandbox.read("out/default/back/all/doc/b.md"), "B\n");
    assert_eq!(sandbox.read("out/default/back/all/data/deep/x"), "1\n");
    let run = std::process::Command::new(sandbox.folder.join("out/default/back/all/bin/run"))
        .output()
        .unwrap();
    assert_eq!(run.stdout, b"tides\n");
    let bytes =
        |name: &str| std::fs::read(sandbox.folder.join("out/default/all").join(name)).unwrap();
    let names = ["gz/all.tar.gz", "zst/all.tar.zst", "zip/all.zip"];
    let before = names.map(bytes);
    sandbox.run(&["clean", "--cache"]).expect(0);
    std::fs::remove_dir_all(sandbox.folder.join(".nubrik")).unwrap();
    sandbox.run(&["build"]).expect(0);
    assert_eq!(names.map(bytes), before);
}

#[test]
fn commands_may_choose_where_they_write() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target tree = stage { \"src/a\": \"a\" }\n\
             target chosen = step { run = sh`mkdir dist; tr a-z A-Z < src/a > dist/b; echo log > build.log; echo more >> src/a`\n    \
             makes = { \"dist\": \"dist/\", \"log\": \"build.log\" }, folder = tree }\n\
             target inside = step { run = sh`cat x; basename \"$PWD\"; echo {in \"sub/x\"} > {out \"y\"}`, folder = \"sub\", reads = \"sub/x\" }\n\
             target listed = step { run = `sort {argfile [\"a\", \"sub/x\"]} -o {out \"l\"}` }\n\
             target empty = step { run = sh`echo here > made`, makes = { \"it\": \"made\" } }\n",
        ),
        ("a", "tides\n"),
        ("sub/x", "ebb\n"),
    ]);
    let run = sandbox.run(&["build", "--plain"]).expect(0);
    assert_eq!(sandbox.read("out/default/chosen/dist/b"), "TIDES\n");
    assert_eq!(sandbox.read("out/default/chosen/build.log"), "log\n");
    assert_eq!(
        sandbox.read("out/default/tree/src/a"),
        "tides\n",
        "the step wrote into a copy"
    );
    assert_eq!(
        sandbox.read("out/default/inside/y"),
        "x\n",
        "{}",
        run.stdout
    );
    assert_eq!(sandbox.read("out/default/listed/l"), "a\nsub/x\n");
    assert_eq!(sandbox.read("out/default/empty/made"), "here\n");
    assert_eq!(sandbox.run(&["build", "--json"]).expect(0).ran().len(), 0);
    sandbox.write("a", "moon\n");
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).ran(),
        ["make chosen", "make l", "put tree together"]
            .map(|s| s.replace("make chosen", "make dist"))
    );
    sandbox.write(
        "targets.nub",
        "target t = step { run = `true`, makes = { \"x\": \"never\" } }\n",
    );
    let failed = sandbox.run(&["build", "--plain"]).expect(1);
    assert!(
        failed.stdout.contains("did not make its output never"),
        "{}",
        failed.stdout
    );
}

#[test]
fn shells_get_every_hole_as_one_word() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target t = step { run = sh`for f in {glob(\"*.txt\")}; do cat \"$f\"; done > {out \"t\"}; printf '%s|' {[\"a b\", \"$X\", \"it's\"]} \"pre {\"$HOME `x`\"} post\" ${{0##*/}} >> {out \"t\"}` }\n",
        ),
        ("a b.txt", "one\n"),
        ("$(c).txt", "two\n"),
    ]);
    sandbox.run(&["build", "--plain"]).expect(0);
    assert_eq!(
        sandbox.read("out/default/t"),
        "two\none\na b|$X|it's|pre $HOME `x` post|sh|"
    );
    // What is in `$(…)` begins again, even between quotes.
    sandbox.write(
        "targets.nub",
        "target t = step { run = sh`echo \"a $(printf '%s.' {[\"b c\", \"d\"]} \"e {\"f g\"}\" {\"$X\"}) {\"h i\"}\" > {out \"t\"}` }\n",
    );
    sandbox.run(&["build", "--plain"]).expect(0);
    assert_eq!(sandbox.read("out/default/t"), "a b c.d.e f g.$X. h i\n");
}

#[test]
fn a_step_that_takes_too_long_is_ended() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target t = step { run = sh`echo begun; sleep 30 & sleep 30; echo x > {out \"t\"}`, timeout = 300ms }\n",
    )]);
    let run = sandbox.run(&["build", "--plain"]).expect(1);
    assert!(
        run.stdout.contains("timed out after 0.30s, its limit"),
        "{}",
        run.stdout
    );
    assert!(run.stdout.contains("begun"), "{}", run.stdout);
}

/// Serves the same answer to each request, and says on which port.
fn serve(body: &'static [u8], requests: usize) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming().take(requests) {
            let mut stream = stream.unwrap();
            let _ = stream.read(&mut [0; 2048]);
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                body.len()
            );
            let _ = stream
                .write_all(head.as_bytes())
                .and_then(|()| stream.write_all(body));
        }
    });
    port
}

#[test]
fn what_is_fetched_is_known_by_its_digest() {
    // Of nothing: what a definition with a wrong digest says.
    const DIGEST: &str = "sha256:5dbcbbf7fabd0b9f6d2ef8c5c8b2ab1ac9e0c8b3ad4c7e2ec2a5b0b1ad4f4d6a";
    let sandbox = Sandbox::new(&[("tides.txt", "tides\n")]);
    let digest = {
        let output = std::process::Command::new("sha256sum")
            .arg(sandbox.folder.join("tides.txt"))
            .output()
            .unwrap();
        format!(
            "sha256:{}",
            String::from_utf8(output.stdout)
                .unwrap()
                .split(' ')
                .next()
                .unwrap()
        )
    };
    let port = serve(b"tides\n", 2);
    let dead = TcpListener::bind("127.0.0.1:0")
        .unwrap()
        .local_addr()
        .unwrap()
        .port();
    let fetch = |digest: &str| {
        format!(
            "target t = fetch {{ url = [\"http://127.0.0.1:{dead}/t.txt\", \"http://127.0.0.1:{port}/t.txt\"], digest = \"{digest}\" }}\n"
        )
    };
    sandbox.write("targets.nub", &fetch(&digest));
    let run = sandbox.run(&["build", "--plain"]).expect(0);
    assert_eq!(
        sandbox.read("out/default/t.txt"),
        "tides\n",
        "{}",
        run.stdout
    );
    sandbox.write("targets.nub", &fetch(DIGEST));
    let wrong = sandbox.run(&["build", "--plain"]).expect(1).stdout;
    assert!(
        wrong.contains(DIGEST) && wrong.contains(&digest),
        "both digests are shown: {wrong}"
    );
    sandbox.write(
        "targets.nub",
        &format!(
            "target t = fetch {{ url = \"file://{}/tides.txt\", digest = \"{digest}\", path = \"again\" }}\n",
            sandbox.folder.display()
        ),
    );
    sandbox.run(&["build"]).expect(0);
    assert_eq!(sandbox.read("out/default/t/again"), "tides\n");
}

#[test]
fn tags_and_kinds_select() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a tagged slow, nightly = step { run = `date > {out \"a\"}` }\ntarget b = write { path = \"b\", text = \"\" }\n",
    )]);
    assert_eq!(
        sandbox.run(&["list", "--tag", "slow"]).expect(0).stdout,
        "the workspace's root\n  step  a   #slow  #nightly\n"
    );
    assert_eq!(
        sandbox.run(&["list", "--count"]).expect(0).stdout,
        "     2  step\n"
    );
    let wrong = sandbox.run(&["list", "--kind", "stpe"]).expect(2).stderr;
    assert!(
        wrong.ends_with("  note  there are: step\n  try   --kind step\n"),
        "{wrong}"
    );
    let wrong = sandbox.run(&["list", "--tag", "slwo"]).expect(2).stderr;
    assert_eq!(
        wrong,
        "error   no target here is tagged `slwo`\n  note  there are: nightly, slow\n  try   --tag slow\n"
    );
}

#[test]
fn definitions_are_written_in_one_form() {
    let sandbox = Sandbox::new(&[
        ("targets.nub", "let a=1\n"),
        ("kit/x.nub", "let b = 2\n"),
        ("bad/y.nub", "let = 3\n"),
    ]);
    let check = sandbox
        .run(&["fmt", "--check", "--plain", "targets.nub", "kit"])
        .expect(1);
    assert_eq!(
        check.stdout,
        "untidy    targets.nub\n\n1 of 2 files is not in the usual form; `nubrik fmt` corrects that\n"
    );
    assert_eq!(sandbox.read("targets.nub"), "let a=1\n");
    let all = sandbox.run(&["fmt", "--plain"]).expect(3);
    assert!(all.stderr.contains("bad/y.nub:1:5"), "{}", all.stderr);
    assert_eq!(
        sandbox.read("targets.nub"),
        "let a = 1\n",
        "others are mended all the same"
    );
    assert_eq!(sandbox.read("bad/y.nub"), "let = 3\n");
    sandbox.run(&["fmt", "--check", "targets.nub"]).expect(0);
}

#[test]
fn the_graph_is_drawn_for_people_and_programs() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = `date > {out \"a\"}` }\ntarget b = step { run = `cat {a} > {out \"b\"}` }\ntarget c = step { run = `cat {b} > {out \"c\"}` }\n",
    )]);
    let run = |args: &[&str]| sandbox.run(args).expect(0).stdout;
    assert_eq!(
        run(&["graph", "c"]),
        "c  ●  step\n   │\nb  ○  step\n   │\na  ○  step\n\n● asked for   ○ not asked for\n"
    );
    let wrong = sandbox
        .run(&["graph", "--output", "targets.nub/g.svg"])
        .expect(5)
        .stderr;
    assert!(
        wrong.starts_with("error   cannot write targets.nub/g.svg: "),
        "{wrong}"
    );
    assert_eq!(run(&["graph", "--output", "g.svg"]), "");
    assert!(
        sandbox.read("g.svg").contains("<title>b (step)</title>"),
        "the ending says what it is"
    );
    let dot = run(&["graph", "c", "--format", "dot"]);
    assert!(
        dot.starts_with("digraph nubrik {")
            && dot.matches(" -> ").count() == 2
            && dot.ends_with("}\n"),
        "{dot}"
    );
    assert_eq!(
        run(&["graph", "c", "--depth", "1", "--format", "mermaid"])
            .matches("-->")
            .count(),
        1
    );
    assert_eq!(
        run(&["graph", "a", "--users", "--format", "json"])
            .lines()
            .count(),
        3
    );
    assert!(run(&["graph", "--format", "svg"]).contains("<title>b (step)</title>"));
    assert_eq!(
        run(&["why", "c", "a", "--plain"]),
        "c  targets.nub:3  uses b\nb  targets.nub:2  uses a\na  targets.nub:1\n"
    );
    let wrong = sandbox.run(&["why", "a", "c"]).expect(1).stderr;
    assert!(
        wrong.starts_with("error   `a` does not depend on `c`\n"),
        "{wrong}"
    );
    let show = run(&["show", "b", "--plain"]);
    assert_eq!(
        show,
        "b\n  kind      step\n  defined   targets.nub:2\n  needs     a\n  used by   c\n  results   out/default/b\n\n  \
         make b  never ran here, targets.nub:2\n    command   cat .nubrik/made/a/@a/a > .nubrik/made/b/@b/b\n    \
         reads     a of a\n    makes     b\n"
    );
    assert!(run(&["setup", "completions", "bash"]).contains("nubrik"));
}

/// The variables of the environment that the program's sources name, but for that by which a shell
/// asks for proposals.
fn variables_in_sources() -> std::collections::BTreeSet<String> {
    let crates = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut open = vec![crates];
    let mut found = std::collections::BTreeSet::new();
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let (path, name) = (entry.path(), entry.file_name());
            if entry.file_type().unwrap().is_dir() {
                // What is for tests alone is reported to who writes tests.
                let is_other = ["tests", "target", "testing", "benches"]
                    .iter()
                    .any(|other| name == *other);
                open.extend((!is_other).then_some(path));
            } else if name != "build.rs" && path.extension().is_some_and(|ending| ending == "rs") {
                let text = std::fs::read_to_string(&path).unwrap();
                let words = text.split('"').filter(|word| word.starts_with("NUBRIK_"));
                let is_name =
                    |word: &&str| word.chars().all(|c| c.is_ascii_uppercase() || c == '_');
                found.extend(words.filter(is_name).map(str::to_owned));
            }
        }
    }
    found.remove("NUBRIK_COMPLETE");
    // It is there while the program is compiled.
    found.remove("NUBRIK_VERSION");
    assert!(found.len() > 7, "{found:?}");
    found
}

#[test]
fn every_topic_can_be_read_and_the_reference_is_true() {
    let sandbox = Sandbox::new(&[]);
    let page = sandbox.run(&["explain", "--all"]).expect(0).stdout;
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let written = std::fs::read_to_string(root.join("docs/reference.md")).unwrap();
    assert!(
        written == page,
        "docs/reference.md differs from `nubrik explain --all`"
    );
    for topic in [
        "step",
        "made-twice",
        "ran",
        "jobs",
        "c.library",
        "{out}",
        "below",
    ] {
        assert!(
            !sandbox
                .run(&["explain", topic, "--plain"])
                .expect(0)
                .stdout
                .is_empty(),
            "{topic}"
        );
    }
    // What people type without knowing what it is called here.
    let guesses = "type reads run give where none & + / kit package nubrik.toml targets.nub maybe reuse workspace target job service \
                   check effect write pack unpack fetch tool sample probe glob env secret host each if match with under sh text int \
                   bool list map record files file folder duration optional alternatives command string loop import function \
                   rule task shell input output password parallel os library program archive zip download json csv profile \
                   variant address store out operators flags headers needs say makes timeout network memory timeout \
                   room rooms key verdict pin pins origin origins member line seal label slots pool sandbox cache remote flaky \
                   quarantine dependency plan why watch share worker adopt hole unit refused usage exit c rust python go java js \
                   fortran documents archives build NUBRIK_SANDBOX NUBRIK_SHARED_KEY";
    for guess in guesses.split_whitespace() {
        let said = sandbox.run(&["explain", guess, "--plain"]);
        assert!(
            said.code == 0 && !said.stdout.is_empty(),
            "explain {guess}: {}",
            said.stderr
        );
    }
    // Each command and each variable that the sources name has a topic, and topics may have several
    // words.
    for words in [
        &["shared", "cache"][..],
        &["exit", "codes"],
        &["workers", "serve"],
        &["cache", "prune"],
    ] {
        sandbox
            .run(&[&["explain"], words].concat())
            .expect(0)
            .says(&words.join(" "));
    }
    let groups = std::fs::read_to_string(root.join("crates/nubrik/src/groups.rs")).unwrap();
    let rows = groups
        .lines()
        .filter_map(|line| line.strip_prefix("  ")?.split("  ").next());
    for command in rows.filter(|word| !word.is_empty()) {
        sandbox.run(&["explain", command]).expect(0).says("command");
    }
    for name in variables_in_sources() {
        sandbox.run(&["explain", &name]).expect(0).says("variable");
    }
    let wrong = sandbox.run(&["explain", "setp"]).expect(2).stderr;
    assert!(wrong.contains("try   nubrik explain step"), "{wrong}");
}

#[test]
fn links_that_lead_nowhere_are_named_where_a_glob_would_mean_them() {
    let sandbox = Sandbox::new(&[
        ("b.txt", "b\n"),
        ("d/c.txt", "c\n"),
        (
            "targets.nub",
            "target a = step { run = `cat {in glob(\"**/*.txt\")} > {out \"all\"}` }\n",
        ),
    ]);
    for link in ["a.txt", "d/x.txt", "d/x.csv"] {
        std::os::unix::fs::symlink("nowhere", sandbox.folder.join(link)).unwrap();
    }
    let said = sandbox.run(&["lint", "--plain"]).expect(0).stderr;
    for link in [
        "`a.txt` is a link that leads nowhere",
        "`d/x.txt` is a link that leads nowhere",
    ] {
        assert!(said.contains(link), "{said}");
    }
    assert!(!said.contains("csv"), "{said}");
    // What it leads to may appear.
    sandbox.write("nowhere", "");
    sandbox.write("d/nowhere", "");
    assert!(
        sandbox
            .run(&["lint", "--plain"])
            .expect(0)
            .stdout
            .contains("nothing wrong")
    );
}
