//! The machine under the engine: files by a kept folder handle, tools, and what commands are
//! confined by.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};

use nubrik_bytes::Digest;
use nubrik_confine::{CancelSwitch, SystemFolders, Writers, can_record, writers_of};
use nubrik_disk::{Below, MadeThing, Signature, TreeFile, open_file, read_file};
use nubrik_engine::{
    CONSTANT_ROOT, FoundTool, Job, JobEnd, Lent, OpenRoot, OutsideFiles, OutsideServices,
    OutsideSystem, OutsideWork, Recording, Seen, ServiceFailure, ToolProblem, Work, WorkProblem,
};
use nubrik_graph::{ImageSearch, ImageSource, Native, PlainFile, Service};
use nubrik_pins::OriginSettings;
use nubrik_source::{FilePath, FilePlace, WsPath};
use nubrik_store::StoredContent;

use crate::boxes::LeftRunning;
use crate::clock::FileClock;
use crate::fetch::Fetcher;
use crate::fullness::Fullness;
use crate::ground::Means;
use crate::loader_list::LoaderList;
use crate::places::{Layouts, Listings};
use crate::residents::Residents;
use crate::roots::{FoundImage, Roots};
use crate::search_path::step_search_path;
use crate::services::House;
use crate::temporary::Temporary;
use crate::tools::ToolFinder;
use crate::ways::{SeenAt, Ways};
use crate::web_access::WebAccess;
use crate::workers::Workers;

/// How much of a file of the workspace is read to be looked through, and how much of a test's
/// report, in bytes.
const READ_LIMIT: u64 = 1 << 30;
const REPORT_LIMIT: u64 = 256 << 20;

/// This machine, seen from a workspace.
pub struct Machine {
    root: PathBuf,
    below: Below,
    ways: Ways,
    listings: Listings,
    layouts: Layouts,
    system: OnceLock<SystemFolders>,
    means: OnceLock<Means>,
    network_filter: bool,
    tools: ToolFinder,
    cancel: Arc<CancelSwitch>,
    temporary: Temporary,
    /// Whether undeclared files are to be hidden by a supervisor where there are no sandboxes.
    hides_undeclared: bool,
    /// How often the disk was seen full.
    fullness: Fullness,
    clock: FileClock,
    /// Whether all that a step prints is kept in a file, where it is much.
    pub(crate) keeps_whole_output: bool,
    /// Whether a job ran, and with it processes that it may have left behind.
    started: AtomicBool,
    left_running: LeftRunning,
    house: House,
    workers: Workers,
    residents: Residents,
    pub(crate) roots: Roots,
    web: WebAccess,
    loader_list: OnceLock<LoaderList>,
    /// What it was called besides its system and its processor.
    pub(crate) labels: Vec<Arc<str>>,
}

impl Machine {
    /// The machine, with what an earlier run remembered of its tools.
    ///
    /// # Errors
    /// When the root cannot be opened.
    pub fn new(
        root: &Path,
        search_path: OsString,
        remembered_tools: &[u8],
        cancel: Arc<CancelSwitch>,
    ) -> io::Result<Machine> {
        Ok(Machine {
            root: root.to_owned(),
            below: Below::new(root)?,
            ways: Ways::default(),
            loader_list: OnceLock::new(),
            labels: Vec::new(),
            listings: Listings::default(),
            layouts: Layouts::default(),
            system: OnceLock::new(),
            means: OnceLock::new(),
            network_filter: nubrik_confine::support().network_filter,
            tools: ToolFinder::new(search_path, remembered_tools),
            cancel,
            temporary: Temporary::of(root),
            hides_undeclared: false,
            fullness: Fullness::default(),
            clock: FileClock::default(),
            keeps_whole_output: false,
            started: AtomicBool::new(false),
            left_running: LeftRunning::default(),
            house: House::default(),
            workers: Workers::default(),
            residents: Residents::default(),
            roots: Roots::default(),
            web: WebAccess::new(root),
        })
    }

    /// Has undeclared files hidden from commands by a supervisor, where this machine can do that
    /// and makes no sandboxes, in which nothing else is to be seen anyway.
    #[must_use]
    pub fn hiding_undeclared(mut self, hides: bool) -> Machine {
        self.hides_undeclared = hides && can_record();
        self
    }

    /// Has all that a step prints kept in a file of the workspace, where it is more than what is
    /// kept with the result.
    #[must_use]
    pub fn keeping_whole_output(self) -> Machine {
        Machine {
            keeps_whole_output: true,
            ..self
        }
    }

    /// Has registries looked for where these settings say.
    #[must_use]
    pub fn with_origins(mut self, settings: OriginSettings) -> Machine {
        self.web.settings = settings;
        self
    }

    /// How other machines are reached.
    pub fn web(&self) -> &WebAccess {
        &self.web
    }

