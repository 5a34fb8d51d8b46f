//! What a recorder saw commands do.

use std::sync::Arc;

use nubrik_source::FilePath;

/// What a command did with a path, the mildest first.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Touch {
    /// Asked whether it is there, and what it is.
    LookedUp,
    /// Opened it for reading.
    Read,
    /// Started it as a program.
    Started,
    /// Made, changed or removed it, or asked to.
    Written,
}

/// What a command was seen to do with a path.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Touched {
    /// Where it is, after links were followed.
    pub path: FilePath,
    /// The strongest thing that was done with it.
    pub touch: Touch,
    /// What was there when it was first touched: a folder (`true`) or a file; `None` for nothing.
    pub folder: Option<bool>,
    /// Whether the step may do that: it declares the path, or it is its own or the system's.
    pub allowed: bool,
    /// Of a folder of the workspace that was listed: names of what is there and was not shown,
    /// since the step does not declare it. Sorted.
    pub lacks: Vec<Arc<str>>,
}

/// What a command in a sandbox was seen to do with a path outside of the workspace.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Named {
    /// The path from the root on, as it was written: no links were followed.
    pub path: Arc<str>,
    /// The strongest thing that was done with it.
    pub touch: Touch,
    /// What it found there: a folder (`true`) or a file; `None` for nothing.
    pub folder: Option<bool>,
}

/// What commands were seen to do.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Seen {
    /// With paths, each once, sorted.
    pub touched: Vec<Touched>,
    /// With paths outside of the workspace, as they were written, each once, sorted; in sandboxes
    /// only.
    pub named: Vec<Named>,
    /// Whether they asked for the network and were refused.
    pub wanted_network: bool,
    /// Whether a command ran that was not seen, or did something that no recorder understands.
    pub incomplete: bool,
    /// Whether `named` lacks a path: one that is no text cannot be noted down for others. Nothing
    /// of the workspace is called so.
    pub lacks_named: bool,
    /// How they were recorded.
    pub recording: Recording,
}

/// How commands are recorded.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Recording {
    /// Whether what is outside of the workspace is of no interest.
    pub only_workspace: bool,
    /// Whether the list of what is mounted in a sandbox is hidden, which names all that is
    /// declared.
    pub hides_mounts: bool,
}

impl Seen {
    /// Adds what was seen of another command of the same step.
    pub fn add(&mut self, other: Seen) {
        self.wanted_network |= other.wanted_network;
        self.incomplete |= other.incomplete;
        self.lacks_named |= other.lacks_named;
        for named in other.named {
            match self.named.binary_search_by(|n| n.path.cmp(&named.path)) {
                Ok(at) => self.named[at].touch = self.named[at].touch.max(named.touch),
                Err(at) => self.named.insert(at, named),
            }
        }
        for touched in other.touched {
            match self.touched.binary_search_by(|t| t.path.cmp(&touched.path)) {
                Ok(at) if self.touched[at].touch < touched.touch => {
                    self.touched[at].touch = touched.touch;
                    self.touched[at].allowed &= touched.allowed;
                    self.touched[at].lacks = touched.lacks;
                }
                Ok(_) => {}
                Err(at) => self.touched.insert(at, touched),
            }
        }
    }
}
