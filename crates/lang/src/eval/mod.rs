//! Evaluation on demand: every declaration, map entry and value in a kind at most once, when it is
//! wanted. What goes wrong is reported where it happens, once; whatever needs it then fails silently.

mod addresses;
mod calls;
mod checks;
mod coerce;
mod commands;
mod data;
mod expressions;
mod files;
mod forms;
mod inputs;
mod machine;
mod matching;
mod methods;
mod natives;
mod operators;
mod options;
mod published;
mod requests;
mod services;
mod steps;
mod words;

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{Effect, FileId, FileNode, Graph, Place, Role, Service, SetId, StepId, Target, TargetId};
use nubrik_source::{Sources, Span, WsPath};
use rustc_hash::FxHashMap;
use smallvec::{SmallVec, smallvec};

use crate::hir::*;
use crate::modules::{Missing, Modules};
use crate::rows::{RowIndex, digest};
use crate::trail::Watched;
use crate::types::Type;
use crate::value::*;
use crate::world::World;

use options::{Config, ConfigId, DEFAULTS, Known, OptionId};

pub(crate) use options::Reads;

pub use options::{OptionInfo, Setting, SettingValue};
pub(crate) use published::check_published_across;

pub use requests::Evaluation;
pub(crate) use requests::RowDigests;

/// Why there is no value.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Stop {
    /// Something was wrong, and it was reported.
    Failed,
    /// An answer of the world is not there yet.
    Waiting,
}

pub(crate) type Result<T> = std::result::Result<T, Stop>;

/// How many expressions one evaluation may take: definitions that need more have gone astray.
const WORK_LIMIT: u64 = 100_000_000;

/// How many bytes of text count as one expression: what all values together may hold is limited, too.
const BYTES_OF_WORK: usize = 16;

/// How many expressions the memory of one text more counts as: of texts without end there would soon be gigabytes.
const WORK_OF_TEXT: u64 = 6;

/// How many bytes a text may have.
const TEXT_LIMIT: usize = 16 << 20;

/// How many items a list may have.
const LIST_LIMIT: usize = 4 << 20;

/// How deep values may need one another.
const DEPTH_LIMIT: usize = 2_000;

/// How deep values may hold one another.
const NESTING_LIMIT: usize = 200;

/// Where an expression is evaluated: its file, names in reach, and whose value it is part of.
#[derive(Clone, Debug)]
pub(crate) struct Scope {
    pub module: ModuleId,
    pub env: Option<Rc<Env>>,
    pub owner: Rc<Owner>,
    /// Whose name and package `self` tells of, in a kind.
    pub this: Option<Rc<Owner>>,
    /// Which options are set.
    pub config: ConfigId,
}

/// One scope's slots, and the scope around it.
#[derive(Debug)]
pub(crate) struct Env {
    pub parent: Option<Rc<Env>>,
    pub slots: RefCell<Vec<Slot>>,
}

#[derive(Clone, Debug)]
pub(crate) enum Slot {
    Value(Value),
    /// A value that rests on the answer of a scan.
    Scanned(Value),
    Lazy(Rc<Thunk>),
}

impl Slot {
    fn of(value: Value, scanned: bool) -> Slot {
        if scanned { Slot::Scanned(value) } else { Slot::Value(value) }
    }
}

/// Whose value is being evaluated: names of outputs and addresses follow from it.
#[derive(Debug)]
pub(crate) struct Owner {
    /// The declaration, in the graph.
    pub target: TargetId,
    pub package: WsPath,
    /// The declaration's name, then keys and fields on the way into its value.
    pub parts: SmallVec<[Arc<str>; 2]>,
}

/// What is known of a declaration's value.
#[derive(Default)]
struct DeclMemo {
    /// Configs under which it is being evaluated.
    running: SmallVec<[ConfigId; 1]>,
    /// Values by the options that they reached.
    done: Known,
    /// Its number in the graph, once it stands there.
    target: Option<TargetId>,
}

