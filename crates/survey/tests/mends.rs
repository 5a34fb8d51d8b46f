//! What changes of a proposal after a try failed, rule by rule.

#![allow(clippy::expect_used, clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::collections::BTreeSet;

use nubrik_survey::{
    Answers, DefinitionAddress, DefinitionWriter, Mended, NoMachine, Proposal, ScriptSeen,
    SourceTree, TryFailure, mend, settle_script, survey,
};

struct Trial {
    tree: SourceTree,
    proposal: Proposal,
}

fn trial(files: &[(&str, &str)]) -> Trial {
    let tree = SourceTree::of(files);
    let proposal = survey(&tree, "", &Answers::new(), &NoMachine);
    Trial { tree, proposal }
}

fn at(name: &str) -> DefinitionAddress {
    DefinitionAddress {
        package: String::new(),
        name: name.to_owned(),
    }
}

fn printed(text: &str, inputs: &[&str]) -> TryFailure {
    let inputs = inputs.iter().map(|path| (*path).to_owned()).collect();
    TryFailure {
        printed: text.to_owned(),
        inputs,
        ..TryFailure::default()
    }
}

impl Trial {
    fn mend(&mut self, name: &str, failure: &TryFailure) -> Mended {
        mend(
            &self.tree,
            &mut self.proposal,
            &at(name),
            failure,
            &NoMachine,
        )
    }

    fn text(&self, name: &str) -> String {
        let writer = DefinitionWriter::new(&self.tree, "", &self.proposal, &BTreeSet::new());
        self.proposal
            .definition(&at(name))
            .map(|one| writer.definition(one))
            .unwrap_or_default()
    }

    fn expect(&mut self, name: &str, failure: &TryFailure, how: &str, text: &str) {
        let mended = self.mend(name, failure);
        assert!(
            matches!(&mended, Mended::Changed(said) if said.contains(how)),
            "{mended:?}"
        );
        let now = self.text(name);
        assert!(now.contains(text), "{text}\n{now}");
        // The same once more helps nothing, and goes on for ever nowhere.
        assert!(!matches!(self.mend(name, failure), Mended::Changed(said) if said.contains(how)));
    }
}

const C: [(&str, &str); 7] = [
    ("src/a.c", "int a;\n"),
    ("src/b.c", "#include <odd.h>\n"),
    ("src/c.c", "int c;\n"),
    ("src/a.h", "int rises(void);\n"),
    (
        "tests/t.c",
        "#include \"a.h\"\nint main(void) { return 0; }\n",
    ),
    ("tests/data/one.txt", "1\n"),
    ("tests/data/two.txt", "2\n"),
];

#[test]
fn sources_of_c_that_cannot_be_compiled_here_are_left_out() {
    let mut trial = trial(&C);
    let failure = printed(
        "src/b.c:1:10: fatal error: odd.h: No such file or directory\n",
        &["src/b.c", "src/a.h"],
    );
    trial.expect(
        "sample_library",
        &failure,
        "without src/b.c: it includes odd.h",
        "# Without src/b.c: it includes odd.h",
    );
    let failure = printed(
        "src/c.c:1:2: error: #error Sorry, not here.\n",
        &["src/c.c"],
    );
    trial.expect(
        "sample_library",
        &failure,
        "without src/c.c: Sorry, not here",
        "sources = \"src/a.c\"",
    );
    // The last source cannot go: then the library does.
    let failure = printed(
        "src/a.c:1:10: fatal error: odd.h: No such file or directory\n",
        &["src/a.c"],
    );
    assert!(
        matches!(trial.mend("sample_library", &failure), Mended::Omission(why) if why.contains("odd.h"))
    );
}

#[test]
fn linkers_get_what_functions_need() {
    let mut trial = trial(&C);
    let failure = |symbol: &str| {
        printed(
            &format!("t.c:(.text+0x1): undefined reference to `{symbol}'\n"),
            &[],
        )
    };
    trial.expect("t", &failure("sqrt"), "-lm", "link_flags = [\"-lm\"]");
    trial.expect("t", &failure("pthread_create"), "-pthread", "\"-pthread\"");
    assert_eq!(trial.mend("t", &failure("nobody_knows")), Mended::Nothing);
}

