//! Files and declarations.

use nubrik_diagnostic::{Diagnostic, nearest};

use super::expressions::expression;
use super::texts::text;
use super::types::type_expr;
use crate::SyntaxKind::{self, *};
use crate::habits;
use crate::lexer::{DECLARATION_WORDS, is_name, is_reserved};
use crate::parser::Parser;

/// A whole file: declarations, each ended by a line end or comma.
pub(crate) fn file(p: &mut Parser) {
    let mark = p.mark_here();
    loop {
        skip_to_docs(p);
        if p.peek_past_lines().0 == EndOfFile {
            break;
        }
        declaration(p);
        end_of_declaration(p);
    }
    p.lines();
    p.take();
    p.finish(mark, File);
}

/// Takes line ends and plain comments, but leaves a `##` comment for the declaration below it.
fn skip_to_docs(p: &mut Parser) {
    while matches!(p.peek_raw(), Newline | Comment | Comma) {
        p.take_raw();
    }
}

fn end_of_declaration(p: &mut Parser) {
    match p.peek() {
        // An unclosed text or command has taken the line end with it.
        _ if p.at_declaration() => {}
        Newline | Comma | EndOfFile => {}
        _ => {
            if !p.failed_here() {
                p.expected("the end of the line");
            }
            p.skip_item();
            // Whatever closes a bracket here closes nothing.
            while matches!(
                p.peek(),
                RightParen | RightBracket | RightBrace | HoleClose | CommandClose
            ) {
                p.take();
                p.skip_item();
            }
        }
    }
}

fn declaration(p: &mut Parser) {
    if p.at_line_start_word() {
        p.begin_declaration();
    }
    let mark = p.mark_with_docs();
    p.accept_word("private");
    let word = if p.peek() == Word { p.peek_text() } else { "" };
    let kind = match word {
        "use" => use_declaration(p),
        "let" => let_declaration(p),
        "type" => type_declaration(p),
        "kind" => kind_declaration(p),
        "target" => valued_declaration(p, "a target", TargetDecl),
        "option" => option_declaration(p),
        "test" => valued_declaration(p, "a test", TestDecl),
        "job" => valued_declaration(p, "a job", JobDecl),
        "service" => valued_declaration(p, "a service", ServiceDecl),
        _ => {
            if let Some((length, error)) = p.rest().and_then(habits::declaration) {
                p.error_of_length(length, error);
                p.skip_line();
                return p.finish(mark, Error);
            }
            let mut error = Diagnostic::error("syntax", "expected a declaration");
            if let Some(near) =
                nearest(word, DECLARATION_WORDS.into_iter().filter(|w| *w != "give"))
            {
                error = error.mend(format!("{near} …"));
            } else if p.peek() == Word && p.peek_second() == Equals {
                error = error
                    .mend(format!("let {word} = …"))
                    .mend(format!("target {word} = …"));
            } else {
                error = error.note(
                    "declarations begin with use, let, type, kind, option, target, test, job or service",
                );
            }
            p.error(error);
            p.skip_item();
            Error
        }
    };
    p.finish(mark, kind);
}

impl Parser<'_> {
    /// Marks where a declaration begins and takes the `##` comments directly above it.
    fn mark_with_docs(&mut self) -> crate::parser::NodeStart {
        let mark = self.mark_here();
        self.lines();
        mark
    }
}

/// Takes a new name, or reports what is wrong with it.
pub(super) fn new_name(p: &mut Parser, what: &str) {
    let name = p.peek_text();
    if p.peek() != Word {
        p.expected(&format!("the name of {what}"));
        return;
    }
    if is_reserved(name) {
        let error = Diagnostic::error(
            "reserved-word",
            format!("`{name}` is a word of the language"),
        );
        // Two words that declare, one behind the other.
        p.error(
            match DECLARATION_WORDS.contains(&name) && what == "a value" {
                true => error.mend(format!("`{name}` alone, without `let` before it")),
                false => error.mend(format!("{name}_")),
            },
        );
    } else if !is_name(name) {
        let lower: String = name.trim_start_matches('_').to_lowercase();
        let error = Diagnostic::error("bad-name", format!("`{name}` cannot be the name of {what}"))
            .note("names are small letters, digits and `_`, and begin with a letter");
        p.error(error.maybe_mend(is_name(&lower).then_some(lower)));
    }
    p.take();
    dashes(p, name, what);
}

