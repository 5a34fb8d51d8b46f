//! Why an adoption does not go on.

use std::path::PathBuf;

use nubrik_pins::PinProblem;
use nubrik_session::{BuildProblem, OpenProblem};

/// Why an adoption does not go on.
#[derive(Debug)]
pub enum AdoptProblem {
    /// Somebody stopped it.
    Interrupted,
    /// There is no such folder.
    NoPlace {
        /// What was named.
        place: PathBuf,
        /// What the system says.
        error: std::io::Error,
    },
    /// What was named is no folder.
    NoFolder(PathBuf),
    /// The folder is somebody's home or a whole disk, and not one project.
    TooMuch(PathBuf),
    /// The folder is one of those that the tool makes.
    OwnFolder(PathBuf),
    /// A definition file cannot be read as text.
    NoText {
        /// Its path from the folder.
        name: String,
        /// What the system says, or that it is too large or no text.
        error: std::io::Error,
    },
    /// A definition file cannot be read, and was not compared with sources.
    Unreadable {
        /// Its path from the workspace's root.
        path: String,
        /// What is wrong with it.
        why: String,
    },
    /// A definition file could not be read with its changes, and stays as it is; its path from the workspace's root.
    Unfit(String),
    /// The workspace cannot be opened.
    Open(OpenProblem),
    /// One of the tool's own files cannot be used.
    Own(BuildProblem),
    /// A kit of the workspace cannot be fetched.
    Kit {
        /// Its name.
        name: String,
        /// What each place said.
        why: String,
    },
    /// Pins cannot be read.
    ReadPins(PinProblem),
    /// Pins cannot be written.
    WritePins(PinProblem),
    /// A file cannot be written.
    Unwritable {
        /// Its path from the workspace's root.
        name: String,
        /// What the system says.
        error: std::io::Error,
    },
    /// Somebody else changed a file since it was read; its path from the workspace's root.
    ChangedBySomebody(String),
    /// The folder cannot be copied, to be built there.
    NoCopy {
        /// What the system says.
        error: std::io::Error,
    },
    /// Commands cannot be watched on this machine.
    CannotWatch {
        /// What the system says.
        error: std::io::Error,
    },
    /// The command that was to be watched failed.
    WatchFailed {
        /// The command.
        command: String,
        /// How it ended, for people.
        how: String,
        /// The last lines that it printed.
        printed: Vec<String>,
        /// Whether it asked for the network, which it was refused.
        wanted_network: bool,
    },
    /// The command that was watched compiled nothing that is there when it is over.
    NothingLearned {
        /// The command.
        command: String,
    },
    /// An answer to a question that is not asked.
    NotAsked {
        /// The name of the question.
        id: String,
        /// A question that is asked and has a similar name.
        near: Option<String>,
    },
    /// An answer that is none of a question's choices.
    NoAnswer {
        /// The name of the question.
        id: String,
        /// What was answered.
        answer: String,
        /// What may be answered.
        choices: Vec<String>,
    },
}
