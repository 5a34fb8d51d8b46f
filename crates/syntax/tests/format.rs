//! The formatter moves white space only, results in rest at once, and leaves good files alone.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::sync::Arc;

use nubrik_source::Sources;
use nubrik_syntax::format;

fn formatted(text: &str) -> String {
    let text: Arc<str> = text.into();
    let file = Sources::default().add("x.nub", text.clone());
    format(file, &text).unwrap()
}

#[test]
fn tidies() {
    let untidy = "use   \"nub:c\" as c\n\n\n\nuse {strict,   other} from \"/kit/flags.nub\"\n\
        ##   Fits.\n\
        target harmonics=c.library{\n  sources=\"src/*.c\"  # all\n\t\theaders = glob( \"include/*.h\" )   ## these\n flags=strict+[ \"-g\" , ]\n      }\n\
        let a:list[ text ]=[\n\"x\",\n       [ 1,2 ]\n]\n\
        let f( a : int ,b:text = \"q\" ) : text= if a==1 then \"x\"\n else \"y\"\n\
        let m = { \"a\":1,\n\"longer\" :2 }\n\
        target p = {each s in x give   s.stem:step {run=`tool  {s}\n   --more   {out \"x\"}`}}\n\
        let n = -  1\nlet t = {  }\nlet o = m[ \"a\" ] . len\n";
    let tidy = r#"use "nub:c" as c

use { strict, other } from "/kit/flags.nub"
##   Fits.
target harmonics = c.library {
    sources = "src/*.c"  # all
    headers = glob("include/*.h")   ## these
    flags = strict + ["-g",]
}
let a: list[text] = [
    "x",
    [1, 2]
]
let f(a: int, b: text = "q"): text = if a == 1 then "x"
    else "y"
let m = { "a": 1,
    "longer": 2 }
target p = {each s in x give s.stem: step { run = `tool {s}
    --more {out "x"}` }}
let n = -1
let t = {}
let o = m["a"].len
"#;
    let once = formatted(untidy);
    assert_eq!(once, tidy, "\n{once}");
    assert_eq!(formatted(&once), once);
}

#[test]
fn a_renamed_field_changes_no_line_but_its_own() {
    let text = |name: &str| {
        format!(
            "let a = {{\n    {name} = 1  # one\n    say = 2    # two\n}}\nlet m = {{\n    \"{name}\": 1\n    \"say\": 2\n}}\n"
        )
    };
    for name in ["x", "a_longer_name"] {
        assert_eq!(formatted(&text(name)), text(name));
    }
}

#[test]
fn comments_stay_as_far_from_the_text_as_they_were_but_not_nearer_than_two_spaces() {
    assert_eq!(
        formatted("let a = 1 # x\nlet bc = 2\t\t# y\nlet d = 3      # z\n"),
        "let a = 1  # x\nlet bc = 2  # y\nlet d = 3      # z\n"
    );
}

#[test]
fn texts_and_shells_keep_every_byte() {
    for text in [
        "let a = \"\"\"\n        x\n      y\n    \"\"\"\n",
        "let a = '  two   spaces '\n",
        "target s = step { run = sh`for f in a;  do\n  echo   $f\ndone > {out \"x\"}` }\n",
    ] {
        assert_eq!(formatted(text), text);
    }
}

#[test]
fn quoted_words_keep_the_space_at_the_end_of_their_lines() {
    let text = "target a = step { run = `x 'one  \n  two' {out \"x\"}` }\n";
    assert_eq!(formatted(text), text);
    let text =
        "target a = step {\n    run = `x\n        'one  \n  two  \n'\n        {out \"x\"}`\n}\n";
    assert_eq!(formatted(text), text);
}

#[test]
fn a_carriage_return_inside_a_text_stays() {
    let text = "let a = \"one\r}two\"\n";
    assert_eq!(formatted(text), text);
}

#[test]
fn own_files_are_tidy() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut folders = vec![root.join("kits"), root.join("demo"), root.join("trials")];
    let mut seen = 0;
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|e| e == "nub") {
                let text = std::fs::read_to_string(&path).unwrap();
                assert_eq!(formatted(&text), text, "{}", path.display());
                seen += 1;
            }
        }
    }
    assert!(seen > 5);
}

#[test]
fn line_ends_and_marks_of_other_systems_go() {
    assert_eq!(
        formatted("let a = 1\r\nlet b = `x\r\n  y {out \"z\"}`\r\n"),
        "let a = 1\nlet b = `x\n    y {out \"z\"}`\n"
    );
}

#[test]
fn what_cannot_be_read_is_not_touched() {
    let text: Arc<str> = "let a = (\n".into();
    let file = Sources::default().add("x.nub", text.clone());
    assert!(format(file, &text).is_err());
}

#[test]
fn meaning_stays_for_every_declaration_of_the_examples() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../lang/tests/examples");
    let mut formatted_some = 0;
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        for line in std::fs::read_to_string(entry.path()).unwrap().lines() {
            let text: Arc<str> = format!("{line}\n").into();
            let file = Sources::default().add("x.nub", text.clone());
            // A change of meaning panics in debug builds.
            if let Ok(once) = format(file, &text) {
                assert_eq!(formatted(&once), once);
                formatted_some += 1;
            }
        }
    }
    assert!(formatted_some > 200);
}
