//! Values taken as types. The rules are exact; `docs/language.md` lists them.

use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::Span;

use super::expressions::unique_files;
use super::{Evaluator, Result, Stop};
use crate::hir::*;
use crate::types::{Type, not_an_alternative, wrong_type};
use crate::value::*;

impl Evaluator<'_> {
    /// Takes an argument as its parameter's type; an error shows where the parameter was declared.
    pub(super) fn coerce_param(
        &mut self,
        value: Value,
        ty: &Type,
        base: ModuleId,
        span: Span,
        param: &Param,
    ) -> Result<Value> {
        let before = self.definitions.modules.diagnostics.len();
        let result = self.coerce(value, ty, base, span);
        if matches!(result, Err(Stop::Failed(_))) {
            for diagnostic in &mut self.definitions.modules.diagnostics[before..] {
                if diagnostic.code == "wrong-type" {
                    let message = format!(
                        "`{}` was declared as {} here",
                        param.name.text,
                        ty.written()
                    );
                    *diagnostic = diagnostic.clone().related(param.name.span, message);
                }
            }
        }
        result
    }

    /// Takes a value as a type. A text becomes a path against the package of module `base`.
    pub(super) fn coerce(
        &mut self,
        value: Value,
        ty: &Type,
        base: ModuleId,
        span: Span,
    ) -> Result<Value> {
        match (ty, value) {
            (Type::Unknown, value) => Ok(value),
            (Type::Any, value) => self.as_any(value, span),
            (Type::Named(_, _, inner), value) => match (&**inner, value) {
                // Say the type's name, and which fields it wants.
                (
                    Type::Record(fields),
                    value @ (Value::Record(_) | Value::Map(_) | Value::None),
                ) => self.record(value, fields, ty, base, span),
                (Type::Record(fields), value) => self.no_such_record(&value, ty, fields, span),
                (inner, value) => self.coerce(value, inner, base, span),
            },
            (Type::Optional(_), Value::None) => Ok(Value::None),
            (Type::Optional(inner), value) => self.coerce(value, inner, base, span),
            (Type::Bool, value @ Value::Bool(_))
            | (Type::Int, value @ Value::Int(_))
            | (Type::Text, value @ Value::Text(_))
            | (Type::Duration, value @ Value::Duration(_))
            | (Type::Command, value @ Value::Command(_))
            | (Type::Step, value @ Value::Step(_))
            | (Type::Service, value @ Value::Service(_)) => Ok(value),
            (Type::Check, Value::Step(number))
                if self.drafting.graph.steps[number as usize].check.is_some() =>
            {
                Ok(Value::Step(number))
            }
            (Type::Alternatives(texts), Value::Text(Text::Plain(text))) => {
                if texts.contains(&text) {
                    return Ok(Value::Text(Text::Plain(text)));
                }
                self.fail(span, not_an_alternative(&text, texts))
            }
            (Type::File, value) => Ok(Value::File(self.as_file(value, base, span)?)),
            (Type::Folder, value) => Ok(Value::File(self.as_folder(value, base, span)?)),
            // One set for all that it is handed to: its files are looked at once.
            (Type::Files, value @ Value::Files(_)) => Ok(value),
            (Type::Files, value) => {
                let mut files = Vec::new();
                self.as_files(&value, base, span, &mut files)?;
                Ok(Value::Files(unique_files(files).into()))
            }
            (Type::List(inner), value) => self.as_list(value, inner, ty, base, span),
            (Type::Map(inner), Value::Map(map)) => Ok(coerced_map(&map, inner, base, self.unit())),
            (Type::Map(_), Value::Record(record)) if record.fields.is_empty() => {
                Ok(Value::Map(Rc::new(Map::new(Vec::new()))))
            }
            (Type::Map(_), value @ Value::Record(_)) => {
                let error = wrong_type(&value.described(), ty);
                self.fail(span, error.mend("{ \"key\": value }"))
            }
            (Type::Record(fields), value) => self.record(value, fields, ty, base, span),
            (_, value) => {
                let error = self.mended_type(&value, ty, span);
                self.fail(span, error)
            }
        }
    }

    /// Refuses a value where a record of a named type is wanted.
    fn no_such_record(
        &mut self,
        value: &Value,
        ty: &Type,
        fields: &[(Arc<str>, Type)],
        span: Span,
    ) -> Result<Value> {
        let error = wrong_type(&value.described(), ty);
        if let Value::Text(Text::Plain(path)) = value
            && may_be_target(path)
        {
            let error =
                error.note("a target of another package is written with `&`, without quotes");
            return self.fail(span, error.mend(format!("&{path}")));
        }
        let names: Vec<&str> = fields.iter().map(|(name, _)| &**name).collect();
        let (written, names) = (ty.written(), names.join(", "));
        let error = error.note(format!("a `{written}` is a record with {names}"));
        self.fail(span, error)
    }

    /// The error about a value of another type than is wanted, with the mend that there is for both.
    fn mended_type(&self, value: &Value, ty: &Type, span: Span) -> Diagnostic {
        let error = wrong_type(&value.described(), ty);
        let written = self.definitions.modules.sources.slice(span);
        match (ty, value) {
            (Type::Text, Value::File(_)) => error.mend("….path").mend("….name"),
            (Type::Text, Value::Int(_)) => error.mend(
                match written.chars().all(|c| c.is_ascii_digit() || c == '-') {
                    true => format!("\"{written}\""),
                    false if is_plain_value(written) => format!("\"{{{written}}}\""),
                    false => "\"{…}\"".to_owned(),
                },
            ),
            (Type::Duration, Value::Int(n)) => error.mend(format!("{n}s")).mend(format!("{n}min")),
            (_, Value::Kind(_)) => error.mend("call the kind: `name { … }`"),
            (_, Value::Function(..)) => error.mend("call the function: `name(…)`"),
            (Type::Command, Value::Text(Text::Plain(text))) if !text.contains(['`', '\n']) => {
                error.mend(format!("`{text}`"))
            }
            (Type::Command, Value::Text(_)) => error.mend("`…` between backticks"),
            (Type::Duration, Value::Text(Text::Plain(text)))
                if nubrik_syntax::duration(text).is_some() =>
            {
                error.mend(text.to_string())
            }
            (Type::Int, Value::Text(Text::Plain(text))) if text.parse::<i64>().is_ok() => {
                error.mend(text.to_string())
            }
            (Type::Bool, Value::Text(Text::Plain(text))) if matches!(&**text, "true" | "false") => {
                error.mend(text.to_string())
            }
            (Type::Text, Value::List(_)) => error.mend(format!("{written}.join(\" \")")),
            _ => error,
        }
    }

    /// Only what a data file can hold.
    fn as_any(&mut self, value: Value, span: Span) -> Result<Value> {
        let fits = match &value {
            Value::None
            | Value::Bool(_)
            | Value::Int(_)
            | Value::Text(Text::Plain(_))
            | Value::List(_) => true,
            Value::Map(map) => map.loaded,
            _ => false,
        };
        if fits {
            return Ok(value);
        }
        let error = wrong_type(&value.described(), &Type::Any);
        self.fail(
            span,
            error.note("`any` is for what `load_json` and `load_toml` read"),
        )
    }

    fn record(
        &mut self,
        value: Value,
        fields: &[(Arc<str>, Type)],
        ty: &Type,
        base: ModuleId,
        span: Span,
    ) -> Result<Value> {
        let mut record = match value {
            Value::Record(record) => record,
            Value::Map(map) if map.loaded => {
                let fields = self.all(&map.entries, |this, (key, thunk)| {
                    Ok((key.clone(), this.force(thunk, span)?))
                })?;
                Rc::new(RecordValue { fields, kind: None })
            }
            value => return self.fail(span, wrong_type(&value.described(), ty)),
        };
        let coerced = Rc::make_mut(&mut record);
        for (name, field_type) in fields {
            match coerced.fields.iter().position(|(n, _)| n == name) {
                Some(at) => {
                    let value = std::mem::replace(&mut coerced.fields[at].1, Value::None);
                    coerced.fields[at].1 = self.coerce(value, field_type, base, span)?;
                }
                None if matches!(field_type, Type::Optional(_)) => {
                    coerced.fields.push((name.clone(), Value::None));
                }
                None => {
                    let near = nearest(name, coerced.fields.iter().map(|(n, _)| &**n));
                    let message = format!("a `{}` needs the field `{name}`", ty.written());
                    let mut error = Diagnostic::error("missing-field", message);
                    if let Some(near) = near {
                        error = error.note(format!("there is a field `{near}`"));
                    }
                    return self.fail(
                        span,
                        error.mend(format!(
                            "{name} = …   a value of type {}",
                            field_type.written()
                        )),
                    );
                }
            }
        }
        Ok(Value::Record(record))
    }

    fn as_list(
        &mut self,
        value: Value,
        inner: &Type,
        ty: &Type,
        base: ModuleId,
        span: Span,
    ) -> Result<Value> {
        let mut items: Rc<[Value]> = match (inner.core(), value) {
            (_, Value::List(items)) if items.is_empty() => return Ok(Value::List(items)),
            (_, Value::List(items)) => items,
            (_, Value::Files(files)) => files.iter().cloned().map(Value::File).collect(),
            (Type::Text, Value::Text(text)) => {
                return self.fail(span, one_text_for_words(&text));
            }
            (Type::File, value @ (Value::Step(_) | Value::Record(_) | Value::Map(_))) => self
                .files_of(&value, span)?
                .into_iter()
                .map(Value::File)
                .collect(),
            (_, Value::None) => return self.fail(span, wrong_type("`none`", ty).mend("[]")),
            // A single value is a list of one.
            (_, value) => Rc::new([value]),
        };
        self.count_items(items.len(), span)?;
        let spreads = matches!(inner.core(), Type::File)
            && items
                .iter()
                .any(|i| matches!(i, Value::List(_) | Value::Files(_)));
        if !spreads && let Some(own) = Rc::get_mut(&mut items) {
            for item in own {
                *item = self.coerce(std::mem::replace(item, Value::None), inner, base, span)?;
            }
            return Ok(Value::List(items));
        }
        let mut coerced = Vec::with_capacity(items.len());
        for item in items.iter().cloned() {
            // A list where an item was wanted spreads only where files are wanted.
            let nested = matches!(item, Value::List(_) | Value::Files(_))
                && matches!(inner.core(), Type::File);
            let result = if nested {
                self.as_list(item, inner, ty, base, span)
            } else {
                self.coerce(item, inner, base, span)
            };
            match result {
                Ok(Value::List(inner)) if nested => coerced.extend(inner.iter().cloned()),
                Ok(value) => coerced.push(value),
                Err(Stop::Waiting) => return Err(Stop::Waiting),
                // The same mistake in each item is one mistake.
                Err(Stop::Failed(reported)) => return Err(Stop::Failed(reported)),
            }
        }
        Ok(Value::List(coerced.into()))
    }
}

