//! What changed since a revision of git, and which steps that can affect.
//!
//! Both trees are compared: the revision's, as git has it, and the one that is there. A source
//! counts as unchanged only if the revision has it and git says that it is the same: whatever git
//! does not tell of counts as changed.

use std::collections::BTreeSet;

use nubrik_graph::{FileId, Graph, Role, Target, steps_after};
use nubrik_lang::{REQUEST, TARGETS_FILE, Trail, Unit};
use nubrik_source::WsPath;
use rustc_hash::{FxHashMap, FxHashSet};

use nubrik_disk::IGNORE_FILE;
use nubrik_engine::OutsideFiles;
use nubrik_machine::Machine;

use crate::git::{ComparedWith, Git, SinceProblem};

/// Files of a workspace that differ from a revision, uncommitted ones included.
pub struct ChangedFiles {
    difference: TreeDifference,
    /// Sources by way of links that lead to something changed, or that changed themselves.
    behind_links: FxHashSet<WsPath>,
    /// Folders of definition files.
    packages: BTreeSet<WsPath>,
    /// Addresses of declarations whose values were taken from a kit, a data file or a folder that
    /// changed.
    declared: BTreeSet<String>,
    /// Whether a file is among them that decides about everything, such as a kit.
    everything: bool,
    /// What it is compared with, where that is not what was named.
    base: ComparedWith,
}

/// How the tree that is there differs from a revision's. Paths are from the workspace's root.
#[derive(Default)]
struct TreeDifference {
    /// All files that the revision has, and those of its submodules.
    known: BTreeSet<String>,
    /// Files that were edited, are new or are gone.
    files: BTreeSet<String>,
    /// Those among them that are new or gone, or became something else: the names in folders
    /// differ.
    names: BTreeSet<String>,
    /// Folders in which anything may have changed: repositories inside, submodules.
    folders: BTreeSet<String>,
}

/// The letter with which git marks submodules among modes.
const SUBMODULE: &str = "160000";

impl TreeDifference {
    fn of(git: &Git<'_>, base: &str) -> Result<TreeDifference, SinceProblem> {
        let mut difference = TreeDifference::default();
        let here = ["--", "."];
        let listed = git.ask(&[&["ls-tree", "-r", "-z", base][..], &here].concat())?;
        // Mode, type and name of the content, a tab, the path.
        let paths = listed.iter().filter_map(|row| row.split_once('\t'));
        let paths = paths.map(|(_, path)| path.to_owned());
        difference.known.extend(paths);
        // All that is in submodules belongs to them.
        difference
            .known
            .extend(git.ask(&["ls-files", "--recurse-submodules", "-z"])?);
        let raw = [
            "diff",
            "--no-ext-diff",
            "--no-textconv",
            "--no-renames",
            "--ignore-submodules=none",
            "--raw",
        ];
        let raw = git.text(&[&raw[..], &["--relative", "-z", base], &here].concat())?;
        let mut rows = raw.split('\0');
        while let (Some(row), Some(path)) = (rows.next(), rows.next()) {
            let mut words = row.trim_start_matches(':').split(' ');
            let modes = [
                words.next().unwrap_or_default(),
                words.next().unwrap_or_default(),
            ];
            let state = row.rsplit(' ').next().unwrap_or_default();
            if modes.contains(&SUBMODULE) {
                difference.folders.insert(path.to_owned());
            }
            if state != "M" {
                difference.names.insert(path.to_owned());
            }
            difference.files.insert(path.to_owned());
        }
        // Ignored is what files of the workspace say, as for globs; what else a person has git
        // ignore is seen by definitions.
        let others = [
            "ls-files",
            "--others",
            "--exclude-per-directory=.gitignore",
            "-z",
        ];
        for path in git.ask(&[&others[..], &here].concat())? {
            // git lists a repository inside as a folder.
            match path.strip_suffix('/') {
                Some(folder) => drop(difference.folders.insert(folder.to_owned())),
                None => drop(difference.files.insert(path.clone())),
            }
            difference
                .names
                .insert(path.trim_end_matches('/').to_owned());
        }
        // Files of which somebody asked git to say nothing.
        for row in git.ask(&[&["ls-files", "-v", "-z"][..], &here].concat())? {
            let Some((mark, path)) = row.split_once(' ') else {
                continue;
            };
            if mark != "H" {
                difference.files.insert(path.to_owned());
                difference.names.insert(path.to_owned());
            }
        }
        // What is kept in there is no one's source, though someone may have committed it.
        let is_own = |path: &String| path.starts_with(".nubrik/") || path == ".nubrik";
        difference.files.retain(|path| !is_own(path));
        difference.names.retain(|path| !is_own(path));
        Ok(difference)
    }

