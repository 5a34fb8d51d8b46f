//! Results that people want and that others gave: brought while steps run, and handed out.

use std::sync::mpsc::Receiver;

use nubrik_graph::StepId;
use nubrik_store::{Provenance, RecordEntry};

use crate::away::WhyNotTaken;
use crate::event::Verdict;
use crate::schedule::Schedule;

/// How many results are brought at once.
const AT_ONCE: usize = 64;

impl Schedule<'_, '_> {
    /// Counts a result that was taken, if others gave it.
    pub(crate) fn count_taken(&self, entry: &RecordEntry) {
        if matches!(entry.origin, Provenance::Shared { .. }) {
            let shared = &mut self.progress.lock().shared;
            shared.taken += 1;
            shared.saved_micros += entry.micros;
        }
    }

    /// Counts why results of others were not taken.
    pub(crate) fn count_not_taken(&self, why: Option<WhyNotTaken>) {
        let shared = &mut self.progress.lock().shared;
        match why {
            Some(WhyNotTaken::Unknown) => shared.unknown += 1,
            Some(WhyNotTaken::OtherFiles) => shared.other_files += 1,
            Some(WhyNotTaken::OtherSystem) => shared.other_system += 1,
            Some(WhyNotTaken::NotHad) => shared.not_had += 1,
            None => {}
        }
    }

    /// Brings results that people want, as they become known, while steps run.
    pub(crate) fn fetch(&self, known: &Receiver<(StepId, Verdict)>) {
        while let Ok(first) = known.recv() {
            let mut wanted = vec![first];
            wanted.extend(known.try_iter().take(AT_ONCE - 1));
            self.fetch_all(wanted);
        }
    }

    fn fetch_all(&self, wanted: Vec<(StepId, Verdict)>) {
        if self.build.outside.is_cancelled() {
            return;
        }
        let steps: Vec<StepId> = wanted.iter().map(|(step, _)| *step).collect();
        let lost = self.build.bring(&steps);
        for (step, verdict) in wanted.into_iter().filter(|(step, _)| !lost.contains(step)) {
            self.publish(step, verdict);
        }
        if !lost.is_empty() {
            self.progress.lock().stop = true;
        }
    }

    /// Publishes the results of a step: at once, or as soon as they are here.
    pub(crate) fn hand_out(&self, step: StepId, verdict: Verdict) {
        if self.build.away(step).is_none() {
            self.publish(step, verdict);
        } else if self.wanted.contains(&step) {
            let sent = self
                .to_fetch
                .lock()
                .as_ref()
                .is_some_and(|sender| sender.send((step, verdict)).is_ok());
            if !sent {
                self.fetch_all(vec![(step, verdict)]);
            }
        }
    }
}