/// A value being evaluated, for the way round when it turns out to need itself.
struct Open {
    key: OpenKey,
    /// Where it was asked for.
    used_at: Span,
}

#[derive(Clone)]
enum OpenKey {
    Decl(ModuleId, u32, ConfigId),
    Thunk(Rc<Thunk>),
}

impl PartialEq for OpenKey {
    fn eq(&self, other: &OpenKey) -> bool {
        match (self, other) {
            (OpenKey::Decl(m, n, c), OpenKey::Decl(module, number, config)) => {
                (m, n, c) == (module, number, config)
            }
            (OpenKey::Thunk(one), OpenKey::Thunk(other)) => Rc::ptr_eq(one, other),
            _ => false,
        }
    }
}

/// Evaluates definitions of one workspace.
pub struct Evaluator<'w> {
    world: &'w dyn World,
    /// The same world, where it is to be known what is taken from where.
    watched: Option<&'w Watched<'w>>,
    /// Numbers of units.
    units: FxHashMap<(ModuleId, u32), u32>,
    modules: Modules,
    /// By module and number.
    decls: Vec<Vec<DeclMemo>>,
    /// Options reached so far by each value that is being evaluated and owns what it makes.
    frames: Vec<Reads>,
    configs: Vec<Config>,
    config_ids: FxHashMap<Vec<(OptionId, Arc<str>)>, ConfigId>,
    /// The config of everything that is asked for.
    chosen: ConfigId,
    nothing_reached: Rc<Reads>,
    /// The empty text, for the many places that begin with it.
    nothing: Arc<str>,
    /// Scopes of kinds that were called: their values may hold the scopes that hold them.
    kind_scopes: Vec<std::rc::Weak<Env>>,
    bad_options: BTreeSet<OptionId>,
    wants_options: bool,
    wants_digests: bool,
    linting: bool,
    /// Globs that were evaluated for targets, where they are looked at afterwards.
    globs: Vec<crate::lints::GlobUse>,
    /// Options that each target's values and steps reached.
    target_reads: BTreeMap<TargetId, Reads>,
    /// Matches whose cases were checked for completeness.
    checked_matches: FxHashMap<(ModuleId, ExprId), bool>,
    types: FxHashMap<(ModuleId, u32), Type>,
    /// Types of parameters, by declaration.
    param_types: FxHashMap<(ModuleId, u32), Arc<[Type]>>,
    /// Types that functions and kinds give, by declaration.
    result_types: FxHashMap<(ModuleId, u32), Arc<Type>>,
    open: Vec<Open>,
    /// Ways round that were reported, as sets of their places.
    cycles: BTreeSet<Vec<Span>>,
    graph: Graph,
    /// The graph's files by their paths.
    files: RowIndex,
    tools: FxHashMap<Arc<str>, nubrik_graph::ToolId>,
    /// Sets of files by the values that hold them.
    value_sets: FxHashMap<*const FileRef, inputs::ValueSet>,
    /// Sets of the files in source folders, by the unit that asked and the folder.
    folder_sets: FxHashMap<(u32, WsPath), SetId>,
    /// The graph's steps by their folders.
    steps: RowIndex,
    /// Where each step was written.
    step_spans: Vec<Span>,
    /// Outputs of each step by the names they were given.
    outputs: steps::Outputs,
    /// Room in which texts are put together.
    text_room: String,
    work: u64,
    /// How many values are being gone through for their files, each inside the one before.
    nesting: usize,
    work_limit: u64,
    waiting: bool,
    /// Answers of scans that are wanted and not there yet: outputs of steps in the graph.
    scans: Vec<FileId>,
    /// All effects that were evaluated, and those that are asked for.
    effects: Vec<Effect>,
    asked_effects: Vec<u32>,
    /// All services that were evaluated, by their folders, and those that are asked for.
    services: FxHashMap<WsPath, Arc<Service>>,
    asked_services: Vec<Arc<Service>>,
    /// Whether jobs are evaluated: one is asked for by its name, or everything is looked at.
    evaluates_jobs: bool,
    /// Targets that were named where tests are wanted.
    through: Vec<TargetId>,
    /// Data files that were read, with their texts.
    data_files: FxHashMap<WsPath, (nubrik_source::TextId, Arc<str>)>,
    /// Names in `use { … }` that their kits do not have, by module and number of the `use`.
    bad_names: BTreeSet<(ModuleId, u32, Arc<str>)>,
}

