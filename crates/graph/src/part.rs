//! One step with what it needs, as a graph of its own: for a machine that has nothing of the rest.

use nubrik_bytes::{Encoder, Truncated};

use crate::assembly::Assembly;
use crate::layout::{Purpose, write_step, write_target};
use crate::{Graph, Needs, SetId, StepId};

/// A step in a graph of its own.
pub struct LoneStep {
    /// The step, those that make what it reads, and nothing of what these read.
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
        let mut add = |id: StepId, candidates: Vec<SetId>, assembly: &mut Assembly| {
            out.bytes.clear();
            write_target(graph, graph.owner(id), Purpose::Whole, &mut out);
            let target = assembly.target(&out.bytes)?;
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
