//! Doing what jobs are for: commands in this terminal and this environment, not confined, never kept.

use std::collections::BTreeMap;
use std::io;
use std::path::PathBuf;

use nubrik_confine::{CancelSwitch, Capture, Ended, PipelineSpec, StageSpec};
use nubrik_engine::{Outside, ToolProblem};
use nubrik_graph::{Effect, Graph, Pipeline, Program, SECRET, Stage};

use crate::machine::Machine;
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
    /// All commands ended well, or the last one that ran ended with this code.
    Code(i32),
    /// It was interrupted.
    Interrupted,
}

impl Session {
    /// Does what a job is for, in this terminal. What it uses must have been built.
    ///
    /// # Errors
    /// When a secret, a tool or a program is not there.
    pub fn run_effect(
        &self,
        graph: &Graph,
        effect: &Effect,
        args: &[String],
    ) -> Result<EffectEnd, EffectProblem> {
        run(self.machine(), self.machine().cancel(), graph, effect, args)
    }
}

/// Does an effect, with more words behind its last command. What it uses must have been built.
fn run(
    machine: &Machine,
    cancel: &CancelSwitch,
    graph: &Graph,
    effect: &Effect,
    args: &[String],
) -> Result<EffectEnd, EffectProblem> {
    let environment = environment(machine, effect)?;
    let root = machine.root();
    let count = effect.step.commands.len();
    for (number, pipeline) in effect.step.commands.iter().enumerate() {
        let args = if number + 1 == count { args } else { &[] };
        let spec = PipelineSpec {
            stages: stages(machine, graph, pipeline, args)?,
            folder: root,
            work: &root.join(effect.step.work.path().as_str()),
            environment: &environment,
            rules: None,
            filter_network: false,
            timeout: None,
            memory: None,
            recorder: None,
            attached: true,
        };
        match nubrik_confine::run(&spec, &mut Capture::new(0), cancel) {
            Ended::Well => {}
            Ended::Code(code) => return Ok(EffectEnd::Code(code)),
            Ended::Signal(signal) if signal == SIGINT => return Ok(EffectEnd::Interrupted),
            Ended::Signal(signal) => return Ok(EffectEnd::Code(128 + signal)),
            Ended::Cancelled | Ended::TimedOut => return Ok(EffectEnd::Interrupted),
            Ended::NotStarted(program, problem) => return Err(EffectProblem::NotStarted(program, problem)),
        }
    }
    Ok(EffectEnd::Code(0))
}

/// The signal of an interrupt from the keyboard.
const SIGINT: i32 = 2;

/// The environment of the person who runs it, with the effect's own variables.
fn environment(machine: &Machine, effect: &Effect) -> Result<Vec<(String, String)>, EffectProblem> {
    let own = std::env::vars_os().filter_map(|(n, v)| Some((n.into_string().ok()?, v.into_string().ok()?)));
    let mut environment: BTreeMap<String, String> = own.collect();
    environment.insert("PWD".to_owned(), machine.root().display().to_string());
    for (name, value) in &effect.step.env {
        environment.insert(name.to_string(), revealed(value)?);
    }
    Ok(environment.into_iter().collect())
}

fn stages(
    machine: &Machine,
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
                let name = &graph.tools[tool.0 as usize];
                machine.tool(name).map_err(EffectProblem::NoTool)?.path
            }
        };
        let mut words = stage.words.iter().map(|w| revealed(w)).collect::<Result<Vec<_>, _>>()?;
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

/// A word with its secrets in place.
fn revealed(word: &str) -> Result<String, EffectProblem> {
    let mut out = String::new();
    for (i, part) in word.split(SECRET).enumerate() {
        match i % 2 {
            0 => out.push_str(part),
            _ => out.push_str(&std::env::var(part).map_err(|_| EffectProblem::NoSecret(part.to_owned()))?),
        }
    }
    Ok(out)
}
