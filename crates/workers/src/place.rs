//! Working for others: a step that came as a job runs in a workspace of the tool's own, under the
//! same rules as here, and what it made goes into the shared cache.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_confine::CancelSwitch;
use nubrik_disk::Below;
use nubrik_engine::{
    Changes, Event, Failure, Listener, Options, Outreach, OutsideSystem, Request, State,
    StepMemory, identity_of, memory_of_others,
};
use nubrik_graph::{FileId, Graph, LoneStep, StepId};
use nubrik_machine::Machine;
use nubrik_shared::{KeyedResult, LayeredStore, SecretKey, SharedStore};
use nubrik_source::{OWN_FOLDER, RESULTS_FOLDER, WsPath};
use nubrik_store::{Basis, LocalStore, Opened, OutputRecord, RecordEntry, Store};

use crate::WorkersTrouble;
use crate::crew::contents_of;
use crate::job::{
    ABOARD, AnswerSheet, FAILED, FailedJob, JOBS, JobSet, JobSheet, JobSource, NotMade,
    RefusedMessage, ToolSheet,
};
use crate::turns::Turns;

/// Where steps are made, in a place.
const MADE: &str = ".nubrik/made";

/// Without so much room on the disk no job is taken, in bytes.
const NEEDED_ROOM: u64 = 256 << 20;

/// A job that was done.
pub struct DoneJob {
    /// The answer, signed.
    pub answer: Vec<u8>,
    /// What the step does.
    pub say: String,
    /// Whether it made its result, or why not.
    pub end: Result<(), NotDone>,
}

/// Why a job has no result.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum NotDone {
    /// This machine is another one than the job is for: nobody's job of its like is done here.
    Unfit(String),
    /// Its commands failed.
    Failed(String),
    /// Another reason.
    Undone(String),
}

impl From<String> for NotDone {
    fn from(why: String) -> NotDone {
        NotDone::Undone(why)
    }
}

impl From<&str> for NotDone {
    fn from(why: &str) -> NotDone {
        NotDone::Undone(why.to_owned())
    }
}

impl NotDone {
    /// For people.
    pub fn why(&self) -> &str {
        match self {
            NotDone::Unfit(why) | NotDone::Failed(why) | NotDone::Undone(why) => why,
        }
    }
}

/// A job that somebody gave who may.
pub struct OpenedJob(JobSheet);

impl OpenedJob {
    /// The number by which it is answered.
    pub fn number(&self) -> u32 {
        self.0.number
    }
}

/// A place in which jobs are done, one after another.
pub struct WorkPlace {
    folder: PathBuf,
    machine: Machine,
    owner: PlaceOwner,
    shared: Arc<SharedStore>,
    /// This machine's own store, with the shared cache behind it.
    store: LayeredStore,
    /// Those that run something take turns.
    turns: Arc<Turns>,
    /// Sources that lie there.
    placed: BTreeMap<String, JobSource>,
    /// Something of an earlier job is left that could not be taken away.
    is_spoilt: bool,
}

/// Who works in a place.
#[derive(Clone)]
pub struct PlaceOwner {
    /// The name of the worker.
    pub name: String,
    /// The key by which its answers are signed.
    pub key: SecretKey,
    /// What else the machine is called than its system and its processor.
    pub labels: Vec<Arc<str>>,
    /// Where tools are looked for, as `PATH` says it.
    pub search_path: std::ffi::OsString,
    /// The store of this machine.
    pub local: Arc<LocalStore>,
    /// Where images are kept.
    pub images: Option<PathBuf>,
}

/// A step that failed: in what way, what it printed, and how long it took, in microseconds.
type Complaint = (Failure, Vec<u8>, u64);

/// Who has given a job, as a place that does it sees them.
pub struct JobClient<'a> {
    /// Whether they still want it.
    pub is_wanted: &'a dyn Fn() -> bool,
    /// Hears that it has its turn.
    pub begins: &'a dyn Fn(),
    /// Hears that its image is being put together, or that this is over.
    pub unpacks: &'a (dyn Fn(bool) + Sync),
}

/// Hears why a step failed, and what it waits for.
struct Complaints<'a> {
    first: parking_lot::Mutex<Option<Complaint>>,
    unpacks: &'a (dyn Fn(bool) + Sync),
}

