//! A sealed graph with some of its targets evaluated again: their result takes the place of what
//! they were, the rest is taken over exactly as it is there.

use nubrik_bytes::Encoder;
use nubrik_graph::{Closure, Purpose, Step, StepId, TargetId, write_step, write_target};
use nubrik_lang::Evaluation;
use rustc_hash::FxHashMap;

use crate::numbers::{KeptNumbers, Lists, NumberList};
use crate::seal::NO_NODE;
use crate::snapshot::{Snapshot, units_of};
use crate::trails::Trails;

/// The graph as it is now.
pub struct Spliced {
    /// The graph now.
    pub snapshot: Snapshot,
    /// What values were taken from now.
    pub trails: Trails,
    /// Steps that are new or other than they were.
    pub changed: Vec<usize>,
    /// Where results of the targets that were evaluated again were published, below the folder of
    /// results.
    pub published_before: Vec<String>,
}

/// Puts what was evaluated again in the place of what it was. `None` where that cannot be
/// distinguished from the rest, which is then to be evaluated as a whole.
pub fn splice(
    old: &Snapshot,
    trails: &Trails,
    reached: &[bool],
    again: &Evaluation,
) -> Option<Spliced> {
    if old.asked.len() != old.asked_units.len() {
        return None;
    }
    let mut work = Splice::new(old, reached, again)?;
    work.take_steps()?;
    let needed = work.needed()?;
    work.finish(&needed, trails.spliced(reached, &again.trail))
}

struct Splice<'a> {
    old: &'a Snapshot,
    again: &'a Evaluation,
    /// By old target: whether it was asked for and is evaluated again.
    dropped: Vec<bool>,
    snapshot: Snapshot,
    /// The node of each file that was evaluated now.
    nodes: Vec<u32>,
    /// The number of each set that was evaluated now: old sets keep theirs, new ones come after
    /// them.
    sets: Vec<u32>,
    /// Nodes of the new sets.
    new_sets: Lists,
    /// Makers of nodes: old steps by their old numbers, new ones after them.
    makers: Vec<u32>,
    /// Old steps that another one represents now.
    replaced: Vec<bool>,
    /// New or changed steps.
    new: Vec<StepId>,
    /// Old steps that were evaluated again and are the same, with their targets now.
    same: FxHashMap<usize, u32>,
}

