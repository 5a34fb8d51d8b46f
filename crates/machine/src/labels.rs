//! What a machine is called by, so that steps can ask for it.

use std::sync::Arc;

use nubrik_graph::own_platform;

use crate::machine::Machine;

impl Machine {
    /// Is called by some labels besides its system and its processor.
    pub fn add_labels(&mut self, labels: &[Arc<str>]) {
        self.labels.extend(labels.iter().cloned());
        self.labels.sort();
        self.labels.dedup();
    }

    /// All that it is called by, sorted: its system, its processor, and its labels.
    pub fn labels(&self) -> Vec<Arc<str>> {
        let mut labels: Vec<Arc<str>> = own_platform().map(Arc::from).to_vec();
        labels.extend(self.labels.iter().cloned());
        labels.sort();
        labels.dedup();
        labels
    }

    /// Whether all of some labels are true of it.
    pub(crate) fn is_called(&self, labels: &[Arc<str>]) -> bool {
        labels
            .iter()
            .all(|label| own_platform().contains(&&**label) || self.labels.contains(label))
    }
}
