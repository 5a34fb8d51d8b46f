//! Calls: functions, kinds, methods, and the forms of the language.

use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;
use nubrik_wording::counted;
use smallvec::SmallVec;

use super::forms::{FormEvaluation, way_of};
use super::{Env, Evaluator, OpenKey, Result, Scope, Slot, Stop};
use crate::builtins::{Builtin, form_of};
use crate::eval::Taken;
use crate::hir::*;
use crate::renamed::meant;
use crate::reported::Reported;
use crate::types::Type;
use crate::value::*;

/// A text and its place.
type PlacedText = (Arc<str>, Span);

/// An argument: its name where one was given, its value, and the place of the value.
pub(super) struct Given<'a> {
    pub name: Option<&'a Name>,
    pub value: Value,
    /// Whether it rests on the answer of a probe.
    pub probed: bool,
    pub span: Span,
}

impl Evaluator<'_> {
    pub(super) fn call(
        &mut self,
        scope: &Scope,
        callee: ExprId,
        args: &[Arg],
        span: Span,
    ) -> Result<Value> {
        let module = self.module(scope.module);
        let callee_span = module.span(callee);
        if let Expr::Field(base, name) = module.expr(callee) {
            let base_value = self.eval(scope, *base)?;
            // A field that holds a function is called, anything else is a method.
            let is_field = matches!(&base_value, Value::Record(r) if r.get(&name.text).is_some());
            if !is_field {
                let args = self.given(scope, args)?;
                return self.method_call(scope, base_value, name, args, span);
            }
        }
        match self.eval(scope, callee)? {
            Value::Function(id) => {
                let args = self.given(scope, args)?;
                self.function(scope, id, args, span)
            }
            Value::Kind(..) => {
                let error = Diagnostic::error("wrong-call", "a kind is called with braces");
                let name = self
                    .definitions
                    .modules
                    .sources
                    .slice(callee_span)
                    .to_owned();
                self.fail(span, error.mend(format!("{name} {{ … }}")))
            }
            Value::Builtin(builtin) => {
                if let FormEvaluation::Round(evaluate) = way_of(builtin) {
                    return evaluate(self, scope, args, span);
                }
                let name = form_of(builtin).name;
                let error =
                    Diagnostic::error("wrong-call", format!("`{name}` is called with braces"));
                self.fail(span, error.mend(format!("{name} {{ … }}")))
            }
            other => {
                let error = Diagnostic::error(
                    "wrong-call",
                    format!("{} cannot be called", other.described()),
                );
                self.fail(callee_span, error)
            }
        }
    }

    pub(super) fn given<'a>(&mut self, scope: &Scope, args: &'a [Arg]) -> Result<Vec<Given<'a>>> {
        let module = self.module(scope.module);
        self.all(args, |this, arg| {
            let (value, probed) = this.probes_in(|this| this.eval(scope, arg.value))?;
            Ok(Given {
                name: arg.name.as_ref(),
                value,
                probed,
                span: module.span(arg.value),
            })
        })
    }

    pub(super) fn brace_call(
        &mut self,
        scope: &Scope,
        callee: ExprId,
        record: ExprId,
        span: Span,
    ) -> Result<Value> {
        let module = self.module(scope.module);
        let callee_span = module.span(callee);
        let callee_value = self.eval(scope, callee)?;
        if let (Value::Builtin(Builtin::Stage), Expr::Map(_) | Expr::Each(_)) =
            (&callee_value, module.expr(record))
        {
            let map = self.eval(scope, record)?;
            return self.staged_map(scope, map, span);
        }
        let Expr::Record(fields) = module.expr(record) else {
            if matches!(module.expr(record), Expr::Error) {
                return self.failed_before(span);
            }
            let error = Diagnostic::error(
                "wrong-call",
                "a call with braces takes fields such as `name = value`",
            );
            return self.fail(module.span(record), error);
        };
        match callee_value {
            Value::Kind(id) => {
                let args = self.all(fields, |this, (name, value)| {
                    let span = module.span(*value);
                    let (value, probed) = this.probes_in(|this| this.eval(scope, *value))?;
                    Ok(Given {
                        name: Some(name),
                        value,
                        probed,
                        span,
                    })
                })?;
                self.kind(scope, id, args, callee_span)
            }
            Value::Builtin(builtin) if matches!(way_of(builtin), FormEvaluation::Braces(_)) => {
                self.form(scope, builtin, fields, span)
            }
            other => self.no_brace_call(&other, callee_span, span),
        }
    }

    /// Refuses a call with braces of what takes none.
    fn no_brace_call(&mut self, callee: &Value, callee_span: Span, span: Span) -> Result<Value> {
        if let Value::Function(..) | Value::Builtin(_) = callee {
            let title = self
                .definitions
                .modules
                .sources
                .slice(callee_span)
                .to_owned();
            let message = format!("`{title}` is called with round brackets");
            let error = Diagnostic::error("wrong-call", message);
            return self.fail(span, error.mend(format!("{title}(…)")));
        }
        let message = format!("{} cannot be called", callee.described());
        self.fail(callee_span, Diagnostic::error("wrong-call", message))
    }

    /// Calls a function; it may not be open already.
    pub(super) fn function(
        &mut self,
        scope: &Scope,
        id: DeclId,
        args: Vec<Given<'_>>,
        span: Span,
    ) -> Result<Value> {
        let module = self.module(id.module);
        let decl = module.decl(id);
        let key = OpenKey::Decl(id, super::DEFAULTS);
        if self.memos.open.iter().any(|o| o.key == key) {
            return self.needs_itself(key, span);
        }
        let taken = self.take_from(id);
        let slots = self.bind(scope, id, taken, (args, span), Some(&decl.name.text))?;
        let env = Rc::new(Env {
            parent: None,
            slots: RefCell::new(slots),
        });
        let inner = Scope {
            module: id.module,
            env: Some(env),
            owner: scope.owner.clone(),
            this: None,
            config: scope.config,
        };
        let content = decl.content(taken);
        let Some(body) = content.body else {
            return self.failed_before(span);
        };
        self.opened(key, span, |this| {
            this.called(&inner, id, (content, body), span)
        })
    }

    /// What a function or kind gives, taken as the type that it says.
    fn called(
        &mut self,
        inner: &Scope,
        id: DeclId,
        (content, body): (&Content, ExprId),
        span: Span,
    ) -> Result<Value> {
        self.called_at(span, |this| {
            let value = this.eval(inner, body)?;
            let Some(ty) = &content.ty else {
                return Ok(value);
            };
            let ty = this.result_type(id, ty)?;
            let span = this.module(id.module).span(body);
            this.coerce(value, &ty, id.module, span)
        })
    }

    fn kind(
        &mut self,
        scope: &Scope,
        id: DeclId,
        args: Vec<Given<'_>>,
        span: Span,
    ) -> Result<Value> {
        let module = self.module(id.module);
        let decl = module.decl(id);
        let taken = self.take_from(id);
        let content = decl.content(taken);
        let given: SmallVec<[Arc<str>; 6]> = args
            .iter()
            .filter_map(|arg| Some(arg.name?.text.clone()))
            .collect();
        let mut slots = self.bind(scope, id, taken, (args, span), None)?;
        self.tell_call(scope, id, &given, &slots);
        let owner = scope.owner.clone();
        let this = Some(owner.clone());
        let env = Rc::new(Env {
            parent: None,
            slots: RefCell::new(Vec::new()),
        });
        let config = scope.config;
        let inner = Scope {
            module: id.module,
            env: Some(env.clone()),
            owner,
            this,
            config,
        };
        for item in &content.lets {
            slots.push(self.slot_of_let(&inner, item)?);
        }
        *env.slots.borrow_mut() = slots;
        if !content.lets.is_empty() {
            self.memos.kind_scopes.push(Rc::downgrade(&env));
        }
        let Some(body) = content.body else {
            return self.failed_before(span);
        };
        let value = self.called(&inner, id, (content, body), span);
        if let Ok(Value::Record(mut record)) = value {
            Rc::make_mut(&mut record).kind = Some(decl.name.text.clone());
            return Ok(Value::Record(record));
        }
        value
    }

    /// The slot for a name that a kind declares inside, which is evaluated when it is asked for.
    fn slot_of_let(&mut self, inner: &Scope, item: &KindLet) -> Result<Slot> {
        let ty = match &item.ty {
            Some(ty) => Some(self.resolve_type(inner.module, ty)?),
            None => None,
        };
        let source = ThunkSource::Expr {
            scope: inner.clone(),
            expr: item.body,
            ty,
        };
        Ok(Slot::Lazy(Rc::new(Thunk {
            state: RefCell::new(ThunkState::New(source)),
            title: Title {
                word: "value",
                name: item.name.text.clone(),
            },
            span: self.module(inner.module).span(item.body),
            captured: self.captured(),
            origin: self.unit(),
        })))
    }

    /// Parameters to slots: each argument taken as its type, defaults where there is none. Without
    /// a title messages call it as the place of the call does.
    fn bind(
        &mut self,
        scope: &Scope,
        id: DeclId,
        taken: Taken,
        (args, span): (Vec<Given<'_>>, Span),
        title: Option<&str>,
    ) -> Result<Vec<Slot>> {
        let module = self.module(id.module);
        let decl = module.decl(id);
        let content = decl.content(taken);
        let types = self.param_types(id, taken)?;
        let (given, mut failed) = self.by_parameter(decl, content, args, span, title);
        let mut slots = Vec::with_capacity(content.params.len() + content.lets.len());
        let mut missing = Vec::new();
        for ((param, arg), ty) in content.params.iter().zip(given).zip(types.iter()) {
            let probed = arg.as_ref().is_some_and(|arg| arg.probed);
            let result = match (arg, param.default) {
                (Some(arg), _) => self.coerce_param(arg.value, ty, scope.module, arg.span, param),
                (None, Some(default)) => {
                    let inner = Scope {
                        module: id.module,
                        env: None,
                        owner: scope.owner.clone(),
                        this: (decl.kind == DeclKind::Kind).then(|| scope.owner.clone()),
                        config: scope.config,
                    };
                    let value = self.eval(&inner, default)?;
                    self.coerce(value, ty, id.module, module.span(default))
                }
                (None, None) if matches!(ty, Type::Optional(_)) => Ok(Value::None),
                (None, None) => {
                    missing.push(param);
                    continue;
                }
            };
            match result {
                Ok(value) => slots.push(Slot::of(value, probed)),
                Err(Stop::Waiting) => return Err(Stop::Waiting),
                Err(Stop::Failed(reported)) => failed = Some(reported),
            }
        }
        if let Some(reported) = failed {
            return Err(Stop::Failed(reported)); // A misspelt parameter is not missing as well.
        }
        if missing.is_empty() {
            Ok(slots)
        } else {
            self.missing_params(id.module, &missing, span, title)
        }
    }

    /// The arguments by their parameters, and what was reported of those that have none.
    fn by_parameter<'a>(
        &mut self,
        decl: &Decl,
        content: &Content,
        args: Vec<Given<'a>>,
        span: Span,
        title: Option<&str>,
    ) -> (SmallVec<[Option<Given<'a>>; 6]>, Option<Reported>) {
        let mut given: SmallVec<[Option<Given<'a>>; 6]> =
            content.params.iter().map(|_| None).collect();
        let mut failed = None;
        let mut positional = 0;
        for arg in args {
            let at = match &arg.name {
                Some(name) => content.params.iter().position(|p| p.name.text == name.text),
                None => {
                    positional += 1;
                    (positional <= content.params.len()).then(|| positional - 1)
                }
            };
            match at {
                Some(at) if given[at].is_none() => given[at] = Some(arg),
                Some(_) => {
                    let error = Diagnostic::error("wrong-call", "this parameter is given twice");
                    failed = Some(self.definitions.modules.report(arg.span, error));
                }
                None => {
                    let title = title
                        .unwrap_or(self.definitions.modules.sources.slice(span))
                        .to_owned();
                    let error = self.unknown_param(decl, &arg, &title);
                    let place = arg.name.map_or(arg.span, |n| n.span);
                    failed = Some(self.definitions.modules.report(place, error));
                }
            }
        }
        (given, failed)
    }

    fn missing_params<T>(
        &mut self,
        module: ModuleId,
        missing: &[&Param],
        span: Span,
        title: Option<&str>,
    ) -> Result<T> {
        let names: Vec<String> = missing
            .iter()
            .map(|p| format!("`{}`", p.name.text))
            .collect();
        let title = title
            .unwrap_or(self.definitions.modules.sources.slice(span))
            .to_owned();
        let mut error = Diagnostic::error(
            "missing-field",
            format!("`{title}` needs {}", names.join(" and ")),
        );
        for param in missing {
            let ty = self.resolve_type(module, &param.ty)?.written();
            error = error.mend(format!("{} = …   a value of type {ty}", param.name.text));
        }
        if let Some(first) = missing.first() {
            error = error.related(first.name.span, "declared here without a default");
        }
        self.fail(span, error)
    }

    /// The type that a function or kind gives, which it has written so.
    fn result_type(&mut self, id: DeclId, written: &TypeExpr) -> Result<Arc<Type>> {
        if let Some(known) = self.memos.result_types.get(&id) {
            return Ok(known.clone());
        }
        let ty = self.in_unit(id, |this| this.resolve_type(id.module, written))?;
        let ty = Arc::new(ty);
        self.memos.result_types.insert(id, ty.clone());
        Ok(ty)
    }

    /// The types of a declaration's parameters.
    fn param_types(&mut self, id: DeclId, taken: Taken) -> Result<Arc<[Type]>> {
        if let Some(known) = self.memos.param_types.get(&id) {
            return Ok(known.clone());
        }
        let module = self.module(id.module);
        let params = &module.decl(id).content(taken).params;
        let types = self.in_unit(id, |this| {
            this.all(params, |this, param| {
                this.resolve_type(id.module, &param.ty)
            })
        })?;
        let types: Arc<[Type]> = types.into();
        self.memos.param_types.insert(id, types.clone());
        Ok(types)
    }

    fn unknown_param(&self, decl: &Decl, arg: &Given<'_>, title: &str) -> Diagnostic {
        let Some(name) = &arg.name else {
            let count = decl.to_tell().params.len();
            let message = format!("`{title}` takes {}", counted(count, "value"));
            let error =
                Diagnostic::error("wrong-call", message).related(decl.name.span, "declared here");
            return error.mend("remove it");
        };
        let names: Vec<&str> = decl
            .to_tell()
            .params
            .iter()
            .map(|p| &*p.name.text)
            .collect();
        let near = meant(&name.text, names.iter().copied()).map(str::to_owned);
        Diagnostic::error(
            "unknown-field",
            format!("`{title}` has no parameter `{}`", name.text),
        )
        .note(format!("it has: {}", names.join(", ")))
        .maybe_mend(near)
    }

    /// The one text without a name that a function wants, and what was given by the other names.
    pub(super) fn one_text_and<'a>(
        &mut self,
        args: Vec<Given<'a>>,
        function: &str,
        others: &[&str],
        span: Span,
    ) -> Result<(PlacedText, Vec<Given<'a>>)> {
        let mut text = None;
        let mut rest = Vec::new();
        for arg in args {
            match (&arg.name, &arg.value) {
                (None, Value::Text(Text::Plain(t))) if text.is_none() => {
                    text = Some((t.clone(), arg.span))
                }
                (None, value) => {
                    let message =
                        format!("`{function}` takes one text, found {}", value.described());
                    return self.fail(arg.span, Diagnostic::error("wrong-type", message));
                }
                (Some(name), _) if others.contains(&&*name.text) => rest.push(arg),
                (Some(name), _) => {
                    let message = format!("`{function}` has no parameter `{}`", name.text);
                    let near = nubrik_diagnostic::nearest(&name.text, others.iter().copied());
                    return self.fail(
                        name.span,
                        Diagnostic::error("unknown-field", message).maybe_mend(near),
                    );
                }
            }
        }
        match text {
            Some(text) => Ok((text, rest)),
            None => {
                let error = Diagnostic::error("wrong-call", format!("`{function}` needs a text"));
                self.fail(span, error.mend(format!("{function}(\"…\")")))
            }
        }
    }
}
