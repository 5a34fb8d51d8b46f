//! The examples of all topics that `nubrik explain` knows: definitions are evaluated and built,
//! values are evaluated, tests pass, settings are read, and commands are parsed. What an example
//! speaks of and does not declare is in [`SCENE`], and its files in `topics/scene.txt`.

use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;

use crate::sandbox::Sandbox;
use nubrik_testing::layouts::{ImageLayout, LayerEntry, LayerPacking, programs_of_machine};
use nubrik_testing::{Need, skip};

/// Names that examples use and do not declare.
const SCENE: [(&str, &str); 36] = [
    (
        "board",
        "service board = serve { run = `boardd {self.port}` }",
    ),
    ("c", "use \"nub:c\" as c"),
    ("depths", "let depths = { \"ardle\": 12 }"),
    ("flags", "let flags = [\"-O1\"]"),
    ("folders", "let folders: list[folder] = [\"src\"]"),
    ("index", "let index = glob(\"stations/*.csv\").first"),
    ("interface", "let interface = \"fit\""),
    ("line", "let line = \"a,b\""),
    ("mode", "option mode: \"debug\" | \"release\" = \"debug\""),
    ("name", "let name = \"libfit.so\""),
    ("names", "let names = [\"main.c\", \"fit\"]"),
    ("objects", "let objects = glob(\"tables/*.csv\")"),
    ("page", "let page = glob(\"stations/*.csv\").first"),
    ("pages", "let pages = glob(\"doc/*.md\")"),
    ("plain", "let plain = false"),
    ("quick", "let quick = true"),
    ("quiet", "let quiet = { level = 1 }"),
    ("release", "let release = \"v1.2\""),
    ("settings", "let settings = load_json(\"settings.json\")"),
    ("source", "let source = glob(\"tables/*.csv\").first"),
    ("sources", "let sources = glob(\"src/*.c\")"),
    ("stations", "let stations = glob(\"stations/*.csv\")"),
    ("tables", "let tables = glob(\"tables/*.csv\")"),
    (
        "tidecast",
        "target tidecast = c.program { sources = \"main.c\", flags = [\"-DMODE={mode}\"] }",
    ),
    ("title", "let title = \"12\""),
    ("width", "let width = 90"),
    ("archives", "use \"nub:archives\" as archives"),
    ("images", "use \"nub:images\" as images"),
    ("documents", "use \"nub:documents\" as documents"),
    ("files", "use \"nub:files\" as files"),
    ("fortran", "use \"nub:fortran\" as fortran"),
    ("go", "use \"nub:go\" as go"),
    ("java", "use \"nub:java\" as java"),
    ("js", "use \"nub:js\" as js"),
    ("python", "use \"nub:python\" as python"),
    ("rust", "use \"nub:rust\" as rust"),
];

/// The same in topics where the name is something else.
const OTHERWISE: [(&str, &str, &str); 6] = [
    ("{value}", "sources", "let sources = glob(\"main.c\")"),
    (
        "{scratch …}",
        "source",
        "let source = glob(\"main.c\").first",
    ),
    (
        "check",
        "tidecast",
        "let tidecast = tool { names = \"render\" }",
    ),
    (
        "each",
        "page",
        "kind page(source: text): { files: files } {\n    give { files = [write { path = source, text = \"\" }] }\n}",
    ),
    (
        "each",
        "stations",
        "let stations = [{ code = \"ardle\", table = \"ardle.txt\" }]",
    ),
    ("in", "names", "let names = [\"main.c\"]"),
];

/// Topics of which nothing can be built here, and why; their examples are evaluated.
const NOT_BUILT: [(&str, &str); 9] = [
    ("commands_of", "the expected commands are the reader's"),
    ("java.jar", "it needs an archive"),
    ("python.tests", "it needs pytest"),
    ("fetch", "its address is made up"),
    ("java.kotlin_library", "its address is made up"),
    ("python.wheel", "its address is made up"),
    ("js.typescript", "it needs the compiler's archive"),
    ("js.archive", "it needs the package's archive"),
    ("unpack", "it needs an archive"),
];

