//! Other machines at work for this one: steps go to them as jobs, and come back as results.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use nubrik_bytes::Digest;
use nubrik_engine::{
    Errand, FailedElsewhere, Failure, NamedThings, Performer, SetFile, StepAnswer, memory_of_others,
};
use nubrik_graph::{SetId, StepId};
use nubrik_shared::{KeyList, SecretKey, SharedStore};
use nubrik_source::WsPath;
use nubrik_store::{LocalStore, OutputRecord, Provenance, RecordEntry, Store};
use parking_lot::Mutex;

use crate::job::{
    ABOARD, AnswerSheet, FAILED, FailedJob, JobSet, JobSheet, JobSource, NotMade, ToolSheet,
    WORKERS, is_worker_name,
};
use crate::{Alive, Boss, BossNews, MachineKind, WorkersTrouble};

/// Besides those for free slots so many steps are under way, of so many slots: one that ends finds
/// the next one waiting.
const AHEAD: (usize, usize) = (1, 4);

/// By when all have answered who are there, from the first question on.
const ALL_ANSWER: Duration = Duration::from_secs(2);

/// How long those who are asked for their tools are waited for.
const TOOLS: Duration = Duration::from_secs(2);

/// Tools by name, with their identities.
pub type NamedTools = Vec<(Arc<str>, Digest)>;

/// Machines that run steps for a build.
pub struct Crew {
    boss: Boss,
    key: SecretKey,
    shared: Arc<SharedStore>,
    local: Arc<LocalStore>,
    root: PathBuf,
    /// When those who work were asked first.
    began: Instant,
    sources: Mutex<HashMap<WsPath, (Digest, bool)>>,
    sets: Mutex<HashMap<SetId, Digest>>,
    /// Steps that were sent and not answered.
    under_way: Mutex<HashMap<StepId, UnderWay>>,
    /// How many jobs that are, by the kind of machine that they wait for.
    sent: Mutex<HashMap<Arc<str>, usize>>,
    /// What was made of steps that were answered: a second answer must be the same.
    made: Mutex<HashMap<StepId, (Digest, Arc<str>)>>,
    refused: Mutex<Option<String>>,
}

/// A job as the server has it.
#[derive(Clone)]
struct Sending {
    number: u64,
    /// The kind of machine that it waits for.
    kind: Arc<str>,
    /// Whether who began it is gone: nobody does it.
    is_lost: bool,
}

/// A step that was sent.
struct UnderWay {
    /// Its folder: a result of another one is none.
    folder: Arc<str>,
    /// Whether it cannot come back to run here.
    is_bound: bool,
    /// How often it was sent.
    sendings: Vec<Sending>,
    /// Who said last that they began it. Nobody signs that: at worst it is begun twice.
    begun_by: Option<String>,
}

/// What a machine says of how a step failed there.
fn failure(failed: FailedJob, why: &str, machine: Arc<str>) -> StepAnswer {
    let FailedJob {
        code,
        signal,
        printed,
        micros,
    } = failed;
    let there = || Failure::There {
        problem: why.strip_prefix(FAILED).unwrap_or(why).to_owned(),
    };
    let failure = code
        .map(Failure::Code)
        .or(signal.map(Failure::Signal))
        .unwrap_or_else(there);
    StepAnswer::Failed(Box::new(FailedElsewhere {
        failure,
        printed,
        micros,
        machine,
    }))
}

/// Identifies outputs.
fn digest_of(outputs: &[OutputRecord]) -> Digest {
    let contents = contents_of(outputs);
    Digest::of(
        &contents
            .iter()
            .flat_map(|content| content.0)
            .collect::<Vec<u8>>(),
    )
}

/// The contents of a step's outputs.
pub(crate) fn contents_of(outputs: &[OutputRecord]) -> Vec<Digest> {
    outputs
        .iter()
        .flat_map(OutputRecord::contents)
        .map(|(digest, _)| digest)
        .collect()
}

/// Asks all who are there, or only one, for what identifies some things. Gives who answered, by
/// name.
///
/// # Errors
/// When they cannot be asked.
pub fn ask_for_tools(
    (boss, one): (&Boss, Option<&str>),
    key: &SecretKey,
    members: &KeyList,
    names: &[Arc<str>],
) -> Result<Vec<(String, NamedTools)>, WorkersTrouble> {
    let salt = SecretKey::generate()?.public().digest();
    let unknown = Digest::of(b"");
    let tools = names.iter().map(|name| (name.clone(), unknown)).collect();
    let question = ToolSheet {
        salt,
        by: String::new(),
        tools,
    };
    let answers = boss.ask(one, question.sign(key), TOOLS)?;
    let sheets = answers
        .iter()
        .filter_map(|bytes| ToolSheet::open(bytes, members, WORKERS).ok());
    let own = sheets.filter(|sheet| sheet.salt == salt && is_worker_name(&sheet.by));
    Ok(own.map(|sheet| (sheet.by, sheet.tools)).collect())
}

