//! The graph of a finished request on disk, so that a later build can take out of it just what a change
//! reaches. Steps and targets lie there as bytes of their own; how they hang together, as numbers.

use std::sync::Arc;

use nubrik_engine::FileBytes;
use nubrik_graph::{Closure, FileId, Graph, TargetId};
use nubrik_lang::Evaluation;
use nubrik_source::WsPath;
use nubrik_store::{Decoder, Digest, Encoder, Hasher, Truncated};

use crate::numbers::{Bodies, Lists, decode_numbers, encode_numbers};
use crate::seal::NO_NODE;
use crate::step_bytes::{Assembly, encode_step, encode_target};
use crate::trails::Trails;

const MAGIC: &[u8; 8] = b"nbgraph1";

/// A request's graph. Files are nodes with the numbers that they had in the evaluation; steps are
/// numbered in an order in which they can run.
#[derive(Default, Clone)]
pub(crate) struct Snapshot {
    /// Paths of nodes.
    pub paths: Bodies,
    /// The step that makes each node, or [`NO_NODE`].
    pub makers: Vec<u32>,
    /// What each step is made of.
    pub steps: Bodies,
    /// The target of each step.
    pub owners: Vec<u32>,
    /// Nodes that each step reads or may read.
    pub needs: Lists,
    /// Nodes that each step makes.
    pub outputs: Lists,
    /// What each target is.
    pub targets: Bodies,
    /// Nodes that are results of each target.
    pub results: Lists,
    /// Targets that were asked for.
    pub asked: Vec<u32>,
    /// Their units in the trails.
    pub asked_units: Vec<u32>,
    /// Nodes that were asked for.
    pub requested: Vec<u32>,
    /// What declarations' values were taken from.
    pub trails: Trails,
}

impl Snapshot {
    /// The snapshot of what was evaluated.
    pub fn of(evaluation: &Evaluation) -> Snapshot {
        let graph = &evaluation.graph;
        let order = Closure::of(graph, evaluation.requested.iter().copied()).steps;
        let mut snapshot = Snapshot {
            makers: vec![NO_NODE; graph.files.len()],
            requested: evaluation.requested.iter().map(|f| f.0).collect(),
            asked: evaluation.targets.iter().map(|t| t.0).collect(),
            ..Snapshot::default()
        };
        for file in &graph.files {
            snapshot.paths.push(file.path.as_str().as_bytes());
        }
        let mut body = Encoder::new();
        for (number, id) in order.iter().enumerate() {
            let step = graph.step(*id);
            body.bytes.clear();
            encode_step(graph, step, &mut body);
            snapshot.steps.push_checked(&body.bytes);
            snapshot.owners.push(step.target.0);
            snapshot.needs.push(step.inputs.iter().chain(&step.candidates).map(|f| f.0));
            snapshot.outputs.push(step.outputs.iter().map(|o| o.file.0));
            for output in &step.outputs {
                snapshot.makers[output.file.0 as usize] = number as u32;
            }
        }
        for target in &graph.targets {
            body.bytes.clear();
            encode_target(graph, target, &mut body);
            snapshot.targets.push_checked(&body.bytes);
            snapshot.results.push(target.results.iter().map(|r| r.file.0));
        }
        snapshot.trails = Trails::of(&evaluation.trail);
        // Without their units nothing can be told of targets: then any change of definitions counts for all.
        snapshot.asked_units = snapshot.units_of(evaluation).unwrap_or_default();
        snapshot
    }

    /// The units of the targets that were asked for; `None` when one of them is not known.
    pub fn units_of(&self, evaluation: &Evaluation) -> Option<Vec<u32>> {
        let targets = evaluation.targets.iter().map(|t| evaluation.graph.target(*t));
        let keys: Vec<(String, String)> = targets.map(|t| unit_key(&t.package, &t.address)).collect();
        self.trails.find(keys.iter().map(|(file, name)| (&**file, &**name))).into_iter().collect()
    }

