//! A build: the steps that make some files, in an order that makes the last one end early.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, OnceLock};

use nubrik_bytes::Digest;
use nubrik_graph::{FileId, Graph, Needs, Place, StepId, ToolId};
use nubrik_source::FilePath;
use nubrik_store::Store;
use parking_lot::Mutex;

use crate::candidates::Candidates;
use crate::event::{Listener, SharedUse, Summary};
use crate::files::FileTable;
use crate::mismatch::RestMismatch;
use crate::outside::{FoundTool, OpenRoot, Outside, ToolProblem, WorkProblem};
use crate::performer::{Performer, SetFile};
use crate::state::{ChangeList, Changes, State, StepMemory};
use crate::words::Asked;

/// What a step is taken to cost when it never ran, in microseconds: this, and more for each byte of
/// the sources that it certainly reads. Only the order among such steps follows from it.
const UNKNOWN_COST: f64 = 50_000.0;
const UNKNOWN_COST_OF_BYTE: f64 = 10.0;

/// How a build is to go.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// How many steps run at once.
    pub jobs: usize,
    /// How much memory there is for steps that say how much they may take, in bytes.
    pub memory: u64,
    /// Whether to go on with what does not depend on a failure.
    pub keep_going: bool,
    /// How far steps may reach. What is current or kept already is taken all the same.
    pub reach: Outreach,
    /// Whether all that runs is recorded, and what results rest on of the machine is noted, for
    /// other machines.
    pub notes_basis: bool,
    /// The key of the shared store whose results may be used; without one, only what this machine
    /// made.
    pub shared_root: Option<Digest>,
    /// Whether results that others gave may stay where they are until something here needs them.
    pub stay_away: bool,
}

impl Options {
    /// One step at a time and as far as they say, until one fails; for this machine, and by what
    /// was made on it.
    pub const fn plain() -> Options {
        Options {
            jobs: 1,
            memory: u64::MAX,
            keep_going: false,
            reach: Outreach::Everything,
            notes_basis: false,
            shared_root: None,
            stay_away: false,
        }
    }
}

/// How far the steps of a build may reach.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Outreach {
    /// As far as they say.
    Everything,
    /// Not into the network: those that need it fail.
    NoNetwork,
    /// Neither there nor to services, which may have the network where the machine offers no other:
    /// for commands that only ask.
    Nothing,
}

/// What is to be built.
#[derive(Clone, Copy)]
pub struct Request<'a> {
    /// Everything that it takes, or of a larger graph the steps that may have changed and those
    /// they need.
    pub graph: &'a Graph,
    /// The files that are asked for.
    pub files: &'a [FileId],
    /// Steps that are known to be current: they are not looked at.
    pub settled: &'a [StepId],
    /// The target that makes a file which is not in this graph.
    pub maker_elsewhere: &'a (dyn Fn(&str) -> Option<Arc<str>> + Sync),
    /// Whether the files are results that people want to find, or only needed for something else.
    pub publish: bool,
    /// Steps that run though their results are there.
    pub again: &'a [StepId],
    /// Other machines that run steps.
    pub performer: Option<&'a dyn Performer>,
    /// Where the first of some words is written in what people edited since a time, in nanoseconds
    /// since 1970: `file:line`.
    pub edited: &'a EditedAt<'a>,
}

/// Finds where people edited a word, by candidates and the time since when.
pub type EditedAt<'a> = dyn Fn(&[String], i64) -> Option<Arc<str>> + Sync + 'a;

impl<'a> Request<'a> {
    /// A request in a graph that has everything.
    pub fn whole(graph: &'a Graph, files: &'a [FileId]) -> Request<'a> {
        Request {
            graph,
            files,
            settled: &[],
            maker_elsewhere: &|_| None,
            publish: true,
            again: &[],
            performer: None,
            edited: &|_, _| None,
        }
    }
}

