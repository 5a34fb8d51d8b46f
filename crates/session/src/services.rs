//! Services: started for who needs them, stopped after the last.
//!
//! An instance has a folder, an address of the loopback network and a port that follow from what it is and whom
//! it is for, so that whoever uses it sees the same in every run. Where the kernel lets it, instances and their
//! users are in a network of their own.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{self, Write};
use std::net::{Ipv4Addr, TcpListener};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use nubrik_confine::{
    Access, Apart, CancelSwitch, Capture, Echo, Ended, PipelineSpec, RuleSet, Running, StageSpec,
};
use nubrik_engine::{Lent, Outside, ServiceFailure, ServiceProblem};
use nubrik_graph::{Mark, Service, ServiceCommand, ServiceProgram, Serving, unmarked};
use nubrik_store::Digest;

use crate::machine::{CONFINED_ENVIRONMENT, Machine, called_by, needed_folder};

/// The folder of all instances, from the workspace's root.
const HOME: &str = ".nubrik/serve";

/// How long a command that stops a service may take, and how long the service then has.
const STOPPING: Duration = Duration::from_secs(10);

/// Pauses between two looks whether a service is ready: the first, and the longest.
const PAUSES: (Duration, Duration) = (Duration::from_millis(5), Duration::from_millis(100));

/// How much of what a service's commands print is kept, in bytes.
const PRINTED_LIMIT: usize = 64 << 10;

/// A value of fewer characters cannot be told from other text, and is not searched for.
const SHORTEST_SECRET: usize = 6;

/// Ports that instances get: so many from this one on. Below those that the kernel hands out.
const PORTS: (u16, u16) = (20_000, 10_000);

/// Where the one instance of a shared service is put by the first who needs it.
type Slot = Arc<OnceLock<Started>>;

type Started = Result<Arc<Instance>, Option<ServiceFailure>>;

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Which network an instance and its users are in.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
enum Network {
    /// One of their own.
    Own,
    /// The machine's, though there could be one of their own.
    Shared,
    /// The machine's: it offers nothing else.
    Only,
}

/// All services of a session.
#[derive(Default)]
pub(crate) struct House {
    own: OnceLock<Option<Arc<Apart>>>,
    nobody: OnceLock<Option<Arc<Apart>>>,
    shared: Mutex<HashMap<(String, Network), Slot>>,
    loans: Mutex<HashMap<u64, Arc<Loan>>>,
    count: AtomicU64,
    /// Whether somebody had to use the machine's network for want of another.
    fell_back: AtomicBool,
}

/// Instances that somebody uses.
pub(crate) struct Loan {
    instances: Vec<Arc<Instance>>,
    apart: Option<Arc<Apart>>,
}

impl Loan {
    /// A text with places in their marks.
    pub(crate) fn unmarked(&self, text: &str) -> String {
        let told = unmarked(text, |mark| Ok::<_, std::convert::Infallible>(self.told(mark)));
        told.unwrap_or_else(|never| match never {})
    }

    /// What a mark stands for; nothing where it is not a service's.
    pub(crate) fn told(&self, mark: Mark<'_>) -> String {
        let place = |folder: &str| self.instances.iter().find(|i| i.service.folder.as_str() == folder);
        match mark {
            Mark::Port(folder) => place(folder).map(|i| i.port.clone()).unwrap_or_default(),
            Mark::Address(folder) => place(folder).map(|i| i.address.clone()).unwrap_or_default(),
            Mark::Secret(_) | Mark::Place => String::new(),
        }
    }

    /// How one of the instances ended, if one has: its address, how, and what it printed at the end.
    pub(crate) fn ended(&self) -> Option<(Arc<str>, String, Vec<u8>)> {
        self.instances.iter().find_map(|instance| {
            let here = instance.here.as_ref()?;
            let ended = lock(&here.running).as_mut().and_then(Running::ended)?;
            Some((instance.service.address.clone(), said(&ended), instance.printed()))
        })
    }

    /// The network of their own in which the instances are.
    pub(crate) fn apart(&self) -> Option<&Apart> {
        self.apart.as_deref()
    }

    /// Where each instance is: the service's address, its host and port.
    pub(crate) fn places(&self) -> Vec<(Arc<str>, String)> {
        self.instances
            .iter()
            .map(|i| (i.service.address.clone(), format!("{}:{}", i.address, i.port)))
            .collect()
    }