#[test]
fn a_source_that_nobody_can_link_is_left_out_of_its_library() {
    let mut trial = trial(&C);
    let failure = |symbol: &str| {
        let said = format!(
            "/usr/bin/ld: libsample.a(c.c.o): in function `high':\nc.c:(.text+0x1): undefined reference to `{symbol}'\n"
        );
        printed(&said, &["tests/t.c"])
    };
    let mended = trial.mend("t", &failure("strlwr"));
    assert_eq!(
        mended,
        Mended::Changed("without src/c.c: it refers to strlwr, which is nowhere".to_owned())
    );
    let library = trial.text("sample_library");
    assert!(
        library.contains("# Without src/c.c: it refers to strlwr") && !library.contains("c.c\","),
        "{library}"
    );
    // A header declares it: somebody may have it.
    let mut other =
        self::trial(&[&C[..], &[("src/d.c", "int rises(void) {\n return 1;\n}\n")]].concat());
    assert!(
        !matches!(other.mend("t", &failure("rises")), Mended::Changed(how) if how.contains("without"))
    );
}

#[test]
fn of_two_sources_that_define_the_same_the_variant_is_left_out() {
    let failure = |second: &str, first: &str| {
        let said = format!(
            "/usr/bin/ld: {second}.o: in function `high':\n{second}:(.text+0x0): multiple definition of `high'; \
             {first}.o:{first}:(.text+0x0): first defined here\n"
        );
        printed(&said, &["tests/t.c"])
    };
    let more = [("src/a_old.c", "int high(void) {\n return 1;\n}\n")];
    let gone = Mended::Changed("without src/a_old.c: it defines the same as a.c".to_owned());
    // Whichever of them the linker meets first.
    for (second, first) in [("a_old.c", "a.c"), ("a.c", "a_old.c")] {
        let mut trial = trial(&[&C[..], &more[..]].concat());
        assert_eq!(trial.mend("t", &failure(second, first)), gone);
        assert!(
            trial
                .text("sample_library")
                .contains("# Without src/a_old.c: it defines the same as a.c")
        );
    }
    // What is linked of an archive later has something that the first one lacks.
    let said = "/usr/bin/ld: s.a(a_old.c.o): in function `high':\na_old.c:(.text+0x0): multiple definition of `high'; \
        s.a(a.c.o):a.c:(.text+0x0): first defined here\n";
    let mut trial = self::trial(&[&C[..], &more[..]].concat());
    let gone = Mended::Changed("without src/a.c: it defines the same as a_old.c".to_owned());
    assert_eq!(trial.mend("t", &printed(said, &["tests/t.c"])), gone);
    // Of two that are not named after one another nobody knows which is meant.
    assert_eq!(trial.mend("t", &failure("b.c", "a.c")), Mended::Nothing);
}

#[test]
fn a_source_that_was_taken_for_something_else_comes_back() {
    // Another source includes it, and is the one that is compiled there.
    let more = [
        ("src/neaps.c", "int neaps(int x)\n{\n return x;\n}\n"),
        (
            "tools/all.c",
            "#include \"../src/neaps.c\"\nint main(void) { return neaps(0); }\n",
        ),
    ];
    let mut trial = self::trial(&[&C[..], &more[..]].concat());
    let failure = printed(
        "c.c:(.text+0x1): undefined reference to `neaps'\n",
        &["tests/t.c"],
    );
    assert!(
        trial
            .text("sample_library")
            .contains("except = \"src/neaps.c\"")
    );
    assert_eq!(
        trial.mend("t", &failure),
        Mended::Changed("with src/neaps.c, which has neaps".to_owned())
    );
    // Once only, and never what did not compile.
    assert_eq!(trial.mend("t", &failure), Mended::Nothing);
}

#[test]
fn old_fortran_is_compiled_as_such() {
    let mut trial = trial(&[("tide.f", "      subroutine tide\n      end\n")]);
    let said = "Error: Type mismatch in argument 'a' at (1); passed COMPLEX(4) to REAL(4)";
    trial.expect(
        "sample_library",
        &printed(said, &["tide.f"]),
        "-std=legacy",
        "flags = [\"-std=legacy\"]",
    );
    assert_eq!(
        trial.mend("sample_library", &printed(said, &["tide.f"])),
        Mended::Nothing
    );
}

