//! What is remembered of builds.

use std::collections::HashMap;
use std::time::Instant;

use nubrik_bytes::Digest;
use nubrik_engine::Outcome;
use nubrik_lang::AddressPattern;
use nubrik_memory::{BuildRecord, Chronicle, keep_build, kept_builds};

use super::Session;

impl Session {
    /// The record of a build in which anything happened; its time is still open.
    pub(super) fn history_record(
        &self,
        patterns: &[AddressPattern],
        chronicle: Chronicle<'_>,
        outcome: &Outcome,
    ) -> Option<BuildRecord> {
        let summary = &outcome.summary;
        if summary.counts.current == summary.counts.steps {
            return None;
        }
        let asked = patterns
            .iter()
            .filter(|p| !p.path.is_root())
            .map(|p| p.path.as_str().to_owned());
        let (asked, profile) = (asked.collect(), self.profile.clone());
        let keys: HashMap<&str, Digest> = outcome
            .changes
            .steps
            .iter()
            .filter_map(|(folder, memory)| Some((&**folder, memory.as_ref()?.first_key)))
            .collect();
        let key_of = |folder: &str| keys.get(folder).copied();
        let mut record = chronicle.record(
            &key_of,
            outcome.changes.builds,
            asked,
            profile,
            summary,
            outcome.cancelled,
        );
        record.shared = self.shared_use();
        Some(record)
    }

    /// Ends a build: keeps its record with the time that it took, and gives that, in microseconds.
    /// The next one begins now.
    pub(super) fn keep_history(&mut self, record: Option<BuildRecord>) -> u64 {
        let micros = self.lap_micros();
        if let (Some(record), Ok(own)) = (record, self.own()) {
            keep_build(own, &BuildRecord { micros, ..record });
        }
        self.lap = Instant::now();
        micros
    }

    /// How long it is, in microseconds, since the workspace was opened or the build before was
    /// over.
    pub fn lap_micros(&self) -> u64 {
        self.lap.elapsed().as_micros() as u64
    }

    /// What became of the last builds in which anything happened, the oldest first.
    pub fn history(&self) -> Vec<BuildRecord> {
        self.own().map(kept_builds).unwrap_or_default()
    }
}