impl<'w> Evaluator<'w> {
    /// An evaluator that has loaded nothing yet.
    pub fn new(world: &'w dyn World) -> Self {
        Evaluator {
            world,
            watched: None,
            units: FxHashMap::default(),
            modules: Modules::default(),
            decls: Vec::new(),
            frames: Vec::new(),
            configs: vec![Config::default()],
            config_ids: FxHashMap::from_iter([(Vec::new(), DEFAULTS)]),
            chosen: DEFAULTS,
            nothing_reached: Rc::default(),
            nothing: "".into(),
            kind_scopes: Vec::new(),
            bad_options: BTreeSet::new(),
            wants_options: false,
            wants_digests: false,
            linting: false,
            globs: Vec::new(),
            target_reads: BTreeMap::new(),
            checked_matches: FxHashMap::default(),
            types: FxHashMap::default(),
            param_types: FxHashMap::default(),
            result_types: FxHashMap::default(),
            open: Vec::new(),
            cycles: BTreeSet::new(),
            graph: Graph::default(),
            files: RowIndex::default(),
            tools: FxHashMap::default(),
            value_sets: FxHashMap::default(),
            folder_sets: FxHashMap::default(),
            steps: RowIndex::default(),
            step_spans: Vec::new(),
            outputs: steps::Outputs::default(),
            text_room: String::new(),
            work: 0,
            nesting: 0,
            work_limit: WORK_LIMIT,
            waiting: false,
            scans: Vec::new(),
            effects: Vec::new(),
            asked_effects: Vec::new(),
            services: FxHashMap::default(),
            asked_services: Vec::new(),
            evaluates_jobs: false,
            through: Vec::new(),
            data_files: FxHashMap::default(),
            bad_names: BTreeSet::new(),
        }
    }

    /// An evaluator that also tells what each value was taken from.
    pub fn watching(watched: &'w Watched<'w>) -> Self {
        let mut evaluator = Evaluator::new(watched);
        evaluator.watched = Some(watched);
        evaluator
    }

    /// The same evaluator with options set. Settings that mean nothing are reported.
    #[must_use]
    pub fn with_settings(mut self, settings: &[Setting]) -> Self {
        self.apply_settings(settings);
        self
    }

    /// The same evaluator with another limit of work, in expressions.
    #[must_use]
    pub fn with_work_limit(mut self, limit: u64) -> Self {
        self.work_limit = limit;
        self
    }

    /// The same evaluator, which also tells of all options and who reached them.
    #[must_use]
    pub fn with_option_infos(mut self) -> Self {
        self.wants_options = true;
        self
    }

    /// The texts read so far.
    pub fn sources(&self) -> &Sources {
        &self.modules.sources
    }

    fn module(&self, id: ModuleId) -> Rc<Module> {
        self.modules.get(id).clone()
    }

    /// Reports an error and stops.
    fn fail<T>(&mut self, span: Span, diagnostic: Diagnostic) -> Result<T> {
        self.modules.report(span, diagnostic);
        Err(Stop::Failed)
    }

    /// Attaches the place to a helper's error, reports it and stops.
    fn at<T>(&mut self, span: Span, result: std::result::Result<T, Diagnostic>) -> Result<T> {
        result.or_else(|diagnostic| self.fail(span, diagnostic))
    }

    fn wait<T>(&mut self) -> Result<T> {
        self.waiting = true;
        Err(Stop::Waiting)
    }

