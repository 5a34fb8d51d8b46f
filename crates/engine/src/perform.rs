//! Carrying out a decision: taking outputs from the store, or running a step's commands and keeping
//! what they made.

use std::sync::{Arc, PoisonError};
use std::time::Instant;

use nubrik_bytes::Digest;
use nubrik_graph::{Check, FileId, FileNode, Native, PlainFile, Program, Stage, Step, StepId, WorkFolder};
use nubrik_store::{FoundInput, OutputRecord, Record, RecordEntry, TreeEntry, TreeKind};

use crate::build::Build;
use crate::event::{Event, Failure, Notice, Refusal};
use crate::examine::{Examined, LINK, OTHER_ADDRESS};
use crate::files::coarseness;
use crate::found::{Listed, Surroundings, parse_listing};
use crate::outside::{
    CONSTANT_ROOT, FoundTool, Job, JobEnd, Lent, MadeThing, Readable, Readables, Seen, Signature,
    TreeFileKind, Work,
};
use crate::reason::Reason;
use crate::state::StepMemory;

/// What the verdict of a check that passed holds. There is no other: failures are not kept.
const PASSED: &str = "passed\n";

/// How many results with other found inputs are kept under one first key.
const RESULTS_PER_KEY: usize = 8;

/// How many definitions are watched in a build. Whoever builds more new ones at once has not just written them.
const WATCHED: usize = 50;

/// How the commands of a step ran that ended well.
struct Ran<'a> {
    reason: &'a Reason,
    /// Nanoseconds since 1970.
    began_at: i64,
    /// How often the disk had been seen full then.
    times_full: u64,
    micros: u64,
    printed: &'a [u8],
    /// Whether they saw what they see in every run.
    as_always: bool,
}