/// One build of one graph.
pub struct Build<'a> {
    pub(crate) graph: &'a Graph,
    pub(crate) outside: &'a dyn Outside,
    pub(crate) store: Option<&'a dyn Store>,
    pub(crate) listener: &'a dyn Listener,
    pub(crate) before: &'a State,
    pub(crate) table: FileTable<'a>,
    pub(crate) number: u64,
    pub(crate) known: Findings<'a>,
    pub(crate) store_reported: AtomicBool,
    /// Whether outputs of any step are known and not here.
    pub(crate) has_away: AtomicBool,
    /// Of how many steps the outputs were away and cannot be had any more.
    pub(crate) lost: std::sync::atomic::AtomicUsize,
    /// How many steps other machines ran.
    pub(crate) sent: std::sync::atomic::AtomicUsize,
    /// Whether results that are away may be brought: whoever only looks leaves all as it is.
    pub(crate) may_bring: bool,
    pub(crate) after: Mutex<ChangeList<Arc<StepMemory>>>,
    pub(crate) maker_elsewhere: &'a (dyn Fn(&str) -> Option<Arc<str>> + Sync),
    pub(crate) again: HashSet<StepId>,
    edited: &'a EditedAt<'a>,
    pub(crate) performer: Option<&'a dyn Performer>,
    pub(crate) options: Options,
    /// What other machines said of themselves.
    pub(crate) told: crate::performer::ToldThings,
    /// Labels of machines that could not be asked, each once.
    pub(crate) not_asked: Mutex<HashSet<Vec<Arc<str>>>>,
    /// Definitions of which a step was recorded: where the target is defined, and the step.
    pub(crate) watched: Mutex<HashSet<(Place, Place)>>,
}

/// Files that have a name, by that.
pub(crate) type FilesByName = HashMap<Box<str>, Arc<[FilePath]>>;

/// What is at a path of the system.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum OnSystem {
    Nothing,
    Folder,
    File,
}

/// What was found out in this run, each thing once.
pub(crate) struct Findings<'a> {
    /// Contents of outputs known so far, by number of file.
    pub made: Vec<OnceLock<Digest>>,
    /// What is known of steps whose outputs are known, by number of step.
    pub makers: Vec<OnceLock<Arc<StepMemory>>>,
    /// Of steps whose outputs were away when they became known: how they are here, or nothing where
    /// they cannot be had.
    pub here: Vec<OnceLock<Option<Arc<StepMemory>>>>,
    /// Which steps need which.
    pub needs: OnceLock<Needs<'a>>,
    pub files_by_path: HashMap<&'a str, FileId>,
    /// What sets of files are in this run, by the sets' numbers.
    pub candidates: Vec<OnceLock<Candidates>>,
    /// What of them goes to other machines, where it can.
    pub sent_sets: Vec<OnceLock<Option<Arc<[SetFile]>>>>,
    /// What files ask about.
    pub asked: Mutex<HashMap<FilePath, Arc<[Asked]>>>,
    /// What is at paths of the system.
    pub on_system: Mutex<HashMap<FilePath, OnSystem>>,
    /// The files of some names in folders of the system that are searched one after another, by
    /// these folders.
    /// What the metadata of folders with libraries says, by the folders.
    pub library_states: Mutex<HashMap<Vec<Arc<str>>, nubrik_bytes::Digest>>,
    pub system_headers: Mutex<HashMap<Vec<Arc<str>>, FilesByName>>,
    /// Tools, by their numbers.
    pub tools: Vec<OnceLock<Result<FoundTool, ToolProblem>>>,
    /// Roots of images that steps run in, by their statements: the first step that needs one opens
    /// it, others wait for that.
    pub roots: Mutex<HashMap<FileId, Arc<OpenedRoot>>>,
    /// Of parts of what results from elsewhere rest on: the first path that is another one here.
    pub basis: Mutex<HashMap<Digest, Option<RestMismatch>>>,
}

/// A root of an image, or why it cannot be had.
pub(crate) type OpenedRoot = OnceLock<Result<Arc<OpenRoot>, WorkProblem>>;

/// The result of a build.
pub struct Outcome {
    /// Counts and the longest chain.
    pub summary: Summary,
    /// What a shared store was good for.
    pub shared: SharedUse,
    /// What is to be remembered.
    pub changes: Changes,
    /// Whether it was stopped.
    pub cancelled: bool,
    /// How many results were known and not here, and cannot be had any more: what needs them was
    /// not begun, and another build makes them again.
    pub lost: usize,
    /// How many steps other machines ran.
    pub sent: usize,
    /// Failures that lie in the machine: a tool that is missing.
    pub machine_lacks: bool,
    /// Sources and system files that were looked at, with what was found.
    pub looked_at: Vec<(FilePath, Option<crate::state::FileEntry>)>,
}

