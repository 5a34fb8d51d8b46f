//! Steps that ran once more: under a recorder, or to see whether they make the same bytes.

use std::collections::BTreeMap;
use std::sync::Arc;

use nubrik_engine::{ObservedStep, OtherOutput, Refusal, VerifiedStep, VerifyEnd};
use nubrik_graph::{FileId, Graph};
use serde::Serialize;

/// What a step really read and wrote, for programs.
#[derive(Serialize)]
pub struct ObservedEvent<'a> {
    event: &'static str,
    target: Arc<str>,
    say: &'a str,
    read: &'a [Arc<str>],
    unused: &'a [Arc<str>],
    refused: Vec<String>,
    /// Undeclared paths of the workspace that were asked for, and whether something is there.
    looked_up: Vec<LookedUp<'a>>,
    system_files: usize,
    /// Files of the system that it read and that do not count.
    uncounted: &'a [Arc<str>],
    differs: &'a [Arc<str>],
    #[serde(skip_serializing_if = "Option::is_none")]
    failure: Option<String>,
}

#[derive(Serialize)]
struct LookedUp<'a> {
    path: &'a str,
    there: bool,
}

impl<'a> ObservedEvent<'a> {
    /// The event about a step of a graph.
    pub fn of(graph: &'a Graph, step: &'a ObservedStep) -> ObservedEvent<'a> {
        let looked_up = step.looked_up.iter().map(|(path, there)| LookedUp {
            path,
            there: *there,
        });
        ObservedEvent {
            event: "observed",
            target: graph.title(step.step),
            say: &graph.step(step.step).say,
            read: &step.read,
            unused: &step.unused,
            refused: step.refused.iter().map(ToString::to_string).collect(),
            looked_up: looked_up.collect(),
            system_files: step.system,
            uncounted: &step.uncounted,
            differs: &step.differs,
            failure: step.failure.as_ref().map(ToString::to_string),
        }
    }
}

/// Whether something about a step is not as it is declared: a failure, a refusal, other bytes.
pub fn is_amiss(step: &ObservedStep) -> bool {
    step.failure.is_some() || !step.refused.is_empty() || !step.differs.is_empty()
}

/// How often something was seen in several steps, with words for it; what was never seen is left
/// out.
pub fn sums_of(steps: &[ObservedStep]) -> Vec<(usize, &'static str)> {
    let count = |of: fn(&ObservedStep) -> usize| steps.iter().map(of).sum::<usize>();
    let counts = [
        (
            count(|a| a.refused.iter().filter(|r| **r != Refusal::Network).count()),
            "refused",
        ),
        (
            count(|a| usize::from(a.refused.contains(&Refusal::Network))),
            "refused the network",
        ),
        (count(|a| a.unused.len()), "declared and not read"),
        (
            count(|a| a.looked_up.iter().filter(|(_, there)| *there).count()),
            "asked for without being declared",
        ),
        (count(|a| a.differs.len()), "with other bytes than before"),
        (count(|a| usize::from(a.failure.is_some())), "failed"),
    ];
    counts.into_iter().filter(|(n, _)| *n > 0).collect()
}

/// The paths of a graph's files as people know them.
pub struct KnownPaths<'g> {
    graph: &'g Graph,
    files: BTreeMap<&'g str, FileId>,
}

impl<'g> KnownPaths<'g> {
    /// The paths of a graph.
    pub fn of(graph: &'g Graph) -> KnownPaths<'g> {
        let files = graph
            .files
            .iter()
            .zip(0..)
            .map(|(file, number)| (file.path.as_str(), FileId(number)));
        KnownPaths {
            graph,
            files: files.collect(),
        }
    }

    /// A path as people know it: a file that a step makes by its name and target.
    pub fn name(&self, path: &str) -> String {
        let Some(node) = self.files.get(path).map(|file| self.graph.file(*file)) else {
            return path.to_owned();
        };
        match node.maker {
            None => path.to_owned(),
            Some(maker) => {
                let name = node
                    .path
                    .below(&self.graph.step(maker).folder)
                    .unwrap_or(node.path.name());
                format!("{name} of {}", self.graph.title(maker))
            }
        }
    }
}

/// A step of which a result was taken that ran again, for programs.
#[derive(Serialize)]
pub struct VerifiedEvent<'a> {
    event: &'static str,
    target: Arc<str>,
    say: &'a str,
    state: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    output: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    difference: Option<String>,
}

impl<'a> VerifiedEvent<'a> {
    /// The event about a step of a graph.
    pub fn of(graph: &'a Graph, step: &'a VerifiedStep) -> VerifiedEvent<'a> {
        let (state, output, difference) = match &step.end {
            VerifyEnd::Same => ("same", None, None),
            VerifyEnd::Stopped => ("stopped", None, None),
            VerifyEnd::Differs(other) => (
                "differs",
                Some(other.name.as_str()),
                Some(first_difference(other)),
            ),
            VerifyEnd::Failed(failure) => ("failed", None, Some(failure.to_string())),
        };
        let (target, say) = (graph.title(step.step), &*graph.step(step.step).say);
        VerifiedEvent {
            event: "verified",
            target,
            say,
            state,
            output,
            difference,
        }
    }
}

/// The first difference of an output from what it was.
pub fn first_difference(other: &OtherOutput) -> String {
    match (&other.before, &other.now) {
        (Some(before), Some(now)) => match nubrik_contrast::first_difference(before, now) {
            Some(difference) => difference.to_string(),
            None => "it may be executed now, or no longer".to_owned(),
        },
        (None, Some(_)) => "it was not there, or its bytes are not known any more".to_owned(),
        (_, None) => "it is not there now, or something else".to_owned(),
    }
}
