//! Expressions, from the loosest binding to the tightest.

use nubrik_diagnostic::Diagnostic;

use super::collections::{braces, fields, items, list, missing_comma};
use super::commands::{command, shell_command};
use super::declarations::close;
use super::texts::text;
use crate::SyntaxKind::*;
use crate::habits;
use crate::lexer::is_reserved;
use crate::parser::{MAX_CHAIN, MAX_DEPTH, NodeStart, Parser};

/// Any expression. Reports and leaves an [`Error`] node where none is.
pub(super) fn expression(p: &mut Parser) {
    p.depth += 1;
    p.lines();
    if p.depth > MAX_DEPTH {
        p.error(
            Diagnostic::error("too-deep", "this nests too deep")
                .mend("name the inner part with `let`"),
        );
        p.skip_item();
    } else if p.lone_expression() {
        // Nothing else belongs to it.
    } else if p.at_word("if") {
        if_expression(p);
    } else if p.at_word("match") {
        match_expression(p);
    } else {
        operation(p, Binding::Or);
    }
    p.depth -= 1;
}

/// How tightly an operator binds, from the loosest to the tightest.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Binding {
    Or,
    And,
    Not,
    Comparison,
    Sum,
    Join,
    /// What no operator takes apart.
    Postfix,
}

impl Binding {
    /// What is on the right of such an operator: chains nest to the left.
    fn tighter(self) -> Binding {
        match self {
            Binding::Or => Binding::And,
            Binding::And => Binding::Not,
            Binding::Not => Binding::Comparison,
            Binding::Comparison => Binding::Sum,
            Binding::Sum => Binding::Join,
            Binding::Join | Binding::Postfix => Binding::Postfix,
        }
    }
}

/// The operator between two values that comes next; a line that begins with an operator goes on.
fn next_operator(p: &Parser) -> Option<Binding> {
    let binding = match p.peek_kind_past_lines() {
        EqualsEquals | NotEquals | Less | LessEquals | Greater | GreaterEquals => {
            Binding::Comparison
        }
        Plus => Binding::Sum,
        Slash => Binding::Join,
        Word => match p.peek_past_lines().1 {
            "or" => Binding::Or,
            "and" => Binding::And,
            "in" => Binding::Comparison,
            "not" if p.peek_second_past_lines() == (Word, "in") => Binding::Comparison,
            _ => return None,
        },
        _ => return None,
    };
    Some(binding)
}

fn too_long(p: &mut Parser) {
    p.error(
        Diagnostic::error("too-deep", "this chain is too long")
            .mend("name the first part with `let`"),
    );
    p.skip_item();
}

/// Values joined by operators that bind as tightly as `loosest` or tighter.
fn operation(p: &mut Parser, loosest: Binding) {
    let mark = p.mark();
    if loosest <= Binding::Not && p.at_word("not") {
        negation(p, mark);
    } else {
        postfix(p);
    }
    // How tightly the operator before bound, and how many such are in a row.
    let mut last = Binding::Postfix;
    let mut links = 0;
    while let Some(binding) = next_operator(p) {
        if binding < loosest {
            return;
        }
        links = if binding == last { links + 1 } else { 1 };
        if links > MAX_CHAIN {
            return too_long(p);
        }
        p.lines();
        if binding == Binding::Comparison && links > 1 {
            let error = Diagnostic::error("chained-comparison", "comparisons cannot be chained");
            p.error(error.mend("join two comparisons with `and`"));
        }
        last = binding;
        if p.at_word("not") {
            p.take();
        }
        p.take();
        p.lines();
        operation(p, binding.tighter());
        p.finish(mark, BinaryExpr);
    }
}

/// `not` and the comparison that it turns round.
fn negation(p: &mut Parser, mark: NodeStart) {
    p.depth += 1;
    p.take();
    if p.depth > MAX_DEPTH {
        p.expected("less nesting");
        p.skip_item();
    } else {
        operation(p, Binding::Not);
    }
    p.depth -= 1;
    p.finish(mark, NotExpr);
}