impl<'a> Findings<'a> {
    fn nothing(graph: &'a Graph) -> Findings<'a> {
        let by_path =
            |(i, file): (usize, &'a nubrik_graph::FileNode)| (file.path.as_str(), FileId(i as u32));
        Findings {
            made: graph.files.iter().map(|_| OnceLock::new()).collect(),
            makers: graph.steps.iter().map(|_| OnceLock::new()).collect(),
            here: graph.steps.iter().map(|_| OnceLock::new()).collect(),
            needs: OnceLock::new(),
            files_by_path: graph.files.iter().enumerate().map(by_path).collect(),
            candidates: graph.sets.iter().map(|_| OnceLock::new()).collect(),
            sent_sets: graph.sets.iter().map(|_| OnceLock::new()).collect(),
            asked: Mutex::default(),
            on_system: Mutex::default(),
            system_headers: Mutex::default(),
            library_states: Mutex::default(),
            tools: graph.tools.iter().map(|_| OnceLock::new()).collect(),
            roots: Mutex::default(),
            basis: Mutex::default(),
        }
    }
}

impl Outcome {
    /// Whether all that was asked for is there now.
    pub fn is_complete(&self) -> bool {
        let done = &self.summary;
        done.counts.is_well() && done.unpublished == 0 && !self.cancelled && self.lost == 0
    }
}

impl<'a> Build<'a> {
    pub(crate) fn new(
        request: Request<'a>,
        before: &'a State,
        outside: &'a dyn Outside,
        store: Option<&'a dyn Store>,
        listener: &'a dyn Listener,
        options: Options,
    ) -> Self {
        let graph = request.graph;
        let build = Build {
            graph,
            outside,
            store,
            listener,
            before,
            table: FileTable::new(&before.files),
            number: before.builds + 1,
            known: Findings::nothing(graph),
            store_reported: AtomicBool::new(false),
            has_away: AtomicBool::new(false),
            lost: Default::default(),
            may_bring: false,
            after: Mutex::default(),
            maker_elsewhere: request.maker_elsewhere,
            again: request.again.iter().copied().collect(),
            edited: request.edited,
            performer: request.performer,
            sent: Default::default(),
            options,
            told: Mutex::default(),
            not_asked: Mutex::default(),
            watched: Mutex::default(),
        };
        for step in request.settled {
            if let Some(memory) = before.steps.get(graph.step(*step).folder.as_str()) {
                build.know_outputs(*step, &memory);
            }
        }
        build
    }

    pub(crate) fn tool(&self, id: ToolId) -> Result<FoundTool, ToolProblem> {
        let find = || {
            let name = &self.graph.tools[id.index()];
            let tool = self.outside.tool(name)?;
            match tool.unanswered {
                None => Ok(tool),
                // Its identity would be that of another tool.
                unanswered => Err(ToolProblem {
                    name: name.clone(),
                    searched: Vec::new(),
                    mend: None,
                    unanswered,
                    image: None,
                }),
            }
        };
        self.known.tools[id.index()].get_or_init(find).clone()
    }

    /// Where one of some words was edited.
    pub(crate) fn edited(&self, words: &[String], since: i64) -> Option<Arc<str>> {
        (self.edited)(words, since)
    }

    pub(crate) fn remember(&self, id: StepId, memory: StepMemory) {
        let memory = Arc::new(memory);
        self.know_outputs(id, &memory);
        self.note(id, memory);
    }

    /// Takes note of the contents of a step's outputs.
    pub(crate) fn know_outputs(&self, id: StepId, memory: &Arc<StepMemory>) {
        for (output, record) in self.graph.step(id).outputs.iter().zip(&memory.outputs) {
            let _ = self.known.made[output.file.index()].set(record.digest());
        }
        if memory.is_away {
            self.has_away
                .store(true, std::sync::atomic::Ordering::Relaxed);
        }
        let _ = self.known.makers[id.index()].set(memory.clone());
    }

    /// Takes note of what is to be remembered of a step.
    pub(crate) fn note(&self, id: StepId, memory: Arc<StepMemory>) {
        let folder = self.graph.step(id).folder.shared();
        self.after.lock().push((folder.clone(), Some(memory)));
    }

    pub(crate) fn remembered_cost(&self, id: StepId) -> f64 {
        // What failed took as long as it took; it will hardly take less when it works.
        let known = self.before.cost_of(self.graph.step(id).folder.shared());
        known.map_or_else(|| self.guessed_cost(id), |micros| micros as f64)
    }

    fn guessed_cost(&self, id: StepId) -> f64 {
        let inputs = self
            .graph
            .step(id)
            .inputs
            .iter()
            .map(|f| self.graph.file(*f));
        let sources = inputs.filter(|file| file.maker.is_none());
        let bytes: u64 = sources
            .filter_map(|f| self.outside.check(&FilePath::from(&f.path)))
            .map(|s| s.size)
            .sum();
        UNKNOWN_COST + UNKNOWN_COST_OF_BYTE * bytes as f64
    }
}
