//! Reports to keep: the same facts in each form, failures first, and nothing that a text holds
//! becomes anything else.

use crate::sandbox::Sandbox;

const DEFINITIONS: &str = "\
target fine = step { run = `echo fine > {out \"x\"}` }\n\
target bad = step { run = sh`cat {in \"notes.txt\"}; exit 3 > {out \"x\"}` }\n\
test passes = check { run = sh`echo \"1..1\" > {out r \"r.tap\"}; echo \"ok 1 - ebb\" >> {out r \"r.tap\"}`, report = \"r\" }\n\
test fails = check { run = sh`echo \"1..2\" > {out r \"r.tap\"}; echo \"ok 1 - flow\" >> {out r \"r.tap\"}; echo \"not ok 2 - slack\" >> {out r \"r.tap\"}; exit 1`, report = \"r\" }\n\
test plain_one = check { run = sh`echo 'the gauge is dry'; exit 1` }\n";

#[test]
fn a_build_is_told_with_what_failed_first() {
    let sandbox = Sandbox::new(&[
        ("targets.nub", DEFINITIONS),
        ("notes.txt", "<b>no | water</b>\n```\n"),
    ]);
    let run = sandbox.run(&["report"]).expect(2);
    assert!(
        run.stderr.contains("nothing was built here yet"),
        "{}",
        run.stderr
    );
    sandbox.run(&["build", "-k"]).expect(1);
    let text = sandbox.run(&["report"]).expect(0).stdout;
    assert!(text.starts_with("# Build 1: failed\n"), "{text}");
    // What it printed has a fence of its own, so a fence in it is text.
    assert!(
        text.contains("````text\n<b>no | water</b>\n```\n````\n"),
        "{text}"
    );
    assert!(text.contains("Reproduce: `nubrik build bad`"), "{text}");
    assert!(
        text.find("Failed: `bad`").unwrap() < text.find("| ran | `fine` |").unwrap(),
        "{text}"
    );
    sandbox
        .run(&[
            "report",
            "1",
            "--html",
            "kept/build.html",
            "--markdown",
            "kept/build.md",
        ])
        .expect(0);
    assert_eq!(sandbox.read("kept/build.md"), text);
    let page = sandbox.read("kept/build.html");
    assert!(
        page.contains("&lt;b&gt;no | water&lt;/b&gt;") && page.contains("nubrik build bad"),
        "{page}"
    );
    for elsewhere in ["<script", "src=", "href=", "http:"] {
        let allowed = page.matches("http://www.w3.org/2000/svg").count();
        let found = page.matches(elsewhere).count();
        assert!(
            found == 0 || (elsewhere == "http:" && found == allowed),
            "{elsewhere}"
        );
    }
    let run = sandbox.run(&["report", "7"]).expect(2);
    assert!(
        run.stderr.contains("there is no build 7 yet"),
        "{}",
        run.stderr
    );
    let run = sandbox.run(&["report", "last"]).expect(2);
    assert!(run.stderr.contains("nubrik report tests"), "{}", run.stderr);
}

#[test]
fn tests_are_told_with_their_cases_and_how_to_repeat_them() {
    let sandbox = Sandbox::new(&[
        ("targets.nub", DEFINITIONS),
        ("notes.txt", "<b>no | water</b>\n```\n"),
    ]);
    sandbox.run(&["test"]).expect(1);
    let text = sandbox.run(&["report", "tests"]).expect(0).stdout;
    assert!(
        text.starts_with("# Tests: 1 of 3 tests passed, 2 failed\n"),
        "{text}"
    );
    assert!(text.contains("the gauge is dry"), "{text}");
    assert!(
        text.contains("Reproduce: `nubrik test plain_one`"),
        "{text}"
    );
    let files = [
        "report",
        "tests",
        "--html",
        "tests.html",
        "--junit",
        "tests.xml",
    ];
    sandbox.run(&files).expect(0);
    let page = sandbox.read("tests.html");
    assert!(page.find("the gauge is dry").unwrap() < page.find("All tests").unwrap());
    let xml = sandbox.read("tests.xml");
    assert!(
        xml.contains("name=\"ebb\"") && xml.contains("failures=\"2\""),
        "{xml}"
    );
    // The command that repeats a test does.
    let run = sandbox.run(&["test", "plain_one"]).expect(1);
    assert!(run.stdout.contains("the gauge is dry"), "{}", run.stdout);
}

