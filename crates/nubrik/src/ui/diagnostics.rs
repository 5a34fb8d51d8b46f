//! How diagnostics look: what is wrong, the words in question, what else to see, what to write.
//!
//! ```text
//! error   `harmonic` is not defined here
//!   at    tide/targets.nub:14:44  (unknown-name)
//!         target tidecast = c.program { needs = [harmonic] }
//!                                                ▔▔▔▔▔▔▔▔
//!   see   tide/targets.nub:9  `harmonics` is declared here
//!   try   harmonics
//! ```

use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_source::{Sources, Span};

use super::paint::{Ink, Paint};
use super::text::{cut, width};

const MARGIN: usize = 8;

/// Renders diagnostics, with an empty line between them.
pub fn render(diagnostics: &[Diagnostic], sources: &Sources, paint: Paint) -> String {
    if paint.plain {
        return diagnostics
            .iter()
            .map(|d| super::plain::diagnostic(d, sources))
            .collect();
    }
    let rendered: Vec<String> = diagnostics
        .iter()
        .map(|d| render_one(d, sources, paint))
        .collect();
    rendered.join("\n")
}

fn render_one(diagnostic: &Diagnostic, sources: &Sources, paint: Paint) -> String {
    let (word, ink) = match diagnostic.severity {
        Severity::Error => ("error", Ink::Wrong),
        Severity::Warning => ("warning", Ink::Doubt),
    };
    let message = paint.in_lines(MARGIN, &diagnostic.message, |line| {
        paint.ink(Ink::Strong, line)
    });
    let mut out = format!("{}   {message}\n", paint.ink(ink, word));
    // The hops of a cycle replace its place and its code.
    let is_round = diagnostic.code == "cycle";
    if let Some(span) = diagnostic.span.filter(|_| !is_round) {
        let at = sources.line_column(span.file, span.start);
        let place = format!("{}:{}:{}", sources.name(span.file), at.line, at.column);
        let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(MARGIN));
        let code = format!("({})", diagnostic.code);
        let fits = width(&place) + 2 + width(&code) <= room;
        let between = if fits {
            "  ".to_owned()
        } else {
            format!("\n{}", " ".repeat(MARGIN))
        };
        let line = [place, code]
            .map(|part| paint.ink(Ink::Faint, &part))
            .join(&between);
        out.push_str(&labelled("at", &line, paint));
        out.push_str(&excerpt(span, sources, ink, paint));
    }
    out.push_str(&related_places(diagnostic, sources, is_round, paint));
    for note in &diagnostic.notes {
        out.push_str(&labelled(
            "note",
            &paint.in_lines(MARGIN, note, str::to_owned),
            paint,
        ));
    }
    for mend in &diagnostic.mends {
        // Words to paste are not broken; those of several lines are below each other.
        let lines: Vec<String> = mend
            .lines()
            .map(|line| paint.ink(Ink::Mend, line))
            .collect();
        out.push_str(&labelled(
            "try",
            &lines.join(&format!("\n{}", " ".repeat(MARGIN))),
            paint,
        ));
    }
    out
}

/// Other places of a diagnostic; those of a cycle with their lines, one after the other.
fn related_places(
    diagnostic: &Diagnostic,
    sources: &Sources,
    is_round: bool,
    paint: Paint,
) -> String {
    let mut out = String::new();
    let widest = diagnostic
        .related
        .iter()
        .map(|r| width(&sources.place(r.span)))
        .max()
        .unwrap_or(0);
    let count = diagnostic.related.len();
    for (i, related) in diagnostic.related.iter().enumerate() {
        let label = match i {
            _ if !is_round => "see",
            _ if count == 1 => paint.glyph("↻", "o"),
            0 => paint.glyph("╭", "/"),
            _ if i + 1 == count => paint.glyph("╰", "\\"),
            _ => paint.glyph("│", "|"),
        };
        let place = super::text::padded(&sources.place(related.span), widest);
        let line = format!("{}  {}", paint.ink(Ink::Faint, &place), related.message);
        out.push_str(&labelled(label, &line, paint));
        if is_round {
            let text = sources
                .line_text(related.span.file, sources.line(related.span))
                .trim();
            let side = if i + 1 == count {
                " "
            } else {
                paint.glyph("│", "|")
            };
            let room = paint
                .width
                .map_or(usize::MAX, |w| w.saturating_sub(MARGIN + 2));
            let text = cut(text, room, paint.glyph("…", "..."));
            out.push_str(&format!(
                "  {}       {}\n",
                paint.ink(Ink::Calm, side),
                paint.ink(Ink::Faint, &text)
            ));
        }
    }
    out
}

