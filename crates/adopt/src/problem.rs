//! Why an adoption does not go on.

use std::path::PathBuf;

use nubrik_diagnostic::Diagnostic;
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
    /// A definition file could not be read with its changes, and stays as it is; its path from the
    /// workspace's root.
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

impl AdoptProblem {
    /// What is wrong, with what to do about it; nothing where that is a problem of another crate,
    /// or where somebody stopped it.
    pub fn diagnostic(&self) -> Option<Diagnostic> {
        let wrong = |message: String| Diagnostic::error("command", message);
        Some(match self {
            AdoptProblem::Interrupted
            | AdoptProblem::Open(_)
            | AdoptProblem::Own(_)
            | AdoptProblem::Kit { .. }
            | AdoptProblem::ReadPins(_)
            | AdoptProblem::WritePins(_) => return None,
            AdoptProblem::NoPlace { place, error } => {
                wrong(format!("cannot look at {}: {error}", place.display()))
            }
            AdoptProblem::NoFolder(place) => {
                let message = format!("{} is no folder", place.display());
                wrong(message).mend("nubrik adopt   looks at this folder")
            }
            AdoptProblem::TooMuch(place) => wrong(format!(
                "{} holds more than one project's sources, so it becomes no workspace",
                place.display()
            ))
            .mend("nubrik adopt FOLDER   for the folder of a project"),
            AdoptProblem::OwnFolder(place) => {
                wrong(format!("{} is the tool's own folder: what is in it was made", place.display()))
            }
            AdoptProblem::NoText { name, error } => {
                wrong(format!("cannot read {name}: {error}")).mend("nubrik lint")
            }
            AdoptProblem::Unreadable { path, why } => {
                wrong(format!("{path} cannot be read: {why}")).mend("nubrik lint")
            }
            AdoptProblem::Unfit(path) => {
                wrong(format!("{path} is not changed: it could not be read afterwards"))
                    .mend("nubrik adopt --check   says what differs")
            }
            AdoptProblem::Unwritable { name, error } => {
                wrong(format!("cannot write {name}: {error}")).mend("check the rights and the space there")
            }
            AdoptProblem::ChangedBySomebody(name) => {
                wrong(format!("{name} was changed by someone else in the meantime, and is left alone"))
                    .mend("nubrik adopt   again")
            }
            AdoptProblem::NoCopy { error } => {
                wrong(format!("cannot copy the folder, to build it there: {error}"))
                    .mend("TMPDIR names a folder with more room")
            }
            AdoptProblem::CannotWatch { error } => {
                wrong(format!("commands cannot be watched on this machine: {error}"))
                    .mend("nubrik adopt   proposes what the sources show")
            }
            AdoptProblem::WatchFailed { command, how, printed, wanted_network } => {
                let wrong = wrong(format!("`{command}` did not build a copy of this folder: {how}"));
                let mend = match wanted_network {
                    true => {
                        "fetch first what it wants from the network, which it does not have while it is watched"
                    }
                    false => "a command that builds this folder from nothing, such as a script of its own",
                };
                printed.iter().fold(wrong, |wrong, line| wrong.note(line)).mend(mend)
            }
            AdoptProblem::NothingLearned { command } => {
                wrong(format!("`{command}` compiled nothing here that is left when it is over")).mend(
                    "if all is built already, a command that begins from nothing: it runs in a copy of the folder",
                )
            }
            AdoptProblem::NotAsked { id, near } => {
                let mend = near.as_ref().map(|near| format!("--answer {near}=…"));
                wrong(format!("nothing is asked about `{id}`")).maybe_mend(mend)
            }
            AdoptProblem::NoAnswer { id, answer, choices } => {
                wrong(format!("`{answer}` is no answer to {id}")).mend(format!("one of: {}", choices.join(", ")))
            }
        })
    }
}
