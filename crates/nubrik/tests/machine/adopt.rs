//! Folders of sources brought in, and definitions compared with sources, through the built program.

use std::fs;

use crate::sandbox::Sandbox;

/// A library, a program that uses it, and two tests: one reads a file, one writes where it runs.
const SOURCES: [(&str, &str); 8] = [
    (
        "src/tide.c",
        "#include <math.h>\n#include \"tide.h\"\ndouble tide(double at) { return sin(at); }\n",
    ),
    ("src/tide.h", "double tide(double at);\n"),
    (
        "src/sea.c",
        "#include \"tide.h\"\nint sea(void) { return tide(0) > 1; }\n",
    ),
    (
        "app/show.c",
        "#include <stdio.h>\n#include \"tide.h\"\nint main(void) { puts(\"tide\"); return tide(0) > 1; }\n",
    ),
    (
        "tests/reads.c",
        "#include <stdio.h>\nint main(void) { FILE *f = fopen(\"tests/data.txt\", \"r\"); return f == 0; }\n",
    ),
    ("tests/data.txt", "7\n"),
    (
        "tests/writes.c",
        "#include <stdio.h>\nint main(void) { FILE *f = fopen(\"written.txt\", \"w\"); return f == 0; }\n",
    ),
    (
        "src/odd.c",
        "#include <no_such_header_anywhere.h>\nint odd;\n",
    ),
];

/// A folder with sources that is no workspace yet.
fn folder(files: &[(&str, &str)]) -> Sandbox {
    let sandbox = Sandbox::new(files);
    fs::remove_file(sandbox.folder.join("nubrik.toml")).unwrap();
    sandbox
}

