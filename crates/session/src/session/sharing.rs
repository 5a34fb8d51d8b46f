//! The shared cache of a workspace: whether the person agreed to it, what is taken from it, and what is written.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use nubrik_bytes::Digest;
use nubrik_engine::{HeldAgainst, MadeElsewhere, State};
use nubrik_graph::{Closure, FileId, Graph, StepId};
use nubrik_lang::Evaluation;
use nubrik_memory::SharedRecord;
use nubrik_shared::{
    Acceptance, GivenResult, HandedOver, KeyList, KeyedResult, LayeredStore, ListProblem, Pruned, PublicKey,
    Publisher, SecretKey, SharedStore, SharedTrouble, Uploads,
};
use nubrik_store::{Basis, Provenance, RecordEntry};
use nubrik_web::{Address, Asker, Credential, Objects, StorageKey, TlsFiles, Trouble};

use super::Session;
use super::saving::{StaysHere, for_others};
use crate::agreeing::{is_accepted, must_be_agreed, secret_of_store};
use crate::team::{NeededFor, TeamTrouble};
use nubrik_workspace::{SharedPlace, SharedSettings};

/// The key of who writes, or the file that it is in.
pub(super) const KEY_VARIABLE: &str = "NUBRIK_SHARED_KEY";

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

/// The folder of a person's for copies of what shared caches have.
pub(super) fn cache_folder() -> Result<PathBuf, TeamTrouble> {
    const VARIABLE: &str = "XDG_CACHE_HOME";
    let absolute = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|p| p.is_absolute());
    let folder = absolute(VARIABLE).or_else(|| absolute("HOME").map(|home| home.join(".cache")));
    Ok(folder.ok_or(TeamTrouble::NoOwnFolder(VARIABLE))?.join("nubrik/shared"))
}

/// What of a store is remembered.
fn state_folder() -> Option<PathBuf> {
    Some(nubrik_web::state_folder()?.join("nubrik/shared"))
}

/// The objects of a store. `nubrik.toml` names it, unless a person named it just now.
fn objects_of(place: &SharedPlace, is_typed: bool) -> Result<Objects, TeamTrouble> {
    if !is_typed {
        must_be_agreed(secret_of_store(place).as_ref())?;
    }
    // As for registries and the server of jobs.
    let of_machine = std::env::var_os("SSL_CERT_FILE").map(PathBuf::from).filter(|path| path.is_file());
    let trusted = place.certificates.clone().into_iter().chain(of_machine).collect();
    let tls = TlsFiles { trusted, client: nubrik_web::client_certificate() };
    if let Some(bucket) = place.at.strip_prefix("s3://") {
        let endpoint = place.endpoint.as_deref().ok_or(TeamTrouble::NoEndpoint)?;
        let address = Address::parse(&format!("{}/{bucket}", endpoint.trim_end_matches('/')))?.0;
        let key = storage_key(place.region()).ok_or(TeamTrouble::NoStorageKey)?;
        return Ok(Objects::new(address, Asker::Signing(key), tls));
    }
    let at = &place.at;
    let address = if at.starts_with('/') {
        Address::of_folder(Path::new(at)).ok_or_else(|| TeamTrouble::NoFolder(at.clone()))?
    } else {
        Address::parse(at)?.0
    };
    let asker = match &place.secret {
        None => Asker::Anybody,
        Some(name) => {
            let secret = std::env::var(name).ok().filter(|secret| !secret.is_empty());
            let secret = secret.ok_or_else(|| TeamTrouble::SecretUnset(name.clone()))?;
            Asker::Known(match secret.split_once(':') {
                Some((user, password)) => Credential::Basic(user.to_owned(), password.to_owned()),
                None => Credential::Bearer(secret),
            })
        }
    };
    Ok(Objects::new(address, asker, tls))
}