    /// Whether the revision has a folder with something in it.
    fn is_known_folder(&self, folder: &str) -> bool {
        let start = format!("{folder}/");
        self.known
            .range(start.clone()..)
            .next()
            .is_some_and(|path| path.starts_with(&start))
    }

    fn is_empty(&self) -> bool {
        self.files.is_empty() && self.names.is_empty() && self.folders.is_empty()
    }

    /// Whether something changed in a folder, however deep.
    fn is_changed_below(&self, folder: &str) -> bool {
        folder.is_empty() && !self.is_empty() || {
            let start = format!("{folder}/");
            let is_below = |set: &BTreeSet<String>| {
                set.range(start.clone()..)
                    .next()
                    .is_some_and(|p| p.starts_with(&start))
            };
            is_below(&self.files)
                || is_below(&self.names)
                || is_below(&self.folders)
                || self.is_in_folder(folder)
        }
    }

    /// Whether a path is at or below one in which anything may have changed.
    fn is_in_folder(&self, path: &str) -> bool {
        self.folders.contains(path)
            || path
                .match_indices('/')
                .any(|(at, _)| self.folders.contains(&path[..at]))
    }

    /// Whether what is at a path itself may differ, no links followed: a file, a link, or a folder
    /// with all that is in it.
    fn is_changed(&self, machine: &Machine, path: &str) -> bool {
        if self.files.contains(path) || self.names.contains(path) || self.is_in_folder(path) {
            return true;
        }
        if self.known.contains(path) {
            return false;
        }
        match machine.check_itself(&WsPath::from_normal(path)) {
            Some(found) if found.is_folder() => self.is_changed_below(path),
            // It is there, and the revision has none.
            Some(_) => true,
            None => self.is_changed_below(path),
        }
    }

    /// Whether the names differ that are seen in a folder: one appeared or went, or is ignored now
    /// and was not, or is another package's.
    fn are_names_changed(&self, machine: &Machine, folder: &str) -> bool {
        if self.is_in_folder(folder) {
            return true;
        }
        let start = if folder.is_empty() {
            String::new()
        } else {
            format!("{folder}/")
        };
        let is_name_new = |path: &String| match path[start.len()..].split_once('/') {
            None => true,
            // Of something deeper down only the folder on the way to it may be new or gone.
            Some((name, _)) => {
                let folder = format!("{start}{name}");
                self.is_known_folder(&folder) != machine.root().join(&folder).is_dir()
            }
        };
        let mut names = self
            .names
            .range(start.clone()..)
            .take_while(|path| path.starts_with(&start));
        let around = folder
            .match_indices('/')
            .map(|(at, _)| &folder[..at])
            .chain(["", folder]);
        let is_decided = || {
            around.into_iter().any(|folder| {
                let at = |name: &str| {
                    if folder.is_empty() {
                        name.to_owned()
                    } else {
                        format!("{folder}/{name}")
                    }
                };
                self.files.contains(&at(IGNORE_FILE))
                    || self.names.contains(&at(nubrik_source::SETTINGS_FILE))
            })
        };
        names.any(is_name_new) || is_decided()
    }
}

