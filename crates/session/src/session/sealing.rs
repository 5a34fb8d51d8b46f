//! Sealing a finished request, and adding to its seal when some of its steps were built again.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError};

use nubrik_engine::{Outcome, Outside, Signature};
use nubrik_graph::{Closure, FileId, Graph, StepId};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_store::{Digest, Encoder, OutputRecord};
use rustc_hash::{FxHashMap, FxHashSet};

use super::seal_files::{forget_old_seals, log_path, open_log, save_graph};
use super::standing::Reached;
use super::{BuildProblem, Session};
use crate::results::Results;
use crate::seal::{self, Entry, NewSeal, News, Roles, Seal, Sealed};
use crate::snapshot::{Part, Snapshot};
use crate::state_file::write_whole;
use crate::trails::Trails;

/// Metadata of what steps made, by path, each with its file in the graph.
pub(super) type Made = BTreeMap<Arc<str>, (FileId, Option<Signature>)>;

pub(super) fn is_complete(outcome: &Outcome) -> bool {
    let done = &outcome.summary;
    done.failed + done.blocked + done.left + done.unpublished == 0 && !outcome.cancelled
}

impl Session {
    pub(super) fn seal_path(&self, patterns: &[AddressPattern]) -> PathBuf {
        let mut out = Encoder::new();
        out.text(env!("CARGO_PKG_VERSION"));
        out.text(&std::env::var_os("PATH").unwrap_or_default().to_string_lossy());
        out.list(patterns, |out, pattern| {
            out.text(pattern.path.as_str());
            out.u8(pattern.wanted as u8);
        });
        out.text(&self.results_folder());
        out.list(&self.settings, |out, setting| {
            out.text(&setting.name);
            out.text(&format!("{:?}", setting.value));
        });
        let program = std::env::current_exe().ok().and_then(|p| self.machine.check(&p.to_string_lossy()));
        out.u64(program.map_or(0, |s| s.changed as u64));
        self.workspace.own_folder().join("seals").join(&Digest::of(&out.bytes).hex()[..24])
    }

    /// Whether a step runs each time, since it uses a service that runs somewhere else, or is to run again, since
    /// one stood at another place than always.
    fn is_never_done(&self, graph: &Graph) -> bool {
        graph.steps.iter().filter(|step| !step.services.is_empty()).any(|step| {
            let memory = self.state.steps.get(step.folder.as_str());
            step.services.iter().any(|s| s.is_elsewhere()) || memory.is_none_or(|m| m.is_unusual())
        })
    }

    /// Adds to a seal what came of building some of its steps. Without that the old one stays: it is still
    /// true, and the same change is looked at once more.
    pub(super) fn seal_again(
        &self,
        path: &Path,
        reached: Reached,
        outcome: &Outcome,
    ) -> Result<(), BuildProblem> {
        if self.is_never_done(&reached.part.graph) {
            return Ok(());
        }
        let Some(built) = self.built_entries(&reached, outcome) else { return Ok(()) };
        let Reached { mut seal, changes, snapshot, part, again, relisted } = reached;
        let mut news = News::default();
        // What is in a folder that a step made may be other files now.
        let own = self.own_steps(&part).into_iter().flat_map(|s| &part.graph.step(s).outputs);
        let folders = own.map(|o| part.graph.file(o.file)).filter(|f| f.folder);
        let folders: Vec<u32> = folders.filter_map(|f| snapshot.node(f.path.as_str())).collect();
        if !folders.is_empty() {
            let gone = |entry: Entry| Entry { roles: Roles::GONE, ..entry };
            news.entries.extend(seal.in_nodes(&folders).into_iter().map(|(path, entry)| (path, gone(entry))));
        }
        for change in &changes {
            let entry = seal.entry(change.number);
            if !folders.contains(&entry.node) {
                let path = seal.path(change.number).into();
                news.entries.insert(path, Entry { signature: change.now, ..entry });
            }
        }
        for (number, listing) in &relisted {
            if let Some(entry) = news.entries.get_mut(seal.path(*number)) {
                entry.listing = *listing;
            }
        }
        if let Some(again) = again {
            self.add_seen(&seal, &snapshot, &mut news);
            let graph = save_graph(path, Some(seal.graph), snapshot, again.trails.as_ref())?;
            let head = news.head.get_or_insert_default();
            (head.graph, head.steps) = (graph, again.steps);
            (head.gone, head.results) = (again.gone, again.results);
            for path in again.stale {
                news.entries.insert(path, Entry { roles: Roles::GONE, ..Entry::new(None) });
            }
        }
        for (path, entry) in built {
            let known = news.entries.entry(path).or_insert(entry);
            if !known.roles.has(Roles::READ) {
                known.signature = entry.signature;
            }
            known.node = entry.node;
            known.roles = known.roles.without(Roles::GONE);
        }
        match open_log(path, &seal) {
            Some(log) => {
                let own = |e| BuildProblem::Own(log_path(path), e);
                let (mut log, start) = log.map_err(own)?;
                log.write_all(&[start, news.log_entry()].concat()).map_err(own)
            }
            None => {
                seal.take(news);
                let _ = fs::remove_file(log_path(path));
                write_whole(path, &seal.to_new().encode())
            }
        }
    }

