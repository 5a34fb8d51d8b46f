//! What is wrong with a command line, in the words of all other messages.

use clap::error::{ContextKind, ContextValue, ErrorKind};
use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::Sources;
use nubrik_wording::plural;

use crate::arguments::{Color, Face};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, err};
use crate::ui::diagnostics;

/// Options that had other names, with those that they have now.
const RENAMED: [(&str, &str); 13] = [
    ("--bare", "--without-defaults"),
    ("--external", "nubrik pins"),
    ("--features", "--with"),
    ("--gather", "nubrik pins vendor FOLDER"),
    ("--line", "--channel"),
    ("--no-shared", "--no-shared-cache"),
    ("--require-shared", "--require-shared-cache"),
    ("--root", "--root-key"),
    ("--shared", "nubrik shared verify"),
    ("--store", "--cache"),
    ("--to", "--size"),
    ("--unused", "--unused-for"),
    ("--write", "nubrik report --pages FOLDER"),
];

/// Options that people try, with those that do the same here.
const MEANT: [(&str, &str); 7] = [
    ("--dry-run", "nubrik plan"),
    ("--explain", "--reasons"),
    ("--force", "--rerun"),
    ("--parallel", "--jobs"),
    ("--silent", "--quiet"),
    ("--threads", "--jobs"),
    ("--variant", "--set"),
];

/// Commands that had other names, with those that they have now.
const RENAMED_COMMANDS: [(&str, &str); 12] = [
    ("accept", "nubrik shared trust"),
    ("align", "nubrik adopt --check"),
    ("bill", "nubrik sbom TARGET"),
    ("completions", "nubrik setup completions SHELL"),
    ("how", "nubrik why TARGET NEED"),
    ("manual", "nubrik setup manual FOLDER"),
    ("pin", "nubrik pins add REGISTRY NAME"),
    ("serve-editor", "nubrik lsp"),
    ("share", "nubrik shared"),
    ("trace", "nubrik report --trace FILE"),
    ("unpin", "nubrik pins drop REGISTRY NAME"),
    ("worker", "nubrik workers serve"),
];

/// Prints what was asked for (help, the version), or what is wrong.
pub fn explain(error: &clap::Error) -> Exit {
    // The words that say how it is to look were not understood.
    let console = Console::new(Face {
        plain: false,
        json: false,
        color: Color::Auto,
    });
    let asked = matches!(
        error.kind(),
        ErrorKind::DisplayHelp
            | ErrorKind::DisplayVersion
            | ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand
    );
    if asked {
        let (stream, exit) = if error.use_stderr() {
            (OutputStream::Error, Exit::Usage)
        } else {
            (OutputStream::Output, Exit::Done)
        };
        let paint = console.paint(stream);
        let of_command = match error.kind() {
            ErrorKind::DisplayHelp => crate::help::of(std::env::args().skip(1)),
            _ => None,
        };
        let text = of_command.unwrap_or_else(|| error.render());
        console.text(
            stream,
            &if paint.colours {
                text.ansi().to_string()
            } else {
                text.to_string()
            },
        );
        return exit;
    }
    let text = diagnostics::render(
        &[diagnostic(error)],
        &Sources::default(),
        console.paint(OutputStream::Error),
    );
    err!(console, "{text}");
    Exit::Usage
}

fn words(error: &clap::Error, kind: ContextKind) -> Vec<String> {
    match error.get(kind) {
        Some(ContextValue::String(word)) => vec![word.clone()],
        Some(ContextValue::Strings(words)) => words.clone(),
        _ => Vec::new(),
    }
}

/// The command that the words were meant for, where there is one: `nubrik cache prune`.
fn command(error: &clap::Error) -> Option<String> {
    let Some(ContextValue::StyledStr(usage)) = error.get(ContextKind::Usage) else {
        return None;
    };
    let usage = usage.to_string();
    let words = usage
        .trim_start_matches("Usage:")
        .split_whitespace()
        .skip(1);
    let is_command = |word: &&str| word.chars().all(|c| c.is_ascii_lowercase());
    let words: Vec<&str> = words.take_while(is_command).collect();
    (!words.is_empty()).then(|| format!("nubrik {}", words.join(" ")))
}

/// What a value should be, and the option with one that is right.
fn wanted(argument: &str, value: &str, problem: &str) -> (String, Option<String>) {
    // What has no dashes has its place only, and no name to write.
    let option = argument
        .split_whitespace()
        .next()
        .filter(|option| option.starts_with('-'));
    let written =
        |value: &str| option.map_or(value.to_owned(), |option| format!("{option} {value}"));
    let bounds = problem
        .rsplit(" not in ")
        .next()
        .and_then(|range| range.split_once("..="));
    match bounds {
        Some((least, most)) => {
            let nearest =
                if value.trim_start_matches('-').len() < most.len() || value.starts_with('-') {
                    least
                } else {
                    most
                };
            (
                format!("a whole number from {least} to {most}"),
                Some(written(nearest)),
            )
        }
        None if problem.contains("invalid digit") => {
            ("a whole number".to_owned(), Some(written("1")))
        }
        // `sizes are written 500MiB or 10GiB`
        None => {
            let example = problem
                .split_once(" are written ")
                .and_then(|(_, rest)| rest.rsplit(' ').next());
            (problem.to_owned(), example.map(written))
        }
    }
}

