//! Things of a workspace by their names, found once for all pages: a page costs what is on it,
//! however many pages there are.

use std::collections::{BTreeMap, HashMap};
use std::ops::Bound;
use std::sync::Arc;

use nubrik_graph::{FileId, Graph, Service, Target, TargetId};
use nubrik_session::BuildRecord;

/// A step of a build that is remembered, by its place among the builds.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct RememberedStep {
    /// The place of the build.
    pub build: usize,
    /// The place of the step in it.
    pub step: usize,
}

/// Targets that people name, by their packages.
pub(crate) struct PackageTargets {
    packages: BTreeMap<Arc<str>, Vec<TargetId>>,
    count: usize,
}

impl PackageTargets {
    /// Those of a graph.
    pub fn of(graph: &Graph) -> PackageTargets {
        let mut all = PackageTargets {
            packages: BTreeMap::new(),
            count: 0,
        };
        let named = |(_, target): &(TargetId, &Target)| target.is_declared();
        let named: Vec<(TargetId, &Target)> = (0..)
            .map(TargetId)
            .zip(&graph.targets)
            .filter(named)
            .collect();
        // Targets of one package are beside each other.
        for of_package in named.chunk_by(|(_, one), (_, other)| one.package == other.package) {
            all.count += of_package.len();
            let list = all
                .packages
                .entry(of_package[0].1.package.shared().clone())
                .or_default();
            list.extend(of_package.iter().map(|(id, _)| *id));
        }
        all
    }

    /// How many targets there are.
    pub fn count(&self) -> usize {
        self.count
    }

    /// The targets of a package.
    pub fn package(&self, path: &str) -> &[TargetId] {
        self.packages.get(path).map_or(&[], Vec::as_slice)
    }

    /// The packages at and below a folder, each with how many targets it has. That at the folder is
    /// first.
    pub fn packages_in(&self, folder: &str) -> impl Iterator<Item = (&str, usize)> {
        let below = if folder.is_empty() {
            String::new()
        } else {
            format!("{folder}/")
        };
        let own = self.packages.get_key_value(folder);
        // With its slash a folder comes after others that begin with its name.
        let after = self
            .packages
            .range::<str, _>((Bound::Included(&*below), Bound::Unbounded));
        let after = after.take_while(move |(path, _)| path.starts_with(&below));
        own.into_iter()
            .chain(after.filter(move |(path, _)| &***path != folder))
            .map(|(path, targets)| (&**path, targets.len()))
    }
}

/// Targets by their addresses.
pub(crate) fn targets_by_address(graph: &Graph) -> HashMap<Arc<str>, TargetId> {
    let mut targets = HashMap::with_capacity(graph.targets.len());
    for (id, target) in (0..).map(TargetId).zip(&graph.targets) {
        targets.entry(target.address.clone()).or_insert(id);
    }
    targets
}

/// Services that steps use, by the targets that they are or that have them; those of a target by
/// their addresses.
pub(crate) fn services_by_target(graph: &Graph) -> HashMap<TargetId, Vec<Arc<Service>>> {
    let all = graph.steps.iter().flat_map(|step| &step.services);
    let services: BTreeMap<&str, &Arc<Service>> =
        all.map(|service| (&*service.address, service)).collect();
    let mut by_target: HashMap<TargetId, Vec<Arc<Service>>> = HashMap::new();
    if services.is_empty() {
        return by_target;
    }
    let index = graph.target_index();
    for service in services.into_values() {
        if let Some(target) = index.of_service(service) {
            by_target.entry(target).or_default().push(service.clone());
        }
    }
    by_target
}

/// Files by their paths, and the targets whose steps read them.
pub(crate) struct KnownFiles {
    files: HashMap<Arc<str>, FileId>,
    /// By the number of each file: the targets whose steps read it by themselves, and the sets that
    /// it is in.
    readers: Vec<Vec<TargetId>>,
    sets_of: Vec<Vec<u32>>,
    /// By the number of each set: the targets whose steps may read its files.
    readers_of_sets: Vec<Vec<TargetId>>,
}

impl KnownFiles {
    /// Those of a graph.
    pub fn of(graph: &Graph) -> KnownFiles {
        let mut known = KnownFiles {
            files: HashMap::with_capacity(graph.files.len()),
            readers: vec![Vec::new(); graph.files.len()],
            sets_of: vec![Vec::new(); graph.files.len()],
            readers_of_sets: vec![Vec::new(); graph.sets.len()],
        };
        for (id, file) in (0..).map(FileId).zip(&graph.files) {
            known.files.entry(file.path.shared().clone()).or_insert(id);
        }
        for (number, files) in (0..).zip(graph.sets.iter()) {
            files
                .iter()
                .for_each(|file| known.sets_of[file.index()].push(number));
        }
        let add = |list: &mut Vec<TargetId>, target: TargetId| {
            if list.last() != Some(&target) {
                list.push(target);
            }
        };
        for step in &graph.steps {
            step.inputs
                .iter()
                .for_each(|file| add(&mut known.readers[file.index()], step.target));
            step.candidates
                .iter()
                .for_each(|set| add(&mut known.readers_of_sets[set.index()], step.target));
        }
        known
    }

    /// The file with a path from the workspace's root.
    pub fn file(&self, path: &str) -> Option<FileId> {
        self.files.get(path).copied()
    }

    /// The targets whose steps read a file, or may read it.
    pub fn readers(&self, file: FileId) -> Vec<TargetId> {
        let sets = self.sets_of[file.index()]
            .iter()
            .flat_map(|set| &self.readers_of_sets[*set as usize]);
        let mut all: Vec<TargetId> = self.readers[file.index()]
            .iter()
            .chain(sets)
            .copied()
            .collect();
        all.sort_unstable();
        all.dedup();
        all
    }
}

/// The steps of builds that are remembered, by their targets without variants: in the order of
/// builds.
pub(crate) fn runs_by_target(builds: &[BuildRecord]) -> HashMap<String, Vec<RememberedStep>> {
    let mut runs: HashMap<String, Vec<RememberedStep>> = HashMap::new();
    for (build, record) in builds.iter().enumerate() {
        for (number, step) in record.done.iter().enumerate() {
            let remembered = RememberedStep {
                build,
                step: number,
            };
            let address = step.target.split(" (").next().unwrap_or(&step.target);
            match runs.get_mut(address) {
                Some(list) => list.push(remembered),
                None => drop(runs.insert(address.to_owned(), vec![remembered])),
            }
        }
    }
    runs
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_below_a_folder_are_found_and_no_others() {
        let mut known = PackageTargets::of(&Graph::default());
        assert_eq!(known.packages_in("").count(), 0);
        for (number, path) in (0..).zip(["", "a", "a-b", "a.b/c", "a/b", "a/b/c", "ab"]) {
            known.packages.insert(path.into(), vec![TargetId(number)]);
        }
        let below = |folder: &str| {
            known
                .packages_in(folder)
                .map(|(path, _)| path)
                .collect::<Vec<_>>()
        };
        assert_eq!(below("a"), ["a", "a/b", "a/b/c"]);
        assert_eq!(
            (below("a/b"), below("a.b"), below("b")),
            (vec!["a/b", "a/b/c"], vec!["a.b/c"], vec![])
        );
        assert_eq!(below("").len(), 7);
        assert_eq!(below("")[0], "");
    }
}
