//! The graph of a finished request on disk, so that a later build can take out of it just what a
//! change reaches. Steps and targets lie there as bytes of their own; how they hang together, as
//! numbers.

use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Frame, Magic, Truncated};
use nubrik_engine::FileBytes;
use nubrik_graph::{
    Assembly, Closure, FileId, Graph, Purpose, SetId, TargetId, write_step, write_target,
};
use nubrik_lang::Evaluation;
use nubrik_source::WsPath;

use crate::heap::{Heap, Pieces};
use crate::numbers::{FileDecoder, KeptNumbers, Lists, NumberList};
use crate::path_index::PieceIndex;
use crate::seal::NO_NODE;
use crate::trails::Trails;

const MAGIC: Magic = *b"nbgrap10";

/// A request's graph. Files are nodes with the numbers that they had in the evaluation; steps are
/// numbered in an order in which they can run.
#[derive(Default, Clone)]
pub struct Snapshot {
    /// Paths of nodes, and what steps and targets are.
    pub heap: Heap,
    /// Where the paths of nodes lie.
    pub paths: Pieces,
    /// Where what steps are lies.
    pub steps: Pieces,
    /// Where what targets are lies.
    pub targets: Pieces,
    /// The step that makes each node, or [`NO_NODE`].
    pub makers: KeptNumbers,
    /// The target of each step.
    pub owners: KeptNumbers,
    /// Nodes that each step certainly reads.
    pub needs: Lists,
    /// Sets of nodes that each step may read.
    pub candidates: Lists,
    /// Nodes of each set, sorted.
    pub sets: Lists,
    /// Nodes that are folders, sorted.
    pub folders: KeptNumbers,
    /// Nodes that each step makes.
    pub outputs: Lists,
    /// Nodes that are results of each target.
    pub results: Lists,
    /// Targets that were asked for.
    pub asked: KeptNumbers,
    /// Their units in the trails; none where they are not known.
    pub asked_units: KeptNumbers,
    /// Nodes that were asked for.
    pub requested: KeptNumbers,
    /// The digest of the trails that belong to it.
    pub trails: Digest,
    /// Nodes by their paths.
    pub(crate) index: PieceIndex,
}

impl Snapshot {
    /// The snapshot of what was evaluated.
    pub fn of(evaluation: &Evaluation, trails: &Trails) -> Snapshot {
        let graph = &evaluation.graph;
        let order = Closure::of(graph, evaluation.requested.iter().copied()).steps;
        let mut makers = vec![NO_NODE; graph.files.len()];
        let mut snapshot = Snapshot {
            requested: evaluation.requested.iter().map(|f| f.0).collect(),
            asked: evaluation.targets.iter().map(|t| t.0).collect(),
            ..Snapshot::default()
        };
        for file in &graph.files {
            snapshot.push_path(file.path.as_str());
        }
        let numbered = (0..).zip(&graph.files);
        snapshot.folders = numbered
            .filter(|(_, file)| file.folder)
            .map(|(node, _)| node)
            .collect();
        graph
            .sets
            .iter()
            .for_each(|files| snapshot.sets.push(files.iter().map(|f| f.0)));
        let mut body = Encoder::new();
        for (number, id) in order.iter().enumerate() {
            let step = graph.step(*id);
            body.bytes.clear();
            write_step(graph, step, Purpose::Whole, &mut body);
            snapshot.push_step(&body.bytes);
            snapshot.owners.push(step.target.0);
            snapshot.needs.push(step.inputs.iter().map(|f| f.0));
            snapshot
                .candidates
                .push(step.candidates.iter().map(|set| set.0));
            snapshot.outputs.push(step.outputs.iter().map(|o| o.file.0));
            for output in &step.outputs {
                makers[output.file.index()] = number as u32;
            }
        }
        for target in &graph.targets {
            body.bytes.clear();
            write_target(graph, target, Purpose::Whole, &mut body);
            snapshot.push_target(&body.bytes);
            snapshot
                .results
                .push(target.results.iter().map(|r| r.file.0));
        }
        snapshot.makers = makers.into();
        // Without their units nothing can be known of targets: then any change of definitions
        // counts for all.
        snapshot.asked_units = units_of(trails, evaluation).unwrap_or_default().into();
        snapshot
    }