#[test]
fn tests_get_what_they_read_where_they_run_and_the_network() {
    let mut trial = trial(&C);
    let refused = TryFailure {
        refused: vec!["tests/data/one.txt".to_owned()],
        ..TryFailure::default()
    };
    trial.expect(
        "t",
        &refused,
        "it reads tests/data/one.txt and 1 more",
        "reads = \"tests/data/*.txt\"",
    );
    let mut trial = self::trial(&C);
    let writes = TryFailure {
        writes: true,
        ..TryFailure::default()
    };
    trial.expect("t", &writes, "it writes where it runs", "folder = stage");
    let mut trial = self::trial(&C);
    let network = TryFailure {
        wants_network: true,
        ..TryFailure::default()
    };
    trial.expect("t", &network, "it may use the network", "network = true");
    // Definitions are no data.
    let own = TryFailure {
        refused: vec!["targets.nub".to_owned()],
        ..TryFailure::default()
    };
    assert_eq!(trial.mend("t", &own), Mended::Nothing);
}

#[test]
fn a_test_that_says_how_it_is_used_is_a_program() {
    let mut trial = trial(&C);
    trial.expect(
        "t",
        &printed("usage: t FILE\n", &[]),
        "wants arguments",
        "target t = c.program",
    );
}

#[test]
fn modules_of_python_come_from_the_tree_or_from_a_registry() {
    let mut trial = trial(&[
        (
            "pyproject.toml",
            "[project]\nname = \"tide\"\nversion = \"1\"\n",
        ),
        ("tide.py", ""),
        ("tools/chart.py", ""),
        ("test_tide.py", "import tide\ndef test_it(): pass\n"),
    ]);
    trial.expect(
        "unit",
        &printed("ModuleNotFoundError: No module named 'chart'", &[]),
        "it imports tools/chart.py",
        "tools/chart.py",
    );
    trial.expect(
        "unit",
        &printed("No module named 'yaml.nodes'", &[]),
        "python pyyaml",
        "python.pinned(\"pyyaml\")",
    );
    trial.expect(
        "unit",
        &printed("fixture 'mocker' not found", &[]),
        "pytest-mock",
        "python.pinned(\"pytest-mock\")",
    );
    assert!(
        trial
            .proposal
            .pins
            .iter()
            .any(|pin| pin.name == "pytest-mock" && pin.is_guess)
    );
    // A guess that no registry has is done without.
    trial
        .proposal
        .do_without(nubrik_survey::Kit::Python, "pyyaml");
    assert!(!trial.text("unit").contains("pyyaml"));
}

#[test]
fn scripts_without_the_files_that_they_want_are_left_out() {
    let mut trial = trial(&[
        (
            "package.json",
            "{\"name\": \"b\", \"scripts\": {\"tide\": \"x\", \"ebb\": \"y\"}}",
        ),
        ("index.js", "module.exports = 3\n"),
    ]);
    let mut why = |printed: &str| match trial.mend("tide", &self::printed(printed, &[])) {
        Mended::Omission(why) => why,
        other => format!("{other:?}"),
    };
    let runs = "Error: Cannot find module '/nubrik/.nubrik/made/tide/@made/.scratch/work/src/benchmark.js'";
    assert_eq!(why(runs), "it runs src/benchmark.js, which is not here");
    let reads = "Error: Cannot read .ignored file: /nubrik/.nubrik/made/tide/@made/.scratch/work/.gitignore";
    assert_eq!(why(reads), "it reads .gitignore, which is not here");
    let looks = "\u{1b}[31mError: No test files found: \"src/test.js\"\u{1b}[39m";
    assert_eq!(
        why(looks),
        "it looks for src/test.js, and no such file is here"
    );
    // It is here, and is not found for another reason.
    let other =
        "Error: Cannot find module '/nubrik/.nubrik/made/tide/@made/.scratch/work/index.js'";
    assert_eq!(why(other), "Nothing");
}

