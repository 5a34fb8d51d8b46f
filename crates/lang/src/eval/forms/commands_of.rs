//! `commands_of`: the commands that make something, as texts.

use std::collections::HashSet;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{FileId, Native, Step, StepId, Tables, shown_command};
use nubrik_source::Span;

use super::{Form, FormEvaluation};
use crate::builtins::*;
use crate::eval::natives::MADE;
use crate::eval::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "commands_of",
        builtin: Builtin::CommandsOf,
        shape: CallShape::Brackets,
        doc: "The commands of all steps that make something, as a list of texts, each behind those whose results it uses; of what nubrik itself puts together, what goes where. Folders of steps are written `made/…`. With it a kit is tested: these definitions give these commands, and nothing is run for it.",
        fields: &[],
        gives: &[],
        example: "target fit = c.library { sources = \"fit.c\" }\ntest commands = check {\n    run = `diff -u {in \"expected.txt\"} {textfile \"commands.txt\" commands_of(fit).join(\"\\n\") + \"\\n\"}`\n}",
    },
    way: FormEvaluation::Round(|e, scope, args, span| e.commands_call(scope, args, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn commands_call(
        &mut self,
        scope: &Scope,
        args: &[Arg],
        span: Span,
    ) -> Result<Value> {
        let [Arg { name: None, value }] = args else {
            let error = Diagnostic::error(
                "wrong-call",
                "`commands_of` takes one thing that steps make",
            );
            return self.fail(span, error.mend("commands_of(fit)"));
        };
        let at = self.module(scope.module).span(*value);
        let (started, mut texts) = match self.eval(scope, *value)? {
            Value::Effect(number) => {
                let step = self.drafting.effects[number as usize].step.clone();
                (self.makers(&step), texts_of(&self.drafting.graph, &step))
            }
            value => {
                let files = self.files_of(&value, at)?;
                let mut makers: Vec<StepId> =
                    files.iter().filter_map(|f| f.maker).map(StepId).collect();
                self.in_order(&mut makers);
                (makers, Vec::new())
            }
        };
        let mut listed = Vec::new();
        for step in self.behind(&started, span)? {
            listed.extend(texts_of(
                &self.drafting.graph,
                &self.drafting.graph.steps[step.index()],
            ));
        }
        listed.append(&mut texts);
        if listed.is_empty() {
            let error = Diagnostic::error("wrong-type", "nothing that steps make is in this value");
            return self.fail(
                at,
                error.note("`commands_of` takes targets, and files that steps make"),
            );
        }
        self.room_for_items(listed.len(), span)?;
        self.count(
            listed.iter().map(|text| text.len() as u64 / 16 + 1).sum(),
            span,
        )?;
        Ok(Value::List(
            listed.iter().map(|text| Value::text(text)).collect(),
        ))
    }

    /// Some steps and all behind them, each once, behind those that it needs.
    fn behind(&mut self, started: &[StepId], span: Span) -> Result<Vec<StepId>> {
        let mut done = Vec::new();
        let mut seen: HashSet<StepId> = HashSet::new();
        // A step comes twice: to have what it needs looked at, and when that is done.
        let mut open: Vec<(StepId, bool)> =
            started.iter().rev().map(|step| (*step, false)).collect();
        while let Some((step, is_looked_at)) = open.pop() {
            if is_looked_at {
                done.push(step);
            } else if seen.insert(step) {
                self.count_work(span)?;
                open.push((step, true));
                let makers = self.makers(&self.drafting.graph.steps[step.index()]);
                open.extend(makers.into_iter().rev().map(|maker| (maker, false)));
            }
        }
        Ok(done)
    }

    /// The steps that make what a step may read, in an order that says nothing of how they were
    /// evaluated.
    fn makers(&self, step: &Step) -> Vec<StepId> {
        let graph = &self.drafting.graph;
        let sets = step
            .candidates
            .iter()
            .flat_map(|set| graph.sets.files(*set));
        let files = step.inputs.iter().chain(sets);
        let mut makers: Vec<StepId> = files
            .filter_map(|file: &FileId| graph.files[file.index()].maker)
            .collect();
        self.in_order(&mut makers);
        makers
    }

    /// Sorts steps by their folders, each once.
    fn in_order(&self, steps: &mut Vec<StepId>) {
        let graph = &self.drafting.graph;
        steps.sort_by(|a, b| {
            graph.steps[a.index()]
                .folder
                .cmp(&graph.steps[b.index()].folder)
        });
        steps.dedup();
    }
}

/// The commands of a step, or what the tool does itself.
fn texts_of(graph: &Tables, step: &Step) -> Vec<String> {
    let mut texts = shown_command(step);
    if let Some(native) = &step.native {
        texts.push(step.say.to_string());
        match &**native {
            Native::Stage { files } | Native::Pack { format: _, files } => {
                let path = |file: FileId| &graph.files[file.index()].path;
                let to = |to: &str| if to.is_empty() { "." } else { to }.to_owned();
                texts.extend(
                    files
                        .iter()
                        .map(|f| format!("    {} from {}", to(f.to.as_str()), path(f.from))),
                );
            }
            Native::Write { .. }
            | Native::Unpack { .. }
            | Native::Fetch { .. }
            | Native::Image(_)
            | Native::MakeImage(_)
            | Native::Find(_)
            | Native::Part { .. }
            | Native::Extract { .. } => {}
        }
    }
    let made = format!("{MADE}/");
    texts
        .iter()
        .map(|text| text.replace(&made, "made/"))
        .collect()
}
