//! An evaluation in which some targets are evaluated again: their result takes the place of what they were, and the rest is taken
//! over as it is.

use std::hash::Hash;
use std::sync::Arc;

use nubrik_graph::{
    Closure, FileId, FileNode, Renumbering, SetId, Step, StepId, Tables, Target, TargetId, ToolId,
};
use nubrik_source::WsPath;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::eval::{Evaluation, Shares};

/// A number that was not asked for yet.
const NONE: u32 = u32::MAX;

impl Evaluation {
    /// Whether some of its targets can be replaced: it asks for whole targets only, and there is no step in it but what they need.
    pub fn is_replaceable(&self) -> bool {
        let needed = || Closure::of(&self.graph, self.requested.iter().copied()).steps.len();
        self.asks_for_whole_targets() && needed() == self.graph.steps.len()
    }

    /// Whether it asks for targets and nothing else, for each as a whole.
    fn asks_for_whole_targets(&self) -> bool {
        let Evaluation {
            graph,
            requested,
            targets,
            shares,
            effects,
            services,
            through,
            options,
            // Of what is wrong or missing nothing is taken over, and what was read belongs to a seal.
            diagnostics: _,
            sources: _,
            read: _,
            kept: _,
            answers: _,
            probes: _,
            trail: _,
            digests: _,
            waiting,
        } = self;
        let asks_for_more =
            !(effects.is_empty() && services.is_empty() && through.is_empty() && options.is_empty());
        !asks_for_more
            && !waiting
            && shares.ends.len() == targets.len()
            && shares.each_once(graph.files.len()) == *requested
    }

    /// This evaluation after some of its targets were evaluated `again`. `gone` says by place in [`Evaluation::targets`] which may be
    /// others now; all targets of `packages` are gone, and what is in them now is in `again`. This one must be
    /// [replaceable](Evaluation::is_replaceable).
    ///
    /// `None` where what is new cannot be distinguished from the rest, or where a result has the name of another one: then everything is
    /// to be evaluated.
    pub fn replaced(self, gone: &[bool], packages: &[WsPath], again: Evaluation) -> Option<Evaluation> {
        if !again.asks_for_whole_targets() {
            return None;
        }
        let names = PublishedNames::new(&self, gone, &again);
        let stay = |place: usize| gone.get(place) == Some(&false);
        let mut results = Vec::new();
        for (place, id) in self.targets.iter().enumerate().filter(|(place, _)| stay(*place)) {
            if names.clash(self.graph.target(*id)) {
                return None;
            }
            results.extend_from_slice(self.shares.get(place)?);
        }
        let needed = Closure::of(&self.graph, results).steps;
        let mut new = NewTargets::of(&again, packages);
        let Evaluation { graph, shares: new_shares, diagnostics, sources, read, trail, .. } = again;
        let answers = self.answers;
        let kept = {
            let is_new: FxHashSet<&WsPath> = read.iter().collect();
            let whole: FxHashSet<&WsPath> = packages.iter().collect();
            let stays = |path: &&WsPath| {
                !is_new.contains(path) && path.parent().is_none_or(|package| !whole.contains(&package))
            };
            self.definitions().filter(stays).cloned().collect()
        };
        let mut old = self.graph.into_tables();
        let mut steps: Vec<Option<Box<Step>>> =
            std::mem::take(&mut old.steps).into_iter().map(Some).collect();
        let mut moving = Moving::new(old, graph.into_tables());
        for id in needed {
            moving.take_step(steps.get_mut(id.index())?.take()?);
        }
        let mut targets = Vec::with_capacity(self.targets.len());
        let mut shares = Shares::default();
        for (place, id) in self.targets.into_iter().enumerate() {
            if stay(place) {
                targets.push(moving.target(id));
                shares.push(self.shares.get(place)?.iter().map(|file| moving.file(*file)));
            } else {
                let row = moving.rows.get(id.index())?.as_ref()?;
                for (id, place) in new.take(&row.package, &row.address)? {
                    targets.push(id);
                    shares.push(new_shares.get(place)?.iter().copied());
                }
            }
        }
        if new.is_any_left() {
            return None;
        }
        let graph = moving.finish()?;
        let mut evaluation = Evaluation {
            targets,
            shares,
            diagnostics,
            sources,
            read,
            kept,
            trail,
            answers,
            ..Evaluation::default()
        };
        evaluation.graph = graph.finish().ok()?;
        evaluation.requested = evaluation.shares.each_once(evaluation.graph.files.len());
        Some(evaluation)
    }
}

