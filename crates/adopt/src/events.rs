//! An adoption for programs: proposals, questions, differences, tries.

use nubrik_source::TARGETS_FILE;
use nubrik_survey::{Definition, FileChange, Omission, Proposal, SurveyQuestion, WantedPin};
use serde::Serialize;

use crate::folder::AdoptedFolder;
use crate::rounds::{Tried, TryResult};
use crate::watched::{ComparedTarget, WatchedFolder};

/// A definition that is proposed.
#[derive(Serialize)]
pub struct ProposedEvent {
    event: &'static str,
    target: String,
    declared: &'static str,
    kit: Option<&'static str>,
    kind: Option<&'static str>,
    sources: usize,
    needs: Vec<String>,
    pins: Vec<String>,
    reasons: Vec<String>,
}

impl ProposedEvent {
    fn of(folder: &AdoptedFolder, definition: &Definition) -> ProposedEvent {
        let calls = definition.body.calls();
        ProposedEvent {
            event: "proposed",
            target: definition.address.below(&folder.top),
            declared: definition.keyword.word(),
            kit: calls.first().map(|call| call.kit.name()),
            kind: calls.first().map(|call| call.kind),
            sources: definition.takes().len(),
            needs: definition
                .needs()
                .iter()
                .map(|need| need.below(&folder.top))
                .collect(),
            pins: definition
                .pins()
                .into_iter()
                .map(|(_, name)| name)
                .collect(),
            reasons: definition.all_reasons(),
        }
    }

    /// The events about all definitions of a proposal.
    pub fn all<'a>(
        folder: &'a AdoptedFolder,
        proposal: &'a Proposal,
    ) -> impl Iterator<Item = ProposedEvent> + 'a {
        proposal
            .definitions
            .iter()
            .map(|definition| ProposedEvent::of(folder, definition))
    }
}

/// Something in the folder for which nothing is proposed.
#[derive(Serialize)]
pub struct OmissionEvent<'a> {
    event: &'static str,
    what: &'a str,
    why: &'a str,
}

impl OmissionEvent<'_> {
    /// The event about it.
    pub fn of(Omission { what, why, .. }: &Omission) -> OmissionEvent<'_> {
        OmissionEvent {
            event: "left_out",
            what,
            why,
        }
    }
}

/// A package that definitions need.
#[derive(Serialize)]
pub struct WantedPinEvent<'a> {
    event: &'static str,
    registry: &'static str,
    name: &'a str,
    requirement: &'a str,
    wanted_by: &'a str,
}

impl WantedPinEvent<'_> {
    /// The event about a package.
    pub fn of(pin: &WantedPin) -> WantedPinEvent<'_> {
        WantedPinEvent {
            event: "wanted_pin",
            registry: pin.registry.name(),
            name: &pin.name,
            requirement: &pin.requirement,
            wanted_by: &pin.wanted_by,
        }
    }
}

/// A definition file that would change.
#[derive(Serialize)]
pub struct DifferenceEvent<'a> {
    event: &'static str,
    path: String,
    is_new: bool,
    differences: Vec<OneDifference<'a>>,
    text: &'a str,
}

#[derive(Serialize)]
struct OneDifference<'a> {
    target: &'a str,
    kind: &'static str,
    what: &'a str,
}

impl<'a> DifferenceEvent<'a> {
    /// The event about a file of the folder.
    pub fn of(folder: &AdoptedFolder, change: &'a FileChange) -> DifferenceEvent<'a> {
        let differences = change.differences.iter();
        let differences = differences.map(|(target, kind, what)| OneDifference {
            target,
            kind: kind.word(),
            what,
        });
        DifferenceEvent {
            event: "difference",
            path: folder.path(&change.package, TARGETS_FILE),
            is_new: change.before.is_none(),
            differences: differences.collect(),
            text: &change.after,
        }
    }
}

/// A question, and the answer that counts where nobody gives one.
#[derive(Serialize)]
pub struct QuestionEvent<'a> {
    event: &'static str,
    question: &'a str,
    text: &'a str,
    choices: &'a [String],
    assumed: &'a str,
}