#[test]
fn a_folder_is_brought_in_and_what_does_not_work_is_changed_or_left_out() {
    let sandbox = folder(&SOURCES);
    // Nothing is written before somebody says so.
    let run = sandbox
        .run(&["adopt"])
        .expect(0)
        .says("nothing was written; nubrik adopt --yes writes it");
    assert!(
        run.stdout
            .contains("looked at 8 files: 6 sources of C and C++"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout.contains("+ target show = c.program"),
        "{}",
        run.stdout
    );
    assert!(!sandbox.exists("targets.nub") && !sandbox.exists("nubrik.toml"));
    let run = sandbox
        .run(&["adopt", "--yes"])
        .expect(0)
        .says("wrote     nubrik.toml");
    let text = sandbox.read("targets.nub");
    assert!(
        run.stdout
            .contains("without src/odd.c: it includes no_such_header_anywhere.h"),
        "{}",
        run.stdout
    );
    assert!(
        text.contains("# Without src/odd.c: it includes no_such_header_anywhere.h"),
        "{text}"
    );
    if crate::sandbox::has_sandboxes() {
        assert!(run.stdout.contains("4 of 4 work"), "{}", run.stdout);
        assert!(text.contains("reads = \"tests/data.txt\""), "{text}");
    }
    sandbox.run(&["build"]).expect(0);
    sandbox.run(&["test"]).expect(0);
    sandbox.run(&["run", "show"]).expect(0).says("tide");
    sandbox.run(&["fmt", "--check"]).expect(0);
    sandbox.run(&["lint", "--strict"]).expect(0);
    // What was left out was decided, and is not brought up again.
    sandbox
        .run(&["adopt", "--check"])
        .expect(0)
        .says("definitions and sources agree");
    // The same once more changes nothing.
    sandbox.run(&["adopt", "--yes"]).expect(0);
    assert_eq!(sandbox.read("targets.nub"), text);
}

#[test]
fn what_a_person_wrote_stays_and_only_the_rest_is_added() {
    let own = "# Ours.\nuse \"nub:c\" as c\n\n## Rises and falls.\ntarget water = c.library { sources = [\"src/tide.c\", \"src/sea.c\"], headers = \"src/*.h\", link_flags = [\"-lm\"] }\n";
    let sandbox = Sandbox::new(&SOURCES[..5]);
    sandbox.write("targets.nub", own);
    let run = sandbox.run(&["adopt", "--yes"]).expect(0);
    let text = sandbox.read("targets.nub");
    assert!(text.starts_with(own), "{text}");
    // What was there is used by its own name.
    assert!(
        text.contains("target show = c.program") && text.contains("needs = water"),
        "{text}\n{}",
        run.stdout
    );
    assert_eq!(text.matches("c.library").count(), 1, "{text}");
    sandbox.run(&["run", "show"]).expect(0);
}

#[test]
fn programs_get_the_proposal_as_events() {
    let sandbox = folder(&SOURCES);
    let run = sandbox.run(&["adopt", "--json", "--no-try"]).expect(0);
    let events = run.events();
    let named = |name: &str| events.iter().filter(|event| event["event"] == name).count();
    assert_eq!(
        (named("proposed"), named("difference"), named("tried")),
        (4, 1, 0),
        "{}",
        run.stdout
    );
    assert!(!sandbox.exists("targets.nub"));
    let difference = events
        .iter()
        .find(|event| event["event"] == "difference")
        .unwrap();
    assert_eq!(difference["is_new"], true);
    let run = sandbox.run(&["adopt", "--json", "--yes"]).expect(0);
    let results: Vec<String> = run
        .events()
        .iter()
        .filter(|event| event["event"] == "tried")
        .map(|event| format!("{} {}", event["target"], event["result"]))
        .collect();
    assert!(
        results.contains(&"\"show\" \"works\"".to_owned()),
        "{results:?}"
    );
    assert_eq!(difference["path"], "targets.nub");
}

#[test]
fn other_peoples_code_is_pinned_or_what_needs_it_is_left_out() {
    let files = [
        ("nubrik.toml", "[origins]\njs = \"registry\"\n"),
        (
            "package.json",
            "{\"name\": \"board\", \"main\": \"index.js\", \"dependencies\": {\"ebb\": \"^1\"}}",
        ),
        ("index.js", "require('ebb');\n"),
    ];
    let sandbox = Sandbox::new(&files);
    sandbox.write(
        "registry/ebb",
        "{\"dist-tags\": {}, \"versions\": {\"2.0.0\": {\"dist\": {\"tarball\": \"ebb-2.0.0.tgz\"}}}}",
    );
    let run = sandbox
        .run(&["adopt", "--yes", "--no-try", "--offline"])
        .expect(0);
    assert!(
        !sandbox.exists("targets.nub") && !sandbox.exists("pins.toml"),
        "{}",
        run.stdout
    );
    // A version that nobody published is named, and no definition is written that cannot be
    // evaluated.
    let run = sandbox.run(&["adopt", "--yes", "--json"]).expect(0);
    let tried: Vec<String> = run
        .events()
        .iter()
        .filter(|event| event["event"] == "tried")
        .map(|event| format!("{} {}", event["result"], event["why"]))
        .collect();
    assert!(
        tried.len() == 1 && tried[0].contains("left_out") && tried[0].contains("js ebb"),
        "{tried:?}"
    );
    assert!(!sandbox.exists("targets.nub"));
    sandbox
        .run(&["adopt", "--answer", "pin.js=perhaps"])
        .expect(2)
        .says("try");
    // A release that needs what its registry lacks is passed over for an older one, and this is
    // said.
    let dist = |name: &str, version: &str, more: &str| {
        format!("\"{version}\": {{{more}\"dist\": {{\"tarball\": \"{name}-{version}.tgz\"}}}}")
    };
    let lacks = dist("ebb", "1.1.0", "\"dependencies\": {\"moon\": \"^1.1\"}, ");
    let page = |versions: &[String]| format!("{{\"versions\": {{{}}}}}", versions.join(", "));
    sandbox.write("registry/ebb", &page(&[dist("ebb", "1.0.0", ""), lacks]));
    sandbox.write("registry/moon", &page(&[dist("moon", "1.0.0", "")]));
    sandbox
        .run(&["adopt", "--yes", "--no-try"])
        .says("ebb 1.1.0 is passed over: it needs moon ^1.1, which");
    let run = sandbox.run(&["adopt", "--yes", "--no-try", "--json"]);
    let passed_over = run
        .events()
        .into_iter()
        .find(|event| event["event"] == "passed_over")
        .unwrap();
    assert_eq!(
        (&passed_over["release"], &passed_over["needs"]),
        (&"ebb 1.1.0".into(), &"moon ^1.1".into())
    );
    sandbox
        .run(&["adopt", "--answer", "tide=high"])
        .expect(2)
        .says("nothing is asked about `tide`");
    sandbox
        .run(&["adopt", "--answer", "tide"])
        .expect(2)
        .says("is no answer");
}

#[test]
fn folders_that_cannot_be_brought_in_are_refused() {
    let sandbox = folder(&[("a.txt", "words\n")]);
    sandbox
        .run(&["adopt"])
        .expect(0)
        .says("no sources of a language that a kit is for");
    assert!(!sandbox.exists("nubrik.toml"));
    sandbox
        .run(&["adopt", "none"])
        .expect(2)
        .says("cannot look at");
    sandbox
        .run(&["adopt", "a.txt"])
        .expect(2)
        .says("is no folder");
    sandbox
        .run(&["adopt", "/"])
        .expect(2)
        .says("becomes no workspace");
    sandbox.write("nubrik.toml", "");
    sandbox.write("targets.nub", "target = \n");
    sandbox.write("a.c", "int main(void) { return 0; }\n");
    sandbox.run(&["adopt", "--yes"]).expect(3);
    assert_eq!(sandbox.read("targets.nub"), "target = \n");
}

#[test]
fn definitions_are_aligned_with_sources() {
    let sandbox = Sandbox::new(&SOURCES[..5]);
    let own = "use \"nub:c\" as c\n\ntarget water = c.library { sources = [\"src/tide.c\"], headers = \"src/*.h\", link_flags = [\"-lm\"] }\n\ntarget lamp = c.library { sources = \"lamp/*.c\", headers = \"lamp/*.h\" }\n\ntarget show = c.program { sources = \"app/show.c\", needs = lamp }\n\ntest reads = c.test_program { sources = \"tests/reads.c\", needs = water }\n";
    sandbox.write("targets.nub", own);
    sandbox.write("lamp/lamp.c", "#include \"lamp.h\"\nint lamp;\n");
    sandbox.write("lamp/lamp.h", "extern int lamp;\n");
    let run = sandbox.run(&["adopt", "--check"]).expect(1);
    for words in [
        "water: no definition takes src/sea.c",
        "show: its sources use water, which is not among its needs",
        "show: nothing in its sources uses lamp",
    ] {
        assert!(run.stdout.contains(words), "{words}\n{}", run.stdout);
    }
    assert_eq!(sandbox.read("targets.nub"), own);
    sandbox.run(&["adopt", "--update", "--yes"]).expect(0);
    let text = sandbox.read("targets.nub");
    assert!(
        text.contains("sources = [\"src/tide.c\", \"src/sea.c\"]"),
        "{text}"
    );
    assert!(
        text.contains("target show = c.program { sources = \"app/show.c\", needs = water }"),
        "{text}"
    );
    sandbox
        .run(&["adopt", "--check"])
        .expect(0)
        .says("definitions and sources agree");
    sandbox.run(&["run", "show"]).expect(0);
}

#[test]
fn small_folders_are_begun_and_others_refused_clearly() {
    let sandbox = folder(&[
        (
            "gauge.c",
            "#include \"table.h\"\nint main(void) { return 0; }\n",
        ),
        ("table.h", ""),
    ]);
    sandbox
        .run(&["init"])
        .expect(0)
        .says("wrote     targets.nub");
    assert!(
        sandbox
            .read("targets.nub")
            .contains("target gauge = c.program")
    );
    sandbox.run(&["build"]).expect(0);
    // In a package: its files would leave it.
    sandbox.write("inner/more.c", "int more;\n");
    sandbox.write(
        "targets.nub",
        "use \"nub:c\" as c\n\ntarget all = c.library { sources = \"inner/*.c\" }\n",
    );
    sandbox
        .run_in("inner", &["init"])
        .expect(2)
        .says("belong to the package around it");
    assert!(!sandbox.exists("inner/targets.nub"));
    sandbox.run_in("inner", &["adopt", "--yes"]).expect(0);
    assert!(!sandbox.exists("inner/targets.nub"));
    // Many sources: somebody should see what is proposed.
    let many: Vec<(String, String)> = (0..6)
        .map(|n| {
            (
                format!("p{n}/main.c"),
                "int main(void) { return 0; }\n".to_owned(),
            )
        })
        .collect();
    let many: Vec<(&str, &str)> = many
        .iter()
        .map(|(path, text)| (path.as_str(), text.as_str()))
        .collect();
    let sandbox = folder(&many);
    sandbox
        .run(&["init"])
        .expect(0)
        .says("nubrik adopt, which proposes definitions");
    assert!(sandbox.exists("nubrik.toml") && !sandbox.exists("targets.nub"));
    sandbox.run(&["adopt", "--yes", "--no-try"]).expect(0);
    sandbox.run(&["build"]).expect(0);
}

#[test]
fn the_demo_agrees_with_its_sources() {
    let demo = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let sandbox = Sandbox::new(&[]);
    let mut folders = vec![demo.clone()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            match path.is_dir() {
                true => folders.push(path),
                false => {
                    let inside = path
                        .strip_prefix(&demo)
                        .unwrap()
                        .to_str()
                        .unwrap()
                        .to_owned();
                    sandbox.write(&inside, &fs::read_to_string(&path).unwrap_or_default());
                }
            }
        }
    }
    sandbox
        .run(&["adopt", "--check"])
        .expect(0)
        .says("definitions and sources agree");
}

