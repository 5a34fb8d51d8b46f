//! The texts that were read in this run, and places in them.

use std::sync::Arc;

/// A text that was read in this run. Only meaningful together with the [`Sources`] that gave it
/// out.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct TextId(pub u32);

impl TextId {
    /// Its place among all.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// A range of bytes in one text: `start` inclusive, `end` exclusive.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct Span {
    /// The text that the range is in.
    pub file: TextId,
    /// First byte.
    pub start: u32,
    /// First byte after the range.
    pub end: u32,
}

impl Span {
    /// The range `start..end` (bytes) of `file`.
    pub fn new(file: TextId, start: usize, end: usize) -> Self {
        Span {
            file,
            start: start as u32,
            end: end as u32,
        }
    }

    /// The smallest range that holds both; `other` must be in the same text.
    pub fn to(self, other: Span) -> Span {
        debug_assert_eq!(self.file, other.file);
        Span {
            file: self.file,
            start: self.start.min(other.start),
            end: self.end.max(other.end),
        }
    }
}

/// A place as people count: lines and columns from 1, columns in characters.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct LineColumn {
    /// Line, from 1.
    pub line: u32,
    /// Column in characters, from 1.
    pub column: u32,
}

struct SourceFile {
    name: Arc<str>,
    text: Arc<str>,
    /// Byte offset at which each line begins.
    line_starts: Vec<u32>,
}

impl SourceFile {
    /// The line (from 1) in which a byte is.
    fn line_of(&self, offset: u32) -> u32 {
        self.line_starts.partition_point(|&s| s <= offset).max(1) as u32
    }
}

/// The texts read in this run, by [`TextId`].
#[derive(Default)]
pub struct Sources {
    files: Vec<SourceFile>,
}

impl Sources {
    /// Adds a text under the name that messages show (`tide/targets.nub`, `nub:c`).
    pub fn add(&mut self, name: &str, text: Arc<str>) -> TextId {
        let starts = memchr::memchr_iter(b'\n', text.as_bytes()).map(|at| at as u32 + 1);
        let line_starts = std::iter::once(0).chain(starts).collect();
        self.files.push(SourceFile {
            name: name.into(),
            text,
            line_starts,
        });
        TextId(self.files.len() as u32 - 1)
    }

    /// Gives a text another name for messages.
    pub fn rename(&mut self, file: TextId, name: &str) {
        self.files[file.index()].name = name.into();
    }

    /// The texts that have a name.
    pub fn named(&self, name: &str) -> Option<TextId> {
        let at = self.files.iter().position(|file| *file.name == *name)?;
        Some(TextId(at as u32))
    }

    /// The name under which the text was added.
    pub fn name(&self, file: TextId) -> &Arc<str> {
        &self.files[file.index()].name
    }

    /// The whole text.
    pub fn text(&self, file: TextId) -> &Arc<str> {
        &self.files[file.index()].text
    }

    /// The words that a span covers; empty when the span is out of the text.
    pub fn slice(&self, span: Span) -> &str {
        self.text(span.file)
            .get(span.start as usize..span.end as usize)
            .unwrap_or("")
    }

    /// Line and column of a byte offset.
    pub fn line_column(&self, file: TextId, offset: u32) -> LineColumn {
        let source = &self.files[file.index()];
        let line = source.line_of(offset);
        let start = source.line_starts[line as usize - 1] as usize;
        let before = source.text.get(start..offset as usize).unwrap_or("");
        LineColumn {
            line,
            column: before.chars().count() as u32 + 1,
        }
    }

    /// The line (from 1) in which a span begins.
    pub fn line(&self, span: Span) -> u32 {
        self.files[span.file.index()].line_of(span.start)
    }

    /// The text of one line (from 1), without its line end.
    pub fn line_text(&self, file: TextId, line: u32) -> &str {
        let source = &self.files[file.index()];
        let Some(&start) = source.line_starts.get(line as usize - 1) else {
            return "";
        };
        let end = source
            .line_starts
            .get(line as usize)
            .map_or(source.text.len(), |&e| e as usize);
        source.text[start as usize..end].trim_end_matches(['\n', '\r'])
    }

    /// `name:line`, as people paste it into an editor.
    pub fn place(&self, span: Span) -> String {
        format!("{}:{}", self.name(span.file), self.line(span))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_lines_and_characters() {
        let mut sources = Sources::default();
        let file = sources.add("a.nub", "let ä = 1\nlet b = 2\r\n".into());
        assert_eq!(
            sources.line_column(file, 0),
            LineColumn { line: 1, column: 1 }
        );
        assert_eq!(
            sources.line_column(file, 6),
            LineColumn { line: 1, column: 6 }
        );
        assert_eq!(
            sources.line_column(file, 11),
            LineColumn { line: 2, column: 1 }
        );
        assert_eq!(sources.line_text(file, 2), "let b = 2");
        assert_eq!(sources.line_text(file, 9), "");
    }
}
