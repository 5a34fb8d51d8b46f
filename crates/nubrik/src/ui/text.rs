//! Widths and cuts of text, and what of it a terminal may be given.

use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// Columns that a text takes.
pub fn width(text: &str) -> usize {
    UnicodeWidthStr::width(text)
}

/// The text filled with spaces to some columns.
pub fn padded(text: &str, columns: usize) -> String {
    format!("{text}{}", " ".repeat(columns.saturating_sub(width(text))))
}

/// The text cut to some columns, with a mark where it was cut.
pub fn cut(text: &str, columns: usize, mark: &str) -> String {
    if width(text) <= columns {
        return text.to_owned();
    }
    let room = columns.saturating_sub(width(mark));
    let mut kept = String::new();
    let mut used = 0;
    for c in text.chars() {
        used += c.width().unwrap_or(0);
        if used > room {
            break;
        }
        kept.push(c);
    }
    kept + mark
}

/// The text in lines of at most so many columns, broken at spaces.
pub fn wrapped(text: &str, columns: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let last = lines.last_mut().map(|l| width(l)).unwrap_or(0);
        if last > 0 && last + 1 + width(word) > columns {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            if !line.is_empty() {
                line.push(' ');
            }
            line.push_str(word);
        }
    }
    lines
        .into_iter()
        .map(|l| l.trim_end().to_owned())
        .filter(|l| !l.is_empty())
        .collect()
}

/// How many lines of what a command printed are shown.
#[derive(Clone, Copy)]
pub struct Excerpt {
    /// From the beginning.
    pub first: usize,
    /// From the end, where errors mostly are.
    pub last: usize,
}

impl Excerpt {
    /// For a terminal.
    pub const SHORT: Excerpt = Excerpt {
        first: 20,
        last: 80,
    };
    /// For a log that is read later, and elsewhere.
    pub const LONG: Excerpt = Excerpt {
        first: 200,
        last: 1800,
    };

    /// The lines at the beginning, those at the end, and how many are left out between them.
    pub fn of<'t>(self, text: &'t str) -> (Vec<&'t str>, usize, Vec<&'t str>) {
        let mut lines: Vec<&'t str> = text.lines().collect();
        if lines.len() <= self.first + self.last + 1 {
            return (lines, 0, Vec::new());
        }
        let last = lines.split_off(lines.len() - self.last);
        let left_out = lines.len() - self.first;
        lines.truncate(self.first);
        (lines, left_out, last)
    }
}

/// Control characters made visible, so that no output can steer the terminal; colours stay where
/// they are wanted.
pub fn harmless(text: &str, keep_colours: bool) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text.chars().peekable();
    while let Some(c) = rest.next() {
        if c == '\x1b' && rest.peek() == Some(&'[') {
            let mut sequence = String::from("\x1b[");
            rest.next();
            for c in rest.by_ref() {
                sequence.push(c);
                if c.is_ascii_alphabetic() {
                    break;
                }
            }
            if keep_colours && sequence.ends_with('m') {
                out.push_str(&sequence);
            }
        } else if c == '\n' || c == '\t' || !c.is_control() {
            out.push(c);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_broken_at_spaces() {
        assert_eq!(wrapped("a bb ccc", 4), ["a bb", "ccc"]);
        assert_eq!(wrapped("abcdef", 3), ["abcdef"]);
    }

    #[test]
    fn an_excerpt_leaves_out_the_middle() {
        let text: String = (0..10).map(|n| format!("{n}\n")).collect();
        let (first, left_out, last) = Excerpt { first: 2, last: 3 }.of(&text);
        assert_eq!(
            (first, left_out, last),
            (vec!["0", "1"], 5, vec!["7", "8", "9"])
        );
        // One line that is left out would need one that says so.
        let (first, left_out, last) = Excerpt { first: 6, last: 3 }.of(&text);
        assert_eq!((first.len(), left_out, last.len()), (10, 0, 0));
    }

    #[test]
    fn cuts_to_columns() {
        assert_eq!(cut("harmonics", 20, "…"), "harmonics");
        assert_eq!(cut("harmonics", 5, "…"), "harm…");
        assert_eq!(cut("潮汐表", 5, "…"), "潮汐…");
        assert_eq!(padded("潮", 4), "潮  ");
    }

    #[test]
    fn output_cannot_steer_the_terminal() {
        assert_eq!(harmless("a\x1b[2Jb\x07\x1b[31mc\x1b[0m\n", false), "abc\n");
        assert_eq!(harmless("\x1b[31mc\x1b[0m", true), "\x1b[31mc\x1b[0m");
    }
}
