//! What a command asks for: targets by address, evaluated together.

use std::collections::BTreeSet;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_graph::{Edge, Effect, FileId, Graph, Role, Service, StepId, TargetId, is_acyclic};
use nubrik_source::{Sources, Span, WsPath};
use rustc_hash::FxHashMap;
use smallvec::{SmallVec, smallvec};

use super::addresses::Meaning;
use super::published::check_published;
use super::{Evaluator, Result, Stop};
use crate::address::{AddressPattern, Wanted};
use crate::cycles::References;
use crate::hir::*;
use crate::modules::Modules;
use crate::output::published_name;
use crate::rows::digest;
use crate::value::*;

/// What came of evaluating some requests.
pub struct Evaluation {
    /// Everything that the requests reach.
    pub graph: Graph,
    /// The results asked for, without repeats, in the order asked.
    pub requested: Vec<FileId>,
    /// The targets asked for, without repeats, in order.
    pub targets: Vec<TargetId>,
    /// What was wrong, sorted by place, each once.
    pub diagnostics: Vec<Diagnostic>,
    /// The texts that spans in the diagnostics point into.
    pub sources: Sources,
    /// Definition files of the workspace that were read.
    pub read: Vec<WsPath>,
    /// Outputs of scans whose answers are wanted: to be made, and told to the world.
    pub scans: Vec<FileId>,
    /// What the jobs that are asked for do, in order.
    pub effects: Vec<Effect>,
    /// Services that are asked for.
    pub services: Vec<Arc<Service>>,
    /// Targets that were named where tests are wanted: only tests that use one of them, or that are named
    /// themselves, are meant.
    pub through: Vec<TargetId>,
    /// Options with who reached them; only where they were asked for.
    pub options: Vec<super::OptionInfo>,
    /// What values were taken from; empty where nobody watched.
    pub trail: crate::trail::Trail,
    /// Digests of the keys of the graph's rows; only where graphs are to be put together.
    pub(crate) digests: RowDigests,
    /// Whether answers of the world were missing: then everything else is not final, and evaluation
    /// is to be asked again with the same world.
    pub waiting: bool,
}

/// Digests of the keys by which rows of two graphs are told to be the same, by the rows' numbers.
#[derive(Default)]
pub(crate) struct RowDigests {
    /// Of the files' paths.
    pub files: Vec<u32>,
    /// Of the steps' folders.
    pub steps: Vec<u32>,
    /// Of the targets' addresses.
    pub targets: Vec<u32>,
}

/// A declaration: its module and its number there.
type DeclKey = (ModuleId, u32);

/// A use of one declaration by another, by their numbers, and where it stands.
type NumberedEdge = (u32, u32, Span);

