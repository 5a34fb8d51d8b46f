//! Values on demand: each declaration and each value in a kind is evaluated once for the options
//! that it reached.

use std::rc::Rc;
use std::sync::Arc;

use crate::reported::Reported;
use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{Role, TargetId};
use nubrik_source::Span;
use smallvec::SmallVec;

use super::chosen::ConfigId;
use super::limits::DEPTH_LIMIT;
use super::reads::{Known, Reads};
use super::{Evaluator, Result, Scope, Stop};
use crate::hir::*;
use crate::value::*;

/// What is known of a declaration's value.
#[derive(Default)]
pub(super) struct DeclMemo {
    /// Configs under which it is being evaluated.
    pub(super) running: SmallVec<[ConfigId; 1]>,
    /// Values by the options that they reached.
    pub(super) done: Known,
    /// Its number in the graph, once it is there.
    pub(super) target: Option<TargetId>,
}

/// A value being evaluated, for the report of the cycle when it turns out to need itself.
pub(super) struct OpenValue {
    pub(super) key: OpenKey,
    /// Where it was asked for.
    pub(super) used_at: Span,
}

#[derive(Clone)]
pub(super) enum OpenKey {
    Decl(DeclId, ConfigId),
    Thunk(Rc<Thunk>),
}

impl Evaluator<'_> {
    /// The value of a declaration without parameters, under a config.
    pub(super) fn declaration(
        &mut self,
        id: DeclId,
        config: ConfigId,
        used_at: Span,
    ) -> Result<Value> {
        let key = id;
        let taken = self.take_from(id);
        if let Some(value) = self.value_set(id, config) {
            return Ok(value);
        }
        if let Some(memo) = self.known_memo(key) {
            let known = memo.done.find(&self.choices.configs[config.index()]);
            if let Some((reads, value)) = known {
                let (reads, value) = (reads.clone(), value.clone());
                self.note_reads(&reads);
                return value;
            }
            if memo.running.contains(&config) {
                return self.needs_itself(OpenKey::Decl(id, config), used_at);
            }
        }
        self.definitions.modules.entered(id.module);
        let module = self.module(id.module);
        let decl = module.decl(id);
        match decl.kind {
            DeclKind::Function => return Ok(Value::Function(id)),
            DeclKind::Kind => return Ok(Value::Kind(id)),
            DeclKind::Type => {
                let message = format!("`{}` is a type, not a value", decl.name.text);
                return self.fail(used_at, Diagnostic::error("wrong-type", message));
            }
            DeclKind::Option => drop(self.option_type(key)?),
            DeclKind::Value
            | DeclKind::Target
            | DeclKind::Test
            | DeclKind::Job
            | DeclKind::Service => {}
        }
        self.memo(key).running.push(config);
        self.choices.frames.push(Reads::default());
        let outer = self.enter_unit(id);
        let result = self.opened(OpenKey::Decl(id, config), used_at, |this| {
            this.content_of(id, config, used_at, decl.content(taken), &module)
        });
        self.leave_unit(outer);
        let reads = self.choices.frames.pop().unwrap_or_default();
        self.note_reads(&reads);
        if let (Ok(value), true) = (&result, decl.kind.role() != Role::Inner) {
            self.note_target(id, config, value, &reads);
        }
        let reads = self.shared_reads(reads);
        let memo = self.memo(key);
        memo.running.retain(|c| *c != config);
        // What waits goes on waiting: answers come between evaluations. Without that, all that
        // needs it would be evaluated again wherever it is needed.
        memo.done.add(reads, result.clone());
        result
    }

    /// The value that an option is set to under a config; notes that it was asked for.
    fn value_set(&mut self, id: DeclId, config: ConfigId) -> Option<Value> {
        if self.definitions.modules.get(id.module).decl(id).kind != DeclKind::Option {
            return None;
        }
        let set = self.choices.configs[config.index()].set.get(&id);
        let (value, written) = set.map(|s| (s.value.clone(), s.written.clone())).unzip();
        self.note_read(id, written);
        value
    }

    /// What a declaration says, evaluated and taken as the type that it names.
    fn content_of(
        &mut self,
        id: DeclId,
        config: ConfigId,
        used_at: Span,
        content: &Content,
        module: &Module,
    ) -> Result<Value> {
        let owner = self.owner_of(id);
        let scope = Scope {
            module: id.module,
            env: None,
            owner,
            this: None,
            config,
        };
        let Some(body) = content.body else {
            return self.failed_before(used_at);
        };
        self.called_at(module.decl(id).name.span, |this| {
            let value = this.eval(&scope, body)?;
            match &content.ty {
                Some(ty) => {
                    let ty = this.resolve_type(id.module, ty)?;
                    this.coerce(value, &ty, id.module, module.span(body))
                }
                None => Ok(value),
            }
        })
    }

    /// Evaluates something that is called, or declared, at a place.
    pub(super) fn called_at<T>(
        &mut self,
        place: Span,
        body: impl FnOnce(&mut Self) -> Result<T>,
    ) -> Result<T> {
        self.memos.callers.push(place);
        let result = body(self);
        self.memos.callers.pop();
        result
    }

    /// The field for further files of the kind that a declaration calls: `reads`, or else the first
    /// that may be left out.
    fn reads_field(&mut self, id: DeclId, config: ConfigId) -> Arc<str> {
        let module = self.module(id.module);
        let body = module.decl(id).to_tell().body;
        let Some(Expr::BraceCall(callee, _)) = body.map(|body| module.expr(body)) else {
            return self.nothing.clone();
        };
        let owner = self.owner_of(id);
        let scope = Scope {
            module: id.module,
            env: None,
            owner,
            this: None,
            config,
        };
        let Ok(Value::Kind(kind)) = self.eval(&scope, *callee) else {
            return self.nothing.clone();
        };
        let kind_module = self.module(kind.module);
        let params = &&kind_module.decl(kind).to_tell().params;
        let takes_files = |param: &&Param| matches!(param.ty.shape, TypeShape::Files);
        let named = params
            .iter()
            .filter(takes_files)
            .find(|param| &*param.name.text == "reads");
        let optional = || {
            params
                .iter()
                .filter(takes_files)
                .find(|param| param.default.is_some())
        };
        named
            .or_else(optional)
            .map_or_else(|| self.nothing.clone(), |param| param.name.text.clone())
    }

    /// Notes what a target turned out to be, and which options it reached.
    fn note_target(&mut self, id: DeclId, config: ConfigId, value: &Value, reads: &Reads) {
        let target = self.target_of(id);
        // Tests, jobs and services go by the word that declares them.
        let kind = match self.drafting.graph.targets[target.index()].role {
            Role::Inner | Role::Target => crate::output::value_kind(value),
            role => role.word().into(),
        };
        let reads_field = self.reads_field(id, config);
        let target_node = &mut self.drafting.graph.targets[target.index()];
        (target_node.kind, target_node.reads_field) = (kind, reads_field);
        if !reads.is_empty() {
            self.choices
                .target_reads
                .entry(target)
                .or_default()
                .add_all(reads);
        }
    }

    /// What is known of a declaration, if anything was asked of it yet.
    pub(super) fn known_memo(&self, key: DeclId) -> Option<&DeclMemo> {
        self.memos.decls.get(key.module.index())?.get(key.index())
    }

    pub(super) fn memo(&mut self, id: DeclId) -> &mut DeclMemo {
        let index = id.module.index();
        if self.memos.decls.len() <= index {
            self.memos.decls.resize_with(index + 1, Vec::new);
        }
        let memos = &mut self.memos.decls[index];
        if memos.is_empty() {
            memos.resize_with(
                self.definitions.modules.get(id.module).decls.len(),
                DeclMemo::default,
            );
        }
        &mut memos[id.index()]
    }

    /// Forgets that a declaration failed under the options that are chosen, so that it is evaluated
    /// again where it is needed.
    pub(super) fn forget_failure(&mut self, key: DeclId) {
        self.memo(key).done.forget_failures();
    }

    /// Options that were reached, to be kept: most often none.
    pub(super) fn shared_reads(&self, reads: Reads) -> Rc<Reads> {
        if reads.is_empty() {
            self.choices.nothing_reached.clone()
        } else {
            Rc::new(reads)
        }
    }

    /// Takes note that a declaration has no value, whatever is set.
    pub(super) fn mark_failed(&mut self, key: DeclId, reported: Reported) {
        self.memo(key)
            .done
            .add(Rc::default(), Err(Stop::Failed(reported)));
    }

    /// The value behind a thunk.
    pub(super) fn force(&mut self, thunk: &Rc<Thunk>, used_at: Span) -> Result<Value> {
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
                ThunkState::Failed(reported) => return Err(Stop::Failed(*reported)),
                ThunkState::Waiting(reads) => {
                    let reads = reads.clone();
                    drop(state);
                    self.note_reads(&reads);
                    return Err(Stop::Waiting);
                }
                ThunkState::Running => {
                    drop(state);
                    return self.needs_itself(OpenKey::Thunk(thunk.clone()), used_at);
                }
                ThunkState::New(_) => {}
            }
            match std::mem::replace(&mut *state, ThunkState::Running) {
                ThunkState::New(source) => source,
                _ => {
                    drop(state);
                    return self.failed_before(used_at);
                }
            }
        };
        self.choices.frames.push((*thunk.captured).clone());
        let outer = self.watched.map(|watched| watched.enter(thunk.origin));
        let key = OpenKey::Thunk(thunk.clone());
        let result = self.opened(key, used_at, |this| this.forced(thunk, &source, used_at));
        self.leave_unit(outer);
        let reads = self.choices.frames.pop().unwrap_or_default();
        let reads = self.shared_reads(reads);
        self.note_reads(&reads);
        *thunk.state.borrow_mut() = match &result {
            Ok(value) => ThunkState::Done(value.clone(), reads),
            Err(Stop::Failed(reported)) => ThunkState::Failed(*reported),
            Err(Stop::Waiting) => ThunkState::Waiting(reads),
        };
        result
    }

    /// The value of a thunk that nobody asked for before.
    fn forced(&mut self, thunk: &Thunk, source: &ThunkSource, used_at: Span) -> Result<Value> {
        match source {
            ThunkSource::Expr { scope, expr, ty } => {
                let value = self.eval(scope, *expr)?;
                match ty {
                    Some(ty) => self.coerce(value, ty, scope.module, thunk.span),
                    None => Ok(value),
                }
            }
            ThunkSource::Coerced { inner, ty, base } => {
                let value = self.force(inner, used_at)?;
                self.coerce(value, ty, *base, thunk.span)
            }
        }
    }

    pub(super) fn opened<T>(
        &mut self,
        key: OpenKey,
        used_at: Span,
        body: impl FnOnce(&mut Self) -> Result<T>,
    ) -> Result<T> {
        if self.memos.open.len() >= DEPTH_LIMIT {
            let error = Diagnostic::error("too-deep", "values need one another too deep here");
            return self.fail(used_at, error);
        }
        self.memos.open.push(OpenValue { key, used_at });
        let result = body(self);
        self.memos.open.pop();
        result
    }

    /// Reports the cycle on which a value needs itself, once for each such way.
    pub(super) fn needs_itself<T>(&mut self, key: OpenKey, used_at: Span) -> Result<T> {
        let start = self
            .memos
            .open
            .iter()
            .position(|o| o.key == key)
            .unwrap_or(0);
        let hops: Vec<(Title, Span)> = {
            let round = &self.memos.open[start..];
            let places = round.iter().skip(1).map(|o| o.used_at).chain([used_at]);
            round
                .iter()
                .map(|o| self.title_of(&o.key))
                .zip(places)
                .collect()
        };
        let mut places: Vec<Span> = hops.iter().map(|h| h.1).collect();
        places.sort();
        if self.memos.cycles.insert(places) {
            return self.fail_whole(crate::cycles::cycle_error(&hops));
        }
        self.failed_before(used_at)
    }

    /// What represents something open in messages.
    pub(super) fn title_of(&self, key: &OpenKey) -> Title {
        match key {
            OpenKey::Decl(id, _) => {
                let decl = self.definitions.modules.get(id.module).decl(*id);
                Title {
                    word: decl.kind.word(),
                    name: decl.name.text.clone(),
                }
            }
            OpenKey::Thunk(thunk) => thunk.title.clone(),
        }
    }
}

impl PartialEq for OpenKey {
    fn eq(&self, other: &OpenKey) -> bool {
        match (self, other) {
            (OpenKey::Decl(one, c), OpenKey::Decl(other, config)) => (one, c) == (other, config),
            (OpenKey::Thunk(one), OpenKey::Thunk(other)) => Rc::ptr_eq(one, other),
            _ => false,
        }
    }
}
