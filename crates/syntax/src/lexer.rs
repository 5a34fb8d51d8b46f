//! Text to tokens. Texts and commands nest code in holes, so the lexer keeps a stack of modes.
//!
//! Every byte lands in exactly one token, but for white space within a line of code: that is
//! between tokens, and is no token of its own, since every rule of the grammar would only pass over
//! it. A mode that is never closed ends where the language says (`docs/language.md`, "Recovery"):
//! its closing token is then simply missing.

use crate::SyntaxKind::{self, *};

/// A token's kind and its range of bytes.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Lexed {
    pub kind: SyntaxKind,
    pub start: u32,
    pub end: u32,
}

/// Words that begin a declaration.
pub const DECLARATION_WORDS: [&str; 11] = [
    "use", "let", "type", "kind", "private", "target", "option", "test", "job", "service", "give",
];

/// Words that are never a name in an expression.
pub const RESERVED_WORDS: [&str; 26] = [
    "use", "let", "type", "kind", "private", "target", "option", "test", "job", "service", "give",
    "each", "in", "where", "if", "then", "else", "match", "and", "or", "not", "true", "false",
    "none", "with", "under",
];

/// Whether `word` is one of [`RESERVED_WORDS`]: asked for every name, and most are recognized by
/// their length.
pub fn is_reserved(word: &str) -> bool {
    match word.len() {
        2 => matches!(word, "in" | "if" | "or"),
        3 => matches!(word, "use" | "let" | "job" | "and" | "not"),
        4 => matches!(
            word,
            "type" | "kind" | "test" | "give" | "each" | "then" | "else" | "true" | "none" | "with"
        ),
        5 => matches!(word, "where" | "match" | "false" | "under"),
        6 => matches!(word, "target" | "option"),
        7 => matches!(word, "private" | "service"),
        _ => false,
    }
}

/// Whether `text` may be the name of a declaration: `[a-z][a-z0-9_]*`.
pub fn is_name(text: &str) -> bool {
    let mut bytes = text.bytes();
    bytes.next().is_some_and(|b| b.is_ascii_lowercase())
        && bytes.all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_')
}

/// The length of a duration such as `250ms`, `30s`, `5min` or `2h`, in milliseconds.
pub fn duration(text: &str) -> Option<u64> {
    if !text.ends_with(['s', 'n', 'h']) {
        return None;
    }
    let digits = text
        .find(|c: char| !c.is_ascii_digit() && c != '_')
        .unwrap_or(text.len());
    let count: u64 = text[..digits].replace('_', "").parse().ok()?;
    let unit = match &text[digits..] {
        "ms" => 1,
        "s" => 1_000,
        "min" => 60_000,
        "h" => 3_600_000,
        _ => return None,
    };
    count.checked_mul(unit)
}

/// Whether the line beginning at `at` begins like a declaration: a word of declarations, then a
/// name.
pub(crate) fn begins_declaration(text: &str, at: usize) -> bool {
    let rest = &text[at..];
    let end = rest
        .find(|c: char| !c.is_ascii_lowercase())
        .unwrap_or(rest.len());
    let word = &rest[..end];
    if word == "give" || !DECLARATION_WORDS.contains(&word) {
        return false;
    }
    let after = rest[end..].trim_start_matches([' ', '\t']);
    if after.len() == rest[end..].len() {
        return false;
    }
    after.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        || (word == "use" && after.starts_with(['"', '\'', '{']))
}

#[derive(Clone, Copy, PartialEq, Debug)]
enum Mode {
    /// Code inside a hole, with the number of braces open in it.
    Hole { braces: u32 },
    /// A text with holes; `long` between three quotes.
    Text { long: bool },
    /// A command between backticks.
    Command,
    /// A `"…"` group in a command.
    Quote,
}

/// Which bytes a word goes on with: a table, since most bytes of definitions are in words.
const IN_WORD: [bool; 256] = {
    let mut table = [false; 256];
    let mut byte = 0;
    while byte < table.len() {
        table[byte] = (byte as u8).is_ascii_alphanumeric() || byte as u8 == b'_';
        byte += 1;
    }
    table
};

