//! What all pages have in common.

use maud::{DOCTYPE, Markup, PreEscaped, html};
use nubrik_wording::{ago, moment};

/// The style of all pages.
pub(crate) const STYLE: &str = include_str!("look.css");

/// What makes pages quick where scripts may run; without them everything is there, too.
pub(crate) const SCRIPT: &str = include_str!("quick.js");

/// The parts of the explorer, as its pages name them.
const PARTS: [(&str, &str); 8] = [
    ("index.html", "Overview"),
    ("kinds.html", "Targets"),
    ("graph.html", "Graph"),
    ("external.html", "Dependencies"),
    ("builds.html", "Builds"),
    ("tests.html", "Tests"),
    ("options.html", "Options"),
    ("words.html", "Reference"),
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
                                a href="live.html" aria-current=[current] { "Live" }
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

/// A time of the past: how long ago it is, in its largest unit, where it is known when that is
/// read; else the moment itself.
pub(crate) fn when(began: u64, now: Option<u64>) -> Markup {
    let moment = moment(began);
    let text = match now.map(|now| now.saturating_sub(began)) {
        None => {
            let (day, time) = moment.split_once('T').unwrap_or((&moment, ""));
            let time = time.replace('Z', " UTC");
            return html! { time datetime=(moment) { span.whole { (day) } " " span.whole { (time) } } };
        }
        Some(seconds) => ago(seconds),
    };
    html! { time datetime=(moment) title=(moment) { (text) } }
}

/// What a state of a step is shown with: a class and the word.
pub(crate) fn state(word: &str) -> Markup {
    html! { span class=(format!("state {word}")) { (word) } }
}

/// Documentation: what is between backticks is code.
pub(crate) fn prose(text: &str) -> Markup {
    let mut parts: Vec<&str> = text.split('`').collect();
    // One without its other half is a letter like others.
    let left = if parts.len().is_multiple_of(2) {
        parts.pop()
    } else {
        None
    };
    html! {
        @for (n, part) in parts.iter().enumerate() { @if n % 2 == 1 { code { (part) } } @else { (part) } }
        @if let Some(left) = left { "`" (left) }
    }
}

/// Text that is markup already.
pub(crate) fn raw(markup: String) -> Markup {
    PreEscaped(markup)
}
