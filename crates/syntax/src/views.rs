//! Typed views: what the parts of a declaration or form are called.

use std::borrow::Cow;

use crate::SyntaxKind::*;
use crate::{Node, Token};

/// Spaces after `##` with which a line of an example begins.
const EXAMPLE_INDENT: &str = "    ";

/// `##` comments directly above a declaration (or on a parameter's line), joined by spaces, without
/// its example.
pub fn documentation(node: Node<'_>) -> String {
    let prose = documenting(node)
        .into_iter()
        .map(|token| node.token_text(token).trim_start_matches('#'));
    let prose: Vec<&str> = prose
        .filter(|line| !line.starts_with(EXAMPLE_INDENT))
        .map(str::trim)
        .collect();
    prose
        .iter()
        .filter(|line| !line.is_empty())
        .copied()
        .collect::<Vec<_>>()
        .join(" ")
}

/// The lines of the example in the documentation of a declaration: those that are indented by four
/// spaces or more.
pub fn example(node: Node<'_>) -> Vec<Token> {
    let is_example = |token: &Token| {
        node.token_text(*token)
            .strip_prefix("##")
            .is_some_and(|line| line.starts_with(EXAMPLE_INDENT))
    };
    documenting(node).into_iter().filter(is_example).collect()
}

/// The `##` comments directly above a declaration.
fn documenting(node: Node<'_>) -> Vec<Token> {
    let mut lines: Vec<Token> = Vec::new();
    let mut blank_lines = 0;
    for token in node.tokens() {
        match token.kind {
            DocComment => {
                lines.push(token);
                blank_lines = 0;
            }
            Newline => {
                blank_lines += 1;
                // A comment with an empty line below it belongs to nothing.
                if blank_lines > 1 {
                    lines.clear();
                }
            }
            Comment => {}
            _ => break,
        }
    }
    lines
}

/// The first word of a declaration: `let`, `target`, …, after `private`.
pub fn keyword(node: Node<'_>) -> Option<Token> {
    node.words().find(|w| node.token_text(*w) != "private")
}

/// Whether `private` is before a declaration.
pub fn is_private(node: Node<'_>) -> bool {
    node.words()
        .next()
        .is_some_and(|w| node.token_text(w) == "private")
}

/// The name that a declaration declares; for `use "…" as name` that name.
pub fn declared_name(node: Node<'_>) -> Option<Token> {
    let skip = usize::from(is_private(node));
    let mut words = node.words().skip(skip + 1);
    if node.kind() == UseDecl {
        return words.find(|w| !matches!(node.token_text(*w), "as" | "from"));
    }
    words.next()
}