    /// A text in which secrets are replaced by their names.
    pub(crate) fn without_secrets(&self, mut text: Vec<u8>) -> Vec<u8> {
        for instance in &self.instances {
            text = without(&instance.secrets, text);
        }
        text
    }

    fn secrets(&self) -> impl Iterator<Item = &(String, String)> {
        self.instances.iter().flat_map(|i| &i.secrets).filter(|(_, value)| value.len() >= SHORTEST_SECRET)
    }
}

/// A text in which secrets are replaced by their names.
fn without(secrets: &[(String, String)], mut text: Vec<u8>) -> Vec<u8> {
    for (name, value) in secrets.iter().filter(|(_, value)| value.len() >= SHORTEST_SECRET) {
        let found: Vec<usize> = memchr::memmem::find_iter(&text, value.as_bytes()).collect();
        for at in found.into_iter().rev() {
            text.splice(at..at + value.len(), format!("[secret {name}]").into_bytes());
        }
    }
    text
}

/// One running service, or the place of one that runs somewhere else. Dropping it stops it.
struct Instance {
    service: Arc<Service>,
    address: String,
    port: String,
    as_always: bool,
    secrets: Vec<(String, String)>,
    here: Option<Here>,
    /// Instances that it uses itself; they outlive it.
    #[allow(dead_code)] // Held, not read.
    needs: Vec<Arc<Instance>>,
}

/// What there is of an instance on this machine.
struct Here {
    running: Mutex<Option<Running>>,
    ground: Ground,
    stop: Option<Vec<StageSpec>>,
    claim: Claim,
    log: PathBuf,
}

/// Where a service's commands run.
struct Ground {
    root: PathBuf,
    work: PathBuf,
    environment: Vec<(String, String)>,
    rules: RuleSet,
    apart: Option<Arc<Apart>>,
}

impl Ground {
    fn spec<'a>(&'a self, stages: &'a [StageSpec], timeout: Option<Duration>) -> PipelineSpec<'a> {
        PipelineSpec {
            stages: stages.to_vec(),
            folder: &self.root,
            work: &self.work,
            environment: &self.environment,
            rules: Some(&self.rules),
            filter_network: false,
            apart: self.apart.as_deref(),
            timeout,
            memory: None,
            recorder: None,
            attached: false,
        }
    }

    fn run(
        &self,
        stages: &[StageSpec],
        timeout: Option<Duration>,
        cancel: &CancelSwitch,
    ) -> (Ended, Vec<u8>) {
        let mut capture = Capture::new(PRINTED_LIMIT);
        let ended = nubrik_confine::run(&self.spec(stages, timeout), &mut capture, cancel);
        (ended, capture.bytes)
    }
}

/// A name among all instances of the workspace that nobody else has while this lives.
struct Claim {
    name: String,
    path: PathBuf,
    file: File,
}

impl Claim {
    /// Takes a name, or one beside it if somebody has that already; gives whether it is the first choice.
    fn take(home: &Path, name: &str) -> io::Result<(Claim, bool)> {
        for number in 1..1000 {
            let name = if number == 1 { name.to_owned() } else { format!("{name}-{number}") };
            let path = home.join(format!("{name}.claim"));
            if let Some(file) = try_lock(&path, true)? {
                return Ok((Claim { name, path, file }, number == 1));
            }
        }
        Err(io::Error::other("a thousand of it run already"))
    }

    /// Writes down which processes are to be ended should this program not come to it.
    fn note(&self, group: i32) {
        let start = nubrik_confine::start_of_process(group).unwrap_or(0);
        let _ = (&self.file).write_all(format!("{group} {start}\n").as_bytes());
    }
}

impl Drop for Claim {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.path);
    }
}

/// A lock on a file; `None` when somebody has it. What is locked is the file that is at this path now: one that
/// was removed meanwhile would keep nobody away.
fn try_lock(path: &Path, make: bool) -> io::Result<Option<File>> {
    loop {
        let file = File::options().read(true).write(true).create(make).truncate(false).open(path);
        let file = match file {
            Err(e) if e.kind() == io::ErrorKind::NotFound && !make => return Ok(None),
            file => file?,
        };
        match file.try_lock() {
            Ok(()) => {}
            Err(fs::TryLockError::WouldBlock) => return Ok(None),
            Err(fs::TryLockError::Error(e)) => return Err(e),
        }
        match fs::metadata(path) {
            Ok(now) if now.ino() == file.metadata()?.ino() => return Ok(Some(file)),
            _ => {}
        }
    }
}

