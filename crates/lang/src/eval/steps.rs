//! Steps: from commands with filled holes to a step of the graph, with its folder and its files.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{
    FileId, OutputNode, Pipeline, Service, SetId, Step, TargetId, ToolId, WorkFolder,
};
use nubrik_source::{Span, WsPath, shared_text};
use smallvec::SmallVec;

use super::counting::{COUNTS_VARIABLE, StepCommands, counts_folder};
use super::forms::FormValues;
use super::strands::{Leaves, kept_path, leaves_of, scratch_path};
use super::words::{plain_path_text, probe_words};
use super::{Evaluator, Owner, Result, Scope};
use crate::value::*;

/// An output with the name it was given, and as it was written.
pub(super) type DraftedOutput = (Option<Arc<str>>, FileRef, Arc<str>);

/// A step as far as it is known.
pub(super) struct Draft {
    pub step: Box<Step>,
    pub outputs: SmallVec<[DraftedOutput; 1]>,
    /// Names of those of them that others may use before the step ends.
    pub early: Vec<Arc<str>>,
    pub inputs: SmallVec<[FileRef; 2]>,
    pub tools: SmallVec<[ToolId; 4]>,
    /// Paths of what other steps make that are in its words as plain characters, with their places.
    pub spelled: Vec<(String, Span)>,
    /// Services that run at the same time.
    pub services: Vec<Arc<Service>>,
    /// The name of the output in which a check reports single cases.
    pub report: Option<Arc<str>>,
    /// Names of outputs in which the commands tell which lines ran.
    pub lines: Vec<Arc<str>>,
    /// Whether it is no step that is kept, so that secrets may be in it.
    pub keeps_secrets: bool,
    /// Whether its first output is what its commands change in the image that they run in.
    pub changes_root: bool,
    /// Whether it is a service that runs in an image.
    pub serves_in_image: bool,
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
        let start = (step as usize)
            .checked_sub(1)
            .map_or(0, |before| self.ends[before] as usize);
        &self.all[start..self.ends[step as usize] as usize]
    }

    /// Adds those of the next step.
    pub(super) fn push(&mut self, outputs: impl IntoIterator<Item = NamedOutput>) {
        self.all.extend(outputs);
        self.ends.push(self.all.len() as u32);
    }
}

/// What a step's folder is called after, where no word names an output.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum First {
    /// Nothing: some word must.
    Named,
    /// The answer of a probe.
    Answer,
    /// The verdict of a check.
    Verdict,
}

/// An output of commands that choose where they write: its name, its path, and where it is named.
type ChosenOutput = (Arc<str>, Arc<str>, Span);

impl Draft {
    /// Whether its commands see an image in place of the machine's system.
    pub(super) fn is_in_image(&self) -> bool {
        self.step.root.is_some() || self.serves_in_image
    }

    /// Where an output with this name is.
    pub(super) fn made(&self, name: &str) -> WsPath {
        let known = self
            .outputs
            .iter()
            .find(|(_, _, written)| **written == *name);
        known.map_or_else(
            || self.step.folder.join(name),
            |(_, file, _)| file.path.clone(),
        )
    }
}

