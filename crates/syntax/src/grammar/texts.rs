//! Texts, and the holes in texts and commands.

use nubrik_diagnostic::{Diagnostic, nearest};

use super::declarations::new_name;
use super::expressions::expression;
use crate::SyntaxKind::*;
use crate::parser::Parser;

/// A text between quotes, with its holes.
pub(super) fn text(p: &mut Parser) {
    let mark = p.mark();
    let open = p.next_span();
    let errors = p.error_count();
    p.take();
    loop {
        match p.peek_raw() {
            TextPart | TextEscape => p.take_raw(),
            HoleOpen => hole(p, false),
            _ => break,
        }
    }
    if p.peek_raw() == TextClose {
        p.take_raw();
    } else if p.error_count() == errors {
        let error = Diagnostic::error("unclosed", "this text is never closed");
        p.error_at(
            open,
            error.mend("close it with the same quote at the end of the line"),
        );
    }
    p.finish(mark, TextExpr);
}

/// `{…}` in a text or command: an expression, or a form such as `{out "name"}`.
pub(super) fn hole(p: &mut Parser, in_command: bool) {
    let mark = p.mark_here();
    let open = p.next_span();
    p.take_raw();
    let allowed = p.allow_brace_calls(true);
    let form = p.with_lines(false, |p| {
        let form = begins_otherwise(p) && is_plain_brace(p, open.start as usize, in_command)
            || p.peek() == Word && (is_hole_form(p) || is_misspelt_form(p));
        if form {
            hole_form(p);
        } else {
            expression(p);
        }
        form
    });
    p.allow_brace_calls(allowed);
    p.with_lines(false, |p| {
        if p.peek() == HoleClose {
            p.take();
            return;
        }
        let unclosed = matches!(
            p.peek(),
            TextOpen | TextPart | TextClose | CommandClose | CommandSpace | EndOfFile
        ) || p.peek_raw() == Newline
            || p.at_declaration();
        if unclosed {
            let error = Diagnostic::error("unclosed", "this hole is never closed");
            p.error_at(
                open,
                error.mend("close it with `}`, or write `{{` for a brace"),
            );
            p.skip_item();
        } else {
            let is_list = matches!(p.peek(), Comma | Colon);
            let is_told =
                p.failed_here() || is_list && is_plain_brace(p, open.start as usize, in_command);
            if !is_told {
                p.expected("`}`");
            }
            p.skip_item();
            while p.accept(Comma) {
                p.skip_item();
            }
            p.accept(HoleClose);
        }
    });
    p.finish(mark, if form { HoleForm } else { Hole });
}

fn is_hole_form(p: &Parser) -> bool {
    match p.peek_text() {
        "in" => true,
        "argfile" | "list" => matches!(p.peek_second(), TextOpen | Word | Ref | LeftBracket),
        "out" | "outfolder" | "outdir" | "early" | "depfile" | "found" | "scratch"
        | "scratchfolder" | "keptfolder" | "textfile" => {
            matches!(p.peek_second(), TextOpen | Word)
        }
        _ => false,
    }
}

/// Words that forms of holes begin with.
const FORMS: [&str; 10] = [
    "in",
    "out",
    "outfolder",
    "early",
    "depfile",
    "argfile",
    "textfile",
    "scratch",
    "scratchfolder",
    "keptfolder",
];

/// Words that some of them were written with before.
const FORMS_BEFORE: [(&str, &str); 3] = [
    ("outdir", "outfolder"),
    ("found", "depfile"),
    ("list", "argfile"),
];

/// Whether a word before a text is like that of a form; reports that.
fn is_misspelt_form(p: &mut Parser) -> bool {
    let word = p.peek_text();
    if p.peek_second() != TextOpen || word == "sh" {
        return false;
    }
    let Some(near) = nearest(word, FORMS) else {
        return false;
    };
    let error = Diagnostic::error("syntax", format!("unknown hole `{word}`"));
    p.error(
        error
            .note(format!("the words are: {}", FORMS.join(", ")))
            .mend(near),
    );
    true
}

/// Whether no expression begins in a hole: a sign of another language, alone or after a word, as
/// programs of some tools and data in braces have it.
fn begins_otherwise(p: &Parser) -> bool {
    p.peek() == Odd || p.peek() == Word && p.peek_second() == Odd
}

/// Whether a brace was meant as itself: what follows it is no expression, or a list of them.
/// Reports that.
fn is_plain_brace(p: &mut Parser, open: usize, in_command: bool) -> bool {
    let rest = p.text_from(open);
    let line = rest.lines().next().unwrap_or_default();
    let Some(end) = line.find('}') else {
        return false;
    };
    let inner = &line[..=end];
    let error = Diagnostic::error("syntax", "`{` begins a hole here");
    if !in_command {
        p.error_about(open, inner.len(), error.mend(format!("{{{inner}}}")));
        return true;
    }
    let error = error.note("in a command, nothing between single quotes is a hole");
    // Between double quotes the quotes are to be others.
    let before = p
        .text_before(open)
        .rsplit(['`', '\n'])
        .next()
        .unwrap_or_default();
    let quotes = before
        .rfind('"')
        .filter(|_| before.matches('"').count() % 2 == 1)
        .zip(line[end..].find('"'));
    match quotes {
        Some((first, last)) if !before[first..].contains('\'') => {
            let start = open - (before.len() - first);
            let text = &p.text_from(start)[1..open + end + last - start];
            p.error_about(start, text.len() + 2, error.mend(format!("'{text}'")));
        }
        _ => p.error_about(open, inner.len(), error.mend(format!("'{inner}'"))),
    }
    true
}

fn hole_form(p: &mut Parser) {
    let word = p.peek_text();
    if p.failed_here() || p.peek_second() == Odd {
        p.take();
        if p.peek() == TextOpen {
            text(p);
        }
        p.skip_item();
        return;
    }
    let word = match FORMS_BEFORE.iter().find(|(before, _)| *before == word) {
        None => word,
        Some((_, now)) => {
            let error =
                Diagnostic::error("syntax", format!("`{{{word} …}}` is written `{{{now} …}}`"));
            p.error(error.mend(*now));
            now
        }
    };
    p.take();
    if matches!(word, "in" | "argfile") {
        return expression(p);
    }
    if p.peek() == Word {
        new_name(p, "an output");
    }
    if p.peek() == TextOpen {
        text(p);
    } else {
        p.expected("the name of a file as a text");
    }
    if word == "textfile" {
        expression(p);
    }
}
