//! Starting a service: its place, its folder, its commands, and waiting until it is ready.

use std::io;
use std::net::{Ipv4Addr, TcpListener};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use nubrik_bytes::Digest;
use nubrik_confine::{Echo, Ended, Running, StageSpec};
use nubrik_disk::Below;
use nubrik_engine::{
    FoundTool, OpenRoot, OutsideRoots, OutsideSystem, Readable, Readables, ServiceFailure,
    ServiceProblem, WorkProblem,
};
use nubrik_graph::{Mark, Service, ServiceCommand, ServiceProgram, Serving, unmarked};
use parking_lot::Mutex;

use super::OutputListener;
use super::claim::Claim;
use super::instance::{Here, Instance, Quarters, Unstopped, last_lines, said};
use super::secrets::without;
use super::{HOME, Meeting, ServiceNetwork};
use crate::ground::{CommandNeeds, Enclosure, Means, ServiceNet, StoppingRules, Whom};
use crate::machine::Machine;
use crate::search_path::called_by;

/// Pauses between two looks whether a service is ready: the first, and the longest.
const PAUSES: (Duration, Duration) = (Duration::from_millis(5), Duration::from_millis(100));

/// Ports that instances get: so many from this one on. Below those that the kernel hands out.
const PORTS: (u16, u16) = (20_000, 10_000);

/// A service on its way to being an instance.
pub(super) struct Starting<'m> {
    pub machine: &'m Machine,
    pub service: &'m Arc<Service>,
    pub meeting: &'m Meeting,
    pub needs: Vec<Arc<Instance>>,
    /// What its commands printed so far.
    pub printed: Vec<u8>,
    pub secrets: Vec<(String, String)>,
    pub unstopped: Unstopped,
    /// The root of the image that it runs in, once it is open.
    pub root: Option<OpenRoot>,
}

/// The commands of a service, ready to run.
#[derive(Default)]
struct Commands {
    prepare: Vec<Vec<StageSpec>>,
    run: Vec<StageSpec>,
    ready: Option<Vec<StageSpec>>,
    fill: Vec<Vec<StageSpec>>,
    /// Where there is no sandbox, with what it may reach.
    stop: Option<(Vec<StageSpec>, Option<StoppingRules>)>,
}

/// What there is to know of an instance before it runs.
struct InstancePlaces {
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

    pub fn start(
        mut self,
        name: &Digest,
        echo: Option<OutputListener>,
    ) -> Result<Instance, Option<ServiceFailure>> {
        let service = self.service.clone();
        if let Serving::Elsewhere { address, port } = &service.serving {
            return self.find(address, port);
        }
        let claimed = self.claim(name);
        let (claim, first_choice, home) =
            claimed.map_err(|e| self.machine_refused("its folder cannot be made", &e))?;
        let (address, port, usual) = self.place(name, first_choice);
        let at = InstancePlaces {
            name: claim.name.clone(),
            address: address.to_string(),
            port: port.to_string(),
        };
        let quarters = self.quarters(&at)?;
        let commands = self.commands(&service, &at, &quarters.enclosure)?;
        for command in &commands.prepare {
            self.run_command("prepare", command, &quarters)?;
        }
        let secrets = self.secrets.clone();
        let quiet = |echo: OutputListener| -> Echo {
            Box::new(move |bytes: &[u8]| echo(&without(&secrets, bytes.to_vec())))
        };
        let echo = echo.map(quiet);
        let running = Running::start(&quarters.spec(&commands.run, None), echo);
        let running = running.map_err(|(program, e)| {
            let program = program.display().to_string();
            self.failure(ServiceProblem::NotStarted(program, e.to_string()))
        })?;
        nubrik_confine::spare(running.group().unsigned_abs(), true);
        let log = format!("{}.log", service.address.replace('/', "-"));
        let unstopped = self.unstopped.clone();
        let here = Here {
            running: Mutex::new(Some(running)),
            quarters,
            stop: commands.stop,
            claim,
            home,
            log,
            unstopped,
        };
        let instance = Instance {
            service,
            address: at.address,
            port: at.port,
            as_always: first_choice && usual && self.needs.iter().all(|n| n.as_always),
            secrets: self.secrets.clone(),
            here: Some(here),
            needs: std::mem::take(&mut self.needs),
        };
        self.wait_until_ready(&instance, commands.ready.as_deref(), (address, port))?;
        for command in &commands.fill {
            let Some(here) = &instance.here else { break };
            let filled = self.run_command("fill", command, &here.quarters);
            filled.map_err(|failure| with_printed(failure, &instance))?;
        }
        Ok(instance)
    }

