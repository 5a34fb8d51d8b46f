//! Checks and effects: what gives a verdict, and what is done for its effect.

use std::rc::Rc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_graph::{Check, Effect, FileId, Pipeline, StepId};
use nubrik_source::Span;

use super::forms::FormValues;
use super::words::{Leaves, all_strands, leaves, plain_path_text};
use super::{Evaluator, Result, Scope};
use crate::value::*;

/// The output that says that a check passed.
const VERDICT: &str = "verdict";

impl Evaluator<'_> {
    pub(super) fn check_form(&mut self, scope: &Scope, values: &FormValues, span: Span) -> Result<Value> {
        let commands = values.commands();
        let mut draft = self.outline(&scope.owner, &commands, values, super::steps::First::Verdict, span)?;
        if let Some((_, _, written)) = draft.outputs.iter().find(|(n, ..)| n.as_deref() == Some(VERDICT)) {
            let error =
                Diagnostic::error("made-twice", format!("the output \"{written}\" is called `verdict`"));
            let error = error.note("a check's verdict is an output of that name, made by nubrik itself");
            return self.fail(span, error.mend("give the output another name"));
        }
        if let Some((name, name_span)) = self.plain(values, "report")? {
            let names: Vec<&str> = draft.outputs.iter().filter_map(|(n, ..)| n.as_deref()).collect();
            if !names.contains(&&*name) {
                let error = Diagnostic::error("unknown-field", format!("this check has no output `{name}`"));
                let error = match nearest(&name, names.iter().copied()) {
                    Some(near) => error.mend(format!("report = \"{near}\"")),
                    None => error.mend(format!("{{out {name} \"{name}.xml\"}} in its command")),
                };
                return self.fail(name_span, error);
            }
            draft.report = Some(name);
        }
        self.outline_output(&mut draft, &Some(VERDICT.into()), &VERDICT.into(), false, span)?;
        let quarantined = match self.plain(values, "quarantined")? {
            Some((reason, reason_span)) if reason.trim().is_empty() => {
                let error = Diagnostic::error("wrong-type", "why it is quarantined is to be said");
                return self.fail(reason_span, error.mend("quarantined = \"fails when the tide is high\""));
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

    /// Commands for their effect. Nothing is entered in the graph: what is never kept has no place in it.
    pub(super) fn effect_form(&mut self, scope: &Scope, values: &FormValues, span: Span) -> Result<Value> {
        let commands = values.commands();
        let mut draft = self.draft(&scope.owner, "effect");
        draft.keeps_secrets = true;
        self.refuse_outputs(&commands, "an effect", false)?;
        if let Some((Value::File(folder), dir_span)) = values.get("dir")
            && folder.maker.is_some()
        {
            let error = Diagnostic::error("wrong-type", "an effect runs in a source folder");
            return self.fail(dir_span, error.mend("name what is made in a hole of its command"));
        }
        draft.step.work = self.work_folder(values, false, &mut draft)?;
        let mut pipelines = Vec::new();
        for command in &commands {
            let stages = self.all(&command.stages, |this, stage| this.stage_of(stage, &mut draft))?;
            pipelines.push(Pipeline { stages });
        }
        draft.step.commands = pipelines;
        draft.step.env = self.step_env(values.value("env"), &mut draft, span)?;
        let inputs = self.all_inputs(values, &mut draft, span)?;
        let mut step = draft.step;
        step.inputs = inputs;
        step.target = scope.owner.target;
        step.place = self.place(span);
        draft.tools.sort_unstable();
        draft.tools.dedup();
        step.tools = draft.tools.into_vec();
        step.services = draft.services;
        let name = scope.owner.parts.join("/");
        step.say = match values.value("say") {
            Value::Text(text) => plain_path_text(&text).into(),
            _ => name.as_str().into(),
        };
        let address = scope.owner.package.child(&name).as_str().into();
        self.drafting.effects.push(Effect { address, step: *step, lasting: values.bool("lasting") });
        Ok(Value::Effect(self.drafting.effects.len() as u32 - 1))
    }

    pub(super) fn refuse_outputs(
        &mut self,
        commands: &[Rc<CommandValue>],
        what: &str,
        scratch: bool,
    ) -> Result<()> {
        let mut strands = Leaves::new();
        commands.iter().flat_map(|c| &c.stages).flat_map(all_strands).for_each(|s| leaves(s, &mut strands));
        for strand in strands {
            if matches!(strand, WordStrand::Scratch { .. }) && scratch {
                continue;
            }
            if let WordStrand::Out { span, .. }
            | WordStrand::Found { span, .. }
            | WordStrand::Scratch { span, .. } = strand
            {
                let and = if scratch { "or listings" } else { ", listings or scratch files" };
                let message = format!("{what} has no outputs {and}").replace(" ,", ",");
                let error = Diagnostic::error("wrong-type", message);
                let error = error.note("it is done whenever it is wanted, and what it leaves is not kept");
                let error = if scratch { error.mend("{scratch \"data\"}") } else { error };
                return self.fail(
                    *span,
                    error.mend(format!("target … = step {{ … }} makes a file, which {what} may use")),
                );
            }
        }
        Ok(())
    }

    /// The verdicts of a test's value: of a check, or of all checks in a map, record or list.
    pub(super) fn verdicts(
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
                let error = Diagnostic::error("wrong-type", format!("the test `{name}` gives no verdict"));
                self.fail(
                    span,
                    error
                        .mend(format!("target {name} = step {{ … }}"))
                        .mend(format!("test {name} = check {{ … }}")),
                )
            }
            Value::Map(map) => {
                let entries = map.entries.clone();
                self.all(&entries, |this, (_, thunk)| {
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
                self.all(&checks, |this, value| this.verdicts(value, name, span, found))?;
                Ok(())
            }
            Value::List(items) => {
                let items = items.clone();
                self.all(&items, |this, value| this.verdicts(value, name, span, found))?;
                Ok(())
            }
            other => self.no_verdict(other, name, span),
        }
    }

    fn no_verdict(&mut self, value: &Value, name: &str, span: Span) -> Result<()> {
        let message = format!("a test gives a verdict, and this one is {}", value.described());
        let error = Diagnostic::error("wrong-type", message);
        self.fail(span, error.mend(format!("test {name} = check {{ run = `…` }}")))
    }

    /// The effects of a job's value, in order.
    pub(super) fn effects_of(
        &mut self,
        value: &Value,
        name: &str,
        span: Span,
        found: &mut Vec<u32>,
    ) -> Result<()> {
        match value {
            Value::Effect(number) => found.push(*number),
            Value::List(items) => {
                let items = items.clone();
                self.all(&items, |this, value| this.effects_of(value, name, span, found))?;
            }
            Value::Map(map) => {
                let keys: Vec<String> =
                    map.entries.iter().take(6).map(|(key, _)| format!("{name}/{key}")).collect();
                let error = Diagnostic::error("wrong-type", format!("`{name}` is several jobs: say which"));
                return self
                    .fail(span, keys.iter().fold(error, |e, key| e.mend(format!("nubrik run {key}"))));
            }
            other => {
                let message = format!("a job is done for its effect, and this one is {}", other.described());
                let error = Diagnostic::error("wrong-type", message);
                return self.fail(span, error.mend(format!("job {name} = effect {{ run = `…` }}")));
            }
        }
        Ok(())
    }

    /// Refuses a check where files are to be made for people.
    pub(super) fn refuse_check(&mut self, step: StepId, name: &str, span: Span) -> Result<()> {
        if self.drafting.graph.step(step).check.is_none() {
            return Ok(());
        }
        let error = Diagnostic::error("wrong-type", format!("`{name}` is a check: it gives a verdict"));
        self.fail(span, error.mend(format!("test {name} = …")))
    }
}

/// Refuses secrets where they could be kept or told.
pub(super) fn no_secret() -> Diagnostic {
    let error = Diagnostic::error("not-here", "a secret cannot stand here");
    error
        .note("what steps read and make is kept, and messages are read by many: only an `effect` or a service gets to see a secret")
        .mend("job … = effect { … } uses it when it is run")
}

/// Notes the number of an output that a check speaks of.
pub(super) fn note_output(check: &mut Check, report: Option<&str>, name: &str, id: FileId) {
    if name == VERDICT {
        check.verdict = id;
    }
    if Some(name) == report {
        check.report = Some(id);
    }
}