/// What a program of the examples does: it writes what it is given to write.
const PROGRAM: &str = "#!/bin/sh\n\
    for word; do case $word in\n\
    *.xml) echo '<testsuite tests=\"0\"/>' > \"$word\";;\n\
    */pages) mkdir -p \"$word\"; echo shown > \"$word/shown\";;\n\
    *.nubrik/made/*) [ -d \"$word\" ] || echo shown > \"$word\";;\n\
    esac; done\n\
    echo shown\n";

/// The programs that examples start and no machine has.
const PROGRAMS: [&str; 9] = [
    "bind",
    "render",
    "tabulate",
    "survey",
    "draw",
    "compile",
    "unfold",
    "check-types",
    "upload",
];

/// A topic with an example.
struct Topic {
    category: String,
    name: String,
    language: String,
    example: String,
}

/// All topics of the reference, which is what `nubrik explain --all` prints.
fn topics(sandbox: &Sandbox) -> Vec<Topic> {
    let reference = sandbox.run(&["explain", "--all"]).expect(0).stdout;
    let (mut category, mut name, mut language) = (String::new(), String::new(), None::<String>);
    let mut topics: Vec<Topic> = Vec::new();
    for line in reference.lines() {
        match (&language, line.split_once(' ')) {
            (Some(_), _) if line == "```" => language = None,
            (Some(_), _) => {
                let topic = topics.last_mut().unwrap();
                topic.example += line;
                topic.example.push('\n');
            }
            (None, _) if line.starts_with("```") => {
                let word = line.trim_start_matches('`').to_owned();
                topics.push(Topic {
                    category: category.clone(),
                    name: name.clone(),
                    language: word.clone(),
                    example: String::new(),
                });
                language = Some(word);
            }
            (None, Some(("##", title))) => category = title.to_owned(),
            (None, Some(("###", title))) => name = title.trim_matches('`').to_owned(),
            _ => {}
        }
    }
    topics
}

/// Whether a text has a name as a word of its own.
fn speaks_of(text: &str, name: &str) -> bool {
    let is_part = |c: char| c.is_ascii_alphanumeric() || c == '_';
    text.match_indices(name).any(|(at, _)| {
        let before = text[..at].chars().next_back();
        let after = text[at + name.len()..].chars().next();
        !before.is_some_and(|c| is_part(c) || c == '.' || c == '"' || c == '/' || c == '-')
            && !after.is_some_and(|c| is_part(c) || c == '"')
    })
}

/// Whether a text declares a name.
fn declares(text: &str, name: &str) -> bool {
    let words = [
        "let", "target", "test", "option", "kind", "type", "service", "job", "as",
    ];
    // A parameter, or a name of each item.
    let lasts = [
        format!("({name}: "),
        format!(", {name}: "),
        format!("each {name} in"),
        format!(", {name} in"),
    ];
    lasts.iter().any(|written| text.contains(written))
        || words.iter().any(|word| {
            text.match_indices(&format!("{word} {name}"))
                .any(|(at, found)| {
                    !text[at + found.len()..]
                        .starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_')
                })
        })
}

