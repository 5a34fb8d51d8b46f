//! Colours and glyphs, and when they are used.

use std::io::IsTerminal;

use super::text::{width, wrapped};
use crate::arguments::Color;

/// Columns in which text is broken at least.
const NARROWEST: usize = 20;

/// What a piece of text is, for its colour.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Ink {
    /// Done, in place.
    Calm,
    /// Work that was done.
    Busy,
    /// Taken from elsewhere.
    Found,
    /// Wrong.
    Wrong,
    /// Questionable.
    Doubt,
    /// Something to paste.
    Mend,
    /// Less important.
    Faint,
    /// More important.
    Strong,
}

impl Ink {
    fn code(self) -> &'static str {
        // The sea chart's palette: deep water, shallows, sand, buoy red, kelp.
        match self {
            Ink::Calm => "38;5;66",
            Ink::Busy => "38;5;74",
            Ink::Found => "38;5;140",
            Ink::Wrong => "1;38;5;203",
            Ink::Doubt => "38;5;179",
            Ink::Mend => "38;5;108",
            Ink::Faint => "38;5;245",
            Ink::Strong => "1",
        }
    }
}

/// What a stream can show.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Paint {
    /// Whether colours are used.
    pub colours: bool,
    /// Whether characters beyond ASCII are used.
    pub glyphs: bool,
    /// Columns of the terminal; `None` where output is none and lines are not cut.
    pub width: Option<usize>,
    /// Whether a message is one line that programs read, with its details below.
    pub plain: bool,
}

impl Paint {
    /// What standard output can show.
    pub fn for_stdout(plain: bool, color: Color) -> Paint {
        Self::of(std::io::stdout().is_terminal(), plain).with_colours(color, plain)
    }

    /// What standard error can show.
    pub fn for_stderr(plain: bool, color: Color) -> Paint {
        Self::of(std::io::stderr().is_terminal(), plain).with_colours(color, plain)
    }

    fn of(is_terminal: bool, plain: bool) -> Paint {
        let variable = |name: &str| std::env::var(name).unwrap_or_default();
        let is_dumb = variable("TERM") == "dumb";
        let locale = ["LC_ALL", "LC_CTYPE", "LANG"].map(variable).into_iter().find(|v| !v.is_empty());
        let utf8 = locale.is_some_and(|l| l.to_lowercase().replace('-', "").contains("utf8"));
        let live = is_terminal && !plain && !is_dumb;
        let width = terminal_size::terminal_size().map(|(w, _)| usize::from(w.0));
        Paint {
            colours: live && variable("NO_COLOR").is_empty(),
            glyphs: utf8 && !plain,
            width: width.filter(|_| live).map(|w| w.max(20)),
            plain,
        }
    }

    /// The same with colours as the command line wants them.
    fn with_colours(self, color: Color, plain: bool) -> Paint {
        match color {
            Color::Auto => self,
            Color::Always => Paint { colours: !plain, ..self },
            Color::Never => Paint { colours: false, ..self },
        }
    }

    /// A text behind so many columns: one that is too long for the terminal goes on below them, broken at spaces.
    pub fn in_lines(self, indent: usize, text: &str, inked: impl Fn(&str) -> String) -> String {
        let room = self.width.map_or(usize::MAX, |w| w.saturating_sub(indent + 1).max(NARROWEST));
        if width(text) <= room {
            return inked(text);
        }
        let lines: Vec<String> = wrapped(text, room).iter().map(|line| inked(line)).collect();
        lines.join(&format!("\n{:indent$}", ""))
    }

    /// The same for a terminal that may have become wider or narrower in the meantime.
    pub fn resized(self) -> Paint {
        let now = || terminal_size::terminal_size().map(|(width, _)| usize::from(width.0).max(20));
        Paint { width: self.width.map(|width| now().unwrap_or(width)), ..self }
    }

    /// The text in a colour, where colours are used.
    pub fn ink(&self, ink: Ink, text: &str) -> String {
        if !self.colours || text.is_empty() {
            return text.to_owned();
        }
        format!("\x1b[{}m{text}\x1b[0m", ink.code())
    }

    /// One of two forms of a glyph.
    pub fn glyph(&self, beyond_ascii: &'static str, ascii: &'static str) -> &'static str {
        if self.glyphs { beyond_ascii } else { ascii }
    }
}