impl Listener for Complaints<'_> {
    fn hear(&self, event: &Event) {
        match event {
            Event::Done {
                failure: Some(failure),
                printed,
                micros,
                ..
            } => {
                let complaint = || (failure.clone(), printed.clone(), *micros);
                self.first.lock().get_or_insert_with(complaint);
            }
            Event::Unpacks { step: _, is_over } => (self.unpacks)(!is_over),
            _ => {}
        }
    }
}

/// What came of the step of a job.
struct LoneEnd {
    was_stopped: bool,
    complaint: Option<Complaint>,
    /// The first part of its key on this machine.
    first_key: Option<Digest>,
}

/// Tells what tools this machine has.
pub struct ToolTeller {
    /// Says who may ask.
    pub shared: Arc<SharedStore>,
    /// The key by which answers are signed.
    pub key: SecretKey,
    /// The name of the worker.
    pub name: String,
}

impl ToolTeller {
    /// What identifies tools and files of the system that somebody asks for who may give jobs,
    /// signed; nothing for anybody else.
    pub fn tools(&self, machine: &Machine, question: &[u8]) -> Option<Vec<u8>> {
        let asked = ToolSheet::open(question, &self.shared.members(), JOBS).ok()?;
        let found =
            |(name, _): &(Arc<str>, Digest)| Some((name.clone(), identity_of(machine, name)?));
        let tools = asked.tools.iter().filter_map(found).collect();
        Some(
            ToolSheet {
                salt: asked.salt,
                by: self.name.clone(),
                tools,
            }
            .sign(&self.key),
        )
    }
}

/// Why a job made nothing.
enum JobFailure {
    /// Its commands failed.
    Commands(Complaint),
    /// Another reason, for people.
    Undone(String),
}

impl<W: Into<String>> From<W> for JobFailure {
    fn from(why: W) -> JobFailure {
        JobFailure::Undone(why.into())
    }
}

/// The most that an answer says of what a step printed, in bytes.
const TOLD: usize = 256 << 10;

/// How a step failed, as an answer says it.
fn failed_job(failure: &Failure, mut printed: Vec<u8>, micros: u64) -> FailedJob {
    // The end says most of what went wrong.
    printed.drain(..printed.len().saturating_sub(TOLD));
    // What it was refused is said in words.
    let is_refused = |refused: &[nubrik_engine::Refusal]| !refused.is_empty();
    let failure = match failure {
        Failure::Observed { first, refused, .. } if !is_refused(refused) => first,
        other => other,
    };
    let code = if let Failure::Code(code) = failure {
        Some(*code)
    } else {
        None
    };
    let signal = if let Failure::Signal(signal) = failure {
        Some(*signal)
    } else {
        None
    };
    FailedJob {
        code,
        signal,
        printed,
        micros,
    }
}

/// The folders of the steps that make what the image of a step is in.
fn image_folders(graph: &Graph, step: StepId) -> BTreeSet<Arc<str>> {
    let inputs = graph
        .image_of(step)
        .map(|image| graph.step(image).inputs.iter())
        .into_iter()
        .flatten();
    let own: BTreeSet<FileId> = graph.step(step).inputs.iter().copied().collect();
    let makers = inputs
        .filter(|file| !own.contains(file))
        .filter_map(|file| graph.file(*file).maker);
    makers
        .map(|maker| graph.step(maker).folder.shared().clone())
        .collect()
}

impl WorkPlace {
    /// A place in a folder, which is made.
    ///
    /// # Errors
    /// What cannot be made or opened.
    pub fn open(
        folder: &Path,
        cancel: Arc<CancelSwitch>,
        shared: Arc<SharedStore>,
        owner: PlaceOwner,
        turns: Arc<Turns>,
    ) -> Result<WorkPlace, WorkersTrouble> {
        let no_place = |why: String| WorkersTrouble::NoPlace(folder.to_owned(), why);
        let problem = |e: std::io::Error| no_place(e.to_string());
        fs::create_dir_all(folder).map_err(problem)?;
        // What is left of an earlier time is nobody's.
        let below = Below::new(folder).map_err(problem)?;
        for entry in fs::read_dir(folder).map_err(problem)?.flatten() {
            let name = entry.file_name();
            let name = name
                .to_str()
                .ok_or_else(|| no_place(format!("{name:?} is there")))?;
            below.remove(name).map_err(problem)?;
        }
        below.made_folder(OWN_FOLDER).map_err(problem)?;
        let machine =
            Machine::new(folder, owner.search_path.clone(), &[], cancel).map_err(problem)?;
        let mut machine = machine.with_images(owner.images.clone());
        machine.add_labels(&owner.labels);
        nubrik_machine::end_left_over(folder);
        let store = LayeredStore::new(owner.local.clone(), shared.clone(), None);
        let (folder, placed) = (folder.to_owned(), BTreeMap::new());
        Ok(WorkPlace {
            folder,
            machine,
            owner,
            shared,
            store,
            turns,
            placed,
            is_spoilt: false,
        })
    }

