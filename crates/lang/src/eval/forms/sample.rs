//! `sample`: a cheap command whose answer the definitions read, asked each time.

use std::rc::Rc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::{Evaluator, Result};
use crate::value::*;
use crate::world::{Answer, AnswerText, NoAnswer, SampleCommand, SampleProgram, SampleRequest};

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "sample",
        builtin: Builtin::Sample,
        shape: CallShape::Braces,
        doc: "A cheap command that runs each time its answer is needed; the answer counts as an input.",
        fields: &[RUN, ENV, TIMEOUT, MAY_FAIL],
        gives: &[
            ("ok", "whether it succeeded"),
            ("text", "what it printed, without the last line end"),
            ("lines", "the same, as lines"),
            ("json", "the same, read as JSON"),
            ("errors", "what it printed as errors, where it failed"),
        ],
        example: "let revision = sample { run = `git rev-parse --short HEAD`, may_fail = true }",
    },
    way: FormEvaluation::Braces(|e, _, values, span| e.sample_form(values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn sample_form(
        &mut self,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let mut commands = Vec::new();
        for command in values.commands() {
            let stages = self.all(&command.stages, |this, stage| {
                this.sample_stage(stage, command.span)
            })?;
            commands.push(stages);
        }
        let mut env = Vec::new();
        if let Value::Map(map) = values.value("env") {
            for (name, thunk) in &map.entries {
                match self.force(thunk, span)? {
                    Value::Text(Text::Plain(text)) => env.push((name.clone(), text)),
                    _ => {
                        let error = Diagnostic::error(
                            "wrong-type",
                            "a variable of a sample cannot carry files",
                        );
                        return self.fail(thunk.span, error);
                    }
                }
            }
        }
        env.sort();
        let may_fail = values.bool("may_fail");
        let request = SampleRequest {
            commands,
            env,
            timeout: values.duration("timeout"),
        };
        let Answer::Ready(answer) = self.world.sample(&request) else {
            return self.wait();
        };
        match answer {
            Ok(AnswerText { ok, text, errors }) if ok || may_fail => {
                Ok(Value::Answer(Rc::new(AnswerValue { ok, text, errors })))
            }
            Ok(AnswerText { errors, .. }) => {
                let error = Diagnostic::error("sample-failed", "this sample failed");
                let said = errors.lines().last().unwrap_or("").to_owned();
                let error = if said.is_empty() {
                    error
                } else {
                    error.note(format!("it said: {said}"))
                };
                self.fail(span, error.mend("may_fail = true"))
            }
            Err(NoAnswer {
                is_lasting: true,
                why,
            }) if may_fail => {
                let answer = AnswerValue {
                    ok: false,
                    text: "".into(),
                    errors: why.into(),
                };
                Ok(Value::Answer(Rc::new(answer)))
            }
            Err(NoAnswer {
                why,
                is_lasting: true,
            }) => {
                let error =
                    Diagnostic::error("sample-failed", format!("this sample could not run: {why}"));
                self.fail(span, error.mend("may_fail = true"))
            }
            // Another time it may have an answer, so that this is none.
            Err(NoAnswer {
                why,
                is_lasting: false,
            }) => {
                let error =
                    Diagnostic::error("sample-failed", format!("this sample was cut off: {why}"));
                self.fail(span, error)
            }
        }
    }

    pub(in crate::eval) fn sample_stage(
        &mut self,
        stage: &StageValue,
        at: Span,
    ) -> Result<SampleCommand> {
        let mut words = Vec::new();
        let mut program = None;
        for (i, (span, word)) in stage.words.iter().enumerate() {
            let mut text = String::new();
            for strand in word {
                match strand {
                    WordStrand::Literal(literal) => text.push_str(literal),
                    WordStrand::Tool(tool) => text.push_str(&tool.path),
                    WordStrand::File(file) if file.maker.is_none() => {
                        text.push_str(file.path.as_str())
                    }
                    WordStrand::Secret(_) => return self.fail(*span, super::secret::no_secret()),
                    WordStrand::Served(..) | WordStrand::Own(_) => {
                        let error =
                            Diagnostic::error("wrong-type", "a sample cannot use a service");
                        let error = error.note(
                            "it runs whenever a request reaches it, before anything is started",
                        );
                        return self
                            .fail(*span, error.mend("probe { … } is kept, and may use one"));
                    }
                    WordStrand::File(_) | WordStrand::ArgFile(_) => {
                        let error = Diagnostic::error(
                            "wrong-type",
                            "a sample cannot read what a step makes",
                        );
                        let error =
                            error.note("it runs whenever a request reaches it, before any step");
                        return self.fail(
                            *span,
                            error.mend("probe { … } waits for the steps that it needs"),
                        );
                    }
                    _ => {
                        let error = Diagnostic::error("wrong-type", "a sample makes nothing");
                        return self.fail(*span, error.mend("step { … } makes files"));
                    }
                }
            }
            if i == 0 {
                program = Some(match word.as_slice() {
                    [WordStrand::File(file)] => SampleProgram::File(file.path.clone()),
                    [WordStrand::Tool(tool)] => SampleProgram::Tool(tool.name.clone()),
                    _ => SampleProgram::Tool(text.as_str().into()),
                });
            }
            words.push(text.into());
        }
        let odd = stage
            .stdin
            .as_ref()
            .or(stage.stdout.as_ref())
            .or(stage.stderr.as_ref());
        if let Some((span, _)) = odd {
            let error = Diagnostic::error(
                "wrong-type",
                "what a sample prints is its answer: it has no redirects",
            );
            return self.fail(*span, error);
        }
        match program {
            Some(program) => Ok(SampleCommand { program, words }),
            None => self.failed_before(at),
        }
    }
}
