//! Other machines that run steps, as a build sees them.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use nubrik_bytes::Digest;
use nubrik_graph::{LoneStep, SetId, StepId};
use nubrik_source::WsPath;
use nubrik_store::RecordEntry;
use parking_lot::Mutex;

use crate::event::Failure;

/// Names of things of another machine, with what identifies them there; nothing of what is not
/// there.
pub type NamedThings = Vec<(Arc<str>, Option<Digest>)>;

/// What other machines said of themselves in this build: by the labels for which they were asked,
/// and by name.
pub(crate) type ToldThings = Mutex<HashMap<Vec<Arc<str>>, HashMap<Arc<str>, Option<Digest>>>>;

/// A file among which a step finds what it reads.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SetFile {
    /// Its path.
    pub path: WsPath,
    /// Whether it is a folder.
    pub folder: bool,
    /// Whether a step makes it; otherwise it is a source.
    pub is_made: bool,
}

/// A step as another machine is to run it.
pub struct Errand {
    /// Its number, by which it is answered.
    pub step: StepId,
    /// The step with what makes its inputs.
    pub lone: LoneStep,
    /// The first part of its key: who would run another one has other tools, or other rules.
    pub first_key: Digest,
    /// Tools by name, with their identities here.
    pub tools: Vec<(Arc<str>, Digest)>,
    /// Sources that it certainly reads, by their paths.
    pub sources: Vec<WsPath>,
    /// Files among which it finds what it reads: of each set, which many steps share, its number in
    /// the build's graph, and the files.
    pub sets: Vec<(SetId, Arc<[SetFile]>)>,
    /// What makes its other inputs, each with its folder: what is known of it, as others read it.
    pub made: Vec<(Arc<str>, Vec<u8>)>,
    /// What the machine must be, sorted: its system, its processor, and labels.
    pub machine: Vec<Arc<str>>,
    /// Whether this machine cannot run it: then it waits for one that can, and what counts of that
    /// machine is among the tools.
    pub is_bound: bool,
    /// How long it will take, in microseconds.
    pub forecast: u64,
}

/// How a step failed on another machine.
pub struct FailedElsewhere {
    /// In what way.
    pub failure: Failure,
    /// What it printed.
    pub printed: Vec<u8>,
    /// How long it took, in microseconds.
    pub micros: u64,
    /// What the machine is called.
    pub machine: Arc<str>,
}

/// What came of a step that another machine ran.
pub enum StepAnswer {
    /// It ended well: the result, whose contents the store can bring, and what the machine is
    /// called.
    Made(Box<RecordEntry>, Arc<str>),
    /// Somebody began it. It is not over.
    Begun {
        /// What their machine is called.
        machine: Arc<str>,
        /// Whether its image is being put together there now.
        unpacks: bool,
    },
    /// Whoever began it is gone: what their machine was called. It is to be begun once more.
    Gone(Arc<str>),
    /// Its commands failed.
    Failed(Box<FailedElsewhere>),
    /// It was not run, for this reason.
    Not(Arc<str>),
}

/// Other machines that run steps.
pub trait Performer: Sync {
    /// A build begins: what was read of sources before may be something else now.
    fn begin(&self);
    /// Whether someone of whom some labels are true would begin a step now; or, `ahead`, soon
    /// after, since more may be under way than run at once.
    fn has_place(&self, machine: &[Arc<str>], ahead: bool) -> bool;
    /// What identifies things of a machine of which some labels are true, as it says itself: tools
    /// by name, files by path.
    ///
    /// # Errors
    /// Why nobody can be asked, for people.
    fn ask(&self, machine: &[Arc<str>], names: &[Arc<str>]) -> Result<NamedThings, Arc<str>>;
    /// Sends a step to someone, maybe once more. `false` where that cannot be done.
    fn send(&self, errand: &Errand) -> bool;
    /// What came of a step, if anything comes in a time.
    fn receive(&self, within: Duration) -> Option<(StepId, StepAnswer)>;
    /// What was sent of a step is not wanted any more: who has it stops, and nobody begins it.
    fn withdraw(&self, step: StepId);
    /// Nothing that was sent is wanted any more.
    fn abandon(&self);
}
