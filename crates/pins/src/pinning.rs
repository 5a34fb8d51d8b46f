//! From what is asked for to exact versions.

use std::collections::{BTreeMap, BTreeSet};

use crate::desk::Desk;
use crate::file::{AskedPackage, Shelf};
use crate::solved::{Preferred, Solved, together};
use crate::{PinProblem, Registry};

/// Which versions may change that are pinned already.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Free {
    /// None, as far as the others still do.
    Nothing,
    /// Those of these names.
    Names(BTreeSet<String>),
    /// All.
    Everything,
}

impl Free {
    /// Whether the version of a package of this name may change.
    fn frees(&self, name: &str) -> bool {
        match self {
            Free::Nothing => false,
            Free::Names(names) => names.contains(name),
            Free::Everything => true,
        }
    }
}

/// Chooses versions for all that a shelf asks for, on each of its systems. What is pinned already
/// stays as it is, if it is not free and still does.
///
/// # Errors
/// When a registry cannot be asked, does not have something, or no versions fit together. The text
/// then says who wants what, and which requirement to relax.
pub fn resolve(
    desk: &Desk<'_>,
    registry: Registry,
    shelf: &Shelf,
    free: &Free,
) -> Result<Shelf, PinProblem> {
    desk.know(registry, shelf);
    let mut solved = resolved(desk, registry, shelf, free)
        .map_err(|problem| desk.bindings.explained(registry, problem))?;
    let all = desk.origins(registry).unwrap_or_default();
    let before: BTreeMap<&str, &String> = shelf
        .pins
        .values()
        .filter_map(|pin| Some((pin.name.as_str(), pin.origin.as_ref()?)))
        .collect();
    for pin in solved.pins.values_mut() {
        // What nobody was asked for now stays bound to where it came from.
        let known = || {
            before
                .get(pin.name.as_str())
                .map(|origin| (*origin).clone())
        };
        pin.origin = known().or_else(|| desk.bindings.of(registry, &pin.name, &all));
    }
    Ok(solved)
}

fn resolved(
    desk: &Desk<'_>,
    registry: Registry,
    shelf: &Shelf,
    free: &Free,
) -> Result<Shelf, PinProblem> {
    let mut preferred = kept_versions(shelf, free);
    prefer_locked(&mut preferred, &desk.locked(registry)?.versions, free);
    if !registry.description().differs_by_system {
        let everywhere = BTreeMap::from([(String::new(), BTreeMap::new())]);
        let (system, facts) = (String::new(), BTreeMap::new());
        let one = on_system(desk, registry, (&system, &facts), &shelf.asked, &preferred)
            .map_err(|problem| with_ways_out(desk, registry, (&system, &facts), shelf, problem))?;
        let settled = together(&everywhere, &shelf.asked, vec![one]);
        return Ok(Shelf {
            systems: BTreeMap::new(),
            ..settled
        });
    }
    let mut solved = Vec::new();
    for (system, facts) in &shelf.systems {
        let one = on_system(desk, registry, (system, facts), &shelf.asked, &preferred)
            .map_err(|problem| with_ways_out(desk, registry, (system, facts), shelf, problem))?;
        // The same version everywhere, where that does.
        for pin in one.pins.values() {
            let versions = preferred.entry(pin.name.clone()).or_default();
            if !versions.contains(&pin.version) {
                versions.insert(0, pin.version.clone());
            }
        }
        solved.push(one);
    }
    Ok(together(&shelf.systems, &shelf.asked, solved))
}

/// The newest released version of a package, whatever it needs; `None` if there is none.
///
/// # Errors
/// When the registry cannot be asked.
pub fn newest(
    desk: &Desk<'_>,
    registry: Registry,
    name: &str,
) -> Result<Option<String>, PinProblem> {
    (registry.description().newest)(desk, name)
}

type System<'a> = (&'a str, &'a BTreeMap<String, String>);

fn on_system(
    desk: &Desk<'_>,
    registry: Registry,
    system: System<'_>,
    asked: &BTreeMap<String, AskedPackage>,
    preferred: &Preferred,
) -> Result<Solved, PinProblem> {
    (registry.description().resolve)(desk, system, asked, preferred)
}

fn kept_versions(shelf: &Shelf, free: &Free) -> Preferred {
    let mut preferred = Preferred::new();
    for pin in shelf.pins.values() {
        let is_free = free.frees(&pin.name);
        if !is_free {
            preferred
                .entry(pin.name.clone())
                .or_default()
                .push(pin.version.clone());
        }
    }
    preferred
}

/// Adds versions that lock files name, behind those that are pinned, but for those that are to be
/// chosen anew.
fn prefer_locked(preferred: &mut Preferred, locked: &Preferred, free: &Free) {
    for (name, versions) in locked {
        let is_free = free.frees(name);
        if !is_free {
            let known = preferred.entry(name.clone()).or_default();
            let new: Vec<String> = versions
                .iter()
                .filter(|version| !known.contains(version))
                .cloned()
                .collect();
            known.extend(new);
        }
    }
}

/// Tries which requirement would have to go, and says so.
fn with_ways_out(
    desk: &Desk<'_>,
    registry: Registry,
    system: System<'_>,
    shelf: &Shelf,
    mut problem: PinProblem,
) -> PinProblem {
    if problem.message != crate::explain::NOTHING_FITS {
        return problem;
    }
    if shelf.systems.len() > 1 {
        problem.notes.insert(0, format!("on {}", system.0));
    }
    for (name, asked) in shelf
        .asked
        .iter()
        .filter(|(_, asked)| !asked.requirement.is_empty())
    {
        let mut relaxed = shelf.asked.clone();
        relaxed.insert(
            name.clone(),
            AskedPackage {
                requirement: String::new(),
                ..asked.clone()
            },
        );
        let Ok(solved) = on_system(desk, registry, system, &relaxed, &Preferred::new()) else {
            continue;
        };
        let version = solved.asked.get(name).and_then(|id| id.rsplit_once('@'));
        let version = version.map_or("another version", |(_, version)| version);
        problem.mends.push(format!(
            "nubrik pins add {registry} {name} \"…\"   without its \"{}\", {name} {version} fits all others",
            asked.requirement
        ));
    }
    if problem.mends.is_empty() && shelf.asked.len() > 1 {
        for name in shelf.asked.keys() {
            let mut fewer = shelf.asked.clone();
            fewer.remove(name);
            if on_system(desk, registry, system, &fewer, &Preferred::new()).is_ok() {
                problem.mends.push(format!(
                    "nubrik pins drop {registry} {name}   all others fit together"
                ));
            }
        }
    }
    problem
}