#[test]
fn a_test_that_does_both_with_one_key_is_flaky() {
    let sandbox = Sandbox::new(&[("targets.nub", "test moody = check { run = `false` }\n")]);
    sandbox.run(&["test"]).expect(1);
    let text = sandbox.run(&["report", "tests"]).expect(0).stdout;
    assert!(!text.contains("flaky"), "{text}");
    // Another build of the same, in which it passed.
    let history = sandbox.folder.join(".nubrik/history/1.json");
    let record = std::fs::read_to_string(&history).unwrap();
    let passed = record
        .replace("\"failed\",\"reason\"", "\"ran\",\"reason\"")
        .replace("\"build\":1", "\"build\":2");
    assert_ne!(record, passed);
    std::fs::write(sandbox.folder.join(".nubrik/history/2.json"), passed).unwrap();
    let text = sandbox.run(&["report", "tests"]).expect(0).stdout;
    assert!(
        text.contains("flaky: both results with the same key"),
        "{text}"
    );
}

/// Terminal, JSON, history, report and pages speak of one end of one build.
#[test]
fn all_faces_of_a_build_agree() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target fine = step { run = `echo fine > {out \"x\"}` }\n\
         target bad = step { run = sh`exit 3 > {out \"x\"}` }\n\
         target after = step { run = `cp {bad} {out \"x\"}` }\n\
         target later = step { run = `cp {after} {out \"x\"}` }\n",
    )]);
    let printed = sandbox.run(&["build", "-k"]).expect(1).stdout;
    let said = "1 of 4 steps failed, 1 ran, 2 blocked";
    let last = printed.lines().last().unwrap();
    let took = last
        .strip_prefix(&format!("{said}. "))
        .unwrap_or_else(|| panic!("{printed}"))
        .to_owned();
    let history = sandbox.run(&["history", "1"]).expect(0).stdout;
    assert!(
        history.contains(&format!("\n{said}. {took}\n")),
        "{took}\n{history}"
    );
    assert_eq!(history.matches("blocked ").count(), 2, "{history}");
    let list = sandbox.run(&["history"]).expect(0).stdout;
    assert!(list.contains(&took), "{took}\n{list}");
    let report = sandbox.run(&["report"]).expect(0).stdout;
    assert!(
        report.contains(&format!("after {took}. {said}.\n")),
        "{took}\n{report}"
    );
    sandbox
        .run(&["report", "1", "--html", "page.html"])
        .expect(0);
    sandbox.run(&["report", "--pages", "pages"]).expect(0);
    for page in ["page.html", "pages/build.1.html"] {
        let page = sandbox.read(page);
        assert!(
            page.contains(said) && page.contains(&format!("after {took}")),
            "{took}\n{page}"
        );
    }
    let again = sandbox.run(&["build", "-k", "--json"]).expect(1).summary();
    let counts =
        ["steps", "failed", "blocked", "current", "ran"].map(|name| again[name].as_u64().unwrap());
    assert_eq!(counts, [4, 1, 2, 1, 0]);
    let recorded = sandbox.run(&["history", "2", "--json"]).expect(0).stdout;
    let recorded: serde_json::Value =
        serde_json::from_str(recorded.lines().next().unwrap()).unwrap();
    for name in [
        "steps",
        "failed",
        "blocked",
        "current",
        "ran",
        "reused",
        "unstarted",
    ] {
        assert_eq!(recorded[name], again[name], "{name}");
    }
}

/// Seven tests, of which one takes long, and one fails.
const SHARED_TESTS: &str = "\
private let names = [\"ebb\", \"flow\", \"neap\", \"slack\", \"spring\", \"surge\"]\n\
test of = {each n in names give n: check { run = sh`echo {n} > {out \"x\"}` } }\n\
test dry = check { run = sh`echo 'the gauge is dry'; exit 1` }\n";