#[test]
fn what_a_comment_leaves_out_is_not_proposed() {
    let sandbox = Sandbox::new(&[
        ("a.c", "int main(void) { return 0; }\n"),
        ("examples/b.c", "int main(void) { return 0; }\n"),
        ("odd/lamp.c", "int main(void) { return 0; }\n"),
        (
            "targets.nub",
            "# Without examples: nobody ships them.\nuse \"nub:c\" as c\n\ntarget a = c.program { sources = \"a.c\" }\n",
        ),
    ]);
    let run = sandbox
        .run(&["adopt", "--check"])
        .expect(1)
        .says("odd/lamp: program");
    assert!(!run.stdout.contains("examples"), "{}", run.stdout);
}

#[test]
fn tests_that_register_themselves_are_linked_and_run() {
    let case = "#include \"cases.hpp\"\n#include \"../include/twice.hpp\"\nstatic bool works() { return twice(2) == 4; }\nstatic registered here(works);\n";
    let sandbox = folder(&[
        (
            "include/twice.hpp",
            "#pragma once\ninline int twice(int a) { return 3 * a; }\n",
        ),
        (
            "tests/cases.hpp",
            "#pragma once\n#include <vector>\nusing function = bool (*)();\n\
             inline std::vector<function> &cases() { static std::vector<function> all; return all; }\n\
             struct registered { registered(function f) { cases().push_back(f); } };\n",
        ),
        ("tests/OneTest.cpp", case),
        ("tests/TwoTest.cpp", case),
        (
            "tests/main.cpp",
            "#include \"cases.hpp\"\nint main() { int failed = 0; for (auto f : cases()) failed += !f(); return failed; }\n",
        ),
        (
            "tests/other.cpp",
            "#include \"../include/twice.hpp\"\nint main() { return twice(0); }\n",
        ),
    ]);
    // Both cases fail: a program without them would pass.
    let run = sandbox.run(&["adopt", "--yes"]);
    assert!(run.stdout.contains("exited with code 2"), "{}", run.stdout);
    assert!(
        sandbox.read("targets.nub").contains("whole = true"),
        "{}",
        sandbox.read("targets.nub")
    );
    sandbox.run(&["test"]).expect(1);
}

