//! Operators.

use std::rc::Rc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::expressions::unique_files;
use super::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::value::*;

/// How what is written as a sum is written as one text: `"a" + n` as `"a{n}"`.
fn in_one_text(written: &str) -> String {
    let part = |part: &str| {
        let part = part.trim();
        match part
            .strip_prefix('"')
            .and_then(|rest| rest.strip_suffix('"'))
        {
            Some(text) if !text.contains('"') => text.to_owned(),
            _ => format!("{{{part}}}"),
        }
    };
    match written.split_once(" + ") {
        Some((first, second))
            if !second.contains(" + ") && (!first.contains('"') || first.starts_with('"')) =>
        {
            format!("\"{}{}\"", part(first), part(second))
        }
        _ => "\"{…}{…}\"".to_owned(),
    }
}

impl Evaluator<'_> {
    pub(super) fn binary(
        &mut self,
        scope: &Scope,
        operator: Operator,
        left: ExprId,
        right: ExprId,
        span: Span,
    ) -> Result<Value> {
        if let Operator::And | Operator::Or = operator {
            let first = self.boolean(scope, left)?;
            if first == (operator == Operator::Or) {
                return Ok(Value::Bool(first));
            }
            return Ok(Value::Bool(self.boolean(scope, right)?));
        }
        let right_span = self.module(scope.module).span(right);
        let first = self.eval(scope, left)?;
        let second = self.eval(scope, right)?;
        match operator {
            Operator::Add => self.add(first, second, span),
            Operator::Join => self.join_path(scope, first, second, span),
            Operator::Equal => Ok(Value::Bool(self.equal(&first, &second, span)?)),
            Operator::NotEqual => Ok(Value::Bool(!self.equal(&first, &second, span)?)),
            Operator::In => self.contains(first, second, right_span).map(Value::Bool),
            Operator::NotIn => self
                .contains(first, second, right_span)
                .map(|c| Value::Bool(!c)),
            _ => self.order(operator, first, second, span),
        }
    }

    fn order(
        &mut self,
        operator: Operator,
        first: Value,
        second: Value,
        span: Span,
    ) -> Result<Value> {
        let ordering = match (&first, &second) {
            (Value::Int(a), Value::Int(b)) => a.cmp(b),
            (Value::Duration(a), Value::Duration(b)) => a.cmp(b),
            (Value::Text(Text::Plain(a)), Value::Text(Text::Plain(b))) => a.cmp(b),
            _ => {
                let message = format!(
                    "cannot order {} and {}",
                    first.described(),
                    second.described()
                );
                return self.fail(span, Diagnostic::error("wrong-type", message));
            }
        };
        Ok(Value::Bool(match operator {
            Operator::Less => ordering.is_lt(),
            Operator::LessEqual => ordering.is_le(),
            Operator::Greater => ordering.is_gt(),
            _ => ordering.is_ge(),
        }))
    }

    fn add(&mut self, first: Value, second: Value, span: Span) -> Result<Value> {
        match (first, second) {
            (Value::Int(a), Value::Int(b)) => match a.checked_add(b) {
                Some(sum) => Ok(Value::Int(sum)),
                None => self.fail(
                    span,
                    Diagnostic::error("too-large", "this sum is too large"),
                ),
            },
            (Value::Text(a), Value::Text(b)) => {
                let mut joined = Joined::default();
                joined.push_text(&a);
                joined.push_text(&b);
                self.joined_text(joined, span)
            }
            (Value::Files(_), Value::Text(_)) => self.no_path_in_sum(span),
            (Value::Files(_), Value::List(b))
                if b.iter().any(|item| matches!(item, Value::Text(_))) =>
            {
                self.no_path_in_sum(span)
            }
            (Value::Files(a), b) => {
                let mut files = a.to_vec();
                files.extend(self.files_of(&b, span)?);
                self.count_items(files.len(), span)?;
                Ok(Value::Files(unique_files(files).into()))
            }
            (a @ Value::List(_), b @ (Value::List(_) | Value::Files(_))) => {
                let mut items = self.items(a, span)?;
                items.extend(self.items(b, span)?);
                self.room_for_items(items.len(), span)?;
                Ok(Value::List(items.into()))
            }
            (Value::Map(a), Value::Map(b)) => self.add_maps(&a, &b, span),
            // Braces with nothing in them are a map, too.
            (map @ Value::Map(_), Value::Record(empty))
            | (Value::Record(empty), map @ Value::Map(_))
                if empty.fields.is_empty() =>
            {
                Ok(map)
            }
            (a, b) => {
                let message = format!("cannot add {} to {}", b.described(), a.described());
                let error = Diagnostic::error("wrong-type", message);
                let error = match (&a, &b) {
                    (Value::List(_), _) => error.mend("… + [item]"),
                    (Value::Text(_), _) => {
                        error.mend(in_one_text(self.definitions.modules.sources.slice(span)))
                    }
                    (Value::Record(_), Value::Record(_)) => error.mend("a with { field = … }"),
                    _ => error,
                };
                self.fail(span, error)
            }
        }
    }

    /// A map with the entries of both, which have no key in common.
    fn add_maps(&mut self, a: &Map, b: &Map, span: Span) -> Result<Value> {
        let twice = b.entries.iter().find(|(key, _)| a.index.contains_key(key));
        if let Some((key, _)) = twice {
            let message = format!("both maps have the key {key:?}");
            let error = Diagnostic::error("declared-twice", message);
            return self.fail(span, error.note("an entry of a sum has one value"));
        }
        let entries: Vec<_> = a.entries.iter().chain(&b.entries).cloned().collect();
        self.room_for_items(entries.len(), span)?;
        Ok(Value::Map(Rc::new(Map {
            loaded: a.loaded && b.loaded,
            keys: a.keys.max(b.keys),
            ..Map::new(entries)
        })))
    }

    /// A text is no path in a sum: no type says so there.
    fn no_path_in_sum(&mut self, span: Span) -> Result<Value> {
        let error = Diagnostic::error("wrong-type", "cannot add a text to a set of files");
        let error =
            error.note("a text is a path only where a type says so, such as that of a parameter");
        self.fail(
            span,
            error.mend("[files, \"path\"]   one list of both, where files are wanted"),
        )
    }

    fn contains(&mut self, item: Value, container: Value, span: Span) -> Result<bool> {
        match (item, container) {
            (Value::Text(Text::Plain(part)), Value::Text(Text::Plain(whole))) => {
                Ok(whole.contains(&*part))
            }
            (Value::Text(Text::Plain(key)), Value::Map(map)) => Ok(map.index.contains_key(&key)),
            (item, list @ (Value::List(_) | Value::Files(_))) => {
                for other in self.items(list, span)? {
                    if self.equal(&item, &other, span)? {
                        return Ok(true);
                    }
                }
                Ok(false)
            }
            (_, other) => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("cannot look into {}", other.described()),
                );
                self.fail(span, error.note("`in` looks into lists, maps and texts"))
            }
        }
    }

    /// Whether two values are the same.
    pub(super) fn equal(&mut self, a: &Value, b: &Value, span: Span) -> Result<bool> {
        Ok(match (a, b) {
            (Value::None, Value::None) => true,
            (Value::Bool(a), Value::Bool(b)) => a == b,
            (Value::Int(a), Value::Int(b)) => a == b,
            (Value::Duration(a), Value::Duration(b)) => a == b,
            (Value::Text(a), Value::Text(b)) => a == b,
            (Value::File(a), Value::File(b)) => a == b,
            (Value::Files(a), Value::Files(b)) => a == b,
            (Value::Step(a), Value::Step(b)) | (Value::Effect(a), Value::Effect(b)) => a == b,
            (Value::Service(a), Value::Service(b)) => a == b,
            (Value::List(a), Value::List(b)) => {
                if a.len() != b.len() {
                    return Ok(false);
                }
                self.count_items(a.len(), span)?;
                for (a, b) in a.iter().zip(b.iter()) {
                    if !self.equal(a, b, span)? {
                        return Ok(false);
                    }
                }
                true
            }
            (Value::Record(a), Value::Record(b)) => {
                if a.fields.len() != b.fields.len() {
                    return Ok(false);
                }
                self.count_items(a.fields.len(), span)?;
                for (name, value) in &a.fields {
                    match b.get(name) {
                        Some(other) if self.equal(value, other, span)? => {}
                        _ => return Ok(false),
                    }
                }
                true
            }
            (Value::None, _) | (_, Value::None) => false,
            (a, b) => {
                let message = format!("cannot compare {} with {}", a.described(), b.described());
                return self.fail(span, Diagnostic::error("wrong-type", message));
            }
        })
    }
}
