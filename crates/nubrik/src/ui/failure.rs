//! A step that failed: its command, what it printed, and what to do.

use std::path::Path;

use nubrik_engine::{Failure, shown_command};
use nubrik_graph::{Graph, StepId};

use super::paint::{Ink, Paint};
use super::text::{harmless, time};

/// What went wrong, in a few words.
pub fn short(failure: &Failure) -> String {
    match failure {
        Failure::Code(code) => format!("ended with code {code}"),
        Failure::Signal(signal) => format!("ended by signal {signal}"),
        Failure::NotStarted { program, problem } => format!("cannot start {program}: {problem}"),
        Failure::NoTool(problem) => format!("there is no tool `{}` on this machine", problem.name),
        Failure::NoInput { path, problem } => format!("cannot read {path}: {problem}"),
        Failure::NoOutput { name, .. } => format!("did not make its output {name}"),
        Failure::Undeclared { path, .. } => format!("read {path}, which it does not declare"),
        Failure::NoListing { name } => format!("did not write {name}, the list of what it read"),
        Failure::InputMoved { path } => format!("{path} changed while it ran"),
        Failure::TimedOut { limit } => format!("was ended after {}, its limit", time(limit * 1000)),
        Failure::Native { problem } => problem.lines().next().unwrap_or("").to_owned(),
        Failure::Machine { problem } => problem.clone(),
    }
}

/// Everything about a failed step below its line.
pub fn render(
    graph: &Graph,
    id: StepId,
    failure: &Failure,
    printed: &[u8],
    root: &Path,
    paint: Paint,
) -> String {
    let step = graph.step(id);
    let mut out = String::new();
    let mut line = |label: &str, text: &str| {
        out.push_str(&format!("  {}  {text}\n", paint.ink(Ink::Calm, &format!("{label:<8}"))));
    };
    let ran = !matches!(failure, Failure::NoTool(_) | Failure::NoInput { .. });
    if ran {
        for (i, command) in shown_command(step).iter().enumerate() {
            line(if i > 0 { "then" } else { "command" }, command);
        }
        line("folder", &root.display().to_string());
    }
    let owner = graph.owner(id);
    line(
        "defined",
        &match owner.place.file == step.place.file {
            true => step.place.to_string(),
            false => format!("{}, by way of {}", owner.place, step.place),
        },
    );
    for (label, text) in readings(graph, id, failure, printed, root) {
        let text = if label == "mend" { paint.ink(Ink::Mend, &text) } else { text };
        line(label, &text);
    }
    let text = String::from_utf8_lossy(printed);
    let text = harmless(text.trim_end(), paint.colours);
    if ran && !text.trim().is_empty() {
        line("printed", "");
        for printed_line in text.lines() {
            out.push_str(&format!("    {printed_line}\n"));
        }
    }
    out
}

