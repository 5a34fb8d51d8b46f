//! `nubrik fmt`

use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_source::Sources;
use nubrik_syntax::format;

use super::{Outcome, open, report, say_wrong};
use crate::arguments::{Choice, Face};
use crate::exit::Exit;
use crate::ui::json;
use crate::ui::out::{out, outln};
use crate::ui::paint::Ink;

pub fn fmt(face: Face, files: &[PathBuf], check: bool) -> Outcome<Exit> {
    if files == [PathBuf::from("-")] {
        return standard_input(face, check);
    }
    let paths = paths_of(face, files)?;
    let (mut untidy, mut unreadable) = (Vec::new(), 0);
    for path in &paths {
        match tidy(face, path)? {
            Tidied::Already => {}
            Tidied::Unreadable => unreadable += 1,
            Tidied::Needed(text) => {
                if !check {
                    write(face, path, &text)?;
                }
                untidy.push(path);
            }
        }
    }
    say(face, &untidy, paths.len(), check);
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

fn tidy(face: Face, path: &Path) -> Outcome<Tidied> {
    let bytes = fs::read(path)
        .map_err(|e| say_wrong(face, Exit::Usage, &format!("cannot read {}: {e}", path.display()), &[]))?;
    let Ok(text) = String::from_utf8(bytes) else {
        let message = format!("{} is not UTF-8 text", path.display());
        let _ = say_wrong(face, Exit::Definitions, &message, &[]);
        return Ok(Tidied::Unreadable);
    };
    Ok(match formatted(face, &path.display().to_string(), &text) {
        None => Tidied::Unreadable,
        Some(new) if new == text => Tidied::Already,
        Some(new) => Tidied::Needed(new),
    })
}

/// The text in its usual form; `None` when it has errors, which are said.
fn formatted(face: Face, name: &str, text: &str) -> Option<String> {
    let text: Arc<str> = text.into();
    let mut sources = Sources::default();
    let file = sources.add(name, text.clone());
    match format(file, &text) {
        Ok(new) => Some(new),
        Err(diagnostics) => {
            report(face, &diagnostics, &sources);
            None
        }
    }
}

fn standard_input(face: Face, check: bool) -> Outcome<Exit> {
    let mut text = String::new();
    if let Err(e) = std::io::stdin().read_to_string(&mut text) {
        return Err(say_wrong(face, Exit::Usage, &format!("cannot read standard input: {e}"), &[]));
    }
    let Some(new) = formatted(face, "standard input", &text) else { return Ok(Exit::Definitions) };
    if check {
        return Ok(if new == text { Exit::Done } else { Exit::Failed });
    }
    out!("{new}");
    Ok(Exit::Done)
}

/// Files as they were named, and all definition files in the folders that were; without any, those at
/// and below this folder.
fn paths_of(face: Face, files: &[PathBuf]) -> Outcome<Vec<PathBuf>> {
    let here = std::env::current_dir().unwrap_or_default();
    let mut paths = Vec::new();
    let named = if files.is_empty() { vec![PathBuf::from(".")] } else { files.to_vec() };
    for path in named {
        if !path.is_dir() {
            paths.push(path);
            continue;
        }
        let session = open(face, &Choice::default())?;
        let root = session.workspace.root.clone();
        let whole = path.canonicalize().unwrap_or(path);
        let below = whole.strip_prefix(&root).map(|p| p.to_string_lossy().into_owned());
        let Ok(below) = below else {
            let message = format!("{} is not in this workspace", whole.display());
            return Err(say_wrong(face, Exit::Usage, &message, &["name the files one by one"]));
        };
        for file in session.definition_files(&nubrik_source::WsPath::from_normal(&below)) {
            let path = root.join(file.as_str());
            paths.push(path.strip_prefix(&here).map(Path::to_owned).unwrap_or(path));
        }
    }
    Ok(paths)
}

/// Puts the new text in place whole or not at all, with the rights that the file had.
fn write(face: Face, path: &Path, text: &str) -> Outcome<()> {
    let target = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let name = target.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let beside = target.with_file_name(format!(".{name}.new"));
    let written = fs::write(&beside, text)
        .and_then(|()| fs::set_permissions(&beside, fs::metadata(&target)?.permissions()))
        .and_then(|()| fs::rename(&beside, &target));
    written.map_err(|e| {
        let _ = fs::remove_file(&beside);
        say_wrong(face, Exit::Own, &format!("cannot write {}: {e}", path.display()), &[])
    })
}

fn say(face: Face, untidy: &[&PathBuf], all: usize, check: bool) {
    let word = if check { "untidy" } else { "tidied" };
    let paint = super::paint(face);
    for path in untidy {
        let path = path.display().to_string();
        if face.json {
            json::print(&json::NoticeEvent { event: word, text: path });
        } else {
            outln!("{}", super::labelled(paint, Ink::Busy, word, &path));
        }
    }
    if !face.json {
        let gap = if untidy.is_empty() { "" } else { "\n" };
        let files = if all == 1 { "1 file".to_owned() } else { format!("{all} files") };
        match (untidy.len(), check) {
            (0, _) => outln!("{gap}{files}, all in the usual form"),
            (count, true) => {
                outln!("{gap}{count} of {files} are not in the usual form; `nubrik fmt` mends them")
            }
            (count, false) => outln!("{gap}{count} of {files} tidied"),
        }
    }
}
