//! `nubrik test --coverage`: which lines of which sources tests ran, in each language whose tools
//! are here.

use std::path::Path;
use std::process::Command;

use crate::sandbox::{Run, Sandbox};
use nubrik_testing::{Need, skip};
use serde_json::{Value, json};

const FIT: [(&str, &str); 4] = [
    (
        "targets.nub",
        "use \"nub:c\" as c\n\
         target fit = c.library { sources = \"src/*.c\", headers = \"src/*.h\", include = \"src\" }\n\
         test low = c.test_program { sources = \"checks/low.c\", needs = fit }\n\
         test plain = check { run = `true` }\n",
    ),
    (
        "src/fit.c",
        "#include \"fit.h\"\nint fit(int x) {\n    if (x > 3) {\n        return 1;\n    }\n    return 0;\n}\n",
    ),
    ("src/fit.h", "int fit(int x);\n"),
    (
        "checks/low.c",
        "#include \"fit.h\"\nint main(void) { return fit(2); }\n",
    ),
];

/// What is reported of the lines of each file: how many can run, how many did, and which did not.
fn told(run: &Run) -> Vec<(String, u64, u64, Value)> {
    let files = run
        .events()
        .into_iter()
        .filter(|event| event["event"] == "coverage");
    let number = |value: &Value| value.as_u64().unwrap();
    files
        .map(|e| {
            let file = e["file"].as_str().unwrap().to_owned();
            (
                file,
                number(&e["lines"]),
                number(&e["covered"]),
                e["uncovered"].clone(),
            )
        })
        .collect()
}

fn sum(run: &Run) -> Value {
    run.events()
        .into_iter()
        .find(|event| event["event"] == "coverage_sum")
        .unwrap()
}

fn of(file: &str, lines: u64, covered: u64, uncovered: Value) -> (String, u64, u64, Value) {
    (file.to_owned(), lines, covered, uncovered)
}

#[test]
fn variants_are_built_beside_the_usual_and_lines_are_told_with_reused_verdicts() {
    if !has("gcov", &["--version"]) {
        return;
    }
    let sandbox = Sandbox::new(&FIT);
    sandbox.run(&["test"]).expect(0);
    let run = sandbox.run(&["test", "--coverage", "--json"]).expect(0);
    let lines = [
        of("checks/low.c", 1, 1, json!([])),
        of("src/fit.c", 4, 3, json!([[4, 4]])),
    ];
    assert_eq!(told(&run), lines);
    assert_eq!(
        (&sum(&run)["lines"], &sum(&run)["covered"]),
        (&json!(5), &json!(4))
    );
    // Of the condition one way was taken.
    assert_eq!(sum(&run)["branches"], json!({ "all": 2, "taken": 1 }));
    let branches: Vec<Value> = run
        .events()
        .into_iter()
        .filter(|e| e["event"] == "coverage")
        .collect();
    assert_eq!(
        branches[1]["branches"],
        json!({ "all": 2, "taken": 1, "partly": [3] })
    );
    assert_eq!(sum(&run)["not_counted"], json!(["plain"]));
    let said = sandbox.run(&["test", "--coverage"]).expect(0);
    assert!(
        said.stdout
            .ends_with("80 % of the lines ran: 4 of 5 in 2 files; 50 % of the branches: 1 of 2\n"),
        "{}",
        said.stdout
    );
    assert!(
        said.stdout
            .contains(" 75 %  src/fit.c     3 of 4  not run: 4; partly: 3\n"),
        "{}",
        said.stdout
    );
    // What was there before is as it was.
    assert!(sandbox.run(&["test", "--json"]).expect(0).ran().is_empty());
    // From the store the verdict comes with its lines.
    let copy = sandbox.sharing_store("copy");
    let again = copy.run(&["test", "--coverage", "--json"]).expect(0);
    assert_eq!(told(&again), lines);
    if crate::sandbox::has_sandboxes() {
        assert!(again.ran().is_empty(), "{:?}", again.ran());
    }
}

