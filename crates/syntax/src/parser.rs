//! The parser's core: looking ahead, line ends, errors and recovery. The grammar is in
//! [`crate::grammar`].

use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::{Span, TextId};

use crate::SyntaxKind::{self, *};
use crate::lexer::{Lexed, begins_declaration, is_reserved, lex};
use crate::tree::{Builder, Tree};

mod reporting;

/// A tree, and what was wrong with the text.
pub struct Parse {
    /// The tree; there is one for any text.
    pub tree: Tree,
    /// What was wrong, in the order of the text.
    pub diagnostics: Vec<Diagnostic>,
}

/// Parses any text. Never fails; nesting deeper than [`MAX_DEPTH`] is an error in the diagnostics.
pub fn parse(file: TextId, text: &Arc<str>) -> Parse {
    let tokens = lex(text);
    let mut parser = Parser {
        file,
        text,
        at: 0,
        builder: Builder::new(tokens.len()),
        tokens,
        diagnostics: Vec::new(),
        lines_matter: true,
        next_in_line: 0,
        next_anywhere: 0,
        last_error: None,
        unclosed: false,
        depth: 0,
        brace_calls: true,
    };
    parser.next_in_line = parser.significant(0, false);
    parser.next_anywhere = parser.significant(0, true);
    crate::grammar::file(&mut parser);
    Parse {
        tree: parser.builder.tree(text.clone()),
        diagnostics: parser.diagnostics,
    }
}

/// How deep expressions may nest, so that no text can exhaust the stack.
pub(crate) const MAX_DEPTH: u32 = 128;

/// How many operators or fields may follow one another: a chain nests to the left in the tree.
pub(crate) const MAX_CHAIN: u32 = 256;

/// Where a node begins.
#[derive(Clone, Copy)]
pub(crate) struct NodeStart {
    /// The first of its children on the builder's stack.
    children: usize,
    /// Its first token.
    token: usize,
}

pub(crate) struct Parser<'a> {
    file: TextId,
    text: &'a str,
    tokens: Vec<Lexed>,
    at: usize,
    builder: Builder,
    diagnostics: Vec<Diagnostic>,
    /// Whether a line end ends an item in the innermost form that is open.
    lines_matter: bool,
    /// The next token that counts, at or after this place, where line ends count, and where they do
    /// not:
    /// grammar rules ask for it several times for each token that they take.
    next_in_line: usize,
    next_anywhere: usize,
    /// The token at which the last error was reported: one mistake gives one error.
    last_error: Option<usize>,
    /// Whether something in this declaration was never closed: what follows in it is most often its
    /// rest, and says nothing of its own.
    unclosed: bool,
    /// How many expressions are open.
    pub depth: u32,
    /// Whether `name {` is a call here: not in the subject of a `match`.
    brace_calls: bool,
}

impl<'a> Parser<'a> {
    // Looking ahead.

    /// The index of the next token that counts, from token `from` on.
    fn significant(&self, mut from: usize, pass_lines: bool) -> usize {
        while let Comment | DocComment | Newline = self.tokens[from].kind {
            if self.tokens[from].kind == Newline && !pass_lines {
                break;
            }
            from += 1;
        }
        from
    }

    /// Finds the next token again after this place was moved. What was found before still holds
    /// until this place is after it: each token is looked at once, however many comments are in a
    /// row.
    #[inline]
    fn look_ahead(&mut self) {
        if !self.at_trivia() {
            (self.next_in_line, self.next_anywhere) = (self.at, self.at);
            return;
        }
        if self.next_in_line < self.at {
            self.next_in_line = self.significant(self.at, false);
        }
        if self.next_anywhere < self.next_in_line {
            self.next_anywhere = self.significant(self.next_in_line, true);
        }
    }

    #[inline]
    fn next_index(&self) -> usize {
        if self.lines_matter {
            self.next_in_line
        } else {
            self.next_anywhere
        }
    }

    /// The next token; [`Newline`] only where line ends count.
    #[inline]
    pub fn peek(&self) -> SyntaxKind {
        self.tokens[self.next_index()].kind
    }

    /// The token after the next one.
    pub fn peek_second(&self) -> SyntaxKind {
        let next = self.next_index();
        if self.tokens[next].kind == EndOfFile {
            return EndOfFile;
        }
        self.tokens[self.significant(next + 1, !self.lines_matter)].kind
    }

