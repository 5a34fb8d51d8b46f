//! Definitions of builds that were watched, from the programs that ran and the files that they
//! touched; nothing runs here.

#![allow(clippy::expect_used, clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::collections::BTreeSet;

use nubrik_survey::{
    Answers, CompilationDatabase, DefinitionWriter, LearnedBuild, NoMachine, Proposal, SeenBuild,
    SeenProgram, SourceTree, learn, survey,
};

/// A build of a folder, as a script runs it.
struct Watched {
    tree: SourceTree,
    build: SeenBuild,
}

fn set(paths: &[&str]) -> BTreeSet<String> {
    paths.iter().map(|path| (*path).to_owned()).collect()
}

impl Watched {
    fn of(files: &[(&str, &str)]) -> Watched {
        let mut build = SeenBuild {
            root: "/seen/isles".to_owned(),
            command: "./build.sh".to_owned(),
            ..SeenBuild::default()
        };
        let shell = ["sh", "-c", "./build.sh"].map(str::to_owned).to_vec();
        let script = ["sh", "./build.sh"].map(str::to_owned).to_vec();
        for (number, words) in [shell, script].into_iter().enumerate() {
            let started_by = number.checked_sub(1);
            build.programs.push(SeenProgram {
                started_by,
                words,
                folder: Some(String::new()),
                pipe_out: Some("pipe:[1]".to_owned()),
                ..SeenProgram::default()
            });
        }
        Watched {
            tree: SourceTree::of(files),
            build,
        }
    }

    /// A program that the script starts in the folder. What it writes stays.
    fn run(&mut self, line: &str, reads: &[&str], writes: &[&str]) -> &mut SeenProgram {
        self.run_in("", line, reads, writes)
    }

    fn run_in(
        &mut self,
        folder: &str,
        line: &str,
        reads: &[&str],
        writes: &[&str],
    ) -> &mut SeenProgram {
        let words: Vec<String> = line.split(' ').map(str::to_owned).collect();
        let file = words[0].strip_prefix("./").map(str::to_owned);
        self.build.made.extend(set(writes));
        self.build.programs.push(SeenProgram {
            started_by: Some(1),
            file,
            words,
            folder: Some(folder.to_owned()),
            reads: set(reads),
            writes: set(writes),
            pipe_out: Some("pipe:[1]".to_owned()),
            ..SeenProgram::default()
        });
        self.build.programs.last_mut().unwrap()
    }

    /// A program whose output the script writes to a file.
    fn run_to(&mut self, line: &str, reads: &[&str], output: &str) {
        let program = self.run(line, reads, &[]);
        program.stdout = Some(output.to_owned());
        program.pipe_out = None;
        self.build.programs[1].writes.insert(output.to_owned());
        self.build.made.insert(output.to_owned());
    }

    fn learned(&self) -> LearnedBuild {
        let surveyed = survey(&self.tree, "", &Answers::new(), &NoMachine);
        learn(&self.tree, "", &self.build, surveyed)
    }

    fn text(&self) -> String {
        written(&self.tree, &self.learned().proposal)
    }
}

fn written(tree: &SourceTree, proposal: &Proposal) -> String {
    let writer = DefinitionWriter::new(tree, "", proposal, &BTreeSet::new());
    writer.package(&proposal.definitions.iter().collect::<Vec<_>>())
}

fn expect(text: &str, parts: &[&str]) {
    for part in parts {
        assert!(text.contains(part), "lacks\n{part}\nin\n{text}");
    }
}

const MAIN: &str = "int main(void) { return 0; }\n";

const SOURCES: [(&str, &str); 6] = [
    ("src/tide.c", "#include \"tide.h\"\n"),
    ("src/wave.c", "#include \"tide.h\"\n"),
    (
        "src/main.c",
        "#include <tide.h>\nint main(void) { return 0; }\n",
    ),
    ("include/tide.h", "int tide(void);\n"),
    ("src/codes.txt", "1 2\n"),
    ("src/codes.c", MAIN),
];