    fn place(&self, span: Span) -> Place {
        Place { file: self.modules.sources.name(span.file).clone(), line: self.modules.sources.line(span) }
    }

    // Values on demand.

    /// The value of a declaration without parameters, under a config.
    fn declaration(
        &mut self,
        module_id: ModuleId,
        number: u32,
        config: ConfigId,
        used_at: Span,
    ) -> Result<Value> {
        let key = (module_id, number);
        self.take_from(module_id, number);
        if self.modules.get(module_id).decls[number as usize].kind == DeclKind::Option {
            let set = self.configs[config.index()].set.get(&key);
            let set = set.map(|s| (s.value.clone(), s.written.clone()));
            self.note_read(key, set.as_ref().map(|s| s.1.clone()));
            if let Some((value, _)) = set {
                return Ok(value);
            }
        }
        if let Some(memo) = self.known_memo(key) {
            let known = memo.done.find(&self.configs[config.index()]);
            if let Some((reads, value)) = known {
                let (reads, value) = (reads.clone(), value.clone());
                self.note_reads(&reads);
                return value.ok_or(Stop::Failed);
            }
            if memo.running.contains(&config) {
                return self.needs_itself(OpenKey::Decl(module_id, number, config), used_at);
            }
        }
        self.modules.entered(module_id);
        let module = self.module(module_id);
        let decl = &module.decls[number as usize];
        match decl.kind {
            DeclKind::Function => return Ok(Value::Function(module_id, number)),
            DeclKind::Kind => return Ok(Value::Kind(module_id, number)),
            DeclKind::Type => {
                let error =
                    Diagnostic::error("wrong-type", format!("`{}` is a type, not a value", decl.name.text));
                return self.fail(used_at, error);
            }
            DeclKind::Option => drop(self.option_type(key)?),
            DeclKind::Value | DeclKind::Target | DeclKind::Test | DeclKind::Job | DeclKind::Service => {}
        }
        self.memo(key).running.push(config);
        self.frames.push(Reads::default());
        let outer = self.enter_unit(module_id, number);
        let result = self.opened(OpenKey::Decl(module_id, number, config), used_at, |this| {
            let owner = this.owner_of(module_id, number);
            let scope = Scope { module: module_id, env: None, owner, this: None, config };
            let Some(body) = decl.body else { return Err(Stop::Failed) };
            let value = this.eval(&scope, body)?;
            match &decl.ty {
                Some(ty) => {
                    let ty = this.resolve_type(module_id, ty)?;
                    this.coerce(value, &ty, module_id, module.span(body))
                }
                None => Ok(value),
            }
        });
        self.leave_unit(outer);
        let reads = self.frames.pop().unwrap_or_default();
        self.note_reads(&reads);
        if let (Ok(value), true) = (&result, decl.kind.role() != Role::Inner) {
            let target = self.target_of(module_id, number);
            let is_check = matches!(value, Value::Step(n) if self.graph.steps[*n as usize].check.is_some());
            let kind = if is_check { "check".into() } else { crate::output::value_kind(value) };
            self.graph.targets[target.index()].kind = kind;
            if !reads.is_empty() {
                self.target_reads.entry(target).or_default().add_all(&reads);
            }
        }
        let reads = self.shared_reads(reads);
        let memo = self.memo(key);
        memo.running.retain(|c| *c != config);
        match &result {
            Ok(value) => memo.done.add(reads, Some(value.clone())),
            Err(Stop::Failed) => memo.done.add(reads, None),
            Err(Stop::Waiting) => {}
        }
        result
    }

    /// What is known of a declaration, if anything was asked of it yet.
    fn known_memo(&self, key: (ModuleId, u32)) -> Option<&DeclMemo> {
        self.decls.get(key.0.index())?.get(key.1 as usize)
    }

