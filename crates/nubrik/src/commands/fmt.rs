//! `nubrik fmt`

use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_answers::FormattedEvent;
use nubrik_source::Sources;
use nubrik_syntax::format;
use nubrik_wording::counted;

use super::{CommandResult, open, report, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::Ink;

pub fn fmt(console: Console, files: &[PathBuf], check: bool) -> CommandResult<Exit> {
    if files == [PathBuf::from("-")] {
        return standard_input(console, check);
    }
    let paths = paths_of(console, files)?;
    let (mut untidy, mut unreadable) = (Vec::new(), 0);
    for path in &paths {
        match tidy(console, path)? {
            Tidied::Already => {}
            Tidied::Unreadable => unreadable += 1,
            Tidied::Needed(text) => {
                if !check {
                    write(console, path, &text)?;
                }
                untidy.push(path);
            }
        }
    }
    say(
        console,
        &untidy,
        paths.len() - unreadable,
        unreadable,
        check,
    );
    Ok(match (unreadable, check && !untidy.is_empty()) {
        (0, false) => Exit::Done,
        (0, true) => Exit::Failed,
        _ => Exit::Definitions,
    })
}

enum Tidied {
    Already,
    Needed(String),
    /// It has errors, and they were said.
    Unreadable,
}

fn tidy(console: Console, path: &Path) -> CommandResult<Tidied> {
    let bytes = nubrik_disk::read_file(path, nubrik_disk::TEXT_LIMIT).map_err(|e| {
        say_wrong(
            console,
            Exit::Usage,
            &format!("cannot read {}: {e}", path.display()),
            &[],
        )
    })?;
    let Ok(text) = String::from_utf8(bytes) else {
        let message = format!("{} is not UTF-8 text", path.display());
        let _ = say_wrong(console, Exit::Definitions, &message, &[]);
        return Ok(Tidied::Unreadable);
    };
    Ok(
        match formatted(console, &path.display().to_string(), &text) {
            None => Tidied::Unreadable,
            Some(new) if new == text => Tidied::Already,
            Some(new) => Tidied::Needed(new),
        },
    )
}

/// The text in its usual form; `None` when it has errors, which are said.
fn formatted(console: Console, name: &str, text: &str) -> Option<String> {
    let text: Arc<str> = text.into();
    let mut sources = Sources::default();
    let file = sources.add(name, text.clone());
    match format(file, &text) {
        Ok(new) => Some(new),
        Err(diagnostics) => {
            report(console, &diagnostics, &sources);
            None
        }
    }
}

fn standard_input(console: Console, check: bool) -> CommandResult<Exit> {
    let mut text = String::new();
    if let Err(e) = std::io::stdin().read_to_string(&mut text) {
        return Err(say_wrong(
            console,
            Exit::Usage,
            &format!("cannot read standard input: {e}"),
            &[],
        ));
    }
    let Some(new) = formatted(console, "standard input", &text) else {
        return Ok(Exit::Definitions);
    };
    if check {
        return Ok(if new == text {
            Exit::Done
        } else {
            Exit::Failed
        });
    }
    out!(console, "{new}");
    Ok(Exit::Done)
}

/// Files as they were named, and all definition files in the folders that were; without any, those
/// at and below this folder.
fn paths_of(console: Console, files: &[PathBuf]) -> CommandResult<Vec<PathBuf>> {
    let here = std::env::current_dir().unwrap_or_default();
    let mut paths = Vec::new();
    let named = if files.is_empty() {
        vec![PathBuf::from(".")]
    } else {
        files.to_vec()
    };
    for path in named {
        if !path.is_dir() {
            paths.push(path);
            continue;
        }
        let session = open(console, &Choice::default())?;
        let root = session.workspace.root.clone();
        let whole = path.canonicalize().unwrap_or(path);
        let below = whole
            .strip_prefix(&root)
            .map(|p| p.to_string_lossy().into_owned());
        let Ok(below) = below else {
            let message = format!("{} is not in this workspace", whole.display());
            return Err(say_wrong(
                console,
                Exit::Usage,
                &message,
                &["name the files one by one"],
            ));
        };
        for file in session.definition_files(&nubrik_source::WsPath::from_normal(&below)) {
            let path = root.join(file.as_str());
            paths.push(path.strip_prefix(&here).map(Path::to_owned).unwrap_or(path));
        }
    }
    Ok(paths)
}

/// Puts the new text in place whole or not at all, with the rights that the file had.
fn write(console: Console, path: &Path, text: &str) -> CommandResult<()> {
    // A link of a workspace to another file of it stays one.
    let target = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let root = super::root_around(path);
    let written = match root {
        Some(root) if !target.starts_with(&root) => Err(std::io::Error::other(
            "it is a link that leads out of the workspace",
        )),
        _ => super::write_whole(&target, text),
    };
    written.map_err(|e| {
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot write {}: {e}", path.display()),
            &[],
        )
    })
}

fn say(console: Console, untidy: &[&PathBuf], all: usize, unreadable: usize, check: bool) {
    let word = if check { "untidy" } else { "tidied" };
    let paint = console.paint(OutputStream::Output);
    for path in untidy {
        let path = path.display().to_string();
        if console.is_json() {
            console.event(&FormattedEvent::of(&path, word));
        } else {
            outln!(
                console,
                "{}",
                super::labelled(paint, Ink::Busy, word, &path)
            );
        }
    }
    if !console.is_json() {
        let gap = if untidy.is_empty() { "" } else { "\n" };
        let files = counted(all, "file");
        match (untidy.len(), check) {
            (0, _) if all == 0 => {}
            (0, _) if unreadable == 0 => outln!(console, "{gap}{files}, all in the usual form"),
            (0, _) => outln!(
                console,
                "{gap}{files} in the usual form, {unreadable} with errors"
            ),
            (count, true) => {
                let are = if count == 1 { "is" } else { "are" };
                outln!(
                    console,
                    "{gap}{count} of {files} {are} not in the usual form; `nubrik fmt` corrects that"
                )
            }
            (count, false) => outln!(console, "{gap}{count} of {files} tidied"),
        }
    }
}
