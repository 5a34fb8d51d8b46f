//! The shared cache of a workspace: whether the person agreed to it, what is taken from it, and
//! what is written.

use std::sync::Arc;
use std::time::Duration;

use nubrik_bytes::Digest;
use nubrik_engine::{HeldAgainst, MadeElsewhere, State};
use nubrik_graph::{Closure, FileId, Graph, StepId};
use nubrik_lang::Evaluation;
use nubrik_memory::SharedRecord;
use nubrik_shared::{
    GivenResult, HandedOver, KeyedResult, LayeredStore, Pruned, PublicKey, Publisher, SharedStore,
    SharedTrouble, Uploads,
};
use nubrik_store::{Basis, Provenance, RecordEntry};

use super::Session;
use super::saving::{StaysHere, for_others};
use nubrik_team::{KEY_VARIABLE, NeededFor, TeamTrouble, is_accepted, key_of, store_of};
use nubrik_workspace::{SharedPlace, SharedSettings};

/// The channel that is written.
const CHANNEL_VARIABLE: &str = "NUBRIK_SHARED_CHANNEL";

/// What a workspace has of a shared cache.
pub enum SharedCache {
    /// It names none.
    None,
    /// It proposes one that the person did not agree to.
    Proposed(Box<SharedSettings>),
    /// It is used.
    Used(Arc<SharedStore>),
}

/// What a build gave to the shared cache.
pub struct GivenAway {
    /// What was written.
    pub published: HandedOver,
    /// Results that stay on this machine, by why.
    pub kept_back: Vec<(StaysHere, usize)>,
}

impl Session {
    /// The shared cache as it is now.
    ///
    /// # Errors
    /// That none is used.
    pub fn new_shared(&self) -> Result<Arc<SharedStore>, TeamTrouble> {
        let settings = self.workspace.settings.shared.clone().filter(is_accepted);
        let settings = settings.ok_or(TeamTrouble::NoSharedCache(NeededFor::OwnResults))?;
        store_of(&settings, settings.channels.clone())
    }

    /// What the workspace has of a shared cache.
    pub fn shared(&self) -> SharedCache {
        match (&self.shared, &self.workspace.settings.shared) {
            (Some(shared), _) => SharedCache::Used(shared.clone()),
            (None, Some(settings)) if !is_accepted(settings) => {
                SharedCache::Proposed(Box::new(settings.clone()))
            }
            (None, _) => SharedCache::None,
        }
    }

    /// Why the shared cache was not of full use in this session, for people; nothing where it was.
    pub fn shared_trouble(&self) -> Option<String> {
        match self.shared() {
            SharedCache::None if self.workspace.settings.shared.is_some() => {
                Some("it is not used without the network".to_owned())
            }
            SharedCache::None => Some("this workspace names no shared cache".to_owned()),
            SharedCache::Proposed(_) => Some("you did not agree to use it".to_owned()),
            SharedCache::Used(store) => {
                // Where all was here already nobody asked it so far.
                store.members();
                self.not_given
                    .get()
                    .cloned()
                    .or_else(|| store.trouble())
                    .map(|trouble| trouble.to_string())
            }
        }
    }

    /// Whether the workspace names a shared cache that is a folder, and so is its mirror if it has
    /// one.
    pub fn shares_a_folder(&self) -> bool {
        self.workspace
            .settings
            .shared
            .as_ref()
            .is_some_and(|settings| settings.places().all(SharedPlace::is_folder))
    }

    /// Lets builds use the shared cache, where the workspace names one that the person agreed to.
    ///
    /// # Errors
    /// Why it cannot be used.
    pub fn use_shared(&mut self) -> Result<(), TeamTrouble> {
        let Some(settings) = self.workspace.settings.shared.clone().filter(is_accepted) else {
            return Ok(());
        };
        let (mut channels, wait) = (settings.channels.clone(), settings.wait);
        let channel = std::env::var(CHANNEL_VARIABLE)
            .ok()
            .filter(|channel| !channel.is_empty());
        if let Some(channel) = channel
            .as_ref()
            .filter(|channel| !nubrik_shared::is_channel(channel))
        {
            return Err(TeamTrouble::Channel(CHANNEL_VARIABLE, channel.clone()));
        }
        self.writer = key_of(KEY_VARIABLE)?.map(|key| {
            let channel = channel.unwrap_or_else(|| channels[0].clone());
            if !channels.contains(&channel) {
                channels.push(channel.clone());
            }
            Publisher::new(key, channel, wait)
        });
        self.shared = Some(store_of(&settings, channels)?);
        Ok(())
    }