/// Tokens that are recognized by their only byte; [`Odd`] for all others.
const PUNCTUATION: [SyntaxKind; 256] = {
    let mut table = [Odd; 256];
    table[b'(' as usize] = LeftParen;
    table[b')' as usize] = RightParen;
    table[b'[' as usize] = LeftBracket;
    table[b']' as usize] = RightBracket;
    table[b',' as usize] = Comma;
    table[b'.' as usize] = Dot;
    table[b':' as usize] = Colon;
    table[b'+' as usize] = Plus;
    table[b'-' as usize] = Minus;
    table[b'/' as usize] = Slash;
    table[b'|' as usize] = Bar;
    table[b'?' as usize] = Question;
    table
};

#[inline]
fn in_word(byte: u8) -> bool {
    IN_WORD[byte as usize]
}

struct Lexer<'a> {
    text: &'a str,
    at: usize,
    modes: Vec<Mode>,
    tokens: Vec<Lexed>,
}

/// Splits a text into tokens; the last one is [`EndOfFile`].
pub(crate) fn lex(text: &str) -> Vec<Lexed> {
    let mut lexer = Lexer {
        text,
        at: 0,
        modes: Vec::new(),
        tokens: Vec::with_capacity(text.len() / 4),
    };
    if text.starts_with('\u{feff}') {
        lexer.at = '\u{feff}'.len_utf8();
    }
    while lexer.at < text.len() {
        if lexer.modes.is_empty() {
            lexer.code();
        } else {
            lexer.next();
        }
    }
    lexer.token(EndOfFile, 0);
    lexer.tokens
}