/// The definitions of a package that an example makes.
fn definitions(topic: &Topic) -> String {
    let example = topic.example.trim_end();
    let declaring = [
        "use ", "let ", "type ", "kind ", "option ", "target ", "test ", "job ", "service ",
        "private ", "#",
    ];
    let used = if declaring.iter().any(|word| example.starts_with(word)) {
        example.to_owned()
    } else if example.starts_with('`') {
        match example.contains("{out") || example.contains("{early") {
            true => format!("target shown = step {{ run = {example} }}"),
            false => format!("test shown = check {{ run = {example} }}"),
        }
    } else if example.starts_with("step ") {
        format!("target shown = {example}")
    } else {
        format!("let shown = {example}")
    };
    // What needs a name of its own is in a kind.
    let mut text = if speaks_of(example, "self") && example.starts_with("let ")
        || example.contains("(self.folder)")
    {
        format!("kind frame(): {{ files: files }} {{\n{used}\ngive {{ files = [] }}\n}}\n")
    } else {
        used
    };
    // A value is evaluated where something asks for it.
    let values: Vec<&str> = (text.lines())
        .filter_map(|line| line.trim_start_matches("private ").strip_prefix("let "))
        .filter(|rest| !rest.split(['=', ':']).next().unwrap().contains('('))
        .filter_map(|rest| rest.split([' ', ':']).next())
        .collect();
    let asked: String = values
        .iter()
        .map(|value| format!("target seen_{value} = write {{ path = \"{value}.txt\", text = if {value} == none then \"no\" else \"yes\" }}\n"))
        .collect();
    if text.starts_with("kind frame") {
        let value = values.first().unwrap();
        text = text.replace(
            "files = [] }",
            &format!("files = if {value} == none then [] else [] }}"),
        );
        text += "target seen = frame { }\n";
    } else {
        text = format!("{text}\n{asked}");
    }
    // What the example speaks of, and what that speaks of.
    loop {
        let name = topic.name.as_str();
        let missing = SCENE
            .iter()
            .find(|(word, _)| speaks_of(&text, word) && !declares(&text, word));
        let Some((word, usual)) = missing else {
            return text;
        };
        let other = OTHERWISE
            .iter()
            .find(|(of, other, _)| *of == name && other == word);
        let line = other.map_or(*usual, |(_, _, line)| line);
        let private = if line.starts_with("use ") {
            ""
        } else {
            "private "
        };
        text = format!("{private}{line}\n{text}");
    }
}

/// Files of the scene: paths with their texts.
fn scene() -> BTreeMap<String, String> {
    let mut files: BTreeMap<String, String> = BTreeMap::new();
    let mut at = String::new();
    for line in include_str!("../topics/scene.txt").lines() {
        match line.strip_prefix("=== ") {
            Some(path) => {
                at = path.to_owned();
                files.insert(at.clone(), String::new());
            }
            None => {
                let text = files.get_mut(&at).unwrap();
                text.push_str(line);
                text.push('\n');
            }
        }
    }
    files
}

/// Puts an image with the programs of a shell into a folder, as an archive.
fn image(folder: &std::path::Path) {
    let programs = programs_of_machine(&["sh", "ls", "cat"]);
    let entries: Vec<LayerEntry<'_>> = programs
        .iter()
        .map(|(path, content)| LayerEntry::File(path, 0o755, content))
        .collect();
    let layout = folder.join("layout");
    ImageLayout::of(&[&entries], LayerPacking::Plain).write(&layout);
    let mut tar = tar::Builder::new(std::fs::File::create(folder.join("base.tar")).unwrap());
    tar.append_dir_all(".", &layout).unwrap();
    tar.into_inner().unwrap();
}

