//! Steps: from commands with filled holes to a step of the graph, with its folder and its files.

use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_graph::{FileId, OutputNode, Pipeline, Program, Stage, Step, ToolId};
use nubrik_source::{Span, WsPath};

use super::{Evaluator, Owner, Result, Scope};
use crate::globs::all_below;
use crate::hir::*;
use crate::types::Type;
use crate::value::*;
use crate::world::Answer;

/// The folder of everything that steps make, from the workspace's root.
const MADE: &str = ".nubrik/made";

/// Fields of `step`, and those that the language has and this version does not.
const FIELDS: [&str; 4] = ["run", "say", "reads", "env"];
const LATER_FIELDS: [&str; 6] = ["makes", "dir", "network", "timeout", "memory", "processors"];

/// A step as far as it is known.
struct Draft {
    folder: WsPath,
    outputs: Vec<(Option<Arc<str>>, FileRef, Arc<str>)>,
    found: Vec<WsPath>,
    scratch: Vec<WsPath>,
    inputs: Vec<FileRef>,
    tools: Vec<ToolId>,
}

impl Evaluator<'_> {
    pub(super) fn step_form(
        &mut self,
        scope: &Scope,
        fields: &[(Name, ExprId)],
        span: Span,
    ) -> Result<Value> {
        for (name, _) in fields {
            if LATER_FIELDS.contains(&&*name.text) {
                let error = crate::lower::not_yet(&format!("the field `{}` of a step", name.text));
                return self.fail(name.span, error);
            }
            if !FIELDS.contains(&&*name.text) {
                let near = nearest(&name.text, FIELDS);
                let error =
                    Diagnostic::error("unknown-field", format!("`step` has no field `{}`", name.text));
                return self
                    .fail(name.span, error.note(format!("it has: {}", FIELDS.join(", "))).maybe_mend(near));
            }
        }
        let values = self.all(&FIELDS, |this, wanted| {
            let ty = match *wanted {
                "run" => Type::List(Box::new(Type::Command)),
                "say" => Type::Text,
                "reads" => Type::Files,
                _ => Type::Map(Box::new(Type::Text)),
            };
            let Some((_, expr)) = fields.iter().find(|(n, _)| n.text.as_ref() == *wanted) else {
                return Ok(Value::None);
            };
            let field_span = this.module(scope.module).span(*expr);
            let value = this.eval(scope, *expr)?;
            this.coerce(value, &ty, scope.module, field_span)
        })?;
        let [run, say, reads, env] = <[Value; 4]>::try_from(values).map_err(|_| super::Stop::Failed)?;
        let Value::List(run) = run else {
            let error = Diagnostic::error("missing-field", "this step has nothing to run");
            return self.fail(span, error.mend("run = `tool {in \"table.csv\"} {out \"result\"}`"));
        };
        let commands: Vec<Arc<CommandValue>> = run
            .iter()
            .filter_map(|c| if let Value::Command(c) = c { Some(c.clone()) } else { None })
            .collect();
        self.step(scope, &commands, say, reads, env, span)
    }

    fn step(
        &mut self,
        scope: &Scope,
        commands: &[Arc<CommandValue>],
        say: Value,
        reads: Value,
        env: Value,
        span: Span,
    ) -> Result<Value> {
        let mut draft = self.outline(&scope.owner, commands, span)?;
        let mut pipelines = Vec::new();
        for command in commands {
            let stages = self.all(&command.stages, |this, stage| this.stage_of(stage, &mut draft))?;
            pipelines.push(Pipeline { stages });
        }
        let env = self.step_env(env, &mut draft, span)?;
        let listed = !draft.found.is_empty();
        let reads = self.files_of(&reads, span)?;
        let (mut inputs, mut candidates) = (Vec::new(), Vec::new());
        for file in std::mem::take(&mut draft.inputs) {
            let certain = !file.folder || file.maker.is_some();
            self.add_input(&file, if listed && !certain { &mut candidates } else { &mut inputs })?;
        }
        for file in reads {
            self.add_input(&file, if listed { &mut candidates } else { &mut inputs })?;
        }
        for list in [&mut inputs, &mut candidates] {
            list.sort_unstable();
            list.dedup();
        }
        candidates.retain(|c| inputs.binary_search(c).is_err());
        let say = match say {
            Value::Text(text) => plain_path_text(&text),
            _ => format!("make {}", draft.outputs[0].2),
        };
        draft.tools.sort_unstable();
        draft.tools.dedup();
        self.enter(scope, draft, Draft::into_step(say, pipelines, env, inputs, candidates), span)
    }

    /// Enters a finished step in the graph, unless the very same step is there already.
    fn enter(&mut self, scope: &Scope, draft: Draft, mut step: Step, span: Span) -> Result<Value> {
        step.target = scope.owner.target;
        step.place = self.place(span);
        step.folder = draft.folder.clone();
        step.found = draft.found;
        step.scratch = draft.scratch;
        step.tools = draft.tools;
        let number = self.graph.steps.len() as u32;
        let known = self.steps_by_folder.get(&draft.folder).copied();
        let maker = known.unwrap_or(number);
        let mut outputs = Vec::new();
        for (name, mut file, written) in draft.outputs {
            file.maker = Some(maker);
            step.outputs.push(OutputNode { file: self.file_id(&file), name: written });
            outputs.push((name, file));
        }
        if let Some(known) = known {
            let first = &self.graph.steps[known as usize];
            if *first == step {
                return Ok(Value::Step(known));
            }
            let made = outputs[0].1.path.below(&draft.folder).unwrap_or_default().to_owned();
            let error = Diagnostic::error("made-twice", format!("two steps make `{made}`"))
                .related(self.step_spans[known as usize], "the other one is here")
                .mend("{out \"…\"} with a name that differs, such as one with the source's stem in it")
                .mend("{ \"key\": step { … } } puts each under a key of its own");
            return self.fail(span, error);
        }
        self.steps_by_folder.insert(draft.folder, number);
        self.graph.steps.push(step);
        self.step_spans.push(span);
        self.outputs.push(outputs);
        Ok(Value::Step(number))
    }

    /// Folder, outputs, listings and scratch names of a step, from all of its words.
    fn outline(&mut self, owner: &Owner, commands: &[Arc<CommandValue>], span: Span) -> Result<Draft> {
        let strands: Vec<&WordStrand> =
            commands.iter().flat_map(|c| &c.stages).flat_map(all_strands).collect();
        let first = strands.iter().find_map(|s| match s {
            WordStrand::Out { path, .. } => Some(path.clone()),
            _ => None,
        });
        let Some(first) = first else {
            let error = Diagnostic::error("no-output", "this step makes nothing");
            let error = error.note("a step is run for its outputs, and is not run again while they are true");
            return self.fail(
                span,
                error
                    .mend("{out \"result.txt\"} where the command names its output")
                    .mend("> {out \"result.txt\"}"),
            );
        };
        let mut folder = WsPath::from_normal(MADE);
        for part in owner.package.parts().chain(owner.parts.iter().flat_map(|p| p.split('/'))) {
            folder = folder.child(part);
        }
        let folder = folder.child(&format!("@{}", first.replace('/', "+")));
        let mut draft = Draft {
            outputs: Vec::new(),
            found: Vec::new(),
            scratch: Vec::new(),
            inputs: Vec::new(),
            tools: Vec::new(),
            folder,
        };
        for strand in strands {
            match strand {
                WordStrand::Out { name, path, folder, span } => {
                    self.outline_output(&mut draft, name, path, *folder, *span)?;
                }
                WordStrand::Found { path, .. } => {
                    let path = below(&draft.folder, path);
                    if !draft.found.contains(&path) {
                        draft.found.push(path);
                    }
                }
                WordStrand::Scratch { path, .. } => {
                    let path = scratch_path(&draft.folder, path);
                    if !draft.scratch.contains(&path) {
                        draft.scratch.push(path);
                    }
                }
                _ => {}
            }
        }
        Ok(draft)
    }

    fn outline_output(
        &mut self,
        draft: &mut Draft,
        name: &Option<Arc<str>>,
        path: &Arc<str>,
        folder: bool,
        span: Span,
    ) -> Result<()> {
        let file = FileRef { path: below(&draft.folder, path), maker: None, folder };
        for (other_name, other, written) in &draft.outputs {
            if *other == file && other_name == name {
                return Ok(()); // The same output, named in a second command.
            }
            let clash = other.path.is_in(&file.path) || file.path.is_in(&other.path);
            if clash || (name.is_some() && other_name == name) {
                let message = format!("the outputs \"{written}\" and \"{path}\" are in each other's way");
                let error = Diagnostic::error("made-twice", message);
                return self.fail(span, error.mend("give each output a name and a path of its own"));
            }
        }
        draft.outputs.push((name.clone(), file, path.clone()));
        Ok(())
    }

    fn stage_of(&mut self, stage: &StageValue, draft: &mut Draft) -> Result<Stage> {
        let words: Vec<Arc<str>> = stage.words.iter().map(|(_, w)| written(w, draft).into()).collect();
        for (_, word) in stage.words.iter().chain(&stage.stdin) {
            draft.inputs.extend(word.iter().filter_map(|s| match s {
                WordStrand::File(file) => Some(file.clone()),
                _ => None,
            }));
        }
        let Some((span, first)) = stage.words.first() else { return Err(super::Stop::Failed) };
        let program = match first.as_slice() {
            [WordStrand::File(file)] if !file.folder => Program::File(self.file_id(file)),
            [WordStrand::Literal(name)] if !name.contains('/') => {
                let tool = self.tool_id(name);
                draft.tools.push(tool);
                Program::Tool(tool)
            }
            [WordStrand::Literal(path)] => {
                let error = Diagnostic::error(
                    "bad-path",
                    format!("`{path}` is a path where a tool's name is wanted"),
                );
                let name = path.rsplit('/').next().unwrap_or(path);
                return self.fail(
                    *span,
                    error
                        .mend(format!("{{in \"{path}\"}} for a program of the workspace"))
                        .mend(format!("{name} for a tool of the machine")),
                );
            }
            _ => {
                let error =
                    Diagnostic::error("wrong-type", "a command begins with a tool's name or one program");
                return self.fail(*span, error);
            }
        };
        let stdin = match &stage.stdin {
            None => None,
            Some((span, word)) => match word.as_slice() {
                [WordStrand::File(file)] if !file.folder => Some(file.path.clone()),
                [WordStrand::Scratch { path, .. }] => Some(scratch_path(&draft.folder, path)),
                _ => {
                    let error = Diagnostic::error("wrong-type", "`<` reads one file that is declared");
                    return self.fail(*span, error.mend("< {in \"table.csv\"}"));
                }
            },
        };
        let stdout = self.redirected(stage.stdout.as_ref(), draft)?;
        let stderr = self.redirected(stage.stderr.as_ref(), draft)?;
        Ok(Stage { program, words, stdin, stdout, stderr })
    }

    fn redirected(
        &mut self,
        word: Option<&(Span, Vec<WordStrand>)>,
        draft: &Draft,
    ) -> Result<Option<WsPath>> {
        let Some((span, word)) = word else { return Ok(None) };
        match word.as_slice() {
            [WordStrand::Out { path, folder: false, .. } | WordStrand::Found { path, .. }] => {
                Ok(Some(below(&draft.folder, path)))
            }
            [WordStrand::Scratch { path, .. }] => Ok(Some(scratch_path(&draft.folder, path))),
            [WordStrand::Literal(name)] => {
                let error =
                    Diagnostic::error("wrong-type", format!("`{name}` is written to but not declared"));
                self.fail(*span, error.mend(format!("{{out \"{name}\"}}")))
            }
            _ => {
                let error = Diagnostic::error("wrong-type", "a redirect writes to one declared output");
                self.fail(*span, error.mend("> {out \"result.txt\"}"))
            }
        }
    }

    fn step_env(&mut self, env: Value, draft: &mut Draft, span: Span) -> Result<Vec<(Arc<str>, Arc<str>)>> {
        let Value::Map(map) = env else { return Ok(Vec::new()) };
        let mut variables = Vec::new();
        for (name, thunk) in &map.entries {
            let Value::Text(text) = self.force(thunk, span)? else { return Err(super::Stop::Failed) };
            let set_by_us = matches!(&**name, "PWD" | "HOME" | "TMPDIR");
            if set_by_us || name.contains('=') {
                let message = format!("the variable `{name}` cannot be set for a step");
                let error = Diagnostic::error("bad-key", message);
                return self.fail(thunk.span, error.note("PWD, HOME and TMPDIR are the step's own"));
            }
            let mut value = String::new();
            for strand in text.strands() {
                match strand {
                    Strand::Literal(text) => value.push_str(&text),
                    Strand::File(file) => {
                        value.push_str(file.path.as_str());
                        draft.inputs.push(file);
                    }
                }
            }
            variables.push((name.clone(), value.into()));
        }
        variables.sort();
        Ok(variables)
    }

    /// Adds a file, or for a source folder all files in it, to a list of inputs.
    fn add_input(&mut self, file: &FileRef, list: &mut Vec<FileId>) -> Result<()> {
        if file.folder && file.maker.is_none() {
            let Answer::Ready(paths) = all_below(self.world, &file.path) else { return self.wait() };
            for path in paths {
                list.push(self.file_id(&FileRef { path, maker: None, folder: false }));
            }
        } else {
            list.push(self.file_id(file));
        }
        Ok(())
    }

    fn tool_id(&mut self, name: &Arc<str>) -> ToolId {
        if let Some(id) = self.tools.get(name) {
            return *id;
        }
        let id = ToolId(self.graph.tools.len() as u32);
        self.graph.tools.push(name.clone());
        self.tools.insert(name.clone(), id);
        id
    }
}