    /// The next token's text.
    #[inline]
    pub fn peek_text(&self) -> &'a str {
        let token = self.tokens[self.next_index()];
        &self.text[token.start as usize..token.end as usize]
    }

    /// The next token's kind and text, passing over line ends.
    #[inline]
    pub fn peek_past_lines(&self) -> (SyntaxKind, &'a str) {
        let token = self.tokens[self.next_anywhere];
        (
            token.kind,
            &self.text[token.start as usize..token.end as usize],
        )
    }

    /// The next token's kind, passing over line ends.
    #[inline]
    pub fn peek_kind_past_lines(&self) -> SyntaxKind {
        self.tokens[self.next_anywhere].kind
    }

    /// The token after the next one, both found passing over line ends.
    pub fn peek_second_past_lines(&self) -> (SyntaxKind, &'a str) {
        let next = self.next_anywhere;
        if self.tokens[next].kind == EndOfFile {
            return (EndOfFile, "");
        }
        let token = self.tokens[self.significant(next + 1, true)];
        (
            token.kind,
            &self.text[token.start as usize..token.end as usize],
        )
    }

    /// The token at the very place, trivia included.
    #[inline]
    pub fn peek_raw(&self) -> SyntaxKind {
        self.tokens[self.at].kind
    }

    /// Whether the next token is this word.
    #[inline]
    pub fn at_word(&self, word: &str) -> bool {
        let token = self.tokens[self.next_index()];
        token.kind == Word && &self.text[token.start as usize..token.end as usize] == word
    }

    /// Whether a declaration begins at the next token: a word of declarations at the start of a
    /// line.
    pub fn at_declaration(&self) -> bool {
        let token = self.tokens[self.next_anywhere];
        if token.kind != Word {
            return false;
        }
        let start = token.start as usize;
        let at_line_start = start == 0
            || self.text.as_bytes()[start - 1] == b'\n'
            || self.text[..start] == *"\u{feff}";
        at_line_start && begins_declaration(self.text, start)
    }

    /// Whether the next token is a word at the start of a line.
    pub fn at_line_start_word(&self) -> bool {
        let token = self.tokens[self.next_anywhere];
        let start = token.start as usize;
        token.kind == Word && (start == 0 || self.text.as_bytes()[start - 1] == b'\n')
    }

    /// Where the token before this place ended, and where the next one begins.
    fn next_range(&self) -> (usize, usize) {
        let token = self.tokens[self.next_index()];
        match token.kind {
            // An error at a line's end is shown after the last thing on the line.
            Newline | EndOfFile => {
                let last = self.tokens[..self.next_index()]
                    .iter()
                    .rev()
                    .find(|t| !t.kind.is_trivia());
                let end = last.map_or(0, |t| t.end as usize);
                (end, end)
            }
            _ => (token.start as usize, token.end as usize),
        }
    }

    // Moving on.

    /// Takes trivia before the next token; line ends only where they do not count.
    #[inline]
    pub fn trivia(&mut self) {
        if self.at_trivia() {
            let next = self.next_index();
            self.take_until(next);
        }
    }

    /// Whether the token at the very place is one to pass over: most often that was done already.
    #[inline]
    fn at_trivia(&self) -> bool {
        self.tokens[self.at].kind.is_trivia()
    }

    /// Takes trivia and all line ends.
    #[inline]
    pub fn lines(&mut self) {
        if self.at_trivia() {
            self.take_until(self.next_anywhere);
        }
    }

    fn take_until(&mut self, end: usize) {
        while self.at < end {
            self.shift();
        }
        self.look_ahead();
    }

    /// Moves the token at the very place into the tree; [`Parser::look_ahead`] must follow.
    #[inline]
    fn shift(&mut self) {
        let Lexed { kind, start, end } = self.tokens[self.at];
        if kind != EndOfFile {
            self.builder.token(kind, start, end);
            self.at += 1;
        }
    }

    /// Takes the token at the very place.
    #[inline]
    pub fn take_raw(&mut self) {
        self.shift();
        self.look_ahead();
    }

    /// Takes the next token with the trivia before it.
    #[inline]
    pub fn take(&mut self) {
        let next = self.next_index();
        self.take_with_trivia(next);
    }

    /// Takes the trivia before a token, and the token.
    #[inline]
    fn take_with_trivia(&mut self, token: usize) {
        while self.at < token {
            self.shift();
        }
        self.take_raw();
    }

    /// Takes the next token if it is of this kind.
    #[inline]
    pub fn accept(&mut self, kind: SyntaxKind) -> bool {
        let next = self.next_index();
        let found = self.tokens[next].kind == kind;
        if found {
            self.take_with_trivia(next);
        }
        found
    }

    /// Takes the next token if it is this word.
    #[inline]
    pub fn accept_word(&mut self, word: &str) -> bool {
        let found = self.at_word(word);
        if found {
            self.take();
        }
        found
    }

    /// Takes a token of this kind or reports that it was expected.
    pub fn expect(&mut self, kind: SyntaxKind, what: &str) -> bool {
        let found = self.accept(kind);
        if !found {
            self.expected(what);
        }
        found
    }

    /// Takes this word or reports that it was expected.
    pub fn expect_word(&mut self, word: &str) -> bool {
        let found = self.accept_word(word);
        if !found {
            self.expected(&format!("`{word}`"));
        }
        found
    }

    /// A place that moves on with each token: for loops that must end.
    pub fn position(&self) -> usize {
        self.at
    }

    /// The byte range of the next token, as a span.
    pub fn next_span(&self) -> Span {
        let (start, end) = self.next_range();
        Span::new(self.file, start, end)
    }

    /// Runs `body` while line ends count (`true`) or not.
    pub fn with_lines<T>(&mut self, matter: bool, body: impl FnOnce(&mut Self) -> T) -> T {
        let outside = std::mem::replace(&mut self.lines_matter, matter);
        let result = body(self);
        self.lines_matter = outside;
        result
    }

    /// Sets whether `name {` is a call; returns what held before.
    pub fn allow_brace_calls(&mut self, allowed: bool) -> bool {
        std::mem::replace(&mut self.brace_calls, allowed)
    }

    /// Whether a brace here cannot belong to a call.
    pub fn no_brace_call(&self) -> bool {
        !self.brace_calls
            || self.tokens[self.at..self.next_index()]
                .iter()
                .any(|t| t.kind == Newline)
    }

    /// Whether white space is before the next token.
    pub fn space_before(&self) -> bool {
        let next = self.next_index();
        next == 0 || self.tokens[next - 1].end != self.tokens[next].start
    }

    /// Takes line ends when the next line begins with `word`: the form goes on there.
    pub fn lines_before_word(&mut self, word: &str) {
        if self.peek_past_lines() == (Word, word) {
            self.lines();
        }
    }

    /// Marks where a node begins, after the trivia before it.
    #[inline]
    pub fn mark(&mut self) -> NodeStart {
        self.trivia();
        self.mark_here()
    }

    /// Takes a single expression, if one is at the very place: a name, a number or a plain text
    /// with the end of an item after it, which nearly half of all expressions are.
    pub fn lone_expression(&mut self) -> bool {
        let kind = |ahead: usize| {
            self.tokens
                .get(self.at + ahead)
                .map_or(EndOfFile, |t| t.kind)
        };
        let (tokens, what) = match kind(0) {
            Int => (1, Literal),
            Word => (1, NameExpr),
            TextOpen if (kind(1), kind(2)) == (TextPart, TextClose) => (3, TextExpr),
            _ => return false,
        };
        if !matches!(
            kind(tokens),
            Comma | RightBrace | RightBracket | RightParen | HoleClose
        ) || (what == NameExpr && is_reserved(self.peek_text()))
        {
            return false;
        }
        self.builder
            .node_of_tokens(what, &self.tokens[self.at..self.at + tokens]);
        self.at += tokens;
        self.look_ahead();
        true
    }

    /// Marks where a node begins, at the very place: the node holds the trivia that follows.
    pub fn mark_here(&mut self) -> NodeStart {
        NodeStart {
            children: self.builder.waiting(),
            token: self.at,
        }
    }

    /// Makes everything since the mark a node.
    #[inline]
    pub fn finish(&mut self, mark: NodeStart, kind: SyntaxKind) {
        let (mut first, mut behind) = (mark.token, self.at);
        while first < behind && self.tokens[first].kind.is_trivia() {
            first += 1;
        }
        while first < behind && self.tokens[behind - 1].kind.is_trivia() {
            behind -= 1;
        }
        let start = self.tokens[first].start;
        let end = if first < behind {
            self.tokens[behind - 1].end
        } else {
            start
        };
        self.builder.finish(mark.children, kind, start, end);
    }

    /// Takes tokens up to the end of an item (a comma or line end), a closing bracket of an outer
    /// form, or a declaration; brackets opened on the way are passed whole.
    pub fn skip_item(&mut self) {
        let mark = self.mark_here();
        let mut open = 0u32;
        loop {
            match self.peek_raw() {
                EndOfFile => break,
                Comma | Newline | CommandClose if open == 0 => break,
                RightParen | RightBracket | RightBrace | HoleClose if open == 0 => break,
                LeftParen | LeftBracket | LeftBrace | HoleOpen | CommandOpen => open += 1,
                RightParen | RightBracket | RightBrace | HoleClose | CommandClose => open -= 1,
                Newline => {
                    let ahead = self.tokens[self.at + 1];
                    let at_line_start = ahead.start == self.tokens[self.at].end;
                    if ahead.kind == Word
                        && at_line_start
                        && begins_declaration(self.text, ahead.start as usize)
                    {
                        break;
                    }
                }
                _ => {}
            }
            self.take_raw();
        }
        self.finish(mark, Error);
    }
}
