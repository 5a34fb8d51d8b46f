//! A step that failed: its command, what it printed, and what to do.

use std::path::Path;
use std::sync::Arc;

use nubrik_confine::file_with_all;
use nubrik_engine::{Failure, IS_FILE, IS_FOLDER, Refusal, Touch};
use nubrik_graph::{Graph, Role, StepId, shown_command};
use nubrik_wording::duration;

use super::excerpts::{excerpt, render_printed, shortened};
use super::paint::{Ink, Paint};
use super::refusals::{declare, mend_of_refusals, refused_thing, to_do};
use super::text::harmless;
use super::tool_problem::tool_readings;

/// Labels in a sentence.
pub(super) fn together(labels: &[Arc<str>]) -> String {
    let quoted: Vec<String> = labels.iter().map(|label| format!("`{label}`")).collect();
    quoted.join(" and ")
}

/// What went wrong, in a few words.
pub fn short(failure: &Failure) -> String {
    match failure {
        Failure::Observed { first, refused, well_again } => {
            let first = short(first);
            match refused.first() {
                Some(refusal) => {
                    format!("{first}, and was not allowed to {}", to_do(&refused_thing(refusal)))
                }
                None if *well_again => format!("{first}, and succeeded when it ran again"),
                None => first,
            }
        }
        Failure::Code(code) => format!("exited with code {code}"),
        Failure::Signal(signal) => match signal_name(*signal) {
            Some(name) => format!("ended by signal {signal} ({name})"),
            None => format!("ended by signal {signal}"),
        },
        Failure::NotStarted { program, problem, .. } => format!("cannot start {program}: {problem}"),
        Failure::NoTool(problem) => problem.to_string(),
        Failure::NoRoot { image, problem } => {
            format!("the image {image} cannot be used: {}", problem.lines().next().unwrap_or_default())
        }
        Failure::NoInput { path, problem } => format!("cannot read {path}: {problem}"),
        Failure::NoOutput { name, .. } => format!("did not make its output {name}"),
        Failure::OddOutput { name, what } => format!("its output {name} cannot be kept: {what}"),
        Failure::StrangeListing { name, first } => {
            format!("{name} lists only files that are not there, such as {first}")
        }
        Failure::Undeclared { path, .. } => format!("read {path}, which it does not declare"),
        Failure::NoListing { name } => format!("did not write {name}, the list of what it read"),
        Failure::InputMoved { path } => format!("{path} changed while it ran"),
        Failure::EarlyChanged { name } => {
            format!("changed its early output {name} after it had been whole, when others may have used it")
        }
        Failure::NoAnswer { said } if said.is_empty() => {
            "the program that it asks ended without an answer".to_owned()
        }
        Failure::NoAnswer { said } => {
            format!("invalid answer of the persistent worker: {said}")
        }
        Failure::TimedOut { limit } => format!("timed out after {}, its limit", duration(limit * 1000)),
        Failure::Cases { failed, all } => format!("{failed} of {all} cases failed"),
        Failure::BadReport { problem } => format!("its report cannot be read: {problem}"),
        Failure::NoMachine { labels, problem } => {
            format!("no worker that is {} ran it: {problem}", together(labels))
        }
        Failure::There { problem } => problem.clone(),
        Failure::Service(failure) => super::services::short(failure),
        Failure::ToldSecret { name, file } => format!("it wrote the secret `{name}` into {file}"),
        Failure::NeedsBuild => "it needs the network, which commands that only read do not use".to_owned(),
        Failure::Offline => "it needs the network, and this build is offline".to_owned(),
        Failure::NoRoom => "the disk is full, so that what it made may not be whole".to_owned(),
        Failure::Native { problem, .. } => problem.lines().next().unwrap_or("").to_owned(),
        Failure::Machine { problem } => problem.clone(),
    }
}

/// How many files are named that commands wrote before they failed.
const FILES_SHOWN: usize = 5;

