//! What of a request is to be evaluated again after definitions changed, and what comes of it.

use std::sync::Arc;

use nubrik_diagnostic::Severity;
use nubrik_disk::{Signature, read_text};
use nubrik_lang::{AddressPattern, Answer, EntryKind, Evaluation, REQUEST, World};
use nubrik_memory::{Change, Entry, NO_NODE, Names, Roles, Seal, Snapshot, TrailIndex, Trails};
use nubrik_source::WsPath;
use rustc_hash::FxHashSet;

use super::Session;
use crate::world::DiskWorld;

/// Up to this many targets are always evaluated one by one.
const FEW: usize = 64;

/// A target by its package and its name.
type SingleTarget = (WsPath, Arc<str>);

/// The targets that a request asked for, as they were when it was evaluated.
pub(super) trait AskedBefore {
    /// How many there are.
    fn count(&self) -> usize;
    /// The package and the name of one, by its place among them.
    fn place(&self, number: usize) -> Option<(WsPath, Arc<str>)>;
    /// Its unit in the trails; `None` where it was not evaluated.
    fn unit(&self, number: usize) -> Option<u32>;
}

impl AskedBefore for Snapshot {
    fn count(&self) -> usize {
        self.asked.len()
    }

    fn place(&self, number: usize) -> Option<(WsPath, Arc<str>)> {
        self.place_of(number)
    }

    fn unit(&self, number: usize) -> Option<u32> {
        self.asked_units.list().get(number)
    }
}

/// What some changes touch.
#[derive(Default)]
pub(super) struct TouchedParts {
    /// Files of the graph.
    pub(super) nodes: Vec<u32>,
    /// Declarations whose values may be others.
    pub(super) units: Vec<u32>,
    /// Definition files.
    pub(super) definitions: Vec<WsPath>,
    /// Those of them of which no declaration is known: whether they declare something now, or are
    /// wrong, shows only when they are evaluated.
    pub(super) unknown: Vec<WsPath>,
    /// Listed folders with other names in them, by their numbers in the seal.
    pub(super) relisted: Vec<(usize, Names)>,
}

impl TouchedParts {
    /// Adds who looked at a folder, or at a file that is no definition; `None` where everything may
    /// have another result.
    fn add_looked_at(
        &mut self,
        world: &DiskWorld<'_>,
        change: &Change,
        entry: &Entry,
        path: &str,
        trails: &TrailIndex<'_>,
    ) -> Option<()> {
        let path = if path == "." { "" } else { path };
        let mut looked_at = entry.roles.has(Roles::READ);
        looked_at |= entry.roles.has(Roles::KIND) && kind(entry.signature) != kind(change.now);
        if entry.roles.has(Roles::LISTED) {
            // A file put in place by renaming touches its folder: only names count.
            let Answer::Ready(listing) = world.list(&WsPath::from_normal(path)) else {
                return None;
            };
            let names = Names::of(&listing);
            if names.packages != entry.listing.packages {
                return None;
            }
            if names.all != entry.listing.all {
                // The request itself looks for packages only.
                let readers = trails.readers(path).iter().filter(|unit| *unit != REQUEST);
                self.units.extend(readers);
                self.relisted.push((change.number, names));
            }
        }
        if looked_at {
            let readers = trails.readers(path);
            if readers.is_empty() {
                return None;
            }
            self.units.extend(readers.iter());
        }
        Some(())
    }
}

/// What came of evaluating a part of a request again.
pub(super) struct AgainEvaluated {
    /// Its targets, with all that they need.
    pub(super) evaluation: Evaluation,
    /// By unit of the trails: whether its value may be another one now.
    pub(super) reached: Vec<bool>,
    /// Packages that were evaluated as wholes.
    pub(super) packages: Vec<WsPath>,
}

impl Session {
    /// What some changes touch; `None` where everything may have another result.
    pub(super) fn touched(
        &self,
        seal: &Seal,
        changes: &[Change],
        trails: Option<&Trails>,
    ) -> Option<TouchedParts> {
        let world = DiskWorld::new(&self.workspace, &self.machine, &self.answers)
            .with_unsaved(&self.unsaved);
        let index = trails.map(Trails::index);
        let mut touched = TouchedParts::default();
        for change in changes {
            let entry = seal.entry(change.number);
            let path = seal.path(change.number);
            if entry.roles.has(Roles::WHOLE) {
                return None;
            }
            if entry.node != NO_NODE {
                touched.nodes.push(entry.node);
            }
            if !entry.is_evaluated() {
                continue;
            }
            let trails = index.as_ref()?;
            if entry.roles.has(Roles::READ)
                && let Some(file) = trails.file(path)
            {
                let text = read_text(&self.workspace.root.join(path)).unwrap_or_default();
                let names = nubrik_lang::declared_names(&text);
                let units = trails.declared_in(file, |name| names.iter().any(|n| n == name));
                if units.is_empty() {
                    touched.unknown.push(WsPath::from_normal(path));
                }
                touched.units.extend(units);
                touched.definitions.push(WsPath::from_normal(path));
                continue;
            }
            touched.add_looked_at(&world, change, &entry, path, trails)?;
        }
        Some(touched)
    }

