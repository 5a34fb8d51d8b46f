//! Results of a workspace in one file, for machines that have no shared cache between them.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_graph::{Graph, Native, Step};
use nubrik_store::{
    Basis, CacheFileAmount, CacheFileProblem, LocalStore, RecordEntry, store_folder,
};

use super::Session;

/// Why a result stays on this machine. Its text is for people.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum StaysHere {
    /// This machine has no copy of it.
    NotKept,
    /// It came out otherwise when it was made again.
    Varies,
    /// Nothing says what it rests on of the machine: its step ran without `--portable`, and without
    /// a shared cache.
    Unnoted,
    /// What it rests on is not to be had elsewhere: what, for people.
    Unfit(Arc<str>),
}

impl fmt::Display for StaysHere {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            StaysHere::NotKept => "not kept on this machine",
            StaysHere::Varies => "came out otherwise when made again (--verify)",
            StaysHere::Unnoted => {
                "made without notes on the machine (--portable --rerun makes them)"
            }
            StaysHere::Unfit(why) => why,
        })
    }
}

/// What was written to a file of results.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct SavedResults {
    /// What the file holds.
    pub amount: CacheFileAmount,
    /// Results that are not in it, by why.
    pub kept_back: Vec<(StaysHere, usize)>,
}

/// What is fetched has its digest in the definitions: wherever it was fetched, it is the same.
fn is_fetched(step: &Step) -> bool {
    step.commands.is_empty() && matches!(step.native.as_deref(), Some(Native::Fetch { .. }))
}

/// A kept result as other machines can take it; `varies` says whether it came out otherwise when it
/// was made again.
///
/// # Errors
/// Why it stays here.
pub(super) fn for_others(
    entry: Option<RecordEntry>,
    varies: bool,
) -> Result<RecordEntry, StaysHere> {
    let entry = entry.ok_or(StaysHere::NotKept)?;
    match &entry.basis {
        _ if varies => Err(StaysHere::Varies),
        Basis::Noted(_) => Ok(entry),
        Basis::Unfit(why) => Err(StaysHere::Unfit(why.clone())),
        Basis::Unnoted => Err(StaysHere::Unnoted),
    }
}

impl Session {
    /// Writes the results that this workspace remembers of its steps to a file, with their
    /// contents: those that say what they rest on of the machine, and what was fetched. Other
    /// machines take them with [`load_results`]. `graph` is of all targets; steps of other choices
    /// of options that were built here are in the file as well.
    ///
    /// # Errors
    /// When the file cannot be written, or this machine keeps no results.
    pub fn save_results(
        &self,
        graph: &Graph,
        to: &mut File,
    ) -> Result<SavedResults, CacheFileProblem> {
        let unusable = |why: String| CacheFileProblem::Unusable(std::io::Error::other(why));
        let store = self
            .store
            .as_ref()
            .map_err(|why| unusable(why.to_string()))?;
        let unreproducible = self.unreproducible().map_err(CacheFileProblem::Unusable)?;
        let made_anywhere: BTreeMap<&str, bool> = graph
            .steps
            .iter()
            .filter(|step| step.is_made_anywhere())
            .map(|step| (step.folder.as_str(), is_fetched(step)))
            .collect();
        let mut results: Vec<(Digest, RecordEntry)> = Vec::new();
        let mut seen: BTreeSet<Digest> = BTreeSet::new();
        let mut kept_back: BTreeMap<StaysHere, usize> = BTreeMap::new();
        for folder in self.state().steps.names() {
            let memory = self
                .state()
                .steps
                .get(&folder)
                .filter(|memory| !memory.outputs.is_empty());
            let Some(memory) = memory.filter(|memory| seen.insert(memory.first_key)) else {
                continue;
            };
            let mut entry = self.kept_entry(&memory);
            match made_anywhere.get(&*folder) {
                // What nubrik makes itself is made again.
                Some(false) => continue,
                // What was fetched rests on nothing of the machine.
                Some(true) => {
                    entry = entry.map(|entry| RecordEntry {
                        basis: Basis::Noted(Vec::new()),
                        ..entry
                    })
                }
                None => {}
            }
            match for_others(entry, unreproducible.has(&memory, &folder)) {
                Ok(entry) => results.push((memory.first_key, entry)),
                Err(why) => *kept_back.entry(why).or_default() += 1,
            }
        }
        let amount = store.save_results(&results, to)?;
        Ok(SavedResults {
            amount,
            kept_back: kept_back.into_iter().collect(),
        })
    }
}

/// Reads the results of a file into the cache of this machine. They count where the machine is as
/// they need it.
///
/// # Errors
/// When it cannot be read, is damaged, or there is nowhere to keep them.
pub fn load_results(from: &Path) -> Result<CacheFileAmount, CacheFileProblem> {
    let folder = store_folder().map_err(|none| CacheFileProblem::Unusable(none.into()))?;
    let store = LocalStore::open(&folder).map_err(CacheFileProblem::Store)?;
    store.load_results(from)
}
