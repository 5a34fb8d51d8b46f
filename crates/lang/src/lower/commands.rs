//! Commands: tokens to words, pipes and redirects.

use std::rc::Rc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;
use nubrik_syntax::{Element, Node, SyntaxKind, views};

use super::Lowerer;
use crate::hir::*;

/// Where the next finished word goes.
#[derive(Clone, Copy, PartialEq)]
enum Destination {
    Words,
    Stdin,
    Stdout,
    Stderr,
}

/// The command as far as it was read.
struct Reading {
    stages: Vec<CommandStage>,
    word: Option<Word>,
    destination: Destination,
    /// The operator that waits for its file.
    operator: Option<Span>,
}

impl Lowerer {
    pub(super) fn command(&mut self, node: Node<'_>) -> Expr {
        let mut reading = Reading {
            stages: vec![CommandStage::default()],
            word: None,
            destination: Destination::Words,
            operator: None,
        };
        self.command_elements(node, &mut reading, false);
        self.finish_word(&mut reading);
        if let Some(span) = reading.operator {
            self.missing_file(span);
        }
        let span = self.span(node);
        if reading.stages.iter().any(|s| s.words.is_empty()) {
            let error = Diagnostic::error("empty-command", "this command is empty");
            self.report(span, error.mend("`tool argument {out \"result\"}`"));
            return Expr::Error;
        }
        Expr::Command(Rc::new(Command { stages: reading.stages }))
    }

    fn command_elements(&mut self, node: Node<'_>, reading: &mut Reading, quoted: bool) {
        for element in node.elements() {
            match element {
                Element::Token(token) => {
                    let text = node.token_text(token);
                    let span = self.token_span(token);
                    match token.kind {
                        SyntaxKind::CommandSpace => self.finish_word(reading),
                        SyntaxKind::CommandPart | SyntaxKind::CommandShell => {
                            push(reading, span, quoted, Some(WordPiece::Literal(text.into())));
                        }
                        SyntaxKind::CommandEscape => {
                            let text =
                                text.strip_prefix('\\').map_or_else(|| views::unescape(text), str::to_owned);
                            push(reading, span, quoted, Some(WordPiece::Literal(text.into())));
                        }
                        SyntaxKind::CommandRaw => {
                            let inner = text.trim_start_matches('\'');
                            if !text.ends_with('\'') || text.len() < 2 {
                                let error = Diagnostic::error(
                                    "unclosed",
                                    "this group in the command is never closed",
                                );
                                self.report(
                                    span,
                                    error.mend("close it with `'`, or write `\\'` for the character"),
                                );
                            }
                            let inner = inner.strip_suffix('\'').unwrap_or(inner);
                            push(reading, span, true, Some(WordPiece::Literal(inner.into())));
                        }
                        SyntaxKind::CommandOperator => self.operator(text, span, reading),
                        _ => {}
                    }
                }
                Element::Node(id) => {
                    let inner = node.node(id);
                    let span = self.span(inner);
                    match inner.kind() {
                        SyntaxKind::CommandQuote => {
                            push(reading, span, true, None);
                            self.command_elements(inner, reading, true);
                        }
                        SyntaxKind::Hole => {
                            let value = self.child_expression(inner, 0);
                            push(reading, span, quoted, Some(WordPiece::Value(value)));
                        }
                        SyntaxKind::HoleForm => {
                            let form = self.hole_form(inner);
                            push(reading, span, quoted, form);
                        }
                        _ => {}
                    }
                }
            }
        }
    }

    /// ``sh`…` ``: what the shell reads, and the holes in it.
    pub(super) fn shell(&mut self, node: Node<'_>) -> Expr {
        let mut pieces = Vec::new();
        self.shell_elements(node, &mut pieces);
        note_quotes(&mut pieces);
        let blank = |piece: &ShellPiece| matches!(piece, ShellPiece::Literal(t) if t.trim().is_empty());
        if pieces.iter().all(blank) {
            let error = Diagnostic::error("empty-command", "this command is empty");
            self.report(self.span(node), error.mend("sh`tool argument > {out \"result\"}`"));
            return Expr::Error;
        }
        Expr::Shell(Rc::new(pieces))
    }

    fn shell_elements(&mut self, node: Node<'_>, pieces: &mut Vec<ShellPiece>) {
        for element in node.elements() {
            let piece = match element {
                Element::Token(token) => {
                    let text = node.token_text(token);
                    match (token.kind, text) {
                        (SyntaxKind::CommandOpen | SyntaxKind::CommandClose | SyntaxKind::Word, _) => {
                            continue;
                        }
                        (kind, _) if kind.is_trivia() => continue,
                        // The shell reads backslashes itself.
                        (SyntaxKind::CommandEscape, "{{" | "}}") => ShellPiece::Literal(text[..1].into()),
                        _ => ShellPiece::Literal(text.into()),
                    }
                }
                Element::Node(id) => {
                    let inner = node.node(id);
                    match inner.kind() {
                        SyntaxKind::CommandQuote => {
                            self.shell_elements(inner, pieces);
                            continue;
                        }
                        SyntaxKind::Hole => {
                            let piece = WordPiece::Value(self.child_expression(inner, 0));
                            ShellPiece::Hole { piece, inside: false }
                        }
                        SyntaxKind::HoleForm => match self.hole_form(inner) {
                            Some(piece) => ShellPiece::Hole { piece, inside: false },
                            None => continue,
                        },
                        _ => continue,
                    }
                }
            };
            pieces.push(piece);
        }
    }