    fn memo(&mut self, (module, number): (ModuleId, u32)) -> &mut DeclMemo {
        let index = module.index();
        if self.decls.len() <= index {
            self.decls.resize_with(index + 1, Vec::new);
        }
        let memos = &mut self.decls[index];
        if memos.is_empty() {
            memos.resize_with(self.modules.get(module).decls.len(), DeclMemo::default);
        }
        &mut memos[number as usize]
    }

    /// Forgets that a declaration failed under the options that are chosen, so that it is evaluated again where it is
    /// needed.
    fn forget_failure(&mut self, key: (ModuleId, u32)) {
        self.memo(key).done.forget_failures();
    }

    /// Options that were reached, to be kept: most often none.
    fn shared_reads(&self, reads: Reads) -> Rc<Reads> {
        if reads.is_empty() { self.nothing_reached.clone() } else { Rc::new(reads) }
    }

    /// Takes note that a declaration has no value, whatever is set.
    fn mark_failed(&mut self, key: (ModuleId, u32)) {
        self.memo(key).done.add(Rc::default(), None);
    }

    // What is taken from where.

    fn unit_of(&mut self, module_id: ModuleId, number: u32) -> u32 {
        let Some(watched) = self.watched else { return 0 };
        if let Some(unit) = self.units.get(&(module_id, number)) {
            return *unit;
        }
        let module = self.modules.get(module_id);
        let unit = watched.unit(&module.title, &module.decls[number as usize].name.text, false);
        self.units.insert((module_id, number), unit);
        unit
    }

    /// The unit that is being evaluated.
    fn unit(&self) -> u32 {
        self.watched.map_or(0, Watched::current)
    }

    /// Takes note that the value being evaluated takes something from a declaration.
    fn take_from(&mut self, module_id: ModuleId, number: u32) {
        if let Some(watched) = self.watched {
            watched.take_from(self.unit_of(module_id, number));
        }
    }

    /// Takes note that a name was looked for in a module and is not there.
    fn miss(&mut self, module_id: ModuleId, name: &Arc<str>) {
        if let Some(watched) = self.watched {
            let unit = watched.unit(&self.modules.get(module_id).title, name, true);
            watched.take_from(unit);
        }
    }

    fn enter_unit(&mut self, module_id: ModuleId, number: u32) -> Option<u32> {
        let watched = self.watched?;
        Some(watched.enter(self.unit_of(module_id, number)))
    }

    fn leave_unit(&mut self, outer: Option<u32>) {
        if let (Some(watched), Some(outer)) = (self.watched, outer) {
            watched.enter(outer);
        }
    }

    /// Does something as a part of a declaration.
    fn in_unit<T>(&mut self, module_id: ModuleId, number: u32, work: impl FnOnce(&mut Self) -> T) -> T {
        let outer = self.enter_unit(module_id, number);
        let result = work(self);
        self.leave_unit(outer);
        result
    }

    /// The value behind a thunk.
    fn force(&mut self, thunk: &Rc<Thunk>, used_at: Span) -> Result<Value> {
        if let Some(watched) = self.watched {
            watched.take_from(thunk.origin);
        }
        let source = {
            let mut state = thunk.state.borrow_mut();
            match &*state {
                ThunkState::Done(value, reads) => {
                    let (value, reads) = (value.clone(), reads.clone());
                    drop(state);
                    self.note_reads(&reads);
                    return Ok(value);
                }
                ThunkState::Failed => return Err(Stop::Failed),
                ThunkState::Running => {
                    drop(state);
                    return self.needs_itself(OpenKey::Thunk(thunk.clone()), used_at);
                }
                ThunkState::New(_) => {}
            }
            match std::mem::replace(&mut *state, ThunkState::Running) {
                ThunkState::New(source) => source,
                _ => return Err(Stop::Failed),
            }
        };
        self.frames.push((*thunk.captured).clone());
        let outer = self.watched.map(|watched| watched.enter(thunk.origin));
        let result = self.opened(OpenKey::Thunk(thunk.clone()), used_at, |this| match &source {
            ThunkSource::Expr { scope, expr, ty } => {
                let value = this.eval(scope, *expr)?;
                match ty {
                    Some(ty) => this.coerce(value, ty, scope.module, thunk.span),
                    None => Ok(value),
                }
            }
            ThunkSource::Coerced { inner, ty, base } => {
                let value = this.force(inner, used_at)?;
                this.coerce(value, ty, *base, thunk.span)
            }
        });
        self.leave_unit(outer);
        let reads = self.frames.pop().unwrap_or_default();
        let reads = self.shared_reads(reads);
        self.note_reads(&reads);
        *thunk.state.borrow_mut() = match &result {
            Ok(value) => ThunkState::Done(value.clone(), reads),
            Err(Stop::Failed) => ThunkState::Failed,
            Err(Stop::Waiting) => ThunkState::New(source),
        };
        result
    }