    /// Adds the path of a node.
    pub fn push_path(&mut self, path: &str) {
        self.index = PieceIndex::default();
        self.heap.push(&mut self.paths, path.as_bytes());
    }

    /// Adds the bytes of a step.
    pub fn push_step(&mut self, body: &[u8]) {
        self.heap.push(&mut self.steps, body);
    }

    /// Adds the bytes of a target.
    pub fn push_target(&mut self, body: &[u8]) {
        self.heap.push(&mut self.targets, body);
    }

    /// The path of a node.
    pub fn path(&self, node: usize) -> &str {
        std::str::from_utf8(self.heap.unchecked(&self.paths, node)).unwrap_or_default()
    }

    /// The bytes of a step.
    ///
    /// # Errors
    /// When they are damaged.
    pub fn step(&self, number: usize) -> Result<&[u8], Truncated> {
        self.heap.get(&self.steps, number)
    }

    /// The bytes of a target.
    ///
    /// # Errors
    /// When they are damaged.
    pub fn target_body(&self, number: usize) -> Result<&[u8], Truncated> {
        self.heap.get(&self.targets, number)
    }

    /// Whether more than half of the heap is no one's any more.
    pub fn is_wasteful(&self) -> bool {
        let used = self.paths.size() + self.steps.size() + self.targets.size();
        self.heap.size() > 2 * used + (1 << 20)
    }

    /// The same snapshot with a heap of its own.
    pub fn compacted(mut self) -> Snapshot {
        let old = std::mem::take(&mut self.heap);
        for pieces in [&mut self.paths, &mut self.steps, &mut self.targets] {
            let before = std::mem::take(pieces);
            for number in 0..before.len() {
                self.heap.push(pieces, old.unchecked(&before, number));
            }
        }
        self
    }

