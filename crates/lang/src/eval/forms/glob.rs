//! `glob`: files that match a pattern.

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "glob",
        builtin: Builtin::Glob,
        shape: CallShape::Brackets,
        doc: "Files that match a pattern: sorted, without ignored ones, and not from packages below.",
        fields: &[
            field(
                "except",
                FieldType::Texts,
                false,
                "patterns of files to leave out",
            ),
            field(
                "or_none",
                FieldType::Bool,
                false,
                "whether it is no error to find nothing",
            ),
        ],
        gives: &[],
        example: "let sources = glob(\"src/**/*.c\", except = \"src/old/*.c\")",
    },
    way: FormEvaluation::Round(|e, scope, args, span| e.glob_call(scope, args, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn glob_call(
        &mut self,
        scope: &Scope,
        args: &[Arg],
        span: Span,
    ) -> Result<Value> {
        let args = self.given(scope, args)?;
        let mut pattern = None;
        let mut except = Vec::new();
        let mut or_none = false;
        for arg in args {
            match (arg.name.map(|n| &*n.text), arg.value) {
                (None, Value::Text(Text::Plain(text))) if pattern.is_none() => {
                    pattern = Some((text, arg.span))
                }
                (Some("except"), Value::Text(Text::Plain(text))) => except.push(text.to_string()),
                (Some("except"), Value::List(items)) => {
                    for item in items.iter() {
                        let Value::Text(Text::Plain(text)) = item else {
                            let error =
                                Diagnostic::error("wrong-type", "expected patterns as texts");
                            return self.fail(arg.span, error);
                        };
                        except.push(text.to_string());
                    }
                }
                (Some("or_none"), Value::Bool(value)) => or_none = value,
                (Some(name), value) if matches!(name, "except" | "or_none") => {
                    let wanted = if name == "or_none" {
                        "a bool"
                    } else {
                        "a pattern or a list of patterns"
                    };
                    let message = format!("expected {wanted}, found {}", value.described());
                    return self.fail(arg.span, Diagnostic::error("wrong-type", message));
                }
                (Some(name), _) => {
                    let near = nearest(name, ["except", "or_none"]);
                    let error = Diagnostic::error(
                        "unknown-field",
                        format!("`glob` has no parameter `{name}`"),
                    );
                    return self.fail(arg.span, error.maybe_mend(near));
                }
                (None, value) => {
                    let message = format!(
                        "expected one pattern as a text, found {}",
                        value.described()
                    );
                    return self.fail(arg.span, Diagnostic::error("wrong-type", message));
                }
            }
        }
        let Some((pattern, pattern_span)) = pattern else {
            let error = Diagnostic::error("wrong-call", "`glob` needs a pattern");
            return self.fail(span, error.mend("glob(\"src/*.c\")"));
        };
        let base = self.base_folder(scope.module, &pattern, pattern_span)?;
        self.globbed(&base, &pattern, &except, or_none, pattern_span)
    }
}
