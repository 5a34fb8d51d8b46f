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
            CommandSpace | CommandPart | CommandEscape | CommandRaw | CommandOperator => {
                p.take_raw()
            }
            CommandShell => {
                if refuse_shell {
                    shell_syntax(p, open.start as usize);
                }
                p.take_raw();
            }
            QuoteOpen => quote(p, refuse_shell.then_some(open.start as usize)),
            HoleOpen => hole(p, true),
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

fn quote(p: &mut Parser, command: Option<usize>) {
    let mark = p.mark_here();
    let open = p.next_span();
    let errors = p.error_count();
    p.take_raw();
    loop {
        match p.peek_raw() {
            CommandPart | CommandEscape => p.take_raw(),
            CommandShell => {
                if let Some(command) = command {
                    shell_syntax(p, command);
                }
                p.take_raw();
            }
            HoleOpen => hole(p, true),
            _ => break,
        }
    }
    if p.peek_raw() == QuoteClose {
        p.take_raw();
    } else if p.error_count() == errors {
        let error = Diagnostic::error("unclosed", "this group in the command is never closed");
        p.error_at(
            open,
            error.mend("close it with `\"`, or write `\\\"` for the character"),
        );
    }
    p.finish(mark, CommandQuote);
}

/// Words that begin what only a shell can do in several commands.
const OF_SHELLS: [&str; 6] = ["for", "while", "until", "if", "case", "["];

/// Something that only a shell understands: says what to write instead. `command` is where the
/// command begins.
fn shell_syntax(p: &mut Parser, command: usize) {
    let word = p.peek_text();
    let at = p.next_span().start as usize;
    let rest = p.text_from(command + 1);
    let whole = rest
        .lines()
        .next()
        .and_then(|line| line.split('`').next())
        .unwrap_or_default();
    let through_shell = format!("sh`{whole}`");
    let first = whole.split_whitespace().next().unwrap_or_default();
    let inner = p.text_from(at);
    if OF_SHELLS.contains(&first) {
        let error = Diagnostic::error(
            "shell-syntax",
            format!("`{first}` is a shell built-in, not a program"),
        );
        return p.error_about(command, whole.len() + 2, error.mend(through_shell));
    }
    if inner.starts_with("$(") || inner.starts_with("$((") {
        let end = whole.len() - (at - command - 1).min(whole.len());
        let end = inner[..end.min(inner.len())]
            .rfind(')')
            .map_or(2, |close| close + 1);
        let message = format!("`{}` means something only to a shell", &inner[..end]);
        let error = Diagnostic::error("shell-syntax", message);
        return p.error_about(command, whole.len() + 2, error.mend(through_shell));
    }
    if word == "*" {
        // The whole word is a pattern of files.
        let before = p
            .text_before(at)
            .rfind([' ', '`'])
            .map_or(at, |space| space + 1);
        let pattern: String = p
            .text_from(before)
            .chars()
            .take_while(|c| !" `>|".contains(*c))
            .collect();
        if !pattern.contains(['{', '}', '"', '$']) {
            let error = Diagnostic::error(
                "shell-syntax",
                format!("`{pattern}` is a pattern only to a shell"),
            );
            let error = error
                .mend(format!("{{glob(\"{pattern}\")}}"))
                .mend(pattern.replace('*', "\\*"));
            return p.error_about(before, pattern.len(), error);
        }
    }
    let error = mended_shell_word(word, through_shell);
    p.error(error);
}

/// The error about a word that only a shell understands; the command could go through one as
/// `through_shell`.
fn mended_shell_word(word: &str, through_shell: String) -> Diagnostic {
    let message = format!("`{word}` means something only to a shell");
    let error = Diagnostic::error("shell-syntax", message);
    match word {
        "&&" | ";" => error
            .note("several commands are a list: run = [`first`, `second`]")
            .mend(through_shell),
        "||" => error
            .note("a step fails when its command fails")
            .mend(through_shell),
        "*" => error
            .mend("{glob(\"*.c\")}")
            .mend("write `\\*` for the character itself"),
        "&" => error
            .note("a step ends when its commands end")
            .mend("write `\\&` for the character itself"),
        ">>" => error.note(
            "a step writes its outputs again each time: put what writes to one file into one sh`…`",
        ),
        "<<" => error
            .note("what a command reads is a file: < {in \"table.csv\"}")
            .mend(through_shell),
        _ if word.starts_with("2>") || word == ">&" => error
            .note("what a command prints and reports is kept in order without this")
            .mend("remove it"),
        "<(" => error.mend("first command | second command"),
        _ => {
            let name = word.trim_start_matches(['$', '{']).trim_end_matches('}');
            let in_env = format!(
                "env = {{ \"{name}\": env(\"{name}\") }} in the step, and sh`…` around the command"
            );
            error
                .note("a command gets only the variables that its step gives it")
                .mend(in_env)
                .mend("{name} puts a value of the definitions in")
                .mend("write `\\$` for the character itself")
        }
    }
}