/// The names of suites with cases in a report.
fn suites(text: &str) -> Vec<String> {
    let heads = text
        .lines()
        .filter(|line| line.contains("<testsuite ") && !line.contains("tests=\"0\""));
    let mut names: Vec<String> = heads
        .map(|line| line.split('"').nth(1).unwrap().to_owned())
        .filter(|name| !name.is_empty())
        .collect();
    names.sort();
    names
}

#[test]
fn machines_share_tests_and_their_reports_are_joined() {
    let files = [("targets.nub", SHARED_TESTS)];
    let all = Sandbox::new(&files);
    all.run(&["test", "--junit", "all.xml"]).expect(1);
    let whole = suites(&all.read("all.xml"));
    assert_eq!(whole.len(), 7, "{whole:?}");
    // Three machines, of which none has ever built here.
    let machines = [
        Sandbox::new(&files),
        Sandbox::new(&files),
        Sandbox::new(&files),
    ];
    let times = all.read("all.xml").replace(
        "of/surge\" tests=\"1\" failures=\"0\" skipped=\"0\" time=\"0.",
        "of/surge\" tests=\"1\" failures=\"0\" skipped=\"0\" time=\"90.",
    );
    let (mut parts, mut joined) = (Vec::new(), Vec::new());
    for (number, machine) in (1..).zip(&machines) {
        machine.write("times.xml", &times);
        let part = format!("{number}/3");
        let run = machine.run(&[
            "test",
            "--part",
            &part,
            "--times",
            "times.xml",
            "--junit",
            "part.xml",
        ]);
        assert!(
            run.stdout.contains(&format!("part      {part}: ")),
            "{}",
            run.stdout
        );
        let text = machine.read("part.xml");
        joined.extend(suites(&text));
        all.write(&format!("part{number}.xml"), &text);
        parts.push(suites(&text));
    }
    // The one that takes long has a part of its own, and each test is in one.
    assert!(parts.contains(&vec!["of/surge".to_owned()]), "{parts:?}");
    joined.sort();
    assert_eq!(joined, whole);
    let merge = ["report", "--merge", "part1.xml", "part2.xml", "part3.xml"];
    let run = all.run(&merge).expect(1);
    assert!(
        run.stdout
            .starts_with("# Tests: 6 of 7 tests passed, 1 failed\n"),
        "{}",
        run.stdout
    );
    assert!(run.stdout.contains("the gauge is dry"), "{}", run.stdout);
    all.run(
        &[
            &merge[..],
            &["--junit", "joined.xml", "--markdown", "joined.md"],
        ]
        .concat(),
    )
    .expect(1);
    assert_eq!(suites(&all.read("joined.xml")), whole);
    assert_eq!(all.read("joined.md"), run.stdout);
    // A joined report gives times, too.
    all.run(&[
        "test",
        "--part",
        "1/1",
        "--times",
        "joined.xml",
        "--dry-run",
    ])
    .expect(0);
    let run = all
        .run(&["report", "--merge", "part1.xml", "part3.xml"])
        .expect(1);
    assert!(
        run.stderr
            .contains("part 2/3 is missing, so tests may not have run"),
        "{}",
        run.stderr
    );
    // A machine that split by other times.
    let other = Sandbox::new(&files);
    other.run(&["test", "--part", "2/3", "--junit", "part.xml"]);
    all.write("part2.xml", &other.read("part.xml"));
    let run = all
        .run(&[&merge[..], &["--junit", "gone/joined.xml"]].concat())
        .expect(1);
    assert!(
        run.stderr.contains("parts of different splits"),
        "{}",
        run.stderr
    );
    assert!(!all.folder.join("gone").exists());
    // One test has two parts: the other one has nothing to do, and says so in its report.
    let empty = other
        .run(&["test", "of/ebb", "--part", "2/2", "--junit", "part.xml"])
        .expect(0);
    assert!(
        empty.stdout.contains("2/2: 0 tests of 1"),
        "{}",
        empty.stdout
    );
    assert!(other.read("part.xml").contains("nubrik.split"));
}