    /// Claims a name for an instance, in the folder of all; gives whether it is the usual one.
    fn claim(&self, name: &Digest) -> io::Result<(Claim, bool, Arc<Below>)> {
        let base = &name.hex()[..16];
        // One name for each network, so that both may run at once; the first is that of the usual
        // one.
        let base = match self.meeting.network == ServiceNetwork::Shared {
            true => format!("{base}-net"),
            false => base.to_owned(),
        };
        let home = Arc::new(Below::of(self.machine.below().made_folder(HOME)?));
        let (claim, first_choice) = Claim::take(&home, &base)?;
        Ok((claim, first_choice, home))
    }

    /// All commands of a service that runs here, with their programs found and their marks filled
    /// in: what is missing shows before anything is started.
    fn commands(
        &mut self,
        service: &Service,
        at: &InstancePlaces,
        enclosure: &Enclosure,
    ) -> Result<Commands, Option<ServiceFailure>> {
        let mut commands = Commands::default();
        let Serving::Here {
            prepare,
            run,
            fill,
            stop,
            ..
        } = &service.serving
        else {
            return Ok(commands);
        };
        commands.prepare = self.all_stages(prepare, at, enclosure)?;
        commands.run = self.stages(run, at, enclosure)?;
        commands.fill = self.all_stages(fill, at, enclosure)?;
        if let Some(ready) = &service.ready {
            commands.ready = Some(self.stages(ready, at, enclosure)?);
        }
        if let Some(stop) = stop {
            let rules = self.wanting(at, |machine, wanted| machine.rules_to_stop(wanted));
            let rules = rules.map_err(|e| self.machine_refused("it cannot be confined", &e))?;
            commands.stop = Some((self.stages(stop, at, enclosure)?, rules));
        }
        Ok(commands)
    }

