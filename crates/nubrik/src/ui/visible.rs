//! Texts from outside, made so that they cannot steer the terminal.

use std::borrow::Cow;

/// A text whose control characters are visible; line ends, tabs and plain colours stay.
pub fn visible(text: &str) -> Cow<'_, str> {
    if !text.chars().any(steers) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 16);
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(colour) = colour_at(rest) {
            shown.push_str(colour);
            rest = &rest[colour.len()..];
            continue;
        }
        if steers(c) {
            shown.push_str(&format!("\\u{{{:x}}}", c as u32));
        } else {
            shown.push(c);
        }
        rest = &rest[c.len_utf8()..];
    }
    Cow::Owned(shown)
}

/// Whether a character could move the cursor, change the terminal, or turn the direction in which
/// text is read.
pub fn steers(c: char) -> bool {
    let turns = matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    (c.is_control() && c != '\n' && c != '\t') || turns
}

/// The sequence for a colour at the beginning of a text, if one is there that hides nothing.
fn colour_at(text: &str) -> Option<&str> {
    let codes = text.strip_prefix("\x1b[")?;
    let end = codes
        .find(|c: char| !c.is_ascii_digit() && c != ';')
        .filter(|end| *end <= 32)?;
    codes[end..].strip_prefix('m')?;
    let mut numbers = codes[..end]
        .split(';')
        .map(|n| n.parse::<u32>().unwrap_or(0));
    while let Some(number) = numbers.next() {
        match number {
            0..=4 | 21..=24 | 30..=37 | 39..=47 | 49 | 90..=97 | 100..=107 => {}
            // One of 256, or red, green and blue.
            38 | 48 => match numbers.next()? {
                5 => drop(numbers.next()?),
                2 => drop(numbers.nth(2)?),
                _ => return None,
            },
            _ => return None,
        }
    }
    Some(&text[..2 + end + 1])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_steers_the_terminal() {
        for (text, shown) in [
            ("plain\ttext\n", "plain\ttext\n"),
            ("\x1b]0;title\x07x", "\\u{1b}]0;title\\u{7}x"),
            ("\x1b[2Jx", "\\u{1b}[2Jx"),
            ("a\rb\u{7f}", "a\\u{d}b\\u{7f}"),
            ("c1\u{9b}31m", "c1\\u{9b}31m"),
            ("rtl\u{202e}txt", "rtl\\u{202e}txt"),
            ("\x1b[38;5;74mx\x1b[0m", "\x1b[38;5;74mx\x1b[0m"),
            ("\x1b[1;38;2;1;2;3mx\x1b[m", "\x1b[1;38;2;1;2;3mx\x1b[m"),
            ("\x1b[8mhidden", "\\u{1b}[8mhidden"),
            ("\x1b[38;5m", "\\u{1b}[38;5m"),
            ("\x1b", "\\u{1b}"),
        ] {
            assert_eq!(visible(text), shown, "{text:?}");
        }
    }
}
