//! What targets were given by their definitions, and what by defaults of a kind: for people who
//! look at them.

use std::sync::Arc;

use nubrik_graph::Place;
use nubrik_source::{Span, WsPath};

use super::words::plain_path_text;
use super::{Evaluator, Scope, Slot};
use crate::AddressPattern;
use crate::hir::*;
use crate::value::*;

/// So many items of a value are shown.
const ITEMS: usize = 12;

/// So many texts of a list are shown as words.
const WORDS: usize = 200;

/// So many characters of a text are shown.
const LETTERS: usize = 300;

/// A call of a kind that is a target's value.
#[derive(Clone, Debug)]
pub struct ToldCall {
    /// The target's address.
    pub target: Arc<str>,
    /// What the kind is called.
    pub kind: Arc<str>,
    /// Its fields, in the order in which the kind declares them.
    pub fields: Vec<ToldField>,
}

/// A field of a kind, with the value that it has for one target.
#[derive(Clone, Debug)]
pub struct ToldField {
    /// Its name.
    pub name: Arc<str>,
    /// What it is for, as the kind says.
    pub documentation: Arc<str>,
    /// Its value, for people.
    pub value: String,
    /// The texts among it, as commands have them.
    pub words: Vec<Arc<str>>,
    /// The default that gave it, where the definition did not; a field that may be left out has
    /// none.
    pub default: Option<Place>,
    /// Whether the definition gave it.
    pub is_given: bool,
}

/// A text that is not longer than what is shown.
fn cut(text: &str) -> String {
    match text.char_indices().nth(LETTERS) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text.to_owned(),
    }
}

/// The texts of a value that is one, or a list of some.
fn words_of(value: &Value) -> Vec<Arc<str>> {
    match value {
        Value::Text(text) => vec![plain_path_text(text).into()],
        Value::List(items) => items.iter().take(WORDS).flat_map(words_of).collect(),
        _ => Vec::new(),
    }
}

/// The first of so many items, for people.
fn several(items: &mut dyn Iterator<Item = String>, count: usize) -> String {
    let first: Vec<String> = items.take(ITEMS).collect();
    match count.saturating_sub(ITEMS) {
        0 => first.join(", "),
        more => format!("{} and {more} more", first.join(", ")),
    }
}

/// A value for people.
fn told(value: &Value) -> String {
    match value {
        Value::Text(text) => format!("{:?}", cut(&plain_path_text(text))),
        Value::File(file) => file.path.to_string(),
        Value::List(items) if items.is_empty() => "[]".to_owned(),
        Value::List(items) => several(&mut items.iter().map(told), items.len()),
        Value::Record(record) => {
            let name = record.fields.iter().find(|(name, _)| &**name == "name");
            match (&record.kind, name) {
                (Some(kind), Some((_, Value::Text(name)))) => {
                    format!("{kind} {}", plain_path_text(name))
                }
                (Some(kind), _) => kind.to_string(),
                (None, _) => {
                    let field =
                        |(name, value): &(Arc<str>, Value)| format!("{name} = {}", told(value));
                    let mut fields = record
                        .fields
                        .iter()
                        .map(|(name, value)| field(&(name.clone(), value.clone())));
                    several(&mut fields, record.fields.len())
                }
            }
        }
        Value::Map(map) => several(
            &mut map.entries.iter().map(|(key, _)| format!("{:?}", &**key)),
            map.entries.len(),
        ),
        Value::None | Value::Bool(_) | Value::Int(_) | Value::Duration(_) => {
            super::option_values::shown(value)
        }
        other => other.described(),
    }
}

/// What a `let` or an option of a package is.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ToldName {
    /// The definition file that declares it.
    pub file: Arc<str>,
    /// Its name.
    pub name: Arc<str>,
    /// What kind of value it is: `a list`.
    pub kind: String,
    /// The value, for people.
    pub value: String,
}