#[test]
fn scripts_become_what_a_try_shows_them_to_be() {
    let files = [
        (
            "package.json",
            "{\"name\": \"b\", \"scripts\": {\"tide\": \"x\", \"ebb\": \"y\"}}",
        ),
        ("index.js", ""),
    ];
    let mut trial = trial(&files);
    let endless = TryFailure {
        is_too_long: true,
        ..TryFailure::default()
    };
    trial.expect(
        "ebb",
        &endless,
        "it does not end by itself",
        "job ebb = js.script_job",
    );
    let quiet = ScriptSeen {
        makes_files: false,
        is_same_again: Some(true),
    };
    let how = settle_script(&mut trial.proposal, &at("tide"), quiet).unwrap();
    assert_eq!(how, "it ends; it writes nothing, so it is a test");
    assert!(trial.text("tide").contains("test tide = js.script_check"));
    let mut trial = self::trial(&files);
    let unsteady = ScriptSeen {
        makes_files: true,
        is_same_again: Some(false),
    };
    let how = settle_script(&mut trial.proposal, &at("tide"), unsteady).unwrap();
    assert!(how.contains("differs from run to run"), "{how}");
    assert!(
        trial
            .text("tide")
            .contains("# What it makes differs from run to run"),
        "{}",
        trial.text("tide")
    );
}

#[test]
fn sources_of_java_that_use_what_is_nowhere_are_left_out_of_tests() {
    let test =
        "package p;\nimport org.junit.jupiter.api.Test;\nclass XTest { @Test void a() {} }\n";
    let mut trial = trial(&[
        ("src/main/java/p/A.java", "package p;\nclass A {}\n"),
        ("src/test/java/p/XTest.java", test),
        ("src/test/java/p/YTest.java", test),
        ("src/test/java/p/Race.java", "package p;\nclass Race {}\n"),
    ]);
    let failure = printed(
        "src/test/java/p/Race.java:3: error: package org.other does not exist\n",
        &[],
    );
    trial.expect(
        "unit",
        &failure,
        "without src/test/java/p/Race.java: it uses org.other",
        "except = \"src/test/java/p/Race.java\"",
    );
}

#[test]
fn no_library_comes_to_need_what_needs_it() {
    let mut trial = trial(&[
        ("low/low.h", "int low(void);\n"),
        (
            "low/low.c",
            "int high(void);\nint low(void) { return high(); }\n",
        ),
        (
            "high/high.c",
            "#include \"../low/low.h\"\nint high(void)\n{\n    return low();\n}\n",
        ),
        (
            "main.c",
            "int high(void);\nint main(void) { return high(); }\n",
        ),
    ]);
    let of = |name: &str| DefinitionAddress {
        package: name.to_owned(),
        name: name.to_owned(),
    };
    let mut mend = |name: &str, symbol: &str| {
        let failure = printed(&format!("ld: undefined reference to `{symbol}'"), &[]);
        mend(
            &trial.tree,
            &mut trial.proposal,
            &of(name),
            &failure,
            &NoMachine,
        )
    };
    // It may need it already: what counts is that it does now.
    mend("high", "low");
    let needs = |trial: &Trial, name: &str| trial.proposal.definition(&of(name)).unwrap().needs();
    assert!(matches!(mend("low", "high"), Mended::Nothing));
    assert!(
        needs(&trial, "high").contains(&of("low")) && !needs(&trial, "low").contains(&of("high"))
    );
}

#[test]
fn one_who_says_that_a_package_is_needed_is_surer_than_one_who_guesses() {
    let project = |name: &str, needs: &str| {
        format!("[project]\nname = \"{name}\"\nversion = \"1\"\ndependencies = [{needs}]\n")
    };
    for (first, second) in [("\"ebb>=1\"", ""), ("", "\"ebb>=1\"")] {
        let trial = trial(&[
            ("a/pyproject.toml", &project("a", first)),
            ("a/src/a/__init__.py", ""),
            (
                "a/tests/test_a.py",
                "import ebb\nimport moon\ndef test_it(): pass\n",
            ),
            ("b/pyproject.toml", &project("b", second)),
            ("b/src/b/__init__.py", ""),
            ("b/tests/test_b.py", "import ebb\ndef test_it(): pass\n"),
        ]);
        let of = |name: &str| {
            let pin = trial.proposal.pins.iter().find(|pin| pin.name == name);
            pin.map(|pin| (pin.is_guess, &*pin.requirement))
        };
        assert_eq!(
            (of("ebb"), of("moon")),
            (Some((false, ">=1")), Some((true, "")))
        );
    }
}