#[test]
fn the_cost_is_said_before_and_lines_are_written_down() {
    if !has("gcov", &["--version"]) {
        return;
    }
    let sandbox = Sandbox::new(&FIT);
    let run = sandbox.run(&[
        "test",
        "--coverage",
        "--coverage-file",
        "told/lines.info",
        "--coverage-file",
        "lines.xml",
    ]);
    let run = run.expect(0);
    let first = run.stdout.lines().next().unwrap();
    assert_eq!(
        first,
        "coverage  7 of 7 steps to run; the normal variant is kept"
    );
    let lcov = sandbox.read("told/lines.info");
    assert!(
        lcov.contains("SF:src/fit.c\nDA:2,1\nDA:3,1\nDA:4,0\nDA:6,1\nBRDA:3,0,0,0\nBRDA:3,0,1,1\nBRF:2\nBRH:1\nLF:4\nLH:3\nend_of_record\n"),
        "{lcov}"
    );
    let xml = sandbox.read("lines.xml");
    assert!(xml.contains("<line number=\"4\" hits=\"0\"/>"), "{xml}");
    let run = sandbox
        .run(&["test", "--coverage-file", "x.info"])
        .expect(2);
    assert!(run.stderr.contains("--coverage"), "{}", run.stderr);
}

/// Programs that are built with counters and run in a step of a build, beside what `FIT` tests.
const PAGES: &str = "target show = c.program { sources = \"show.c\", needs = fit }\n\
    target other = c.program { sources = \"other.c\", needs = fit }\n\
    target page = step { run = `{show} > {out \"page\"}` }\n\
    target both = step { run = [`{show} > {out a \"a\"}`, `{other} > {out b \"b\"}`] }\n\
    target copy = step { run = `cp {page} {out \"copy\"}` }\n\
    test has_page = check { run = `test -s {copy}` }\n";

const SHOW: &str = "#include <stdio.h>\nint fit(int);\nint main(int n, char **words) {\n    if (n > 1) puts(words[1]);\n    \
    printf(\"%d\\n\", fit(5));\n    return 0;\n}\n";

/// `FIT` with the sources of two programs.
fn with_programs() -> Sandbox {
    let sandbox = Sandbox::new(&FIT);
    ["show.c", "other.c"]
        .iter()
        .for_each(|path| sandbox.write(path, SHOW));
    sandbox
}

#[test]
fn programs_that_count_and_run_in_build_steps_count() {
    if !has("gcov", &["--version"]) {
        return;
    }
    let sandbox = with_programs();
    let alone = sandbox.read("targets.nub");
    sandbox.write("targets.nub", &format!("{alone}{PAGES}"));
    let run = sandbox.run(&["test", "--coverage"]).expect(0);
    let said = format!("{}{}", run.stdout, run.stderr);
    assert!(said.contains("make page"), "{said}");
    for noise in ["profiling", "refused", "try "] {
        assert!(!said.contains(noise), "{noise}: {said}");
    }
    // No test runs `fit` with 5, and none runs `show`: what a test needs does.
    let run = sandbox.run(&["test", "--coverage", "--json"]).expect(0);
    let both_ways = [
        of("checks/low.c", 1, 1, json!([])),
        of("show.c", 4, 4, json!([])),
        of("src/fit.c", 4, 4, json!([])),
    ];
    assert_eq!(told(&run)[0], both_ways[0]);
    assert_eq!(told(&run)[2], both_ways[2]);
    assert_eq!(sum(&run)["not_counted"], json!(["plain"]));
    // The page is what it would be without counters.
    let run = sandbox
        .run(&[
            "build",
            "page",
            "copy",
            "--set",
            "c.coverage=true",
            "--json",
        ])
        .expect(0);
    assert!(run.ran().is_empty(), "{:?}", run.ran());
    assert_eq!(sandbox.read("out/default/page"), "1\n");
}

#[test]
fn each_of_several_programs_of_a_step_counts_once() {
    if !has("gcov", &["--version"]) {
        return;
    }
    let sandbox = with_programs();
    let alone = sandbox
        .read("targets.nub")
        .replace("test low", "private test low");
    sandbox.write(
        "targets.nub",
        &format!("{alone}{PAGES}test of_both = check {{ run = `test -s {{both.b}}` }}\n"),
    );
    let run = sandbox
        .run(&[
            "test",
            "of_both",
            "--coverage",
            "--coverage-file",
            "lines.info",
        ])
        .expect(0);
    let lcov = sandbox.read("lines.info");
    assert!(
        lcov.contains("SF:other.c\nDA:3,1\n"),
        "{lcov}{}",
        run.stdout
    );
    assert!(lcov.contains("SF:show.c\nDA:3,1\n"), "{lcov}");
    // Both programs ran it.
    assert!(
        lcov.contains("SF:src/fit.c\nDA:2,2\nDA:3,2\nDA:4,2\nDA:6,0\n"),
        "{lcov}"
    );
}

