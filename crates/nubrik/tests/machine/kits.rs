//! The kits that ship with the tool, as far as a C compiler goes; a kit whose compiler is not here
//! is visibly left out.

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

/// Whether a program is on the search path; says so if not.
fn has(program: &str) -> bool {
    let path = std::env::var_os("PATH").unwrap();
    let there = std::env::split_paths(&path).any(|folder| folder.join(program).is_file());
    if !there {
        skip(Need::Kits, format_args!("{program} is not here"));
    }
    there
}

const FIT: [(&str, &str); 3] = [
    (
        "src/fit.c",
        "#include <tide/fit.h>\n#include \"config.h\"\nint fit(void) { return DEPTH; }\n",
    ),
    ("include/tide/fit.h", "int fit(void);\n"),
    (
        "src/show.c",
        "#include <tide/fit.h>\nint main(void) { return fit() != 7; }\n",
    ),
];

fn with_fit(targets: &str) -> Sandbox {
    let mut files = FIT.to_vec();
    files.push(("targets.nub", targets));
    Sandbox::new(&files)
}

const SHARED: &str = "use \"nub:c\" as c\n\
    target config = c.config_header { path = \"config.h\", defines = {\n\
        \"DEPTH\": if c.header_exists(\"stdio.h\") and not c.header_exists(\"moon.h\") then \"7\" else none\n\
        \"WIDE\": \"{c.type_size(\"char\")}\"\n\
        \"MOON\": if c.function_exists(\"moonrise\", headers = [\"stdio.h\"]) then \"\" else none\n\
    } }\n\
    target fit = c.shared_library { sources = \"src/fit.c\", headers = \"include/tide/fit.h\", internal = config, include = \"include\", version = \"2.1\" }\n\
    target show = c.program { sources = \"src/show.c\", needs = fit }\n\
    test shown = c.test_program { sources = \"src/show.c\", needs = fit }\n\
    target tree = c.installed { programs = show, libraries = fit, more = { \"share/doc/\": \"src/fit.c\" } }\n";

#[test]
fn a_shared_library_is_tested_and_installed_with_its_links() {
    let sandbox = with_fit(SHARED);
    sandbox.run(&["test"]).expect(0).says("1 test passed");
    sandbox.run(&["build", "tree"]).expect(0);
    let tree = sandbox.folder.join("out/default/tree");
    let library = tree.join("lib/libfit.so");
    assert_eq!(
        std::fs::read_link(&library).unwrap().to_str(),
        Some("libfit.so.2")
    );
    assert_eq!(
        std::fs::read_link(tree.join("lib/libfit.so.2"))
            .unwrap()
            .to_str(),
        Some("libfit.so.2.1")
    );
    assert!(tree.join("include/tide/fit.h").is_file() && tree.join("share/doc/fit.c").is_file());
    let ended = std::process::Command::new(tree.join("bin/show"))
        .status()
        .unwrap();
    assert!(ended.success(), "the installed program finds its library");
    sandbox
        .run(&["build", "tree"])
        .expect(0)
        .says("nothing to run");
    // What a header says of the machine is one file.
    sandbox.run(&["build", "config"]).expect(0);
    let config = sandbox.read("out/default/config.h");
    assert_eq!(
        config,
        "#define DEPTH 7\n#define WIDE 1\n/* #undef MOON */\n"
    );
}

#[test]
fn a_header_is_made_of_its_template() {
    let template = "#undef DEPTH\n\n#undef MOON\n# undef TIDE\n#somedefine SEA 3\n#somedefine01 WIDE\n#somedefine01 CALM\n\
        #define WIND @WIND@\n#define LEVEL ${HIGH}.@LOW@\n#if ${HIGH}\n#endif\n#define NAME \"isles\"\n#ifdef DEPTH\n# include <limits.h>\n#endif\n";
    let sandbox = Sandbox::new(&[
        ("parts/header.in", template),
        (
            "targets.nub",
            "use \"nub:c\" as c\n\
             target config = c.config_header { path = \"config.h\", template = load_lines(\"parts/header.in\"), defines = {\n\
             \"DEPTH\": \"7\"\n\"MOON\": none\n\"SEA\": \"4\"\n\"WIDE\": \"1\"\n\"WIND\": \"2\"\n\"HIGH\": \"4\"\n\"LOW\": \"1\"\n\"OWN\": \"1\"\n} }\n",
        ),
    ]);
    sandbox.run(&["build"]).expect(0);
    assert_eq!(
        sandbox.read("out/default/config.h"),
        "#define OWN 1\n#define DEPTH 7\n/* #undef MOON */\n/* #undef TIDE */\n#define SEA 4\n#define WIDE 1\n#define CALM 0\n\
         #define WIND 2\n#define LEVEL 4.1\n#if 4\n#endif\n#define NAME \"isles\"\n#ifdef DEPTH\n# include <limits.h>\n#endif\n"
    );
    sandbox.write("parts/header.in", "#if @MOON_RISES@\n#endif\n");
    sandbox
        .run(&["build"])
        .expect(3)
        .says("leaves `MOON_RISES` open in `#if @MOON_RISES@`");
    sandbox.write("parts/header.in", "#undef DEPTH\n");
    sandbox.run(&["build"]).expect(0).says("1 of 1 step ran");
    assert!(
        sandbox
            .read("out/default/config.h")
            .ends_with("\n#define DEPTH 7\n")
    );
}

