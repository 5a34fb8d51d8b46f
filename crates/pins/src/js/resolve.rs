//! Which versions of packages stand where, for one system.
//!
//! Each place of the tree is worked through in turn, those nearer to the root first: a name that is
//! found already and fits is used; else the best version is put as near to the root as it can
//! stand.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use node_semver::Version;

use super::index::{
    self, NodeMachine, PackageDocument, PackageRelease, PackageWish, WishKind, parsed_range,
};
use super::manifest::licence_in;
use super::place::{ModuleTree, ROOT, TreeEdge};
use crate::PinProblem;
use crate::desk::{Desk, HeldArchive, WantedArchive, held_archives};
use crate::explain::NOTHING_FITS;
use crate::file::{Archive, AskedPackage, Need, Pin, pin_id};
use crate::pages::PackagePages;
use crate::solved::{Preferred, Solved, parsed_versions};

/// The most places of a tree: more is a mistake of somebody.
const MOST_PLACES: usize = 100_000;

/// So many releases that need what is not there are passed over: more say that a registry lacks too
/// much.
const MOST_PASSED_OVER: usize = 50;

/// Chooses a version of everything that is asked for and of what that needs.
pub(crate) fn resolve(
    desk: &Desk<'_>,
    system: &str,
    facts: &BTreeMap<String, String>,
    asked: &BTreeMap<String, AskedPackage>,
    preferred: &Preferred,
) -> Result<Solved, PinProblem> {
    let mut planter = Planter {
        desk,
        place: place_of(system, facts)?,
        preferred: parsed_versions(preferred, |text| Version::parse(text).ok()),
        documents: PackagePages::new(desk, index::document),
        releases: HashMap::new(),
        tree: ModuleTree::new(),
        besides: BTreeMap::new(),
        lacking: BTreeMap::new(),
    };
    for (name, AskedPackage { requirement, .. }) in asked {
        planter.check_asked(name, requirement)?;
    }
    let wishes = asked.iter().map(|(name, asked)| {
        let wish = PackageWish {
            name: name.clone(),
            range: asked.requirement.clone(),
            kind: WishKind::Needed,
        };
        (name.clone(), wish)
    });
    let wishes: BTreeMap<String, PackageWish> = wishes.collect();
    // What is found too late is known from the beginning the next time. Each time says something
    // new of what there is.
    let mut passed_over = 0;
    let mut first = None;
    while let Err(obstacle) = planter.grow(&wishes) {
        let (is_new, problem) = match obstacle {
            Obstacle::Problem(problem) => (false, problem),
            Obstacle::Taken {
                package,
                range,
                problem,
            } => {
                let ranges = planter.besides.entry(package).or_default();
                (ranges.insert(range), problem)
            }
            Obstacle::Lacking {
                package,
                version,
                needs,
                problem,
            } => {
                passed_over += 1;
                let release = format!("{package} {version}");
                let is_new = planter.lacking.entry(package).or_default().insert(version);
                desk.pass_over(release, needs);
                (is_new && passed_over <= MOST_PASSED_OVER, problem)
            }
        };
        if !is_new {
            // If passing over did not help, what made it necessary is the cause.
            return Err(*first.unwrap_or(problem));
        }
        if passed_over == 1 {
            first.get_or_insert(problem);
        }
        planter.tree = ModuleTree::new();
    }
    planter.solved(asked)
}

