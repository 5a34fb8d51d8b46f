//! Any text parses to a tree that prints as the text, without panic.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::sync::Arc;

use nubrik_source::TextId;
use nubrik_syntax::{Element, Node, parse};
use proptest::prelude::*;

/// What may be between two tokens.
fn is_space(text: &str) -> bool {
    text.trim_start_matches('\u{feff}')
        .chars()
        .all(|c| c == ' ' || c == '\t')
}

/// Each token is in one node, in the order of the text, and nothing but white space between them.
/// Returns where the last one ends.
fn check_order(text: &str, node: Node<'_>, mut at: u32) -> u32 {
    for element in node.elements() {
        match element {
            Element::Node(id) => at = check_order(text, node.node(id), at),
            Element::Token(token) => {
                let gap = &text[at as usize..token.start as usize];
                assert!(is_space(gap), "no token holds {gap:?}");
                at = token.end;
            }
        }
    }
    at
}

fn check(text: &str) {
    let text: Arc<str> = text.into();
    let parse = parse(TextId(0), &text);
    assert_eq!(parse.tree.print(), &*text);
    let end = check_order(&text, parse.tree.root(), 0);
    assert!(
        is_space(&text[end as usize..]),
        "no token holds {:?}",
        &text[end as usize..]
    );
    for diagnostic in parse.diagnostics {
        let span = diagnostic.span.expect("a syntax error has a place");
        assert!(span.start <= span.end && span.end as usize <= text.len());
    }
}

/// Pieces of Nub, so that random texts reach deep into the grammar.
const PIECES: &[&str] = &[
    "let ",
    "target ",
    "kind ",
    "use ",
    "type ",
    "private ",
    "give ",
    "each ",
    "in ",
    "where ",
    "if ",
    "then ",
    "else ",
    "match ",
    "and ",
    "or ",
    "not ",
    "with ",
    "under ",
    "none",
    "true",
    "a",
    "b_c",
    "12",
    "30s",
    "\"",
    "'",
    "\"\"\"",
    "`",
    "{",
    "}",
    "(",
    ")",
    "[",
    "]",
    "=",
    "==",
    ":",
    ",",
    ".",
    "+",
    "-",
    "/",
    "|",
    "?",
    "&a/b",
    "&",
    " ",
    "\n",
    "\r\n",
    "\t",
    "# c",
    "## d\n",
    "{out \"x\"}",
    "{in \"y\"}",
    "2>",
    "<",
    ">",
    "$X",
    "&&",
    ";",
    "*",
    "\\",
    "ä",
    "\u{0}",
    "step ",
    "{{",
    "}}",
    "x = ",
    "from ",
    "as ",
];

proptest! {
    #![proptest_config(ProptestConfig { cases: 2000, failure_persistence: None, ..Default::default() })]

    #[test]
    fn pieces_print_back(pieces in prop::collection::vec(prop::sample::select(PIECES), 0..60)) {
        check(&pieces.concat());
    }

    #[test]
    fn any_text_prints_back(text in any::<String>()) {
        check(&text);
    }
}

#[test]
fn deep_nesting_is_an_error() {
    for open in [
        "[", "(", "{a=", "not ", "-", "\"{", "`{", "if ", "list[", "a.",
    ] {
        let text = format!("let a = {}", open.repeat(20_000));
        check(&text);
    }
    check(&format!("let a: {}", "list[".repeat(20_000)));
}

#[test]
fn one_mistake_gives_one_error() {
    for (text, message) in [
        ("let a = \"x\nlet b = 1\n", "this text is never closed"),
        (
            "let a = `cc {x -o y`\nlet b = 1\n",
            "expected `}`, found `-`",
        ),
        (
            "let a = `cc -c\nlet b = 1\n",
            "this command is never closed",
        ),
        (
            "target a = step {\n  say = \"x\"\ntarget b = 1\n",
            "this `{` is never closed",
        ),
        (
            "let a = [\"x\", \"y]\nlet b = 1\n",
            "this text is never closed",
        ),
        ("let a = [1, 2\nlet b = 1\n", "this `[` is never closed"),
        ("lett a = 1\nlet b = 2\n", "expected a declaration"),
        ("let a = }\nlet b = 2\n", "expected a value, found `}`"),
        ("let a = `x && y`\n", "`&&` means something only to a shell"),
        (
            "let a = { x = 1 y = 2 }\n",
            "expected `,` or the end of the line, found `y`",
        ),
        ("let a = \"{x\"\nlet b = 2\n", "this hole is never closed"),
        (
            "let a = [\n  `x {out \"a\"}`\n  `y`, 3\n]\nlet b = 1\n",
            "expected `,` between two items",
        ),
        (
            "let a = f(\"{b,c}/d\")\nlet e = 1\n",
            "`{` begins a hole here",
        ),
        ("let a = f(1 2)\n", "expected `,` between two items"),
    ] {
        let parse = parse(TextId(0), &Arc::from(text));
        let messages: Vec<_> = parse
            .diagnostics
            .iter()
            .map(|d| d.message.as_str())
            .collect();
        assert_eq!(messages, [message], "{text}");
    }
}

#[test]
fn white_space_does_not_matter_inside_forms() {
    for text in [
        "let a =\n  [1,\n2]\n  + [3]\nlet b = a\n  .len\n",
        "target x = step {\nrun = `cc\n-c x`,\nsay = 'x'\n}\n",
        "kind k(\na: int\n) {\nlet b = a\ngive b\n}\n",
        "let a = if x\nthen 1\nelse 2\n",
        "let a = [each x in y\nwhere x\ngive x]\n",
        "let m = match v { \"a\": 1, else: 2 }\n",
        "let a = { target = 1, test = 2 }\nlet b = a.target\n",
        "let t = \"\"\"\n    a\n      {x}\n    \"\"\"\n",
        "let f(a: text = \"x\", b: list[text] = []): text? = a\n",
        "let x = not a in b and c not in d or e < 3\n",
    ] {
        let parse = parse(TextId(0), &Arc::from(text));
        assert!(
            parse.diagnostics.is_empty(),
            "{text}: {:?}",
            parse.diagnostics
        );
    }
}