/// Ends what services of earlier runs left behind that could not stop them; gives how many processes.
pub(crate) fn end_left_over(root: &Path) -> usize {
    let home = root.join(HOME);
    let Ok(entries) = fs::read_dir(&home) else { return 0 };
    let mut count = 0;
    for path in entries.flatten().map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "claim")) {
        let Ok(Some(file)) = try_lock(&path, false) else { continue };
        let text = io::read_to_string(&file).unwrap_or_default();
        let groups: Vec<(i32, u64)> = text
            .lines()
            .filter_map(|line| {
                let (id, start) = line.split_once(' ')?;
                Some((id.parse().ok()?, start.parse().ok()?))
            })
            .collect();
        let folder = path.with_extension("");
        count += nubrik_confine::end_left_over(&folder, &groups);
        let _ = fs::remove_dir_all(&folder);
        let _ = fs::remove_file(&path);
    }
    count
}

/// Whether services can have a network of their own on this machine.
pub fn own_network_works() -> bool {
    Apart::new(true).is_ok()
}

impl House {
    /// The loan of this number.
    pub(crate) fn loan(&self, lent: &Lent) -> Option<Arc<Loan>> {
        lock(&self.loans).get(&lent.number).cloned()
    }

    /// Whether somebody had to use the machine's network for want of another.
    pub(crate) fn fell_back(&self) -> bool {
        self.fell_back.load(Ordering::Relaxed)
    }

    /// Stops what is shared and not in use.
    pub(crate) fn close(&self) {
        let shared = std::mem::take(&mut *lock(&self.shared));
        drop(shared);
    }

    /// As whom services run, and where.
    fn apart(&self, network: Network) -> Option<Arc<Apart>> {
        match network {
            Network::Own => self.own().clone(),
            // A server that is started as the superuser refuses, or has more rights than it needs.
            _ if rustix::process::geteuid().is_root() => {
                self.nobody.get_or_init(|| Apart::new(false).ok().map(Arc::new)).clone()
            }
            _ => None,
        }
    }

    fn own(&self) -> &Option<Arc<Apart>> {
        self.own.get_or_init(|| Apart::new(true).ok().map(Arc::new))
    }

    /// Makes services ready for a user. What they print is also told to `echo`.
    pub(crate) fn lend(
        &self,
        machine: &Machine,
        user: &str,
        services: &[Arc<Service>],
        network: bool,
        echo: Option<fn(&[u8])>,
    ) -> Result<Lent, Option<ServiceFailure>> {
        let network = match self.own().is_some() {
            _ if network || services.iter().any(|s| s.is_elsewhere()) => Network::Shared,
            true => Network::Own,
            false => {
                self.fell_back.store(true, Ordering::Relaxed);
                Network::Only
            }
        };
        let mut instances = Vec::new();
        for service in services {
            instances.push(self.instance(machine, user, service, network, echo)?);
        }
        let as_always = instances.iter().all(|i| i.as_always);
        let apart = self.own().clone().filter(|_| network == Network::Own);
        let number = self.count.fetch_add(1, Ordering::Relaxed);
        lock(&self.loans).insert(number, Arc::new(Loan { instances, apart }));
        Ok(Lent { number, as_always })
    }

    /// Takes a loan back; gives what its instances printed last.
    pub(crate) fn give_back(&self, lent: &Lent) -> Vec<(Arc<str>, Vec<u8>)> {
        let Some(loan) = lock(&self.loans).remove(&lent.number) else { return Vec::new() };
        let said = loan.instances.iter().map(|i| (i.service.address.clone(), i.printed()));
        said.collect()
    }

    /// Takes note that a shared service will not be wanted again.
    pub(crate) fn no_longer_needed(&self, service: &Service) {
        let mut stopped = Vec::new();
        let mut shared = lock(&self.shared);
        for network in [Network::Own, Network::Shared, Network::Only] {
            stopped.extend(shared.remove(&(service.folder.as_str().to_owned(), network)));
        }
        // Stopping takes its time, in which others may want theirs.
        drop(shared);
        drop(stopped);
    }

