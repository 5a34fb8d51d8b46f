//! Doing what jobs are for: commands in this terminal and this environment, not confined, never kept.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};

use nubrik_confine::{CancelSwitch, Capture, Confinement, Ended, PipelineSpec, StageSpec};
use nubrik_engine::{Lent, Outside, ServiceFailure, ToolProblem};
use nubrik_graph::{Effect, Graph, Mark, Pipeline, Program, Service, Stage, unmarked};

use crate::machine::Machine;
use crate::services::Loan;
use crate::session::Session;

/// Why an effect could not be done.
#[derive(Debug)]
pub enum EffectProblem {
    /// A secret's variable is not set.
    NoSecret(String),
    /// A tool is not on this machine.
    NoTool(ToolProblem),
    /// A program cannot be started.
    NotStarted(PathBuf, io::Error),
}

/// How an effect ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum EffectEnd {
    /// All commands ended well.
    Well,
    /// A command ended with another code than 0; those behind it did not run.
    Failed {
        /// Which one, from 0 on.
        command: usize,
        /// Its code; for one that a signal ended, the signal and 128.
        code: i32,
    },
    /// It was interrupted.
    Interrupted,
}

/// How many bytes of what commands print are kept, where they are.
const PRINTED: usize = 1 << 20;

impl Session {
    /// Makes services ready for somebody who sees this machine's network: `user` tells this use from others.
    /// What they print is told to `echo`, too. What they use must have been built.
    ///
    /// # Errors
    /// Why one of them is not there; `None` when everything is being stopped.
    pub fn lend(
        &self,
        user: &str,
        services: &[std::sync::Arc<Service>],
        echo: Option<fn(&[u8])>,
    ) -> Result<Lent, Option<ServiceFailure>> {
        nubrik_confine::become_reaper();
        self.machine().house().lend(self.machine(), user, services, true, echo)
    }

    /// Whether somebody asked for everything to stop.
    pub fn is_cancelled(&self) -> bool {
        self.machine().is_cancelled()
    }

    /// Where lent services are: each one's address and its host and port.
    pub fn places(&self, lent: &Lent) -> Vec<(std::sync::Arc<str>, String)> {
        self.machine().house().loan(lent).map(|loan| loan.places()).unwrap_or_default()
    }

    /// How a lent service ended that runs here, if one has: its address, how, and what it printed at the end.
    pub fn ended(&self, lent: &Lent) -> Option<(std::sync::Arc<str>, String, Vec<u8>)> {
        self.machine().house().loan(lent)?.ended()
    }

    /// Takes services back, and stops them. Gives those that did not stop as they should.
    pub fn give_back(&self, lent: Lent) -> Vec<nubrik_engine::ServiceFailure> {
        self.machine().house().give_back(&lent);
        let unstopped = self.machine().house().close();
        nubrik_confine::end_orphans();
        unstopped
    }

    /// Does what a job is for, in this terminal, with the services that it was lent. What it uses must have been
    /// built. With `printed` its commands have no terminal, and what they print is added there.
    ///
    /// # Errors
    /// When a secret, a tool or a program is not there.
    pub fn run_effect(
        &self,
        graph: &Graph,
        effect: &Effect,
        args: &[String],
        lent: Option<&Lent>,
        printed: Option<&mut Vec<u8>>,
    ) -> Result<EffectEnd, EffectProblem> {
        let loan = lent.and_then(|lent| self.machine().house().loan(lent));
        run(self.machine(), loan.as_deref(), graph, effect, args, printed)
    }
}

/// Does an effect, with more words behind its last command. What it uses must have been built.
fn run(
    machine: &Machine,
    loan: Option<&Loan>,
    graph: &Graph,
    effect: &Effect,
    args: &[String],
    printed: Option<&mut Vec<u8>>,
) -> Result<EffectEnd, EffectProblem> {
    let mut capture = Capture::new(printed.as_ref().map_or(0, |_| PRINTED));
    let ended = run_all(machine, loan, graph, effect, args, (&mut capture, printed.is_none()));
    if let Some(printed) = printed {
        printed.extend_from_slice(&capture.bytes);
    }
    ended
}