/// The error about one text where a list of words is wanted.
fn one_text_for_words(text: &Text) -> Diagnostic {
    let error = Diagnostic::error("wrong-type", "expected a list of words, found one text");
    let words: Vec<String> = match text.plain() {
        Some(text) => text
            .split_whitespace()
            .map(|word| format!("\"{word}\""))
            .collect(),
        None => vec!["…".to_owned()],
    };
    error.mend(format!("[{}]", words.join(", ")))
}

/// A map whose entries are taken as a type when they are wanted. One that is handed on as the same
/// type stays as it is: who hands a large one to a function for each of many things looks at it
/// once.
fn coerced_map(map: &Rc<Map>, ty: &Type, base: ModuleId, origin: u32) -> Value {
    let is_it = |map: &Map| {
        map.taken_as
            .as_ref()
            .is_some_and(|(known, from, by)| (*from, *by) == (base, origin) && known == ty)
    };
    if is_it(map) {
        return Value::Map(map.clone());
    }
    if let Some(taken) = map
        .last_taken
        .borrow()
        .as_ref()
        .filter(|taken| is_it(taken))
    {
        return Value::Map(taken.clone());
    }
    let entries = map.entries.iter().map(|(key, inner)| {
        let thunk = Thunk {
            state: RefCell::new(ThunkState::New(ThunkSource::Coerced {
                inner: inner.clone(),
                ty: ty.clone(),
                base,
            })),
            title: inner.title.clone(),
            span: inner.span,
            captured: Rc::default(),
            origin,
        };
        (key.clone(), Rc::new(thunk))
    });
    let taken_as = Some((ty.clone(), base, origin));
    let taken = Rc::new(Map {
        keys: map.keys,
        taken_as,
        ..Map::new(entries.collect())
    });
    map.last_taken.replace(Some(taken.clone()));
    Value::Map(taken)
}

