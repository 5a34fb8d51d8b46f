//! What somebody wants to have pinned, or no longer: the rules of each registry, before any version
//! is chosen.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_diagnostic::nearest;

use crate::file::{AskedPackage, PINS_FILE, Pin, Pins, Shelf};
use crate::pinning::Free;
use crate::problem::PinProblem;
use crate::registry::Registry;

/// A package of a registry, or more systems that its pins are for.
#[derive(Clone, Copy, Default)]
pub struct PinWish<'a> {
    /// The package, with extras behind it in brackets: `requests[socks]`. Without it, systems are
    /// added.
    pub name: Option<&'a str>,
    /// Parts of the requirement, in the registry's own grammar; none for any version.
    pub requirement: &'a [String],
    /// Features that are wanted.
    pub features: &'a [String],
    /// Whether features are off that are on by themselves.
    pub bare: bool,
    /// How its archives are called, with `{version}` in it.
    pub file: Option<&'a str>,
    /// Systems beside this one.
    pub systems: &'a [String],
    /// The version of Python, where it is not that of this machine.
    pub python: Option<&'a str>,
}

/// This machine, as pins see it.
pub struct PinMachine<'a> {
    /// Its system: `linux-x86_64`.
    pub system: &'a str,
    /// The facts about a system that decide about versions of a registry, by their names.
    pub facts_of: &'a dyn Fn(Registry, &str) -> BTreeMap<String, String>,
}

/// What is to be chosen for a wish.
pub struct WishedPins {
    /// What is asked for, with the wish.
    pub pins: Pins,
    /// Which versions may change.
    pub free: Free,
    /// The package that is new, if the wish is about one.
    pub added: Option<(Registry, String)>,
}

/// Why a wish cannot be met.
#[derive(Debug, PartialEq, Eq)]
pub enum WishProblem {
    /// It means nothing in its registry, or here.
    Meaningless(PinProblem),
    /// The machine lacks something that has to be known.
    Machine(PinProblem),
}

impl From<PinProblem> for WishProblem {
    fn from(problem: PinProblem) -> WishProblem {
        WishProblem::Meaningless(problem)
    }
}

/// The registry that a word names; `to` is the command that it was written for, which a mend
/// repeats.
///
/// # Errors
/// Where there is no such registry.
pub fn registry_of_word(word: &str, to: &str) -> Result<Registry, PinProblem> {
    Registry::named(word).ok_or_else(|| {
        let names: Vec<&str> = Registry::ALL.into_iter().map(Registry::name).collect();
        let near = Registry::meant(word)
            .map(Registry::name)
            .or_else(|| nearest(word, names.iter().copied()));
        let known = format!(
            "no registry is called `{word}`; there is: {}",
            names.join(", ")
        );
        let problem = PinProblem::new(known);
        match near {
            Some(near) => problem.mend(format!("nubrik pins {to} {near} …")),
            None => problem,
        }
    })
}