#[test]
fn the_folder_of_a_header_is_searched_only_if_no_other_way_leads_to_it() {
    // `string.h` of the library would be found in place of the system's.
    let sandbox = Sandbox::new(&[
        ("include/tide/string.h", "#error this one\n"),
        ("include/tide/fit.h", "int fit(void);\n"),
        (
            "a.c",
            "#include <string.h>\n#include <tide/fit.h>\nint a(void) { return (int) strlen(\"a\"); }\n",
        ),
        ("b.c", "#include \"deep.h\"\nint b(void) { return DEEP; }\n"),
        ("own/deep.h", "#define DEEP 1\n"),
        (
            "targets.nub",
            "use \"nub:c\" as c\n\
             target a = c.library { sources = \"a.c\", headers = \"include/tide/*.h\", include = \"include\" }\n\
             target b = c.library { sources = \"b.c\", internal = \"own/deep.h\" }\n",
        ),
    ]);
    sandbox.run(&["build"]).expect(0);
}

#[test]
fn editors_are_told_how_sources_are_compiled() {
    let sandbox = with_fit(&format!(
        "{SHARED}job editors = c.compile_commands {{ of = [fit, show], headers = config }}\n"
    ));
    sandbox.run(&["run", "editors"]).expect(0);
    let told: serde_json::Value =
        serde_json::from_str(&sandbox.read("compile_commands.json")).unwrap();
    assert_eq!(told.as_array().unwrap().len(), 2);
    assert_eq!(told[0]["directory"], sandbox.folder.to_str().unwrap());
    assert_eq!(told[0]["file"], "src/fit.c");
    // What they read is a command that works in the workspace.
    let words: Vec<&str> = told[0]["arguments"]
        .as_array()
        .unwrap()
        .iter()
        .map(|word| word.as_str().unwrap())
        .collect();
    let compiled = std::process::Command::new(words[0])
        .args(&words[1..])
        .args(["-o", "/dev/null"])
        .current_dir(&sandbox.folder)
        .status()
        .unwrap();
    assert!(compiled.success());
}

#[test]
fn options_of_the_kit_make_variants() {
    let sandbox = with_fit(SHARED);
    sandbox.run(&["test", "--set", "tuning=release"]).expect(0);
    sandbox.run(&["test", "--set", "tuning=debug"]).expect(0);
    let run = sandbox
        .run(&["test", "--json", "--set", "tuning=release"])
        .expect(0);
    assert_eq!(run.ran(), [""; 0]);
    sandbox
        .run(&["test", "--set", "tuning=fast"])
        .expect(2)
        .says("\"none\" or \"debug\" or \"release\"");
}

#[test]
fn cplusplus_with_a_header_that_is_compiled_once() {
    if !has("c++") {
        return;
    }
    let sandbox = Sandbox::new(&[
        ("pre.h", "#include <string>\n"),
        (
            "tide.cc",
            "int tide() { return (int) std::string(\"abc\").size(); }\n",
        ),
        (
            "main.c",
            "int tide_in_c(void);\nint main(void) { return tide_in_c() != 3; }\n",
        ),
        (
            "bridge.cc",
            "int tide();\nextern \"C\" int tide_in_c() { return tide(); }\n",
        ),
        (
            "targets.nub",
            "use \"nub:c\" as c\n\
             private let common = c.precompiled_header { header = \"pre.h\", flags = [\"-O1\"] }\n\
             target tide = c.library { sources = [\"tide.cc\", \"bridge.cc\"], precompiled = common, flags = [\"-O1\"] }\n\
             test main = c.test_program { sources = \"main.c\", needs = tide }\n",
        ),
    ]);
    sandbox.run(&["test"]).expect(0).says("1 test passed");
    sandbox.write("pre.h", "#include <string>\n#define MORE 1\n");
    let run = sandbox.run(&["test", "--json"]).expect(0);
    assert_eq!(
        run.ran(),
        [
            "compile bridge.cc",
            "compile header pre.h",
            "compile tide.cc"
        ]
    );
}

#[test]
fn fortran_is_compiled_in_the_order_of_its_modules() {
    if !has("gfortran") {
        return;
    }
    let sandbox = Sandbox::new(&[
        (
            "a.f90",
            "submodule (b) a\ncontains\n module subroutine show()\n  print *, depth\n end subroutine\nend submodule\n",
        ),
        (
            "b.f90",
            "module b\n use c\n integer :: depth = base\n interface\n  module subroutine show(); end subroutine\n end interface\nend module\n",
        ),
        (
            "c.f90",
            "module c\n integer, parameter :: base = 4\nend module\n",
        ),
        (
            "p.f90",
            "program p\n use b\n call show()\n if (depth /= base) stop 1\nend program\n",
        ),
        (
            "targets.nub",
            "use \"nub:fortran\" as f\n\
             target tides = f.library { sources = [\"a.f90\", \"b.f90\", \"c.f90\"] }\n\
             test shown = f.test_program { sources = \"p.f90\", needs = tides }\n",
        ),
    ]);
    sandbox.run(&["test"]).expect(0).says("1 test passed");
    // A comment in a module leaves its interface as it is.
    sandbox.write(
        "c.f90",
        "module c\n ! a comment\n integer, parameter :: base = 4\nend module\n",
    );
    let run = sandbox.run(&["test", "--json"]).expect(0);
    assert_eq!(run.ran(), ["compile c.f90", "look into c.f90"]);
    sandbox.write(
        "c.f90",
        "module c\n integer, parameter :: base = 5\nend module\n",
    );
    let ran = sandbox.run(&["test", "--json"]).expect(0).ran();
    assert!(
        ran.contains(&"compile b.f90".to_owned()) && ran.contains(&"test shown".to_owned()),
        "{ran:?}"
    );
    // Two sources with one module are an error.
    sandbox.write("d.f90", "module c\nend module\n");
    let targets = sandbox
        .read("targets.nub")
        .replace("\"c.f90\"]", "\"c.f90\", \"d.f90\"]");
    sandbox.write("targets.nub", &targets);
    sandbox
        .run(&["test"])
        .expect(3)
        .says("several items have the key \"c\"");
}

