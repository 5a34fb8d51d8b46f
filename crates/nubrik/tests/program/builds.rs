//! Builds through the program: what runs, what does not, and why.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

/// A library with two sources and two headers, and a program.
const TIDE: [(&str, &str); 6] = [
    (
        "targets.nub",
        "use \"nub:c\" as c\n\
         target wave = c.library { sources = \"src/*.c\", headers = \"include/*.h\", flags = [\"-O1\"] }\n\
         target cast = c.program { sources = \"main.c\", needs = wave }\n",
    ),
    ("include/wave.h", "int wave(void);\n"),
    ("include/swell.h", "int swell(void);\n"),
    (
        "src/wave.c",
        "#include \"wave.h\"\n#include \"swell.h\"\nint wave(void) { return swell() + 1; }\n",
    ),
    (
        "src/swell.c",
        "#include \"swell.h\"\nint swell(void) { return 41; }\n",
    ),
    (
        "main.c",
        "#include <stdio.h>\n#include \"wave.h\"\nint main(void) { printf(\"%d\\n\", wave()); return 0; }\n",
    ),
];

fn tide() -> Sandbox {
    Sandbox::new(&TIDE)
}

#[test]
fn first_build_runs_all_and_the_second_nothing() {
    let tide = tide();
    let first = tide.build();
    let steps = [
        "archive wave",
        "compile main.c",
        "compile src/swell.c",
        "compile src/wave.c",
        "link cast",
    ];
    assert_eq!(first.ran(), steps);
    assert!(first.reason("link cast").contains("never built here"));
    assert_eq!(tide.run(&["run", "cast"]).expect(0).stdout, "42\n");
    for _ in 0..3 {
        let again = tide.build();
        assert_eq!(again.ran(), [""; 0]);
        assert_eq!(again.summary()["current"], 5);
    }
}

#[test]
fn editing_a_source_runs_what_follows_from_it() {
    let tide = tide();
    tide.build();
    tide.write(
        "src/swell.c",
        "#include \"swell.h\"\nint swell(void) { return 6; }\n",
    );
    let run = tide.build();
    assert_eq!(
        run.ran(),
        ["archive wave", "compile src/swell.c", "link cast"]
    );
    assert_eq!(run.reason("compile src/swell.c"), "src/swell.c changed");
    assert_eq!(run.reason("link cast"), "libwave.a of wave changed");
    assert_eq!(tide.run(&["run", "cast"]).expect(0).stdout, "7\n");
}

#[test]
fn editing_a_header_compiles_just_who_includes_it() {
    let tide = tide();
    tide.build();
    // A comment: the objects are as before, so nothing follows.
    tide.write("include/swell.h", "int swell(void); /* in metres */\n");
    let run = tide.build();
    assert_eq!(run.ran(), ["compile src/swell.c", "compile src/wave.c"]);
    assert_eq!(run.reason("compile src/wave.c"), "include/swell.h changed");
}

#[test]
fn touching_without_change_runs_nothing() {
    let tide = tide();
    tide.build();
    for (path, text) in TIDE {
        tide.write(path, text);
    }
    assert_eq!(tide.build().ran(), [""; 0]);
}

