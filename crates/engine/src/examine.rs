//! Finding out what is to be done with a step: nothing, take its result from the store, or run it.

use std::sync::Arc;

use nubrik_graph::{FileId, StepId};
use nubrik_source::WsPath;
use nubrik_store::{Digest, OutputRecord, RecordEntry};

use crate::build::Build;
use crate::event::Failure;
use crate::key::{KeyParts, candidate_names, command_digest, first_key};
use crate::outside::{FoundTool, Signature};
use crate::reason::Reason;
use crate::state::StepMemory;

/// Stands among the tools of steps from which undeclared files are hidden. No tool has a name with a space.
pub(crate) const HIDING: &str = "hiding of undeclared files";

/// What stands for the key of a result that was made while a service stood at another address than always: no
/// step has that key, so that it is made again.
pub(crate) const OTHER_ADDRESS: &[u8] = b"a service stood elsewhere";

impl StepMemory {
    /// Whether the step is to run again, since a service stood somewhere else than always.
    pub fn is_unusual(&self) -> bool {
        self.first_key == Digest::of(OTHER_ADDRESS)
    }
}

/// What a step is made of now.
pub(crate) struct Examined {
    pub id: StepId,
    pub parts: KeyParts,
    pub first_key: Digest,
    pub names: Digest,
    pub tools: Vec<FoundTool>,
}

/// What is to be done with a step.
pub(crate) enum Decision {
    /// Nothing: its outputs are true, and all that is remembered of it.
    Unchanged(Arc<StepMemory>),
    /// Nothing: its outputs are true, and something else is to be remembered of it.
    Current(Box<StepMemory>, Reason),
    /// Take its outputs from the store.
    Reuse(Box<RecordEntry>, Reason),
    /// Run it.
    Run(Reason),
}