    /// The place of a service that runs somewhere else.
    fn find(mut self, address: &str, port: &str) -> Result<Instance, Option<ServiceFailure>> {
        let nowhere = InstancePlaces {
            name: String::new(),
            address: String::new(),
            port: String::new(),
        };
        let address = self.unmarked(address, &nowhere)?;
        let port = self.unmarked(port, &nowhere)?;
        let Ok(number) = port.trim().parse::<u16>() else {
            return Err(self.failure(ServiceProblem::BadPort));
        };
        let service = self.service.clone();
        // For what the command that asks it writes.
        let name = format!(
            "{}-asked",
            &Digest::of(service.folder.as_str().as_bytes()).hex()[..16]
        );
        let at = InstancePlaces {
            name,
            address: address.clone(),
            port: number.to_string(),
        };
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
            Some(ready) => {
                let quarters = self.quarters(&at)?;
                let stages = self.stages(ready, &at, &quarters.enclosure)?;
                Some((quarters, stages))
            }
            None => None,
        };
        loop {
            tries += 1;
            let is_there = match &checked {
                Some((quarters, stages)) => self.asks_well(quarters, stages, deadline)?,
                None => reaches(&instance.address, number),
            };
            if is_there {
                if checked.is_some() {
                    let _ = self.machine.below().remove(&format!("{HOME}/{}", at.name));
                }
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
        let Some(here) = &instance.here else {
            return Ok(());
        };
        let deadline = Instant::now() + Duration::from_millis(self.service.patience);
        let (mut tries, mut pause) = (0, PAUSES.0);
        loop {
            let ended = here.running.lock().as_mut().and_then(Running::ended);
            if let Some(ended) = ended {
                self.printed.extend(
                    here.running
                        .lock()
                        .as_ref()
                        .map(Running::printed)
                        .unwrap_or_default(),
                );
                return Err(self.failure(ServiceProblem::Ended(said(&ended))));
            }
            tries += 1;
            let is_ready = match ready {
                Some(ready) => self.asks_well(&here.quarters, ready, deadline)?,
                None => {
                    let answers = self.answers(&here.quarters.net, address, port);
                    answers.map_err(|e| self.machine_refused("no connection can be tried", &e))?
                }
            };
            if is_ready {
                return Ok(());
            }
            let printed = here
                .running
                .lock()
                .as_ref()
                .map(Running::printed)
                .unwrap_or_default();
            self.pause(deadline, &mut pause, tries, printed)?;
        }
    }

    /// Whether someone accepts connections at a place.
    fn answers(&self, net: &ServiceNet, address: Ipv4Addr, port: u16) -> io::Result<bool> {
        const PATIENCE: Duration = Duration::from_millis(500);
        match (net, self.machine.means()) {
            (ServiceNet::Sandboxes(net), Means::Sandboxes(sandboxes)) => {
                sandboxes.answers(net, address, port, PATIENCE)
            }
            (ServiceNet::Rules(Some(apart)), _) => apart.answers(address, port, PATIENCE),
            _ => Ok(reaches(&address.to_string(), port)),
        }
    }

    /// Whether a command that asks a service ends well.
    fn asks_well(
        &mut self,
        quarters: &Quarters,
        stages: &[StageSpec],
        deadline: Instant,
    ) -> Result<bool, Option<ServiceFailure>> {
        let left = deadline
            .saturating_duration_since(Instant::now())
            .max(Duration::from_millis(1));
        let (ended, printed) = quarters.run(stages, Some(left), self.machine.cancel());
        match ended {
            Ended::Well => Ok(true),
            Ended::Cancelled => Err(None),
            Ended::NotStarted(program, e) => Err(self.failure(ServiceProblem::NotStarted(
                program.display().to_string(),
                e.to_string(),
            ))),
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
        quarters: &Quarters,
    ) -> Result<(), Option<ServiceFailure>> {
        let (ended, printed) = quarters.run(stages, None, self.machine.cancel());
        match ended {
            Ended::Well => Ok(()),
            Ended::Cancelled => Err(None),
            Ended::NotStarted(program, e) => Err(self.failure(ServiceProblem::NotStarted(
                program.display().to_string(),
                e.to_string(),
            ))),
            ended => {
                self.printed = printed;
                let shown: Vec<&str> = stages
                    .iter()
                    .map(|s| s.words.first().map_or("", String::as_str))
                    .collect();
                let name = shown
                    .first()
                    .map_or("", |w| w.rsplit('/').next().unwrap_or(w));
                Err(self.failure(ServiceProblem::Command(
                    field,
                    format!("`{name} …` {}", said(&ended)),
                )))
            }
        }
    }

    /// An address and a port that follow from the name; whether they are those of every run.
    fn place(&self, name: &Digest, first_choice: bool) -> (Ipv4Addr, u16, bool) {
        let bytes: Vec<u8> = name.hex().as_bytes().chunks(2).map(hex_byte).collect();
        let number = |i: usize, from: u8, count: u8| from + bytes[i] % count;
        let address = Ipv4Addr::new(127, number(0, 1, 250), number(1, 0, 250), number(2, 1, 250));
        let offset = u16::from_be_bytes([bytes[3], bytes[4]]) % PORTS.1;
        if self.meeting.network == ServiceNetwork::Own && first_choice {
            return (address, PORTS.0 + offset, true);
        }
        for step in 0..PORTS.1 {
            let port = PORTS.0 + (offset + step) % PORTS.1;
            if self.meeting.network == ServiceNetwork::Own && step > 0
                || TcpListener::bind((address, port)).is_ok()
            {
                return (address, port, step == 0);
            }
        }
        (address, PORTS.0 + offset, false)
    }

    /// Folder, environment and confinement of an instance.
    fn quarters(&mut self, at: &InstancePlaces) -> Result<Quarters, Option<ServiceFailure>> {
        let folder = format!("{HOME}/{}", at.name);
        let service = self.service.clone();
        if let Some(image) = &service.root {
            let opened = self
                .machine
                .open_root(&image.statement, &image.source(), &|| {});
            let failed = |why: WorkProblem| {
                let what = format!("its image cannot be used: {why}");
                self.failure(ServiceProblem::Machine(what))
            };
            self.root = Some(opened.map_err(failed)?);
        }
        let below = self.machine.below();
        let made = below.fresh_folder(&folder).map(Below::of).and_then(|own| {
            own.made_folder(".scratch")?;
            service
                .folders
                .iter()
                .try_for_each(|inner| own.made_folder(inner).map(drop))
        });
        made.map_err(|e| self.machine_refused("its folder cannot be made", &e))?;
        for list in &service.lists {
            let path = self.unmarked(list.path.as_str(), at)?;
            below
                .write_whole(&path, list.text.as_bytes())
                .map_err(|e| self.machine_refused("a list cannot be written", &e))?;
        }
        let enclosure = self
            .wanting(at, |machine, wanted| machine.enclose(wanted))
            .map_err(|e| self.machine_refused("it cannot be confined", &e))?;
        let work = service.work.as_str();
        let mut environment = enclosure.environment(work);
        for (name, value) in &service.env {
            environment.set(name, self.unmarked(value, at)?);
        }
        let work = enclosure.root().join(work);
        Ok(Quarters {
            enclosure,
            work,
            environment,
            net: self.meeting.net.clone(),
        })
    }

    /// Does something with what a service wants of its confinement.
    fn wanting<T>(
        &self,
        at: &InstancePlaces,
        ask: impl FnOnce(&Machine, &CommandNeeds<'_>) -> T,
    ) -> T {
        let own = self.service.inputs.iter().map(|path| Readable {
            path: path.clone(),
            folder: self.machine.root().join(path.as_str()).is_dir(),
            made: path.as_str().starts_with(".nubrik/"),
        });
        let readable = Readables {
            own: own.collect(),
            shared: Vec::new(),
        };
        let of_machine = self.service.root.is_none();
        let tools: Vec<FoundTool> = self
            .service
            .tools
            .iter()
            .filter(|_| of_machine)
            .filter_map(|name| self.machine.tool(name).ok())
            .collect();
        let wanted = CommandNeeds {
            whom: Whom::Service,
            readable: &readable,
            parts: tools
                .iter()
                .flat_map(|tool| &tool.parts)
                .map(|part| &**part)
                .collect(),
            own: &format!("{HOME}/{}", at.name),
            work: self.service.work.as_str(),
            root: self.root.as_ref(),
            network: self.meeting.network != ServiceNetwork::Own,
        };
        ask(self.machine, &wanted)
    }

    fn all_stages(
        &mut self,
        commands: &[ServiceCommand],
        at: &InstancePlaces,
        enclosure: &Enclosure,
    ) -> Result<Vec<Vec<StageSpec>>, Option<ServiceFailure>> {
        commands
            .iter()
            .map(|command| self.stages(command, at, enclosure))
            .collect()
    }

    /// A command with its programs found and its marks filled in.
    fn stages(
        &mut self,
        command: &ServiceCommand,
        at: &InstancePlaces,
        enclosure: &Enclosure,
    ) -> Result<Vec<StageSpec>, Option<ServiceFailure>> {
        let mut stages = Vec::new();
        for stage in command {
            let program = match &stage.program {
                ServiceProgram::File(path) => self.machine.root().join(path.as_str()),
                ServiceProgram::Tool(name) => {
                    let path = match &self.root {
                        Some(root) => self.machine.program_in(root, name),
                        None => self.machine.tool(name).map(|tool| tool.path),
                    };
                    path.map_err(|mut problem| {
                        let image = self.service.root.as_ref();
                        problem.image = image.map(|image| image.statement.name().into());
                        self.failure(ServiceProblem::NoTool(problem))
                    })?
                }
            };
            let mut words: Vec<Arc<str>> = Vec::new();
            for word in &stage.words {
                words.push(self.unmarked(word, at)?.into());
            }
            let mut path = |path: &Option<nubrik_source::WsPath>| match path {
                Some(path) => self
                    .unmarked(path.as_str(), at)
                    .map(|p| Some(PathBuf::from(p))),
                None => Ok(None),
            };
            let (stdin, stdout, stderr) = (
                path(&stage.stdin)?,
                path(&stage.stdout)?,
                path(&stage.stderr)?,
            );
            let words = called_by(&program, &words);
            let program = enclosure.seen(&program, self.machine.root());
            stages.push(StageSpec {
                program,
                words,
                stdin,
                stdout,
                stderr,
            });
        }
        Ok(stages)
    }

    /// A text with what its marks represent.
    fn unmarked(
        &mut self,
        text: &str,
        at: &InstancePlaces,
    ) -> Result<String, Option<ServiceFailure>> {
        let mut secrets = Vec::new();
        let told = unmarked(text, |mark| {
            let own = |folder: &str| folder == self.service.folder.as_str();
            let need = |folder: &str| {
                self.needs
                    .iter()
                    .find(|n| n.service.folder.as_str() == folder)
            };
            Ok(match mark {
                Mark::Place => at.name.clone(),
                Mark::Port(folder) if own(folder) => at.port.clone(),
                Mark::Address(folder) if own(folder) => at.address.clone(),
                Mark::Port(folder) => need(folder).map(|n| n.port.clone()).unwrap_or_default(),
                Mark::Address(folder) => {
                    need(folder).map(|n| n.address.clone()).unwrap_or_default()
                }
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

/// Adds what a service printed to its failure, after what its command did.
fn with_printed(failure: Option<ServiceFailure>, instance: &Instance) -> Option<ServiceFailure> {
    failure.map(|mut failure| {
        // What it printed last may be on its way until it has ended.
        let printed = instance.stopped();
        if !printed.is_empty() {
            failure
                .printed
                .extend_from_slice(b"\n[the service printed at the end]\n");
            failure.printed.extend_from_slice(&printed);
        }
        failure
    })
}

fn hex_byte(digits: &[u8]) -> u8 {
    let value = |digit: u8| (digit as char).to_digit(16).unwrap_or(0) as u8;
    digits.iter().fold(0, |sum, digit| sum * 16 + value(*digit))
}

/// Whether someone accepts connections at a place that this machine sees.
fn reaches(address: &str, port: u16) -> bool {
    let Ok(places) = std::net::ToSocketAddrs::to_socket_addrs(&(address, port)) else {
        return false;
    };
    places
        .into_iter()
        .any(|place| std::net::TcpStream::connect_timeout(&place, Duration::from_secs(2)).is_ok())
}
