//! Long commands and long output, without their middle.

use super::paint::{Ink, Paint};
use super::text::Excerpt;

/// How many characters of a command are shown with a failure: what is longer hides what was
/// printed.
const COMMAND_SHOWN: usize = 1_500;

/// A command without words in its middle, if it is too long to be shown.
pub(super) fn shortened(command: &str) -> Option<String> {
    if command.len() <= COMMAND_SHOWN {
        return None;
    }
    let words: Vec<&str> = command.split(' ').collect();
    let fitting = |words: &mut dyn Iterator<Item = &&str>, room: usize| {
        let mut used = 0;
        words
            .take_while(|word| {
                used += word.len() + 1;
                used <= room
            })
            .count()
    };
    let first = fitting(&mut words.iter(), COMMAND_SHOWN / 2).max(1);
    let last = fitting(&mut words[first..].iter().rev(), COMMAND_SHOWN / 4);
    let end = words.len() - last;
    let start: String = words[..first]
        .join(" ")
        .chars()
        .take(COMMAND_SHOWN)
        .collect();
    Some(format!(
        "{start} … {} more words … {}",
        end - first,
        words[end..].join(" ")
    ))
}

/// How many lines are shown on a terminal, and elsewhere.
pub(super) fn excerpt(paint: Paint) -> Excerpt {
    if paint.width.is_some() {
        Excerpt::SHORT
    } else {
        Excerpt::LONG
    }
}

/// What a command printed, without the middle where that is long; `whole` says what became of all
/// of it.
pub fn render_printed(text: &str, paint: Paint, whole: &str) -> String {
    let (first, left_out, last) = excerpt(paint).of(text);
    let mut out: String = first.iter().map(|line| format!("    {line}\n")).collect();
    if left_out > 0 {
        let text = format!(
            "{} {left_out} lines left out; {whole}",
            paint.glyph("…", "...")
        );
        out.push_str(&format!("    {}\n", paint.ink(Ink::Faint, &text)));
    }
    last.iter()
        .for_each(|line| out.push_str(&format!("    {line}\n")));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_command_is_shown_without_its_middle() {
        assert_eq!(shortened("cc -c fit.c"), None);
        let words: Vec<String> = (0..2000).map(|n| format!("word{n}")).collect();
        let short = shortened(&words.join(" ")).unwrap();
        assert!(short.len() < COMMAND_SHOWN, "{}", short.len());
        assert!(
            short.starts_with("word0 word1 ") && short.ends_with(" word1998 word1999"),
            "{short}"
        );
        let shown = short
            .split(' ')
            .filter(|word| word.len() > 4 && word.starts_with("word") && *word != "words")
            .count();
        let left: usize = short
            .split(' ')
            .skip_while(|word| *word != "…")
            .nth(1)
            .unwrap()
            .parse()
            .unwrap();
        assert_eq!(shown + left, 2000);
        // One word without an end is cut, too.
        assert!(shortened(&"x".repeat(100_000)).unwrap().len() < 2 * COMMAND_SHOWN);
    }
}
