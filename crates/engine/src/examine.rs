//! Finding out what is to be done with a step: nothing, take its result from the cache, or run it.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_disk::{Signature, TreeFileKind};
use nubrik_graph::{FileId, Step, StepId, ToolId};
use nubrik_source::{FilePath, FilePlace, WsPath};
use nubrik_store::{Basis, FoundInput, OutputRecord, Provenance, RecordEntry, TreeKind};

use crate::build::Build;
use crate::event::Failure;
use crate::key::{KeyParts, command_digest, first_key};
use crate::observed::Present;
use crate::outside::FoundTool;
use crate::reason::Reason;
use crate::rooted::ROOT;
use crate::state::StepMemory;

/// Stands among the tools of steps that may see more than they declare. No tool has a name with a
/// space.
pub(crate) const SEES_BESIDES: &str = "what is seen besides";

/// The same for what steps inherit and should not.
pub(crate) const INHERITS: &str = "what is inherited";

/// What represents the key of a result that was made while a service was at another address than
/// always: no step has that key, so that it is made again.
pub(crate) const OTHER_ADDRESS: &[u8] = b"a service stood elsewhere";

/// What represents the content of a file of the system that a command names and that is not there.
pub(crate) const NOT_THERE: &[u8] = b"not there";

/// The same for one that is there and may not be read.
pub(crate) const CLOSED: &[u8] = b"not readable";

/// What makes a file with other metadata the one that its step made.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum AsMade {
    /// What it holds now: nothing reads it yet.
    ByContent,
    /// Nothing but another time of its metadata: a step read it meanwhile, and what it held then
    /// cannot be known any more.
    Unmoved,
}

/// Whether something in a folder still is what it was recorded as.
fn is_kind(found: &TreeFileKind, recorded: &TreeKind) -> bool {
    match (found, recorded) {
        (TreeFileKind::File, TreeKind::File { .. })
        | (TreeFileKind::EmptyFolder, TreeKind::EmptyFolder) => true,
        (TreeFileKind::Link(found), TreeKind::Link { target }) => found == target,
        _ => false,
    }
}

impl StepMemory {
    /// Whether the step is to run again, since a service had another address than usual.
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
    /// Take its outputs from the cache.
    Reuse(Box<RecordEntry>, Reason),
    /// Run it.
    Run(Reason),
}

