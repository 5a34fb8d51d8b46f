//! Sealing a finished request, and going on from a seal: where little changed since, only what the
//! change reaches is taken out of the sealed graph and built.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError};

use nubrik_engine::{Listener, Options, Outcome, Outside, Request, Signature, build};
use nubrik_graph::{Closure, FileId, Graph, StepId};
use nubrik_lang::{AddressPattern, Answer, EntryKind, Evaluation, REQUEST, World};
use nubrik_source::WsPath;
use nubrik_store::{Digest, Encoder, OutputRecord};
use rustc_hash::{FxHashMap, FxHashSet};

use super::{BuildProblem, BuildReport, Session};
use crate::history::Chronicle;
use crate::results::Results;
use crate::seal::{self, Change, Entry, Names, NewSeal, News, Roles, Seal, Sealed};
use crate::snapshot::{Part, Snapshot};
use crate::splice::splice;
use crate::state_file::write_whole;
use crate::trails::Trails;
use crate::world::DiskWorld;

/// How many seals are kept in a workspace.
const SEALS: usize = 16;

/// How much they may take together, in bytes.
const SEALS_SIZE: u64 = 512 << 20;

/// Endings of the files of a seal; the first is the seal itself.
const SEAL_FILES: [&str; 6] = ["", GRAPHS[0], GRAPHS[1], "heap", "trails", "log"];

/// Endings of the two files in which a graph may lie: the older one is written over.
const GRAPHS: [&str; 2] = ["graph", "graph-2"];

/// Up to this many targets are always evaluated one by one.
const FEW: usize = 64;

/// The log of a seal may grow to this size before the seal is written anew, in bytes.
const LOG_LIMIT: u64 = 256 << 10;

/// What a request came to the last time, seen from now.
pub enum Standing {
    /// Nothing that it looked at has changed.
    Holds(Sealed),
    /// Some inputs or outputs of steps changed, and only they: the steps that this reaches.
    Reached(Box<Reached>),
    /// It is to be evaluated anew.
    Unknown,
}

/// The steps of a sealed request that a change reaches.
pub struct Reached {
    seal: Seal,
    snapshot: Snapshot,
    changes: Vec<Change>,
    part: Part,
    /// What came of evaluating a part of the definitions again.
    again: Option<Again>,
    /// Listed folders with other names in them, by their numbers in the seal.
    relisted: Vec<(usize, Names)>,
}

/// What came of evaluating a part of the definitions again.
struct Again {
    /// How many steps the request needs now.
    steps: usize,
    /// Results of the targets that were evaluated again, as they were.
    gone: Vec<String>,
    /// The same now.
    results: Vec<String>,
    /// Results that no target has any more.
    stale: Vec<Arc<str>>,
    /// What values were taken from now, where that is something else.
    trails: Option<Trails>,
}

/// What some changes touch.
#[derive(Default)]
struct Touched {
    /// Files of the graph.
    nodes: Vec<u32>,
    /// Declarations whose values may be others.
    units: Vec<u32>,
    /// Definition files.
    definitions: Vec<WsPath>,
    /// Listed folders with other names in them, by their numbers in the seal.
    relisted: Vec<(usize, Names)>,
}

/// Metadata of what steps made, by path, each with its file in the graph.
type Made = BTreeMap<Arc<str>, (FileId, Option<Signature>)>;

impl Reached {
    /// These steps, and those that they need.
    pub fn graph(&self) -> &Arc<Graph> {
        &self.part.graph
    }

    /// How many steps the change reaches, without those that they only need.
    pub fn steps(&self) -> usize {
        self.part.steps
    }

    /// How many steps the request needs, and where its results are.
    fn comes_to(&self) -> (usize, Results) {
        let Sealed { steps, results } = &self.seal.sealed;
        match &self.again {
            None => (*steps, results.clone()),
            Some(again) if again.gone == again.results => (again.steps, results.clone()),
            Some(again) => (again.steps, results.changed(&again.gone, &again.results)),
        }
    }
}

fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

fn is_complete(outcome: &Outcome) -> bool {
    let done = &outcome.summary;
    done.failed + done.blocked + done.left + done.unpublished == 0 && !outcome.cancelled
}

