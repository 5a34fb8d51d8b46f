//! Lists in order, without duplicates, or as maps: by the items themselves, or by what is said of
//! each one.

use std::collections::HashSet;
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;
use rustc_hash::FxHashMap;

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
    keyed
        .into_iter()
        .filter_map(|(key, item)| seen.insert(key).then_some(item))
        .collect()
}

impl Evaluator<'_> {
    /// Items, each with itself as its key.
    pub(super) fn keyed(&mut self, items: Vec<Value>, span: Span) -> Result<Vec<(SortKey, Value)>> {
        self.all(&items, |this, item| {
            Ok((this.sort_key(item, span)?, item.clone()))
        })
    }

    /// `sorted_by`, `unique_by`, `index_by` and `group_by`: `by` is the name of a field or property
    /// of the items, or a function of one item.
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
        let probed = self
            .choices
            .frames
            .last()
            .is_some_and(|reads| reads.has(PROBE));
        let keyed = self.all(&items, |this, item| {
            this.count_work(span)?;
            Ok((this.key_of(scope, item, by, probed, span)?, item.clone()))
        })?;
        if let Method::IndexBy | Method::GroupBy = method {
            return self.map_by(keyed, method, is_files, by.span, span);
        }
        let keyed = self.all(&keyed, |this, (key, item)| {
            Ok((this.sort_key(key, by.span)?, item.clone()))
        })?;
        let values = if method == Method::SortedBy {
            sorted(keyed)
        } else {
            unique(keyed)
        };
        if is_files {
            let files = self.files_of(&Value::List(values.into()), span)?;
            return Ok(Value::Files(files.into()));
        }
        Ok(Value::List(values.into()))
    }

    /// What an item is sorted or grouped by. `probed` says whether it rests on a probe.
    fn key_of(
        &mut self,
        scope: &Scope,
        item: &Value,
        by: &Given<'_>,
        probed: bool,
        span: Span,
    ) -> Result<Value> {
        match &by.value {
            Value::Function(id) => {
                let item = Given {
                    name: None,
                    value: item.clone(),
                    probed,
                    span,
                };
                self.function(scope, *id, vec![item], by.span)
            }
            Value::Text(Text::Plain(field)) => {
                let name = Name {
                    text: field.clone(),
                    span: by.span,
                };
                self.field(item.clone(), &name)
            }
            other => {
                let found = other.described();
                let message = format!("expected a function or the name of a field, found {found}");
                let error = Diagnostic::error("wrong-type", message);
                self.fail(by.span, error.mend("\"name\""))
            }
        }
    }

    /// A map of items by their keys: one item each, or all of them in a list.
    fn map_by(
        &mut self,
        keyed: Vec<(Value, Value)>,
        method: Method,
        is_files: bool,
        by: Span,
        span: Span,
    ) -> Result<Value> {
        let keys = self.keys_of_answers();
        let mut groups: Vec<(Arc<str>, Vec<Value>)> = Vec::new();
        let mut places: FxHashMap<Arc<str>, usize> = FxHashMap::default();
        for (key, item) in keyed {
            let Value::Text(Text::Plain(key)) = key else {
                let message = format!("expected texts as the keys, found {}", key.described());
                let error = Diagnostic::error("wrong-type", message);
                return self.fail(by, error.note("a number becomes a text in a hole: \"{n}\""));
            };
            let at = *places.entry(key.clone()).or_insert(groups.len());
            match groups.get_mut(at) {
                Some((_, items)) => items.push(item),
                None => groups.push((key, vec![item])),
            }
        }
        if method == Method::IndexBy
            && let Some((key, _)) = groups.iter().find(|(_, items)| items.len() > 1)
        {
            let error = Diagnostic::error(
                "declared-twice",
                format!("several items have the key {key:?}"),
            );
            let error = error.note("`index_by` gives one item for each key");
            return self.fail(
                span,
                error
                    .mend("….group_by(…)")
                    .mend("….unique_by(…).index_by(…)"),
            );
        }
        let mut entries = Vec::with_capacity(groups.len());
        for (key, mut items) in groups {
            let value = match method {
                Method::IndexBy => items.pop().unwrap_or(Value::None),
                _ if is_files => {
                    Value::Files(self.files_of(&Value::List(items.into()), span)?.into())
                }
                _ => Value::List(items.into()),
            };
            entries.push((key, value));
        }
        self.room_for_items(entries.len(), span)?;
        Ok(Value::Map(Rc::new(Map::of_values(
            entries,
            keys,
            span,
            self.unit(),
        ))))
    }

    fn sort_key(&mut self, value: &Value, span: Span) -> Result<SortKey> {
        Ok(match value {
            Value::Int(number) => (0, *number, String::new()),
            Value::Text(Text::Plain(text)) => (1, 0, text.to_string()),
            Value::Text(text) => (2, 0, format!("{:?}", text.strands())),
            Value::File(file) => (3, 0, file.path.as_str().to_owned()),
            Value::Step(step) => (4, i64::from(*step), String::new()),
            other => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("{} cannot be compared", other.described()),
                );
                let error = match other {
                    Value::Record(_) => error
                        .mend("sorted_by(\"field\")")
                        .mend("unique_by(\"field\")"),
                    _ => error,
                };
                return self.fail(span, error);
            }
        })
    }
}