    fn hole_form(&mut self, node: Node<'_>) -> Option<WordPiece> {
        let mut words = node.words();
        let form = node.token_text(words.next()?);
        let name = words.next().map(|t| self.name(node, t));
        match form {
            "in" => return Some(WordPiece::In(self.child_expression(node, 0))),
            "argfile" => return Some(WordPiece::ArgFile(self.child_expression(node, 0))),
            _ => {}
        }
        let path = self.child_expression(node, 0);
        match form {
            "out" | "outfolder" | "early" => {
                Some(WordPiece::Out { name, path, folder: form == "outfolder", early: form == "early" })
            }
            "depfile" => Some(WordPiece::DepFile { path }),
            "scratch" | "scratchfolder" => Some(WordPiece::Scratch { path, folder: form == "scratchfolder" }),
            "keptfolder" => Some(WordPiece::Kept { path }),
            "textfile" => Some(WordPiece::TextFile { path, text: self.child_expression(node, 1) }),
            _ => None, // The parser has refused it.
        }
    }

    fn operator(&mut self, text: &str, span: Span, reading: &mut Reading) {
        self.finish_word(reading);
        if let Some(before) = reading.operator.take() {
            self.missing_file(before);
        }
        if text == "|" {
            reading.stages.push(CommandStage::default());
            reading.destination = Destination::Words;
            return;
        }
        reading.destination = match text {
            "<" => Destination::Stdin,
            ">" => Destination::Stdout,
            _ => Destination::Stderr,
        };
        reading.operator = Some(span);
    }

    fn missing_file(&mut self, span: Span) {
        let error = Diagnostic::error("syntax", "expected a file after this redirect");
        self.report(span, error.mend("> {out \"result.txt\"}").mend("< {in \"table.csv\"}"));
    }

    fn finish_word(&mut self, reading: &mut Reading) {
        let Some(word) = reading.word.take() else { return };
        self.refuse_home(&word);
        let Some(stage) = reading.stages.last_mut() else { return };
        let span = word.span;
        let place = match reading.destination {
            Destination::Words => {
                stage.words.push(word);
                return;
            }
            Destination::Stdin => &mut stage.stdin,
            Destination::Stdout => &mut stage.stdout,
            Destination::Stderr => &mut stage.stderr,
        };
        reading.destination = Destination::Words;
        reading.operator = None;
        if place.replace(word).is_some() {
            let error = Diagnostic::error("syntax", "this is redirected twice in one command");
            self.report(span, error);
        }
    }
}

impl Lowerer {
    /// Refuses the home folder as a shell writes it: it would be a letter of the word.
    fn refuse_home(&mut self, word: &Word) {
        let Some(WordPiece::Literal(text)) = word.pieces.first().filter(|_| !word.quoted) else { return };
        if &**text != "~" && !text.starts_with("~/") {
            return;
        }
        let error = Diagnostic::error("shell-syntax", "`~` means something only to a shell")
            .note("HOME is an empty folder in a step; `'~'` is the plain character");
        self.report(word.span, error.mend(format!("{{env(\"HOME\")}}{}", &text[1..])));
    }
}

/// Adds a piece to the word being read; `None` only begins a (perhaps empty) word.
fn push(reading: &mut Reading, span: Span, quoted: bool, piece: Option<WordPiece>) {
    let word = reading.word.get_or_insert_with(|| Word { span, pieces: Vec::new(), quoted: false });
    word.span = word.span.to(span);
    word.quoted |= quoted;
    match (word.pieces.last_mut(), piece) {
        (Some(WordPiece::Literal(before)), Some(WordPiece::Literal(text))) => {
            *before = format!("{before}{text}").into();
        }
        (_, Some(piece)) => word.pieces.push(piece),
        (_, None) => {}
    }
}

/// Notes for each hole of a script whether it is between double quotes. What `$(…)` holds begins again, even
/// between them.
fn note_quotes(pieces: &mut [ShellPiece]) {
    #[derive(PartialEq)]
    enum Within {
        Quotes,
        Brackets,
    }
    let mut open: Vec<Within> = Vec::new();
    // A `$` and its bracket may be two pieces.
    let mut dollar = false;
    for piece in pieces {
        let text = match piece {
            ShellPiece::Hole { inside, .. } => {
                *inside = open.last() == Some(&Within::Quotes);
                dollar = false;
                continue;
            }
            ShellPiece::Literal(text) => text,
        };
        let mut characters = text.chars();
        while let Some(character) = characters.next() {
            let quoted = open.last() == Some(&Within::Quotes);
            match character {
                '\\' => drop(characters.next()),
                '\'' if !quoted => drop(characters.by_ref().find(|c| *c == '\'')),
                '"' if quoted => drop(open.pop()),
                '"' => open.push(Within::Quotes),
                '(' if dollar || !quoted => open.push(Within::Brackets),
                ')' if open.last() == Some(&Within::Brackets) => drop(open.pop()),
                _ => {}
            }
            dollar = character == '$';
        }
    }
}