    /// The same, also where the store hung a while ago.
    ///
    /// # Errors
    /// As there.
    pub fn ask_shared_anew(&mut self) -> Result<(), TeamTrouble> {
        self.use_shared()?;
        if let Some(shared) = self.shared.take() {
            self.shared = Arc::try_unwrap(shared)
                .ok()
                .map(|shared| Arc::new(shared.asked_anew()));
        }
        Ok(())
    }

    /// The same, and the mirror is left aside: what the shared cache itself has.
    ///
    /// # Errors
    /// As there.
    pub fn ask_shared_itself(&mut self) -> Result<(), TeamTrouble> {
        self.ask_shared_anew()?;
        if let Some(shared) = self.shared.take() {
            self.shared = Arc::try_unwrap(shared)
                .ok()
                .map(|shared| Arc::new(shared.without_mirror()));
        }
        Ok(())
    }

    /// What the shared cache was good for so far in this session; nothing where none is used.
    pub fn shared_use(&self) -> Option<SharedRecord> {
        let store = self.shared.as_ref()?;
        Some(SharedRecord::of(&self.shared_use, store.traffic().moved))
    }

    /// Whether what results rest on is noted, so that others can use them.
    pub fn notes_basis(&self) -> bool {
        self.is_portable || self.gives_results()
    }

    /// Whether results are given to the shared cache.
    pub fn gives_results(&self) -> bool {
        self.writer.is_some()
    }

    /// Has what results rest on noted, though no shared cache takes them.
    pub fn note_what_results_rest_on(&mut self) {
        self.is_portable = true;
    }

    /// What represents the shared cache that is used.
    pub fn shared_root(&self) -> Option<Digest> {
        self.shared
            .as_ref()
            .map(|shared| shared.accepted().root.digest())
    }

    /// Puts the shared cache behind this machine's own.
    pub(super) fn layer(&mut self) {
        self.layered = match (&self.shared, &self.store) {
            (Some(shared), Ok(store)) => {
                let uploads = || Arc::new(Uploads::new(shared.clone(), store.clone()));
                self.uploads = self.writer.is_some().then(uploads);
                Some(LayeredStore::new(
                    store.clone(),
                    shared.clone(),
                    self.uploads.clone(),
                ))
            }
            _ => None,
        };
    }

    /// Holds steps of what was evaluated against what others gave of them, as far as that was
    /// fetched before: nobody is asked.
    /// Steps of which nobody gave anything are left out.
    pub fn held_against_shared(
        &self,
        evaluation: &Evaluation,
    ) -> Vec<(StepId, GivenResult, HeldAgainst)> {
        let (Some(shared), Some(store)) = (&self.shared, self.store()) else {
            return Vec::new();
        };
        let graph = &evaluation.graph;
        let (mut given, mut made): (Vec<GivenResult>, Vec<MadeElsewhere>) =
            (Vec::new(), Vec::new());
        for step in Closure::of(graph, evaluation.requested.iter().copied()).steps {
            for one in shared.given_of(graph.step(step).folder.as_str()) {
                let Some(memory) = nubrik_engine::memory_of_others(&one.result.made_of) else {
                    continue;
                };
                let bases = one
                    .result
                    .entries
                    .iter()
                    .filter_map(|entry| match &entry.basis {
                        Basis::Noted(parts) => Some(parts.clone()),
                        Basis::Unnoted | Basis::Unfit(_) => None,
                    });
                made.push(MadeElsewhere {
                    step,
                    memory,
                    bases: bases.collect(),
                });
                given.push(one);
            }
        }
        let held = nubrik_engine::held_against(graph, &made, self.state(), &self.machine, store);
        let mut nearest: Vec<(StepId, GivenResult, HeldAgainst)> = Vec::new();
        for ((made, given), held) in made.iter().zip(given).zip(held) {
            let rank = |held: &HeldAgainst| (!held.is_usable(), held.differences.len());
            match nearest.last_mut().filter(|(step, ..)| *step == made.step) {
                Some(best) if rank(&held) < rank(&best.2) => *best = (made.step, given, held),
                Some(_) => {}
                None => nearest.push((made.step, given, held)),
            }
        }
        nearest
    }

