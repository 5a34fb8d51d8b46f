//! Pins for what a proposal needs of other people's code.

use std::collections::BTreeSet;

use nubrik_pins::{AskedPackage, Desk, DeskNews, Free, PinProblem, Pins, Registry, Shelf, resolve};
use nubrik_session::Session;
use nubrik_survey::{Kit, Omission, Proposal, WantedPin};
use nubrik_wording::counted;
use parking_lot::Mutex;

use crate::{AdoptNews, AdoptProblem, Adoption, answers};

impl Adoption<'_> {
    /// Pins all that is wanted, registry by registry. What cannot be pinned is taken out of the
    /// proposal with all that needs it.
    /// With `is_agreed` nobody is asked: who agreed to some packages agreed to those that a try
    /// shows to be missing.
    pub(crate) fn pin_all(
        &self,
        proposal: &mut Proposal,
        is_agreed: bool,
    ) -> Result<(), AdoptProblem> {
        for registry in proposal.registries() {
            let wanted = wanted_of(proposal, registry);
            if wanted.is_empty() {
                continue;
            }
            let session = self.open()?;
            let before = session.pins().map_err(AdoptProblem::ReadPins)?;
            let known = before.shelves.get(&registry);
            let missing: Vec<&WantedPin> = wanted
                .iter()
                .filter(|pin| known.is_none_or(|shelf| !shelf.asked.contains_key(&pin.name)))
                .collect();
            if missing.is_empty() {
                continue;
            }
            let why_not = if !self.may_pin(registry, &missing, is_agreed)? {
                match self.is_offline {
                    true => "is not pinned, and nothing may use the network",
                    false => "is not pinned",
                }
            } else if let Err(problem) = session.origins(registry) {
                // What to do is said once; the rest goes on without.
                self.attendant.hear(AdoptNews::WithoutPins(&problem));
                "cannot be pinned: nothing says where its registry is"
            } else {
                self.choose(&session, before, registry, &missing, proposal)?;
                continue;
            };
            missing
                .iter()
                .for_each(|pin| without(proposal, pin, why_not));
        }
        Ok(())
    }
    /// Whether packages are to be pinned: as somebody answered, or answers now.
    fn may_pin(
        &self,
        registry: Registry,
        missing: &[&WantedPin],
        is_agreed: bool,
    ) -> Result<bool, AdoptProblem> {
        if is_agreed {
            return Ok(!self.is_offline);
        }
        let names: Vec<&str> = missing.iter().map(|pin| pin.name.as_str()).collect();
        let packages = counted(names.len(), "package");
        let text = format!(
            "Pin {packages} from the registry {registry}: {}?",
            names.join(", ")
        );
        let question = answers::pinning(registry, text);
        Ok(match self.answers.get(&question.id) {
            Some(answer) => answer != "no",
            None if self.is_offline => false,
            None => self.attendant.answer(&question)? != "no",
        })
    }
    /// Chooses versions for all together; if they do not fit, one after another, so that one that
    /// does not is no reason to leave out the others.
    fn choose(
        &self,
        session: &Session,
        mut pins: Pins,
        registry: Registry,
        missing: &[&WantedPin],
        proposal: &mut Proposal,
    ) -> Result<(), AdoptProblem> {
        let read = session.pins_text();
        let cancel = &*self.cancel;
        let stopped = || cancel.is_thrown();
        // The same release may be looked at for several packages, one after another.
        let passed_over: Mutex<BTreeSet<(String, String)>> = Mutex::default();
        let tell = |news: DeskNews| {
            if let DeskNews::PassedOver { release, needs } = news {
                passed_over.lock().insert((release, needs));
            }
        };
        let desk = session.desk(&pins, &stopped, &tell);
        let mut shelf = pins.shelves.remove(&registry).unwrap_or_default();
        if registry.description().differs_by_system && shelf.systems.is_empty() {
            let own = Session::own_system();
            let facts = session.facts_of(registry, &own);
            shelf.systems.insert(own, facts);
        }
        let locked = desk
            .locked(registry)
            .map(|locked| locked.files.clone())
            .unwrap_or_default();
        self.attendant.hear(AdoptNews::Chooses {
            registry,
            packages: missing.len(),
            locked: &locked,
        });
        let all = missing
            .iter()
            .fold(shelf.clone(), |shelf, pin| with(&shelf, pin));
        let settled = match resolve(&desk, registry, &all, &Free::Nothing) {
            Ok(settled) => settled,
            Err(_) if stopped() => return Err(AdoptProblem::Interrupted),
            Err(_) => one_by_one(&desk, registry, shelf, missing, proposal),
        };
        for (release, needs) in &*passed_over.lock() {
            self.attendant
                .hear(AdoptNews::PassedOver { release, needs });
        }
        // What was stopped was not refused.
        if stopped() {
            return Err(AdoptProblem::Interrupted);
        }
        if settled.asked.is_empty() {
            return Ok(());
        }
        pins.shelves.insert(registry, settled);
        session
            .write_pins(&pins, read.as_deref())
            .map(drop)
            .map_err(AdoptProblem::WritePins)
    }

    /// Takes packages out of `pins.toml` that were pinned on the way and that no definition uses in
    /// the end.
    pub(crate) fn drop_unused(&self, proposal: &Proposal) -> Result<(), AdoptProblem> {
        let session = self.open()?;
        let read = session.pins_text();
        let mut pins = session.pins().map_err(AdoptProblem::ReadPins)?;
        let before = self
            .folder
            .pins
            .as_ref()
            .and_then(|text| Pins::read(&String::from_utf8_lossy(text)).ok())
            .unwrap_or_default();
        let used: BTreeSet<(Kit, String)> = proposal
            .definitions
            .iter()
            .flat_map(|one| one.pins())
            .collect();
        let mut changed = Vec::new();
        for (registry, shelf) in &mut pins.shelves {
            let Some(kit) = kit_of(*registry) else {
                continue;
            };
            let was_asked = |name: &str| {
                before
                    .shelves
                    .get(registry)
                    .is_some_and(|shelf| shelf.asked.contains_key(name))
            };
            let count = shelf.asked.len();
            shelf
                .asked
                .retain(|name, _| was_asked(name) || used.contains(&(kit, name.clone())));
            if shelf.asked.len() < count {
                changed.push(*registry);
            }
        }
        if changed.is_empty() {
            return Ok(());
        }
        pins.shelves.retain(|_, shelf| !shelf.asked.is_empty());
        let stopped = || false;
        let tell = |_: DeskNews| {};
        let desk = session.desk(&pins, &stopped, &tell);
        for registry in changed {
            let Some(shelf) = pins.shelves.get(&registry) else {
                continue;
            };
            // Versions stay as they are; what only the others needed goes.
            match resolve(&desk, registry, shelf, &Free::Nothing) {
                Ok(settled) => drop(pins.shelves.insert(registry, settled)),
                // What is pinned too much is no reason to say nothing of all the rest.
                Err(problem) => {
                    self.attendant.hear(AdoptNews::WithoutPins(&problem));
                    return Ok(());
                }
            }
        }
        session
            .write_pins(&pins, read.as_deref())
            .map(drop)
            .map_err(AdoptProblem::WritePins)
    }
}