    /// The snapshot's tables as bytes.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Frame::begin(MAGIC);
        out.bytes.reserve_exact(
            4 * (self.makers.len() * 4 + self.steps.len() * 8 + self.targets.len() * 6),
        );
        self.heap.encode(&mut out);
        out.digest(&self.trails);
        for pieces in [&self.paths, &self.steps, &self.targets] {
            pieces.encode(&mut out);
        }
        let numbers = [
            &self.makers,
            &self.owners,
            &self.asked,
            &self.asked_units,
            &self.requested,
            &self.folders,
        ];
        for numbers in numbers {
            numbers.encode(&mut out);
        }
        for lists in [
            &self.needs,
            &self.candidates,
            &self.sets,
            &self.outputs,
            &self.results,
        ] {
            lists.encode(&mut out);
        }
        Frame::end(out)
    }

    /// The snapshot that the bytes of its tables and of its heap hold. The tables are read where
    /// they lie.
    ///
    /// # Errors
    /// When they are damaged, or of another version.
    pub fn decode(tables: &FileBytes, heap: FileBytes) -> Result<Snapshot, Truncated> {
        let from = &mut FileDecoder::new(tables, Frame::of(MAGIC, (**tables).as_ref())?.head)?;
        Ok(Snapshot {
            index: PieceIndex::default(),
            heap: Heap::decode(&mut from.decoder, heap)?,
            trails: from.decoder.digest()?,
            paths: Pieces::decode(from)?,
            steps: Pieces::decode(from)?,
            targets: Pieces::decode(from)?,
            makers: KeptNumbers::decode(from)?,
            owners: KeptNumbers::decode(from)?,
            asked: KeptNumbers::decode(from)?,
            asked_units: KeptNumbers::decode(from)?,
            requested: KeptNumbers::decode(from)?,
            folders: KeptNumbers::decode(from)?,
            needs: Lists::decode(from)?,
            candidates: Lists::decode(from)?,
            sets: Lists::decode(from)?,
            outputs: Lists::decode(from)?,
            results: Lists::decode(from)?,
        })
    }

    /// The id of a snapshot, from the beginning of its bytes; `None` where they are none.
    pub fn id_in(bytes: &[u8]) -> Option<Digest> {
        Frame::id_in(MAGIC, bytes)
    }

    /// The node with a path.
    pub fn node(&self, path: &str) -> Option<u32> {
        let paths = self.heap.reader(&self.paths);
        self.index
            .find(path.as_bytes(), self.paths.len(), |number| {
                paths.unchecked(number)
            })
    }

    /// The address of a target that was asked for, by its place among these.
    pub fn address(&self, asked: usize) -> Option<&str> {
        let number = self.asked.list().get(asked)? as usize;
        Decoder::new(self.target_body(number).ok()?).text().ok()
    }

    /// Its package and its name.
    pub fn place_of(&self, asked: usize) -> Option<(WsPath, Arc<str>)> {
        let number = self.asked.list().get(asked)? as usize;
        let mut from = Decoder::new(self.target_body(number).ok()?);
        let (address, package) = (from.text().ok()?, from.text().ok()?);
        Some((
            WsPath::from_normal(package),
            address.rsplit('/').next().unwrap_or(address).into(),
        ))
    }

    /// The step that makes a node.
    pub fn maker(&self, node: u32) -> Option<usize> {
        maker_of(self.makers.list(), node)
    }

    /// By step: whether a change of some nodes reaches it. A node that a step makes leads to that
    /// step itself, whose output is not what it was. `other` are steps that are reached anyway.
    pub fn reached(&self, changed: &[u32], other: &[usize]) -> Vec<bool> {
        let mut reached = vec![false; self.steps.len()];
        other.iter().for_each(|step| reached[*step] = true);
        // By node: whether it changed, or a step makes it that is reached.
        let mut others = vec![false; self.makers.len()];
        for node in changed {
            match self.maker(*node) {
                Some(step) => reached[step] = true,
                None => others
                    .get_mut(*node as usize)
                    .into_iter()
                    .for_each(|other| *other = true),
            }
        }
        // Steps come after those they need: one pass is enough, and a set is decided where it is
        // first met.
        let mut known: Vec<Option<bool>> = vec![None; self.sets.len()];
        let (needs, candidates, sets) = (
            self.needs.reader(),
            self.candidates.reader(),
            self.sets.reader(),
        );
        for (step, is_reached) in reached.iter_mut().enumerate() {
            let is_other = |node: u32| others.get(node as usize).is_some_and(|other| *other);
            let mut is_other_set = |set: u32| {
                known.get_mut(set as usize).is_some_and(|known| {
                    *known.get_or_insert_with(|| sets.get(set as usize).iter().any(is_other))
                })
            };
            *is_reached = *is_reached
                || needs.get(step).iter().any(is_other)
                || candidates.get(step).iter().any(&mut is_other_set);
            if *is_reached {
                for node in self.outputs.get(step).iter() {
                    others
                        .get_mut(node as usize)
                        .into_iter()
                        .for_each(|other| *other = true);
                }
            }
        }
        reached
    }

    /// The part of the graph that some steps take: themselves, what they need from other steps
    /// (which are settled), and the results among what they make.
    pub fn part(&self, wanted: &[bool]) -> Result<ReachedPart, Truncated> {
        let mut assembly = Assembly::default();
        let mut part = ReachedPart::default();
        let mut targets = vec![None; self.targets.len()];
        let mut taken = vec![false; self.steps.len()];
        let mut sets: Vec<Option<SetId>> = vec![None; self.sets.len()];
        let (makers, results) = (self.makers.list(), self.results.reader());
        let is_made =
            |node: u32| maker_of(makers, node).is_some_and(|step| wanted.get(step) == Some(&true));
        for step in (0..wanted.len()).filter(|s| wanted[*s]) {
            let mut candidates = Vec::new();
            let mut settle = |node: u32, assembly: &mut Assembly| -> Result<(), Truncated> {
                let Some(maker) = maker_of(makers, node) else {
                    return Ok(());
                };
                let is_wanted = *wanted.get(maker).ok_or(Truncated)?;
                if !is_wanted && !std::mem::replace(&mut taken[maker], true) {
                    let target = self.target(maker, &mut targets, assembly)?;
                    // What it may read itself is settled, too.
                    let step = assembly.step(self.step(maker)?, target, Vec::new())?;
                    part.settled.push(step);
                }
                Ok(())
            };
            for node in self.needs.get(step).iter() {
                settle(node, &mut assembly)?;
            }
            for set in self.candidates.get(step).iter() {
                let known = *sets.get(set as usize).ok_or(Truncated)?;
                if let Some(id) = known {
                    candidates.push(id);
                    continue;
                }
                let nodes = self.sets.get(set as usize);
                for node in nodes.iter() {
                    settle(node, &mut assembly)?;
                }
                let file = |node: u32| {
                    let folder = self.folders.list().has_sorted(node);
                    assembly.file(self.path(node as usize), folder)
                };
                let files = nodes.iter().map(file).collect();
                let id = assembly.set(files);
                sets[set as usize] = Some(id);
                candidates.push(id);
            }
            let target = self.target(step, &mut targets, &mut assembly)?;
            assembly.step(self.step(step)?, target, candidates)?;
            part.steps += 1;
        }
        for (number, target) in targets.iter_mut().enumerate() {
            if target.is_none() && results.get(number).iter().any(is_made) {
                *target = Some(assembly.target(self.target_body(number)?)?);
            }
        }
        for node in self.requested.list().iter().filter(|node| is_made(*node)) {
            part.requested
                .push(assembly.file(self.path(node as usize), false));
        }
        part.graph = Arc::new(assembly.finish().map_err(|_| Truncated)?);
        Ok(part)
    }

    fn target(
        &self,
        step: usize,
        known: &mut [Option<TargetId>],
        assembly: &mut Assembly,
    ) -> Result<TargetId, Truncated> {
        let number = self.owners.list().get(step).ok_or(Truncated)? as usize;
        let place = known.get_mut(number).ok_or(Truncated)?;
        match place {
            Some(id) => Ok(*id),
            None => Ok(*place.insert(assembly.target(self.target_body(number)?)?)),
        }
    }

    /// The address of the target that makes the file at a path. `likely` is the node that it may
    /// have: it is looked at first, as all paths are looked through otherwise.
    pub fn maker_of(&self, path: &str, likely: Option<u32>) -> Option<String> {
        let likely = likely.filter(|node| *node != NO_NODE && self.path(*node as usize) == path);
        let node = likely.or_else(|| self.node(path))?;
        let owner = self.owners.list().get(self.maker(node)?)? as usize;
        Decoder::new(self.target_body(owner).ok()?)
            .text()
            .ok()
            .map(str::to_owned)
    }
}

