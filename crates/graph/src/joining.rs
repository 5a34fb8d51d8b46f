//! Graphs put together: rows that are the same in several become one. A file is known by its path,
//! a step by its folder, a tool by its name, a target by its address and its place. Numbers of one
//! graph become those of the whole by [`Step::renumber`]; what two graphs know of one target is
//! joined by [`Target::absorb`].

use std::sync::Arc;

use nubrik_source::WsPath;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::rows::{RowIndex, row_digest};
use crate::visit::{Numbers, Renumbering};
use crate::{FileId, FileNode, SetId, Step, StepId, Tables, Target, TargetId, ToolId};

/// Digests of the keys by which rows of two graphs are recognized as the same, by the rows'
/// numbers.
#[derive(Default)]
pub struct RowDigests {
    /// Of the files' paths.
    pub files: Vec<u32>,
    /// Of the steps' folders.
    pub steps: Vec<u32>,
    /// Of the targets' addresses.
    pub targets: Vec<u32>,
}

/// What the rows of a graph that was taken in as a whole have become.
pub struct JoinedNumbers {
    /// By the number of a file.
    pub files: Vec<FileId>,
    /// By the number of a target.
    pub targets: Vec<TargetId>,
}

/// A graph that takes in rows of others.
#[derive(Default)]
pub struct Joining {
    /// The graph so far. Sets are entered besides the methods here: they know each other
    /// themselves.
    pub(crate) tables: Tables,
    files: RowIndex,
    steps: RowIndex,
    /// Targets by address and place: two kits of one folder may hold a value of the same name.
    targets: RowIndex,
    tools: FxHashMap<Arc<str>, ToolId>,
}

impl Joining {
    /// A graph whose rows keep their numbers; no two of them are the same.
    pub fn from_tables(tables: Tables) -> Joining {
        let (mut files, mut steps, mut targets) = (
            RowIndex::default(),
            RowIndex::default(),
            RowIndex::default(),
        );
        files.insert_all(
            tables
                .files
                .iter()
                .map(|file| row_digest(file.path.as_str())),
        );
        steps.insert_all(
            tables
                .steps
                .iter()
                .map(|step| row_digest(step.folder.as_str())),
        );
        targets.insert_all(
            tables
                .targets
                .iter()
                .map(|target| row_digest(&target.address)),
        );
        let tools = tables
            .tools
            .iter()
            .cloned()
            .zip((0..).map(ToolId))
            .collect();
        Joining {
            tables,
            files,
            steps,
            targets,
            tools,
        }
    }

    /// The graph that came of it.
    pub fn into_tables(self) -> Tables {
        self.tables
    }

    /// Whether nothing was taken in.
    pub fn is_empty(&self) -> bool {
        self.targets.is_empty()
    }

    /// Makes room for so many files, steps and targets more.
    pub fn reserve(&mut self, files: usize, steps: usize, targets: usize) {
        self.files.reserve(files);
        self.tables.files.reserve(files);
        self.steps.reserve(steps);
        self.tables.steps.reserve(steps);
        self.targets.reserve(targets);
        self.tables.targets.reserve(targets);
    }

    /// The number of the file at a path, entered where it is new. What makes it is known when that
    /// step is there.
    pub fn file(&mut self, path: WsPath, folder: bool) -> FileId {
        let digest = row_digest(path.as_str());
        self.known_or_new_file(
            digest,
            FileNode {
                path,
                maker: None,
                folder,
            },
        )
    }

    fn known_or_new_file(&mut self, digest: u32, node: FileNode) -> FileId {
        let files = &mut self.tables.files;
        let known = self
            .files
            .find_or_insert(digest, |n| files[n].path == node.path, files.len());
        FileId(known.unwrap_or_else(|| {
            files.push(FileNode {
                maker: None,
                ..node
            });
            files.len() - 1
        }) as u32)
    }

    /// The number of the file at a path, if there is one.
    pub fn known_file(&self, path: &str) -> Option<FileId> {
        let has = |n: usize| self.tables.files[n].path.as_str() == path;
        self.files
            .find(row_digest(path), has)
            .map(|n| FileId(n as u32))
    }

    /// The number of a tool, entered where it is new.
    pub fn tool(&mut self, name: &str) -> ToolId {
        if let Some(known) = self.tools.get(name) {
            return *known;
        }
        let name: Arc<str> = name.into();
        let id = ToolId(self.tables.tools.len() as u32);
        self.tables.tools.push(name.clone());
        self.tools.insert(name, id);
        id
    }

