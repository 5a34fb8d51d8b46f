//! `secret`: a text that represents a variable's value, which evaluation never sees.

use std::rc::Rc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::{Form, FormEvaluation};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "secret",
        builtin: Builtin::Secret,
        shape: CallShape::Brackets,
        doc: "A variable of your environment whose value only the commands of an `effect` or a service see: it is in no key, message, store or history.",
        fields: &[],
        gives: &[],
        example: "job publish = effect {\n    run = `upload {pages}`\n    env = { \"UPLOAD_TOKEN\": secret(\"ALMANAC_TOKEN\") }\n}",
    },
    way: FormEvaluation::Round(|e, scope, args, span| e.secret_call(scope, args, span)),
};

impl Evaluator<'_> {
    /// A text that represents a variable's value, which evaluation never sees.
    pub(in crate::eval) fn secret_call(
        &mut self,
        scope: &Scope,
        args: &[Arg],
        span: Span,
    ) -> Result<Value> {
        let args = self.given(scope, args)?;
        let (name, _) = self.one_text_and(args, "secret", &[], span)?;
        if name.0.is_empty() || name.0.contains(['=', '\0', ':']) {
            let error = Diagnostic::error(
                "wrong-type",
                format!("{:?} is not the name of a variable", &*name.0),
            );
            return self.fail(name.1, error);
        }
        Ok(Value::Text(Text::Carrying(Rc::new([Strand::Secret(
            name.0,
        )]))))
    }
}

/// Refuses secrets where they could be kept or printed.
pub(in crate::eval) fn no_secret() -> Diagnostic {
    let error = Diagnostic::error("not-here", "a secret cannot be used here");
    error
        .note("what steps read and make is kept, and messages are read by many: only an `effect` or a service gets to see a secret")
        .mend("job … = effect { … } uses it when it is run")
}
