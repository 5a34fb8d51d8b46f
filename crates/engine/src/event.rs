//! What the engine says while it works. Every front end listens to the same events.

use nubrik_wording::counted;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

use nubrik_graph::StepId;
use nubrik_source::FilePath;

use crate::comparison::Comparison;
use crate::outside::{ServiceFailure, ToolProblem, WorkProblem};
use crate::reason::Reason;
use crate::seen::Touch;

/// What became of a step.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Verdict {
    /// Its commands ran, and well.
    Ran,
    /// Its outputs were in place and true.
    Current,
    /// Its outputs were taken from the cache.
    Reused,
    /// Its commands failed.
    Failed,
    /// Something that it needs failed.
    Blocked,
    /// It was not begun.
    Unstarted,
}

impl Verdict {
    /// The word for it, the same everywhere.
    pub fn word(self) -> &'static str {
        match self {
            Verdict::Ran => "ran",
            Verdict::Current => "current",
            Verdict::Reused => "reused",
            Verdict::Failed => "failed",
            Verdict::Blocked => "blocked",
            Verdict::Unstarted => "unstarted",
        }
    }
}

/// Something that a step's commands wanted and were refused.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Refusal {
    /// To read, start or write what the step does not declare.
    Path {
        /// Where it is.
        path: FilePath,
        /// What they wanted with it.
        touch: Touch,
        /// Whether it is a folder.
        folder: bool,
        /// The target that makes it, if one does.
        target: Option<Arc<str>>,
    },
    /// To see all that is in a folder.
    Listing {
        /// The folder, from the workspace's root; empty for the root.
        folder: Arc<str>,
        /// Something in it that the step does not declare.
        first: Arc<str>,
        /// How many others there are.
        more: usize,
    },
    /// To use the network.
    Network,
}

/// An output that should be a file is a folder.
pub const IS_FOLDER: &str = "it is a folder";
/// An output that should be a folder is a file.
pub const IS_FILE: &str = "it is a file";

/// Why a step failed.
#[derive(Clone, Debug)]
pub enum Failure {
    /// The commands failed, and this was seen when they ran once more under a recorder.
    Observed {
        /// How they failed.
        first: Box<Failure>,
        /// What they were refused, the likeliest cause first.
        refused: Vec<Refusal>,
        /// Whether they ended well this time.
        well_again: bool,
    },
    /// A command ended with this code.
    Code(i32),
    /// A command was ended by this signal.
    Signal(i32),
    /// A program could not be started.
    NotStarted {
        /// The program.
        program: String,
        /// Why not.
        problem: String,
        /// Whether the machine does not let this user run it.
        is_forbidden: bool,
    },
    /// A tool is not on this machine, or not in the image.
    NoTool(ToolProblem),
    /// The image that it runs in cannot be had.
    NoRoot {
        /// The image's target.
        image: Arc<str>,
        /// Why not.
        problem: String,
    },
    /// An input is not there or cannot be read.
    NoInput {
        /// The file.
        path: Arc<str>,
        /// Why not.
        problem: String,
    },
    /// The commands ended well but did not make an output.
    NoOutput {
        /// The output as the definition named it.
        name: Arc<str>,
        /// Files that they made instead.
        instead: Vec<String>,
    },
    /// The commands left something at the place of an output, or in it, that cannot be kept.
    OddOutput {
        /// The output as the definition named it, or something in it.
        name: String,
        /// What it is.
        what: String,
    },
    /// The commands listed a file that the step does not declare.
    Undeclared {
        /// The file.
        path: String,
        /// The target that makes it, if one does.
        target: Option<Arc<str>>,
    },
    /// The commands did not write the listing of what they read, or it cannot be understood.
    NoListing {
        /// The listing as the definition named it.
        name: String,
    },
    /// Nothing is there of what the commands listed as read.
    StrangeListing {
        /// The listing as the definition named it.
        name: String,
        /// The first file that it names.
        first: String,
    },
    /// It would run, and reaches out of this machine, which a command that only reads does not
    /// want.
    NeedsBuild,
    /// It would run and use the network, which is not wanted in this build.
    Offline,
    /// An input changed while the step ran, so that its result cannot be trusted.
    InputMoved {
        /// The file.
        path: Arc<str>,
    },
    /// An output that others may use before the step ends was changed after it was whole.
    EarlyChanged {
        /// The output as the definition named it.
        name: Arc<str>,
    },
    /// A program that is asked requests gave no answer that can be understood.
    NoAnswer {
        /// How its answer begins; empty where it ended instead.
        said: String,
    },
    /// The commands took longer than they may.
    TimedOut {
        /// How long they may take, in milliseconds.
        limit: u64,
    },
    /// The commands of a check ended well, but its report lists cases that failed.
    Cases {
        /// How many failed.
        failed: usize,
        /// How many it lists.
        all: usize,
    },
    /// The report of a check cannot be read.
    BadReport {
        /// Why not.
        problem: String,
    },
    /// The step says of a machine what this one is not, and no other one ran it.
    NoMachine {
        /// What it says.
        labels: Vec<Arc<str>>,
        /// Why none did, for people.
        problem: String,
    },
    /// It failed on another machine, in a way that only that one can tell.
    There {
        /// How, for people.
        problem: String,
    },
    /// A service that the step needs is not there.
    Service(Box<ServiceFailure>),
    /// A file that the step wrote holds a secret of a service.
    ToldSecret {
        /// The secret's name.
        name: String,
        /// The file, as the step's folder has it.
        file: String,
    },
    /// The disk on which outputs are made is full, so that they cannot be trusted to be whole.
    NoRoom,
    /// What the tool does itself failed.
    Native {
        /// What, and why, for people.
        problem: String,
        /// Whether what was fetched has another digest than its definition says.
        is_another: bool,
    },
    /// The machine refused something.
    Machine {
        /// What, and why.
        problem: String,
    },
}

