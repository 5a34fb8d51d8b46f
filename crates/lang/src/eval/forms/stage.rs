//! `stage`: a folder put together from files, made by the tool itself.

use nubrik_graph::Native;
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "stage",
        builtin: Builtin::Stage,
        shape: CallShape::Braces,
        doc: "A folder made of files. A map says what goes where: one file at a path, and below a path that ends with `/` any files, under their names. The place `\"\"` is the top.",
        fields: &[
            field(
                "files",
                FieldType::Places,
                true,
                "what goes where, if there are other fields",
            ),
            field(
                "path",
                FieldType::Text,
                false,
                "the name of the folder; the target's own by default",
            ),
        ],
        gives: &[],
        example: "target tree = stage {\n    \"bin/tidecast\": tidecast\n    \"share/doc/\": glob(\"doc/*.md\")\n}\n\n# With a name of its own, or a map from somewhere else:\nlet places = { \"doc/\": glob(\"doc/*.md\") }\ntarget book = stage { path = \"almanac\", files = places }",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.stage_form(scope, values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn stage_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let (files, files_span) = values
            .get("files")
            .map_or((Value::None, span), |(v, s)| (v.clone(), s));
        match self.plain(values, "path")? {
            Some((name, at)) => self.stage_at(scope, &name, files, at, files_span),
            None => self.staged_map(scope, files, files_span),
        }
    }

    /// `stage` with a map in place of fields.
    pub(in crate::eval) fn staged_map(
        &mut self,
        scope: &Scope,
        map: Value,
        span: Span,
    ) -> Result<Value> {
        let name = scope
            .owner
            .parts
            .last()
            .map_or("files", |p| p.rsplit('/').next().unwrap_or(p))
            .to_owned();
        self.stage_at(scope, &name, map, span, span)
    }

    fn stage_at(
        &mut self,
        scope: &Scope,
        name: &str,
        files: Value,
        at: Span,
        span: Span,
    ) -> Result<Value> {
        let places = self.places(files, scope.module, span)?;
        let mut draft = self.native_draft(scope, name, true, at)?;
        let files = self.placements(&places, ("", span), &mut draft)?;
        self.enter_native(
            scope,
            draft,
            Native::Stage { files },
            format!("put {name} together"),
            span,
        )
    }
}
