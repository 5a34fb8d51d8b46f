//! Services: started for who needs them, stopped after the last.
//!
//! An instance has a folder, an address of the loopback network and a port that follow from what it
//! is and whom it is for, so that a user sees the same in every run. Where the kernel lets it,
//! instances and their users are in a network of their own.

mod claim;
mod instance;
mod secrets;
mod starting;

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};

use nubrik_bytes::Digest;
use nubrik_confine::{Apart, Running};
use nubrik_engine::{Lent, ServiceFailure, ServiceProblem};
use nubrik_graph::{Mark, Service, unmarked};
use parking_lot::Mutex;

pub use claim::end_left_over;
use instance::{Instance, Unstopped, said};
use secrets::{SHORTEST_SECRET, without};
use starting::Starting;

use crate::ground::{Means, ServiceNet};
use crate::machine::Machine;

/// Who gets what services print.
pub type OutputListener = Arc<dyn Fn(&[u8]) + Send + Sync>;

/// The folder of all instances, from the workspace's root.
const HOME: &str = ".nubrik/serve";

/// Where the one instance of a shared service is put by the first who needs it.
type InstanceSlot = Arc<OnceLock<StartedInstance>>;

type StartedInstance = Result<Arc<Instance>, Option<ServiceFailure>>;

/// Which network an instance and its users are in.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
enum ServiceNetwork {
    /// One of their own: a user's, or that of all who use shared services.
    Own,
    /// The machine's, though there could be one of their own.
    Shared,
    /// The machine's: it offers nothing else.
    Only,
}

/// Where instances and their users meet.
#[derive(Clone)]
struct Meeting {
    network: ServiceNetwork,
    net: ServiceNet,
}

/// All services of a session.
#[derive(Default)]
pub(crate) struct House {
    /// The network of all who use shared services.
    common: OnceLock<Option<ServiceNet>>,
    nobody: OnceLock<Option<Arc<Apart>>>,
    shared: Mutex<HashMap<(String, ServiceNetwork), InstanceSlot>>,
    loans: Mutex<HashMap<u64, Arc<Loan>>>,
    count: AtomicU64,
    /// Whether someone had to use the machine's network for want of another.
    fell_back: AtomicBool,
    unstopped: Unstopped,
}

/// Instances that someone uses.
pub(crate) struct Loan {
    instances: Vec<Arc<Instance>>,
    meeting: Meeting,
}

impl Loan {
    /// A text with places in their marks.
    pub(crate) fn unmarked(&self, text: &str) -> String {
        let told = unmarked(text, |mark| {
            Ok::<_, std::convert::Infallible>(self.told(mark))
        });
        told.unwrap_or_else(|never| match never {})
    }

    /// What a mark represents; nothing where it is not a service's.
    pub(crate) fn told(&self, mark: Mark<'_>) -> String {
        let place = |folder: &str| {
            self.instances
                .iter()
                .find(|i| i.service.folder.as_str() == folder)
        };
        match mark {
            Mark::Port(folder) => place(folder).map(|i| i.port.clone()).unwrap_or_default(),
            Mark::Address(folder) => place(folder).map(|i| i.address.clone()).unwrap_or_default(),
            Mark::Secret(_) | Mark::Place => String::new(),
        }
    }

    /// How one of the instances ended, if one has: its address, how, and what it printed at the
    /// end.
    pub(crate) fn ended(&self) -> Option<(Arc<str>, String, Vec<u8>)> {
        self.instances.iter().find_map(|instance| {
            let here = instance.here.as_ref()?;
            let ended = here.running.lock().as_mut().and_then(Running::ended)?;
            Some((
                instance.service.address.clone(),
                said(&ended),
                instance.printed(),
            ))
        })
    }

    /// Where the instances are.
    pub(crate) fn net(&self) -> &ServiceNet {
        &self.meeting.net
    }

    /// Whether they are in the machine's network.
    pub(crate) fn is_in_machines_network(&self) -> bool {
        self.meeting.network != ServiceNetwork::Own
    }