#[test]
fn of_helpers_that_define_the_same_only_what_is_referred_to_is_linked() {
    let main = "#include \"tide.hpp\"\nint level();\nint main() { return level() != tide(); }\n";
    let sandbox = folder(&[
        ("tests/tide.hpp", "inline int tide() { return 7; }\n"),
        ("tests/first.cpp", "int level() { return 7; }\n"),
        ("tests/second.cpp", "int level() { return 7; }\n"),
        ("tests/one.cpp", main),
        ("tests/two.cpp", main),
    ]);
    let run = sandbox.run(&["adopt", "--yes"]).expect(0);
    assert!(
        !sandbox.read("targets.nub").contains("whole"),
        "{}{}",
        run.stdout,
        sandbox.read("targets.nub")
    );
    sandbox.run(&["test"]).expect(0).says("2 tests passed");
}

#[test]
fn a_new_need_of_one_test_goes_to_the_definition_of_that_test_once() {
    let one = "#[test] fn one() { mini::a(); }\n";
    let definitions = "use \"nub:rust\" as rust\n\n\
        ## The library of the crate mini.\n\
        target mini = rust.library { source = \".\", version = \"0.1.0\" }\n\n\
        ## The tests beside the crate mini, file by file.\n\
        test beside_tests = {each source in glob(\"tests/*.rs\") give source.stem: rust.tests {\n    \
            root = \"tests/{source.name}\"\n    source = \".\"\n    version = \"0.1.0\"\n    package = \"mini\"\n    needs = mini\n\
        }}\n\n\
        ## The tests of the crate mini.\n\
        test unit = rust.tests { source = \".\", name = \"mini\", version = \"0.1.0\" }\n";
    let sandbox = Sandbox::new(&[
        (
            "Cargo.toml",
            "[package]\nname = \"mini\"\nversion = \"0.1.0\"\nedition = \"2021\"\n\n[dev-dependencies]\nregex = \"1\"\n",
        ),
        (
            "src/lib.rs",
            "pub fn a() -> u8 { 1 }\n#[test] fn inside() {}\n",
        ),
        ("tests/a.rs", one),
        ("tests/b.rs", one),
        (
            "tests/e.rs",
            "#[test] fn one() { regex::Regex::new(\"a\").unwrap(); }\n",
        ),
        ("targets.nub", definitions),
    ]);
    // Where toolchains of Rust are, which tests do not have.
    let home = format!("{}/.rustup", std::env::var("HOME").unwrap());
    let home = std::env::var("RUSTUP_HOME").unwrap_or(home);
    let variables = [("RUSTUP_HOME", home.as_str())];
    let run = sandbox
        .run_with(&["adopt", "--update", "--yes"], &variables)
        .expect(0);
    let wanted = definitions.replace("needs = mini\n", "needs = [mini, rust.pinned(\"regex\")]\n");
    assert_eq!(sandbox.read("targets.nub"), wanted, "{}", run.stdout);
    // It is the same once more.
    let run = sandbox.run_with(&["adopt", "--check"], &variables);
    assert!(
        !run.stdout.contains("differs"),
        "{}{}",
        run.stdout,
        run.stderr
    );
}

