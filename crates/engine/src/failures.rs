//! How steps failed, in words: in a few, and what else there is to know and to do.

use std::fmt;
use std::sync::Arc;

use nubrik_graph::{Graph, PROCESSORS, SYSTEMS, Step, StepId, WorkFolder};
use nubrik_wording::duration;

use crate::event::{Failure, IS_FILE, IS_FOLDER, Refusal};
use crate::outside::ToolProblem;
use crate::refusals::{declare, mend_of_refusals, to_do};
use crate::seen::Touch;

/// A line about a failure: its label, such as `reading` or `try`, and its text.
pub type LabelledLine = (&'static str, String);

/// Labels of machines in a sentence.
pub(crate) fn together(labels: &[Arc<str>]) -> String {
    let quoted: Vec<String> = labels.iter().map(|label| format!("`{label}`")).collect();
    quoted.join(" and ")
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.in_few_words())
    }
}

impl Failure {
    fn in_few_words(&self) -> String {
        match self {
            Failure::Observed {
                first,
                refused,
                well_again,
            } => {
                let first = first.in_few_words();
                match refused.first() {
                    Some(refusal) => {
                        format!(
                            "{first}, and was not allowed to {}",
                            to_do(&refusal.to_string())
                        )
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
            Failure::NotStarted {
                program, problem, ..
            } => format!("cannot start {program}: {problem}"),
            Failure::NoTool(problem) => problem.to_string(),
            Failure::NoRoot { image, problem } => {
                format!(
                    "the image {image} cannot be used: {}",
                    problem.lines().next().unwrap_or_default()
                )
            }
            Failure::NoInput { path, problem } => format!("cannot read {path}: {problem}"),
            Failure::NoOutput { name, .. } => format!("did not make its output {name}"),
            Failure::OddOutput { name, what } => {
                format!("its output {name} cannot be kept: {what}")
            }
            Failure::StrangeListing { name, first } => {
                format!("{name} lists only files that are not there, such as {first}")
            }
            Failure::Undeclared { path, .. } => format!("read {path}, which it does not declare"),
            Failure::NoListing { name } => {
                format!("did not write {name}, the list of what it read")
            }
            Failure::InputMoved { path } => format!("{path} changed while it ran"),
            Failure::EarlyChanged { name } => {
                format!(
                    "changed its early output {name} after it had been whole, when others may have used it"
                )
            }
            Failure::NoAnswer { said } if said.is_empty() => {
                "the program that it asks ended without an answer".to_owned()
            }
            Failure::NoAnswer { said } => {
                format!("invalid answer of the persistent worker: {said}")
            }
            Failure::TimedOut { limit } => {
                format!("timed out after {}, its limit", duration(limit * 1000))
            }
            Failure::Cases { failed, all } => format!("{failed} of {all} cases failed"),
            Failure::BadReport { problem } => format!("its report cannot be read: {problem}"),
            Failure::NoMachine { labels, problem } => {
                format!("no worker that is {} ran it: {problem}", together(labels))
            }
            Failure::There { problem } => problem.clone(),
            Failure::Service(failure) => failure.to_string(),
            Failure::ToldSecret { name, file } => {
                format!("it wrote the secret `{name}` into {file}")
            }
            Failure::NeedsBuild => {
                "it needs the network, which commands that only read do not use".to_owned()
            }
            Failure::Offline => "it needs the network, and this build is offline".to_owned(),
            Failure::NoRoom => "the disk is full, so that what it made may not be whole".to_owned(),
            Failure::Native { problem, .. } => problem.lines().next().unwrap_or("").to_owned(),
            Failure::Machine { problem } => problem.clone(),
        }
    }

    /// What else there is to know of the failure of a step, which printed something, and what to
    /// do.
    pub fn readings(&self, graph: &Graph, id: StepId, printed: &[u8]) -> Vec<LabelledLine> {
        let step = graph.step(id);
        let mut lines = Vec::new();
        match self {
            Failure::Observed {
                first,
                refused,
                well_again,
            } => {
                for refusal in refused {
                    lines.push(("refused", refusal.to_string()));
                }
                match mend_of_refusals(graph, id, refused) {
                    Some(mend) => lines.push(("try", mend)),
                    None => lines.extend(first.readings(graph, id, printed)),
                }
                if *well_again {
                    let reading = "it succeeded when it ran again under observation: its result varies from run to run";
                    lines.push(("reading", reading.to_owned()));
                }
            }
            Failure::NoMachine { labels, .. } => lines.extend(mends_for_labels(labels)),
            Failure::NoRoot { problem, .. } => lines.extend(further_lines(problem)),
            Failure::NoTool(problem) => {
                lines.extend(problem.readings());
                lines.extend(mend_of_tool(problem, step));
            }
            Failure::NoOutput { instead, .. } if !instead.is_empty() => {
                lines.push(("made", instead.join(", ")));
            }
            Failure::StrangeListing { .. } => {
                let reading = "its names are taken from the folder in which the command runs: what it read is not known";
                lines.push(("reading", reading.to_owned()));
            }
            Failure::Undeclared { path, target } => {
                lines.push(("try", declare(graph, id, path.as_str(), target.as_deref())));
            }
            Failure::Service(failure) => lines.extend(failure.readings()),
            Failure::ToldSecret { .. } => {
                let reading = "what it made was thrown away: results are kept, and secrets are not";
                lines.push(("reading", reading.to_owned()));
            }
            Failure::Native { problem, .. } => lines.extend(further_lines(problem)),
            Failure::Code(_) | Failure::Signal(_) => {
                lines.extend(readings_of_flags(step));
                lines.extend(readings_of_printed(printed));
            }
            _ => {}
        }
        lines.extend(self.mend(step).map(|mend| ("try", mend)));
        lines
    }

    /// The mend that follows from the kind of a failure and its step alone.
    fn mend(&self, step: &Step) -> Option<String> {
        let mend = match self {
            Failure::There { .. } => "look at what its worker says there: nubrik workers",
            // Such a step has no path of its outputs in its words.
            Failure::NoOutput { instead, name }
                if instead.is_empty() && matches!(step.work, WorkFolder::Private { .. }) =>
            {
                return Some(format!(
                    "let the command write {name} in the folder in which it runs"
                ));
            }
            Failure::NoOutput { instead, .. } if instead.is_empty() => {
                "let the command write to the path that {out \"…\"} gives it, or `> {out \"…\"}`"
            }
            Failure::NoOutput { .. } => {
                "let the command write to the path that {out \"…\"} gives it"
            }
            Failure::OddOutput { name, what } if what == IS_FOLDER => {
                return Some(format!(
                    "{{outfolder \"{name}\"}} in place of {{out \"{name}\"}}"
                ));
            }
            Failure::OddOutput { name, what } if what == IS_FILE => {
                return Some(format!(
                    "{{out \"{name}\"}} in place of {{outfolder \"{name}\"}}"
                ));
            }
            Failure::OddOutput { .. } => "let the command write a file there, or copy one: `cp -L`",
            Failure::StrangeListing { .. } => {
                return Some(format!(
                    "let the command stay in its folder, or set `folder` at {}",
                    step.place
                ));
            }
            Failure::ToldSecret { .. } => "let the command leave it out of what it writes",
            Failure::TimedOut { .. } => "raise `timeout`, or find out what it waits for",
            Failure::Native {
                is_another: true, ..
            } => "trust what was found only when its owner confirms it; then write its digest",
            Failure::BadReport { .. } => "let the command write JUnit XML or TAP, or drop `report`",
            Failure::NeedsBuild => "nubrik build   after it the answer is here, for all who ask",
            Failure::Offline => "build once without --offline: its result is kept",
            Failure::NoRoom => "free disk space where the workspace is, and build again",
            Failure::InputMoved { .. } => "build again: its result was thrown away",
            Failure::NoAnswer { .. } => {
                "answer each line with one line such as {\"request\": 1, \"code\": 0, \"printed\": \"\"}, and write it out at once; the first one has the number 0"
            }
            Failure::EarlyChanged { name } => {
                return Some(format!(
                    "write {{out \"{name}\"}}: others then wait for the end of the step"
                ));
            }
            Failure::NoListing { .. } => {
                "let the command write its listing to the path that {depfile \"…\"} gives it"
            }
            Failure::NotStarted {
                program,
                is_forbidden: true,
                ..
            } => {
                return Some(format!(
                    "chmod +x {program}   or let `sh` run it: sh {{in \"…\"}}"
                ));
            }
            // The first line of these says all, or their mends need more than the step.
            Failure::NotStarted { .. }
            | Failure::NoInput { .. }
            | Failure::Cases { .. }
            | Failure::Machine { .. }
            | Failure::Observed { .. }
            | Failure::NoMachine { .. }
            | Failure::NoRoot { .. }
            | Failure::NoTool(_)
            | Failure::Undeclared { .. }
            | Failure::Service(_)
            | Failure::Native { .. }
            | Failure::Code(_)
            | Failure::Signal(_) => return None,
        };
        Some(mend.to_owned())
    }
}

/// What there is to know, and to do, where the commands of a step ended well all the same after
/// they were refused something.
pub fn survived(graph: &Graph, id: StepId, refused: &[Refusal]) -> Vec<LabelledLine> {
    let mut lines: Vec<_> = refused
        .iter()
        .map(|refusal| ("refused", refusal.to_string()))
        .collect();
    let is_written = |r: &Refusal| {
        matches!(
            r,
            Refusal::Path {
                touch: Touch::Written,
                ..
            }
        )
    };
    let reading = match refused.iter().all(is_written) {
        true => "it succeeded anyway; what it wrote there is lost",
        false => "it succeeded anyway; the result may be incomplete",
    };
    lines.push(("reading", reading.to_owned()));
    lines.extend(mend_of_refusals(graph, id, refused).map(|mend| ("try", mend)));
    lines
}

impl ToolProblem {
    /// What else there is to know of a tool that cannot be used, and what to do.
    pub fn readings(&self) -> Vec<LabelledLine> {
        let mut lines = Vec::new();
        match self.unanswered {
            Some(_) => {
                lines.push((
                    "try",
                    "run these words by hand, and build again when they end".to_owned(),
                ));
            }
            None => lines.push(("searched", self.searched.join(", "))),
        }
        lines.extend(self.mend.iter().map(|mend| ("try", mend.clone())));
        lines
    }
}

/// The lines of a problem after its first one, which says the failure itself.
fn further_lines(problem: &str) -> impl Iterator<Item = LabelledLine> {
    let lines = problem.lines().skip(1);
    lines.map(|line| ("and", line.trim_start().to_owned()))
}

/// How a machine with some labels comes to run steps.
fn mends_for_labels(labels: &[Arc<str>]) -> Vec<LabelledLine> {
    let is_given = |label: &&str| !SYSTEMS.contains(label) && !PROCESSORS.contains(label);
    let all = labels.iter().map(|label| &**label);
    let given: Vec<&str> = all.filter(is_given).collect();
    let options: String = given
        .iter()
        .map(|label| format!(" --label {label}"))
        .collect();
    let there =
        format!("nubrik workers serve{options}   on such a machine; nubrik explain workers");
    let mut mends = vec![("try", there)];
    if given.len() == labels.len() {
        let given = given.join(" ");
        let here = format!("NUBRIK_LABELS=\"{given}\" if this machine is one");
        mends.push(("try", here));
    }
    mends
}

/// What to do about a tool that is not there, where its own problem does not say it.
fn mend_of_tool(problem: &ToolProblem, step: &Step) -> Option<LabelledLine> {
    let (name, place) = (&problem.name, &step.place);
    if problem.image.is_some() {
        let mend = format!("an image that has `{name}`, or correct its name in {place}");
        return Some(("try", mend));
    }
    let says_nothing = problem.mend.is_none() && problem.unanswered.is_none();
    let mend = format!("install `{name}`, or correct its name in {place}");
    says_nothing.then_some(("try", mend))
}

/// About flags of a step that became one word.
fn readings_of_flags(step: &Step) -> Vec<LabelledLine> {
    let Some(word) = flags_in_one_word(step) else {
        return Vec::new();
    };
    let flags = word.split_whitespace().map(|flag| format!("\"{flag}\""));
    let flags: Vec<String> = flags.collect();
    let reading = format!("`{word}` is one word for the program, with a space in it");
    vec![
        ("reading", reading),
        ("try", format!("[{}]", flags.join(", "))),
    ]
}

/// About a library that a linker misses.
fn readings_of_printed(printed: &[u8]) -> Vec<LabelledLine> {
    let Some(library) = missing_library(printed) else {
        return Vec::new();
    };
    let reading = format!("the linker finds no library `{library}` on this machine");
    let mend = format!("install the development files of lib{library}, or drop -l{library}");
    vec![("reading", reading), ("try", mend)]
}

/// A word of a step's commands that looks like several flags.
fn flags_in_one_word(step: &Step) -> Option<&str> {
    let words = step
        .commands
        .iter()
        .flat_map(|c| &c.stages)
        .flat_map(|stage| stage.words.iter().skip(1));
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
    NAMES
        .iter()
        .find(|(number, _)| *number == signal)
        .map(|(_, name)| *name)
}

/// The library that a linker's message misses.
fn missing_library(printed: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(printed);
    let line = text
        .lines()
        .find(|l| l.contains("cannot find -l") || l.contains("unable to find library -l"))?;
    let name = line.split("-l").nth(1)?;
    Some(
        name.split(|c: char| c.is_whitespace() || c == ':')
            .next()?
            .to_owned(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_refused_is_something_to_do() {
        let listing = Refusal::Listing {
            folder: "data".into(),
            first: "a.csv".into(),
            more: 2,
        };
        let said = |refusal: &Refusal| to_do(&refusal.to_string());
        assert_eq!(
            said(&listing),
            "list all of data: a.csv and 2 more are not declared"
        );
        assert_eq!(said(&Refusal::Network), "use the network");
        for (doing, act) in [
            ("reading a", "read a"),
            ("looking for a", "see a"),
            ("else", "else"),
        ] {
            assert_eq!(to_do(doing), act);
        }
    }

    #[test]
    fn a_few_words_say_how_a_step_failed() {
        assert_eq!(Failure::Code(3).to_string(), "exited with code 3");
        assert_eq!(
            Failure::Signal(11).to_string(),
            "ended by signal 11 (segmentation fault)"
        );
        let refused = vec![Refusal::Network];
        let observed = Failure::Observed {
            first: Box::new(Failure::Code(1)),
            refused,
            well_again: false,
        };
        assert_eq!(
            observed.to_string(),
            "exited with code 1, and was not allowed to use the network"
        );
    }
}
