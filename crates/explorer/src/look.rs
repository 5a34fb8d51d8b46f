//! What all pages have in common.

use maud::{DOCTYPE, Markup, PreEscaped, html};

/// The style of all pages.
pub(crate) const STYLE: &str = include_str!("look.css");

/// What makes pages quick where scripts may run; without them everything is there, too.
pub(crate) const SCRIPT: &str = include_str!("quick.js");

/// The parts of the explorer, as its pages name them.
const PARTS: [(&str, &str); 8] = [
    ("index.html", "Overview"),
    ("kinds.html", "Targets"),
    ("graph.html", "Graph"),
    ("external.html", "External"),
    ("builds.html", "Builds"),
    ("tests.html", "Tests"),
    ("options.html", "Options"),
    ("words.html", "Words"),
];

/// A page.
pub(crate) struct SitePage {
    pub title: String,
    /// The part that it belongs to, by the name of its page.
    pub part: &'static str,
    pub body: Markup,
}

/// Where pages are read.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum PagesFor {
    /// From a server that is there while they are read.
    Served,
    /// As files.
    Written,
}

impl SitePage {
    /// The whole document.
    pub fn document(&self, workspace: &str, reading: PagesFor) -> String {
        let is_served = reading == PagesFor::Served;
        let document = html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    meta name="referrer" content="no-referrer";
                    title { (self.title) " – " (workspace) }
                    link rel="icon" href="data:,";
                    link rel="stylesheet" href="look.css";
                    script src="quick.js" defer {}
                }
                body data-served=(is_served) {
                    a.skip href="#main" { "Skip to the content" }
                    header {
                        a.home href="index.html" { (mark()) span { (workspace) } }
                        nav aria-label="Parts" {
                            @for (page, title) in PARTS {
                                @let current = (page == self.part).then_some("page");
                                a href=(page) aria-current=[current] { (title) }
                            }
                            @if is_served {
                                @let current = (self.part == "live.html").then_some("page");
                                a href="live.html" aria-current=[current] { "Now" }
                            }
                        }
                        form.search role="search" action="search.html" {
                            label.unseen for="words" { "Search" }
                            input #words type="search" name="words" placeholder="Search ( / )" autocomplete="off"
                                role="combobox" aria-expanded="false" aria-controls="found" aria-autocomplete="list";
                            div #found role="listbox" aria-label="Found" hidden {}
                        }
                    }
                    main #main tabindex="-1" { (self.body) }
                }
            }
        };
        document.into_string()
    }
}

/// The mark: layers that build on one another.
fn mark() -> Markup {
    html! {
        svg.mark viewBox="0 0 20 20" aria-hidden="true" {
            path d="M2 14q4-4 8 0t8 0" {}
            path d="M2 9q4-4 8 0t8 0" {}
            rect x="7.5" y="2" width="5" height="3.4" rx="1" {}
        }
    }
}

/// A time span in microseconds, as people read it.
pub(crate) fn span(micros: u64) -> String {
    match micros {
        0..1_000 => format!("{micros} µs"),
        1_000..1_000_000 => format!("{} ms", micros / 1_000),
        1_000_000..60_000_000 => format!("{:.2} s", micros as f64 / 1e6),
        60_000_000..3_600_000_000 => {
            format!("{} min {} s", micros / 60_000_000, micros / 1_000_000 % 60)
        }
        _ => format!("{} h {} min", micros / 3_600_000_000, micros / 60_000_000 % 60),
    }
}

/// A number of bytes, as people read it.
pub(crate) fn size(bytes: u64) -> String {
    match bytes {
        0..1_024 => format!("{bytes} bytes"),
        1_024..1_048_576 => format!("{:.1} KiB", bytes as f64 / 1_024.0),
        _ => format!("{:.1} MiB", bytes as f64 / 1_048_576.0),
    }
}

/// A number with the word for what is counted.
pub(crate) fn counted(count: usize, one: &str, many: &str) -> String {
    if count == 1 { format!("1 {one}") } else { format!("{count} {many}") }
}

/// The name of a kind, for so many of it.
pub(crate) fn plural(kind: &str, count: usize) -> String {
    let before_y = kind.strip_suffix('y').filter(|rest| !rest.ends_with(['a', 'e', 'o', 'u']));
    match before_y {
        _ if count == 1 || kind.ends_with('s') => kind.to_owned(),
        Some(rest) => format!("{rest}ies"),
        None if kind.ends_with(['x', 'z']) || kind.ends_with("ch") || kind.ends_with("sh") => {
            format!("{kind}es")
        }
        None => format!("{kind}s"),
    }
}

