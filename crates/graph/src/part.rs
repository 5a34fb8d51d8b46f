//! One step with what it needs, as a graph of its own: for a machine that has nothing of the rest.

use std::collections::HashMap;

use nubrik_bytes::{Encoder, Truncated};

use crate::assembly::Assembly;
use crate::layout::{Purpose, write_step, write_target};
use crate::{Graph, Needs, SetId, StepId, TargetId};

/// A step in a graph of its own.
pub struct LoneStep {
    /// The step, those that make what it reads, and nothing of what these read. Its targets have no results: nothing of it is published.
    pub graph: Graph,
    /// The step.
    pub step: StepId,
    /// The others.
    pub makers: Vec<StepId>,
}

impl LoneStep {
    /// A step of a graph.
    ///
    /// # Errors
    /// When it cannot be taken out, which does not happen in a finished graph.
    pub fn of(graph: &Graph, step: StepId, needs: &Needs<'_>) -> Result<LoneStep, Truncated> {
        let mut assembly = Assembly::default();
        let mut out = Encoder::new();
        let mut targets: HashMap<TargetId, TargetId> = HashMap::new();
        let mut add = |id: StepId, candidates: Vec<SetId>, assembly: &mut Assembly| {
            let owner = graph.step(id).target;
            let target = match targets.get(&owner) {
                Some(target) => *target,
                None => {
                    out.bytes.clear();
                    // Nothing is published of it, and each of many steps would have the results of all.
                    let owned = graph.target(owner).without_results();
                    write_target(graph, &owned, Purpose::Whole, &mut out);
                    *targets.entry(owner).or_insert(assembly.target(&out.bytes)?)
                }
            };
            out.bytes.clear();
            write_step(graph, graph.step(id), Purpose::Whole, &mut out);
            assembly.step(&out.bytes, target, candidates)
        };
        let makers = needs
            .of_step(step)
            .into_iter()
            .map(|maker| add(maker, Vec::new(), &mut assembly))
            .collect::<Result<_, _>>()?;
        let mut candidates = Vec::new();
        for set in &graph.step(step).candidates {
            let files = graph.sets.files(*set).iter().map(|file| {
                let node = graph.file(*file);
                assembly.file(node.path.as_str(), node.folder)
            });
            let files = files.collect();
            candidates.push(assembly.graph.sets.intern(files));
        }
        let step = add(step, candidates, &mut assembly)?;
        let graph = assembly.graph.finish().map_err(|_| Truncated)?;
        Ok(LoneStep { graph, step, makers })
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use nubrik_source::WsPath;

    use crate::{FileId, FileNode, OutputNode, ResultFile, Step, Tables, Target};

    use super::*;

    #[test]
    fn one_of_many_steps_takes_nothing_of_the_others_along() {
        let size = |count: u32| {
            let mut tables = Tables::default();
            tables.targets.push(Target::plain("many"));
            for number in 0..count {
                let path = WsPath::from_normal(&format!("made/o{number:06}"));
                tables.files.push(FileNode {
                    path: path.clone(),
                    maker: Some(StepId(number)),
                    folder: false,
                });
                let outputs = vec![OutputNode { file: FileId(number), name: "o".into(), early: false }];
                // Each but the first reads what the one before it makes.
                let inputs = number.checked_sub(1).map(FileId).into_iter().collect();
                let folder = WsPath::from_normal(&format!("made/{number:06}"));
                tables.steps.push(Box::new(Step { inputs, outputs, ..Step::empty(folder) }));
                let address = format!("many/{number:06}").into();
                tables.targets[0].results.push(ResultFile { address, file: FileId(number), publish: path });
            }
            let graph = tables.finish().unwrap();
            let lone = LoneStep::of(&graph, StepId(2), &Needs::of(&graph)).unwrap();
            assert_eq!((lone.graph.steps.len(), lone.graph.targets.len(), lone.makers.len()), (2, 1, 1));
            let mut out = Encoder::new();
            lone.graph.encode(&mut out);
            out.bytes.len()
        };
        assert_eq!(size(3), size(300));
    }
}
