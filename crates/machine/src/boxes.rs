//! Running jobs: what surrounds a step's commands, what they hear, and what they leave.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use nubrik_confine::{Capture, Ended, PipelineSpec, Recorder, StageSpec};
use nubrik_engine::{Job, JobEnd, Named, OpenRoot, Readables, Recording, Seen};
use nubrik_source::WsPath;
use parking_lot::Mutex;

use crate::ground::{CommandNeeds, Enclosure, Environment, Grants, Ground, Net, Whom, named};
use crate::machine::Machine;
use crate::search_path::called_by;
use crate::services::Loan;

/// How much of what a step prints is kept, in bytes.
const PRINTED_LIMIT: usize = 1 << 20;

/// How much of what one of its commands prints is kept at least, in bytes.
const PRINTED_LEAST: usize = 64 << 10;

/// How long the answer of a program may be that is asked once, in bytes.
const LONGEST_ANSWER: usize = 64 << 20;

/// Steps that left processes running, which were ended: how many, by the step's folder.
#[derive(Default)]
pub(crate) struct LeftRunning {
    counts: Mutex<BTreeMap<String, usize>>,
}

impl LeftRunning {
    pub fn note(&self, folder: &str, count: usize) {
        if count > 0 {
            let mut counts = self.counts.lock();
            *counts.entry(folder.to_owned()).or_default() += count;
        }
    }

    /// What was noted since it was asked last.
    pub fn take(&self) -> BTreeMap<String, usize> {
        std::mem::take(&mut *self.counts.lock())
    }
}