fn place_of(system: &str, facts: &BTreeMap<String, String>) -> Result<NodeMachine, PinProblem> {
    let (os, cpu) = system.split_once('-').unwrap_or((system, ""));
    let os = match os {
        "linux" => "linux",
        "macos" => "darwin",
        "windows" => "win32",
        _ => "",
    };
    let cpu = match cpu {
        "x86_64" => "x64",
        "aarch64" => "arm64",
        _ => "",
    };
    if os.is_empty() || cpu.is_empty() {
        return Err(PinProblem::new(format!("`{system}` is no system that packages are for")).note(
            "systems are written linux-x86_64, linux-aarch64, macos-aarch64, macos-x86_64, windows-x86_64",
        ));
    }
    let libc = (os == "linux").then(|| {
        if facts.contains_key("musl") {
            "musl"
        } else {
            "glibc"
        }
    });
    // The last numbers are those of a release that has everything, so that pins do not depend on
    // the one that is installed.
    let node = facts
        .get("node")
        .and_then(|major| major.split('.').next()?.parse::<u64>().ok());
    Ok(NodeMachine {
        os,
        cpu,
        libc,
        node: node.map(|major| Version::from((major, 999_u64, 0_u64))),
    })
}

/// Why a tree does not grow.
enum Obstacle {
    /// No way is known around it.
    Problem(Box<PinProblem>),
    /// A package that a user has to have beside it has to be in this range, and another version is
    /// there already.
    Taken {
        package: String,
        range: String,
        problem: Box<PinProblem>,
    },
    /// A release needs what the registry does not have. Registries that mirror others, and packages
    /// whose parts come out one by one, have such releases for a while; an older one is taken then.
    Lacking {
        package: String,
        version: Version,
        needs: String,
        problem: Box<PinProblem>,
    },
}

impl From<PinProblem> for Obstacle {
    fn from(problem: PinProblem) -> Obstacle {
        Obstacle::Problem(Box::new(problem))
    }
}

struct Planter<'a> {
    desk: &'a Desk<'a>,
    place: NodeMachine,
    preferred: BTreeMap<String, Vec<Version>>,
    documents: PackagePages<'a, PackageDocument>,
    releases: HashMap<(String, Version), Arc<PackageRelease>>,
    tree: ModuleTree,
    /// Ranges in which a package is wanted besides, by those who have to find it beside them.
    besides: BTreeMap<String, BTreeSet<String>>,
    /// Releases that need what the registry does not have.
    lacking: BTreeMap<String, BTreeSet<Version>>,
}

fn fits(range: &str, version: &Version) -> bool {
    parsed_range(range).is_none_or(|range| range.satisfies(version))
}