#[test]
fn objects_become_libraries_and_programs_with_common_flags_named_once() {
    let mut build = Watched::of(&SOURCES);
    for name in ["tide", "wave"] {
        let (source, object) = (format!("src/{name}.c"), format!("o/{name}.o"));
        let line = format!("cc -O2 -Wall -DLEVEL=2 -Iinclude -MD -c {source} -o {object}");
        build.run(&line, &[&source, "include/tide.h"], &[&object]);
    }
    build.run(
        "ar rcs o/libtide.a o/tide.o o/wave.o",
        &["o/tide.o", "o/wave.o"],
        &["o/libtide.a"],
    );
    build.run(
        "gcc-12 -O2 -Wall -Iinclude -c src/main.c",
        &["src/main.c", "include/tide.h"],
        &["main.o"],
    );
    build.run(
        "cc -o tides main.o -Lo -ltide -lm -Wl,-rpath,/seen/isles/o",
        &["main.o", "o/libtide.a"],
        &["tides"],
    );
    expect(
        &build.text(),
        &[
            "private let build_flags = [\"-O2\", \"-Wall\"]",
            "target tide = c.library {\n    sources = glob(\"src/*.c\", except = [\"src/codes.c\", \"src/main.c\"])\n    headers = \"include/tide.h\"\n",
            "    include = \"include\"\n    flags = build_flags + [\"-DLEVEL=2\"]\n",
            "target tides = c.program {\n    sources = \"src/main.c\"\n",
            "    needs = tide\n    link_flags = [\"-lm\"]\n",
        ],
    );
    let targets = build.learned().targets;
    let paths: Vec<&str> = targets.iter().map(|target| target.path.as_str()).collect();
    assert_eq!(paths, ["o/libtide.a", "tides"]);
    // The source of a program that was never built is nobody's.
    assert!(!build.text().contains("target codes"), "{}", build.text());
}

#[test]
fn what_a_program_made_becomes_a_step_with_its_command() {
    let mut build = Watched::of(&SOURCES);
    build.run("cc -o mk src/codes.c", &["src/codes.c"], &["mk"]);
    build.run_to("./mk src/codes.txt", &["src/codes.txt"], "gen/codes.h");
    build.run_to(
        "sed s/@V@/1.4/ src/codes.txt",
        &["src/codes.txt"],
        "gen/version.h",
    );
    let reads = ["src/main.c", "gen/codes.h", "gen/version.h"];
    build.run("cc -Igen -o show src/main.c", &reads, &["show"]);
    let text = build.text();
    expect(
        &text,
        &[
            "private target codes_h = step {\n    say = \"make codes.h\"\n    run = `{mk} {in \"src/codes.txt\"} > {out \"gen/codes.h\"}`\n}",
            "run = `sed s/@V@/1.4/ {in \"src/codes.txt\"} > {out \"gen/version.h\"}`",
            "internal = [codes_h, version_h]",
            "target mk = c.program { sources = \"src/codes.c\" }",
        ],
    );
    // A program that makes something is no test.
    assert!(!text.contains("test "), "{text}");
}

#[test]
fn a_file_that_nobody_makes_is_written_as_it_was_or_left_out() {
    let mut build = Watched::of(&SOURCES);
    build.build.made.insert("config.h".to_owned());
    build.build.texts.insert(
        "config.h".to_owned(),
        "#define A 1\n\n#define B '{'\n".to_owned(),
    );
    build.build.made.insert("odd.h".to_owned());
    build.run(
        "cc -I. -o show src/main.c",
        &["src/main.c", "config.h", "odd.h"],
        &["show"],
    );
    let learned = build.learned();
    expect(
        &build.text(),
        &[
            "# As `./build.sh` made it on this machine: nubrik does not know how, so another machine gets the same.\n",
            "private target config_h = write {\n    path = \"config.h\"\n    text = '''\n        #define A 1\n\n        #define B '{'\n        '''\n}",
        ],
    );
    let left: Vec<&str> = learned
        .proposal
        .left_out
        .iter()
        .map(|left| left.what.as_str())
        .collect();
    assert_eq!(left, ["odd.h"]);
}

