//! Carrying out a decision: taking outputs from the cache, or running a step's commands and keeping
//! what they made.

use std::cell::Cell;
use std::time::Instant;

use nubrik_disk::Signature;
use nubrik_graph::{
    Check, FileId, FileNode, Native, PlainFile, Program, Stage, Step, StepId, WorkFolder,
};
use nubrik_source::WsPath;
use nubrik_store::{Opened, OutputRecord, RecordEntry, TreeKind};

use crate::away::{contents_of, patience_for};
use crate::build::{Build, Outreach};
use crate::event::{Event, Failure, Notice, Refusal};
use crate::examine::Examined;
use crate::files::Began;
use crate::outside::{
    FoundTool, Job, JobEnd, Lent, OpenRoot, Readable, Readables, Work, WorkProblem, is_cut_off,
    is_own_end,
};
use crate::reason::Reason;
use crate::seen::{Recording, Seen};
use crate::state::StepMemory;

/// What the verdict of a check that passed holds. There is no other: failures are not kept.
const PASSED: &str = "passed\n";

/// How many definitions are watched in a build. A user who builds more new ones at once has not
/// just written them.
const WATCHED: usize = 50;

/// How the commands of a step ran that ended well.
pub(crate) struct Ran<'a> {
    pub(crate) reason: &'a Reason,
    /// Nanoseconds since 1970.
    pub(crate) began: Began,
    /// How often the disk had been seen full then.
    pub(crate) times_full: u64,
    pub(crate) micros: u64,
    pub(crate) printed: &'a [u8],
    /// Whether they saw what they see in every run.
    pub(crate) as_always: bool,
    /// What its commands were seen to do, if all of it was.
    pub seen: Option<&'a Seen>,
    /// The same, with what they did outside of the workspace, where that is to be noted.
    pub all_seen: Option<&'a Seen>,
}

/// What became of running a step.
pub(crate) struct Performed {
    pub result: Result<StepMemory, Option<Failure>>,
    /// What of the workspace its commands were refused, where that was seen and they ended well.
    pub survived: Vec<Refusal>,
    pub micros: u64,
    pub printed: Vec<u8>,
}

impl Performed {
    /// A step that failed before any of its commands ran.
    fn failed_at_once(failure: Failure) -> Performed {
        Performed {
            result: Err(Some(failure)),
            survived: Vec::new(),
            micros: 0,
            printed: Vec::new(),
        }
    }
}

/// The exit code of a command that failed where that is a result; nothing of one that ended well.
///
/// # Errors
/// How it failed; nothing where it was stopped, or is to be repeated.
fn status_of(end: JobEnd, step: &Step) -> Result<Option<i32>, Option<Failure>> {
    let may_fail = step.status.is_some();
    let failure = match end {
        JobEnd::Well => return Ok(None),
        JobEnd::Cancelled | JobEnd::ToBeRepeated => return Err(None),
        JobEnd::Code(code) if may_fail && !is_cut_off(code) => return Ok(Some(code)),
        JobEnd::Signal(signal) if may_fail && is_own_end(signal) => return Ok(Some(128 + signal)),
        JobEnd::Disturbed(path) => Failure::InputMoved { path: path.into() },
        JobEnd::TimedOut => Failure::TimedOut {
            limit: step.limits.timeout.unwrap_or(0),
        },
        // A shell says so that a program of its own was ended by a signal.
        JobEnd::Code(code) if may_fail => Failure::Signal(code - 128),
        JobEnd::Code(code) => Failure::Code(code),
        JobEnd::Signal(signal) => Failure::Signal(signal),
        JobEnd::NoAnswer(said) => Failure::NoAnswer { said },
        JobEnd::NotStarted(program, problem) => {
            // In a sandbox the workspace is somewhere else: people know its files by their paths
            // from its root.
            let seen = program
                .strip_prefix(crate::outside::CONSTANT_ROOT)
                .unwrap_or(&program);
            let program = seen.display().to_string();
            let is_forbidden = problem.kind() == std::io::ErrorKind::PermissionDenied;
            Failure::NotStarted {
                program,
                problem: problem.to_string(),
                is_forbidden,
            }
        }
    };
    Err(Some(failure))
}