/// A folder that a script builds: a generator, a library, a program and a test.
const SCRIPTED: [(&str, &str); 8] = [
    (
        "build.sh",
        "#!/bin/sh\nset -e\nmkdir -p built\ncc -o built/mk src/mk.c\nbuilt/mk < src/codes.txt > built/codes.h\n\
         cc -O1 -DSCALE=3 -Ibuilt -Iinclude -c src/tide.c -o built/tide.o\nar rcs built/libtide.a built/tide.o\n\
         cc -O1 -Iinclude -o built/show src/show.c -Lbuilt -ltide\nbuilt/show 2 > /dev/null\n\
         cc -O1 -Iinclude -o built/test_tide tests/tide.c built/libtide.a\nbuilt/test_tide tests/data.txt\n",
    ),
    (
        "src/mk.c",
        "#include <stdio.h>\nint main(void) { int n; printf(\"static const int codes[] = {\");\
         while (scanf(\"%d\", &n) == 1) printf(\"%d, \", n); puts(\"};\"); return 0; }\n",
    ),
    ("src/codes.txt", "4 5 6\n"),
    (
        "src/tide.c",
        "#include \"tide.h\"\n#include \"codes.h\"\nint tide(int at) { return codes[at] * SCALE; }\n",
    ),
    ("include/tide.h", "int tide(int at);\n"),
    (
        "src/show.c",
        "#include <stdio.h>\n#include \"tide.h\"\nint main(void) { printf(\"%d\\n\", tide(2)); return 0; }\n",
    ),
    (
        "tests/tide.c",
        "#include <stdio.h>\n#include \"tide.h\"\nint main(int n, char **words) { int wanted; FILE *f = fopen(words[1], \"r\");\
         return !(f && fscanf(f, \"%d\", &wanted) == 1 && tide(0) == wanted); }\n",
    ),
    ("tests/data.txt", "12\n"),
];

/// Whether commands can be watched here; says that a test is left out where they cannot.
fn can_watch() -> bool {
    let can = crate::sandbox::has_sandboxes() && nubrik_confine::can_record();
    if !can {
        nubrik_testing::skip(
            nubrik_testing::Need::Confinement,
            "commands cannot be watched",
        );
    }
    can
}

#[test]
fn a_build_that_works_is_watched_and_written_down() {
    if !can_watch() {
        return;
    }
    let sandbox = folder(&[]);
    // In a path that shells and makers of lists stumble over.
    for (path, text) in SCRIPTED {
        sandbox.write(&format!("high water, low water/{path}"), text);
    }
    let at = |args: &[&str]| sandbox.run_in("high water, low water", args);
    let run = at(&["adopt", "--yes", "--watch", "sh build.sh"])
        .expect(0)
        .says("6 of 6 work");
    let compared =
        "4 of 4 results define the same names or have the same bytes as those of sh build.sh";
    assert!(run.stdout.contains(compared), "{}", run.stdout);
    let text = sandbox.read("high water, low water/targets.nub");
    for part in [
        "run = `{mk} < {in \"src/codes.txt\"} > {out \"built/codes.h\"}`",
        "flags = [\"-O1\", \"-DSCALE=3\"]",
        "target show = c.program {",
        "test show_runs = check { run = `{show} 2` }",
        "test test_tide = c.test_program {",
        "args = [\"tests/data.txt\"]",
        "reads = \"tests/data.txt\"",
    ] {
        assert!(text.contains(part), "{part}\n{text}");
    }
    let root = sandbox.folder.to_string_lossy();
    assert!(
        !text.contains(&*root) && !text.contains("nubrik-adopts"),
        "{text}"
    );
    // What the command made is in the copy alone.
    assert!(!sandbox.exists("high water, low water/built"));
    at(&["test"]).expect(0);
    at(&["fmt", "--check"]).expect(0);
    at(&["lint", "--strict"]).expect(0);
    at(&["adopt", "--check"])
        .expect(0)
        .says("definitions and sources agree");
    // Once more, there is nothing to add.
    let again = at(&["adopt", "--yes", "--watch", "sh build.sh"]).expect(0);
    assert_eq!(
        sandbox.read("high water, low water/targets.nub"),
        text,
        "{}",
        again.stdout
    );
}