impl Session {
    fn seal_path(&self, patterns: &[AddressPattern]) -> PathBuf {
        let mut out = Encoder::new();
        out.text(env!("CARGO_PKG_VERSION"));
        out.text(&std::env::var_os("PATH").unwrap_or_default().to_string_lossy());
        out.list(patterns, |out, pattern| out.text(pattern.path.as_str()));
        out.text(&self.results_folder());
        out.list(&self.settings, |out, setting| {
            out.text(&setting.name);
            out.text(&format!("{:?}", setting.value));
        });
        let program = std::env::current_exe().ok().and_then(|p| self.machine.check(&p.to_string_lossy()));
        out.u64(program.map_or(0, |s| s.changed as u64));
        self.workspace.own_folder().join("seals").join(&Digest::of(&out.bytes).hex()[..24])
    }

    /// Looks whether what a request came to the last time still stands; where definitions changed, only
    /// what they reach is evaluated again. The session must hold the lock.
    pub fn standing(&self, patterns: &[AddressPattern]) -> Standing {
        let path = self.seal_path(patterns);
        let Some(seal) = read_seal(&path) else { return Standing::Unknown };
        let Some(changes) = seal.check(&self.machine, threads()) else { return Standing::Unknown };
        if changes.is_empty() {
            return Standing::Holds(seal.sealed);
        }
        let reached = read_snapshot(&path, &seal).and_then(|old| self.reached(patterns, seal, changes, old));
        reached.map_or(Standing::Unknown, |reached| Standing::Reached(Box::new(reached)))
    }

    fn reached(
        &self,
        patterns: &[AddressPattern],
        seal: Seal,
        changes: Vec<Change>,
        old: Snapshot,
    ) -> Option<Reached> {
        let path = self.seal_path(patterns);
        let definitions = changes.iter().any(|change| seal.entry(change.number).is_evaluated());
        let trails = if definitions { Some(read_trails(&path, &old)?) } else { None };
        let touched = self.touched(&seal, &changes, trails.as_ref())?;
        let (snapshot, changed, again) = match (trails, touched.units.is_empty()) {
            (Some(trails), false) => {
                let spliced = self.evaluate_again(patterns, &seal, &touched, &old, &trails)?;
                (spliced.0, spliced.1, Some(spliced.2))
            }
            _ => (old, Vec::new(), None),
        };
        let wanted = snapshot.reached(&touched.nodes, &changed);
        let part = snapshot.part(&wanted).ok()?;
        Some(Reached { seal, snapshot, changes, part, again, relisted: touched.relisted })
    }

    /// What some changes touch; `None` where everything may come to something else.
    fn touched(&self, seal: &Seal, changes: &[Change], trails: Option<&Trails>) -> Option<Touched> {
        let world = DiskWorld::new(&self.workspace.root, &self.machine, &self.answers);
        let mut touched = Touched::default();
        for change in changes {
            let entry = seal.entry(change.number);
            let path = seal.path(change.number);
            if entry.roles.has(Roles::WHOLE) {
                return None;
            }
            if entry.node != seal::NO_NODE {
                touched.nodes.push(entry.node);
            }
            if !entry.is_evaluated() {
                continue;
            }
            let trails = trails?;
            if entry.roles.has(Roles::READ)
                && let Some(file) = trails.file(path)
            {
                let text = fs::read_to_string(self.workspace.root.join(path)).unwrap_or_default();
                let names = nubrik_lang::declared_names(&text);
                touched.units.extend(trails.declared_in(file, |name| names.iter().any(|n| n == name)));
                touched.definitions.push(WsPath::from_normal(path));
                continue;
            }
            let path = if path == "." { "" } else { path };
            let mut looked_at = entry.roles.has(Roles::READ);
            looked_at |= entry.roles.has(Roles::KIND) && kind(entry.signature) != kind(change.now);
            if entry.roles.has(Roles::LISTED) {
                // A file put in place by renaming touches its folder: only names count.
                let Answer::Ready(listing) = world.list(&WsPath::from_normal(path)) else { return None };
                let names = Names::of(&listing);
                if names.packages != entry.listing.packages {
                    return None;
                }
                if names.all != entry.listing.all {
                    // The request itself looks for packages only.
                    let readers = trails.readers(path).iter().filter(|unit| **unit != REQUEST);
                    touched.units.extend(readers);
                    touched.relisted.push((change.number, names));
                }
            }
            if looked_at {
                let readers = trails.readers(path);
                if readers.is_empty() {
                    return None;
                }
                touched.units.extend(readers);
            }
        }
        Some(touched)
    }