#[test]
fn checks_of_ones_own_count_by_the_programs_that_they_run() {
    if !has("gcov", &["--version"]) {
        return;
    }
    let sandbox = Sandbox::new(&FIT);
    sandbox.write("show.c", SHOW);
    sandbox.write(
        "targets.nub",
        "use \"nub:c\" as c\n\
         target fit = c.library { sources = \"src/*.c\", headers = \"src/*.h\", include = \"src\" }\n\
         target show = c.program { sources = \"show.c\", needs = fit }\n\
         test says = check { run = `{show} high`, folder = \"src\" }\n",
    );
    let run = sandbox.run(&["test", "--coverage", "--json"]).expect(0);
    let lines = told(&run);
    assert_eq!(lines[0].0, "show.c");
    assert_eq!(lines[0].1, lines[0].2, "{lines:?}");
    assert_eq!(lines[1], of("src/fit.c", 4, 3, json!([[6, 6]])));
    assert_eq!(sum(&run)["not_counted"], json!([]));
}

#[test]
fn programs_count_in_whichever_folder_they_run() {
    if !has("gcov", &["--version"]) {
        return;
    }
    let sandbox = Sandbox::new(&FIT);
    let go = "#include <string.h>\n#include <stdio.h>\n#include <unistd.h>\nint fit(int);\nint main(int n, char **words) {\n    \
        if (!strcmp(words[1], \"away\") && chdir(\"/\")) return 1;\n    \
        if (!strcmp(words[1], \"made\")) fclose(fopen(\"made\", \"w\"));\n    return fit(n);\n}\n";
    sandbox.write("go.c", go);
    sandbox.write(
        "targets.nub",
        "use \"nub:c\" as c\n\
         target fit = c.library { sources = \"src/*.c\", headers = \"src/*.h\", include = \"src\" }\n\
         target show = c.program { sources = \"go.c\", needs = fit }\n\
         target made = step { run = `{show} made`, makes = { \"made\": \"made\" } }\n\
         test all = check { run = [sh`cd src; \"$OLDPWD\"/{show} away`, `test -e {made}`] }\n",
    );
    let run = sandbox
        .run(&["test", "--coverage", "--coverage-file", "lines.info"])
        .expect(0);
    assert!(run.stdout.contains("make made"), "{}", run.stdout);
    let lcov = sandbox.read("lines.info");
    // Once from another folder of the workspace and out of it, once in a folder of the step's own.
    assert!(
        lcov.contains("SF:go.c\nDA:5,2\nDA:6,2\nDA:7,2\nDA:8,2\n"),
        "{lcov}"
    );
    assert!(lcov.contains("SF:src/fit.c\nDA:2,2\n"), "{lcov}");
}

#[test]
fn lines_that_a_change_left_uncovered_are_named() {
    if !has("gcov", &["--version"]) || !has("git", &["--version"]) {
        return;
    }
    let sandbox = Sandbox::new(&FIT);
    let git = |args: &[&str]| {
        let mut command = Command::new("git");
        command
            .args(["-c", "user.name=a", "-c", "user.email=a@b"])
            .args(args)
            .current_dir(&sandbox.folder);
        assert!(command.status().is_ok_and(|status| status.success()));
    };
    git(&["init", "-q"]);
    git(&["add", "-A"]);
    git(&["commit", "-qm", "one"]);
    let changed = sandbox
        .read("src/fit.c")
        .replace("return 1", "return 7")
        .replace("return 0", "return x - 2");
    sandbox.write("src/fit.c", &changed);
    let run = sandbox
        .run(&["test", "--coverage", "--since", "HEAD", "--json"])
        .expect(0);
    assert_eq!(sum(&run)["changed"], json!({ "lines": 2, "covered": 1 }));
    let said = sandbox
        .run(&["test", "--coverage", "--since", "HEAD"])
        .expect(0);
    assert!(
        said.stdout
            .contains("changed   src/fit.c   did not run: 4\n"),
        "{}",
        said.stdout
    );
    assert!(
        said.stdout
            .contains("changed   1 of 2 lines ran that changed since HEAD\n"),
        "{}",
        said.stdout
    );
}