/// Takes what belongs to a name that someone wrote with dashes, and reports it.
fn dashes(p: &mut Parser, name: &str, what: &str) {
    if p.peek() != Minus || p.space_before() || p.peek_second() != Word {
        return;
    }
    let start = p.next_span().start as usize - name.len();
    let whole: String = p
        .text_from(start)
        .chars()
        .take_while(|c| c.is_alphanumeric() || "-_".contains(*c))
        .collect();
    let error = Diagnostic::error(
        "bad-name",
        format!("`{whole}` cannot be the name of {what}"),
    )
    .note("names are small letters, digits and `_`, and begin with a letter");
    let plain = whole.replace('-', "_").to_lowercase();
    p.error_about(
        start,
        whole.len(),
        error.maybe_mend(is_name(&plain).then_some(plain)),
    );
    while p.peek() == Minus && !p.space_before() && p.peek_second() == Word {
        p.take();
        p.take();
    }
}

fn use_declaration(p: &mut Parser) -> SyntaxKind {
    p.take();
    if p.peek() == LeftBrace {
        let mark = p.mark();
        let open = p.next_span();
        p.take();
        p.with_lines(false, |p| {
            while p.peek() == Word {
                new_name(p, "something to use");
                if !p.accept(Comma) {
                    break;
                }
            }
        });
        close(p, RightBrace, open);
        p.finish(mark, UseNames);
        p.expect_word("from");
        kit_path(p);
    } else {
        kit_path(p);
        if p.expect_word("as") {
            new_name(p, "a kit");
        }
    }
    UseDecl
}

fn kit_path(p: &mut Parser) {
    if p.peek() == TextOpen {
        text(p);
    } else {
        p.expected("the path of a kit, such as \"nub:c\" or \"/kit/flags.nub\"");
    }
}

fn let_declaration(p: &mut Parser) -> SyntaxKind {
    p.take();
    new_name(p, "a value");
    clauses(p);
    if p.peek() == LeftParen {
        params(p);
    }
    type_and_value(p);
    LetDecl
}

/// `: type = value`, where the type may be left out.
fn type_and_value(p: &mut Parser) {
    if p.accept(Colon) {
        type_expr(p);
    }
    if p.peek() == Word {
        let next = p.peek_text();
        let error = Diagnostic::error("syntax", format!("expected `=`, found `{next}`"));
        p.error(error.mend(format!("= {next}")));
        p.skip_item();
    } else if p.expect(Equals, "`=`") {
        expression(p);
    }
}

fn type_declaration(p: &mut Parser) -> SyntaxKind {
    p.take();
    new_name(p, "a type");
    clauses(p);
    if p.expect(Equals, "`=`") {
        type_expr(p);
    }
    TypeDecl
}

fn kind_declaration(p: &mut Parser) -> SyntaxKind {
    p.take();
    new_name(p, "a kind");
    clauses(p);
    if p.peek() == LeftParen {
        params(p);
    } else {
        p.expected("the parameters of the kind in `(…)`");
    }
    if p.accept(Colon) {
        type_expr(p);
    }
    let open = p.next_span();
    if p.expect(LeftBrace, "`{` and what the kind gives") {
        p.with_lines(true, kind_body);
        close(p, RightBrace, open);
    }
    KindDecl
}

fn kind_body(p: &mut Parser) {
    loop {
        skip_lines_and_commas(p);
        let mark = p.mark();
        if p.at_word("let") {
            let_declaration(p);
            p.finish(mark, LetDecl);
        } else if p.at_word("give") {
            p.take();
            expression(p);
        } else {
            if !matches!(p.peek(), RightBrace | EndOfFile) && !p.at_declaration() {
                p.expected("`let`, `give` or `}`");
                p.skip_item();
                if !matches!(p.peek(), RightBrace | EndOfFile) && !p.at_declaration() {
                    p.take();
                    continue;
                }
            }
            return;
        }
        end_of_item(p);
    }
}