/// The step that makes a node, by the makers of all nodes.
fn maker_of(makers: NumberList<'_>, node: u32) -> Option<usize> {
    makers
        .get(node as usize)
        .filter(|maker| *maker != NO_NODE)
        .map(|maker| maker as usize)
}

/// The units of the targets that were asked for; `None` when one of them is not known.
pub fn units_of(trails: &Trails, evaluation: &Evaluation) -> Option<Vec<u32>> {
    let targets = evaluation
        .targets
        .iter()
        .map(|t| evaluation.graph.target(*t));
    let keys: Vec<(String, String)> = targets.map(|t| unit_key(&t.package, &t.address)).collect();
    trails
        .find(keys.iter().map(|(file, name)| (&**file, &**name)))
        .into_iter()
        .collect()
}

/// The definition file and the name of a package's target.
pub(crate) fn unit_key(package: &WsPath, address: &str) -> (String, String) {
    let name = address.rsplit('/').next().unwrap_or(address);
    (
        package.child(nubrik_lang::TARGETS_FILE).as_str().to_owned(),
        name.to_owned(),
    )
}

/// The part of a graph that a change reaches.
#[derive(Default)]
pub struct ReachedPart {
    /// These steps, and those that they need.
    pub graph: Arc<Graph>,
    /// Results among what its steps make.
    pub requested: Vec<FileId>,
    /// Steps that are only there because others need what they made.
    pub settled: Vec<nubrik_graph::StepId>,
    /// How many steps are not settled.
    pub steps: usize,
}
