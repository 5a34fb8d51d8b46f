//! `check`: a verdict.

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_graph::{Check, FileId, StepId};
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use std::sync::Arc;

use crate::eval::steps::Draft;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "check",
        builtin: Builtin::Check,
        shape: CallShape::Braces,
        doc: "A verdict: it passes if its commands succeed. The verdict is kept like the outputs of a step, and the check runs again only if something that it reads changed; a failure is never kept.",
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
            field(
                "timeout",
                FieldType::Duration,
                false,
                "how long each command may take; 10 minutes unless it says another",
            ),
            MEMORY,
            PROCESSORS,
            MACHINE,
            field(
                "report",
                FieldType::Text,
                false,
                "the name of the output in which the commands report single cases, as JUnit XML or TAP",
            ),
            field(
                "coverage",
                FieldType::Text,
                false,
                "the name of the output in which the commands tell which lines ran, as LCOV or Cobertura XML",
            ),
            field(
                "quarantined",
                FieldType::Text,
                false,
                "why a failure is shown but does not count: the test is flaky",
            ),
        ],
        gives: &[],
        example: "test tidecast_works = check {\n    say = \"tides of one day\"\n    run = `{tidecast} --self-test --report {out report \"cases.xml\"}`\n    report = \"report\"\n}",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.check_form(scope, values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn check_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let commands = self.step_commands(values);
        let mut draft = self.outline(
            scope,
            &commands,
            values,
            crate::eval::steps::First::Verdict,
            span,
        )?;
        if let Some((_, _, written)) = draft
            .outputs
            .iter()
            .find(|(n, ..)| n.as_deref() == Some(VERDICT))
        {
            let error = Diagnostic::error(
                "made-twice",
                format!("the output \"{written}\" is called `verdict`"),
            );
            let error =
                error.note("a check's verdict is an output of that name, made by nubrik itself");
            return self.fail(span, error.mend("give the output another name"));
        }
        draft.report = self.named_output(values, &draft, "report", "xml")?;
        if let Some(name) = self.named_output(values, &draft, "coverage", "info")? {
            let told = draft
                .outputs
                .iter()
                .find(|(n, ..)| *n == Some(name.clone()));
            draft
                .lines
                .extend(told.map(|(_, _, written)| written.clone()));
        }
        self.outline_output(
            &mut draft,
            &Some(VERDICT.into()),
            &VERDICT.into(),
            false,
            span,
        )?;
        let quarantined = match self.plain(values, "quarantined")? {
            Some((reason, reason_span)) if reason.trim().is_empty() => {
                let error = Diagnostic::error("wrong-type", "say why it is quarantined");
                return self.fail(
                    reason_span,
                    error.mend("quarantined = \"fails when the tide is high\""),
                );
            }
            other => other.map(|(reason, _)| reason),
        };
        let address = scope.owner.package.child(&scope.owner.parts.join("/"));
        draft.step.check = Some(Box::new(Check {
            verdict: FileId(0),
            report: None,
            quarantined,
            address: address.as_str().into(),
        }));
        self.finish_step(scope, draft, &commands, values, span)
    }

    /// The name of an output of the check, given by a field.
    fn named_output(
        &mut self,
        values: &FormValues,
        draft: &Draft,
        field: &str,
        ending: &str,
    ) -> Result<Option<Arc<str>>> {
        let Some((name, name_span)) = self.plain(values, field)? else {
            return Ok(None);
        };
        let names: Vec<&str> = draft
            .outputs
            .iter()
            .filter_map(|(n, ..)| n.as_deref())
            .collect();
        if names.contains(&&*name) {
            return Ok(Some(name));
        }
        let error = Diagnostic::error(
            "unknown-field",
            format!("this check has no output `{name}`"),
        );
        let error = match nearest(&name, names.iter().copied()) {
            Some(near) => error.mend(format!("{field} = \"{near}\"")),
            None => error.mend(format!("{{out {name} \"{name}.{ending}\"}} in its command")),
        };
        self.fail(name_span, error)
    }

    /// The verdicts of a test's value: of a check, or of all checks in a map, record or list.
    pub(in crate::eval) fn verdicts(
        &mut self,
        value: &Value,
        name: &str,
        span: Span,
        found: &mut Vec<FileId>,
    ) -> Result<()> {
        match value {
            Value::Step(number) => {
                if let Some(check) = &self.drafting.graph.steps[*number as usize].check {
                    found.push(check.verdict);
                    return Ok(());
                }
                let error =
                    Diagnostic::error("wrong-type", format!("the test `{name}` gives no verdict"));
                self.fail(
                    span,
                    error
                        .mend(format!("target {name} = step {{ … }}"))
                        .mend(format!("test {name} = check {{ … }}")),
                )
            }
            Value::Map(map) => {
                self.check_keys(map, span)?;
                let entries = map.entries.clone();
                self.all(&entries, |this, (key, thunk)| {
                    this.check_part(key, thunk.span)?;
                    let value = this.force(thunk, span)?;
                    this.verdicts(&value, name, span, found)
                })?;
                Ok(())
            }
            Value::Record(record) => {
                let fields = record.fields.clone();
                let is_check = |value: &Value| matches!(value, Value::Step(n) if self.drafting.graph.steps[*n as usize].check.is_some());
                let checks: Vec<Value> = fields
                    .iter()
                    .map(|(_, value)| value.clone())
                    .filter(|v| is_check(v) || matches!(v, Value::Map(_) | Value::List(_)))
                    .collect();
                if checks.is_empty() {
                    return self.no_verdict(value, name, span);
                }
                self.all(&checks, |this, value| {
                    this.verdicts(value, name, span, found)
                })?;
                Ok(())
            }
            Value::List(items) => {
                let items = items.clone();
                self.all(&items, |this, value| {
                    this.verdicts(value, name, span, found)
                })?;
                Ok(())
            }
            other => self.no_verdict(other, name, span),
        }
    }

    pub(in crate::eval) fn no_verdict(
        &mut self,
        value: &Value,
        name: &str,
        span: Span,
    ) -> Result<()> {
        let message = format!(
            "a test gives a verdict, and this one is {}",
            value.described()
        );
        let error = Diagnostic::error("wrong-type", message);
        self.fail(
            span,
            error.mend(format!("test {name} = check {{ run = `…` }}")),
        )
    }

    /// Refuses a check where files are to be made for people.
    pub(in crate::eval) fn refuse_check(
        &mut self,
        step: StepId,
        name: &str,
        span: Span,
    ) -> Result<()> {
        if self.drafting.graph.step(step).check.is_none() {
            return Ok(());
        }
        let error = Diagnostic::error(
            "wrong-type",
            format!("`{name}` is a check: it gives a verdict"),
        );
        self.fail(span, error.mend(format!("test {name} = …")))
    }
}

/// The output that says that a check passed.
const VERDICT: &str = "verdict";

/// Notes the number of an output that a check speaks of.
pub(in crate::eval) fn note_output(
    check: &mut Check,
    report: Option<&str>,
    name: &str,
    id: FileId,
) {
    if name == VERDICT {
        check.verdict = id;
    }
    if Some(name) == report {
        check.report = Some(id);
    }
}