fn postfix(p: &mut Parser) {
    let mark = p.mark();
    if p.peek() == Minus {
        p.take();
        let callable = primary(p);
        postfix_of(p, mark, callable);
        p.finish(mark, NegateExpr);
        return;
    }
    let callable = primary(p);
    postfix_of(p, mark, callable);
}

/// `under` and the options behind it.
fn under(p: &mut Parser) {
    p.take();
    if p.peek_past_lines().0 == LeftBrace {
        p.lines();
        let choice = p.mark();
        under_fields(p);
        p.finish(choice, UnderFields);
    } else if !p.accept_word("defaults") {
        let error = Diagnostic::error("syntax", "expected the options after `under`");
        p.error(
            error
                .mend("under { mode = \"release\" }")
                .mend("under defaults"),
        );
    }
}

/// What may follow a value: `.name`, `(…)`, `[…]`, `{…}`, `with {…}`, `under {…}`.
fn postfix_of(p: &mut Parser, mark: NodeStart, mut callable: bool) {
    let mut links = 0;
    loop {
        links += 1;
        if links > MAX_CHAIN {
            return too_long(p);
        }
        let kind = p.peek_kind_past_lines();
        // Most often nothing follows that belongs to it.
        if !matches!(kind, Dot | LeftParen | LeftBracket | LeftBrace | Word) {
            return;
        }
        if kind == Dot {
            p.lines();
            p.take();
            // Words of declarations are names again after a dot.
            if p.peek() == Word {
                p.take();
            } else {
                p.expected("the name of a field or method");
            }
            p.finish(mark, FieldExpr);
            callable = true;
        } else if p.peek() == LeftParen && callable {
            args(p);
            p.finish(mark, CallExpr);
        } else if p.peek() == LeftBracket && !p.space_before() {
            let open = p.next_span();
            p.take();
            p.with_lines(false, expression);
            close(p, RightBracket, open);
            p.finish(mark, IndexExpr);
        } else if p.peek() == LeftBrace && callable && !p.no_brace_call() {
            fields(p);
            p.finish(mark, BraceCallExpr);
        } else if p.at_word("with") {
            p.take();
            if p.peek_past_lines().0 == LeftBrace {
                p.lines();
                braces(p);
            } else {
                p.expected("`{` and the fields to change");
            }
            p.finish(mark, WithExpr);
        } else if p.at_word("under") {
            under(p);
            p.finish(mark, UnderExpr);
        } else {
            return;
        }
    }
}

/// `{ mode = "release", c.speed = "high" }`: options, perhaps of a kit, and their values.
fn under_fields(p: &mut Parser) {
    let open = p.next_span();
    p.take();
    let allowed = p.allow_brace_calls(true);
    p.with_lines(true, |p| items(p, UnderField, under_field));
    p.allow_brace_calls(allowed);
    close(p, RightBrace, open);
}

fn under_field(p: &mut Parser) {
    if p.peek() != Word {
        p.expected("an option such as `mode = \"release\"`");
        return p.skip_item();
    }
    p.take();
    if p.accept(Dot) {
        p.expect(Word, "the name of an option");
    }
    if p.expect(Equals, "`=` and the value of the option") {
        expression(p);
    }
}

fn args(p: &mut Parser) {
    let mark = p.mark();
    let open = p.next_span();
    p.take();
    p.with_lines(false, |p| {
        while !matches!(p.peek(), RightParen | EndOfFile) && !p.at_declaration() {
            let arg = p.mark();
            if p.peek() == Word && p.peek_second() == Equals {
                p.take();
                p.take();
            }
            expression(p);
            p.finish(arg, Arg);
            if !p.accept(Comma) && p.peek() != RightParen && !missing_comma(p, "`,` or `)`") {
                break;
            }
        }
    });
    close(p, RightParen, open);
    p.finish(mark, Args);
}