impl Failure {
    /// That something which the tool does itself was not done.
    pub(crate) fn of_native(problem: WorkProblem) -> Failure {
        let is_another = matches!(
            problem,
            WorkProblem::NotFetched {
                is_another: true,
                ..
            }
        );
        Failure::Native {
            problem: problem.to_string(),
            is_another,
        }
    }

    /// The exit code that the commands ended with, if that alone is known of why they failed.
    pub fn code(&self) -> Option<i32> {
        match self {
            Failure::Code(code) => Some(*code),
            _ => None,
        }
    }

    /// The same, with what the commands were refused.
    pub(crate) fn observed(self, refused: Vec<Refusal>, well_again: bool) -> Failure {
        let is_telling = matches!(
            self,
            Failure::Code(_)
                | Failure::Signal(_)
                | Failure::NoOutput { .. }
                | Failure::Cases { .. }
        );
        match !is_telling || (refused.is_empty() && !well_again) {
            true => self,
            false => Failure::Observed {
                first: Box::new(self),
                refused,
                well_again,
            },
        }
    }
}

impl Refusal {
    /// Whether it is something of the workspace.
    pub fn is_of_workspace(&self) -> bool {
        match self {
            Refusal::Path { path, .. } => path.is_of_workspace(),
            Refusal::Listing { .. } => true,
            Refusal::Network => false,
        }
    }
}