#[test]
fn each_topic_has_an_example_that_holds() {
    let sandbox = Sandbox::new(&[]);
    let topics = topics(&sandbox);
    let programs = sandbox.folder.parent().unwrap().join("programs");
    std::fs::create_dir(&programs).unwrap();
    for name in PROGRAMS {
        std::fs::write(programs.join(name), PROGRAM).unwrap();
        std::fs::set_permissions(programs.join(name), std::fs::Permissions::from_mode(0o755))
            .unwrap();
    }
    sandbox.write(
        "kit/flags.nub",
        "let ours = [\"-O1\"]\nlet strict = [\"-Wall\"]\n",
    );
    sandbox.write(
        "base/targets.nub",
        "use \"nub:c\" as c\ntarget clock = c.library { sources = \"*.c\" }\n",
    );
    sandbox.write("base/clock.c", "int clock_now(void) { return 7; }\n");
    sandbox.write(
        "tide/targets.nub",
        "target harmonics = write { path = \"h\", text = \"\" }\n",
    );
    let scene = scene();
    for (number, topic) in topics.iter().enumerate() {
        let is_pinned = topic.example.contains("`nubrik pins add") || topic.name == "pins_of";
        if topic.language != "nub" || topic.category == "Errors" || is_pinned {
            continue;
        }
        let folder = format!("examples/{number:03}");
        for (path, text) in &scene {
            sandbox.write(&format!("{folder}/{path}"), text);
        }
        if topic.example.contains("images/base.tar") {
            image(&sandbox.folder.join(&folder).join("images"));
        }
        sandbox.write(
            &format!("{folder}/targets.nub"),
            &format!("# {}\n{}", topic.name, definitions(topic)),
        );
    }
    let path = format!("{}:{}", programs.display(), std::env::var("PATH").unwrap());
    let home = std::env::var("HOME").unwrap();
    let rustup = std::env::var("RUSTUP_HOME").unwrap_or_else(|_| format!("{home}/.rustup"));
    let run = |args: &[&str]| {
        sandbox.run_with(
            args,
            &[
                ("PATH", &path),
                ("ALMANAC_HOST", "isles.example"),
                ("RUSTUP_HOME", &rustup),
            ],
        )
    };
    // A topic by the folder of its package, and what is wrong with it.
    let mut wrong: Vec<String> = Vec::new();
    for args in [
        ["lint", "--plain"],
        ["build", "--plain"],
        ["test", "--plain"],
    ] {
        let args = if args[0] == "lint" {
            args.to_vec()
        } else {
            [&args[..], &["-k"]].concat()
        };
        let ended = run(&args);
        for line in ended.stdout.lines().chain(ended.stderr.lines()) {
            let Some((place, problem)) = line.split_once(": error: ") else {
                continue;
            };
            let number = place
                .strip_prefix("examples/")
                .and_then(|rest| rest.get(..3)?.parse::<usize>().ok());
            let Some(topic) = number.map(|number| &topics[number]) else {
                wrong.push(format!("{place}: {problem}"));
                continue;
            };
            let is_evaluated = !problem.starts_with("examples/");
            if NOT_BUILT.iter().any(|(name, _)| *name == topic.name) && !is_evaluated {
                continue;
            }
            if ["the machine has no ", "there is no tool "]
                .iter()
                .any(|lack| problem.contains(lack))
            {
                skip(Need::Kits, format_args!("{}: {problem}", topic.name));
                continue;
            }
            wrong.push(format!(
                "{}, {args:?}: {problem}\n{}",
                topic.name, topic.example
            ));
        }
    }
    assert_eq!(wrong, Vec::<String>::new(), "{}", wrong.join("\n"));
}

#[test]
fn settings_and_commands_of_topics_are_understood() {
    let sandbox = Sandbox::new(&[]);
    sandbox.write(
        "targets.nub",
        "option mode: \"debug\" | \"release\" = \"debug\"\n",
    );
    for topic in topics(&sandbox)
        .iter()
        .filter(|topic| topic.language == "toml")
    {
        sandbox.write("nubrik.toml", &topic.example);
        let read = sandbox.run(&["options"]);
        assert_eq!(
            read.code, 0,
            "{}: {}{}",
            topic.name, read.stdout, read.stderr
        );
    }
    // A command is understood where only what it works on is missing.
    for topic in topics(&sandbox)
        .iter()
        .filter(|topic| topic.language == "sh")
    {
        for line in topic
            .example
            .lines()
            .filter(|line| line.starts_with("nubrik "))
        {
            let words: Vec<&str> = line
                .split(" # ")
                .next()
                .unwrap()
                .split_whitespace()
                .skip(1)
                .collect();
            let words: Vec<&str> = words
                .into_iter()
                .filter(|word| !word.starts_with('#'))
                .collect();
            let help = sandbox.run(&[&words[..], &["--help"]].concat());
            assert_eq!(help.code, 0, "{line}: {}", help.stderr);
        }
    }
}

#[test]
fn all_topics_have_examples() {
    let sandbox = Sandbox::new(&[]);
    let reference = sandbox.run(&["explain", "--all"]).expect(0).stdout;
    let sections: Vec<&str> = reference.split("\n### ").skip(1).collect();
    let without = sections.iter().filter(|section| !section.contains("```"));
    let names: Vec<&str> = without
        .filter_map(|section| section.lines().next())
        .collect();
    assert_eq!(names, Vec::<&str>::new());
}