/// Names under which results are published now that no target had that is gone.
struct PublishedNames {
    names: FxHashSet<WsPath>,
    /// The folders on the way to them.
    above: FxHashSet<WsPath>,
}

impl PublishedNames {
    fn new(old: &Evaluation, gone: &[bool], again: &Evaluation) -> PublishedNames {
        let names = |evaluation: &Evaluation, id: &TargetId| -> Vec<WsPath> {
            evaluation.graph.target(*id).results.iter().map(|result| result.publish.clone()).collect()
        };
        let was_there = old.targets.iter().zip(gone).filter(|(_, gone)| **gone);
        let before: FxHashSet<WsPath> = was_there.flat_map(|(id, _)| names(old, id)).collect();
        let now = again.targets.iter().flat_map(|id| names(again, id));
        let names: FxHashSet<WsPath> = now.filter(|name| !before.contains(name)).collect();
        let above = names.iter().flat_map(|name| std::iter::successors(name.parent(), WsPath::parent));
        PublishedNames { above: above.collect(), names }
    }

    /// Whether a target publishes something under one of the names, below it or above it.
    fn clash(&self, target: &Target) -> bool {
        let is_one = |name: &WsPath| {
            let mut at_and_above = std::iter::successors(Some(name.clone()), WsPath::parent);
            self.above.contains(name) || at_and_above.any(|folder| self.names.contains(&folder))
        };
        !self.names.is_empty() && target.results.iter().any(|result| is_one(&result.publish))
    }
}

/// A target that was evaluated again, and its place there.
type NewTarget = (TargetId, usize);

/// Targets that were evaluated again, on their way to the places where they were.
struct NewTargets {
    /// Those of whole packages, in their order, until they are taken.
    packages: FxHashMap<WsPath, Vec<NewTarget>>,
    /// Packages that are evaluated again as wholes.
    whole: FxHashSet<WsPath>,
    /// Single ones by their addresses.
    single: FxHashMap<Arc<str>, NewTarget>,
}

impl NewTargets {
    fn of(again: &Evaluation, packages: &[WsPath]) -> NewTargets {
        let whole: FxHashSet<WsPath> = packages.iter().cloned().collect();
        let mut new = NewTargets { packages: FxHashMap::default(), whole, single: FxHashMap::default() };
        for (place, id) in again.targets.iter().enumerate() {
            let target = again.graph.target(*id);
            if new.whole.contains(&target.package) {
                new.packages.entry(target.package.clone()).or_default().push((*id, place));
            } else {
                new.single.insert(target.address.clone(), (*id, place));
            }
        }
        new
    }

    /// What takes the place of a target; `None` where nothing does that was asked for.
    fn take(&mut self, package: &WsPath, address: &Arc<str>) -> Option<Vec<NewTarget>> {
        if self.whole.contains(package) {
            // The first one that is gone makes room for all.
            return Some(self.packages.remove(package).unwrap_or_default());
        }
        Some(vec![self.single.remove(address)?])
    }

    /// Whether there are some for which there is no place: of packages without a target until now.
    fn is_any_left(&self) -> bool {
        !self.packages.is_empty() || !self.single.is_empty()
    }
}

/// Rows on their way from the older graph into the newer one, whose own rows keep their numbers.
struct Moving {
    old: Tables,
    new: Tables,
    /// Targets of the older graph that were not taken over yet.
    rows: Vec<Option<Target>>,
    /// Rows of the newer graph by what makes them the same.
    known_files: FxHashMap<WsPath, FileId>,
    known_tools: FxHashMap<Arc<str>, ToolId>,
    known_targets: FxHashMap<(Arc<str>, Arc<str>, u32), TargetId>,
    known_steps: FxHashSet<WsPath>,
    /// Numbers in the newer graph by those in the older one, or [`NONE`].
    files: Vec<u32>,
    tools: Vec<u32>,
    targets: Vec<u32>,
    sets: Vec<u32>,
    /// Files of the newer graph that a step of the older one makes which is not there yet.
    missing: FxHashSet<FileId>,
    /// Whether a file is something else in one graph than in the other.
    is_torn: bool,
}