impl Lexer<'_> {
    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    #[inline]
    fn byte(&self, ahead: usize) -> u8 {
        self.text
            .as_bytes()
            .get(self.at + ahead)
            .copied()
            .unwrap_or(0)
    }

    #[inline]
    fn token(&mut self, kind: SyntaxKind, len: usize) {
        let start = self.at;
        self.at += len;
        self.tokens.push(Lexed {
            kind,
            start: start as u32,
            end: self.at as u32,
        });
    }

    /// Length of the run from `from` on whose bytes all satisfy `test`.
    #[inline]
    fn run(&self, from: usize, test: impl Fn(u8) -> bool) -> usize {
        let bytes = self.text.as_bytes();
        let mut end = (self.at + from).min(bytes.len());
        while end < bytes.len() && test(bytes[end]) {
            end += 1;
        }
        end - self.at
    }

    /// The next token inside a text, a command, or a hole of one.
    fn next(&mut self) {
        let at_line_start = self.at == 0 || self.text.as_bytes()[self.at - 1] == b'\n';
        if at_line_start
            && !self.modes.contains(&Mode::Text { long: true })
            && begins_declaration(self.text, self.at)
        {
            self.modes.clear();
        }
        match self.modes.last() {
            None | Some(Mode::Hole { .. }) => self.code(),
            Some(Mode::Text { long }) => self.in_text(*long),
            Some(Mode::Command) => self.command(),
            Some(Mode::Quote) => self.quote(),
        }
    }

    fn code(&mut self) {
        let byte = self.byte(0);
        let lone = PUNCTUATION[byte as usize];
        if lone != Odd {
            return self.token(lone, 1);
        }
        match byte {
            b' ' | b'\t' => self.at += self.run(1, |b| b == b' ' || b == b'\t'),
            b'\r' if self.byte(1) == b'\n' => self.newline(2),
            b'\n' => self.newline(1),
            b'#' => {
                let kind = if self.byte(1) == b'#' && self.byte(2) != b'#' {
                    DocComment
                } else {
                    Comment
                };
                let len = self.rest().find(['\n', '\r']).unwrap_or(self.rest().len());
                self.token(kind, len);
            }
            b'0'..=b'9' => {
                let digits = self.run(1, |b| b.is_ascii_digit() || b == b'_');
                let end = self.run(digits, in_word);
                self.token(if end > digits { Duration } else { Int }, end);
            }
            b'a'..=b'z' | b'A'..=b'Z' | b'_' => {
                let len = self.run(1, in_word);
                self.token(Word, len);
            }
            b'"' | b'\'' => self.open_text(),
            b'`' => self.backtick(),
            _ => self.punctuation(),
        }
    }

    /// A line end; inside a hole of a one-line text it ends hole and text, which are unclosed then.
    fn newline(&mut self, len: usize) {
        if let Some(line_text) = self
            .modes
            .iter()
            .position(|m| *m == Mode::Text { long: false })
        {
            self.modes.truncate(line_text);
        }
        self.token(Newline, len);
    }

    fn open_text(&mut self) {
        let quote = self.byte(0) as char;
        let triple = if quote == '"' { "\"\"\"" } else { "'''" };
        let long = self
            .rest()
            .strip_prefix(triple)
            .is_some_and(|inside| inside.contains(triple));
        self.token(TextOpen, if long { 3 } else { 1 });
        if quote == '"' {
            self.modes.push(Mode::Text { long });
            return;
        }
        // Without holes there is nothing to nest: the whole inside is one token.
        let end = match long {
            true => self.rest().find(triple),
            false => self.rest().find(['\'', '\n']),
        };
        let len = end.unwrap_or(self.rest().len());
        if len > 0 {
            self.token(TextPart, len);
        }
        if self.byte(0) == b'\'' {
            self.token(TextClose, if long { 3 } else { 1 });
        }
    }

    /// A backtick opens a command, unless a hole of a command was left open: then it closes that.
    fn backtick(&mut self) {
        if let Some(command) = self.modes.iter().rposition(|m| *m == Mode::Command) {
            self.modes.truncate(command);
            self.token(CommandClose, 1);
        } else {
            self.token(CommandOpen, 1);
            self.modes.push(Mode::Command);
        }
    }

    fn punctuation(&mut self) {
        let (kind, len) = match (self.byte(0), self.byte(1)) {
            // Most of the others are recognized by their byte alone.
            (b'=', b'=') => (EqualsEquals, 2),
            (b'!', b'=') => (NotEquals, 2),
            (b'<', b'=') => (LessEquals, 2),
            (b'>', b'=') => (GreaterEquals, 2),
            (b'=', _) => (Equals, 1),
            (b'<', _) => (Less, 1),
            (b'>', _) => (Greater, 1),
            (b'&', _) => {
                let path = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-' | b'/');
                let len = self.run(1, path);
                (if len > 1 { Ref } else { Amp }, len)
            }
            (b'{', _) => {
                if let Some(Mode::Hole { braces }) = self.modes.last_mut() {
                    *braces += 1;
                }
                (LeftBrace, 1)
            }
            (b'}', _) => match self.modes.last_mut() {
                Some(Mode::Hole { braces: 0 }) => {
                    self.modes.pop();
                    (HoleClose, 1)
                }
                Some(Mode::Hole { braces }) => {
                    *braces -= 1;
                    (RightBrace, 1)
                }
                _ => (RightBrace, 1),
            },
            _ => (Odd, self.rest().chars().next().map_or(1, char::len_utf8)),
        };
        self.token(kind, len);
    }

    fn open_hole(&mut self) {
        self.token(HoleOpen, 1);
        self.modes.push(Mode::Hole { braces: 0 });
    }

    fn in_text(&mut self, long: bool) {
        match (self.byte(0), self.byte(1)) {
            (b'"', _) if !long || self.rest().starts_with("\"\"\"") => {
                self.modes.pop();
                self.token(TextClose, if long { 3 } else { 1 });
            }
            (b'\n', _) if !long => {
                self.modes.pop();
                self.newline(1);
            }
            (b'{', b'{') | (b'}', b'}') => self.token(TextEscape, 2),
            (b'{', _) => self.open_hole(),
            (b'\\', next) if next != 0 && next != b'\n' => {
                let escaped = self.rest()[1..].chars().next().map_or(0, char::len_utf8);
                self.token(TextEscape, 1 + escaped);
            }
            _ => {
                let inside =
                    |b: u8| !matches!(b, b'"' | b'{' | b'}' | b'\\') && (long || b != b'\n');
                let len = self.run(1, inside);
                self.token(TextPart, len);
            }
        }
    }

    fn command(&mut self) {
        let after_space = matches!(
            self.tokens.last().map(|t| t.kind),
            Some(CommandSpace | CommandOpen)
        );
        let rest = self.rest();
        match (self.byte(0), self.byte(1)) {
            (b'`', _) => {
                self.modes.pop();
                self.token(CommandClose, 1);
            }
            (b, _) if b.is_ascii_whitespace() => self.command_space(),
            (b'{', b'{') | (b'}', b'}') => self.token(CommandEscape, 2),
            (b'{', _) => self.open_hole(),
            (b'"', _) => {
                self.token(QuoteOpen, 1);
                self.modes.push(Mode::Quote);
            }
            (b'\'', _) => {
                let close = rest[1..].find(['\'', '`']).map(|i| i + 1);
                let closed = close.is_some_and(|i| rest.as_bytes()[i] == b'\'');
                self.token(
                    CommandRaw,
                    close.map_or(rest.len(), |i| i + usize::from(closed)),
                );
            }
            (b'\\', b'\n') => self.token(CommandSpace, 2),
            (b'\\', next) if next != 0 => {
                let escaped = rest[1..].chars().next().map_or(0, char::len_utf8);
                self.token(CommandEscape, 1 + escaped);
            }
            (b'$', _) => {
                let len = self.run(1, |b| b.is_ascii_alphanumeric() || b == b'_');
                self.token(CommandShell, len);
            }
            (b'2', b'>') if after_space => {
                let shell = matches!(self.byte(2), b'&' | b'>');
                let len = if shell {
                    self.run(3, |b| b.is_ascii_digit())
                } else {
                    2
                };
                self.token(if shell { CommandShell } else { CommandOperator }, len);
            }
            (b'>', b'>' | b'&') | (b'<', b'<' | b'(') | (b'|', b'|') | (b'&', b'&') => {
                self.token(CommandShell, 2);
            }
            (b';' | b'&' | b'*', _) => self.token(CommandShell, 1),
            (b'>' | b'<' | b'|', _) => self.token(CommandOperator, 1),
            _ => {
                let plain = |b: u8| !b.is_ascii_whitespace() && !b"`{}\"'\\$;&*><|".contains(&b);
                let len = self.run(1, plain);
                self.token(CommandPart, len);
            }
        }
    }

    /// White space between words of a command. It stops at each line start, so that a declaration below
    /// an unclosed command is seen.
    fn command_space(&mut self) {
        let length = self.run(0, |b| b.is_ascii_whitespace());
        let length = match self.rest().find('\n') {
            Some(line) if length > line => line + 1,
            _ => length,
        };
        self.token(CommandSpace, length);
    }

    fn quote(&mut self) {
        match (self.byte(0), self.byte(1)) {
            (b'"', _) => {
                self.modes.pop();
                self.token(QuoteClose, 1);
            }
            (b'`', _) => self.backtick(),
            (b'{', b'{') | (b'}', b'}') => self.token(CommandEscape, 2),
            (b'{', _) => self.open_hole(),
            (b'\\', next) if next != 0 => {
                let escaped = self.rest()[1..].chars().next().map_or(0, char::len_utf8);
                self.token(CommandEscape, 1 + escaped);
            }
            (b'$', b'a'..=b'z' | b'A'..=b'Z' | b'_' | b'{' | b'(') => {
                let len = self.run(1, |b| b.is_ascii_alphanumeric() || b == b'_');
                self.token(CommandShell, len);
            }
            _ => {
                let plain = |b: u8| !b"\"`{}\\$\n".contains(&b);
                let len = self.run(1, plain);
                self.token(CommandPart, len);
            }
        }
    }
}
