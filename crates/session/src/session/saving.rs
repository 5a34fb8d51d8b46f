//! Results of a workspace in one file, for machines that have no shared cache between them.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_graph::{Graph, Native, Step};
use nubrik_store::{Basis, CacheFileAmount, CacheFileProblem, LocalStore, RecordEntry};

use super::Session;
use crate::folders::store_folder;

/// What was written to a file of results.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct SavedResults {
    /// What the file holds.
    pub amount: CacheFileAmount,
    /// Results that are not in it, by why.
    pub kept_back: Vec<(Arc<str>, usize)>,
}

/// What is fetched has its digest in the definitions: wherever it was fetched, it is the same.
fn is_fetched(step: &Step) -> bool {
    step.commands.is_empty() && matches!(step.native.as_deref(), Some(Native::Fetch { .. }))
}

impl Session {
    /// Writes the results that this workspace remembers of its steps to a file, with their contents: those that say what they rest on
    /// of the machine, and what was fetched. Other machines take them with [`load_results`]. `graph` is of all targets; steps of
    /// other choices of options that were built here are in the file as well.
    ///
    /// # Errors
    /// When the file cannot be written, or this machine keeps no results.
    pub fn save_results(&self, graph: &Graph, to: &mut File) -> Result<SavedResults, CacheFileProblem> {
        let unusable = |why: String| CacheFileProblem::Unusable(std::io::Error::other(why));
        let store = self.store.as_ref().map_err(|why| unusable(why.to_string()))?;
        let unreproducible = self.unreproducible().map_err(CacheFileProblem::Unusable)?;
        let made_anywhere: BTreeMap<&str, bool> = graph
            .steps
            .iter()
            .filter(|step| step.is_made_anywhere())
            .map(|step| (step.folder.as_str(), is_fetched(step)))
            .collect();
        let mut results: Vec<(Digest, RecordEntry)> = Vec::new();
        let mut seen: BTreeSet<Digest> = BTreeSet::new();
        let mut kept_back: BTreeMap<Arc<str>, usize> = BTreeMap::new();
        for folder in self.state().steps.names() {
            let memory = self.state().steps.get(&folder).filter(|memory| !memory.outputs.is_empty());
            let Some(memory) = memory.filter(|memory| seen.insert(memory.first_key)) else { continue };
            let fetched = made_anywhere.get(&*folder).copied();
            let why: Arc<str> = match (self.kept_entry(&memory), fetched) {
                // What nubrik makes itself is made again.
                (_, Some(false)) => continue,
                (None, _) => "their results are not kept on this machine".into(),
                (Some(_), _) if unreproducible.has(&memory, &folder) => {
                    "they came out otherwise when they were made again (--verify)".into()
                }
                (Some(entry), Some(true)) => {
                    let entry = RecordEntry { basis: Basis::Noted(Vec::new()), ..entry };
                    results.push((memory.first_key, entry));
                    continue;
                }
                (Some(entry), None) => match &entry.basis {
                    Basis::Noted(_) => {
                        results.push((memory.first_key, entry));
                        continue;
                    }
                    Basis::Unfit(why) => why.clone(),
                    Basis::Unnoted => "they ran without --portable".into(),
                },
            };
            *kept_back.entry(why).or_default() += 1;
        }
        let amount = store.save_results(&results, to)?;
        Ok(SavedResults { amount, kept_back: kept_back.into_iter().collect() })
    }
}

/// Reads the results of a file into the cache of this machine. They count where the machine is as they need it.
///
/// # Errors
/// When it cannot be read, is damaged, or there is nowhere to keep them.
pub fn load_results(from: &Path) -> Result<CacheFileAmount, CacheFileProblem> {
    let nowhere =
        || CacheFileProblem::Unusable(std::io::Error::other("neither XDG_CACHE_HOME nor HOME is set"));
    let store = LocalStore::open(&store_folder().ok_or_else(nowhere)?).map_err(CacheFileProblem::Store)?;
    store.load_results(from)
}