    /// The snapshot as bytes: magic, digest and length of the tables, tables, paths; bodies of steps and
    /// of targets.
    pub fn encode(&self) -> Vec<u8> {
        let mut tables = Encoder::new();
        for numbers in [&self.makers, &self.owners, &self.asked, &self.asked_units, &self.requested] {
            encode_numbers(numbers, &mut tables);
        }
        for lists in [&self.needs, &self.outputs, &self.results] {
            lists.encode(&mut tables);
        }
        for bodies in [&self.paths, &self.steps, &self.targets] {
            encode_numbers(bodies.ends(), &mut tables);
        }
        self.trails.encode(&mut tables);
        tables.bytes.extend_from_slice(self.paths.bytes());
        let mut out = Encoder::new();
        let bodies = self.steps.bytes().len() + self.targets.bytes().len();
        out.bytes.reserve_exact(tables.bytes.len() + bodies + 64);
        out.bytes.extend_from_slice(MAGIC);
        let mut hasher = Hasher::new();
        hasher.update(&(tables.bytes.len() as u32).to_le_bytes());
        hasher.update(&tables.bytes);
        out.digest(&hasher.finish());
        out.bytes(&tables.bytes);
        out.bytes.extend_from_slice(self.steps.bytes());
        out.bytes.extend_from_slice(self.targets.bytes());
        out.bytes
    }

    /// The snapshot that a file's bytes hold.
    pub fn decode(file: FileBytes) -> Result<Snapshot, Truncated> {
        let bytes = (*file).as_ref();
        let (head, rest) = bytes.split_at_checked(40).ok_or(Truncated)?;
        let tables = Decoder::new(rest).bytes()?;
        if head[..8] != *MAGIC || Digest::of(&rest[..4 + tables.len()]).0 != head[8..] {
            return Err(Truncated);
        }
        let from = &mut Decoder::new(tables);
        let (makers, owners) = (decode_numbers(from)?, decode_numbers(from)?);
        let (asked, asked_units, requested) =
            (decode_numbers(from)?, decode_numbers(from)?, decode_numbers(from)?);
        let (needs, outputs, results) = (Lists::decode(from)?, Lists::decode(from)?, Lists::decode(from)?);
        let ends = [decode_numbers(from)?, decode_numbers(from)?, decode_numbers(from)?];
        let trails = Trails::decode(from)?;
        let after = 44 + tables.len();
        let length = |ends: &[u32]| ends.last().map_or(0, |e| *e as usize);
        let mut at = after.checked_sub(length(&ends[0])).ok_or(Truncated)?;
        let [paths, steps, targets] = ends.map(|ends| {
            let start = at;
            at += length(&ends);
            Bodies::in_file(ends, file.clone(), start)
        });
        Ok(Snapshot {
            paths,
            makers,
            steps,
            owners,
            needs,
            outputs,
            targets,
            results,
            asked,
            asked_units,
            requested,
            trails,
        })
    }

    /// The digest of a snapshot's bytes, as it lies in them; zero where there are too few.
    pub fn digest_in(bytes: &[u8]) -> Digest {
        bytes.get(8..40).and_then(|d| d.try_into().ok()).map_or(Digest([0; 32]), Digest)
    }

    /// The node with a path.
    pub fn node(&self, path: &str) -> Option<u32> {
        (0..self.paths.len()).find(|n| self.paths.get(*n) == path.as_bytes()).map(|n| n as u32)
    }

    /// The address of a target that was asked for, by its place among these.
    pub fn address(&self, asked: usize) -> Option<&str> {
        let number = *self.asked.get(asked)? as usize;
        Decoder::new(self.targets.checked(number).ok()?).text().ok()
    }

    /// Its package and its name.
    pub fn place_of(&self, asked: usize) -> Option<(WsPath, Arc<str>)> {
        let number = *self.asked.get(asked)? as usize;
        let mut from = Decoder::new(self.targets.checked(number).ok()?);
        let (address, package) = (from.text().ok()?, from.text().ok()?);
        Some((WsPath::from_normal(package), address.rsplit('/').next().unwrap_or(address).into()))
    }

    /// The step that makes a node.
    pub fn maker(&self, node: u32) -> Option<usize> {
        self.makers.get(node as usize).filter(|m| **m != NO_NODE).map(|m| *m as usize)
    }