#[test]
fn deleted_and_edited_results_are_put_back() {
    let tide = tide();
    tide.build();
    let good = fs::read(tide.folder.join("out/default/cast")).unwrap();
    fs::remove_file(tide.folder.join("out/default/cast")).unwrap();
    let run = tide.build();
    assert_eq!(run.ran(), [""; 0]);
    assert!(
        run.stdout
            .contains("out/default/cast was gone; it is put back"),
        "{}",
        run.stdout
    );
    tide.write("out/default/cast", "edited by mistake");
    let run = tide.build();
    assert_eq!(run.ran(), [""; 0]);
    assert!(
        run.stdout
            .contains("out/default/cast was edited; it is put back"),
        "{}",
        run.stdout
    );
    assert_eq!(
        fs::read(tide.folder.join("out/default/cast")).unwrap(),
        good
    );
    // The tool's own copies, too: gone, or edited in place.
    let object = tide
        .folder
        .join(".nubrik/made/wave/@src+wave.c.o/src/wave.c.o");
    fs::remove_file(&object).unwrap();
    let run = tide.build();
    assert_eq!(
        (run.ran().len(), run.said("reused")),
        (0, vec!["compile src/wave.c".to_owned()])
    );
    fs::set_permissions(&object, fs::Permissions::from_mode(0o644)).unwrap();
    fs::write(&object, "nonsense").unwrap();
    let run = tide.build();
    // What came from the cache is a copy: the kept one is what it was.
    assert_eq!(
        (run.ran().len(), run.said("reused")),
        (0, vec!["compile src/wave.c".to_owned()])
    );
    assert_eq!(tide.run(&["run", "cast"]).expect(0).stdout, "42\n");
    fs::remove_dir_all(tide.folder.join("out")).unwrap();
    fs::remove_dir_all(tide.folder.join(".nubrik")).unwrap();
    let run = tide.build();
    assert_eq!((run.ran().len(), run.said("reused").len()), (0, 5));
    assert_eq!(
        fs::read(tide.folder.join("out/default/cast")).unwrap(),
        good
    );
}

#[test]
fn a_renamed_source_is_another_step() {
    let tide = tide();
    tide.build();
    fs::rename(
        tide.folder.join("src/swell.c"),
        tide.folder.join("src/surge.c"),
    )
    .unwrap();
    let run = tide.build();
    assert_eq!(
        run.ran(),
        ["archive wave", "compile src/surge.c", "link cast"]
    );
    fs::remove_file(tide.folder.join("src/surge.c")).unwrap();
    let run = tide.run(&["build", "--json"]).expect(1);
    assert!(run.stdout.contains("swell"), "{}", run.stdout);
}

#[test]
fn a_changed_flag_runs_what_it_reaches_and_back_runs_nothing() {
    let tide = tide();
    tide.build();
    let before = tide.read("targets.nub");
    tide.write("targets.nub", &before.replace("-O1", "-DWITH=1"));
    let run = tide.build();
    assert_eq!(
        run.said("ran")[..2],
        ["archive wave", "compile src/swell.c"]
    );
    assert_eq!(
        run.reason("compile src/wave.c"),
        "its command changed, targets.nub:2"
    );
    tide.write("targets.nub", &before);
    let run = tide.build();
    assert_eq!(run.ran(), [""; 0]);
    assert!(
        run.said("reused")
            .contains(&"compile src/wave.c".to_owned())
    );
    // A change that leaves the commands alone runs nothing.
    tide.write(
        "targets.nub",
        &format!("# A comment.\n{before}\nlet unused = 1\n"),
    );
    let run = tide.build();
    assert_eq!((run.ran().len(), run.said("reused").len()), (0, 0));
}

#[test]
fn own_flags_do_not_travel_and_offers_do() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:c\" as c\n\
             target a = c.library { sources = \"a.c\", headers = \"inc/a.h\", flags = [\"-Werror\", \"-Wall\"], exported_flags = [\"-DOFFERED=3\"] }\n\
             target b = c.library { sources = \"b.c\", needs = a }\n\
             target main = c.program { sources = \"main.c\", needs = [a, b] }\n",
        ),
        ("inc/a.h", "int a(void);\n"),
        ("a.c", "#include \"a.h\"\nint a(void) { return OFFERED; }\n"),
        // Unused variables: an error under -Werror -Wall.
        (
            "b.c",
            "#include \"a.h\"\nint b(void) { int unused; return a() + OFFERED; }\n",
        ),
        (
            "main.c",
            "int b(void);\nint main(void) { int unused; return b() + OFFERED; }\n",
        ),
    ]);
    sandbox.build();
    sandbox.run(&["run", "main"]).expect(9);
}