    /// What steps that were built looked at and made, as it is to be sealed; `None` where a file is so
    /// young that it may change without a trace.
    fn built_entries(&self, reached: &Reached, outcome: &Outcome) -> Option<BTreeMap<Arc<str>, Entry>> {
        let Reached { seal, snapshot, part, .. } = reached;
        let made = self.made_entries(&part.graph, self.own_steps(part), &part.requested)?;
        let known = |path: &str| seal.find(path).map(|number| seal.entry(number));
        let mut entries: BTreeMap<Arc<str>, Entry> = BTreeMap::new();
        for (path, entry) in &outcome.looked_at {
            if entry.is_some_and(|e| e.young) {
                return None;
            }
            let new = || match snapshot.node(path) {
                Some(node) => Entry { node, ..Entry::new(None) },
                None => Entry { roles: Roles::WHOLE, ..Entry::new(None) },
            };
            let signature = entry.map(|e| e.signature);
            entries.insert(path.clone(), Entry { signature, ..known(path).unwrap_or_else(new) });
        }
        for (path, (file, signature)) in made {
            let node = || snapshot.node(part.graph.file(file).path.as_str()).unwrap_or(seal::NO_NODE);
            let entry = known(&path).unwrap_or_else(|| Entry { node: node(), ..Entry::new(None) });
            entries.insert(path, Entry { signature, ..entry });
        }
        Some(entries)
    }

    /// What evaluation looked at when a part of the definitions was evaluated again.
    fn add_seen(&self, seal: &Seal, snapshot: &Snapshot, news: &mut News) {
        let seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        #[allow(clippy::iter_over_hash_type)] // Into a sorted map.
        for (path, entry) in &seen.files {
            let known = news.entries.get(path).copied().or_else(|| seal.find(path).map(|n| seal.entry(n)));
            let known = known.filter(|entry| !entry.roles.has(Roles::GONE));
            let node = || snapshot.node(path).unwrap_or(seal::NO_NODE);
            let (node, roles) = known.map_or_else(|| (node(), entry.roles), |k| (k.node, k.roles));
            let now = Entry { node, roles: roles.and(entry.roles), ..*entry };
            if known != Some(now) {
                news.entries.insert(path.clone(), now);
            }
        }
        for (path, signature) in self.machine.tools.looked_at() {
            let now = Entry { roles: Roles::WHOLE, ..Entry::new(signature) };
            if seal.find(&path).is_none() {
                news.entries.insert(path, now);
            }
        }
        let head = news.head.get_or_insert_default();
        let env = seen.env.iter().filter(|(name, _)| !seal.has_env(name));
        head.env = env.map(|(name, value)| (name.clone(), seal::env_digest(value.as_deref()))).collect();
        head.env.sort();
        let probes = seen.probes.iter().filter(|(request, _)| !seal.has_probe(request));
        head.probes = probes.map(|(r, answer)| (r.clone(), crate::probes::digest_of(answer))).collect();
    }

    pub(super) fn own_steps(&self, part: &Part) -> Vec<StepId> {
        let all = (0..part.graph.steps.len() as u32).map(StepId);
        all.filter(|step| !part.settled.contains(step)).collect()
    }

    /// Metadata of what some steps made and of results that were published, each with its file in the
    /// graph; `None` when a step is not remembered.
    pub(super) fn made_entries(
        &self,
        graph: &Graph,
        steps: impl IntoIterator<Item = StepId>,
        requested: &[FileId],
    ) -> Option<Made> {
        let mut entries = Made::new();
        for id in steps {
            let step = graph.step(id);
            let memory = self.state.steps.get(step.folder.as_str())?;
            let mut signatures = memory.signatures.iter();
            for (output, record) in step.outputs.iter().zip(&memory.outputs) {
                let path = graph.file(output.file).path.shared();
                match record {
                    OutputRecord::File { .. } => {
                        entries.insert(path.clone(), (output.file, Some(*signatures.next()?)));
                    }
                    OutputRecord::Folder(files) => {
                        // The folder's own times tell when a file is added to it.
                        entries.insert(path.clone(), (output.file, self.machine.check(path)));
                        for file in files {
                            let path = format!("{path}/{}", file.path).into();
                            entries.insert(path, (output.file, Some(*signatures.next()?)));
                        }
                    }
                }
            }
        }
        let out = self.results_folder();
        let wanted: FxHashSet<FileId> = requested.iter().copied().collect();
        for result in graph.targets.iter().flat_map(|t| &t.results).filter(|r| wanted.contains(&r.file)) {
            let path: Arc<str> = format!("{out}/{}", result.publish.as_str()).into();
            let published = self.state.published.get(&path);
            let signature = match published.as_ref().map(|(_, signatures)| signatures.as_slice()) {
                Some([signature]) => Some(*signature),
                _ => self.machine.check(&path),
            };
            entries.insert(path, (result.file, signature));
        }
        Some(entries)
    }

