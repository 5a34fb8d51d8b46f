//! Pins beside those of before: which are new, changed and gone; and newer versions that there are.

use std::collections::{BTreeMap, BTreeSet};

use crate::desk::Desk;
use crate::file::{ASKED, Pin, Pins, Shelf, pin_id};
use crate::pinning::{Free, newest, resolve};
use crate::problem::PinProblem;
use crate::registry::Registry;

/// A pin that is new, another one, or gone.
pub struct PinChange<'p> {
    /// The registry that it is of.
    pub registry: Registry,
    /// The version of now; `None` where it is gone.
    pub version: Option<&'p str>,
    /// The version of before; `None` where it is new.
    pub before: Option<&'p str>,
    /// The pin of now; that of before where it is gone.
    pub pin: &'p Pin,
    /// The shelf that the pin is on.
    pub shelf: &'p Shelf,
}

impl PinChange<'_> {
    /// The word for it: `new`, `changed` or `gone`.
    pub fn word(&self) -> &'static str {
        match (self.version, self.before) {
            (Some(_), None) => "new",
            (Some(_), Some(_)) => "changed",
            (None, _) => "gone",
        }
    }
}

impl Pins {
    /// All differences from the pins of before, by registry and name.
    pub fn changes_since<'p>(&'p self, before: &'p Pins) -> Vec<PinChange<'p>> {
        let registries: BTreeSet<Registry> = before
            .shelves
            .keys()
            .chain(self.shelves.keys())
            .copied()
            .collect();
        let mut changes = Vec::new();
        for registry in registries {
            changes_of(
                registry,
                before.shelves.get(&registry),
                self.shelves.get(&registry),
                &mut changes,
            );
        }
        changes
    }
}

fn changes_of<'p>(
    registry: Registry,
    before: Option<&'p Shelf>,
    now: Option<&'p Shelf>,
    changes: &mut Vec<PinChange<'p>>,
) {
    let versions = |shelf: Option<&'p Shelf>| {
        let mut by_name: BTreeMap<&'p str, Vec<&'p str>> = BTreeMap::new();
        for pin in shelf.into_iter().flat_map(|shelf| shelf.pins.values()) {
            by_name.entry(&pin.name).or_default().push(&pin.version);
        }
        by_name
    };
    let (old, new) = (versions(before), versions(now));
    let names: BTreeSet<&str> = old.keys().chain(new.keys()).copied().collect();
    for name in names {
        let of = |all: &BTreeMap<&str, Vec<&'p str>>| all.get(name).cloned().unwrap_or_default();
        let (was, is) = (of(&old), of(&new));
        let mut gone: Vec<&str> = was
            .iter()
            .filter(|version| !is.contains(version))
            .copied()
            .collect();
        for version in is.iter().filter(|version| !was.contains(version)) {
            let Some((shelf, pin)) = pin_on(now, name, version) else {
                continue;
            };
            // One version that goes and one that comes is a change.
            let (version, before) = (Some(*version), gone.pop());
            changes.push(PinChange {
                registry,
                version,
                before,
                pin,
                shelf,
            });
        }
        for version in gone {
            let Some((shelf, pin)) = pin_on(before, name, version) else {
                continue;
            };
            changes.push(PinChange {
                registry,
                version: None,
                before: Some(version),
                pin,
                shelf,
            });
        }
    }
}

fn pin_on<'p>(shelf: Option<&'p Shelf>, name: &str, version: &str) -> Option<(&'p Shelf, &'p Pin)> {
    let shelf = shelf?;
    Some((shelf, shelf.pins.get(&pin_id(name, version))?))
}

impl Shelf {
    /// Who wants one of its pins: a person, or other pins.
    pub fn why(&self, pin: &Pin) -> String {
        let asked = self
            .asked
            .get(&pin.name)
            .filter(|_| pin.wanted_by.iter().any(|who| who == ASKED));
        match asked {
            Some(asked) if asked.requirement.is_empty() => "you ask for it".to_owned(),
            Some(asked) => format!("you ask for {}", asked.requirement),
            None => match pin.wanted_by.as_slice() {
                [one] => format!("{one} needs it"),
                [one, rest @ ..] => format!("{one} needs it, and {} more", rest.len()),
                [] => String::new(),
            },
        }
    }
}

/// A pin of which there is a newer version.
pub struct NewerVersion<'p> {
    /// The pin.
    pub pin: &'p Pin,
    /// The newest version that the requirements allow; `None` where the pin has it.
    pub allowed: Option<String>,
    /// A newer version than that, which they do not allow.
    pub beyond: Option<String>,
    /// The requirement, where a person asks for it.
    pub requirement: Option<&'p str>,
}

/// Asks a registry for newer versions of all pins of a shelf.
///
/// # Errors
/// Where the registry cannot be asked, or no versions hold together.
pub fn newer_versions<'p>(
    desk: &Desk<'_>,
    registry: Registry,
    shelf: &'p Shelf,
) -> Result<Vec<NewerVersion<'p>>, PinProblem> {
    let now = resolve(desk, registry, shelf, &Free::Everything)?;
    let mut newer = Vec::new();
    for (id, pin) in &shelf.pins {
        let asked = shelf.asked.get(&pin.name);
        let newest = if asked.is_some() {
            newest(desk, registry, &pin.name)?
        } else {
            None
        };
        let allowed = match now.pins.contains_key(id) {
            true => None,
            false => now
                .pins
                .values()
                .rfind(|p| p.name == pin.name)
                .map(|p| p.version.clone()),
        };
        let beyond =
            newest.filter(|version| *version != pin.version && Some(version) != allowed.as_ref());
        if allowed.is_some() || beyond.is_some() {
            let requirement = asked.map(|asked| asked.requirement.as_str());
            newer.push(NewerVersion {
                pin,
                allowed,
                beyond,
                requirement,
            });
        }
    }
    Ok(newer)
}