/// What definitions of a proposal use of a registry.
fn wanted_of(proposal: &Proposal, registry: Registry) -> Vec<WantedPin> {
    let all = proposal.definitions.iter().flat_map(|one| one.pins());
    let used: BTreeSet<String> = all
        .filter(|(kit, _)| registry_of(*kit) == Some(registry))
        .map(|(_, name)| name)
        .collect();
    let wanted = proposal
        .pins
        .iter()
        .filter(|pin| pin.registry == registry && used.contains(&pin.name));
    wanted.cloned().collect()
}

fn kit_of(registry: Registry) -> Option<Kit> {
    Kit::ALL
        .into_iter()
        .find(|kit| registry_of(*kit) == Some(registry))
}

fn registry_of(kit: Kit) -> Option<Registry> {
    Registry::of_kit(kit.name())
}

fn one_by_one(
    desk: &Desk<'_>,
    registry: Registry,
    mut shelf: Shelf,
    missing: &[&WantedPin],
    proposal: &mut Proposal,
) -> Shelf {
    let mut settled = shelf.clone();
    for pin in missing {
        let more = with(&shelf, pin);
        match resolve(desk, registry, &more, &Free::Nothing) {
            Ok(chosen) => {
                shelf = more;
                settled = chosen;
            }
            // A descriptor names one version, and another one mostly does: where that is not
            // published, any is taken.
            Err(_) if registry.description().wants_one_version && !pin.requirement.is_empty() => {
                let any = WantedPin {
                    requirement: String::new(),
                    ..(*pin).clone()
                };
                let more = with(&shelf, &any);
                match resolve(desk, registry, &more, &Free::Nothing) {
                    Ok(chosen) => {
                        shelf = more;
                        let version = chosen
                            .asked
                            .get(&pin.name)
                            .and_then(|asked| asked.pins.first().cloned());
                        let why = format!(
                            "version {} is not there; {} is taken",
                            pin.requirement,
                            version.unwrap_or_default()
                        );
                        proposal.left_out.push(Omission {
                            what: format!("{registry} {} {}", pin.name, pin.requirement),
                            why,
                            files: BTreeSet::new(),
                        });
                        settled = chosen;
                    }
                    Err(problem) => without(
                        proposal,
                        pin,
                        &format!("cannot be pinned: {}", told(&problem)),
                    ),
                }
            }
            Err(problem) => without(
                proposal,
                pin,
                &format!("cannot be pinned: {}", told(&problem)),
            ),
        }
    }
    settled
}