/// Something to know that is no step's.
#[derive(Clone, Debug)]
pub enum Notice {
    /// The store had a damaged content, which was thrown away.
    DamagedBlob,
    /// The store cannot be written, and why.
    StoreUnusable(String),
    /// Steps cannot be confined fully on this machine; what is missing.
    Unconfined(String),
    /// Processes that steps left behind were ended: how many, and of which targets as far as that
    /// is known.
    OrphansEnded(usize, Vec<Arc<str>>),
    /// A service did not stop in the way that its definition says.
    NotStopped(Box<ServiceFailure>),
    /// Kept results had grown too large; so many bytes of them, not used for longest, were removed.
    RoomMade(u64),
    /// A published result was gone or edited, and was put back: its path, and whether it was there.
    PutBack(String, bool),
    /// A result could not be put where people find it, and why.
    NotPublished(String),
    /// Nobody could be asked about a machine that some labels are true of, so that what counts of
    /// it is taken to be as it was.
    NotAsked {
        /// The labels.
        labels: Vec<Arc<str>>,
        /// Why nobody could be asked.
        why: Arc<str>,
    },
    /// So many results that were known and not here cannot be had any more: they are made here.
    Lost(usize),
    /// Other machines cannot be asked to run steps, and why.
    NoWorkers(String),
    /// A step failed on another machine and ended well here, of the same inputs.
    FailedOnlyThere {
        /// The target that it is of.
        target: Arc<str>,
        /// The step, as its definition says it.
        say: Arc<str>,
        /// The other machine.
        machine: Arc<str>,
    },
}

/// An event. Events of one step come in order; those of different steps come as they happen.
#[derive(Clone, Debug)]
pub enum Event {
    /// Work begins on these steps.
    Began {
        /// The steps that the request needs, each behind those that it needs.
        order: Arc<[StepId]>,
    },
    /// A step's commands are about to run.
    WillRun {
        /// The step.
        step: StepId,
        /// Why.
        reason: Reason,
    },
    /// Another machine began a step. It may be taken back and run here.
    Elsewhere {
        /// The step.
        step: StepId,
        /// What the machine is called.
        machine: Arc<str>,
    },
    /// The image that a step at work runs in is being put together where it runs, or that is over.
    Unpacks {
        /// The step.
        step: StepId,
        /// Whether it is over.
        is_over: bool,
    },
    /// A step is done with, whatever became of it.
    Done {
        /// The step.
        step: StepId,
        /// What became of it.
        verdict: Verdict,
        /// The other machine that ran it, if one did.
        machine: Option<Arc<str>>,
        /// Why.
        reason: Reason,
        /// How long its commands ran, in microseconds; for a reused step, how long they ran then.
        micros: u64,
        /// What its commands printed.
        printed: Vec<u8>,
        /// Why it failed, if it did.
        failure: Option<Failure>,
    },
    /// Commands that ended well were refused something of the workspace: their result may lack it.
    Survived {
        /// The step.
        step: StepId,
        /// What they were refused.
        refused: Vec<Refusal>,
    },
    /// Something to know.
    Notice(Notice),
}

/// Hears events, from several threads.
pub trait Listener: Sync {
    /// Takes note of an event.
    fn hear(&self, event: &Event);
}

/// How many steps of a request ended in which way. Every place that says it uses
/// [`StepCounts::sentence`].
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
pub struct StepCounts {
    /// Steps that the request needs.
    pub steps: usize,
    /// Those that ran and ended well.
    pub ran: usize,
    /// Outputs in place and true.
    #[serde(default)]
    pub current: usize,
    /// Taken from the store.
    pub reused: usize,
    /// Failed.
    pub failed: usize,
    /// Something that they need failed.
    #[serde(default)]
    pub blocked: usize,
    /// Not begun.
    pub unstarted: usize,
}

impl StepCounts {
    /// Whether all of a request's steps, so many, were current.
    pub fn all_current(steps: usize) -> StepCounts {
        StepCounts {
            steps,
            current: steps,
            ..StepCounts::default()
        }
    }

    /// Counts a step's verdict.
    pub fn count(&mut self, verdict: Verdict) {
        match verdict {
            Verdict::Ran => self.ran += 1,
            Verdict::Current => self.current += 1,
            Verdict::Reused => self.reused += 1,
            Verdict::Failed => self.failed += 1,
            Verdict::Blocked => self.blocked += 1,
            Verdict::Unstarted => self.unstarted += 1,
        }
    }

    /// Whether every step that the request needs has its result.
    pub fn is_well(&self) -> bool {
        self.failed + self.blocked + self.unstarted == 0
    }