    fn instance(
        &self,
        machine: &Machine,
        user: &str,
        service: &Arc<Service>,
        network: Network,
        echo: Option<fn(&[u8])>,
    ) -> Started {
        if !service.is_shared() {
            return self.start(machine, user, service, network, echo);
        }
        let key = (service.folder.as_str().to_owned(), network);
        let slot = lock(&self.shared).entry(key).or_default().clone();
        let mut first = false;
        let started = slot.get_or_init(|| {
            first = true;
            self.start(machine, "", service, network, echo)
        });
        match started {
            Err(Some(failure)) if !first => Err(Some(ServiceFailure {
                problem: ServiceProblem::SaidBefore,
                printed: Vec::new(),
                ..failure.clone()
            })),
            started => started.clone(),
        }
    }

    fn start(
        &self,
        machine: &Machine,
        user: &str,
        service: &Arc<Service>,
        network: Network,
        echo: Option<fn(&[u8])>,
    ) -> Started {
        let name = Digest::of(format!("{}\0{user}", service.folder.as_str()).as_bytes());
        let mut needs = Vec::new();
        for need in &service.needs {
            needs.push(self.instance(machine, &name.hex(), need, network, echo)?);
        }
        let apart = self.apart(network);
        let starting =
            Starting { machine, service, network, apart, needs, printed: Vec::new(), secrets: Vec::new() };
        starting.start(&name, echo).map(Arc::new)
    }
}

impl Instance {
    fn printed(&self) -> Vec<u8> {
        let running = self.here.as_ref().map(|here| lock(&here.running));
        let text = running.and_then(|running| running.as_ref().map(Running::printed));
        last_lines(&without(&self.secrets, text.unwrap_or_default()))
    }
}

/// The last lines of a text, as many as are read.
fn last_lines(text: &[u8]) -> Vec<u8> {
    const LINES: usize = 20;
    let text = text.strip_suffix(b"\n").unwrap_or(text);
    let start = memchr::memrchr_iter(b'\n', text).nth(LINES - 1).map_or(0, |at| at + 1);
    text[start..].to_vec()
}

impl Drop for Instance {
    fn drop(&mut self) {
        let Some(here) = &self.here else { return };
        let Some(running) = lock(&here.running).take() else { return };
        let group = running.group();
        if let (Some(stop), Ok(never)) = (&here.stop, CancelSwitch::new()) {
            here.ground.run(stop, Some(STOPPING), &never);
            running.wait(STOPPING);
        }
        let printed = running.stop();
        nubrik_confine::spare(group.unsigned_abs(), false);
        let _ = fs::write(&here.log, without(&self.secrets, printed));
        let _ = fs::remove_dir_all(here.ground.root.join(HOME).join(&here.claim.name));
    }
}

/// A service on its way to being an instance.
struct Starting<'m> {
    machine: &'m Machine,
    service: &'m Arc<Service>,
    network: Network,
    apart: Option<Arc<Apart>>,
    needs: Vec<Arc<Instance>>,
    /// What its commands printed so far.
    printed: Vec<u8>,
    secrets: Vec<(String, String)>,
}

/// What there is to know of an instance before it runs.
struct Whereabouts {
    name: String,
    address: String,
    port: String,
}