/// Whether a text could be the path of a target.
fn may_be_target(text: &str) -> bool {
    let is_part = |part: &str| {
        !part.is_empty()
            && part
                .chars()
                .all(|c| c.is_alphanumeric() || "_-.".contains(c))
    };
    text.split('/').all(is_part) && !text.contains('.')
}

/// Whether an expression is a name, with what is taken from it: it can be put into a hole as it is.
fn is_plain_value(written: &str) -> bool {
    written.starts_with(char::is_alphabetic)
        && written
            .chars()
            .all(|c| c.is_alphanumeric() || "_.()[]".contains(c))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn taken(map: &Rc<Map>, ty: &Type, origin: u32) -> Rc<Map> {
        match coerced_map(map, ty, ModuleId(0), origin) {
            Value::Map(map) => map,
            _ => panic!("a map stays one"),
        }
    }

    #[test]
    fn a_map_that_is_handed_on_is_taken_as_a_type_once() {
        let value = [(Arc::from("a"), Value::Bool(true))];
        let map = Rc::new(Map::of_values(
            value,
            Keys::Names,
            Span::new(nubrik_source::TextId(0), 0, 0),
            0,
        ));
        let first = taken(&map, &Type::Bool, 1);
        assert!(!Rc::ptr_eq(&first, &map));
        assert!(Rc::ptr_eq(&taken(&map, &Type::Bool, 1), &first));
        assert!(Rc::ptr_eq(&taken(&first, &Type::Bool, 1), &first));
        // As another type, or by somebody else, it is another one.
        assert!(!Rc::ptr_eq(&taken(&map, &Type::Int, 1), &first));
        assert!(!Rc::ptr_eq(&taken(&first, &Type::Bool, 2), &first));
    }
}