impl<'a> Splice<'a> {
    fn new(old: &'a Snapshot, reached: &[bool], again: &'a Evaluation) -> Option<Splice<'a>> {
        let mut dropped = vec![false; old.targets.len()];
        for (target, unit) in old.asked.list().iter().zip(old.asked_units.list().iter()) {
            if *reached.get(unit as usize)? {
                *dropped.get_mut(target as usize)? = true;
            }
        }
        let mut snapshot = Snapshot {
            heap: old.heap.clone(),
            paths: old.paths.clone(),
            ..Snapshot::default()
        };
        // Few paths are looked for among many.
        let files = &again.graph.files;
        let wanted: FxHashMap<&[u8], usize> = files
            .iter()
            .enumerate()
            .map(|(n, f)| (f.path.as_str().as_bytes(), n))
            .collect();
        let mut nodes = vec![NO_NODE; files.len()];
        let paths = old.heap.reader(&old.paths);
        for node in 0..old.paths.len() {
            if let Some(file) = wanted.get(paths.unchecked(node)) {
                nodes[*file] = node as u32;
            }
        }
        snapshot.folders.clone_from(&old.folders);
        for (file, node) in files.iter().zip(&mut nodes) {
            if *node == NO_NODE {
                *node = snapshot.paths.len() as u32;
                snapshot.push_path(file.path.as_str());
                if file.folder {
                    snapshot.folders.push(*node);
                }
            } else if file.folder != old.folders.list().has_sorted(*node) {
                return None; // What was a file is a folder now, for some steps at least.
            }
        }
        let (sets, new_sets) = numbered_sets(old, again, &nodes);
        let mut makers: Vec<u32> = old.makers.list().iter().collect();
        makers.resize(snapshot.paths.len(), NO_NODE);
        let replaced = vec![false; old.steps.len()];
        Some(Splice {
            old,
            again,
            dropped,
            snapshot,
            nodes,
            sets,
            new_sets,
            makers,
            replaced,
            new: Vec::new(),
            same: FxHashMap::default(),
        })
    }

    /// Compares the steps that were evaluated now with the old ones.
    fn take_steps(&mut self) -> Option<()> {
        let graph = &self.again.graph;
        let mut body = Encoder::new();
        for id in Closure::of(graph, self.again.requested.iter().copied()).steps {
            let step = graph.step(id);
            body.bytes.clear();
            write_step(graph, step, Purpose::Whole, &mut body);
            let first = self.nodes[step.outputs.first()?.file.index()];
            let known = self.old.maker(first);
            if let Some(known) = known
                && self.old.step(known).ok()? == body.bytes
                && self
                    .old
                    .candidates
                    .get(known)
                    .iter()
                    .eq(self.candidates(step))
            {
                self.same.insert(known, step.target.0);
                continue;
            }
            if let Some(known) = known {
                self.replaced[known] = true;
                for node in self.old.outputs.get(known).iter() {
                    self.makers[node as usize] = NO_NODE;
                }
            }
            self.new.push(id);
        }
        for (number, id) in self.new.iter().enumerate() {
            for output in &graph.step(*id).outputs {
                let maker = &mut self.makers[self.nodes[output.file.index()] as usize];
                if *maker != NO_NODE {
                    return None; // Another step makes the same file.
                }
                *maker = (self.old.steps.len() + number) as u32;
            }
        }
        Some(())
    }

    /// The numbers of the sets that a step which was evaluated now may read, sorted.
    fn candidates(&self, step: &Step) -> Vec<u32> {
        let mut sets: Vec<u32> = step
            .candidates
            .iter()
            .map(|set| self.sets[set.index()])
            .collect();
        sets.sort_unstable();
        sets
    }

    /// The nodes of a set, old or new.
    fn nodes_of(&self, set: u32) -> NumberList<'_> {
        match (set as usize).checked_sub(self.old.sets.len()) {
            None => self.old.sets.get(set as usize),
            Some(new) => self.new_sets.get(new),
        }
    }

    /// By step, old ones first: whether anything that is asked for needs it.
    fn needed(&mut self) -> Option<Vec<bool>> {
        let count = self.old.steps.len();
        let graph = &self.again.graph;
        let mut seen = vec![false; self.makers.len()];
        let requested = self.requested(&mut seen)?;
        let mut needed = vec![false; count + self.new.len()];
        // Sets that steps need which were not evaluated again, and that any step needs.
        let mut by_old = vec![false; self.old.sets.len()];
        let mut met = vec![false; self.old.sets.len() + self.new_sets.len()];
        let mut open = requested.clone();
        while let Some(node) = open.pop() {
            let maker = *self.makers.get(node as usize)?;
            if maker == NO_NODE || std::mem::replace(needed.get_mut(maker as usize)?, true) {
                continue;
            }
            if let Some(new) = (maker as usize).checked_sub(count) {
                let step = graph.step(self.new[new]);
                open.extend(step.inputs.iter().map(|f| self.nodes[f.index()]));
                for set in self.candidates(step) {
                    if !std::mem::replace(&mut met[set as usize], true) {
                        open.extend(self.nodes_of(set).iter());
                    }
                }
                continue;
            }
            // What was not evaluated again does not need what changed.
            let is_other = |need: u32| {
                self.makers
                    .get(need as usize)
                    .is_some_and(|m| *m != NO_NODE && *m as usize >= count)
            };
            let needs = self.old.needs.get(maker as usize);
            if needs.iter().any(is_other) {
                return None;
            }
            open.extend(needs.iter());
            for set in self.old.candidates.get(maker as usize).iter() {
                if std::mem::replace(by_old.get_mut(set as usize)?, true) {
                    continue;
                }
                let nodes = self.old.sets.get(set as usize);
                if nodes.iter().any(is_other) {
                    return None;
                }
                met[set as usize] = true;
                open.extend(nodes.iter());
            }
        }
        self.snapshot.requested = requested.into();
        Some(needed)
    }

    /// The nodes that are asked for, each once; nothing where one is of no graph.
    fn requested(&self, seen: &mut [bool]) -> Option<Vec<u32>> {
        let asked = self.old.asked.list();
        let mut requested: Vec<u32> = asked
            .iter()
            .filter(|target| !self.dropped[*target as usize])
            .flat_map(|target| self.old.results.get(target as usize).iter())
            .collect();
        requested.extend(self.again.requested.iter().map(|f| self.nodes[f.index()]));
        if requested.iter().any(|node| *node as usize >= seen.len()) {
            return None;
        }
        requested.retain(|node| !std::mem::replace(&mut seen[*node as usize], true));
        Some(requested)
    }

    fn finish(mut self, needed: &[bool], trails: Trails) -> Option<Spliced> {
        let count = self.old.steps.len();
        let sets = vec![NO_NODE; self.old.sets.len() + self.new_sets.len()];
        let mut now = NumbersNow {
            old_targets: vec![NO_NODE; self.old.targets.len()],
            new_targets: vec![NO_NODE; self.again.graph.targets.len()],
            sets: UsedSets {
                numbers: sets,
                used: Vec::new(),
            },
            makers: vec![NO_NODE; self.makers.len()],
        };
        // Targets: those that stay, then those of what was evaluated now.
        self.keep_targets(&mut now);
        for id in &self.again.targets {
            let number = self.new_target(*id, &mut now);
            self.snapshot.asked.push(number);
        }
        // Steps: those that stay, in their order, then the new ones.
        for step in (0..count).filter(|s| needed[*s]) {
            if !self.replaced[step] {
                self.keep_step(step, &mut now)?;
            }
        }
        let mut changed = Vec::new();
        let new = std::mem::take(&mut self.new);
        for (_, id) in new.iter().enumerate().filter(|(n, _)| needed[count + n]) {
            changed.push(self.add_step(*id, &mut now)?);
        }
        self.snapshot.makers = now.makers.into();
        let mut sets = Lists::default();
        now.sets
            .used
            .into_iter()
            .for_each(|set| sets.push(self.nodes_of(set).iter()));
        self.snapshot.sets = sets;
        let units = units_of(&trails, self.again)?;
        self.snapshot.asked_units.extend(units);
        let mut published_before = Vec::new();
        for number in (0..self.dropped.len()).filter(|n| self.dropped[*n]) {
            published_before.extend(published(self.old.target_body(number).ok()?)?);
        }
        Some(Spliced {
            snapshot: self.snapshot,
            trails,
            changed,
            published_before,
        })
    }

    /// Takes over the targets that are not evaluated again.
    fn keep_targets(&mut self, now: &mut NumbersNow) {
        for (number, place) in now.old_targets.iter_mut().enumerate() {
            if !self.dropped[number] {
                *place = self.snapshot.targets.len() as u32;
                self.snapshot.targets.take_over(&self.old.targets, number);
                self.snapshot
                    .results
                    .push(self.old.results.get(number).iter());
            }
        }
        for (old, unit) in self
            .old
            .asked
            .list()
            .iter()
            .zip(self.old.asked_units.list().iter())
        {
            if !self.dropped[old as usize] {
                self.snapshot.asked.push(now.old_targets[old as usize]);
                self.snapshot.asked_units.push(unit);
            }
        }
    }

    /// The number of a target that was evaluated now, entered on first use.
    fn new_target(&mut self, id: TargetId, now: &mut NumbersNow) -> u32 {
        let place = &mut now.new_targets[id.index()];
        if *place == NO_NODE {
            *place = self.snapshot.targets.len() as u32;
            let graph = &self.again.graph;
            let target = graph.target(id);
            let mut body = Encoder::new();
            write_target(graph, target, Purpose::Whole, &mut body);
            self.snapshot.push_target(&body.bytes);
            self.snapshot
                .results
                .push(target.results.iter().map(|r| self.nodes[r.file.index()]));
        }
        *place
    }

    /// Takes over a step as it was.
    fn keep_step(&mut self, step: usize, now: &mut NumbersNow) -> Option<()> {
        let owner = self.old.owners.list().get(step)?;
        let owner = match now.old_targets.get(owner as usize) {
            Some(kept) if *kept != NO_NODE => *kept,
            _ => self.new_target(TargetId(*self.same.get(&step)?), now),
        };
        let number = self.snapshot.steps.len() as u32;
        self.old
            .outputs
            .get(step)
            .iter()
            .for_each(|node| now.makers[node as usize] = number);
        self.snapshot.steps.take_over(&self.old.steps, step);
        self.snapshot.owners.push(owner);
        self.snapshot.needs.push(self.old.needs.get(step).iter());
        self.snapshot
            .candidates
            .push(now.sets.renumbered(self.old.candidates.get(step).iter())?);
        self.snapshot
            .outputs
            .push(self.old.outputs.get(step).iter());
        Some(())
    }

    /// Adds a new or changed step; gives its number.
    fn add_step(&mut self, id: StepId, now: &mut NumbersNow) -> Option<usize> {
        let graph = &self.again.graph;
        let step = graph.step(id);
        let number = self.snapshot.steps.len();
        let mut body = Encoder::new();
        write_step(graph, step, Purpose::Whole, &mut body);
        let owner = self.new_target(step.target, now);
        let node = |f: &nubrik_graph::FileId| self.nodes[f.index()];
        step.outputs
            .iter()
            .for_each(|o| now.makers[node(&o.file) as usize] = number as u32);
        self.snapshot.push_step(&body.bytes);
        self.snapshot.owners.push(owner);
        self.snapshot.needs.push(step.inputs.iter().map(node));
        self.snapshot
            .candidates
            .push(now.sets.renumbered(self.candidates(step).into_iter())?);
        self.snapshot
            .outputs
            .push(step.outputs.iter().map(|o| node(&o.file)));
        Some(number)
    }
}