/// Outputs that commands wrote before they failed: a report, a list, half of a result. They are there until the step
/// runs again. Paths are from the workspace's root; what is empty is left out.
pub fn wrote(graph: &Graph, id: StepId, failure: &Failure, root: &Path) -> Vec<String> {
    match failure {
        Failure::Observed { first, .. } => return wrote(graph, id, first, root),
        Failure::Code(_) | Failure::Signal(_) | Failure::TimedOut { .. } => {}
        Failure::Cases { .. } | Failure::BadReport { .. } | Failure::NoOutput { .. } => {}
        Failure::EarlyChanged { .. } | Failure::NoAnswer { .. } => {}
        // Nothing ran, or what is there is said in other words.
        Failure::NotStarted { .. } | Failure::NoTool(_) | Failure::NoInput { .. } | Failure::NeedsBuild => {
            return Vec::new();
        }
        Failure::NoRoot { .. } => {
            return Vec::new();
        }
        Failure::Offline | Failure::InputMoved { .. } | Failure::Service(_) | Failure::NoRoom => {
            return Vec::new();
        }
        Failure::OddOutput { .. } | Failure::Undeclared { .. } | Failure::NoListing { .. } => {
            return Vec::new();
        }
        Failure::StrangeListing { .. } | Failure::ToldSecret { .. } => return Vec::new(),
        Failure::NoMachine { .. } | Failure::There { .. } => return Vec::new(),
        Failure::Native { .. } | Failure::Machine { .. } => return Vec::new(),
    }
    let paths = graph.step(id).outputs.iter().map(|output| graph.file(output.file).path.as_str());
    let is_something = |path: &&str| match std::fs::symlink_metadata(root.join(path)) {
        Ok(data) if data.is_dir() => {
            std::fs::read_dir(root.join(path)).is_ok_and(|mut all| all.next().is_some())
        }
        Ok(data) => data.is_file() && data.len() > 0,
        Err(_) => false,
    };
    paths.filter(is_something).map(str::to_owned).collect()
}

/// Where the whole command of a step is to be read. What is no target cannot be shown: its command is kept in a file.
fn whole_command(graph: &Graph, id: StepId, root: &Path) -> Option<String> {
    let owner = graph.owner(id);
    if owner.role != Role::Inner {
        return Some(format!("nubrik show {}", owner.address));
    }
    let step = graph.step(id);
    let commands = shown_command(step).join("\n") + "\n";
    nubrik_disk::keep_printed(root, &format!("command of {}", step.say), commands.as_bytes())
}

/// The commands of a step, long ones by their beginning and end, and where they ran.
fn commands_of(graph: &Graph, id: StepId, root: &Path, line: &mut impl FnMut(&str, &str)) {
    let mut cut = false;
    for (i, command) in shown_command(graph.step(id)).iter().enumerate() {
        let short = shortened(command);
        cut |= short.is_some();
        line(if i > 0 { "then" } else { "command" }, short.as_deref().unwrap_or(command));
    }
    if cut && let Some(whole) = whole_command(graph, id, root) {
        line("whole", &whole);
    }
    line("folder", &folder_of(graph, id, root));
}

/// Says where all that a step printed is. What is not shown as a whole is put into a file.
fn where_all_is(root: &Path, title: &str, printed: &[u8], text: &str, paint: Paint) -> String {
    let (_, left_out, _) = excerpt(paint).of(text);
    // A command may print such a line itself: only a file that is there counts.
    let kept = file_with_all(text).filter(|file| root.join(file).is_file()).map(str::to_owned);
    let keep = || nubrik_disk::keep_printed(root, title, printed);
    let whole = kept.or_else(|| (left_out > 0).then(keep).flatten());
    whole.map_or("it could not be kept".to_owned(), |file| format!("all of it: {file}"))
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
    let ran = !matches!(
        failure,
        Failure::NoTool(_) | Failure::NoRoot { .. } | Failure::NoInput { .. } | Failure::Service(_)
    );
    if ran {
        commands_of(graph, id, root, &mut line);
    }
    let owner = graph.owner(id);
    line(
        "defined",
        &match owner.place.file == step.place.file {
            true => step.place.to_string(),
            false => format!("{}, by way of {}", owner.place, step.place),
        },
    );
    let told = readings(graph, id, failure, printed);
    let is_gone = matches!(step.work, nubrik_graph::WorkFolder::Private { .. });
    if ran && (is_gone || told.iter().all(|(label, _)| *label != "try")) {
        look_inside(graph, id).iter().for_each(|command| line("look", command));
    }
    for (label, text) in told {
        let text = if label == "try" { paint.ink(Ink::Mend, &text) } else { text };
        line(label, &text);
    }
    let files = wrote(graph, id, failure, root);
    files.iter().take(FILES_SHOWN).for_each(|file| line("wrote", file));
    if files.len() > FILES_SHOWN {
        line("", &format!("and {} more", files.len() - FILES_SHOWN));
    }
    let printed = match failure {
        Failure::Service(failure) => &failure.printed,
        _ => printed,
    };
    let shows = ran || matches!(failure, Failure::Service(_));
    let text = String::from_utf8_lossy(printed);
    let text = harmless(text.trim_end(), paint.colours);
    if shows && !text.trim().is_empty() {
        line("printed", "");
        let whole = where_all_is(root, &graph.title(id), printed, &text, paint);
        out.push_str(&render_printed(&text, paint, &whole));
    }
    out
}