#[test]
fn a_python_package_is_a_wheel_and_its_tests_are_tests() {
    if !has("python3") {
        return;
    }
    let sandbox = Sandbox::new(&[
        ("src/isles/__init__.py", "DEPTH = 7\n"),
        (
            "src/isles/main.py",
            "import isles\n\ndef run():\n    print(isles.DEPTH)\n",
        ),
        (
            "tests/test_depth.py",
            "import unittest, isles\n\nclass Depth(unittest.TestCase):\n    def test_is_known(self):\n        self.assertEqual(isles.DEPTH, 7)\n",
        ),
        (
            "targets.nub",
            "use \"nub:python\" as py\n\
             target isles = py.package { name = \"isles\", version = \"1\", root = \"src\", sources = \"src/isles/*.py\", scripts = { \"isles\": \"isles.main:run\" } }\n\
             target show = py.program { entry_point = \"isles.main:run\", needs = isles }\n\
             test unit = py.unit_tests { sources = \"tests/test_*.py\", needs = isles }\n",
        ),
    ]);
    sandbox.run(&["test"]).expect(0).says("1 test passed");
    sandbox.run(&["build"]).expect(0);
    assert!(sandbox.exists("out/default/isles/isles-1-py3-none-any.whl"));
    let shown = std::process::Command::new(sandbox.folder.join("out/default/show"))
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&shown.stdout), "7\n");
    sandbox.run(&["build"]).expect(0).says("nothing to run");
    let odd = sandbox
        .read("targets.nub")
        .replace("point = \"isles.main:run\"", "point = \"isles.main\"");
    sandbox.write("targets.nub", &odd);
    sandbox
        .run(&["build"])
        .expect(3)
        .says("`isles.main` is no entry point: a module, `:` and a function");
}

#[test]
fn a_python_package_is_known_to_its_tests_as_an_installed_one() {
    if !has("python3") {
        return;
    }
    let sandbox = Sandbox::new(&[
        ("lib/tides/__init__.py", "class Ebb:\n    pass\n"),
        (
            "test_notes.py",
            "import unittest, importlib.metadata as notes\n\
             class Notes(unittest.TestCase):\n\
            \x20   def test_version(self):\n\
            \x20       self.assertEqual(notes.version('tide-models'), '1.2')\n\
            \x20       self.assertEqual(notes.requires('tide-models'), ['click >= 8'])\n\
            \x20   def test_points(self):\n\
            \x20       points = {(p.group, p.name): p for p in notes.distribution('tide-models').entry_points}\n\
            \x20       self.assertEqual(points['tide.models', 'ebb'].load().__name__, 'Ebb')\n\
            \x20       self.assertEqual(points['console_scripts', 'tides'].value, 'tides:Ebb')\n",
        ),
        (
            "targets.nub",
            "use \"nub:python\" as py\n\
             target tides = py.package {\n\
            \x20   name = \"tide-models\", version = \"1.2\", root = \"lib\", sources = \"lib/tides/*\"\n\
            \x20   install_requires = [\"click >= 8\"], scripts = { \"tides\": \"tides:Ebb\" }\n\
            \x20   entry_points = { \"tide.models\": { \"ebb\": \"tides:Ebb\" } }\n\
             }\n\
             test units = py.unit_tests { sources = \"test_*.py\", needs = tides }\n",
        ),
    ]);
    sandbox.run(&["test"]).expect(0).says("1 test passed");
    sandbox.run(&["build"]).expect(0);
    // The same notes are in its wheel, each once.
    let wheel = std::fs::read(
        sandbox
            .folder
            .join("out/default/tides/tide_models-1.2-py3-none-any.whl"),
    )
    .unwrap();
    let count = |name: &[u8]| {
        wheel
            .windows(name.len())
            .filter(|part| *part == name)
            .count()
    };
    assert_eq!(count(b"tide_models-1.2.dist-info/entry_points.txt"), 2);
    let twice = sandbox.read("targets.nub");
    sandbox.write(
        "targets.nub",
        &twice.replace("tide.models", "console_scripts"),
    );
    sandbox
        .run(&["build"])
        .expect(3)
        .says("`console_scripts` are the parameter `scripts`");
    sandbox.write("targets.nub", &twice);
    // Tests that ask for the version run again with another one.
    let other = sandbox
        .read("targets.nub")
        .replace("version = \"1.2\"", "version = \"1.3\"");
    sandbox.write("targets.nub", &other);
    sandbox.run(&["test"]).expect(1).says("'1.3' != '1.2'");
}

#[test]
fn types_of_python_are_checked_again_when_what_is_imported_changes() {
    if !has("mypy") {
        return;
    }
    let sandbox = Sandbox::new(&[
        (
            "lib/deep/__init__.py",
            "def depth(name: str) -> int: return len(name)\n",
        ),
        ("lib/deep/py.typed", ""),
        ("lib/deep/other.py", "x: int = 1\n"),
        (
            "src/show.py",
            "from deep import depth\n\ndef shown(name: str) -> int:\n    return depth(name)\n",
        ),
        (
            "targets.nub",
            "use \"nub:python\" as py\n\
             target deep = py.package { name = \"deep\", version = \"1\", root = \"lib\", sources = \"lib/deep/*\" }\n\
             test types = py.type_check { sources = \"src/*.py\", needs = deep, args = [\"--strict\"] }\n",
        ),
    ]);
    sandbox.run(&["test"]).expect(0).says("1 test passed");
    // Nothing imports it.
    sandbox.write("lib/deep/other.py", "x: int = 2\n");
    sandbox
        .run(&["test"])
        .expect(0)
        .says("1 test passed, up to date");
    sandbox.write(
        "lib/deep/__init__.py",
        "def depth(name: str) -> str: return name\n",
    );
    sandbox
        .run(&["test"])
        .expect(1)
        .says("src/show.py:4: error: Incompatible return value type");
}

