//! Which versions of crates fit together, for one system.
//!
//! Versions that a requirement without a lower end would take together share one choice; others
//! stand side by side. Which features are on depends on which versions were chosen, and the other
//! way round: versions are chosen again with the features found, until nothing changes.

use std::cell::RefCell;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fmt;
use std::sync::Arc;

use pubgrub::{Dependencies, DependencyProvider, PackageResolutionStatistics, Ranges};
use semver::{Version, VersionReq};

use super::features::{Active, active};
use super::index::{self, CrateNeed, CratePage, CrateRelease};
use super::manifest::Manifest;
use super::platform::CrateTarget;
use crate::PinProblem;
use crate::desk::{Desk, HeldArchive, WantedArchive, held_archives};
use crate::explain::{Wording, chosen_or_conflict, explained};
use crate::file::{Archive, AskedPackage, Need, Pin, pin_id};
use crate::pages::PackagePages;
use crate::solved::{Preferred, Solved, parsed_versions};

/// How often versions are chosen again with the features that were found. Each time features of one
/// more level are known.
const ROUNDS: usize = 200;

type CrateRange = Ranges<Version>;

/// The versions of a crate that are compatible: of one first number that is not 0.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
enum VersionLine {
    Major(u64),
    Minor(u64),
    Patch(u64),
}

impl VersionLine {
    fn of(version: &Version) -> VersionLine {
        match (version.major, version.minor) {
            (0, 0) => VersionLine::Patch(version.patch),
            (0, minor) => VersionLine::Minor(minor),
            (major, _) => VersionLine::Major(major),
        }
    }
}

/// What is decided about.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
enum CrateNode {
    Root,
    Crate(String, VersionLine),
}

impl fmt::Display for CrateNode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            CrateNode::Root => f.write_str("pins.toml"),
            CrateNode::Crate(name, _) => f.write_str(name),
        }
    }
}

/// Features that are wanted of each crate.
type WantedFeatures = BTreeMap<CrateNode, BTreeSet<String>>;

/// What was chosen.
type ChosenCrates = BTreeMap<CrateNode, Version>;

struct CrateProvider<'a> {
    desk: &'a Desk<'a>,
    target: CrateTarget,
    rustc: Option<(u64, u64)>,
    /// What is asked for, as if the root were a crate.
    root: CrateRelease,
    preferred: BTreeMap<String, Vec<Version>>,
    pages: PackagePages<'a, CratePage>,
    wanted: WantedFeatures,
    /// In which order crates were met.
    met: RefCell<HashMap<CrateNode, usize>>,
}

/// Chooses a version of everything that is asked for and of what that needs.
pub(crate) fn resolve(
    desk: &Desk<'_>,
    system: &str,
    facts: &BTreeMap<String, String>,
    asked: &BTreeMap<String, AskedPackage>,
    preferred: &Preferred,
) -> Result<Solved, PinProblem> {
    let mut needs = Vec::new();
    for (name, asked) in asked {
        let AskedPackage {
            requirement,
            features,
            bare,
            ..
        } = asked;
        needs.push(CrateNeed {
            name: name.clone(),
            package: name.clone(),
            is_renamed: false,
            requirement: requirement_of(name, requirement)?,
            features: features.clone(),
            with_default: !bare,
            is_optional: false,
            target: None,
            for_build: false,
        });
    }
    let mut provider = CrateProvider {
        desk,
        target: CrateTarget::of(system, facts)?,
        rustc: facts.get("rustc").and_then(|text| index::two_numbers(text)),
        root: CrateRelease {
            version: Version::new(0, 0, 0),
            needs,
            features: BTreeMap::new(),
            digest: String::new(),
            is_yanked: false,
            rustc: None,
        },
        preferred: parsed_versions(preferred, |text| Version::parse(text).ok()),
        pages: PackagePages::new(desk, index::page),
        wanted: WantedFeatures::new(),
        met: RefCell::default(),
    };
    for (name, asked) in asked {
        provider.check_asked(name, asked)?;
    }
    for _ in 0..ROUNDS {
        let chosen = provider.choose()?;
        let wanted = provider.wanted_by(&chosen)?;
        if wanted == provider.wanted {
            return provider.solved(&chosen, asked);
        }
        provider.wanted = wanted;
        provider.met.borrow_mut().clear();
    }
    Err(PinProblem::new(
        "features and versions of these crates depend on one another without an end",
    )
    .mend("name exact versions of what is asked for"))
}

/// A requirement of the command line or of `pins.toml`.
pub(crate) fn requirement_of(name: &str, requirement: &str) -> Result<VersionReq, PinProblem> {
    if requirement.trim().is_empty() {
        return Ok(VersionReq::STAR);
    }
    VersionReq::parse(requirement).map_err(|e| {
        PinProblem::new(format!(
            "`{requirement}` is no requirement of versions of `{name}`"
        ))
        .note(e.to_string())
        .mend("\"1.2\"   1.2 or newer, before 2")
        .mend("\">=1.2, <1.5\"")
    })
}