/// A value that nothing is taken from yet. Returns whether it may be called.
fn primary(p: &mut Parser) -> bool {
    let mark = p.mark();
    match p.peek() {
        Int => {
            p.take();
            p.finish(mark, Literal);
        }
        Duration => {
            let word = p.peek_text();
            if crate::duration(word).is_some() {
                p.take();
                p.finish(mark, Literal);
            } else {
                let error =
                    Diagnostic::error("syntax", format!("`{word}` is neither a number nor a name"));
                let error = error.note("durations are written 250ms, 30s, 5min, 2h");
                p.error(error.maybe_mend(habits::duration(word)));
                p.take();
                p.finish(mark, Error);
            }
        }
        TextOpen => text(p),
        CommandOpen => command(p),
        Ref => {
            p.take();
            p.finish(mark, RefExpr);
            return true;
        }
        Amp if p.peek_second() == TextOpen => {
            p.take();
            text(p);
            p.finish(mark, RefExpr);
            return true;
        }
        LeftParen => {
            let open = p.next_span();
            p.take();
            p.with_lines(false, |p| {
                let allowed = p.allow_brace_calls(true);
                expression(p);
                p.allow_brace_calls(allowed);
            });
            close(p, RightParen, open);
            p.finish(mark, ParenExpr);
        }
        LeftBracket => list(p),
        LeftBrace => braces(p),
        Word => return word_expression(p),
        _ => {
            p.expected("a value");
            p.finish(mark, Error);
        }
    }
    false
}

fn word_expression(p: &mut Parser) -> bool {
    let mark = p.mark();
    match p.peek_text() {
        "true" | "false" | "none" => {
            p.take();
            p.finish(mark, Literal);
            false
        }
        "sh" if p.peek_second() == CommandOpen => {
            p.take();
            shell_command(p);
            p.finish(mark, ShellExpr);
            false
        }
        "if" | "match" => {
            let error =
                Diagnostic::error("syntax", format!("`{}` needs brackets here", p.peek_text()));
            p.error(error.mend("( … )"));
            expression(p);
            p.finish(mark, Error);
            false
        }
        word if is_reserved(word) => {
            p.expected("a value");
            p.finish(mark, Error);
            false
        }
        _ => {
            p.take();
            p.finish(mark, NameExpr);
            true
        }
    }
}

fn if_expression(p: &mut Parser) {
    let mark = p.mark();
    p.take();
    expression(p);
    p.lines_before_word("then");
    if p.peek() == Equals {
        // It is read as what was meant, so that nothing else is blamed.
        p.error(
            Diagnostic::error("syntax", "values are compared by `==`; `=` names a value")
                .mend("=="),
        );
        p.take();
        expression(p);
    }
    if p.peek() == TextOpen && !p.failed_here() {
        let error = Diagnostic::error("syntax", "expected `then` between a condition and a value");
        // The whole text, if it is a plain one.
        let rest = p.rest().unwrap_or_default();
        let end = rest
            .get(1..)
            .and_then(|rest| rest.find('"'))
            .map_or(1, |end| end + 2);
        let error = error.mend(format!("then {}", rest.get(..end).unwrap_or_default()));
        p.error_of_length(end, error);
        p.forget_failure();
        expression(p);
        p.lines_before_word("else");
        if p.accept_word("else") {
            expression(p);
        }
    } else if p.expect_word("then") {
        expression(p);
        p.lines_before_word("else");
        if p.at_word("else") {
            p.take();
            expression(p);
        } else {
            let error = Diagnostic::error("syntax", "this `if` has no `else`");
            let error = error.note(
                "an `if` always gives a value: `else \"\"`, `else []` or `else none` for nothing",
            );
            p.error(error.mend("else \"\""));
        }
    }
    p.finish(mark, IfExpr);
}

fn match_expression(p: &mut Parser) {
    let mark = p.mark();
    p.take();
    let allowed = p.allow_brace_calls(false);
    expression(p);
    p.allow_brace_calls(allowed);
    let open = p.next_span();
    if p.expect(LeftBrace, "`{` and the cases of the match") {
        let allowed = p.allow_brace_calls(true);
        p.with_lines(true, |p| items(p, MatchArm, match_arm));
        p.allow_brace_calls(allowed);
        close(p, RightBrace, open);
    }
    p.finish(mark, MatchExpr);
}

/// `case: value`, `case | case: value` or `else: value`.
fn match_arm(p: &mut Parser) {
    if !p.accept_word("else") {
        postfix(p);
        while p.accept(Bar) {
            postfix(p);
        }
    }
    if p.expect(Colon, "`:` and the value of the case") {
        expression(p);
    }
}