impl PinWish<'_> {
    /// What is to be chosen so that pins meet the wish as well.
    ///
    /// # Errors
    /// Where the registry knows nothing of that kind, or the machine lacks something that has to be
    /// known.
    pub fn added_to(
        &self,
        pins: &Pins,
        registry: Registry,
        machine: &PinMachine<'_>,
    ) -> Result<WishedPins, WishProblem> {
        let mut pins = pins.clone();
        let shelf = pins.shelves.entry(registry).or_default();
        self.add_systems(registry, shelf, machine)?;
        let Some(word) = self.name else {
            if shelf.asked.is_empty() || (self.systems.is_empty() && self.python.is_none()) {
                let problem = PinProblem::new(format!("which package of {registry}?"));
                return Err(problem
                    .mend(format!("nubrik pins add {registry} NAME"))
                    .into());
            }
            return Ok(WishedPins {
                pins,
                free: Free::Nothing,
                added: None,
            });
        };
        let row = registry.description();
        let (name, mut features) = name_and_features(registry, word)?;
        features.extend(self.features.iter().map(|feature| (row.spelled)(feature)));
        features.sort();
        features.dedup();
        self.fits(registry, &name, !features.is_empty())?;
        let requirement = self.requirement.join(row.between);
        let before = shelf.asked.get(&name);
        let file = self
            .file
            .map(str::to_owned)
            .or_else(|| before.and_then(|asked| asked.file.clone()));
        let pins_before = before.map(|asked| asked.pins.clone()).unwrap_or_default();
        let asked = AskedPackage {
            requirement,
            features,
            bare: self.bare,
            file,
            pins: pins_before,
        };
        shelf.asked.insert(name.clone(), asked);
        let free = Free::Names([name.clone()].into());
        Ok(WishedPins {
            pins,
            free,
            added: Some((registry, name)),
        })
    }

    /// Whether the wish means something in a registry.
    fn fits(&self, registry: Registry, name: &str, has_features: bool) -> Result<(), PinProblem> {
        let row = registry.description();
        let lacks = if has_features && !row.has_features {
            "has no features"
        } else if self.bare && !row.has_default_features {
            "has no default features"
        } else if self.file.is_some() && !row.names_files {
            "says itself how its archives are called"
        } else {
            return Ok(());
        };
        let problem = PinProblem::new(format!("what comes from `{registry}` {lacks}"));
        Err(problem.mend(format!("nubrik pins add {registry} {name}")))
    }

    /// Adds systems to a shelf: this one, if there is none yet, and those that are named.
    fn add_systems(
        &self,
        registry: Registry,
        shelf: &mut Shelf,
        machine: &PinMachine<'_>,
    ) -> Result<(), WishProblem> {
        let row = registry.description();
        if !row.differs_by_system {
            return match self.systems.is_empty() && self.python.is_none() {
                true => Ok(()),
                false => {
                    let message =
                        format!("what comes from `{registry}` is the same on all systems");
                    Err(PinProblem::new(message).into())
                }
            };
        }
        let own = shelf.systems.is_empty().then_some(machine.system);
        for system in own
            .into_iter()
            .chain(self.systems.iter().map(String::as_str))
        {
            if !shelf.systems.contains_key(system) {
                shelf
                    .systems
                    .insert(system.to_owned(), (machine.facts_of)(registry, system));
            }
        }
        if let Some(version) = self.python {
            if registry != Registry::Python {
                return Err(PinProblem::new("`--python` is about the registry `python`").into());
            }
            for facts in shelf.systems.values_mut() {
                facts.insert("python".to_owned(), version.to_owned());
            }
        }
        let lacks = row.measured.as_ref().is_some_and(|measured| {
            let lacks = |facts: &BTreeMap<String, String>| !facts.contains_key(measured.fact);
            measured.is_needed && shelf.systems.values().any(lacks)
        });
        if !lacks {
            return Ok(());
        }
        let problem =
            PinProblem::new("there is no Python here, so it is not known for which version");
        let problem = problem
            .mend("nubrik pins add python … --python 3.11")
            .mend("install python3");
        Err(WishProblem::Machine(problem))
    }
}

/// A word as a name of a registry and its extras: `requests[socks]`.
fn name_and_features(registry: Registry, word: &str) -> Result<(String, Vec<String>), PinProblem> {
    let row = registry.description();
    let (name, features) = match word.split_once('[') {
        None => (word, Vec::new()),
        Some((name, rest)) => {
            let inside = rest.strip_suffix(']').unwrap_or(rest);
            (
                name,
                inside
                    .split(',')
                    .map(|f| (row.spelled)(f.trim()))
                    .filter(|f| !f.is_empty())
                    .collect(),
            )
        }
    };
    if (row.is_name)(name) {
        return Ok(((row.spelled)(name), features));
    }
    let problem = PinProblem::new(format!("`{name}` is no name of a package"));
    let cut = name
        .find(['<', '>', '=', '~', '^', '!', '@', ' '])
        .filter(|at| *at > 0);
    Err(match cut {
        Some(at) => problem.mend(format!("{} \"{}\"", &name[..at], &name[at..])),
        None => problem,
    })
}

impl Pins {
    /// The pins without a package that was asked for. With the last one of a registry its shelf
    /// goes, too.
    ///
    /// # Errors
    /// Where nobody asks for it.
    pub fn without(&self, registry: Registry, word: &str) -> Result<Pins, PinProblem> {
        let name = (registry.description().spelled)(word);
        let mut pins = self.clone();
        let shelf = pins.shelves.entry(registry).or_default();
        if shelf.asked.remove(&name).is_none() {
            let problem = PinProblem::new(format!(
                "{PINS_FILE} does not ask for `{name}` of {registry}"
            ));
            if let Some(id) = shelf
                .pins
                .values()
                .find(|pin| pin.name == name)
                .map(Pin::id)
            {
                return Err(problem.note(format!(
                    "it is there because of: {}",
                    shelf.chain(&id).join(" → ")
                )));
            }
            return Err(
                match nearest(&name, shelf.asked.keys().map(String::as_str)) {
                    Some(near) => problem.mend(format!("nubrik pins drop {registry} {near}")),
                    None => problem,
                },
            );
        }
        if shelf.asked.is_empty() {
            pins.shelves.remove(&registry);
        }
        Ok(pins)
    }