    /// Whether no job can be done there until it is opened again: the shared cache failed and is
    /// not asked any more, or something of an earlier job is left.
    pub fn must_be_opened_again(&self) -> bool {
        self.shared.is_off() || self.is_spoilt
    }

    /// The same place, empty, with another switch that stops it, and the store as it is now.
    ///
    /// # Errors
    /// As when it was opened.
    pub fn again(
        self,
        cancel: Arc<CancelSwitch>,
        shared: Arc<SharedStore>,
    ) -> Result<WorkPlace, WorkersTrouble> {
        let WorkPlace {
            folder,
            machine,
            owner,
            shared: _,
            store: _,
            turns,
            placed: _,
            is_spoilt: _,
        } = self;
        drop(machine);
        WorkPlace::open(&folder, cancel, shared, owner, turns)
    }

    /// Reads a job.
    ///
    /// # Errors
    /// Why it is none that counts; who sent it gets no answer.
    pub fn read(&self, job: &[u8]) -> Result<OpenedJob, RefusedMessage> {
        JobSheet::open(job, &self.shared.members(), &*self.shared).map(OpenedJob)
    }

    /// Does a job: gives the answer, signed. Nothing where it was stopped.
    /// It begins when it has its turn, if it is wanted then; `tell` says a failure for people.
    pub fn perform(
        &mut self,
        OpenedJob(mut sheet): OpenedJob,
        client: &JobClient<'_>,
    ) -> Option<DoneJob> {
        let mut failed = None;
        let unfit = self.unfit(&sheet);
        if self.machine.cancel().is_thrown() {
            // What was being looked at is not known.
            return None;
        }
        let end = match unfit {
            Some(why) => Err(NotDone::Unfit(why)),
            None => self.run(&mut sheet, client)?.map_err(|not| match not {
                JobFailure::Undone(why) => NotDone::Undone(why),
                JobFailure::Commands((failure, printed, micros)) => {
                    let why = format!("{FAILED}{failure}");
                    failed = Some(failed_job(&failure, printed, micros));
                    NotDone::Failed(why)
                }
            }),
        };
        let done = end.as_ref().map(|_| ()).map_err(Clone::clone);
        let (end, rows) = match end {
            Ok((result, rows)) => (Ok(result), rows),
            Err(why) => {
                let why = why.why().to_owned();
                (Err(NotMade { why, failed }), Vec::new())
            }
        };
        let say =
            sheet.graph.title(sheet.step).to_string() + "  " + &sheet.graph.step(sheet.step).say;
        let by = self.owner.name.clone();
        let answer = AnswerSheet {
            build: sheet.build,
            number: sheet.number,
            by,
            end,
            rows,
        };
        match answer.sign(&self.owner.key, &*self.shared) {
            Ok(bytes) => Some(DoneJob {
                answer: bytes,
                say,
                end: done,
            }),
            Err(why) => {
                // A short one says at least that, and goes in the message.
                let why = format!("its answer cannot be put into the shared cache: {why}");
                let failed = None;
                let not_made = NotMade {
                    why: why.clone(),
                    failed,
                };
                let answer = AnswerSheet {
                    end: Err(not_made),
                    rows: Vec::new(),
                    ..answer
                };
                let answer = answer.sign(&self.owner.key, &*self.shared).ok()?;
                let end = Err(NotDone::Undone(why));
                Some(DoneJob { answer, say, end })
            }
        }
    }

    /// Why this machine would make something else of a job: its tools are others.
    fn unfit(&self, sheet: &JobSheet) -> Option<String> {
        let machine = &self.machine;
        // The image that it runs in is a part of the job.
        let of_machine = sheet
            .tools
            .iter()
            .filter(|(name, _)| **name != *nubrik_engine::ROOT);
        of_machine
            .into_iter()
            .find_map(|(name, identity)| match identity_of(machine, name) {
                Some(own) if own == *identity => None,
                Some(_) => {
                    let at = machine
                        .tool(name)
                        .map(|tool| format!(" ({})", tool.path.display()));
                    Some(format!(
                        "its `{name}` is another one{}",
                        at.unwrap_or_default()
                    ))
                }
                None => Some(
                    match machine.tool(name).ok().and_then(|tool| tool.unanswered) {
                        None => format!("it has no `{name}`"),
                        Some(question) => {
                            format!("its `{name}` does not say what belongs to it: {question}")
                        }
                    },
                ),
            })
    }