/// Packages of `kits/tests`, and the programs that their kits look for.
const WRITTEN_DOWN: [(&str, &[&str]); 8] = [
    ("c", &["cc", "c++"]),
    ("documents", &["cmark", "groff", "qpdf"]),
    ("fortran", &["gfortran"]),
    ("go", &["go"]),
    ("java", &["javac", "java", "unzip", "zip"]),
    ("js", &["node"]),
    ("python", &["python3"]),
    ("rust", &["rustc"]),
];

/// With NUBRIK_WRITE_KITS=1 the commands are written down anew.
#[test]
fn the_kits_give_the_commands_that_are_written_down() {
    let home = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../kits/tests");
    let writes = std::env::var_os("NUBRIK_WRITE_KITS").is_some();
    // Some toolchains are found by way of the user's home, which tests do not have.
    let rustup = std::env::var("RUSTUP_HOME")
        .or_else(|_| std::env::var("HOME").map(|home| home + "/.rustup"));
    let variables = [("RUSTUP_HOME", rustup.as_deref().unwrap_or_default())];
    for (package, programs) in WRITTEN_DOWN {
        if !programs.iter().all(|program| has(program)) || (package == "go" && !go_is_compiled()) {
            continue;
        }
        let sandbox = Sandbox::new(&[]);
        lay(&home.join("same.nub"), &sandbox.folder.join("same.nub"));
        lay(&home.join(package), &sandbox.folder.join(package));
        if !writes {
            sandbox
                .run_with(&["test", "--plain", package], &variables)
                .expect(0);
            continue;
        }
        for expected in ["expected.txt", "release.txt"].map(|name| format!("{package}/{name}")) {
            if home.join(&expected).exists() {
                sandbox.write(&expected, "");
            }
        }
        for failed in sandbox
            .run_with(&["test", "--json", package], &variables)
            .events()
        {
            let Some(printed) = failed["printed"].as_str() else {
                continue;
            };
            let name = printed
                .lines()
                .next()
                .and_then(|line| line.strip_prefix("--- "));
            let Some(name) = name.and_then(|line| line.split_whitespace().next()) else {
                continue;
            };
            let added = printed
                .lines()
                .skip(3)
                .filter_map(|line| line.strip_prefix('+'));
            let text: String = added.map(|line| format!("{line}\n")).collect();
            std::fs::write(home.join(name), text).unwrap();
        }
    }
}

/// Where toolchains of Rust may be: some are found by way of the user's home, which tests do not
/// have.
fn rustup() -> String {
    let home = || std::env::var("HOME").map(|home| home + "/.rustup");
    std::env::var("RUSTUP_HOME")
        .or_else(|_| home())
        .unwrap_or_default()
}

#[test]
fn tests_of_a_crate_run_in_its_folder_and_know_where_it_is() {
    let read = "std::fs::read_to_string";
    let sandbox = Sandbox::new(&[
        ("tides/data/a.txt", "deep\n"),
        (
            "tides/src/lib.rs",
            &format!(
                "pub const TEXT: &str = include_str!(concat!(env!(\"CARGO_MANIFEST_DIR\"), \"/data/a.txt\"));\n\
                 #[test]\nfn reads() {{\n\
                 assert_eq!({read}(\"data/a.txt\").unwrap(), TEXT);\n\
                 assert_eq!({read}(concat!(env!(\"CARGO_MANIFEST_DIR\"), \"/data/a.txt\")).unwrap(), TEXT);\n}}\n"
            ),
        ),
        (
            "targets.nub",
            "use \"nub:rust\" as rust\n\
             target tides = rust.library { source = \"tides\" }\n\
             test unit = rust.tests { source = \"tides\", name = \"tides\", reads = \"tides/data/*\" }\n",
        ),
    ]);
    let rustup = rustup();
    let run = |words: &[&str]| sandbox.run_with(words, &[("RUSTUP_HOME", rustup.as_str())]);
    run(&["build"]).expect(0);
    run(&["test"]).expect(0).says("1 test passed");
    sandbox.write("tides/data/a.txt", "deeper\n");
    run(&["test"]).expect(0).says("1 test passed");
}

/// Whether Go comes with a compiled standard library: with another one there are many more
/// commands.
fn go_is_compiled() -> bool {
    let asked = std::process::Command::new("go")
        .args(["env", "GOROOT"])
        .output()
        .unwrap();
    let root = String::from_utf8(asked.stdout).unwrap();
    let there = std::path::Path::new(root.trim())
        .join("pkg/linux_amd64/fmt.a")
        .is_file();
    if !there {
        skip(Need::GoLibrary, "this Go has no compiled standard library");
    }
    there
}

/// Copies a file, or a folder with all that is in it.
fn lay(from: &std::path::Path, to: &std::path::Path) {
    if from.is_dir() {
        std::fs::create_dir_all(to).unwrap();
        for entry in std::fs::read_dir(from).unwrap() {
            let name = entry.unwrap().file_name();
            lay(&from.join(&name), &to.join(&name));
        }
    } else {
        std::fs::copy(from, to).unwrap();
    }
}

const ARCHIVED: [(&str, &str); 4] = [
    (
        "harbour/charts.nub",
        "use \"./titles.nub\" as titles\n\
         private let drawer = beside(\"tools/draw.sh\")\n\
         kind chart(stations: files): { files: files } {\n\
         \x20   give { files = step { run = `sh {drawer} {titles.title} {stations} > {out \"chart\"}` } }\n}\n",
    ),
    ("harbour/titles.nub", "let title = \"Tides\"\n"),
    ("harbour/tools/draw.sh", "echo \"$@\"\n"),
    (
        "targets.nub",
        "target harbour = pack { path = \"harbour-1.2.tar.gz\", prefix = \"harbour-1.2\", files = { \"\": \"harbour\" } }\n",
    ),
];

