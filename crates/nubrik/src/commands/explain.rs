//! `nubrik explain`: documentation without a browser. The language's topics come from the tables that
//! evaluation reads, kits from their own text; `docs/reference.md` is the same, written out.

mod guesses;
mod tables;

use std::fmt::Write;

use nubrik_diagnostic::nearest;
use nubrik_lang::topics::{Topic, plain, topics};
use serde::Serialize;

use self::tables::{PLANS, STATES, VARIABLES, WORDS};
use super::{CommandResult, say_wrong};
use crate::exit::{Exit, MEANINGS};
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::{width, wrapped};

/// Categories in the order in which they are shown, with their titles.
const CATEGORIES: [(&str, &str); 16] = [
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

#[derive(Serialize)]
struct TopicEvent<'a> {
    event: &'static str,
    topic: &'a str,
    category: &'a str,
    summary: &'a str,
    parts: Vec<(&'a str, &'a str, &'a str)>,
    example: &'a str,
}

/// All topics: of the language, kits, states, settings.
pub fn all_topics() -> Vec<Topic> {
    let mut all = topics();
    all.extend(nubrik_session::kit_topics());
    all.extend(plain("word", &WORDS));
    all.extend(plain("state", &STATES));
    all.extend(plain("plan", &PLANS));
    let settings = nubrik_session::SETTINGS.iter();
    let rows: Vec<_> = settings.map(|setting| (setting.name, setting.summary, setting.example)).collect();
    all.extend(plain("setting", &rows));
    if let Some(file) = all.iter_mut().find(|topic| topic.name == nubrik_lang::WORKSPACE_FILE) {
        let names: Vec<&str> = rows.iter().map(|(name, ..)| *name).collect();
        file.summary.push_str(&format!(" They are: {}.", names.join(", ")));
    }
    all.extend(crate::help::all().into_iter().filter(|(name, _)| !name.is_empty()).map(command));
    all.extend(plain("variable", &VARIABLES));
    all.push(exit_codes());
    all
}

/// The topic of a command, from its help.
fn command((name, command): (String, clap::Command)) -> Topic {
    let text = |text: Option<&clap::builder::StyledStr>| text.map_or_else(String::new, ToString::to_string);
    let parts = command.get_arguments().filter(|arg| !arg.is_hide_set() && !arg.is_global_set());
    let parts = parts.filter(|arg| arg.get_help_heading() != Some("Everywhere") && arg.get_id() != "help");
    let parts = parts.map(|arg| {
        let value = arg.get_value_names().and_then(|names| names.first()).map(|name| name.to_string());
        let takes = arg.get_action().takes_values();
        match arg.get_long() {
            Some(long) => {
                (format!("--{long}"), value.filter(|_| takes).unwrap_or_default(), text(arg.get_help()))
            }
            None => (
                value.unwrap_or_else(|| arg.get_id().as_str().to_uppercase()),
                String::new(),
                text(arg.get_help()),
            ),
        }
    });
    let about = text(command.get_about());
    Topic {
        category: "command",
        summary: if about.ends_with('.') { about } else { about + "." },
        parts: parts.collect(),
        example: format!("nubrik {name}"),
        name,
    }
}

fn exit_codes() -> Topic {
    let parts = MEANINGS
        .iter()
        .map(|(exit, meaning)| (exit.code().to_string(), String::new(), (*meaning).to_owned()));
    Topic {
        name: "exit codes".to_owned(),
        category: "exit",
        summary:
            "How commands end, the same for all of them. A program that `nubrik run` ran ends with its own."
                .to_owned(),
        parts: parts.collect(),
        example: "nubrik build || echo \"it ended with $?\"".to_owned(),
    }
}

/// Names of all topics, each with what it says first.
pub fn told_topics() -> Vec<(String, String)> {
    all_topics().into_iter().map(|topic| (topic.name, topic.summary)).collect()
}

/// Whether there is more to know about an error.
pub fn has_topic(code: &str) -> bool {
    code != "syntax" && topics().iter().any(|t| t.category == "error" && t.name == code)
}

pub fn explain(console: Console, wanted: &str, everything: bool) -> CommandResult<Exit> {
    let all = all_topics();
    if everything {
        out!(console, "{}", markdown(&all));
        return Ok(Exit::Done);
    }
    if wanted.is_empty() {
        if console.is_json() {
            all.iter().for_each(|topic| print_json(console, topic));
        } else {
            out!(console, "{}", index(&all, console.paint(OutputStream::Output)));
        }
        return Ok(Exit::Done);
    };
    let plain = |name: &str| name.trim_matches(['{', '}', '`', '.', '…', ' ']).to_lowercase();
    let mut found: Vec<&Topic> = all.iter().filter(|t| plain(&t.name) == plain(wanted)).collect();
    let guessed = guesses::guessed(&all, wanted.trim());
    found.extend(
        guessed
            .into_iter()
            .filter(|topic| !found.iter().any(|known| known.name == topic.name))
            .collect::<Vec<_>>(),
    );
    let field = guesses::field(&all, wanted.trim());
    found.extend(&field);
    if found.is_empty() {
        let near = nearest(&plain(wanted), all.iter().map(|t| t.name.as_str()))
            .map(|n| format!("nubrik explain {n}"));
        let mends: Vec<&str> =
            near.iter().map(String::as_str).chain(["nubrik explain   lists all topics"]).collect();
        return Err(say_wrong(console, Exit::Usage, &format!("no topic is called `{wanted}`"), &mends));
    }
    let paint = console.paint(OutputStream::Output);
    for (i, topic) in found.iter().enumerate() {
        if console.is_json() {
            print_json(console, topic);
        } else {
            if i > 0 {
                outln!(console);
            }
            out!(console, "{}", render(topic, paint));
        }
    }
    Ok(Exit::Done)
}

fn print_json(console: Console, topic: &Topic) {
    console.event(&TopicEvent {
        event: "topic",
        topic: &topic.name,
        category: topic.category,
        summary: &topic.summary,
        parts: topic.parts.iter().map(|(a, b, c)| (a.as_str(), b.as_str(), c.as_str())).collect(),
        example: &topic.example,
    });
}

fn index(all: &[Topic], paint: Paint) -> String {
    let mut out = String::new();
    for (category, title) in CATEGORIES {
        let names: Vec<&str> =
            all.iter().filter(|t| t.category == category).map(|t| t.name.as_str()).collect();
        let room = paint.width.map_or(100, |w| w.saturating_sub(2)).max(20);
        let _ = writeln!(out, "{}", paint.ink(Ink::Strong, title));
        for line in wrapped(&names.join("  "), room) {
            let _ = writeln!(out, "  {line}");
        }
    }
    let _ = writeln!(out, "\n{}", paint.ink(Ink::Faint, "nubrik explain TOPIC says more"));
    out
}

fn render(topic: &Topic, paint: Paint) -> String {
    let mut out =
        format!("{}  {}\n", paint.ink(Ink::Strong, &topic.name), paint.ink(Ink::Faint, topic.category));
    let room = paint.width.map_or(100, |w| w.saturating_sub(2)).max(20);
    for line in wrapped(&topic.summary, room) {
        let _ = writeln!(out, "  {line}");
    }
    if !topic.parts.is_empty() {
        out.push('\n');
        let names = topic.parts.iter().map(|p| width(&p.0)).max().unwrap_or(0);
        for (name, ty, doc) in &topic.parts {
            let name = format!("{name:<names$}");
            let head = format!("  {}  {}", paint.ink(Ink::Calm, &name), paint.ink(Ink::Faint, ty));
            let _ = writeln!(out, "{}", head.trim_end());
            for line in wrapped(doc, room.saturating_sub(names + 4).max(20)) {
                let _ = writeln!(out, "  {:names$}    {line}", "");
            }
        }
    }
    if !topic.example.is_empty() {
        let _ = writeln!(out, "\n  {}", paint.ink(Ink::Calm, "example"));
        for line in topic.example.lines() {
            let _ = writeln!(out, "    {}", paint.ink(Ink::Mend, line));
        }
    }
    out
}

/// All topics as a page.
fn markdown(all: &[Topic]) -> String {
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
                    let ty =
                        if ty.is_empty() { String::new() } else { format!("`{}`", ty.replace('|', "\\|")) };
                    let _ = writeln!(out, "| `{name}` | {ty} | {} |", doc.replace('|', "\\|"));
                }
            }
            if !topic.example.is_empty() {
                let language = match category {
                    "state" | "error" | "plan" => "text",
                    "command" | "variable" | "exit" => "sh",
                    "word"
                        if topic.example.starts_with("nubrik ") || topic.example.starts_with("export ") =>
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_topic_stands_in_a_category_that_is_shown() {
        for topic in all_topics() {
            assert!(CATEGORIES.iter().any(|(c, _)| *c == topic.category), "{}", topic.name);
        }
    }
}
