//! What a command asks for: targets by address, evaluated together.

use std::collections::BTreeSet;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_graph::{
    Edge, Effect, FileId, Graph, RowDigests, Service, StepId, TargetId, row_digest,
};
use nubrik_source::{Sources, Span, TextId, WsPath};
use rustc_hash::{FxHashMap, FxHashSet};

use super::addresses::Meaning;
use super::published::check_published;
use super::{Evaluator, Result, Setting};
use crate::address::{AddressPattern, Wanted};
use crate::hir::*;

/// What came of evaluating some requests.
pub struct Evaluation {
    /// Everything that the requests reach.
    pub graph: Graph,
    /// The results asked for, without repeats, in the order asked.
    pub requested: Vec<FileId>,
    /// The targets asked for, without repeats, in order.
    pub targets: Vec<TargetId>,
    /// Which results were asked for of each of these targets.
    pub(crate) shares: Shares,
    /// What was wrong, sorted by place, each once.
    pub diagnostics: Vec<Diagnostic>,
    /// The texts that spans in the diagnostics point into.
    pub sources: Sources,
    /// Definition files of the workspace that were read for it now; all that it is made of are
    /// [`Evaluation::definitions`].
    pub read: Vec<WsPath>,
    /// Definition files that were read when it was kept, and not again.
    pub(crate) kept: Vec<WsPath>,
    /// Outputs of probes whose answers are wanted: to be made, and given to the world.
    pub probes: Vec<FileId>,
    /// What the jobs that are asked for do, in order.
    pub effects: Vec<Effect>,
    /// Services that are asked for.
    pub services: Vec<Arc<Service>>,
    /// Targets that were named where tests are wanted: only tests that use one of them, or that are
    /// named themselves, are meant.
    pub through: Vec<TargetId>,
    /// Options with who reached them; only where they were asked for.
    pub options: Vec<super::OptionInfo>,
    /// What values were taken from; empty where no one watched.
    pub trail: crate::trail::Trail,
    /// Digests of the keys of the graph's rows; only where graphs are to be put together.
    pub(crate) digests: RowDigests,
    /// On how many answers of probes it rests; known where it was kept.
    pub answers: u32,
    /// Whether answers of the world were missing: then everything else is not final, and evaluation
    /// is to be asked again with the same world.
    pub waiting: bool,
}

impl Evaluation {
    /// All definition files of the workspace that it is made of, whenever they were read.
    pub fn definitions(&self) -> impl Iterator<Item = &WsPath> + Clone {
        self.read.iter().chain(&self.kept)
    }

    /// Leaves definition files out that were read when it was kept, and are no more.
    pub fn retain_definitions(&mut self, is_there: impl Fn(&WsPath) -> bool) {
        self.kept.retain(is_there);
    }

    /// By the number of each target: whether it was asked for.
    pub fn asked(&self) -> Vec<bool> {
        let mut asked = vec![false; self.graph.targets.len()];
        self.targets.iter().for_each(|id| asked[id.index()] = true);
        asked
    }

    /// The steps of the targets that were asked for, in the order of the graph.
    pub fn own_steps(&self) -> impl Iterator<Item = StepId> {
        let asked = self.asked();
        let steps = (0..).map(StepId).zip(&self.graph.steps);
        steps
            .filter(move |(_, step)| asked[step.target.index()])
            .map(|(id, _)| id)
    }
}

/// Results by the targets of which they were asked for, in the order of these. Where a target is
/// asked for several times, its share is not in one place, and there are more shares than targets.
#[derive(Default)]
pub(crate) struct Shares {
    /// Where the share of each target ends in `files`.
    pub ends: Vec<u32>,
    /// The results; one that several targets have is in the share of each.
    pub files: Vec<FileId>,
}

impl Shares {
    /// Adds the share of the next target.
    pub fn push(&mut self, files: impl IntoIterator<Item = FileId>) {
        self.files.extend(files);
        self.ends.push(self.files.len() as u32);
    }

    /// The share of a target by its place; `None` where there is no such place.
    pub fn get(&self, place: usize) -> Option<&[FileId]> {
        let start = match place.checked_sub(1) {
            Some(before) => *self.ends.get(before)?,
            None => 0,
        };
        self.files
            .get(start as usize..*self.ends.get(place)? as usize)
    }