/// What numbers mean in the graph now.
struct NumbersNow {
    /// Of targets that stay, by their old numbers; [`NO_NODE`] for the others.
    old_targets: Vec<u32>,
    /// Of targets that were evaluated now, where they are entered.
    new_targets: Vec<u32>,
    sets: UsedSets,
    /// The maker of each node.
    makers: Vec<u32>,
}

/// Sets that steps still need, renumbered: the others are left behind.
struct UsedSets {
    /// What the number of each is now, or [`NO_NODE`].
    numbers: Vec<u32>,
    /// Those with a number now, by it.
    used: Vec<u32>,
}

impl UsedSets {
    /// The numbers that some sets have now, sorted.
    fn renumbered(&mut self, sets: impl ExactSizeIterator<Item = u32>) -> Option<Vec<u32>> {
        let mut now = Vec::with_capacity(sets.len());
        for set in sets {
            let number = self.numbers.get_mut(set as usize)?;
            if *number == NO_NODE {
                *number = self.used.len() as u32;
                self.used.push(set);
            }
            now.push(*number);
        }
        now.sort_unstable();
        Some(now)
    }
}

/// The number of each set that was evaluated now, and the nodes of those that there were not.
fn numbered_sets(old: &Snapshot, again: &Evaluation, nodes: &[u32]) -> (Vec<u32>, Lists) {
    let now = again.graph.sets.iter().map(|files| {
        let mut set: Vec<u32> = files.iter().map(|f| nodes[f.index()]).collect();
        set.sort_unstable();
        KeptNumbers::from(set)
    });
    let now: Vec<KeptNumbers> = now.collect();
    let wanted: FxHashMap<NumberList<'_>, usize> = now
        .iter()
        .enumerate()
        .map(|(n, set)| (set.list(), n))
        .collect();
    let mut numbers = vec![NO_NODE; now.len()];
    for set in 0..old.sets.len() {
        if let Some(place) = wanted.get(&old.sets.get(set)) {
            numbers[*place] = set as u32;
        }
    }
    let mut new = Lists::default();
    for (number, set) in numbers
        .iter_mut()
        .zip(&now)
        .filter(|(number, _)| **number == NO_NODE)
    {
        *number = (old.sets.len() + new.len()) as u32;
        new.push(set.list().iter());
    }
    (numbers, new)
}

/// Where a target's results are published.
fn published(body: &[u8]) -> Option<Vec<String>> {
    let mut assembly = nubrik_graph::Assembly::default();
    let id = assembly.target(body).ok()?;
    let results = &assembly.tables().target(id).results;
    Some(
        results
            .iter()
            .map(|r| r.publish.as_str().to_owned())
            .collect(),
    )
}