    /// What fetching needs.
    fn fetcher(&self) -> Fetcher<'_> {
        Fetcher {
            root: &self.root,
            web: &self.web,
            cancel: &self.cancel,
        }
    }

    /// What the tool writes and removes in the workspace.
    pub fn below(&self) -> &Below {
        &self.below
    }

    /// All links that were met on the way to sources, with their own metadata.
    pub fn links_met(&self) -> Vec<(WsPath, Option<Signature>)> {
        self.ways.links_met(self.below.top())
    }

    /// The workspace's root.
    pub fn root(&self) -> &Path {
        &self.root
    }

    pub(crate) fn system(&self) -> &SystemFolders {
        self.system.get_or_init(|| SystemFolders::open(&self.root))
    }

    /// How commands are confined here.
    pub(crate) fn means(&self) -> &Means {
        self.means.get_or_init(|| Means::of(&self.root))
    }

    /// Why commands are not in sandboxes; `None` where they are.
    pub fn why_no_sandboxes(&self) -> Option<&str> {
        self.means().why_no_sandboxes()
    }

    /// Whether commands are in sandboxes.
    pub fn has_sandboxes(&self) -> bool {
        matches!(self.means(), Means::Sandboxes(_))
    }

    /// Whether undeclared files are hidden by a supervisor.
    pub fn hides_undeclared(&self) -> bool {
        self.hides_undeclared && !self.has_sandboxes()
    }

    /// What a sandbox shows of a path.
    pub(crate) fn seen_at(&self, path: &WsPath) -> SeenAt {
        self.ways.seen_at(self.below.top(), &self.root, path)
    }

    /// How sets that many commands declare are laid out.
    pub(crate) fn layouts(&self) -> &Layouts {
        &self.layouts
    }

    /// What was seen in folders of the workspace.
    pub(crate) fn listings(&self) -> &Listings {
        &self.listings
    }

    pub(crate) fn temporary(&self) -> &Temporary {
        &self.temporary
    }

    /// How many processes steps left running, which were ended, by their folders: since this was
    /// asked last.
    pub fn left_running(&self) -> BTreeMap<String, usize> {
        self.left_running.take()
    }

    /// Takes note of what a step left running.
    pub(crate) fn note_left_running(&self, folder: &str, count: usize) {
        self.left_running.note(folder, count);
    }

    pub(crate) fn tools(&self) -> &ToolFinder {
        &self.tools
    }

    /// Takes note that commands are started.
    pub(crate) fn note_start(&self) {
        self.started.store(true, Ordering::Relaxed);
        self.fullness.watch(|| self.below.folder(".nubrik").ok());
    }

    /// Does something on a thread that has given up nothing.
    pub(crate) fn with_network<T: Send>(&self, work: impl FnOnce() -> T + Send) -> T {
        self.workers.with_network(work)
    }

    pub(crate) fn residents(&self) -> &Residents {
        &self.residents
    }

    pub(crate) fn house(&self) -> &House {
        &self.house
    }

    /// The switch that stops everything.
    pub fn cancel(&self) -> &CancelSwitch {
        &self.cancel
    }

    /// Whether any command was started.
    pub fn has_started_commands(&self) -> bool {
        self.started.load(Ordering::Relaxed)
    }
}

impl Machine {
    /// Where a file is, links followed.
    fn behind(&self, path: &FilePath) -> PathBuf {
        match path.place() {
            FilePlace::Workspace(path)
            | FilePlace::Machine(path)
            | FilePlace::Link(path)
            | FilePlace::Presence(path)
            | FilePlace::Names(path) => self.root.join(path),
        }
    }
}

impl OutsideFiles for Machine {
    fn check(&self, path: &FilePath) -> Option<Signature> {
        let (path, follows) = match path.place() {
            FilePlace::Workspace(path) | FilePlace::Machine(path) => (path, true),
            FilePlace::Link(path) | FilePlace::Presence(path) | FilePlace::Names(path) => {
                (path, false)
            }
        };
        Signature::at(self.below.top(), path.as_bytes(), follows)
    }

    fn check_itself(&self, path: &WsPath) -> Option<Signature> {
        Signature::at(self.below.top(), path.as_str().as_bytes(), false)
    }

    fn look_at_made(&self, path: &WsPath, folder: &WsPath) -> MadeThing {
        nubrik_disk::look_at_made(&self.below, &self.root, path.as_str(), folder.as_str())
    }

    fn links_to(&self, path: &WsPath) -> Vec<(WsPath, Arc<str>)> {
        self.ways.links_to(self.below.top(), &self.root, path)
    }

    fn followed(&self, path: &WsPath) -> Option<WsPath> {
        self.ways.followed(self.below.top(), &self.root, path)
    }

