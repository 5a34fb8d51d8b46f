//! What failed in a build, and how far it is.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_engine::{Event, Failure, Listener, Refusal, Touch, Verdict};
use nubrik_graph::{Graph, StepId};
use parking_lot::Mutex;

use crate::ui::console::{Console, OutputStream, errln};
use crate::ui::failure;
use crate::ui::paint::Ink;

/// A step that failed.
#[derive(Clone, Default)]
pub struct Broken {
    pub why: String,
    pub printed: String,
    pub refused: Vec<String>,
    pub writes: bool,
    pub wants_network: bool,
    /// Whether its commands ran, and ended with a failure.
    pub has_ended: bool,
    pub is_too_long: bool,
}

/// Gathers what failed, and shows how far a build is.
pub struct Collector<'g> {
    console: Console,
    graph: &'g Graph,
    number: Option<usize>,
    seen: Mutex<SeenFailures>,
}

/// What was seen of a build.
#[derive(Default)]
pub struct SeenFailures {
    all: usize,
    done: usize,
    /// What failed.
    pub failed: BTreeMap<StepId, Broken>,
    /// Steps whose results are there.
    pub fine: BTreeSet<StepId>,
}

impl<'g> Collector<'g> {
    pub fn new(console: Console, graph: &'g Graph, number: Option<usize>) -> Collector<'g> {
        Collector { console, graph, number, seen: Mutex::default() }
    }

    fn progress(&self, seen: &SeenFailures) {
        let paint = self.console.paint(OutputStream::Error);
        if self.console.is_json() || paint.width.is_none() {
            return;
        }
        let failed =
            if seen.failed.is_empty() { String::new() } else { format!(", {} failed", seen.failed.len()) };
        let text =
            format!("{}{} of {} steps{failed}", paint.ink(Ink::Busy, "tries     "), seen.done, seen.all);
        self.console.raw(OutputStream::Error, &format!("\r\x1b[K{text}"));
    }

    pub fn finish(self) -> SeenFailures {
        let paint = self.console.paint(OutputStream::Error);
        let seen = self.seen.into_inner();
        if !self.console.is_json() && paint.width.is_some() {
            self.console.raw(OutputStream::Error, "\r\x1b[K");
        } else if let (false, Some(number)) = (self.console.is_json(), self.number) {
            errln!(
                self.console,
                "trial     build {}: {} steps, {} failed",
                number + 1,
                seen.all,
                seen.failed.len()
            );
        }
        seen
    }
}

impl Listener for Collector<'_> {
    fn hear(&self, event: &Event) {
        let mut seen = self.seen.lock();
        match event {
            Event::Began { order } => seen.all = order.len(),
            Event::Done { step, verdict, printed, failure, .. } => {
                seen.done += 1;
                if matches!(verdict, Verdict::Ran | Verdict::Current | Verdict::Reused) {
                    seen.fine.insert(*step);
                }
                if *verdict == Verdict::Failed {
                    let printed = String::from_utf8_lossy(printed).into_owned();
                    let why = failure
                        .as_ref()
                        .map(|failure| self.said(*step, failure, &printed))
                        .unwrap_or_default();
                    let refused = failure.as_ref().map(refused).unwrap_or_default();
                    let is_too_long = matches!(failure, Some(Failure::TimedOut { .. }));
                    let wants_network = failure.as_ref().is_some_and(was_refused_the_network);
                    let has_ended = failure.as_ref().is_some_and(has_ended_badly);
                    let writes = failure.as_ref().is_some_and(was_refused_to_write);
                    seen.failed.insert(
                        *step,
                        Broken { why, printed, refused, writes, wants_network, has_ended, is_too_long },
                    );
                }
            }
            Event::WillRun { .. } | Event::Elsewhere { .. } | Event::Survived { .. } | Event::Notice(_) => {
                return;
            }
        }
        self.progress(&seen);
    }
}

impl Collector<'_> {
    /// Why a step failed, in one line: the first error that its commands printed, else how they ended.
    fn said(&self, step: StepId, failure: &Failure, printed: &str) -> String {
        let words = ["error", "Error", "undefined reference", "FAILED", "not found", "No such file"];
        let is_error = |line: &&str| words.iter().any(|word| line.contains(word));
        // A warning may name an error that it is not.
        let mut lines = printed.lines().map(str::trim).filter(|line| !line.contains("warning: "));
        let line = lines.find(is_error);
        let how = failure::short(failure);
        let say = &self.graph.step(step).say;
        match line {
            _ if was_refused_the_network(failure) => {
                format!("{say}: it was refused the network; network = true in its definition lets it")
            }
            Some(line) => format!("{say}: {line}"),
            None => format!("{say}: {how}"),
        }
    }
}

/// Whether commands ran and ended with a failure of their own.
fn has_ended_badly(failure: &Failure) -> bool {
    match failure {
        Failure::Observed { first, .. } => has_ended_badly(first),
        Failure::Code(_) | Failure::Signal(_) | Failure::Cases { .. } | Failure::BadReport { .. } => true,
        _ => false,
    }
}

/// Whether a step's commands were refused the network.
fn was_refused_the_network(failure: &Failure) -> bool {
    let Failure::Observed { refused, .. } = failure else { return false };
    refused.contains(&Refusal::Network)
}

/// Whether a step's commands were refused to write something.
fn was_refused_to_write(failure: &Failure) -> bool {
    let Failure::Observed { refused, .. } = failure else { return false };
    refused.iter().any(|one| matches!(one, Refusal::Path { touch: Touch::Written, .. }))
}

/// Paths that a step's commands were refused, from the workspace's root; folders end with `/`.
fn refused(failure: &Failure) -> Vec<String> {
    match failure {
        Failure::Observed { first, refused: all, .. } => {
            let mut paths = refused(first);
            for one in all.iter().filter(|one| one.is_of_workspace()) {
                match one {
                    Refusal::Path { path, folder, .. } => {
                        paths.push(format!("{path}{}", if *folder { "/" } else { "" }));
                    }
                    Refusal::Listing { folder, .. } => paths.push(format!("{folder}/")),
                    Refusal::Network => {}
                }
            }
            paths
        }
        Failure::Undeclared { path, .. } => vec![path.clone()],
        _ => Vec::new(),
    }
}
