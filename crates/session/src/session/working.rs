//! Whether other machines work for this one, and whether this one works for others.

use std::fs;
use std::sync::Arc;
use std::time::Duration;

use nubrik_confine::CancelSwitch;
use nubrik_engine::identity_of;
use nubrik_shared::SecretKey;
use nubrik_wording::counted;
use nubrik_workers::{
    Alive, Boss, Crew, Hand, JOBS, NamedTools, PlaceOwner, ToolTeller, Turns, WORKERS, WorkPlace,
    WorkSite, WorkerListener, ask_for_tools,
};

use super::Session;
use nubrik_team::{
    JOBS_VARIABLE, NeededFor, TeamTrouble, WORKER_VARIABLE, exchange_of, key_of,
    keys_must_be_hidden, may_write,
};

/// Which tools are others on each machine that works, by its name.
pub type ToolsOfWorkers = Vec<(String, Vec<DifferentTool>)>;

/// A tool that is another one on another machine.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct DifferentTool {
    /// Its name.
    pub name: Arc<str>,
    /// Whether there is none.
    pub is_missing: bool,
}

/// How long those that are there are waited for.
const ROLL: Duration = Duration::from_millis(300);

/// What this machine is, for people: its processor, its kernel, how many processors and how much
/// memory it has.
fn this_machine() -> String {
    let kernel = fs::read_to_string("/proc/sys/kernel/osrelease").unwrap_or_default();
    let release = kernel.trim().split('-').next().unwrap_or_default();
    let processors = std::thread::available_parallelism().map_or(1, usize::from);
    let memory = fs::read_to_string("/proc/meminfo").unwrap_or_default();
    let kib = memory.lines().find_map(|line| {
        line.strip_prefix("MemTotal:")?
            .trim()
            .strip_suffix(" kB")?
            .trim()
            .parse()
            .ok()
    });
    let gib = kib.map_or_else(String::new, |kib: u64| {
        format!(", {} GiB", (kib + (1 << 19)) >> 20)
    });
    let processors = counted(processors, "processor");
    let (system, architecture) = (std::env::consts::OS, std::env::consts::ARCH);
    format!("{architecture}, {system} {release}, {processors}{gib}")
}

/// A name that no other build has.
fn build_name() -> Result<String, TeamTrouble> {
    let key = SecretKey::generate()?.public();
    Ok(key.digest().hex()[..16].to_owned())
}

impl Session {
    /// Lets other machines run steps of builds, where the workspace names some and this one may
    /// give jobs. They are asked when something is built.
    ///
    /// # Errors
    /// That the key cannot be read.
    pub fn use_workers(&mut self) -> Result<(), TeamTrouble> {
        self.jobs_key = match self.workspace.settings.workers {
            Some(_) => key_of(JOBS_VARIABLE)?,
            None => None,
        };
        Ok(())
    }

    /// Asks who works for this machine, once.
    ///
    /// # Errors
    /// Why nobody can be asked.
    pub(super) fn gather(&mut self) -> Result<(), TeamTrouble> {
        let (Some(settings), Some(key)) = (
            self.workspace.settings.workers.clone(),
            self.jobs_key.take(),
        ) else {
            return Ok(());
        };
        let shared = self
            .shared
            .clone()
            .ok_or(TeamTrouble::NoSharedCache(NeededFor::Results))?;
        let store = self.store.clone()?;
        may_write(&shared, &key.public(), JOBS)?;
        let boss = Boss::open(
            &exchange_of(&settings, self.workspace.settings.shared.as_ref())?,
            &build_name()?,
        )?;
        let crew = Crew::new(boss, key, (shared, store), self.workspace.root.clone());
        crew.wait(ROLL);
        self.crew = Some(Arc::new(crew));
        Ok(())
    }

    /// How many steps other machines ran so far in this session.
    pub fn ran_elsewhere(&self) -> usize {
        self.ran_elsewhere
    }

    /// Those that work for this machine.
    pub fn crew(&self) -> Option<&Crew> {
        self.crew.as_deref()
    }

    /// Who works for the pool that the workspace names.
    ///
    /// # Errors
    /// Why they cannot be asked.
    pub fn workers(&self) -> Result<Vec<Alive>, TeamTrouble> {
        let settings = self
            .workspace
            .settings
            .workers
            .as_ref()
            .ok_or(TeamTrouble::NoWorkers)?;
        let boss = Boss::open(
            &exchange_of(settings, self.workspace.settings.shared.as_ref())?,
            &build_name()?,
        )?;
        std::thread::sleep(ROLL);
        Ok(boss.present())
    }

