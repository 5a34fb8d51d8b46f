//! The forms and functions of the language: each in a file of its own, with what people read about
//! it and how it is evaluated.

mod beside;
pub(super) mod check;
mod commands_of;
mod demand;
mod effect;
mod env;
mod extract;
mod fetch;
mod fields;
mod glob;
mod host;
mod image;
mod image_of;
mod load;
mod pack;
mod pins_of;
mod probe;
mod sample;
pub(super) mod secret;
mod serve;
mod stage;
mod step;
mod system_library;
mod tool;
mod unpack;
mod write;

use std::rc::Rc;
use std::sync::{Arc, LazyLock};

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;
use smallvec::SmallVec;

use super::{Evaluator, Result, Scope, Stop};
use crate::builtins::{Builtin, FieldType, FormInfo, form_of};
use crate::hir::*;
use crate::renamed::meant;
use crate::types::Type;
use crate::value::*;

/// A form or function: what people read about it, and how it is evaluated.
pub(crate) struct Form {
    pub info: FormInfo,
    pub way: FormEvaluation,
}

/// How a form is evaluated, by how it is called.
#[derive(Clone, Copy)]
pub(crate) enum FormEvaluation {
    /// With the fields between its braces.
    Braces(for<'w> fn(&mut Evaluator<'w>, &Scope, &FormValues, Span) -> Result<Value>),
    /// With the arguments between its round brackets.
    Round(for<'w> fn(&mut Evaluator<'w>, &Scope, &[Arg], Span) -> Result<Value>),
    /// It is a value by itself.
    Plain(fn() -> Value),
}

/// All forms and functions, in the order in which people read about them.
pub(crate) static FORMS: [Form; 28] = [
    step::FORM,
    check::FORM,
    effect::FORM,
    serve::FORM,
    glob::FORM,
    write::FORM,
    stage::FORM,
    pack::FORM,
    unpack::FORM,
    fetch::FORM,
    image::FORM,
    image_of::FORM,
    tool::FORM,
    system_library::FORM,
    sample::FORM,
    probe::FORM,
    extract::FORM,
    load::LOAD_CSV,
    load::LOAD_JSON,
    load::LOAD_TOML,
    load::LOAD_LINES,
    pins_of::FORM,
    env::FORM,
    secret::FORM,
    host::FORM,
    beside::FORM,
    demand::FORM,
    commands_of::FORM,
];

/// Each form has a row, and its number is that of the row: without one nothing compiles.
const _: () = {
    let mut row = 0;
    while row < FORMS.len() {
        assert!(
            FORMS[row].info.builtin as usize == row,
            "the rows of forms are in the order of `Builtin`"
        );
        row += 1;
    }
    assert!(
        Builtin::LAST as usize + 1 == FORMS.len(),
        "each `Builtin` has a row"
    );
};

/// How a form is evaluated.
pub(crate) fn way_of(builtin: Builtin) -> FormEvaluation {
    FORMS[builtin as usize].way
}

/// The fields that were given to a form, each of the type that the table says.
pub(crate) struct FormValues {
    fields: Vec<(&'static str, Value, Span)>,
}

impl FormValues {
    pub fn get(&self, name: &str) -> Option<(&Value, Span)> {
        let found = self.fields.iter().find(|(n, ..)| *n == name);
        found
            .filter(|(_, v, _)| !matches!(v, Value::None))
            .map(|(_, value, span)| (value, *span))
    }

    /// Some of them.
    pub fn only(&self, names: &[&str]) -> FormValues {
        let some = self.fields.iter().filter(|(name, ..)| names.contains(name));
        FormValues {
            fields: some.cloned().collect(),
        }
    }

    pub fn value(&self, name: &str) -> Value {
        self.get(name)
            .map_or(Value::None, |(value, _)| value.clone())
    }

    pub fn texts(&self, name: &str) -> Vec<Arc<str>> {
        match self.get(name) {
            Some((Value::List(items), _)) => items
                .iter()
                .filter_map(|i| match i {
                    Value::Text(Text::Plain(text)) => Some(text.clone()),
                    _ => None,
                })
                .collect(),
            _ => Vec::new(),
        }
    }

    pub fn bool(&self, name: &str) -> bool {
        matches!(self.get(name), Some((Value::Bool(true), _)))
    }

    pub fn int(&self, name: &str) -> Option<(i64, Span)> {
        match self.get(name)? {
            (Value::Int(number), span) => Some((*number, span)),
            _ => None,
        }
    }

    pub fn duration(&self, name: &str) -> Option<u64> {
        match self.get(name)? {
            (Value::Duration(millis), _) => Some(*millis),
            _ => None,
        }
    }

    pub fn commands(&self) -> Vec<Rc<CommandValue>> {
        self.commands_of("run")
    }

    pub fn commands_of(&self, name: &str) -> Vec<Rc<CommandValue>> {
        let Some((Value::List(items), _)) = self.get(name) else {
            return Vec::new();
        };
        let commands = items.iter().filter_map(|c| {
            if let Value::Command(c) = c {
                Some(c.clone())
            } else {
                None
            }
        });
        commands.collect()
    }
}

impl Evaluator<'_> {
    /// A form called with braces.
    pub(super) fn form(
        &mut self,
        scope: &Scope,
        builtin: Builtin,
        fields: &[(Name, ExprId)],
        span: Span,
    ) -> Result<Value> {
        let FormEvaluation::Braces(evaluate) = way_of(builtin) else {
            return self.failed_before(span);
        };
        let values = self.form_values(scope, form_of(builtin), fields, span)?;
        evaluate(self, scope, &values, span)
    }