impl Machine {
    pub(crate) fn wanted<'a>(
        job: &'a Job<'_>,
        loan: Option<&Loan>,
        whom: Whom,
    ) -> CommandNeeds<'a> {
        // Of its services, where it sees an image itself.
        let tools = job.tools.iter().filter(|_| job.root.is_none());
        let parts = tools.flat_map(|tool| &tool.parts);
        CommandNeeds {
            whom,
            readable: job.readable,
            parts: parts.map(|part| &**part).collect(),
            own: job.folder.as_str(),
            work: job.work.as_str(),
            network: job.limits.network || loan.is_some_and(Loan::is_in_machines_network),
            root: job.root,
        }
    }

    /// A job's processes as they are started in an enclosure.
    fn stages_in(
        &self,
        enclosure: &Enclosure,
        job: &Job<'_>,
        loan: Option<&Loan>,
    ) -> Vec<StageSpec> {
        let answers = job.stages.iter().any(|(_, stage)| stage.answers);
        let path =
            |p: &Option<nubrik_source::WsPath>| p.as_ref().map(|p| PathBuf::from(p.as_str()));
        let stages = job.stages.iter().map(|(program, stage)| StageSpec {
            program: enclosure.seen(program, self.root()),
            words: match loan {
                Some(loan) => called_by(program, &unmarked(loan, &stage.words)),
                None => called_by(program, &stage.words),
            },
            stdin: path(&stage.stdin),
            // Its answer says what is to be there.
            stdout: path(&stage.stdout).filter(|_| !answers),
            stderr: path(&stage.stderr),
        });
        stages.collect()
    }

    /// Has all that a job prints kept in a file, where it is more than what is kept with its
    /// result.
    fn with_all_kept(&self, job: &Job<'_>, printed: &[u8]) -> Capture {
        let capture = capture_after(printed);
        if !self.keeps_whole_output {
            return capture;
        }
        let (root, folder) = (self.root().to_owned(), job.folder.as_str());
        let mut title = folder
            .strip_prefix(".nubrik/made/")
            .unwrap_or(folder)
            .to_owned();
        // Each command of a step has a file of its own.
        if !printed.is_empty() {
            title.push_str(&format!(" after {}", printed.len()));
        }
        capture.with_all_in(Box::new(move || {
            nubrik_disk::file_for_printed(&root, &title)
        }))
    }

    /// Runs a job's processes, confined, to their end.
    pub(crate) fn run_in_box(
        &self,
        job: &Job<'_>,
        printed: &mut Vec<u8>,
        recorder: Option<&Recorder<'_>>,
    ) -> JobEnd {
        self.note_start();
        let loan = job.lent.and_then(|lent| self.house().loan(lent));
        // Who is recorded is started for that, and answers only this one.
        if recorder.is_none()
            && let Some(ended) = self.asked(job, printed)
        {
            return ended;
        }
        let answers = job.stages.iter().any(|(_, stage)| stage.answers);
        let enclosure = match self.enclose(&Machine::wanted(job, loan.as_deref(), Whom::Step)) {
            Ok(enclosure) => enclosure,
            Err(problem) => {
                return JobEnd::NotStarted(self.root().join(job.folder.as_str()), problem);
            }
        };
        let environment = environment(job, &enclosure, loan.as_deref());
        let stages = self.stages_in(&enclosure, job, loan.as_deref());
        let work = enclosure.root().join(job.work.as_str());
        let ground =
            Ground::in_enclosure(&enclosure, &work, &environment, net(job, loan.as_deref()));
        let spec = PipelineSpec {
            timeout: job.limits.timeout.map(Duration::from_millis),
            memory: job.limits.memory,
            recorder,
            ..ground.spec(stages)
        };
        let mut capture = self.capture_of(job, answers, loan.is_some(), printed);
        let ended = nubrik_confine::run(&spec, &mut capture, self.cancel());
        drop(spec);
        // What it left running ends before anyone looks at what it made.
        let left = enclosure.close(self);
        self.note_left_running(job.folder.as_str(), left.running);
        let (said, answer) = capture.take_words_and_answer();
        printed.extend_from_slice(&match &loan {
            Some(loan) => loan.without_secrets(said),
            None => said,
        });
        match (ended, left.disturbed) {
            (Ended::Cancelled, _) => JobEnd::Cancelled,
            (_, Some(folder)) => JobEnd::Disturbed(folder),
            (Ended::Well, _) => match answer {
                Some(answer) => self.answer(job, answer.trim_ascii_end(), printed),
                None => JobEnd::Well,
            },
            (Ended::Code(code), _) => JobEnd::Code(code),
            (Ended::Signal(signal), _) => JobEnd::Signal(signal),
            (Ended::TimedOut, _) => JobEnd::TimedOut,
            (Ended::NotStarted(program, problem), _) => JobEnd::NotStarted(program, problem),
        }
    }

    /// What takes the output of a job's processes.
    fn capture_of(&self, job: &Job<'_>, answers: bool, is_lent: bool, printed: &[u8]) -> Capture {
        match answers {
            true => Capture::with_errors_apart(LONGEST_ANSWER),
            // What is lent may be secret, and would be in the file as it is.
            false if is_lent => capture_after(printed),
            false => self.with_all_kept(job, printed),
        }
    }

    /// Asks a program that stays, if the job asks one, and one can stay.
    fn asked(&self, job: &Job<'_>, printed: &mut Vec<u8>) -> Option<JobEnd> {
        let asked = self
            .request(job)?
            .and_then(|request| self.ask_resident(job, &request, printed));
        let refused = |problem| JobEnd::NotStarted(self.root().join(job.folder.as_str()), problem);
        asked.map_err(refused).unwrap_or_else(Some)
    }

    /// What a program of an image prints on both streams, where it ends well; nothing otherwise.
    ///
    /// # Errors
    /// When it cannot be confined, or takes too long.
    pub(crate) fn ask_in_image(
        &self,
        root: &OpenRoot,
        folder: &WsPath,
        stage: StageSpec,
        patience: Duration,
    ) -> io::Result<String> {
        let readable = Readables::default();
        let wanted = CommandNeeds {
            whom: Whom::Step,
            readable: &readable,
            parts: Vec::new(),
            own: folder.as_str(),
            work: "",
            network: false,
            root: Some(root),
        };
        let enclosure = self.enclose(&wanted)?;
        let environment = enclosure.environment("");
        let work = enclosure.root().to_owned();
        let ground = Ground::in_enclosure(&enclosure, &work, &environment, Net::Nowhere);
        let spec = PipelineSpec {
            timeout: Some(patience),
            ..ground.spec(vec![stage])
        };
        let mut capture = Capture::new(PRINTED_LIMIT);
        let ended = nubrik_confine::run(&spec, &mut capture, self.cancel());
        drop(spec);
        enclosure.close(self);
        match ended {
            Ended::Well => Ok(String::from_utf8_lossy(&capture.bytes).into_owned()),
            Ended::Code(_) | Ended::Signal(_) => Ok(String::new()),
            Ended::NotStarted(_, why) => Err(why),
            Ended::Cancelled => Err(io::Error::other("it was stopped")),
            Ended::TimedOut => Err(io::Error::other(format!(
                "it said nothing for {} seconds",
                patience.as_secs()
            ))),
        }
    }

    /// Runs a program in a job's box, in this terminal: same folder, environment and confinement.
    ///
    /// # Errors
    /// When it cannot be confined or started.
    pub fn attach(
        &self,
        job: &Job<'_>,
        program: &Path,
        words: &[&str],
        prompt: &str,
    ) -> io::Result<i32> {
        let loan = job.lent.and_then(|lent| self.house().loan(lent));
        let enclosure = self.enclose(&Machine::wanted(job, loan.as_deref(), Whom::Person))?;
        let mut environment = environment(job, &enclosure, loan.as_deref());
        environment.set("PS1", prompt);
        environment.set(
            "TERM",
            std::env::var("TERM").unwrap_or_else(|_| "dumb".to_owned()),
        );
        let words = words.iter().map(|w| (*w).to_owned()).collect();
        let stage = StageSpec {
            program: program.to_owned(),
            words,
            stdin: None,
            stdout: None,
            stderr: None,
        };
        let work = enclosure.root().join(job.work.as_str());
        let ground =
            Ground::in_enclosure(&enclosure, &work, &environment, net(job, loan.as_deref()));
        let spec = PipelineSpec {
            memory: job.limits.memory,
            attached: true,
            ..ground.spec(vec![stage])
        };
        let ended = nubrik_confine::run(&spec, &mut Capture::new(0), self.cancel());
        drop(spec);
        enclosure.close(self);
        Ok(match ended {
            Ended::Well => 0,
            Ended::Code(code) => code,
            Ended::Signal(signal) => 128 + signal,
            Ended::Cancelled | Ended::TimedOut => 130,
            Ended::NotStarted(_, problem) => return Err(problem),
        })
    }

    /// Runs a job whose undeclared files are hidden from it by a supervisor.
    pub(crate) fn run_hiding(&self, job: &Job<'_>, printed: &mut Vec<u8>) -> JobEnd {
        let grants = Grants::of(self, job);
        let hidden = |path: &Path| grants.hide(path);
        self.run_in_box(job, printed, Some(&Recorder::new().hiding(&hidden)))
    }

    /// Runs a job, and tells what its processes did.
    pub(crate) fn run_with_recorder(
        &self,
        job: &Job<'_>,
        printed: &mut Vec<u8>,
        Recording {
            only_workspace,
            hides_mounts,
        }: Recording,
    ) -> (JobEnd, Seen) {
        let grants = Grants::of(self, job);
        let hidden = |path: &Path| grants.hide(path);
        let mut recorder = Recorder::new();
        if self.has_sandboxes() {
            recorder = recorder.in_sandbox(self.root());
            recorder = if only_workspace {
                recorder.only_in_workspace()
            } else {
                recorder
            };
            recorder = if hides_mounts {
                recorder.hiding_mounts()
            } else {
                recorder
            };
        } else if self.hides_undeclared() {
            recorder = recorder.hiding(&hidden);
        }
        let ended = self.run_in_box(job, printed, Some(&recorder));
        let touched = recorder
            .touched()
            .into_iter()
            .map(|touched| grants.judge(touched))
            .collect();
        let wanted_network = recorder.wanted_network();
        let written = recorder.written();
        let named: Vec<Named> = written.iter().filter_map(named).collect();
        let lacks_named = named.len() < written.len();
        let incomplete = recorder.is_unclear();
        let mut seen = Seen {
            touched,
            named,
            wanted_network,
            incomplete,
            lacks_named,
            ..Seen::default()
        };
        seen.touched.sort_by(|a, b| a.path.cmp(&b.path));
        (ended, seen)
    }
}

