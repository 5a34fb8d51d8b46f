//! One step with what it needs, as a graph of its own: for a machine that has nothing of the rest.

use std::collections::HashMap;

use nubrik_bytes::{Encoder, Truncated};
use nubrik_source::WsPath;

use crate::assembly::Assembly;
use crate::layout::{Purpose, write_step, write_target};
use crate::{FileId, FileNode, Flaw, Graph, Needs, StepId, TargetId};

/// A step in a graph of its own.
pub struct LoneStep {
    /// The step, those that make what it reads, and nothing of what these read. Its targets have no
    /// results: nothing of it is published.
    /// The step has no sets of files that it may read: many steps share them, so that they go their
    /// own way ([`LoneStep::with_sets`]).
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
        let mut add = |id: StepId, assembly: &mut Assembly| {
            let owner = graph.step(id).target;
            let target = match targets.get(&owner) {
                Some(target) => *target,
                None => {
                    out.bytes.clear();
                    // Nothing is published of it, and each of many steps would have the results of
                    // all.
                    let owned = graph.target(owner).without_results();
                    write_target(graph, &owned, Purpose::Whole, &mut out);
                    *targets.entry(owner).or_insert(assembly.target(&out.bytes)?)
                }
            };
            out.bytes.clear();
            write_step(graph, graph.step(id), Purpose::Whole, &mut out);
            assembly.step(&out.bytes, target, Vec::new())
        };
        let makers = LoneStep::makers_of(graph, step, needs)
            .into_iter()
            .map(|maker| add(maker, &mut assembly))
            .collect::<Result<_, _>>()?;
        let step = add(step, &mut assembly)?;
        let graph = assembly.finish().map_err(|_| Truncated)?;
        Ok(LoneStep {
            graph,
            step,
            makers,
        })
    }

    /// The steps that make what a step reads, and where it runs in an image those that make what
    /// the image is in: a machine that lacks the image puts it together.
    pub fn makers_of(graph: &Graph, step: StepId, needs: &Needs<'_>) -> Vec<StepId> {
        let mut makers = needs.of_step(step);
        for more in graph
            .image_of(step)
            .map(|image| needs.of_step(image))
            .unwrap_or_default()
        {
            if !makers.contains(&more) {
                makers.push(more);
            }
        }
        makers
    }

    /// A graph in which a step may read sets of files, too, each file by its path and whether it is
    /// a folder.
    ///
    /// # Errors
    /// When the graph is none with them, which does not happen with one that was taken out.
    pub fn with_sets(
        graph: &Graph,
        step: StepId,
        sets: &[Vec<(WsPath, bool)>],
    ) -> Result<Graph, Flaw> {
        let mut tables = graph.clone().into_tables();
        let mut known: HashMap<WsPath, FileId> = (0..)
            .map(FileId)
            .zip(&tables.files)
            .map(|(id, file)| (file.path.clone(), id))
            .collect();
        let mut candidates = Vec::new();
        for files in sets {
            let files = files.iter().map(|(path, folder)| {
                *known.entry(path.clone()).or_insert_with(|| {
                    tables.files.push(FileNode {
                        path: path.clone(),
                        maker: None,
                        folder: *folder,
                    });
                    FileId(tables.files.len() as u32 - 1)
                })
            });
            candidates.push(tables.sets.intern(files.collect()));
        }
        tables.steps[step.index()].candidates = candidates.into_iter().collect();
        tables.finish()
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use crate::{OutputNode, ResultFile, Step, Tables, Target};

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
                let outputs = vec![OutputNode::new(FileId(number), "o")];
                // Each but the first reads what the one before it makes.
                let inputs = number.checked_sub(1).map(FileId).into_iter().collect();
                let folder = WsPath::from_normal(&format!("made/{number:06}"));
                tables.steps.push(Box::new(Step {
                    inputs,
                    outputs,
                    ..Step::empty(folder)
                }));
                let address = format!("many/{number:06}").into();
                tables.targets[0].results.push(ResultFile {
                    address,
                    file: FileId(number),
                    publish: path,
                });
            }
            let headers = (0..count).map(|number| {
                let path = WsPath::from_normal(&format!("h{number}"));
                tables.files.push(FileNode {
                    path,
                    maker: None,
                    folder: false,
                });
                FileId(count + number)
            });
            let headers = headers.collect();
            let set = tables.sets.intern(headers);
            tables.steps[2].candidates = [set].into_iter().collect();
            let graph = tables.finish().unwrap();
            let lone = LoneStep::of(&graph, StepId(2), &Needs::of(&graph)).unwrap();
            assert_eq!(
                (
                    lone.graph.steps.len(),
                    lone.graph.targets.len(),
                    lone.makers.len()
                ),
                (2, 1, 1)
            );
            // What it may read comes back.
            let named = |file: &FileId| (graph.file(*file).path.clone(), false);
            let headers: Vec<(WsPath, bool)> = graph.sets.files(set).iter().map(named).collect();
            let whole = LoneStep::with_sets(&lone.graph, lone.step, &[headers]).unwrap();
            let files = whole.sets.files(whole.step(lone.step).candidates[0]).iter();
            let names: Vec<&str> = files.map(|file| whole.file(*file).path.as_str()).collect();
            assert_eq!((names.len(), names[1]), (count as usize, "h1"));
            let mut out = Encoder::new();
            lone.graph.encode(&mut out);
            out.bytes.len()
        };
        assert_eq!(size(3), size(300));
    }
}