    /// Whether a pattern for a folder may mean a target of a package on its way instead, as that stands now.
    fn may_mean(&self, file: &WsPath, pattern: &AddressPattern) -> bool {
        let Some(package) = file.parent().filter(|_| file.name() == nubrik_lang::TARGETS_FILE) else {
            return false;
        };
        if pattern.path.is_root() || !(pattern.path == package || pattern.path.is_in(&package)) {
            return false;
        }
        let name = match pattern.path.below(&package) {
            Some(rest) if !rest.is_empty() => rest.split('/').next().unwrap_or(rest),
            _ => pattern.path.name(),
        };
        let text = fs::read_to_string(self.workspace.root.join(file.as_str())).unwrap_or_default();
        nubrik_lang::declared_names(&text).iter().any(|n| n == name)
    }

    /// Evaluates what some declarations reach again, and puts it into the graph.
    fn evaluate_again(
        &self,
        patterns: &[AddressPattern],
        seal: &Seal,
        touched: &Touched,
        old: &Snapshot,
        trails: &Trails,
    ) -> Option<(Snapshot, Vec<usize>, Again)> {
        let [pattern] = patterns else { return None };
        if pattern.is_glob() || old.asked.len() != old.asked_units.len() {
            return None;
        }
        if old.asked.len() > 1 && touched.definitions.iter().any(|file| self.may_mean(file, pattern)) {
            return None;
        }
        let reached = trails.reached(touched.units.clone())?;
        let is_reached = |unit: u32| reached.get(unit as usize).is_some_and(|r| *r);
        let mut packages: Vec<WsPath> = Vec::new();
        let mut single: Vec<(WsPath, Arc<str>)> = Vec::new();
        let one = old.asked.len() == 1 && old.address(0).is_some_and(|a| a == pattern.path.as_str());
        let whole = |file: &&WsPath| file.name() == nubrik_lang::TARGETS_FILE && !one;
        for package in touched.definitions.iter().filter(whole).filter_map(WsPath::parent) {
            if package.is_in(&pattern.path) {
                packages.push(package);
            }
        }
        let again = (0..old.asked.len()).filter(|n| is_reached(old.asked_units[*n]));
        for (package, name) in again.filter_map(|n| old.place_of(n)) {
            if !packages.contains(&package) {
                single.push((package, name));
            }
        }
        // Most of everything is quicker evaluated as a whole, by several threads.
        if single.len() > FEW && single.len() * 3 > old.asked.len() {
            return None;
        }
        let evaluation = self.with_evaluator(|evaluator| evaluator.request_again(&packages, &single));
        let is_error = |d: &nubrik_diagnostic::Diagnostic| d.severity == nubrik_diagnostic::Severity::Error;
        if evaluation.waiting || !evaluation.scans.is_empty() || evaluation.diagnostics.iter().any(is_error) {
            return None;
        }
        let spliced = splice(old, trails, &reached, &evaluation)?;
        let out = self.results_folder();
        let results = self.result_paths(&evaluation);
        let mut gone: Vec<String> =
            spliced.published_before.iter().map(|path| format!("{out}/{path}")).collect();
        gone.sort();
        let before: FxHashSet<&str> = gone.iter().map(String::as_str).collect();
        let now: FxHashSet<&str> = results.iter().map(String::as_str).collect();
        // Two targets that make the same result: said when all is evaluated.
        let kept = |path: &str| seal.sealed.results.contains(path);
        if now.iter().any(|path| !before.contains(path) && kept(path)) {
            return None;
        }
        let mut stale: Vec<Arc<str>> =
            before.iter().filter(|path| !now.contains(*path)).map(|path| (*path).into()).collect();
        stale.sort();
        let steps = seal.sealed.steps + spliced.snapshot.steps.len() - old.steps.len();
        let trails = (spliced.trails != *trails).then_some(spliced.trails);
        let mut snapshot = spliced.snapshot;
        snapshot.trails = old.trails;
        Some((snapshot, spliced.changed, Again { steps, gone, results, stale, trails }))
    }