/// Keeps the ends of what the next command of a step prints, of which something was printed before:
/// it has a part of its own, however much that was.
pub(crate) fn capture_after(printed: &[u8]) -> Capture {
    Capture::of_ends(
        PRINTED_LIMIT
            .saturating_sub(printed.len())
            .max(PRINTED_LEAST),
    )
}

/// The words that the first process of a job is started with.
pub(crate) fn words_of(job: &Job<'_>) -> Vec<String> {
    job.stages
        .first()
        .map(|(program, stage)| called_by(program, &stage.words))
        .unwrap_or_default()
}

/// The network of a job.
fn net<'a>(job: &Job<'_>, loan: Option<&'a Loan>) -> Net<'a> {
    match loan {
        Some(loan) => Net::Services(loan.net()),
        None if job.limits.network => Net::Machine,
        None => Net::Nowhere,
    }
}

/// All variables that a job's processes see.
pub(crate) fn environment(
    job: &Job<'_>,
    enclosure: &Enclosure,
    loan: Option<&Loan>,
) -> Environment {
    let mut environment = enclosure.environment(job.work.as_str());
    for (name, value) in job.env {
        environment.set(
            name,
            loan.map_or_else(|| value.to_string(), |loan| loan.unmarked(value)),
        );
    }
    environment
}

/// Words with the places of services in their marks.
fn unmarked(loan: &Loan, words: &[Arc<str>]) -> Vec<Arc<str>> {
    words
        .iter()
        .map(|word| loan.unmarked(word).into())
        .collect()
}
