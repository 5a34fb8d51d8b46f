//! Scripts of manifests, which say nothing of their results: a second run shows what a definition
//! of one is.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use nubrik_graph::{Graph, StepId};
use nubrik_survey::{Definition, DefinitionAddress, Kit, Proposal, ScriptSeen, settle_script};

use crate::failures::attended;
use crate::{AdoptProblem, Adoption, Tried, TryResult, options_of};

impl Adoption<'_> {
    /// Runs scripts that work once more, and changes their definitions after what both runs show.
    /// Says whether any is another one.
    pub(crate) fn settle_scripts(
        &self,
        proposal: &mut Proposal,
        tried: &mut Tried,
    ) -> Result<bool, AdoptProblem> {
        let scripts = self.working_scripts(proposal, tried);
        if scripts.is_empty() {
            return Ok(false);
        }
        let mut session = self.open()?;
        let mut workshop = self.lock(&mut session)?;
        let options = options_of(&workshop);
        let Ok(evaluation) = self.evaluate(&mut workshop, &scripts, options)? else {
            return Ok(false);
        };
        let graph = &evaluation.graph;
        let makers: Vec<StepId> = evaluation
            .requested
            .iter()
            .filter_map(|file| graph.file(*file).maker)
            .collect();
        let made_by = |step: &StepId| self.contents_of_outputs(graph, *step);
        let look = || -> BTreeMap<StepId, BTreeMap<PathBuf, Vec<u8>>> {
            makers.iter().map(|step| (*step, made_by(step))).collect()
        };
        let first = look();
        let requested = &evaluation.requested;
        let (_, seen) = attended(self.attendant, graph, None, |listener| {
            workshop.test(&[], &evaluation, requested, &makers, listener, options)
        })?;
        let failed = seen.failed;
        let second = look();
        let mut is_changed = false;
        for step in &makers {
            let owner = graph.owner(*step).address.to_string();
            let Some(address) = scripts
                .iter()
                .find(|address| address.below(&self.folder.top) == owner)
            else {
                continue;
            };
            let is_same_again = (!failed.contains_key(step)).then(|| first[step] == second[step]);
            let seen = ScriptSeen {
                makes_files: !first[step].is_empty(),
                is_same_again,
            };
            if let Some(how) = settle_script(proposal, address, seen) {
                tried.changes.entry(owner).or_default().push(how);
                is_changed = true;
            }
        }
        Ok(is_changed)
    }

    /// The scripts of manifests among what was proposed that work.
    fn working_scripts(&self, proposal: &Proposal, tried: &Tried) -> Vec<DefinitionAddress> {
        let is_script = |definition: &&Definition| {
            let works = tried
                .results
                .get(&definition.address.below(&self.folder.top))
                == Some(&TryResult::Works);
            works
                && definition
                    .body
                    .calls()
                    .iter()
                    .any(|call| call.kit == Kit::Js && call.kind == "script")
        };
        let scripts: Vec<DefinitionAddress> = proposal
            .definitions
            .iter()
            .filter(is_script)
            .map(|one| one.address.clone())
            .collect();
        scripts
    }

    /// The files that a step made, with their contents.
    fn contents_of_outputs(&self, graph: &Graph, step: StepId) -> BTreeMap<PathBuf, Vec<u8>> {
        let outputs = &graph.step(step).outputs;
        outputs
            .iter()
            .map(|output| graph.file(output.file).path.as_str())
            .flat_map(|path| contents(&self.folder.root.join(path)))
            .collect()
    }
}

/// All files at and below a path, with what is in them.
fn contents(path: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    match fs::symlink_metadata(path) {
        Ok(found) if found.is_dir() => {
            let entries = fs::read_dir(path).into_iter().flatten().flatten();
            entries.flat_map(|entry| contents(&entry.path())).collect()
        }
        Ok(found) if found.is_file() => vec![(path.to_owned(), fs::read(path).unwrap_or_default())],
        _ => Vec::new(),
    }
}