impl Evaluator<'_> {
    /// The commands of a step: what is started, or what is asked of a program that stays.
    fn pipelines(
        &mut self,
        commands: &[Rc<CommandValue>],
        values: &FormValues,
        draft: &mut Draft,
    ) -> Result<Vec<Pipeline>> {
        let mut pipelines = Vec::with_capacity(commands.len());
        let server = values.commands_of("answered_by");
        if let [_, second, ..] = server.as_slice() {
            let error =
                Diagnostic::error("wrong-type", "one program answers, not several in a row");
            return self.fail(
                second.span,
                error.mend("sh`…; exec …` for what is to be done before it starts"),
            );
        }
        for command in commands {
            let stages = match server.first() {
                Some(server) => vec![self.request_of(command, server, draft)?],
                None => self.all(&command.stages, |this, stage| {
                    this.stage_of(stage, command.span, draft)
                })?,
            };
            pipelines.push(Pipeline { stages });
        }
        Ok(pipelines)
    }

    /// Words, inputs, variables and limits of a step whose outputs are known.
    pub(super) fn finish_step(
        &mut self,
        scope: &Scope,
        mut draft: Draft,
        commands: &StepCommands,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let answer = draft
            .outputs
            .first()
            .filter(|(n, ..)| n.as_deref() == Some("answer"))
            .map(|o| o.1.clone());
        let mut pipelines = self.pipelines(commands.all(), values, &mut draft)?;
        if let (Some(answer), Some(last)) = (
            &answer,
            pipelines.last_mut().and_then(|p| p.stages.last_mut()),
        ) {
            last.stdout = Some(answer.path.clone());
        }
        self.check_argument_files(&draft, span)?;
        draft.step.commands = pipelines;
        draft.step.env = self.step_env(values.value("env"), &mut draft, span)?;
        if commands.counts() {
            let folder = counts_folder(&draft.step.folder).shared().clone();
            draft.step.env.push((COUNTS_VARIABLE.into(), folder));
            draft.step.env.sort();
        }
        draft.step.limits = self.limits(values, draft.step.check.is_some())?;
        draft.step.machine = self.machine(values)?;
        draft.step.observed = values.bool("observed");
        if draft.step.observed && !draft.step.kept.is_empty() {
            return self.fail(span, observed_and_kept());
        }
        let listed = draft.step.narrows();
        let (mut inputs, mut candidates) = self.inputs_of(&mut draft, listed)?;
        let reads = values.value("reads");
        if listed {
            self.add_candidates(&reads, span, &mut candidates)?;
        } else {
            for file in self.files_of(&reads, span)? {
                self.add_input(&file, &mut inputs)?;
            }
        }
        draft.step.inputs = inputs.into();
        draft.step.candidates = candidates.into();
        if !draft.spelled.is_empty() {
            let spelled = std::mem::take(&mut draft.spelled);
            self.check_spelled(
                &spelled,
                &draft.step.folder,
                &self.drafting.graph.declared(&draft.step),
            )?;
        }
        draft.step.say = said_of(values, &draft, answer.is_some(), scope);
        self.enter(scope, draft, span)
    }

    /// The inputs of a step that its words name, and sets of files of which it is seen later which are
    /// inputs.
    fn inputs_of(&mut self, draft: &mut Draft, listed: bool) -> Result<(Vec<FileId>, Vec<SetId>)> {
        let mut inputs = Vec::with_capacity(draft.inputs.len());
        let mut candidates = Vec::new();
        for file in std::mem::take(&mut draft.inputs) {
            // What is in a folder, the commands may read: the listing says what they did. Of the
            // folder that they get a copy of, it names only the copy.
            let copied = matches!(&draft.step.work, WorkFolder::Private { copy_of: Some(of), .. }
                if self.drafting.graph.files[of.index()].path == file.path);
            match file.folder && listed && !copied {
                true if file.maker.is_none() => candidates.push(self.folder_set(&file.path)?),
                true => candidates.push(self.interned(std::slice::from_ref(&file))?),
                false => self.add_input(&file, &mut inputs)?,
            }
        }
        Ok((inputs, candidates))
    }

    /// Enters a finished step in the graph, unless the very same step is there already.
    pub(super) fn enter(&mut self, scope: &Scope, draft: Draft, span: Span) -> Result<Value> {
        let Draft {
            mut step,
            outputs: drafted,
            early,
            mut tools,
            services,
            report,
            lines,
            changes_root,
            ..
        } = draft;
        step.target = scope.owner.target;
        step.place = self.place(span);
        tools.sort_unstable();
        tools.dedup();
        (step.tools, step.services) = (tools.into_vec(), services);
        self.note_reads_of_target(scope.owner.target);
        let number = self.drafting.graph.steps.len() as u32;
        let folder_digest = nubrik_graph::row_digest(step.folder.as_str());
        let known = self.step_at(folder_digest, &step.folder);
        let maker = known.unwrap_or(number);
        let mut outputs: SmallVec<[NamedOutput; 1]> = SmallVec::new();
        step.outputs.reserve_exact(drafted.len());
        for (name, mut file, written) in drafted {
            file.maker = Some(maker);
            let id = self.file_id(&file);
            if name.as_deref() == Some("status") && *written == *"answer.status" {
                step.status = Some(id);
            }
            if changes_root && step.outputs.is_empty() {
                step.changes = Some(id);
            }
            if let (Some(check), Some(name)) = (&mut step.check, name.as_deref()) {
                super::forms::check::note_output(check, report.as_deref(), name, id);
            }
            // Outputs that the commands leave where they chose to are taken from there.
            let taken = step.taken.iter_mut();
            for (_, taken) in taken.filter(|(path, _)| path.as_str() == &*written) {
                *taken = id;
            }
            let (early, lines) = (early.contains(&written), lines.contains(&written));
            step.outputs.push(OutputNode {
                file: id,
                name: written,
                early,
                lines,
            });
            // What only tells which lines ran is nothing that the step is run for, unless a
            // definition names it.
            if !lines || name.is_some() {
                outputs.push((name, file));
            }
        }
        if let Some(known) = known {
            return self.known_step(known, &step, &outputs, span);
        }
        let drafting = &mut self.drafting;
        drafting.steps.insert_new(folder_digest, number as usize);
        drafting.graph.steps.push(step);
        drafting.step_spans.push(span);
        drafting.outputs.push(outputs);
        Ok(Value::Step(number))
    }

    /// Notes for a target what options were read up to here.
    fn note_reads_of_target(&mut self, target: TargetId) {
        if let Some(reads) = self.choices.frames.last().filter(|r| !r.is_empty()) {
            let reads = reads.clone();
            let of_target = self.choices.target_reads.entry(target);
            of_target.or_default().add_all(&reads);
        }
    }

    /// A step that writes to the folder of one that is there already: the very same one, or an error.
    fn known_step(
        &mut self,
        known: u32,
        step: &Step,
        outputs: &[NamedOutput],
        span: Span,
    ) -> Result<Value> {
        let first = &self.drafting.graph.steps[known as usize];
        if **first == *step {
            return Ok(Value::Step(known));
        }
        let made = outputs[0].1.path.below(&step.folder).unwrap_or_default();
        let error = made_twice(made, self.drafting.step_spans[known as usize]);
        self.fail(span, error)
    }

    /// The step that writes to a folder, which has such a digest.
    fn step_at(&self, digest: u32, folder: &WsPath) -> Option<u32> {
        let steps = &self.drafting.graph.steps;
        let is_it = |n: usize| steps[n].folder == *folder;
        self.drafting.steps.find(digest, is_it).map(|n| n as u32)
    }

    /// An empty step of an owner, in the folder that its first output gives it.
    pub(super) fn draft(&mut self, owner: &Owner, first: &str) -> Draft {
        let (folder, variant) = self.step_folder(owner, first);
        let mut step = Box::new(Step::empty_with(folder, &self.nothing));
        step.variant = variant;
        Draft {
            step,
            outputs: SmallVec::new(),
            early: Vec::new(),
            inputs: SmallVec::new(),
            tools: SmallVec::new(),
            spelled: Vec::new(),
            services: Vec::new(),
            report: None,
            lines: Vec::new(),
            keeps_secrets: false,
            changes_root: false,
            serves_in_image: false,
            own: None,
        }
    }

    /// What a piece of a word says of a step's files.
    pub(super) fn outline_strand(
        &mut self,
        draft: &mut Draft,
        strand: &WordStrand,
        is_answer: bool,
    ) -> Result<()> {
        fn add(list: &mut Vec<WsPath>, path: WsPath) {
            if !list.contains(&path) {
                list.push(path);
            }
        }
        match strand {
            WordStrand::Out { span, .. } if is_answer => {
                let error =
                    Diagnostic::error("wrong-type", "a `probe` has no outputs but what it prints");
                return self.fail(*span, error.mend("{scratch \"…\"} for what is thrown away"));
            }
            WordStrand::Out {
                name,
                path,
                folder,
                early,
                span,
            } => {
                self.outline_output(draft, name, path, *folder, *span)?;
                if *early && !draft.early.contains(path) {
                    draft.early.push(path.clone());
                }
            }
            WordStrand::Kept { path, .. } => {
                let path = kept_path(&draft.step.folder, path);
                add(&mut draft.step.kept, path);
            }
            WordStrand::DepFile { path, .. } => {
                let path = draft.step.folder.join(path);
                add(&mut draft.step.found, path);
            }
            WordStrand::Scratch { path, folder, .. } => {
                let path = scratch_path(&draft.step.folder, path);
                add(
                    &mut draft.step.scratch,
                    if *folder { scratch_folder(&path) } else { path },
                );
            }
            _ => {}
        }
        Ok(())
    }

    /// Folder, outputs, listings and scratch names of a step, from all of its words. A probe's
    /// `answer` is an output that no word names.
    pub(super) fn outline(
        &mut self,
        scope: &Scope,
        commands: &StepCommands,
        values: &FormValues,
        unnamed: First,
        span: Span,
    ) -> Result<Draft> {
        // Before its folder has a name, in which options are that were reached.
        let root = self.root_for(scope, values, span)?;
        let is_answer = unnamed == First::Answer;
        let makes = self.makes(values, span)?;
        // Its own first: its folder has its name from them.
        let mut strands = leaves_of(commands.own());
        let Some(first) = first_output(commands.own(), &strands, &makes, unnamed) else {
            if self.definitions.modules.is_misread(span) {
                return self.failed_before(span);
            }
            return self.fail(span, makes_nothing());
        };
        let mut draft = self.draft(&scope.owner, &first);
        if let Some(root) = root {
            draft.step.root = Some(self.file_id(&root));
            draft.inputs.push(root);
        }
        if commands.counts() {
            draft.lines = commands.accounts();
            strands.extend(leaves_of(commands.counting()));
            draft
                .step
                .scratch
                .push(scratch_folder(&counts_folder(&draft.step.folder)));
        }
        if is_answer {
            self.outline_output(
                &mut draft,
                &Some("answer".into()),
                &"answer".into(),
                false,
                span,
            )?;
        }
        for strand in strands {
            self.outline_strand(&mut draft, strand, is_answer)?;
        }
        for (name, path, span) in &makes {
            let folder = path.ends_with('/');
            let path: Arc<str> = path.trim_end_matches('/').into();
            self.check_name(&path, *span)?;
            self.outline_output(&mut draft, &Some(name.clone()), &path, folder, *span)?;
            draft
                .step
                .taken
                .push((self.path_within(&path, *span)?, FileId(0)));
        }
        draft.step.work = self.work_folder(values, !makes.is_empty(), &mut draft)?;
        Ok(draft)
    }

    /// The outputs of commands that choose where they write: name and path.
    pub(super) fn makes(&mut self, values: &FormValues, span: Span) -> Result<Vec<ChosenOutput>> {
        let Value::Map(map) = values.value("makes") else {
            return Ok(Vec::new());
        };
        self.check_keys(&map, span)?;
        let mut makes = Vec::new();
        for (name, thunk) in &map.entries {
            match self.force(thunk, span)? {
                Value::Text(Text::Plain(path)) => makes.push((name.clone(), path, thunk.span)),
                _ => {
                    let error = Diagnostic::error(
                        "wrong-type",
                        "the name of an output is a plain text: it carries no file",
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
        match values.get("folder") {
            None if makes => Ok(WorkFolder::Private {
                at: at(draft),
                copy_of: None,
            }),
            None => Ok(WorkFolder::Root),
            Some((Value::File(folder), span)) => match folder.maker {
                None if makes => {
                    let error = Diagnostic::error(
                        "wrong-type",
                        "commands cannot write into a source folder",
                    );
                    let error = error.note("with `makes` they run in a folder of their own");
                    self.fail(
                        span,
                        error.mend("folder = stage { … } gives them a copy to write in"),
                    )
                }
                None => Ok(WorkFolder::Source(folder.path.clone())),
                Some(_) => {
                    let folder = folder.clone();
                    let copy_of = Some(self.file_id(&folder));
                    draft.inputs.push(folder);
                    Ok(WorkFolder::Private {
                        at: at(draft),
                        copy_of,
                    })
                }
            },
            Some((_, span)) => self.failed_before(span),
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
        let file = FileRef {
            path: draft.step.folder.join(path),
            maker: None,
            folder,
        };
        for (other_name, other, written) in &draft.outputs {
            if *other == file && other_name == name {
                return Ok(()); // The same output, named in a second command.
            }
            let clash = other.path.is_in(&file.path) || file.path.is_in(&other.path);
            if clash || (name.is_some() && other_name == name) {
                let message =
                    format!("the outputs \"{written}\" and \"{path}\" are in each other's way");
                let error = Diagnostic::error("made-twice", message);
                return self.fail(
                    span,
                    error.mend("give each output a name and a path of its own"),
                );
            }
        }
        draft.outputs.push((name.clone(), file, path.clone()));
        Ok(())
    }

    pub(super) fn tool_id(&mut self, name: &Arc<str>) -> ToolId {
        if let Some(id) = self.drafting.tools.get(name) {
            return *id;
        }
        let id = ToolId(self.drafting.graph.tools.len() as u32);
        self.drafting.graph.tools.push(name.clone());
        self.drafting.tools.insert(name.clone(), id);
        id
    }
}

/// What is noted of a scratch folder. The folder of each scratch path is there before the commands
/// run.
fn scratch_folder(path: &WsPath) -> WsPath {
    path.child("contents")
}

/// The name of a step's first output, from which its folder has its own; `None` where it makes
/// nothing.
fn first_output(
    commands: &[Rc<CommandValue>],
    strands: &Leaves<'_>,
    makes: &[ChosenOutput],
    unnamed: First,
) -> Option<Arc<str>> {
    if unnamed == First::Answer {
        // A probe's place tells probes of one target apart by what they run.
        let words = blake3::hash(probe_words(commands).as_bytes()).to_hex();
        return Some(format!("answer-{}", &words[..12]).into());
    }
    let named = strands.iter().find_map(|s| match s {
        WordStrand::Out { path, .. } => Some(path.clone()),
        _ => None,
    });
    let verdict = (unnamed == First::Verdict).then(|| "verdict".into());
    let named = named.or_else(|| {
        makes
            .first()
            .map(|(_, path, _)| path.trim_end_matches('/').into())
    });
    named.or(verdict)
}

fn observed_and_kept() -> Diagnostic {
    Diagnostic::error("kept-observed", "an `observed` step cannot keep a folder")
        .note(
            "what it knows from the last time it does not read again, so that this would not count",
        )
        .mend("drop `observed`: then all counts that it declares")
        .mend("{scratchfolder \"…\"} for a folder that is empty each time")
}

fn makes_nothing() -> Diagnostic {
    Diagnostic::error("no-output", "this step makes nothing")
        .note("a step is run for its outputs, and is not run again while they are true")
        .mend("{out \"result.txt\"} where the command names its output")
        .mend("> {out \"result.txt\"}")
        .mend("makes = { \"result\": \"result.txt\" } for a command that chooses where it writes")
}

/// The first output that a step is run for.
fn named_first(draft: &Draft) -> &str {
    let first = draft
        .outputs
        .iter()
        .find(|(_, _, written)| !draft.lines.contains(written));
    first
        .or(draft.outputs.first())
        .map_or("", |(_, _, written)| written)
}

/// What a step does, for people: what its definition says, else what it is for.
fn said_of(values: &FormValues, draft: &Draft, is_probe: bool, scope: &Scope) -> Arc<str> {
    match values.value("say") {
        Value::Text(text) => plain_path_text(&text).into(),
        _ if is_probe => format!("probe for {}", scope.owner.parts.join("/")).into(),
        _ if draft.step.check.is_some() => format!("test {}", scope.owner.parts.join("/")).into(),
        _ => shared_text(["make ", named_first(draft)]),
    }
}

/// Two different steps have an output in common, and `other` is where the first of them is.
fn made_twice(output: &str, other: Span) -> Diagnostic {
    Diagnostic::error(
        "made-twice",
        format!("two steps write the same output `{output}`"),
    )
    .related(other, "the other one is here")
    .mend("{out \"…\"} with a name that differs, such as one with the source's stem in it")
    .mend("{ \"key\": step { … } } puts each under a key of its own")
}
