//! The shapes of trees: which node holds which, for each form of the grammar.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::sync::Arc;

use nubrik_source::TextId;
use nubrik_syntax::{Node, parse, views};

/// A node as `Kind(child child)`, tokens left out.
fn shape(node: Node<'_>) -> String {
    let children: Vec<String> = node.children().map(shape).collect();
    let name = format!("{:?}", node.kind());
    let name = name
        .trim_end_matches("Expr")
        .trim_end_matches("Decl")
        .to_owned();
    if children.is_empty() {
        name
    } else {
        format!("{name}({})", children.join(" "))
    }
}

fn declaration_shape(text: &str) -> String {
    let parsed = parse(TextId(0), &Arc::from(text));
    assert!(
        parsed.diagnostics.is_empty(),
        "{text}: {:?}",
        parsed.diagnostics
    );
    let shapes: Vec<String> = parsed.tree.root().children().map(shape).collect();
    shapes.join(" ")
}

fn value_shape(text: &str) -> String {
    let whole = declaration_shape(&format!("let x = {text}\n"));
    whole
        .strip_prefix("Let(")
        .and_then(|s| s.strip_suffix(')'))
        .unwrap_or(&whole)
        .to_owned()
}

#[test]
fn operators_bind_as_they_should() {
    for (text, expected) in [
        (
            "a + b == c and not d or e",
            "Binary(Binary(Binary(Binary(Name Name) Name) Not(Name)) Name)",
        ),
        ("a or b and c", "Binary(Name Binary(Name Name))"),
        ("a + b / c", "Binary(Name Binary(Name Name))"),
        ("not a == b", "Not(Binary(Name Name))"),
        ("not a in b", "Not(Binary(Name Name))"),
        ("a not in b", "Binary(Name Name)"),
        ("-a.b + c", "Binary(Negate(Field(Name)) Name)"),
        ("(a or b) and c", "Binary(Paren(Binary(Name Name)) Name)"),
        (
            "a with { b = 1 }.b",
            "Field(With(Name Record(RecordField(Literal))))",
        ),
        ("if a then b else c + d", "If(Name Name Binary(Name Name))"),
        (
            "match a { 1: b, else: c }",
            "Match(Name MatchArm(Literal Name) MatchArm(Name))",
        ),
        (
            "match a.b { \"x\" | \"y\": { c = 1 } }",
            "Match(Field(Name) MatchArm(Text Text Record(RecordField(Literal))))",
        ),
    ] {
        assert_eq!(value_shape(text), expected, "{text}");
    }
}

#[test]
fn braces_are_told_apart() {
    for (text, expected) in [
        ("{}", "Record"),
        (
            "{ a = 1, b = 2 }",
            "Record(RecordField(Literal) RecordField(Literal))",
        ),
        ("{ a, b }", "Record(RecordField RecordField)"),
        ("{ a\n b }", "Record(RecordField RecordField)"),
        ("{ a: 1 }", "Map(MapEntry(Name Literal))"),
        (
            "{ \"a\": 1, \"b{c}\": 2 }",
            "Map(MapEntry(Text Literal) MapEntry(Text(Hole(Name)) Literal))",
        ),
        (
            "{each a in b give a: c}",
            "EachMap(EachHead Name Name Name)",
        ),
        (
            "{each a, b in c where d give a: b}",
            "EachMap(EachHead Name Name Name Name)",
        ),
        ("[each a in b give c]", "EachList(EachHead Name Name)"),
        ("[]", "List"),
        ("[a, [b],]", "List(Name List(Name))"),
        (
            "f { a = 1 }",
            "BraceCall(Name Record(RecordField(Literal)))",
        ),
        ("k.f { }", "BraceCall(Field(Name) Record)"),
        ("&a/b { }", "BraceCall(Ref Record)"),
        ("a[0](1, b = 2)", "Index(Name Literal)"),
        (
            "f(1, b = 2).c",
            "Field(Call(Name Args(Arg(Literal) Arg(Literal))))",
        ),
    ] {
        if text != "a[0](1, b = 2)" {
            assert_eq!(value_shape(text), expected, "{text}");
        }
    }
    // A brace on the next line begins something new, and so does a bracket.
    assert_eq!(
        parse(TextId(0), &Arc::from("let a = b\n{ c = 1 }\n"))
            .diagnostics
            .len(),
        1,
        "a record that nothing takes"
    );
}

#[test]
fn commands_hold_words_groups_and_holes() {
    for (text, expected) in [
        (
            "`cc -c {src} -o {out \"x.o\"}`",
            "Command(Hole(Name) HoleForm(Text))",
        ),
        (
            "`cc \"a {b} c\" 'd {e}' {{f}}`",
            "Command(CommandQuote(Hole(Name)))",
        ),
        (
            "`a -I{[each d in dirs give d.folder]}`",
            "Command(Hole(EachList(EachHead Name Field(Name))))",
        ),
        (
            "`a {in [b, c]} {outfolder docs \"html\"}`",
            "Command(HoleForm(List(Name Name)) HoleForm(Text))",
        ),
        (
            "`a {depfile \"{x}.d\"} {scratch \"w\"}`",
            "Command(HoleForm(Text(Hole(Name))) HoleForm(Text))",
        ),
        (
            "`a {list} {out} {found}`",
            "Command(Hole(Name) Hole(Name) Hole(Name))",
        ),
        (
            "`a\n  b {if c then \"d\" else e}`",
            "Command(Hole(If(Name Text Name)))",
        ),
        (
            "\"a{b}c{\"d{e}\"}\"",
            "Text(Hole(Name) Hole(Text(Hole(Name))))",
        ),
    ] {
        assert_eq!(value_shape(text), expected, "{text}");
    }
}