fn labelled(label: &str, text: &str, paint: Paint) -> String {
    let padding = " ".repeat((MARGIN - 2).saturating_sub(width(label)));
    format!("  {}{padding}{text}\n", paint.ink(Ink::Calm, label))
}

/// The line in question, with a mark below the words in question.
fn excerpt(span: Span, sources: &Sources, ink: Ink, paint: Paint) -> String {
    let at = sources.line_column(span.file, span.start);
    let line = sources.line_text(span.file, at.line);
    let clean = |text: &str| text.replace('\t', "    ");
    let offset = line
        .char_indices()
        .nth(at.column as usize - 1)
        .map_or(line.len(), |(i, _)| i);
    let words = sources.slice(span);
    let on_line = words.split('\n').next().unwrap_or("").trim_end();
    let end = (offset + on_line.len()).min(line.len());
    let before = clean(&line[..offset]);
    let mut marked = clean(line.get(offset..end).unwrap_or(""));
    let after = clean(line.get(end..).unwrap_or(""));
    let indent = before.len() - before.trim_start().len();
    let mut before = before[indent..].to_owned();
    let room = paint
        .width
        .map_or(usize::MAX, |w| w.saturating_sub(MARGIN + 1));
    let more = paint.glyph("…", "...");
    // Where the words are too far right, the line's beginning gives way.
    if width(&before) + width(&marked) > room {
        let keep = room
            .saturating_sub(width(&marked) + width(more))
            .min(room / 2);
        let tail: String = before
            .chars()
            .rev()
            .take(keep)
            .collect::<Vec<_>>()
            .into_iter()
            .rev()
            .collect();
        before = format!("{more}{tail}");
    }
    marked = cut(&marked, room.saturating_sub(width(&before)).max(4), more);
    let after = cut(
        &after,
        room.saturating_sub(width(&before) + width(&marked)),
        more,
    );
    let mark = paint.glyph("▔", "^").repeat(width(&marked).max(1));
    let margin = " ".repeat(MARGIN);
    let mut out = format!(
        "{margin}{before}{}{after}\n",
        paint.ink(Ink::Strong, &marked)
    );
    out.push_str(&format!(
        "{margin}{}{}\n",
        " ".repeat(width(&before)),
        paint.ink(ink, &mark)
    ));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAIN: Paint = Paint {
        colours: false,
        glyphs: true,
        width: None,
        plain: false,
    };

    fn sources() -> (Sources, nubrik_source::TextId) {
        let mut sources = Sources::default();
        let file = sources.add(
            "tide/targets.nub",
            "let strict = 1\n\ttarget a = c.program { needs = [harmonic] }\n".into(),
        );
        (sources, file)
    }

    #[test]
    fn long_messages_and_notes_are_broken_at_spaces() {
        let paint = Paint {
            width: Some(40),
            ..PLAIN
        };
        let diagnostic =
            Diagnostic::error("x", "a message that is too long for this narrow terminal")
                .note("it has: ardle, bruna, corm, dorn, ebb, flow");
        assert_eq!(
            render(&[diagnostic], &Sources::default(), paint),
            "error   a message that is too long for\n        \
             this narrow terminal\n  \
             note  it has: ardle, bruna, corm,\n        \
             dorn, ebb, flow\n"
        );
    }

    #[test]
    fn shows_place_words_and_mend() {
        let (sources, file) = sources();
        let diagnostic = Diagnostic::error("unknown-name", "`harmonic` is not defined here")
            .at(Span::new(file, 48, 56))
            .related(Span::new(file, 4, 10), "declared here")
            .mend("harmonics");
        assert_eq!(
            render(&[diagnostic], &sources, PLAIN),
            "error   `harmonic` is not defined here\n  \
             at    tide/targets.nub:2:34  (unknown-name)\n        \
             target a = c.program { needs = [harmonic] }\n                                        \
             ▔▔▔▔▔▔▔▔\n  \
             see   tide/targets.nub:1  declared here\n  \
             try   harmonics\n"
        );
    }

    #[test]
    fn narrow_terminals_keep_the_words_in_view() {
        let (sources, file) = sources();
        let diagnostic = Diagnostic::error("unknown-name", "x").at(Span::new(file, 48, 56));
        let narrow = Paint {
            width: Some(30),
            ..PLAIN
        };
        let rendered = render(&[diagnostic], &sources, narrow);
        assert!(rendered.lines().all(|l| width(l) <= 30), "{rendered}");
        assert!(rendered.contains("harmonic"), "{rendered}");
    }
}