#[test]
fn runs_of_programs_become_tests() {
    let files = [
        ("src/show.c", MAIN),
        ("tests/check.c", MAIN),
        ("data/one.txt", "1\n"),
        ("data/two.txt", "2\n"),
    ];
    let mut build = Watched::of(&files);
    build.run("cc -o show src/show.c", &["src/show.c"], &["show"]);
    build.run("cc -o check tests/check.c", &["tests/check.c"], &["check"]);
    build.run("./show data", &[], &[]).lists = set(&["data"]);
    build.run("./check data/one.txt 3", &["data/one.txt"], &[]);
    // A question, one whose output goes on, and the same once more are no tests.
    build.run("./show --version", &[], &[]);
    build
        .run("./show data/one.txt", &["data/one.txt"], &[])
        .pipe_out = Some("pipe:[2]".to_owned());
    build.run("./check data/one.txt 3", &["data/one.txt"], &[]);
    let text = build.text();
    expect(
        &text,
        &[
            "test show_runs = check { run = `{show} data`, reads = \"data/*.txt\" }",
            "target show = c.program { sources = \"src/show.c\" }",
            "test check_program = c.test_program {\n    sources = \"tests/check.c\"\n    args = [\"data/one.txt\", \"3\"]\n    reads = \"data/one.txt\"\n}",
        ],
    );
    assert_eq!(text.matches("test ").count(), 2, "{text}");
    // Several runs are a test each; one that writes gets a folder to write in, with all that it
    // reads there.
    build
        .run_in(
            "data",
            "./check two.txt",
            &["data/two.txt"],
            &["data/log.txt"],
        )
        .file = Some("check".to_owned());
    expect(
        &build.text(),
        &[
            "target check_program = c.program { sources = \"tests/check.c\" }",
            "test check_program_runs = {\n    \"data/one.txt 3\": check { run = `{check_program} {in \"data/one.txt\"} 3` }\n",
            "    \"two.txt\": check {\n        run = `{check_program} {in \"data/two.txt\"}`\n        folder = stage { path = \"place\", files = {} }\n    }\n",
        ],
    );
}

#[test]
fn a_test_that_reads_what_another_program_made_gets_it_from_a_step() {
    let files = [("src/gen.c", MAIN), ("tests/round.c", MAIN)];
    let mut build = Watched::of(&files);
    build.run("cc -o gen src/gen.c", &["src/gen.c"], &["gen"]);
    build.run("cc -o round tests/round.c", &["tests/round.c"], &["round"]);
    build.run_to("./gen -g16", &[], "tmp.bin");
    build.run("./round tmp.bin", &["tmp.bin"], &[]);
    expect(
        &build.text(),
        &[
            "private target tmp_bin = step { say = \"make tmp.bin\", run = `{gen} -g16 > {out \"tmp.bin\"}` }",
            "test round_runs = check { run = `{round} {tmp_bin}` }",
        ],
    );
    // Where nobody makes it, the run is left out, and that is said.
    build.run("./round other.bin", &["other.bin"], &[]);
    build.build.made.insert("other.bin".to_owned());
    let learned = build.learned();
    let whys: Vec<String> = learned
        .proposal
        .left_out
        .iter()
        .map(|left| format!("{}: {}", left.what, left.why))
        .collect();
    assert!(
        !whys.is_empty() || written(&build.tree, &learned.proposal).contains("other.bin"),
        "{whys:?}"
    );
}

#[test]
fn shared_libraries_are_found_behind_links_and_by_what_the_linker_read() {
    let mut build = Watched::of(&SOURCES);
    build.run(
        "cc -fPIC -c src/tide.c -o tide.o",
        &["src/tide.c"],
        &["tide.o"],
    );
    let line = "cc -shared -Wl,-soname,libtide.so.2 -o lib/libtide.so.2.0 tide.o";
    build.run(line, &["tide.o"], &["lib/libtide.so.2.0"]);
    build.build.made.insert("lib/libtide.so".to_owned());
    build
        .build
        .links
        .insert("lib/libtide.so".to_owned(), "lib/libtide.so.2.0".to_owned());
    let reads = ["src/main.c", "lib/libtide.so.2.0"];
    build.run("cc -o show src/main.c -Llib -ltide", &reads, &["show"]);
    // Here only the linker's reading says it.
    build.run(
        "cc -o other src/codes.c -Wl,-l:libtide.so",
        &["src/codes.c", "lib/libtide.so.2.0"],
        &["other"],
    );
    let text = build.text();
    expect(
        &text,
        &[
            "target tide = c.shared_library {",
            "version = \"2.0\"",
            "sources = \"src/main.c\"",
        ],
    );
    assert_eq!(text.matches("needs = tide").count(), 2, "{text}");
    // The machine's own library of this name is nobody's need.
    assert!(!text.contains("\"-ltide\""), "{text}");
}