impl Planter<'_> {
    /// Refuses what is asked for where its requirement is none, or where the registry has no such
    /// package.
    fn check_asked(&self, name: &str, requirement: &str) -> Result<(), PinProblem> {
        if parsed_range(requirement).is_none()
            && requirement.contains(|c: char| c.is_ascii_digit() || c == ' ')
        {
            let message = format!("`{requirement}` is no requirement of versions of `{name}`");
            return Err(PinProblem::new(message)
                .mend("\"^4.2\"   4.2 or newer, before 5")
                .mend("\">=4.2 <4.5\""));
        }
        if self.document(name)?.is_none() {
            let problem = PinProblem::new(format!("the registry `js` has no `{name}`"));
            return Err(problem.mend("look at how the package spells its name"));
        }
        Ok(())
    }

    fn document(&self, name: &str) -> Result<Option<Arc<PackageDocument>>, PinProblem> {
        self.documents.get(name)
    }

    /// Asks for several documents at once. Of what may be missing anyway none is asked for.
    fn expect(&self, wishes: &[PackageWish]) -> Result<(), PinProblem> {
        let wanted = wishes
            .iter()
            .filter(|wish| wish.kind != WishKind::OptionalPeer);
        self.documents.expect(wanted.map(|wish| wish.name.as_str()))
    }

    fn release(
        &mut self,
        name: &str,
        version: &Version,
    ) -> Result<Option<Arc<PackageRelease>>, PinProblem> {
        let key = (name.to_owned(), version.clone());
        if let Some(known) = self.releases.get(&key) {
            return Ok(Some(known.clone()));
        }
        let release = self
            .document(name)?
            .and_then(|document| document.release(version))
            .map(Arc::new);
        if let Some(release) = &release {
            self.releases.insert(key, release.clone());
        }
        Ok(release)
    }

    /// Grows the tree from what is asked for.
    fn grow(&mut self, asked: &BTreeMap<String, PackageWish>) -> Result<(), Obstacle> {
        // By depth and path, so that the tree does not depend on when something was asked for.
        let mut open: BTreeSet<(usize, String, usize)> = BTreeSet::from([(0, String::new(), ROOT)]);
        let mut done = BTreeSet::new();
        while let Some((_, _, node)) = open.pop_first() {
            if !done.insert(node) {
                continue;
            }
            let wishes = self.wishes(node, asked)?;
            if wishes
                .values()
                .any(|wish| wish.kind != WishKind::OptionalPeer && !self.documents.has(&wish.name))
            {
                // With all that is waiting, so that a level of the tree takes as long as its
                // slowest document.
                let mut all: Vec<PackageWish> = wishes.values().cloned().collect();
                for (_, _, waiting) in &open {
                    all.extend(self.wishes(*waiting, asked)?.into_values());
                }
                self.expect(&all)?;
            }
            for (name, wish) in wishes {
                if let Some(new) = self.settle(node, &name, &wish)? {
                    open.insert((self.tree.depth(new), self.tree.path(new), new));
                }
            }
        }
        Ok(())
    }

    fn wishes(
        &mut self,
        node: usize,
        asked: &BTreeMap<String, PackageWish>,
    ) -> Result<BTreeMap<String, PackageWish>, PinProblem> {
        if node == ROOT {
            return Ok(asked.clone());
        }
        let (package, version) = (
            self.tree.nodes[node].package.clone(),
            self.tree.nodes[node].version.clone(),
        );
        Ok(self
            .release(&package, &version)?
            .map(|release| release.needs.clone())
            .unwrap_or_default())
    }

    /// The release that a wish of the package at `node` gets. `None` if it can do without.
    fn release_for(
        &mut self,
        node: usize,
        wish: &PackageWish,
    ) -> Result<Option<Arc<PackageRelease>>, Obstacle> {
        let document = self.document(&wish.name)?;
        let version = document
            .as_ref()
            .and_then(|document| self.version_for(document, wish));
        let release = match version {
            Some(version) => self.release(&wish.name, &version)?,
            None => None,
        };
        let obstacle = match release {
            Some(release) if release.is_for(&self.place) => return Ok(Some(release)),
            _ if wish.kind == WishKind::Optional => return Ok(None),
            Some(release) => format!("{} {} is not for this system", wish.name, release.version),
            None => match document.as_ref().and_then(|document| document.last()) {
                Some(last) => format!("the newest {} is {last}", wish.name),
                None => format!("the registry has no {}", wish.name),
            },
        };
        let problem = Box::new(self.nothing(node, wish, obstacle));
        if node == ROOT {
            return Err(Obstacle::Problem(problem));
        }
        let user = &self.tree.nodes[node];
        let (package, version) = (user.package.clone(), user.version.clone());
        let needs = format!("{} {}", wish.name, wish.range);
        Err(Obstacle::Lacking {
            package,
            version,
            needs,
            problem,
        })
    }

    /// Lets a package find what it wants, and says which place is new for that.
    fn settle(
        &mut self,
        node: usize,
        name: &str,
        wish: &PackageWish,
    ) -> Result<Option<usize>, Obstacle> {
        // What the user of a package has to have is looked for beside it.
        let from = match wish.kind {
            WishKind::Peer | WishKind::OptionalPeer => self.tree.nodes[node].above,
            _ => node,
        };
        if from != node && self.tree.nodes[from].carried.contains(name) {
            // The user's own archive has what the user is to have.
            return Ok(None);
        }
        let found = self.tree.find(from, name);
        if let Some(found) = found {
            let there = &self.tree.nodes[found];
            if there.package == wish.name && fits(&wish.range, &there.version) {
                self.note(node, name, wish, found);
                return Ok(None);
            }
        }
        if wish.kind == WishKind::OptionalPeer {
            return Ok(None);
        }
        let Some(release) = self.release_for(node, wish)? else {
            return Ok(None);
        };
        let suits = |at: usize| self.finds_beside(&release, at);
        let above = self
            .tree
            .highest(from, name, &release.version, &fits, &suits);
        if self.tree.nodes[above].children.contains_key(name) {
            // Only what a user has to have may find its place taken.
            let there = found.map(|found| &self.tree.nodes[found]);
            let what = there.map_or_else(String::new, |there| {
                format!("{} {} is there", there.package, there.version)
            });
            let (package, range) = (wish.name.clone(), wish.range.clone());
            return Err(Obstacle::Taken {
                package,
                range,
                problem: Box::new(self.nothing(node, wish, what)),
            });
        }
        let (version, carried) = (release.version.clone(), release.carried.clone());
        let new = self.tree.put(above, name, &wish.name, version, carried);
        if self.tree.nodes.len() > MOST_PLACES {
            let message = format!("the tree of packages has more than {MOST_PLACES} places");
            return Err(PinProblem::new(message).into());
        }
        self.note(node, name, wish, new);
        Ok(Some(new))
    }

    /// The version of a package to take for a wish.
    fn version_for(&self, document: &PackageDocument, wish: &PackageWish) -> Option<Version> {
        let kept = self
            .preferred
            .get(&wish.name)
            .map(Vec::as_slice)
            .unwrap_or_default();
        let besides = self.besides.get(&wish.name).into_iter().flatten();
        let besides: Vec<_> = besides.filter_map(|range| parsed_range(range)).collect();
        let none = BTreeSet::new();
        let lacking = self.lacking.get(&wish.name).unwrap_or(&none);
        document.choose(&wish.range, &besides, kept, lacking, &self.place)
    }

    /// Whether a release finds at a place, in the right version, whatever is there of what it wants
    /// beside it.
    fn finds_beside(&self, release: &PackageRelease, at: usize) -> bool {
        let is_beside =
            |wish: &PackageWish| matches!(wish.kind, WishKind::Peer | WishKind::OptionalPeer);
        let wishes = release.needs.iter().filter(|(_, wish)| is_beside(wish));
        let mut found = wishes
            .filter_map(|(name, wish)| Some((&self.tree.nodes[self.tree.find(at, name)?], wish)));
        found.all(|(there, wish)| there.package == wish.name && fits(&wish.range, &there.version))
    }

    fn note(&mut self, from: usize, name: &str, wish: &PackageWish, to: usize) {
        self.tree.edges.push(TreeEdge {
            from,
            name: name.to_owned(),
            range: wish.range.clone(),
            to,
        });
    }

    /// Says that a wish cannot be met, and who else is concerned.
    fn nothing(&self, node: usize, wish: &PackageWish, what: String) -> PinProblem {
        let named = |node: usize| match node {
            ROOT => "you".to_owned(),
            node => format!(
                "{} {}",
                self.tree.nodes[node].package, self.tree.nodes[node].version
            ),
        };
        let verb = |node: usize| if node == ROOT { "ask for" } else { "needs" };
        let mut problem = PinProblem::new(NOTHING_FITS)
            .note(format!(
                "{} {} {} {}",
                named(node),
                verb(node),
                wish.name,
                wish.range
            ))
            .note(what);
        for edge in self
            .tree
            .edges
            .iter()
            .filter(|edge| self.tree.nodes[edge.to].package == wish.name)
        {
            problem = problem.note(format!(
                "{} {} {} {}",
                named(edge.from),
                verb(edge.from),
                wish.name,
                edge.range
            ));
        }
        let mut at = node;
        while at != ROOT {
            let user = self
                .tree
                .edges
                .iter()
                .find(|edge| edge.to == at)
                .map_or(ROOT, |edge| edge.from);
            problem = problem.note(format!("{} {} {}", named(user), verb(user), named(at)));
            at = user;
        }
        problem
    }

    /// Pins for what is in the tree. Archives are fetched: only they say their sizes and licences.
    fn solved(&mut self, asked: &BTreeMap<String, AskedPackage>) -> Result<Solved, PinProblem> {
        let reached = self.tree.reached();
        let mut pins: BTreeMap<String, (Pin, WantedArchive)> = BTreeMap::new();
        for node in reached.iter().copied().filter(|node| *node != ROOT) {
            let placed = &self.tree.nodes[node];
            let (package, version) = (placed.package.clone(), placed.version.clone());
            let Some(release) = self.release(&package, &version)? else {
                continue;
            };
            let id = pin_id(&package, &version.to_string());
            if !pins.contains_key(&id) {
                let wanted = self.wanted_archive(&package, &version, &release)?;
                let path = index::path_of(&package, &release);
                let archive = Archive::everywhere(path, String::new(), 0);
                let pin = Pin {
                    name: package,
                    version: version.to_string(),
                    archives: vec![archive],
                    ..Pin::default()
                };
                pins.insert(id.clone(), (pin, wanted));
            }
            let needs: Vec<Need> = self.needs_of(node).collect();
            if let Some((pin, _)) = pins.get_mut(&id) {
                pin.places.push(self.tree.path(node));
                pin.needs.extend(needs);
            }
        }
        let wanted: Vec<WantedArchive> = pins.values().map(|(_, wanted)| wanted.clone()).collect();
        let held = held_archives(self.desk, &wanted)?;
        let mut solved = Solved::default();
        for ((id, (mut pin, _)), held) in pins.into_iter().zip(held) {
            let HeldArchive { path, digest, size } = held;
            let licence = licence_in(&path);
            pin.licence = licence
                .map_err(|what| PinProblem::new(format!("{} {}: {what}", pin.name, pin.version)))?;
            if let Some(archive) = pin.archives.first_mut() {
                (archive.digest, archive.size) = (digest, size);
            }
            pin.needs.sort();
            pin.needs.dedup();
            pin.places.sort();
            solved.pins.insert(id, pin);
        }
        for name in asked.keys() {
            if let Some(node) = self.tree.nodes[ROOT].children.get(name) {
                let placed = &self.tree.nodes[*node];
                let id = pin_id(&placed.package, &placed.version.to_string());
                solved.asked.insert(name.clone(), id);
            }
        }
        Ok(solved)
    }

    /// The archive of a release. Who may fetch it is only known for the host of the registry.
    fn wanted_archive(
        &mut self,
        package: &str,
        version: &Version,
        release: &PackageRelease,
    ) -> Result<WantedArchive, PinProblem> {
        let origin = self.document(package)?;
        let origin = origin.map(|document| document.origin.clone());
        let same_host = |o: &crate::Origin| o.address.host() == release.tarball.host();
        let credential = origin
            .filter(same_host)
            .and_then(|origin| origin.credential);
        Ok(WantedArchive {
            what: format!("{package} {version}"),
            address: release.tarball.clone(),
            credential,
            digest: release.digest.clone(),
            size: None,
        })
    }

    fn needs_of(&self, node: usize) -> impl Iterator<Item = Need> {
        let edges = self.tree.edges.iter().filter(move |edge| edge.from == node);
        edges.map(|edge| {
            let to = &self.tree.nodes[edge.to];
            let alias = (edge.name != to.package).then(|| edge.name.clone());
            Need {
                pin: pin_id(&to.package, &to.version.to_string()),
                alias,
                build: false,
                on: Vec::new(),
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_are_for_systems_that_have_a_name_there() {
        let none = BTreeMap::new();
        for system in ["linux-x86_64", "macos-aarch64", "windows-x86_64"] {
            assert!(place_of(system, &none).is_ok(), "{system}");
        }
        for system in ["linux", "linux-", "plan9-x86_64", "linux-vax", ""] {
            assert!(place_of(system, &none).is_err(), "{system}");
        }
    }
}