/// The command that opens a shell where a step ran; `None` where no words mean it alone.
fn look_inside(graph: &Graph, id: StepId) -> Option<String> {
    let (owner, step) = (graph.owner(id), graph.step(id));
    if owner.role == Role::Inner || step.commands.is_empty() {
        return None;
    }
    let all = (0..graph.steps.len() as u32).map(|number| graph.step(StepId(number)));
    let mut own = all.filter(|other| {
        other.target == step.target && other.variant == step.variant && !other.commands.is_empty()
    });
    let alike = own.clone().filter(|other| other.say == step.say).count();
    let words = match own.nth(1) {
        None => String::new(),
        Some(_) if alike == 1 => format!(" {}", nubrik_graph::shown_word(&step.say)),
        Some(_) => return None,
    };
    // A variant that a definition chose is chosen by its options.
    let mut chosen = crate::arguments::chosen().to_owned();
    if chosen.is_empty() && !step.variant.is_empty() {
        chosen =
            step.variant.split(", ").map(|set| format!(" --set {}", nubrik_graph::shown_word(set))).collect();
    }
    Some(format!("nubrik inside{chosen} {}{words}", owner.address))
}

/// Where a step's commands run, so that they can be run there once more.
fn folder_of(graph: &Graph, id: StepId, root: &Path) -> String {
    match &graph.step(id).work {
        nubrik_graph::WorkFolder::Private { .. } => "one of its own, which is gone now".to_owned(),
        work => root.join(work.path().as_str()).display().to_string().trim_end_matches('/').to_owned(),
    }
}

/// What commands that ended well were refused, below their step's line.
pub fn render_survived(graph: &Graph, id: StepId, refused: &[Refusal], paint: Paint) -> String {
    let mut out = String::new();
    for (label, text) in survived(graph, id, refused) {
        let text = if label == "try" { paint.ink(Ink::Mend, &text) } else { text };
        out.push_str(&format!("  {}  {text}\n", paint.ink(Ink::Calm, &format!("{label:<8}"))));
    }
    out
}

/// The same as lines with their labels.
pub fn survived(graph: &Graph, id: StepId, refused: &[Refusal]) -> Vec<(&'static str, String)> {
    let mut lines: Vec<_> = refused.iter().map(|refusal| ("refused", refused_thing(refusal))).collect();
    let is_written = |r: &Refusal| matches!(r, Refusal::Path { touch: Touch::Written, .. });
    let reading = match refused.iter().all(is_written) {
        true => "it succeeded anyway; what it wrote there is lost",
        false => "it succeeded anyway; the result may be incomplete",
    };
    lines.push(("reading", reading.to_owned()));
    lines.extend(mend_of_refusals(graph, id, refused).map(|mend| ("try", mend)));
    lines
}