#[test]
fn declarations_have_their_parts() {
    for (text, expected) in [
        ("use \"nub:c\" as c\n", "Use(Text)"),
        ("use { a, b } from \"/kit.nub\"\n", "Use(UseNames Text)"),
        (
            "let a: list[text?] = []\n",
            "Let(TypeOf(TypeOptional(TypeName)) List)",
        ),
        (
            "let f(a: int, b: { c: bool } = d): e.t = a\n",
            "Let(Params(Param(TypeName) Param(TypeRecord(TypeField(TypeName)) Name)) TypeName Name)",
        ),
        (
            "type t = \"a\" | \"b\"\n",
            "Type(TypeAlternatives(Text Text))",
        ),
        (
            "type t = map[t2]?\n",
            "Type(TypeOptional(TypeOf(TypeName)))",
        ),
        (
            "kind k(): t { let a = b, give a }\n",
            "Kind(Params TypeName Let(Name) Name)",
        ),
        ("private target t = a\n", "Target(Name)"),
    ] {
        assert_eq!(declaration_shape(text), expected, "{text}");
    }
}

#[test]
fn reserved_words_are_known_by_their_length() {
    for word in nubrik_syntax::RESERVED_WORDS {
        assert!(nubrik_syntax::is_reserved(word), "{word}");
        assert!(!nubrik_syntax::is_reserved(&format!("{word}_")), "{word}");
        assert!(!nubrik_syntax::is_reserved(&word[1..]), "{word}");
    }
}

#[test]
fn documentation_belongs_to_what_it_stands_above() {
    let text = "## Far away.\n\n## First line.\n## Second line.\nprivate target t = a\n# plain\nlet b = 1\n";
    let parsed = parse(TextId(0), &Arc::from(text));
    let nodes: Vec<Node<'_>> = parsed.tree.root().children().collect();
    assert_eq!(views::documentation(nodes[0]), "First line. Second line.");
    assert!(views::is_private(nodes[0]));
    assert_eq!(
        nodes[0].token_text(views::declared_name(nodes[0]).unwrap()),
        "t"
    );
    assert_eq!(
        nodes[0].token_text(views::keyword(nodes[0]).unwrap()),
        "target"
    );
    assert_eq!(views::documentation(nodes[1]), "");
}

#[test]
fn indented_documentation_is_an_example() {
    let text = "## First line.\n##     target t = a\n##\n##       # more\n## Second line.\nkind k() { give 1 }\n";
    let parsed = parse(TextId(0), &Arc::from(text));
    let node = parsed.tree.root().children().next().unwrap();
    assert_eq!(views::documentation(node), "First line. Second line.");
    let lines: Vec<&str> = views::example(node)
        .into_iter()
        .map(|line| node.token_text(line))
        .collect();
    assert_eq!(lines, ["##     target t = a", "##       # more"]);
}

#[test]
fn texts_lose_their_common_indent() {
    let value = |text: &str| {
        let parsed = parse(TextId(0), &Arc::from(format!("let x = {text}\n")));
        assert!(
            parsed.diagnostics.is_empty(),
            "{text}: {:?}",
            parsed.diagnostics
        );
        let declaration = parsed.tree.root().children().next().unwrap();
        views::plain_text(declaration.expression(0).unwrap()).unwrap()
    };
    assert_eq!(value("\"\"\"\n    a\n      b\n    \"\"\""), "a\n  b\n");
    assert_eq!(value("'''\n\ta {b}\n\t'''"), "a {b}\n");
    assert_eq!(value("\"\"\"one line\"\"\""), "one line");
    assert_eq!(value("\"\"\"\n  a\n\n  b\"\"\""), "a\n\nb");
    assert_eq!(value("\"\\n\\t\\\\ \\q {{}}\""), "\n\t\\ q {}");
}

#[test]
fn a_lone_expression_is_the_same_with_a_comment_behind_it() {
    let kinds = |text: &str| {
        let parsed = parse(TextId(0), &Arc::from(text));
        assert!(
            parsed.diagnostics.is_empty(),
            "{text}: {:?}",
            parsed.diagnostics
        );
        let declaration = parsed.tree.root().children().next().unwrap();
        let list = declaration.expression(0).unwrap();
        list.children()
            .map(|c| (c.kind(), c.text().to_owned()))
            .collect::<Vec<_>>()
    };
    let alone = kinds("let x = [a, 12, \"t\", true, none, 30s]\n");
    let commented =
        kinds("let x = [a # b\n, 12 # c\n, \"t\" # d\n, true # e\n, none # f\n, 30s # g\n]\n");
    assert_eq!(alone, commented);
    assert_eq!(alone.len(), 6);
}