    /// Evaluates what changes of definitions reach; `None` where only everything would do, or
    /// something is wrong.
    pub(super) fn evaluated_again(
        &self,
        patterns: &[AddressPattern],
        touched: &TouchedParts,
        old: &impl AskedBefore,
        trails: &Trails,
    ) -> Option<AgainEvaluated> {
        let [pattern] = patterns else { return None };
        if pattern.is_glob() {
            return None;
        }
        if old.count() > 1
            && touched
                .definitions
                .iter()
                .any(|file| self.may_mean(file, pattern))
        {
            return None;
        }
        let reached = trails.reached(touched.units.clone())?;
        let one = is_one_target(old, pattern)?;
        let (packages, single) = self.again_of(pattern, touched, old, &reached, one)?;
        // Most of everything is quicker evaluated as a whole, by several threads.
        if single.len() > FEW && single.len() * 3 > old.count() {
            return None;
        }
        let evaluation = self.with_evaluator(true, |evaluator| {
            evaluator.request_again(&packages, &single, pattern.wanted)
        });
        let is_error = |d: &nubrik_diagnostic::Diagnostic| d.severity == Severity::Error;
        if one && !single.is_empty() && evaluation.targets.len() != 1 {
            return None; // There is no such target any more.
        }
        if evaluation.waiting
            || !evaluation.probes.is_empty()
            || evaluation.diagnostics.iter().any(is_error)
        {
            return None;
        }
        Some(AgainEvaluated {
            evaluation,
            reached,
            packages,
        })
    }

    /// Whether a pattern for a folder may mean a target of a package on its way instead, in its
    /// present state.
    fn may_mean(&self, file: &WsPath, pattern: &AddressPattern) -> bool {
        let Some(package) = file
            .parent()
            .filter(|_| file.name() == nubrik_lang::TARGETS_FILE)
        else {
            return false;
        };
        if pattern.is_folder
            || pattern.path.is_root()
            || !(pattern.path == package || pattern.path.is_in(&package))
        {
            return false;
        }
        let name = match pattern.path.below(&package) {
            Some(rest) if !rest.is_empty() => rest.split('/').next().unwrap_or(rest),
            _ => pattern.path.name(),
        };
        let text = read_text(&self.workspace.root.join(file.as_str())).unwrap_or_default();
        nubrik_lang::declared_names(&text).iter().any(|n| n == name)
    }

    /// Packages that are evaluated again as wholes, and single targets of others; `None` where only
    /// everything would do. `one` says whether a single target was asked for.
    fn again_of(
        &self,
        pattern: &AddressPattern,
        touched: &TouchedParts,
        old: &impl AskedBefore,
        reached: &[bool],
        one: bool,
    ) -> Option<(Vec<WsPath>, Vec<SingleTarget>)> {
        let is_reached = |unit: u32| reached.get(unit as usize).is_some_and(|r| *r);
        let mut packages: Vec<WsPath> = Vec::new();
        let mut single: Vec<SingleTarget> = Vec::new();
        let whole = |file: &&WsPath| file.name() == nubrik_lang::TARGETS_FILE && !one;
        for package in touched
            .definitions
            .iter()
            .filter(whole)
            .filter_map(WsPath::parent)
        {
            // A folder without packages means the package that it belongs to.
            let is_around = || {
                let asked = |n| old.place(n).is_some_and(|(asked, _)| asked == package);
                pattern.is_folder && pattern.path.is_in(&package) && (0..old.count()).any(asked)
            };
            if package.is_in(&pattern.path) {
                packages.push(package);
            } else if is_around() {
                let file = package.child(nubrik_lang::TARGETS_FILE);
                if !self.workspace.root.join(file.as_str()).is_file() {
                    return None; // The folder belongs to another package now, or to none.
                }
                packages.push(package);
            }
        }
        let whole: FxHashSet<&WsPath> = packages.iter().collect();
        let is_whole = |file: &WsPath| {
            file.parent()
                .is_some_and(|package| whole.contains(&package))
        };
        if !touched.unknown.iter().all(is_whole) {
            return None;
        }
        let again = (0..old.count()).filter(|n| old.unit(*n).is_some_and(is_reached));
        for (package, name) in again.filter_map(|n| old.place(n)) {
            if !whole.contains(&package) {
                single.push((package, name));
            }
        }
        Some((packages, single))
    }
}

/// Whether a request that asked for one target still means it alone; `None` where that cannot be
/// known without everything.
fn is_one_target(old: &impl AskedBefore, pattern: &AddressPattern) -> Option<bool> {
    let only = old
        .place(0)
        .filter(|_| !pattern.is_folder && old.count() == 1);
    // `clock` means the target `clock/clock` where there is one.
    let one = only.as_ref().is_some_and(|(package, name)| {
        package.child(name) == pattern.path
            || (*package == pattern.path && package.name() == &**name)
    });
    if !one && only.is_some_and(|(package, name)| pattern.path.is_in(&package.child(&name))) {
        return None; // An entry of a target: only the whole target could be evaluated again.
    }
    Some(one)
}

/// Whether something is a file, a folder, or not there.
pub(super) fn kind(signature: Option<Signature>) -> Option<EntryKind> {
    signature.map(|s| {
        if s.is_folder() {
            EntryKind::Folder
        } else {
            EntryKind::File
        }
    })
}
