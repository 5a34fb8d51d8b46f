//! `load_csv` and its like: data of source files.

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation};
use crate::builtins::*;
use crate::data::{Datum, DatumKind, csv, json, lines, toml};
use crate::eval::data::Load;
use crate::eval::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::types::Type;
use crate::value::*;

pub(super) const LOAD_CSV: Form = Form {
    info: FormInfo {
        name: "load_csv",
        builtin: Builtin::LoadCsv,
        shape: CallShape::Brackets,
        doc: "The rows of a CSV file with a header line, each a record of texts, or of the row type.",
        fields: &[field(
            "row",
            FieldType::Text,
            false,
            "the name of a record type for each row",
        )],
        gives: &[],
        example: "type station = { code: text, name: text, height: int }\nlet stations = load_csv(\"stations.csv\", row = station)",
    },
    way: FormEvaluation::Round(|e, scope, args, span| {
        e.load_call(scope, Builtin::LoadCsv, args, span)
    }),
};

pub(super) const LOAD_JSON: Form = Form {
    info: FormInfo {
        name: "load_json",
        builtin: Builtin::LoadJson,
        shape: CallShape::Brackets,
        doc: "What a JSON file holds.",
        fields: &[field(
            "type",
            FieldType::Text,
            false,
            "the name of the type that the value must have",
        )],
        gives: &[],
        example: "let settings = load_json(\"settings.json\")\nlet depth = settings.charts.depth",
    },
    way: FormEvaluation::Round(|e, scope, args, span| {
        e.load_call(scope, Builtin::LoadJson, args, span)
    }),
};

pub(super) const LOAD_TOML: Form = Form {
    info: FormInfo {
        name: "load_toml",
        builtin: Builtin::LoadToml,
        shape: CallShape::Brackets,
        doc: "What a TOML file holds.",
        fields: &[field(
            "type",
            FieldType::Text,
            false,
            "the name of the type that the value must have",
        )],
        gives: &[],
        example: "let settings = load_toml(\"almanac.toml\")",
    },
    way: FormEvaluation::Round(|e, scope, args, span| {
        e.load_call(scope, Builtin::LoadToml, args, span)
    }),
};

pub(super) const LOAD_LINES: Form = Form {
    info: FormInfo {
        name: "load_lines",
        builtin: Builtin::LoadLines,
        shape: CallShape::Brackets,
        doc: "The lines of a text file that are not empty.",
        fields: &[],
        gives: &[],
        example: "let harbours = load_lines(\"harbours.txt\")",
    },
    way: FormEvaluation::Round(|e, scope, args, span| {
        e.load_call(scope, Builtin::LoadLines, args, span)
    }),
};

/// A file with its place, and a type, where they were given.
type Loaded = (Option<(FileRef, Span)>, Option<Type>);

impl Evaluator<'_> {
    pub(in crate::eval) fn load_call(
        &mut self,
        scope: &Scope,
        builtin: Builtin,
        args: &[Arg],
        span: Span,
    ) -> Result<Value> {
        let form = form_of(builtin);
        let (path, ty) = self.load_arguments(scope, form, args)?;
        let Some((file, path_span)) = path else {
            let error = Diagnostic::error("wrong-call", format!("`{}` needs a file", form.name));
            return self.fail(span, error.mend(format!("{}(\"table.csv\")", form.name)));
        };
        if file.maker.is_some() {
            let error =
                Diagnostic::error("wrong-type", format!("`{}` reads source files", form.name));
            return self.fail(
                path_span,
                error.note("what a step makes is known when it has run"),
            );
        }
        let (data, text) = self.data_file(&file, path_span)?;
        let parsed = match builtin {
            Builtin::LoadCsv => csv(
                &text,
                if file.path.extension() == "tsv" {
                    b'\t'
                } else {
                    b','
                },
            ),
            Builtin::LoadJson => json(&text),
            Builtin::LoadToml => toml(&text),
            _ => Ok(lines(&text)),
        };
        let datum = match parsed {
            Ok(datum) => datum,
            Err(wrong) => {
                let place = Span::new(data, wrong.range.start, wrong.range.end);
                let error = wrong
                    .diagnostic
                    .related(path_span, "the file is loaded here");
                return self.fail(place, error);
            }
        };
        let load = Load {
            file: data,
            at: path_span,
            base: scope.module,
            missing: Default::default(),
        };
        match (ty, datum.kind) {
            (Some(row), DatumKind::List(rows)) if builtin == Builtin::LoadCsv => {
                let values = self.all(&rows, |this, r| this.typed(&load, r, &row))?;
                Ok(Value::List(values.into()))
            }
            (ty, kind) => {
                let datum = Datum {
                    kind,
                    range: datum.range,
                };
                self.typed(&load, &datum, &ty.unwrap_or(Type::Any))
            }
        }
    }

    /// The file and the type that are given, if they are, each with its place.
    fn load_arguments(&mut self, scope: &Scope, form: &FormInfo, args: &[Arg]) -> Result<Loaded> {
        let module = self.module(scope.module);
        let mut path = None;
        let mut ty = None;
        for arg in args {
            let arg_span = module.span(arg.value);
            match &arg.name {
                None if path.is_none() => {
                    let value = self.eval(scope, arg.value)?;
                    if let Value::Step(_) = &value {
                        let error = Diagnostic::error(
                            "wrong-type",
                            format!("`{}` reads source files", form.name),
                        );
                        let error = error.note("what a step makes is known when it has run");
                        return self.fail(arg_span, error.mend("probe { run = `cat {…}` }.json"));
                    }
                    let file = self.coerce(value, &Type::File, scope.module, arg_span)?;
                    path = Some((self.one_file(&file, arg_span)?, arg_span));
                }
                None => {
                    let error =
                        Diagnostic::error("wrong-call", format!("`{}` takes one file", form.name));
                    return self.fail(arg_span, error);
                }
                Some(name) if form.fields.iter().any(|f| *f.name == *name.text) => {
                    ty = Some(self.type_argument(scope.module, arg.value)?);
                }
                Some(name) => {
                    let message = format!("`{}` has no parameter `{}`", form.name, name.text);
                    let near = nearest(&name.text, form.fields.iter().map(|f| f.name));
                    return self.fail(
                        name.span,
                        Diagnostic::error("unknown-field", message).maybe_mend(near),
                    );
                }
            }
        }
        Ok((path, ty))
    }

    /// The type that an argument names.
    pub(in crate::eval) fn type_argument(
        &mut self,
        module_id: ModuleId,
        expr: ExprId,
    ) -> Result<Type> {
        let module = self.module(module_id);
        let id = match module.expr(expr) {
            Expr::Decl(number) => DeclId::new(module_id, *number),
            Expr::Member(number, name) => self.member(module_id, *number, name)?,
            Expr::Error => return self.failed_before(module.span(expr)),
            _ => {
                let error = Diagnostic::error("wrong-type", "expected the name of a type here");
                return self.fail(
                    module.span(expr),
                    error.mend("type row = { code: text, height: int }"),
                );
            }
        };
        let owner = self.module(id.module);
        let decl = owner.decl(id);
        if decl.kind != DeclKind::Type {
            let message = format!("`{}` is a {}, not a type", decl.name.text, decl.kind.word());
            let error =
                Diagnostic::error("wrong-type", message).related(decl.name.span, "declared here");
            return self.fail(module.span(expr), error);
        }
        self.declared_type(id)
    }
}
