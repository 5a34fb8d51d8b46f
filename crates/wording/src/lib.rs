//! Amounts, times and dates as people read them, and text as XML holds it: one wording for the
//! terminal, the pages, the editor and the reports.
//!
//! ```
//! use nubrik_wording::{counted, duration, size};
//!
//! let text = format!("{} in {}, {}", counted(3, "library"), duration(41_000), size(1_536));
//! assert_eq!(text, "3 libraries in 0.04s, 1.5 KiB");
//! ```

use time::OffsetDateTime;

/// How many names a message lists.
const NAMED: usize = 12;

/// Names with commas between; of many only the first, and `…`.
pub fn some_of<N: AsRef<str>>(names: impl IntoIterator<Item = N>) -> String {
    let mut text = String::new();
    for (number, name) in names.into_iter().take(NAMED + 1).enumerate() {
        if number > 0 {
            text.push_str(", ");
        }
        text.push_str(if number < NAMED { name.as_ref() } else { "…" });
    }
    text
}

/// A number with the noun for it: `1 step`, `2 steps`.
pub fn counted(count: usize, noun: &str) -> String {
    format!("{count} {}", plural(noun, count))
}

/// The noun for so many: `library` for one, `libraries` for others. A noun that ends with `s` is in
/// the plural already.
pub fn plural(noun: &str, count: usize) -> String {
    let before_y = noun
        .strip_suffix('y')
        .filter(|rest| !rest.ends_with(['a', 'e', 'o', 'u']));
    match before_y {
        _ if count == 1 || (noun.ends_with('s') && !noun.ends_with("ss")) => noun.to_owned(),
        Some(rest) => format!("{rest}ies"),
        None if noun.ends_with(['x', 'z', 's']) || noun.ends_with("ch") || noun.ends_with("sh") => {
            format!("{noun}es")
        }
        None => format!("{noun}s"),
    }
}

/// A time span in microseconds: `4ms`, `0.04s`, `12.3s`, `4min 5s`, `2h 5min`.
pub fn duration(micros: u64) -> String {
    let seconds = micros as f64 / 1e6;
    match seconds {
        s if s < 0.01 => format!("{}ms", micros.div_ceil(1000)),
        s if s < 10.0 => format!("{s:.2}s"),
        s if s < 100.0 => format!("{s:.1}s"),
        s if s < 3600.0 => format!("{}min {}s", s as u64 / 60, s as u64 % 60),
        s => format!("{}h {}min", s as u64 / 3600, s as u64 % 3600 / 60),
    }
}

/// An amount of bytes in the largest unit that leaves a number before the point: `512 B`,
/// `1.5 MiB`.
pub fn size(bytes: u64) -> String {
    let units = ["KiB", "MiB", "GiB", "TiB"];
    let mut shown = format!("{bytes} B");
    let mut amount = bytes as f64;
    for unit in units {
        if amount < 1024.0 {
            break;
        }
        amount /= 1024.0;
        shown = format!("{amount:.1} {unit}");
    }
    shown
}

/// How long ago something was, in seconds, in its largest unit: `just now`, `5 min ago`,
/// `a day ago`.
pub fn ago(seconds: u64) -> String {
    match seconds {
        0..60 => "just now".to_owned(),
        60..3_600 => format!("{} min ago", seconds / 60),
        3_600..86_400 => format!("{} h ago", seconds / 3_600),
        86_400..172_800 => "a day ago".to_owned(),
        _ => format!("{} days ago", seconds / 86_400),
    }
}

/// A moment, in seconds since 1970, in UTC, as RFC 3339 writes it: `2026-11-27T13:24:07Z`. One
/// after the year 9999 is written as the last second of it.
pub fn moment(seconds: u64) -> String {
    const LAST: i64 = 253_402_300_799;
    let seconds = i64::try_from(seconds).unwrap_or(LAST).min(LAST);
    let at = OffsetDateTime::from_unix_timestamp(seconds).unwrap_or(OffsetDateTime::UNIX_EPOCH);
    let (year, month, day) = (at.year(), u8::from(at.month()), at.day());
    format!(
        "{year:04}-{month:02}-{day:02}T{:02}:{:02}:{:02}Z",
        at.hour(),
        at.minute(),
        at.second()
    )
}

/// Text as XML and HTML hold it, in elements and attributes: what has a meaning there is written
/// out, and what cannot be there becomes the sign for that.
pub fn xml(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\n' | '\t' => out.push(c),
            c if c.is_control() || matches!(c, '\u{fffe}' | '\u{ffff}') => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nouns_are_counted_as_people_say_it() {
        let nouns = [
            "program",
            "shared_library",
            "key",
            "files",
            "box",
            "match",
            "process",
        ];
        let many = [
            "programs",
            "shared_libraries",
            "keys",
            "files",
            "boxes",
            "matches",
            "processes",
        ];
        assert_eq!(nouns.map(|noun| plural(noun, 3)), many);
        assert_eq!(nouns.map(|noun| plural(noun, 1)), nouns);
        assert_eq!(counted(0, "test"), "0 tests");
    }

    #[test]
    fn of_many_names_the_first_are_said() {
        assert_eq!(some_of(["ebb", "flood"]), "ebb, flood");
        let many: Vec<String> = (0..1000).map(|n| format!("t{n}")).collect();
        assert_eq!(
            some_of(&many),
            "t0, t1, t2, t3, t4, t5, t6, t7, t8, t9, t10, t11, …"
        );
        assert_eq!(
            some_of(&many[..12]),
            "t0, t1, t2, t3, t4, t5, t6, t7, t8, t9, t10, t11"
        );
    }

    #[test]
    fn durations_keep_three_figures_at_most() {
        let micros = [0, 3_200, 41_000, 12_340_000, 245_000_000, 7_500_000_000];
        assert_eq!(
            micros.map(duration),
            ["0ms", "4ms", "0.04s", "12.3s", "4min 5s", "2h 5min"]
        );
    }

    #[test]
    fn sizes_have_a_number_before_the_point() {
        assert_eq!(
            [0, 1_023, 1_024, 1_572_864].map(size),
            ["0 B", "1023 B", "1.0 KiB", "1.5 MiB"]
        );
        assert_eq!(size(u64::MAX), "16777216.0 TiB");
    }

    #[test]
    fn the_past_has_its_largest_unit() {
        let seconds = [59, 60, 7_199, 86_400, 259_200];
        assert_eq!(
            seconds.map(ago),
            [
                "just now",
                "1 min ago",
                "1 h ago",
                "a day ago",
                "3 days ago"
            ]
        );
    }

    #[test]
    fn moments_are_those_of_the_calendar() {
        assert_eq!(moment(0), "1970-01-01T00:00:00Z");
        assert_eq!(moment(951_782_400), "2000-02-29T00:00:00Z");
        assert_eq!(moment(1_795_785_847), "2026-11-27T13:24:07Z");
        assert_eq!(moment(u64::MAX), "9999-12-31T23:59:59Z");
    }

    #[test]
    fn xml_holds_any_text() {
        assert_eq!(
            xml("a < b & \"c\"\u{1b}\n"),
            "a &lt; b &amp; &quot;c&quot;\u{fffd}\n"
        );
    }
}
