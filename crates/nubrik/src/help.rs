//! Help: all commands by what they are for, and of each one the options that do something for it,
//! its own ones first.

use clap::builder::StyledStr;
use clap::{Arg, Command, CommandFactory};

use crate::arguments::Arguments;

/// Options that are accepted everywhere, and do nothing for some commands.
const WITHOUT_EFFECT: [(&str, &[&str]); 22] = [
    ("cache load", &["set", "profile"]),
    ("cache prune", &["set", "profile", "directory"]),
    ("cache verify", &["set", "profile", "directory"]),
    ("cache", &["set", "profile", "directory"]),
    ("demo", &["set", "profile"]),
    ("explain", &["set", "profile", "directory"]),
    ("fmt", &["set", "profile"]),
    ("history", &["set", "profile"]),
    ("image push", &["set", "profile"]),
    ("init", &["set", "profile"]),
    ("pins add", &["set", "profile"]),
    ("pins drop", &["set", "profile"]),
    ("pins newer", &["set", "profile"]),
    ("pins settle", &["set", "profile"]),
    ("pins update", &["set", "profile"]),
    ("pins vendor", &["set", "profile"]),
    ("pins why", &["set", "profile"]),
    (
        "setup completions",
        &["set", "profile", "directory", "plain", "json", "color"],
    ),
    ("setup manual", &["set", "profile"]),
    ("test", &["keep_going"]),
    ("watch run", &["keep_going"]),
    ("watch test", &["keep_going"]),
];

/// The help of the command that some words ask for; `None` where they ask for none but the
/// program's.
pub fn of(words: impl IntoIterator<Item = String>) -> Option<StyledStr> {
    let whole = Arguments::command();
    let mut command: &Command = &whole;
    let mut path: Vec<String> = Vec::new();
    for word in words {
        if let Some(inner) = command.find_subcommand(&word) {
            command = inner;
            path.push(word);
        }
    }
    if path.is_empty() {
        return None;
    }
    let styles = whole.get_styles().clone();
    Some(
        told(&whole, command, &path.join(" "))
            .styles(styles)
            .max_term_width(100)
            .render_help(),
    )
}

/// All commands by their names, the program itself first, each with the options that do something
/// for it.
pub fn all() -> Vec<(String, Command)> {
    let whole = Arguments::command();
    let mut all = vec![(String::new(), whole.clone())];
    let mut open: Vec<(String, &Command)> = whole
        .get_subcommands()
        .map(|inner| (inner.get_name().to_owned(), inner))
        .collect();
    while let Some((name, command)) = open.pop() {
        open.extend(
            command
                .get_subcommands()
                .map(|inner| (format!("{name} {}", inner.get_name()), inner)),
        );
        all.push((name.clone(), told(&whole, command, &name)));
    }
    all[1..].sort_by(|a, b| a.0.cmp(&b.0));
    all
}

/// A command as help shows it.
fn told(whole: &Command, command: &Command, name: &str) -> Command {
    let shared: Vec<Arg> = whole
        .get_arguments()
        .filter(|arg| arg.is_global_set())
        .cloned()
        .collect();
    let idle = WITHOUT_EFFECT
        .iter()
        .find(|(command, _)| *command == name)
        .map_or(&[][..], |(_, idle)| idle);
    let is_idle = |arg: &Arg| idle.contains(&arg.get_id().as_str());
    let own: Vec<Arg> = command
        .get_arguments()
        .filter(|arg| is_idle(arg))
        .cloned()
        .collect();
    let mut command = command.clone().bin_name(format!("nubrik {name}"));
    for arg in own {
        command = command.mut_arg(arg.get_id(), |arg| arg.hide(true));
    }
    for arg in shared.into_iter().filter(|arg| !is_idle(arg)) {
        command = command.arg(arg.global(false).help_heading("Everywhere"));
    }
    command
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::groups::GROUPS;

    fn help(words: &str) -> String {
        of(words.split(' ').map(str::to_owned))
            .map(|text| text.to_string())
            .unwrap_or_default()
    }

    #[test]
    fn a_command_shows_what_does_something_for_it() {
        let build = help("build --help");
        assert!(
            build.starts_with("Build targets\n\nUsage: nubrik build [OPTIONS] [TARGET]...\n"),
            "{build}"
        );
        assert!(
            build.contains("--keep-going")
                && build.contains("Everywhere:\n")
                && build.contains("--set")
        );
        let test = help("test -h");
        assert!(
            !test.contains("--keep-going") && test.contains("--jobs"),
            "{test}"
        );
        let completions = help("help setup completions");
        assert!(
            !completions.contains("--set") && !completions.contains("Everywhere"),
            "{completions}"
        );
        let prune = help("cache prune --help");
        assert!(
            prune.contains("--unused") && !prune.contains("--profile"),
            "{prune}"
        );
        assert_eq!(help("--help"), "");
    }

    #[test]
    fn what_is_said_to_do_nothing_is_there() {
        for (name, idle) in WITHOUT_EFFECT {
            let whole = Arguments::command();
            let mut command = &whole;
            for word in name.split(' ') {
                command = command
                    .find_subcommand(word)
                    .unwrap_or_else(|| panic!("no command {name}"));
            }
            for id in idle {
                let mut all = whole.get_arguments().chain(command.get_arguments());
                assert!(all.any(|arg| arg.get_id() == id), "{name} has no {id}");
            }
        }
    }

    #[test]
    fn each_command_is_in_a_group_with_what_it_does() {
        let command = Arguments::command();
        let commands = command
            .get_subcommands()
            .filter(|command| command.get_name() != "help");
        let mut count = 0;
        for command in commands {
            let line = GROUPS
                .lines()
                .find(|line| line.starts_with(&format!("  {} ", command.get_name())));
            let about = command.get_about().unwrap_or_default().to_string();
            let said = line
                .unwrap_or_else(|| panic!("{} is in no group", command.get_name()))
                .to_owned();
            // The list may leave out what the command's own help says more.
            let said = said
                .trim_start()
                .trim_start_matches(command.get_name())
                .trim_start()
                .to_owned();
            let known: String = about.chars().take(said.chars().count().min(25)).collect();
            assert!(
                said.starts_with(&known),
                "{}: {said:?}, and its help: {about:?}",
                command.get_name()
            );
            count += 1;
        }
        assert_eq!(
            GROUPS.lines().filter(|line| line.starts_with("  ")).count(),
            count
        );
    }

    #[test]
    fn arguments_fit_together() {
        Arguments::command().debug_assert();
    }
}
