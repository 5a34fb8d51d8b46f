//! Steps: from commands with filled holes to a step of the graph, with its folder and its files.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{
    FileId, Limits, ListFile, Mark, OutputNode, Pipeline, Program, Service, SetId, Stage, Step, ToolId,
    WorkFolder,
};
use nubrik_source::{Span, WsPath, shared_text};
use smallvec::SmallVec;

use super::forms::FormValues;
use super::{Evaluator, Owner, Result, Scope, Stop};
use crate::globs::all_below;
use crate::rows::digest;
use crate::value::*;
use crate::world::{Answer, AnswerText};

/// The set that a value with files is.
pub(super) struct ValueSet {
    _held: Rc<[FileRef]>,
    set: SetId,
    /// The unit that looked into the source folders among the files; nothing where there are none.
    only_for: Option<u32>,
}

/// An output with the name it was given, and as it was written.
pub(super) type DraftedOutput = (Option<Arc<str>>, FileRef, Arc<str>);

/// A step as far as it is known.
pub(super) struct Draft {
    pub step: Box<Step>,
    pub outputs: SmallVec<[DraftedOutput; 1]>,
    pub inputs: SmallVec<[FileRef; 2]>,
    pub tools: SmallVec<[ToolId; 4]>,
    /// Paths of what other steps make that stand in its words as plain characters, with their places.
    pub spelled: Vec<(String, Span)>,
    /// Services that run meanwhile.
    pub services: Vec<Arc<Service>>,
    /// The name of the output in which a check tells of single cases.
    pub report: Option<Arc<str>>,
    /// Whether it is no step that is kept, so that secrets may stand in it.
    pub keeps_secrets: bool,
    /// The folder that a service is known by; nothing for all else.
    pub own: Option<WsPath>,
}

/// An output with the name it was given.
pub(super) type NamedOutput = (Option<Arc<str>>, FileRef);

/// The outputs of all steps, by the steps' numbers.
#[derive(Default)]
pub(super) struct Outputs {
    all: Vec<NamedOutput>,
    /// Where those of each step end.
    ends: Vec<u32>,
}

impl Outputs {
    /// Those of a step.
    pub fn of(&self, step: u32) -> &[NamedOutput] {
        let start = (step as usize).checked_sub(1).map_or(0, |before| self.ends[before] as usize);
        &self.all[start..self.ends[step as usize] as usize]
    }

    /// Adds those of the next step.
    fn push(&mut self, outputs: impl IntoIterator<Item = NamedOutput>) {
        self.all.extend(outputs);
        self.ends.push(self.all.len() as u32);
    }
}

/// What a step's folder is called after, where no word names an output.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum First {
    /// Nothing: some word must.
    Named,
    /// The answer of a scan.
    Answer,
    /// The verdict of a check.
    Verdict,
}

/// An output of commands that choose where they write: its name, its path, and where it is named.
type ChosenOutput = (Arc<str>, Arc<str>, Span);

impl Draft {
    /// Where an output with this name stands.
    fn made(&self, name: &str) -> WsPath {
        let known = self.outputs.iter().find(|(_, _, written)| **written == *name);
        known.map_or_else(|| self.step.folder.join(name), |(_, file, _)| file.path.clone())
    }
}