impl Draft {
    /// The parts of a step that do not depend on its owner; the rest is filled in by `enter`.
    fn into_step(
        say: String,
        commands: Vec<Pipeline>,
        env: Vec<(Arc<str>, Arc<str>)>,
        inputs: Vec<FileId>,
        candidates: Vec<FileId>,
    ) -> Step {
        Step {
            target: nubrik_graph::TargetId(0),
            say: say.into(),
            commands,
            env,
            folder: WsPath::root(),
            inputs,
            candidates,
            outputs: Vec::new(),
            found: Vec::new(),
            scratch: Vec::new(),
            tools: Vec::new(),
            place: nubrik_graph::Place { file: "".into(), line: 0 },
        }
    }
}

fn all_strands(stage: &StageValue) -> impl Iterator<Item = &WordStrand> {
    stage.words.iter().chain(&stage.stdin).chain(&stage.stdout).chain(&stage.stderr).flat_map(|(_, w)| w)
}

fn below(folder: &WsPath, path: &str) -> WsPath {
    WsPath::from_normal(&format!("{}/{path}", folder.as_str()))
}

fn scratch_path(folder: &WsPath, path: &str) -> WsPath {
    WsPath::from_normal(&format!("{}/.scratch/{path}", folder.as_str()))
}

/// A word as the process sees it.
fn written(word: &[WordStrand], draft: &Draft) -> String {
    let mut text = String::new();
    for strand in word {
        match strand {
            WordStrand::Literal(literal) => text.push_str(literal),
            WordStrand::File(file) => {
                text.push_str(if file.path.is_root() { "." } else { file.path.as_str() })
            }
            WordStrand::Out { path, .. } | WordStrand::Found { path, .. } => {
                text.push_str(below(&draft.folder, path).as_str());
            }
            WordStrand::Scratch { path, .. } => text.push_str(scratch_path(&draft.folder, path).as_str()),
        }
    }
    text
}

/// A text for people, with the paths of the files that it carries.
fn plain_path_text(text: &Text) -> String {
    let strands = text.strands();
    strands
        .iter()
        .map(|s| match s {
            Strand::Literal(text) => text,
            Strand::File(file) => file.path.as_str(),
        })
        .collect()
}
