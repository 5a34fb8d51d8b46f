//! Evaluation on demand: every declaration, map entry and value in a kind at most once, when it is
//! wanted. What goes wrong is reported where it happens, once; whatever needs it then fails silently.

mod addresses;
mod calls;
mod coerce;
mod commands;
mod expressions;
mod methods;
mod operators;
mod requests;
mod steps;

use std::collections::{BTreeSet, HashMap};
use std::sync::{Arc, Mutex};

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{FileId, FileNode, Graph, Place, StepId, Target, TargetId};
use nubrik_source::{Sources, Span, WsPath};

use crate::hir::*;
use crate::modules::{Missing, Modules};
use crate::types::Type;
use crate::value::*;
use crate::world::World;

pub use requests::Evaluation;

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
const WORK_LIMIT: u64 = 200_000_000;

/// How deep values may need one another.
const DEPTH_LIMIT: usize = 2_000;

/// Where an expression is evaluated: its file, names in reach, and whose value it is part of.
#[derive(Clone, Debug)]
pub(crate) struct Scope {
    pub module: ModuleId,
    pub env: Option<Arc<Env>>,
    pub owner: Arc<Owner>,
    pub this: Option<Arc<This>>,
}

/// One scope's slots, and the scope around it.
#[derive(Debug)]
pub(crate) struct Env {
    pub parent: Option<Arc<Env>>,
    pub slots: Mutex<Vec<Slot>>,
}

#[derive(Clone, Debug)]
pub(crate) enum Slot {
    Value(Value),
    Lazy(Arc<Thunk>),
}

/// Whose value is being evaluated: names of outputs and addresses follow from it.
#[derive(Debug)]
pub(crate) struct Owner {
    /// The declaration, in the graph.
    pub target: TargetId,
    pub package: WsPath,
    /// The declaration's name, then keys and fields on the way into its value.
    pub parts: Vec<Arc<str>>,
}

/// What `self` means in a kind.
#[derive(Debug)]
pub(crate) struct This {
    pub name: Arc<str>,
    pub folder: WsPath,
}

#[derive(Clone)]
enum DeclState {
    Running,
    Done(Value),
    Failed,
}

/// A value being evaluated, for the way round when it turns out to need itself.
struct Open {
    key: OpenKey,
    title: Arc<str>,
    /// Where it was asked for.
    used_at: Span,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum OpenKey {
    Decl(ModuleId, u32),
    /// A thunk, by its address: alive as long as it is open.
    Thunk(usize),
}

/// Evaluates definitions of one workspace.
pub struct Evaluator<'w> {
    world: &'w dyn World,
    modules: Modules,
    decls: HashMap<(ModuleId, u32), DeclState>,
    types: HashMap<(ModuleId, u32), Type>,
    open: Vec<Open>,
    /// Ways round that were reported, as sets of their places.
    cycles: BTreeSet<Vec<Span>>,
    graph: Graph,
    files: HashMap<WsPath, FileId>,
    tools: HashMap<Arc<str>, nubrik_graph::ToolId>,
    steps_by_folder: HashMap<WsPath, u32>,
    /// Where each step was written.
    step_spans: Vec<Span>,
    /// Outputs of each step by the names they were given.
    outputs: Vec<Vec<(Option<Arc<str>>, FileRef)>>,
    owners: HashMap<(ModuleId, u32), TargetId>,
    /// Values of declared targets by their number in the graph.
    work: u64,
    waiting: bool,
    /// Names in `use { … }` that their kits do not have, by module and number of the `use`.
    bad_names: BTreeSet<(ModuleId, u32, Arc<str>)>,
    /// Declarations that were followed for cycles already.
    followed: BTreeSet<(ModuleId, u32)>,
}