    /// The number of a target whose results have the numbers of this graph: one that is known
    /// already learns what it lacks.
    pub fn target(&mut self, target: Target) -> TargetId {
        self.known_or_new_target(row_digest(&target.address), target)
    }

    fn known_or_new_target(&mut self, digest: u32, target: Target) -> TargetId {
        let all = &mut self.tables.targets;
        let is_same = |n: usize| all[n].address == target.address && all[n].place == target.place;
        match self.targets.find_or_insert(digest, is_same, all.len()) {
            None => {
                all.push(target);
                TargetId(all.len() as u32 - 1)
            }
            Some(number) => {
                all[number].absorb(target);
                TargetId(number as u32)
            }
        }
    }

    fn known_step(&self, digest: u32, folder: &WsPath) -> Option<StepId> {
        let found = self
            .steps
            .find(digest, |n| self.tables.steps[n].folder == *folder);
        found.map(|n| StepId(n as u32))
    }

    /// Adds a step that is not known yet, which has the numbers of this graph already, as what
    /// makes its outputs.
    pub fn new_step(&mut self, step: Box<Step>) -> StepId {
        let digest = row_digest(step.folder.as_str());
        self.insert_step(digest, step)
    }

    fn insert_step(&mut self, digest: u32, step: Box<Step>) -> StepId {
        let id = StepId(self.tables.steps.len() as u32);
        for output in &step.outputs {
            self.tables.files[output.file.index()].maker = Some(id);
        }
        self.steps.insert_new(digest, id.index());
        self.tables.steps.push(step);
        id
    }

    /// Takes in all rows of another graph. Of a step that is known the other graph's is dropped:
    /// both are evaluated from the same definitions.
    pub fn absorb(&mut self, other: Tables, digests: RowDigests) -> JoinedNumbers {
        let Tables {
            files,
            steps,
            targets,
            tools,
            sets,
        } = other;
        let tools: Vec<ToolId> = tools.iter().map(|name| self.tool(name)).collect();
        let files = files.into_iter().zip(digests.files);
        let files: Vec<FileId> = files
            .map(|(node, digest)| self.known_or_new_file(digest, node))
            .collect();
        let targets = targets
            .into_iter()
            .zip(digests.targets)
            .map(|(mut target, digest)| {
                target
                    .results
                    .iter_mut()
                    .for_each(|r| r.file = files[r.file.index()]);
                self.known_or_new_target(digest, target)
            });
        let targets: Vec<TargetId> = targets.collect();
        let renumbered = |of: &[FileId]| of.iter().map(|f| files[f.index()]).collect();
        let sets: Vec<SetId> = sets
            .iter()
            .map(|of| self.tables.sets.intern(renumbered(of)))
            .collect();
        let mut numbers = Numbers {
            files: &files,
            tools: &tools,
            targets: &targets,
            sets: &sets,
        };
        for (mut step, digest) in steps.into_iter().zip(digests.steps) {
            if self.known_step(digest, &step.folder).is_none() {
                step.renumber(&mut numbers);
                self.insert_step(digest, step);
            }
        }
        JoinedNumbers { files, targets }
    }

    /// Begins to take in single rows of another graph: steps, and whatever they lead to.
    pub fn taking_from(self, mut other: Tables) -> Taking {
        let count = (other.files.len(), other.tools.len(), other.sets.len());
        Taking {
            joined: self,
            steps: std::mem::take(&mut other.steps)
                .into_iter()
                .map(Some)
                .collect(),
            targets: std::mem::take(&mut other.targets)
                .into_iter()
                .map(TakenTarget::Left)
                .collect(),
            other,
            files: vec![None; count.0],
            tools: vec![None; count.1],
            sets: vec![None; count.2],
            missing: FxHashSet::default(),
            is_torn: false,
        }
    }
}

/// A target of another graph, or its number in the whole.
enum TakenTarget {
    Left(Target),
    Taken(TargetId),
}

