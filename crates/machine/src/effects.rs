//! Doing what jobs are for: commands in this terminal and this environment, not confined, never
//! kept.

use std::io;
use std::path::{Path, PathBuf};

use nubrik_confine::{CancelSwitch, Capture, Ended, PipelineSpec, StageSpec};
use nubrik_engine::{Lent, OutsideSystem, ToolProblem};
use nubrik_graph::{Effect, Graph, Mark, Pipeline, Program, Stage, unmarked};

use crate::ground::{Environment, Ground};
use crate::machine::Machine;
use crate::services::Loan;

/// Why an effect could not be done.
#[derive(Debug)]
pub enum EffectProblem {
    /// A secret's variable is not set.
    NoSecret(String),
    /// A tool is not on this machine.
    NoTool(ToolProblem),
    /// A program cannot be started.
    NotStarted(PathBuf, io::Error),
    /// A file of arguments cannot be written.
    NotWritten(PathBuf, io::Error),
}

/// How an effect ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum EffectEnd {
    /// All commands ended well.
    Well,
    /// A command ended with another code than 0; those after it did not run.
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

impl Machine {
    /// Does what a job is for, in this terminal, with the services that it was lent. What it uses
    /// must have been built.
    /// With `printed` its commands have no terminal, and what they print is added there.
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
        let loan = lent.and_then(|lent| self.house().loan(lent));
        run(self, loan.as_deref(), graph, effect, args, printed)
    }
}

/// Does an effect, with more words after its last command. What it uses must have been built.
fn run(
    machine: &Machine,
    loan: Option<&Loan>,
    graph: &Graph,
    effect: &Effect,
    args: &[String],
    printed: Option<&mut Vec<u8>>,
) -> Result<EffectEnd, EffectProblem> {
    let mut capture = Capture::new(printed.as_ref().map_or(0, |_| PRINTED));
    let ended = run_all(
        machine,
        loan,
        graph,
        effect,
        args,
        (&mut capture, printed.is_none()),
    );
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
    let work = effect
        .step
        .work
        .below_root()
        .map_or(root.to_owned(), |work| root.join(work.as_str()));
    let environment = environment(&work, loan, effect)?;
    // They stay: the same job may run twice at once, with the same files.
    for list in &effect.step.lists {
        let written = machine
            .below()
            .write_whole(list.path.as_str(), list.text.as_bytes());
        written.map_err(|e| EffectProblem::NotWritten(root.join(list.path.as_str()), e))?;
    }
    let count = effect.step.commands.len();
    for (number, pipeline) in effect.step.commands.iter().enumerate() {
        let args = if number + 1 == count { args } else { &[] };
        let ground = Ground::of_person(root, &work, &environment);
        let stages = stages(machine, loan, graph, pipeline, args)?;
        let spec = PipelineSpec {
            attached,
            ..ground.spec(stages)
        };
        let failed = |code| {
            Ok(EffectEnd::Failed {
                command: number,
                code,
            })
        };
        match nubrik_confine::run(&spec, capture, cancel) {
            Ended::Well => {}
            Ended::Code(code) => return failed(code),
            Ended::Signal(signal) if signal == SIGINT => return Ok(EffectEnd::Interrupted),
            Ended::Signal(signal) => return failed(128 + signal),
            Ended::Cancelled | Ended::TimedOut => return Ok(EffectEnd::Interrupted),
            Ended::NotStarted(program, problem) => {
                return Err(EffectProblem::NotStarted(program, problem));
            }
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
) -> Result<Environment, EffectProblem> {
    let mut environment = Environment::of_person();
    environment.set("PWD", work.display().to_string());
    for (name, value) in &effect.step.env {
        environment.set(name, revealed(value, loan)?);
    }
    Ok(environment)
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
                match own_program().filter(|_| &**name == OWN_NAME) {
                    Some(own) => own,
                    None => machine.tool(name).map_err(EffectProblem::NoTool)?.path,
                }
            }
        };
        let mut words = stage
            .words
            .iter()
            .map(|w| revealed(w, loan))
            .collect::<Result<Vec<_>, _>>()?;
        if i == last && !args.is_empty() {
            if is_shell(stage) {
                // A shell takes the first word after its script as its own name.
                words.push("sh".to_owned());
            }
            words.extend(args.iter().cloned());
        }
        let path =
            |p: &Option<nubrik_source::WsPath>| p.as_ref().map(|p| PathBuf::from(p.as_str()));
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

/// What this program is called in commands of jobs.
const OWN_NAME: &str = "nubrik";

/// This program: a job that names it means the one that runs the job, whatever is on the search
/// path.
fn own_program() -> Option<PathBuf> {
    std::env::current_exe().ok().filter(|path| path.is_file())
}

/// Whether a stage is a script between backticks, for a shell.
fn is_shell(stage: &Stage) -> bool {
    let words: Vec<&str> = stage.words.iter().map(|w| &**w).collect();
    matches!(words.as_slice(), ["sh", "-eu", "-c", _])
}

/// A word with secrets and the places of services in it.
fn revealed(word: &str, loan: Option<&Loan>) -> Result<String, EffectProblem> {
    unmarked(word, |mark| match mark {
        Mark::Secret(name) => {
            std::env::var(name).map_err(|_| EffectProblem::NoSecret(name.to_owned()))
        }
        mark => Ok(loan.map(|loan| loan.told(mark)).unwrap_or_default()),
    })
}
