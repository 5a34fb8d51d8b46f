//! Lists, records, maps, and `each`.

use nubrik_diagnostic::Diagnostic;

use super::declarations::{close, end_of_item, new_name, skip_lines_and_commas};
use super::expressions::expression;
use crate::SyntaxKind::{self, *};
use crate::lexer::is_reserved;
use crate::parser::Parser;

pub(super) fn list(p: &mut Parser) {
    let mark = p.mark();
    let open = p.next_span();
    p.take();
    let kind = p.with_lines(false, |p| {
        let allowed = p.allow_brace_calls(true);
        let kind = if p.at_word("each") || is_loop(p) {
            each(p, false);
            EachListExpr
        } else {
            list_items(p);
            ListExpr
        };
        p.allow_brace_calls(allowed);
        kind
    });
    close(p, RightBracket, open);
    p.finish(mark, kind);
}

fn list_items(p: &mut Parser) {
    while !matches!(p.peek(), RightBracket | EndOfFile) && !p.at_declaration() {
        expression(p);
        if p.accept(Comma) {
            continue;
        }
        if p.peek() == RightBracket || p.peek() == EndOfFile || p.at_declaration() {
            return;
        }
        if !missing_comma(p, "`,` or `]`") {
            return;
        }
    }
}

/// Whether a list or a map begins as loops do in other languages; reports that, and then it is read
/// as what was meant.
fn is_loop(p: &mut Parser) -> bool {
    let is_loop = p.at_word("for") && p.peek_second() == Word;
    if is_loop {
        p.error(
            Diagnostic::error(
                "syntax",
                "what is made of each item begins with `each`, not with `for`",
            )
            .note("written `[each x in xs give x]`, or `{ each x in xs give x: x }`")
            .mend("each"),
        );
    }
    is_loop
}

/// Reports a missing comma; whether the next item is there all the same.
pub(super) fn missing_comma(p: &mut Parser, wanted: &str) -> bool {
    if p.failed_here() {
        p.skip_item();
        return p.accept(Comma);
    }
    if matches!(
        p.peek(),
        TextOpen | CommandOpen | Word | Int | Ref | LeftBrace | LeftBracket
    ) {
        let error = Diagnostic::error("syntax", "expected `,` between two items");
        p.error(
            error
                .note("inside brackets a line end does not end an item")
                .mend(","),
        );
        p.forget_failure();
        return true;
    }
    p.expected(wanted);
    p.skip_item();
    p.accept(Comma)
}

/// `each a, b in items where test give value`, in a list or (with a key) in a map.
fn each(p: &mut Parser, in_map: bool) {
    let head = p.mark();
    p.take();
    new_name(p, "each item");
    if p.accept(Comma) {
        new_name(p, "each value");
    }
    p.finish(head, EachHead);
    p.expect_word("in");
    expression(p);
    p.lines_before_word("where");
    if p.at_word("if") {
        p.error(
            Diagnostic::error("syntax", "items are chosen with `where`, not with `if`")
                .mend("where"),
        );
        p.take();
        expression(p);
    } else if p.accept_word("where") {
        expression(p);
    }
    p.lines_before_word("give");
    if p.peek() == Word && !p.at_word("give") {
        let next = p.peek_text();
        let error = Diagnostic::error("syntax", format!("expected `give`, found `{next}`"));
        p.error(error.mend(format!("give {next}")));
    } else {
        p.expect_word("give");
    }
    expression(p);
    if in_map && p.expect(Colon, "`:` and the value of the entry") {
        expression(p);
    }
}

/// The fields of a call.
pub(super) fn fields(p: &mut Parser) {
    braced(p, true);
}

/// A record, a map, or a map built by `each`.
pub(super) fn braces(p: &mut Parser) {
    braced(p, false);
}

fn braced(p: &mut Parser, is_call: bool) {
    let mark = p.mark();
    let open = p.next_span();
    p.take();
    let allowed = p.allow_brace_calls(true);
    let kind = p.with_lines(true, |p| {
        p.lines();
        if p.at_word("each") || is_loop(p) {
            p.with_lines(false, |p| each(p, true));
            return EachMapExpr;
        }
        let record = match p.peek() {
            RightBrace | EndOfFile => true,
            Word => {
                is_call
                    || matches!(
                        p.peek_second(),
                        Equals | Comma | RightBrace | Newline | EndOfFile
                    )
            }
            _ => false,
        };
        if record {
            items(p, RecordField, record_field);
            RecordExpr
        } else {
            items(p, MapEntry, map_entry);
            MapExpr
        }
    });
    p.allow_brace_calls(allowed);
    close(p, RightBrace, open);
    p.finish(mark, kind);
}

/// `name = value`, or `name` alone for a value of the same name.
fn record_field(p: &mut Parser) {
    if p.peek() != Word {
        p.expected("a field such as `name = value`");
        return p.skip_item();
    }
    let name = p.peek_text();
    // Words of declarations are names again before `=`.
    if p.peek_second() != Equals && is_reserved(name) {
        p.expected("a field such as `name = value`");
    }
    p.take();
    if p.accept(Equals) {
        expression(p);
    } else if p.peek() == Colon {
        let error = Diagnostic::error(
            "syntax",
            "expected `=` between a field and its value, found `:`",
        );
        p.error(error.mend("=").note("`:` is for the entries of a map"));
        p.take();
        expression(p);
    }
}

/// Braces around values without keys, by what was written from the first value on: where they
/// begin, and how long they are.
fn list_in_braces(p: &Parser, first: usize) -> Option<(usize, usize)> {
    let open = p.text_before(first).trim_end().len().checked_sub(1)?;
    let line = p.text_from(open).lines().next()?;
    let length = line.find('}')? + 1;
    let inner = line.get(1..length - 1)?;
    (line.starts_with('{') && !inner.contains(['{', ':', '`'])).then_some((open, length))
}

/// `key: value`.
fn map_entry(p: &mut Parser) {
    let start = p.next_span().start as usize;
    expression(p);
    if matches!(p.peek(), RightBrace | Comma)
        && let Some((open, length)) = list_in_braces(p, start)
    {
        let written = &p.text_from(open)[1..length - 1];
        let error = Diagnostic::error(
            "syntax",
            "a list is written in `[ ]`; a map has `key: value` in `{ }`",
        );
        p.error_about(open, length, error.mend(format!("[{}]", written.trim())));
        return p.skip_item();
    }
    if p.expect(Colon, "`:` and the value of the entry") {
        expression(p);
    }
}

/// Items in braces, each a node of this kind, up to the closing brace.
pub(super) fn items(p: &mut Parser, kind: SyntaxKind, item: fn(&mut Parser)) {
    loop {
        skip_lines_and_commas(p);
        if matches!(p.peek(), RightBrace | EndOfFile | HoleClose) || p.at_declaration() {
            return;
        }
        let mark = p.mark();
        let before = p.position();
        item(p);
        p.finish(mark, kind);
        end_of_item(p);
        if p.position() == before {
            return;
        }
    }
}
