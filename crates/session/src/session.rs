//! A session: one command's work in one workspace.

mod again;
mod bringing;
mod build_report;
mod building;
mod builds;
mod edits;
mod evaluating;
mod kept;
mod lending;
mod looked_for;
mod narrowing;
mod observing;
mod pinning;
mod saving;
mod sealing;
mod sharing;
mod standing;
mod sweeping;
mod testing;
mod verifying;
mod watched;
mod working;
mod workshop;

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use nubrik_confine::CancelSwitch;
use nubrik_disk::{Below, Signature, read_open};
use nubrik_engine::{
    Event, Listener, Notice, Options, Outcome, Outreach, PlannedStep, Request, SharedUse, State,
    Summary, Supposed, Verdict, plan,
};
use nubrik_graph::{FileId, Graph, Step};
use nubrik_lang::{AnswerText, Evaluation, Setting, SettingValue};
use nubrik_machine::Machine;
use nubrik_memory::{Journal, STATE_FILE, newest_build};
use nubrik_shared::{LayeredStore, Publisher, SharedStore};
use nubrik_source::{FilePath, RESULTS_FOLDER, WsPath};
use nubrik_store::{LocalStore, Store};
use nubrik_web::Agreement;
use parking_lot::Mutex;

use crate::world::{DiskWorld, SeenOfMachine};
use nubrik_team::NoStore;
use nubrik_workspace::{OpenProblem, Workspace};

/// What is kept for all workspaces may take so much, in bytes; looked at once a day.
pub const CACHE_LIMIT: u64 = 20 << 30;

/// Where what is remembered of tools is, in the tool's own folder.
const TOOLS_FILE: &str = "tools";

/// What is remembered of tools may have so many bytes.
const TOOLS_LIMIT: u64 = 64 << 20;

pub use bringing::KitNews;
pub use build_report::{BuildEnd, BuildReport};
pub use evaluating::MachineLacks;
pub use looked_for::LookedFor;
pub use narrowing::Narrowed;
pub use pinning::read_pins;
pub use saving::{SavedResults, StaysHere, load_results};
pub use sharing::{GivenAway, SharedCache};
pub use standing::{Reached, Standing};
pub use watched::{StartWatcher, this_program};
pub use working::DifferentTool;
pub use workshop::Workshop;

/// An open workspace.
pub struct Session {
    /// Where it is, and its settings.
    pub workspace: Workspace,
    machine: Machine,
    /// What is remembered of the workspace, since it was wanted first.
    state: OnceLock<Journal<State>>,
    /// How long an evaluation takes that is kept for commands that only read.
    worth_keeping: Duration,
    /// Whether evaluation takes notes of what is taken from where, though nothing is sealed.
    takes_notes: bool,
    /// Whether the folder of results was there before this session held the lock.
    had_results: bool,
    /// The tool's own folder, since it was wanted first.
    own: OnceLock<Below>,
    /// Whether a [`Workshop`] holds the workspace's lock.
    is_held: bool,
    /// Whether steps may reach out of this machine for it.
    reach: Outreach,
    /// What evaluation saw of the machine.
    seen: Mutex<SeenOfMachine>,
    store: Result<Arc<LocalStore>, NoStore>,
    /// The shared cache, and this machine's own with that behind it.
    shared: Option<Arc<SharedStore>>,
    layered: Option<LayeredStore>,
    /// What puts results there while builds go on.
    uploads: Option<Arc<nubrik_shared::Uploads>>,
    /// The key of who gives jobs to other machines, until these were asked.
    jobs_key: Option<nubrik_shared::SecretKey>,
    /// Machines that run steps for this one.
    crew: Option<Arc<nubrik_workers::Crew>>,
    /// Who writes to the shared cache, if this machine does.
    writer: Option<Publisher>,
    /// Whether what results rest on is noted though nobody takes them from here.
    is_portable: bool,
    /// Where results are kept, where that is not the person's own folder.
    store_folder: Option<PathBuf>,
    /// Options that are set, and the profile that they are called by.
    settings: Vec<Setting>,
    profile: Option<String>,
    /// Answers of probes in this run, by their folders.
    answers: HashMap<WsPath, AnswerText>,
    /// What became of steps while probes were answered, by their folders.
    earlier: HashMap<Arc<str>, Verdict>,
    /// What a shared store was good for so far.
    shared_use: SharedUse,
    /// When it was opened, or the last build was over.
    lap: std::time::Instant,
    /// Why something was not uploaded to the shared cache, the first time.
    not_given: OnceLock<nubrik_shared::SharedTrouble>,
    /// How many steps other machines ran so far.
    ran_elsewhere: usize,
    /// Of a million results that are taken or given so many run again.
    verify_rate: u32,
    /// Texts of definitions that an editor has and the disk has not.
    unsaved: HashMap<WsPath, Arc<str>>,
    /// Files on which the answers of probes depend.
    probes_looked_at: Vec<(FilePath, Option<Signature>)>,
    /// The workspace's watcher.
    watching: watched::Watching,
}