    fn opened<T>(
        &mut self,
        key: OpenKey,
        used_at: Span,
        body: impl FnOnce(&mut Self) -> Result<T>,
    ) -> Result<T> {
        if self.open.len() >= DEPTH_LIMIT {
            let error = Diagnostic::error("too-deep", "values need one another too deep here");
            return self.fail(used_at, error);
        }
        self.open.push(Open { key, used_at });
        let result = body(self);
        self.open.pop();
        result
    }

    /// Reports the way round on which a value needs itself, once for each such way.
    fn needs_itself<T>(&mut self, key: OpenKey, used_at: Span) -> Result<T> {
        let start = self.open.iter().position(|o| o.key == key).unwrap_or(0);
        let hops: Vec<(Title, Span)> = {
            let round = &self.open[start..];
            let places = round.iter().skip(1).map(|o| o.used_at).chain([used_at]);
            round.iter().map(|o| self.title_of(&o.key)).zip(places).collect()
        };
        let mut places: Vec<Span> = hops.iter().map(|h| h.1).collect();
        places.sort();
        if self.cycles.insert(places) {
            self.modules.diagnostics.push(crate::cycles::cycle_error(&hops));
        }
        Err(Stop::Failed)
    }

    /// What stands for something open in messages.
    fn title_of(&self, key: &OpenKey) -> Title {
        match key {
            OpenKey::Decl(module, number, _) => {
                let decl = &self.modules.get(*module).decls[*number as usize];
                Title { word: decl.kind.word(), name: decl.name.text.clone() }
            }
            OpenKey::Thunk(thunk) => thunk.title.clone(),
        }
    }

    /// The target whose value is being evaluated, if one is.
    fn current_target(&self) -> Option<TargetId> {
        self.open.iter().rev().find_map(|open| match &open.key {
            OpenKey::Decl(module, number, _) => self.known_memo((*module, *number))?.target,
            OpenKey::Thunk(_) => None,
        })
    }

    /// Options that the value being evaluated has reached so far, for a part of it that comes later.
    /// What rests on a scan says so itself.
    fn captured(&self) -> Rc<Reads> {
        match self.frames.last() {
            Some(reads) if !reads.is_empty() => {
                let reads = reads.without(options::SCAN);
                if reads.is_empty() { self.nothing_reached.clone() } else { Rc::new(reads) }
            }
            _ => self.nothing_reached.clone(),
        }
    }

    /// The owner that a declaration's value has, entered in the graph on first use.
    fn owner_of(&mut self, module_id: ModuleId, number: u32) -> Rc<Owner> {
        let target = self.target_of(module_id, number);
        let module = self.module(module_id);
        let package = module.folder.clone().unwrap_or_else(WsPath::root);
        let name = module.decls[number as usize].name.text.clone();
        let mut parts = smallvec![name];
        if !module.is_package {
            // A kit's own steps stand under the kit's name.
            let title = WsPath::from_normal(module.title.trim_start_matches("nub:"));
            parts.insert(0, title.stem().into());
        }
        Rc::new(Owner { target, package, parts })
    }