    /// All results, each once, of a graph with so many files.
    pub fn each_once(&self, files: usize) -> Vec<FileId> {
        let mut seen = vec![false; files];
        let all = self.files.iter().copied();
        all.filter(|file| !std::mem::replace(&mut seen[file.index()], true))
            .collect()
    }
}

/// Places that errors blame, by which others are explained: one mistake is one error.
struct Blamed {
    /// Lines in which the text could not be read.
    misread: FxHashSet<(TextId, u32)>,
    /// Places of errors.
    places: FxHashSet<Span>,
}

impl Blamed {
    fn of(diagnostics: &[Diagnostic], sources: &Sources) -> Blamed {
        let errors = || diagnostics.iter().filter(|d| d.severity == Severity::Error);
        let misread = errors()
            .filter(|d| MISREAD.contains(&d.code))
            .filter_map(|d| d.span);
        Blamed {
            misread: misread
                .map(|span| (span.file, sources.line(span)))
                .collect(),
            places: errors().filter_map(|d| d.span).collect(),
        }
    }

    /// Whether an error follows from another one: what a line means that could not be read, or a
    /// name that is like one which could not be found.
    fn explain(&self, diagnostic: &Diagnostic, sources: &Sources) -> bool {
        let Some(span) = diagnostic
            .span
            .filter(|_| !MISREAD.contains(&diagnostic.code))
        else {
            return false;
        };
        let is_misread = self.misread.contains(&(span.file, sources.line(span)));
        let is_like_unknown = || {
            diagnostic
                .related
                .iter()
                .any(|related| self.places.contains(&related.span))
        };
        is_misread || (diagnostic.code == "unknown-name" && is_like_unknown())
    }
}

/// Codes of errors in how a text is written.
const MISREAD: [&str; 5] = [
    "syntax",
    "unclosed",
    "chained-comparison",
    "bad-name",
    "shell-syntax",
];