impl Starting<'_> {
    fn failure(&mut self, problem: ServiceProblem) -> Option<ServiceFailure> {
        let printed = without(&self.secrets, std::mem::take(&mut self.printed));
        Some(ServiceFailure {
            service: self.service.address.clone(),
            place: self.service.place.to_string().into(),
            problem,
            printed: last_lines(&printed),
        })
    }

    fn machine_refused(&mut self, what: &str, error: &io::Error) -> Option<ServiceFailure> {
        self.failure(ServiceProblem::Machine(format!("{what}: {error}")))
    }

    fn start(mut self, name: &Digest, echo: Option<fn(&[u8])>) -> Result<Instance, Option<ServiceFailure>> {
        let service = self.service.clone();
        match &service.serving {
            Serving::Elsewhere { address, port } => self.find(address, port),
            Serving::Here { prepare, run, fill, stop, .. } => {
                let home = self.machine.root().join(HOME);
                let base = &name.hex()[..16];
                // One name for each network, so that both may run at once; the first is that of the usual one.
                let base =
                    if self.network == Network::Shared { format!("{base}-net") } else { base.to_owned() };
                let claimed = fs::create_dir_all(&home).and_then(|()| Claim::take(&home, &base));
                let (claim, first_choice) =
                    claimed.map_err(|e| self.machine_refused("its folder cannot be made", &e))?;
                let (address, port, usual) = self.place(name, first_choice);
                let at = Whereabouts {
                    name: claim.name.clone(),
                    address: address.to_string(),
                    port: port.to_string(),
                };
                let ground = self.ground(&at)?;
                let stop = match stop {
                    Some(stop) => Some(self.stages(stop, &at)?),
                    None => None,
                };
                let run = self.stages(run, &at)?;
                let ready = match &service.ready {
                    Some(ready) => Some(self.stages(ready, &at)?),
                    None => None,
                };
                let prepare = self.all_stages(prepare, &at)?;
                let fill = self.all_stages(fill, &at)?;
                for command in &prepare {
                    self.run_command("prepare", command, &ground)?;
                }
                let is_secret = self.secrets.clone();
                let echo = echo.map(|echo| -> Echo {
                    Box::new(move |bytes: &[u8]| echo(&without(&is_secret, bytes.to_vec())))
                });
                let running = Running::start(&ground.spec(&run, None), echo).map_err(|(program, e)| {
                    self.failure(ServiceProblem::NotStarted(program.display().to_string(), e.to_string()))
                })?;
                nubrik_confine::spare(running.group().unsigned_abs(), true);
                claim.note(running.group());
                let log = home.join(format!("{}.log", service.address.replace('/', "-")));
                let instance = Instance {
                    service: service.clone(),
                    address: at.address.clone(),
                    port: at.port.clone(),
                    as_always: first_choice && usual && self.needs.iter().all(|n| n.as_always),
                    secrets: self.secrets.clone(),
                    here: Some(Here { running: Mutex::new(Some(running)), ground, stop, claim, log }),
                    needs: std::mem::take(&mut self.needs),
                };
                self.wait_until_ready(&instance, ready.as_deref(), (address, port))?;
                if let Some(here) = &instance.here {
                    for command in &fill {
                        let filled = self.run_command("fill", command, &here.ground);
                        filled.map_err(|failure| with_printed(failure, &instance))?;
                    }
                }
                Ok(instance)
            }
        }
    }

    /// The place of a service that runs somewhere else.
    fn find(mut self, address: &str, port: &str) -> Result<Instance, Option<ServiceFailure>> {
        let nowhere = Whereabouts { name: String::new(), address: String::new(), port: String::new() };
        let address = self.unmarked(address, &nowhere)?;
        let port = self.unmarked(port, &nowhere)?;
        let Ok(number) = port.trim().parse::<u16>() else {
            return Err(self.failure(ServiceProblem::BadPort));
        };
        let service = self.service.clone();
        // For what the command that asks it writes.
        let name = format!("{}-asked", &Digest::of(service.folder.as_str().as_bytes()).hex()[..16]);
        let at = Whereabouts { name, address: address.clone(), port: number.to_string() };
        let mut instance = Instance {
            service: service.clone(),
            address,
            port: number.to_string(),
            as_always: true,
            secrets: Vec::new(),
            here: None,
            needs: Vec::new(),
        };
        let deadline = Instant::now() + Duration::from_millis(service.patience);
        let (mut tries, mut pause) = (0, PAUSES.0);
        let checked = match &service.ready {
            Some(ready) => Some((self.ground(&at)?, self.stages(ready, &at)?)),
            None => None,
        };
        loop {
            tries += 1;
            let is_there = match &checked {
                Some((ground, stages)) => self.asks_well(ground, stages, deadline)?,
                None => reaches(&instance.address, number),
            };
            if is_there {
                instance.secrets = self.secrets.clone();
                return Ok(instance);
            }
            self.pause(deadline, &mut pause, tries, Vec::new())?;
        }
    }

    /// Waits until an instance says that it is ready, or accepts a connection.
    fn wait_until_ready(
        &mut self,
        instance: &Instance,
        ready: Option<&[StageSpec]>,
        (address, port): (Ipv4Addr, u16),
    ) -> Result<(), Option<ServiceFailure>> {
        let Some(here) = &instance.here else { return Ok(()) };
        let deadline = Instant::now() + Duration::from_millis(self.service.patience);
        let (mut tries, mut pause) = (0, PAUSES.0);
        loop {
            let ended = lock(&here.running).as_mut().and_then(Running::ended);
            if let Some(ended) = ended {
                self.printed.extend(lock(&here.running).as_ref().map(Running::printed).unwrap_or_default());
                return Err(self.failure(ServiceProblem::Ended(said(&ended))));
            }
            tries += 1;
            let is_ready = match ready {
                Some(ready) => self.asks_well(&here.ground, ready, deadline)?,
                None => match &here.ground.apart {
                    Some(apart) => apart
                        .answers(address, port, Duration::from_millis(500))
                        .map_err(|e| self.machine_refused("no connection can be tried", &e))?,
                    None => reaches(&address.to_string(), port),
                },
            };
            if is_ready {
                return Ok(());
            }
            let printed = lock(&here.running).as_ref().map(Running::printed).unwrap_or_default();
            self.pause(deadline, &mut pause, tries, printed)?;
        }
    }

    /// Whether a command that asks a service ends well.
    fn asks_well(
        &mut self,
        ground: &Ground,
        stages: &[StageSpec],
        deadline: Instant,
    ) -> Result<bool, Option<ServiceFailure>> {
        let left = deadline.saturating_duration_since(Instant::now()).max(Duration::from_millis(1));
        let (ended, printed) = ground.run(stages, Some(left), self.machine.cancel());
        match ended {
            Ended::Well => Ok(true),
            Ended::Cancelled => Err(None),
            Ended::NotStarted(program, e) => {
                Err(self.failure(ServiceProblem::NotStarted(program.display().to_string(), e.to_string())))
            }
            _ => {
                self.printed = printed;
                Ok(false)
            }
        }
    }

    /// Lets a moment pass, each time a longer one. Fails when the time is over.
    fn pause(
        &mut self,
        deadline: Instant,
        pause: &mut Duration,
        tries: u32,
        printed: Vec<u8>,
    ) -> Result<(), Option<ServiceFailure>> {
        if self.machine.cancel().is_thrown() {
            return Err(None);
        }
        if Instant::now() + *pause >= deadline {
            if !printed.is_empty() {
                self.printed = printed;
            }
            let patience = self.service.patience;
            return Err(self.failure(match self.service.serving {
                Serving::Here { .. } => ServiceProblem::NotReady(patience, tries),
                Serving::Elsewhere { .. } => ServiceProblem::NoAnswer(patience, tries),
            }));
        }
        std::thread::sleep(*pause);
        *pause = (*pause * 2).min(PAUSES.1);
        Ok(())
    }

    fn run_command(
        &mut self,
        field: &'static str,
        stages: &[StageSpec],
        ground: &Ground,
    ) -> Result<(), Option<ServiceFailure>> {
        let (ended, printed) = ground.run(stages, None, self.machine.cancel());
        match ended {
            Ended::Well => Ok(()),
            Ended::Cancelled => Err(None),
            Ended::NotStarted(program, e) => {
                Err(self.failure(ServiceProblem::NotStarted(program.display().to_string(), e.to_string())))
            }
            ended => {
                self.printed = printed;
                let shown: Vec<&str> =
                    stages.iter().map(|s| s.words.first().map_or("", String::as_str)).collect();
                let name = shown.first().map_or("", |w| w.rsplit('/').next().unwrap_or(w));
                Err(self.failure(ServiceProblem::Command(field, format!("`{name} …` {}", said(&ended)))))
            }
        }
    }

    /// An address and a port that follow from the name; whether they are those of every run.
    fn place(&self, name: &Digest, first_choice: bool) -> (Ipv4Addr, u16, bool) {
        let bytes: Vec<u8> = name.hex().as_bytes().chunks(2).map(hex_byte).collect();
        let number = |i: usize, from: u8, count: u8| from + bytes[i] % count;
        let address = Ipv4Addr::new(127, number(0, 1, 250), number(1, 0, 250), number(2, 1, 250));
        let offset = u16::from_be_bytes([bytes[3], bytes[4]]) % PORTS.1;
        if self.network == Network::Own && first_choice {
            return (address, PORTS.0 + offset, true);
        }
        for step in 0..PORTS.1 {
            let port = PORTS.0 + (offset + step) % PORTS.1;
            if self.network == Network::Own && step > 0 || TcpListener::bind((address, port)).is_ok() {
                return (address, port, step == 0);
            }
        }
        (address, PORTS.0 + offset, false)
    }

    /// Folder, environment and rules of an instance.
    fn ground(&mut self, at: &Whereabouts) -> Result<Ground, Option<ServiceFailure>> {
        let root = self.machine.root().to_owned();
        let folder = root.join(HOME).join(&at.name);
        let service = self.service.clone();
        let made = (|| {
            let _ = fs::remove_dir_all(&folder);
            fs::create_dir_all(folder.join(".tmp"))?;
            fs::create_dir_all(folder.join(".scratch"))?;
            service.folders.iter().try_for_each(|inner| fs::create_dir_all(folder.join(&**inner)))
        })();
        made.map_err(|e| self.machine_refused("its folder cannot be made", &e))?;
        for list in &service.lists {
            let path = self.unmarked(list.path.as_str(), at)?;
            let text: String = list.lines.iter().map(|line| format!("{line}\n")).collect();
            fs::write(root.join(path), text)
                .map_err(|e| self.machine_refused("a list cannot be written", &e))?;
        }
        let mut environment: Vec<(String, String)> =
            CONFINED_ENVIRONMENT.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
        let own = folder.join(".tmp").display().to_string();
        environment.extend([("HOME".to_owned(), own.clone()), ("TMPDIR".to_owned(), own)]);
        for (name, value) in &service.env {
            let value = self.unmarked(value, at)?;
            environment.retain(|(n, _)| **n != **name);
            environment.push((name.to_string(), value));
        }
        let rules = self.rules(&folder).map_err(|e| self.machine_refused("it cannot be confined", &e))?;
        let work = root.join(service.work.as_str());
        Ok(Ground { root, work, environment, rules, apart: self.apart.clone() })
    }

    fn rules(&self, folder: &Path) -> io::Result<RuleSet> {
        let root = self.machine.root();
        let rules = RuleSet::new(self.machine.system())?;
        for input in &self.service.inputs {
            match rules.allow(&root.join(input.as_str()), Access::Read) {
                Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
                _ => {}
            }
        }
        for name in &self.service.tools {
            let Ok(tool) = self.machine.tool(name) else { continue };
            for part in &tool.parts {
                if let Some(needed) = needed_folder(Path::new(&**part), root) {
                    rules.allow(&needed, Access::Read)?;
                }
            }
        }
        rules.allow(folder, Access::Write)?;
        Ok(rules)
    }

    fn all_stages(
        &mut self,
        commands: &[ServiceCommand],
        at: &Whereabouts,
    ) -> Result<Vec<Vec<StageSpec>>, Option<ServiceFailure>> {
        commands.iter().map(|command| self.stages(command, at)).collect()
    }

    /// A command with its programs found and its marks filled in.
    fn stages(
        &mut self,
        command: &ServiceCommand,
        at: &Whereabouts,
    ) -> Result<Vec<StageSpec>, Option<ServiceFailure>> {
        let mut stages = Vec::new();
        for stage in command {
            let program = match &stage.program {
                ServiceProgram::File(path) => self.machine.root().join(path.as_str()),
                ServiceProgram::Tool(name) => {
                    let tool = self.machine.tool(name);
                    tool.map_err(|problem| self.failure(ServiceProblem::NoTool(problem)))?.path
                }
            };
            let mut words: Vec<Arc<str>> = Vec::new();
            for word in &stage.words {
                words.push(self.unmarked(word, at)?.into());
            }
            let mut path = |path: &Option<nubrik_source::WsPath>| match path {
                Some(path) => self.unmarked(path.as_str(), at).map(|p| Some(PathBuf::from(p))),
                None => Ok(None),
            };
            let (stdin, stdout, stderr) = (path(&stage.stdin)?, path(&stage.stdout)?, path(&stage.stderr)?);
            stages.push(StageSpec { words: called_by(&program, &words), program, stdin, stdout, stderr });
        }
        Ok(stages)
    }

    /// A text with what its marks stand for.
    fn unmarked(&mut self, text: &str, at: &Whereabouts) -> Result<String, Option<ServiceFailure>> {
        let mut secrets = Vec::new();
        let told = unmarked(text, |mark| {
            let own = |folder: &str| folder == self.service.folder.as_str();
            let need = |folder: &str| self.needs.iter().find(|n| n.service.folder.as_str() == folder);
            Ok(match mark {
                Mark::Place => at.name.clone(),
                Mark::Port(folder) if own(folder) => at.port.clone(),
                Mark::Address(folder) if own(folder) => at.address.clone(),
                Mark::Port(folder) => need(folder).map(|n| n.port.clone()).unwrap_or_default(),
                Mark::Address(folder) => need(folder).map(|n| n.address.clone()).unwrap_or_default(),
                Mark::Secret(name) => {
                    let value = std::env::var(name).map_err(|_| name.to_owned())?;
                    secrets.push((name.to_owned(), value.clone()));
                    value
                }
            })
        });
        self.secrets.extend(secrets);
        self.secrets.sort();
        self.secrets.dedup();
        told.map_err(|name: String| self.failure(ServiceProblem::NoSecret(name)))
    }
}