impl Build<'_> {
    /// The content of a file, source or made.
    pub(crate) fn content(&self, file: FileId) -> Result<Digest, Failure> {
        let node = self.graph.file(file);
        if node.maker.is_some() {
            let made = self.known.made[file.index()].get();
            return made.copied().ok_or_else(|| Failure::NoInput {
                path: node.path.shared().clone(),
                problem: "the step that makes it has not run".to_owned(),
            });
        }
        self.source(&FilePath::from(&node.path))
    }

    fn source(&self, path: &FilePath) -> Result<Digest, Failure> {
        match self.table.entry(self.outside, path) {
            Ok(Some(entry)) => Ok(entry.digest),
            Ok(None) => Err(Failure::NoInput {
                path: path.told(),
                problem: "it is not there".to_owned(),
            }),
            Err(e) => Err(Failure::NoInput {
                path: path.told(),
                problem: e.to_string(),
            }),
        }
    }

    /// The content of a listed file: one of the workspace or of the system, or a link on the way to
    /// one.
    pub(crate) fn listed_content(&self, id: StepId, path: &FilePath) -> Option<Digest> {
        match path.place() {
            FilePlace::Link(link) => {
                let links = self.outside.links_to(&WsPath::from_normal(link));
                let found = links.iter().find(|(at, _)| at.as_str() == link);
                found.map(|(_, text)| Digest::of(text.as_bytes()))
            }
            FilePlace::Machine(_) if self.is_for_others(id) => self.content_there(id, path),
            FilePlace::Machine(_) => self.source(path).ok(),
            FilePlace::Presence(path) => Some(self.presence(id, path).digest()),
            FilePlace::Names(folder) => Some(self.names_in(id, folder)),
            FilePlace::Workspace(inside) => match self.known.files_by_path.get(inside) {
                Some(file) => self.content(*file).ok(),
                None => match self.folder_around(inside) {
                    Some((folder, below)) => self.content_in(folder, below),
                    None => self.source(path).ok(),
                },
            },
        }
    }

    /// The made folder that a path lies in, and the rest of the path.
    pub(crate) fn folder_around<'p>(&self, path: &'p str) -> Option<(FileId, &'p str)> {
        path.match_indices('/').find_map(|(at, _)| {
            let file = *self.known.files_by_path.get(&path[..at])?;
            self.graph
                .file(file)
                .folder
                .then(|| (file, &path[at + 1..]))
        })
    }

    /// Whether a step declares a listed file, itself or as a part of a folder.
    pub(crate) fn is_declared(&self, id: StepId, path: &FilePath) -> bool {
        let step = self.graph.step(id);
        let holds = |f: &FileId| self.graph.declares(step, *f);
        match path.place() {
            // What leads to a declared file need not be declared, and the system's files are for
            // all.
            FilePlace::Link(_)
            | FilePlace::Machine(_)
            | FilePlace::Presence(_)
            | FilePlace::Names(_) => true,
            FilePlace::Workspace(path) => {
                self.known.files_by_path.get(path).is_some_and(holds)
                    || self
                        .folder_around(path)
                        .is_some_and(|(folder, _)| holds(&folder))
            }
        }
    }

    /// The links on the way to a source, as inputs: a step sees through them, and may see where
    /// they lead.
    fn add_links(&self, path: &WsPath, inputs: &mut Vec<(FilePath, Digest)>) {
        for (link, text) in self.outside.links_to(path) {
            inputs.push((FilePath::of_link(&link), Digest::of(text.as_bytes())));
        }
    }

    /// Puts together what a step is made of.
    pub(crate) fn examine(&self, id: StepId) -> Result<Examined, Failure> {
        let step = self.graph.step(id);
        let is_for_others = self.is_for_others(id);
        // What counts of this machine's system: nothing where it is not seen.
        let sees_system = !is_for_others && step.root.is_none();
        let mut tools = Vec::new();
        let of_machine = match is_for_others {
            true => Vec::new(),
            false => self.tools_of_machine(step),
        };
        for tool in &of_machine {
            tools.push(self.tool(*tool).map_err(Failure::NoTool)?);
        }
        let mut named = match is_for_others && step.root.is_none() {
            true => self.things_there(id)?,
            false => self.things_here(step, of_machine.iter().zip(&tools), is_for_others)?,
        };
        named.sort();
        let mut inputs = Vec::with_capacity(step.inputs.len());
        // The image is among what stands for tools: it counts, not what it is called here.
        for file in step.inputs.iter().filter(|file| Some(**file) != step.root) {
            let node = self.graph.file(*file);
            inputs.push((FilePath::from(&node.path), self.content(*file)?));
            if node.maker.is_none() {
                self.add_links(&node.path, &mut inputs);
            }
        }
        if !step.commands.is_empty() && sees_system {
            self.add_system_files(id, &mut inputs);
        }
        // By path: numbers of files follow the order of evaluation, which is no part of a step.
        inputs.sort();
        inputs.dedup();
        let parts = KeyParts {
            command: command_digest(self.graph, step),
            tools: named,
            inputs,
        };
        let first_key = first_key(step, &parts);
        let names = match step.narrows() {
            true => self.candidate_names(step, &tools),
            false => Digest::of(b""),
        };
        Ok(Examined {
            id,
            parts,
            first_key,
            names,
            tools,
        })
    }

    /// What decides a result like a tool does, by name: the tools of this machine that are used, an
    /// image, and what of the machine's system is seen.
    fn things_here<'t>(
        &self,
        step: &Step,
        tools: impl Iterator<Item = (&'t ToolId, &'t FoundTool)>,
        is_for_others: bool,
    ) -> Result<Vec<(Arc<str>, Digest)>, Failure> {
        let named = tools.map(|(id, found)| (self.graph.tools[id.index()].clone(), found.identity));
        let mut named: Vec<(Arc<str>, Digest)> = named.collect();
        if let Some(root) = step.root {
            named.push(self.root_part(root)?);
        }
        if step.commands.is_empty() {
            return Ok(named);
        }
        // It may decide a result like a tool does.
        if let Some(besides) = self
            .outside
            .sees_besides()
            .filter(|_| !is_for_others && step.root.is_none())
        {
            named.push((SEES_BESIDES.into(), Digest::of(besides.as_bytes())));
        }
        if let Some(inherits) = self.outside.inherits().filter(|_| !is_for_others) {
            named.push((INHERITS.into(), Digest::of(inherits.as_bytes())));
        }
        Ok(named)
    }

    /// Decides what is to be done with a step.
    pub(crate) fn decide(&self, id: StepId, now: &Examined) -> Decision {
        let step = self.graph.step(id);
        if let Some(service) = step.services.iter().find(|s| s.is_elsewhere()) {
            return Decision::Run(Reason::UsesElsewhere {
                service: service.address.clone(),
            });
        }
        let memory = self.before.steps.get(step.folder.shared());
        let (reason, in_place) = match &memory {
            None => (Reason::New, false),
            Some(memory) if memory.outputs.is_empty() => (memory.why_unfinished(), false),
            Some(memory) => {
                let in_place = self.outputs_in_place(id, memory);
                match (self.what_changed(id, memory, now), in_place) {
                    (None, Ok(None)) if memory.candidate_names == now.names => {
                        return Decision::Unchanged(memory.clone());
                    }
                    (None, Ok(renewed)) => {
                        let mut memory = StepMemory {
                            candidate_names: now.names,
                            ..(**memory).clone()
                        };
                        memory.signatures = renewed.unwrap_or(memory.signatures);
                        return Decision::Current(Box::new(memory), Reason::Unchanged);
                    }
                    (None, Err(reason)) => (reason, false),
                    (Some(reason), in_place) => (reason, in_place.is_ok()),
                }
            }
        };
        let Some(entry) = self.stored(id, now) else {
            return Decision::Run(reason);
        };
        if let (Some(memory), true) = (&memory, in_place)
            && memory.outputs == entry.outputs
        {
            let is_away = memory.is_away;
            let memory =
                self.memory_of(now, &entry, memory.signatures.clone(), &Reason::SameResult);
            return Decision::Current(
                Box::new(StepMemory { is_away, ..memory }),
                Reason::SameResult,
            );
        }
        let reason = if reason == Reason::New {
            Reason::NotHere
        } else {
            reason
        };
        Decision::Reuse(Box::new(entry), reason)
    }

    /// The result kept in the cache for just these inputs.
    fn stored(&self, id: StepId, now: &Examined) -> Option<RecordEntry> {
        // Whether the machine that runs it is as a kept result needs it, only that one can see; it
        // takes it there.
        if self.is_for_others(id) {
            return None;
        }
        let record = self.store?.record(&now.first_key)?;
        record
            .entries
            .into_iter()
            .find(|entry| self.fits(id, now, entry))
    }

    /// Whether a result of a step's first key is that of what it is made of now.
    pub(crate) fn fits(&self, id: StepId, now: &Examined, entry: &RecordEntry) -> bool {
        entry.outputs.len() == self.graph.step(id).outputs.len()
            && self.may_be_used(entry)
            && entry.found.iter().all(|f| self.is_as_found(id, f))
            && (entry.candidate_names == now.names || {
                let found = paths_of(&entry.found);
                self.passed_over(id, &found, &now.tools) == entry.passed_over
            })
    }

    /// Whether a kept result counts here: it was made here, or comes from the shared store that is
    /// used or from a file that was loaded, and the machine is as it needs it.
    pub(crate) fn may_be_used(&self, entry: &RecordEntry) -> bool {
        match (&entry.origin, &entry.basis) {
            (Provenance::Here, _) => true,
            (Provenance::Shared { root, .. }, Basis::Noted(parts)) => {
                self.options.shared_root == Some(*root)
                    && self.outside.sees_besides().is_none()
                    && self.rests_here(parts).is_ok()
            }
            (Provenance::Loaded, Basis::Noted(parts)) => {
                self.outside.sees_besides().is_none() && self.rests_here(parts).is_ok()
            }
            (Provenance::Shared { .. } | Provenance::Loaded, Basis::Unnoted | Basis::Unfit(_)) => {
                false
            }
        }
    }

    /// Whether a step may still read something that was found when a kept result was made, and it
    /// is the same.
    fn is_as_found(&self, id: StepId, found: &FoundInput) -> bool {
        let path = FilePath::from_text(found.path.clone());
        self.is_declared(id, &path) && self.listed_content(id, &path) == Some(found.digest)
    }

    /// What differs from the time when a step last finished; `None` when nothing does.
    pub(crate) fn what_changed(
        &self,
        id: StepId,
        memory: &StepMemory,
        now: &Examined,
    ) -> Option<Reason> {
        if memory.first_key != now.first_key {
            return Some(self.difference(id, memory, &now.parts));
        }
        for (path, digest) in &memory.found {
            if !self.is_declared(id, path) {
                return Some(Reason::InputRemoved { path: path.told() });
            }
            if self.listed_content(id, path) != Some(*digest) {
                if let FilePlace::Presence(at) = path.place() {
                    let gone = self.presence(id, at) == Present::Nothing;
                    let path = at.into();
                    return Some(if gone {
                        Reason::NameVanished { path }
                    } else {
                        Reason::NameAppeared { path }
                    });
                }
                return Some(Reason::InputChanged {
                    path: path.told(),
                    target: self.maker_of(path.as_str()),
                });
            }
        }
        if memory.candidate_names != now.names {
            let mut found: Vec<FilePath> = memory.found.iter().map(|f| f.0.clone()).collect();
            if self.is_for_others(id) {
                found.retain(FilePath::is_of_workspace);
            }
            let passed_over = self.passed_over(id, &found, &now.tools);
            if let Some(path) = passed_over.iter().find(|p| !memory.passed_over.contains(p)) {
                return Some(Reason::NameAppeared { path: path.clone() });
            }
            if let Some(path) = memory.passed_over.iter().find(|p| !passed_over.contains(p)) {
                return Some(Reason::NameVanished { path: path.clone() });
            }
        }
        None
    }

    /// The first input by name that a step had not, or has no longer.
    pub(crate) fn other_inputs<'p>(
        &self,
        memory: &StepMemory,
        now: impl Iterator<Item = &'p FilePath> + Clone,
    ) -> Option<Reason> {
        let before: HashSet<&FilePath> = memory.inputs.iter().map(|(path, _)| path).collect();
        if let Some(path) = now.clone().find(|path| !before.contains(path)) {
            return Some(Reason::InputAdded {
                path: path.told(),
                target: self.maker_of(path.as_str()),
            });
        }
        let now: HashSet<&FilePath> = now.collect();
        let gone = memory.inputs.iter().find(|(path, _)| !now.contains(path));
        gone.map(|(path, _)| Reason::InputRemoved { path: path.told() })
    }

    /// The first difference in words, tools or inputs, in the order in which people ask for it:
    /// files, then the definition, then the machine.
    pub(crate) fn difference(&self, id: StepId, memory: &StepMemory, parts: &KeyParts) -> Reason {
        let root = |tools: &[(Arc<str>, Digest)]| {
            tools.iter().find(|(name, _)| **name == *ROOT).map(|t| t.1)
        };
        if root(&memory.tools) != root(&parts.tools) {
            // With it goes what counts of this machine, or comes.
            return Reason::RootChanged {
                image: self.image_of(id),
            };
        }
        let known: HashMap<&FilePath, &Digest> =
            memory.inputs.iter().map(|(path, d)| (path, d)).collect();
        let is_other =
            |(path, now): &&(FilePath, Digest)| known.get(path).is_some_and(|d| *d != now);
        if let Some((path, _)) = parts.inputs.iter().find(is_other) {
            return Reason::InputChanged {
                path: path.told(),
                target: self.maker_of(path.as_str()),
            };
        }
        if let Some(reason) = self.other_inputs(memory, parts.inputs.iter().map(|(path, _)| path)) {
            return reason;
        }
        if memory.command == parts.command {
            let new = parts.tools.iter().find(|t| !memory.tools.contains(t));
            if let Some((tool, _)) =
                new.or_else(|| memory.tools.iter().find(|t| !parts.tools.contains(t)))
            {
                return match &**tool {
                    SEES_BESIDES | INHERITS => Reason::ConfinementChanged,
                    _ => Reason::ToolChanged { tool: tool.clone() },
                };
            }
            if memory.is_unusual() {
                return Reason::OtherAddress;
            }
            // All parts are the same, and the key is not: it is put together in another way.
            return Reason::RulesChanged;
        }
        self.edit_of(id, memory)
    }

    /// The target that makes a file.
    pub(crate) fn maker_of(&self, path: &str) -> Option<Arc<str>> {
        match self
            .known
            .files_by_path
            .get(path)
            .and_then(|file| self.graph.file(*file).maker)
        {
            Some(maker) => Some(self.graph.owner(maker).address.clone()),
            None => (self.maker_elsewhere)(path),
        }
    }

    /// Whether all outputs are what the step made. Gives their metadata where only that changed.
    pub(crate) fn outputs_in_place(
        &self,
        id: StepId,
        memory: &StepMemory,
    ) -> Result<Option<Vec<Signature>>, Reason> {
        // What is away is in its place as long as nobody here needs it.
        if memory.is_away {
            return Ok(None);
        }
        let mut signatures = memory.signatures.iter();
        let mut now = Vec::with_capacity(memory.signatures.len());
        for (output, record) in self.graph.step(id).outputs.iter().zip(&memory.outputs) {
            let path = &self.graph.file(output.file).path;
            self.output_in_place(path, record, &mut signatures, &mut now, AsMade::ByContent)?;
        }
        Ok(Some(now).filter(|now| *now != memory.signatures))
    }

    /// Whether a file is what its step made: by its metadata, or else by its content, as far as
    /// `rule` allows that. The metadata are others when another name of the file came or went, as
    /// kept results have them, when somebody wrote to it and put its times back, and in a copy of
    /// the workspace. A file that may change again without a trace is none that a step made, unless
    /// only the time of its metadata is another one.
    fn is_as_made(
        &self,
        path: &WsPath,
        content: Option<&Digest>,
        (known, found): (&Signature, &Signature),
        rule: AsMade,
    ) -> bool {
        if known.still_holds(Some(*found)) {
            return true;
        }
        let path = FilePath::from(path);
        let may_change =
            || found.is_young(self.outside.now()) || self.outside.is_being_written(&path);
        let is_alike = (known.size, known.mode) == (found.size, found.mode)
            && (known.settled() == found.settled() || (rule == AsMade::ByContent && !may_change()));
        let has = |content: &Digest| self.outside.digest(&path).is_ok_and(|now| now == *content);
        is_alike && content.is_none_or(has)
    }

    /// Whether one output is what its step made; takes its part of the remembered metadata.
    pub(crate) fn output_in_place<'s>(
        &self,
        path: &WsPath,
        record: &OutputRecord,
        signatures: &mut impl Iterator<Item = &'s Signature>,
        now: &mut Vec<Signature>,
        rule: AsMade,
    ) -> Result<(), Reason> {
        let edited = || Reason::OutputEdited {
            path: path.shared().clone(),
        };
        let entries = match record {
            OutputRecord::File { digest, .. } => {
                let Some(found) = self.outside.check_itself(path) else {
                    return Err(missing(path));
                };
                now.push(found);
                let known = signatures.next();
                let is_known = |known| self.is_as_made(path, Some(digest), (known, &found), rule);
                return known.is_some_and(is_known).then_some(()).ok_or_else(edited);
            }
            OutputRecord::Folder(entries) => entries,
        };
        if self.outside.check_itself(path).is_none() {
            return Err(missing(path));
        }
        let tree = self.outside.tree(path).map_err(|_| edited())?;
        let mut found = tree.iter().peekable();
        for entry in entries {
            let known = signatures.next().ok_or_else(edited)?;
            // Both are sorted by path.
            let whole = path.join(&entry.path);
            let file = found.next_if(|file| *file.path == *entry.path);
            let file = file.ok_or_else(|| missing(&whole))?;
            let path = whole;
            let content = match &entry.kind {
                TreeKind::File { digest, .. } => Some(digest),
                _ => None,
            };
            if !is_kind(&file.kind, &entry.kind)
                || !self.is_as_made(&path, content, (known, &file.signature), rule)
            {
                return Err(Reason::OutputEdited {
                    path: path.shared().clone(),
                });
            }
            now.push(file.signature);
        }
        // Something more than was made is an edit, too.
        if found.next().is_some() {
            Err(edited())
        } else {
            Ok(())
        }
    }

    /// Whether the made inputs of a step are what they were when it began: parts of them may be
    /// gone or edited.
    pub(crate) fn made_inputs_in_place(&self, id: StepId) -> Result<(), Arc<str>> {
        let step = self.graph.step(id);
        let of_sets = step
            .candidates
            .iter()
            .flat_map(|set| &self.candidates(*set).made);
        for file in step.inputs.iter().chain(of_sets) {
            let Some(maker) = self.graph.file(*file).maker else {
                continue;
            };
            let Some(memory) = self.made_by(maker) else {
                self.early_input_in_place(*file)?;
                continue;
            };
            let mut signatures = memory.signatures.iter();
            for (output, record) in self.graph.step(maker).outputs.iter().zip(&memory.outputs) {
                let path = &self.graph.file(output.file).path;
                if output.file == *file {
                    self.output_in_place(
                        path,
                        record,
                        &mut signatures,
                        &mut Vec::new(),
                        AsMade::Unmoved,
                    )
                    .map_err(|_| path.shared().clone())?;
                    break;
                }
                let count = if let OutputRecord::Folder(entries) = record {
                    entries.len()
                } else {
                    1
                };
                signatures.by_ref().take(count).for_each(drop);
            }
        }
        Ok(())
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
            found: entry
                .found
                .iter()
                .map(|f| (FilePath::from_text(f.path.clone()), f.digest))
                .collect(),
            candidate_names: now.names,
            passed_over: entry.passed_over.clone(),
            outputs: entry.outputs.clone(),
            signatures,
            is_away: false,
            micros: entry.micros,
            build: self.number,
            because: StepMemory::because_of(reason),
        }
    }
}

/// An output that is not there.
fn missing(path: &WsPath) -> Reason {
    Reason::OutputMissing {
        path: path.shared().clone(),
    }
}

/// The paths of what was found.
pub(crate) fn paths_of(found: &[FoundInput]) -> Vec<FilePath> {
    found
        .iter()
        .map(|f| FilePath::from_text(f.path.clone()))
        .collect()
}
