//! `nubrik explain`: documentation without a browser. The language's topics come from the tables
//! that evaluation reads, kits from their own text; `docs/reference.md` is the same, written out.

use std::fmt::Write;

use nubrik_answers::{CATEGORIES, TopicEvent, reference, topic_near, topics_about};
use nubrik_lang::topics::Topic;

use super::{CommandResult, say_wrong};
use crate::exit::{Exit, MEANINGS};
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::{width, wrapped};

/// All topics: of the language, kits, states, settings, commands.
pub fn all_topics() -> Vec<Topic> {
    let commands = crate::help::all()
        .into_iter()
        .filter(|(name, _)| !name.is_empty())
        .map(command);
    nubrik_answers::all_topics(commands.collect(), exit_codes())
}

/// The topic of a command, from its help.
fn command((name, command): (String, clap::Command)) -> Topic {
    let text = |text: Option<&clap::builder::StyledStr>| {
        text.map_or_else(String::new, ToString::to_string)
    };
    let parts = command
        .get_arguments()
        .filter(|arg| !arg.is_hide_set() && !arg.is_global_set());
    let parts =
        parts.filter(|arg| arg.get_help_heading() != Some("Everywhere") && arg.get_id() != "help");
    let parts = parts.map(|arg| {
        let value = arg
            .get_value_names()
            .and_then(|names| names.first())
            .map(|name| name.to_string());
        let takes = arg.get_action().takes_values();
        match arg.get_long() {
            Some(long) => (
                format!("--{long}"),
                value.filter(|_| takes).unwrap_or_default(),
                text(arg.get_help()),
            ),
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
        summary: if about.ends_with('.') {
            about
        } else {
            about + "."
        },
        parts: parts.collect(),
        example: format!("nubrik {name}"),
        name,
    }
}

fn exit_codes() -> Topic {
    let parts = MEANINGS.iter().map(|(exit, meaning)| {
        (
            exit.code().to_string(),
            String::new(),
            (*meaning).to_owned(),
        )
    });
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

pub fn explain(console: Console, wanted: &str, everything: bool) -> CommandResult<Exit> {
    let all = all_topics();
    if everything {
        out!(console, "{}", reference(&all));
        return Ok(Exit::Done);
    }
    if wanted.is_empty() {
        if console.is_json() {
            all.iter()
                .for_each(|topic| console.event(&TopicEvent::of(topic)));
        } else {
            out!(
                console,
                "{}",
                index(&all, console.paint(OutputStream::Output))
            );
        }
        return Ok(Exit::Done);
    };
    let found = topics_about(&all, wanted);
    if found.is_empty() {
        let near = topic_near(&all, wanted).map(|near| format!("nubrik explain {near}"));
        let mends: Vec<&str> = near
            .iter()
            .map(String::as_str)
            .chain(["nubrik explain   lists all topics"])
            .collect();
        return Err(say_wrong(
            console,
            Exit::Usage,
            &format!("no topic is called `{wanted}`"),
            &mends,
        ));
    }
    let paint = console.paint(OutputStream::Output);
    for (i, topic) in found.iter().enumerate() {
        if console.is_json() {
            console.event(&TopicEvent::of(topic));
        } else {
            if i > 0 {
                outln!(console);
            }
            out!(console, "{}", render(topic, paint));
        }
    }
    Ok(Exit::Done)
}

fn index(all: &[Topic], paint: Paint) -> String {
    let mut out = String::new();
    for (category, title) in CATEGORIES {
        let names: Vec<&str> = all
            .iter()
            .filter(|t| t.category == category)
            .map(|t| t.name.as_str())
            .collect();
        let room = paint.width.map_or(100, |w| w.saturating_sub(2)).max(20);
        let _ = writeln!(out, "{}", paint.ink(Ink::Strong, title));
        for line in wrapped(&names.join("  "), room) {
            let _ = writeln!(out, "  {line}");
        }
    }
    let _ = writeln!(
        out,
        "\n{}",
        paint.ink(Ink::Faint, "nubrik explain TOPIC says more")
    );
    out
}

fn render(topic: &Topic, paint: Paint) -> String {
    let mut out = format!(
        "{}  {}\n",
        paint.ink(Ink::Strong, &topic.name),
        paint.ink(Ink::Faint, topic.category)
    );
    let room = paint.width.map_or(100, |w| w.saturating_sub(2)).max(20);
    for line in wrapped(&topic.summary, room) {
        let _ = writeln!(out, "  {line}");
    }
    if !topic.parts.is_empty() {
        out.push('\n');
        let names = topic.parts.iter().map(|p| width(&p.0)).max().unwrap_or(0);
        for (name, ty, doc) in &topic.parts {
            let name = format!("{name:<names$}");
            let head = format!(
                "  {}  {}",
                paint.ink(Ink::Calm, &name),
                paint.ink(Ink::Faint, ty)
            );
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_topic_stands_in_a_category_that_is_shown() {
        for topic in all_topics() {
            assert!(
                CATEGORIES.iter().any(|(c, _)| *c == topic.category),
                "{}",
                topic.name
            );
        }
    }

    #[test]
    fn guesses_lead_to_topics_that_there_are() {
        let all = all_topics();
        for (guess, names) in nubrik_answers::guesses() {
            let found = topics_about(&all, guess);
            assert!(
                names
                    .iter()
                    .all(|name| found.iter().any(|t| t.name == *name)),
                "{guess}: {names:?}"
            );
        }
    }
}