/// What became of running a step.
pub(crate) struct Performed {
    pub result: Result<StepMemory, Option<Failure>>,
    /// What of the workspace its commands were refused, where that was seen and they ended well.
    pub survived: Vec<Refusal>,
    pub micros: u64,
    pub printed: Vec<u8>,
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
        let step = self.graph.step(id);
        let mut places: Vec<(String, TreeKind)> = Vec::new();
        for (output, record) in step.outputs.iter().zip(&entry.outputs) {
            let path = self.graph.file(output.file).path.as_str();
            match record {
                OutputRecord::File { digest, executable } => {
                    let kind = TreeKind::File { digest: *digest, executable: *executable };
                    places.push((path.to_owned(), kind));
                }
                OutputRecord::Folder(entries) => {
                    places.extend(entries.iter().map(|e| (format!("{path}/{}", e.path), e.kind.clone())));
                }
            }
        }
        let mut inner = self.inner_folders(id);
        inner.extend(places.iter().filter_map(|(path, kind)| {
            let inside = path.strip_prefix(step.folder.as_str())?.trim_start_matches('/');
            match kind {
                TreeKind::EmptyFolder => Some(inside.to_owned()),
                _ => inside.rsplit_once('/').map(|(folder, _)| folder.to_owned()),
            }
        }));
        self.outside.fresh_folder(step.folder.as_str(), &inner).ok()?;
        store.used(&now.first_key);
        let mut signatures = Vec::new();
        for (path, kind) in places {
            let signature = match kind {
                TreeKind::EmptyFolder => Signature::of_empty_folder(),
                TreeKind::Link { target } => {
                    self.outside.make_link(&path, &target).ok()?;
                    self.outside.check_itself(&path)?.settled()
                }
                TreeKind::File { digest, executable } => {
                    match store.place(&digest, executable, &self.outside.locate(&path)) {
                        Ok(nubrik_store::Placed::Done) => self.outside.check_itself(&path)?.settled(),
                        Ok(nubrik_store::Placed::Damaged) => {
                            self.listener.hear(&Event::Notice(Notice::DamagedBlob));
                            return None;
                        }
                        Ok(nubrik_store::Placed::Missing) | Err(_) => return None,
                    }
                }
            };
            signatures.push(signature);
        }
        Some(self.memory_of(now, entry, signatures, reason))
    }

    /// Runs a step's commands and keeps what they made. No failure with a failed result: stopped.
    pub(crate) fn run_step(&self, id: StepId, now: &Examined, reason: &Reason) -> Performed {
        if !self.options.reaches_out && reaches_out(self.graph.step(id)) {
            let result = Err(Some(Failure::NeedsBuild));
            return Performed { result, survived: Vec::new(), micros: 0, printed: Vec::new() };
        }
        self.listener.hear(&Event::WillRun { step: id, reason: reason.clone() });
        let mut printed = Vec::new();
        let began = Instant::now();
        let began_at = self.outside.now();
        let times_full = self.outside.times_full();
        let mut seen = self.is_watched(id, now).then(Seen::default);
        let ran = self.run_commands(id, &now.tools, &mut printed, seen.as_mut());
        let complaint = ran.is_err().then_some(printed.as_slice());
        let refused = seen.as_ref().map(|seen| self.refusals(id, seen, complaint));
        let as_always = *ran.as_ref().unwrap_or(&true);
        let micros = began.elapsed().as_micros() as u64;
        let result = ran.and_then(|_| {
            let ran = Ran { reason, began_at, times_full, micros, printed: &printed, as_always };
            self.keep(id, now, &ran).map_err(Some)
        });
        let survived = match (&result, &refused) {
            (Ok(_), Some(refused)) => refused.iter().filter(|r| r.is_of_workspace()).cloned().collect(),
            _ => Vec::new(),
        };
        let result = result.map_err(|failure| {
            failure.map(|failure| self.look_closer(id, &now.tools, failure, (micros, &printed), refused))
        });
        self.discard_scratch(id);
        Performed { result, survived, micros, printed }
    }

    /// Whether a step that runs now is recorded: the first one of each definition that is new or changed, so that its author
    /// learns what it was refused and went on without. What goes out to the network or uses services is not.
    fn is_watched(&self, id: StepId, now: &Examined) -> bool {
        let step = self.graph.step(id);
        let before = self.before.steps.get(step.folder.as_str());
        let is_new = before.is_none_or(|memory| memory.command != now.parts.command);
        let stays = !step.limits.network && step.services.is_empty();
        if !is_new || !stays || step.commands.is_empty() || !self.outside.records() {
            return false;
        }
        let mut watched = self.watched.lock().unwrap_or_else(PoisonError::into_inner);
        watched.len() < WATCHED && watched.insert((self.graph.owner(id).place.clone(), step.place.clone()))
    }

    /// Throws away what a step needs only while it runs.
    pub(crate) fn discard_scratch(&self, id: StepId) {
        let step = self.graph.step(id);
        let private = matches!(step.work, WorkFolder::Private { .. });
        if !step.scratch.is_empty() || !step.lists.is_empty() || private {
            self.outside.discard(&format!("{}/.scratch", step.folder.as_str()));
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
        for path in step.found.iter().chain(&step.scratch) {
            if let Some((folder, _)) = path.below(&step.folder).and_then(|p| p.rsplit_once('/')) {
                inner.push(folder.to_owned());
            }
        }
        inner
    }

    /// Makes a step's folder anew, with all that its commands find there.
    pub(crate) fn prepare(&self, id: StepId) -> Result<(), Failure> {
        let step = self.graph.step(id);
        let inner = self.inner_folders(id);
        let machine = |e: std::io::Error| Failure::Machine { problem: e.to_string() };
        self.outside.fresh_folder(step.folder.as_str(), &inner).map_err(machine)?;
        if let Some(native) = &step.native {
            let to = self.graph.file(step.outputs[0].file).path.as_str();
            self.outside.work(&self.work_of(native), to).map_err(|problem| Failure::Native { problem })?;
        }
        for list in &step.lists {
            let text: String = list.lines.iter().map(|line| format!("{line}\n")).collect();
            let work = Work::write(&text);
            self.outside.work(&work, list.path.as_str()).map_err(|problem| Failure::Machine { problem })?;
        }
        if let WorkFolder::Private { at, copy_of } = &step.work {
            let work = Work::Copy(copy_of.map(|f| self.graph.file(f).path.shared().clone()));
            self.outside.work(&work, at.as_str()).map_err(|problem| Failure::Machine { problem })?;
        }
        Ok(())
    }

    /// Runs a step's commands in its folder, made anew; with `seen`, under a recorder. Gives whether they saw
    /// what they see in every run: a service may stand somewhere else than always.
    pub(crate) fn run_commands(
        &self,
        id: StepId,
        tools: &[FoundTool],
        printed: &mut Vec<u8>,
        seen: Option<&mut Seen>,
    ) -> Result<bool, Option<Failure>> {
        self.prepare(id)?;
        let step = self.graph.step(id);
        let (ended, as_always) = self.run_with_services(id, tools, printed, seen)?;
        if let Some(status) = step.status {
            let code = ended.unwrap_or(0);
            let work = Work::write(&format!("{code}\n"));
            let path = self.graph.file(status).path.as_str();
            self.outside.work(&work, path).map_err(|problem| Failure::Machine { problem })?;
        }
        if let Some(check) = &step.check {
            self.judge(check)?;
            let work = Work::write(PASSED);
            let path = self.graph.file(check.verdict).path.as_str();
            self.outside.work(&work, path).map_err(|problem| Failure::Machine { problem })?;
        }
        for (path, file) in &step.taken {
            let from: Arc<str> = format!("{}/{path}", step.work.path().as_str()).into();
            // What was not made shows when the outputs are taken.
            let _ = self.outside.work(&Work::Take(from), self.graph.file(*file).path.as_str());
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
    ) -> Result<(Option<i32>, bool), Option<Failure>> {
        let step = self.graph.step(id);
        if step.services.is_empty() {
            return Ok((self.run_pipelines(id, tools, printed, seen, None)?, true));
        }
        let lent = self.outside.lend(step.folder.as_str(), &step.services, step.limits.network);
        let lent = lent.map_err(|why| why.map(|why| Failure::Service(Box::new(why))))?;
        let as_always = lent.as_always;
        let mut ran = self.run_pipelines(id, tools, printed, seen, Some(&lent));
        let told = match self.outside.tells_secret(step.folder.as_str(), &lent) {
            Ok(told) => told.map(|(name, file)| Failure::ToldSecret { name, file }),
            Err(why) => {
                let problem = format!("what it made cannot be searched for secrets: {why}");
                Some(Failure::Machine { problem })
            }
        };
        if let Some(failure) = told {
            // Neither what it made nor what is left of it may stay.
            self.outside.discard(step.folder.as_str());
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

    /// Looks at the cases that a check whose commands ended well tells of.
    fn judge(&self, check: &Check) -> Result<(), Failure> {
        let Some(report) = check.report else { return Ok(()) };
        let path = self.graph.file(report).path.as_str();
        // That it was not made is said where outputs are taken.
        if self.outside.check(path).is_none() {
            return Ok(());
        }
        match self.outside.judge(path) {
            Ok((0, _)) => Ok(()),
            Ok((failed, all)) => Err(Failure::Cases { failed, all }),
            Err(problem) => Err(Failure::BadReport { problem }),
        }
    }

    /// What the tool does itself, by paths.
    fn work_of(&self, native: &Native) -> Work {
        Work::Native(native.with_files(|file| {
            let node = self.graph.file(*file);
            PlainFile { path: node.path.shared().clone(), folder: node.folder }
        }))
    }

    /// Runs a step's commands; gives the exit code of one that failed where that is a result.
    fn run_pipelines(
        &self,
        id: StepId,
        tools: &[FoundTool],
        printed: &mut Vec<u8>,
        mut seen: Option<&mut Seen>,
        lent: Option<&Lent>,
    ) -> Result<Option<i32>, Option<Failure>> {
        let step = self.graph.step(id);
        let readable = self.readable(id);
        let work = step.work.path();
        for pipeline in &step.commands {
            let mut stages = Vec::new();
            for stage in &pipeline.stages {
                let program = match &stage.program {
                    Program::File(file) => self.outside.locate(self.graph.file(*file).path.as_str()),
                    Program::Tool(tool) => self.tool(*tool).map_err(Failure::NoTool)?.path,
                };
                stages.push((program, stage));
            }
            let job = Job { lent, ..self.job(step, stages, &readable, tools, work.as_str()) };
            let recorded = seen.as_mut().and_then(|seen| {
                let (end, more) = self.outside.run_recorded(&job, printed)?;
                seen.add(more);
                Some(end)
            });
            match recorded.unwrap_or_else(|| self.outside.run(&job, printed)) {
                JobEnd::Well => {}
                JobEnd::Cancelled => return Err(None),
                JobEnd::Disturbed(path) => {
                    return Err(Some(Failure::InputMoved { path: path.into() }));
                }
                JobEnd::Code(code) if step.status.is_some() => {
                    // What an expected failure prints is its answer's business, not the reader's.
                    printed.clear();
                    return Ok(Some(code));
                }
                JobEnd::Signal(signal) if step.status.is_some() => {
                    printed.clear();
                    return Ok(Some(128 + signal));
                }
                JobEnd::TimedOut => {
                    let limit = step.limits.timeout.unwrap_or(0);
                    return Err(Some(Failure::TimedOut { limit }));
                }
                JobEnd::Code(code) => return Err(Some(Failure::Code(code))),
                JobEnd::Signal(signal) => return Err(Some(Failure::Signal(signal))),
                JobEnd::NotStarted(program, problem) => {
                    let program = program.display().to_string();
                    return Err(Some(Failure::NotStarted { program, problem: problem.to_string() }));
                }
            }
        }
        Ok(None)
    }

    /// What a step's commands may read.
    pub(crate) fn readable(&self, id: StepId) -> Readables {
        let step = self.graph.step(id);
        let sets = step.candidates.iter().map(|set| self.candidates(*set).readable.clone());
        Readables { own: self.readable_files(&step.inputs), shared: sets.collect() }
    }

    /// Files as commands may read them.
    pub(crate) fn readable_files(&self, files: &[FileId]) -> Vec<Readable> {
        let nodes = files.iter().map(|file| self.graph.file(*file));
        let readable = |node: &FileNode| Readable {
            path: node.path.shared().clone(),
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
        work: &'j str,
    ) -> Job<'j> {
        let (folder, limits) = (step.folder.as_str(), step.limits);
        Job { stages, env: &step.env, folder, readable, tools, work, limits, lent: None }
    }

    /// Takes note of what the commands made and read, and keeps it in the store.
    fn keep(&self, id: StepId, now: &Examined, ran: &Ran<'_>) -> Result<StepMemory, Failure> {
        let Ran { reason, began_at, times_full, micros, printed, as_always } = *ran;
        let step = self.graph.step(id);
        // Commands that do not look whether they could write end well with half of their output. There may be room again.
        if self.outside.times_full() != times_full {
            self.outside.discard(step.folder.as_str());
            return Err(Failure::NoRoom);
        }
        let found = self.found_inputs(id, began_at)?;
        for (path, _) in &now.parts.inputs {
            self.must_be_unmoved(path, None)?;
        }
        self.made_inputs_in_place(id).map_err(|path| Failure::InputMoved { path })?;
        let (outputs, signatures) = self.take_outputs(id)?;
        let found_paths: Vec<Arc<str>> = found.iter().map(|f| f.path.clone()).collect();
        let passed_over = match step.found.is_empty() {
            true => Vec::new(),
            false => self.passed_over(id, &found_paths, &now.tools),
        };
        let entry = RecordEntry {
            found,
            candidate_names: now.names,
            passed_over,
            outputs,
            printed: printed.to_vec(),
            micros,
        };
        let mut memory = self.memory_of(now, &entry, signatures, reason);
        if !as_always {
            memory.first_key = Digest::of(OTHER_ADDRESS);
        }
        let is_kept = as_always && !step.services.iter().any(|s| s.is_elsewhere());
        if let Some(store) = self.store.filter(|_| is_kept) {
            let mut record = match step.found.is_empty() {
                true => Record::default(),
                false => store.record(&now.first_key).unwrap_or_default(),
            };
            record
                .entries
                .retain(|other| other.found != entry.found || other.passed_over != entry.passed_over);
            record.entries.insert(0, entry);
            record.entries.truncate(RESULTS_PER_KEY);
            if let Err(e) = store.keep_record(&now.first_key, &record) {
                self.store_failed(&e);
            }
        }
        Ok(memory)
    }

    fn store_failed(&self, error: &nubrik_store::StoreError) {
        if !self.store_reported.swap(true, std::sync::atomic::Ordering::Relaxed) {
            self.listener.hear(&Event::Notice(Notice::StoreUnusable(error.to_string())));
        }
    }

    /// Refuses the result when a source changed while the commands ran.
    fn must_be_unmoved(&self, path: &Arc<str>, began_at: Option<i64>) -> Result<(), Failure> {
        let is_made =
            self.files_by_path.get(path.as_ref()).is_some_and(|f| self.graph.file(*f).maker.is_some());
        // Made files are held against what is remembered of their steps, those of the system against what they are when
        // they are looked at next.
        if is_made || path.starts_with('/') {
            return Ok(());
        }
        let moved = Failure::InputMoved { path: path.clone() };
        let Ok(Some(entry)) = self.table.entry(self.outside, path) else { return Err(moved) };
        let found = self.outside.check(path);
        // A file read for the first time after the commands may have been another one for them. A time in the future is
        // that of another clock, or of this one before it was set back: a change of today has one of today.
        let now = self.outside.now();
        let is_new = |time: i64, began: i64| time + coarseness(&entry.signature) >= began && time <= now;
        let too_new = began_at
            .is_some_and(|t| is_new(entry.signature.touched, t) || is_new(entry.signature.changed, t));
        if found != Some(entry.signature) || too_new {
            self.table.look_again(path);
            return Err(moved);
        }
        Ok(())
    }

    /// The files that the commands listed, with their contents; refuses undeclared ones.
    fn found_inputs(&self, id: StepId, began_at: i64) -> Result<Vec<FoundInput>, Failure> {
        let step = self.graph.step(id);
        if step.found.is_empty() {
            return Ok(Vec::new());
        }
        let own = format!("{}/", step.folder.as_str());
        let mut found = Vec::new();
        for listed in self.listed_files(id)? {
            let path: Arc<str> = match listed {
                Listed::Inside(path) if path.starts_with(&own) => continue,
                Listed::Inside(path) => {
                    if !self.is_declared(id, &path) {
                        if self.outside.check(&path).is_none() {
                            continue; // A name that the command tried.
                        }
                        let target = self.maker_of(&path);
                        return Err(Failure::Undeclared { path, target });
                    }
                    let path: Arc<str> = path.into();
                    if self.folder_around(&path).is_none() {
                        self.must_be_unmoved(&path, Some(began_at))?;
                    }
                    for (link, text) in self.outside.links_to(&path) {
                        let digest = Digest::of(text.as_bytes());
                        found.push(FoundInput { path: format!("{LINK}{link}").into(), digest });
                    }
                    path
                }
                Listed::System(path) => path.into(),
            };
            if let Some(digest) = self.listed_content(&path) {
                found.push(FoundInput { path, digest });
            }
        }
        // They are looked for by their paths.
        found.sort_by(|a, b| a.path.cmp(&b.path));
        found.dedup_by(|a, b| a.path == b.path);
        Ok(found)
    }

    /// What a step's listings name. A listing of which nothing is there is of another folder than the step's: what the
    /// commands read cannot be known from it.
    fn listed_files(&self, id: StepId) -> Result<Vec<Listed>, Failure> {
        let step = self.graph.step(id);
        let root = self.outside.locate("").display().to_string();
        let mut all = Vec::new();
        for listing in &step.found {
            let name = listing.below(&step.folder).unwrap_or(listing.name()).to_owned();
            let bytes =
                self.outside.read(listing.as_str()).map_err(|_| Failure::NoListing { name: name.clone() })?;
            let text = String::from_utf8_lossy(&bytes);
            let roots = [root.trim_end_matches('/'), CONSTANT_ROOT];
            let work = step.work.path();
            let around = Surroundings {
                roots: &roots,
                work: work.as_str(),
                follow: &|path| self.outside.followed(path),
                exists: &|path| self.outside.check(path).is_some(),
            };
            let listed = parse_listing(&text, &around);
            let mut inside = listed.iter().filter_map(|file| match file {
                Listed::Inside(path) => Some(path.as_str()),
                Listed::System(_) => None,
            });
            if let Some(first) = inside.clone().next()
                && inside.all(|path| self.outside.check(path).is_none())
            {
                return Err(Failure::StrangeListing { name, first: first.to_owned() });
            }
            all.extend(listed);
        }
        all.sort();
        all.dedup();
        Ok(all)
    }

    /// Hashes the outputs and gives them to the store.
    pub(crate) fn take_outputs(&self, id: StepId) -> Result<(Vec<OutputRecord>, Vec<Signature>), Failure> {
        let step = self.graph.step(id);
        let (mut outputs, mut signatures) = (Vec::new(), Vec::new());
        for output in &step.outputs {
            let node = self.graph.file(output.file);
            let path = node.path.as_str();
            let odd = |below: &str, what: &str| Failure::OddOutput {
                name: if below.is_empty() {
                    output.name.to_string()
                } else {
                    format!("{}/{below}", output.name)
                },
                what: what.to_owned(),
            };
            let signature = match self.outside.look_at_made(path, step.folder.as_str()) {
                MadeThing::There(signature) if signature.is_folder() == node.folder => signature,
                MadeThing::Odd(what) => return Err(odd("", &what)),
                MadeThing::There(_) | MadeThing::Nothing => {
                    let instead = self.made_instead(id);
                    return Err(Failure::NoOutput { name: output.name.clone(), instead });
                }
            };
            if !node.folder {
                let (digest, signature) = self.take_file(path, &signature)?;
                outputs.push(OutputRecord::File { digest, executable: signature.is_executable() });
                signatures.push(signature);
                continue;
            }
            let mut entries = Vec::new();
            for file in self.outside.tree(path).map_err(|e| Failure::Machine { problem: e.to_string() })? {
                let (kind, signature) = match file.kind {
                    TreeFileKind::Odd(what) => return Err(odd(&file.path, what)),
                    TreeFileKind::EmptyFolder => (TreeKind::EmptyFolder, file.signature),
                    TreeFileKind::Link(target) => (TreeKind::Link { target }, file.signature.settled()),
                    TreeFileKind::File => {
                        let path = format!("{path}/{}", file.path);
                        let (digest, signature) = self.take_file(&path, &file.signature)?;
                        (TreeKind::File { digest, executable: signature.is_executable() }, signature)
                    }
                };
                entries.push(TreeEntry { path: file.path.into(), kind });
                signatures.push(signature);
            }
            outputs.push(OutputRecord::Folder(entries));
        }
        Ok((outputs, signatures))
    }

    fn take_file(
        &self,
        path: &str,
        signature: &Signature,
    ) -> Result<(nubrik_bytes::Digest, Signature), Failure> {
        let machine = |e: std::io::Error| Failure::Machine { problem: format!("{path}: {e}") };
        let digest = self.outside.digest(path).map_err(machine)?;
        let Some(store) = self.store else { return Ok((digest, signature.settled())) };
        if let Err(e) = store.keep_file(&self.outside.locate(path), &digest, signature.is_executable()) {
            self.store_failed(&e);
        }
        // Keeping it changed its mode and its number of links.
        Ok((digest, self.outside.check_itself(path).unwrap_or(*signature).settled()))
    }

    /// Files that the commands made in the step's folder without declaring them.
    fn made_instead(&self, id: StepId) -> Vec<String> {
        let step = self.graph.step(id);
        let declared = |path: &str| {
            let whole = format!("{}/{path}", step.folder.as_str());
            step.found.iter().any(|f| f.as_str() == whole) || step.outputs.iter().any(|o| *o.name == *path)
        };
        let tree = self.outside.tree(step.folder.as_str()).unwrap_or_default();
        let made = tree.into_iter().map(|f| f.path).filter(|p| !p.starts_with(".scratch/"));
        made.filter(|p| !declared(p)).take(5).collect()
    }
}

/// Whether a step has the network, fetches something, or starts services, which may have the network where the machine
/// offers no other.
fn reaches_out(step: &Step) -> bool {
    step.limits.network
        || !step.services.is_empty()
        || matches!(step.native.as_deref(), Some(Native::Fetch { .. }))
}