/// The key for object storage, from where its ordinary clients look: variables, then the file of profiles.
fn storage_key(region: &str) -> Option<StorageKey> {
    let variable = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let region = region.to_owned();
    if let (Some(id), Some(secret)) = (variable("AWS_ACCESS_KEY_ID"), variable("AWS_SECRET_ACCESS_KEY")) {
        return Some(StorageKey { id, secret, token: variable("AWS_SESSION_TOKEN"), region });
    }
    let home = || Some(PathBuf::from(std::env::var_os("HOME")?).join(".aws/credentials"));
    let file = variable("AWS_SHARED_CREDENTIALS_FILE").map(PathBuf::from).or_else(home)?;
    let profile = variable("AWS_PROFILE").unwrap_or_else(|| "default".to_owned());
    key_of_profile(&fs::read_to_string(file).ok()?, &profile, region)
}

/// The key of a profile in a file of profiles: `[name]`, and lines of names and values.
fn key_of_profile(text: &str, profile: &str, region: String) -> Option<StorageKey> {
    let mut values: std::collections::HashMap<&str, &str> = std::collections::HashMap::new();
    let mut is_here = false;
    for line in text.lines().map(str::trim) {
        if let Some(name) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            is_here = name.trim() == profile;
        } else if let Some((name, value)) = line.split_once('=').filter(|_| is_here) {
            values.insert(name.trim(), value.trim());
        }
    }
    let value = |name: &str| values.get(name).map(|value| (*value).to_owned());
    let (id, secret) = (value("aws_access_key_id")?, value("aws_secret_access_key")?);
    Some(StorageKey { id, secret, token: value("aws_session_token"), region })
}

/// The most bytes that a list of members has.
const LIST_LIMIT: u64 = 4 << 20;

/// The list of members that a store has; nothing where it has none. `nubrik.toml` names the store, unless a person named it just now.
///
/// # Errors
/// Why it cannot be asked, or that the list is not signed by the key.
pub fn members_at(
    place: &SharedPlace,
    is_typed: bool,
    root: &PublicKey,
) -> Result<Option<KeyList>, TeamTrouble> {
    let bytes = objects_of(place, is_typed)?.get(&KeyList::object(), None, LIST_LIMIT);
    let Some(bytes) = bytes? else { return Ok(None) };
    KeyList::open(&bytes, root).map(Some).ok_or(TeamTrouble::WrongRoot)
}

/// Signs a list of members, and puts it in place of what a store has. `nubrik.toml` names the store, unless a person named it just now.
///
/// # Errors
/// Why it cannot be put.
pub fn put_members(
    place: &SharedPlace,
    is_typed: bool,
    list: &KeyList,
    root: &SecretKey,
) -> Result<(), TeamTrouble> {
    Ok(objects_of(place, is_typed)?.put(&KeyList::object(), &list.sign(root))?)
}

/// How often a list of members is changed anew that somebody else wrote over.
const TRIES: u32 = 8;

/// How long it takes at most until somebody who read a list before has written over it: then the one that is there stays.
const SETTLED: Duration = Duration::from_millis(200);

/// Why a list of members was not changed.
#[derive(Debug)]
pub enum NotChanged {
    /// The store cannot be asked, or its list is not signed by the key.
    Trouble(TeamTrouble),
    /// The store has no list.
    NoList,
    /// The list is not to be changed so.
    Problem(ListProblem),
    /// Others changed it each time.
    Contended,
}

impl From<TeamTrouble> for NotChanged {
    fn from(trouble: TeamTrouble) -> NotChanged {
        NotChanged::Trouble(trouble)
    }
}

impl From<Trouble> for NotChanged {
    fn from(trouble: Trouble) -> NotChanged {
        NotChanged::Trouble(trouble.into())
    }
}