impl ChangedFiles {
    /// Asks git. `trail` says what evaluation took from which file, `graph` which sources there
    /// are.
    ///
    /// # Errors
    /// What git says where it cannot tell, such as that there is no such revision.
    pub fn since(
        machine: &Machine,
        revision: &str,
        trail: &Trail,
        graph: &Graph,
    ) -> Result<ChangedFiles, SinceProblem> {
        let git = Git::of(machine)?;
        let base = git.base_of(revision)?;
        let difference = TreeDifference::of(&git, &base.commit)?;
        let mut packages = BTreeSet::new();
        // Where no one took notes anything may rest on any of them.
        let mut everything = trail.units.is_empty() && !difference.is_empty();
        for path in difference.files.iter().chain(&difference.names) {
            let path = WsPath::from_normal(path);
            let folder = path.parent().unwrap_or_else(WsPath::root);
            if path.name() == TARGETS_FILE {
                // Files below may belong to another package now.
                if difference.names.contains(path.as_str()) {
                    packages.extend(std::iter::successors(folder.parent(), WsPath::parent));
                }
                packages.insert(folder);
            } else if path.name() == nubrik_source::SETTINGS_FILE && folder.is_root() {
                everything = true;
            } else if !machine.root().join(path.as_str()).exists() {
                // What a glob found before is nowhere in the graph: its package may have used it.
                packages.extend(std::iter::successors(Some(folder), WsPath::parent));
            }
        }
        let behind_links = sources_behind_links(machine, &difference, graph);
        let declared = declared_from(machine, trail, &difference);
        everything |= declared.is_none();
        let declared = declared.unwrap_or_default();
        Ok(ChangedFiles {
            difference,
            behind_links,
            packages,
            declared,
            everything,
            base,
        })
    }

    /// What it is compared with.
    pub fn base(&self) -> &ComparedWith {
        &self.base
    }

    fn redefines(&self, target: &Target) -> bool {
        self.packages.contains(&target.package) || self.declared.contains(&*target.address)
    }

    /// Whether a source is among them.
    fn is_changed(&self, path: &WsPath) -> bool {
        let TreeDifference {
            known,
            files,
            names,
            ..
        } = &self.difference;
        let text = path.as_str();
        files.contains(text)
            || names.contains(text)
            || self.difference.is_in_folder(text)
            || self.behind_links.contains(path)
            || !known.contains(text)
    }

    /// Which steps the changes can affect, by their numbers: those that read a changed file or
    /// whose definitions changed, and all that need what such a step makes.
    pub fn steps_reached(&self, graph: &Graph) -> Vec<bool> {
        if self.everything {
            return vec![true; graph.steps.len()];
        }
        let is_changed = |file: &FileId| {
            let node = graph.file(*file);
            node.maker.is_none() && self.is_changed(&node.path)
        };
        let sets: Vec<bool> = graph
            .sets
            .iter()
            .map(|files| files.iter().any(is_changed))
            .collect();
        steps_after(graph, |step| {
            let node = graph.step(step);
            self.redefines(graph.owner(step))
                // Folders count with all that is in them.
                || node.inputs.iter().any(is_changed)
                || node.candidates.iter().any(|set| sets[set.index()])
        })
    }

    /// Which targets the changes can affect, by their numbers: what they make, or their
    /// definitions. What jobs and services use is known only when they are asked for, so that any
    /// change may reach them.
    pub fn targets_reached(&self, graph: &Graph) -> Vec<bool> {
        let steps = self.steps_reached(graph);
        let by_definition = |target: &Target| {
            let is_unknown =
                matches!(target.role, Role::Job | Role::Service) && !self.difference.is_empty();
            self.everything || is_unknown || self.redefines(target)
        };
        let mut reached: Vec<bool> = graph.targets.iter().map(by_definition).collect();
        for (step, _) in graph
            .steps
            .iter()
            .zip(&steps)
            .filter(|(_, is_reached)| **is_reached)
        {
            reached[step.target.index()] = true;
        }
        // A result may be what another one's step makes.
        for (number, target) in graph.targets.iter().enumerate() {
            let mut makers = target
                .results
                .iter()
                .filter_map(|result| graph.file(result.file).maker);
            reached[number] |= makers.any(|maker| steps[maker.index()]);
        }
        reached
    }
}