impl Build<'_> {
    /// The content of a file, source or made.
    pub(crate) fn content(&self, file: FileId) -> Result<Digest, Failure> {
        let node = self.graph.file(file);
        if node.maker.is_some() {
            let made = self.made[file.0 as usize].get();
            return made.copied().ok_or_else(|| Failure::NoInput {
                path: node.path.shared().clone(),
                problem: "the step that makes it has not run".to_owned(),
            });
        }
        self.source(node.path.shared())
    }

    fn source(&self, path: &Arc<str>) -> Result<Digest, Failure> {
        match self.table.entry(self.outside, path) {
            Ok(Some(entry)) => Ok(entry.digest),
            Ok(None) => Err(Failure::NoInput { path: path.clone(), problem: "it is not there".to_owned() }),
            Err(e) => Err(Failure::NoInput { path: path.clone(), problem: e.to_string() }),
        }
    }

    /// The content of a listed file: one of the workspace or of the system.
    pub(crate) fn listed_content(&self, path: &Arc<str>) -> Option<Digest> {
        if path.starts_with('/') {
            return self.source(path).ok();
        }
        match self.files_by_path.get(path.as_ref()) {
            Some(file) => self.content(*file).ok(),
            None => self.source(path).ok(),
        }
    }

    /// Puts together what a step is made of.
    pub(crate) fn examine(&self, id: StepId) -> Result<Examined, Failure> {
        let step = self.graph.step(id);
        let mut tools = Vec::new();
        for tool in &step.tools {
            tools.push(self.tool(*tool).map_err(Failure::NoTool)?);
        }
        let named = step.tools.iter().zip(&tools);
        let named = named.map(|(id, found)| (self.graph.tools[id.0 as usize].clone(), found.identity));
        let mut named: Vec<(Arc<str>, Digest)> = named.collect();
        if self.outside.hides_undeclared() && !step.commands.is_empty() {
            // What is hidden may decide a result like a tool does.
            named.push((HIDING.into(), Digest::of(HIDING.as_bytes())));
        }
        named.sort();
        let mut inputs = Vec::with_capacity(step.inputs.len());
        for file in &step.inputs {
            inputs.push((self.graph.file(*file).path.shared().clone(), self.content(*file)?));
        }
        // By path: numbers of files follow the order of evaluation, which is no part of a step.
        inputs.sort();
        let parts = KeyParts { command: command_digest(self.graph, step), tools: named, inputs };
        let first_key = first_key(&parts);
        let names = if step.found.is_empty() {
            Digest::of(b"")
        } else {
            candidate_names(self.graph, &step.candidates)
        };
        Ok(Examined { id, parts, first_key, names, tools })
    }

    /// Decides what is to be done with a step.
    pub(crate) fn decide(&self, id: StepId, now: &Examined) -> Decision {
        let step = self.graph.step(id);
        if let Some(service) = step.services.iter().find(|s| s.is_elsewhere()) {
            return Decision::Run(Reason::UsesElsewhere { service: service.address.clone() });
        }
        let memory = self.before.steps.get(step.folder.shared());
        let (reason, in_place) = match &memory {
            None => (Reason::New, false),
            Some(memory) if memory.outputs.is_empty() => (Reason::Unfinished, false),
            Some(memory) => {
                let in_place = self.outputs_in_place(id, memory);
                match (self.what_changed(id, memory, now), in_place) {
                    (None, Ok(())) if memory.candidate_names == now.names => {
                        return Decision::Unchanged(memory.clone());
                    }
                    (None, Ok(())) => {
                        let memory = StepMemory { candidate_names: now.names, ..(**memory).clone() };
                        return Decision::Current(Box::new(memory), Reason::Unchanged);
                    }
                    (None, Err(reason)) => (reason, false),
                    (Some(reason), in_place) => (reason, in_place.is_ok()),
                }
            }
        };
        let Some(entry) = self.stored(id, now) else { return Decision::Run(reason) };
        if let (Some(memory), true) = (&memory, in_place)
            && memory.outputs == entry.outputs
        {
            let memory = self.memory_of(now, &entry, memory.signatures.clone(), &Reason::SameResult);
            return Decision::Current(Box::new(memory), Reason::SameResult);
        }
        Decision::Reuse(Box::new(entry), reason)
    }

    /// The result kept in the store for just these inputs.
    fn stored(&self, id: StepId, now: &Examined) -> Option<RecordEntry> {
        let record = self.store?.record(&now.first_key)?;
        record.entries.into_iter().find(|entry| {
            entry.outputs.len() == self.graph.step(id).outputs.len()
                && entry.found.iter().all(|f| self.listed_content(&f.path) == Some(f.digest))
                && (entry.candidate_names == now.names || {
                    let found: Vec<Arc<str>> = entry.found.iter().map(|f| f.path.clone()).collect();
                    self.passed_over(id, &found) == entry.passed_over
                })
        })
    }

    /// What differs from the time when a step last finished; `None` when nothing does.
    pub(crate) fn what_changed(&self, id: StepId, memory: &StepMemory, now: &Examined) -> Option<Reason> {
        if memory.first_key != now.first_key {
            return Some(self.difference(id, memory, &now.parts));
        }
        for (path, digest) in &memory.found {
            if self.listed_content(path) != Some(*digest) {
                return Some(Reason::InputChanged { path: path.clone(), target: self.maker_of(path) });
            }
        }
        if memory.candidate_names != now.names {
            let found: Vec<Arc<str>> = memory.found.iter().map(|f| f.0.clone()).collect();
            let passed_over = self.passed_over(id, &found);
            if let Some(path) = passed_over.iter().find(|p| !memory.passed_over.contains(p)) {
                return Some(Reason::NameAppeared { path: path.clone() });
            }
            if let Some(path) = memory.passed_over.iter().find(|p| !passed_over.contains(p)) {
                return Some(Reason::NameVanished { path: path.clone() });
            }
        }
        None
    }

    /// The first difference in words, tools or inputs, in the order in which people ask for it:
    /// files, then the definition, then the machine.
    pub(crate) fn difference(&self, id: StepId, memory: &StepMemory, parts: &KeyParts) -> Reason {
        let known = |path: &Arc<str>| memory.inputs.iter().find(|(p, _)| p == path);
        let changed = parts.inputs.iter().find(|(p, d)| known(p).is_some_and(|(_, before)| before != d));
        if let Some((path, _)) = changed {
            return Reason::InputChanged { path: path.clone(), target: self.maker_of(path) };
        }
        if let Some((path, _)) = parts.inputs.iter().find(|(p, _)| known(p).is_none()) {
            return Reason::InputAdded { path: path.clone(), target: self.maker_of(path) };
        }
        let gone = memory.inputs.iter().find(|(p, _)| !parts.inputs.iter().any(|(now, _)| now == p));
        if let Some((path, _)) = gone {
            return Reason::InputRemoved { path: path.clone() };
        }
        if memory.command == parts.command {
            let new = parts.tools.iter().find(|t| !memory.tools.contains(t));
            if let Some((tool, _)) = new.or_else(|| memory.tools.iter().find(|t| !parts.tools.contains(t))) {
                return match &**tool == HIDING {
                    true => Reason::ConfinementChanged,
                    false => Reason::ToolChanged { tool: tool.clone() },
                };
            }
            if memory.is_unusual() {
                return Reason::OtherAddress;
            }
            // All parts are the same, and the key is not: it is put together in another way.
            return Reason::RulesChanged;
        }
        Reason::changed(self.graph.step(id))
    }

    /// The target that makes a file.
    pub(crate) fn maker_of(&self, path: &str) -> Option<Arc<str>> {
        match self.files_by_path.get(path).and_then(|file| self.graph.file(*file).maker) {
            Some(maker) => Some(self.graph.owner(maker).address.clone()),
            None => (self.maker_elsewhere)(path),
        }
    }

    /// Whether all outputs are what the step made, by their metadata.
    pub(crate) fn outputs_in_place(&self, id: StepId, memory: &StepMemory) -> Result<(), Reason> {
        let mut signatures = memory.signatures.iter();
        for (output, record) in self.graph.step(id).outputs.iter().zip(&memory.outputs) {
            let path = self.graph.file(output.file).path.shared();
            let mut check = |path: Arc<str>| match self.outside.check(&path) {
                None => Err(Reason::OutputMissing { path }),
                found if signatures.next().is_some_and(|known| known.still_holds(found)) => Ok(()),
                Some(_) => Err(Reason::OutputEdited { path }),
            };
            match record {
                OutputRecord::File { .. } => check(path.clone())?,
                OutputRecord::Folder(entries) => {
                    for entry in entries {
                        check(format!("{path}/{}", entry.path).into())?;
                    }
                    // A file more than were made is an edit, too.
                    let count = self.outside.tree(path).map_or(0, |tree| tree.len());
                    if count != entries.len() {
                        return Err(Reason::OutputEdited { path: path.clone() });
                    }
                }
            }
        }
        Ok(())
    }

    /// Candidates that were not read though their being there may matter: a listed file has the same
    /// name, or a file that was read speaks of the name. Sorted.
    pub(crate) fn passed_over(&self, id: StepId, found: &[Arc<str>]) -> Vec<Arc<str>> {
        let step = self.graph.step(id);
        let mut others: Vec<&WsPath> = Vec::new();
        for candidate in &step.candidates {
            let path = &self.graph.file(*candidate).path;
            if found.binary_search(path.shared()).is_err() {
                others.push(path);
            }
        }
        if others.is_empty() {
            return Vec::new();
        }
        let texts: Vec<Arc<[u8]>> =
            found.iter().filter(|p| !p.starts_with('/')).filter_map(|p| self.text_of(p)).collect();
        let mut passed_over: Vec<Arc<str>> = others
            .into_iter()
            .filter(|path| {
                let same_name = |f: &Arc<str>| f.rsplit('/').next() == Some(path.name());
                let stem = memchr::memmem::Finder::new(path.stem());
                found.iter().any(same_name) || texts.iter().any(|text| stem.find(text).is_some())
            })
            .map(|path| path.shared().clone())
            .collect();
        passed_over.sort();
        passed_over
    }

    /// A file's bytes, read once a run.
    fn text_of(&self, path: &Arc<str>) -> Option<Arc<[u8]>> {
        let mut texts = self.texts.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(text) = texts.get(path) {
            return Some(text.clone());
        }
        let text: Arc<[u8]> = self.outside.read(path).ok()?.into();
        texts.insert(path.clone(), text.clone());
        Some(text)
    }

    /// What is to be remembered of a step whose result is known.
    pub(crate) fn memory_of(
        &self,
        now: &Examined,
        entry: &RecordEntry,
        signatures: Vec<Signature>,
        reason: &Reason,
    ) -> StepMemory {
        StepMemory {
            first_key: now.first_key,
            command: now.parts.command,
            described: self.describe(now.id),
            tools: now.parts.tools.clone(),
            inputs: now.parts.inputs.clone(),
            found: entry.found.iter().map(|f| (f.path.clone(), f.digest)).collect(),
            candidate_names: now.names,
            passed_over: entry.passed_over.clone(),
            outputs: entry.outputs.clone(),
            signatures,
            micros: entry.micros,
            build: self.number,
            because: StepMemory::because_of(reason),
        }
    }
}
