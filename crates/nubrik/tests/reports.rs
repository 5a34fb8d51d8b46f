//! Reports to keep: the same facts in each form, failures first, and nothing that a text holds becomes anything else.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod sandbox;

use sandbox::Sandbox;

const DEFINITIONS: &str = "\
target fine = step { run = `echo fine > {out \"x\"}` }\n\
target bad = step { run = sh`cat {in \"notes.txt\"}; exit 3 > {out \"x\"}` }\n\
test passes = check { run = sh`echo \"1..1\" > {out r \"r.tap\"}; echo \"ok 1 - ebb\" >> {out r \"r.tap\"}`, report = \"r\" }\n\
test fails = check { run = sh`echo \"1..2\" > {out r \"r.tap\"}; echo \"ok 1 - flow\" >> {out r \"r.tap\"}; echo \"not ok 2 - slack\" >> {out r \"r.tap\"}; exit 1`, report = \"r\" }\n\
test plain_one = check { run = sh`echo 'the gauge is dry'; exit 1` }\n";

#[test]
fn a_build_is_told_with_what_failed_first() {
    let sandbox = Sandbox::new(&[("targets.nub", DEFINITIONS), ("notes.txt", "<b>no | water</b>\n```\n")]);
    let run = sandbox.run(&["report"]).expect(2);
    assert!(run.stderr.contains("nothing was built here yet"), "{}", run.stderr);
    sandbox.run(&["build", "-k"]).expect(1);
    let text = sandbox.run(&["report"]).expect(0).stdout;
    assert!(text.starts_with("# Build 1: failed\n"), "{text}");
    // What it printed has a fence of its own, so a fence in it is text.
    assert!(text.contains("````text\n<b>no | water</b>\n```\n````\n"), "{text}");
    assert!(text.contains("Reproduce: `nubrik build bad`"), "{text}");
    assert!(text.find("Failed: `bad`").unwrap() < text.find("| ran | `fine` |").unwrap(), "{text}");
    sandbox.run(&["report", "1", "--html", "kept/build.html", "--markdown", "kept/build.md"]).expect(0);
    assert_eq!(sandbox.read("kept/build.md"), text);
    let page = sandbox.read("kept/build.html");
    assert!(page.contains("&lt;b&gt;no | water&lt;/b&gt;") && page.contains("nubrik build bad"), "{page}");
    for elsewhere in ["<script", "src=", "href=", "http:"] {
        let allowed = page.matches("http://www.w3.org/2000/svg").count();
        let found = page.matches(elsewhere).count();
        assert!(found == 0 || (elsewhere == "http:" && found == allowed), "{elsewhere}");
    }
    let run = sandbox.run(&["report", "7"]).expect(2);
    assert!(run.stderr.contains("there is no build 7 yet"), "{}", run.stderr);
    let run = sandbox.run(&["report", "last"]).expect(2);
    assert!(run.stderr.contains("nubrik report tests"), "{}", run.stderr);
}

#[test]
fn tests_are_told_with_their_cases_and_how_to_repeat_them() {
    let sandbox = Sandbox::new(&[("targets.nub", DEFINITIONS), ("notes.txt", "<b>no | water</b>\n```\n")]);
    sandbox.run(&["test"]).expect(1);
    let text = sandbox.run(&["report", "tests"]).expect(0).stdout;
    assert!(text.starts_with("# Tests: 1 of 3 tests passed, 2 failed\n"), "{text}");
    assert!(text.contains("the gauge is dry"), "{text}");
    assert!(text.contains("Reproduce: `nubrik test plain_one`"), "{text}");
    let files = ["report", "tests", "--html", "tests.html", "--junit", "tests.xml"];
    sandbox.run(&files).expect(0);
    let page = sandbox.read("tests.html");
    assert!(page.find("the gauge is dry").unwrap() < page.find("All tests").unwrap());
    let xml = sandbox.read("tests.xml");
    assert!(xml.contains("name=\"ebb\"") && xml.contains("failures=\"2\""), "{xml}");
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
    let passed =
        record.replace("\"failed\",\"reason\"", "\"ran\",\"reason\"").replace("\"build\":1", "\"build\":2");
    assert_ne!(record, passed);
    std::fs::write(sandbox.folder.join(".nubrik/history/2.json"), passed).unwrap();
    let text = sandbox.run(&["report", "tests"]).expect(0).stdout;
    assert!(text.contains("flaky: both results with the same key"), "{text}");
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
    let took = last.strip_prefix(&format!("{said}. ")).unwrap_or_else(|| panic!("{printed}")).to_owned();
    let history = sandbox.run(&["history", "1"]).expect(0).stdout;
    assert!(history.contains(&format!("\n{said}. {took}\n")), "{took}\n{history}");
    assert_eq!(history.matches("blocked ").count(), 2, "{history}");
    let list = sandbox.run(&["history"]).expect(0).stdout;
    assert!(list.contains(&took), "{took}\n{list}");
    let report = sandbox.run(&["report"]).expect(0).stdout;
    assert!(report.contains(&format!("after {took}. {said}.\n")), "{took}\n{report}");
    sandbox.run(&["report", "1", "--html", "page.html"]).expect(0);
    sandbox.run(&["report", "--pages", "pages"]).expect(0);
    for page in ["page.html", "pages/build.1.html"] {
        let page = sandbox.read(page);
        assert!(page.contains(said) && page.contains(&format!("after {took}")), "{took}\n{page}");
    }
    let again = sandbox.run(&["build", "-k", "--json"]).expect(1).summary();
    let counts = ["steps", "failed", "blocked", "current", "ran"].map(|name| again[name].as_u64().unwrap());
    assert_eq!(counts, [4, 1, 2, 1, 0]);
    let recorded = sandbox.run(&["history", "2", "--json"]).expect(0).stdout;
    let recorded: serde_json::Value = serde_json::from_str(recorded.lines().next().unwrap()).unwrap();
    for name in ["steps", "failed", "blocked", "current", "ran", "reused", "unstarted"] {
        assert_eq!(recorded[name], again[name], "{name}");
    }
}
