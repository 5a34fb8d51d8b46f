//! `nubrik clean`

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use super::build::lock;
use super::{Outcome, evaluate, open, patterns, say_wrong};
use crate::arguments::{Choice, Face};
use crate::exit::Exit;
use crate::ui::json;
use crate::ui::out::outln;

pub fn clean(face: Face, choice: &Choice, words: &[String], store: bool) -> Outcome<Exit> {
    let mut session = open(face, choice)?;
    lock(face, &mut session)?;
    let root = session.workspace.root.clone();
    let mut paths: Vec<PathBuf> = Vec::new();
    if words.is_empty() {
        for folder in
            ["out", ".nubrik/made", ".nubrik/seals", ".nubrik/state", ".nubrik/state-log", ".nubrik/tools"]
        {
            paths.push(root.join(folder));
        }
    } else {
        let patterns = patterns(face, &mut session, words)?;
        let evaluation = evaluate(face, &mut session, &patterns)?;
        for target in evaluation.targets.iter().map(|t| evaluation.graph.target(*t)) {
            paths.extend(
                target.results.iter().map(|r| root.join(session.results_folder()).join(r.publish.as_str())),
            );
            paths.push(root.join(".nubrik/made").join(&*target.address));
        }
    }
    if store {
        paths.extend(nubrik_session::store_folder());
    }
    let mut removed = 0;
    for path in paths {
        removed += count_files(&path);
        let result = if path.is_dir() { fs::remove_dir_all(&path) } else { fs::remove_file(&path) };
        match result {
            Err(e) if e.kind() != io::ErrorKind::NotFound => {
                return Err(say_wrong(
                    face,
                    Exit::Own,
                    &format!("cannot remove {}: {e}", path.display()),
                    &[],
                ));
            }
            _ => {}
        }
    }
    let kept = if store { "" } else { "; kept results stay in the store, so the next build reuses them" };
    let text = format!("removed {removed} files{kept}");
    if face.json {
        json::print(&json::NoticeEvent { event: "cleaned", text });
    } else {
        outln!("{text}");
    }
    Ok(Exit::Done)
}

fn count_files(path: &Path) -> usize {
    if !path.is_dir() {
        return usize::from(path.exists());
    }
    let Ok(entries) = fs::read_dir(path) else { return 0 };
    entries.flatten().map(|e| count_files(&e.path())).sum()
}
