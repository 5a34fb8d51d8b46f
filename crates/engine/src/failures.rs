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
                    lines.push((
                        "reading",
                        "it succeeded when it ran again under observation: its result varies from run to run"
                            .to_owned(),
                    ));
                }
            }
            Failure::NoMachine { labels, .. } => {
                let is_given = |label: &&Arc<str>| {
                    !SYSTEMS.contains(&&***label) && !PROCESSORS.contains(&&***label)
                };
                let given: Vec<&str> = labels
                    .iter()
                    .filter(is_given)
                    .map(|label| &**label)
                    .collect();
                let options: String = given
                    .iter()
                    .map(|label| format!(" --label {label}"))
                    .collect();
                lines.push((
                    "try",
                    format!(
                        "nubrik workers serve{options}   on such a machine; nubrik explain workers"
                    ),
                ));
                if given.len() == labels.len() {
                    let mend = format!(
                        "NUBRIK_LABELS=\"{}\" if this machine is one",
                        given.join(" ")
                    );
                    lines.push(("try", mend));
                }
            }
            Failure::There { .. } => {
                lines.push((
                    "try",
                    "look at what its worker says there: nubrik workers".to_owned(),
                ));
            }
            Failure::NoRoot { problem, .. } => {
                lines.extend(
                    problem
                        .lines()
                        .skip(1)
                        .map(|line| ("and", line.trim_start().to_owned())),
                );
            }
            Failure::NoTool(problem) => {
                lines.extend(problem.readings());
                if problem.image.is_some() {
                    let mend = format!(
                        "an image that has `{}`, or correct its name in {}",
                        problem.name, step.place
                    );
                    lines.push(("try", mend));
                } else if problem.mend.is_none() && problem.unanswered.is_none() {
                    let mend = format!(
                        "install `{}`, or correct its name in {}",
                        problem.name, step.place
                    );
                    lines.push(("try", mend));
                }
            }
            Failure::NoOutput { instead, .. } if !instead.is_empty() => {
                lines.push(("made", instead.join(", ")));
                lines.push((
                    "try",
                    "let the command write to the path that {out \"…\"} gives it".to_owned(),
                ));
            }
            // Such a step has no path of its outputs in its words.
            Failure::NoOutput { name, .. } if matches!(step.work, WorkFolder::Private { .. }) => {
                lines.push((
                    "try",
                    format!("let the command write {name} in the folder in which it runs"),
                ));
            }
            Failure::NoOutput { .. } => {
                lines.push((
                    "try",
                    "let the command write to the path that {out \"…\"} gives it, or `> {out \"…\"}`"
                        .to_owned(),
                ));
            }
            Failure::OddOutput { name, what } if what == IS_FOLDER => {
                lines.push((
                    "try",
                    format!("{{outfolder \"{name}\"}} in place of {{out \"{name}\"}}"),
                ));
            }
            Failure::OddOutput { name, what } if what == IS_FILE => {
                lines.push((
                    "try",
                    format!("{{out \"{name}\"}} in place of {{outfolder \"{name}\"}}"),
                ));
            }
            Failure::OddOutput { .. } => {
                lines.push((
                    "try",
                    "let the command write a file there, or copy one: `cp -L`".to_owned(),
                ));
            }
            Failure::StrangeListing { .. } => {
                lines.push((
                    "reading",
                    "its names are taken from the folder in which the command runs: what it read is not known"
                        .to_owned(),
                ));
                lines.push((
                    "try",
                    format!(
                        "let the command stay in its folder, or set `folder` at {}",
                        step.place
                    ),
                ));
            }
            Failure::Undeclared { path, target } => {
                lines.push(("try", declare(graph, id, path.as_str(), target.as_deref())));
            }
            Failure::Service(failure) => lines.extend(failure.readings()),
            Failure::ToldSecret { .. } => {
                lines.push((
                    "reading",
                    "what it made was thrown away: results are kept, and secrets are not"
                        .to_owned(),
                ));
                lines.push((
                    "try",
                    "let the command leave it out of what it writes".to_owned(),
                ));
            }
            Failure::TimedOut { .. } => {
                lines.push((
                    "try",
                    "raise `timeout`, or find out what it waits for".to_owned(),
                ));
            }
            Failure::Native {
                problem,
                is_another,
            } => {
                lines.extend(
                    problem
                        .lines()
                        .skip(1)
                        .map(|line| ("and", line.trim_start().to_owned())),
                );
                if *is_another {
                    lines.push((
                        "try",
                        "trust what was found only when its owner confirms it; then write its digest"
                            .to_owned(),
                    ));
                }
            }
            Failure::BadReport { .. } => {
                lines.push((
                    "try",
                    "let the command write JUnit XML or TAP, or drop `report`".to_owned(),
                ));
            }
            Failure::NeedsBuild => {
                lines.push((
                    "try",
                    "nubrik build   after it the answer is here, for all who ask".to_owned(),
                ));
            }
            Failure::Offline => {
                lines.push((
                    "try",
                    "build once without --offline: its result is kept".to_owned(),
                ));
            }
            Failure::NoRoom => {
                lines.push((
                    "try",
                    "free disk space where the workspace is, and build again".to_owned(),
                ));
            }
            Failure::InputMoved { .. } => {
                lines.push(("try", "build again: its result was thrown away".to_owned()))
            }
            Failure::NoAnswer { .. } => {
                let mend = "answer each line with one line such as {\"request\": 1, \"code\": 0, \"printed\": \"\"}, and write it out at once; the first one has the number 0";
                lines.push(("try", mend.to_owned()));
            }
            Failure::EarlyChanged { name } => {
                let mend =
                    format!("write {{out \"{name}\"}}: others then wait for the end of the step");
                lines.push(("try", mend));
            }
            Failure::NoListing { .. } => {
                lines.push((
                    "try",
                    "let the command write its listing to the path that {depfile \"…\"} gives it"
                        .to_owned(),
                ));
            }
            Failure::Code(_) | Failure::Signal(_) => {
                if let Some(word) = flags_in_one_word(step) {
                    lines.push((
                        "reading",
                        format!("`{word}` is one word for the program, with a space in it"),
                    ));
                    let flags: Vec<String> = word
                        .split_whitespace()
                        .map(|flag| format!("\"{flag}\""))
                        .collect();
                    lines.push(("try", format!("[{}]", flags.join(", "))));
                }
                if let Some(library) = missing_library(printed) {
                    lines.push((
                        "reading",
                        format!("the linker finds no library `{library}` on this machine"),
                    ));
                    lines.push((
                        "try",
                        format!(
                            "install the development files of lib{library}, or drop -l{library}"
                        ),
                    ));
                }
            }
            Failure::NotStarted {
                program,
                is_forbidden: true,
                ..
            } => {
                lines.push((
                    "try",
                    format!("chmod +x {program}   or let `sh` run it: sh {{in \"…\"}}"),
                ));
            }
            // What is said of them in the first line is all there is to know.
            Failure::NotStarted { .. }
            | Failure::NoInput { .. }
            | Failure::Cases { .. }
            | Failure::Machine { .. } => {}
        }
        lines
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
