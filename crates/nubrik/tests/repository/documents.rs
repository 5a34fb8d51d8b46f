//! What the documents show is true: every definition in them is in the usual form, and evaluates to
//! what it should in a workspace that has what it takes for granted.

use std::fs;
use std::path::Path;
use std::sync::Arc;

use crate::sandbox::Sandbox;
use nubrik_source::Sources;

/// Blocks of a page between lines of three backticks with this word.
fn blocks(page: &str, language: &str) -> Vec<String> {
    let mut blocks = Vec::new();
    let mut open: Option<String> = None;
    for line in page.lines() {
        match (&mut open, line.strip_prefix("```")) {
            (None, Some(word)) => open = (word == language).then(String::new).or(Some("\0".into())),
            (Some(_), Some(_)) => blocks.extend(open.take().filter(|b| !b.starts_with('\0'))),
            (Some(block), None) => {
                block.push_str(line);
                block.push('\n');
            }
            (None, None) => {}
        }
    }
    blocks
}

#[test]
fn definitions_in_documents_can_be_read_and_are_tidy() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    for page in [
        "README.md",
        "docs/language.md",
        "docs/kits.md",
        "docs/handbook.md",
    ] {
        let text = std::fs::read_to_string(root.join(page)).unwrap();
        let blocks = blocks(&text, "nub");
        assert!(!blocks.is_empty(), "{page}");
        for block in blocks {
            let text: Arc<str> = block.as_str().into();
            let file = Sources::default().add(page, text.clone());
            match nubrik_syntax::format(file, &text) {
                Ok(tidy) => assert_eq!(tidy, block, "{page}"),
                Err(problems) => panic!("{page}: {}\n{block}", problems[0].message),
            }
        }
    }
}

/// A rule that moved is one that nobody changes any more, and then its test may be gone unnoticed.
#[test]
fn each_rule_in_the_table_of_changes_is_where_the_table_says() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let table = fs::read_to_string(root.join("scripts/mutants.tsv")).unwrap();
    let rows = table
        .lines()
        .filter(|line| !line.is_empty() && !line.starts_with('#'));
    for row in rows.map(|row| row.split('\t').collect::<Vec<_>>()) {
        assert_eq!(row.len(), 5, "{row:?}");
        let text = fs::read_to_string(root.join("crates").join(row[1])).unwrap_or_default();
        assert_eq!(text.matches(row[2]).count(), 1, "{}: {}", row[1], row[0]);
    }
}

#[test]
fn examples_of_forms_can_be_read() {
    for topic in nubrik_lang::topics::topics() {
        if !["form", "function", "declaration", "type"].contains(&topic.category) {
            continue;
        }
        let text: Arc<str> = format!("{}\n", topic.example).into();
        let file = Sources::default().add(&topic.name, text.clone());
        let parsed = nubrik_syntax::parse(file, &text);
        assert!(
            parsed.diagnostics.is_empty(),
            "{}: {:?}",
            topic.name,
            parsed.diagnostics
        );
    }
}

/// Files that examples take for granted.
const FILES: [(&str, &str); 23] = [
    ("office/get.py", ""),
    ("checks/midnight.c", "int main(void) { return 0; }\n"),
    ("list_codes.sh", "echo codes\n"),
    ("main.c", "int main(void) { return 0; }\n"),
    ("doc/guide.md", "# Guide\n"),
    ("tables/depths.csv", "code,depth\nardle,7\n"),
    ("stations/ardle.csv", "0,1\n"),
    (
        "stations.csv",
        "code,name,height,kind,note\nardle,Ardle,7,gauge,\n",
    ),
    ("almanac.toml", "[charts]\ndepth = 7\n"),
    ("old/charts.zip", ""),
    ("probes/hypot.c", "int main(void) { return 0; }\n"),
    ("REVISION", "1\n"),
    ("src/highwater.c", "int main(void) { return 0; }\n"),
    ("src/tide.h", ""),
    ("base/clock/clock.c", ""),
    ("base/clock/clock.h", ""),
    ("pages/stations.csv", "code,name,height\nardle,Ardle,7\n"),
    ("codes/make.sh", ""),
    ("codes/show.c", "int main(void) { return 0; }\n"),
    ("config/hypot.c", "int main(void) { return 0; }\n"),
    ("kit/flags.nub", "let strict: list[text] = []\n"),
    ("page.sh", ""),
    ("draw_server.sh", ""),
];

