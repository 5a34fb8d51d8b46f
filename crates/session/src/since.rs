//! What changed since a revision of git, and which steps that can affect.

use std::collections::BTreeSet;

use nubrik_graph::{Closure, FileId, Graph, Needs, Role, Target};
use nubrik_lang::{REQUEST, TARGETS_FILE, Trail, Unit};
use nubrik_source::WsPath;
use rustc_hash::FxHashMap;

use nubrik_machine::Machine;

use crate::git::Git;

/// Files of a workspace that differ from a revision, uncommitted ones included.
pub struct ChangedFiles {
    files: BTreeSet<String>,
    /// Folders of definition files.
    packages: BTreeSet<WsPath>,
    /// Addresses of declarations whose values were taken from a kit or a data file that changed.
    declared: BTreeSet<String>,
    /// Whether a file is among them that decides about everything, such as a kit.
    everything: bool,
}

impl ChangedFiles {
    /// Asks git. `trail` says what evaluation took from which file.
    ///
    /// # Errors
    /// What git says where it cannot tell, such as that there is no such revision.
    pub(crate) fn since(machine: &Machine, revision: &str, trail: &Trail) -> Result<ChangedFiles, String> {
        if revision.starts_with('-') {
            return Err("no revision begins with `-`".to_owned());
        }
        let git = Git::of(machine)?;
        // Outside of a repository `git diff` compares any two files, and says something else.
        git.ask(&["rev-parse", "--git-dir"])?;
        let diff = [
            "diff",
            "--no-ext-diff",
            "--no-textconv",
            "--name-only",
            "--relative",
            "-z",
            revision,
            "--",
            ".",
        ];
        let mut files = git.ask(&diff)?;
        files.extend(git.ask(&["ls-files", "--others", "--exclude-standard", "-z", "--", "."])?);
        // What is kept in there is no one's source, though someone may have committed it.
        files.retain(|file| !file.starts_with(".nubrik/"));
        let mut packages = BTreeSet::new();
        // Where no one took notes anything may rest on any of them.
        let mut everything = trail.units.is_empty() && !files.is_empty();
        let looked_at: BTreeSet<&str> = trail.paths.iter().map(WsPath::as_str).collect();
        for file in &files {
            let path = WsPath::from_normal(file);
            let folder = path.parent().unwrap_or_else(WsPath::root);
            if path.name() == TARGETS_FILE {
                packages.insert(folder);
            } else if path.name() == crate::SETTINGS_FILE {
                everything = true;
            } else if file.ends_with(".nub") || looked_at.contains(file.as_str()) {
                // What was taken from it shows below.
            } else if !machine.root().join(file).exists() {
                // What a glob found before is nowhere in the graph: its package may have used it.
                packages.extend(std::iter::successors(Some(folder), WsPath::parent));
            }
        }
        let declared = declared_from(trail, &files);
        everything |= declared.is_none();
        Ok(ChangedFiles { files, packages, declared: declared.unwrap_or_default(), everything })
    }

    fn redefines(&self, target: &Target) -> bool {
        self.packages.contains(&target.package) || self.declared.contains(&*target.address)
    }

    /// Which steps the changes can affect, by their numbers: those that read a changed file or whose definitions
    /// changed, and all that need what such a step makes.
    pub fn steps_reached(&self, graph: &Graph) -> Vec<bool> {
        let mut reached = vec![self.everything; graph.steps.len()];
        if self.everything {
            return reached;
        }
        let is_changed = |file: &FileId| self.files.contains(graph.file(*file).path.as_str());
        let sets: Vec<bool> = graph.sets.iter().map(|files| files.iter().any(is_changed)).collect();
        let needs = Needs::of(graph);
        let all = (0..graph.files.len() as u32).map(FileId);
        for step in Closure::of(graph, all).steps {
            let node = graph.step(step);
            reached[step.index()] = self.redefines(graph.owner(step))
                // Folders count with all that is in them.
                || node.inputs.iter().any(is_changed)
                || node.candidates.iter().any(|set| sets[set.index()])
                || needs.of_step(step).iter().any(|need| reached[need.index()]);
        }
        reached
    }

    /// Which targets the changes can affect, by their numbers: what they make, or their definitions. What jobs and
    /// services use is known only when they are asked for, so that any change may reach them.
    pub fn targets_reached(&self, graph: &Graph) -> Vec<bool> {
        let steps = self.steps_reached(graph);
        let by_definition = |target: &Target| {
            let is_unknown = matches!(target.role, Role::Job | Role::Service) && !self.files.is_empty();
            self.everything || is_unknown || self.redefines(target)
        };
        let mut reached: Vec<bool> = graph.targets.iter().map(by_definition).collect();
        for (step, _) in graph.steps.iter().zip(&steps).filter(|(_, is_reached)| **is_reached) {
            reached[step.target.index()] = true;
        }
        // A result may be what another one's step makes.
        for (number, target) in graph.targets.iter().enumerate() {
            let mut makers = target.results.iter().filter_map(|result| graph.file(result.file).maker);
            reached[number] |= makers.any(|maker| steps[maker.index()]);
        }
        reached
    }
}

/// The addresses of declarations whose values were taken from some files, directly or by way of others; `None` where what a
/// request means at all was.
fn declared_from(trail: &Trail, files: &BTreeSet<String>) -> Option<BTreeSet<String>> {
    let mut users: FxHashMap<u32, Vec<u32>> = FxHashMap::default();
    trail.needs.iter().for_each(|(user, unit)| users.entry(*unit).or_default().push(*user));
    // Packages are counted by their folders.
    let is_kit = |file: &str| files.contains(file) && WsPath::from_normal(file).name() != TARGETS_FILE;
    let mut open: Vec<u32> =
        (0..trail.units.len() as u32).filter(|n| is_kit(&trail.units[*n as usize].file)).collect();
    let of_path = |path: u32| {
        let path = trail.paths[path as usize].as_str();
        files.contains(path) && !path.ends_with(".nub")
    };
    open.extend(trail.reads.iter().filter(|(_, path)| of_path(*path)).map(|(unit, _)| *unit));
    let mut reached = vec![false; trail.units.len()];
    while let Some(unit) = open.pop() {
        if !std::mem::replace(reached.get_mut(unit as usize)?, true) {
            open.extend(users.get(&unit).into_iter().flatten());
        }
    }
    if reached.get(REQUEST as usize) == Some(&true) {
        return None;
    }
    let of_packages = |unit: &&Unit| WsPath::from_normal(&unit.file).name() == TARGETS_FILE;
    let units = trail.units.iter().zip(&reached).filter(|(_, reached)| **reached).map(|(unit, _)| unit);
    let address = |unit: &Unit| {
        WsPath::from_normal(&unit.file).parent().map(|package| package.child(&unit.name).as_str().to_owned())
    };
    Some(units.filter(of_packages).filter_map(address).collect())
}
