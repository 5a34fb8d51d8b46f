//! Steps that this machine cannot run, since it is not what they say of a machine. What counts of
//! the machine that runs them is asked there: tools, files of the system, programs that scripts
//! start.

use std::collections::HashMap;
use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_graph::StepId;
use nubrik_source::{FilePath, FilePlace};
use nubrik_store::{Provenance, RecordEntry};

use crate::build::Build;
use crate::event::{Event, Failure, Notice};
use crate::examine::{CLOSED, Examined, NOT_THERE};
use crate::files::FileTable;
use crate::outside::Outside;
use crate::reason::Reason;
use crate::state::StepMemory;
use crate::table::Table;

/// What is asked about a program that a script starts by its bare name begins with this; no tool
/// has a name with a space.
const PROGRAM: &str = "$ ";

/// What identifies something of this machine that another one asks about: a tool by its name, a
/// file of the system by its path, or where a program is looked for and what is there. Nothing
/// where there is no such tool, or it is a path that no step may read.
pub fn identity_of(outside: &dyn Outside, name: &Arc<str>) -> Option<Digest> {
    let none = Table::default();
    let table = FileTable::new(&none);
    let content = |path: &FilePath| match table.entry(outside, path) {
        Ok(Some(entry)) => entry.digest,
        Ok(None) => Digest::of(NOT_THERE),
        Err(_) => Digest::of(CLOSED),
    };
    if let Some(program) = name.strip_prefix(PROGRAM) {
        let mut all = Vec::new();
        for path in outside.looked_up(program) {
            all.extend_from_slice(path.as_str().as_bytes());
            all.push(0);
            all.extend(content(&path).0);
        }
        return Some(Digest::of(&all));
    }
    match name.starts_with('/') {
        true => outside
            .is_system(name)
            .then(|| content(&FilePath::of_machine(name))),
        false => outside
            .tool(name)
            .ok()
            .filter(|t| t.unanswered.is_none())
            .map(|tool| tool.identity),
    }
}

