//! Fields, properties and methods. A property is a method without arguments, and takes no brackets.

use std::rc::Rc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::{Span, WsPath};
use nubrik_wording::{counted, some_of};

use super::calls::Given;
use super::expressions::unique_files;
use super::keyed::{sorted, unique};
use super::words::path_from;
use super::{Evaluator, Result, Scope};
use crate::builtins::{METHODS, Method, method};
use crate::hir::*;
use crate::renamed::meant;
use crate::value::*;

/// A text that represents where a service is, which shows when it is started.
fn whereabouts(service: &Rc<ServiceValue>, what: Whereabouts) -> Value {
    Value::Text(Text::Carrying(Rc::new([Strand::Served(
        service.clone(),
        what,
    )])))
}

impl Evaluator<'_> {
    /// `base.name`: a field, an output, or a property.
    pub(super) fn field(&mut self, base: Value, name: &Name) -> Result<Value> {
        let found = match &base {
            Value::Record(record) => record.get(&name.text).cloned(),
            Value::Step(step) => {
                let outputs = self.drafting.outputs.of(*step);
                let named = outputs.iter().find(|(n, _)| n.as_ref() == Some(&name.text));
                named.map(|(_, file)| Value::File(file.clone()))
            }
            Value::Map(map) if map.loaded => match map.index.get(&name.text) {
                Some(at) => {
                    let thunk = map.entries[*at].1.clone();
                    Some(self.force(&thunk, name.span)?)
                }
                None => None,
            },
            Value::Answer(answer) => self.of_answer(&answer.clone(), name)?,
            Value::Service(service) => match &*name.text {
                "port" => Some(whereabouts(service, Whereabouts::Port)),
                "address" => Some(whereabouts(service, Whereabouts::Address)),
                _ => None,
            },
            Value::Tool(tool) => match &*name.text {
                "name" => Some(Value::text(&tool.name)),
                "version" => match &tool.version {
                    Some(version) => Some(Value::text(version)),
                    None => {
                        let error = Diagnostic::error(
                            "no-version",
                            format!("the version of `{}` is not known", tool.name),
                        );
                        return self.fail(
                            name.span,
                            error.mend("version = \"--version\" in the `tool` asks for it"),
                        );
                    }
                },
                _ => None,
            },
            _ => None,
        };
        if let Some(value) = found {
            return Ok(value);
        }
        match method(&name.text) {
            Some((0, method)) => self.apply(base, method, Vec::new(), name),
            Some((_, _)) => {
                let error =
                    Diagnostic::error("wrong-call", format!("`{}` takes arguments", name.text));
                self.fail(name.span, error.mend(format!("….{}(…)", name.text)))
            }
            None => {
                let error = self.unknown_field(&base, name);
                self.fail(name.span, error)
            }
        }
    }

    /// What an answer offers under a name.
    fn of_answer(&mut self, answer: &AnswerValue, name: &Name) -> Result<Option<Value>> {
        Ok(match &*name.text {
            "ok" => Some(Value::Bool(answer.ok)),
            "text" => {
                self.room_for_text(answer.text.len(), name.span)?;
                Some(Value::text(answer.text.trim_end_matches(['\n', '\r'])))
            }
            "lines" => {
                self.room_for_text(answer.text.len(), name.span)?;
                self.room_for_texts(answer.text.lines().count(), name.span)?;
                Some(Value::List(answer.text.lines().map(Value::text).collect()))
            }
            "json" => Some(self.parsed_json(&answer.text.clone(), "answer", name.span)?),
            "errors" => {
                self.room_for_text(answer.errors.len(), name.span)?;
                Some(Value::text(answer.errors.trim_end_matches(['\n', '\r'])))
            }
            _ => None,
        })
    }

    fn unknown_field(&self, base: &Value, name: &Name) -> Diagnostic {
        let mut own: Vec<&str> = match base {
            Value::Record(record) => record.fields.iter().map(|(n, _)| &**n).collect(),
            Value::Step(step) => self
                .drafting
                .outputs
                .of(*step)
                .iter()
                .filter_map(|(n, _)| n.as_deref())
                .collect(),
            _ => Vec::new(),
        };
        let has = own.join(", ");
        if !matches!(base, Value::Record(_)) {
            own.extend(METHODS.iter().map(|m| m.name));
        }
        let near = meant(&name.text, own.iter().copied()).map(str::to_owned);
        let message = format!("{} has no `{}`", base.described(), name.text);
        let error = Diagnostic::error("unknown-field", message);
        let error = match base {
            Value::Record(_) => error.note(format!("it has: {has}")),
            Value::Map(map) if map.loaded => {
                let keys = map.entries.iter().map(|(k, _)| &**k);
                let near = nearest(&name.text, keys.clone()).map(str::to_owned);
                return error
                    .note(format!("it has: {}", some_of(keys)))
                    .maybe_mend(near);
            }
            Value::Answer(_) => return error.note("it has: ok, text, lines, json, errors"),
            Value::Tool(_) => return error.note("it has: name, version"),
            Value::Service(_) => return error.note("it has: address, port"),
            Value::None => return error.mend("if … == none then … else …"),
            Value::Map(_) => error.mend(format!("[\"{}\"]", name.text)),
            Value::Step(_) if !has.is_empty() => error.note(format!("its outputs: {has}")),
            Value::Step(_) => error
                .note("its outputs have no names of their own")
                .note(format!(
                    "an output is named where the command names it: {{out {} \"…\"}}",
                    name.text
                )),
            Value::Kind(..) => error.mend("call the kind first: `name { … }`"),
            _ => error,
        };
        error.maybe_mend(near)
    }

    pub(super) fn method_call(
        &mut self,
        scope: &Scope,
        base: Value,
        name: &Name,
        args: Vec<Given<'_>>,
        span: Span,
    ) -> Result<Value> {
        let Some((count, method)) = method(&name.text) else {
            let error = self.unknown_field(&base, name);
            return self.fail(name.span, error);
        };
        if count == 0 {
            let error =
                Diagnostic::error("wrong-call", format!("`{}` takes no arguments", name.text));
            return self.fail(span, error.mend(format!("….{}", name.text)));
        }
        if args.len() != count || args.iter().any(|a| a.name.is_some()) {
            let message = format!("`{}` takes {}", name.text, counted(count, "value"));
            return self.fail(span, Diagnostic::error("wrong-call", message));
        }
        let by = matches!(
            method,
            Method::SortedBy | Method::UniqueBy | Method::IndexBy | Method::GroupBy
        );
        if by && matches!(base, Value::List(_) | Value::Files(_)) {
            return self.by_key(scope, base, method, &args[0], name.span);
        }
        self.apply(base, method, args, name)
    }

    fn apply(
        &mut self,
        base: Value,
        method: Method,
        args: Vec<Given<'_>>,
        name: &Name,
    ) -> Result<Value> {
        if let Value::Text(Text::Plain(text)) = &base
            && let Some(value) = self.text_method(text, method, &args, name)?
        {
            return Ok(value);
        }
        match (method, &base) {
            (Method::Len, Value::List(items)) => Ok(Value::Int(items.len() as i64)),
            (Method::Len, Value::Files(files)) => Ok(Value::Int(files.len() as i64)),
            (Method::Len, Value::Map(map)) => Ok(Value::Int(map.entries.len() as i64)),
            (Method::Keys, Value::Map(map)) => Ok(Value::List(
                map.entries.iter().map(|(k, _)| Value::text(k)).collect(),
            )),
            (Method::Values, Value::Map(map)) => {
                let values = self.all(&map.entries, |this, (_, thunk)| {
                    this.force(thunk, name.span)
                })?;
                Ok(Value::List(values.into()))
            }
            (
                Method::Join
                | Method::Flat
                | Method::Sorted
                | Method::Unique
                | Method::UniqueLast
                | Method::First
                | Method::Last
                | Method::Get
                | Method::Slice
                | Method::Reversed,
                Value::List(_) | Value::Files(_),
            ) => self.list_method(base, method, args, name),
            (Method::Get, Value::Map(map)) => {
                let key = self.text_arg(&args[0])?;
                match map.index.get(&key) {
                    Some(at) => self.force(&map.entries[*at].1.clone(), name.span),
                    None => Ok(args[1].value.clone()),
                }
            }
            (
                Method::ToJson,
                Value::Text(_)
                | Value::Int(_)
                | Value::Bool(_)
                | Value::List(_)
                | Value::Map(_)
                | Value::Record(_),
            ) => {
                let mut json = Joined::default();
                self.write_json(&base, name.span, &mut json)?;
                Ok(Value::Text(json.finish().0))
            }
            (
                Method::Path
                | Method::Name
                | Method::Stem
                | Method::Ext
                | Method::Folder
                | Method::Below
                | Method::RelativeTo,
                Value::File(_) | Value::Step(_) | Value::Record(_) | Value::Files(_),
            ) => {
                let file = self.one_file(&base, name.span)?;
                self.path_method(&file, method, &args)
            }
            (_, Value::Text(Text::Carrying(_))) => {
                let message = format!("a text made from files has no `{}`", name.text);
                let error = Diagnostic::error("wrong-type", message);
                self.fail(
                    name.span,
                    error.note("it offers `+`, holes in texts, `join` and `to_json` only"),
                )
            }
            _ => {
                let error = self.unknown_field(&base, name);
                self.fail(name.span, error)
            }
        }
    }

    fn path_method(&mut self, file: &FileRef, method: Method, args: &[Given<'_>]) -> Result<Value> {
        let path = &file.path;
        Ok(Value::text(match method {
            Method::Path => path.as_str(),
            Method::Name => path.name(),
            Method::Stem => path.stem(),
            Method::Ext => path.extension(),
            Method::RelativeTo => {
                let from = self.one_file(&args[0].value, args[0].span)?;
                let folder = match from.folder {
                    true => from.path,
                    false => from.path.parent().unwrap_or_else(WsPath::root),
                };
                return Ok(Value::text(&path_from(&folder, path)));
            }
            Method::Below => {
                let folder = match &args[0].value {
                    Value::File(folder) if folder.folder => folder.path.clone(),
                    other => {
                        let message = format!("expected a folder, found {}", other.described());
                        let error = Diagnostic::error("wrong-type", message);
                        let error = match other {
                            Value::Text(Text::Plain(text)) => error.mend(format!(
                                "let top: folder = \"{text}\"   and then ….below(top)"
                            )),
                            _ => error,
                        };
                        return self.fail(args[0].span, error.mend("self.folder   in a kind"));
                    }
                };
                // An output is named as the definition named it, not by the folder the tool chose.
                let made = file.maker.and_then(|s| {
                    let step = &self.drafting.graph.steps[s as usize];
                    file.path.below(&step.folder).map(str::to_owned)
                });
                return Ok(Value::text(
                    made.as_deref()
                        .or(path.below(&folder))
                        .unwrap_or(path.as_str()),
                ));
            }
            _ => {
                let parent = path.parent().unwrap_or_else(WsPath::root);
                return Ok(Value::text(if parent.is_root() {
                    "."
                } else {
                    parent.as_str()
                }));
            }
        }))
    }

    fn list_method(
        &mut self,
        base: Value,
        method: Method,
        args: Vec<Given<'_>>,
        name: &Name,
    ) -> Result<Value> {
        if let (Method::Unique | Method::Sorted, Value::Files(files)) = (method, &base) {
            let mut files = unique_files(files.to_vec());
            if method == Method::Sorted {
                files.sort();
            }
            return Ok(Value::Files(files.into()));
        }
        let is_files = matches!(base, Value::Files(_));
        let items = self.items(base, name.span)?;
        self.count_items(items.len(), name.span)?;
        let values: Vec<Value> = match method {
            Method::Join => return self.join(&items, &args[0], name.span),
            Method::First | Method::Last | Method::Get => {
                return self.item(&items, method, &args, name);
            }
            Method::Slice => {
                let mut bound = |arg| -> Result<usize> {
                    Ok(usize::try_from(self.int_arg(arg)?)
                        .unwrap_or(0)
                        .min(items.len()))
                };
                let (from, to) = (bound(&args[0])?, bound(&args[1])?);
                items.get(from..to).unwrap_or_default().to_vec()
            }
            Method::Reversed => items.into_iter().rev().collect(),
            Method::Flat => self.flat(&items, name.span)?,
            Method::Sorted => sorted(self.keyed(items, name.span)?),
            Method::Unique => unique(self.keyed(items, name.span)?),
            _ => {
                let reversed = items.into_iter().rev().collect();
                let mut unique = unique(self.keyed(reversed, name.span)?);
                unique.reverse();
                unique
            }
        };
        self.count_items(values.len(), name.span)?;
        if is_files && matches!(method, Method::Slice | Method::Reversed) {
            let files = self.files_of(&Value::List(values.into()), name.span)?;
            return Ok(Value::Files(files.into()));
        }
        Ok(Value::List(values.into()))
    }

    /// The items of lists, and what is no list, as one list.
    fn flat(&mut self, items: &[Value], span: Span) -> Result<Vec<Value>> {
        let length = |item: &Value| match item {
            Value::List(inner) => inner.len(),
            Value::Files(files) => files.len(),
            _ => 1,
        };
        self.room_for_items(items.iter().map(length).sum(), span)?;
        let parts = self.all(items, |this, item| match item {
            Value::List(_) | Value::Files(_) => this.items(item.clone(), span),
            other => Ok(vec![other.clone()]),
        })?;
        Ok(parts.concat())
    }

    /// One item: the first or last one, or the one with a number or else another value.
    fn item(
        &mut self,
        items: &[Value],
        method: Method,
        args: &[Given<'_>],
        name: &Name,
    ) -> Result<Value> {
        let item = match method {
            Method::Get => {
                let at = usize::try_from(self.int_arg(&args[0])?).ok();
                return Ok(at
                    .and_then(|at| items.get(at))
                    .unwrap_or(&args[1].value)
                    .clone());
            }
            Method::First => items.first(),
            _ => items.last(),
        };
        if let Some(item) = item {
            return Ok(item.clone());
        }
        let message = format!("an empty list has no `{}` item", name.text);
        let error = Diagnostic::error("out-of-range", message);
        self.fail(name.span, error.mend("get(0, none)"))
    }

    fn int_arg(&mut self, arg: &Given<'_>) -> Result<i64> {
        match &arg.value {
            Value::Int(number) => Ok(*number),
            other => {
                let message = format!("expected a number, found {}", other.described());
                self.fail(arg.span, Diagnostic::error("wrong-type", message))
            }
        }
    }

    fn join(&mut self, items: &[Value], separator: &Given<'_>, span: Span) -> Result<Value> {
        let separator = self.text_arg(separator)?;
        let mut joined = Joined::default();
        for (i, item) in items.iter().enumerate() {
            if i > 0 {
                joined.push_str(&separator);
            }
            match item {
                Value::Text(text) => joined.push_text(text),
                Value::Int(number) => joined.push_str(&number.to_string()),
                other => joined.push(Strand::File(self.one_file(other, span)?)),
            }
            self.check_size(&joined, span)?;
        }
        self.joined_text(joined, span)
    }
}