impl Evaluator<'_> {
    /// Evaluates what the patterns ask for. A pattern that means nothing is an error without a place.
    pub fn request(mut self, patterns: &[AddressPattern]) -> Evaluation {
        let mut meanings: Vec<Meaning> = Vec::new();
        let mut seen = BTreeSet::new();
        for pattern in patterns {
            for meaning in self.select(pattern).unwrap_or_default() {
                if seen.insert((meaning.module, meaning.decl, meaning.way.clone())) {
                    meanings.push(meaning);
                }
            }
        }
        self.evaluate_all(&meanings)
    }

    /// Evaluates all targets of some packages; what packages of others publish under the same name is left
    /// to the one who puts several such evaluations together.
    pub(crate) fn request_packages(mut self, packages: &[WsPath], wanted: Wanted) -> Evaluation {
        packages.iter().for_each(|package| self.modules.belongs(package));
        let lists = self.all(packages, |this, folder| this.targets_of(folder, wanted)).unwrap_or_default();
        self.wants_digests = true;
        self.evaluate_all(&lists.concat())
    }

    /// Evaluates all targets of some packages, and single ones of others. What is not there any more is
    /// passed over.
    pub fn request_again(
        mut self,
        packages: &[WsPath],
        single: &[(WsPath, Arc<str>)],
        wanted: Wanted,
    ) -> Evaluation {
        let mut meanings = Vec::new();
        for folder in packages {
            meanings.extend(self.targets_of(folder, wanted).unwrap_or_default());
        }
        for (folder, name) in single {
            let all = self.targets_of(folder, Wanted::Everything).unwrap_or_default();
            meanings.extend(all.into_iter().filter(|m| {
                let module = self.modules.get(m.module);
                module.decls[m.decl as usize].name.text == *name
            }));
        }
        self.evaluate_all(&meanings)
    }

    /// The packages at and below a folder that a pattern means; none where it means a target.
    pub(crate) fn packages_meant(mut self, pattern: &AddressPattern) -> Vec<WsPath> {
        if pattern.is_folder {
            return self.packages_below(&pattern.path).unwrap_or_default();
        }
        match self.meanings(&pattern.path) {
            Ok(meanings) if !meanings.iter().any(|m| self.is_target(m)) => {
                self.packages_below(&pattern.path).unwrap_or_default()
            }
            _ => Vec::new(),
        }
    }

    fn evaluate_all(mut self, meanings: &[Meaning]) -> Evaluation {
        let roots: Vec<DeclKey> = meanings.iter().map(|m| (m.module, m.decl)).collect();
        let chains = self.find_cycles(&roots);
        let mut evaluated = self.evaluate_chains(&chains, meanings);
        let mut requested = Vec::new();
        let mut targets = Vec::new();
        let mut seen: Vec<bool> = Vec::new();
        for (number, meaning) in meanings.iter().enumerate() {
            let kind = self.module(meaning.module).decls[meaning.decl as usize].kind;
            // A job may want what only the one who runs it has.
            let on_call = matches!(kind, DeclKind::Job | DeclKind::Service);
            let known = evaluated.get_mut(number).and_then(Option::take);
            if (!on_call || self.evaluates_jobs)
                && let Ok(files) = known.unwrap_or_else(|| self.evaluate_target(meaning))
            {
                requested.extend(files);
            }
            let target = self.target_of(meaning.module, meaning.decl);
            if on_call {
                let kind = if kind == DeclKind::Job { "effect" } else { "service" };
                self.graph.targets[target.index()].kind = kind.into();
            }
            let number = target.index();
            if seen.len() <= number {
                seen.resize(number + 1, false);
            }
            if !std::mem::replace(&mut seen[number], true) {
                targets.push(target);
            }
        }
        // Which options jobs read is wanted even where they lack something. They come last, so that nothing
        // else fails without a word.
        if self.wants_options && !self.evaluates_jobs {
            let known = self.modules.diagnostics.len();
            let is_job = |m: &&Meaning| {
                let kind = self.module(m.module).decls[m.decl as usize].kind;
                matches!(kind, DeclKind::Job | DeclKind::Service)
            };
            let jobs: Vec<Meaning> = meanings.iter().filter(is_job).cloned().collect();
            for job in &jobs {
                let _ = self.evaluate_target(job);
            }
            self.modules.diagnostics.truncate(known);
            self.asked_effects.clear();
            self.asked_services.clear();
        }
        let errors = check_published(&self.graph);
        self.modules.diagnostics.extend(errors);
        if self.linting
            && !self.waiting
            && self.modules.diagnostics.iter().all(|d| d.severity != Severity::Error)
        {
            self.doubts();
        }
        let mut seen = vec![false; self.graph.files.len()];
        requested.retain(|f: &FileId| !std::mem::replace(&mut seen[f.index()], true));
        self.finish(requested, targets)
    }

    /// Evaluates declarations that need one another in a long chain, from its end on, so that the stack does not grow with
    /// the chain. `chains` is the order in which they come after what they refer to; empty where no chain is long. Gives
    /// what came of those that are meant, by their places.
    fn evaluate_chains(
        &mut self,
        chains: &[DeclKey],
        meanings: &[Meaning],
    ) -> Vec<Option<Result<Vec<FileId>>>> {
        let mut evaluated = Vec::new();
        if chains.is_empty() {
            return evaluated;
        }
        evaluated.resize_with(meanings.len(), || None);
        let mut places: FxHashMap<DeclKey, Vec<usize>> = FxHashMap::default();
        for (number, meaning) in meanings.iter().enumerate() {
            places.entry((meaning.module, meaning.decl)).or_default().push(number);
        }
        for key in chains {
            let module = self.module(key.0);
            let decl = &module.decls[key.1 as usize];
            match places.get(key) {
                _ if !matches!(decl.kind, DeclKind::Target | DeclKind::Test | DeclKind::Value) => {}
                Some(places) => {
                    for number in places {
                        evaluated[*number] = Some(self.evaluate_target(&meanings[*number]));
                    }
                }
                // Whether it is needed shows when what refers to it is evaluated: then it is told if it is wrong.
                None => {
                    self.modules.entered(key.0);
                    let known = self.modules.diagnostics.len();
                    if self.declaration(key.0, key.1, self.chosen, decl.name.span).is_err() {
                        self.modules.diagnostics.truncate(known);
                        self.forget_failure(*key);
                    }
                }
            }
        }
        evaluated
    }

    /// Evaluates everything there is, and also reports what is only questionable.
    pub fn lint(mut self) -> Evaluation {
        let packages = self.packages_below(&WsPath::root()).unwrap_or_default();
        for folder in &packages {
            if let Ok(Some(module)) = self.load_package(folder) {
                let uses = self.module(module).uses.len() as u32;
                for number in 0..uses {
                    let _ = self.modules.used(self.world, module, number);
                }
            }
        }
        for id in 0..self.modules.modules.len() {
            let module = self.modules.modules[id].clone();
            self.modules.diagnostics.extend(crate::lints::unused(&module));
            self.modules.diagnostics.extend(crate::lints::needless_shells(&module));
        }
        self.linting = true;
        self.evaluates_jobs = true;
        self.request(&[AddressPattern::below(&WsPath::root())])
    }

    /// What is doubtful about everything that was evaluated.
    fn doubts(&mut self) {
        let read: BTreeSet<_> = self.target_reads.values().flat_map(|r| r.iter().map(|(o, _)| *o)).collect();
        for id in 0..self.modules.modules.len() as u32 {
            let module = self.module(ModuleId(id));
            let options = module.decls.iter().enumerate().filter(|(_, d)| d.kind == DeclKind::Option);
            for (number, _) in options {
                // Kits of others may offer more than this workspace uses.
                if module.folder.is_some() && !read.contains(&(ModuleId(id), number as u32)) {
                    self.modules.diagnostics.push(crate::lints::unread_option(&module, number as u32));
                }
            }
        }
        let title = |id: TargetId| self.graph.targets[id.index()].address.clone();
        let overlapping = crate::lints::overlapping_globs(&self.globs, title);
        self.modules.diagnostics.extend(overlapping);
    }

    fn finish(mut self, requested: Vec<FileId>, targets: Vec<TargetId>) -> Evaluation {
        let options = if self.wants_options { self.option_infos() } else { Vec::new() };
        let digests = match self.wants_digests {
            true => RowDigests {
                files: self.files.digests(),
                steps: self.steps.digests(),
                targets: self.graph.targets.iter().map(|t| digest(&t.address)).collect(),
            },
            false => RowDigests::default(),
        };
        let modules = std::mem::take(&mut self.modules);
        let mut diagnostics = modules.diagnostics;
        diagnostics.sort_by_key(|d| (d.span.map(|s| (s.file, s.start, s.end)), d.severity));
        let mut kept: Vec<Diagnostic> = Vec::new();
        for diagnostic in diagnostics {
            if !kept.contains(&diagnostic) {
                kept.push(diagnostic);
            }
        }
        Evaluation {
            graph: std::mem::take(&mut self.graph),
            requested,
            targets,
            diagnostics: kept,
            sources: modules.sources,
            read: modules.read,
            waiting: self.waiting,
            scans: std::mem::take(&mut self.scans),
            effects: std::mem::take(&mut self.asked_effects)
                .into_iter()
                .map(|number| self.effects[number as usize].clone())
                .collect(),
            services: std::mem::take(&mut self.asked_services),
            through: std::mem::take(&mut self.through),
            options,
            digests,
            trail: self.watched.map(crate::trail::Watched::trail).unwrap_or_default(),
        }
    }

    // Selecting.

    fn select(&mut self, pattern: &AddressPattern) -> Result<Vec<Meaning>> {
        if pattern.is_glob() {
            return self.select_glob(pattern);
        }
        let meanings: Vec<Meaning> = match pattern.is_folder {
            true => Vec::new(),
            false => self.meanings(&pattern.path)?.into_iter().filter(|m| self.is_target(m)).collect(),
        };
        match meanings.as_slice() {
            [meaning] => {
                let kind = self.module(meaning.module).decls[meaning.decl as usize].kind;
                self.evaluates_jobs |= matches!(kind, DeclKind::Job | DeclKind::Service);
                if pattern.wanted != Wanted::Tests || kind == DeclKind::Test {
                    return Ok(meanings);
                }
                let target = self.target_of(meaning.module, meaning.decl);
                self.through.push(target);
                let packages = self.packages_below(&WsPath::root())?;
                let lists = self.all(&packages, |this, folder| this.targets_of(folder, Wanted::Tests))?;
                return Ok(lists.concat());
            }
            [] => {}
            _ => {
                let error =
                    Diagnostic::error("two-meanings", format!("`{}` means two things", pattern.written));
                let error = meanings.iter().fold(error, |error, m| {
                    let module = self.module(m.module);
                    error.related(module.decls[m.decl as usize].name.span, "one of them")
                });
                self.modules.diagnostics.push(error);
                return Err(Stop::Failed);
            }
        }
        let mut packages = self.packages_below(&pattern.path)?;
        let is_ours = matches!(
            self.modules.other_workspace(self.world, &pattern.path),
            crate::world::Answer::Ready(None)
        );
        if packages.is_empty() && pattern.is_folder && is_ours && self.is_folder(&pattern.path) {
            packages.extend(self.package_around(&pattern.path)?);
        }
        if packages.is_empty() {
            let error = if pattern.path.is_root() {
                Diagnostic::error("no-targets", "there is no `targets.nub` in this workspace")
                    .mend("nubrik init   writes a first one")
            } else if pattern.is_folder && is_ours {
                let message = format!(
                    "`{}` belongs to no package: no `targets.nub` is there, below it or above it",
                    pattern.path
                );
                Diagnostic::error("unknown-address", message).mend("nubrik list /   shows what there is")
            } else {
                self.no_such_address(&pattern.path)
            };
            self.modules.diagnostics.push(error);
            return Err(Stop::Failed);
        }
        let lists = self.all(&packages, |this, folder| this.targets_of(folder, pattern.wanted))?;
        Ok(lists.concat())
    }

    fn is_target(&self, meaning: &Meaning) -> bool {
        let module = self.modules.get(meaning.module);
        module.decls[meaning.decl as usize].kind.role() != Role::Inner
    }

    fn targets_of(&mut self, folder: &WsPath, wanted: Wanted) -> Result<Vec<Meaning>> {
        let Some(id) = self.load_package(folder)? else { return Ok(Vec::new()) };
        let module = self.module(id);
        let targets = module.decls.iter().enumerate().filter(|(_, d)| wanted.holds(d.kind.role()));
        Ok(targets.map(|(n, _)| Meaning { module: id, decl: n as u32, way: Vec::new() }).collect())
    }

    fn select_glob(&mut self, pattern: &AddressPattern) -> Result<Vec<Meaning>> {
        let mut selected = Vec::new();
        let packages = self.packages_below(&pattern.start())?;
        // A glob may also reach into a target of a package above its first wildcard.
        let above = std::iter::successors(pattern.start().parent(), WsPath::parent);
        let all: BTreeSet<WsPath> = packages.into_iter().chain(above).collect();
        for folder in all {
            for meaning in self.targets_of(&folder, pattern.wanted)? {
                let name = self.module(meaning.module).decls[meaning.decl as usize].name.text.clone();
                let address = folder.child(&name);
                if pattern.matches(address.as_str()) {
                    selected.push(meaning);
                } else if address.is_in(&pattern.start()) || pattern.start().is_in(&address) {
                    selected.extend(self.entries_matching(&meaning, &address, pattern)?);
                }
            }
        }
        if selected.is_empty() {
            let error =
                Diagnostic::error("unknown-address", format!("no target matches `{}`", pattern.written));
            self.modules.diagnostics.push(error.mend("`nubrik list` shows what there is"));
            return Err(Stop::Failed);
        }
        Ok(selected)
    }

    fn entries_matching(
        &mut self,
        meaning: &Meaning,
        address: &WsPath,
        pattern: &AddressPattern,
    ) -> Result<Vec<Meaning>> {
        let module = self.module(meaning.module);
        let decl = &module.decls[meaning.decl as usize];
        let is_map = decl
            .body
            .is_some_and(|b| matches!(module.expr(b), Expr::Map(_) | Expr::Each(_) | Expr::Record(_)));
        if !is_map {
            return Ok(Vec::new());
        }
        let keys: Vec<Arc<str>> =
            match self.declaration(meaning.module, meaning.decl, self.chosen, decl.name.span)? {
                Value::Map(map) => map.entries.iter().map(|(k, _)| k.clone()).collect(),
                Value::Record(record) => record.fields.iter().map(|(n, _)| n.clone()).collect(),
                _ => Vec::new(),
            };
        let fitting = keys.into_iter().filter(|k| pattern.matches(&format!("{}/{k}", address.as_str())));
        Ok(fitting.map(|key| Meaning { way: vec![key], ..meaning.clone() }).collect())
    }

    // Evaluating.

    fn evaluate_target(&mut self, meaning: &Meaning) -> Result<Vec<FileId>> {
        let module = self.module(meaning.module);
        let decl = &module.decls[meaning.decl as usize];
        let span = decl.name.span;
        let whole = self.declaration(meaning.module, meaning.decl, self.chosen, span)?;
        let target = self.target_of(meaning.module, meaning.decl);
        let value = self.way_into(whole, &meaning.way, span)?;
        match decl.kind {
            DeclKind::Test => {
                let mut verdicts = Vec::new();
                self.verdicts(&value, &decl.name.text, span, &mut verdicts)?;
                return Ok(verdicts);
            }
            DeclKind::Job => {
                let mut effects = Vec::new();
                // All of them are right, and none is asked for, where everything is looked at.
                if self.linting && matches!(value, Value::Map(_)) {
                    return Ok(Vec::new());
                }
                self.effects_of(&value, &decl.name.text, span, &mut effects)?;
                let inputs = effects.iter().flat_map(|e| self.effects[*e as usize].step.inputs.clone());
                let made: Vec<FileId> =
                    inputs.filter(|f| self.graph.files[f.index()].maker.is_some()).collect();
                self.asked_effects.extend(effects);
                return Ok(made);
            }
            DeclKind::Service => {
                let mut services = Vec::new();
                self.services_of(&value, &decl.name.text, span, &mut services)?;
                if self.linting {
                    return Ok(Vec::new());
                }
                let files = services.iter().flat_map(|s| s.files.clone()).filter(|f| f.maker.is_some());
                let files: Vec<FileRef> = files.collect();
                self.asked_services.extend(services.iter().map(|s| s.service.clone()));
                return Ok(files.iter().map(|f| self.file_id(f)).collect());
            }
            _ => {}
        }
        let mut parts: SmallVec<[Arc<str>; 2]> = smallvec![decl.name.text.clone()];
        parts.extend(meaning.way.iter().cloned());
        let before = self.graph.targets[target.index()].results.len();
        self.publish(&value, &parts, target, span)?;
        let results = &mut self.graph.targets[target.index()].results;
        let files: Vec<FileId> = results[before..].iter().map(|r| r.file).collect();
        if results.len() > 1 {
            let mut seen = BTreeSet::new();
            results.retain(|r| seen.insert((r.file, r.publish.clone())));
        }
        Ok(files)
    }

    /// Enters the results of a value, each under its readable name.
    fn publish(&mut self, value: &Value, parts: &[Arc<str>], target: TargetId, span: Span) -> Result<()> {
        self.check_nesting(parts.len(), span)?;
        let inner: Vec<(Arc<str>, Value)> = match value {
            Value::Map(map) => {
                self.all(&map.entries, |this, (key, thunk)| Ok((key.clone(), this.force(thunk, span)?)))?
            }
            Value::Record(record) if record.get("files").is_none() => record
                .fields
                .iter()
                .filter(|(_, v)| {
                    matches!(
                        v,
                        Value::Step(_)
                            | Value::File(_)
                            | Value::Files(_)
                            | Value::List(_)
                            | Value::Map(_)
                            | Value::Record(_)
                    )
                })
                .cloned()
                .collect(),
            Value::Text(_) | Value::Int(_) | Value::Bool(_) | Value::None => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("a target makes files, and this one is {}", value.described()),
                );
                let name = &parts[0];
                return self.fail(span, error.mend(format!("let {name} = …")));
            }
            Value::List(items)
                if !items.iter().all(|i| {
                    matches!(
                        i,
                        Value::Step(_) | Value::File(_) | Value::Files(_) | Value::Record(_) | Value::List(_)
                    )
                }) =>
            {
                Vec::new()
            }
            Value::Service(_) => {
                let error =
                    Diagnostic::error("wrong-type", "a target makes files, and this one is a service");
                return self.fail(span, error.mend(format!("service {} = serve {{ … }}", parts[0])));
            }
            value => {
                if let Value::Step(number) = value {
                    self.refuse_check(StepId(*number), &parts.join("/"), span)?;
                }
                let files = self.files_of(value, span)?;
                return self.publish_files(files, parts, target);
            }
        };
        for (key, value) in &inner {
            let mut parts = parts.to_vec();
            parts.push(key.clone());
            self.publish(value, &parts, target, span)?;
        }
        Ok(())
    }

    fn publish_files(&mut self, files: Vec<FileRef>, parts: &[Arc<str>], target: TargetId) -> Result<()> {
        let whole = &self.graph.targets[target.index()];
        let package = whole.package.clone();
        let address = match parts {
            [_] => whole.address.clone(),
            _ => package.join(&parts.join("/")).shared().clone(),
        };
        let made: Vec<FileRef> = files.into_iter().filter(|f| f.maker.is_some()).collect();
        self.graph.targets[target.index()].results.reserve_exact(made.len());
        for file in &made {
            let step = file.maker.map_or(0, |m| m as usize);
            let written = file.path.below(&self.graph.steps[step].folder).unwrap_or(file.path.name());
            let publish = published_name(&package, parts, written, made.len() == 1);
            let id = self.file_id(file);
            self.graph.targets[target.index()].results.push(nubrik_graph::ResultFile {
                address: address.clone(),
                file: id,
                publish,
            });
        }
        Ok(())
    }

    // Cycles.

    /// Reports declarations that lead back to themselves, starting from some, and marks them failed. Where there is none,
    /// gives all that is reached behind what it refers to, if some of that is a long chain.
    fn find_cycles(&mut self, roots: &[DeclKey]) -> Vec<DeclKey> {
        let (nodes, edges) = self.reached(roots);
        let between: Vec<Edge> = edges.iter().map(|&(from, to, _)| Edge { from, to }).collect();
        let mut chains = Vec::new();
        // Nearly always: then nothing needs a name.
        if is_acyclic(nodes.len() as u32, &between) {
            let (order, longest) = needs_first(nodes.len(), &between);
            if longest > LONG_CHAIN {
                chains.extend(order.into_iter().map(|number| nodes[number as usize]));
            }
        } else {
            let mut references: References<DeclKey> = References::new();
            for key in &nodes {
                let module = self.module(key.0);
                references.node(key, || title(&module.decls[key.1 as usize]));
            }
            edges.iter().for_each(|&(from, to, span)| references.edge(from, to, span));
            let (errors, failed) = references.cycles();
            self.modules.diagnostics.extend(errors);
            for key in failed {
                self.mark_failed(key);
            }
        }
        self.find_kit_cycles();
        chains
    }

    /// Everything that some declarations lead to, in the order in which it is met, and which of them refers to
    /// which by number, where. Maps refer to nothing: whether one needs itself shows when its entries are
    /// evaluated.
    fn reached(&mut self, roots: &[DeclKey]) -> (Vec<DeclKey>, Vec<NumberedEdge>) {
        let mut numbers: Vec<Vec<Option<u32>>> = Vec::new();
        let mut nodes: Vec<DeclKey> = Vec::with_capacity(roots.len());
        let mut edges = Vec::with_capacity(roots.len());
        let mut number_of = |modules: &Modules, nodes: &mut Vec<DeclKey>, key: DeclKey| {
            let index = key.0.index();
            if numbers.len() <= index {
                numbers.resize_with(index + 1, Vec::new);
            }
            if numbers[index].is_empty() {
                numbers[index].resize(modules.get(key.0).decls.len(), None);
            }
            *numbers[index][key.1 as usize].get_or_insert_with(|| {
                nodes.push(key);
                nodes.len() as u32 - 1
            })
        };
        for root in roots {
            number_of(&self.modules, &mut nodes, *root);
        }
        let mut at = 0;
        while at < nodes.len() {
            let (key, from) = (nodes[at], at as u32);
            at += 1;
            let module = self.module(key.0);
            let decl = &module.decls[key.1 as usize];
            let lazy = is_lazy(&module, decl);
            for reference in &decl.references {
                let Some(to) = self.follow(key.0, reference) else { continue };
                let number = number_of(&self.modules, &mut nodes, to);
                let other = self.modules.get(to.0);
                if !lazy && !is_lazy(other, &other.decls[to.1 as usize]) {
                    edges.push((from, number, reference.span));
                }
            }
        }
        (nodes, edges)
    }

    /// The declaration that a reference means; errors are left to evaluation.
    fn follow(&mut self, from: ModuleId, reference: &Reference) -> Option<(ModuleId, u32)> {
        match &reference.to {
            ReferenceTo::Decl(number) => Some((from, *number)),
            ReferenceTo::Member(number, name) => {
                let kit = self.modules.used(self.world, from, *number).ok()?;
                match self.module(kit).names.get(name) {
                    Some(Bound::Decl(decl)) => Some((kit, *decl)),
                    _ => None,
                }
            }
            ReferenceTo::Address(path) => {
                let path = WsPath::root().resolve(path).ok()?;
                match self.meanings(&path).ok()?.as_slice() {
                    [meaning] => Some((meaning.module, meaning.decl)),
                    _ => None,
                }
            }
        }
    }

    /// Reports names in `use { … }` that their kit does not have.
    fn check_names(&mut self, module: ModuleId, number: u32, kit: &Use, to: ModuleId) {
        for name in &kit.names {
            if let Err(diagnostic) = self.modules.member(module, to, name)
                && self.bad_names.insert((module, number, name.text.clone()))
            {
                self.modules.report(name.span, diagnostic);
            }
        }
    }

    /// Reports kits that use each other in a ring, and names that kits do not have.
    fn find_kit_cycles(&mut self) {
        let mut references: References<ModuleId> = References::new();
        let mut at = 0;
        while at < self.modules.modules.len() {
            let id = ModuleId(at as u32);
            at += 1;
            let module = self.module(id);
            let from = references.node(&id, || Title { word: "kit", name: module.title.clone() });
            for (number_of_use, kit) in module.uses.iter().enumerate() {
                let number_of_use = number_of_use as u32;
                if let Ok(to) = self.modules.used(self.world, id, number_of_use) {
                    let other = self.module(to);
                    let number = references.node(&to, || Title { word: "kit", name: other.title.clone() });
                    references.edge(from, number, kit.path_span);
                    self.check_names(id, number_of_use, kit, to);
                }
            }
        }
        let (errors, _) = references.cycles();
        self.modules.diagnostics.extend(errors);
    }
}