/// The tool's own reading of a failure: lines with their labels.
pub fn readings(graph: &Graph, id: StepId, failure: &Failure, printed: &[u8]) -> Vec<(&'static str, String)> {
    let step = graph.step(id);
    let mut lines = Vec::new();
    match failure {
        Failure::Observed { first, refused, well_again } => {
            for refusal in refused {
                lines.push(("refused", refused_thing(refusal)));
            }
            match mend_of_refusals(graph, id, refused) {
                Some(mend) => lines.push(("try", mend)),
                None => lines.extend(readings(graph, id, first, printed)),
            }
            if *well_again {
                lines.push((
                    "reading",
                    "it succeeded when it ran again under observation: its result varies from run to run"
                        .to_owned(),
                ));
            }
        }
        Failure::NoMachine { labels, .. } => {
            let is_given = |label: &&Arc<str>| {
                !nubrik_graph::SYSTEMS.contains(&&***label) && !nubrik_graph::PROCESSORS.contains(&&***label)
            };
            let given: Vec<&str> = labels.iter().filter(is_given).map(|label| &**label).collect();
            let options: String = given.iter().map(|label| format!(" --label {label}")).collect();
            lines.push((
                "try",
                format!("nubrik workers serve{options}   on such a machine; nubrik explain workers"),
            ));
            if given.len() == labels.len() {
                let mend = format!("NUBRIK_LABELS=\"{}\" if this machine is one", given.join(" "));
                lines.push(("try", mend));
            }
        }
        Failure::There { .. } => {
            lines.push(("try", "look at what its worker says there: nubrik workers".to_owned()));
        }
        Failure::NoRoot { problem, .. } => {
            lines.extend(problem.lines().skip(1).map(|line| ("and", line.trim_start().to_owned())));
        }
        Failure::NoTool(problem) => {
            lines.extend(tool_readings(problem));
            if problem.image.is_some() {
                let mend =
                    format!("an image that has `{}`, or correct its name in {}", problem.name, step.place);
                lines.push(("try", mend));
            } else if problem.mend.is_none() && problem.unanswered.is_none() {
                let mend = format!("install `{}`, or correct its name in {}", problem.name, step.place);
                lines.push(("try", mend));
            }
        }
        Failure::NoOutput { instead, .. } if !instead.is_empty() => {
            lines.push(("made", instead.join(", ")));
            lines.push(("try", "let the command write to the path that {out \"…\"} gives it".to_owned()));
        }
        // Such a step has no path of its outputs in its words.
        Failure::NoOutput { name, .. } if matches!(step.work, nubrik_graph::WorkFolder::Private { .. }) => {
            lines.push(("try", format!("let the command write {name} in the folder in which it runs")));
        }
        Failure::NoOutput { .. } => {
            lines.push((
                "try",
                "let the command write to the path that {out \"…\"} gives it, or `> {out \"…\"}`".to_owned(),
            ));
        }
        Failure::OddOutput { name, what } if what == IS_FOLDER => {
            lines.push(("try", format!("{{outfolder \"{name}\"}} in place of {{out \"{name}\"}}")));
        }
        Failure::OddOutput { name, what } if what == IS_FILE => {
            lines.push(("try", format!("{{out \"{name}\"}} in place of {{outfolder \"{name}\"}}")));
        }
        Failure::OddOutput { .. } => {
            lines.push(("try", "let the command write a file there, or copy one: `cp -L`".to_owned()));
        }
        Failure::StrangeListing { .. } => {
            lines.push((
                "reading",
                "its names are taken from the folder in which the command runs: what it read is not known"
                    .to_owned(),
            ));
            lines.push((
                "try",
                format!("let the command stay in its folder, or set `folder` at {}", step.place),
            ));
        }
        Failure::Undeclared { path, target } => {
            lines.push(("try", declare(graph, id, path.as_str(), target.as_deref())));
        }
        Failure::Service(failure) => lines.extend(super::services::readings(failure)),
        Failure::ToldSecret { .. } => {
            lines.push((
                "reading",
                "what it made was thrown away: results are kept, and secrets are not".to_owned(),
            ));
            lines.push(("try", "let the command leave it out of what it writes".to_owned()));
        }
        Failure::TimedOut { .. } => {
            lines.push(("try", "raise `timeout`, or find out what it waits for".to_owned()));
        }
        Failure::Native { problem, is_another } => {
            lines.extend(problem.lines().skip(1).map(|line| ("and", line.trim_start().to_owned())));
            if *is_another {
                lines.push((
                    "try",
                    "trust what was found only when its owner confirms it; then write its digest".to_owned(),
                ));
            }
        }
        Failure::BadReport { .. } => {
            lines.push(("try", "let the command write JUnit XML or TAP, or drop `report`".to_owned()));
        }
        Failure::NeedsBuild => {
            lines.push(("try", "nubrik build   after it the answer is here, for all who ask".to_owned()));
        }
        Failure::Offline => {
            lines.push(("try", "build once without --offline: its result is kept".to_owned()));
        }
        Failure::NoRoom => {
            lines.push(("try", "free disk space where the workspace is, and build again".to_owned()));
        }
        Failure::InputMoved { .. } => {
            lines.push(("try", "build again: its result was thrown away".to_owned()))
        }
        Failure::NoAnswer { .. } => {
            let mend = "answer each line with one line such as {\"request\": 1, \"code\": 0, \"printed\": \"\"}, and write it out at once; the first one has the number 0";
            lines.push(("try", mend.to_owned()));
        }
        Failure::EarlyChanged { name } => {
            let mend = format!("write {{out \"{name}\"}}: others then wait for the end of the step");
            lines.push(("try", mend));
        }
        Failure::NoListing { .. } => {
            lines.push((
                "try",
                "let the command write its listing to the path that {depfile \"…\"} gives it".to_owned(),
            ));
        }
        Failure::Code(_) | Failure::Signal(_) => {
            if let Some(word) = flags_in_one_word(step) {
                lines.push(("reading", format!("`{word}` is one word for the program, with a space in it")));
                let flags: Vec<String> = word.split_whitespace().map(|flag| format!("\"{flag}\"")).collect();
                lines.push(("try", format!("[{}]", flags.join(", "))));
            }
            if let Some(library) = missing_library(printed) {
                lines.push(("reading", format!("the linker finds no library `{library}` on this machine")));
                lines.push((
                    "try",
                    format!("install the development files of lib{library}, or drop -l{library}"),
                ));
            }
        }
        Failure::NotStarted { program, is_forbidden: true, .. } => {
            lines.push(("try", format!("chmod +x {program}   or let `sh` run it: sh {{in \"…\"}}")));
        }
        // What is said of them in the first line is all there is to know.
        Failure::NotStarted { .. }
        | Failure::NoInput { .. }
        | Failure::Cases { .. }
        | Failure::Machine { .. } => {}
    }
    lines
}