#[test]
fn sources_with_other_flags_or_in_another_language_are_linked_whole() {
    let files = [
        ("a.c", ""),
        ("b.c", ""),
        ("c.c", ""),
        ("m.f90", "module m\nend module\n"),
        ("main.c", MAIN),
    ];
    let mut build = Watched::of(&files);
    build.run("cc -O2 -c a.c", &["a.c"], &["a.o"]);
    build.run("cc -O2 -c b.c", &["b.c"], &["b.o"]);
    build.run("cc -O2 -mavx2 -c c.c", &["c.c"], &["c.o"]);
    build.run("gfortran -O2 -Jmod -c m.f90", &["m.f90"], &["m.o"]);
    build.run(
        "ar rcs libx.a a.o b.o c.o m.o",
        &["a.o", "b.o", "c.o", "m.o"],
        &["libx.a"],
    );
    let text = build.text();
    expect(
        &text,
        &[
            "private target x_c = c.library {",
            "flags = build_flags + [\"-mavx2\"]",
            "whole = true",
            "private target x_m = fortran.library { sources = \"m.f90\", flags = build_flags }",
            "target x = c.library {",
        ],
    );
    let parts: Vec<usize> = build
        .learned()
        .targets
        .iter()
        .map(|target| target.parts.len())
        .collect();
    assert_eq!(parts, [2]);
}

#[test]
fn places_of_the_machine_are_not_hidden_and_those_of_the_copy_are_gone() {
    let mut build = Watched::of(&[("a.c", MAIN)]);
    let line = "cc -DDATA=\"/seen/isles/data\" -DOTHER=/seen/isles2 -I/usr/include/freetype2 -L/opt/x -lx -o a a.c";
    build.run(line, &["a.c"], &["a"]);
    let text = build.text();
    expect(
        &text,
        &[
            "'-DDATA=\"data\"'",
            "\"-DOTHER=/seen/isles2\"",
            "# -I/usr/include/freetype2, -L/opt/x: as `./build.sh` has it.",
            "link_flags = [\"-L/opt/x\", \"-lx\"]",
        ],
    );
}

#[test]
fn words_that_name_files_lead_there_from_the_root() {
    let files = [
        ("src/a.c", ""),
        ("src/pre.h", ""),
        ("src/x.map", "{ global: *; };\n"),
    ];
    let mut build = Watched::of(&files);
    // Lists of words in files are what they say.
    build.build.texts.insert(
        "src/words.txt".to_owned(),
        "-include pre.h -include 'gen/config.h' -c\n".to_owned(),
    );
    let reads = ["src/a.c", "src/pre.h", "src/gen/config.h"];
    build.build.made.insert("src/gen/config.h".to_owned());
    build
        .build
        .texts
        .insert("src/gen/config.h".to_owned(), "#define A 1\n".to_owned());
    build.run_in("src", "cc -Igen @words.txt a.c", &reads, &["src/a.o"]);
    let line = "cc -shared -o liba.so a.o -Wl,--version-script=x.map -Wl,-z,defs";
    build.run_in("src", line, &["src/a.o", "src/x.map"], &["src/liba.so"]);
    expect(
        &build.text(),
        &[
            "flags = [\"-include\", \"src/pre.h\", \"-include\", \"config.h\"]",
            "\"-Wl,--version-script=src/x.map\", \"-Wl,-z,defs\"",
            "reads = \"src/x.map\"",
        ],
    );
}