impl Crew {
    /// Those who answer on an exchange, for a workspace with this root.
    pub fn new(
        boss: Boss,
        key: SecretKey,
        (shared, local): (Arc<SharedStore>, Arc<LocalStore>),
        root: PathBuf,
    ) -> Crew {
        let (sources, sets, under_way, made, refused) = Default::default();
        let sent = Mutex::default();
        let began = Instant::now();
        Crew {
            boss,
            key,
            shared,
            local,
            root,
            began,
            sources,
            sets,
            under_way,
            sent,
            made,
            refused,
        }
    }

    /// Who is there.
    pub fn present(&self) -> Vec<Alive> {
        self.boss.present()
    }

    /// Waits until somebody is there, at most so long.
    pub fn wait(&self, within: Duration) {
        self.boss.wait_for(|_| true, within);
    }

    /// Waits until somebody with some labels is there, for a while after the first question:
    /// whoever answers first may be another one.
    fn wait_for(&self, labels: &[Arc<str>]) {
        if !labels.is_empty() {
            let within = ALL_ANSWER.saturating_sub(self.began.elapsed());
            self.boss.wait_for(|alive| alive.has_labels(labels), within);
        }
    }

    /// Why somebody did not do a job, the first time that happened.
    pub fn refused(&self) -> Option<String> {
        let left = || {
            let left = self
                .boss
                .present()
                .into_iter()
                .find_map(|alive| Some((alive.name, alive.away?)));
            left.map(|(name, why)| format!("{name} takes none for a while: {why}"))
        };
        self.refused.lock().clone().or_else(left)
    }

    fn note(&self, why: String) {
        self.refused.lock().get_or_insert(why);
    }

    /// The content of a source, kept for those who fetch it.
    fn source(&self, path: &WsPath) -> Option<(Digest, bool)> {
        if let Some(known) = self.sources.lock().get(path) {
            return Some(*known);
        }
        let at = self.root.join(path.as_str());
        let executable = fs::metadata(&at).ok()?.permissions().mode() & 0o111 != 0;
        let content = self
            .local
            .keep_bytes(&nubrik_disk::read_file(&at, u64::MAX - 1).ok()?)
            .ok()?;
        self.sources
            .lock()
            .insert(path.clone(), (content, executable));
        Some((content, executable))
    }