#[test]
fn what_cannot_be_told_is_said() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "test odd = check { run = `cp {in \"odd.txt\"} {out lines \"lines.info\"}`, coverage = \"lines\" }\n",
        ),
        ("odd.txt", "what is this\n"),
    ]);
    let run = sandbox.run(&["test", "--coverage"]).expect(2);
    assert!(
        run.stderr.contains(
            "no kit or package here has an option `coverage` that can be so (--coverage)"
        ),
        "{}",
        run.stderr
    );
    let mut targets = sandbox.read("targets.nub");
    targets.push_str("option coverage: bool = false\n");
    sandbox.write("targets.nub", &targets);
    let run = sandbox.run(&["test", "--coverage"]).expect(1);
    assert!(
        run.stdout
            .contains("malformed odd   its coverage cannot be read: line 1"),
        "{}",
        run.stdout
    );
    // Absolute paths of the workspace are its own; what lies elsewhere is left out.
    let root = sandbox.folder.display().to_string();
    sandbox.write(
        "odd.txt",
        &format!(
            "SF:{root}/odd.txt\nDA:1,1\nend_of_record\nSF:/usr/include/stdio.h\nDA:1,1\nend_of_record\n"
        ),
    );
    let run = sandbox.run(&["test", "--coverage", "--json"]).expect(0);
    assert_eq!(told(&run), [of("odd.txt", 1, 1, json!([]))]);
    sandbox.write(
        "targets.nub",
        &targets.replace("coverage = \"lines\"", "coverage = \"line\""),
    );
    let run = sandbox.run(&["test"]).expect(3);
    assert!(
        run.stderr.contains("this check has no output `line`"),
        "{}",
        run.stderr
    );
    assert!(
        run.stderr.contains("coverage = \"lines\""),
        "{}",
        run.stderr
    );
}

#[test]
fn every_option_of_a_name_is_set_and_a_single_one_wins() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"/flags.nub\" as flags\noption told: bool = false\n\
             target both = step { run = `echo {word(told)} {word(flags.told)} {flags.other} > {out \"both\"}` }\n\
             private let word(is: bool): text = if is then \"true\" else \"false\"\n",
        ),
        (
            "flags.nub",
            "option told: bool = false\noption other: \"true\" | \"no\" = \"no\"\n",
        ),
    ]);
    let built = |set: &[&str]| {
        sandbox.run(&[&["build"], set].concat()).expect(0);
        sandbox.read("out/default/both")
    };
    assert_eq!(built(&["--set", "*.told=true"]), "true true no\n");
    assert_eq!(
        built(&["--set", "flags.told=false", "--set", "*.told=true"]),
        "true false no\n"
    );
    let run = sandbox.run(&["build", "--set", "*.other=yes"]).expect(2);
    assert!(
        run.stderr
            .contains("no kit or package here has an option `other` that can be so (--set)"),
        "{}",
        run.stderr
    );
}

/// Whether a program is here and does as it is asked; says so if not.
fn has(program: &str, args: &[&str]) -> bool {
    let there = Command::new(program)
        .args(args)
        .output()
        .is_ok_and(|output| output.status.success());
    if !there {
        skip(
            Need::Counters,
            format_args!("{program} {} does not work here", args.join(" ")),
        );
    }
    there
}

#[test]
fn fortran_tells_lines() {
    if !has("gfortran", &["--version"]) || !has("gcov", &["--version"]) {
        return;
    }
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:fortran\" as fortran\ntarget tide = fortran.library { sources = \"src/tide.f90\" }\n\
             test month = fortran.test_program { sources = \"checks/month.f90\", needs = tide }\n",
        ),
        (
            "src/tide.f90",
            "module tide\ncontains\n  integer function height(x)\n    integer, intent(in) :: x\n    if (x > 3) then\n      \
             height = 1\n    else\n      height = 2\n    end if\n  end function\nend module\n",
        ),
        (
            "checks/month.f90",
            "program month\n  use tide\n  if (height(2) /= 2) stop 1\nend program\n",
        ),
    ]);
    let run = sandbox.run(&["test", "--coverage", "--json"]).expect(0);
    assert!(
        told(&run).contains(&of("src/tide.f90", 5, 4, json!([[6, 6]]))),
        "{:?}",
        told(&run)
    );
}