#[test]
fn link_order_keeps_the_last_of_repeats() {
    // Both b and c need a; a must come after both.
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:c\" as c\n\
             target a = c.library { sources = \"a.c\" }\n\
             target b = c.library { sources = \"b.c\", needs = a }\n\
             target d = c.library { sources = \"d.c\", needs = [a, b] }\n\
             target main = c.program { sources = \"main.c\", needs = [a, b, d] }\n",
        ),
        ("a.c", "int a(void) { return 1; }\n"),
        ("b.c", "int a(void);\nint b(void) { return a() + 1; }\n"),
        ("d.c", "int b(void);\nint d(void) { return b() + 1; }\n"),
        ("main.c", "int d(void);\nint main(void) { return d(); }\n"),
    ]);
    sandbox.build();
    sandbox.run(&["run", "main"]).expect(3);
}

#[test]
fn file_names_with_spaces_and_quotes_are_one_word() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:c\" as c\n\
             target odd = c.program { sources = \"src/*.c\", internal = \"src/*.h\" }\n\
             target texts = [each t in glob(\"texts/*\") give step { run = `cat {t} > {out \"{t.stem}.copy\"}` }]\n",
        ),
        (
            "src/it's a \"test\".c",
            "#include \"with space.h\"\nint main(void) { return CODE; }\n",
        ),
        ("src/with space.h", "#define CODE 5\n"),
        ("texts/$HOME `date` \\n & ;.txt", "dollar\n"),
        ("texts/-rf *.txt", "dash\n"),
    ]);
    sandbox.build();
    sandbox.run(&["run", "odd"]).expect(5);
    assert_eq!(
        sandbox.read("out/default/texts/$HOME `date` \\n & ;.copy"),
        "dollar\n"
    );
    assert_eq!(sandbox.read("out/default/texts/-rf *.copy"), "dash\n");
    assert_eq!(sandbox.build().ran(), [""; 0]);
    sandbox.write("src/with space.h", "#define CODE 6\n");
    assert_eq!(sandbox.build().ran().len(), 2);
}

#[test]
fn a_header_that_appears_earlier_on_the_path_counts() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "use \"nub:c\" as c\n\
             target main = c.program { sources = \"main.c\", include = [\"first\", \"second\"] }\n",
        ),
        ("first/other.h", ""),
        ("second/depth.h", "#define DEPTH 2\n"),
        (
            "main.c",
            "#include \"depth.h\"\n#if __has_include(\"extra.h\")\n#define E 10\n#else\n#define E 0\n#endif\nint main(void) { return DEPTH + E; }\n",
        ),
    ]);
    sandbox.build();
    sandbox.run(&["run", "main"]).expect(2);
    // Nothing speaks of this one.
    sandbox.write("first/unrelated.h", "");
    assert_eq!(sandbox.build().ran(), [""; 0]);
    sandbox.write("first/depth.h", "#define DEPTH 1\n");
    let run = sandbox.build();
    assert_eq!(run.reason("compile main.c"), "first/depth.h appeared");
    sandbox.run(&["run", "main"]).expect(1);
    sandbox.write("second/extra.h", "");
    assert_eq!(
        sandbox.build().reason("compile main.c"),
        "second/extra.h appeared"
    );
    sandbox.run(&["run", "main"]).expect(11);
    fs::remove_file(sandbox.folder.join("first/depth.h")).unwrap();
    sandbox.build();
    sandbox.run(&["run", "main"]).expect(12);
}

#[test]
fn results_are_shared_between_workspaces_in_other_places() {
    let tide = tide();
    tide.write("targets.nub", &TIDE[0].1.replace("-O1", "-g"));
    tide.build();
    if !crate::sandbox::has_sandboxes() {
        return skip(
            Need::Confinement,
            "without sandboxes steps see where they are, and results are for one place",
        );
    }
    let other = tide.sharing_store("another place");
    let run = other.build();
    assert_eq!((run.ran().len(), run.said("reused").len()), (0, 5));
    assert_eq!(other.run(&["run", "cast"]).expect(0).stdout, "42\n");
    // And what is made in another place is the same, debug information included.
    let alone = tide.copy_from_nothing();
    alone.build();
    assert_eq!(
        alone.files_below("out/default"),
        tide.files_below("out/default")
    );
}