    /// Lets this session look at what of the shared cache was fetched before.
    ///
    /// # Errors
    /// Why there is none.
    pub fn look_at_shared(&mut self) -> Result<(), TeamTrouble> {
        self.use_shared()?;
        self.writer = None;
        if let Some(shared) = self.shared.take() {
            let kept = Arc::try_unwrap(shared).map(SharedStore::only_what_is_kept);
            self.shared = kept.ok().map(Arc::new);
        }
        self.layer();
        Ok(())
    }

    /// Whether a person wants it to end.
    pub fn is_stopped(&self) -> bool {
        self.machine.cancel().is_thrown()
    }

    /// Leaves out of the channel that this machine writes what no build of it used for so many
    /// days, and removes what nothing led to for so long. `None` where this machine writes none.
    ///
    /// # Errors
    /// Why it cannot be done; what is there stays usable.
    pub fn prune_shared(
        &self,
        days: u64,
        grace: Duration,
    ) -> Result<Option<Pruned>, SharedTrouble> {
        let (Some(writer), Some(shared)) = (&self.writer, &self.shared) else {
            return Ok(None);
        };
        writer.prune(shared, days, grace).map(Some)
    }

    /// Whether a result was made here, or by a worker: others gave the rest.
    fn is_made_for_us(&self, shared: &SharedStore, entry: &RecordEntry) -> bool {
        match &entry.origin {
            Provenance::Here => true,
            // Who gives it would say that it was made here.
            Provenance::Loaded => false,
            Provenance::Shared { writer, .. } => {
                let members = shared.members();
                members.writers_of(nubrik_workers::WORKERS).any(|member| {
                    member.key == PublicKey(*writer)
                        && member.channels.iter().any(|l| l == nubrik_workers::WORKERS)
                })
            }
        }
    }

    /// Gives what was made to the shared cache, where this machine writes there: the results of all
    /// steps behind some files.
    ///
    /// # Errors
    /// Why nothing could be written.
    pub fn give(
        &self,
        graph: &Graph,
        files: &[FileId],
    ) -> Result<Option<GivenAway>, SharedTrouble> {
        let (Some(writer), Some(shared), Some(uploads)) =
            (&self.writer, &self.shared, &self.uploads)
        else {
            return Ok(None);
        };
        let state: &State = self.state();
        let mut results: Vec<(Digest, KeyedResult)> = Vec::new();
        let mut used: Vec<Digest> = Vec::new();
        let unread =
            |e| SharedTrouble::Machine(format!("cannot read which steps came out otherwise: {e}"));
        let unreproducible = self.unreproducible().map_err(unread)?;
        let mut kept_back: std::collections::BTreeMap<StaysHere, usize> =
            std::collections::BTreeMap::new();
        for id in Closure::of(graph, files.iter().copied()).steps {
            let step = graph.step(id);
            // What nubrik makes itself is made again.
            if step.is_made_anywhere() {
                continue;
            }
            let memory = state.steps.get(step.folder.as_str());
            let Some(memory) = memory.filter(|memory| !memory.outputs.is_empty()) else {
                continue;
            };
            used.push(memory.first_key);
            let entry = self.kept_entry(&memory);
            let known = entry.as_ref();
            if known.is_some_and(|entry| !self.is_made_for_us(shared, entry)) {
                continue;
            }
            match for_others(entry, unreproducible.has(&memory, step.folder.as_str())) {
                Ok(entry) => {
                    // Who gives it represents it, whichever worker made it.
                    let origin = Provenance::Here;
                    let result = KeyedResult {
                        folder: step.folder.as_str().to_owned(),
                        made_of: nubrik_engine::memory_for_others(&memory),
                        entries: vec![RecordEntry { origin, ..entry }],
                    };
                    results.push((memory.first_key, result));
                }
                Err(why) => *kept_back.entry(why).or_default() += 1,
            }
        }
        let published = writer.publish(shared, uploads, &results, &used);
        let published =
            published.inspect_err(|trouble| drop(self.not_given.set(trouble.clone())))?;
        Ok(Some(GivenAway {
            published,
            kept_back: kept_back.into_iter().collect(),
        }))
    }
}