/// Why options cannot be chosen.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ChoiceProblem {
    /// What is wrong.
    pub message: String,
    /// What to write instead.
    pub mends: Vec<String>,
}

/// Why a session cannot change the workspace.
#[derive(Debug)]
pub enum BuildProblem {
    /// The tool's own files, or what a probe answered, cannot be read or written.
    Own(PathBuf, io::Error),
}

/// What this machine is called besides its system and its processor: labels with spaces between.
const LABELS_VARIABLE: &str = "NUBRIK_LABELS";

/// Labels that a variable gives this machine, and words of it that are no labels.
pub fn own_labels() -> (Vec<Arc<str>>, Vec<Arc<str>>) {
    let given = std::env::var(LABELS_VARIABLE).unwrap_or_default();
    given
        .split_whitespace()
        .map(Arc::from)
        .partition(|label: &Arc<str>| nubrik_graph::is_label(label))
}

/// The settings that a profile is.
fn profile_settings<'p>(
    name: &'p str,
    set: &'p [(String, SettingValue)],
) -> impl Iterator<Item = Setting> + 'p {
    set.iter().map(move |(option, value)| Setting {
        name: option.clone(),
        value: value.clone(),
        origin: format!("profile `{name}` of nubrik.toml"),
    })
}

impl Session {
    /// Opens the workspace that a folder belongs to.
    ///
    /// # Errors
    /// When there is none, or its settings are wrong.
    pub fn open(start: &Path, cancel: Arc<CancelSwitch>) -> Result<Session, OpenProblem> {
        let workspace = Workspace::find(start)?;
        let tools = workspace
            .own()
            .and_then(|own| read_open(own.open_to_read(TOOLS_FILE)?, TOOLS_LIMIT));
        let search_path = std::env::var_os("PATH").unwrap_or_default();
        let mut machine = Machine::new(
            &workspace.root,
            search_path,
            &tools.unwrap_or_default(),
            cancel,
        )
        .map_err(|e| OpenProblem::Io(workspace.root.clone(), e))?
        .hiding_undeclared(workspace.settings.hide_undeclared)
        .keeping_whole_output()
        .with_origins(workspace.settings.origins.clone())
        .with_images(nubrik_machine::images_folder().ok());
        machine.add_labels(&own_labels().0);
        nubrik_machine::end_left_over(&workspace.root);
        let store = store_of_this_machine();
        Ok(Session {
            workspace,
            machine,
            state: OnceLock::new(),
            worth_keeping: kept::WORTH_KEEPING,
            takes_notes: false,
            had_results: false,
            own: OnceLock::new(),
            is_held: false,
            reach: Outreach::Nothing,
            seen: Mutex::default(),
            store,
            shared: None,
            layered: None,
            uploads: None,
            jobs_key: None,
            crew: None,
            writer: None,
            is_portable: false,
            store_folder: None,
            watching: watched::Watching::default(),
            settings: Vec::new(),
            profile: None,
            answers: HashMap::new(),
            earlier: HashMap::new(),
            shared_use: SharedUse::default(),
            lap: std::time::Instant::now(),
            not_given: OnceLock::new(),
            ran_elsewhere: 0,
            verify_rate: 0,
            unsaved: HashMap::new(),
            probes_looked_at: Vec::new(),
        })
    }

