//! `env`: the value of a variable.

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::value::*;
use crate::world::NotText;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "env",
        builtin: Builtin::Env,
        shape: CallShape::Brackets,
        doc: "A variable of your environment.",
        fields: &[field(
            "default",
            FieldType::Text,
            false,
            "its value if it is not set",
        )],
        gives: &[],
        example: "let channel = env(\"ALMANAC_CHANNEL\", default = \"draft\")",
    },
    way: FormEvaluation::Round(|e, scope, args, span| e.env_call(scope, args, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn env_call(
        &mut self,
        scope: &Scope,
        args: &[Arg],
        span: Span,
    ) -> Result<Value> {
        let args = self.given(scope, args)?;
        let (name, default) = self.one_text_and(args, "env", &["default"], span)?;
        if name.0.is_empty() || name.0.contains(['=', '\0']) {
            let error = Diagnostic::error(
                "wrong-type",
                format!("{:?} is not the name of a variable", &*name.0),
            );
            return self.fail(name.1, error);
        }
        let default = default.into_iter().next().map(|given| given.value);
        match (self.world.env(&name.0), default) {
            (Ok(Some(value)), _) => Ok(Value::text(&value)),
            (Ok(None), Some(default)) => Ok(default),
            (Ok(None), None) => {
                let error = Diagnostic::error(
                    "no-variable",
                    format!("the variable `{}` is not set", name.0),
                );
                let error = error.mend(format!("{}=… nubrik build", name.0));
                self.fail(
                    span,
                    error.mend(format!("env(\"{}\", default = \"…\")", name.0)),
                )
            }
            (Err(NotText), _) => {
                let problem = format!("the variable `{}` is not UTF-8 text", name.0);
                self.fail(span, Diagnostic::error("no-variable", problem))
            }
        }
    }
}