#[test]
fn a_command_that_does_not_build_is_shown_and_nothing_is_written() {
    if !can_watch() {
        return;
    }
    let sandbox = folder(&SCRIPTED);
    let run = sandbox
        .run(&[
            "adopt",
            "--yes",
            "--watch",
            "echo first; echo no such tide >&2; exit 3",
        ])
        .expect(1);
    for part in [
        "did not build a copy of this folder: it exited with code 3",
        "no such tide",
        "first",
    ] {
        assert!(run.stderr.contains(part), "{part}\n{}", run.stderr);
    }
    // What it leaves may be a pipe, or lead to a device: neither is read.
    let odd = "mkfifo p; ln -s /dev/zero z; printf '\\033[31mred\\n'; exit 3";
    let run = sandbox.run(&["adopt", "--yes", "--watch", odd]).expect(1);
    assert!(
        run.stderr.contains("red") && !run.stderr.contains('\u{1b}'),
        "{}",
        run.stderr
    );
    sandbox
        .run(&[
            "adopt",
            "--watch",
            "mkfifo p; ln -s /dev/zero z; sh build.sh",
        ])
        .expect(0);
    // It may write nowhere but in the copy.
    let own = sandbox.folder.join("written.txt");
    let command = format!("echo 1 > '{}'", own.display());
    sandbox
        .run(&["adopt", "--yes", "--watch", &command])
        .expect(1);
    assert!(!own.exists() && !sandbox.exists("targets.nub"));
    // Of a folder without anything else, what compiles nothing is nothing to learn from.
    let sandbox = folder(&[("read.txt", "1\n")]);
    let run = sandbox
        .run(&["adopt", "--yes", "--watch", "true"])
        .expect(1);
    assert!(
        run.stderr.contains("`true` compiled nothing here"),
        "{}",
        run.stderr
    );
    // With a copy that does not fit, the same.
    let run = sandbox.run_with(
        &["adopt", "--yes", "--watch", "true"],
        &[("TMPDIR", "/proc/no/such/folder")],
    );
    assert!(
        run.stderr.contains("cannot copy the folder"),
        "{}",
        run.stderr
    );
    sandbox
        .run(&["adopt", "--check", "--watch", "true"])
        .expect(2);
}

#[test]
fn programs_hear_what_a_watched_build_showed() {
    if !can_watch() {
        return;
    }
    let sandbox = folder(&SCRIPTED);
    let run = sandbox
        .run(&["adopt", "--yes", "--json", "--watch", "sh build.sh"])
        .expect(0);
    let events = run.events();
    let of = |name: &str| {
        events
            .iter()
            .filter(|event| event["event"] == name)
            .collect::<Vec<_>>()
    };
    assert_eq!(of("watched")[0]["results"], 5);
    let compared = of("compared");
    assert!(
        compared
            .iter()
            .all(|one| one["differences"] == serde_json::json!([])),
        "{compared:?}"
    );
    assert_eq!(compared.len(), 4);
}

#[test]
fn a_list_of_compilations_gives_flags() {
    let sandbox = folder(&SOURCES[..4]);
    sandbox.write("src/other_system.c", "int other(void) { return 0; }\n");
    let list = |entries: &str| sandbox.write("build/list.json", entries);
    let adopt = || sandbox.run(&["adopt", "--yes", "--compilations", "build/list.json"]);
    for (text, says) in [
        ("{", "is no JSON compilation database"),
        ("[{}]", "entry 1 has no `directory`"),
        ("[]", "names no source of this folder that is compiled"),
    ] {
        list(text);
        let run = adopt().expect(2);
        assert!(run.stderr.contains(says), "{says}\n{}", run.stderr);
    }
    let run = sandbox
        .run(&["adopt", "--yes", "--compilations", "no/such.json"])
        .expect(2);
    assert!(run.stderr.contains("cannot read"), "{}", run.stderr);
    assert!(!sandbox.exists("targets.nub"));
    list(
        r#"[{"directory": "/far/away/build", "file": "../src/tide.c", "command": "cc -O3 -DX=1 -c ../src/tide.c"},
            {"directory": "/far/away/build", "file": "../src/sea.c", "command": "cc -O3 -DX=1 -c ../src/sea.c"},
            {"directory": "/far/away/build", "file": "../app/show.c", "arguments": ["cc", "-Os", "-c", "../app/show.c"]}]"#,
    );
    adopt().expect(0);
    let text = sandbox.read("targets.nub");
    for part in [
        "flags = [\"-O3\", \"-DX=1\"]",
        "flags = [\"-Os\"]",
        "# Without src/other_system.c: the compilation database does not name it.",
    ] {
        assert!(text.contains(part), "{part}\n{text}");
    }
    assert!(!text.contains("far"), "{text}");
    sandbox.run(&["build"]).expect(0);
}