/// Rows of another graph on their way into one whose own rows keep their numbers.
pub struct Taking {
    joined: Joining,
    /// The other graph, without its steps and targets.
    other: Tables,
    /// Its steps and targets that were not taken in yet.
    steps: Vec<Option<Box<Step>>>,
    targets: Vec<TakenTarget>,
    /// Numbers in the whole by those in the other graph.
    files: Vec<Option<FileId>>,
    tools: Vec<Option<ToolId>>,
    sets: Vec<Option<SetId>>,
    /// Files of the whole that a step of the other graph makes which is not there yet.
    missing: FxHashSet<FileId>,
    /// Whether a file is something else in one graph than in the other.
    is_torn: bool,
}

impl Taking {
    /// Takes a step in, unless one with its folder is there already: then that makes what both
    /// make. Steps come after those that they need. `None` where there is no such step, or where it
    /// was taken before.
    pub fn step(&mut self, id: StepId) -> Option<()> {
        let mut step = self.steps.get_mut(id.index())?.take()?;
        let digest = row_digest(step.folder.as_str());
        if self.joined.known_step(digest, &step.folder).is_some() {
            // What it makes is found by its path.
            return Some(());
        }
        step.renumber(self);
        for output in &step.outputs {
            self.missing.remove(&output.file);
        }
        self.joined.insert_step(digest, step);
        Some(())
    }

    /// A target of the other graph that was not taken in.
    pub fn left(&self, id: TargetId) -> Option<&Target> {
        match self.targets.get(id.index())? {
            TakenTarget::Left(target) => Some(target),
            TakenTarget::Taken(_) => None,
        }
    }

    /// The graph; `None` where something in it is made by nothing that is there, or is a folder in
    /// one graph and a file in the other.
    pub fn finish(self) -> Option<Tables> {
        (self.missing.is_empty() && !self.is_torn).then_some(self.joined.tables)
    }
}

impl Renumbering for Taking {
    fn file(&mut self, id: FileId) -> FileId {
        if let Some(known) = self.files[id.index()] {
            return known;
        }
        let FileNode {
            path,
            maker,
            folder,
        } = self.other.files[id.index()].clone();
        let new = self.joined.file(path, folder);
        let row = &self.joined.tables.files[new.index()];
        match (maker, row.maker) {
            (Some(_), None) => drop(self.missing.insert(new)),
            (None, Some(_)) => self.is_torn = true,
            (Some(_), Some(_)) | (None, None) => {}
        }
        self.is_torn |= row.folder != folder;
        *self.files[id.index()].insert(new)
    }

    fn tool(&mut self, id: ToolId) -> ToolId {
        let (joined, name) = (&mut self.joined, &self.other.tools[id.index()]);
        *self.tools[id.index()].get_or_insert_with(|| joined.tool(name))
    }

    fn target(&mut self, id: TargetId) -> TargetId {
        // While its results are renumbered nobody asks for it.
        let taken = std::mem::replace(
            &mut self.targets[id.index()],
            TakenTarget::Taken(TargetId(0)),
        );
        let new = match taken {
            TakenTarget::Taken(known) => known,
            TakenTarget::Left(mut target) => {
                for result in &mut target.results {
                    result.file = self.file(result.file);
                }
                self.joined.target(target)
            }
        };
        self.targets[id.index()] = TakenTarget::Taken(new);
        new
    }