/// A workspace that uses a kit in an archive, which lies in the workspace; and what `nubrik.toml`
/// says of it.
fn with_archived() -> (Sandbox, String) {
    let maker = Sandbox::new(&ARCHIVED);
    maker.run(&["build"]).expect(0);
    let sandbox = Sandbox::new(&[
        ("a.csv", "1\n"),
        (
            "targets.nub",
            "use \"harbour:charts\" as charts\ntarget all = charts.chart { stations = \"*.csv\" }\n",
        ),
    ]);
    let archive = sandbox.folder.join("vendor/harbour.tar.gz");
    std::fs::create_dir(archive.parent().unwrap()).unwrap();
    std::fs::copy(
        maker.folder.join("out/default/harbour/harbour-1.2.tar.gz"),
        &archive,
    )
    .unwrap();
    let named = |digest: &str| {
        format!(
            "[kits.harbour]\nurl = \"vendor/harbour.tar.gz\"\ndigest = \"{digest}\"\nstrip = 1\n"
        )
    };
    // The digest is named where it is another one.
    sandbox.write("nubrik.toml", &named(&format!("sha256:{}", "0".repeat(64))));
    let refused = sandbox.run(&["build"]).expect(1);
    let found = refused
        .stderr
        .split("found   ")
        .nth(1)
        .unwrap()
        .split_whitespace()
        .next()
        .unwrap()
        .to_owned();
    (sandbox, named(&found))
}

#[test]
fn a_kit_in_an_archive_is_fetched_by_its_digest() {
    let (sandbox, named) = with_archived();
    sandbox.write("nubrik.toml", &named);
    sandbox
        .run(&["list"])
        .expect(3)
        .says("the files of the kit `harbour` are not here: it was not fetched yet");
    sandbox
        .run(&["build", "--plain"])
        .expect(0)
        .says("the kit harbour from vendor/harbour.tar.gz");
    assert_eq!(sandbox.read("out/default/all/chart"), "Tides a.csv\n");
    sandbox.run(&["build"]).expect(0).says("nothing to run");
    sandbox.run(&["list"]).expect(0).says("chart");
    // Somebody changes an unpacked file: it is not the kit of this digest any more.
    let kits = sandbox.folder.join(".nubrik/kits");
    let folders = std::fs::read_dir(&kits)
        .unwrap()
        .map(|entry| entry.unwrap().path());
    let unpacked = folders.filter(|path| path.is_dir()).last().unwrap();
    std::fs::remove_file(unpacked.join("titles.nub")).unwrap();
    std::fs::write(unpacked.join("titles.nub"), "let title = \"Ebb\"\n").unwrap();
    sandbox
        .run(&["list"])
        .expect(3)
        .says("its files are not what they were when it was unpacked");
    sandbox.run(&["build"]).expect(0).says("nothing to run");
    assert_eq!(sandbox.read("out/default/all/chart"), "Tides a.csv\n");
    // What was fetched by another digest goes when something is fetched anew.
    std::fs::create_dir(kits.join("harbour-0123456789abcdef")).unwrap();
    std::fs::remove_dir_all(&unpacked).unwrap();
    sandbox.run(&["build"]).expect(0).says("nothing to run");
    assert!(unpacked.is_dir() && !kits.join("harbour-0123456789abcdef").exists());
    std::fs::remove_dir_all(&kits).unwrap();
    sandbox.run(&["build"]).expect(0).says("nothing to run");
    sandbox.write(
        "targets.nub",
        "use \"harbour:chart\" as charts\ntarget all = charts.chart { stations = \"*.csv\" }\n",
    );
    sandbox.run(&["build"]).expect(3).says("\"harbour:charts\"");
    sandbox.write(
        "targets.nub",
        "use \"harbor:charts\" as charts\ntarget all = charts.chart { stations = \"*.csv\" }\n",
    );
    sandbox.run(&["build"]).expect(3).says("\"harbour:charts\"");
    sandbox.write(
        "targets.nub",
        "use \"harbour:../x/charts\" as charts\ntarget all = charts.chart { stations = \"*.csv\" }\n",
    );
    sandbox
        .run(&["build"])
        .expect(3)
        .says("is not the name of a kit in an archive");
}

#[test]
fn a_kit_from_far_is_not_fetched_without_the_network() {
    let (sandbox, named) = with_archived();
    sandbox.write(
        "nubrik.toml",
        &named.replace("vendor/", "http://127.0.0.1:1/"),
    );
    sandbox
        .run(&["build", "--offline"])
        .expect(3)
        .says("it was not fetched yet");
    sandbox
        .run(&["build"])
        .expect(1)
        .says("the kit `harbour` cannot be fetched");
}