fn run_all(
    machine: &Machine,
    loan: Option<&Loan>,
    graph: &Graph,
    effect: &Effect,
    args: &[String],
    (capture, attached): (&mut Capture, bool),
) -> Result<EffectEnd, EffectProblem> {
    let cancel: &CancelSwitch = machine.cancel();
    let root = machine.root();
    let work = root.join(effect.step.work.path().as_str());
    let environment = environment(&work, loan, effect)?;
    let count = effect.step.commands.len();
    for (number, pipeline) in effect.step.commands.iter().enumerate() {
        let args = if number + 1 == count { args } else { &[] };
        let spec = PipelineSpec {
            stages: stages(machine, loan, graph, pipeline, args)?,
            folder: root,
            work: &work,
            environment: &environment,
            confinement: Confinement::Free,
            timeout: None,
            memory: None,
            recorder: None,
            attached,
        };
        let failed = |code| Ok(EffectEnd::Failed { command: number, code });
        match nubrik_confine::run(&spec, capture, cancel) {
            Ended::Well => {}
            Ended::Code(code) => return failed(code),
            Ended::Signal(signal) if signal == SIGINT => return Ok(EffectEnd::Interrupted),
            Ended::Signal(signal) => return failed(128 + signal),
            Ended::Cancelled | Ended::TimedOut => return Ok(EffectEnd::Interrupted),
            Ended::NotStarted(program, problem) => return Err(EffectProblem::NotStarted(program, problem)),
        }
    }
    Ok(EffectEnd::Well)
}

/// The signal of an interrupt from the keyboard.
const SIGINT: i32 = 2;

/// The environment of the person who runs it, with the effect's own variables.
fn environment(
    work: &Path,
    loan: Option<&Loan>,
    effect: &Effect,
) -> Result<Vec<(String, String)>, EffectProblem> {
    let own = std::env::vars_os().filter_map(|(n, v)| Some((n.into_string().ok()?, v.into_string().ok()?)));
    let mut environment: BTreeMap<String, String> = own.collect();
    environment.insert("PWD".to_owned(), work.display().to_string());
    for (name, value) in &effect.step.env {
        environment.insert(name.to_string(), revealed(value, loan)?);
    }
    Ok(environment.into_iter().collect())
}

fn stages(
    machine: &Machine,
    loan: Option<&Loan>,
    graph: &Graph,
    pipeline: &Pipeline,
    args: &[String],
) -> Result<Vec<StageSpec>, EffectProblem> {
    let last = pipeline.stages.len() - 1;
    let mut stages = Vec::new();
    for (i, stage) in pipeline.stages.iter().enumerate() {
        let program = match &stage.program {
            Program::File(file) => machine.root().join(graph.file(*file).path.as_str()),
            Program::Tool(tool) => {
                let name = &graph.tools[tool.index()];
                machine.tool(name).map_err(EffectProblem::NoTool)?.path
            }
        };
        let mut words = stage.words.iter().map(|w| revealed(w, loan)).collect::<Result<Vec<_>, _>>()?;
        if i == last && !args.is_empty() {
            if is_shell(stage) {
                // A shell takes the first word behind its script as its own name.
                words.push("sh".to_owned());
            }
            words.extend(args.iter().cloned());
        }
        let path = |p: &Option<nubrik_source::WsPath>| p.as_ref().map(|p| PathBuf::from(p.as_str()));
        stages.push(StageSpec {
            program,
            words,
            stdin: path(&stage.stdin),
            stdout: path(&stage.stdout),
            stderr: path(&stage.stderr),
        });
    }
    Ok(stages)
}

/// Whether a stage is a script between backticks, for a shell.
fn is_shell(stage: &Stage) -> bool {
    let words: Vec<&str> = stage.words.iter().map(|w| &**w).collect();
    matches!(words.as_slice(), ["sh", "-eu", "-c", _])
}

/// A word with secrets and the places of services in it.
fn revealed(word: &str, loan: Option<&Loan>) -> Result<String, EffectProblem> {
    unmarked(word, |mark| match mark {
        Mark::Secret(name) => std::env::var(name).map_err(|_| EffectProblem::NoSecret(name.to_owned())),
        mark => Ok(loan.map(|loan| loan.told(mark)).unwrap_or_default()),
    })
}