impl CrateProvider<'_> {
    fn page(&self, name: &str) -> Result<Option<Arc<CratePage>>, PinProblem> {
        self.pages.get(name)
    }

    /// What nobody publishes is a mistake of typing, and no conflict.
    fn check_asked(&self, name: &str, asked: &AskedPackage) -> Result<(), PinProblem> {
        let Some(page) = self.page(name)? else {
            let problem = PinProblem::new(format!("the registry `rust` has no `{name}`"));
            return Err(problem.mend("look at how the crate spells its name"));
        };
        let requirement = requirement_of(name, &asked.requirement)?;
        let fits = |r: &&CrateRelease| !r.is_yanked && requirement.matches(&r.version);
        let Some(newest) = page.releases.iter().rev().find(fits) else {
            return Ok(());
        };
        let is_known = |feature: &&String| {
            newest.features.contains_key(*feature)
                || newest
                    .needs
                    .iter()
                    .any(|need| need.is_optional && need.name == **feature)
        };
        if let Some(unknown) = asked.features.iter().find(|feature| !is_known(feature)) {
            let names: Vec<&str> = newest.features.keys().map(String::as_str).collect();
            let near = nubrik_diagnostic::nearest(unknown, names.iter().copied());
            let problem = PinProblem::new(format!(
                "{name} {} has no feature `{unknown}`",
                newest.version
            ))
            .note(format!("it has: {}", names.join(", ")));
            return Err(near
                .into_iter()
                .fold(problem, |problem, near| problem.mend(near)));
        }
        Ok(())
    }

    fn choose(&self) -> Result<ChosenCrates, PinProblem> {
        match chosen_or_conflict(pubgrub::resolve(
            self,
            CrateNode::Root,
            Version::new(0, 0, 0),
        ))? {
            Ok(chosen) => Ok(chosen
                .into_iter()
                .filter(|(node, _)| *node != CrateNode::Root)
                .collect()),
            Err(tree) => {
                let set = |node: &CrateNode, set: &CrateRange| self.worded(node, set);
                let is_ragged = |set: &CrateRange| set.iter().count() > 1;
                Err(explained(
                    &tree,
                    &Wording {
                        root: &CrateNode::Root,
                        set: &set,
                        is_ragged: &is_ragged,
                    },
                ))
            }
        }
    }

    /// A set of versions, in as few words as tell it from the others of its line.
    fn worded(&self, node: &CrateNode, set: &CrateRange) -> String {
        let CrateNode::Crate(name, line) = node else {
            return set.to_string();
        };
        let Ok(Some(page)) = self.page(name) else {
            return set.to_string();
        };
        let versions = page
            .releases
            .iter()
            .map(|r| &r.version)
            .filter(|v| VersionLine::of(v) == *line);
        set.simplify(versions).to_string()
    }

    /// Which choice a need is about, and which versions of it will do; `None` if there are none.
    fn place(&self, need: &CrateNeed) -> Result<Option<(CrateNode, CrateRange)>, PinProblem> {
        let name = &need.package;
        let page = self.page(name)?;
        let releases = page
            .as_ref()
            .map(|page| page.releases.as_slice())
            .unwrap_or_default();
        let is_early = need
            .requirement
            .comparators
            .iter()
            .any(|c| !c.pre.is_empty());
        let fitting = |r: &&CrateRelease| need.requirement.matches(&r.version);
        let usable = |r: &&CrateRelease| !r.is_yanked || self.is_preferred(name, &r.version);
        let preferred = self.preferred.get(name).into_iter().flatten();
        let kept = preferred
            .filter(|v| releases.iter().any(|r| r.version == **v))
            .find(|v| need.requirement.matches(v));
        let newest = releases
            .iter()
            .filter(fitting)
            .filter(usable)
            .max_by_key(|r| (self.suits(r), r.version.clone()));
        let Some(version) = kept.or(newest.map(|r| &r.version)) else {
            return Ok(None);
        };
        let line = VersionLine::of(version);
        let mut runs: Vec<(Version, Version)> = Vec::new();
        let mut goes_on = false;
        for release in releases.iter().filter(|r| {
            VersionLine::of(&r.version) == line && (is_early || r.version.pre.is_empty())
        }) {
            let fits = need.requirement.matches(&release.version);
            match runs.last_mut().filter(|_| goes_on && fits) {
                Some((_, end)) => *end = release.version.clone(),
                None if fits => runs.push((release.version.clone(), release.version.clone())),
                None => {}
            }
            goes_on = fits;
        }
        let ranges = runs
            .into_iter()
            .map(|(from, to)| CrateRange::from_range_bounds(from..=to));
        let range = ranges.fold(CrateRange::empty(), |all, range| all.union(&range));
        Ok(Some((CrateNode::Crate(name.clone(), line), range)))
    }

    /// Says that no version will do for a need.
    fn nothing_for(&self, node: &CrateNode, need: &CrateNeed) -> Result<String, PinProblem> {
        let CrateNeed {
            package,
            requirement,
            ..
        } = need;
        let page = self.page(package)?;
        let newest = page
            .as_ref()
            .and_then(|page| page.releases.iter().rev().find(|r| !r.is_yanked));
        let who = if *node == CrateNode::Root {
            "you ask for"
        } else {
            "it needs"
        };
        Ok(match newest {
            Some(newest) => format!(
                "{who} {package} {requirement}, and the newest is {}",
                newest.version
            ),
            None => format!("{who} {package}, and the registry has none"),
        })
    }

    fn is_preferred(&self, name: &str, version: &Version) -> bool {
        self.preferred
            .get(name)
            .is_some_and(|versions| versions.contains(version))
    }

    /// Whether the compiler will do for a version.
    fn suits(&self, release: &CrateRelease) -> bool {
        match (self.rustc, release.rustc) {
            (Some(own), Some(wanted)) => wanted <= own,
            _ => true,
        }
    }

    fn with_release<T>(
        &self,
        node: &CrateNode,
        version: &Version,
        then: impl FnOnce(&CrateRelease) -> Result<T, PinProblem>,
    ) -> Result<T, PinProblem> {
        let CrateNode::Crate(name, _) = node else {
            return then(&self.root);
        };
        let page = self.page(name)?;
        let release = page
            .as_ref()
            .and_then(|page| page.releases.iter().find(|r| r.version == *version));
        match release {
            Some(release) => then(release),
            None => Err(PinProblem::new(format!(
                "{name} {version} is not there any more"
            ))),
        }
    }

    fn active_in<'r>(&self, node: &CrateNode, release: &'r CrateRelease) -> Active<'r> {
        let none = BTreeSet::new();
        active(
            release,
            self.wanted.get(node).unwrap_or(&none),
            &self.target,
        )
    }

    /// Which features are wanted of what was chosen, as far as it was.
    fn wanted_by(&self, chosen: &ChosenCrates) -> Result<WantedFeatures, PinProblem> {
        let mut wanted = WantedFeatures::new();
        let mut open = vec![CrateNode::Root];
        let mut seen: BTreeMap<CrateNode, usize> = BTreeMap::new();
        let zero = Version::new(0, 0, 0);
        while let Some(node) = open.pop() {
            let version = chosen.get(&node).unwrap_or(&zero);
            let none = BTreeSet::new();
            let own = wanted.get(&node).unwrap_or(&none).clone();
            let found = self.with_release(&node, version, |release| {
                let active = active(release, &own, &self.target);
                let mut found = Vec::new();
                for (need, features) in active.needs {
                    found.extend(self.place(need)?.map(|(place, _)| (place, features)));
                }
                Ok(found)
            })?;
            for (need, features) in found
                .into_iter()
                .filter(|(need, _)| chosen.contains_key(need))
            {
                let entry = wanted.entry(need.clone()).or_default();
                entry.extend(features);
                // Once more, if more of it is on than when it was looked at.
                let count = entry.len() + 1;
                if seen.insert(need.clone(), count) != Some(count) {
                    open.push(need);
                }
            }
        }
        Ok(wanted)
    }

    /// The archives of what was chosen, in its order.
    fn held(&self, chosen: &ChosenCrates) -> Result<Vec<HeldArchive>, PinProblem> {
        let mut archives = Vec::new();
        for (node, version) in chosen {
            let CrateNode::Crate(name, _) = node else {
                continue;
            };
            let wanted = self.with_release(node, version, |release| {
                let origin = self.page(name)?.map(|page| page.origin.clone());
                let origin =
                    origin.ok_or_else(|| PinProblem::new(format!("no origin has {name}")))?;
                let address = index::archive_address(self.desk, &origin, name, release)?;
                let same_host = |o: &crate::Origin| o.address.host() == address.host();
                Ok(WantedArchive {
                    what: format!("{name} {version}"),
                    credential: Some(origin)
                        .filter(same_host)
                        .and_then(|origin| origin.credential),
                    digest: Some(release.digest.clone()),
                    size: None,
                    address,
                })
            })?;
            archives.push(wanted);
        }
        held_archives(self.desk, &archives)
    }

    /// The features of a chosen crate that are on, and what it needs of what was chosen.
    fn needs_among(
        &self,
        node: &CrateNode,
        version: &Version,
        chosen: &ChosenCrates,
    ) -> Result<(Vec<String>, Vec<Need>), PinProblem> {
        self.with_release(node, version, |release| {
            let Active { features, needs } = self.active_in(node, release);
            let mut found = BTreeSet::new();
            for (need, _) in needs {
                let Some((place, _)) = self.place(need)? else {
                    continue;
                };
                let Some(version) = chosen.get(&place) else {
                    continue;
                };
                let alias = need.is_renamed.then(|| need.name.clone());
                let pin = pin_id(&need.package, &version.to_string());
                found.insert(Need {
                    pin,
                    alias,
                    build: need.for_build,
                    on: Vec::new(),
                });
            }
            Ok((features.into_iter().collect(), found.into_iter().collect()))
        })
    }

    /// Pins for what was chosen. Archives are fetched, since only they say how crates are compiled.
    fn solved(
        &self,
        chosen: &ChosenCrates,
        asked: &BTreeMap<String, AskedPackage>,
    ) -> Result<Solved, PinProblem> {
        let held = self.held(chosen)?;
        let mut solved = Solved::default();
        for ((node, version), held) in chosen.iter().zip(held) {
            let CrateNode::Crate(name, _) = node else {
                continue;
            };
            let manifest = Manifest::in_archive(&held.path, name, &version.to_string())
                .map_err(|what| PinProblem::new(format!("{name} {version}: {what}")))?;
            let (features, needs) = self.needs_among(node, version, chosen)?;
            let pin = Pin {
                name: name.clone(),
                version: version.to_string(),
                licence: manifest.licence,
                origin: None,
                archives: vec![Archive {
                    path: index::path_of(name, version),
                    digest: held.digest.clone(),
                    size: held.size,
                    on: Vec::new(),
                }],
                features,
                packages: Vec::new(),
                facts: manifest.facts,
                places: Vec::new(),
                needs,
                on: Vec::new(),
                wanted_by: Vec::new(),
            };
            solved.pins.insert(pin.id(), pin);
        }
        for need in self
            .root
            .needs
            .iter()
            .filter(|need| asked.contains_key(&need.name))
        {
            let Some((place, _)) = self.place(need)? else {
                continue;
            };
            let version = chosen
                .get(&place)
                .map(|version| pin_id(&need.package, &version.to_string()));
            solved
                .asked
                .extend(version.map(|id| (need.name.clone(), id)));
        }
        Ok(solved)
    }
}

