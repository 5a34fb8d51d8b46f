//! What a shell proposes while somebody types: addresses, options and their values, profiles,
//! kinds, tags, topics.
//!
//! Addresses come from the definition files as they are now: of the folder that is typed, and of no
//! other. That is quick in a workspace of any size, and there is nothing that could be out of date.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use clap::{Command, CommandFactory};
use clap_complete::engine::{
    ArgValueCandidates, ArgValueCompleter, CompletionCandidate, PathCompleter, ValueCompleter,
};
use nubrik_confine::CancelSwitch;
use nubrik_lang::{TARGETS_FILE, declared_targets};
use nubrik_session::{SETTINGS_FILE, Session, Workspace};

use crate::arguments::Arguments;

/// The variable by which the script of a shell asks.
pub const VARIABLE: &str = "NUBRIK_COMPLETE";

/// How many folders are looked into for one that is a package.
const LOOKED_INTO: usize = 500;

/// The command line, with what can be proposed for it.
pub fn command() -> Command {
    completing(Arguments::command())
}

fn completing(command: Command) -> Command {
    let command = command.mut_args(|arg| {
        let names = arg.get_value_names().unwrap_or_default();
        match names.first().map(|name| name.as_str()) {
            Some("TARGET" | "NEED") => arg.add(ArgValueCompleter::new(addresses)),
            Some("OPTION=VALUE") => arg.add(ArgValueCompleter::new(settings)),
            Some("NAME") if arg.get_id() == "profile" => arg.add(ArgValueCandidates::new(profiles)),
            Some("KIND") => arg.add(ArgValueCandidates::new(|| of_targets(|kind, _| vec![kind]))),
            Some("TAG") => arg.add(ArgValueCandidates::new(|| of_targets(|_, tags| tags))),
            Some("TOPIC") => arg.add(ArgValueCandidates::new(topics)),
            _ => arg,
        }
    });
    command.mut_subcommands(completing)
}

/// A proposal with what people read about it.
fn proposal(value: impl Into<String>, about: &str) -> CompletionCandidate {
    let about = about
        .split(". ")
        .next()
        .unwrap_or_default()
        .trim_end_matches('.');
    let about = (!about.is_empty()).then(|| about.to_owned().into());
    CompletionCandidate::new(value.into()).help(about)
}

/// Targets of the folder that is typed, and folders below it that lead to others. Where there is
/// none: files, of which a result means what makes it, and a source what uses it.
fn addresses(typed: &OsStr) -> Vec<CompletionCandidate> {
    let Some(text) = typed.to_str() else {
        return Vec::new();
    };
    let here = std::env::current_dir().ok();
    let Some((here, workspace)) =
        here.and_then(|here| Some((here.clone(), Workspace::find(&here).ok()?)))
    else {
        return Vec::new();
    };
    let (folder, last) = text
        .rsplit_once('/')
        .map_or(("", text), |(folder, last)| (folder, last));
    let before = if text.contains('/') {
        format!("{folder}/")
    } else {
        String::new()
    };
    // An address that begins with `/` begins in the root.
    let from = if text.starts_with('/') {
        &workspace.root
    } else {
        &here
    };
    let at = from.join(folder.trim_start_matches('/'));
    let mut found = Vec::new();
    if at
        .canonicalize()
        .is_ok_and(|at| at.starts_with(&workspace.root))
    {
        let definitions = nubrik_disk::read_text(&at.join(TARGETS_FILE)).unwrap_or_default();
        for target in declared_targets(&definitions) {
            if target.name.starts_with(last) {
                let about = format!("{}: {}", target.word, target.documentation);
                found.push(proposal(
                    format!("{before}{}", target.name),
                    about.trim_end_matches(": "),
                ));
            }
        }
        for (name, below) in folders_in(&at) {
            if name.starts_with(last) && leads_to_package(&below) {
                found.push(proposal(format!("{before}{name}/"), ""));
            }
        }
    }
    if found.is_empty() {
        PathCompleter::any().complete(typed)
    } else {
        found
    }
}

/// Folders in a folder, sorted, without hidden ones and those of other workspaces.
fn folders_in(at: &Path) -> Vec<(String, PathBuf)> {
    let entries = std::fs::read_dir(at).into_iter().flatten().flatten();
    let mut folders: Vec<(String, PathBuf)> = entries
        .filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_dir()))
        .filter_map(|entry| Some((entry.file_name().into_string().ok()?, entry.path())))
        .filter(|(name, path)| !name.starts_with('.') && !path.join(SETTINGS_FILE).exists())
        .collect();
    folders.sort();
    folders
}

/// Whether a package is in or below a folder. Where that takes long to say, one may be.
fn leads_to_package(folder: &Path) -> bool {
    let mut open = vec![folder.to_owned()];
    let mut looked_into = 0;
    while let Some(next) = open.pop() {
        if next.join(TARGETS_FILE).is_file() || looked_into == LOOKED_INTO {
            return true;
        }
        looked_into += 1;
        open.extend(folders_in(&next).into_iter().map(|(_, path)| path));
    }
    false
}

/// The workspace, where there is one that can be opened; nothing is said about what is wrong.
fn session() -> Option<Session> {
    let cancel = CancelSwitch::new().ok()?;
    Session::open(&std::env::current_dir().ok()?, cancel.into()).ok()
}

/// Options, and after a `=` the values that their types list.
fn settings(typed: &OsStr) -> Vec<CompletionCandidate> {
    let Some((session, text)) = session().zip(typed.to_str()) else {
        return Vec::new();
    };
    let options = session.options_to_read().options;
    match text.split_once('=') {
        None => {
            let fitting = options
                .iter()
                .filter(|option| option.name.starts_with(text));
            fitting
                .map(|option| proposal(format!("{}=", option.name), &option.documentation))
                .collect()
        }
        Some((name, begun)) => {
            let option = options
                .iter()
                .find(|option| option.name == name || option.full_name == name);
            let ty = option.map(|option| option.ty.as_str()).unwrap_or_default();
            let values: Vec<&str> = match ty {
                "bool" => vec!["true", "false"],
                _ => ty.split('"').skip(1).step_by(2).collect(),
            };
            let fitting = values.into_iter().filter(|value| value.starts_with(begun));
            fitting
                .map(|value| proposal(format!("{name}={value}"), ""))
                .collect()
        }
    }
}

fn profiles() -> Vec<CompletionCandidate> {
    let workspace = std::env::current_dir()
        .ok()
        .and_then(|here| Workspace::find(&here).ok());
    let profiles = workspace
        .map(|workspace| workspace.settings.profiles)
        .unwrap_or_default();
    profiles
        .keys()
        .map(|name| proposal(name.as_str(), ""))
        .collect()
}

/// Words that the targets of the workspace have, each once.
fn of_targets(words: impl Fn(String, Vec<String>) -> Vec<String>) -> Vec<CompletionCandidate> {
    let Some(session) = session() else {
        return Vec::new();
    };
    let all = nubrik_lang::AddressPattern::below(&nubrik_source::WsPath::root());
    let evaluation = std::mem::ManuallyDrop::new(session.evaluate_to_read(&[all]));
    let mut found: Vec<String> = Vec::new();
    for target in &evaluation.graph.targets {
        let tags = target.tags.iter().map(ToString::to_string).collect();
        found.extend(words(target.kind.to_string(), tags));
    }
    found.sort();
    found.dedup();
    found.into_iter().map(|word| proposal(word, "")).collect()
}

fn topics() -> Vec<CompletionCandidate> {
    crate::commands::all_topics()
        .into_iter()
        .map(|topic| proposal(topic.name, &topic.summary))
        .collect()
}