/// Adds what a service printed to its failure, behind what its command did.
fn with_printed(failure: Option<ServiceFailure>, instance: &Instance) -> Option<ServiceFailure> {
    failure.map(|mut failure| {
        let printed = instance.printed();
        if !printed.is_empty() {
            failure.printed.extend_from_slice(b"\n[the service printed at the end]\n");
            failure.printed.extend_from_slice(&printed);
        }
        failure
    })
}

fn hex_byte(digits: &[u8]) -> u8 {
    let value = |digit: u8| (digit as char).to_digit(16).unwrap_or(0) as u8;
    digits.iter().fold(0, |sum, digit| sum * 16 + value(*digit))
}

/// Whether somebody accepts connections at a place that this machine sees.
fn reaches(address: &str, port: u16) -> bool {
    let Ok(places) = std::net::ToSocketAddrs::to_socket_addrs(&(address, port)) else { return false };
    places
        .into_iter()
        .any(|place| std::net::TcpStream::connect_timeout(&place, Duration::from_secs(2)).is_ok())
}

/// How a command ended, for people.
fn said(ended: &Ended) -> String {
    match ended {
        Ended::Well => "ended".to_owned(),
        Ended::Code(code) => format!("ended with code {code}"),
        Ended::Signal(signal) => format!("was ended by signal {signal}"),
        Ended::TimedOut => "took too long".to_owned(),
        Ended::Cancelled => "was stopped".to_owned(),
        Ended::NotStarted(program, e) => format!("cannot be started: {}: {e}", program.display()),
    }
}