#[test]
fn what_was_left_out_comes_back_when_its_cause_is_gone() {
    let sandbox = folder(&[
        ("src/ebb.h", "int ebb(void);\n"),
        (
            "src/ebb.c",
            "#include \"ebb.h\"\nint ebb(void) { return 1; }\n",
        ),
        (
            "tests/t.c",
            "#include \"ebb.h\"\nint main(void) { return ebb() - 1; }\n",
        ),
        (
            "src/odd.c",
            "#include <no_such_sea.h>\nint odd(void) { return SEA; }\n",
        ),
        (
            "app/show.c",
            "#include <no_such_sea.h>\n#include \"ebb.h\"\nint main(void) { return SEA - ebb(); }\n",
        ),
    ]);
    sandbox.run(&["adopt", "--yes"]).expect(0);
    let text = sandbox.read("targets.nub");
    assert!(
        text.contains("# Without src/odd.c: it includes no_such_sea.h"),
        "{text}"
    );
    assert!(
        text.contains("# Without app/show.c: it includes no_such_sea.h"),
        "{text}"
    );
    // While nothing changed, that was decided.
    sandbox
        .run(&["adopt", "--yes"])
        .expect(0)
        .says("the definitions that are here take all of it");
    sandbox.run(&["adopt", "--check"]).expect(0);
    assert_eq!(sandbox.read("targets.nub"), text);
    // A person's own reason stays one.
    sandbox.write(
        "src/own.c",
        "#include <no_such_sea.h>\nint own(void) { return SEA; }\n",
    );
    sandbox.write(
        "targets.nub",
        &format!("# Without src/own.c: nobody wants it.\n{text}"),
    );
    sandbox.write("include/no_such_sea.h", "#define SEA 1\n");
    // What was left out as a whole is added, and tried; what belongs to a definition that is there
    // waits for an update.
    let run = sandbox.run(&["adopt", "--yes"]).expect(0);
    let text = sandbox.read("targets.nub");
    assert!(
        text.contains("target show = c.program") && !text.contains("# Without app/show.c"),
        "{text}\n{}",
        run.stdout
    );
    let run = sandbox.run(&["adopt", "--yes"]).expect(0);
    assert!(
        run.stdout
            .contains("definitions and sources differ in 1 place\n"),
        "{}",
        run.stdout
    );
    sandbox.run(&["adopt", "--update", "--yes"]).expect(0);
    let text = sandbox.read("targets.nub");
    assert!(
        text.contains("src/odd.c") && !text.contains("# Without src/odd.c"),
        "{text}"
    );
    assert!(
        text.contains("# Without src/own.c: nobody wants it.") && !text.contains("[\"src/own.c"),
        "{text}"
    );
    sandbox.run(&["build"]).expect(0);
    sandbox
        .run(&["adopt", "--check"])
        .expect(0)
        .says("definitions and sources agree");
}

#[test]
fn a_configuration_is_asked_of_the_machine_and_otherwise_kept() {
    if !can_watch() {
        return;
    }
    let script = "#!/bin/sh\nset -e\ncat > config.h <<'X'\n#define HAVE_STRING_H 1\n/* #undef HAVE_NO_SUCH_H */\n#define HAVE_CONST 1\n\
                  #define PACKAGE \"tides\"\nX\ncc -I. -o show show.c\n";
    let sandbox = folder(&[
        ("build.sh", script),
        (
            "config.h.in",
            "#undef HAVE_STRING_H\n#undef HAVE_NO_SUCH_H\n#undef HAVE_CONST\n#undef PACKAGE\n",
        ),
        (
            "show.c",
            "#include \"config.h\"\n#ifdef HAVE_STRING_H\n#include <string.h>\n#endif\n\
             int main(void) { return strlen(PACKAGE) != 5 || HAVE_CONST != 1; }\n#ifdef HAVE_NO_SUCH_H\n#error\n#endif\n",
        ),
    ]);
    let run = sandbox
        .run(&["adopt", "--yes", "--watch", "sh build.sh"])
        .expect(0);
    assert!(run.stdout.contains("2 of 2 work"), "{}", run.stdout);
    assert!(
        run.stdout.contains("2 of 2 results define the same names"),
        "{}",
        run.stdout
    );
    let text = sandbox.read("targets.nub");
    for part in [
        "\"HAVE_STRING_H\": if c.header_exists(\"string.h\") then \"1\" else none",
        // No function is called so: what a survey asks here, no machine answers as the
        // configuration did.
        "\"HAVE_CONST\": \"1\"",
        "\"PACKAGE\": '\"tides\"'",
        "# Values of `sh build.sh`: HAVE_CONST, PACKAGE.",
    ] {
        assert!(text.contains(part), "{part}\n{text}");
    }
    assert!(!text.contains("HAVE_NO_SUCH_H"), "{text}");
    sandbox.run(&["build"]).expect(0);
    sandbox
        .run(&["adopt", "--check"])
        .expect(0)
        .says("definitions and sources agree");
}