    fn form_values(
        &mut self,
        scope: &Scope,
        form: &'static FormInfo,
        fields: &[(Name, ExprId)],
        span: Span,
    ) -> Result<FormValues> {
        let names = || form.fields.iter().map(|f| f.name);
        let mut failed = None;
        for (name, _) in fields {
            if !names().any(|n| *n == *name.text) {
                let message = format!("`{}` has no field `{}`", form.name, name.text);
                let error = Diagnostic::error("unknown-field", message);
                let all: Vec<&str> = names().collect();
                let near = meant(&name.text, all.iter().copied());
                let error = error
                    .note(format!("it has: {}", all.join(", ")))
                    .maybe_mend(near);
                failed = Some(self.definitions.modules.report(name.span, error));
            }
        }
        let given: SmallVec<[_; 6]> = form
            .fields
            .iter()
            .filter_map(|info| Some((info, fields.iter().find(|(n, _)| *n.text == *info.name)?.1)))
            .collect();
        let values = self.all(&given, |this, (info, expr)| {
            let span = this.module(scope.module).span(*expr);
            // Part of the name of what is made by the form is the form's own, not the field's.
            let value = this.eval(scope, *expr)?;
            Ok((
                info.name,
                this.field_value(value, info.ty, scope.module, span)?,
                span,
            ))
        })?;
        if let Some(reported) = failed {
            return Err(Stop::Failed(reported));
        }
        let values = FormValues { fields: values };
        let is_missing = |f: &&crate::builtins::FieldInfo| f.needed && values.get(f.name).is_none();
        if let Some(missing) = form.fields.iter().find(is_missing) {
            if self.definitions.modules.is_misread(span) {
                return self.failed_before(span);
            }
            return self.fail(span, missing_field(form, missing));
        }
        Ok(values)
    }

    fn field_value(
        &mut self,
        value: Value,
        ty: FieldType,
        base: ModuleId,
        span: Span,
    ) -> Result<Value> {
        static TEXTS: LazyLock<Type> = LazyLock::new(|| Type::List(Box::new(Type::Text)));
        static COMMANDS: LazyLock<Type> = LazyLock::new(|| Type::List(Box::new(Type::Command)));
        static TEXT_MAP: LazyLock<Type> = LazyLock::new(|| Type::Map(Box::new(Type::Text)));
        if let Value::None = value {
            return Ok(value); // As though the field were not there.
        }
        let ty: &Type = match ty {
            FieldType::Text => &Type::Text,
            FieldType::Texts => {
                let value = if matches!(value, Value::Text(_)) {
                    Value::List(Rc::new([value]))
                } else {
                    value
                };
                return self.coerce(value, &TEXTS, base, span);
            }
            FieldType::Files => &Type::Files,
            FieldType::File => &Type::File,
            FieldType::Folder => &Type::Folder,
            FieldType::Bool => &Type::Bool,
            FieldType::Int => &Type::Int,
            FieldType::Duration => &Type::Duration,
            FieldType::Commands => &COMMANDS,
            FieldType::TextMap => &TEXT_MAP,
            FieldType::Places => return Ok(value),
            FieldType::Port => match value {
                Value::Int(number) => return Ok(Value::text(&number.to_string())),
                _ => &Type::Text,
            },
        };
        self.coerce(value, ty, base, span)
    }

    /// The plain text of a field; one that carries files is refused.
    pub(super) fn plain(
        &mut self,
        values: &FormValues,
        name: &str,
    ) -> Result<Option<(Arc<str>, Span)>> {
        match values.get(name) {
            None => Ok(None),
            Some((Value::Text(Text::Plain(text)), span)) => Ok(Some((text.clone(), span))),
            Some((_, span)) => {
                let error = Diagnostic::error("wrong-type", format!("`{name}` cannot carry files"));
                self.fail(span, error.mend("{….name}").mend("{….path}"))
            }
        }
    }
}

/// The error about a form that lacks a field.
fn missing_field(form: &FormInfo, missing: &crate::builtins::FieldInfo) -> Diagnostic {
    let runs = form.fields.first().is_some_and(|f| f.name == "run");
    if runs && missing.name == "run" {
        let message = format!("this {} has nothing to run", form.name);
        return Diagnostic::error("missing-field", message)
            .mend("run = `tool {in \"table.csv\"} {out \"result\"}`");
    }
    let message = format!("this `{}` needs the field `{}`", form.name, missing.name);
    let (name, ty) = (missing.name, missing.ty.shown());
    Diagnostic::error("missing-field", message)
        .note(missing.doc)
        .mend(format!("{name} = …   a value of type {ty}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::builtins::CallShape;

    #[test]
    fn every_form_is_called_as_people_are_told() {
        for form in &FORMS {
            let shape = match form.way {
                FormEvaluation::Braces(_) => CallShape::Braces,
                FormEvaluation::Round(_) => CallShape::Brackets,
                FormEvaluation::Plain(_) => CallShape::Plain,
            };
            assert_eq!(form.info.shape, shape, "{}", form.info.name);
        }
    }
}
