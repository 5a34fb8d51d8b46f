//! Sealing a finished request, and adding to its seal when some of its steps were built again.

use std::collections::BTreeMap;

use nubrik_bytes::{Digest, Encoder};
use nubrik_disk::Signature;
use nubrik_engine::{Outcome, OutsideFiles};
use nubrik_graph::{Closure, FileId, Graph, StepId};
use nubrik_lang::{AddressPattern, AnswerText, Evaluation};
use nubrik_memory::{
    Entry, NO_NODE, NewSeal, ReachedPart, Results, Roles, Seal, SealNews, Sealed, Snapshot, Trails,
    env_digest, forget_old_seals, save_graph, seal_path, write_seal,
};
use nubrik_source::{FilePath, WsPath};
use nubrik_store::{OutputRecord, TreeKind};
use rustc_hash::{FxHashMap, FxHashSet};

use super::standing::Reached;
use super::{BuildProblem, Session};

/// Metadata of what steps made, by path, each with its file in the graph.
pub(super) type Made = BTreeMap<FilePath, MadeEntry>;

/// Something that a step made, or a folder with such things in it.
pub(super) struct MadeEntry {
    pub file: FileId,
    pub signature: Option<Signature>,
    /// Whether it is a link.
    pub is_link: bool,
    /// Whether it is a folder, whose times are those of the file system and not of the memory.
    pub is_folder: bool,
}

impl MadeEntry {
    fn roles(&self) -> Roles {
        if self.is_link {
            Roles::ITSELF
        } else {
            Roles::default()
        }
    }
}

impl Session {
    /// Where the seal of a build is.
    pub(super) fn seal_path(&self, patterns: &[AddressPattern]) -> String {
        seal_path(&self.request_digest(patterns, "build"))
    }

    /// What tells requests apart, and what the same one is asked by and under.
    pub(super) fn request_digest(&self, patterns: &[AddressPattern], what: &str) -> Digest {
        let mut out = Encoder::new();
        out.text(what);
        out.text(env!("CARGO_PKG_VERSION"));
        out.text(
            &std::env::var_os("PATH")
                .unwrap_or_default()
                .to_string_lossy(),
        );
        out.list(patterns, |out, pattern| {
            out.text(pattern.path.as_str());
            out.u8(pattern.wanted as u8);
            out.bool(pattern.is_folder);
            out.bool(pattern.is_package());
        });
        out.text(self.results_folder().as_str());
        out.list(&self.settings, |out, setting| {
            out.text(&setting.name);
            out.text(&format!("{:?}", setting.value));
        });
        let program = std::env::current_exe().ok().and_then(|p| {
            self.machine
                .check(&FilePath::of_machine(&p.to_string_lossy()))
        });
        out.u64(program.map_or(0, |s| s.changed as u64));
        // How steps are confined decides what they see.
        out.text(&nubrik_machine::circumstances(&self.workspace.root));
        // Which steps this machine runs.
        out.list(&self.machine.labels(), |out, label| out.text(label));
        Digest::of(&out.bytes)
    }

    /// Whether a step runs each time, since it uses a service that runs somewhere else, or is to
    /// run again, since one had another address than usual; or what counts of the machine that runs
    /// it is to be asked each time.
    fn is_never_done(&self, graph: &Graph) -> bool {
        if !graph.steps.iter().all(|step| self.runs_here(step)) {
            return true;
        }
        graph
            .steps
            .iter()
            .filter(|step| !step.services.is_empty())
            .any(|step| {
                let memory = self.state().steps.get(step.folder.as_str());
                step.services.iter().any(|s| s.is_elsewhere())
                    || memory.is_none_or(|m| m.is_unusual())
            })
    }