impl Machine {
    /// The secret that stands in a file below a folder, of those that a loan knows.
    pub(crate) fn secret_told(&self, folder: &str, lent: &Lent) -> Option<(String, String)> {
        let loan = self.house().loan(lent)?;
        loan.secrets().next()?;
        for file in Outside::tree(self, folder).ok()? {
            let bytes = Outside::read(self, &format!("{folder}/{}", file.path)).ok()?;
            let told =
                loan.secrets().find(|(_, value)| memchr::memmem::find(&bytes, value.as_bytes()).is_some());
            if let Some((name, _)) = told {
                return Some((name.clone(), file.path));
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_give_way_to_their_names() {
        let secrets = vec![("KEY".to_owned(), "open sesame".to_owned()), ("PIN".to_owned(), "12".to_owned())];
        let text = without(&secrets, b"say open sesame, 12 times open sesame".to_vec());
        assert_eq!(text, b"say [secret KEY], 12 times [secret KEY]");
    }

    #[test]
    fn only_the_last_lines_are_told() {
        let text: String = (0..30).map(|n| format!("{n}\n")).collect();
        let last = last_lines(text.as_bytes());
        assert!(last.starts_with(b"10\n") && last.ends_with(b"29"), "{}", String::from_utf8_lossy(&last));
        assert_eq!(last_lines(b"one"), b"one");
        assert_eq!(last_lines(b""), b"");
    }

    #[test]
    fn claims_keep_others_away_and_vanish() {
        let home = tempfile::tempdir().unwrap();
        let (one, first) = Claim::take(home.path(), "a").unwrap();
        let (two, second) = Claim::take(home.path(), "a").unwrap();
        assert_eq!((first, second), (true, false));
        assert_eq!(two.name, "a-2");
        drop(one);
        let (again, first) = Claim::take(home.path(), "a").unwrap();
        assert!(first);
        drop((two, again));
        assert_eq!(fs::read_dir(home.path()).unwrap().count(), 0);
    }
}