fn told(problem: &PinProblem) -> String {
    let notes: String = problem
        .notes
        .iter()
        .take(2)
        .map(|note| format!("; {note}"))
        .collect();
    format!("{}{notes}", problem.message).replace('\n', " ")
}

fn with(shelf: &Shelf, pin: &WantedPin) -> Shelf {
    let mut shelf = shelf.clone();
    let asked = AskedPackage {
        requirement: pin.requirement.clone(),
        features: pin.features.iter().cloned().collect(),
        bare: pin.is_bare,
        ..AskedPackage::default()
    };
    shelf.asked.insert(pin.name.clone(), asked);
    shelf
}

/// Takes out of a proposal what needs a package that there is not. Tests lose only the need: many
/// run without it.
fn without(proposal: &mut Proposal, pin: &WantedPin, why: &str) {
    if let (true, Some(kit)) = (pin.is_guess, kit_of(pin.registry)) {
        return proposal.do_without(kit, &pin.name);
    }
    let users: Vec<_> = proposal
        .definitions
        .iter()
        .filter(|one| {
            one.pins()
                .iter()
                .any(|(kit, name)| registry_of(*kit) == Some(pin.registry) && *name == pin.name)
        })
        .map(|one| one.address.clone())
        .collect();
    proposal.left_out.push(Omission {
        what: format!("{} {}", pin.registry, pin.name),
        why: why.to_owned(),
        files: BTreeSet::new(),
    });
    for address in users {
        let would = format!(
            "which would need {} {}, which {why}",
            pin.registry, pin.name
        );
        let fewer =
            kit_of(pin.registry).and_then(|kit| proposal.fewer(&address, kit, &pin.name, &would));
        if let Some(gone) = fewer {
            for name in gone {
                let what = format!("{}/{name}", address.below(""));
                proposal.left_out.push(Omission {
                    what,
                    why: would.clone(),
                    files: BTreeSet::new(),
                });
            }
            continue;
        }
        proposal.leave_out(
            &address,
            &nubrik_survey::needs_package(pin.registry, &pin.name, why),
        );
    }
}