    /// Whether this machine is what a step says of the one that may run it.
    pub fn runs_here(&self, step: &nubrik_graph::Step) -> bool {
        step.machine.is_empty()
            || nubrik_engine::OutsideSystem::has_labels(&self.machine, &step.needed_labels())
    }

    /// Keeps results in another folder than the person's own, and takes them from there.
    pub fn keep_results_in(&mut self, folder: PathBuf) {
        self.store = Err(NoStore::NotOpen);
        self.store_folder = Some(folder);
    }

    /// The store of this machine, made where there is none.
    fn opened_store(&self) -> Result<Arc<LocalStore>, NoStore> {
        let folder = self
            .store_folder
            .clone()
            .map_or_else(nubrik_store::store_folder, Ok);
        let folder = folder.map_err(NoStore::NoFolder)?;
        LocalStore::open(&folder)
            .map(Arc::new)
            .map_err(|e| NoStore::Broken(e.to_string()))
    }

    /// Lets steps reach further than a command that only asks wants it, though answers of probes
    /// are needed for that, too.
    pub fn let_reach(&mut self, reach: Outreach) {
        self.reach = reach;
    }

    /// What the workspace asks for, and whether the person agreed to each already.
    pub fn asked(&self) -> Vec<(Agreement, bool)> {
        let mut asked = nubrik_team::asked_for_team(&self.workspace.settings);
        asked.extend(self.machine().web().asked());
        nubrik_team::with_answers(asked)
    }

    /// How far steps may reach.
    pub fn reach(&self) -> Outreach {
        self.reach
    }

    /// Takes no results that are kept for all workspaces, and keeps none there.
    pub fn keep_no_results(&mut self) {
        self.store = Err(NoStore::Unwanted);
    }

    /// How many steps run at once when no one says otherwise.
    pub fn default_jobs(&self) -> usize {
        let processors = std::thread::available_parallelism().map_or(1, usize::from);
        self.workspace.settings.jobs.unwrap_or(processors)
    }

    /// The machine's memory in bytes: what steps may take together that say how much they take.
    pub fn memory(&self) -> u64 {
        let info = rustix::system::sysinfo();
        (info.totalram as u64).saturating_mul(u64::from(info.mem_unit.max(1)))
    }

    /// How steps are built where nobody says otherwise: one for each processor, until one fails.
    pub fn options(&self) -> Options {
        Options {
            jobs: self.default_jobs(),
            memory: self.memory(),
            keep_going: false,
            reach: self.reach,
            notes_basis: self.notes_basis(),
            shared_root: self.shared_root(),
            stay_away: true,
        }
    }

    /// Chooses options: those of a profile, then single ones (`name=value`), which win.
    ///
    /// # Errors
    /// When there is no such profile, or a choice is not `name=value`. Whether there are such
    /// options shows when the definitions are evaluated.
    pub fn choose(
        &mut self,
        profile: Option<&str>,
        single: &[String],
    ) -> Result<(), ChoiceProblem> {
        let mut settings: Vec<Setting> = Vec::new();
        if let Some(name) = profile {
            let profiles = &self.workspace.settings.profiles;
            let Some(set) = profiles.get(name) else {
                let near = nubrik_diagnostic::nearest(name, profiles.keys().map(String::as_str));
                let message = format!("there is no profile `{name}` in nubrik.toml");
                let mut mends: Vec<String> =
                    near.map(|n| format!("--profile {n}")).into_iter().collect();
                if profiles.is_empty() {
                    mends.push(format!("[profiles]\n{name} = {{ option = \"value\" }}"));
                }
                return Err(ChoiceProblem { message, mends });
            };
            settings.extend(profile_settings(name, set));
        }
        for choice in single {
            let Some((name, value)) = choice.split_once('=') else {
                let message = format!("`{choice}` sets nothing");
                return Err(ChoiceProblem {
                    message,
                    mends: vec![format!("--set {choice}=value")],
                });
            };
            settings.retain(|s| s.name != name);
            let value = SettingValue::Word(value.to_owned());
            settings.push(Setting {
                name: name.to_owned(),
                value,
                origin: "--set".to_owned(),
            });
        }
        self.settings = settings;
        self.profile = profile.map(str::to_owned);
        Ok(())
    }