    fn target_of(&mut self, module_id: ModuleId, number: u32) -> TargetId {
        if let Some(id) = self.memo((module_id, number)).target {
            return id;
        }
        let module = self.module(module_id);
        let decl = &module.decls[number as usize];
        let package = module.folder.clone().unwrap_or_else(WsPath::root);
        let id = TargetId(self.graph.targets.len() as u32);
        self.graph.targets.push(Target {
            address: package.child(&decl.name.text).shared().clone(),
            package,
            kind: self.nothing.clone(),
            documentation: decl.documentation.clone(),
            place: self.place(decl.name.span),
            role: decl.kind.role(),
            private: decl.private,
            tags: decl.tags.clone(),
            results: Vec::new(),
        });
        self.memo((module_id, number)).target = Some(id);
        id
    }

    /// The number of a file in the graph, entered on first use.
    fn file_id(&mut self, file: &FileRef) -> FileId {
        let files = &mut self.graph.files;
        let known = self.files.find_or_insert(
            digest(file.path.as_str()),
            |n| files[n].path == file.path,
            files.len(),
        );
        let number = known.unwrap_or_else(|| {
            files.push(FileNode {
                path: file.path.clone(),
                maker: file.maker.map(StepId),
                folder: file.folder,
            });
            files.len() - 1
        });
        FileId(number as u32)
    }

    // Types.

    /// The type that a written one means.
    fn resolve_type(&mut self, module_id: ModuleId, ty: &TypeExpr) -> Result<Type> {
        Ok(match &ty.shape {
            TypeShape::Error => Type::Unknown,
            TypeShape::Bool => Type::Bool,
            TypeShape::Int => Type::Int,
            TypeShape::Text => Type::Text,
            TypeShape::File => Type::File,
            TypeShape::Folder => Type::Folder,
            TypeShape::Files => Type::Files,
            TypeShape::Command => Type::Command,
            TypeShape::Step => Type::Step,
            TypeShape::Check => Type::Check,
            TypeShape::Service => Type::Service,
            TypeShape::Duration => Type::Duration,
            TypeShape::Any => Type::Any,
            TypeShape::List(inner) => Type::List(Box::new(self.resolve_type(module_id, inner)?)),
            TypeShape::Map(inner) => Type::Map(Box::new(self.resolve_type(module_id, inner)?)),
            TypeShape::Optional(inner) => Type::Optional(Box::new(self.resolve_type(module_id, inner)?)),
            TypeShape::Alternatives(texts) => Type::Alternatives(texts.as_slice().into()),
            TypeShape::Record(fields) => {
                let mut resolved = Vec::new();
                for (name, ty) in fields {
                    resolved.push((name.text.clone(), self.resolve_type(module_id, ty)?));
                }
                Type::Record(resolved.into())
            }
            TypeShape::Decl(number) => self.declared_type(module_id, *number)?,
            TypeShape::Member(number, name) => {
                let (kit, decl) = self.member(module_id, *number, name)?;
                let module = self.module(kit);
                if module.decls[decl as usize].kind != DeclKind::Type {
                    let error = Diagnostic::error("wrong-type", format!("`{}` is not a type", name.text));
                    return self.fail(name.span, error);
                }
                self.declared_type(kit, decl)?
            }
        })
    }

    fn declared_type(&mut self, module_id: ModuleId, number: u32) -> Result<Type> {
        self.take_from(module_id, number);
        if let Some(ty) = self.types.get(&(module_id, number)) {
            return Ok(ty.clone());
        }
        if self.known_memo((module_id, number)).is_some_and(|m| m.done.has_failure()) {
            return Err(Stop::Failed);
        }
        let module = self.module(module_id);
        let decl = &module.decls[number as usize];
        let key = OpenKey::Decl(module_id, number, DEFAULTS);
        if self.open.iter().any(|o| o.key == key) {
            return self.needs_itself(key, decl.name.span);
        }
        let inner = self.in_unit(module_id, number, |this| {
            this.opened(key, decl.name.span, |this| match &decl.ty {
                Some(ty) => this.resolve_type(module_id, ty),
                None => Ok(Type::Unknown),
            })
        })?;
        let ty = Type::Named(decl.name.text.clone(), module_id, number, Box::new(inner));
        self.types.insert((module_id, number), ty.clone());
        Ok(ty)
    }

