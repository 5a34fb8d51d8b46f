//! What the parser reports: one error for one mistake.

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::Parser;
use crate::SyntaxKind::*;
use crate::habits;

impl<'a> Parser<'a> {
    /// Reports that something else was expected at the next token; what people write there by habit
    /// is met with what it is here.
    pub fn expected(&mut self, what: &str) {
        if let Some((length, error)) = self.rest().and_then(habits::sign) {
            return self.error_of_length(length, error);
        }
        let found = match self.peek() {
            Newline => "the end of the line".to_owned(),
            EndOfFile => "the end of the file".to_owned(),
            TextPart | TextClose | CommandPart | CommandSpace => "the end of the hole".to_owned(),
            _ => format!("`{}`", self.peek_text()),
        };
        self.error(Diagnostic::error(
            "syntax",
            format!("expected {what}, found {found}"),
        ));
    }

    /// Reports an error at the next token, unless one was reported there.
    pub fn error(&mut self, diagnostic: Diagnostic) {
        let next = self.next_index();
        if self.last_error != Some(next) {
            self.last_error = Some(next);
            if self.unclosed {
                return;
            }
            let span = self.next_span();
            if !self.is_blamed(span.start) {
                self.diagnostics.push(diagnostic.at(span));
            }
        }
    }

    /// The text from the next token on; `None` at a line's end.
    pub fn rest(&self) -> Option<&'a str> {
        let token = self.tokens[self.next_index()];
        let is_end = matches!(
            token.kind,
            Newline | EndOfFile | TextPart | TextClose | CommandPart | CommandSpace
        );
        if is_end {
            None
        } else {
            self.text.get(token.start as usize..)
        }
    }

    /// Reports an error about so many bytes from the next token on.
    pub fn error_of_length(&mut self, length: usize, diagnostic: Diagnostic) {
        let start = self.tokens[self.next_index()].start as usize;
        if self.last_error != Some(self.next_index()) {
            self.error_at(Span::new(self.file, start, start + length), diagnostic);
        }
    }

    /// The text from a byte on.
    pub fn text_from(&self, start: usize) -> &'a str {
        self.text.get(start..).unwrap_or_default()
    }

    /// The text up to a byte.
    pub fn text_before(&self, end: usize) -> &'a str {
        self.text.get(..end).unwrap_or_default()
    }

    /// Reports an error about some bytes.
    pub fn error_about(&mut self, start: usize, length: usize, diagnostic: Diagnostic) {
        self.error_at(Span::new(self.file, start, start + length), diagnostic);
    }

    /// Takes everything up to the end of the line.
    pub fn skip_line(&mut self) {
        let mark = self.mark_here();
        while !matches!(self.peek_raw(), Newline | EndOfFile) {
            self.take_raw();
        }
        self.finish(mark, Error);
    }

    /// Whether an error was reported in the line of a place: what follows from it there is no
    /// mistake of its own.
    fn is_blamed(&self, start: u32) -> bool {
        let Some(span) = self.diagnostics.last().and_then(|d| d.span) else {
            return false;
        };
        let (first, last) = (
            span.start.min(start) as usize,
            span.start.max(start) as usize,
        );
        !self.text.as_bytes()[first..last].contains(&b'\n')
    }

    /// Reports an error at a known place.
    pub fn error_at(&mut self, span: Span, diagnostic: Diagnostic) {
        self.last_error = Some(self.next_index());
        if self.unclosed {
            return;
        }
        self.unclosed = diagnostic.code == "unclosed";
        if self.unclosed {
            // What was wrong after it only follows from it.
            let first = self
                .diagnostics
                .partition_point(|d| d.span.is_none_or(|s| s.start < span.start));
            self.diagnostics.truncate(first);
        }
        if !self.is_blamed(span.start) {
            self.diagnostics.push(diagnostic.at(span));
        }
    }

    /// Begins a declaration: what was wrong in the one before is behind.
    pub fn begin_declaration(&mut self) {
        self.unclosed = false;
    }

    /// Counts what follows as new: the mistake that was just reported is behind.
    pub fn forget_failure(&mut self) {
        self.last_error = None;
    }

    /// Whether the last error is after this place.
    pub fn has_error_behind(&self, place: Span) -> bool {
        let last = self.diagnostics.last().and_then(|d| d.span);
        last.is_some_and(|span| span.start > place.start)
    }

    /// How many errors were reported: a form in which one was reported is not blamed for being
    /// open.
    pub fn error_count(&self) -> usize {
        self.diagnostics.len()
    }

    /// Whether an error was reported at the next token.
    pub fn failed_here(&self) -> bool {
        self.last_error == Some(self.next_index())
    }
}