#[test]
fn rust_tells_lines() {
    let host = Command::new("rustc")
        .args(["--print", "sysroot"])
        .output()
        .unwrap();
    let sysroot = String::from_utf8(host.stdout).unwrap();
    let sysroot = Path::new(sysroot.trim());
    let libraries = sysroot.join("lib/rustlib");
    let platforms = std::fs::read_dir(libraries).into_iter().flatten().flatten();
    let own = platforms
        .map(|entry| entry.path().join("bin/llvm-profdata"))
        .find(|path| path.exists());
    let Some(program) = own.map(|path| path.display().to_string()) else {
        return skip(
            Need::LlvmTools,
            "the llvm-tools of the compiler are not here",
        );
    };
    if !has(&program, &["merge", "--help"]) {
        return;
    }
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:rust\" as rust\ntarget fit = rust.library { source = \"fit\" }\n\
             test tides = rust.tests { source = \"tides\", needs = fit }\n",
        ),
        (
            "fit/src/lib.rs",
            "pub fn fit(x: i32) -> i32 {\n    if x > 3 {\n        return 1;\n    }\n    0\n}\n",
        ),
        (
            "tides/src/lib.rs",
            "#[test]\nfn low() {\n    assert_eq!(fit::fit(2), 0);\n}\n",
        ),
    ]);
    // What represents the compilers on many a machine looks for them in the person's home.
    let path = format!(
        "{}:{}",
        sysroot.join("bin").display(),
        std::env::var("PATH").unwrap()
    );
    let run = sandbox
        .run_with(&["test", "--coverage", "--json"], &[("PATH", &path)])
        .expect(0);
    assert_eq!(
        told(&run),
        [
            of("fit/src/lib.rs", 6, 5, json!([[3, 3]])),
            of("tides/src/lib.rs", 3, 3, json!([]))
        ]
    );
    // A program that makes a page for a test counts, too.
    sandbox.write(
        "show/src/main.rs",
        "fn main() {\n    println!(\"{}\", fit::fit(5));\n}\n",
    );
    let mut targets = sandbox.read("targets.nub");
    targets.push_str(
        "target show = rust.program { source = \"show\", name = \"show-tides\", needs = fit }\n\
         target page = step { run = `{show} > {out \"page\"}` }\n\
         test has_page = check { run = `test -s {page}` }\n",
    );
    sandbox.write("targets.nub", &targets);
    let run = sandbox
        .run_with(&["test", "--coverage", "--json"], &[("PATH", &path)])
        .expect(0);
    assert_eq!(
        told(&run),
        [
            of("fit/src/lib.rs", 6, 6, json!([])),
            of("show/src/main.rs", 3, 3, json!([])),
            of("tides/src/lib.rs", 3, 3, json!([]))
        ]
    );
    assert_eq!(sum(&run)["not_counted"], json!([]));
}

#[test]
fn javascript_tells_lines() {
    if !has("node", &["--version"]) {
        return;
    }
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:js\" as js\n\
             target page = js.library { name = \"page\", root = \"src\", sources = \"src/*.mjs\", manifest = \"package.json\" }\n\
             test shown = js.tests { sources = \"checks/*.test.mjs\", needs = page }\n",
        ),
        (
            "package.json",
            r#"{ "name": "page", "exports": { "./page.mjs": "./page.mjs" } }"#,
        ),
        (
            "src/page.mjs",
            "// Fits.\nexport function fit(x) {\n    if (x > 3) {\n        return 1;\n    }\n    return 0;\n}\n",
        ),
        (
            "checks/low.test.mjs",
            "import test from \"node:test\";\nimport assert from \"node:assert\";\nimport { fit } from \"page/page.mjs\";\n\
             test(\"low\", () => { assert.equal(fit(2), 0); });\n",
        ),
    ]);
    let run = sandbox.run(&["test", "--coverage", "--json"]).expect(0);
    assert!(
        told(&run).contains(&of("src/page.mjs", 4, 3, json!([[4, 4]]))),
        "{:?}",
        told(&run)
    );
}