#[test]
fn an_archive_that_is_filled_twice_has_the_last_objects_once() {
    let files = [("a.c", ""), ("b.c", ""), ("old/a.c", "")];
    let mut build = Watched::of(&files);
    build.run("cc -c old/a.c -o a.o", &["old/a.c"], &["a.o"]);
    build.run("ar rc libx.a a.o", &["a.o"], &["libx.a"]);
    build.run("cc -c a.c -o a.o", &["a.c"], &["a.o"]);
    build.run("cc -c b.c -o b.o", &["b.c"], &["b.o"]);
    build.run("ar rc libx.a a.o b.o", &["a.o", "b.o"], &["libx.a"]);
    let text = build.text();
    expect(&text, &["target x = c.library"]);
    assert!(
        text.contains("sources = \"*.c\"") && !text.contains("old/a.c"),
        "{text}"
    );
}

#[test]
fn a_build_that_compiles_nothing_leaves_the_survey_as_it_is() {
    let mut build = Watched::of(&[
        ("go.mod", "module isles\n\ngo 1.21\n"),
        ("tide.go", "package isles\n"),
    ]);
    build.run("go build ./...", &["tide.go"], &[]);
    let learned = build.learned();
    assert!(learned.targets.is_empty());
    assert!(written(&build.tree, &learned.proposal).contains("go.library"));
}

const LISTED: &str = r#"[
    {"directory": "/home/isles/b", "file": "../src/tide.c", "command": "cc -O2 -DROOT=\"/home/isles/x\" -c ../src/tide.c"},
    {"directory": "/home/isles/b", "file": "../src/wave.c", "arguments": ["cc", "-O3", "-I/home/isles/b/gen", "-I/usr/include/z", "-c", "../src/wave.c"]},
    {"directory": "/home/isles/b", "file": "../src/main.c", "command": "cc -O1 -I ../include -c ../src/main.c"}
]"#;

#[test]
fn a_compilation_database_gives_flags_and_says_what_is_compiled() {
    let files = [
        ("src/tide.c", "int tide(void) { return 1; }\n"),
        ("src/wave.c", "int wave(void) { return 1; }\n"),
        (
            "src/port_of_another_system.c",
            "int port(void) { return 1; }\n",
        ),
        (
            "src/main.c",
            "#include \"tide.h\"\nint main(void) { return 0; }\n",
        ),
        ("include/tide.h", "int tide(void);\n"),
    ];
    let tree = SourceTree::of(&files);
    let database = CompilationDatabase::read(LISTED).unwrap();
    assert!(database.is_about(&tree));
    let surveyed = survey(&tree, "", &Answers::new(), &NoMachine);
    let proposal = database.applied(&tree, surveyed);
    let text = written(&tree, &proposal);
    expect(
        &text,
        &[
            "# Without src/port_of_another_system.c: the compilation database does not name it.",
            "\"-DROOT=x\"",
            "flags = [\"-O3\", \"-I/usr/include/z\"]",
            "flags = [\"-O1\"]",
            "whole = true",
        ],
    );
    assert!(!text.contains("/home/isles"), "{text}");
    // A list about another folder says nothing here.
    assert!(!database.is_about(&SourceTree::of(&[("harbour.c", "")])));
}

#[test]
fn a_program_that_makes_what_a_test_reads_is_no_test_itself() {
    let files = [("src/gen.c", MAIN), ("tests/round.c", MAIN)];
    let mut build = Watched::of(&files);
    build.run("cc -o gen src/gen.c", &["src/gen.c"], &["gen"]);
    build.run("cc -o round tests/round.c", &["tests/round.c"], &["round"]);
    build.run("./gen -o tmp.bin", &[], &["tmp.bin"]);
    build.run("./round tmp.bin", &["tmp.bin"], &[]);
    let text = build.text();
    expect(
        &text,
        &[
            "run = `{gen} -o {out \"tmp.bin\"}`",
            "test round_runs = check { run = `{round} {tmp_bin}` }",
        ],
    );
    assert!(!text.contains("gen_runs"), "{text}");
}