    /// The settings of each profile that is not chosen.
    pub(crate) fn other_profiles(&self) -> Vec<Vec<Setting>> {
        let profiles = self.workspace.settings.profiles.iter();
        let others = profiles.filter(|(name, _)| self.profile.as_ref() != Some(*name));
        others
            .map(|(name, set)| profile_settings(name, set).collect())
            .collect()
    }

    /// Sets an option, or with `*.name` each option of a name, for what is evaluated from now on.
    /// What was [chosen](Session::choose) of one option goes before what is said of all of a name.
    ///
    /// `origin` names what asked for it, for messages.
    pub fn choose_also(&mut self, name: &str, value: &str, origin: &str) {
        let value = SettingValue::Word(value.to_owned());
        self.settings.push(Setting {
            name: name.to_owned(),
            value,
            origin: origin.to_owned(),
        });
    }

    /// The tool's own folder.
    fn own(&self) -> Result<&Below, BuildProblem> {
        if let Some(own) = self.own.get() {
            return Ok(own);
        }
        let own = self
            .workspace
            .own()
            .map_err(|e| BuildProblem::Own(self.workspace.own_folder(), e))?;
        Ok(self.own.get_or_init(|| own))
    }

    /// What went wrong with a file of the tool's own, by its name there.
    fn own_problem<N: AsRef<Path>>(&self, (name, e): (N, io::Error)) -> BuildProblem {
        BuildProblem::Own(self.workspace.own_folder().join(name), e)
    }

    /// What is remembered of the workspace. What is damaged is forgotten.
    pub fn state(&self) -> &State {
        self.journal()
    }

    /// The same with the files that it is kept in.
    fn journal(&self) -> &Journal<State> {
        self.state.get_or_init(|| {
            let Ok(own) = self.own() else {
                return State::default().into();
            };
            Journal::load(own, STATE_FILE).unwrap_or_else(|| {
                if self.is_held && self.had_results {
                    self.note_unknown_results(own);
                }
                // Builds go on being counted where what is remembered of them was lost.
                State::after(newest_build(own)).into()
            })
        })
    }

    /// The folder of results.
    pub fn results_folder(&self) -> WsPath {
        WsPath::from_normal(RESULTS_FOLDER).child(self.profile.as_deref().unwrap_or("default"))
    }

    fn store(&self) -> Option<&dyn Store> {
        match &self.layered {
            Some(layered) => Some(layered),
            None => self.store.as_ref().ok().map(|store| &**store as &dyn Store),
        }
    }

    /// What is to be done and said before steps run.
    fn prepare(&self, listener: &dyn Listener) {
        if let Err(why) = &self.store
            && *why != NoStore::Unwanted
        {
            listener.hear(&Event::Notice(Notice::StoreUnusable(why.to_string())));
        }
        if let Some(missing) = self.unconfined() {
            listener.hear(&Event::Notice(Notice::Unconfined(missing)));
        }
        nubrik_confine::raise_open_file_limit();
        nubrik_confine::become_reaper();
    }

    /// Stops all services, and reports those that did not stop as they should.
    fn close_services(&self, listener: &dyn Listener) {
        for failure in self.machine.stop_services() {
            listener.hear(&Event::Notice(Notice::NotStopped(Box::new(failure))));
        }
    }

    fn tidy_up(&self, graph: &Graph, listener: &dyn Listener, outcome: &Outcome) {
        if let (Ok(store), true) = (&self.store, outcome.summary.counts.ran > 0)
            && let Ok(Some(gone)) = store.keep_within(CACHE_LIMIT)
        {
            listener.hear(&Event::Notice(Notice::RoomMade(gone.bytes)));
        }
        if outcome.summary.counts.ran > 0 {
            nubrik_machine::look_after_images();
        }
        self.close_services(listener);
        if self.machine.fell_back_on_its_network() {
            let missing = "a network of their own for services".to_owned();
            listener.hear(&Event::Notice(Notice::Unconfined(missing)));
        }
        if self.machine.has_started_commands() {
            let left = self.machine.left_running();
            let count = left.values().sum::<usize>() + nubrik_confine::end_orphans().len();
            if count > 0 && !outcome.cancelled {
                let steps = graph.steps.iter().enumerate();
                let left = steps.filter(|(_, step)| left.contains_key(step.folder.as_str()));
                let mut targets: Vec<Arc<str>> = left
                    .map(|(i, _)| graph.title(nubrik_graph::StepId(i as u32)))
                    .collect();
                targets.sort();
                targets.dedup();
                listener.hear(&Event::Notice(Notice::OrphansEnded(count, targets)));
            }
        }
    }

