//! The formatter: one way to write each definition. It moves white space only. Where lines break is
//! the author's choice and stays; how far they are indented follows from the form. Nothing is put
//! in columns: a field that is renamed changes no line but its own.

use std::fmt::Write;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::TextId;

use crate::SyntaxKind::{self, *};
use crate::lexer::lex;
use crate::{Element, Node, parse};

/// Spaces of one level.
const INDENT: usize = 4;

/// The text as it should be written.
///
/// # Errors
/// What is wrong with the text: one that cannot be read is not touched.
pub fn format(file: TextId, text: &Arc<str>) -> Result<String, Vec<Diagnostic>> {
    let parsed = parse(file, text);
    if !parsed.diagnostics.is_empty() {
        return Err(parsed.diagnostics);
    }
    let mut pieces = Vec::new();
    collect(parsed.tree.root(), &mut Around::default(), &mut pieces);
    let lines = Writer::default().lines(&pieces);
    let formatted = print(lines);
    if !same_meaning(text, &formatted) {
        // Better untidy than wrong. Debug builds, and so tests and the fuzz target, stop here
        // instead.
        debug_assert!(
            false,
            "formatting changed the meaning of {text:?} to {formatted:?}"
        );
        return Ok(text.to_string());
    }
    Ok(formatted)
}

/// Whether two texts are the same but for white space that means nothing.
fn same_meaning(before: &str, after: &str) -> bool {
    let essence = |text: &str| -> Vec<(SyntaxKind, String)> {
        let mut tokens: Vec<(SyntaxKind, String)> = Vec::new();
        for token in lex(text) {
            let words = &text[token.start as usize..token.end as usize];
            match token.kind {
                // Empty lines mean nothing, but where a line ends does.
                Newline if tokens.last().is_none_or(|t| t.0 == Newline) => {}
                Newline => tokens.push((Newline, String::new())),
                CommandSpace if tokens.last().is_some_and(|t| t.0 == CommandSpace) => {}
                CommandSpace => tokens.push((CommandSpace, String::new())),
                Comment | DocComment => tokens.push((token.kind, words.trim_end().to_owned())),
                kind => tokens.push((kind, words.replace("\r\n", "\n"))),
            }
        }
        tokens.retain(|t| t.0 != EndOfFile);
        while tokens.last().is_some_and(|t| t.0 == Newline) {
            tokens.pop();
        }
        tokens
    };
    essence(before) == essence(after)
}

/// A token with what it is in.
struct PlacedToken<'t> {
    kind: SyntaxKind,
    /// White space before it that is kept.
    gap: &'t str,
    text: &'t str,
    /// The node that it belongs to.
    parent: SyntaxKind,
    /// Inside a text or command: taken as it is.
    inside: TokenSetting,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum TokenSetting {
    Code,
    /// A text, or a command for a shell: every byte counts.
    Text,
    /// A command: white space between words is free.
    Command,
}

#[derive(Default)]
struct Around {
    inner: Option<TokenSetting>,
    /// Where the last token ended.
    end: u32,
}

fn collect<'t>(node: Node<'t>, around: &mut Around, pieces: &mut Vec<PlacedToken<'t>>) {
    let outer = around.inner;
    match node.kind() {
        TextExpr | ShellExpr => around.inner = around.inner.or(Some(TokenSetting::Text)),
        CommandExpr => around.inner = around.inner.or(Some(TokenSetting::Command)),
        _ => {}
    }
    for element in node.elements() {
        match element {
            Element::Node(id) => collect(node.node(id), around, pieces),
            Element::Token(token) => {
                let inside = around.inner.unwrap_or(TokenSetting::Code);
                // White space in the hole of a text stays: every byte there counts.
                let gap = match pieces.last() {
                    Some(last)
                        if last.inside != TokenSetting::Code && inside != TokenSetting::Code =>
                    {
                        around.end
                    }
                    _ if matches!(token.kind, Comment | DocComment) => around.end,
                    _ => token.start,
                };
                pieces.push(PlacedToken {
                    kind: token.kind,
                    gap: node.text_between(gap, token.start),
                    text: node.token_text(token),
                    parent: node.kind(),
                    inside,
                });
                around.end = token.end;
            }
        }
    }
    around.inner = outer;
}

