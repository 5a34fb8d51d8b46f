//! Running again what was taken from a shared cache, or is about to be given to it.

use std::collections::BTreeSet;

use nubrik_bytes::{Digest, Encoder};
use nubrik_engine::{Listener, Options, StepMemory, VerifiedStep, VerifyEnd};
use nubrik_graph::{Closure, FileId, Graph, StepId};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_store::{Basis, Provenance, RecordEntry, Store};

use super::{BuildProblem, Session, Workshop};

/// The file with the steps that made other bytes when they ran again: a digest a line.
const UNREPRODUCIBLE: &str = "unreproducible";

/// All of a million.
const EVERY: u32 = 1_000_000;

/// What represents a step and its command among those that are unreproducible.
fn mark(memory: &StepMemory, folder: &str) -> String {
    let mut out = Encoder::new();
    out.text(folder);
    out.digest(&memory.command);
    Digest::of(&out.bytes).hex()
}

/// Steps that made other bytes when they ran again, by what represents them.
pub(super) struct Unreproducible(BTreeSet<String>);

impl Unreproducible {
    /// Whether a step with its command is one of them.
    pub fn has(&self, memory: &StepMemory, folder: &str) -> bool {
        self.0.contains(&mark(memory, folder))
    }
}

impl Session {
    /// Has so many of a million results run again that builds take from the shared cache, or give
    /// to it.
    pub fn verify_shared(&mut self, of_a_million: u32) {
        self.verify_rate = of_a_million.min(EVERY);
    }

    /// How many of a million results run again: as it was asked for, else as the settings say for
    /// who writes.
    pub fn verify_rate(&self) -> u32 {
        let by_settings = || {
            let settings = self
                .workspace
                .settings
                .shared
                .as_ref()
                .filter(|_| self.writer.is_some());
            settings.map_or(0, |settings| settings.verify)
        };
        if self.verify_rate > 0 {
            self.verify_rate
        } else {
            by_settings()
        }
    }

    /// The result that is in place, as it is kept.
    pub(super) fn kept_entry(&self, memory: &StepMemory) -> Option<RecordEntry> {
        let record = self.store.as_ref().ok()?.record(&memory.first_key)?;
        record.entries.into_iter().find(|entry| {
            let found = entry.found.iter().map(|f| (&*f.path, &f.digest));
            entry.outputs == memory.outputs
                && found.eq(memory
                    .found
                    .iter()
                    .map(|(path, digest)| (path.as_str(), digest)))
        })
    }

    /// The steps behind some files of which the result was taken, or is to be given, and that are
    /// drawn to run again.
    fn drawn(&self, graph: &Graph, files: &[FileId]) -> Vec<StepId> {
        let (rate, builds) = (self.verify_rate(), self.state().builds);
        let is_drawn = |memory: &StepMemory| {
            let mut out = Encoder::new();
            out.digest(&memory.first_key);
            // Others in each build.
            out.u64(builds);
            let Digest(bytes) = Digest::of(&out.bytes);
            u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]) % EVERY < rate
        };
        let steps = Closure::of(graph, files.iter().copied()).steps.into_iter();
        let concerns = |id: &StepId| {
            let step = graph.step(*id);
            let memory = self
                .state()
                .steps
                .get(step.folder.as_str())
                .filter(|memory| !memory.outputs.is_empty());
            let Some(memory) =
                memory.filter(|memory| !step.commands.is_empty() && is_drawn(memory))
            else {
                return false;
            };
            self.kept_entry(&memory)
                .is_some_and(|entry| match entry.origin {
                    Provenance::Shared { .. } | Provenance::Loaded => true,
                    Provenance::Here => {
                        self.writer.is_some() && matches!(entry.basis, Basis::Noted(_))
                    }
                })
        };
        steps.filter(concerns).collect()
    }

    /// Steps that made other bytes when they ran again.
    ///
    /// # Errors
    /// When it cannot be read which ones: then any may be.
    pub(super) fn unreproducible(&self) -> std::io::Result<Unreproducible> {
        let path = self.workspace.own_folder().join(UNREPRODUCIBLE);
        let text = match nubrik_disk::read_text(&path) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => String::new(),
            text => text?,
        };
        Ok(Unreproducible(text.lines().map(str::to_owned).collect()))
    }
}

impl Workshop<'_> {
    /// Runs a share of what was taken from the shared cache once more, or is to be given to it, and
    /// holds it against what it was. What comes out otherwise is marked, and given to nobody.
    ///
    /// # Errors
    /// When the tool's own files cannot be written.
    pub fn verify(
        &mut self,
        patterns: &[AddressPattern],
        evaluation: &Evaluation,
        files: &[FileId],
        listener: &dyn Listener,
        options: Options,
    ) -> Result<Vec<VerifiedStep>, BuildProblem> {
        let graph = &evaluation.graph;
        let steps = self.drawn(graph, files);
        if steps.is_empty() {
            return Ok(Vec::new());
        }
        let declared = steps
            .iter()
            .flat_map(|step| graph.declared(graph.step(*step)));
        let outputs = steps.iter().flat_map(|step| &graph.step(*step).outputs);
        let mut needed: Vec<FileId> = declared.chain(outputs.map(|output| output.file)).collect();
        needed.sort_unstable();
        needed.dedup();
        self.build_files(patterns, evaluation, &needed, listener, options)?;
        let verified = nubrik_engine::verify(
            graph,
            &steps,
            self.state(),
            &self.machine,
            self.store(),
            (listener, options.jobs),
        );
        self.close_services(listener);
        let Unreproducible(mut unreproducible) = self
            .unreproducible()
            .map_err(|e| self.own_problem((UNREPRODUCIBLE, e)))?;
        let before = unreproducible.len();
        let differs = |step: &&VerifiedStep| matches!(step.end, VerifyEnd::Differs(_));
        for step in verified.iter().filter(differs) {
            let folder = graph.step(step.step).folder.as_str();
            let memory = self.state().steps.get(folder);
            unreproducible.extend(memory.map(|memory| mark(&memory, folder)));
        }
        if unreproducible.len() > before {
            let text: String = unreproducible
                .iter()
                .map(|mark| format!("{mark}\n"))
                .collect();
            self.own()?
                .write_whole(UNREPRODUCIBLE, text.as_bytes())
                .map_err(|e| self.own_problem((UNREPRODUCIBLE, e)))?;
        }
        Ok(verified)
    }
}