/// Declarations that examples take for granted, where they do not make them themselves.
const DECLARATIONS: [(&str, &str); 4] = [
    ("c", "use \"nub:c\" as c"),
    ("list_codes", "let list_codes: file = \"list_codes.sh\""),
    ("stations", "let stations = glob(\"stations/*.csv\")"),
    (
        "tidecast",
        "target tidecast = write { path = \"tidecast\", text = \"\", executable = true }",
    ),
];

/// An example with what it takes for granted.
fn completed(block: &str) -> String {
    let declares = |name: &str| {
        block.lines().any(|line| {
            ["let", "target", "option", "type"]
                .iter()
                .any(|word| line.starts_with(&format!("{word} {name} ")))
                || line.ends_with(&format!(" as {name}"))
        })
    };
    let uses = |name: &str| {
        block.contains(&format!("{name}."))
            || block.contains(&format!("{{{name}}}"))
            || block.contains(&format!(" {name} "))
    };
    let missing = DECLARATIONS
        .iter()
        .filter(|(name, _)| uses(name) && !declares(name));
    let mut text: String = missing.map(|(_, line)| format!("{line}\n")).collect();
    text.push_str(block);
    text
}

fn evaluates(sandbox: &Sandbox, what: &str) {
    let run = sandbox.run(&["list", "--plain"]);
    assert_eq!(run.code, 0, "{what}\n{}{}", run.stdout, run.stderr);
}

#[test]
fn definitions_in_the_pages_evaluate() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    for page in ["README.md", "docs/language.md"] {
        let text = std::fs::read_to_string(root.join(page)).unwrap();
        for block in blocks(&text, "nub") {
            let sandbox = Sandbox::new(&FILES);
            let text = completed(&block);
            sandbox.write(
                "targets.nub",
                &format!("{text}target ends_here = write {{ path = \"x\", text = \"\" }}\n"),
            );
            evaluates(&sandbox, &format!("{page}:\n{text}"));
        }
    }
}

#[test]
fn the_language_page_names_each_method() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let page = std::fs::read_to_string(root.join("docs/language.md")).unwrap();
    let rows: String = page.lines().filter(|line| line.starts_with('|')).collect();
    for topic in nubrik_lang::topics::topics()
        .iter()
        .filter(|topic| topic.category == "method")
    {
        let named = [format!("`{}`", topic.name), format!("`{}(", topic.name)];
        assert!(
            named.iter().any(|name| rows.contains(name)),
            "{}",
            topic.name
        );
    }
}

#[test]
fn fields_that_messages_say_to_set_are_there() {
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("../engine/src/failures.rs");
    let source = fs::read_to_string(source).unwrap();
    let fields: Vec<&str> = source
        .split("set `")
        .skip(1)
        .filter_map(|rest| rest.split('`').next())
        .collect();
    assert!(!fields.is_empty());
    let known = |name: &str| {
        nubrik_lang::builtins::forms().any(|form| form.fields.iter().any(|f| f.name == name))
    };
    for field in fields {
        assert!(known(field), "`{field}`");
    }
}

#[test]
fn the_formats_page_names_the_versions_that_are_written() {
    let page =
        fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats.md"))
            .unwrap();
    let state = String::from_utf8(nubrik_engine::State::MAGIC.to_vec()).unwrap();
    for words in [
        format!("## Step key, version {}", nubrik_engine::KEY_VERSION),
        format!("`{state}`"),
    ] {
        assert!(
            page.contains(&words),
            "docs/formats.md does not say {words}"
        );
    }
}