/// A line of the result.
#[derive(Default)]
struct Line {
    indent: usize,
    text: String,
    /// A comment after the text, with how many spaces are between the two.
    comment: Option<(usize, String)>,
    /// A line inside a text: as it was, and part of the item above.
    raw: bool,
    /// Whether it ends inside a text or a quoted word: then the white space at its end is part of
    /// that.
    ends_inside: bool,
}

impl Line {
    fn is_empty(&self) -> bool {
        self.text.is_empty() && self.comment.is_none() && !self.raw
    }
}

/// An open bracket.
struct OpenBracket {
    /// Indent of the line on which it was opened.
    indent: usize,
}

#[derive(Default)]
struct Writer {
    done: Vec<Line>,
    line: Line,
    open: Vec<OpenBracket>,
    /// Kind of the last token of code on this line, and the node that it was in.
    last: Option<(SyntaxKind, SyntaxKind)>,
    /// The last token of code before this line, and the node that it was in.
    before: Option<(SyntaxKind, SyntaxKind)>,
    before_word: String,
    /// The last token of code on this line, as it is written.
    last_text: String,
}

impl Writer {
    fn lines(mut self, pieces: &[PlacedToken<'_>]) -> Vec<Line> {
        for (at, piece) in pieces.iter().enumerate() {
            match (piece.inside, piece.kind) {
                (_, EndOfFile) => {}
                (TokenSetting::Code, Newline) => self.end_line(),
                (TokenSetting::Code, Comment | DocComment) => self.comment(piece),
                (TokenSetting::Command, CommandSpace) => self.command_space(piece.text),
                (TokenSetting::Text | TokenSetting::Command, _) => {
                    self.verbatim(piece, pieces.get(at.wrapping_sub(1)))
                }
                _ => self.token(piece),
            }
        }
        self.end_line();
        self.done
    }

    fn end_line(&mut self) {
        let line = std::mem::take(&mut self.line);
        if !line.is_empty() {
            if self.last.is_some() {
                self.before = self.last;
                self.before_word.clone_from(&self.last_text);
            }
            self.last = None;
        }
        // One empty line says as much as many.
        if !line.is_empty() || self.done.last().is_some_and(|l| !l.is_empty()) {
            self.done.push(line);
        }
    }

    /// The author decides how far a comment is from the text before it, from two spaces on:
    /// comments may be in columns.
    fn comment(&mut self, piece: &PlacedToken<'_>) {
        if self.line.text.is_empty() && !self.line.raw {
            self.line.indent = self.open.last().map_or(0, |o| o.indent + INDENT);
        }
        let gap = if piece.gap.bytes().all(|b| b == b' ') {
            piece.gap.len().max(2)
        } else {
            2
        };
        self.line.comment = Some((gap, piece.text.trim_end().to_owned()));
    }

    /// White space in a command: line ends stay, the lines that follow are indented.
    fn command_space(&mut self, text: &str) {
        if !text.contains('\n') {
            if !(self.line.raw && self.line.text.is_empty()) {
                self.line.text.push(' ');
            }
            return;
        }
        let indent = self.line_start_indent() + INDENT;
        while self.line.text.ends_with(' ') {
            self.line.text.pop();
        }
        let line = std::mem::take(&mut self.line);
        if !line.is_empty() {
            self.done.push(line);
        }
        self.line = Line {
            indent,
            ..Line::default()
        };
        self.line.raw = true;
    }

    /// Indent of the line on which the command began.
    fn line_start_indent(&self) -> usize {
        let first = std::iter::once(&self.line)
            .chain(self.done.iter().rev())
            .find(|l| !l.raw);
        first.map_or(0, |l| l.indent)
    }

    /// A token inside a text or command: as it is, with its line ends.
    fn verbatim(&mut self, piece: &PlacedToken<'_>, before: Option<&PlacedToken<'_>>) {
        let opens = matches!(piece.kind, TextOpen | CommandOpen)
            || (piece.parent == ShellExpr && piece.kind == Word);
        let starts = opens && before.is_none_or(|b| b.inside == TokenSetting::Code);
        if starts {
            self.begin(piece, false);
            self.space_before(piece);
        }
        self.line.text.push_str(piece.gap);
        // Of line ends only: a carriage return elsewhere in a text is a part of it.
        let text = piece.text.replace("\r\n", "\n");
        let mut lines = text.split('\n');
        self.line.text.push_str(lines.next().unwrap_or(""));
        for line in lines {
            let mut ended = std::mem::replace(
                &mut self.line,
                Line {
                    raw: true,
                    ..Line::default()
                },
            );
            ended.ends_inside = true;
            self.done.push(ended);
            self.line.text.push_str(line);
        }
        self.last = Some((piece.kind, piece.parent));
        self.last_text.clear();
    }

    /// Begins a line with its indent, if this is its first token.
    fn begin(&mut self, piece: &PlacedToken<'_>, closes: bool) {
        if !self.line.text.is_empty() || self.line.raw {
            return;
        }
        let base = self
            .open
            .last()
            .map_or(0, |o| if closes { o.indent } else { o.indent + INDENT });
        let goes_on = !closes && self.goes_on(piece);
        self.line.indent = base + if goes_on { INDENT } else { 0 };
    }

    /// Whether a line goes on with what was on the line before.
    fn goes_on(&self, piece: &PlacedToken<'_>) -> bool {
        let Some((before, before_parent)) = self.before else {
            return false;
        };
        let in_each = |kind: SyntaxKind| matches!(kind, EachListExpr | EachMapExpr);
        let dangling = match before {
            Equals | Plus | EqualsEquals | NotEquals | Less | LessEquals | Greater
            | GreaterEquals | Bar => true,
            Word => {
                !in_each(before_parent)
                    && matches!(
                        &*self.before_word,
                        "give" | "then" | "else" | "and" | "or" | "not"
                    )
            }
            Colon => before_parent != Param,
            _ => false,
        };
        let leads = match piece.kind {
            Dot | Plus | EqualsEquals | NotEquals | Less | LessEquals | Greater | GreaterEquals => {
                true
            }
            Bar | Slash => true,
            Word => match piece.text {
                "and" | "or" | "then" => true,
                "else" => piece.parent == IfExpr,
                "in" | "not" => piece.parent == BinaryExpr,
                _ => false,
            },
            _ => false,
        };
        dangling || leads
    }

    fn token(&mut self, piece: &PlacedToken<'_>) {
        let closes = matches!(piece.kind, RightParen | RightBracket | RightBrace);
        self.begin(piece, closes);
        self.space_before(piece);
        self.line.text.push_str(piece.text);
        if closes {
            self.open.pop();
        } else if matches!(piece.kind, LeftParen | LeftBracket | LeftBrace) {
            self.open.push(OpenBracket {
                indent: self.line.indent,
            });
        }
        self.last = Some((piece.kind, piece.parent));
        piece.text.clone_into(&mut self.last_text);
    }

    /// Puts a space before a token, where one is.
    fn space_before(&mut self, piece: &PlacedToken<'_>) {
        let Some((last, last_parent)) = self.last else {
            return;
        };
        if self.line.text.is_empty() {
            return;
        }
        let tight = match (last, piece.kind) {
            (_, Comma | Question) => true,
            (_, Colon) => true,
            (_, Dot) | (Dot, _) => true,
            (LeftParen | LeftBracket, _) | (_, RightParen | RightBracket) => true,
            (LeftBrace, RightBrace) => true,
            // `{each … }` has no space inside its braces; records and maps have.
            (LeftBrace, _) => last_parent == EachMapExpr,
            (_, RightBrace) => piece.parent == EachMapExpr,
            (Minus, _) => last_parent == NegateExpr,
            (Amp, _) => true,
            (_, LeftParen) => matches!(piece.parent, Args | Params),
            (_, LeftBracket) => matches!(piece.parent, IndexExpr | TypeOf),
            (_, CommandOpen) => piece.parent == ShellExpr,
            _ => false,
        };
        if !tight {
            self.line.text.push(' ');
        }
    }
}

/// Puts everything together.
fn print(mut lines: Vec<Line>) -> String {
    while lines.last().is_some_and(Line::is_empty) {
        lines.pop();
    }
    let mut out = String::new();
    for line in &lines {
        if line.raw && line.indent == 0 {
            out.push_str(&line.text);
        } else {
            let body = if line.ends_inside {
                &line.text
            } else {
                line.text.trim_end()
            };
            if !body.is_empty() || line.comment.is_some() {
                let _ = write!(out, "{:indent$}{body}", "", indent = line.indent);
            }
        }
        if let Some((gap, comment)) = &line.comment {
            let gap = if line.text.is_empty() { 0 } else { *gap };
            let _ = write!(out, "{:gap$}{comment}", "");
        }
        out.push('\n');
    }
    out
}