impl Evaluator<'_> {
    /// What all `let`s and options of some packages are, as far as they can be evaluated.
    pub fn told_names(mut self, packages: &[WsPath]) -> Vec<ToldName> {
        let mut all = Vec::new();
        for package in packages {
            let Ok(Some(id)) = self.load_package(package) else {
                continue;
            };
            let module = self.module(id);
            for (number, decl) in (0..).zip(&module.decls) {
                if !matches!(decl.kind, DeclKind::Value | DeclKind::Option) {
                    continue;
                }
                let span = decl.name.span;
                let Ok(value) =
                    self.declaration(DeclId::new(id, number), self.choices.chosen, span)
                else {
                    continue;
                };
                let file = self.definitions.modules.sources.name(span.file).clone();
                let (kind, name) = (value.described(), decl.name.text.clone());
                all.push(ToldName {
                    file,
                    name,
                    kind,
                    value: self.told_value(&value, span),
                });
            }
        }
        all
    }

    /// What all targets that some patterns mean, and those that they need, were given, where a kind
    /// makes them.
    pub fn told_fields(mut self, patterns: &[AddressPattern]) -> Vec<ToldCall> {
        self.wanted.told_fields = Some(Vec::new());
        let mut meanings = Vec::new();
        for pattern in patterns {
            meanings.extend(self.select(pattern).unwrap_or_default());
        }
        let roots: Vec<DeclId> = meanings.iter().map(|meaning| meaning.decl).collect();
        let chains = self.find_cycles(&roots);
        // What is wrong is shown where people build it.
        let mut evaluated = self.evaluate_chains(&chains, &meanings);
        for (number, meaning) in meanings.iter().enumerate() {
            if evaluated.get_mut(number).and_then(Option::take).is_none() {
                let _ = self.evaluate_target(meaning);
            }
        }
        self.wanted.told_fields.take().unwrap_or_default()
    }

    /// A value for people, sets of files by what is in them.
    fn told_value(&mut self, value: &Value, span: Span) -> String {
        let Value::Files(_) = value else {
            return told(value);
        };
        match self.files_of(value, span) {
            Ok(files) if files.is_empty() => "no files".to_owned(),
            Ok(files) => several(
                &mut files.iter().map(|file| file.path.to_string()),
                files.len(),
            ),
            Err(_) => value.described(),
        }
    }

    /// Takes note of what a kind was given, if that is wanted and the call is in a target's own
    /// definition.
    pub(super) fn tell_call(
        &mut self,
        scope: &Scope,
        id: DeclId,
        given: &[Arc<str>],
        slots: &[Slot],
    ) {
        if self.wanted.told_fields.is_none()
            || scope.env.is_some()
            || scope.config != self.choices.chosen
        {
            return;
        }
        let module = self.module(id.module);
        let decl = module.decl(id);
        let target = self.drafting.graph.targets[scope.owner.target.index()]
            .address
            .clone();
        let params = &decl.to_tell().params;
        let mut field = |(param, slot): (&Param, &Slot)| {
            let value = match slot {
                Slot::Value(value) | Slot::Probed(value) => self.told_value(value, param.name.span),
                Slot::Lazy(_) => "known later".to_owned(),
            };
            let words = match slot {
                Slot::Value(value) | Slot::Probed(value) => words_of(value),
                Slot::Lazy(_) => Vec::new(),
            };
            let is_given = given.contains(&param.name.text);
            let default = param
                .default
                .filter(|_| !is_given)
                .map(|at| self.place(module.span(at)));
            let (name, documentation) = (param.name.text.clone(), param.documentation.clone());
            ToldField {
                name,
                documentation,
                value,
                words,
                default,
                is_given,
            }
        };
        let fields = params.iter().zip(slots).map(&mut field).collect();
        let call = ToldCall {
            target,
            kind: decl.name.text.clone(),
            fields,
        };
        let Some(all) = &mut self.wanted.told_fields else {
            return;
        };
        // Calls among its arguments come before the outermost one.
        all.retain(|known| known.target != call.target);
        all.push(call);
    }
}
