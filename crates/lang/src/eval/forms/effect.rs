//! `effect`: something that is done each time that a person asks for it.

use std::rc::Rc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{Effect, Pipeline};
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::strands::{Leaves, all_strands, leaves};
use crate::eval::words::plain_path_text;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "effect",
        builtin: Builtin::Effect,
        shape: CallShape::Braces,
        doc: "Commands that `nubrik run` runs after what they use is built: in your terminal, with your environment, not confined, and never kept.",
        fields: &[
            RUN,
            SAY,
            READS,
            ENV,
            field(
                "folder",
                FieldType::Folder,
                false,
                "the source folder in which the commands run",
            ),
            field(
                "lasting",
                FieldType::Bool,
                false,
                "whether it runs until you stop it, so that an interrupt is not a failure",
            ),
        ],
        gives: &[],
        example: "job publish = effect { run = `rsync -a {pages} {env(\"ALMANAC_HOST\")}:/srv/almanac/` }",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.effect_form(scope, values, span)),
};

impl Evaluator<'_> {
    /// Commands for their effect. Nothing is entered in the graph: what is never kept has no place
    /// in it.
    pub(in crate::eval) fn effect_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let commands = values.commands();
        let mut draft = self.draft(&scope.owner, "effect");
        draft.keeps_secrets = true;
        self.refuse_outputs(&commands, "an effect", false)?;
        if let Some((Value::File(folder), dir_span)) = values.get("folder")
            && folder.maker.is_some()
        {
            let error = Diagnostic::error("wrong-type", "an effect runs in a source folder");
            return self.fail(
                dir_span,
                error.mend("name what is made in a hole of its command"),
            );
        }
        draft.step.work = self.work_folder(values, false, &mut draft)?;
        let mut pipelines = Vec::new();
        for command in &commands {
            let stages = self.all(&command.stages, |this, stage| {
                this.stage_of(stage, command.span, &mut draft)
            })?;
            pipelines.push(Pipeline { stages });
        }
        self.check_argument_files(&draft, span)?;
        draft.step.commands = pipelines;
        draft.step.env = self.step_env(values.value("env"), &mut draft, span)?;
        let inputs = self.all_inputs(values, &mut draft, span)?;
        let mut step = draft.step;
        step.inputs = inputs.into();
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
        self.drafting.effects.push(Effect {
            address,
            step: *step,
            lasting: values.bool("lasting"),
        });
        Ok(Value::Effect(self.drafting.effects.len() as u32 - 1))
    }

    pub(in crate::eval) fn refuse_outputs(
        &mut self,
        commands: &[Rc<CommandValue>],
        what: &str,
        scratch: bool,
    ) -> Result<()> {
        let mut strands = Leaves::new();
        commands
            .iter()
            .flat_map(|c| &c.stages)
            .flat_map(all_strands)
            .for_each(|s| leaves(s, &mut strands));
        for strand in strands {
            if matches!(strand, WordStrand::Scratch { .. }) && scratch {
                continue;
            }
            if let WordStrand::Out { span, .. }
            | WordStrand::DepFile { span, .. }
            | WordStrand::Kept { span, .. }
            | WordStrand::Scratch { span, .. } = strand
            {
                let and = if scratch {
                    "or listings"
                } else {
                    ", listings or scratch files"
                };
                let message = format!("{what} has no outputs {and}").replace(" ,", ",");
                let error = Diagnostic::error("wrong-type", message);
                let error =
                    error.note("it is done whenever it is wanted, and what it leaves is not kept");
                let error = if scratch {
                    error.mend("{scratch \"data\"}")
                } else {
                    error
                };
                return self.fail(
                    *span,
                    error.mend(format!(
                        "target … = step {{ … }} makes a file, which {what} may use"
                    )),
                );
            }
        }
        Ok(())
    }

    /// The effects of a job's value, in order.
    pub(in crate::eval) fn effects_of(
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
                self.all(&items, |this, value| {
                    this.effects_of(value, name, span, found)
                })?;
            }
            Value::Map(map) => {
                self.check_keys(map, span)?;
                let keys: Vec<String> = map
                    .entries
                    .iter()
                    .take(6)
                    .map(|(key, _)| format!("{name}/{key}"))
                    .collect();
                let error =
                    Diagnostic::error("wrong-type", format!("`{name}` is several jobs: say which"));
                return self.fail(
                    span,
                    keys.iter()
                        .fold(error, |e, key| e.mend(format!("nubrik run {key}"))),
                );
            }
            other => {
                let message = format!(
                    "a job is done for its effect, and this one is {}",
                    other.described()
                );
                let error = Diagnostic::error("wrong-type", message);
                return self.fail(
                    span,
                    error.mend(format!("job {name} = effect {{ run = `…` }}")),
                );
            }
        }
        Ok(())
    }
}