fn option_declaration(p: &mut Parser) -> SyntaxKind {
    p.take();
    new_name(p, "an option");
    clauses(p);
    if p.expect(Colon, "`:` and the type of the option") {
        type_expr(p);
    } else {
        // Its type may still follow from nothing: the rest of the line says little more.
        p.skip_item();
        return OptionDecl;
    }
    if p.expect(Equals, "`=` and the option's default") {
        expression(p);
    }
    OptionDecl
}

fn valued_declaration(p: &mut Parser, what: &str, kind: SyntaxKind) -> SyntaxKind {
    p.take();
    new_name(p, what);
    clauses(p);
    type_and_value(p);
    kind
}

/// `within "/tide/**", "/base"` and `tagged slow, nightly` after a declaration's name.
fn clauses(p: &mut Parser) {
    loop {
        let mark = p.mark();
        if p.at_word("within") {
            p.take();
            loop {
                if p.peek() == TextOpen {
                    text(p);
                } else {
                    p.expected("an address or a glob of addresses as a text, such as \"/tide/**\"");
                }
                if !p.accept(Comma) {
                    break;
                }
            }
            p.finish(mark, WithinClause);
        } else if p.at_word("tagged") {
            p.take();
            loop {
                new_name(p, "a tag");
                if !p.accept(Comma) {
                    break;
                }
            }
            p.finish(mark, TaggedClause);
        } else {
            return;
        }
    }
}

fn params(p: &mut Parser) {
    let mark = p.mark();
    let open = p.next_span();
    p.take();
    p.with_lines(false, |p| {
        while p.peek() != RightParen && p.peek() != EndOfFile && !p.at_declaration() {
            let before = p.position();
            param(p);
            if !p.accept(Comma) && p.peek() != RightParen && p.peek() != Word {
                p.expected("`,` or `)`");
                p.skip_item();
            }
            if p.position() == before {
                break;
            }
        }
    });
    close(p, RightParen, open);
    p.finish(mark, Params);
}

fn param(p: &mut Parser) {
    let mark = p.mark();
    new_name(p, "a parameter");
    if p.expect(Colon, "`:` and the type of the parameter") {
        type_expr(p);
    } else {
        p.skip_item();
    }
    if p.accept(Equals) {
        expression(p);
    }
    p.finish(mark, Param);
}

// What several forms share.

/// Takes the closing bracket, or reports the opening one as unclosed.
pub(super) fn close(p: &mut Parser, kind: SyntaxKind, open: nubrik_source::Span) {
    let (word, opening) = match kind {
        RightParen => (")", "("),
        RightBracket => ("]", "["),
        _ => ("}", "{"),
    };
    if p.peek_past_lines().0 == kind {
        p.lines();
        p.take();
    } else if p.peek_past_lines().0 == EndOfFile || p.at_declaration() {
        // Something wrong inside, such as a text that took the bracket with it, says enough.
        if p.has_error_behind(open) {
            return;
        }
        let error = Diagnostic::error("unclosed", format!("this `{opening}` is never closed"));
        p.error_at(open, error.mend(format!("put `{word}` where it ends")));
    } else if !p.failed_here() {
        p.expected(&format!("`{word}`"));
    }
}

/// Takes line ends and commas between items.
pub(super) fn skip_lines_and_commas(p: &mut Parser) {
    loop {
        p.lines();
        if p.peek() == Comma {
            p.take();
        } else {
            return;
        }
    }
}

/// After an item in braces: a comma, a line end or the closing brace.
pub(super) fn end_of_item(p: &mut Parser) {
    match p.peek() {
        Comma | Newline | RightBrace | HoleClose | EndOfFile => {}
        _ => {
            if p.peek() == Word && p.peek_second() == Equals && !p.failed_here() {
                let next = p.peek_text();
                let error = Diagnostic::error(
                    "syntax",
                    format!("expected `,` or the end of the line, found `{next}`"),
                );
                p.error(error.mend(format!(", {next}")));
            } else if !p.failed_here() {
                p.expected("`,` or the end of the line");
            }
            p.skip_item();
        }
    }
}
