//! Other machines at work for this one: steps go to them as jobs, and come back as results.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use nubrik_bytes::Digest;
use nubrik_engine::{Errand, Performer, StepAnswer, memory_of_others};
use nubrik_exchange::Boss;
use nubrik_graph::{SetId, StepId};
use nubrik_shared::{SecretKey, SharedStore};
use nubrik_source::WsPath;
use nubrik_store::{LocalStore, OutputRecord, Provenance, RecordEntry, Store};

use crate::job::{AnswerSheet, JobSheet, JobSource, encode_set};

/// What takes less time than this is done sooner here, in microseconds.
const WORTH_SENDING: u64 = 50_000;

/// For so many free slots so many steps are under way: one that ends finds the next one waiting.
const UNDER_WAY: (usize, usize) = (5, 4);

/// Machines that run steps for a build.
pub struct Crew {
    boss: Boss,
    key: SecretKey,
    shared: Arc<SharedStore>,
    local: Arc<LocalStore>,
    root: PathBuf,
    sources: Mutex<HashMap<WsPath, (Digest, bool)>>,
    sets: Mutex<HashMap<SetId, Digest>>,
    under_way: Mutex<HashSet<StepId>>,
    refused: Mutex<Option<String>>,
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The contents of a step's outputs.
pub(crate) fn contents_of(outputs: &[OutputRecord]) -> Vec<Digest> {
    outputs.iter().flat_map(OutputRecord::contents).map(|(digest, _)| digest).collect()
}

impl Crew {
    pub(super) fn new(
        boss: Boss,
        key: SecretKey,
        (shared, local): (Arc<SharedStore>, Arc<LocalStore>),
        root: PathBuf,
    ) -> Crew {
        let (sources, sets, under_way, refused) = Default::default();
        Crew { boss, key, shared, local, root, sources, sets, under_way, refused }
    }

    /// Who is there.
    pub fn present(&self) -> Vec<nubrik_exchange::Alive> {
        self.boss.present()
    }

    /// Waits until somebody is there, at most so long.
    pub fn wait(&self, within: Duration) {
        let began = Instant::now();
        while self.boss.present().is_empty() && began.elapsed() < within {
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Why somebody did not do a job, the first time that happened.
    pub fn refused(&self) -> Option<String> {
        lock(&self.refused).clone()
    }

    fn note(&self, why: String) {
        lock(&self.refused).get_or_insert(why);
    }

    /// The content of a source, kept for those who fetch it.
    fn source(&self, path: &WsPath) -> Option<(Digest, bool)> {
        if let Some(known) = lock(&self.sources).get(path) {
            return Some(*known);
        }
        let at = self.root.join(path.as_str());
        let executable = fs::metadata(&at).ok()?.permissions().mode() & 0o111 != 0;
        let content = self.local.keep_bytes(&fs::read(&at).ok()?).ok()?;
        lock(&self.sources).insert(path.clone(), (content, executable));
        Some((content, executable))
    }

    fn sources(&self, paths: &[WsPath]) -> Option<Vec<JobSource>> {
        let source = |path: &WsPath| {
            let (content, executable) = self.source(path)?;
            Some(JobSource { path: path.to_string(), content, executable })
        };
        paths.iter().map(source).collect()
    }

    fn hand_over(&self, contents: &[Digest]) -> Option<Vec<u8>> {
        let rows = self.shared.hand_over(contents, &self.local);
        rows.inspect_err(|e| self.note(format!("what it needs cannot be put into the team's store: {e}")))
            .ok()
    }

    /// The content that lists the sources of a set.
    fn set(&self, set: SetId, paths: &[WsPath]) -> Option<Digest> {
        if let Some(known) = lock(&self.sets).get(&set) {
            return Some(*known);
        }
        let sources = self.sources(paths)?;
        let contents: Vec<Digest> = sources.iter().map(|source| source.content).collect();
        let list = encode_set(&sources, &self.hand_over(&contents)?);
        let digest = self.local.keep_bytes(&list).ok()?;
        lock(&self.sets).insert(set, digest);
        Some(digest)
    }

    fn job(&self, errand: &Errand) -> Option<Vec<u8>> {
        let sources = self.sources(&errand.sources)?;
        let sets: Vec<Digest> =
            errand.sets.iter().map(|(set, paths)| self.set(*set, paths)).collect::<Option<_>>()?;
        let mut contents: Vec<Digest> = sources.iter().map(|source| source.content).collect();
        contents.extend(&sets);
        for (_, memory) in &errand.made {
            contents.extend(contents_of(&memory_of_others(memory)?.outputs));
        }
        let rows = self.hand_over(&contents)?;
        let sheet = JobSheet {
            build: self.boss.build(),
            number: errand.step.0,
            first_key: errand.first_key,
            graph: errand.lone.graph.clone(),
            step: errand.lone.step,
            makers: errand.lone.makers.clone(),
            made: errand.made.clone(),
            sources,
            sets,
            rows,
        };
        sheet.sign(&self.key).ok()
    }

    /// The result in an answer, if it counts.
    fn result(&self, bytes: &[u8]) -> Option<(StepId, StepAnswer)> {
        let (worker, sheet) = match AnswerSheet::open(bytes, &self.shared.members()) {
            Ok(read) => read,
            Err(why) => {
                self.note(format!("an answer does not count: {why}"));
                return None;
            }
        };
        let step = StepId(sheet.number);
        if sheet.build != self.boss.build() || !lock(&self.under_way).remove(&step) {
            return None;
        }
        let mut result = match sheet.end {
            Ok(result) => result,
            Err(why) => {
                self.note(why);
                return Some((step, StepAnswer::Not));
            }
        };
        let Some(entry) = result.entries.pop() else { return Some((step, StepAnswer::Not)) };
        self.shared.learn_for_later(&sheet.rows);
        let origin = Provenance::Shared { root: self.shared.accepted().root.digest(), writer: worker.0 };
        let members = self.shared.members();
        let name = members.writer(&worker).map_or_else(String::new, |member| member.name.clone());
        Some((step, StepAnswer::Made(Box::new(RecordEntry { origin, ..entry }), name.into())))
    }
}

impl Performer for Crew {
    fn begin(&self) {
        lock(&self.sources).clear();
        lock(&self.sets).clear();
    }

    fn has_place(&self, forecast: u64) -> bool {
        let slots: usize = self.boss.present().iter().map(|alive| alive.slots).sum();
        forecast >= WORTH_SENDING && lock(&self.under_way).len() < slots * UNDER_WAY.0 / UNDER_WAY.1
    }

    fn send(&self, errand: &Errand) -> bool {
        let Some(job) = self.job(errand) else { return false };
        lock(&self.under_way).insert(errand.step);
        match self.boss.send(job) {
            Ok(()) => true,
            Err(trouble) => {
                lock(&self.under_way).remove(&errand.step);
                self.note(trouble.to_string());
                false
            }
        }
    }

    fn receive(&self, within: Duration) -> Option<(StepId, StepAnswer)> {
        self.result(&self.boss.receive(within)?)
    }

    fn abandon(&self) {
        lock(&self.under_way).clear();
        self.boss.abandon();
    }
}