    fn sources<'p>(&self, paths: impl IntoIterator<Item = &'p WsPath>) -> Option<Vec<JobSource>> {
        let source = |path: &WsPath| {
            let (content, executable) = self.source(path)?;
            Some(JobSource {
                path: path.to_string(),
                content,
                executable,
            })
        };
        paths.into_iter().map(source).collect()
    }

    fn hand_over(&self, contents: &[Digest], aboard: usize) -> Option<Vec<u8>> {
        let rows = self.shared.hand_over(contents, &self.local, aboard);
        rows.inspect_err(|e| {
            self.note(format!(
                "what it needs cannot be put into the shared cache: {e}"
            ))
        })
        .ok()
    }

    /// The content that lists the files of a set.
    fn set(&self, set: SetId, files: &[SetFile]) -> Option<Digest> {
        if let Some(known) = self.sets.lock().get(&set) {
            return Some(*known);
        }
        let (made, sources): (Vec<&SetFile>, Vec<&SetFile>) =
            files.iter().partition(|file| file.is_made);
        let sources = self.sources(sources.iter().map(|file| &file.path))?;
        let contents: Vec<Digest> = sources.iter().map(|source| source.content).collect();
        // Many jobs want them: they are put once.
        let rows = self.hand_over(&contents, 0)?;
        let made = made
            .iter()
            .map(|file| (file.path.to_string(), file.folder))
            .collect();
        let digest = self
            .local
            .keep_bytes(
                &JobSet {
                    sources,
                    made,
                    rows,
                }
                .encode(),
            )
            .ok()?;
        self.sets.lock().insert(set, digest);
        Some(digest)
    }

    fn job(&self, errand: &Errand) -> Option<Vec<u8>> {
        let sources = self.sources(&errand.sources)?;
        let sets: Vec<Digest> = errand
            .sets
            .iter()
            .map(|(set, files)| self.set(*set, files))
            .collect::<Option<_>>()?;
        let mut contents: Vec<Digest> = sources.iter().map(|source| source.content).collect();
        contents.extend(&sets);
        for (_, memory) in &errand.made {
            contents.extend(contents_of(&memory_of_others(memory)?.outputs));
        }
        let rows = self.hand_over(&contents, ABOARD)?;
        let sheet = JobSheet {
            build: self.boss.build(),
            number: errand.step.0,
            first_key: errand.first_key,
            is_bound: errand.is_bound,
            tools: errand.tools.clone(),
            graph: errand.lone.graph.clone(),
            step: errand.lone.step,
            makers: errand.lone.makers.clone(),
            made: errand.made.clone(),
            sources,
            sets,
            rows,
        };
        sheet
            .sign(&self.key, &*self.shared)
            .inspect_err(|e| self.note(format!("a job cannot be put into the shared cache: {e}")))
            .ok()
    }

    /// The result in an answer, if it counts.
    fn result(&self, bytes: &[u8]) -> Option<(StepId, StepAnswer)> {
        let (worker, sheet) = match AnswerSheet::open(bytes, &self.shared.members(), &*self.shared)
        {
            Ok(read) => read,
            Err(why) => {
                self.note(format!("an answer does not count: {why}"));
                return None;
            }
        };
        let step = StepId(sheet.number);
        if sheet.build != self.boss.build() {
            return None;
        }
        let members = self.shared.members();
        let machine: Arc<str> = match is_worker_name(&sheet.by) {
            true => sheet.by.as_str().into(),
            false => members
                .writer(&worker)
                .map_or("", |member| &member.name)
                .into(),
        };
        let Some(UnderWay {
            folder,
            is_bound,
            sendings,
            begun_by: _,
        }) = self.no_longer(step)
        else {
            self.compare_with_first(step, &sheet, &machine);
            return None;
        };
        if sendings.len() > 1 {
            // The first end counts: nobody waits for the other one.
            self.call_off(step, &sendings);
        }
        let mut result = match sheet.end {
            Ok(result) if *result.folder != *folder => {
                let why = format!("{machine} answered with the result of another step");
                self.note(why.clone());
                return Some((step, StepAnswer::Not(why.into())));
            }
            Ok(result) => result,
            Err(not_made) => {
                let answer = self.answer_of_failure(not_made, is_bound, machine);
                return Some((step, answer));
            }
        };
        let Some(entry) = result.entries.pop() else {
            let why = format!("{machine} answered with nothing");
            return Some((step, StepAnswer::Not(why.into())));
        };
        self.shared.learn_for_later(&sheet.rows, &self.local);
        let origin = Provenance::Shared {
            root: self.shared.accepted().root.digest(),
            writer: worker.0,
        };
        let made = (digest_of(&entry.outputs), machine.clone());
        self.made.lock().insert(step, made);
        let entry = Box::new(RecordEntry { origin, ..entry });
        Some((step, StepAnswer::Made(entry, machine)))
    }

    /// What it means that a worker made nothing. `is_bound` says whether only others can run the step:
    /// what fails where alone it can run did not come back.
    fn answer_of_failure(
        &self,
        not_made: NotMade,
        is_bound: bool,
        machine: Arc<str>,
    ) -> StepAnswer {
        let NotMade { why, failed } = not_made;
        if !is_bound || failed.is_none() {
            self.note(why.clone());
        }
        match failed {
            Some(failed) => failure(failed, &why, machine),
            None => StepAnswer::Not(why.into()),
        }
    }

    /// Notes where a step that was answered already was answered otherwise.
    fn compare_with_first(&self, step: StepId, sheet: &AnswerSheet, machine: &str) {
        if let (Ok(result), Some((made, before))) = (&sheet.end, self.made.lock().get(&step)) {
            let mut entries = result.entries.iter();
            if !entries.all(|entry| digest_of(&entry.outputs) == *made) {
                self.note(format!(
                "{before} and {machine} made different things of one step, of which the first counts; nubrik build --verify \
                shows what is not the same each time"
            ));
            }
        }
    }

    /// One of the steps that nobody does any more, if nobody is there who could.
    fn forsaken(&self) -> Option<StepId> {
        let under_way = self.under_way.lock();
        if under_way.is_empty() {
            return None;
        }
        let present = self.boss.present();
        let there = present
            .iter()
            .filter(|alive| alive.open_slots() + alive.busy > 0);
        let there: HashSet<String> = there.map(Alive::kind).collect();
        let is_forsaken =
            |sent: &UnderWay| !sent.sendings.iter().any(|one| there.contains(&*one.kind));
        // What is just being sent has no number yet.
        let mut left = under_way
            .iter()
            .filter(|(_, sent)| !sent.sendings.is_empty() && is_forsaken(sent));
        let step = left.next().map(|(step, _)| *step)?;
        drop(under_way);
        self.no_longer(step).map(|_| step)
    }

    /// One of the steps that somebody began who is gone since, and who that was.
    fn left_behind(&self) -> Option<(StepId, String)> {
        let mut under_way = self.under_way.lock();
        if !under_way.values().any(|sent| sent.begun_by.is_some()) {
            return None;
        }
        let there: HashSet<String> = self
            .boss
            .present()
            .into_iter()
            .map(|alive| alive.name)
            .collect();
        let is_gone = |sent: &UnderWay| {
            sent.begun_by
                .as_ref()
                .is_some_and(|name| !there.contains(name))
        };
        let (step, sent) = under_way.iter_mut().find(|(_, sent)| is_gone(sent))?;
        let (step, name) = (*step, sent.begun_by.take()?);
        // The server would give the first one out once more when its lease ends.
        let lost: Vec<Sending> = sent
            .sendings
            .iter()
            .filter(|one| !one.is_lost)
            .cloned()
            .collect();
        sent.sendings.iter_mut().for_each(|one| one.is_lost = true);
        drop(under_way);
        self.no_more_sent(&lost);
        self.boss
            .forget(&lost.iter().map(|one| one.number).collect::<Vec<_>>());
        Some((step, name))
    }

    /// The kind of machine with the most room for a step, and how many more it would take.
    fn roomiest(&self, machine: &[Arc<str>], ahead: bool) -> Option<(String, isize)> {
        let kinds = self.boss.kinds();
        let sent = self.sent.lock();
        let room = |kind: &MachineKind| {
            let name = kind.name();
            let sent = sent.get(&*name).copied().unwrap_or(0) as isize;
            // On each machine one more than it does at once is under way at least.
            let ahead = if ahead {
                (kind.slots * AHEAD.0 / AHEAD.1).max(kind.machines)
            } else {
                0
            };
            ((kind.slots + ahead) as isize - sent, name)
        };
        let fitting = kinds
            .iter()
            .filter(|kind| kind.has_labels(machine))
            .map(room);
        fitting
            .max_by_key(|(room, _)| *room)
            .map(|(room, name)| (name, room))
    }

    /// Stops whoever has a step that was sent under some numbers.
    fn call_off(&self, step: StepId, sendings: &[Sending]) {
        let numbers: Vec<u64> = sendings.iter().map(|one| one.number).collect();
        self.boss.withdraw(step.0, &numbers);
    }

    /// Takes a step from those that are under way.
    fn no_longer(&self, step: StepId) -> Option<UnderWay> {
        let gone = self.under_way.lock().remove(&step)?;
        self.no_more_sent(&gone.sendings);
        Some(gone)
    }

    /// Counts jobs no more that somebody might do.
    fn no_more_sent(&self, sendings: &[Sending]) {
        let mut sent = self.sent.lock();
        for one in sendings.iter().filter(|one| !one.is_lost) {
            sent.entry(one.kind.clone())
                .and_modify(|count| *count = count.saturating_sub(1));
        }
    }
}

