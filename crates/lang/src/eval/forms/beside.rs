//! `beside`: a file next to the definition file.

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::{Form, FormEvaluation};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::value::*;
use crate::world::EntryKind;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "beside",
        builtin: Builtin::Beside,
        shape: CallShape::Brackets,
        doc: "A file in the same folder as the definition file, for example a script that belongs to a kit.",
        fields: &[],
        gives: &[],
        example: "private let scanner = beside(\"scan.py\")",
    },
    way: FormEvaluation::Round(|e, scope, args, span| e.beside_call(scope, args, span)),
};

impl Evaluator<'_> {
    /// `beside("scan.py")`: a file next to the definition file.
    pub(in crate::eval) fn beside_call(
        &mut self,
        scope: &Scope,
        args: &[Arg],
        span: Span,
    ) -> Result<Value> {
        let args = self.given(scope, args)?;
        let (name, _) = self.one_text_and(args, "beside", &[], span)?;
        let module = self.module(scope.module);
        let Some(folder) = module.folder.clone() else {
            let error = Diagnostic::error(
                "bad-path",
                "a kit that ships with nubrik has no files beside it",
            );
            return self.fail(span, error);
        };
        let path = folder
            .resolve(&name.0)
            .map_err(|p| Diagnostic::error("bad-path", p.to_string()));
        let path = self.at(name.1, path)?;
        let file = self.existing(path, EntryKind::File, scope.module, name.1)?;
        Ok(Value::File(file))
    }
}
