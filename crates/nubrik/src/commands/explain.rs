//! `nubrik explain`: documentation without a browser. The language's topics come from the tables that
//! evaluation reads, kits from their own text; `docs/reference.md` is the same, written out.

mod guesses;

use std::fmt::Write;

use nubrik_diagnostic::nearest;
use nubrik_lang::topics::{Topic, plain, topics};
use serde::Serialize;

use super::{CommandResult, say_wrong};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::{width, wrapped};

/// Categories in the order in which they are shown, with their titles.
const CATEGORIES: [(&str, &str); 13] = [
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
    ("error", "Errors"),
];

const STATES: [(&str, &str, &str); 6] = [
    (
        "ran",
        "Its commands ran in this build; the line says why they had to.",
        "ran       tide/harmonics   compile src/fit.c     0.41s  src/fit.c changed",
    ),
    ("current", "Its outputs are in place and correct: nothing that it depends on has changed.", ""),
    (
        "reused",
        "Its outputs were taken from the results that are kept on this machine: the same inputs made them before, in this workspace or another one.",
        "reused    tide/harmonics   archive harmonics            not in this workspace yet",
    ),
    (
        "failed",
        "Its commands failed, did not make an output, or read what they do not declare; the lines below say more.",
        "",
    ),
    ("blocked", "It did not run because something that it needs failed.", ""),
    (
        "unstarted",
        "It did not start: the build was stopped, or a failure ended the build first. `--keep-going` continues with everything that can run.",
        "",
    ),
];

const PLANS: [(&str, &str, &str); 4] = [
    (
        "run",
        "A step that would run its commands: its definition, an input or a tool changed, or it never ran.",
        "",
    ),
    (
        "maybe",
        "A step that depends on one that would run: if that one makes the same bytes as before, this one does not run.",
        "",
    ),
    (
        "fail",
        "A step that cannot run: an input or a tool is not there. Steps that need it are `blocked`.",
        "fail      almanac/almanac   bind the almanac            ?  there is no tool catt on this machine",
    ),
    ("reuse", "A step whose result is kept on this machine for the same inputs: it would be put back.", ""),
];

const WORDS: [(&str, &str, &str); 11] = [
    (
        "workspace",
        "The folder with a `nubrik.toml`, and all below it. Paths that begin with `/` begin there.",
        "",
    ),
    (
        "package",
        "A folder with a `targets.nub`: its targets, and all files below it that belong to no other package.",
        "",
    ),
    (
        "kit",
        "A file of definitions that other definition files use: one of the workspace, or one that ships with nubrik.",
        "use \"nub:c\" as c\nuse { ours } from \"/kit/flags.nub\"",
    ),
    (
        "target path",
        "How a target is named: its package and its name. On the command line it is relative to the current folder; in \
         definitions it has a `&` before it. `base/clock` is short for `base/clock/clock`.",
        "let needed = &tide/harmonics",
    ),
    ("targets.nub", "The file with the definitions of a package.", ""),
    ("nubrik.toml", "The file that makes a folder a workspace, with its settings.", "jobs = 4"),
    (
        "NUBRIK_BELL",
        "A variable: `off` leaves the title of the terminal's window and its bell alone. Else the title says how far a build is after two \
         seconds, and the bell rings when one is over that took more than twenty.",
        "export NUBRIK_BELL=off",
    ),
    (
        "NUBRIK_CLIENT_CERTIFICATE",
        "A variable: the file in PEM with the certificate by which this machine says who it is, and its key. A team's store and a server for \
         jobs see it where they ask for one; registries do not.",
        "export NUBRIK_CLIENT_CERTIFICATE=$HOME/.certificates/me.pem",
    ),
    (
        "out",
        "The folder of results: `out/default`, and `out/NAME` for the profile NAME. Results are copies: what steps read is below \
         `.nubrik/made`.",
        "",
    ),
    (
        "store",
        "Where the results of all workspaces of this machine are kept, by what they were made from. `nubrik cache` shows its size.",
        "",
    ),
    (
        "operators",
        "`+` adds numbers and joins texts, lists, files and maps; `/` joins a folder and a text. `==`, `!=`, `<`, `<=`, `>` and `>=` \
         compare; `and`, `or` and `not` join conditions; `in` asks whether a list or map holds something.",
        "let wide = width > 80 and not plain",
    ),
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
    all
}

/// Names of all topics, each with what it says first.
pub fn told_topics() -> Vec<(String, String)> {
    all_topics().into_iter().map(|topic| (topic.name, topic.summary)).collect()
}

/// Whether there is more to know about an error.
pub fn has_topic(code: &str) -> bool {
    code != "syntax" && topics().iter().any(|t| t.category == "error" && t.name == code)
}

pub fn explain(console: Console, wanted: Option<&str>, everything: bool) -> CommandResult<Exit> {
    let all = all_topics();
    if everything {
        out!(console, "{}", markdown(&all));
        return Ok(Exit::Done);
    }
    let Some(wanted) = wanted else {
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
                    "state" | "error" => "text",
                    "setting" => "toml",
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