    /// By step: whether a change of some nodes reaches it. A node that a step makes leads to that step
    /// itself, whose output is not what it was. `other` are steps that are reached anyway.
    pub fn reached(&self, changed: &[u32], other: &[usize]) -> Vec<bool> {
        let mut sources = vec![false; self.makers.len()];
        let mut reached = vec![false; self.steps.len()];
        other.iter().for_each(|step| reached[*step] = true);
        for node in changed {
            match self.maker(*node) {
                Some(step) => reached[step] = true,
                None => {
                    if let Some(source) = sources.get_mut(*node as usize) {
                        *source = true;
                    }
                }
            }
        }
        // Steps stand behind those they need: one pass is enough.
        for step in 0..reached.len() {
            let changed = |node: &u32| match self.maker(*node) {
                Some(maker) => reached[maker],
                None => sources.get(*node as usize).is_some_and(|s| *s),
            };
            if !reached[step] && self.needs.get(step).iter().any(changed) {
                reached[step] = true;
            }
        }
        reached
    }

    /// The part of the graph that some steps take: themselves, what they need from other steps (which are
    /// settled), and the results among what they make.
    pub fn part(&self, wanted: &[bool]) -> Result<Part, Truncated> {
        let mut assembly = Assembly::default();
        let mut part = Part::default();
        let mut targets = vec![None; self.targets.len()];
        let mut taken = vec![false; self.steps.len()];
        for step in (0..wanted.len()).filter(|s| wanted[*s]) {
            for maker in self.needs.get(step).iter().filter_map(|node| self.maker(*node)) {
                if !wanted[maker] && !std::mem::replace(&mut taken[maker], true) {
                    let target = self.target(maker, &mut targets, &mut assembly)?;
                    part.settled.push(assembly.step(self.steps.checked(maker)?, target)?);
                }
            }
            let target = self.target(step, &mut targets, &mut assembly)?;
            assembly.step(self.steps.checked(step)?, target)?;
            part.steps += 1;
        }
        for (number, target) in targets.iter_mut().enumerate() {
            let made = |node: &u32| self.maker(*node).is_some_and(|m| wanted.get(m) == Some(&true));
            if target.is_none() && self.results.get(number).iter().any(made) {
                *target = Some(assembly.target(self.targets.checked(number)?)?);
            }
        }
        for node in &self.requested {
            if self.maker(*node).is_some_and(|m| wanted[m]) {
                part.requested.push(assembly.file(self.paths.text(*node as usize), false));
            }
        }
        part.graph = assembly.graph;
        Ok(part)
    }

    fn target(
        &self,
        step: usize,
        known: &mut [Option<TargetId>],
        assembly: &mut Assembly,
    ) -> Result<TargetId, Truncated> {
        let number = *self.owners.get(step).ok_or(Truncated)? as usize;
        let place = known.get_mut(number).ok_or(Truncated)?;
        match place {
            Some(id) => Ok(*id),
            None => Ok(*place.insert(assembly.target(self.targets.checked(number)?)?)),
        }
    }

    /// The address of the target that makes the file at a path.
    pub fn maker_of(&self, path: &str) -> Option<String> {
        let owner = *self.owners.get(self.maker(self.node(path)?)?)? as usize;
        Decoder::new(self.targets.get(owner)).text().ok().map(str::to_owned)
    }
}

/// The definition file and the name of a package's target.
fn unit_key(package: &WsPath, address: &str) -> (String, String) {
    let name = address.rsplit('/').next().unwrap_or(address);
    (package.child(nubrik_lang::TARGETS_FILE).as_str().to_owned(), name.to_owned())
}

/// The part of a graph that a change reaches.
#[derive(Default)]
pub(crate) struct Part {
    pub graph: Graph,
    /// Results among what its steps make.
    pub requested: Vec<FileId>,
    /// Steps that are only there because others need what they made.
    pub settled: Vec<nubrik_graph::StepId>,
    /// How many steps are not settled.
    pub steps: usize,
}