/// The tool's own reading of a failure: lines with their labels.
pub fn readings(
    graph: &Graph,
    id: StepId,
    failure: &Failure,
    printed: &[u8],
    root: &Path,
) -> Vec<(&'static str, String)> {
    let step = graph.step(id);
    let mut lines = Vec::new();
    match failure {
        Failure::NoTool(problem) => {
            lines.push(("searched", problem.searched.join(", ")));
            let mend = problem.mend.clone();
            lines.push((
                "mend",
                mend.unwrap_or_else(|| {
                    format!("install `{}`, or correct its name in {}", problem.name, step.place)
                }),
            ));
        }
        Failure::NoOutput { instead, .. } if !instead.is_empty() => {
            lines.push(("made", instead.join(", ")));
            lines.push(("mend", "let the command write to the path that {out \"…\"} gives it".to_owned()));
        }
        Failure::NoOutput { .. } => {
            lines.push((
                "mend",
                "let the command write to the path that {out \"…\"} gives it, or `> {out \"…\"}`".to_owned(),
            ));
        }
        Failure::Undeclared { path, target } => lines.extend(declare(graph, id, path, target.as_deref())),
        Failure::TimedOut { .. } => {
            lines.push(("mend", "give it more in `timeout`, or find out what it waits for".to_owned()));
        }
        Failure::Native { problem } => {
            lines.extend(problem.lines().skip(1).map(|line| ("and", line.trim_start().to_owned())));
            if problem.contains("its digest is another one") {
                lines.push((
                    "mend",
                    "trust what was found only when its owner confirms it; then write its digest".to_owned(),
                ));
            }
        }
        Failure::InputMoved { .. } => {
            lines.push(("mend", "build again: its result was thrown away".to_owned()))
        }
        Failure::NoListing { .. } => {
            lines.push((
                "mend",
                "let the command write its listing to the path that {found \"…\"} gives it".to_owned(),
            ));
        }
        Failure::Code(_) | Failure::Signal(_) => {
            if let Some(path) = undeclared_in(graph, id, printed, root) {
                let file = graph.files.iter().find(|f| f.path.as_str() == path);
                let target = file.and_then(|f| f.maker).map(|m| graph.owner(m).address.clone());
                lines.push((
                    "reading",
                    format!(
                        "the command names {path}, which the step does not declare, so it cannot read it"
                    ),
                ));
                lines.extend(declare(graph, id, &path, target.as_deref()));
            } else if let Some(library) = missing_library(printed) {
                lines.push(("reading", format!("the linker finds no library `{library}` on this machine")));
                lines.push((
                    "mend",
                    format!("install the development files of lib{library}, or drop -l{library}"),
                ));
            }
        }
        _ => {}
    }
    lines
}

fn declare(graph: &Graph, id: StepId, path: &str, target: Option<&str>) -> Vec<(&'static str, String)> {
    let owner = graph.owner(id);
    let mend = match target {
        Some(target) => format!("declare what {target} makes: needs = &{target}, or reads = &{target}"),
        None => {
            let prefix = format!("{}/", owner.package.as_str());
            let written = path.strip_prefix(&prefix).map_or_else(|| format!("/{path}"), str::to_owned);
            let is_header = [".h", ".hpp", ".inc"].iter().any(|e| path.ends_with(e));
            match is_header && matches!(&*owner.kind, "library" | "program") {
                true => format!("internal = [\"{written}\"]   in {} at {}", owner.address, owner.place),
                false => format!(
                    "reads = [\"{written}\"]   or {{in \"{written}\"}} in the command at {}",
                    graph.step(id).place
                ),
            }
        }
    };
    vec![("mend", mend)]
}

/// A file of the workspace that the output names, that is there, and that the step may not read.
fn undeclared_in(graph: &Graph, id: StepId, printed: &[u8], root: &Path) -> Option<String> {
    let text = String::from_utf8_lossy(printed);
    let refused = text.lines().filter(|l| l.contains("ermission denied") || l.contains("No such file"));
    let step = graph.step(id);
    let may_read = |path: &str| {
        let files = step.inputs.iter().chain(&step.candidates);
        files.into_iter().any(|f| graph.file(*f).path.as_str() == path)
            || path.starts_with(step.folder.as_str())
    };
    for line in refused.take(20) {
        for word in line.split(|c: char| c.is_whitespace() || "'\"`:;,()‘’“”<>".contains(c)) {
            let word = word.trim_start_matches("./").trim_start_matches(&*format!("{}/", root.display()));
            let plausible =
                !word.is_empty() && !word.starts_with(['/', '-']) && !word.split('/').any(|p| p == "..");
            if plausible && !may_read(word) && root.join(word).is_file() {
                return Some(word.to_owned());
            }
        }
    }
    None
}

/// The library that a linker's message misses.
fn missing_library(printed: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(printed);
    let line =
        text.lines().find(|l| l.contains("cannot find -l") || l.contains("unable to find library -l"))?;
    let name = line.split("-l").nth(1)?;
    Some(name.split(|c: char| c.is_whitespace() || c == ':').next()?.to_owned())
}