/// Chains of references longer than this are evaluated from their end on.
const LONG_CHAIN: usize = 100;

/// All nodes, each behind those that its edges lead to, and how many lie on the longest way. There must be no cycles.
fn needs_first(count: usize, edges: &[Edge]) -> (Vec<u32>, usize) {
    let mut users: Vec<Vec<u32>> = vec![Vec::new(); count];
    // How many of its needs are not in order yet.
    let mut open = vec![0u32; count];
    for edge in edges {
        users[edge.to as usize].push(edge.from);
        open[edge.from as usize] += 1;
    }
    let mut length = vec![1usize; count];
    let mut order: Vec<u32> = (0..count as u32).filter(|n| open[*n as usize] == 0).collect();
    let mut at = 0;
    while let Some(node) = order.get(at).copied() {
        at += 1;
        for user in &users[node as usize] {
            length[*user as usize] = length[*user as usize].max(length[node as usize] + 1);
            open[*user as usize] -= 1;
            if open[*user as usize] == 0 {
                order.push(*user);
            }
        }
    }
    (order, length.into_iter().max().unwrap_or(0))
}

fn title(decl: &Decl) -> Title {
    Title { word: decl.kind.word(), name: decl.name.text.clone() }
}

/// Whether a declaration's value is a map, whose entries are evaluated one by one and once each. What a
/// function or kind gives is made anew by each call, so that nothing may lead back to one.
fn is_lazy(module: &Module, decl: &Decl) -> bool {
    if !matches!(decl.kind, DeclKind::Value | DeclKind::Target | DeclKind::Test) {
        return false;
    }
    decl.body.is_some_and(|b| matches!(module.expr(b), Expr::Map(_) | Expr::Each(Each { key: Some(_), .. })))
}