    /// Where each instance is: the service's address, its host and port.
    pub(crate) fn places(&self) -> Vec<(Arc<str>, String)> {
        self.instances
            .iter()
            .map(|i| {
                (
                    i.service.address.clone(),
                    format!("{}:{}", i.address, i.port),
                )
            })
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
        self.instances
            .iter()
            .flat_map(|i| &i.secrets)
            .filter(|(_, value)| value.len() >= SHORTEST_SECRET)
    }
}

impl Machine {
    /// Makes services ready for someone who sees this machine's network: `user` tells this use from
    /// others.
    /// What they print is passed to `echo`, too. What they use must have been built.
    ///
    /// # Errors
    /// Why one of them is not there; `None` when everything is being stopped.
    pub fn lend_here(
        &self,
        user: &str,
        services: &[Arc<Service>],
        echo: Option<OutputListener>,
    ) -> Result<Lent, Option<ServiceFailure>> {
        nubrik_confine::become_reaper();
        self.house().lend(self, user, services, true, echo.as_ref())
    }

    /// Where lent services are: each one's address and its host and port.
    pub fn places(&self, lent: &Lent) -> Vec<(Arc<str>, String)> {
        self.house()
            .loan(lent)
            .map(|loan| loan.places())
            .unwrap_or_default()
    }

    /// How a lent service ended that runs here, if one has: its address, how, and what it printed
    /// at the end.
    pub fn service_ended(&self, lent: &Lent) -> Option<(Arc<str>, String, Vec<u8>)> {
        self.house().loan(lent)?.ended()
    }

    /// Takes services back, and stops them. Gives those that did not stop as they should.
    pub fn take_back(&self, lent: &Lent) -> Vec<ServiceFailure> {
        self.house().give_back(lent);
        let unstopped = self.stop_services();
        nubrik_confine::end_orphans();
        unstopped
    }

    /// Stops services that are shared and not in use. Gives what did not stop as it should, since
    /// this was asked last.
    pub fn stop_services(&self) -> Vec<ServiceFailure> {
        self.house().close()
    }

    /// Whether services or who uses them had to use the machine's network for want of another.
    pub fn fell_back_on_its_network(&self) -> bool {
        self.house().fell_back()
    }
}

/// Whether services can have a network of their own on this machine.
pub fn own_network_works() -> bool {
    Apart::new(true).is_ok()
}

/// Whether a service, or one that it needs, is shared.
fn is_shared(service: &Service) -> bool {
    service.is_shared() || service.needs.iter().any(|need| is_shared(need))
}

impl House {
    /// The loan of this number.
    pub(crate) fn loan(&self, lent: &Lent) -> Option<Arc<Loan>> {
        self.loans.lock().get(&lent.number).cloned()
    }

    /// Whether someone had to use the machine's network for want of another.
    pub(crate) fn fell_back(&self) -> bool {
        self.fell_back.load(Ordering::Relaxed)
    }

    /// Stops what is shared and not in use. Gives what did not stop as it should, since it was
    /// asked last.
    pub(crate) fn close(&self) -> Vec<ServiceFailure> {
        let shared = std::mem::take(&mut *self.shared.lock());
        drop(shared);
        std::mem::take(&mut *self.unstopped.lock())
    }

    /// Where services and their user meet. Users that share no services do not meet each other.
    fn meeting(&self, machine: &Machine, services: &[Arc<Service>], network: bool) -> Meeting {
        if network || services.iter().any(|s| s.is_elsewhere()) {
            let possible = self.common(machine).is_some();
            let network = if possible {
                ServiceNetwork::Shared
            } else {
                ServiceNetwork::Only
            };
            return Meeting {
                network,
                net: self.in_machines_network(machine),
            };
        }
        let own = match services.iter().any(|service| is_shared(service)) {
            true => self.common(machine).clone(),
            false => own_network(machine),
        };
        match own {
            Some(net) => Meeting {
                network: ServiceNetwork::Own,
                net,
            },
            None => {
                self.fell_back.store(true, Ordering::Relaxed);
                Meeting {
                    network: ServiceNetwork::Only,
                    net: self.in_machines_network(machine),
                }
            }
        }
    }

