//! `stage`: a folder put together from files, made by the tool itself.

use nubrik_graph::Native;
use nubrik_source::Span;

use super::{Form, FormEvaluation};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "stage",
        builtin: Builtin::Stage,
        shape: CallShape::Map,
        doc: "A folder made of files: a single file is placed at the path itself, several files below it under their names.",
        fields: &[],
        gives: &[],
        example: "target tree = stage {\n    \"bin/tidecast\": tidecast\n    \"share/doc\": glob(\"doc/*.md\")\n}",
    },
    way: FormEvaluation::Map(|e, scope, map, span| e.stage_form(scope, map, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn stage_form(&mut self, scope: &Scope, map: Value, span: Span) -> Result<Value> {
        let places = self.places(map, scope.module, span)?;
        let name = scope.owner.parts.last().map_or("files", |p| p.rsplit('/').next().unwrap_or(p)).to_owned();
        let mut draft = self.native_draft(scope, &name, true, span)?;
        let files = self.placements(&places, "", &mut draft);
        self.enter_native(scope, draft, Native::Stage { files }, format!("put {name} together"), span)
    }
}
