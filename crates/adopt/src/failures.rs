//! Gathers what failed in the build of a trial.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_engine::{Event, Failure, Listener, Refusal, Touch, Verdict};
use nubrik_graph::{Graph, StepId};
use nubrik_session::BuildProblem;
use parking_lot::Mutex;

use crate::attendant::TrialCounts;
use crate::{AdoptNews, AdoptProblem, Attendant};

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

/// Gathers what failed, and passes on what happens.
struct FailureCollector<'g> {
    graph: &'g Graph,
    shown: &'g dyn Listener,
    seen: Mutex<SeenFailures>,
}

/// What was seen of a build.
#[derive(Default)]
pub struct SeenFailures {
    counts: TrialCounts,
    /// What failed.
    pub failed: BTreeMap<StepId, Broken>,
    /// Steps whose results are there.
    pub fine: BTreeSet<StepId>,
}

/// Builds a graph by `work`, which is round `round` of all, or nothing of them; gives what came of
/// it and what failed.
///
/// # Errors
/// Those of `work`; or the attendant did not let it begin.
pub fn attended<T>(
    attendant: &dyn Attendant,
    graph: &Graph,
    round: Option<usize>,
    work: impl FnOnce(&dyn Listener) -> Result<T, BuildProblem>,
) -> Result<(T, SeenFailures), AdoptProblem> {
    let (mut work, mut result, mut seen) = (Some(work), None, SeenFailures::default());
    attendant.attend(graph, &mut |shown| {
        let collector = FailureCollector {
            graph,
            shown,
            seen: Mutex::default(),
        };
        result = work.take().map(|work| work(&collector));
        seen = collector.seen.into_inner();
    });
    attendant.hear(AdoptNews::Ended {
        round,
        counts: seen.counts,
    });
    let result = result
        .ok_or(AdoptProblem::Interrupted)?
        .map_err(AdoptProblem::Own)?;
    Ok((result, seen))
}

impl Listener for FailureCollector<'_> {
    fn hear(&self, event: &Event) {
        self.shown.hear(event);
        let mut seen = self.seen.lock();
        match event {
            Event::Began { order } => seen.counts.all = order.len(),
            Event::Done {
                step,
                verdict,
                printed,
                failure,
                ..
            } => {
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
                        Broken {
                            why,
                            printed,
                            refused,
                            writes,
                            wants_network,
                            has_ended,
                            is_too_long,
                        },
                    );
                }
            }
            Event::WillRun { .. }
            | Event::Elsewhere { .. }
            | Event::Unpacks { .. }
            | Event::Survived { .. }
            | Event::Notice(_) => {
                return;
            }
        }
        seen.counts.failed = seen.failed.len();
    }
}

impl FailureCollector<'_> {
    /// Why a step failed, in one line: the first error that its commands printed, else how they
    /// ended.
    fn said(&self, step: StepId, failure: &Failure, printed: &str) -> String {
        let words = [
            "error",
            "Error",
            "undefined reference",
            "FAILED",
            "not found",
            "No such file",
        ];
        let is_error = |line: &&str| words.iter().any(|word| line.contains(word));
        // A warning may name an error that it is not.
        let mut lines = printed
            .lines()
            .map(str::trim)
            .filter(|line| !line.contains("warning: "));
        let line = lines.find(is_error);
        let how = failure.to_string();
        let say = &self.graph.step(step).say;
        match line {
            _ if was_refused_the_network(failure) => {
                format!(
                    "{say}: it was refused the network; network = true in its definition lets it"
                )
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
        Failure::Code(_)
        | Failure::Signal(_)
        | Failure::Cases { .. }
        | Failure::BadReport { .. } => true,
        _ => false,
    }
}

/// Whether a step's commands were refused the network.
fn was_refused_the_network(failure: &Failure) -> bool {
    let Failure::Observed { refused, .. } = failure else {
        return false;
    };
    refused.contains(&Refusal::Network)
}

/// Whether a step's commands were refused to write something.
fn was_refused_to_write(failure: &Failure) -> bool {
    let Failure::Observed { refused, .. } = failure else {
        return false;
    };
    refused.iter().any(|one| {
        matches!(
            one,
            Refusal::Path {
                touch: Touch::Written,
                ..
            }
        )
    })
}

/// Paths that a step's commands were refused, from the workspace's root; folders end with `/`.
fn refused(failure: &Failure) -> Vec<String> {
    match failure {
        Failure::Observed {
            first,
            refused: all,
            ..
        } => {
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
