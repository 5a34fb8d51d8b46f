//! `step`: something that runs and makes its outputs.

use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::steps::First;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "step",
        builtin: Builtin::Step,
        shape: CallShape::Braces,
        doc: "Commands that make outputs. A step is confined, its outputs are kept, and it runs again only if something that it reads changed.",
        fields: &[
            RUN,
            ANSWERED_BY,
            SAY,
            READS,
            OBSERVED,
            ENV,
            MAKES,
            FOLDER,
            NETWORK,
            ROOT,
            TIMEOUT,
            MEMORY,
            PROCESSORS,
            MACHINE,
            field(
                "counted_by",
                FieldType::Commands,
                false,
                "of a program that counts which of its lines run: commands that read its counts from {scratchfolder \"counts\"}, which the program finds in `NUBRIK_COUNTS`, and write which lines ran into an output, as LCOV; each step and check that names the program runs them after its own",
            ),
        ],
        gives: &[],
        example: "target codes = step {\n    say = \"list station codes\"\n    run = `sort {in \"stations.csv\"} -o {out \"codes.txt\"}`\n}",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.step_form(scope, values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn step_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let commands = self.step_commands(values);
        let draft = self.outline(scope, &commands, values, First::Named, span)?;
        let made = self.finish_step(scope, draft, &commands, values, span)?;
        self.note_counting(&made, values);
        Ok(made)
    }
}