    /// Whether everything that the steps a change reaches take from others is remembered. The session must
    /// have loaded the state.
    pub fn remembers(&self, reached: &Reached) -> bool {
        let graph = &reached.part.graph;
        let Some(made) = self.made_entries(graph, reached.part.settled.iter().copied(), &[]) else {
            return false;
        };
        let sealed = |path: &str| reached.seal.find(path).and_then(|n| reached.seal.entry(n).signature);
        made.iter().all(|(path, (file, signature))| {
            // The times of a folder are those of the file system, not of the memory.
            sealed(path) == *signature || graph.file(*file).folder
        }) && reached.part.settled.iter().all(|step| {
            let memory = self.state.steps.get(graph.step(*step).folder.as_str());
            memory.is_some_and(|m| m.outputs.len() == graph.step(*step).outputs.len())
        })
    }

    /// Builds what a change reaches. The session must hold the lock and have loaded the state.
    pub fn build_reached(
        &mut self,
        patterns: &[AddressPattern],
        reached: Reached,
        listener: &dyn Listener,
        options: Options,
    ) -> Result<BuildReport, BuildProblem> {
        self.prepare(listener);
        let gone = reached.again.as_ref().map(|again| self.remove_results(&again.stale)).unwrap_or_default();
        let maker_elsewhere = |path: &str| reached.snapshot.maker_of(path).map(Arc::from);
        let request = Request {
            graph: &reached.part.graph,
            files: &reached.part.requested,
            settled: &reached.part.settled,
            maker_elsewhere: &maker_elsewhere,
        };
        let out = self.results_folder();
        let chronicle = Chronicle::new(listener, &reached.part.graph);
        let mut outcome = build(request, &out, &self.state, &self.machine, self.store(), &chronicle, options);
        outcome.changes.published.extend(gone);
        self.tidy_up(listener, &outcome);
        let (steps, results) = reached.comes_to();
        outcome.summary.current += steps.saturating_sub(outcome.summary.steps);
        outcome.summary.steps = steps;
        self.keep_history(patterns, chronicle, &outcome);
        self.remember(std::mem::take(&mut outcome.changes))?;
        if is_complete(&outcome) {
            self.seal_again(&self.seal_path(patterns), reached, &outcome)?;
        }
        Ok(BuildReport {
            summary: outcome.summary,
            results,
            cancelled: outcome.cancelled,
            machine_lacks: outcome.machine_lacks,
        })
    }