    /// The declaration that a kit's member means.
    fn member(&mut self, module_id: ModuleId, number: u32, name: &Name) -> Result<(ModuleId, u32)> {
        if self.bad_names.contains(&(module_id, number, name.text.clone())) {
            return Err(Stop::Failed);
        }
        match self.modules.used(self.world, module_id, number) {
            Ok(kit) => {
                self.modules.entered(kit);
                let found = self.modules.member(module_id, kit, name);
                let number = self.at(name.span, found)?;
                self.take_from(kit, number);
                Ok((kit, number))
            }
            Err(Missing::Pending) => self.wait(),
            Err(_) => Err(Stop::Failed),
        }
    }

    /// Counts an expression, and stops definitions that take too much work.
    fn count_work(&mut self, span: Span) -> Result<()> {
        self.count(1, span)
    }

    /// Stops values in values without end: a map whose entries are the same map under other options.
    fn check_nesting(&mut self, depth: usize, span: Span) -> Result<()> {
        if depth < NESTING_LIMIT {
            return Ok(());
        }
        self.fail(span, Diagnostic::error("too-deep", "this value holds values without end"))
    }

    /// Counts items of lists that are gone through: lists may hold the same list many times over, so that
    /// going through them takes far more than writing them did.
    fn count_items(&mut self, items: usize, span: Span) -> Result<()> {
        self.count(items as u64 * 2 + 1, span)
    }

    /// Makes sure that a list of so many items may be made, and counts them: before the items are there.
    fn room_for_items(&mut self, items: usize, span: Span) -> Result<()> {
        if items > LIST_LIMIT {
            let error = Diagnostic::error("too-large", "this list grows too large");
            return self.fail(span, error.note(format!("a list may have {LIST_LIMIT} items")));
        }
        self.count_items(items, span)
    }

    /// Makes sure that a list of so many new texts may be made, and counts them. Each takes memory of its own, where
    /// other items most often share theirs.
    fn room_for_texts(&mut self, texts: usize, span: Span) -> Result<()> {
        self.room_for_items(texts, span)?;
        self.count(texts as u64 * WORK_OF_TEXT, span)
    }

    /// Makes sure that a text of so many bytes may be made, and counts them.
    fn room_for_text(&mut self, bytes: usize, span: Span) -> Result<()> {
        if bytes > TEXT_LIMIT {
            let error = Diagnostic::error("too-large", "this text grows too large");
            return self.fail(span, error.note("a text may have 16 MiB"));
        }
        self.count((bytes / BYTES_OF_WORK) as u64, span)
    }

    /// Counts work or the size of a value, in expressions.
    #[inline]
    fn count(&mut self, amount: u64, span: Span) -> Result<()> {
        let before = self.work;
        self.work += amount;
        if self.work < self.work_limit { Ok(()) } else { self.too_much_work(before, span) }
    }

    #[cold]
    fn too_much_work(&mut self, before: u64, span: Span) -> Result<()> {
        if before < self.work_limit {
            let error = Diagnostic::error("too-much-work", "these definitions take too long to evaluate");
            let error = error.note(format!(
                "the limit is {} expressions, of which {BYTES_OF_WORK} bytes of text count as one",
                self.work_limit
            ));
            return self.fail(span, error);
        }
        Err(Stop::Failed)
    }
}

impl Drop for Evaluator<'_> {
    fn drop(&mut self) {
        for scope in self.kind_scopes.drain(..).filter_map(|s| s.upgrade()) {
            scope.slots.borrow_mut().clear();
        }
    }
}