/// The texts of `within "…", "…"` after a declaration's name, as nodes.
pub fn within_texts(node: Node<'_>) -> Vec<Node<'_>> {
    let clauses = node.children().filter(|c| c.kind() == WithinClause);
    clauses
        .flat_map(|c| {
            c.children()
                .filter(|t| t.kind() == TextExpr)
                .collect::<Vec<_>>()
        })
        .collect()
}

/// The tags of `tagged slow, nightly` after a declaration's name.
pub fn tags(node: Node<'_>) -> Vec<Token> {
    let clauses = node.children().filter(|c| c.kind() == TaggedClause);
    clauses
        .flat_map(|c| c.words().skip(1).collect::<Vec<_>>())
        .collect()
}

/// The names in `use { a, b } from …`.
pub fn used_names(node: Node<'_>) -> Vec<Token> {
    node.child(UseNames)
        .map(|names| names.words().collect())
        .unwrap_or_default()
}

/// The text of a text without holes, with its escapes resolved; `None` when it has holes.
pub fn plain_text(node: Node<'_>) -> Option<String> {
    if node.kind() != TextExpr || node.children().next().is_some() {
        return None;
    }
    if let Some(text) = simple_text(node) {
        return Some(text.to_owned());
    }
    let mut parts = text_parts(node);
    match (parts.pop(), parts.is_empty()) {
        (None, _) => Some(String::new()),
        (Some(TextPiece::Literal(text)), true) => Some(text.into_owned()),
        _ => None,
    }
}

/// What is in a text on one line with neither holes nor escapes; nearly all are such.
pub fn simple_text(node: Node<'_>) -> Option<&str> {
    let mut elements = node.elements();
    let (open, inside) = (elements.next()?, elements.next()?);
    let crate::Element::Token(open) = open else {
        return None;
    };
    if open.end - open.start != 1 {
        return None;
    }
    match (inside, elements.next(), elements.next()) {
        (crate::Element::Token(close), None, None) if close.kind == TextClose => Some(""),
        (crate::Element::Token(part), Some(crate::Element::Token(close)), None)
            if (part.kind, close.kind) == (TextPart, TextClose) =>
        {
            Some(node.token_text(part))
        }
        _ => None,
    }
}

/// A part of a text.
pub enum TextPiece<'t> {
    /// Characters.
    Literal(Cow<'t, str>),
    /// A hole: a [`Hole`](crate::SyntaxKind::Hole) or
    /// [`HoleForm`](crate::SyntaxKind::HoleForm) node.
    Hole(Node<'t>),
}

/// The parts of a text with escapes resolved, neighbouring literals joined, and (between three
/// quotes) the common indent of its lines dropped.
pub fn text_parts(node: Node<'_>) -> Vec<TextPiece<'_>> {
    let opening = node.token(TextOpen).map_or("\"", |t| node.token_text(t));
    let long = opening.len() == 3;
    // All elements but the quotes.
    let mut parts: Vec<TextPiece<'_>> = Vec::with_capacity(node.elements().len().saturating_sub(2));
    // Which parts were written as escapes: white space in them is no indent.
    let mut escaped: Vec<bool> = Vec::new();
    for element in node.elements() {
        let (part, is_escape) = match element {
            crate::Element::Node(id) => (TextPiece::Hole(node.node(id)), false),
            crate::Element::Token(token) => match token.kind {
                TextPart => (TextPiece::Literal(node.token_text(token).into()), false),
                TextEscape => (
                    TextPiece::Literal(unescape(node.token_text(token)).into()),
                    true,
                ),
                _ => continue,
            },
        };
        parts.push(part);
        if long {
            escaped.push(is_escape);
        }
    }
    if long {
        drop_indent(&mut parts, &escaped);
    }
    let joined = parts
        .iter()
        .zip(parts.iter().skip(1))
        .any(|pair| matches!(pair, (TextPiece::Literal(_), TextPiece::Literal(_))));
    if joined {
        join_literals(parts)
    } else {
        without_empty(parts)
    }
}

/// Parts with neighbouring characters put together.
fn join_literals(parts: Vec<TextPiece<'_>>) -> Vec<TextPiece<'_>> {
    let mut joined: Vec<TextPiece<'_>> = Vec::with_capacity(parts.len());
    for part in without_empty(parts) {
        match (joined.last_mut(), part) {
            (Some(TextPiece::Literal(before)), TextPiece::Literal(text)) => {
                before.to_mut().push_str(&text)
            }
            (_, part) => joined.push(part),
        }
    }
    joined
}

fn without_empty(mut parts: Vec<TextPiece<'_>>) -> Vec<TextPiece<'_>> {
    parts.retain(|part| !matches!(part, TextPiece::Literal(text) if text.is_empty()));
    parts
}

/// What an escape such as `\n` or `{{` represents; an unknown one represents its character.
pub fn unescape(text: &str) -> String {
    match text {
        "{{" => "{".to_owned(),
        "}}" => "}".to_owned(),
        "\\n" => "\n".to_owned(),
        "\\t" => "\t".to_owned(),
        "\\r" => "\r".to_owned(),
        _ => text
            .trim_start_matches('\\')
            .chars()
            .next()
            .map_or("\\".to_owned(), |c| c.to_string()),
    }
}

/// Drops the line end after the opening quotes, the last line's indent, and the common indent.
fn drop_indent(parts: &mut [TextPiece<'_>], escaped: &[bool]) {
    let mut indent: Option<usize> = None;
    let count = parts.len();
    for (i, part) in parts.iter().enumerate() {
        let TextPiece::Literal(text) = part else {
            continue;
        };
        if escaped[i] {
            continue;
        }
        for (n, line) in text.split('\n').enumerate().skip(1) {
            let blank = line.trim().is_empty();
            let ends_here = n == text.split('\n').count() - 1;
            if blank && !(ends_here && i + 1 < count) && !(ends_here && i + 1 == count) {
                continue;
            }
            let width = line.len() - line.trim_start_matches([' ', '\t']).len();
            indent = Some(indent.map_or(width, |w| w.min(width)));
        }
    }
    let indent = indent.unwrap_or(0);
    for (i, part) in parts.iter_mut().enumerate() {
        let TextPiece::Literal(text) = part else {
            continue;
        };
        if escaped[i] {
            continue;
        }
        let mut lines = text.split('\n');
        let mut out = lines.next().unwrap_or("").to_owned();
        for line in lines {
            out.push('\n');
            let blank = line.len() - line.trim_start_matches([' ', '\t']).len();
            out.push_str(&line[indent.min(blank)..]);
        }
        if i == 0 {
            let first = out.trim_start_matches([' ', '\t', '\r']);
            if let Some(rest) = first.strip_prefix('\n') {
                out = rest.to_owned();
            }
        }
        *text = out.into();
    }
}