    /// Adds to a seal what came of building some of its steps. Without that the old one stays: it is still
    /// true, and the same change is looked at once more.
    fn seal_again(&self, path: &Path, reached: Reached, outcome: &Outcome) -> Result<(), BuildProblem> {
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

    fn own_steps(&self, part: &Part) -> Vec<StepId> {
        let all = (0..part.graph.steps.len() as u32).map(StepId);
        all.filter(|step| !part.settled.contains(step)).collect()
    }

    /// Metadata of what some steps made and of results that were published, each with its file in the
    /// graph; `None` when a step is not remembered.
    fn made_entries(
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
        if !is_complete(outcome) {
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

/// Whether something is a file, a folder, or not there.
fn kind(signature: Option<Signature>) -> Option<EntryKind> {
    signature.map(|s| if s.is_folder() { EntryKind::Folder } else { EntryKind::File })
}

/// Writes a file over what is there: giving a file's blocks back is slow on some disks. One that is written
/// in part only is not taken for whole, by its digest.
fn write_over(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut file = File::options().create(true).write(true).truncate(false).open(path)?;
    file.write_all(bytes)?;
    file.set_len(bytes.len() as u64)
}

/// Where what its steps and targets are lies.
fn heap_path(seal: &Path) -> PathBuf {
    seal.with_extension("heap")
}

/// Where what its declarations' values were taken from lies.
fn trails_path(seal: &Path) -> PathBuf {
    seal.with_extension("trails")
}

/// Where later changes of a seal lie.
fn log_path(seal: &Path) -> PathBuf {
    seal.with_extension("log")
}

fn read_seal(path: &Path) -> Option<Seal> {
    let bytes = nubrik_confine::map_file(path).ok()?;
    let log = fs::read(log_path(path)).unwrap_or_default();
    Seal::decode(Arc::new(bytes), &log).ok()
}

fn read_snapshot(path: &Path, seal: &Seal) -> Option<Snapshot> {
    let heap = nubrik_confine::map_file(&heap_path(path)).ok()?;
    let maps = GRAPHS.iter().filter_map(|ending| nubrik_confine::map_file(&path.with_extension(ending)).ok());
    let bytes = maps.into_iter().find(|bytes| Snapshot::digest_in(bytes) == seal.graph)?;
    Snapshot::decode(&bytes, Arc::new(heap)).ok()
}

fn read_trails(path: &Path, snapshot: &Snapshot) -> Option<Trails> {
    let bytes = nubrik_confine::map_file(&trails_path(path)).ok()?;
    Trails::decode(&bytes, snapshot.trails).ok()
}

/// Writes a graph, and its trails where they are new; gives its digest.
fn save_graph(
    path: &Path,
    old: Option<Digest>,
    mut snapshot: Snapshot,
    trails: Option<&Trails>,
) -> Result<Digest, BuildProblem> {
    if snapshot.is_wasteful() {
        snapshot = snapshot.compacted();
    }
    if let Some(trails) = trails {
        let bytes = trails.encode();
        snapshot.trails = Trails::digest_in(&bytes);
        write_whole(&trails_path(path), &bytes)?;
    }
    let heap = heap_path(path);
    snapshot.heap.save(&heap).map_err(|e| BuildProblem::Own(heap, e))?;
    let graph = snapshot.encode();
    let is_old = |path: &PathBuf| {
        let mut start = [0; 40];
        let read = File::open(path).and_then(|mut file| io::Read::read_exact(&mut file, &mut start));
        read.is_ok() && old == Some(Snapshot::digest_in(&start))
    };
    let [one, other] = GRAPHS.map(|ending| path.with_extension(ending));
    let place = if is_old(&one) { other } else { one };
    write_over(&place, &graph).map_err(|e| BuildProblem::Own(place, e))?;
    Ok(Snapshot::digest_in(&graph))
}

/// The log of a seal, to be added to, and how it begins where it is new; `None` where the seal is to be
/// written anew.
fn open_log(path: &Path, seal: &Seal) -> Option<io::Result<(File, Vec<u8>)>> {
    let log = match File::options().create(true).append(true).open(log_path(path)) {
        Ok(log) => log,
        Err(e) => return Some(Err(e)),
    };
    let length = log.metadata().map_or(u64::MAX, |m| m.len());
    if length != seal.log_length || length > LOG_LIMIT {
        return None;
    }
    Some(Ok((log, if length == 0 { seal.log_header() } else { Vec::new() })))
}

/// Removes the oldest seals, so that neither their number nor their size grows.
fn forget_old_seals(folder: &Path) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    let dated = entries.flatten().filter_map(|e| Some((e.metadata().ok()?.modified().ok()?, e.path())));
    let mut seals: Vec<_> = dated.filter(|(_, path)| path.extension().is_none()).collect();
    seals.sort();
    let mut size = 0;
    for (number, (_, path)) in seals.iter().rev().enumerate() {
        let files = SEAL_FILES.map(|ending| path.with_extension(ending));
        size += files.iter().filter_map(|file| fs::metadata(file).ok()).map(|data| data.len()).sum::<u64>();
        // The one that is about to be written is one more.
        if number + 1 >= SEALS || size > SEALS_SIZE {
            files.iter().for_each(|file| drop(fs::remove_file(file)));
        }
    }
}