/// Whether a path leads through a link that changed, or by links to something that `differs`.
fn is_behind_change(
    machine: &Machine,
    difference: &TreeDifference,
    path: &WsPath,
    differs: &dyn Fn(&str) -> bool,
) -> bool {
    let links = machine.links_to(path);
    !links.is_empty()
        && (links.iter().any(|(link, _)| difference.is_changed(machine, link.as_str()))
            // Where it leads out of the workspace nobody knows what was there.
            || machine.followed(path).is_none_or(|real| differs(real.as_str())))
}

/// Sources to which a link leads where something changed: the link, or what it leads to.
fn sources_behind_links(
    machine: &Machine,
    difference: &TreeDifference,
    graph: &Graph,
) -> FxHashSet<WsPath> {
    let sources = graph
        .files
        .iter()
        .filter(|file| file.maker.is_none())
        .map(|file| &file.path);
    let is_real_changed = |real: &str| difference.is_changed(machine, real);
    let behind =
        sources.filter(|path| is_behind_change(machine, difference, path, &is_real_changed));
    behind.cloned().collect()
}

/// The addresses of declarations whose values were taken from something that differs, directly or
/// by way of others; `None` where what a request means at all was.
fn declared_from(
    machine: &Machine,
    trail: &Trail,
    difference: &TreeDifference,
) -> Option<BTreeSet<String>> {
    let mut users: FxHashMap<u32, Vec<u32>> = FxHashMap::default();
    for (user, unit) in &trail.needs {
        users.entry(*unit).or_default().push(*user);
    }
    // Packages are counted by their folders.
    let is_kit = |file: &str| {
        difference.files.contains(file) && WsPath::from_normal(file).name() != TARGETS_FILE
    };
    let mut open: Vec<u32> = (0..trail.units.len() as u32)
        .filter(|n| is_kit(&trail.units[*n as usize].file))
        .collect();
    let is_changed: Vec<bool> = trail
        .paths
        .iter()
        .map(|path| {
            let text = path.as_str();
            if text.ends_with(".nub") {
                // Definition files count by what is declared in them, and by whether they are
                // there.
                return difference.names.contains(text);
            }
            let differs = |text: &str| match machine.check(&path.into()) {
                Some(found) if found.is_folder() => difference.are_names_changed(machine, text),
                _ => difference.is_changed(machine, text),
            };
            differs(text) || is_behind_change(machine, difference, path, &differs)
        })
        .collect();
    // What packages there are shows in their definition files.
    let is_folder = |path: u32| {
        let path = trail.paths[path as usize].as_str();
        machine.root().join(path).is_dir()
    };
    let reads = trail.reads.iter();
    let reads = reads.filter(|(_, path)| is_changed[*path as usize]);
    let reads = reads.filter(|(unit, path)| *unit != REQUEST || !is_folder(*path));
    open.extend(reads.map(|(unit, _)| *unit));
    // A sample may have read any file.
    if !difference.is_empty() {
        open.extend(&trail.sampling);
    }
    let mut reached = vec![false; trail.units.len()];
    while let Some(unit) = open.pop() {
        if !std::mem::replace(reached.get_mut(unit as usize)?, true) {
            open.extend(users.get(&unit).into_iter().flatten());
        }
    }
    if reached.get(REQUEST as usize) == Some(&true) {
        return None;
    }
    let units = trail.units.iter().zip(&reached);
    let units = units.filter(|(_, reached)| **reached).map(|(unit, _)| unit);
    Some(units.filter_map(address_of_unit).collect())
}

/// The address of what is declared in a package.
fn address_of_unit(unit: &Unit) -> Option<String> {
    let file = WsPath::from_normal(&unit.file);
    let package = file.parent().filter(|_| file.name() == TARGETS_FILE)?;
    Some(package.child(&unit.name).as_str().to_owned())
}