    /// The counts in words: `2 of 36 steps failed, 12 blocked, 22 current`.
    pub fn sentence(&self) -> String {
        let StepCounts {
            steps,
            ran,
            current,
            reused,
            failed,
            blocked,
            unstarted,
        } = *self;
        if steps == 0 {
            return "nothing to build here".to_owned();
        }
        if current == steps {
            return format!("nothing to run: all {} current", counted(steps, "step"));
        }
        let (first, ran_later) = if failed > 0 {
            (format!("{failed} of"), ran)
        } else {
            (format!("{ran} of"), 0)
        };
        let verb = if failed > 0 { "failed" } else { "ran" };
        let mut text = format!("{first} {} {verb}", counted(steps, "step"));
        let rest = [
            (ran_later, "ran"),
            (blocked, "blocked"),
            (unstarted, "unstarted"),
            (reused, "reused"),
            (current, "current"),
        ];
        for (count, word) in rest.into_iter().filter(|(count, _)| *count > 0) {
            text.push_str(&format!(", {count} {word}"));
        }
        text
    }
}

/// The result of a build.
#[derive(Clone, PartialEq, Debug, Default)]
pub struct Summary {
    /// The steps that the request needs, by their verdicts.
    pub counts: StepCounts,
    /// Checks that failed and do not count, since it is known that they are unwell.
    pub quarantined: usize,
    /// Results that could not be put where people find them.
    pub unpublished: usize,
    /// The chain of steps that the rest waited for, as what they do, and its time in microseconds.
    pub chain: Vec<(Arc<str>, Arc<str>)>,
    /// Time of that chain.
    pub chain_micros: u64,
}

/// What a shared store was good for in a build, in steps, and why it was not in others.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct SharedUse {
    /// Results of others that were taken now.
    pub taken: usize,
    /// How long their steps took where they ran, in microseconds.
    pub saved_micros: u64,
    /// Results that are known and not here.
    pub away: usize,
    /// Steps that ran, and without a result of the same inputs, words and tools.
    pub unknown: usize,
    /// Steps that ran, since what others found when they ran is something else here.
    pub other_files: usize,
    /// Steps that ran, since files of the system are others here.
    pub other_system: usize,
    /// Steps that ran, since what others made could not be had.
    pub not_had: usize,
}

impl SharedUse {
    /// Adds what came after.
    pub fn add(&mut self, later: SharedUse) {
        let SharedUse {
            taken,
            saved_micros,
            away,
            unknown,
            other_files,
            other_system,
            not_had,
        } = later;
        self.taken += taken;
        self.saved_micros += saved_micros;
        self.away = away;
        self.unknown += unknown;
        self.other_files += other_files;
        self.other_system += other_system;
        self.not_had += not_had;
    }
}

/// What a build would do with a step.
#[derive(Clone, Debug)]
pub struct PlannedStep {
    /// The step.
    pub step: StepId,
    /// What would become of it; `Unstarted` where that shows only when what it needs has run.
    pub verdict: Verdict,
    /// Why.
    pub reason: Reason,
    /// How long it took the last time, in microseconds; `None` where it never ran.
    pub micros: Option<u64>,
    /// What differs from an earlier time, where that was asked for and there is one.
    pub comparison: Option<Comparison>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_are_a_sentence() {
        assert_eq!(
            StepCounts::all_current(3).sentence(),
            "nothing to run: all 3 steps current"
        );
        let some = StepCounts {
            steps: 9,
            ran: 2,
            reused: 1,
            current: 6,
            ..StepCounts::default()
        };
        assert_eq!(some.sentence(), "2 of 9 steps ran, 1 reused, 6 current");
        let bad = StepCounts {
            steps: 4,
            ran: 1,
            failed: 1,
            blocked: 1,
            unstarted: 1,
            ..StepCounts::default()
        };
        assert_eq!(
            bad.sentence(),
            "1 of 4 steps failed, 1 ran, 1 blocked, 1 unstarted"
        );
        assert!(some.is_well() && !bad.is_well());
        assert_eq!(StepCounts::default().sentence(), "nothing to build here");
    }
}