    /// For each one who works for this machine, by name: which of some tools are others there, or
    /// missing. Nothing where this one may give no jobs, and so may not ask.
    ///
    /// # Errors
    /// Why they cannot be asked.
    pub fn tools_of_workers(
        &mut self,
        names: &[Arc<str>],
    ) -> Result<Option<ToolsOfWorkers>, TeamTrouble> {
        let (Some(settings), Some(key)) = (&self.workspace.settings.workers, &self.jobs_key) else {
            return Ok(None);
        };
        let shared = self
            .shared
            .clone()
            .ok_or(TeamTrouble::NoSharedCache(NeededFor::Names))?;
        let boss = Boss::open(
            &exchange_of(settings, self.workspace.settings.shared.as_ref())?,
            &build_name()?,
        )?;
        let here: Vec<(Arc<str>, nubrik_bytes::Digest)> = names
            .iter()
            .filter_map(|name| Some((name.clone(), identity_of(&self.machine, name)?)))
            .collect();
        let asked: Vec<Arc<str>> = here.iter().map(|(name, _)| name.clone()).collect();
        let answers = ask_for_tools((&boss, None), key, &shared.members(), &asked)?;
        let differ = |tools: &NamedTools| {
            let there = |name: &Arc<str>| {
                tools
                    .iter()
                    .find(|(other, _)| other == name)
                    .map(|(_, identity)| *identity)
            };
            let different = here
                .iter()
                .filter_map(|(name, identity)| match there(name) {
                    Some(other) if other == *identity => None,
                    other => Some(DifferentTool {
                        name: name.clone(),
                        is_missing: other.is_none(),
                    }),
                });
            different.collect()
        };
        Ok(Some(
            answers
                .iter()
                .map(|(by, tools)| (by.clone(), differ(tools)))
                .collect(),
        ))
    }

    /// Begins to work for others, on a machine that is called by some labels, too.
    ///
    /// # Errors
    /// Why that cannot be.
    pub fn work_for_others(
        &mut self,
        name: &str,
        slots: usize,
        labels: &[Arc<str>],
        cancel: &dyn Fn() -> std::io::Result<CancelSwitch>,
    ) -> Result<WorkSite, TeamTrouble> {
        let settings = self
            .workspace
            .settings
            .workers
            .clone()
            .ok_or(TeamTrouble::NoWorkers)?;
        let key = key_of(WORKER_VARIABLE)?.ok_or(TeamTrouble::KeyUnset(WORKER_VARIABLE))?;
        keys_must_be_hidden()?;
        let shared = self.new_shared()?;
        may_write(&shared, &key.public(), WORKERS)?;
        if let Some(why) = self.why_no_sandboxes() {
            return Err(TeamTrouble::NotConfined(why.to_owned()));
        }
        let folder = nubrik_team::cache_folder()?;
        let local = self.opened_store()?;
        self.machine.add_labels(labels);
        let owner = PlaceOwner {
            name: name.to_owned(),
            key: key.clone(),
            labels: self.machine.labels(),
            search_path: std::env::var_os("PATH").unwrap_or_default(),
            local,
            images: nubrik_machine::images_folder().ok(),
        };
        let turns = Arc::new(Turns::new(slots));
        let places = work_places((slots, &turns), &folder, &shared, &owner, cancel)?;
        let labels = self.machine.labels();
        let labels = labels.iter().map(|label| label.to_string()).collect();
        let machine = (&*this_machine(), labels);
        let at = exchange_of(&settings, self.workspace.settings.shared.as_ref())?;
        let hand = Hand::open(&at, name, slots, machine)?;
        let teller = ToolTeller {
            shared,
            key,
            name: name.to_owned(),
        };
        Ok(WorkSite {
            name: name.to_owned(),
            hand,
            places,
            turns,
            slots,
            teller,
            metrics: None,
        })
    }

    /// Works for others until somebody stops this program; steps that run then go on for `grace` at
    /// most.
    pub fn serve(&self, site: WorkSite, listener: &dyn WorkerListener, grace: Duration) {
        site.serve(&self.machine, &|| self.new_shared().ok(), listener, grace);
    }
}

/// Places to work in: one for each turn, and some that get ready while all turns are taken.
fn work_places(
    (slots, turns): (usize, &Arc<Turns>),
    folder: &std::path::Path,
    shared: &Arc<nubrik_shared::SharedStore>,
    owner: &PlaceOwner,
    cancel: &dyn Fn() -> std::io::Result<CancelSwitch>,
) -> Result<Vec<(WorkPlace, Arc<CancelSwitch>)>, TeamTrouble> {
    let mut places = Vec::new();
    for slot in 0..slots + slots.div_ceil(4) {
        let cancel = Arc::new(cancel().map_err(|e| TeamTrouble::NoSwitch(e.to_string()))?);
        let name = format!("{}-{slot}", std::process::id());
        let at = folder.join("work").join(name);
        let (shared, owner, turns) = (shared.clone(), owner.clone(), turns.clone());
        let place = WorkPlace::open(&at, cancel.clone(), shared, owner, turns)?;
        places.push((place, cancel));
    }
    Ok(places)
}