/// What is wrong, in a line.
fn message(error: &clap::Error) -> String {
    let first = |kind| words(error, kind).first().cloned().unwrap_or_default();
    let argument = first(ContextKind::InvalidArg);
    let value = first(ContextKind::InvalidValue);
    match error.kind() {
        ErrorKind::InvalidSubcommand => {
            format!(
                "no command is called `{}`",
                first(ContextKind::InvalidSubcommand)
            )
        }
        ErrorKind::UnknownArgument if argument.starts_with('-') => {
            format!("unknown option `{argument}`")
        }
        ErrorKind::UnknownArgument => format!("unexpected argument `{argument}`"),
        ErrorKind::MissingRequiredArgument => {
            let missing = words(error, ContextKind::InvalidArg);
            let names: Vec<&str> = missing
                .iter()
                .map(|name| name.trim_matches(['<', '>']))
                .collect();
            format!(
                "missing {}: {}",
                plural("argument", names.len()),
                names.join(", ")
            )
        }
        ErrorKind::ArgumentConflict if argument == first(ContextKind::PriorArg) => {
            format!("`{argument}` is given twice")
        }
        ErrorKind::ArgumentConflict => {
            format!(
                "`{argument}` cannot be used with `{}`",
                first(ContextKind::PriorArg)
            )
        }
        ErrorKind::InvalidValue if value.is_empty() => format!("`{argument}` needs a value"),
        ErrorKind::InvalidValue | ErrorKind::ValueValidation => {
            let name = argument
                .split(' ')
                .next()
                .unwrap_or_default()
                .trim_matches(['[', ']', '<', '>']);
            format!("invalid value `{value}` for `{name}`")
        }
        // The library's own words where it knows something that these do not.
        _ => error
            .to_string()
            .lines()
            .next()
            .unwrap_or_default()
            .trim_start_matches("error: ")
            .to_owned(),
    }
}

fn diagnostic(error: &clap::Error) -> Diagnostic {
    let first = |kind| words(error, kind).first().cloned().unwrap_or_default();
    let argument = first(ContextKind::InvalidArg);
    let value = first(ContextKind::InvalidValue);
    let mut diagnostic = Diagnostic::error("usage", message(error));
    if let Some(now) = named_otherwise(error, &argument) {
        return diagnostic.mend(now);
    }
    let known = words(error, ContextKind::ValidValue);
    let option = argument
        .split_whitespace()
        .next()
        .filter(|option| option.starts_with('-'));
    if let (Some(first), Some(option)) = (known.first(), option) {
        let right = nearest(&value, known.iter().map(String::as_str)).unwrap_or(first);
        let diagnostic = diagnostic.note(format!("the values are: {}", known.join(", ")));
        return diagnostic.mend(format!("{option} {right}"));
    }
    if !known.is_empty() {
        diagnostic = diagnostic.note(format!("the values are: {}", known.join(", ")));
    } else if let Some(source) = std::error::Error::source(error) {
        let (note, mend) = wanted(&argument, &value, &source.to_string());
        diagnostic = diagnostic.note(note);
        if let Some(mend) = mend {
            return diagnostic.mend(mend);
        }
    }
    let kinds = [
        ContextKind::SuggestedSubcommand,
        ContextKind::SuggestedArg,
        ContextKind::SuggestedValue,
    ];
    let mut suggested: Vec<String> = kinds
        .into_iter()
        .flat_map(|kind| words(error, kind))
        .rev()
        .collect();
    // What only shares some letters is no guess.
    suggested.retain(|word| {
        !word.starts_with('-')
            || nearest(word.trim_matches('-'), [argument.trim_matches('-')]).is_some()
    });
    if suggested.is_empty() {
        return diagnostic.mend(match command(error) {
            Some(command) => format!("{command} --help   shows its options"),
            None => "nubrik help   lists all commands".to_owned(),
        });
    }
    suggested.into_iter().fold(diagnostic, Diagnostic::mend)
}

/// What is meant by a word of a command line that is called otherwise.
fn named_otherwise(error: &clap::Error, argument: &str) -> Option<String> {
    let first = |kind| words(error, kind).first().cloned().unwrap_or_default();
    let now = |list: &[(&str, &'static str)], word: &str| {
        let row = list.iter().find(|(before, _)| *before == word);
        row.map(|(_, now)| (*now).to_owned())
    };
    if error.kind() == ErrorKind::UnknownArgument {
        let meant = nearest(argument, MEANT.map(|(word, _)| word));
        let meant = meant.filter(|_| argument.len() > 5);
        let renamed = now(&RENAMED, argument);
        let renamed = renamed.or_else(|| meant.and_then(|word| now(&MEANT, word)));
        if renamed.is_some() {
            return renamed;
        }
    }
    if error.kind() == ErrorKind::ArgumentConflict && argument == first(ContextKind::PriorArg) {
        return Some(format!("{argument} once"));
    }
    now(&RENAMED_COMMANDS, &first(ContextKind::InvalidSubcommand))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_value_should_be_is_said_with_one_that_is_right() {
        let said = |argument: &str, value: &str, problem: &str| {
            let (note, mend) = wanted(argument, value, problem);
            format!("{note}: {}", mend.unwrap_or_default())
        };
        let range = "0 is not in 1..=4096";
        assert_eq!(
            said("--jobs <N>", "0", range),
            "a whole number from 1 to 4096: --jobs 1"
        );
        assert_eq!(
            said("--jobs <N>", "-3", range),
            "a whole number from 1 to 4096: --jobs 1"
        );
        assert_eq!(
            said("--jobs <N>", "5000", range),
            "a whole number from 1 to 4096: --jobs 4096"
        );
        let digits = "invalid digit found in string";
        assert_eq!(said("--jobs <N>", "x", digits), "a whole number: --jobs 1");
        assert_eq!(said("[BUILD]", "x", digits), "a whole number: 1");
        assert_eq!(
            said("--to <SIZE>", "x", "sizes are written 10GiB"),
            "sizes are written 10GiB: --to 10GiB"
        );
    }
}
