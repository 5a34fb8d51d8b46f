//! A gallery of mistakes, and what the program says to each: a changed word of a message is seen by
//! its readers.
//!
//! A file of the gallery is a row of cases, each in the workspace of `gallery/workspace.txt` with
//! something changed:
//!
//! ```text
//! === what is wrong
//! @ FILE: BEFORE => AFTER      a text of a file is replaced, once; `\n` is a line's end
//! & LINE                       a line more at the end of targets.nub
//! + FILE                       a file, with the lines below that begin with `  | `
//! - FILE                       no such file
//! % nubrik WORDS               something that is done before, as is `% write FILE TEXT`
//! ! sandboxes                      only where commands run in sandboxes
//! $ nubrik WORDS               the command, and then what it prints, each line after `> `, and its exit code
//! ```
//!
//! Times are written as `TIME`. A line `~` before the command says: the first thing to try, pasted
//! in place of what is underlined, leaves nothing wrong.
//!
//! `NUBRIK_WRITE_GALLERY=1` writes what the program says now.

use std::fmt::Write as _;
use std::fs;
use std::path::PathBuf;

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

#[derive(Default)]
struct Case {
    /// The lines that say what is done, as they are written.
    setting: Vec<String>,
    command: String,
    said: String,
}

/// A case whose first mend works when it is pasted.
const PASTES: &str = "~";

/// A case that shows what sandboxes do.
const SANDBOXES: &str = "! sandboxes";

fn folder() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/gallery")
}

fn cases(text: &str) -> Vec<Case> {
    let mut cases: Vec<Case> = Vec::new();
    for line in text.lines() {
        if line.is_empty() {
            continue;
        }
        if line.starts_with("=== ") {
            cases.push(Case::default());
        }
        let case = cases.last_mut().expect("a case begins with its name");
        if line.starts_with("$ ") {
            case.command = line.to_owned();
        } else if line.starts_with("> ") || line.starts_with("= ") || line == ">" {
            writeln!(case.said, "{line}").unwrap();
        } else {
            case.setting.push(line.to_owned());
        }
    }
    cases
}

/// Does what the lines of a setting say.
fn set_up(sandbox: &Sandbox, setting: &[String]) {
    let mut file = String::new();
    for line in setting {
        if let Some(text) = line.strip_prefix("  |") {
            let known = sandbox.read(&file);
            sandbox.write(
                &file,
                &format!("{known}{}\n", text.strip_prefix(' ').unwrap_or(text)),
            );
        } else if let Some(path) = line.strip_prefix("+ ") {
            file = path.to_owned();
            sandbox.write(path, "");
        } else if let Some(path) = line.strip_prefix("- ") {
            fs::remove_file(sandbox.folder.join(path)).unwrap();
        } else if let Some(more) = line.strip_prefix("& ") {
            let known = sandbox.read("targets.nub");
            sandbox.write("targets.nub", &format!("{known}{more}\n"));
        } else if let Some(edit) = line.strip_prefix("@ ") {
            let (path, edit) = edit.split_once(": ").unwrap();
            let (before, after) = edit
                .split_once(" => ")
                .unwrap_or_else(|| panic!("no => in {line}"));
            let known = sandbox.read(path);
            assert!(known.contains(before), "{path} holds no {before}");
            sandbox.write(
                path,
                &known.replacen(before, &after.replace("\\n", "\n"), 1),
            );
        } else if let Some(words) = line.strip_prefix("% nubrik ") {
            sandbox.run(&words.split_whitespace().collect::<Vec<_>>());
        } else if let Some(words) = line.strip_prefix("% write ") {
            let (path, text) = words.split_once(' ').unwrap();
            fs::remove_file(sandbox.folder.join(path)).unwrap();
            sandbox.write(path, &format!("{text}\n"));
        } else {
            assert!(
                line.starts_with("=== ") || line == SANDBOXES || line == PASTES,
                "what is {line:?}?"
            );
        }
    }
}

/// A line in which times, which differ from run to run, are one word. Code and messages stay as
/// they are.
fn without_times(line: &str) -> String {
    if line.starts_with("  asked ") {
        return "  asked     N times".to_owned();
    }
    if ["  ", "error"].iter().any(|start| line.starts_with(start)) {
        return line.to_owned();
    }
    let is_time = |word: &str| {
        let unit = word.trim_start_matches(|c: char| c.is_ascii_digit() || c == '.');
        unit.len() < word.len() && ["ms", "s", "min"].contains(&unit)
    };
    let mut out = String::new();
    for word in line.split(' ') {
        match is_time(word) {
            // Times are in a column.
            true => out.truncate(out.trim_end().len()),
            false => out.push(' '),
        }
        out.push_str(if is_time(word) { "  TIME" } else { word });
    }
    out.trim().to_owned()
}

/// A case's workspace.
fn workspace_of(case: &Case) -> Sandbox {
    let sandbox = Sandbox::new(&[]);
    let workspace = fs::read_to_string(folder().join("workspace.txt")).unwrap();
    set_up(
        &sandbox,
        &workspace.lines().map(str::to_owned).collect::<Vec<_>>(),
    );
    set_up(&sandbox, &case.setting);
    sandbox
}

fn said(case: &Case) -> String {
    let sandbox = workspace_of(case);
    let words: Vec<&str> = case.command["$ nubrik ".len()..]
        .split_whitespace()
        .collect();
    let mut command = sandbox.command(&words);
    command.env("PATH", "/usr/bin:/bin");
    let run = crate::sandbox::finish(command);
    let printed = format!("{}{}", run.stderr, run.stdout);
    let printed = printed.replace(sandbox.folder.to_str().unwrap(), "/work");
    let mut said = String::new();
    for line in printed.lines() {
        writeln!(said, "{}", format!("> {}", without_times(line)).trim_end()).unwrap();
    }
    writeln!(said, "= {}", run.code).unwrap();
    said
}