impl DependencyProvider for CrateProvider<'_> {
    type P = CrateNode;
    type V = Version;
    type VS = CrateRange;
    type Priority = (u32, Reverse<usize>);
    type M = String;
    type Err = PinProblem;

    fn prioritize(
        &self,
        node: &CrateNode,
        _: &CrateRange,
        statistics: &PackageResolutionStatistics,
    ) -> Self::Priority {
        let met = self.met.borrow().get(node).copied().unwrap_or(0);
        (statistics.conflict_count(), Reverse(met))
    }

    fn choose_version(
        &self,
        node: &CrateNode,
        range: &CrateRange,
    ) -> Result<Option<Version>, PinProblem> {
        let CrateNode::Crate(name, line) = node else {
            return Ok(Some(Version::new(0, 0, 0)));
        };
        let page = self.page(name)?;
        let releases = page
            .as_ref()
            .map(|page| page.releases.as_slice())
            .unwrap_or_default();
        let usable = releases.iter().filter(|r| {
            VersionLine::of(&r.version) == *line
                && range.contains(&r.version)
                && (!r.is_yanked || self.is_preferred(name, &r.version))
        });
        let best = usable.max_by_key(|r| {
            (
                self.is_preferred(name, &r.version),
                r.version.pre.is_empty(),
                self.suits(r),
                r.version.clone(),
            )
        });
        Ok(best.map(|r| r.version.clone()))
    }

    fn get_dependencies(
        &self,
        node: &CrateNode,
        version: &Version,
    ) -> Result<Dependencies<CrateNode, CrateRange, String>, PinProblem> {
        self.with_release(node, version, |release| {
            let active = self.active_in(node, release);
            self.pages
                .expect(active.needs.iter().map(|(need, _)| need.package.as_str()))?;
            let mut constraints: BTreeMap<CrateNode, CrateRange> = BTreeMap::new();
            for (need, _) in &active.needs {
                let Some((place, range)) = self.place(need)? else {
                    return Ok(Dependencies::Unavailable(self.nothing_for(node, need)?));
                };
                let next = self.met.borrow().len();
                self.met.borrow_mut().entry(place.clone()).or_insert(next);
                let entry = constraints.entry(place).or_insert_with(CrateRange::full);
                *entry = entry.intersection(&range);
            }
            Ok(Dependencies::Available(constraints.into_iter().collect()))
        })
    }
}
