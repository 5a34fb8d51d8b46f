//! Running steps again whose results are there, to see whether they make the same bytes.

use std::sync::atomic::{AtomicUsize, Ordering};

use nubrik_bytes::Digest;
use nubrik_graph::{Graph, Needs, StepId};
use nubrik_source::WsPath;
use nubrik_store::{OutputRecord, Store, TreeKind};
use parking_lot::{Mutex, RwLock};

use crate::build::{Build, Options, Request};
use crate::event::{Failure, Listener};
use crate::outside::Outside;
use crate::state::State;

/// A step that ran again.
#[derive(Clone, Debug)]
pub struct VerifiedStep {
    /// The step.
    pub step: StepId,
    /// What came of it.
    pub end: VerifyEnd,
}

/// What came of running a step again.
#[derive(Clone, Debug)]
pub enum VerifyEnd {
    /// The same bytes.
    Same,
    /// Other ones: what differs first.
    Differs(OtherOutput),
    /// It failed, though it ended well before.
    Failed(Failure),
    /// It was stopped.
    Stopped,
}

/// An output that came out otherwise.
#[derive(Clone, Debug)]
pub struct OtherOutput {
    /// Its name, and the path in it where it is a folder.
    pub name: String,
    /// What it was: the bytes, where it was a file and they are known.
    pub before: Option<Vec<u8>>,
    /// What it is now.
    pub now: Option<Vec<u8>>,
}

/// Runs steps again, several at once, and holds what they make against what is remembered. Their
/// results stay as they are. What they need must be there.
pub fn verify(
    graph: &Graph,
    steps: &[StepId],
    before: &State,
    outside: &dyn Outside,
    store: Option<&dyn Store>,
    (listener, jobs): (&dyn Listener, usize),
) -> Vec<VerifiedStep> {
    let mut build = Build::new(
        Request::whole(graph, &[]),
        before,
        outside,
        None,
        listener,
        Options::plain(),
    );
    // What is made here is thrown away again.
    build.store = None;
    let verified: Mutex<Vec<VerifiedStep>> = Mutex::default();
    let next = AtomicUsize::new(0);
    let needs = Needs::of(graph);
    // A step's folder is set aside while it runs again: who reads in it waits.
    let folders: Vec<RwLock<()>> = graph.steps.iter().map(|_| RwLock::new(())).collect();
    let alone = |step: StepId, work: &dyn Fn() -> VerifyEnd| {
        let mut all = needs.of_step(step);
        all.push(step);
        // In one order for all, so that nobody waits for who waits for them.
        all.sort_unstable();
        let (mut reads, mut writes) = (Vec::new(), Vec::new());
        for one in all {
            let folder = &folders[one.index()];
            match one == step {
                true => writes.push(folder.write()),
                false => reads.push(folder.read()),
            }
        }
        work()
    };
    std::thread::scope(|scope| {
        for _ in 0..jobs.clamp(1, steps.len().max(1)) {
            scope.spawn(|| {
                outside.begin_worker(jobs);
                while let Some(step) = steps.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let end = match outside.is_cancelled() {
                        true => VerifyEnd::Stopped,
                        false => alone(*step, &|| build.verify_step(*step, store)),
                    };
                    verified.lock().push(VerifiedStep { step: *step, end });
                }
            });
        }
    });
    outside.rest();
    let mut verified = verified.into_inner();
    verified.sort_by_key(|verified| verified.step);
    verified
}

/// Where two outputs differ first: the path below the output, and the contents there.
fn other_place(
    before: &OutputRecord,
    now: &OutputRecord,
) -> (String, Option<Digest>, Option<Digest>) {
    let file = |output: &OutputRecord| match output {
        OutputRecord::File { digest, .. } => Some(*digest),
        OutputRecord::Folder(_) => None,
    };
    let (OutputRecord::Folder(before), OutputRecord::Folder(now)) = (before, now) else {
        return (String::new(), file(before), file(now));
    };
    let content = |kind: &TreeKind| match kind {
        TreeKind::File { digest, .. } => Some(*digest),
        TreeKind::Link { .. } | TreeKind::EmptyFolder => None,
    };
    for entry in before {
        match now.iter().find(|other| other.path == entry.path) {
            Some(other) if other.kind == entry.kind => {}
            other => {
                let now = other.and_then(|other| content(&other.kind));
                return (format!("/{}", entry.path), content(&entry.kind), now);
            }
        }
    }
    let new = now
        .iter()
        .find(|entry| before.iter().all(|other| other.path != entry.path));
    new.map_or((String::new(), None, None), |entry| {
        (format!("/{}", entry.path), None, content(&entry.kind))
    })
}

impl Build<'_> {
    fn verify_step(&self, id: StepId, store: Option<&dyn Store>) -> VerifyEnd {
        let step = self.graph.step(id);
        let Some(memory) = self.before.steps.get(step.folder.shared()) else {
            return VerifyEnd::Stopped;
        };
        let bytes_here = |path: &WsPath| self.outside.read(&path.into()).ok();
        let ran = self.tools_of(id).and_then(|tools| {
            self.beside_results(id, || {
                self.run_commands(id, &tools, &mut Vec::new(), None, None)?;
                let (made, _) = self.take_outputs(id)?;
                let mut other = None;
                for ((output, now), before) in step.outputs.iter().zip(&made).zip(&memory.outputs) {
                    if now.digest() != before.digest() {
                        let (below, was, _) = other_place(before, now);
                        let whole = &self.graph.file(output.file).path;
                        let path = if below.is_empty() {
                            whole.clone()
                        } else {
                            whole.join(&below[1..])
                        };
                        let before = was.and_then(|digest| store?.bytes(&digest));
                        let name = format!("{}{below}", output.name);
                        other = Some(OtherOutput {
                            name,
                            before,
                            now: bytes_here(&path),
                        });
                        break;
                    }
                }
                self.discard_scratch(id);
                Ok(other)
            })
        });
        match ran {
            Ok(Ok(None)) => VerifyEnd::Same,
            Ok(Ok(Some(other))) => VerifyEnd::Differs(other),
            Ok(Err(None)) => VerifyEnd::Stopped,
            Ok(Err(Some(failure))) | Err(failure) => VerifyEnd::Failed(failure),
        }
    }
}