    /// Why no job should be taken now, for people: there is too little room for what steps make.
    pub fn lacks_room(&self) -> Option<String> {
        let free = rustix::fs::statvfs(&self.folder)
            .ok()
            .map(|fs| fs.f_bavail.saturating_mul(fs.f_frsize))?;
        let text = || {
            format!(
                "less than {} MiB are free in {}",
                NEEDED_ROOM >> 20,
                self.folder.display()
            )
        };
        (free < NEEDED_ROOM).then(text)
    }

    /// The result of a step, with where its contents are; nothing where it was stopped.
    fn run(
        &mut self,
        sheet: &mut JobSheet,
        client: &JobClient<'_>,
    ) -> Option<Result<(KeyedResult, Vec<u8>), JobFailure>> {
        self.shared.learn(&sheet.rows, &self.owner.local);
        let sources = match self.sources_of(sheet) {
            Ok((sources, graph)) => {
                sheet.graph = graph;
                sources
            }
            Err(why) => return Some(Err(why)),
        };
        let sheet = &*sheet;
        if let Err(why) = self.place_sources(&sources) {
            return Some(Err(why));
        }
        let made = sheet
            .made
            .iter()
            .map(|(folder, bytes)| Some((folder.clone(), memory_of_others(bytes)?)));
        let Some(made) = made.collect::<Option<Vec<_>>>() else {
            return Some(Err("what it says of its inputs is damaged".into()));
        };
        // What it reads is brought before its turn: another one runs meanwhile.
        // What its image is in comes when the image has to be put together.
        let of_image = image_folders(&sheet.graph, sheet.step);
        let outputs = made.iter().filter(|(folder, _)| !of_image.contains(folder));
        let outputs = outputs.flat_map(|(_, memory)| &memory.outputs);
        self.store.bring(
            &outputs.flat_map(OutputRecord::contents).collect::<Vec<_>>(),
            None,
        );
        let turn = self.turns.take(self.machine.cancel(), client.is_wanted)?;
        (client.begins)();
        let done = self.run_lone(sheet, made, client.unpacks);
        drop(turn);
        self.is_spoilt |= self.machine.below().remove(MADE).is_err();
        let done = match done {
            Ok(done) => done,
            Err(why) => return Some(Err(why)),
        };
        if done.was_stopped {
            return None;
        }
        if let Some(complaint) = done.complaint {
            return Some(Err(JobFailure::Commands(complaint)));
        }
        // What only this machine can run has a key of this machine.
        let first_key = if sheet.is_bound {
            done.first_key
        } else {
            Some(sheet.first_key)
        };
        Some(self.result_of(sheet, first_key))
    }

    /// All sources that a job names, and its graph with all that the step may read.
    fn sources_of(&self, sheet: &JobSheet) -> Result<(Vec<JobSource>, Graph), JobFailure> {
        let mut sources = sheet.sources.clone();
        let mut sets = Vec::new();
        for set in &sheet.sets {
            let list = self
                .store
                .bytes(set)
                .ok_or("a list of its sources cannot be fetched")?;
            let set = JobSet::decode(&list).map_err(|_| "a list of its sources is damaged")?;
            sets.push(set.files().map_err(|why| why.to_string())?);
            self.shared.learn(&set.rows, &self.owner.local);
            sources.extend(set.sources);
        }
        let graph = LoneStep::with_sets(&sheet.graph, sheet.step, &sets);
        Ok((
            sources,
            graph.map_err(|_| "what it may read is none of its files")?,
        ))
    }