    /// Counts steps that ran or were reused so that probes could be answered: in this build they
    /// are current already.
    fn count_earlier(&self, graph: &Graph, requested: &[FileId], summary: &mut Summary) {
        if self.earlier.is_empty() {
            return;
        }
        let closure = nubrik_graph::Closure::of(graph, requested.iter().copied());
        let counted: std::collections::HashSet<&str> = closure
            .steps
            .iter()
            .map(|s| graph.step(*s).folder.as_str())
            .collect();
        #[allow(clippy::iter_over_hash_type)] // Only sums come of it.
        for (folder, verdict) in &self.earlier {
            if counted.contains(&**folder) {
                if matches!(verdict, Verdict::Ran | Verdict::Reused) {
                    summary.counts.current = summary.counts.current.saturating_sub(1);
                    summary.counts.count(*verdict);
                }
            } else {
                summary.counts.steps += 1;
                summary.counts.count(*verdict);
            }
        }
    }

    fn result_paths(&self, evaluation: &Evaluation, files: &[FileId]) -> Vec<String> {
        let wanted: std::collections::HashSet<_> = files.iter().collect();
        let targets = evaluation
            .targets
            .iter()
            .map(|t| evaluation.graph.target(*t));
        let results = targets
            .flat_map(|t| &t.results)
            .filter(|r| wanted.contains(&r.file));
        let mut paths: Vec<String> = results
            .map(|r| format!("{}/{}", self.results_folder(), r.publish.as_str()))
            .collect();
        paths.sort();
        paths.dedup();
        paths
    }

    /// What a step printed when its result was made, if that is still kept.
    pub fn printed(&self, step: &Step) -> Option<Vec<u8>> {
        let memory = self.state().steps.get(step.folder.as_str())?;
        let record = self.store()?.record(&memory.first_key)?;
        let entry = record
            .entries
            .into_iter()
            .find(|entry| entry.outputs == memory.outputs)?;
        Some(entry.printed)
    }

    /// What a build of what was evaluated would do. Changes nothing.
    pub fn plan(
        &self,
        evaluation: &Evaluation,
        listener: &dyn Listener,
        supposed: Supposed<'_>,
    ) -> Vec<PlannedStep> {
        let edits = self.edits();
        let edited = edits.finder();
        let request = Request {
            edited: &edited,
            ..Request::whole(&evaluation.graph, &evaluation.requested)
        };
        plan(
            request,
            self.state(),
            &self.machine,
            self.store(),
            listener,
            supposed,
        )
    }

    /// All definition files at and below a folder, sorted; what is ignored is not among them.
    pub fn definition_files(&self, folder: &WsPath) -> Vec<WsPath> {
        let world = DiskWorld::new(&self.workspace, &self.machine, &self.answers)
            .with_unsaved(&self.unsaved);
        let mut files = Vec::new();
        let mut folders = vec![folder.clone()];
        while let Some(at) = folders.pop() {
            let nubrik_lang::Answer::Ready(listing) = nubrik_lang::World::list(&world, &at) else {
                continue;
            };
            folders.extend(listing.folders.iter().map(|name| at.child(name)));
            files.extend(
                listing
                    .files
                    .iter()
                    .filter(|f| f.ends_with(".nub"))
                    .map(|name| at.child(name)),
            );
        }
        files.sort();
        files
    }

    /// The machine under this session.
    pub fn machine(&self) -> &Machine {
        &self.machine
    }
}

/// The store of this machine. Commands that only read make none where there is none.
fn store_of_this_machine() -> Result<Arc<LocalStore>, NoStore> {
    let folder = nubrik_store::store_folder().ok();
    match folder.filter(|folder| folder.is_dir()) {
        None => Err(NoStore::NotOpen),
        Some(folder) => LocalStore::open(&folder)
            .map(Arc::new)
            .map_err(|e| NoStore::Broken(e.to_string())),
    }
}
