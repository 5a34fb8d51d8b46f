//! What is remembered of builds.

use std::collections::HashMap;

use nubrik_bytes::Digest;
use nubrik_engine::Outcome;
use nubrik_lang::AddressPattern;
use nubrik_memory::{BuildRecord, Chronicle, keep_build, kept_builds};

use super::Session;

impl Session {
    /// Has it be kept how steps fail, in these words.
    pub fn name_failures(&mut self, words: fn(&nubrik_engine::Failure) -> String) {
        self.failure_words = words;
    }

    /// Keeps what became of a build in which anything happened.
    pub(super) fn keep_history(
        &self,
        patterns: &[AddressPattern],
        chronicle: Chronicle<'_>,
        outcome: &Outcome,
    ) {
        let summary = &outcome.summary;
        if summary.current == summary.steps {
            return;
        }
        let asked = patterns.iter().filter(|p| !p.path.is_root()).map(|p| p.path.as_str().to_owned());
        let (asked, profile) = (asked.collect(), self.profile.clone());
        let keys: HashMap<&str, Digest> = outcome
            .changes
            .steps
            .iter()
            .filter_map(|(folder, memory)| Some((&**folder, memory.as_ref()?.first_key)))
            .collect();
        let key_of = |folder: &str| keys.get(folder).copied();
        let mut record =
            chronicle.record(&key_of, outcome.changes.builds, asked, profile, summary, outcome.cancelled);
        record.shared = self.shared_use();
        if let Ok(own) = self.own() {
            keep_build(own, &record);
        }
    }

    /// What became of the last builds in which anything happened, the oldest first.
    pub fn history(&self) -> Vec<BuildRecord> {
        self.own().map(kept_builds).unwrap_or_default()
    }
}