/// A time of the past: how long ago it is, in its largest unit, where it is known when that is read; else the moment itself.
pub(crate) fn when(began: u64, now: Option<u64>) -> Markup {
    let moment = moment(began);
    let text = match now.map(|now| now.saturating_sub(began)) {
        None => {
            let (day, time) = moment.split_once('T').unwrap_or((&moment, ""));
            let time = time.replace('Z', " UTC");
            return html! { time datetime=(moment) { span.whole { (day) } " " span.whole { (time) } } };
        }
        Some(0..60) => "just now".to_owned(),
        Some(seconds @ 60..3_600) => format!("{} min ago", seconds / 60),
        Some(seconds @ 3_600..86_400) => format!("{} h ago", seconds / 3_600),
        Some(86_400..172_800) => "a day ago".to_owned(),
        Some(seconds) => format!("{} days ago", seconds / 86_400),
    };
    html! { time datetime=(moment) title=(moment) { (text) } }
}

/// A moment in UTC: `2026-11-27T13:24:07Z`. By the civil calendar of the proleptic Gregorian era.
fn moment(seconds: u64) -> String {
    let (days, rest) = (seconds / 86_400, seconds % 86_400);
    let shifted = days as i64 + 719_468;
    let era = shifted.div_euclid(146_097);
    let day_of_era = shifted.rem_euclid(146_097);
    let year_of_era = (day_of_era - day_of_era / 1_460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month_index = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * month_index + 2) / 5 + 1;
    let month = if month_index < 10 { month_index + 3 } else { month_index - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    format!("{year:04}-{month:02}-{day:02}T{:02}:{:02}:{:02}Z", rest / 3_600, rest / 60 % 60, rest % 60)
}

/// What a state of a step is shown with: a class and the word.
pub(crate) fn state(word: &str) -> Markup {
    html! { span class=(format!("state {word}")) { (word) } }
}

/// Documentation: what stands between backticks is code.
pub(crate) fn prose(text: &str) -> Markup {
    let mut parts: Vec<&str> = text.split('`').collect();
    // One without its other half is a letter like others.
    let left = if parts.len().is_multiple_of(2) { parts.pop() } else { None };
    html! {
        @for (n, part) in parts.iter().enumerate() { @if n % 2 == 1 { code { (part) } } @else { (part) } }
        @if let Some(left) = left { "`" (left) }
    }
}

/// Text that is markup already.
pub(crate) fn raw(markup: String) -> Markup {
    PreEscaped(markup)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_are_those_of_the_calendar() {
        assert_eq!(moment(0), "1970-01-01T00:00:00Z");
        assert_eq!(moment(951_782_400), "2000-02-29T00:00:00Z");
        assert_eq!(moment(1_795_785_847), "2026-11-27T13:24:07Z");
    }

    #[test]
    fn kinds_are_counted_as_people_say_it() {
        let kinds = ["program", "shared_library", "key", "files", "box", "match"].map(|kind| plural(kind, 3));
        assert_eq!(kinds, ["programs", "shared_libraries", "keys", "files", "boxes", "matches"]);
        assert_eq!(plural("library", 1), "library");
    }

    #[test]
    fn spans_are_read_easily() {
        let read = [700, 41_000, 2_340_000, 75_000_000, 3_700_000_000].map(span);
        assert_eq!(read, ["700 µs", "41 ms", "2.34 s", "1 min 15 s", "1 h 1 min"]);
    }

    #[test]
    fn code_in_documentation_is_code() {
        assert_eq!(prose("a `b` <c").into_string(), "a <code>b</code> &lt;c");
        assert_eq!(prose("it`s").into_string(), "it`s");
    }

    #[test]
    fn what_is_put_into_a_page_is_text() {
        let page = SitePage { title: "<b>".to_owned(), part: "index.html", body: html! { p { "a<b" } } };
        let text = page.document("x\"y", PagesFor::Served);
        assert!(text.contains("<title>&lt;b&gt; – x&quot;y</title>") && text.contains("<p>a&lt;b</p>"));
    }
}