#[test]
fn scripts_of_manifests_run_beside_the_packages_that_they_use() {
    if !has("node") {
        return;
    }
    let sandbox = Sandbox::new(&[
        (
            "package.json",
            "{\"name\": \"page\", \"version\": \"1.2.0\"}",
        ),
        ("src/text.txt", "tide\n"),
        (
            "tool/package.json",
            "{\"name\": \"louder\", \"bin\": \"louder.js\"}",
        ),
        (
            "tool/louder.js",
            "#!/usr/bin/env node\nimport('fs').then((fs) => { const text = fs.readFileSync(process.argv[2], 'utf8'); \
             fs.mkdirSync('dist', { recursive: true }); fs.writeFileSync('dist/loud.txt', text.toUpperCase() + process.env.npm_package_version); });\n",
        ),
        (
            "targets.nub",
            "use \"nub:js\" as js\n\
             private target louder = js.library { name = \"louder\", root = \"tool\", sources = \"tool/louder.js\", manifest = \"tool/package.json\" }\n\
             target built = js.script { command = \"louder src/text.txt\", root = \".\", sources = [\"package.json\", \"src/text.txt\"], needs = louder }\n\
             target page = js.library { name = \"page\", root = \".\", sources = \"src/text.txt\", manifest = \"package.json\", generated = built }\n\
             target taken = step { run = `cp {page.tree}/dist/loud.txt {out \"taken.txt\"}` }\n\
             test fine = js.script_check { command = \"test -f src/text.txt\", root = \".\", sources = \"src/text.txt\" }\n\
             test wrong = js.script_check { command = \"louder src/none.txt\", root = \".\", sources = \"src/text.txt\", needs = louder }\n\
             job shown = js.script_job { command = \"cat src/text.txt\", root = \".\", sources = \"src/text.txt\" }\n",
        ),
    ]);
    sandbox.run(&["build"]).expect(0);
    assert_eq!(sandbox.read("out/default/taken.txt"), "TIDE\n1.2.0");
    // Only what the script wrote is its result.
    let made: Vec<String> = sandbox
        .files_below("out/default/built")
        .into_keys()
        .collect();
    assert!(
        made.iter().all(|path| path.ends_with("dist/loud.txt")),
        "{made:?}"
    );
    sandbox.run(&["run", "-q", "shown"]).expect(0).says("tide");
    sandbox.run(&["test", "--filter", "fine"]).expect(0);
    sandbox
        .run(&["test", "--filter", "wrong"])
        .expect(1)
        .says("none.txt");
    sandbox.run(&["build"]).expect(0).says("nothing to run");
}

#[test]
fn several_programs_of_one_go_module_are_kept_apart() {
    if !has("go") {
        return;
    }
    let main = |word: &str| {
        format!("package main\n\nimport \"fmt\"\n\nfunc main() {{ fmt.Println(\"{word}\") }}\n")
    };
    let sandbox = Sandbox::new(&[
        ("ebb/main.go", &main("ebb")),
        ("flow/main.go", &main("flow")),
        (
            "targets.nub",
            "use \"nub:go\" as go\n\
             target sea = go.library { path = \"sea\", root = \".\", sources = \"**/*.go\" }\n\
             target ebb = go.program { package = \"sea/ebb\", module = sea }\n\
             target flow = go.program { package = \"sea/flow\", module = sea }\n",
        ),
    ]);
    sandbox.run(&["build"]).expect(0);
    sandbox.run(&["run", "-q", "ebb"]).expect(0).says("ebb");
    sandbox.run(&["run", "-q", "flow"]).expect(0).says("flow");
}

#[test]
fn tests_beside_a_go_package_and_what_they_import_mean_the_same_package() {
    if !has("go") {
        return;
    }
    let beside = "package sea_test\n\nimport (\n\t\"testing\"\n\n\t\"isles/sea\"\n\t\"isles/sea/wide\"\n)\n\n\
        func TestWide(t *testing.T) {\n\tvar level sea.Level = wide.High()\n\tif sea.Shown(level) != \"3 in a test\" {\n\t\tt.Fatal(level)\n\t}\n}\n";
    let inside = "package sea\n\nimport \"fmt\"\n\nfunc init() { unit = \" in a test\" }\n\n\
        func Shown(l Level) string { return fmt.Sprint(int(l)) + unit }\n";
    let sandbox = Sandbox::new(&[
        (
            "sea/sea.go",
            "package sea\n\ntype Level int\n\nvar unit string\n\nfunc Unit() string { return unit }\n",
        ),
        (
            "sea/wide/wide.go",
            "package wide\n\nimport \"isles/sea/deep\"\n\nvar High = deep.High\n",
        ),
        (
            "sea/deep/deep.go",
            "package deep\n\nimport \"isles/sea\"\n\nfunc High() sea.Level { return sea.Level(3 + len(sea.Unit())*0) }\n",
        ),
        ("sea/inside_test.go", inside),
        ("sea/beside_test.go", beside),
        (
            "targets.nub",
            "use \"nub:go\" as go\n\
             target isles = go.library { path = \"isles\", root = \".\", sources = \"**/*.go\" }\n\
             test unit = go.tests { package = \"isles/sea\", module = isles }\n",
        ),
    ]);
    sandbox.run(&["test"]).expect(0).says("1 test passed");
}

#[test]
fn examples_in_the_documentation_of_kits_are_tried() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../kits");
    let mut files: Vec<(String, String)> = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_some_and(|ending| ending == "nub") {
            let name = path.file_name().unwrap().to_str().unwrap().to_owned();
            files.push((name, std::fs::read_to_string(path).unwrap()));
        }
    }
    let uses = files
        .iter()
        .map(|(name, _)| format!("use \"/{name}\" as {}\n", name.trim_end_matches(".nub")));
    files.push(("targets.nub".to_owned(), uses.collect()));
    let files: Vec<(&str, &str)> = files
        .iter()
        .map(|(name, text)| (&**name, &**text))
        .collect();
    let run = Sandbox::new(&files).run(&["lint"]).expect(0);
    assert!(!run.stdout.contains("error   "), "{}", run.stdout);
    let mut without = Vec::new();
    for (name, text) in &files {
        let lines: Vec<&str> = text.lines().collect();
        let kinds = lines.windows(2).filter(|pair| pair[1].starts_with("kind "));
        without.extend(
            kinds
                .filter(|pair| !pair[0].starts_with("##    "))
                .map(|pair| (*name, pair[1])),
        );
    }
    assert_eq!(without, Vec::<(&str, &str)>::new());
}