fn machine_failed(problem: WorkProblem) -> Failure {
    Failure::Machine {
        problem: problem.to_string(),
    }
}

/// What there is when a step's commands begin.
#[derive(Clone, Copy)]
struct StepGround<'a> {
    /// The root that they see in place of this machine's system.
    root: Option<&'a OpenRoot>,
    tools: &'a [FoundTool],
    /// Services that run.
    lent: Option<&'a Lent>,
}

/// What of a step's commands is recorded, and what for.
struct WantedRecord {
    /// What they use decides whether the step runs again.
    is_observed: bool,
    /// What they use is kept with the result, for other machines.
    is_noted: bool,
    recording: Recording,
}

impl WantedRecord {
    /// A record in which nothing is yet; none where nothing is recorded.
    fn seen(&self, is_watched: bool) -> Option<Seen> {
        let is_wanted = is_watched || self.is_observed || self.is_noted;
        is_wanted.then(|| Seen {
            recording: self.recording,
            ..Seen::default()
        })
    }
}

impl Build<'_> {
    /// Puts a kept result in place. `None` when the store does not have all of it after all.
    pub(crate) fn reuse(
        &self,
        id: StepId,
        now: &Examined,
        entry: &RecordEntry,
        reason: &Reason,
    ) -> Option<StepMemory> {
        let store = self.store?;
        let memory = self.memory_of(now, entry, Vec::new(), reason);
        if self.options.stay_away && self.may_stay_away(entry) {
            store.used(&now.first_key, entry);
            // What lies there is of another time; mostly there is nothing.
            if self
                .outside
                .check_itself(&self.graph.step(id).folder)
                .is_some()
            {
                self.fresh_folder(id, &[]).ok()?;
            }
            return Some(StepMemory {
                is_away: true,
                ..memory
            });
        }
        store.bring(
            &contents_of(&entry.outputs),
            Some(patience_for(entry.micros)),
        );
        let signatures = self.put_in_place(id, &entry.outputs)?;
        store.used(&now.first_key, entry);
        Some(StepMemory {
            signatures,
            ..memory
        })
    }

    /// Puts a step's outputs in place from the cache; gives their metadata. `None` when the store
    /// does not have all of them.
    pub(crate) fn put_in_place(
        &self,
        id: StepId,
        outputs: &[OutputRecord],
    ) -> Option<Vec<Signature>> {
        let store = self.store?;
        let step = self.graph.step(id);
        let mut places: Vec<(WsPath, TreeKind)> = Vec::new();
        for (output, record) in step.outputs.iter().zip(outputs) {
            let path = &self.graph.file(output.file).path;
            match record {
                OutputRecord::File { digest, executable } => {
                    let kind = TreeKind::File {
                        digest: *digest,
                        executable: *executable,
                    };
                    places.push((path.clone(), kind));
                }
                OutputRecord::Folder(entries) => {
                    places.extend(entries.iter().map(|e| (path.join(&e.path), e.kind.clone())));
                }
            }
        }
        let mut inner = self.inner_folders(id);
        inner.extend(places.iter().filter_map(|(path, kind)| {
            let inside = path.below(&step.folder)?;
            match kind {
                TreeKind::EmptyFolder => Some(inside.to_owned()),
                _ => inside.rsplit_once('/').map(|(folder, _)| folder.to_owned()),
            }
        }));
        self.fresh_folder(id, &inner).ok()?;
        let mut signatures = Vec::new();
        for (path, kind) in places {
            let signature = match kind {
                TreeKind::EmptyFolder => Signature::of_empty_folder(),
                TreeKind::Link { target } => {
                    self.outside.make_link(&path, &target).ok()?;
                    self.outside.check_itself(&path)?
                }
                TreeKind::File { digest, executable } => match store.open(&digest, executable) {
                    Ok(Opened::There(content)) => {
                        self.outside.put(&path, content, executable).ok()?;
                        self.outside.check_itself(&path)?
                    }
                    Ok(Opened::Damaged) => {
                        self.listener.hear(&Event::Notice(Notice::DamagedBlob));
                        return None;
                    }
                    Ok(Opened::Missing) | Err(_) => return None,
                },
            };
            signatures.push(signature);
        }
        Some(signatures)
    }

    /// Runs a step's commands and keeps what they made; calls `given` when others can have what it
    /// gives early. No failure with a failed result: stopped.
    pub(crate) fn run_step(
        &self,
        id: StepId,
        now: &Examined,
        reason: &Reason,
        given: &(dyn Fn() + Sync),
    ) -> Performed {
        let step = self.graph.step(id);
        if let Some(failure) = self.out_of_reach(step) {
            return Performed::failed_at_once(failure);
        }
        self.listener.hear(&Event::WillRun {
            step: id,
            reason: reason.clone(),
        });
        let mut printed = Vec::new();
        let started = Instant::now();
        let began = self.table.began(self.outside.now());
        let times_full = self.outside.times_full();
        let is_watched = self.is_watched(id, now, reason);
        let watch = self.wanted_record(step, is_watched);
        let (is_observed, is_noted) = (watch.is_observed, watch.is_noted);
        let mut seen = watch.seen(is_watched);
        self.forget_kept_of_others(id, now);
        let ran = self.run_commands(id, &now.tools, &mut printed, seen.as_mut(), Some(given));
        let complaint = ran.is_err().then_some(printed.as_slice());
        let told = seen.as_ref().filter(|_| is_watched);
        let refused = told.map(|seen| self.refusals(id, seen, complaint));
        let as_always = *ran.as_ref().unwrap_or(&true);
        let micros = started.elapsed().as_micros() as u64;
        let result = ran.and_then(|_| {
            let all_seen = seen.as_ref().filter(|_| is_noted);
            let seen = seen.as_ref().filter(|seen| is_observed && !seen.incomplete);
            let ran = Ran {
                reason,
                began,
                times_full,
                micros,
                printed: &printed,
                as_always,
                seen,
                all_seen,
            };
            self.keep(id, now, &ran).map_err(Some)
        });
        self.note_kept(id, result.as_ref().map(|_| ()).map_err(Option::as_ref));
        let survived = refused.iter().flatten().filter(|_| result.is_ok());
        let survived = survived.filter(|refusal| refusal.is_of_workspace());
        let survived: Vec<Refusal> = survived.cloned().collect();
        let result = result.map_err(|failure| {
            let printed = (micros, &*printed);
            Some(self.look_closer(id, &now.tools, failure?, printed, refused))
        });
        self.discard_scratch(id);
        Performed {
            result,
            survived,
            micros,
            printed,
        }
    }

    /// Why a step may not run in a build that reaches no further than its options say.
    fn out_of_reach(&self, step: &Step) -> Option<Failure> {
        match self.options.reach {
            Outreach::Nothing if uses_network(step) || !step.services.is_empty() => {
                Some(Failure::NeedsBuild)
            }
            Outreach::NoNetwork if uses_network(step) && !self.is_at_hand(step) => {
                Some(Failure::Offline)
            }
            _ => None,
        }
    }

    /// What of a step's commands is recorded, and what for. `is_watched` says whether what they were
    /// refused is.
    fn wanted_record(&self, step: &Step, is_watched: bool) -> WantedRecord {
        // Where commands see more than they declare, what they use of it says nothing for another
        // time.
        let is_observed =
            step.observed && self.outside.records() && self.outside.sees_besides().is_none();
        let is_noted = self.options.notes_basis
            && self.outside.records()
            && !step.commands.is_empty()
            && step.root.is_none();
        // A step whose inputs are what it uses is recorded in each run, so that it sees the same in
        // each.
        let recording = Recording {
            only_workspace: !is_watched && !is_noted,
            hides_mounts: is_observed,
        };
        WantedRecord {
            is_observed,
            is_noted,
            recording,
        }
    }

    /// Whether a step that runs now is recorded: of each definition the first one that is new or
    /// changed, or that reads something that changed, such as its script. So its author learns what
    /// it was refused and went on without. A compiler is recorded for its definition only: it fails
    /// without a file that it needs, and the recorder makes the compilation of a small file 1.4
    /// times as long. Steps that use the network or services are not recorded.
    fn is_watched(&self, id: StepId, now: &Examined, reason: &Reason) -> bool {
        let step = self.graph.step(id);
        let before = self.before.steps.get(step.folder.as_str());
        let is_new = before.is_none_or(|memory| memory.command != now.parts.command);
        let compiles =
            !step.found.is_empty() || now.tools.iter().any(|tool| !tool.search.is_empty());
        let reads_other = !compiles
            && matches!(
                reason,
                Reason::InputChanged { .. } | Reason::InputAdded { .. }
            );
        let stays = !step.limits.network && step.services.is_empty();
        // Who answers several steps was started for another one: for a recorder it would have to be
        // started again for each.
        let answers = step
            .commands
            .iter()
            .flat_map(|pipeline| &pipeline.stages)
            .any(|stage| stage.answers);
        if !(is_new || reads_other)
            || !stays
            || answers
            || step.commands.is_empty()
            || !self.outside.records()
        {
            return false;
        }
        let mut watched = self.watched.lock();
        watched.len() < WATCHED
            && watched.insert((self.graph.owner(id).place.clone(), step.place.clone()))
    }

    /// Throws away what a step needs only while it runs.
    pub(crate) fn discard_scratch(&self, id: StepId) {
        let step = self.graph.step(id);
        let private = matches!(step.work, WorkFolder::Private { .. });
        if !step.scratch.is_empty() || !step.lists.is_empty() || private {
            self.outside.discard(&step.folder.child(".scratch"));
        }
    }

    /// Folders that must be there before the commands run, below the step's own.
    fn inner_folders(&self, id: StepId) -> Vec<String> {
        let step = self.graph.step(id);
        let mut inner = Vec::new();
        for output in &step.outputs {
            let path = self.graph.file(output.file);
            match (path.folder, output.name.rsplit_once('/')) {
                (true, _) => inner.push(output.name.to_string()),
                (false, Some((folder, _))) => inner.push(folder.to_owned()),
                (false, None) => {}
            }
        }
        if !step.lists.is_empty() {
            inner.push(".scratch".to_owned());
        }
        inner.extend(
            step.kept
                .iter()
                .filter_map(|kept| kept.below(&step.folder))
                .map(str::to_owned),
        );
        for path in step.found.iter().chain(&step.scratch) {
            if let Some((folder, _)) = path.below(&step.folder).and_then(|p| p.rsplit_once('/')) {
                inner.push(folder.to_owned());
            }
        }
        inner
    }

    /// Makes a step's folder again, with all that its commands find there.
    pub(crate) fn prepare(&self, id: StepId) -> Result<(), Option<Failure>> {
        let step = self.graph.step(id);
        let inner = self.inner_folders(id);
        let machine = |e: std::io::Error| Failure::Machine {
            problem: e.to_string(),
        };
        self.fresh_folder(id, &inner).map_err(machine)?;
        if let Some(native) = &step.native {
            let to = &self.graph.file(step.outputs[0].file).path;
            let work = match (&**native, self.open_root(id)?) {
                (Native::Find(finding), Some(root)) => Work::Find((*root).clone(), finding.clone()),
                _ => self.work_of(native),
            };
            self.outside.work(&work, to).map_err(Failure::of_native)?;
        }
        for list in &step.lists {
            let work = Work::write(&list.text);
            self.outside
                .work(&work, &list.path)
                .map_err(machine_failed)?;
        }
        if let WorkFolder::Private { at, copy_of } = &step.work {
            let work = Work::Copy(copy_of.map(|f| self.graph.file(f).path.clone()));
            self.outside.work(&work, at).map_err(machine_failed)?;
        }
        Ok(())
    }

    /// Runs a step's commands in its folder, made again; with `seen`, under a recorder. Gives
    /// whether they saw what they see in every run: a service may have another address than usual.
    /// `given` is called when others can have what the step gives early.
    pub(crate) fn run_commands(
        &self,
        id: StepId,
        tools: &[FoundTool],
        printed: &mut Vec<u8>,
        mut seen: Option<&mut Seen>,
        given: Option<&(dyn Fn() + Sync)>,
    ) -> Result<bool, Option<Failure>> {
        let step = self.graph.step(id);
        let (ended, as_always) = loop {
            self.prepare(id)?;
            let is_to_be_repeated = Cell::new(false);
            let came = self.while_giving_early(id, given, || {
                self.run_with_services(id, tools, printed, seen.as_deref_mut(), &is_to_be_repeated)
            });
            if !is_to_be_repeated.get() {
                break came?;
            }
            // Each time one program less is there that may break. Nothing stays of what it did.
            printed.clear();
            self.outside.discard(&step.folder);
        };
        if let Some(status) = step.status {
            let code = ended.unwrap_or(0);
            let work = Work::write(&format!("{code}\n"));
            let path = &self.graph.file(status).path;
            self.outside.work(&work, path).map_err(machine_failed)?;
        }
        if let Some(check) = &step.check {
            self.judge(check)?;
            let work = Work::write(PASSED);
            let path = &self.graph.file(check.verdict).path;
            self.outside.work(&work, path).map_err(machine_failed)?;
        }
        for (path, file) in &step.taken {
            let from = step.work.path().join_within(path);
            // What was not made shows when the outputs are taken.
            let _ = self
                .outside
                .work(&Work::Take(from), &self.graph.file(*file).path);
        }
        Ok(as_always)
    }

    /// Runs a step's commands while the services run that they need.
    fn run_with_services(
        &self,
        id: StepId,
        tools: &[FoundTool],
        printed: &mut Vec<u8>,
        seen: Option<&mut Seen>,
        is_to_be_repeated: &Cell<bool>,
    ) -> Result<(Option<i32>, bool), Option<Failure>> {
        let step = self.graph.step(id);
        if step.services.is_empty() {
            return Ok((
                self.run_pipelines(id, tools, printed, seen, None, is_to_be_repeated)?,
                true,
            ));
        }
        let lent = self
            .outside
            .lend(step.folder.as_str(), &step.services, step.limits.network);
        let lent = lent.map_err(|why| why.map(|why| Failure::Service(Box::new(why))))?;
        let as_always = lent.as_always;
        let mut ran = self.run_pipelines(id, tools, printed, seen, Some(&lent), is_to_be_repeated);
        let told = match self.outside.tells_secret(&step.folder, &lent) {
            Ok(told) => told.map(|(name, file)| Failure::ToldSecret { name, file }),
            Err(why) => {
                let problem = format!("what it made cannot be searched for secrets: {why}");
                Some(Failure::Machine { problem })
            }
        };
        if let Some(failure) = told {
            // Neither what it made nor what is left of it may stay.
            self.outside.discard(&step.folder);
            ran = Err(Some(failure));
        }
        let said = self.outside.give_back(lent);
        if let Err(Some(_)) = &ran {
            for (service, text) in said.iter().filter(|(_, text)| !text.is_empty()) {
                printed.extend_from_slice(format!("\n[{service} printed at the end]\n").as_bytes());
                printed.extend_from_slice(text);
            }
        }
        Ok((ran?, as_always))
    }

    /// Looks at the cases reported by a check whose commands ended well.
    fn judge(&self, check: &Check) -> Result<(), Failure> {
        let Some(report) = check.report else {
            return Ok(());
        };
        let path = &self.graph.file(report).path;
        // That it was not made is said where outputs are taken.
        if self.outside.check(&path.into()).is_none() {
            return Ok(());
        }
        match self.outside.judge(path) {
            Ok((0, _)) => Ok(()),
            Ok((failed, all)) => Err(Failure::Cases { failed, all }),
            Err(problem) => Err(Failure::BadReport {
                problem: problem.to_string(),
            }),
        }
    }

    /// What the tool does itself, by paths.
    fn work_of(&self, native: &Native) -> Work {
        Work::Native(native.with_files(|file| self.plain_file(*file)))
    }

    /// A file as the machine knows it.
    pub(crate) fn plain_file(&self, file: FileId) -> PlainFile {
        let node = self.graph.file(file);
        PlainFile {
            path: node.path.clone(),
            folder: node.folder,
        }
    }

    /// Runs a step's commands; gives the exit code of one that failed where that is a result.
    fn run_pipelines(
        &self,
        id: StepId,
        tools: &[FoundTool],
        printed: &mut Vec<u8>,
        seen: Option<&mut Seen>,
        lent: Option<&Lent>,
        is_to_be_repeated: &Cell<bool>,
    ) -> Result<Option<i32>, Option<Failure>> {
        let layer = self
            .graph
            .step(id)
            .changes
            .map(|layer| &self.graph.file(layer).path);
        self.with_root(id, layer, |root| {
            let ground = StepGround { root, tools, lent };
            self.run_pipelines_in(id, &ground, printed, seen, is_to_be_repeated)
        })
    }

    /// The same where all is there that they need.
    fn run_pipelines_in(
        &self,
        id: StepId,
        ground: &StepGround<'_>,
        printed: &mut Vec<u8>,
        mut seen: Option<&mut Seen>,
        is_to_be_repeated: &Cell<bool>,
    ) -> Result<Option<i32>, Option<Failure>> {
        let (StepGround { root, tools, lent }, step) = (*ground, self.graph.step(id));
        let readable = self.readable(id);
        let work = step.work.path();
        for pipeline in &step.commands {
            let mut stages = Vec::new();
            for stage in &pipeline.stages {
                let program = match &stage.program {
                    Program::File(file) => self.outside.locate(&self.graph.file(*file).path),
                    Program::Tool(tool) => match root {
                        Some(root) => self.program_in(id, root, &self.graph.tools[tool.index()])?,
                        None => self.tool(*tool).map_err(Failure::NoTool)?.path,
                    },
                };
                stages.push((program, stage));
            }
            let job = Job {
                lent,
                root,
                ..self.job(step, stages, &readable, tools, &work)
            };
            let recorded = seen.as_mut().and_then(|seen| {
                let (end, more) = self.outside.run_recorded(&job, printed, seen.recording)?;
                seen.add(more);
                Some(end)
            });
            if let (None, Some(seen)) = (&recorded, &mut seen) {
                seen.incomplete = true;
            }
            let end = recorded.unwrap_or_else(|| self.outside.run(&job, printed));
            is_to_be_repeated.set(is_to_be_repeated.get() || matches!(end, JobEnd::ToBeRepeated));
            if let Some(code) = status_of(end, step)? {
                // What an expected failure prints is its answer's business, not the reader's.
                printed.clear();
                return Ok(Some(code));
            }
        }
        Ok(None)
    }

    /// What a step's commands may read.
    pub(crate) fn readable(&self, id: StepId) -> Readables {
        let step = self.graph.step(id);
        let sets = step
            .candidates
            .iter()
            .map(|set| self.candidates(*set).readable.clone());
        let own: Vec<FileId> = step
            .inputs
            .iter()
            .copied()
            .filter(|file| Some(*file) != step.root)
            .collect();
        Readables {
            own: self.readable_files(&own),
            shared: sets.collect(),
        }
    }

    /// Files as commands may read them.
    pub(crate) fn readable_files(&self, files: &[FileId]) -> Vec<Readable> {
        let nodes = files.iter().map(|file| self.graph.file(*file));
        let readable = |node: &FileNode| Readable {
            path: node.path.clone(),
            folder: node.folder,
            made: node.maker.is_some(),
        };
        nodes.map(readable).collect()
    }

    pub(crate) fn job<'j>(
        &self,
        step: &'j Step,
        stages: Vec<(std::path::PathBuf, &'j Stage)>,
        readable: &'j Readables,
        tools: &'j [FoundTool],
        work: &'j WsPath,
    ) -> Job<'j> {
        let (folder, limits) = (&step.folder, step.limits);
        Job {
            stages,
            env: &step.env,
            folder,
            readable,
            tools,
            root: None,
            work,
            limits,
            lent: None,
        }
    }
}

impl Build<'_> {
    /// Whether what a step fetches is on this machine.
    fn is_at_hand(&self, step: &Step) -> bool {
        match step.native.as_deref() {
            Some(Native::Fetch { urls, digest, .. }) => self.outside.is_at_hand(urls, digest),
            _ => false,
        }
    }
}

/// Whether a step has the network, or fetches something.
fn uses_network(step: &Step) -> bool {
    step.limits.network || matches!(step.native.as_deref(), Some(Native::Fetch { .. }))
}