#[test]
fn what_cannot_be_shared_or_joined_is_refused() {
    let sandbox = Sandbox::new(&[("targets.nub", SHARED_TESTS), ("notes.xml", "<html/>")]);
    for (words, why) in [
        (&["test", "--part", "0/2"][..], "such as 2/5"),
        (&["test", "--part", "3/2"], "such as 2/5"),
        (&["test", "--part", "1/2", "--failed"], "--failed"),
        (&["test", "--times", "notes.xml"], "--part"),
        (
            &["test", "--part", "1/2", "--times", "notes.xml"],
            "notes.xml is no report in JUnit XML",
        ),
        (
            &["test", "--part", "1/2", "--times", "gone.xml"],
            "cannot read the report gone.xml",
        ),
        (
            &["report", "--merge", "notes.xml"],
            "notes.xml is no report in JUnit XML",
        ),
        (
            &["report", "--merge", "notes.xml", "--junit", "notes.xml"],
            "notes.xml would be read and written",
        ),
        (&["report", "--merge", "notes.xml", "--html", "x"], "--html"),
    ] {
        let run = sandbox.run(words).expect(2);
        assert!(run.stderr.contains(why), "{words:?}: {}", run.stderr);
    }
}

#[test]
fn what_failed_is_written_with_its_places_as_sarif() {
    let messages = "printf 'src/a b.c:1:5: error: no tide\\nsrc/a b.c:1:5: note: here\\n/usr/include/x.h:1: error: no\\n'; exit 1";
    let definitions = format!(
        "target compiled = step {{ run = sh`cat {{in \"src/a b.c\"}}; {messages} > {{out \"x\"}}` }}\n\
         target silent = step {{ run = sh`exit 3 > {{out \"x\"}}` }}\n\
         test gauge = check {{ run = sh`cat {{in \"src/a b.c\"}}; echo 'src/a b.c:1: it is dry'; exit 1` }}\n"
    );
    let sandbox = Sandbox::new(&[
        ("tide/targets.nub", &definitions),
        ("tide/src/a b.c", "int tide;\n"),
    ]);
    sandbox.run(&["build", "-k"]).expect(1);
    sandbox.run(&["report", "--sarif", "build.sarif"]).expect(0);
    let read =
        |name: &str| -> serde_json::Value { serde_json::from_str(&sandbox.read(name)).unwrap() };
    let shown = |report: &serde_json::Value| {
        let results = report["runs"][0]["results"].as_array().unwrap().clone();
        let line = |result: &serde_json::Value| {
            let place = &result["locations"][0]["physicalLocation"];
            let uri = place["artifactLocation"]["uri"]
                .as_str()
                .unwrap_or("nowhere")
                .to_owned();
            let text = result["message"]["text"]
                .as_str()
                .unwrap()
                .lines()
                .last()
                .unwrap()
                .to_owned();
            let line = &place["region"]["startLine"];
            format!("{} {uri}:{line} {text}", result["ruleId"].as_str().unwrap())
        };
        results.iter().map(line).collect::<Vec<_>>()
    };
    assert_eq!(
        shown(&read("build.sarif")),
        [
            "message tide/src/a%20b.c:1 no tide",
            "failed-step tide/targets.nub:2 make x: exited with code 3; it ran since: never built here",
        ]
    );
    sandbox.run(&["test"]).expect(1);
    sandbox
        .run(&["report", "tests", "--sarif", "tests.sarif"])
        .expect(0);
    let tests = read("tests.sarif");
    assert_eq!(
        shown(&tests),
        [
            "message tide/src/a%20b.c:1 it is dry",
            "failed-test tide/targets.nub:3 src/a b.c:1: it is dry"
        ]
    );
    assert_eq!(
        (
            tests["version"].as_str(),
            tests["runs"][0]["tool"]["driver"]["name"].as_str()
        ),
        (Some("2.1.0"), Some("nubrik"))
    );
}