    /// Adds to a seal what came of building some of its steps. Without that the old one stays: it
    /// is still true, and the same change is looked at once more.
    pub(super) fn seal_again(
        &self,
        reached: Reached,
        outcome: &Outcome,
    ) -> Result<(), BuildProblem> {
        let own = self.own()?;
        if self.is_never_done(&reached.part.graph) {
            return Ok(());
        }
        let Some(built) = self.built_entries(&reached, outcome) else {
            return Ok(());
        };
        let Reached {
            path,
            mut seal,
            changes,
            snapshot,
            part,
            again,
            relisted,
            ..
        } = reached;
        let gone = |entry: Entry| Entry {
            roles: Roles::GONE,
            ..entry
        };
        let mut news = SealNews::default();
        // What is in a folder that a step made may be other files now.
        let folders = self.made_folders(&part, &snapshot);
        if !folders.is_empty() {
            let inside = seal.in_nodes(&folders).into_iter();
            news.entries
                .extend(inside.map(|(path, entry)| (path, gone(entry))));
        }
        for change in &changes {
            let entry = seal.entry(change.number);
            if !folders.contains(&entry.node) {
                let path = FilePath::from_text(seal.path(change.number).into());
                let signature = change.now;
                news.entries.insert(path, Entry { signature, ..entry });
            }
        }
        for (number, listing) in &relisted {
            if let Some(entry) = news.entries.get_mut(seal.path(*number)) {
                entry.listing = *listing;
            }
        }
        if let Some(again) = again {
            self.add_seen(&seal, &snapshot, &mut news);
            let trails = again.trails.as_ref();
            let graph = save_graph(own, &path, Some(seal.graph), snapshot, trails)
                .map_err(|problem| self.own_problem(problem))?;
            let head = news.head.get_or_insert_default();
            (head.graph, head.steps) = (graph, again.steps);
            (head.gone, head.results) = (again.gone, again.results);
            for path in again.stale {
                news.entries
                    .insert(FilePath::from_text(path), gone(Entry::new(None)));
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
        seal.add(own, &path, news)
            .map_err(|problem| self.own_problem(problem))?;
        self.have_learnt(own, &path);
        Ok(())
    }

    /// The nodes of the folders that steps of a part make.
    fn made_folders(&self, part: &ReachedPart, snapshot: &Snapshot) -> Vec<u32> {
        let steps = self.own_steps(part).into_iter();
        let outputs = steps.flat_map(|step| &part.graph.step(step).outputs);
        let files = outputs.map(|output| part.graph.file(output.file));
        let folders = files.filter(|file| file.folder);
        folders
            .filter_map(|file| snapshot.node(file.path.as_str()))
            .collect()
    }

    /// What steps that were built looked at and made, as it is to be sealed; `None` where a file is
    /// so young that it may change without a trace.
    fn built_entries(
        &self,
        reached: &Reached,
        outcome: &Outcome,
    ) -> Option<BTreeMap<FilePath, Entry>> {
        let Reached {
            seal,
            snapshot,
            part,
            ..
        } = reached;
        let made = self.made_entries(&part.graph, self.own_steps(part), &part.requested)?;
        let known = |path: &str| seal.find(path).map(|number| seal.entry(number));
        let mut entries: BTreeMap<FilePath, Entry> = BTreeMap::new();
        for (path, entry) in &outcome.looked_at {
            if entry.is_some_and(|e| e.young) {
                return None;
            }
            let new = || match snapshot.node(path.as_str()) {
                Some(node) => Entry {
                    node,
                    ..Entry::new(None)
                },
                None => Entry {
                    roles: Roles::WHOLE,
                    ..Entry::new(None)
                },
            };
            let signature = entry.map(|e| e.signature);
            entries.insert(
                path.clone(),
                Entry {
                    signature,
                    ..known(path.as_str()).unwrap_or_else(new)
                },
            );
        }
        for (path, made) in made {
            let node = || {
                snapshot
                    .node(part.graph.file(made.file).path.as_str())
                    .unwrap_or(NO_NODE)
            };
            let entry = known(path.as_str()).unwrap_or_else(|| Entry {
                node: node(),
                ..Entry::new(None)
            });
            let roles = entry.roles.without(Roles::ITSELF).and(made.roles());
            entries.insert(
                path,
                Entry {
                    signature: made.signature,
                    roles,
                    ..entry
                },
            );
        }
        entries.extend(self.links_met());
        Some(entries)
    }

    /// What an evaluation rests on besides what it looked at itself: settings, files of probes, and
    /// tools. `None` where a file of a probe is so young that a later change of it might not show.
    pub(super) fn looked_at_besides(&self) -> Option<Vec<(FilePath, Entry)>> {
        let settings = FilePath::from(&WsPath::from_normal(crate::SETTINGS_FILE));
        let found = self.machine.check(&settings);
        let all = std::iter::once((settings, found)).chain(self.probes_looked_at.iter().cloned());
        if self
            .probes_looked_at
            .iter()
            .any(|(_, found)| *found == Some(Signature::default()))
        {
            return None;
        }
        let entry = |(path, found)| {
            (
                path,
                Entry {
                    roles: Roles::WHOLE,
                    ..Entry::new(found)
                },
            )
        };
        let tools = self.machine.tools_looked_at().into_iter();
        let tools = tools.map(|(path, found)| (FilePath::from_text(path), found));
        Some(all.chain(tools).map(entry).collect())
    }

    /// Links that steps see, by where they lead: besides what they lead to, which is looked at
    /// under the plain path.
    fn links_met(&self) -> impl Iterator<Item = (FilePath, Entry)> {
        self.machine
            .links_met()
            .into_iter()
            .map(|(path, signature)| {
                let roles = Roles::WHOLE.and(Roles::ITSELF);
                (
                    FilePath::of_link(&path),
                    Entry {
                        roles,
                        ..Entry::new(signature)
                    },
                )
            })
    }

    /// What evaluation looked at when a part of the definitions was evaluated again.
    fn add_seen(&self, seal: &Seal, snapshot: &Snapshot, news: &mut SealNews) {
        let seen = self.seen.lock();
        #[allow(clippy::iter_over_hash_type)] // Into a sorted map.
        for (path, entry) in &seen.files {
            let known = news
                .entries
                .get(path)
                .copied()
                .or_else(|| seal.find(path.as_str()).map(|n| seal.entry(n)));
            let known = known.filter(|entry| !entry.roles.has(Roles::GONE));
            let node = || snapshot.node(path.as_str()).unwrap_or(NO_NODE);
            let (node, roles) = known.map_or_else(|| (node(), entry.roles), |k| (k.node, k.roles));
            let now = Entry {
                node,
                roles: roles.and(entry.roles),
                ..*entry
            };
            if known != Some(now) {
                news.entries.insert(path.clone(), now);
            }
        }
        for (path, signature) in self.machine.tools_looked_at() {
            let now = Entry {
                roles: Roles::WHOLE,
                ..Entry::new(signature)
            };
            if seal.find(&path).is_none() {
                news.entries.insert(FilePath::from_text(path), now);
            }
        }
        let head = news.head.get_or_insert_default();
        let env = seen.env.iter().filter(|(name, _)| !seal.has_env(name));
        head.env = env
            .map(|(name, value)| (name.clone(), env_digest(value.as_deref())))
            .collect();
        head.env.sort();
        let samples = seen
            .samples
            .iter()
            .filter(|(request, _)| !seal.has_sample(request));
        head.samples = samples
            .map(|(r, answer)| (r.clone(), AnswerText::digest(answer)))
            .collect();
    }

    pub(super) fn own_steps(&self, part: &ReachedPart) -> Vec<StepId> {
        let all = (0..part.graph.steps.len() as u32).map(StepId);
        all.filter(|step| !part.settled.contains(step)).collect()
    }

    /// Metadata of what some steps made and of results that were published, each with its file in
    /// the graph; `None` when a step is not remembered.
    pub(super) fn made_entries(
        &self,
        graph: &Graph,
        steps: impl IntoIterator<Item = StepId>,
        requested: &[FileId],
    ) -> Option<Made> {
        let mut entries = Made::new();
        for id in steps {
            let step = graph.step(id);
            let memory = self.state().steps.get(step.folder.as_str())?;
            // What is not here cannot be edited.
            if memory.is_away {
                continue;
            }
            let mut signatures = memory.signatures.iter();
            for (output, record) in step.outputs.iter().zip(&memory.outputs) {
                let path = &graph.file(output.file).path;
                self.add_made(&mut entries, output.file, path, record, &mut signatures)?;
            }
        }
        let out = self.results_folder();
        let wanted: FxHashSet<FileId> = requested.iter().copied().collect();
        for result in graph
            .targets
            .iter()
            .flat_map(|t| &t.results)
            .filter(|r| wanted.contains(&r.file))
        {
            let path = out.join(result.publish.as_str());
            // What was put there was looked at then: what is there now may have been edited in the
            // meantime.
            let (_, signatures) = self.state().published.get(path.as_str())?;
            let record = self.record_of(graph, result.file)?;
            let mut signatures = signatures.iter();
            self.add_made(&mut entries, result.file, &path, &record, &mut signatures)?;
            if signatures.next().is_some() {
                return None;
            }
        }
        Some(entries)
    }

    /// What is remembered of an output's content.
    fn record_of(&self, graph: &Graph, file: FileId) -> Option<OutputRecord> {
        let maker = graph.step(graph.file(file).maker?);
        let at = maker
            .outputs
            .iter()
            .position(|output| output.file == file)?;
        self.state()
            .steps
            .get(maker.folder.as_str())?
            .outputs
            .get(at)
            .cloned()
    }

    /// Adds an output, or a copy of it, with all that is in it: each file by its metadata, and each
    /// folder, whose times tell when a name in it appears or goes.
    fn add_made<'s>(
        &self,
        entries: &mut Made,
        file: FileId,
        path: &WsPath,
        record: &OutputRecord,
        signatures: &mut impl Iterator<Item = &'s Signature>,
    ) -> Option<()> {
        let folder = |path: &WsPath| MadeEntry {
            file,
            signature: self.machine.check_itself(path),
            is_link: false,
            is_folder: true,
        };
        let inner = match record {
            OutputRecord::File { .. } => {
                let signature = Some(*signatures.next()?);
                entries.insert(
                    path.into(),
                    MadeEntry {
                        file,
                        signature,
                        is_link: false,
                        is_folder: false,
                    },
                );
                return Some(());
            }
            OutputRecord::Folder(inner) => inner,
        };
        entries.insert(path.into(), folder(path));
        for entry in inner {
            let signature = *signatures.next()?;
            let whole = path.join(&entry.path);
            for (at, _) in entry.path.match_indices('/') {
                let above = path.join(&entry.path[..at]);
                entries
                    .entry(FilePath::from(&above))
                    .or_insert_with(|| folder(&above));
            }
            let made = match entry.kind {
                TreeKind::EmptyFolder => folder(&whole),
                TreeKind::File { .. } | TreeKind::Link { .. } => MadeEntry {
                    file,
                    signature: Some(signature),
                    is_link: matches!(entry.kind, TreeKind::Link { .. }),
                    is_folder: false,
                },
            };
            entries.insert(FilePath::from(&whole), made);
        }
        Some(())
    }

    /// Seals a request whose steps are all in place.
    pub(super) fn seal(
        &self,
        patterns: &[AddressPattern],
        evaluation: &Evaluation,
        outcome: &Outcome,
        results: &Results,
    ) -> Result<(), BuildProblem> {
        if !outcome.is_complete() || self.is_never_done(&evaluation.graph) {
            return Ok(());
        }
        let Some(entries) = self.seal_entries(evaluation, outcome) else {
            return Ok(());
        };
        let (own, path) = (self.own()?, self.seal_path(patterns));
        forget_old_seals(own);
        let trails = Trails::of(&evaluation.trail);
        let graph = save_graph(
            own,
            &path,
            None,
            Snapshot::of(evaluation, &trails),
            Some(&trails),
        )
        .map_err(|problem| self.own_problem(problem))?;
        let sealed = Sealed {
            steps: outcome.summary.counts.steps,
            results: results.clone(),
        };
        let seen = self.seen.lock();
        let mut env: Vec<_> = seen
            .env
            .iter()
            .map(|(n, v)| (n.clone(), env_digest(v.as_deref())))
            .collect();
        env.sort();
        let mut samples: Vec<_> = seen
            .samples
            .iter()
            .map(|(r, a)| (r.clone(), AnswerText::digest(a)))
            .collect();
        samples.sort_by(|a, b| format!("{:?}", a.0).cmp(&format!("{:?}", b.0)));
        write_seal(
            own,
            &path,
            &NewSeal {
                sealed,
                graph,
                env,
                samples,
                entries,
            },
        )
        .map_err(|problem| self.own_problem(problem))?;
        self.have_learnt(own, &path);
        Ok(())
    }

    /// Forgets that a request had nothing to do.
    pub(super) fn break_seal(&self, patterns: &[AddressPattern]) {
        if let Ok(own) = self.own() {
            let _ = own.remove(&self.seal_path(patterns));
        }
    }

    /// Everything that a request looked at; `None` when some file is too young.
    fn seal_entries(
        &self,
        evaluation: &Evaluation,
        outcome: &Outcome,
    ) -> Option<BTreeMap<FilePath, Entry>> {
        let graph = &evaluation.graph;
        let nodes: FxHashMap<&str, u32> = graph
            .files
            .iter()
            .enumerate()
            .map(|(n, f)| (f.path.as_str(), n as u32))
            .collect();
        let mut entries: BTreeMap<FilePath, Entry> = BTreeMap::new();
        let seen = self.seen.lock();
        #[allow(clippy::iter_over_hash_type)] // Into a sorted map.
        for (path, entry) in &seen.files {
            let node = nodes.get(path.as_str()).copied().unwrap_or(NO_NODE);
            entries.insert(path.clone(), Entry { node, ..*entry });
        }
        drop(seen);
        for (path, entry) in &outcome.looked_at {
            if entry.is_some_and(|e| e.young) {
                return None;
            }
            let signature = entry.map(|e| e.signature);
            let node = nodes.get(path.as_str()).copied();
            let new = Entry {
                node: node.unwrap_or(NO_NODE),
                ..Entry::new(signature)
            };
            let entry = entries.entry(path.clone()).or_insert(new);
            if node.is_none() {
                entry.roles = entry.roles.and(Roles::WHOLE);
            }
            // What evaluation read must be what it was then.
            if !entry.roles.has(Roles::READ) {
                entry.signature = signature;
            }
        }
        entries.extend(self.looked_at_besides()?);
        let steps = Closure::of(graph, evaluation.requested.iter().copied()).steps;
        for (path, made) in self.made_entries(graph, steps, &evaluation.requested)? {
            let roles = made.roles();
            entries.insert(
                path,
                Entry {
                    node: made.file.0,
                    roles,
                    ..Entry::new(made.signature)
                },
            );
        }
        entries.extend(self.links_met());
        Some(entries)
    }
}
