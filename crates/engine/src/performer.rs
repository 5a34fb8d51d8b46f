//! Other machines that run steps, as a build sees them.

use std::sync::Arc;
use std::time::Duration;

use nubrik_bytes::Digest;
use nubrik_graph::{LoneStep, SetId, StepId};
use nubrik_source::WsPath;
use nubrik_store::RecordEntry;

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
    /// Sources among which it finds what it reads: of each set, which many steps share, its number in the build's graph, and the
    /// paths.
    pub sets: Vec<(SetId, Vec<WsPath>)>,
    /// What makes its other inputs, each with its folder: what is known of it, as others read it.
    pub made: Vec<(Arc<str>, Vec<u8>)>,
    /// How long it will take, in microseconds.
    pub forecast: u64,
}

/// What came of a step that another machine ran.
pub enum StepAnswer {
    /// It ended well: the result, whose contents the store can bring, and what the machine is called.
    Made(Box<RecordEntry>, Arc<str>),
    /// Somebody began it: what their machine is called. It is not over.
    Begun(Arc<str>),
    /// It was not run, or failed: it is to be run here.
    Not,
}

/// Other machines that run steps.
pub trait Performer: Sync {
    /// A build begins: what was read of sources before may be something else now.
    fn begin(&self);
    /// Whether someone would begin a step now that takes so many microseconds.
    fn has_place(&self, forecast: u64) -> bool;
    /// Sends a step to someone, maybe once more. `false` where that cannot be done.
    fn send(&self, errand: &Errand) -> bool;
    /// What came of a step, if anything comes in a time.
    fn receive(&self, within: Duration) -> Option<(StepId, StepAnswer)>;
    /// Nothing that was sent is wanted any more.
    fn abandon(&self);
}