impl Evaluator<'_> {
    pub(super) fn step_form(&mut self, scope: &Scope, values: &FormValues, span: Span) -> Result<Value> {
        let commands = values.commands();
        let draft = self.outline(&scope.owner, &commands, values, First::Named, span)?;
        self.finish_step(scope, draft, &commands, values, span)
    }

    /// A step whose printed text is read by the definitions.
    pub(super) fn scan_form(&mut self, scope: &Scope, values: &FormValues, span: Span) -> Result<Value> {
        let commands = values.commands();
        let last = commands.last().and_then(|c| c.stages.last());
        if last.is_some_and(|s| s.stdout.is_some()) {
            let error = Diagnostic::error("wrong-type", "what this `scan` prints is its answer");
            return self.fail(span, error.mend("drop the last `>`"));
        }
        let mut draft = self.outline(&scope.owner, &commands, values, First::Answer, span)?;
        if values.bool("may_fail") {
            self.outline_output(&mut draft, &Some("status".into()), &"answer.status".into(), false, span)?;
        }
        let Value::Step(number) = self.finish_step(scope, draft, &commands, values, span)? else {
            return Err(Stop::Failed);
        };
        self.note_scan();
        let (folder, outputs) = {
            let step = &self.graph.steps[number as usize];
            (step.folder.clone(), step.outputs.iter().map(|o| o.file).collect::<Vec<_>>())
        };
        match self.world.scan(&folder) {
            Answer::Ready(AnswerText { ok, text }) => Ok(Value::Answer(Rc::new(AnswerValue { ok, text }))),
            Answer::Pending => {
                self.scans.extend(outputs);
                self.wait()
            }
        }
    }

    /// Words, inputs, variables and limits of a step whose outputs are known.
    pub(super) fn finish_step(
        &mut self,
        scope: &Scope,
        mut draft: Draft,
        commands: &[Rc<CommandValue>],
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let answer =
            draft.outputs.first().filter(|(n, ..)| n.as_deref() == Some("answer")).map(|o| o.1.clone());
        let mut pipelines = Vec::with_capacity(commands.len());
        for command in commands {
            let stages = self.all(&command.stages, |this, stage| this.stage_of(stage, &mut draft))?;
            pipelines.push(Pipeline { stages });
        }
        if let (Some(answer), Some(last)) = (&answer, pipelines.last_mut().and_then(|p| p.stages.last_mut()))
        {
            last.stdout = Some(answer.path.clone());
        }
        draft.step.commands = pipelines;
        draft.step.env = self.step_env(values.value("env"), &mut draft, span)?;
        draft.step.limits = self.limits(values)?;
        let listed = !draft.step.found.is_empty();
        let mut inputs = Vec::with_capacity(draft.inputs.len());
        let mut candidates = Vec::new();
        for file in std::mem::take(&mut draft.inputs) {
            match file.folder && file.maker.is_none() && listed {
                true => candidates.push(self.folder_set(&file.path)?),
                false => self.add_input(&file, &mut inputs)?,
            }
        }
        let reads = values.value("reads");
        if listed {
            self.add_candidates(&reads, span, &mut candidates)?;
        } else {
            for file in self.files_of(&reads, span)? {
                self.add_input(&file, &mut inputs)?;
            }
        }
        inputs.sort_unstable();
        inputs.dedup();
        candidates.sort_unstable();
        candidates.dedup();
        draft.step.inputs = inputs;
        draft.step.candidates = candidates;
        if !draft.spelled.is_empty() {
            let spelled = std::mem::take(&mut draft.spelled);
            self.check_spelled(&spelled, &draft.step.folder, &self.graph.declared(&draft.step))?;
        }
        draft.step.say = match values.value("say") {
            Value::Text(text) => plain_path_text(&text).into(),
            _ if answer.is_some() => format!("scan for {}", scope.owner.parts.join("/")).into(),
            _ if draft.step.check.is_some() => format!("check {}", scope.owner.parts.join("/")).into(),
            _ => shared_text(["make ", &*draft.outputs[0].2]),
        };
        self.enter(scope, draft, span)
    }

    /// Refuses paths of what other steps make, spelled out in words, where nothing there is declared: whether the step finds
    /// anything would hang on what was built before.
    fn check_spelled(&mut self, spelled: &[(String, Span)], own: &WsPath, declared: &[FileId]) -> Result<()> {
        let files =
            declared.iter().map(|id| &self.graph.files[id.index()]).filter(|file| file.maker.is_some());
        let mut paths: Vec<(&str, bool)> = files.map(|file| (file.path.as_str(), file.folder)).collect();
        paths.sort_unstable();
        let at = |path: &str| paths.binary_search_by(|(declared, _)| (*declared).cmp(path)).ok();
        let is_declared = |path: &str| {
            let below = format!("{path}/");
            let first = paths.partition_point(|(declared, _)| *declared < below.as_str());
            let mut above = path.match_indices('/').map(|(end, _)| &path[..end]);
            at(path).is_some()
                || paths.get(first).is_some_and(|(declared, _)| declared.starts_with(&below))
                || above.any(|folder| at(folder).is_some_and(|at| paths[at].1))
        };
        let is_wrong = |path: &str| !WsPath::from_normal(path).is_in(own) && !is_declared(path);
        let Some((path, span)) = spelled.iter().find(|(path, _)| is_wrong(path)) else { return Ok(()) };
        let place = WsPath::from_normal(path);
        let maker = self.graph.steps.iter().find(|s| place.is_in(&s.folder) || s.folder.is_in(&place));
        let address = maker.map(|step| &self.graph.targets[step.target.index()].address);
        let what = address.map_or("what another step makes".to_owned(), |a| format!("what `{a}` makes"));
        let message = format!("this names {what} and does not declare it");
        let error = Diagnostic::error("undeclared-made", message)
            .note(format!("the word holds {path}; a path as text carries no file"))
            .mend("{the file itself} in the command")
            .mend("reads = the file, or all files there");
        self.fail(*span, error)
    }

    fn limits(&mut self, values: &FormValues) -> Result<Limits> {
        let memory = match self.plain(values, "memory")? {
            None => None,
            Some((text, span)) => match size(&text) {
                Some(bytes) => Some(bytes),
                None => {
                    let error =
                        Diagnostic::error("wrong-type", format!("\"{text}\" is not an amount of memory"));
                    return self.fail(span, error.mend("memory = \"512MiB\"").mend("memory = \"2GiB\""));
                }
            },
        };
        let processors = self.small_number(values, "processors")?.unwrap_or(1).max(1);
        Ok(Limits {
            network: values.bool("network"),
            timeout: values.duration("timeout"),
            memory,
            processors,
        })
    }

    /// Enters a finished step in the graph, unless the very same step is there already.
    pub(super) fn enter(&mut self, scope: &Scope, draft: Draft, span: Span) -> Result<Value> {
        let Draft { mut step, outputs: drafted, mut tools, services, report, .. } = draft;
        step.target = scope.owner.target;
        step.place = self.place(span);
        tools.sort_unstable();
        tools.dedup();
        (step.tools, step.services) = (tools.into_vec(), services);
        if let Some(reads) = self.frames.last().filter(|r| !r.is_empty()) {
            let reads = reads.clone();
            self.target_reads.entry(scope.owner.target).or_default().add_all(&reads);
        }
        let number = self.graph.steps.len() as u32;
        let steps = &self.graph.steps;
        let folder_digest = digest(step.folder.as_str());
        let known = self.steps.find(folder_digest, |n| steps[n].folder == step.folder);
        let known = known.map(|n| n as u32);
        let maker = known.unwrap_or(number);
        let mut outputs: SmallVec<[NamedOutput; 1]> = SmallVec::new();
        step.outputs.reserve_exact(drafted.len());
        for (name, mut file, written) in drafted {
            file.maker = Some(maker);
            let id = self.file_id(&file);
            if name.as_deref() == Some("status") && *written == *"answer.status" {
                step.status = Some(id);
            }
            if let (Some(check), Some(name)) = (&mut step.check, name.as_deref()) {
                super::checks::note_output(check, report.as_deref(), name, id);
            }
            // Outputs that the commands leave where they chose to are taken from there.
            for (_, taken) in step.taken.iter_mut().filter(|(path, _)| **path == *written) {
                *taken = id;
            }
            step.outputs.push(OutputNode { file: id, name: written });
            outputs.push((name, file));
        }
        if let Some(known) = known {
            let first = &self.graph.steps[known as usize];
            if *first == step {
                return Ok(Value::Step(known));
            }
            let made = outputs[0].1.path.below(&step.folder).unwrap_or_default().to_owned();
            let error = Diagnostic::error("made-twice", format!("two steps make `{made}`"))
                .related(self.step_spans[known as usize], "the other one is here")
                .mend("{out \"…\"} with a name that differs, such as one with the source's stem in it")
                .mend("{ \"key\": step { … } } puts each under a key of its own");
            return self.fail(span, error);
        }
        self.steps.insert_new(folder_digest, number as usize);
        self.graph.steps.push(step);
        self.step_spans.push(span);
        self.outputs.push(outputs);
        Ok(Value::Step(number))
    }

    /// An empty step of an owner, in the folder that its first output gives it.
    pub(super) fn draft(&mut self, owner: &Owner, first: &str) -> Draft {
        let (folder, variant) = self.step_folder(owner, first);
        let mut step = Box::new(Step::empty_with(folder, &self.nothing));
        step.variant = variant;
        Draft {
            step,
            outputs: SmallVec::new(),
            inputs: SmallVec::new(),
            tools: SmallVec::new(),
            spelled: Vec::new(),
            services: Vec::new(),
            report: None,
            keeps_secrets: false,
            own: None,
        }
    }

    /// Folder, outputs, listings and scratch names of a step, from all of its words. A scan's
    /// `answer` is an output that no word names.
    pub(super) fn outline(
        &mut self,
        owner: &Owner,
        commands: &[Rc<CommandValue>],
        values: &FormValues,
        unnamed: First,
        span: Span,
    ) -> Result<Draft> {
        let answer = (unnamed == First::Answer).then_some("answer");
        let makes = self.makes(values, span)?;
        let mut strands = Leaves::new();
        commands.iter().flat_map(|c| &c.stages).flat_map(all_strands).for_each(|s| leaves(s, &mut strands));
        let first = answer.map(Arc::from).or_else(|| {
            let named = strands.iter().find_map(|s| match s {
                WordStrand::Out { path, .. } => Some(path.clone()),
                _ => None,
            });
            let verdict = (unnamed == First::Verdict).then(|| "verdict".into());
            let named = named.or_else(|| makes.first().map(|(_, path, _)| path.trim_end_matches('/').into()));
            named.or(verdict)
        });
        let Some(first) = first else {
            let error = Diagnostic::error("no-output", "this step makes nothing");
            let error = error.note("a step is run for its outputs, and is not run again while they are true");
            return self.fail(
                span,
                error
                    .mend("{out \"result.txt\"} where the command names its output")
                    .mend("> {out \"result.txt\"}")
                    .mend(
                        "makes = { \"result\": \"result.txt\" } for a command that chooses where it writes",
                    ),
            );
        };
        // A scan's place tells scans of one target apart by what they run.
        let first = match answer {
            Some(_) => {
                format!("{first}-{}", &blake3::hash(scan_words(commands).as_bytes()).to_hex()[..12]).into()
            }
            None => first,
        };
        let mut draft = self.draft(owner, &first);
        if answer.is_some() {
            self.outline_output(&mut draft, &Some("answer".into()), &"answer".into(), false, span)?;
        }
        for strand in strands {
            match strand {
                WordStrand::Out { name, path, folder, span } => {
                    if answer.is_some() {
                        let error =
                            Diagnostic::error("wrong-type", "a `scan` has no outputs but what it prints");
                        return self.fail(*span, error.mend("{scratch \"…\"} for what is thrown away"));
                    }
                    self.outline_output(&mut draft, name, path, *folder, *span)?;
                }
                WordStrand::Found { path, .. } => {
                    let path = draft.step.folder.join(path);
                    if !draft.step.found.contains(&path) {
                        draft.step.found.push(path);
                    }
                }
                WordStrand::Scratch { path, .. } => {
                    let path = scratch_path(&draft.step.folder, path);
                    if !draft.step.scratch.contains(&path) {
                        draft.step.scratch.push(path);
                    }
                }
                _ => {}
            }
        }
        for (name, path, span) in &makes {
            let folder = path.ends_with('/');
            let path: Arc<str> = path.trim_end_matches('/').into();
            self.check_name(&path, *span)?;
            self.outline_output(&mut draft, &Some(name.clone()), &path, folder, *span)?;
            draft.step.taken.push((path, FileId(0)));
        }
        draft.step.work = self.work_folder(values, !makes.is_empty(), &mut draft)?;
        Ok(draft)
    }

    /// The outputs of commands that choose where they write: name and path.
    fn makes(&mut self, values: &FormValues, span: Span) -> Result<Vec<ChosenOutput>> {
        let Value::Map(map) = values.value("makes") else { return Ok(Vec::new()) };
        let mut makes = Vec::new();
        for (name, thunk) in &map.entries {
            match self.force(thunk, span)? {
                Value::Text(Text::Plain(path)) => makes.push((name.clone(), path, thunk.span)),
                _ => {
                    let error = Diagnostic::error(
                        "wrong-type",
                        "the name of an output is a text that carries nothing",
                    );
                    return self.fail(thunk.span, error);
                }
            }
        }
        Ok(makes)
    }

    pub(super) fn work_folder(
        &mut self,
        values: &FormValues,
        makes: bool,
        draft: &mut Draft,
    ) -> Result<WorkFolder> {
        let at = |draft: &Draft| scratch_path(&draft.step.folder, "work");
        match values.get("dir") {
            None if makes => Ok(WorkFolder::Private { at: at(draft), copy_of: None }),
            None => Ok(WorkFolder::Root),
            Some((Value::File(folder), span)) => match folder.maker {
                None if makes => {
                    let error = Diagnostic::error("wrong-type", "commands cannot write into a source folder");
                    let error = error.note("with `makes` they run in a folder of their own");
                    self.fail(span, error.mend("dir = stage { … } gives them a copy to write in"))
                }
                None => Ok(WorkFolder::Source(folder.path.clone())),
                Some(_) => {
                    let folder = folder.clone();
                    let copy_of = Some(self.file_id(&folder));
                    draft.inputs.push(folder);
                    Ok(WorkFolder::Private { at: at(draft), copy_of })
                }
            },
            Some(_) => Err(Stop::Failed),
        }
    }

    pub(super) fn outline_output(
        &mut self,
        draft: &mut Draft,
        name: &Option<Arc<str>>,
        path: &Arc<str>,
        folder: bool,
        span: Span,
    ) -> Result<()> {
        let file = FileRef { path: draft.step.folder.join(path), maker: None, folder };
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

    pub(super) fn stage_of(&mut self, stage: &StageValue, draft: &mut Draft) -> Result<Stage> {
        let mut words: Vec<Arc<str>> = Vec::with_capacity(stage.words.len());
        for (_, word) in &stage.words {
            words.push(self.written_word(word, draft));
        }
        let mut strands = Leaves::new();
        stage.words.iter().chain(&stage.stdin).flat_map(|(_, w)| w).for_each(|s| leaves(s, &mut strands));
        let at = stage.words.first().map(|(at, _)| *at);
        for strand in strands {
            match strand {
                WordStrand::Literal(text) => draft.spelled.extend(spelled_in(text, at)),
                WordStrand::File(file) => draft.inputs.push(file.clone()),
                WordStrand::List(files) => draft.inputs.extend(files.iter().cloned()),
                WordStrand::Tool(tool) => draft.tools.push(self.tool_id(&tool.name)),
                WordStrand::Secret(_) if !draft.keeps_secrets => {
                    let Some((at, _)) = stage.words.first() else { return Err(Stop::Failed) };
                    return self.fail(*at, super::checks::no_secret());
                }
                WordStrand::Served(service, _) => self.use_service(service, draft),
                WordStrand::Own(_) if !draft.is_service() => {
                    let Some((at, _)) = stage.words.first() else { return Err(Stop::Failed) };
                    return self.fail(*at, super::services::not_own());
                }
                _ => {}
            }
        }
        let Some((span, first)) = stage.words.first() else { return Err(Stop::Failed) };
        let program = match first.as_slice() {
            [WordStrand::File(file)] if !file.folder => Program::File(self.file_id(file)),
            [WordStrand::Tool(tool)] => {
                words[0] = tool.name.clone();
                Program::Tool(self.tool_id(&tool.name))
            }
            [WordStrand::Literal(name)] if !name.contains('/') => {
                if let Some((what, mends)) = only_a_shell_does(name) {
                    let error = Diagnostic::error("shell-syntax", what);
                    return self.fail(*span, mends.into_iter().fold(error, Diagnostic::mend));
                }
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
                [WordStrand::Scratch { path, .. }] => Some(scratch_path(&draft.step.folder, path)),
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

    fn redirected(&mut self, word: Option<&FilledWord>, draft: &Draft) -> Result<Option<WsPath>> {
        let Some((span, word)) = word else { return Ok(None) };
        match word.as_slice() {
            [WordStrand::Out { path, folder: false, .. } | WordStrand::Found { path, .. }] => {
                Ok(Some(draft.made(path)))
            }
            [WordStrand::Scratch { path, .. }] => Ok(Some(scratch_path(&draft.step.folder, path))),
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

    pub(super) fn step_env(
        &mut self,
        env: Value,
        draft: &mut Draft,
        span: Span,
    ) -> Result<Vec<(Arc<str>, Arc<str>)>> {
        let Value::Map(map) = env else { return Ok(Vec::new()) };
        let mut variables = Vec::new();
        for (name, thunk) in &map.entries {
            let Value::Text(text) = self.force(thunk, span)? else { return Err(Stop::Failed) };
            let set_by_us = matches!(&**name, "PWD" | "HOME" | "TMPDIR");
            if set_by_us || name.contains('=') {
                let message = format!("the variable `{name}` cannot be set for a step");
                let error = Diagnostic::error("bad-key", message);
                return self.fail(thunk.span, error.note("PWD, HOME and TMPDIR are the step's own"));
            }
            let strands: Vec<WordStrand> = text.strands().into_iter().map(WordStrand::from).collect();
            let value = self.written(&strands, draft);
            for strand in text.strands() {
                match strand {
                    Strand::Literal(text) => draft.spelled.extend(spelled_in(&text, Some(thunk.span))),
                    Strand::File(file) => draft.inputs.push(file),
                    Strand::Tool(tool) => draft.tools.push(self.tool_id(&tool.name)),
                    Strand::Secret(_) if !draft.keeps_secrets => {
                        let error = super::checks::no_secret();
                        return self.fail(thunk.span, error);
                    }
                    Strand::Served(service, _) => self.use_service(&service, draft),
                    Strand::Own(_) if !draft.is_service() => {
                        return self.fail(thunk.span, super::services::not_own());
                    }
                    Strand::Secret(_) | Strand::Own(_) => {}
                }
            }
            variables.push((name.clone(), value.into()));
        }
        variables.sort();
        Ok(variables)
    }

    /// All that the words of a draft and its field `reads` name, sorted: for what lists nothing of its own.
    pub(super) fn all_inputs(
        &mut self,
        values: &FormValues,
        draft: &mut Draft,
        span: Span,
    ) -> Result<Vec<FileId>> {
        let mut inputs = Vec::new();
        for file in std::mem::take(&mut draft.inputs) {
            self.add_input(&file, &mut inputs)?;
        }
        for file in self.files_of(&values.value("reads"), span)? {
            self.add_input(&file, &mut inputs)?;
        }
        inputs.sort_unstable();
        inputs.dedup();
        Ok(inputs)
    }

    /// Adds a file, or for a source folder all files in it, to a list of inputs.
    pub(super) fn add_input(&mut self, file: &FileRef, list: &mut Vec<FileId>) -> Result<()> {
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

    /// The set of all files in a source folder; put together once for each declaration, which takes what it reads of the
    /// outside upon itself.
    fn folder_set(&mut self, folder: &WsPath) -> Result<SetId> {
        let key = (self.unit(), folder.clone());
        if let Some(known) = self.folder_sets.get(&key) {
            return Ok(*known);
        }
        let mut files = Vec::new();
        self.add_input(&FileRef { path: folder.clone(), maker: None, folder: true }, &mut files)?;
        let set = self.graph.sets.intern(files);
        self.folder_sets.insert(key, set);
        Ok(set)
    }

    /// Adds the sets of files that a value stands for: a set that many steps are given stays one.
    fn add_candidates(&mut self, value: &Value, span: Span, sets: &mut Vec<SetId>) -> Result<()> {
        let mut rest = Vec::new();
        let parts = match value {
            Value::List(items) => items,
            value => std::slice::from_ref(value),
        };
        for part in parts {
            match part {
                Value::Files(files) => sets.push(self.set_of(files)?),
                // Folders have sets of their own.
                Value::File(file) if file.folder && file.maker.is_none() => {
                    sets.push(self.folder_set(&file.path)?);
                }
                part => rest.extend(self.files_of(part, span)?),
            }
        }
        if !rest.is_empty() {
            sets.push(self.interned(&rest)?);
        }
        Ok(())
    }

    /// The set of some files; known by the value that holds them.
    fn set_of(&mut self, files: &Rc<[FileRef]>) -> Result<SetId> {
        let unit = self.unit();
        if let Some(known) = self.value_sets.get(&files.as_ptr())
            && known.only_for.is_none_or(|only| only == unit)
        {
            return Ok(known.set);
        }
        let set = self.interned(files)?;
        let looks_outside = files.iter().any(|file| file.folder && file.maker.is_none());
        let only_for = looks_outside.then_some(unit);
        // No other value can be at this place while this one is held.
        self.value_sets.insert(files.as_ptr(), ValueSet { _held: files.clone(), set, only_for });
        Ok(set)
    }

    fn interned(&mut self, files: &[FileRef]) -> Result<SetId> {
        let mut ids = Vec::with_capacity(files.len());
        for file in files {
            self.add_input(file, &mut ids)?;
        }
        Ok(self.graph.sets.intern(ids))
    }

    pub(super) fn tool_id(&mut self, name: &Arc<str>) -> ToolId {
        if let Some(id) = self.tools.get(name) {
            return *id;
        }
        let id = ToolId(self.graph.tools.len() as u32);
        self.graph.tools.push(name.clone());
        self.tools.insert(name.clone(), id);
        id
    }

    /// One word of a command, as [`Evaluator::written`] has it; most often it is there already.
    fn written_word(&mut self, word: &[WordStrand], draft: &mut Draft) -> Arc<str> {
        match (word, draft.step.work.below_root()) {
            ([WordStrand::Literal(literal)], _) => literal.clone(),
            ([WordStrand::File(file)], None) if !file.path.is_root() => file.path.shared().clone(),
            ([WordStrand::Out { path, .. }], None) => draft.made(path).shared().clone(),
            _ => self.written(word, draft).into(),
        }
    }

    /// A word as the process sees it: paths are given from the folder in which it runs.
    pub(super) fn written(&mut self, word: &[WordStrand], draft: &mut Draft) -> String {
        let work = draft.step.work.path();
        let mut text = String::new();
        for strand in word {
            match strand {
                WordStrand::Literal(literal) => text.push_str(literal),
                WordStrand::Tool(tool) => text.push_str(&tool.path),
                WordStrand::Secret(name) => text.push_str(&Mark::Secret(name).to_string()),
                WordStrand::Served(service, what) => {
                    text.push_str(&super::services::mark(&service.service.folder, *what))
                }
                WordStrand::Own(what) => {
                    if let Some(own) = &draft.own {
                        text.push_str(&super::services::mark(own, *what));
                    }
                }
                WordStrand::File(file) => text.push_str(&path_from(&work, &file.path)),
                WordStrand::Out { path, .. } | WordStrand::Found { path, .. } => {
                    text.push_str(&path_from(&work, &draft.step.folder.join(path)));
                }
                WordStrand::Scratch { path, .. } => {
                    text.push_str(&path_from(&work, &scratch_path(&draft.step.folder, path)));
                }
                WordStrand::List(files) => {
                    let lines: Vec<Arc<str>> =
                        files.iter().map(|f| path_from(&work, &f.path).into()).collect();
                    let lists = &mut draft.step.lists;
                    let known = lists.iter().position(|l| l.lines == lines);
                    let at = known.unwrap_or_else(|| {
                        let path = scratch_path(&draft.step.folder, &format!("list-{}", lists.len() + 1));
                        lists.push(ListFile { path, lines });
                        lists.len() - 1
                    });
                    text.push_str(&path_from(&work, &lists[at].path));
                }
                WordStrand::Quoted(inner) => text.push_str(&quoted(&self.written(inner, draft))),
            }
        }
        text
    }
}

/// What is wrong with a first word that only a shell understands, and what to write instead; `None` for the name of a tool.
fn only_a_shell_does(word: &str) -> Option<(String, Vec<String>)> {
    let name = |name: &str| {
        let letter = |c: char| c.is_ascii_alphanumeric() || c == '_';
        name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && name.chars().all(letter)
    };
    if let Some((variable, value)) = word.split_once('=').filter(|(variable, _)| name(variable)) {
        let what = format!("`{word}` before a command sets a variable, and only a shell understands that");
        return Some((what, vec![format!("env = {{ \"{variable}\": \"{value}\" }}")]));
    }
    let what = format!("`{word}` is something that a shell does, and no tool");
    match word {
        "cd" => Some((
            what,
            vec![
                "dir = \"…\"   for the folder in which all commands run".to_owned(),
                "sh`cd …; …`".to_owned(),
            ],
        )),
        "export" => Some((what, vec!["env = { \"NAME\": \"value\" }".to_owned()])),
        "source" | "set" | "eval" | "exec" | "umask" | "ulimit" | "trap" | "alias" | "." => {
            Some((what, vec![format!("sh`{word} …; …`")]))
        }
        _ => None,
    }
}

/// The paths of what steps make that plain characters hold; most often none.
fn spelled_in(text: &str, at: Option<Span>) -> Option<(String, Span)> {
    let start = text.find(super::natives::MADE)?;
    let path = &text[start..];
    let end = path.find(|c: char| c.is_whitespace() || "\"'`;:,|&()<>".contains(c)).unwrap_or(path.len());
    let path = path[..end].trim_end_matches('/');
    // Only what lies below that folder is a step's.
    path.strip_prefix(super::natives::MADE)?.strip_prefix('/')?;
    Some((path.to_owned(), at?))
}

/// A text as one word of a shell.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// A path as seen from a folder, both from the workspace's root.
pub(super) fn path_from(folder: &WsPath, path: &WsPath) -> String {
    if folder.is_root() {
        return if path.is_root() { ".".to_owned() } else { path.as_str().to_owned() };
    }
    let (from, to): (Vec<&str>, Vec<&str>) = (folder.parts().collect(), path.parts().collect());
    let shared = from.iter().zip(&to).take_while(|(a, b)| a == b).count();
    let up = std::iter::repeat_n("..", from.len() - shared);
    let parts: Vec<&str> = up.chain(to[shared..].iter().copied()).collect();
    if parts.is_empty() { ".".to_owned() } else { parts.join("/") }
}

/// What tells a scan from others of the same target: its words without paths that depend on it.
fn scan_words(commands: &[Rc<CommandValue>]) -> String {
    let mut text = String::new();
    for stage in commands.iter().flat_map(|c| &c.stages) {
        let mut strands = Leaves::new();
        all_strands(stage).for_each(|s| leaves(s, &mut strands));
        for strand in strands {
            match strand {
                WordStrand::Literal(literal) => text.push_str(literal),
                WordStrand::File(file) => text.push_str(file.path.as_str()),
                WordStrand::Tool(tool) => text.push_str(&tool.name),
                WordStrand::Secret(name) => text.push_str(name),
                WordStrand::Served(service, what) => {
                    text.push_str(&super::services::mark(&service.service.folder, *what));
                }
                WordStrand::Own(_) => {}
                WordStrand::List(files) => files.iter().for_each(|f| text.push_str(f.path.as_str())),
                WordStrand::Out { path, .. }
                | WordStrand::Found { path, .. }
                | WordStrand::Scratch { path, .. } => {
                    text.push_str(path);
                }
                WordStrand::Quoted(_) => {}
            }
            text.push('\0');
        }
    }
    text
}

/// An amount such as `512MiB`, in bytes.
fn size(text: &str) -> Option<u64> {
    let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let count: u64 = text[..digits].parse().ok()?;
    let unit = match text[digits..].trim_start() {
        "KiB" => 1 << 10,
        "MiB" => 1 << 20,
        "GiB" => 1 << 30,
        _ => return None,
    };
    count.checked_mul(unit).filter(|bytes| *bytes > 0)
}

pub(super) fn all_strands(stage: &StageValue) -> impl Iterator<Item = &WordStrand> {
    stage.words.iter().chain(&stage.stdin).chain(&stage.stdout).chain(&stage.stderr).flat_map(|(_, w)| w)
}

/// Strands of a command; most often few.
pub(super) type Leaves<'a> = SmallVec<[&'a WordStrand; 16]>;

/// Strands with those inside quoted ones instead of these.
pub(super) fn leaves<'a>(strand: &'a WordStrand, list: &mut Leaves<'a>) {
    match strand {
        WordStrand::Quoted(inner) => inner.iter().for_each(|s| leaves(s, list)),
        other => list.push(other),
    }
}

pub(super) fn scratch_path(folder: &WsPath, path: &str) -> WsPath {
    WsPath::from_normal_text(shared_text([folder.as_str(), "/.scratch/", path]))
}

/// A text for people, with the paths of the files that it carries.
pub(super) fn plain_path_text(text: &Text) -> String {
    let strands = text.strands();
    strands
        .iter()
        .map(|s| match s {
            Strand::Literal(text) => text,
            Strand::File(file) => file.path.as_str(),
            Strand::Tool(tool) => &tool.name,
            Strand::Secret(name) => name,
            Strand::Served(service, _) => &service.service.address,
            Strand::Own(_) => "self",
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_given_from_the_folder() {
        let path =
            |folder: &str, path: &str| path_from(&WsPath::from_normal(folder), &WsPath::from_normal(path));
        assert_eq!(path("", "a/b"), "a/b");
        assert_eq!(path("a", "a/b"), "b");
        assert_eq!(path("a/c", "a/b"), "../b");
        assert_eq!(path("a/c", ".nubrik/made/x"), "../../.nubrik/made/x");
        assert_eq!(path("a", "a"), ".");
    }

    #[test]
    fn sizes_have_units() {
        assert_eq!(size("512MiB"), Some(512 << 20));
        assert_eq!(size("2 GiB"), Some(2 << 30));
        assert_eq!(size("12"), None);
        assert_eq!(size("0KiB"), None);
        assert_eq!(quoted("it's"), "'it'\\''s'");
    }
}
