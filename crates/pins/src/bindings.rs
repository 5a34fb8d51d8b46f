//! Which origins are asked for a package. What is pinned from one of several is bound to it: no
//! other one is asked for a package of that name, whatever the first one answers.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

use crate::file::{PINS_FILE, Pin, Pins};
use crate::origin::Origin;
use crate::{PinProblem, Registry};
use parking_lot::Mutex;

/// A package of a registry.
type RegistryPackage = (Registry, String);

/// The names of the origins to which packages are bound that are pinned.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct BoundPackages(BTreeMap<RegistryPackage, BTreeSet<String>>);

impl BoundPackages {
    /// Those that `pins.toml` binds.
    pub fn of(pins: &Pins) -> BoundPackages {
        let mut bound = BoundPackages::default();
        for (registry, shelf) in &pins.shelves {
            shelf
                .pins
                .values()
                .for_each(|pin| bound.bind(*registry, pin));
        }
        bound
    }

    fn bind(&mut self, registry: Registry, pin: &Pin) {
        if let Some(origin) = &pin.origin {
            self.0
                .entry((registry, pin.name.clone()))
                .or_default()
                .insert(origin.clone());
        }
    }
}

/// Packages that are bound to origins, and those that were asked for in this run.
#[derive(Default)]
pub(crate) struct Bindings {
    /// What is pinned already.
    bound: Mutex<Arc<BoundPackages>>,
    /// By which origin each package was given; nothing for one that was asked for in vain.
    given_by: Mutex<BTreeMap<RegistryPackage, Option<Origin>>>,
}

impl Bindings {
    /// Where what is pinned is bound so.
    pub fn new(bound: Arc<BoundPackages>) -> Bindings {
        Bindings {
            bound: Mutex::new(bound),
            given_by: Mutex::default(),
        }
    }

    /// Takes note of what a pin is bound to.
    pub fn know(&self, registry: Registry, pin: &Pin) {
        Arc::make_mut(&mut self.bound.lock()).bind(registry, pin);
    }

    /// Takes note that an origin gave a document of a package.
    pub fn given(&self, registry: Registry, package: &str, origin: &Origin) {
        self.given_by
            .lock()
            .insert((registry, package.to_owned()), Some(origin.clone()));
    }

    /// The origins that are asked for a package, of all of its registry: those that are for it, and
    /// of these the one to which it is bound. What was gathered in the `mirror` came from there.
    ///
    /// # Errors
    /// When it is bound to an origin that nobody names now.
    pub fn origins(
        &self,
        registry: Registry,
        package: &str,
        (all, mirror): (Vec<Origin>, Option<&Path>),
    ) -> Result<Vec<Origin>, PinProblem> {
        let of = (registry, package.to_owned());
        self.given_by.lock().entry(of.clone()).or_default();
        let origins = for_name(all, package);
        let bound = self.bound.lock();
        let Some(bound) = bound.0.get(&of) else {
            return Ok(origins);
        };
        let (own, others): (Vec<Origin>, Vec<Origin>) = origins
            .into_iter()
            .partition(|origin| bound.contains(&origin.name));
        let is_mirror = |origin: &Origin| mirror.is_some_and(|mirror| origin.is_in(mirror));
        match own.is_empty() {
            true if !others.iter().all(is_mirror) => Err(nobody_names(package, bound, &others)),
            true => Ok(others),
            false => Ok(own),
        }
    }

    /// What a person should know where something cannot be had: which packages are asked for at one
    /// origin alone, and show nothing there.
    pub fn explained(&self, registry: Registry, mut problem: PinProblem) -> PinProblem {
        let given_by = self.given_by.lock();
        for (of, bound) in self
            .bound
            .lock()
            .0
            .iter()
            .filter(|(of, _)| of.0 == registry)
        {
            if given_by.get(of) == Some(&None) {
                problem = problem.note(format!(
                    "{} is pinned from the origin {}, which shows none now; no other one is asked for it",
                    of.1,
                    listed(bound)
                ));
                problem = problem.mend("look whether the credential of that origin still counts");
            }
        }
        problem
    }

    /// The name of the origin to which a pin of a package is bound from now on; nothing where its
    /// registry has one origin without a name, or where the scope of the package's name says the
    /// origin.
    pub fn of(&self, registry: Registry, package: &str, all: &[Origin]) -> Option<String> {
        let given_by = self.given_by.lock();
        let origin = given_by.get(&(registry, package.to_owned()))?.as_ref()?;
        let is_one_of_several =
            origin.scope.is_none() && all.iter().filter(|other| other.scope.is_none()).count() > 1;
        (origin.is_named || is_one_of_several).then(|| origin.name.clone())
    }
}

fn listed(names: &BTreeSet<String>) -> String {
    names
        .iter()
        .map(String::as_str)
        .collect::<Vec<_>>()
        .join(", ")
}