impl Build<'_> {
    /// Whether only another machine can run a step.
    pub(crate) fn is_for_others(&self, id: StepId) -> bool {
        let step = self.graph.step(id);
        !step.machine.is_empty() && !self.outside.has_labels(&step.needed_labels())
    }

    /// All that counts of another machine before a step runs there, by name: tools, files of the
    /// system in its words, and programs that its scripts start. They stand among the tools of its
    /// key.
    fn names_there(&self, id: StepId) -> Vec<Arc<str>> {
        let step = self.graph.step(id);
        let mut names: Vec<Arc<str>> = step
            .tools
            .iter()
            .map(|tool| self.graph.tools[tool.index()].clone())
            .collect();
        let (files, programs) = self.of_system_in(id);
        names.extend(files.iter().map(|path| Arc::from(path.as_str())));
        names.extend(
            programs
                .iter()
                .map(|program| Arc::from(format!("{PROGRAM}{program}"))),
        );
        names.sort();
        names.dedup();
        names
    }

    /// What counts of the machine that is to run a step, with what identifies it there. Where
    /// nobody can be asked, it is taken to be as it was when the step last ran, which is reported.
    ///
    /// # Errors
    /// That something is not there, or that nobody can be asked and nothing is remembered.
    pub(crate) fn things_there(&self, id: StepId) -> Result<Vec<(Arc<str>, Digest)>, Failure> {
        let step = self.graph.step(id);
        let names = self.names_there(id);
        let memory = self.before.steps.get(step.folder.shared());
        let read = memory
            .iter()
            .flat_map(|memory| &memory.found)
            .map(|(path, _)| path);
        let read = read.filter(|path| matches!(path.place(), FilePlace::Machine(_)));
        let read: Vec<Arc<str>> = read.map(|path| Arc::from(path.as_str())).collect();
        let lacks = |problem: String| Failure::NoMachine {
            labels: step.machine.clone(),
            problem,
        };
        match self.ask_there(id, names.iter().chain(&read)) {
            Ok(told) => {
                let thing = |name: &Arc<str>| match told.get(name).copied().flatten() {
                    Some(digest) => Ok((name.clone(), digest)),
                    None => Err(lacks(format!("the machine that was asked has no `{name}`"))),
                };
                names.iter().map(thing).collect()
            }
            Err(why) => {
                let known = |name: &Arc<str>| {
                    let tools = &memory.as_ref()?.tools;
                    tools.iter().find(|(known, _)| known == name).cloned()
                };
                let Some(known) = names.iter().map(known).collect() else {
                    return Err(lacks(why.to_string()));
                };
                let is_new = self.not_asked.lock().insert(step.machine.clone());
                if is_new && memory.is_some() {
                    let labels = step.machine.clone();
                    self.listener
                        .hear(&Event::Notice(Notice::NotAsked { labels, why }));
                }
                Ok(known)
            }
        }
    }

    /// Asks a machine that can run a step about some things, but for those that were asked about
    /// before.
    fn ask_there<'n>(
        &self,
        id: StepId,
        names: impl Iterator<Item = &'n Arc<str>>,
    ) -> Result<HashMap<Arc<str>, Option<Digest>>, Arc<str>> {
        let Some(performer) = self.performer else {
            return Err("no worker is available".into());
        };
        let labels = self.graph.step(id).needed_labels();
        // One after another: who comes second finds what the first one asked.
        let mut told = self.told.lock();
        let known = told.entry(labels.clone()).or_default();
        let names: Vec<Arc<str>> = names.cloned().collect();
        let new: Vec<Arc<str>> = names
            .iter()
            .filter(|name| !known.contains_key(*name))
            .cloned()
            .collect();
        if !new.is_empty() || known.is_empty() {
            known.extend(performer.ask(&labels, &new)?);
        }
        Ok(names
            .into_iter()
            .map(|name| (name.clone(), known.get(&name).copied().flatten()))
            .collect())
    }

    /// The content of a file of the machine that runs a step, if it is known; else what it was when
    /// the step last ran.
    pub(crate) fn content_there(&self, id: StepId, path: &FilePath) -> Option<Digest> {
        let step = self.graph.step(id);
        let told = self.told.lock();
        if let Some(known) = told
            .get(&step.needed_labels())
            .and_then(|known| known.get(path.as_str()))
        {
            return *known;
        }
        drop(told);
        let memory = self.before.steps.get(step.folder.shared())?;
        memory
            .found
            .iter()
            .find(|(known, _)| known == path)
            .map(|(_, digest)| *digest)
    }

    /// A result that a machine made just now which alone can run a step, as it counts here; nothing
    /// where it does not.
    pub(crate) fn counted_from_there(&self, id: StepId, entry: RecordEntry) -> Option<RecordEntry> {
        let is_of_team = matches!(&entry.origin,
            Provenance::Shared { root, .. } if self.options.shared_root == Some(*root));
        let is_true = |path: &FilePath, digest: Digest| match path.place() {
            FilePlace::Machine(_) => true,
            _ => self.is_declared(id, path) && self.listed_content(id, path) == Some(digest),
        };
        let mut found = entry
            .found
            .iter()
            .map(|found| (FilePath::from_text(found.path.clone()), found.digest));
        let counts = is_of_team
            && entry.outputs.len() == self.graph.step(id).outputs.len()
            && found.all(|(path, digest)| is_true(&path, digest));
        if !counts {
            return None;
        }
        // Which names of that machine were passed over, only that machine can say.
        let passed_over = entry
            .passed_over
            .iter()
            .filter(|path| !path.starts_with('/'))
            .cloned()
            .collect();
        Some(RecordEntry {
            passed_over,
            ..entry
        })
    }

    /// What is remembered of a step that did not end well: only its cost is still true.
    pub(crate) fn unfinished(
        &self,
        id: StepId,
        now: &Examined,
        (micros, because): (u64, &Reason),
    ) -> StepMemory {
        StepMemory {
            first_key: now.first_key,
            command: now.parts.command,
            described: self.describe(id),
            tools: now.parts.tools.clone(),
            inputs: now.parts.inputs.clone(),
            found: Vec::new(),
            candidate_names: now.names,
            passed_over: Vec::new(),
            outputs: Vec::new(),
            signatures: Vec::new(),
            is_away: false,
            micros,
            build: self.number,
            because: StepMemory::because_of(because),
        }
    }
}