#[test]
fn steps_have_named_outputs_folders_scratch_and_variables() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "let both = step {
                run = [
                    `sh -c 'echo \"$1 $DEPTH\" > \"$2\"; echo log > \"$3\"' sh {in \"in.txt\"} {out main \"a/main.txt\"} {out log \"log.txt\"}`,
                    `cp {in \"in.txt\"} {scratch \"work/copy\"}`,
                    `cat {scratch \"work/copy\"} | tr a-z A-Z > {out upper \"upper.txt\"}`
                ]
                env = { \"DEPTH\": \"7\" }
            }
            target log = both.log
            target upper = step { run = `cat < {both.upper} > {out \"again.txt\"}` }
            target site = step { run = `sh -c 'mkdir -p \"$1/deep\"; cp \"$2\" \"$1/deep/x\"; cp \"$2\" \"$1/y\"' sh {outfolder \"site\"} {in \"in.txt\"}` }
            target count = step { run = `sh -c 'find \"$1\" -type f | wc -l > \"$2\"' sh {site} {out \"count.txt\"}` }
            ",
        ),
        ("in.txt", "tide\n"),
    ]);
    sandbox.build();
    assert_eq!(sandbox.read("out/default/log.txt"), "log\n");
    assert_eq!(sandbox.read("out/default/upper/again.txt"), "TIDE\n");
    assert_eq!(sandbox.read("out/default/site/deep/x"), "tide\n");
    assert_eq!(sandbox.read("out/default/count.txt").trim(), "2");
    assert!(
        !sandbox.exists("out/default/both"),
        "only what was asked for is published"
    );
    assert_eq!(sandbox.build().ran(), [""; 0]);
    // A file more in a made folder is an edit.
    sandbox.write(".nubrik/made/site/@site/site/z", "");
    let run = sandbox.build();
    assert_eq!(
        (run.ran().len(), run.said("reused")),
        (0, vec!["make site".to_owned()])
    );
}

#[test]
fn stale_results_of_a_target_go() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target pages = {each s in glob(\"*.csv\") give s.stem: step { run = `cp {s} {out \"{s.stem}.html\"}` }}\n",
        ),
        ("ardle.csv", "a"),
        ("tarn.csv", "t"),
    ]);
    sandbox.build();
    fs::remove_file(sandbox.folder.join("tarn.csv")).unwrap();
    sandbox.build();
    assert!(
        sandbox.exists("out/default/pages/ardle.html")
            && !sandbox.exists("out/default/pages/tarn.html")
    );
}

#[test]
fn a_result_of_another_target_is_not_replaced() {
    let sandbox = Sandbox::new(&[
        (
            "p/targets.nub",
            "target q = step { run = sh`echo outer > {outfolder \"q\"}/x` }\n",
        ),
        (
            "other/targets.nub",
            "target z = write { path = \"z\", text = \"z\" }\n",
        ),
    ]);
    sandbox.build();
    // Who builds a part sweeps nothing away that lies above it.
    fs::remove_file(sandbox.folder.join("p/targets.nub")).unwrap();
    sandbox.write(
        "p/q/targets.nub",
        "target r = step { run = sh`echo inner > {out \"r\"}` }\n",
    );
    let run = sandbox.run(&["build", "p/q/r"]).expect(5);
    assert!(
        run.stdout
            .contains("out/default/p/q is a result of another target"),
        "{}",
        run.stdout
    );
    assert_eq!(sandbox.read("out/default/p/q/x"), "outer\n");
    sandbox.build();
    assert_eq!(sandbox.read("out/default/p/q/r"), "inner\n");
    assert!(!sandbox.exists("out/default/p/q/x"));
}
