//! `demand`: a value, if a condition holds.

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::{Form, FormEvaluation};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "demand",
        builtin: Builtin::Demand,
        shape: CallShape::Brackets,
        doc: "`demand(condition, \"what is wrong\", value)` gives the value, if the condition holds. Else the text is the error: in a kit it is shown at the caller's argument that the condition speaks of.",
        fields: &[],
        gives: &[],
        example: "kind chart(stations: files): { files: files } {\n    let some = demand(stations.len > 0, \"a chart needs a station\", stations)\n    give { files = step { run = `draw {some} {out \"chart.svg\"}` } }\n}",
    },
    way: FormEvaluation::Round(|e, scope, args, span| e.demand_call(scope, args, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn demand_call(
        &mut self,
        scope: &Scope,
        args: &[Arg],
        span: Span,
    ) -> Result<Value> {
        let [condition, message, value] = args else {
            let error = Diagnostic::error(
                "wrong-call",
                "`demand` takes a condition, a text and a value",
            );
            return self.fail(
                span,
                error.mend("demand(items.len > 0, \"it needs an item\", items)"),
            );
        };
        if self.boolean(scope, condition.value)? {
            return self.eval(scope, value.value);
        }
        let module = self.module(scope.module);
        let message_span = module.span(message.value);
        let Value::Text(text) = self.eval(scope, message.value)? else {
            let error = Diagnostic::error("wrong-type", "what `demand` says is a text");
            return self.fail(message_span, error);
        };
        let condition = module.span(condition.value);
        let error = Diagnostic::error("demanded", crate::eval::words::plain_path_text(&text));
        match self
            .spoken_of(&module, condition)
            .and_then(|(name, at)| self.argument(&name, at))
        {
            Some(argument) => self.fail(argument, error.related(condition, "this is demanded")),
            None => self.fail(condition, error),
        }
    }

    /// The first parameter that an expression speaks of: its name and its place among all.
    fn spoken_of(&self, module: &Module, within: Span) -> Option<(String, usize)> {
        let inside = |span: Span| span.start >= within.start && span.end <= within.end;
        let locals = module
            .exprs
            .iter()
            .zip(&module.spans)
            .filter_map(|(expr, span)| match expr {
                Expr::Local { up: 0, slot } if inside(*span) => Some((*span, *slot)),
                _ => None,
            });
        let (span, slot) = locals.min_by_key(|(span, _)| span.start)?;
        Some((
            self.definitions.modules.sources.slice(span).to_owned(),
            usize::from(slot),
        ))
    }

    /// The argument of a name, or at a place, in the innermost call that is being evaluated.
    fn argument(&self, name: &str, at: usize) -> Option<Span> {
        let caller = *self.memos.callers.last()?;
        let module = self.definitions.modules.of_file(caller.file)?;
        module.exprs.iter().enumerate().find_map(|(id, expr)| {
            let called =
                |callee: ExprId| module.span(callee) == caller || module.spans[id] == caller;
            match expr {
                Expr::BraceCall(callee, fields) if called(*callee) => match module.expr(*fields) {
                    Expr::Record(fields) => {
                        let (_, value) = fields.iter().find(|(field, _)| *field.text == *name)?;
                        Some(module.span(*value))
                    }
                    _ => None,
                },
                Expr::Call(callee, args) if called(*callee) => {
                    let named = |arg: &&Arg| arg.name.as_ref().is_some_and(|n| *n.text == *name);
                    let placed = || args.get(at).filter(|arg| arg.name.is_none());
                    args.iter()
                        .find(named)
                        .or_else(placed)
                        .map(|arg| module.span(arg.value))
                }
                _ => None,
            }
        })
    }
}