impl Evaluator<'_> {
    /// Evaluates what the patterns ask for. A pattern that means nothing is an error without a
    /// place.
    pub fn request(mut self, patterns: &[AddressPattern]) -> Evaluation {
        let mut meanings: Vec<Meaning> = Vec::new();
        let mut seen = BTreeSet::new();
        for pattern in patterns {
            for meaning in self.select(pattern).unwrap_or_default() {
                if seen.insert((meaning.decl, meaning.way.clone())) {
                    meanings.push(meaning);
                }
            }
        }
        self.evaluate_all(&meanings)
    }

    /// Evaluates all targets of some packages; what packages of others publish under the same name
    /// is left for the caller that puts several such evaluations together.
    pub(crate) fn request_packages(mut self, packages: &[WsPath], wanted: Wanted) -> Evaluation {
        packages
            .iter()
            .for_each(|package| self.definitions.modules.belongs(package));
        let lists = self
            .all(packages, |this, folder| this.targets_of(folder, wanted))
            .unwrap_or_default();
        self.wanted.wants_digests = true;
        self.evaluate_all(&lists.concat())
    }

    /// Evaluates all targets of some packages, and single ones of others. What is not there any
    /// more is passed over.
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
            let all = self
                .targets_of(folder, Wanted::Everything)
                .unwrap_or_default();
            meanings.extend(all.into_iter().filter(|m| {
                let module = self.definitions.modules.get(m.decl.module);
                module.decl(m.decl).name.text == *name
            }));
        }
        self.evaluate_all(&meanings)
    }

    /// The packages at and below a folder that a pattern means; none where it means a target.
    pub fn packages_meant(mut self, pattern: &AddressPattern) -> Vec<WsPath> {
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
        let roots: Vec<DeclId> = meanings.iter().map(|m| m.decl).collect();
        let chains = self.find_cycles(&roots);
        let mut evaluated = self.evaluate_chains(&chains, meanings);
        let mut shares = Shares::default();
        let mut targets = Vec::new();
        let mut seen: Vec<bool> = Vec::new();
        for (number, meaning) in meanings.iter().enumerate() {
            let kind = self.module(meaning.decl.module).decl(meaning.decl).kind;
            // A job may want what only the user who runs it has.
            let on_call = matches!(kind, DeclKind::Job | DeclKind::Service);
            let known = evaluated.get_mut(number).and_then(Option::take);
            let files = match !on_call || self.wanted.evaluates_jobs {
                true => known.unwrap_or_else(|| self.evaluate_target(meaning)),
                false => Ok(Vec::new()),
            };
            shares.push(files.unwrap_or_default());
            let target = self.target_of(meaning.decl);
            if on_call {
                let kind = if kind == DeclKind::Job {
                    "job"
                } else {
                    "service"
                };
                self.drafting.graph.targets[target.index()].kind = kind.into();
            }
            let number = target.index();
            if seen.len() <= number {
                seen.resize(number + 1, false);
            }
            if !std::mem::replace(&mut seen[number], true) {
                targets.push(target);
            }
        }
        self.read_options_of_jobs(meanings);
        let errors = check_published(&self.drafting.graph);
        self.definitions.modules.diagnostics.extend(errors);
        if self.wanted.linting
            && !self.wanted.waiting
            && self
                .definitions
                .modules
                .diagnostics
                .iter()
                .all(|d| d.severity != Severity::Error)
        {
            self.doubts();
        }
        self.finish(shares, targets)
    }

    /// Which options jobs read is wanted even where they lack something. They come last, so that nothing
    /// else fails without a word.
    fn read_options_of_jobs(&mut self, meanings: &[Meaning]) {
        if !self.choices.wants_options || self.wanted.evaluates_jobs {
            return;
        }
        let known = self.definitions.modules.diagnostics.len();
        let is_job = |m: &&Meaning| {
            let kind = self.module(m.decl.module).decl(m.decl).kind;
            matches!(kind, DeclKind::Job | DeclKind::Service)
        };
        let jobs: Vec<Meaning> = meanings.iter().filter(is_job).cloned().collect();
        for job in &jobs {
            let _ = self.evaluate_target(job);
        }
        self.definitions.modules.diagnostics.truncate(known);
        self.wanted.asked_effects.clear();
        self.wanted.asked_services.clear();
    }

    /// Evaluates declarations that need one another in a long chain, from its end on, so that the
    /// stack does not grow with the chain. `chains` is the order in which they come after what they
    /// refer to; empty where no chain is long. Gives what came of those that are meant, by their
    /// places.
    pub(super) fn evaluate_chains(
        &mut self,
        chains: &[DeclId],
        meanings: &[Meaning],
    ) -> Vec<Option<Result<Vec<FileId>>>> {
        let mut evaluated = Vec::new();
        if chains.is_empty() {
            return evaluated;
        }
        evaluated.resize_with(meanings.len(), || None);
        let mut places: FxHashMap<DeclId, Vec<usize>> = FxHashMap::default();
        for (number, meaning) in meanings.iter().enumerate() {
            places.entry(meaning.decl).or_default().push(number);
        }
        for key in chains {
            let module = self.module(key.module);
            let decl = module.decl(*key);
            match places.get(key) {
                _ if !matches!(
                    decl.kind,
                    DeclKind::Target | DeclKind::Test | DeclKind::Value
                ) => {}
                Some(places) => {
                    for number in places {
                        evaluated[*number] = Some(self.evaluate_target(&meanings[*number]));
                    }
                }
                // Whether it is needed shows when what refers to it is evaluated: then it is
                // reported if it is wrong.
                None => {
                    self.definitions.modules.entered(key.module);
                    let known = self.definitions.modules.diagnostics.len();
                    if self
                        .declaration(*key, self.choices.chosen, decl.name.span)
                        .is_err()
                    {
                        self.definitions.modules.diagnostics.truncate(known);
                        self.forget_failure(*key);
                    }
                }
            }
        }
        evaluated
    }

    /// Evaluates everything there is, and also reports what is only questionable, and settings of
    /// profiles that mean nothing: each profile's, of those that are not chosen.
    pub fn lint(mut self, profiles: &[Vec<Setting>]) -> Evaluation {
        let packages = self.packages_below(&WsPath::root()).unwrap_or_default();
        for folder in &packages {
            if let Ok(Some(module)) = self.load_package(folder) {
                let uses = self.module(module).uses.len() as u32;
                for number in 0..uses {
                    let _ = self.definitions.modules.used(self.world, module, number);
                }
            }
        }
        for id in 0..self.definitions.modules.modules.len() {
            let module = self.definitions.modules.modules[id].clone();
            self.definitions
                .modules
                .diagnostics
                .extend(crate::lints::unused(&module));
            self.definitions
                .modules
                .diagnostics
                .extend(crate::lints::needless_shells(&module));
            let odd_holes = crate::lints::odd_holes(&module, &self.definitions.modules.sources);
            self.definitions.modules.diagnostics.extend(odd_holes);
        }
        for settings in profiles {
            self.config_of(settings);
        }
        self.wanted.linting = true;
        self.wanted.evaluates_jobs = true;
        self.request(&[AddressPattern::below(&WsPath::root())])
    }

    /// What is doubtful about everything that was evaluated.
    fn doubts(&mut self) {
        let read: BTreeSet<_> = self
            .choices
            .target_reads
            .values()
            .flat_map(|r| r.iter().map(|(o, _)| *o))
            .collect();
        for id in 0..self.definitions.modules.modules.len() as u32 {
            let module = self.module(ModuleId(id));
            let options = module
                .decls
                .iter()
                .enumerate()
                .filter(|(_, d)| d.kind == DeclKind::Option);
            for (number, _) in options {
                // Kits of others may offer more than this workspace uses.
                if module.folder.is_some()
                    && !read.contains(&DeclId::new(ModuleId(id), number as u32))
                {
                    self.definitions
                        .modules
                        .diagnostics
                        .push(crate::lints::unread_option(&module, number as u32));
                }
            }
        }
        let title = |id: TargetId| self.drafting.graph.targets[id.index()].address.clone();
        let overlapping = crate::lints::overlapping_globs(&self.wanted.globs, title);
        self.definitions.modules.diagnostics.extend(overlapping);
    }

    fn finish(mut self, shares: Shares, targets: Vec<TargetId>) -> Evaluation {
        let requested = shares.each_once(self.drafting.graph.files.len());
        let options = if self.choices.wants_options {
            self.option_infos()
        } else {
            Vec::new()
        };
        let digests = match self.wanted.wants_digests {
            true => RowDigests {
                files: self.drafting.files.digests(),
                steps: self.drafting.steps.digests(),
                targets: self
                    .drafting
                    .graph
                    .targets
                    .iter()
                    .map(|t| row_digest(&t.address))
                    .collect(),
            },
            false => RowDigests::default(),
        };
        let modules = std::mem::take(&mut self.definitions.modules);
        let mut diagnostics = modules.diagnostics;
        diagnostics.sort_by_key(|d| (d.span.map(|s| (s.file, s.start, s.end)), d.severity));
        let mut kept: Vec<Diagnostic> = Vec::new();
        for diagnostic in diagnostics {
            if !kept.contains(&diagnostic) {
                kept.push(diagnostic);
            }
        }
        let blamed = Blamed::of(&kept, &modules.sources);
        kept.retain(|diagnostic| !blamed.explain(diagnostic, &modules.sources));
        let mut evaluation = Evaluation {
            graph: Graph::default(),
            requested,
            targets,
            shares,
            diagnostics: kept,
            sources: modules.sources,
            read: modules.read,
            kept: Vec::new(),
            answers: 0,
            waiting: self.wanted.waiting,
            probes: std::mem::take(&mut self.wanted.probes),
            effects: std::mem::take(&mut self.wanted.asked_effects)
                .into_iter()
                .map(|number| self.drafting.effects[number as usize].clone())
                .collect(),
            services: std::mem::take(&mut self.wanted.asked_services),
            through: std::mem::take(&mut self.wanted.through),
            options,
            digests,
            trail: self
                .watched
                .map(crate::trail::WatchedWorld::trail)
                .unwrap_or_default(),
        };
        evaluation.take_graph(std::mem::take(&mut self.drafting.graph));
        evaluation
    }
}

/// Chains of references longer than this are evaluated from their end on.
pub(super) const LONG_CHAIN: usize = 100;

/// All nodes, each after those that its edges lead to, and how many lie on the longest way. There
/// must be no cycles.
pub(super) fn needs_first(count: usize, edges: &[Edge]) -> (Vec<u32>, usize) {
    let mut users: Vec<Vec<u32>> = vec![Vec::new(); count];
    // How many of its needs are not in order yet.
    let mut open = vec![0u32; count];
    for edge in edges {
        users[edge.to as usize].push(edge.from);
        open[edge.from as usize] += 1;
    }
    let mut length = vec![1usize; count];
    let mut order: Vec<u32> = (0..count as u32)
        .filter(|n| open[*n as usize] == 0)
        .collect();
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