    /// Seals a request whose steps are all in place.
    pub(super) fn seal(
        &self,
        patterns: &[AddressPattern],
        evaluation: &Evaluation,
        outcome: &Outcome,
        results: &Results,
    ) -> Result<(), BuildProblem> {
        if !is_complete(outcome) || self.is_never_done(&evaluation.graph) {
            return Ok(());
        }
        let Some(entries) = self.seal_entries(evaluation, outcome) else { return Ok(()) };
        let path = self.seal_path(patterns);
        let folder = self.workspace.own_folder().join("seals");
        fs::create_dir_all(&folder).map_err(|e| BuildProblem::Own(folder.clone(), e))?;
        forget_old_seals(&folder);
        let trails = Trails::of(&evaluation.trail);
        let graph = save_graph(&path, None, Snapshot::of(evaluation, &trails), Some(&trails))?;
        let sealed = Sealed { steps: outcome.summary.steps, results: results.clone() };
        let seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let mut env: Vec<_> =
            seen.env.iter().map(|(n, v)| (n.clone(), seal::env_digest(v.as_deref()))).collect();
        env.sort();
        let mut probes: Vec<_> =
            seen.probes.iter().map(|(r, a)| (r.clone(), crate::probes::digest_of(a))).collect();
        probes.sort_by(|a, b| format!("{:?}", a.0).cmp(&format!("{:?}", b.0)));
        let _ = fs::remove_file(log_path(&path));
        write_whole(&path, &NewSeal { sealed, graph, env, probes, entries }.encode())
    }

    /// Forgets that a request had nothing to do.
    pub(super) fn break_seal(&self, patterns: &[AddressPattern]) {
        let _ = fs::remove_file(self.seal_path(patterns));
    }

    /// Everything that a request looked at; `None` when some file is too young.
    fn seal_entries(&self, evaluation: &Evaluation, outcome: &Outcome) -> Option<BTreeMap<Arc<str>, Entry>> {
        let graph = &evaluation.graph;
        let nodes: FxHashMap<&str, u32> =
            graph.files.iter().enumerate().map(|(n, f)| (f.path.as_str(), n as u32)).collect();
        let mut entries: BTreeMap<Arc<str>, Entry> = BTreeMap::new();
        let whole = |signature| Entry { roles: Roles::WHOLE, ..Entry::new(signature) };
        let seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        #[allow(clippy::iter_over_hash_type)] // Into a sorted map.
        for (path, entry) in &seen.files {
            let node = nodes.get(&**path).copied().unwrap_or(seal::NO_NODE);
            entries.insert(path.clone(), Entry { node, ..*entry });
        }
        drop(seen);
        for (path, entry) in &outcome.looked_at {
            if entry.is_some_and(|e| e.young) {
                return None;
            }
            let signature = entry.map(|e| e.signature);
            let node = nodes.get(&**path).copied();
            let new = Entry { node: node.unwrap_or(seal::NO_NODE), ..Entry::new(signature) };
            let entry = entries.entry(path.clone()).or_insert(new);
            if node.is_none() {
                entry.roles = entry.roles.and(Roles::WHOLE);
            }
            // What evaluation read must be what it was then.
            if !entry.roles.has(Roles::READ) {
                entry.signature = signature;
            }
        }
        entries.insert(crate::SETTINGS_FILE.into(), whole(self.machine.check(crate::SETTINGS_FILE)));
        for (path, signature) in &self.scans_looked_at {
            if *signature == Some(Signature::default()) {
                return None;
            }
            entries.insert(path.clone(), whole(*signature));
        }
        for (path, signature) in self.machine.tools.looked_at() {
            entries.insert(path, whole(signature));
        }
        let steps = Closure::of(graph, evaluation.requested.iter().copied()).steps;
        for (path, (node, signature)) in self.made_entries(graph, steps, &evaluation.requested)? {
            entries.insert(path, Entry { node: node.0, ..Entry::new(signature) });
        }
        Some(entries)
    }
}
