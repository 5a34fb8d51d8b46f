//! Types.

use super::declarations::{close, end_of_item, new_name, skip_lines_and_commas};
use super::texts::text;
use crate::SyntaxKind::*;
use nubrik_diagnostic::Diagnostic;

use crate::lexer::DECLARATION_WORDS;
use crate::parser::{MAX_DEPTH, Parser};

/// Texts of which a value is one.
fn alternatives(p: &mut Parser) {
    text(p);
    while p.peek_past_lines().0 == Bar {
        p.lines();
        p.take();
        p.lines();
        if p.peek() != TextOpen {
            p.expected("a text");
            break;
        }
        text(p);
    }
}

/// A type: a name, `list[T]`, `map[T]`, `{ a: T }`, `"a" | "b"`, each with `?` after it.
pub(super) fn type_expr(p: &mut Parser) {
    p.depth += 1;
    let mark = p.mark();
    match p.peek() {
        _ if p.depth > MAX_DEPTH => {
            p.expected("a type that nests less deep");
            p.skip_item();
        }
        TextOpen => {
            alternatives(p);
            p.finish(mark, TypeAlternatives);
        }
        Word => {
            p.take();
            if p.peek() == LeftBracket {
                let open = p.next_span();
                p.take();
                p.with_lines(false, type_expr);
                close(p, RightBracket, open);
                p.finish(mark, TypeOf);
            } else {
                if p.peek() == Dot {
                    p.take();
                    p.expect(Word, "the name of a type");
                }
                p.finish(mark, TypeName);
            }
        }
        LeftBrace => {
            let open = p.next_span();
            p.take();
            p.with_lines(true, type_fields);
            close(p, RightBrace, open);
            p.finish(mark, TypeRecord);
        }
        _ => {
            p.expected("a type");
            p.finish(mark, Error);
        }
    }
    if p.peek() == Question {
        p.take();
        p.finish(mark, TypeOptional);
    }
    if p.peek() == Question {
        p.error(Diagnostic::error(
            "syntax",
            "one `?` says that there may be none; a second one says nothing",
        ));
        while p.peek() == Question {
            p.take();
        }
    }
    p.depth -= 1;
}

fn type_fields(p: &mut Parser) {
    loop {
        skip_lines_and_commas(p);
        if p.peek() != Word || p.at_declaration() {
            return;
        }
        let mark = p.mark();
        // Words of declarations are names again before `:`, as they are before `=` in a record.
        if DECLARATION_WORDS.contains(&p.peek_text()) {
            p.take();
        } else {
            new_name(p, "a field");
        }
        if p.expect(Colon, "`:` and the type of the field") {
            type_expr(p);
        }
        p.finish(mark, TypeField);
        end_of_item(p);
    }
}