/// What an error blames: a file of the workspace, its line and column from 1, how many characters,
/// and the first mend.
struct Blame<'a> {
    file: &'a str,
    line: usize,
    column: usize,
    length: usize,
    mend: &'a str,
}

fn blame(said: &str) -> Option<Blame<'_>> {
    let mut lines = said
        .lines()
        .map(|line| line.strip_prefix("> ").unwrap_or_default());
    let (place, _code) = lines
        .find_map(|line| line.strip_prefix("  at    "))?
        .split_once("  (")?;
    let mut place = place.rsplitn(3, ':');
    let (column, line, file) = (
        place.next()?.parse().ok()?,
        place.next()?.parse().ok()?,
        place.next()?,
    );
    let length = lines
        .find(|line| line.trim_start().starts_with('▔'))?
        .trim()
        .chars()
        .count();
    let mend = lines
        .take_while(|line| !line.is_empty())
        .find_map(|line| line.strip_prefix("  try   "))?;
    Some(Blame {
        file,
        line,
        column,
        length,
        mend,
    })
}

/// Whether the first mend of a case, pasted in place of what is underlined, leaves nothing wrong.
fn is_mended(case: &Case) -> bool {
    let Some(Blame {
        file,
        line,
        column,
        length,
        mend,
    }) = blame(&case.said)
    else {
        return false;
    };
    let sandbox = workspace_of(case);
    if mend.contains('…') || !sandbox.exists(file) {
        return false;
    }
    let text = sandbox.read(file);
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    let blamed: Vec<char> = lines[line - 1].chars().collect();
    let (mut start, mut end) = (column - 1, column - 1 + length);
    if mend.starts_with("sh`") && blamed[start] != '`' {
        // It represents the whole command.
        start = (0..start).rev().find(|at| blamed[*at] == '`').unwrap();
        end = (end..blamed.len()).find(|at| blamed[*at] == '`').unwrap() + 1;
    }
    // What is missing at a line's end is underlined after it.
    let (start, end) = (start.min(blamed.len()), end.min(blamed.len()));
    let part = |from: usize, to: usize| blamed[from..to].iter().collect::<String>();
    let mend = if mend == "remove it" { "" } else { mend };
    let gap = if start == blamed.len() { " " } else { "" };
    lines[line - 1] = format!("{}{gap}{mend}{}", part(0, start), part(end, blamed.len()));
    sandbox.write(file, &(lines.join("\n") + "\n"));
    let is_test = case.command.starts_with("$ nubrik test");
    let words = case.command["$ nubrik ".len()..]
        .split_whitespace()
        .filter(|_| !is_test);
    let words: Vec<&str> = std::iter::once("plan").chain(words.skip(1)).collect();
    let run = sandbox.run(&words);
    run.code == 0
}

#[test]
fn mistakes_are_answered_as_the_gallery_shows() {
    let write = std::env::var_os("NUBRIK_WRITE_GALLERY").is_some();
    let paths = fs::read_dir(folder())
        .unwrap()
        .map(|entry| entry.unwrap().path());
    let mut paths: Vec<PathBuf> = paths
        .filter(|path| !path.ends_with("workspace.txt"))
        .collect();
    paths.sort();
    let mut others = String::new();
    if !crate::sandbox::has_sandboxes() {
        skip(
            Need::Confinement,
            "cases of the gallery that show what sandboxes do",
        );
    }
    for path in paths {
        let cases = cases(&fs::read_to_string(&path).unwrap());
        let next = std::sync::atomic::AtomicUsize::new(0);
        let results: Vec<parking_lot::Mutex<String>> =
            cases.iter().map(|_| Default::default()).collect();
        std::thread::scope(|scope| {
            for _ in 0..std::thread::available_parallelism().map_or(2, |n| 3 * n.get()) {
                scope.spawn(|| {
                    while let Some(case) =
                        cases.get(next.fetch_add(1, std::sync::atomic::Ordering::Relaxed))
                    {
                        let at = cases.iter().position(|c| std::ptr::eq(c, case)).unwrap();
                        let is_left_out = case.setting.iter().any(|line| line == SANDBOXES)
                            && !crate::sandbox::has_sandboxes();
                        *results[at].lock() = if is_left_out {
                            case.said.clone()
                        } else {
                            said(case)
                        };
                    }
                });
            }
        });
        let mut written = String::new();
        for (mut case, now) in cases.into_iter().zip(results) {
            let now = now.into_inner();
            let pastes = case.setting.iter().any(|line| line == PASTES);
            let now_case = Case {
                said: now.clone(),
                ..Case {
                    setting: case.setting.clone(),
                    command: case.command.clone(),
                    said: String::new(),
                }
            };
            let is_mended = is_mended(&now_case);
            if pastes && !is_mended && !write {
                writeln!(
                    others,
                    "{}: its first mend does not work when it is pasted",
                    case.setting[0]
                )
                .unwrap();
            }
            case.setting.retain(|line| line != PASTES);
            if is_mended {
                case.setting.push(PASTES.to_owned());
            }
            if now != case.said {
                writeln!(
                    others,
                    "{}\n{}\n--- expected\n{}--- now\n{now}",
                    case.setting[0], case.command, case.said
                )
                .unwrap();
            }
            writeln!(
                written,
                "{}\n{}\n{now}",
                case.setting.join("\n"),
                case.command
            )
            .unwrap();
        }
        if write {
            fs::write(&path, written.trim_end().to_owned() + "\n").unwrap();
        }
    }
    assert!(
        write || others.is_empty(),
        "the gallery says otherwise (NUBRIK_WRITE_GALLERY=1 writes it):\n{others}"
    );
}