#[test]
fn go_tells_lines() {
    if !has("go", &["version"]) {
        return;
    }
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:go\" as go\ntarget lamp = go.library { path = \"isles.example/lamp\", root = \"lamp\", sources = \"lamp/*.go\" }\n\
             test lit = go.tests { module = lamp, package = \"isles.example/lamp\" }\n",
        ),
        (
            "lamp/a_b-fit.go",
            "package lamp\n\nfunc Fit(x int) int {\n\tif x > 3 {\n\t\treturn 1\n\t}\n\treturn 0\n}\n",
        ),
        (
            "lamp/fit_test.go",
            "package lamp\n\nimport (\n\t\"os\"\n\t\"testing\"\n)\n\nfunc TestFit(t *testing.T) {\n\tif Fit(2) != 0 {\n\t\tt.Fatal(\"no\")\n\t}\n}\n\n\
             func TestMain(m *testing.M) {\n\tos.Exit(m.Run())\n}\n",
        ),
    ]);
    let run = sandbox.run(&["test", "--coverage", "--json"]).expect(0);
    let told = told(&run);
    assert_eq!(
        (told.len(), told[0].0.as_str(), &told[0].3),
        (1, "lamp/a_b-fit.go", &json!([[5, 6]])),
        "{told:?}"
    );
}

#[test]
fn java_tells_lines() {
    let archives = ["junit-platform-launcher", "org.jacoco.core", "asm-commons"];
    let are_there = archives
        .iter()
        .all(|name| Path::new(&format!("/usr/share/java/{name}.jar")).exists());
    if !has("javac", &["-version"]) || !has(if are_there { "true" } else { "no-jacoco" }, &[]) {
        return;
    }
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:java\" as java\ntarget board = java.library { sources = \"main/**/*.java\" }\n\
             test boards = java.tests { sources = \"checks/**/*.java\", classes = \"checks/**/*Test.java\", root = \"checks\"\n\
             needs = board, junit = java.installed_junit }\n",
        ),
        (
            "main/isles/Board.java",
            "package isles;\n\npublic class Board {\n    public static int fit(int x) {\n        if (x > 3) {\n            return 1;\n        \
             }\n        return 0;\n    }\n}\n",
        ),
        (
            "checks/isles/BoardTest.java",
            "package isles;\nclass BoardTest {\n    @org.junit.jupiter.api.Test void fits() { assert Board.fit(2) == 0; Board.fit(1); }\n}\n",
        ),
    ]);
    let run = sandbox.run(&["test", "--coverage", "--json"]).expect(0);
    assert!(
        told(&run).contains(&of("main/isles/Board.java", 4, 2, json!([[3, 3], [6, 6]]))),
        "{:?}",
        told(&run)
    );
}

#[test]
fn python_tells_lines() {
    let path = format!("/usr/bin:{}", std::env::var("PATH").unwrap());
    // The tests of the other parts of nubrik may have another python3 first on the path than that
    // with the module.
    let with_module = Command::new("python3")
        .env("PATH", &path)
        .args(["-c", "import coverage"])
        .output();
    let is_there = with_module.is_ok_and(|output| output.status.success());
    if !has(
        if is_there {
            "true"
        } else {
            "no-module-coverage"
        },
        &[],
    ) {
        return;
    }
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:python\" as python\n\
             target isles = python.package { name = \"isles\", version = \"1.2\", root = \"src\", sources = \"src/isles/*.py\" }\n\
             test units = python.unit_tests { sources = \"checks/unit_*.py\", needs = isles }\n",
        ),
        ("src/isles/__init__.py", ""),
        (
            "src/isles/fit.py",
            "def fit(x):\n    if x > 3:\n        return 1\n    return 0\n",
        ),
        ("src/isles/moon.py", "MOON = 1\n"),
        (
            "checks/unit_fit.py",
            "import unittest\nfrom isles.fit import fit\nclass Fits(unittest.TestCase):\n    def test_low(self):\n        \
             self.assertEqual(fit(2), 0)\n",
        ),
    ]);
    let run = sandbox
        .run_with(&["test", "--coverage", "--json"], &[("PATH", &path)])
        .expect(0);
    assert!(
        told(&run).contains(&of("src/isles/fit.py", 4, 3, json!([[3, 3]]))),
        "{:?}",
        told(&run)
    );
    assert_eq!(sum(&run)["not_covered"], json!(["src/isles/moon.py"]));
}