/// Changes the list of members that a store has, and signs it again. Where the store is a folder, people who change it do so one after
/// another. Elsewhere it is looked whether somebody wrote over it, and done again, so that no change is lost. Returns the new list, and
/// what `edit` gave.
///
/// # Errors
/// Why the list stays as it is.
pub fn change_members<T>(
    place: &SharedPlace,
    root: &SecretKey,
    edit: impl Fn(&mut KeyList) -> Result<T, ListProblem>,
) -> Result<(KeyList, T), NotChanged> {
    let objects = objects_of(place, false)?;
    let name = KeyList::object();
    for tried in 1..=TRIES {
        let turn = objects.turn_of(&name)?;
        let bytes = objects.get(&name, None, LIST_LIMIT)?.ok_or(NotChanged::NoList)?;
        let mut list = KeyList::open(&bytes, &root.public()).ok_or(TeamTrouble::WrongRoot)?;
        let done = edit(&mut list).map_err(NotChanged::Problem)?;
        list.sequence += 1;
        objects.put(&name, &list.sign(root))?;
        if turn.is_some() {
            return Ok((list, done));
        }
        // Who waits the same time would meet again.
        std::thread::sleep(SETTLED + SETTLED * (std::process::id() % 8) * tried / 8);
        // Somebody may have gone on from this list.
        let now = objects.get(&name, None, LIST_LIMIT)?.and_then(|now| KeyList::open(&now, &root.public()));
        if now.is_some_and(|now| now.includes(&list)) {
            return Ok((list, done));
        }
    }
    Err(NotChanged::Contended)
}

/// The key in a file.
///
/// # Errors
/// Why there is none.
pub fn key_in(file: &Path) -> Result<SecretKey, TeamTrouble> {
    let text =
        fs::read_to_string(file).map_err(|e| TeamTrouble::KeyUnreadable(file.to_owned(), e.to_string()))?;
    SecretKey::parse(&text).ok_or_else(|| TeamTrouble::NoKeyInFile(file.to_owned()))
}

/// The key that a variable holds, or the file that it names; nothing where it is not set.
pub(super) fn key_of(variable: &str) -> Result<Option<SecretKey>, TeamTrouble> {
    let Some(value) = std::env::var(variable).ok().filter(|value| !value.is_empty()) else {
        return Ok(None);
    };
    match SecretKey::parse(&value) {
        Some(key) => Ok(Some(key)),
        None if value.starts_with("ed25519") => Err(TeamTrouble::NoKeyIn(variable.to_owned())),
        None => key_in(Path::new(&value)).map(Some),
    }
}

