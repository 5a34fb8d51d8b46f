//! `probe`: a step whose printed text the definitions read.

use std::rc::Rc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::counting::StepCommands;
use crate::eval::steps::First;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;
use crate::world::{Answer, AnswerText};

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "probe",
        builtin: Builtin::Probe,
        shape: CallShape::Braces,
        doc: "A step whose answer is kept and used by the definitions. It can decide words, dependencies and steps, but no declarations, keys of maps or values of options.",
        fields: &[
            RUN,
            ANSWERED_BY,
            field(
                "say",
                FieldType::Text,
                false,
                "what it does, in words for people",
            ),
            READS,
            ENV,
            FOLDER,
            ROOT,
            TIMEOUT,
            MAY_FAIL,
        ],
        gives: &[
            ("ok", "whether it succeeded"),
            ("text", "what it printed, without the last line end"),
            ("lines", "the same, as lines"),
            ("json", "the same, read as JSON"),
        ],
        example: "let has_sincos = probe {\n    run = `cc -c {in \"probes/sincos.c\"} -o {scratch \"sincos.o\"}`\n    may_fail = true\n}.ok",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.probe_form(scope, values, span)),
};

impl Evaluator<'_> {
    /// A step whose printed text is read by the definitions.
    pub(in crate::eval) fn probe_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let commands = StepCommands::of(values.commands());
        let last = commands.own().last().and_then(|c| c.stages.last());
        if last.is_some_and(|s| s.stdout.is_some()) {
            let error = Diagnostic::error("wrong-type", "what this `probe` prints is its answer");
            return self.fail(span, error.mend("drop the last `>`"));
        }
        let mut draft = self.outline(scope, &commands, values, First::Answer, span)?;
        if values.bool("may_fail") {
            self.outline_output(
                &mut draft,
                &Some("status".into()),
                &"answer.status".into(),
                false,
                span,
            )?;
        }
        let Value::Step(number) = self.finish_step(scope, draft, &commands, values, span)? else {
            return self.failed_before(span);
        };
        self.note_probe();
        let (folder, outputs) = {
            let step = &self.drafting.graph.steps[number as usize];
            (
                step.folder.clone(),
                step.outputs.iter().map(|o| o.file).collect::<Vec<_>>(),
            )
        };
        match self.world.probe(&folder) {
            Answer::Ready(AnswerText { ok, text, errors }) => {
                Ok(Value::Answer(Rc::new(AnswerValue { ok, text, errors })))
            }
            Answer::Pending => {
                self.wanted.probes.extend(outputs);
                self.wait()
            }
        }
    }
}