const CHARTS: &str = "## A chart of a table.\n\
    ##     target spring = charts.chart { table = \"tables/spring.csv\", width = 40 }\n\
    ##     target all = [each table in glob(\"tables/*.csv\") give charts.chart { table = table }]\n\
    kind chart(table: file, columns: int = 80): { files: files } {\n\
        give { files = step { run = `draw-chart {columns} {table} {out \"{table.stem}.svg\"}` } }\n\
    }\n";

#[test]
fn an_example_that_grew_old_is_shown_where_it_is_written() {
    let used =
        "use \"/charts.nub\" as charts\ntarget tides = charts.chart { table = \"tides.csv\" }\n";
    let sandbox = Sandbox::new(&[
        ("charts.nub", CHARTS),
        ("tides.csv", ""),
        ("targets.nub", used),
    ]);
    sandbox.write("charts.nub", &CHARTS.replace("draw-chart", "cat"));
    let run = sandbox.run(&["lint"]).expect(3);
    assert!(
        run.stderr
            .contains("`charts.chart` has no parameter `width`"),
        "{}",
        run.stderr
    );
    assert!(
        run.stderr.contains("charts.nub:2:68") && run.stdout.contains("1 error"),
        "{}",
        run.stderr
    );
    // Neither the files that it names nor its tools need to be there; a build does not look at it.
    let mended = CHARTS.replace("width = 40", "columns = 40");
    sandbox.write(
        "charts.nub",
        &mended.replace(
            "`draw-chart",
            "`{tool { names = \"draw-chart\", at_least = \"3\" }}",
        ),
    );
    sandbox.write(
        "targets.nub",
        "use \"/charts.nub\" as charts\nlet chart = charts.chart\n",
    );
    sandbox.run(&["lint"]).expect(0).says("and 1 example");
    // One of the same name in another folder is tried besides.
    sandbox.write("more/charts.nub", &mended);
    sandbox.write(
        "more/targets.nub",
        "use \"./charts.nub\" as charts\nlet chart = charts.chart\n",
    );
    sandbox.run(&["lint"]).expect(0).says("and 2 examples");
    // It is no part of the sentence that says what the kind is.
    let run = sandbox.run(&["explain", "c.library"]).expect(0);
    assert!(
        run.stdout
            .contains("target fit = c.library { sources = \"src/*.c\""),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout
            .contains("  A static library, or one of headers alone.\n"),
        "{}",
        run.stdout
    );
}

#[test]
fn a_library_that_is_linked_as_a_whole_brings_what_nobody_refers_to() {
    let targets = |whole: &str| {
        format!(
            "use \"nub:c\" as c\n\
             target cases = c.library {{ sources = \"cases.c\"{whole} }}\n\
             test passes = c.test_program {{ sources = \"main.c\", needs = cases }}\n\
             target tree = c.installed {{ libraries = cases }}\n"
        )
    };
    let sandbox = Sandbox::new(&[
        (
            "main.c",
            "int failed = 0;\nint main(void) { return failed; }\n",
        ),
        (
            "cases.c",
            "extern int failed;\n__attribute__((constructor)) static void one(void) { failed = 1; }\n",
        ),
        ("targets.nub", &targets("")),
    ]);
    // Of an archive nothing is linked: this passes without any case, and says so.
    sandbox
        .run(&["test"])
        .expect(0)
        .says("warning: nothing of libcases.a is linked");
    sandbox.write("targets.nub", &targets(", whole = true"));
    let run = sandbox.run(&["test"]).expect(1);
    assert!(!run.stdout.contains("nothing of"), "{}", run.stdout);
    sandbox.run(&["build", "tree"]).expect(0);
    assert!(sandbox.exists("out/default/tree/lib/libcases.a"));
}

#[test]
fn tests_that_should_report_cases_and_report_none_fail() {
    let write = |text: &str| {
        format!(
            "#include <stdio.h>\n#include <string.h>\nint main(int n, char **words) {{ (void)n; FILE *f = fopen(words[1] + strlen(\"--xml=\"), \"w\"); fputs(\"{text}\", f); return fclose(f); }}\n"
        )
    };
    let targets = "use \"nub:c\" as c\ntest reports = c.test_program { sources = \"main.c\", report_flag = \"--xml=\" }\n";
    let sandbox = Sandbox::new(&[("main.c", &write("<testsuite/>")), ("targets.nub", targets)]);
    sandbox
        .run(&["test"])
        .expect(1)
        .says("the program reported no case");
    sandbox.write(
        "main.c",
        &write("<testsuite><testcase name='one'/></testsuite>"),
    );
    sandbox.run(&["test"]).expect(0).says("1 test passed");
}

#[test]
fn a_file_without_a_test_of_python_fails() {
    if !has("python3") {
        return;
    }
    let targets =
        "use \"nub:python\" as py\ntest units = py.unit_tests { sources = \"test_*.py\" }\n";
    let sandbox = Sandbox::new(&[
        ("test_none.py", "import unittest\n"),
        ("targets.nub", targets),
    ]);
    sandbox
        .run(&["test"])
        .expect(1)
        .says("test_none.py holds no test");
}