impl Performer for Crew {
    fn begin(&self) {
        self.sources.lock().clear();
        self.sets.lock().clear();
        self.made.lock().clear();
        // Steps have the same numbers in each build: no answer and no stop of an earlier one
        // counts.
        self.boss.next_build();
    }

    fn has_place(&self, machine: &[Arc<str>], ahead: bool) -> bool {
        self.roomiest(machine, ahead)
            .is_some_and(|(_, room)| room > 0)
    }

    fn ask(&self, machine: &[Arc<str>], names: &[Arc<str>]) -> Result<NamedThings, Arc<str>> {
        self.wait_for(machine);
        let present = self.boss.present();
        // The same one each time, as long as it is there.
        let Some(one) = present
            .iter()
            .find(|alive| alive.open_slots() > 0 && alive.has_labels(machine))
        else {
            let away = present.iter().filter(|alive| alive.has_labels(machine));
            let mut away = away.filter_map(|alive| {
                Some(format!(
                    "{} takes none now: {}",
                    alive.name,
                    alive.away.as_ref()?
                ))
            });
            let all: Vec<String> = present
                .iter()
                .map(|a| format!("{} ({})", a.name, a.labels.join(" ")))
                .collect();
            let all = if all.is_empty() {
                "nobody".to_owned()
            } else {
                all.join(", ")
            };
            return Err(away
                .next()
                .unwrap_or_else(|| format!("workers in this pool: {all}"))
                .into());
        };
        if names.is_empty() {
            return Ok(Vec::new());
        }
        let asked = (&self.boss, Some(&*one.name));
        let answers = ask_for_tools(asked, &self.key, &self.shared.members(), names);
        let answers = answers.map_err(|trouble| Arc::from(trouble.to_string()))?;
        let Some((_, things)) = answers.into_iter().find(|(by, _)| *by == one.name) else {
            return Err(format!("{} did not say what tools it has", one.name).into());
        };
        let told: HashMap<Arc<str>, Digest> = things.into_iter().collect();
        Ok(names
            .iter()
            .map(|name| (name.clone(), told.get(name).copied()))
            .collect())
    }

