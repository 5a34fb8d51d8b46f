//! Colours and glyphs, and when they are used.

use std::io::IsTerminal;
use std::sync::OnceLock;

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
    /// All of them.
    #[cfg(test)]
    const ALL: [Ink; 8] = [
        Ink::Calm,
        Ink::Busy,
        Ink::Found,
        Ink::Wrong,
        Ink::Doubt,
        Ink::Mend,
        Ink::Faint,
        Ink::Strong,
    ];

    /// Its number among the 256 colours of terminals, if it has a colour: each can be read on black
    /// and on white.
    fn colour(self) -> Option<u8> {
        // Kelp, deep water, dusk, buoy red, heather, slate.
        match self {
            Ink::Calm | Ink::Mend => Some(29),
            Ink::Busy => Some(63),
            Ink::Found => Some(98),
            Ink::Wrong => Some(131),
            Ink::Doubt => Some(163),
            Ink::Faint => Some(243),
            Ink::Strong => None,
        }
    }

    /// One of the 16 colours that a person chose for their terminal, if it has a colour.
    fn own_colour(self) -> Option<u8> {
        match self {
            Ink::Calm | Ink::Mend => Some(32),
            Ink::Busy => Some(34),
            Ink::Found => Some(36),
            Ink::Wrong => Some(31),
            Ink::Doubt => Some(33),
            Ink::Faint => Some(90),
            Ink::Strong => None,
        }
    }

    /// The codes that a terminal is given for it.
    fn code(self) -> String {
        let is_bold = matches!(self, Ink::Wrong | Ink::Strong);
        let bold = is_bold.then(|| "1".to_owned());
        let colour = match takes_own_colours() {
            true => self.own_colour().map(|number| number.to_string()),
            false => self.colour().map(|number| format!("38;5;{number}")),
        };
        bold.into_iter()
            .chain(colour)
            .collect::<Vec<String>>()
            .join(";")
    }
}

/// Whether the terminal's own 16 colours are used, which a person can choose, in place of those
/// that can be read everywhere.
fn takes_own_colours() -> bool {
    static TAKES: OnceLock<bool> = OnceLock::new();
    *TAKES
        .get_or_init(|| std::env::var_os("NUBRIK_COLORS").is_some_and(|value| value == "terminal"))
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
        let locale = ["LC_ALL", "LC_CTYPE", "LANG"]
            .map(variable)
            .into_iter()
            .find(|v| !v.is_empty());
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
            Color::Always => Paint {
                colours: !plain,
                ..self
            },
            Color::Never => Paint {
                colours: false,
                ..self
            },
        }
    }

    /// A text behind so many columns: one that is too long for the terminal goes on below them,
    /// broken at spaces.
    pub fn in_lines(self, indent: usize, text: &str, inked: impl Fn(&str) -> String) -> String {
        let room = self
            .width
            .map_or(usize::MAX, |w| w.saturating_sub(indent + 1).max(NARROWEST));
        if width(text) <= room {
            return inked(text);
        }
        let lines: Vec<String> = wrapped(text, room).iter().map(|line| inked(line)).collect();
        lines.join(&format!("\n{:indent$}", ""))
    }

    /// The same for a terminal that may have become wider or narrower in the meantime.
    pub fn resized(self) -> Paint {
        let now = || terminal_size::terminal_size().map(|(width, _)| usize::from(width.0).max(20));
        Paint {
            width: self.width.map(|width| now().unwrap_or(width)),
            ..self
        }
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

#[cfg(test)]
mod tests {
    use super::*;

    /// The luminance of one of the 256 colours, by WCAG 2: the cube of 6 × 6 × 6 from 16 on, then
    /// 24 greys.
    fn luminance(number: u8) -> f64 {
        let levels = [0u8, 95, 135, 175, 215, 255];
        let parts = match number {
            0..16 => panic!("terminals choose these themselves"),
            16..232 => {
                let n = usize::from(number - 16);
                [levels[n / 36], levels[n / 6 % 6], levels[n % 6]]
            }
            232.. => [8 + 10 * (number - 232); 3],
        };
        let linear = |part: u8| {
            let part = f64::from(part) / 255.0;
            if part <= 0.03928 {
                part / 12.92
            } else {
                ((part + 0.055) / 1.055).powf(2.4)
            }
        };
        let [red, green, blue] = parts.map(linear);
        0.2126 * red + 0.7152 * green + 0.0722 * blue
    }

    #[test]
    fn all_colours_can_be_read_on_black_and_on_white() {
        for ink in Ink::ALL {
            let Some(number) = ink.colour() else { continue };
            let lit = luminance(number) + 0.05;
            let (on_black, on_white) = (lit / 0.05, 1.05 / lit);
            assert!(
                on_black >= 4.5 && on_white >= 4.5,
                "{ink:?}: {on_black:.2} on black, {on_white:.2} on white"
            );
        }
    }
}