    fn set(&mut self, id: SetId) -> SetId {
        if let Some(known) = self.sets[id.index()] {
            return known;
        }
        let files = self.other.sets.files(id).to_vec();
        let files = files.into_iter().map(|file| self.file(file)).collect();
        *self.sets[id.index()].insert(self.joined.tables.sets.intern(files))
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;
    use crate::{Closure, OutputNode, ResultFile};

    /// A graph of steps in folders, each of which makes `x` in its folder from files; a tool and a
    /// target for each.
    fn graph(steps: &[(&str, &[&str])], folders: &[&str]) -> Tables {
        let mut joined = Joining::default();
        for (folder, needs) in steps {
            let place = WsPath::from_normal(folder);
            let mut file =
                |path: &str| joined.file(WsPath::from_normal(path), folders.contains(&path));
            let inputs: Vec<FileId> = needs.iter().map(|path| file(path)).collect();
            let made = file(&format!("{folder}/x"));
            let result = ResultFile {
                address: (*folder).into(),
                file: made,
                publish: place.clone(),
            };
            let tool = joined.tool(folder);
            let target = joined.target(Target {
                results: vec![result],
                ..Target::plain(folder)
            });
            let outputs = vec![OutputNode::new(made, "x")];
            let step = Step {
                inputs: inputs.into(),
                outputs,
                tools: vec![tool],
                target,
                ..Step::empty(place)
            };
            joined.new_step(Box::new(step));
        }
        joined.tables
    }

    fn digests(tables: &Tables) -> RowDigests {
        RowDigests {
            files: tables
                .files
                .iter()
                .map(|file| row_digest(file.path.as_str()))
                .collect(),
            steps: tables
                .steps
                .iter()
                .map(|step| row_digest(step.folder.as_str()))
                .collect(),
            targets: tables
                .targets
                .iter()
                .map(|target| row_digest(&target.address))
                .collect(),
        }
    }

    /// The folders of all steps behind the results of a target, with the tools that they name.
    fn behind(tables: Tables, address: &str) -> Vec<(String, String)> {
        let graph = tables.finish().map_err(|flaw| flaw.0).unwrap();
        let target = graph
            .targets
            .iter()
            .find(|target| &*target.address == address)
            .unwrap();
        let steps = Closure::of(&graph, target.results.iter().map(|result| result.file)).steps;
        let told = steps.iter().map(|id| graph.step(*id));
        told.map(|step| {
            (
                step.folder.to_string(),
                graph.tools[step.tools[0].index()].to_string(),
            )
        })
        .collect()
    }

    #[test]
    fn rows_that_two_graphs_share_become_one() {
        let one = graph(&[("code", &["a.txt"]), ("tides", &["code/x"])], &[]);
        let other = graph(
            &[
                ("maps", &["b.txt"]),
                ("code", &["a.txt"]),
                ("almanac", &["code/x", "maps/x"]),
            ],
            &[],
        );
        let mut joined = Joining::default();
        for tables in [one, other] {
            let digests = digests(&tables);
            joined.absorb(tables, digests);
        }
        let tables = joined.tables;
        assert_eq!(
            (
                tables.files.len(),
                tables.steps.len(),
                tables.targets.len(),
                tables.tools.len()
            ),
            (6, 4, 4, 4)
        );
        let named = |folder: &str| (folder.to_owned(), folder.to_owned());
        assert_eq!(
            behind(tables, "almanac"),
            ["code", "maps", "almanac"].map(named)
        );
    }

    #[test]
    fn steps_of_an_older_graph_are_taken_into_a_newer_one() {
        let older = || {
            graph(
                &[
                    ("code", &["a.txt"]),
                    ("tides", &["code/x"]),
                    ("maps", &["b.txt"]),
                ],
                &[],
            )
        };
        let newer = graph(&[("code", &["a.txt", "c.txt"])], &[]);
        let mut taking = Joining::from_tables(newer.clone()).taking_from(older());
        assert!(
            taking
                .left(TargetId(1))
                .is_some_and(|target| &*target.address == "tides")
        );
        taking.step(StepId(0)).unwrap();
        taking.step(StepId(1)).unwrap();
        assert!(taking.step(StepId(1)).is_none(), "taken before");
        assert!(taking.left(TargetId(1)).is_none());
        let tables = taking.finish().unwrap();
        assert_eq!(
            (tables.steps.len(), tables.steps[0].inputs.len()),
            (2, 2),
            "the newer step stays"
        );
        let named = |folder: &str| (folder.to_owned(), folder.to_owned());
        assert_eq!(behind(tables, "tides"), ["code", "tides"].map(named));
        // Without the step that makes what it reads, a step cannot come.
        let mut taking = Joining::default().taking_from(older());
        taking.step(StepId(1)).unwrap();
        assert!(taking.finish().is_none());
    }

    #[test]
    fn what_is_a_source_or_a_folder_in_one_graph_only_is_not_joined() {
        let newer = graph(&[("maps", &["code/x"])], &[]);
        let older = graph(&[("tides", &["maps/x"])], &[]);
        let mut taking = Joining::from_tables(newer.clone()).taking_from(older);
        taking.step(StepId(0)).unwrap();
        assert!(
            taking.finish().is_none(),
            "maps/x is a source there, and made here"
        );
        let older = graph(&[("tides", &["code/x"])], &["code/x"]);
        let mut taking = Joining::from_tables(newer).taking_from(older);
        taking.step(StepId(0)).unwrap();
        assert!(taking.finish().is_none(), "code/x is a folder there");
    }
}