    fn digest(&self, path: &FilePath) -> io::Result<Digest> {
        Digest::of_open(&mut open_file(&self.behind(path))?)
    }

    fn is_being_written(&self, path: &FilePath) -> bool {
        open_file(&self.behind(path)).is_ok_and(|file| writers_of(&file) == Writers::Some)
    }

    fn read(&self, path: &FilePath) -> io::Result<Vec<u8>> {
        read_file(&self.behind(path), READ_LIMIT)
    }

    fn tree(&self, folder: &WsPath) -> io::Result<Vec<TreeFile>> {
        nubrik_disk::tree(&self.below.folder(folder.as_str())?)
    }

    fn put(&self, path: &WsPath, mut content: StoredContent, executable: bool) -> io::Result<()> {
        let mut file = self
            .below
            .new_file(path.as_str(), nubrik_store::mode_of(executable))?;
        content.copy_to(&mut file)?;
        // Whatever the mask of the user who builds takes away, results are the same.
        file.set_permissions(std::fs::Permissions::from_mode(nubrik_store::mode_of(
            executable,
        )))
    }

    fn make_link(&self, path: &WsPath, target: &str) -> io::Result<()> {
        self.below.fresh_link(path.as_str(), target)
    }

    fn fresh_folder(&self, folder: &WsPath, inner: &[String]) -> io::Result<()> {
        let made = self.below.fresh_folder(folder.as_str())?;
        if inner.is_empty() {
            return Ok(());
        }
        let made = Below::of(made);
        inner
            .iter()
            .try_for_each(|inner| made.made_folder(inner).map(drop))
    }

    fn set_aside(&self, from: &WsPath, to: &WsPath) -> io::Result<()> {
        self.below.rename(from.as_str(), to.as_str())
    }

    fn while_watching(
        &self,
        files: &[WsPath],
        whole: &(dyn Fn(usize) + Sync),
        act: &mut dyn FnMut(),
    ) {
        let files: Vec<PathBuf> = files.iter().map(|file| self.locate(file)).collect();
        nubrik_disk::while_watching(&files, whole, act);
    }

    fn discard(&self, path: &WsPath) {
        self.times_full();
        let _ = self.below.remove(path.as_str());
    }

    fn publish(&self, from: &WsPath, to: &WsPath) -> io::Result<()> {
        nubrik_disk::publish(&self.below, from.as_str(), to.as_str())
    }

    fn locate(&self, path: &WsPath) -> PathBuf {
        self.root.join(path.as_str())
    }

    fn times_full(&self) -> u64 {
        self.fullness.times(self.below.folder(".nubrik").ok())
    }

    fn now(&self) -> i64 {
        self.clock.now(&self.below)
    }
}

impl OutsideSystem for Machine {
    fn tool(&self, name: &Arc<str>) -> Result<FoundTool, ToolProblem> {
        self.tools.find(self, name)
    }

    fn version_told(&self, name: &Arc<str>) -> Option<Arc<str>> {
        self.tools.version_told(self, name)
    }

    fn is_as_found(&self, tool: &FoundTool) -> bool {
        self.tools().is_as_found(self, tool)
    }

    fn looked_up(&self, program: &str) -> Vec<FilePath> {
        crate::tool_parts::looked_up(program, &step_search_path())
    }

    fn interpreters(&self, script: &FilePath) -> Vec<FilePath> {
        let found = crate::tool_parts::interpreters(&self.behind(script), &step_search_path());
        // Commands know the workspace under another path.
        let known = |path: FilePath| match Path::new(path.as_str()).strip_prefix(CONSTANT_ROOT) {
            Ok(inside) => FilePath::from(&WsPath::from_normal(&inside.to_string_lossy())),
            Err(_) => path,
        };
        found.into_iter().map(known).collect()
    }

    fn is_system(&self, path: &str) -> bool {
        !path.starts_with("/proc/")
            && !path.starts_with("/dev/")
            && self.system().cover(Path::new(path))
    }

    fn names_in(&self, folder: &str) -> io::Result<Vec<(String, u32)>> {
        crate::loader_list::names_in(folder)
    }

    fn links_of_machine(&self, path: &str) -> Vec<(String, Arc<str>)> {
        crate::ways::links_of_machine(path)
    }

    fn loaded_from(&self, library: &str) -> Option<Arc<str>> {
        self.loader_list
            .get_or_init(LoaderList::of_machine)
            .place_of(library)
    }

    fn running_since(&self) -> Option<String> {
        let said = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").ok()?;
        Some(said.trim().to_owned()).filter(|said| !said.is_empty())
    }

    fn has_labels(&self, labels: &[Arc<str>]) -> bool {
        self.is_called(labels)
    }

    fn inherits(&self) -> Option<Arc<str>> {
        nubrik_confine::left_to_inherit().map(Arc::from)
    }

