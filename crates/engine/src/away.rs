//! Results that are known and not here: what another machine gave stays where it is until a step
//! that runs needs it, or people want it.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use nubrik_bytes::Digest;
use nubrik_graph::{Needs, StepId};
use nubrik_store::{Basis, OutputRecord, Provenance, RecordEntry};

use crate::build::Build;
use crate::examine::Examined;
use crate::mismatch::RestMismatch;
use crate::reason::Reason;
use crate::state::StepMemory;

/// So long results are waited for at least: a server far away answers in that time.
const AT_LEAST: Duration = Duration::from_secs(2);

/// How long results are waited for that took so many microseconds to make: longer than that, and
/// they are sooner made here.
pub(crate) fn patience_for(micros: u64) -> Duration {
    Duration::from_micros(micros).max(AT_LEAST)
}

/// The contents of outputs, and whether each may be executed.
pub(crate) fn contents_of(outputs: &[OutputRecord]) -> Vec<(Digest, bool)> {
    outputs.iter().flat_map(OutputRecord::contents).collect()
}

impl<'a> Build<'a> {
    pub(crate) fn needs(&self) -> &Needs<'a> {
        self.known.needs.get_or_init(|| Needs::of(self.graph))
    }

    /// Whether a kept result may stay where it is: others gave it, and not all of it is on this
    /// machine.
    pub(crate) fn may_stay_away(&self, entry: &RecordEntry) -> bool {
        let is_given = matches!(entry.origin, Provenance::Shared { .. });
        let is_far = || {
            let store = self.store?;
            contents_of(&entry.outputs)
                .iter()
                .find(|(digest, executable)| !store.is_near(digest, *executable))?;
            Some(())
        };
        is_given && is_far().is_some()
    }

    /// What is known of a step, and whether it is not here.
    pub(crate) fn away(&self, id: StepId) -> Option<&Arc<StepMemory>> {
        let memory = self.known.makers[id.index()].get()?;
        let is_here = self.known.here[id.index()]
            .get()
            .is_some_and(Option::is_some);
        (memory.is_away && !is_here).then_some(memory)
    }

    /// What is remembered of a step whose outputs are known, and if they had been away, how they
    /// are here.
    pub(crate) fn made_by(&self, id: StepId) -> Option<&Arc<StepMemory>> {
        let here = self.known.here[id.index()].get().and_then(Option::as_ref);
        here.or_else(|| self.known.makers[id.index()].get())
    }

    /// Brings everything here that a step may read. Where something cannot be had any more it is
    /// noted as lost, with what is needed to make it again.
    pub(crate) fn bring_needs(&self, id: StepId) -> bool {
        if !self.has_away.load(Ordering::Relaxed) {
            return true;
        }
        let (mut wanted, mut seen, mut all_here) = (vec![id], HashSet::from([id]), true);
        while let Some(next) = wanted.pop() {
            let away: Vec<StepId> = self
                .needs()
                .of_step(next)
                .into_iter()
                .filter(|need| self.away(*need).is_some())
                .collect();
            let lost = self.bring(&away);
            all_here &= lost.is_empty();
            // What is lost is made again, and so needs what it was made of.
            wanted.extend(lost.into_iter().filter(|step| seen.insert(*step)));
        }
        all_here
    }

    /// Brings the results of steps here. Gives those that cannot be had.
    pub(crate) fn bring(&self, away: &[StepId]) -> Vec<StepId> {
        let contents: Vec<(Digest, bool)> = away
            .iter()
            .filter_map(|id| self.away(*id))
            .flat_map(|memory| contents_of(&memory.outputs))
            .collect();
        if let Some(store) = self.store.filter(|_| !contents.is_empty()) {
            let micros = away
                .iter()
                .filter_map(|id| self.away(*id))
                .map(|memory| memory.micros)
                .sum();
            store.bring(&contents, Some(patience_for(micros)));
        }
        let put = |id: &StepId| self.known.here[id.index()].get_or_init(|| self.put_here(*id));
        away.iter()
            .copied()
            .filter(|id| put(id).is_none())
            .collect()
    }

    /// Brings what is at a path here, where a step made it.
    pub(crate) fn bring_path(&self, path: &str) {
        if !self.may_bring || !self.has_away.load(Ordering::Relaxed) {
            return;
        }
        let file = self.known.files_by_path.get(path).copied();
        let file = file.or_else(|| self.folder_around(path).map(|(folder, _)| folder));
        if let Some(maker) = file
            .and_then(|file| self.graph.file(file).maker)
            .filter(|m| self.away(*m).is_some())
        {
            self.bring(&[maker]);
        }
    }

    fn put_here(&self, id: StepId) -> Option<Arc<StepMemory>> {
        let memory = self.known.makers[id.index()].get()?;
        match self.put_in_place(id, &memory.outputs) {
            Some(signatures) => {
                let memory = Arc::new(StepMemory {
                    signatures,
                    is_away: false,
                    ..(**memory).clone()
                });
                self.note(id, memory.clone());
                Some(memory)
            }
            None => {
                // What is half there is of no use to anyone.
                let _ = self.fresh_folder(id, &[]);
                let because = StepMemory::because_of(&Reason::Lost);
                let lost = StepMemory {
                    outputs: Vec::new(),
                    signatures: Vec::new(),
                    is_away: false,
                    because,
                    ..(**memory).clone()
                };
                self.note(id, Arc::new(lost));
                self.lost.fetch_add(1, Ordering::Relaxed);
                None
            }
        }
    }
}

/// Why a step runs though there is a shared store.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum WhyNotTaken {
    /// Nobody gave a result of the same inputs, words and tools.
    Unknown,
    /// What was found when others ran it is something else here.
    OtherFiles,
    /// Files of the system are others here.
    OtherSystem,
    /// What others made could not be had.
    NotHad,
}

impl Build<'_> {
    /// Why the results of others were not taken for a step that is to run; nothing where none could
    /// be.
    pub(crate) fn not_taken(&self, id: StepId, now: &Examined) -> Option<WhyNotTaken> {
        let store = self.store.filter(|_| self.options.shared_root.is_some())?;
        if self.graph.step(id).is_made_anywhere() {
            return None;
        }
        let record = store.record(&now.first_key).unwrap_or_default();
        let mut given = record.entries;
        given.retain(|entry| matches!(entry.origin, Provenance::Shared { .. }));
        let is_unknown = |entry: &RecordEntry| match &entry.basis {
            Basis::Noted(parts) => self.rests_here(parts) == Err(RestMismatch::NotHere),
            Basis::Unnoted | Basis::Unfit(_) => false,
        };
        Some(match given.iter().any(|entry| self.may_be_used(entry)) {
            true => WhyNotTaken::OtherFiles,
            false if given.is_empty() => WhyNotTaken::Unknown,
            false if given.iter().all(is_unknown) => WhyNotTaken::NotHad,
            false => WhyNotTaken::OtherSystem,
        })
    }
}
