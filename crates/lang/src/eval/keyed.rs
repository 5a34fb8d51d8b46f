//! Lists in order, and without duplicates: by the items themselves, or by what is said of each one.

use std::collections::HashSet;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::calls::Given;
use super::chosen::PROBE;
use super::{Evaluator, Result, Scope};
use crate::builtins::Method;
use crate::hir::Name;
use crate::value::*;

/// What values are ordered and distinguished by: the type, a number, characters.
pub(super) type SortKey = (u8, i64, String);

/// Items in the order of their keys; those with the same key stay in the order in which they were.
pub(super) fn sorted(mut keyed: Vec<(SortKey, Value)>) -> Vec<Value> {
    keyed.sort_by(|a, b| a.0.cmp(&b.0));
    keyed.into_iter().map(|(_, item)| item).collect()
}

/// The first item of each key.
pub(super) fn unique(keyed: Vec<(SortKey, Value)>) -> Vec<Value> {
    let mut seen = HashSet::with_capacity(keyed.len());
    keyed.into_iter().filter_map(|(key, item)| seen.insert(key).then_some(item)).collect()
}

impl Evaluator<'_> {
    /// Items, each with itself as its key.
    pub(super) fn keyed(&mut self, items: Vec<Value>, span: Span) -> Result<Vec<(SortKey, Value)>> {
        self.all(&items, |this, item| Ok((this.sort_key(item, span)?, item.clone())))
    }

    /// `sorted_by` and `unique_by`: `by` is the name of a field or property of the items, or a function of one item.
    pub(super) fn by_key(
        &mut self,
        scope: &Scope,
        base: Value,
        method: Method,
        by: &Given<'_>,
        span: Span,
    ) -> Result<Value> {
        let is_files = matches!(base, Value::Files(_));
        let items = self.items(base, span)?;
        self.count_items(items.len(), span)?;
        // The items may rest on a probe: what a function makes of them then does, too.
        let probed = self.choices.frames.last().is_some_and(|reads| reads.has(PROBE));
        let keyed = self.all(&items, |this, item| {
            this.count_work(span)?;
            let key = match &by.value {
                Value::Function(id) => {
                    let item = Given { name: None, value: item.clone(), probed, span };
                    this.function(scope, *id, vec![item], by.span)?
                }
                Value::Text(Text::Plain(field)) => {
                    this.field(item.clone(), &Name { text: field.clone(), span: by.span })?
                }
                other => {
                    let message =
                        format!("expected a function or the name of a field, found {}", other.described());
                    let error = Diagnostic::error("wrong-type", message);
                    return this.fail(by.span, error.mend("\"name\""));
                }
            };
            Ok((this.sort_key(&key, by.span)?, item.clone()))
        })?;
        let values = if method == Method::SortedBy { sorted(keyed) } else { unique(keyed) };
        if is_files {
            let files = self.files_of(&Value::List(values.into()), span)?;
            return Ok(Value::Files(files.into()));
        }
        Ok(Value::List(values.into()))
    }

    fn sort_key(&mut self, value: &Value, span: Span) -> Result<SortKey> {
        Ok(match value {
            Value::Int(number) => (0, *number, String::new()),
            Value::Text(Text::Plain(text)) => (1, 0, text.to_string()),
            Value::Text(text) => (2, 0, format!("{:?}", text.strands())),
            Value::File(file) => (3, 0, file.path.as_str().to_owned()),
            Value::Step(step) => (4, i64::from(*step), String::new()),
            other => {
                let error =
                    Diagnostic::error("wrong-type", format!("{} cannot be compared", other.described()));
                let error = match other {
                    Value::Record(_) => error.mend("sorted_by(\"field\")").mend("unique_by(\"field\")"),
                    _ => error,
                };
                return self.fail(span, error);
            }
        })
    }
}