    fn sees_besides(&self) -> Option<Arc<str>> {
        match self.means() {
            Means::Sandboxes(_) => None,
            // Commands see where the workspace is, and what is there unless that is hidden.
            Means::Rules(_) => {
                let hidden = if self.hides_undeclared() {
                    "hidden"
                } else {
                    "seen"
                };
                Some(format!("{}\0{hidden}", self.root.display()).into())
            }
        }
    }
}

impl OutsideWork for Machine {
    fn begin_worker(&self, workers: usize) {
        self.workers.begin(workers);
    }

    fn run(&self, job: &Job<'_>, printed: &mut Vec<u8>) -> JobEnd {
        if self.hides_undeclared() {
            return self.workers.with_network(|| self.run_hiding(job, printed));
        }
        if job.lent.is_some() || job.limits.network || !self.network_filter {
            return self
                .workers
                .with_network(|| self.run_in_box(job, printed, None));
        }
        self.workers
            .without_network(self.means().surroundings_of_steps());
        self.run_in_box(job, printed, None)
    }

    fn records(&self) -> bool {
        can_record()
    }

    fn run_recorded(
        &self,
        job: &Job<'_>,
        printed: &mut Vec<u8>,
        recording: Recording,
    ) -> Option<(JobEnd, Seen)> {
        let run = || self.run_with_recorder(job, printed, recording);
        can_record().then(|| self.workers.with_network(run))
    }

    fn work(&self, work: &Work, to: &WsPath) -> Result<(), WorkProblem> {
        let fetcher = self.fetcher();
        let done = || match work {
            Work::Native(Native::Image(image)) => self.state_image(image, to),
            Work::Native(Native::MakeImage(new)) => self.make_new_image(new, to),
            Work::Find(root, finding) => self.note_found(root, finding, to),
            _ => crate::natives::work(&self.root, &self.below, work, to.as_str(), &fetcher),
        };
        let done = if matches!(work, Work::Native(Native::Fetch { .. })) {
            self.workers.with_network(done)
        } else {
            done()
        };
        if done.is_err() {
            // Half of it is of no use to anyone, and may be large.
            let _ = self.below.remove(to.as_str());
        }
        done
    }

    fn is_at_hand(&self, places: &[Arc<str>], digest: &str) -> bool {
        !places.is_empty()
            && places
                .iter()
                .all(|place| self.fetcher().is_near(place, digest))
    }

    fn judge(&self, report: &WsPath) -> io::Result<(usize, usize)> {
        let report = read_file(&self.locate(report), REPORT_LIMIT)?;
        let cases = nubrik_reports::cases::read(&report).map_err(io::Error::other)?;
        let failed = cases
            .iter()
            .filter(|c| c.outcome == nubrik_reports::cases::CaseOutcome::Failed)
            .count();
        Ok((failed, cases.len()))
    }

    fn rest(&self) {
        self.residents.end_all();
    }

    fn is_cancelled(&self) -> bool {
        self.cancel.is_thrown()
    }
}

impl Machine {
    /// Writes what was found in a root.
    fn note_found(
        &self,
        root: &OpenRoot,
        finding: &ImageSearch,
        to: &WsPath,
    ) -> Result<(), WorkProblem> {
        let found = self.find_in_root(root, finding, to)?;
        self.write_made(to, &found)
    }

    fn write_made(&self, to: &WsPath, text: &str) -> Result<(), WorkProblem> {
        let written = self.below.fresh_file(to.as_str(), 0o644);
        let written = written.and_then(|mut file| io::Write::write_all(&mut file, text.as_bytes()));
        written.map_err(|why| WorkProblem::Machine(format!("cannot make {}: {why}", to.as_str())))
    }

    /// Writes what an image is.
    fn state_image(&self, image: &ImageSource<PlainFile>, to: &WsPath) -> Result<(), WorkProblem> {
        let image = FoundImage::of(&self.root, image);
        self.write_made(to, &self.image_statement(&image)?)
    }
}

impl OutsideServices for Machine {
    fn lend(
        &self,
        user: &str,
        services: &[Arc<Service>],
        network: bool,
    ) -> Result<Lent, Option<ServiceFailure>> {
        self.note_start();
        self.workers
            .lasting(|| self.house.lend(self, user, services, network, None))
    }

    fn give_back(&self, lent: Lent) -> Vec<(Arc<str>, Vec<u8>)> {
        self.workers.with_network(|| self.house.give_back(&lent))
    }

    fn no_longer_needed(&self, service: &Service) {
        self.workers
            .with_network(|| self.house.no_longer_needed(service));
    }

    fn tells_secret(&self, folder: &WsPath, lent: &Lent) -> io::Result<Option<(String, String)>> {
        self.secret_told(folder.as_str(), lent)
    }
}