/// A word of a step's commands that looks like several flags.
fn flags_in_one_word(step: &nubrik_graph::Step) -> Option<&str> {
    let words = step.commands.iter().flat_map(|c| &c.stages).flat_map(|stage| stage.words.iter().skip(1));
    let looks_so = |word: &&str| {
        let mut parts = word.split(' ');
        parts.clone().count() > 1 && parts.all(|part| part.len() > 1 && part.starts_with('-'))
    };
    words.map(|word| &**word).find(looks_so)
}

/// What people call a signal that ends programs.
fn signal_name(signal: i32) -> Option<&'static str> {
    const NAMES: [(i32, &str); 9] = [
        (4, "illegal instruction"),
        (6, "aborted"),
        (7, "bus error"),
        (8, "arithmetic error"),
        (9, "killed"),
        (11, "segmentation fault"),
        (13, "broken pipe"),
        (15, "terminated"),
        (31, "refused system call"),
    ];
    NAMES.iter().find(|(number, _)| *number == signal).map(|(_, name)| *name)
}

/// The library that a linker's message misses.
fn missing_library(printed: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(printed);
    let line =
        text.lines().find(|l| l.contains("cannot find -l") || l.contains("unable to find library -l"))?;
    let name = line.split("-l").nth(1)?;
    Some(name.split(|c: char| c.is_whitespace() || c == ':').next()?.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_refused_is_something_to_do() {
        let listing = Refusal::Listing { folder: "data".into(), first: "a.csv".into(), more: 2 };
        let said = |refusal: &Refusal| to_do(&refused_thing(refusal));
        assert_eq!(said(&listing), "list all of data: a.csv and 2 more are not declared");
        assert_eq!(said(&Refusal::Network), "use the network");
        for (doing, act) in [("reading a", "read a"), ("looking for a", "see a"), ("else", "else")] {
            assert_eq!(to_do(doing), act);
        }
    }

    #[test]
    fn a_few_words_say_how_a_step_failed() {
        assert_eq!(short(&Failure::Code(3)), "exited with code 3");
        assert_eq!(short(&Failure::Signal(11)), "ended by signal 11 (segmentation fault)");
        let refused = vec![Refusal::Network];
        let observed = Failure::Observed { first: Box::new(Failure::Code(1)), refused, well_again: false };
        assert_eq!(short(&observed), "exited with code 1, and was not allowed to use the network");
    }
}