    fn send(&self, errand: &Errand) -> bool {
        let Some((kind, _)) = self.roomiest(&errand.machine, true) else {
            self.note("no worker is left that could run it".to_owned());
            return false;
        };
        let kind: Arc<str> = kind.into();
        let Some(job) = self.job(errand) else {
            return false;
        };
        // Before it is sent: the answer may be there at once.
        let folder = errand
            .lone
            .graph
            .step(errand.lone.step)
            .folder
            .shared()
            .clone();
        let fresh = || UnderWay {
            folder,
            is_bound: errand.is_bound,
            sendings: Vec::new(),
            begun_by: None,
        };
        self.under_way
            .lock()
            .entry(errand.step)
            .or_insert_with(fresh);
        match self.boss.send(&kind, job) {
            Ok(number) => {
                if let Some(sent) = self.under_way.lock().get_mut(&errand.step) {
                    sent.sendings.push(Sending {
                        number,
                        kind: kind.clone(),
                        is_lost: false,
                    });
                    *self.sent.lock().entry(kind).or_default() += 1;
                }
                true
            }
            Err(trouble) => {
                let mut under_way = self.under_way.lock();
                if under_way
                    .get(&errand.step)
                    .is_some_and(|sent| sent.sendings.is_empty())
                {
                    under_way.remove(&errand.step);
                }
                drop(under_way);
                self.note(trouble.to_string());
                false
            }
        }
    }

    fn receive(&self, within: Duration) -> Option<(StepId, StepAnswer)> {
        match self.boss.receive(within) {
            Some(BossNews::Answer(bytes)) => self.result(&bytes),
            Some(BossNews::Begun {
                number,
                name,
                unpacks,
            }) => {
                let mut under_way = self.under_way.lock();
                let sent = under_way
                    .get_mut(&StepId(number))
                    .filter(|_| is_worker_name(&name))?;
                // Who is not known to be there cannot be missed.
                sent.begun_by = self.boss.is_present(&name).then(|| name.clone());
                Some((
                    StepId(number),
                    StepAnswer::Begun {
                        machine: name.into(),
                        unpacks,
                    },
                ))
            }
            Some(BossNews::Undone(number)) => {
                let under_way = self.under_way.lock();
                let step = under_way
                    .iter()
                    .find(|(_, sent)| sent.sendings.iter().any(|one| one.number == number))
                    .map(|(step, _)| *step)?;
                drop(under_way);
                self.no_longer(step)?;
                let why = "those who began it did not end it, one after another";
                self.note(why.to_owned());
                Some((step, StepAnswer::Not(why.into())))
            }
            None => {
                if let Some((step, name)) = self.left_behind() {
                    self.note(format!("{name} is gone; what it had begun is begun again"));
                    return Some((step, StepAnswer::Gone(name.into())));
                }
                let gone = || StepAnswer::Not("no worker is left that could run it".into());
                self.forsaken().map(|step| (step, gone()))
            }
        }
    }

    fn withdraw(&self, step: StepId) {
        if let Some(UnderWay { sendings, .. }) = self.no_longer(step) {
            self.call_off(step, &sendings);
        }
    }

    fn abandon(&self) {
        self.under_way.lock().clear();
        self.sent.lock().clear();
        self.boss.abandon();
    }
}
