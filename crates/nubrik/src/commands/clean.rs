//! `nubrik clean`

use std::fs;
use std::io;
use std::path::Path;

use nubrik_answers::NoticeEvent;
use nubrik_wording::counted;

use super::build::lock;
use super::{CommandResult, evaluate, open, patterns, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, outln};

/// What is removed where nothing is named. The history of builds stays.
const ALL: [&str; 9] = [
    "out",
    ".nubrik/made",
    ".nubrik/seals",
    ".nubrik/reads",
    ".nubrik/state",
    ".nubrik/state.log",
    ".nubrik/tools",
    ".nubrik/printed",
    ".nubrik/unknown-results",
];

pub fn clean(
    console: Console,
    choice: &Choice,
    words: &[String],
    store: bool,
) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let mut workshop = lock(console, &mut session)?;
    let mut paths: Vec<String> = Vec::new();
    if words.is_empty() {
        paths.extend(ALL.map(str::to_owned));
    } else {
        let patterns = patterns(console, &mut workshop, words)?;
        let evaluation = evaluate(console, &mut workshop, &patterns)?;
        let targets = evaluation.targets.iter();
        for target in targets.map(|id| evaluation.graph.target(*id)) {
            let out = workshop.results_folder();
            let results = target.results.iter();
            paths.extend(results.map(|r| format!("{out}/{}", r.publish.as_str())));
            paths.push(format!(".nubrik/made/{}", target.address));
        }
    }
    let failed = |path: &str, e: io::Error| {
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot remove {path}: {e}"),
            &[],
        )
    };
    let mut removed = 0;
    for path in paths {
        removed += workshop.remove(&path).map_err(|e| failed(&path, e))?;
    }
    if let Some(folder) = nubrik_session::store_folder().ok().filter(|_| store) {
        removed += count_files(&folder);
        match fs::remove_dir_all(&folder) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => {
                return Err(failed(&folder.display().to_string(), e));
            }
            _ => {}
        }
    }
    let kept = if store {
        ""
    } else {
        "; the cache stays, so the next build reuses results"
    };
    let text = format!("removed {}{kept}", counted(removed, "file"));
    if console.is_json() {
        console.event(&NoticeEvent::cleaned(text));
    } else {
        outln!(console, "{text}");
    }
    Ok(Exit::Done)
}

fn count_files(path: &Path) -> usize {
    if !path.symlink_metadata().is_ok_and(|found| found.is_dir()) {
        return usize::from(path.exists());
    }
    let Ok(entries) = fs::read_dir(path) else {
        return 0;
    };
    entries.flatten().map(|e| count_files(&e.path())).sum()
}
