//! Expressions.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::Span;
use rustc_hash::FxHashSet;

use super::forms::{FormEvaluation, way_of};
use super::{Evaluator, Owner, Result, Scope, Slot, Stop};
use crate::hir::*;
use crate::renamed::meant;
use crate::value::*;

/// Longer texts do not leave the room behind in which they were put together, in bytes.
const KEPT_ROOM: usize = 1 << 16;

/// A field of `self`.
fn own_field(scope: &Scope, name: &str) -> Option<Value> {
    let own = |what| Value::Text(Text::Carrying(Rc::new([Strand::Own(what)])));
    match (name, &scope.this) {
        ("address", _) => Some(own(Whereabouts::Address)),
        ("port", _) => Some(own(Whereabouts::Port)),
        ("name", Some(this)) => Some(Value::Text(Text::Plain(
            this.parts.last().cloned().unwrap_or_default(),
        ))),
        ("folder", Some(this)) => Some(Value::File(FileRef {
            path: this.package.clone(),
            maker: None,
            folder: true,
        })),
        _ => None,
    }
}

impl Evaluator<'_> {
    /// The value of an expression.
    pub(super) fn eval(&mut self, scope: &Scope, id: ExprId) -> Result<Value> {
        let module = self.module(scope.module);
        let span = module.span(id);
        self.count_work(span)?;
        match module.expr(id) {
            Expr::Error => self.failed_before(span),
            Expr::None => Ok(Value::None),
            Expr::Bool(value) => Ok(Value::Bool(*value)),
            Expr::Int(value) => Ok(Value::Int(*value)),
            Expr::Duration(millis) => Ok(Value::Duration(*millis)),
            Expr::Plain(text) => Ok(Value::Text(Text::Plain(text.clone()))),
            Expr::Text(pieces) => self.text(scope, pieces, span),
            Expr::Local { up, slot } => self.local(scope, *up, *slot, span),
            Expr::Decl(number) => {
                self.declaration(DeclId::new(scope.module, *number), scope.config, span)
            }
            Expr::Kit(number) => {
                let kit = &module.uses[*number as usize];
                let name = kit.alias.as_ref().map_or(&kit.path, |a| &a.text);
                let error =
                    Diagnostic::error("wrong-type", format!("`{name}` is a kit, not a value"));
                self.fail(span, error.mend(format!("{name}.…")))
            }
            Expr::Member(number, name) => {
                let decl = self.member(scope.module, *number, name)?;
                self.declaration(decl, scope.config, span)
            }
            Expr::Builtin(builtin) => Ok(match way_of(*builtin) {
                FormEvaluation::Plain(value) => value(),
                FormEvaluation::Braces(_) | FormEvaluation::Round(_) => Value::Builtin(*builtin),
            }),
            Expr::This => {
                let names = ["address", "port", "name", "folder"];
                let own = names
                    .into_iter()
                    .filter_map(|n| Some((n.into(), own_field(scope, n)?)));
                Ok(Value::Record(Rc::new(RecordValue {
                    fields: own.collect(),
                    kind: None,
                })))
            }
            Expr::Ref(path) => self.reference(scope, path, span),
            Expr::Field(base, name) => {
                // Most often `self` is asked for one thing.
                if let (Expr::This, Some(value)) =
                    (module.expr(*base), own_field(scope, &name.text))
                {
                    return Ok(value);
                }
                let base = self.eval(scope, *base)?;
                self.field(base, name)
            }
            Expr::Call(callee, args) => self.call(scope, *callee, args, span),
            Expr::BraceCall(callee, record) => self.brace_call(scope, *callee, *record, span),
            Expr::Index(base, index) => self.index(scope, *base, *index),
            Expr::List(items) => {
                let values = self.all(items, |this, item| this.eval(scope, *item))?;
                Ok(Value::List(values.into()))
            }
            Expr::Record(fields) => {
                let fields = self.all(fields, |this, (name, value)| {
                    let value = if makes_nothing(module.expr(*value)) {
                        this.eval(scope, *value)?
                    } else {
                        this.eval(&scope.at_part(&name.text), *value)?
                    };
                    Ok((name.text.clone(), value))
                })?;
                Ok(Value::Record(Rc::new(RecordValue { fields, kind: None })))
            }
            Expr::Map(entries) => {
                let (entries, probed) = self.probes_in(|this| {
                    this.all(entries, |this, (key, value)| {
                        let key_span = module.span(*key);
                        let key = this.key(scope, *key)?;
                        Ok((key, key_span, scope.clone(), *value))
                    })
                })?;
                self.map(entries, probed)
            }
            Expr::Each(each) => self.each(scope, each, span),
            Expr::If(condition, then, otherwise) => {
                let branch = if self.boolean(scope, *condition)? {
                    *then
                } else {
                    *otherwise
                };
                self.eval(scope, branch)
            }
            Expr::Match { subject, ty, arms } => {
                self.match_value(scope, id, *subject, ty.as_deref(), arms, span)
            }
            Expr::Binary(operator, left, right) => {
                self.binary(scope, *operator, *left, *right, span)
            }
            Expr::Not(inner) => Ok(Value::Bool(!self.boolean(scope, *inner)?)),
            Expr::Negate(inner) => match self.eval(scope, *inner)? {
                Value::Int(value) => Ok(Value::Int(value.wrapping_neg())),
                other => {
                    let error = Diagnostic::error(
                        "wrong-type",
                        format!("expected a number after `-`, found {}", other.described()),
                    );
                    self.fail(span, error)
                }
            },
            Expr::With(base, changes) => self.with(scope, *base, *changes),
            Expr::Under(base, choices) => self.under(scope, *base, choices.as_deref()),
            Expr::Shell(pieces) => {
                let pieces = pieces.clone();
                self.shell(scope, &pieces, span)
            }
            Expr::Command(command) => {
                let command = command.clone();
                self.command(scope, &command, span)
            }
        }
    }

    /// Evaluates all items, even when one fails: independent mistakes are shown together, and
    /// answers that are missing are asked for at once.
    pub(super) fn all<'t, A, B>(
        &mut self,
        items: &'t [A],
        mut each: impl FnMut(&mut Self, &'t A) -> Result<B>,
    ) -> Result<Vec<B>> {
        let mut values = Vec::with_capacity(items.len());
        let mut stop = None;
        for item in items {
            match each(self, item) {
                Ok(value) => values.push(value),
                Err(failed @ Stop::Failed(_)) => stop = Some(failed),
                Err(Stop::Waiting) => stop = stop.or(Some(Stop::Waiting)),
            }
        }
        match stop {
            Some(stop) => Err(stop),
            None => Ok(values),
        }
    }

    fn text(&mut self, scope: &Scope, pieces: &[Piece], span: Span) -> Result<Value> {
        let module = self.module(scope.module);
        let mut joined = Joined::in_room(std::mem::take(&mut self.text_room));
        self.all(pieces, |this, piece| {
            this.check_size(&joined, span)?;
            match piece {
                Piece::Literal(text) => joined.push_str(text),
                Piece::Hole(expr) => {
                    let value = this.eval(scope, *expr)?;
                    this.add_to_text(value, &mut joined, module.span(*expr))?;
                }
            }
            Ok(())
        })?;
        self.joined_text(joined, span)
    }

    /// Adds a value to a text.
    fn add_to_text(&mut self, value: Value, joined: &mut Joined, span: Span) -> Result<()> {
        match value {
            Value::Text(text) => joined.push_text(&text),
            Value::Int(number) => joined.push_str(&number.to_string()),
            Value::File(file) => joined.push(Strand::File(file)),
            Value::Tool(tool) => joined.push(Strand::Tool(tool)),
            value @ (Value::Step(_) | Value::Record(_)) => {
                let file = self.one_file(&value, span)?;
                joined.push(Strand::File(file));
            }
            other => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("{} cannot be part of a text", other.described()),
                );
                let error = match other {
                    Value::List(_) | Value::Files(_) => error.mend("….join(\" \")"),
                    Value::Bool(_) => error.mend("if … then \"yes\" else \"no\""),
                    Value::Service(_) => error.mend("….address").mend("….port"),
                    _ => error,
                };
                return self.fail(span, error);
            }
        }
        Ok(())
    }

    /// Stops a text that grows too large, before what comes next makes it larger still.
    pub(super) fn check_size(&mut self, joined: &Joined, span: Span) -> Result<()> {
        if joined.size() <= super::TEXT_LIMIT {
            Ok(())
        } else {
            self.room_for_text(joined.size(), span)
        }
    }

    /// The text that was put together.
    pub(super) fn joined_text(&mut self, joined: Joined, span: Span) -> Result<Value> {
        self.room_for_text(joined.size(), span)?;
        let (text, room) = joined.finish();
        if room.capacity() <= KEPT_ROOM {
            self.text_room = room;
        }
        Ok(Value::Text(text))
    }

    fn local(&mut self, scope: &Scope, up: u16, slot: u16, span: Span) -> Result<Value> {
        let mut env = scope.env.as_deref();
        for _ in 0..up {
            env = env.and_then(|e| e.parent.as_deref());
        }
        let found = env.and_then(|e| e.slots.borrow().get(slot as usize).cloned());
        match found {
            Some(Slot::Value(value)) => Ok(value),
            Some(Slot::Probed(value)) => {
                self.note_read(super::chosen::PROBE, None);
                Ok(value)
            }
            Some(Slot::Lazy(thunk)) => self.force(&thunk, span),
            None => self.failed_before(span),
        }
    }

    pub(super) fn boolean(&mut self, scope: &Scope, id: ExprId) -> Result<bool> {
        match self.eval(scope, id)? {
            Value::Bool(value) => Ok(value),
            other => {
                let span = self.module(scope.module).span(id);
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("expected a bool, found {}", other.described()),
                );
                let error = match other {
                    Value::List(_) | Value::Files(_) => error.mend("….len > 0"),
                    Value::None => error.mend("… != none"),
                    _ => error,
                };
                self.fail(span, error)
            }
        }
    }

    fn index(&mut self, scope: &Scope, base: ExprId, index: ExprId) -> Result<Value> {
        let module = self.module(scope.module);
        let (base_span, index_span) = (module.span(base), module.span(index));
        let value = self.eval(scope, base)?;
        let key = self.eval(scope, index)?;
        match (value, key) {
            (Value::Map(map), Value::Text(Text::Plain(key))) => match map.index.get(&key) {
                Some(at) => {
                    let thunk = map.entries[*at].1.clone();
                    self.force(&thunk, index_span)
                }
                None => {
                    let keys = map.entries.iter().map(|(k, _)| &**k);
                    let near = nearest(&key, keys).map(|n| format!("\"{n}\""));
                    let error =
                        Diagnostic::error("unknown-name", format!("there is no entry \"{key}\""));
                    self.fail(index_span, error.maybe_mend(near))
                }
            },
            (value @ (Value::List(_) | Value::Files(_)), Value::Int(number)) => {
                let at = usize::try_from(number).ok();
                let (item, count) = match &value {
                    Value::Files(files) => (
                        at.and_then(|n| files.get(n))
                            .map(|f| Value::File(f.clone())),
                        files.len(),
                    ),
                    Value::List(items) => (at.and_then(|n| items.get(n)).cloned(), items.len()),
                    _ => (None, 0),
                };
                item.map_or_else(
                    || {
                        let error =
                            Diagnostic::error("out-of-range", format!("there is no item {number}"));
                        let error =
                            error.note(format!("the list has {count} items, counted from 0"));
                        let last = count.checked_sub(1).map(|last| last.to_string());
                        self.fail(index_span, error.maybe_mend(last))
                    },
                    Ok,
                )
            }
            (Value::Map(_), other) => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("expected a text as the key, found {}", other.described()),
                );
                self.fail(index_span, error)
            }
            (other, _) => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("cannot take an item of {}", other.described()),
                );
                self.fail(base_span, error)
            }
        }
    }

    fn with(&mut self, scope: &Scope, base: ExprId, changes: ExprId) -> Result<Value> {
        let module = self.module(scope.module);
        let base_span = module.span(base);
        let Value::Record(record) = self.eval(scope, base)? else {
            let error = Diagnostic::error("wrong-type", "expected a record before `with`");
            return self.fail(base_span, error);
        };
        let Expr::Record(fields) = module.expr(changes) else {
            let error = Diagnostic::error(
                "syntax",
                "expected fields such as `name = value` after `with`",
            );
            return self.fail(module.span(changes), error);
        };
        let mut changed = (*record).clone();
        for (name, value) in fields {
            let value = self.eval(&scope.at_part(&name.text), *value)?;
            match changed.fields.iter_mut().find(|(n, _)| *n == name.text) {
                Some((_, old)) => *old = value,
                None => {
                    let near = meant(&name.text, record.fields.iter().map(|(n, _)| &**n))
                        .map(str::to_owned);
                    let message = format!("the record has no field `{}` to change", name.text);
                    return self.fail(
                        name.span,
                        Diagnostic::error("unknown-field", message).maybe_mend(near),
                    );
                }
            }
        }
        Ok(Value::Record(Rc::new(changed)))
    }

    /// The items of a list or set of files.
    pub(super) fn items(&mut self, value: Value, span: Span) -> Result<Vec<Value>> {
        match value {
            Value::List(items) => Ok(items.to_vec()),
            Value::Files(files) => Ok(files.iter().cloned().map(Value::File).collect()),
            other => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("expected a list, found {}", other.described()),
                );
                self.fail(span, error)
            }
        }
    }
}

impl Scope {
    /// The scope one part further into the owner's value.
    pub(super) fn at_part(&self, part: &Arc<str>) -> Scope {
        let mut parts = self.owner.parts.clone();
        parts.push(part.clone());
        let owner = Owner {
            target: self.owner.target,
            package: self.owner.package.clone(),
            parts,
        };
        Scope {
            owner: Rc::new(owner),
            ..self.clone()
        }
    }
}

/// Whether evaluating an expression makes no step of its own, so that nothing is called after where
/// it is.
fn makes_nothing(expr: &Expr) -> bool {
    matches!(
        expr,
        Expr::Local { .. } | Expr::Decl(_) | Expr::Member(..) | Expr::Int(_) | Expr::Bool(_)
    )
}

/// Drops repeats, the first one kept.
pub(super) fn unique_files(mut files: Vec<FileRef>) -> Vec<FileRef> {
    if files.len() > 1 {
        let mut seen = FxHashSet::default();
        files.retain(|f| seen.insert(f.path.clone()));
    }
    files
}