impl<'a> QuestionEvent<'a> {
    /// The event about a question.
    pub fn of(question: &'a SurveyQuestion, assumed: &'a str) -> QuestionEvent<'a> {
        let SurveyQuestion { id, text, choices } = question;
        QuestionEvent {
            event: "question",
            question: id,
            text,
            choices,
            assumed,
        }
    }
}

/// A command that built a copy of the folder while it was watched.
#[derive(Serialize)]
pub struct WatchedEvent<'a> {
    event: &'static str,
    command: &'a str,
    programs: usize,
    results: usize,
}

impl WatchedEvent<'_> {
    /// The event about a command that ran so many programs, which made so many results.
    pub fn of(watched: &WatchedFolder, results: usize) -> WatchedEvent<'_> {
        let build = watched.build();
        WatchedEvent {
            event: "watched",
            command: &build.command,
            programs: build.programs.len(),
            results,
        }
    }
}

/// A target beside the result that the watched command made.
#[derive(Serialize)]
pub struct ComparedEvent<'a> {
    event: &'static str,
    target: &'a str,
    differences: &'a [String],
}

impl ComparedEvent<'_> {
    /// The event about a target.
    pub fn of(
        ComparedTarget {
            address,
            differences,
            ..
        }: &ComparedTarget,
    ) -> ComparedEvent<'_> {
        ComparedEvent {
            event: "compared",
            target: address,
            differences,
        }
    }
}

/// What became of a definition that was tried.
#[derive(Serialize)]
pub struct TriedEvent<'a> {
    event: &'static str,
    target: &'a str,
    result: &'static str,
    changes: &'a [String],
    why: Option<&'a str>,
    /// Each test of several counts for itself.
    passed: usize,
    all: usize,
}

/// What became of a definition, in the order in which it is shown.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum TryKind {
    /// It works as it was proposed.
    Works,
    /// It works after changes.
    Mended,
    /// It does not work.
    Fails,
    /// It is left out.
    Omitted,
    /// It is only done when somebody asks for it.
    NotTried,
}

impl TryKind {
    /// The word for programs.
    pub fn word(self) -> &'static str {
        match self {
            TryKind::Works => "works",
            TryKind::Mended => "works_after_change",
            TryKind::Fails => "fails",
            TryKind::Omitted => "left_out",
            TryKind::NotTried => "not_tried",
        }
    }
}

impl Tried {
    /// How a definition was changed until it worked.
    pub fn changes_of(&self, address: &str) -> &[String] {
        self.changes.get(address).map_or(&[][..], Vec::as_slice)
    }

    /// What became of a definition, and why if it does not work.
    pub fn kind_of<'t>(&self, address: &str, result: &'t TryResult) -> (TryKind, Option<&'t str>) {
        match result {
            TryResult::Works if self.changes_of(address).is_empty() => (TryKind::Works, None),
            TryResult::Works => (TryKind::Mended, None),
            TryResult::Fails(why) => (TryKind::Fails, Some(why)),
            TryResult::Omission(why) => (TryKind::Omitted, Some(why)),
            TryResult::NotTried(why) => (TryKind::NotTried, Some(why)),
        }
    }

    /// How many things work, and how many were tried.
    pub fn works_and_all(&self) -> (usize, usize) {
        let counts = self
            .results
            .iter()
            .map(|(address, result)| self.count(address, result));
        counts.fold((0, 0), |(works, all), (one, of)| (works + one, all + of))
    }

    /// The events about all definitions.
    pub fn events(&self) -> impl Iterator<Item = TriedEvent<'_>> {
        self.results.iter().map(|(address, result)| {
            let (passed, all) = self.count(address, result);
            let (kind, why) = self.kind_of(address, result);
            TriedEvent {
                event: "tried",
                target: address,
                result: kind.word(),
                changes: self.changes_of(address),
                why,
                passed,
                all,
            }
        })
    }
}
