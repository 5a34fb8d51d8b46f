//! Why a step ran, or need not.

use std::fmt;
use std::sync::Arc;

/// Why a step is not simply current. Paths are from the workspace's root, targets are addresses.
#[derive(Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs)] // The fields are said by their names and the line above each case.
pub enum Reason {
    /// It never ran in this workspace.
    New,
    /// It never ran in this workspace, and its result is kept from another one.
    NotHere,
    /// An input's content changed; the target that makes it, if one does.
    InputChanged {
        path: Arc<str>,
        target: Option<Arc<str>>,
    },
    /// It has an input that it had not.
    InputAdded {
        path: Arc<str>,
        target: Option<Arc<str>>,
    },
    /// It no longer has an input that it had.
    InputRemoved { path: Arc<str> },
    /// Its words, variables or names changed, or the text that it writes: what people call that,
    /// and where they edited it. Where no edit is known, where it is defined, and what differs.
    CommandChanged {
        what: &'static str,
        place: Arc<str>,
        instead: Option<Arc<str>>,
    },
    /// A tool is not what it was.
    ToolChanged { tool: Arc<str> },
    /// The image that it runs in holds something else, or it runs in one and did not, or the
    /// reverse.
    RootChanged { image: Option<Arc<str>> },
    /// What it may see of the workspace is ruled in another way.
    ConfinementChanged,
    /// This version of the tool runs steps by other rules than the one before.
    RulesChanged,
    /// A file that was not there is found now where the command looks.
    NameAppeared { path: Arc<str> },
    /// A file that the command could have taken is gone.
    NameVanished { path: Arc<str> },
    /// An output is gone.
    OutputMissing { path: Arc<str> },
    /// An output is not what the step made.
    OutputEdited { path: Arc<str> },
    /// It was stopped the last time, before it was done.
    Unfinished,
    /// It failed the last time.
    FailedBefore,
    /// Its result was known and not here, and cannot be had any more.
    Lost,
    /// The machine lacks a tool that it runs.
    ToolMissing { tool: Arc<str> },
    /// It was asked for though its result is there.
    AskedFor,
    /// It uses a service that runs somewhere else: what it answers is not known.
    UsesElsewhere { service: Arc<str> },
    /// A service that it uses had another address than usual when it last ran.
    OtherAddress,
    /// Something that it needs will run, which may change what it reads.
    MaybeChanged { target: Arc<str>, path: Arc<str> },
    /// Nothing changed.
    Unchanged,
    /// Its outputs stay as they are: what changed makes no difference to them.
    SameResult,
    /// A step that it needs failed.
    NeedFailed { target: Arc<str>, say: Arc<str> },
    /// It was not started, since another step failed.
    Stopped,
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let from = |target: &Option<Arc<str>>, path: &Arc<str>| match target {
            Some(target) => format!("{} of {target}", file_name(path)),
            None => path.to_string(),
        };
        match self {
            Reason::New => f.write_str("never built here"),
            Reason::NotHere => f.write_str("not in this workspace yet"),
            Reason::InputChanged { path, target } => write!(f, "{} changed", from(target, path)),
            Reason::InputAdded { path, target } => {
                write!(f, "{} is a new input", from(target, path))
            }
            Reason::InputRemoved { path } => write!(f, "{} is no longer needed", file_name(path)),
            Reason::CommandChanged {
                what,
                place,
                instead: None,
            } => write!(f, "its {what} changed, {place}"),
            Reason::CommandChanged {
                what,
                place,
                instead: Some(instead),
            } => {
                write!(f, "its {what} changed, {place}: {instead}")
            }
            Reason::ToolChanged { tool } => write!(f, "the tool {tool} changed"),
            Reason::RootChanged { image: Some(image) } => write!(f, "the image {image} changed"),
            Reason::RootChanged { image: None } => f.write_str("it ran in an image before"),
            Reason::ConfinementChanged => f.write_str("sandbox settings changed"),
            Reason::RulesChanged => f.write_str("nubrik was upgraded"),
            Reason::NameAppeared { path } => write!(f, "{path} appeared"),
            Reason::NameVanished { path } => write!(f, "{path} vanished"),
            Reason::OutputMissing { path } => write!(f, "its output {} is gone", file_name(path)),
            Reason::OutputEdited { path } => write!(f, "its output {} was edited", file_name(path)),
            Reason::Unfinished => f.write_str("was stopped last time"),
            Reason::FailedBefore => f.write_str("failed last time"),
            Reason::Lost => f.write_str("its result was not downloaded before, and cannot be now"),
            Reason::ToolMissing { tool } => write!(f, "there is no tool {tool} on this machine"),
            Reason::AskedFor => f.write_str("asked for again"),
            Reason::UsesElsewhere { service } => {
                write!(f, "{service} runs somewhere else, and may answer anything")
            }
            Reason::OtherAddress => f.write_str("its service had another address the last time"),
            Reason::MaybeChanged { target, path } => {
                write!(f, "if {} of {target} changes", file_name(path))
            }
            Reason::Unchanged => f.write_str("nothing changed"),
            Reason::SameResult => f.write_str("what changed makes no difference to it"),
            Reason::NeedFailed { target, say } => {
                write!(f, "needs {target}, where \"{say}\" failed")
            }
            Reason::Stopped => f.write_str("the build stopped first"),
        }
    }
}

fn file_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

impl Reason {
    /// The code of a failure, by which it is remembered.
    pub(crate) const FAILED_BEFORE: &str = "failed-before";

    /// The code of a result that cannot be had any more.
    pub(crate) const LOST: &str = "lost";

    /// A stable word for the kind of reason, for scripts.
    pub fn code(&self) -> &'static str {
        match self {
            Reason::New => "new",
            Reason::NotHere => "not-here",
            Reason::InputChanged { .. } => "input-changed",
            Reason::InputAdded { .. } => "input-added",
            Reason::InputRemoved { .. } => "input-removed",
            Reason::CommandChanged { .. } => "command-changed",
            Reason::ToolChanged { .. } => "tool-changed",
            Reason::RootChanged { .. } => "image-changed",
            Reason::ConfinementChanged => "confinement-changed",
            Reason::RulesChanged => "rules-changed",
            Reason::NameAppeared { .. } => "name-appeared",
            Reason::NameVanished { .. } => "name-vanished",
            Reason::OutputMissing { .. } => "output-missing",
            Reason::OutputEdited { .. } => "output-edited",
            Reason::Unfinished => "unfinished",
            Reason::FailedBefore => Reason::FAILED_BEFORE,
            Reason::Lost => Reason::LOST,
            Reason::ToolMissing { .. } => "tool-missing",
            Reason::AskedFor => "asked-for",
            Reason::UsesElsewhere { .. } => "uses-elsewhere",
            Reason::OtherAddress => "other-address",
            Reason::MaybeChanged { .. } => "maybe-changed",
            Reason::Unchanged => "unchanged",
            Reason::SameResult => "same-result",
            Reason::NeedFailed { .. } => "need-failed",
            Reason::Stopped => "stopped",
        }
    }

    /// The input that is the reason, where there is one.
    pub fn input(&self) -> Option<&Arc<str>> {
        match self {
            Reason::InputChanged { path, .. }
            | Reason::InputAdded { path, .. }
            | Reason::MaybeChanged { path, .. } => Some(path),
            _ => None,
        }
    }
}