    /// Puts sources in place, and takes away those of an earlier job that this one has not.
    fn place_sources(&mut self, sources: &[JobSource]) -> Result<(), JobFailure> {
        let WorkPlace {
            machine,
            store,
            placed,
            ..
        } = self;
        let wanted: BTreeMap<&str, &JobSource> =
            sources.iter().map(|s| (s.path.as_str(), s)).collect();
        let gone: Vec<String> = placed
            .iter()
            .filter(|(path, known)| wanted.get(path.as_str()) != Some(known))
            .map(|(p, _)| p.clone())
            .collect();
        let below = machine.below();
        for path in gone {
            below
                .remove(&path)
                .map_err(|e| format!("cannot take {path} of an earlier job away: {e}"))?;
            placed.remove(&path);
        }
        let new: Vec<&JobSource> = wanted
            .values()
            .filter(|s| !placed.contains_key(&s.path))
            .copied()
            .collect();
        store.bring(
            &new.iter()
                .map(|s| (s.content, s.executable))
                .collect::<Vec<_>>(),
            None,
        );
        for source in new {
            let path = &source.path;
            let problem = |e: std::io::Error| format!("cannot place {path}: {e}");
            let mut content = match store.open(&source.content, source.executable) {
                Ok(Opened::There(content)) => content,
                Ok(Opened::Missing | Opened::Damaged) => {
                    return Err(format!("the source {path} cannot be fetched").into());
                }
                Err(e) => return Err(format!("cannot place {path}: {e}").into()),
            };
            // A source has not the permissions of a content.
            let mode = if source.executable { 0o755 } else { 0o644 };
            let mut file = below.fresh_file(path, mode).map_err(problem)?;
            content.copy_to(&mut file).map_err(problem)?;
            file.set_permissions(fs::Permissions::from_mode(mode))
                .map_err(problem)?;
            placed.insert(source.path.clone(), source.clone());
        }
        Ok(())
    }

    /// Runs the step of a job.
    fn run_lone(
        &self,
        sheet: &JobSheet,
        made: Vec<(Arc<str>, StepMemory)>,
        unpacks: &(dyn Fn(bool) + Sync),
    ) -> Result<LoneEnd, JobFailure> {
        nubrik_confine::raise_open_file_limit();
        let mut state = State::default();
        let away = |(folder, memory)| {
            let is_away = true;
            let memory = StepMemory { is_away, ..memory };
            (folder, Some(Arc::new(memory)))
        };
        state.take(Changes {
            steps: made.into_iter().map(away).collect(),
            ..Changes::default()
        });
        let outputs = sheet.graph.step(sheet.step).outputs.iter();
        let files: Vec<_> = outputs.map(|output| output.file).collect();
        let request = Request {
            settled: &sheet.makers,
            publish: false,
            ..Request::whole(&sheet.graph, &files)
        };
        let options = Options {
            reach: Outreach::NoNetwork,
            notes_basis: true,
            shared_root: Some(self.shared.accepted().root.digest()),
            ..Options::plain()
        };
        let heard = Complaints {
            first: parking_lot::Mutex::new(None),
            unpacks,
        };
        let outcome = nubrik_engine::build(
            request,
            &WsPath::from_normal(RESULTS_FOLDER),
            &state,
            &self.machine,
            Some(&self.store),
            &heard,
            options,
        );
        let complaint = heard.first.into_inner();
        if outcome.lost > 0 {
            return Err("what it needs cannot be fetched there".into());
        }
        let folder = sheet.graph.step(sheet.step).folder.shared();
        let mut steps = outcome.changes.steps.iter();
        let memory = steps
            .find(|(name, _)| name == folder)
            .and_then(|(_, memory)| memory.as_ref());
        let first_key = memory.map(|memory| memory.first_key);
        Ok(LoneEnd {
            was_stopped: outcome.cancelled,
            complaint,
            first_key,
        })
    }

    /// What a job made, as it is kept now, uploaded to the shared cache.
    fn result_of(
        &self,
        sheet: &JobSheet,
        first_key: Option<Digest>,
    ) -> Result<(KeyedResult, Vec<u8>), JobFailure> {
        let record = first_key
            .and_then(|key| self.store.record(&key))
            .unwrap_or_default();
        let step = sheet.graph.step(sheet.step);
        let fits = |entry: &RecordEntry| entry.outputs.len() == step.outputs.len();
        let Some(entry) = record.entries.into_iter().find(fits) else {
            return Err("its tools are others there, or how it is confined".into());
        };
        let parts = match &entry.basis {
            Basis::Noted(parts) => parts.clone(),
            Basis::Unnoted => return Err("what its result rests on is not known there".into()),
            Basis::Unfit(why) => return Err(format!("its result stays there: {why}").into()),
        };
        let mut contents = contents_of(&entry.outputs);
        contents.extend(parts);
        let rows = self.shared.hand_over(&contents, &self.owner.local, ABOARD);
        let rows = rows.map_err(|trouble| trouble.to_string())?;
        let result = KeyedResult {
            folder: step.folder.as_str().to_owned(),
            made_of: Vec::new(),
            entries: vec![entry],
        };
        Ok((result, rows))
    }
}