    /// Names of pins that a word means, of all registries or of one.
    ///
    /// # Errors
    /// Where it means none.
    pub fn names_of(
        &self,
        word: &str,
        only: Option<Registry>,
    ) -> Result<BTreeSet<String>, PinProblem> {
        let shelves = self
            .shelves
            .iter()
            .filter(|(registry, _)| only.is_none_or(|o| o == **registry));
        let all: BTreeSet<String> = shelves
            .flat_map(|(_, shelf)| shelf.pins.values())
            .map(|pin| pin.name.clone())
            .collect();
        let spelled: Vec<String> = Registry::ALL
            .into_iter()
            .map(|registry| (registry.description().spelled)(word))
            .collect();
        let meant: BTreeSet<String> = all
            .iter()
            .filter(|name| **name == word || spelled.contains(name))
            .cloned()
            .collect();
        if !meant.is_empty() {
            return Ok(meant);
        }
        let problem = PinProblem::new(format!("nothing that is pinned is called `{word}`"));
        Err(match nearest(word, all.iter().map(String::as_str)) {
            Some(near) => problem.mend(format!("nubrik pins update {near}")),
            None => problem,
        })
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    fn added(pins: &Pins, registry: Registry, wish: PinWish<'_>) -> Result<WishedPins, String> {
        let facts_of =
            |_: Registry, _: &str| BTreeMap::from([("python".to_owned(), "3.11".to_owned())]);
        let machine = PinMachine {
            system: "linux-x86_64",
            facts_of: &facts_of,
        };
        wish.added_to(pins, registry, &machine)
            .map_err(|problem| match problem {
                WishProblem::Meaningless(problem) | WishProblem::Machine(problem) => {
                    problem.message
                }
            })
    }

    fn named(name: &str) -> PinWish<'_> {
        PinWish {
            name: Some(name),
            ..PinWish::default()
        }
    }

    #[test]
    fn extras_go_with_the_name_and_a_file_of_before_stays() {
        let features = ["Use_Chardet".to_owned()];
        let wish = PinWish {
            features: &features,
            ..named("Requests[socks]")
        };
        let wished = added(&Pins::default(), Registry::Python, wish).unwrap();
        let asked = &wished.pins.shelves[&Registry::Python].asked["requests"];
        assert_eq!(asked.features, ["socks", "use-chardet"]);
        assert_eq!(
            wished.added,
            Some((Registry::Python, "requests".to_owned()))
        );
        assert_eq!(wished.free, Free::Names(["requests".to_owned()].into()));
        let file = PinWish {
            file: Some("lua-{version}.tar.gz"),
            ..named("lua")
        };
        let first = added(&Pins::default(), Registry::Archive, file).unwrap();
        let again = added(&first.pins, Registry::Archive, named("lua")).unwrap();
        let file = again.pins.shelves[&Registry::Archive].asked["lua"]
            .file
            .as_deref();
        assert_eq!(file, Some("lua-{version}.tar.gz"));
    }

    #[test]
    fn what_a_registry_does_not_have_is_refused() {
        let none = Pins::default();
        let refused = |registry, wish| added(&none, registry, wish).map(|_| ()).unwrap_err();
        let file = PinWish {
            file: Some("a-{version}.zip"),
            ..named("click")
        };
        assert_eq!(
            refused(Registry::Python, file),
            "what comes from `python` says itself how its archives are called"
        );
        let bare = PinWish {
            bare: true,
            ..named("click")
        };
        assert_eq!(
            refused(Registry::Python, bare),
            "what comes from `python` has no default features"
        );
        let features = ["a".to_owned()];
        let with = PinWish {
            features: &features,
            ..named("left")
        };
        assert_eq!(
            refused(Registry::Js, with),
            "what comes from `js` has no features"
        );
        let system = ["linux-aarch64".to_owned()];
        let of_system = PinWish {
            systems: &system,
            ..named("a.b:c")
        };
        assert_eq!(
            refused(Registry::Java, of_system),
            "what comes from `java` is the same on all systems"
        );
        assert_eq!(
            refused(Registry::Python, named("click>=8")),
            "`click>=8` is no name of a package"
        );
        assert_eq!(
            refused(Registry::Rust, PinWish::default()),
            "which package of rust?"
        );
        let python = PinWish {
            python: Some("3.11"),
            ..named("serde")
        };
        assert_eq!(
            refused(Registry::Rust, python),
            "`--python` is about the registry `python`"
        );
        let nothing = |_: Registry, _: &str| BTreeMap::new();
        let machine = PinMachine {
            system: "linux-x86_64",
            facts_of: &nothing,
        };
        let without = named("click").added_to(&none, Registry::Python, &machine);
        assert!(matches!(without, Err(WishProblem::Machine(_))));
    }

    #[test]
    fn only_what_is_asked_for_is_dropped() {
        let pins = added(&Pins::default(), Registry::Rust, named("serde"))
            .unwrap()
            .pins;
        assert!(
            pins.without(Registry::Rust, "serde")
                .unwrap()
                .shelves
                .is_empty()
        );
        let other = pins.without(Registry::Rust, "serdo").unwrap_err();
        assert_eq!(other.mends, ["nubrik pins drop rust serde"]);
        assert!(
            pins.names_of("serde", None).is_err(),
            "it is asked for, and not pinned yet"
        );
        assert_eq!(
            registry_of_word("rusty", "add").unwrap_err().mends,
            ["nubrik pins add rust …"]
        );
    }
}
