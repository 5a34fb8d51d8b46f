//! What is explained: the topics of the language and of kits, and those of the words, states,
//! settings and variables of the tool.
//! `docs/reference.md` is all of them.

mod guesses;
mod tables;

use std::fmt::Write;

use nubrik_diagnostic::nearest;
use nubrik_lang::topics::{Topic, plain, topics};
use serde::Serialize;

pub use self::guesses::guesses;
use self::tables::{PLANS, STATES, VARIABLES, WORDS};

/// Categories in the order in which they are shown, with their titles.
pub const CATEGORIES: [(&str, &str); 16] = [
    ("declaration", "Declarations"),
    ("type", "Types"),
    ("form", "Forms"),
    ("function", "Functions and names"),
    ("expression", "Expressions"),
    ("hole", "Holes in commands"),
    ("method", "Properties and methods"),
    ("kit", "Kits that ship with nubrik"),
    ("word", "Words"),
    ("state", "States of steps"),
    ("plan", "What `plan` says of steps"),
    ("setting", "Settings in nubrik.toml"),
    ("command", "Commands"),
    ("variable", "Variables of the environment"),
    ("exit", "Exit codes"),
    ("error", "Errors"),
];

/// All topics: of the language, kits, words, states, settings; those of the program's commands and
/// exit codes are given.
pub fn all_topics(commands: Vec<Topic>, exit_codes: Topic) -> Vec<Topic> {
    let mut all = topics();
    all.extend(nubrik_session::kit_topics());
    all.extend(plain("word", &WORDS));
    all.extend(plain("state", &STATES));
    all.extend(plain("plan", &PLANS));
    let settings = nubrik_session::SETTINGS.iter();
    let rows: Vec<_> = settings
        .map(|setting| (setting.name, setting.summary, setting.example))
        .collect();
    all.extend(plain("setting", &rows));
    if let Some(file) = all
        .iter_mut()
        .find(|topic| topic.name == nubrik_lang::WORKSPACE_FILE)
    {
        let names: Vec<&str> = rows.iter().map(|(name, ..)| *name).collect();
        file.summary
            .push_str(&format!(" They are: {}.", names.join(", ")));
    }
    all.extend(commands);
    all.extend(plain("variable", &VARIABLES));
    all.push(exit_codes);
    all
}

/// Whether there is more to know about an error.
pub fn has_topic(code: &str) -> bool {
    code != "syntax"
        && topics()
            .iter()
            .any(|t| t.category == "error" && t.name == code)
}

/// A name without what is around it: `{in …}` is found as `in`.
fn bare(name: &str) -> String {
    name.trim_matches(['{', '}', '`', '.', '…', ' '])
        .to_lowercase()
}

/// The topics that answer a word, the best first: those of that name, those of a guess, and a field
/// of forms and kinds.
pub fn topics_about(all: &[Topic], wanted: &str) -> Vec<Topic> {
    let mut found: Vec<&Topic> = all
        .iter()
        .filter(|t| bare(&t.name) == bare(wanted))
        .collect();
    for topic in guesses::guessed(all, wanted.trim()) {
        if !found.iter().any(|known| known.name == topic.name) {
            found.push(topic);
        }
    }
    found
        .into_iter()
        .cloned()
        .chain(guesses::field(all, wanted.trim()))
        .collect()
}

/// The topic whose name is most like a word, if one is.
pub fn topic_near<'t>(all: &'t [Topic], wanted: &str) -> Option<&'t str> {
    nearest(&bare(wanted), all.iter().map(|t| t.name.as_str()))
}

/// A topic, for programs.
#[derive(Serialize)]
pub struct TopicEvent<'a> {
    event: &'static str,
    topic: &'a str,
    category: &'a str,
    summary: &'a str,
    parts: Vec<(&'a str, &'a str, &'a str)>,
    example: &'a str,
}

impl TopicEvent<'_> {
    /// The event about a topic.
    pub fn of(topic: &Topic) -> TopicEvent<'_> {
        TopicEvent {
            event: "topic",
            topic: &topic.name,
            category: topic.category,
            summary: &topic.summary,
            parts: topic
                .parts
                .iter()
                .map(|(a, b, c)| (a.as_str(), b.as_str(), c.as_str()))
                .collect(),
            example: &topic.example,
        }
    }
}

/// All topics as a page of Markdown.
pub fn reference(all: &[Topic]) -> String {
    let mut out = String::from(
        "# Reference\n\nEverything that `nubrik explain` knows. This page is printed by `nubrik explain --all`, and a test\ncompares the two; [language.md](language.md) explains how the parts work together.\n",
    );
    for (category, title) in CATEGORIES {
        let _ = write!(out, "\n## {title}\n");
        for topic in all.iter().filter(|t| t.category == category) {
            let _ = write!(out, "\n### `{}`\n\n{}\n", topic.name, topic.summary);
            if !topic.parts.is_empty() {
                out.push_str("\n| field | type | meaning |\n|---|---|---|\n");
                for (name, ty, doc) in &topic.parts {
                    let ty = if ty.is_empty() {
                        String::new()
                    } else {
                        format!("`{}`", ty.replace('|', "\\|"))
                    };
                    let _ = writeln!(out, "| `{name}` | {ty} | {} |", doc.replace('|', "\\|"));
                }
            }
            if !topic.example.is_empty() {
                let language = match category {
                    "state" | "error" | "plan" => "text",
                    "command" | "variable" | "exit" => "sh",
                    "word"
                        if topic.example.starts_with("nubrik ")
                            || topic.example.starts_with("export ") =>
                    {
                        "sh"
                    }
                    "setting" => "toml",
                    "word" if topic.name == nubrik_lang::WORKSPACE_FILE => "toml",
                    _ => "nub",
                };
                let _ = write!(out, "\n```{language}\n{}\n```\n", topic.example);
            }
        }
    }
    out
}
