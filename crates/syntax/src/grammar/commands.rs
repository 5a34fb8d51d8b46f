//! Commands between backticks.

use nubrik_diagnostic::Diagnostic;

use super::texts::hole;
use crate::SyntaxKind::*;
use crate::parser::Parser;

/// A command: words, groups, holes and redirects up to the closing backtick.
pub(super) fn command(p: &mut Parser) {
    let mark = p.mark();
    body(p, true);
    p.finish(mark, CommandExpr);
}

/// The command after `sh`: what a shell understands is welcome in it.
pub(super) fn shell_command(p: &mut Parser) {
    p.trivia();
    body(p, false);
}

fn body(p: &mut Parser, refuse_shell: bool) {
    let open = p.next_span();
    let errors = p.error_count();
    p.take_raw();
    loop {
        match p.peek_raw() {
            CommandSpace | CommandPart | CommandEscape | CommandRaw | CommandOperator => p.take_raw(),
            CommandShell => {
                if refuse_shell {
                    shell_syntax(p);
                }
                p.take_raw();
            }
            QuoteOpen => quote(p, refuse_shell),
            HoleOpen => hole(p),
            _ => break,
        }
    }
    if p.peek_raw() == CommandClose {
        p.take_raw();
    } else if p.error_count() == errors {
        let error = Diagnostic::error("unclosed", "this command is never closed");
        p.error_at(open, error.mend("close it with a backtick"));
    }
}

fn quote(p: &mut Parser, refuse_shell: bool) {
    let mark = p.mark_here();
    let open = p.next_span();
    let errors = p.error_count();
    p.take_raw();
    loop {
        match p.peek_raw() {
            CommandPart | CommandEscape => p.take_raw(),
            CommandShell => {
                if refuse_shell {
                    shell_syntax(p);
                }
                p.take_raw();
            }
            HoleOpen => hole(p),
            _ => break,
        }
    }
    if p.peek_raw() == QuoteClose {
        p.take_raw();
    } else if p.error_count() == errors {
        let error = Diagnostic::error("unclosed", "this group in the command is never closed");
        p.error_at(open, error.mend("close it with `\"`, or write `\\\"` for the character"));
    }
    p.finish(mark, CommandQuote);
}

/// Something that only a shell understands: says what to write instead.
fn shell_syntax(p: &mut Parser) {
    let word = p.peek_text();
    let error = Diagnostic::error("shell-syntax", format!("`{word}` means something only to a shell"));
    let error = match word {
        "&&" | ";" => error.mend("run = [`first command`, `second command`]"),
        "||" => error.note("a step fails when its command fails"),
        "*" => error.mend("{glob(\"*.c\")}").mend("write `\\*` for the character itself"),
        "&" => error.note("a step ends when its commands end").mend("write `\\&` for the character itself"),
        ">>" | "<<" => error.mend("> {out \"result.txt\"}").note("a step writes its outputs anew each time"),
        _ if word.starts_with("2>") || word == ">&" => {
            error.note("what a command prints and reports is kept in order without this")
        }
        "<(" => error.mend("first command | second command"),
        _ => error
            .mend("env = { \"NAME\": \"value\" } gives the command a variable")
            .mend("{name} puts a value of the definitions in")
            .mend("write `\\$` for the character itself"),
    };
    p.error(error);
}