#[test]
fn a_build_script_reads_its_crate_and_what_it_reads_counts() {
    if !has("rustc") {
        return;
    }
    let script = "use std::{env, fs, path::Path};\nfn main() {\n\
        let read = |path: &str| fs::read_to_string(path).unwrap_or(\"none\".into());\n\
        let text = format!(\"{} {} {}\", read(\"data.txt\").trim(), Path::new(\"data/sub\").exists(), read(\"data/sub/x.txt\").trim());\n\
        fs::write(Path::new(&env::var(\"OUT_DIR\").unwrap()).join(\"x.rs\"), format!(\"pub const X: &str = {text:?};\")).unwrap();\n}\n";
    let sandbox = Sandbox::new(&[
        ("a/build.rs", script),
        ("a/data.txt", "43\n"),
        ("a/data/sub/x.txt", "99\n"),
        ("a/other.txt", "\n"),
        (
            "a/src/lib.rs",
            "include!(concat!(env!(\"OUT_DIR\"), \"/x.rs\"));\n",
        ),
        ("p/main.rs", "fn main() { println!(\"{}\", a::X); }\n"),
        (
            "targets.nub",
            "use \"nub:rust\" as rust\n\
             target a = rust.library { source = \"a\", build_script = \"build.rs\" }\n\
             target p = rust.program { source = \"p\", root = \"main.rs\", needs = a }\n",
        ),
    ]);
    let home = rustup();
    let run = |args: &[&str]| {
        sandbox
            .run_with(args, &[("RUSTUP_HOME", &home)])
            .expect(0)
            .stdout
    };
    assert_eq!(run(&["run", "-q", "p"]), "43 true 99\n");
    sandbox.write("a/data.txt", "44\n");
    assert_eq!(run(&["run", "-q", "p"]), "44 true 99\n");
    std::fs::remove_dir_all(sandbox.folder.join("a/data")).unwrap();
    assert_eq!(run(&["run", "-q", "p"]), "44 false none\n");
    if crate::sandbox::has_sandboxes() {
        sandbox.write("a/other.txt", "more\n");
        let built = run(&["build"]);
        assert!(
            built.contains("nothing to run"),
            "what it did not read does not count: {built}"
        );
    }
}

#[test]
fn a_tree_is_installed_again_and_again() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    let definitions = r#"
        use "nub:files" as files
        option place: text = ""
        let kit = stage { "bin/": glob("tools/*.sh"), "share/doc/": glob("tools/*.md") }
        job put = files.install_tree { from = kit, to = "/usr", staging = place, modes = { "share/doc/keys.md": "600" }, record = "share/tools" }
        "#;
    let sandbox = Sandbox::new(&[
        ("targets.nub", definitions),
        ("tools/run.sh", "echo hi\n"),
        ("tools/read me.md", "doc\n"),
        ("tools/keys.md", "key\n"),
    ]);
    let runs = |path: &str| {
        let permissions = std::fs::Permissions::from_mode(0o700);
        std::fs::set_permissions(sandbox.folder.join(path), permissions).unwrap();
    };
    runs("tools/run.sh");
    let elsewhere = tempfile::tempdir().unwrap();
    let place = elsewhere.path().join("it's a, b");
    let at = |path: &str| place.join("usr").join(path);
    let set = format!("place={}", place.display());
    let put = || sandbox.run(&["run", "put", "--set", &set]);
    let mode = |path: &str| std::fs::metadata(at(path)).unwrap().permissions().mode() & 0o777;
    assert!(put().expect(0).stdout.contains("3 put, 0 as they were"));
    assert_eq!(
        ["bin/run.sh", "share/doc/keys.md", "share/doc/read me.md"].map(mode),
        [0o755, 0o600, 0o644]
    );
    assert_eq!(
        std::fs::read_to_string(at("share/tools")).unwrap(),
        "bin/run.sh\nshare/doc/keys.md\nshare/doc/read me.md\n"
    );
    assert!(put().expect(0).stdout.contains("0 put, 3 as they were"));
    // A link in a file's place is replaced, and its target is left alone; what is gone from the
    // tree goes there, too, and nothing else.
    let outside = elsewhere.path().join("outside");
    std::fs::write(&outside, "mine").unwrap();
    std::fs::remove_file(at("bin/run.sh")).unwrap();
    symlink(&outside, at("bin/run.sh")).unwrap();
    std::fs::write(at("share/doc/others"), "theirs").unwrap();
    sandbox.write("tools/more.md", "more\n");
    std::fs::remove_file(sandbox.folder.join("tools/read me.md")).unwrap();
    let said = put().expect(0).stdout;
    assert!(
        said.contains("1 removed") && said.contains("2 put, 1 as they were"),
        "{said}"
    );
    assert_eq!(std::fs::read_to_string(&outside).unwrap(), "mine");
    assert!(!at("share/doc/read me.md").exists() && at("share/doc/others").exists());
    // What cannot be meant is refused before anything is done.
    let said = sandbox
        .run(&["run", "put", "--set", "place=relative"])
        .expect(3)
        .stderr;
    assert!(
        said.contains("`relative` does not begin with `/`: say the whole path"),
        "{said}"
    );
    sandbox.write("targets.nub", &definitions.replace("\"600\"", "\"9\""));
    let said = put().expect(3).stderr;
    assert!(
        said.contains("`9` is no permission of `share/doc/keys.md`"),
        "{said}"
    );
    sandbox.write(
        "targets.nub",
        &definitions.replace("doc/keys.md\"", "doc/lost.md\""),
    );
    let said = put().expect(1).stderr;
    assert!(
        said.contains("there is no file share/doc/lost.md in the tree"),
        "{said}"
    );
    sandbox.write("targets.nub", definitions);
    // A folder is in the way, and a record leads elsewhere.
    std::fs::remove_file(at("bin/run.sh")).unwrap();
    std::fs::create_dir(at("bin/run.sh")).unwrap();
    let said = put().expect(1);
    assert!(
        said.stderr.contains("is a folder, and a file goes there"),
        "{}{}",
        said.stdout,
        said.stderr
    );
    std::fs::remove_dir(at("bin/run.sh")).unwrap();
    std::fs::write(at("share/tools"), "../../outside\n").unwrap();
    let said = put().expect(1);
    assert!(
        said.stderr
            .contains("names ../../outside, which leads elsewhere"),
        "{}",
        said.stderr
    );
    assert!(outside.exists());
}
