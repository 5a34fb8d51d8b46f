//! `load_csv`, `load_json`, `load_toml`, `load_lines`: data files to values. What is wrong in a
//! data file is shown there.

use std::cell::RefCell;
use std::ops::Range;
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::{Span, TextId};
use nubrik_wording::some_of;
use rustc_hash::FxHashSet;

use super::chosen::PROBE;
use super::limits::WORK_OF_TEXT;
use super::{Evaluator, Result, Stop};
use crate::data::{Datum, DatumKind, json};
use crate::hir::*;
use crate::types::Type;
use crate::value::*;
use crate::world::{Answer, DefinitionText};

impl Evaluator<'_> {
    /// A data file's text, entered among the sources.
    pub(super) fn data_file(&mut self, file: &FileRef, span: Span) -> Result<(TextId, Arc<str>)> {
        if let Some(watched) = self.watched {
            watched.read(&file.path);
        }
        if let Some(known) = self.definitions.data_files.get(&file.path) {
            return Ok(known.clone());
        }
        match self.world.definition(&file.path) {
            Answer::Pending => self.wait(),
            Answer::Ready(DefinitionText::Text(text)) => {
                let text: Arc<str> = text
                    .strip_prefix('\u{feff}')
                    .map_or(text.clone(), Arc::from);
                let id = self
                    .definitions
                    .modules
                    .sources
                    .add(file.path.as_str(), text.clone());
                self.definitions
                    .data_files
                    .insert(file.path.clone(), (id, text.clone()));
                Ok((id, text))
            }
            Answer::Ready(DefinitionText::Missing) => {
                let error =
                    Diagnostic::error("no-such-file", format!("there is no file `{}`", file.path));
                self.fail(span, error)
            }
            Answer::Ready(DefinitionText::Unreadable(why)) => {
                let error =
                    Diagnostic::error("unreadable", format!("cannot read `{}`: {why}", file.path));
                self.fail(span, error)
            }
        }
    }

    /// A part of a data file as a type.
    pub(super) fn typed(&mut self, load: &Load, datum: &Datum, ty: &Type) -> Result<Value> {
        self.count(1, load.at)?;
        let span = Span::new(load.file, datum.range.start, datum.range.end);
        match (ty.core(), &datum.kind) {
            (Type::Any | Type::Unknown, kind) => self.untyped(load, kind),
            (Type::Optional(_), DatumKind::None) => Ok(Value::None),
            (Type::Optional(_), DatumKind::Cell(text)) if text.is_empty() => Ok(Value::None),
            (Type::Optional(inner), _) => self.typed(load, datum, inner),
            (Type::Bool, DatumKind::Bool(value)) => Ok(Value::Bool(*value)),
            (Type::Int, DatumKind::Int(value)) => Ok(Value::Int(*value)),
            (Type::Text, DatumKind::Text(text) | DatumKind::Cell(text)) => Ok(Value::text(text)),
            (Type::Bool, DatumKind::Cell(text)) if matches!(text.as_str(), "true" | "false") => {
                Ok(Value::Bool(text == "true"))
            }
            (Type::Int, DatumKind::Cell(text)) if text.trim().parse::<i64>().is_ok() => {
                Ok(Value::Int(text.trim().parse().unwrap_or(0)))
            }
            (Type::Duration, DatumKind::Cell(text) | DatumKind::Text(text))
                if nubrik_syntax::duration(text).is_some() =>
            {
                Ok(Value::Duration(nubrik_syntax::duration(text).unwrap_or(0)))
            }
            (
                Type::Alternatives(_) | Type::File | Type::Folder | Type::Files,
                DatumKind::Cell(text) | DatumKind::Text(text),
            ) => {
                let before = self.definitions.modules.diagnostics.len();
                let value = self.coerce(Value::text(text), ty, load.base, span);
                self.say_where_loaded(before, load);
                value
            }
            (Type::List(inner), DatumKind::List(items)) => {
                let values = self.all(items, |this, item| this.typed(load, item, inner))?;
                Ok(Value::List(values.into()))
            }
            (Type::Map(inner), DatumKind::Map(entries)) => {
                let entries = self.all(entries, |this, (key, _, item)| {
                    Ok((
                        Arc::<str>::from(key.as_str()),
                        this.typed(load, item, inner)?,
                    ))
                })?;
                let map = Map::of_values(entries, self.keys_of_answers(), load.at, self.unit());
                Ok(Value::Map(Rc::new(Map {
                    loaded: true,
                    ..map
                })))
            }
            (Type::Record(fields), DatumKind::Map(entries)) => {
                self.typed_record(load, span, ty, fields, entries)
            }
            _ => {
                let message = format!("expected {}, found {}", ty.written(), datum.described());
                let error = Diagnostic::error("bad-data", message);
                self.fail(span, error.related(load.at, "the file is loaded here"))
            }
        }
    }

    /// A record from data: the fields of its type, each taken as its own, and whatever else is
    /// there.
    fn typed_record(
        &mut self,
        load: &Load,
        span: Span,
        ty: &Type,
        fields: &[(Arc<str>, Type)],
        entries: &[(String, Range<usize>, Datum)],
    ) -> Result<Value> {
        let mut values = Vec::new();
        let mut failed = None;
        for (name, field_type) in fields.iter() {
            match entries.iter().find(|(key, ..)| **key == **name) {
                Some((_, _, item)) => match self.typed(load, item, field_type) {
                    Ok(value) => values.push((name.clone(), value)),
                    Err(Stop::Waiting) => return Err(Stop::Waiting),
                    Err(Stop::Failed(reported)) => failed = Some(reported),
                },
                None if matches!(field_type.core(), Type::Optional(_)) => {
                    values.push((name.clone(), Value::None));
                }
                None => {
                    let keys = entries.iter().map(|(k, ..)| k.as_str());
                    let near = nearest(name, keys.clone()).map(|n| format!("there is `{n}`"));
                    let message = format!("a `{}` needs `{name}`, and this has none", ty.written());
                    let mut error = Diagnostic::error("bad-data", message);
                    error = match near {
                        Some(near) => error.note(near),
                        None => error.note(format!("it has: {}", some_of(keys))),
                    };
                    let error = error.related(load.at, "the file is loaded here");
                    if !load.missing.borrow_mut().insert(error.message.clone()) {
                        return self.failed_before(span);
                    }
                    return self.fail(span, error);
                }
            }
        }
        if let Some(reported) = failed {
            return Err(Stop::Failed(reported));
        }
        for (key, _, item) in entries {
            if !fields.iter().any(|(name, _)| **name == **key) {
                values.push((key.as_str().into(), self.untyped(load, &item.kind)?));
            }
        }
        Ok(Value::Record(Rc::new(RecordValue {
            fields: values,
            kind: None,
        })))
    }

    pub(super) fn say_where_loaded(&mut self, before: usize, load: &Load) {
        for diagnostic in &mut self.definitions.modules.diagnostics[before..] {
            *diagnostic = diagnostic
                .clone()
                .related(load.at, "the file is loaded here");
        }
    }

    pub(super) fn untyped(&mut self, load: &Load, kind: &DatumKind) -> Result<Value> {
        // Values of data share no memory with others.
        self.count(WORK_OF_DATUM, load.at)?;
        Ok(match kind {
            DatumKind::None => Value::None,
            DatumKind::Bool(value) => Value::Bool(*value),
            DatumKind::Int(value) => Value::Int(*value),
            DatumKind::Text(text) | DatumKind::Cell(text) => {
                self.room_for_text(text.len(), load.at)?;
                self.count(WORK_OF_TEXT, load.at)?;
                Value::text(text)
            }
            DatumKind::List(items) => {
                self.room_for_items(items.len(), load.at)?;
                let values = self.all(items, |this, item| this.untyped(load, &item.kind))?;
                Value::List(values.into())
            }
            DatumKind::Map(entries) => {
                self.room_for_texts(entries.len(), load.at)?;
                let entries = self.all(entries, |this, (key, _, item)| {
                    Ok((
                        Arc::<str>::from(key.as_str()),
                        this.untyped(load, &item.kind)?,
                    ))
                })?;
                let keys = self.keys_of_answers();
                let map = Map::of_values(entries, keys, load.at, self.unit());
                Value::Map(Rc::new(Map {
                    loaded: true,
                    ..map
                }))
            }
        })
    }

    /// What the keys of a map are for that is made of values at hand: these may rest on the answer
    /// of a probe.
    pub(super) fn keys_of_answers(&self) -> Keys {
        match self
            .choices
            .frames
            .last()
            .is_some_and(|reads| reads.has(PROBE))
        {
            true => Keys::Lookup,
            false => Keys::Names,
        }
    }

    /// What a text is as JSON; `what` represents it in messages.
    pub(super) fn parsed_json(&mut self, text: &str, what: &str, span: Span) -> Result<Value> {
        match json(text) {
            Ok(datum) => {
                let load = Load {
                    file: span.file,
                    at: span,
                    base: ModuleId(0),
                    missing: RefCell::default(),
                };
                self.untyped(&load, &datum.kind)
            }
            Err(wrong) => {
                let line = text[..wrong.range.start.min(text.len())]
                    .matches('\n')
                    .count()
                    + 1;
                let error = Diagnostic::error(
                    "bad-data",
                    format!("this {what} is not JSON (line {line} of it)"),
                );
                let why = &wrong.diagnostic.message;
                self.fail(
                    span,
                    error.note(why.strip_prefix("this is not JSON: ").unwrap_or(why)),
                )
            }
        }
    }
}

/// How many expressions the memory of one value of data counts as.
const WORK_OF_DATUM: u64 = 4;

/// A data file being loaded.
pub(super) struct Load {
    pub file: TextId,
    /// Where the definitions load it.
    pub at: Span,
    /// Against which paths in it are taken.
    pub base: ModuleId,
    /// What was said to be missing: the same is missing in every row.
    pub missing: RefCell<FxHashSet<String>>,
}