    fn common(&self, machine: &Machine) -> &Option<ServiceNet> {
        self.common.get_or_init(|| own_network(machine))
    }

    fn in_machines_network(&self, machine: &Machine) -> ServiceNet {
        match machine.means() {
            Means::Sandboxes(_) => ServiceNet::Machine,
            // A server that is started as the superuser refuses, or has more rights than it needs.
            Means::Rules(_) if rustix::process::geteuid().is_root() => {
                let nobody = self
                    .nobody
                    .get_or_init(|| Apart::new(false).ok().map(Arc::new));
                ServiceNet::Rules(nobody.clone())
            }
            Means::Rules(_) => ServiceNet::Rules(None),
        }
    }

    /// Makes services ready for a user. What they print is also sent to `echo`.
    pub(crate) fn lend(
        &self,
        machine: &Machine,
        user: &str,
        services: &[Arc<Service>],
        network: bool,
        echo: Option<&OutputListener>,
    ) -> Result<Lent, Option<ServiceFailure>> {
        let meeting = self.meeting(machine, services, network);
        let mut instances = Vec::new();
        for service in services {
            instances.push(self.instance(machine, user, service, &meeting, echo)?);
        }
        let as_always = instances.iter().all(|i| i.as_always);
        let number = self.count.fetch_add(1, Ordering::Relaxed);
        self.loans
            .lock()
            .insert(number, Arc::new(Loan { instances, meeting }));
        Ok(Lent { number, as_always })
    }

    /// Takes a loan back; gives what its instances printed last.
    pub(crate) fn give_back(&self, lent: &Lent) -> Vec<(Arc<str>, Vec<u8>)> {
        let Some(loan) = self.loans.lock().remove(&lent.number) else {
            return Vec::new();
        };
        let said = loan
            .instances
            .iter()
            .map(|i| (i.service.address.clone(), i.printed()));
        said.collect()
    }

    /// Takes note that a shared service will not be wanted again.
    pub(crate) fn no_longer_needed(&self, service: &Service) {
        let mut stopped = Vec::new();
        let mut shared = self.shared.lock();
        for network in [
            ServiceNetwork::Own,
            ServiceNetwork::Shared,
            ServiceNetwork::Only,
        ] {
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
        meeting: &Meeting,
        echo: Option<&OutputListener>,
    ) -> StartedInstance {
        if !service.is_shared() {
            return self.start(machine, user, service, meeting, echo);
        }
        let key = (service.folder.as_str().to_owned(), meeting.network);
        let slot = self.shared.lock().entry(key).or_default().clone();
        let mut first = false;
        let started = slot.get_or_init(|| {
            first = true;
            self.start(machine, "", service, meeting, echo)
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
        meeting: &Meeting,
        echo: Option<&OutputListener>,
    ) -> StartedInstance {
        let name = Digest::of(format!("{}\0{user}", service.folder.as_str()).as_bytes());
        let mut needs = Vec::new();
        for need in &service.needs {
            needs.push(self.instance(machine, &name.hex(), need, meeting, echo)?);
        }
        let starting = Starting {
            machine,
            service,
            meeting,
            needs,
            printed: Vec::new(),
            secrets: Vec::new(),
            unstopped: self.unstopped.clone(),
            root: None,
        };
        starting.start(&name, echo.cloned()).map(Arc::new)
    }
}

/// A new network for services and those who use them; `None` where the kernel offers none.
fn own_network(machine: &Machine) -> Option<ServiceNet> {
    match machine.means() {
        Means::Sandboxes(sandboxes) => sandboxes
            .network()
            .ok()
            .map(|net| ServiceNet::Sandboxes(Arc::new(net))),
        Means::Rules(_) => Apart::new(true)
            .ok()
            .map(|apart| ServiceNet::Rules(Some(Arc::new(apart)))),
    }
}