/// That a package is bound to an origin that nobody names now.
fn nobody_names(package: &str, bound: &BTreeSet<String>, others: &[Origin]) -> PinProblem {
    let others: BTreeSet<String> = others.iter().map(|origin| origin.name.clone()).collect();
    PinProblem::new(format!(
        "`{package}` is pinned from the origin {}, and no address is called that now",
        listed(bound)
    ))
    .note(format!("there are: {}", listed(&others)))
    .mend("name = \"…\" at the address in [origins] of nubrik.toml   if it is the same origin at another address")
    .mend(format!("remove `origin` of {package} in {PINS_FILE}   if another origin may give it from now on"))
}

/// The origins that are for a package: those of its scope, if it has one with origins of its own,
/// and those with a pattern for it.
fn for_name(origins: Vec<Origin>, name: &str) -> Vec<Origin> {
    let scope = name.split_once('/').map(|(scope, _)| scope);
    let own = |origin: &Origin| origin.scope.is_some() && origin.scope.as_deref() == scope;
    let has_own = origins.iter().any(own);
    let origins: Vec<Origin> = origins
        .into_iter()
        .filter(|o| if has_own { own(o) } else { o.scope.is_none() })
        .collect();
    // What one origin is for, no other one hears of.
    let is_claimed = origins.iter().any(|origin| origin.claims(name));
    let is_for = |o: &Origin| {
        if is_claimed {
            o.claims(name)
        } else {
            o.packages.is_empty()
        }
    };
    origins.into_iter().filter(is_for).collect()
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use nubrik_web::Address;

    use super::*;

    fn origin(name: &str, packages: &[&str]) -> Origin {
        let address = Address::parse(&format!("https://{name}.example/simple"))
            .unwrap()
            .0;
        let packages = packages.iter().map(|&pattern| pattern.to_owned()).collect();
        Origin {
            packages,
            ..Origin::new(address, None, "nubrik.toml")
        }
    }

    fn asked(bindings: &Bindings, package: &str, all: &[Origin]) -> Result<Vec<String>, String> {
        let origins = bindings.origins(Registry::Python, package, (all.to_vec(), None));
        let names = origins.map_err(|problem| problem.message)?;
        Ok(names
            .into_iter()
            .map(|origin| origin.name.replace(".example/simple", ""))
            .collect())
    }

    #[test]
    fn what_is_pinned_from_one_origin_is_asked_for_there_alone() {
        let all = [origin("own", &[]), origin("public", &[])];
        let bindings = Bindings::default();
        assert_eq!(
            asked(&bindings, "tidelib", &all).unwrap(),
            ["own", "public"]
        );
        let pin = Pin {
            name: "tidelib".to_owned(),
            origin: Some("own.example/simple".to_owned()),
            ..Pin::default()
        };
        bindings.know(Registry::Python, &pin);
        assert_eq!(asked(&bindings, "tidelib", &all).unwrap(), ["own"]);
        assert_eq!(asked(&bindings, "click", &all).unwrap(), ["own", "public"]);
        let problem = asked(&bindings, "tidelib", &all[1..]).unwrap_err();
        assert!(problem.contains("no address is called that"), "{problem}");
        // That it shows none is said.
        let explained = bindings.explained(Registry::Python, PinProblem::new("x"));
        assert!(
            explained.notes[0].contains("tidelib is pinned from the origin own.example/simple")
        );
        bindings.given(Registry::Python, "tidelib", &all[0]);
        assert!(
            bindings
                .explained(Registry::Python, PinProblem::new("x"))
                .notes
                .is_empty()
        );
    }

    #[test]
    fn what_an_origin_is_for_no_other_one_hears_of() {
        let all = [origin("own", &["tide*", "isles-*"]), origin("public", &[])];
        let bindings = Bindings::default();
        assert_eq!(asked(&bindings, "tidelib", &all).unwrap(), ["own"]);
        assert_eq!(asked(&bindings, "isles-maps", &all).unwrap(), ["own"]);
        assert_eq!(asked(&bindings, "click", &all).unwrap(), ["public"]);
    }

    #[test]
    fn one_origin_without_a_name_binds_nothing() {
        let (own, public) = (origin("own", &[]), origin("public", &[]));
        let bindings = Bindings::default();
        bindings.given(Registry::Python, "tidelib", &own);
        assert_eq!(
            bindings.of(Registry::Python, "tidelib", std::slice::from_ref(&own)),
            None
        );
        assert_eq!(
            bindings
                .of(Registry::Python, "tidelib", &[own, public])
                .unwrap(),
            "own.example/simple"
        );
        let named = Origin {
            name: "company".to_owned(),
            is_named: true,
            ..origin("own", &[])
        };
        bindings.given(Registry::Python, "tidelib", &named);
        assert_eq!(
            bindings.of(Registry::Python, "tidelib", &[named]).unwrap(),
            "company"
        );
    }
}