#[test]
fn tries_end_when_their_time_is_over() {
    let test = "#include <unistd.h>\nint main(void) { return (int)sleep(600); }\n";
    let sandbox = folder(&[("tests/test_slow.c", test)]);
    let run = sandbox
        .run(&["adopt", "--yes", "--try-for", "2s"])
        .expect(0);
    let said = format!("{}{}", run.stdout, run.stderr);
    assert!(
        said.contains("the time was over before it was tried"),
        "{said}"
    );
    assert!(
        said.contains("the time was over; nubrik build and nubrik test go on from here"),
        "{said}"
    );
    assert!(sandbox.read("targets.nub").contains("test test_slow"));
    let said = sandbox
        .run(&["adopt", "--yes", "--try-for", "2"])
        .expect(2)
        .stderr;
    assert!(
        said.contains("a time is a number and a unit: 30s, 5min or 2h"),
        "{said}"
    );
}

#[test]
fn what_is_written_by_a_kind_of_ones_own_is_known_and_not_proposed_again() {
    let kit = "use \"nub:c\" as c\n\
               kind house_library(sources: files, headers: files = []): c.linked {\n    give c.library { sources, headers }\n}\n\
               kind house_tests(sources: files, needs: list[c.linked]) {\n    \
               give {each source in sources give source.stem: c.test_program { sources = source, needs }}\n}\n";
    let definitions = "use \"/kits/house.nub\" as house\n\n\
                       target tide = house.house_library { sources = [\"src/tide.c\"], headers = \"src/*.h\" }\n\
                       test unit = house.house_tests { sources = \"tests/*.c\", needs = tide }\n";
    let main = "#include \"../src/tide.h\"\nint main(void) { return tide() != 1; }\n";
    let sandbox = Sandbox::new(&[
        ("kits/house.nub", kit),
        ("targets.nub", definitions),
        (
            "src/tide.c",
            "#include \"tide.h\"\nint tide(void) { return 1; }\n",
        ),
        ("src/tide.h", "int tide(void);\n"),
        ("tests/t1.c", main),
    ]);
    sandbox
        .run(&["adopt", "--check"])
        .expect(0)
        .says("definitions and sources agree");
    // A new file is somebody's to add; what is new uses the library by its own name.
    sandbox.write("src/extra.c", "int extra;\n");
    let lacks =
        "tide: no definition takes src/extra.c; it is written in a way of its own: add it by hand";
    let said = sandbox.run(&["adopt", "--check"]).expect(1).stdout;
    assert!(
        said.contains(lacks) && !said.contains("targets.nub"),
        "{said}"
    );
    sandbox.write("more/main.c", main);
    let said = sandbox
        .run(&["adopt", "--update", "--yes"])
        .expect(0)
        .stdout;
    assert!(
        said.contains(lacks) && said.contains("wrote     more/targets.nub"),
        "{said}"
    );
    assert!(sandbox.read("more/targets.nub").contains("needs = &tide"));
    assert_eq!(sandbox.read("targets.nub"), definitions);
    sandbox.run(&["build", "more"]).expect(0);
    // There is nothing that it could change.
    let said = sandbox
        .run(&["adopt", "--update", "--yes"])
        .expect(1)
        .stdout;
    assert!(said.contains(lacks) && !said.contains("wrote"), "{said}");
}

#[test]
fn a_folder_that_an_ignore_file_hides_is_said_to_be_hidden() {
    let sandbox = folder(&[
        (".gitignore", "*\n!.gitignore\n"),
        ("tide.c", "int tide;\n"),
        ("sea/ebb.c", "int ebb;\n"),
    ]);
    let run = sandbox
        .run(&["adopt", "--yes"])
        .expect(0)
        .says("nothing to propose");
    assert!(
        run.stdout
            .contains(".gitignore hides 2 entries of this folder from nubrik, too"),
        "{}",
        run.stdout
    );
}
