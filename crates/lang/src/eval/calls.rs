//! Calls: functions, kinds, methods, and the forms of the language.

use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::Span;
use smallvec::SmallVec;

use super::{Env, Evaluator, OpenKey, Result, Scope, Slot, Stop};
use crate::builtins::{Builtin, CallShape, form_of};
use crate::hir::*;
use crate::types::Type;
use crate::value::*;

/// An argument: its name where one was given, its value, and the place of the value.
pub(super) struct Given<'a> {
    pub name: Option<&'a Name>,
    pub value: Value,
    /// Whether it rests on the answer of a scan.
    pub scanned: bool,
    pub span: Span,
}

impl Evaluator<'_> {
    pub(super) fn call(&mut self, scope: &Scope, callee: ExprId, args: &[Arg], span: Span) -> Result<Value> {
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
            Value::Function(module_id, number) => {
                let args = self.given(scope, args)?;
                self.function(scope, module_id, number, args, span)
            }
            Value::Builtin(Builtin::Glob) => {
                let args = self.given(scope, args)?;
                self.glob_call(scope, args, span)
            }
            Value::Builtin(
                builtin @ (Builtin::LoadCsv | Builtin::LoadJson | Builtin::LoadToml | Builtin::LoadLines),
            ) => self.load_call(scope, builtin, args, span),
            Value::Builtin(Builtin::Env) => {
                let args = self.given(scope, args)?;
                self.env_call(args, span)
            }
            Value::Builtin(Builtin::Secret) => {
                let args = self.given(scope, args)?;
                self.secret_call(args, span)
            }
            Value::Builtin(Builtin::Beside) => {
                let args = self.given(scope, args)?;
                self.beside_call(scope, args, span)
            }
            Value::Kind(..) => {
                let error = Diagnostic::error("wrong-call", "a kind is called with braces");
                let name = self.definitions.modules.sources.slice(callee_span).to_owned();
                self.fail(span, error.mend(format!("{name} {{ … }}")))
            }
            Value::Builtin(builtin) => {
                let name = form_of(builtin).name;
                let error = Diagnostic::error("wrong-call", format!("`{name}` is called with braces"));
                self.fail(span, error.mend(format!("{name} {{ … }}")))
            }
            other => {
                let error =
                    Diagnostic::error("wrong-call", format!("{} cannot be called", other.described()));
                self.fail(callee_span, error)
            }
        }
    }

    fn given<'a>(&mut self, scope: &Scope, args: &'a [Arg]) -> Result<Vec<Given<'a>>> {
        let module = self.module(scope.module);
        self.all(args, |this, arg| {
            let (value, scanned) = this.scans_in(|this| this.eval(scope, arg.value))?;
            Ok(Given { name: arg.name.as_ref(), value, scanned, span: module.span(arg.value) })
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
            return self.stage_form(scope, map, span);
        }
        let Expr::Record(fields) = module.expr(record) else {
            if matches!(module.expr(record), Expr::Error) {
                return Err(Stop::Failed);
            }
            let error =
                Diagnostic::error("wrong-call", "a call with braces takes fields such as `name = value`");
            return self.fail(module.span(record), error);
        };
        match callee_value {
            Value::Kind(module_id, number) => {
                let args = self.all(fields, |this, (name, value)| {
                    let span = module.span(*value);
                    let (value, scanned) = this.scans_in(|this| this.eval(scope, *value))?;
                    Ok(Given { name: Some(name), value, scanned, span })
                })?;
                self.kind(scope, module_id, number, args, callee_span)
            }
            Value::Builtin(Builtin::Stage) => {
                let error =
                    Diagnostic::error("wrong-call", "`stage` takes places and the files that go there");
                self.fail(span, error.mend("stage { \"bin/tidecast\": tidecast }"))
            }
            Value::Builtin(builtin) if form_of(builtin).shape == CallShape::Braces => {
                self.form(scope, builtin, fields, span)
            }
            Value::Function(..) | Value::Builtin(_) => {
                let title = self.definitions.modules.sources.slice(callee_span).to_owned();
                let error =
                    Diagnostic::error("wrong-call", format!("`{title}` is called with round brackets"));
                self.fail(span, error.mend(format!("{title}(…)")))
            }
            other => {
                let error =
                    Diagnostic::error("wrong-call", format!("{} cannot be called", other.described()));
                self.fail(callee_span, error)
            }
        }
    }

    /// Calls a function; it may not be open already.
    fn function(
        &mut self,
        scope: &Scope,
        module_id: ModuleId,
        number: u32,
        args: Vec<Given<'_>>,
        span: Span,
    ) -> Result<Value> {
        let module = self.module(module_id);
        let decl = &module.decls[number as usize];
        let key = OpenKey::Decl(module_id, number, super::DEFAULTS);
        if self.memos.open.iter().any(|o| o.key == key) {
            return self.needs_itself(key, span);
        }
        let slots = self.bind(scope, module_id, number, args, span, Some(&decl.name.text))?;
        let env = Rc::new(Env { parent: None, slots: RefCell::new(slots) });
        let inner = Scope {
            module: module_id,
            env: Some(env),
            owner: scope.owner.clone(),
            this: None,
            config: scope.config,
        };
        let Some(body) = decl.body else { return Err(Stop::Failed) };
        self.opened(key, span, |this| {
            let value = this.eval(&inner, body)?;
            match &decl.ty {
                Some(ty) => {
                    let ty = this.result_type(module_id, number, ty)?;
                    this.coerce(value, &ty, module_id, module.span(body))
                }
                None => Ok(value),
            }
        })
    }

    fn kind(
        &mut self,
        scope: &Scope,
        module_id: ModuleId,
        number: u32,
        args: Vec<Given<'_>>,
        span: Span,
    ) -> Result<Value> {
        let module = self.module(module_id);
        let decl = &module.decls[number as usize];
        let mut slots = self.bind(scope, module_id, number, args, span, None)?;
        let owner = scope.owner.clone();
        let this = Some(owner.clone());
        let env = Rc::new(Env { parent: None, slots: RefCell::new(Vec::new()) });
        let config = scope.config;
        let inner = Scope { module: module_id, env: Some(env.clone()), owner, this, config };
        for item in &decl.lets {
            let ty = match &item.ty {
                Some(ty) => Some(self.resolve_type(module_id, ty)?),
                None => None,
            };
            slots.push(Slot::Lazy(Rc::new(Thunk {
                state: RefCell::new(ThunkState::New(ThunkSource::Expr {
                    scope: inner.clone(),
                    expr: item.body,
                    ty,
                })),
                title: Title { word: "value", name: item.name.text.clone() },
                span: module.span(item.body),
                captured: self.captured(),
                origin: self.unit(),
            })));
        }
        *env.slots.borrow_mut() = slots;
        if !decl.lets.is_empty() {
            self.memos.kind_scopes.push(Rc::downgrade(&env));
        }
        let Some(body) = decl.body else { return Err(Stop::Failed) };
        let value = self.eval(&inner, body);
        let value = match (&decl.ty, value) {
            (Some(ty), Ok(value)) => {
                let ty = self.result_type(module_id, number, ty)?;
                self.coerce(value, &ty, module_id, module.span(body))
            }
            (_, value) => value,
        };
        if let Ok(Value::Record(mut record)) = value {
            Rc::make_mut(&mut record).kind = Some(decl.name.text.clone());
            return Ok(Value::Record(record));
        }
        value
    }

    /// Parameters to slots: each argument taken as its type, defaults where there is none. Without a
    /// title messages call it as the place of the call does.
    fn bind(
        &mut self,
        scope: &Scope,
        module_id: ModuleId,
        number: u32,
        args: Vec<Given<'_>>,
        span: Span,
        title: Option<&str>,
    ) -> Result<Vec<Slot>> {
        let module = self.module(module_id);
        let decl = &module.decls[number as usize];
        let types = self.param_types(module_id, number)?;
        let mut given: SmallVec<[Option<Given<'_>>; 6]> = decl.params.iter().map(|_| None).collect();
        let mut failed = false;
        let mut positional = 0;
        for arg in args {
            let at = match &arg.name {
                Some(name) => decl.params.iter().position(|p| p.name.text == name.text),
                None => {
                    positional += 1;
                    (positional <= decl.params.len()).then(|| positional - 1)
                }
            };
            match at {
                Some(at) if given[at].is_none() => given[at] = Some(arg),
                Some(_) => {
                    let error = Diagnostic::error("wrong-call", "this parameter is given twice");
                    let _ = self.fail::<()>(arg.span, error);
                    failed = true;
                }
                None => {
                    let title = title.unwrap_or(self.definitions.modules.sources.slice(span)).to_owned();
                    let error = self.unknown_param(decl, &arg, &title);
                    let place = arg.name.map_or(arg.span, |n| n.span);
                    let _ = self.fail::<()>(place, error);
                    failed = true;
                }
            }
        }
        let mut slots = Vec::with_capacity(decl.params.len() + decl.lets.len());
        let mut missing = Vec::new();
        for ((param, arg), ty) in decl.params.iter().zip(given).zip(types.iter()) {
            let scanned = arg.as_ref().is_some_and(|arg| arg.scanned);
            let result = match (arg, param.default) {
                (Some(arg), _) => self.coerce_param(arg.value, ty, scope.module, arg.span, param),
                (None, Some(default)) => {
                    let inner = Scope {
                        module: module_id,
                        env: None,
                        owner: scope.owner.clone(),
                        this: None,
                        config: scope.config,
                    };
                    let value = self.eval(&inner, default)?;
                    self.coerce(value, ty, module_id, module.span(default))
                }
                (None, None) if matches!(ty, Type::Optional(_)) => Ok(Value::None),
                (None, None) => {
                    missing.push(param);
                    continue;
                }
            };
            match result {
                Ok(value) => slots.push(Slot::of(value, scanned)),
                Err(Stop::Waiting) => return Err(Stop::Waiting),
                Err(Stop::Failed) => failed = true,
            }
        }
        if failed {
            return Err(Stop::Failed); // A misspelt parameter is not missing as well.
        }
        if let Some(first) = missing.first() {
            let names: Vec<String> = missing.iter().map(|p| format!("`{}`", p.name.text)).collect();
            let title = title.unwrap_or(self.definitions.modules.sources.slice(span)).to_owned();
            let mut error =
                Diagnostic::error("missing-field", format!("`{title}` needs {}", names.join(" and ")));
            for param in &missing {
                let ty = self.resolve_type(module_id, &param.ty)?.written();
                error = error.mend(format!("{} = …   a value of type {ty}", param.name.text));
            }
            return self.fail(span, error.related(first.name.span, "declared here without a default"));
        }
        Ok(slots)
    }

    /// The type that a function or kind gives, which it has written so.
    fn result_type(&mut self, module_id: ModuleId, number: u32, written: &TypeExpr) -> Result<Arc<Type>> {
        if let Some(known) = self.memos.result_types.get(&(module_id, number)) {
            return Ok(known.clone());
        }
        let ty = self.in_unit(module_id, number, |this| this.resolve_type(module_id, written))?;
        let ty = Arc::new(ty);
        self.memos.result_types.insert((module_id, number), ty.clone());
        Ok(ty)
    }

    /// The types of a declaration's parameters.
    fn param_types(&mut self, module_id: ModuleId, number: u32) -> Result<Arc<[Type]>> {
        self.take_from(module_id, number);
        if let Some(known) = self.memos.param_types.get(&(module_id, number)) {
            return Ok(known.clone());
        }
        let module = self.module(module_id);
        let params = &module.decls[number as usize].params;
        let types = self.in_unit(module_id, number, |this| {
            this.all(params, |this, param| this.resolve_type(module_id, &param.ty))
        })?;
        let types: Arc<[Type]> = types.into();
        self.memos.param_types.insert((module_id, number), types.clone());
        Ok(types)
    }

    fn unknown_param(&self, decl: &Decl, arg: &Given<'_>, title: &str) -> Diagnostic {
        let Some(name) = &arg.name else {
            let message = format!("`{title}` takes {} values", decl.params.len());
            return Diagnostic::error("wrong-call", message).related(decl.name.span, "declared here");
        };
        let names: Vec<&str> = decl.params.iter().map(|p| &*p.name.text).collect();
        let near = nearest(&name.text, names.iter().copied()).map(str::to_owned);
        Diagnostic::error("unknown-field", format!("`{title}` has no parameter `{}`", name.text))
            .note(format!("it has: {}", names.join(", ")))
            .maybe_mend(near)
    }

    fn glob_call(&mut self, scope: &Scope, args: Vec<Given<'_>>, span: Span) -> Result<Value> {
        let mut pattern = None;
        let mut except = Vec::new();
        let mut or_none = false;
        for arg in args {
            match (arg.name.map(|n| &*n.text), arg.value) {
                (None, Value::Text(Text::Plain(text))) if pattern.is_none() => {
                    pattern = Some((text, arg.span))
                }
                (Some("except"), Value::Text(Text::Plain(text))) => except.push(text.to_string()),
                (Some("except"), Value::List(items)) => {
                    for item in items.iter() {
                        let Value::Text(Text::Plain(text)) = item else {
                            let error = Diagnostic::error("wrong-type", "expected patterns as texts");
                            return self.fail(arg.span, error);
                        };
                        except.push(text.to_string());
                    }
                }
                (Some("or_none"), Value::Bool(value)) => or_none = value,
                (Some(name), value) if matches!(name, "except" | "or_none") => {
                    let wanted = if name == "or_none" { "a bool" } else { "a pattern or a list of patterns" };
                    let message = format!("expected {wanted}, found {}", value.described());
                    return self.fail(arg.span, Diagnostic::error("wrong-type", message));
                }
                (Some(name), _) => {
                    let near = nearest(name, ["except", "or_none"]);
                    let error =
                        Diagnostic::error("unknown-field", format!("`glob` has no parameter `{name}`"));
                    return self.fail(arg.span, error.maybe_mend(near));
                }
                (None, value) => {
                    let message = format!("expected one pattern as a text, found {}", value.described());
                    return self.fail(arg.span, Diagnostic::error("wrong-type", message));
                }
            }
        }
        let Some((pattern, pattern_span)) = pattern else {
            let error = Diagnostic::error("wrong-call", "`glob` needs a pattern");
            return self.fail(span, error.mend("glob(\"src/*.c\")"));
        };
        let base = self.base_folder(scope.module, &pattern, pattern_span)?;
        self.globbed(&base, &pattern, &except, or_none, pattern_span)
    }
}