impl<'w> Evaluator<'w> {
    /// An evaluator that has loaded nothing yet.
    pub fn new(world: &'w dyn World) -> Self {
        Evaluator {
            world,
            modules: Modules::default(),
            decls: HashMap::new(),
            types: HashMap::new(),
            open: Vec::new(),
            cycles: BTreeSet::new(),
            graph: Graph::default(),
            files: HashMap::new(),
            tools: HashMap::new(),
            steps_by_folder: HashMap::new(),
            step_spans: Vec::new(),
            outputs: Vec::new(),
            owners: HashMap::new(),
            work: 0,
            waiting: false,
            bad_names: BTreeSet::new(),
            followed: BTreeSet::new(),
        }
    }

    /// The texts read so far.
    pub fn sources(&self) -> &Sources {
        &self.modules.sources
    }

    fn module(&self, id: ModuleId) -> Arc<Module> {
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

    /// The value of a declaration without parameters.
    fn declaration(&mut self, module_id: ModuleId, number: u32, used_at: Span) -> Result<Value> {
        let key = (module_id, number);
        match self.decls.get(&key) {
            Some(DeclState::Done(value)) => return Ok(value.clone()),
            Some(DeclState::Failed) => return Err(Stop::Failed),
            Some(DeclState::Running) => return self.needs_itself(OpenKey::Decl(module_id, number), used_at),
            None => {}
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
            DeclKind::Value | DeclKind::Target => {}
        }
        let title: Arc<str> = format!("{} `{}`", decl.kind.word(), decl.name.text).into();
        self.decls.insert(key, DeclState::Running);
        let result = self.opened(OpenKey::Decl(module_id, number), title, used_at, |this| {
            let owner = this.owner_of(module_id, number);
            let scope = Scope { module: module_id, env: None, owner, this: None };
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
        if let (Ok(value), DeclKind::Target) = (&result, decl.kind) {
            let target = self.target_of(module_id, number);
            self.graph.targets[target.0 as usize].kind = crate::output::value_kind(value);
        }
        match &result {
            Ok(value) => drop(self.decls.insert(key, DeclState::Done(value.clone()))),
            Err(Stop::Failed) => drop(self.decls.insert(key, DeclState::Failed)),
            Err(Stop::Waiting) => drop(self.decls.remove(&key)),
        }
        result
    }

    /// The value behind a thunk.
    fn force(&mut self, thunk: &Arc<Thunk>, used_at: Span) -> Result<Value> {
        let key = OpenKey::Thunk(Arc::as_ptr(thunk) as usize);
        let state = lock(&thunk.state).clone();
        match state {
            ThunkState::Done(value) => return Ok(value),
            ThunkState::Failed => return Err(Stop::Failed),
            ThunkState::Running => return self.needs_itself(key, used_at),
            ThunkState::New => {}
        }
        *lock(&thunk.state) = ThunkState::Running;
        let result = self.opened(key, thunk.title.clone(), used_at, |this| match &thunk.source {
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
        *lock(&thunk.state) = match &result {
            Ok(value) => ThunkState::Done(value.clone()),
            Err(Stop::Failed) => ThunkState::Failed,
            Err(Stop::Waiting) => ThunkState::New,
        };
        result
    }

    fn opened<T>(
        &mut self,
        key: OpenKey,
        title: Arc<str>,
        used_at: Span,
        body: impl FnOnce(&mut Self) -> Result<T>,
    ) -> Result<T> {
        if self.open.len() >= DEPTH_LIMIT {
            let error = Diagnostic::error("too-deep", "values need one another too deep here");
            return self.fail(used_at, error);
        }
        self.open.push(Open { key, title, used_at });
        let result = body(self);
        self.open.pop();
        result
    }

    /// Reports the way round on which a value needs itself, once for each such way.
    fn needs_itself<T>(&mut self, key: OpenKey, used_at: Span) -> Result<T> {
        let start = self.open.iter().position(|o| o.key == key).unwrap_or(0);
        let hops: Vec<(Arc<str>, Span)> = {
            let round = &self.open[start..];
            let places = round.iter().skip(1).map(|o| o.used_at).chain([used_at]);
            round.iter().map(|o| o.title.clone()).zip(places).collect()
        };
        let mut places: Vec<Span> = hops.iter().map(|h| h.1).collect();
        places.sort();
        if self.cycles.insert(places) {
            self.modules.diagnostics.push(crate::cycles::cycle_error(&hops));
        }
        Err(Stop::Failed)
    }

    /// The owner that a declaration's value has, entered in the graph on first use.
    fn owner_of(&mut self, module_id: ModuleId, number: u32) -> Arc<Owner> {
        let target = self.target_of(module_id, number);
        let module = self.module(module_id);
        let package = module.folder.clone().unwrap_or_else(WsPath::root);
        let name = module.decls[number as usize].name.text.clone();
        let mut parts = vec![name];
        if !module.is_package {
            // A kit's own steps stand under the kit's name.
            let title = WsPath::from_normal(module.title.trim_start_matches("nub:"));
            parts.insert(0, title.stem().into());
        }
        Arc::new(Owner { target, package, parts })
    }

    fn target_of(&mut self, module_id: ModuleId, number: u32) -> TargetId {
        if let Some(id) = self.owners.get(&(module_id, number)) {
            return *id;
        }
        let module = self.module(module_id);
        let decl = &module.decls[number as usize];
        let package = module.folder.clone().unwrap_or_else(WsPath::root);
        let id = TargetId(self.graph.targets.len() as u32);
        self.graph.targets.push(Target {
            address: package.child(&decl.name.text).as_str().into(),
            package,
            kind: "".into(),
            documentation: decl.documentation.clone(),
            place: self.place(decl.name.span),
            declared: decl.kind == DeclKind::Target,
            private: decl.private,
            results: Vec::new(),
        });
        self.owners.insert((module_id, number), id);
        id
    }

    /// The number of a file in the graph, entered on first use.
    fn file_id(&mut self, file: &FileRef) -> FileId {
        if let Some(id) = self.files.get(&file.path) {
            return *id;
        }
        let id = FileId(self.graph.files.len() as u32);
        self.graph.files.push(FileNode {
            path: file.path.clone(),
            maker: file.maker.map(StepId),
            folder: file.folder,
        });
        self.files.insert(file.path.clone(), id);
        id
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
        if let Some(ty) = self.types.get(&(module_id, number)) {
            return Ok(ty.clone());
        }
        if matches!(self.decls.get(&(module_id, number)), Some(DeclState::Failed)) {
            return Err(Stop::Failed);
        }
        let module = self.module(module_id);
        let decl = &module.decls[number as usize];
        let key = OpenKey::Decl(module_id, number);
        if self.open.iter().any(|o| o.key == key) {
            return self.needs_itself(key, decl.name.span);
        }
        let title: Arc<str> = format!("type `{}`", decl.name.text).into();
        let inner = self.opened(key, title, decl.name.span, |this| match &decl.ty {
            Some(ty) => this.resolve_type(module_id, ty),
            None => Ok(Type::Unknown),
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
                let found = self.modules.member(kit, name);
                Ok((kit, self.at(name.span, found)?))
            }
            Err(Missing::Pending) => self.wait(),
            Err(_) => Err(Stop::Failed),
        }
    }

    /// Counts work, and stops definitions that take too much of it.
    fn count_work(&mut self, span: Span) -> Result<()> {
        self.work += 1;
        if self.work == WORK_LIMIT {
            let error = Diagnostic::error("too-much-work", "these definitions take too long to evaluate");
            return self.fail(span, error.note(format!("the limit is {WORK_LIMIT} expressions")));
        }
        if self.work > WORK_LIMIT { Err(Stop::Failed) } else { Ok(()) }
    }
}

/// Locks a mutex that only this thread uses: it is there so that values may cross threads.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}