/// The numbers of rows by their keys.
fn numbered<T, K: Hash + Eq, I>(rows: &[T], key: impl Fn(&T) -> K, id: impl Fn(u32) -> I) -> FxHashMap<K, I> {
    (0..).zip(rows).map(|(number, row)| (key(row), id(number))).collect()
}

fn place_of(target: &Target) -> (Arc<str>, Arc<str>, u32) {
    (target.address.clone(), target.place.file.clone(), target.place.line)
}

impl Moving {
    fn new(mut old: Tables, new: Tables) -> Moving {
        let rows: Vec<Option<Target>> = std::mem::take(&mut old.targets).into_iter().map(Some).collect();
        Moving {
            known_files: numbered(&new.files, |file| file.path.clone(), FileId),
            known_tools: numbered(&new.tools, Clone::clone, ToolId),
            known_targets: numbered(&new.targets, place_of, TargetId),
            known_steps: new.steps.iter().map(|step| step.folder.clone()).collect(),
            files: vec![NONE; old.files.len()],
            tools: vec![NONE; old.tools.len()],
            targets: vec![NONE; rows.len()],
            rows,
            sets: vec![NONE; old.sets.len()],
            missing: FxHashSet::default(),
            is_torn: false,
            old,
            new,
        }
    }

    /// Takes a step over, unless it was evaluated again for others that need it. Steps come after those that they need.
    fn take_step(&mut self, mut step: Box<Step>) {
        if self.known_steps.contains(&step.folder) {
            // What it makes is there already, and is found by its path.
            return;
        }
        step.renumber(self);
        let id = StepId(self.new.steps.len() as u32);
        for output in &step.outputs {
            self.new.files[output.file.index()].maker = Some(id);
            self.missing.remove(&output.file);
        }
        self.new.steps.push(step);
    }

    /// The tables; `None` where something in them is made by nothing that is there.
    fn finish(self) -> Option<Tables> {
        (self.missing.is_empty() && !self.is_torn).then_some(self.new)
    }
}

impl Renumbering for Moving {
    fn file(&mut self, id: FileId) -> FileId {
        let number = &mut self.files[id.index()];
        if *number == NONE {
            let FileNode { path, maker, folder } = &self.old.files[id.index()];
            let new = match self.known_files.get(path) {
                Some(known) => *known,
                None => {
                    let new = FileId(self.new.files.len() as u32);
                    self.new.files.push(FileNode { path: path.clone(), maker: None, folder: *folder });
                    new
                }
            };
            let row = &self.new.files[new.index()];
            match (maker, row.maker) {
                (Some(_), None) => drop(self.missing.insert(new)),
                (None, Some(_)) => self.is_torn = true,
                (Some(_), Some(_)) | (None, None) => {}
            }
            self.is_torn |= row.folder != *folder;
            *number = new.0;
        }
        FileId(*number)
    }

    fn tool(&mut self, id: ToolId) -> ToolId {
        let number = &mut self.tools[id.index()];
        if *number == NONE {
            let name = &self.old.tools[id.index()];
            let new = *self.known_tools.entry(name.clone()).or_insert_with(|| {
                self.new.tools.push(name.clone());
                ToolId(self.new.tools.len() as u32 - 1)
            });
            *number = new.0;
        }
        ToolId(*number)
    }

    fn target(&mut self, id: TargetId) -> TargetId {
        let Some(mut target) = self.rows[id.index()].take() else {
            return TargetId(self.targets[id.index()]);
        };
        for result in &mut target.results {
            result.file = self.file(result.file);
        }
        let new = match self.known_targets.get(&place_of(&target)) {
            Some(known) => {
                self.new.targets[known.index()].absorb(target);
                *known
            }
            None => {
                self.new.targets.push(target);
                TargetId(self.new.targets.len() as u32 - 1)
            }
        };
        self.targets[id.index()] = new.0;
        new
    }

    fn set(&mut self, id: SetId) -> SetId {
        if self.sets[id.index()] == NONE {
            let files: Vec<FileId> = self.old.sets.files(id).to_vec();
            let files = files.into_iter().map(|file| self.file(file)).collect();
            self.sets[id.index()] = self.new.sets.intern(files).0;
        }
        SetId(self.sets[id.index()])
    }
}