/// A store that was agreed to, of which these channels are wanted.
fn store_of(settings: &SharedSettings, channels: Vec<String>) -> Result<Arc<SharedStore>, TeamTrouble> {
    let objects = objects_of(&settings.place, false)?;
    let name = settings.root.digest().hex()[..32].to_owned();
    let cache = cache_folder()?;
    let state = state_folder().ok_or(TeamTrouble::NoOwnFolder("XDG_STATE_HOME"))?;
    let accepted =
        Acceptance { root: settings.root, channels, cache: cache.join(&name), seen: state.join(name) };
    let store = SharedStore::new(objects, accepted);
    Ok(Arc::new(match &settings.mirror {
        Some(mirror) => store.with_mirror(objects_of(mirror, false)?),
        None => store,
    }))
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
                self.not_given.get().cloned().or_else(|| store.trouble()).map(|trouble| trouble.to_string())
            }
        }
    }

    /// Whether the workspace names a shared cache that is a folder, and so is its mirror if it has one.
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
        let channel = std::env::var(CHANNEL_VARIABLE).ok().filter(|channel| !channel.is_empty());
        if let Some(channel) = channel.as_ref().filter(|channel| !nubrik_shared::is_channel(channel)) {
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
            self.shared = Arc::try_unwrap(shared).ok().map(|shared| Arc::new(shared.asked_anew()));
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
            self.shared = Arc::try_unwrap(shared).ok().map(|shared| Arc::new(shared.without_mirror()));
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
        self.shared.as_ref().map(|shared| shared.accepted().root.digest())
    }

    /// Puts the shared cache behind this machine's own.
    pub(super) fn layer(&mut self) {
        self.layered = match (&self.shared, &self.store) {
            (Some(shared), Ok(store)) => {
                let uploads = || Arc::new(Uploads::new(shared.clone(), store.clone()));
                self.uploads = self.writer.is_some().then(uploads);
                Some(LayeredStore::new(store.clone(), shared.clone(), self.uploads.clone()))
            }
            _ => None,
        };
    }

    /// Holds steps of what was evaluated against what others gave of them, as far as that was fetched before: nobody is asked.
    /// Steps of which nobody gave anything are left out.
    pub fn held_against_shared(&self, evaluation: &Evaluation) -> Vec<(StepId, GivenResult, HeldAgainst)> {
        let (Some(shared), Some(store)) = (&self.shared, self.store()) else { return Vec::new() };
        let graph = &evaluation.graph;
        let (mut given, mut made): (Vec<GivenResult>, Vec<MadeElsewhere>) = (Vec::new(), Vec::new());
        for step in Closure::of(graph, evaluation.requested.iter().copied()).steps {
            for one in shared.given_of(graph.step(step).folder.as_str()) {
                let Some(memory) = nubrik_engine::memory_of_others(&one.result.made_of) else { continue };
                let bases = one.result.entries.iter().filter_map(|entry| match &entry.basis {
                    Basis::Noted(parts) => Some(parts.clone()),
                    Basis::Unnoted | Basis::Unfit(_) => None,
                });
                made.push(MadeElsewhere { step, memory, bases: bases.collect() });
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

    /// Leaves out of the channel that this machine writes what no build of it used for so many days, and removes what nothing led to for
    /// so long. `None` where this machine writes none.
    ///
    /// # Errors
    /// Why it cannot be done; what is there stays usable.
    pub fn prune_shared(&self, days: u64, grace: Duration) -> Result<Option<Pruned>, SharedTrouble> {
        let (Some(writer), Some(shared)) = (&self.writer, &self.shared) else { return Ok(None) };
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

    /// Gives what was made to the shared cache, where this machine writes there: the results of all steps behind some files.
    ///
    /// # Errors
    /// Why nothing could be written.
    pub fn give(&self, graph: &Graph, files: &[FileId]) -> Result<Option<GivenAway>, SharedTrouble> {
        let (Some(writer), Some(shared), Some(uploads)) = (&self.writer, &self.shared, &self.uploads) else {
            return Ok(None);
        };
        let state: &State = self.state();
        let mut results: Vec<(Digest, KeyedResult)> = Vec::new();
        let mut used: Vec<Digest> = Vec::new();
        let unread = |e| SharedTrouble::Machine(format!("cannot read which steps came out otherwise: {e}"));
        let unreproducible = self.unreproducible().map_err(unread)?;
        let mut kept_back: std::collections::BTreeMap<StaysHere, usize> = std::collections::BTreeMap::new();
        for id in Closure::of(graph, files.iter().copied()).steps {
            let step = graph.step(id);
            // What nubrik makes itself is made again.
            if step.is_made_anywhere() {
                continue;
            }
            let Some(memory) = state.steps.get(step.folder.as_str()).filter(|m| !m.outputs.is_empty()) else {
                continue;
            };
            used.push(memory.first_key);
            let entry = self.kept_entry(&memory);
            if entry.as_ref().is_some_and(|entry| !self.is_made_for_us(shared, entry)) {
                continue;
            }
            match for_others(entry, unreproducible.has(&memory, step.folder.as_str())) {
                Ok(entry) => {
                    let folder = step.folder.as_str().to_owned();
                    let made_of = nubrik_engine::memory_for_others(&memory);
                    // Who gives it represents it, whichever worker made it.
                    let entry = RecordEntry { origin: Provenance::Here, ..entry };
                    results.push((memory.first_key, KeyedResult { folder, made_of, entries: vec![entry] }));
                }
                Err(why) => *kept_back.entry(why).or_default() += 1,
            }
        }
        let published = writer.publish(shared, uploads, &results, &used);
        let published = published.inspect_err(|trouble| drop(self.not_given.set(trouble.clone())))?;
        Ok(Some(GivenAway { published, kept_back: kept_back.into_iter().collect() }))
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn keys_are_found_in_profiles() {
        let text = "[default]\naws_access_key_id = A\n aws_secret_access_key=b\n[ci]\naws_access_key_id=C\naws_secret_access_key=d\naws_session_token = e\n";
        let key = |profile: &str| key_of_profile(text, profile, "north".to_owned());
        assert_eq!((key("default").unwrap().id, key("default").unwrap().token), ("A".to_owned(), None));
        assert_eq!(key("ci").unwrap().token.as_deref(), Some("e"));
        assert!(key("other").is_none());
    }
}
