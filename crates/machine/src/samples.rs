//! Samples: cheap commands whose answers definitions read, run whenever a request reaches them.
//! They may read whatever their starter may, write nothing, and use no network.

use std::time::Duration;

use nubrik_confine::{Ended, StageSpec};
use nubrik_engine::{OutsideSystem, is_cut_off, is_own_end};
use nubrik_lang::{AnswerText, NoAnswer, SampleCommand, SampleProgram, SampleRequest};

use crate::asking::passes;
use crate::ground::{Environment, LookingScope, Question};
use crate::machine::Machine;

/// How much of an answer is read, in bytes.
const ANSWER_LIMIT: usize = 4 << 20;

/// How long a sample may take when it does not say.
const PATIENCE: Duration = Duration::from_secs(60);

impl Machine {
    /// A process of a sample.
    fn sample_stage(&self, stage: &SampleCommand) -> Result<StageSpec, NoAnswer> {
        let program = match &stage.program {
            SampleProgram::Tool(name) => {
                let missing = |_| NoAnswer {
                    why: format!("the machine has no tool `{name}`"),
                    is_lasting: true,
                };
                self.tool(name).map_err(missing)?.path
            }
            SampleProgram::File(path) => self.root().join(path.as_str()),
        };
        let words = stage.words.iter().map(|w| w.to_string()).collect();
        Ok(StageSpec {
            program,
            words,
            stdin: None,
            stdout: None,
            stderr: None,
        })
    }

    /// What a sample answers.
    ///
    /// # Errors
    /// Why it could not run.
    pub fn answer_sample(&self, request: &SampleRequest) -> Result<AnswerText, NoAnswer> {
        let mut environment = Environment::handed_on(&["PATH", "HOME", "USER"]);
        for (name, value) in &request.env {
            environment.set(name, &**value);
        }
        let mut output: Vec<u8> = Vec::new();
        for commands in &request.commands {
            let stages = commands.iter().map(|stage| self.sample_stage(stage));
            let stages = stages.collect::<Result<Vec<StageSpec>, NoAnswer>>()?;
            let question = question_of(request, stages, &environment, output.len());
            let looked = self.look(question).map_err(|e| cut_off(e.to_string()))?;
            if looked.is_cut {
                let most = ANSWER_LIMIT >> 20;
                return Err(cut_off(format!("its answer has more than {most} MiB")));
            }
            output.extend(looked.output);
            match looked.ended {
                Ended::Well => {}
                Ended::Code(code) if is_cut_off(code) => {
                    let signal = code - 128;
                    return Err(cut_off(format!(
                        "a program of it was ended by signal {signal}"
                    )));
                }
                Ended::Signal(signal) if !is_own_end(signal) => {
                    return Err(cut_off(format!("it was ended by signal {signal}")));
                }
                Ended::Code(_) | Ended::Signal(_) => {
                    return Ok(AnswerText {
                        ok: false,
                        text: String::from_utf8_lossy(&output).into(),
                        errors: String::from_utf8_lossy(&looked.errors).into(),
                    });
                }
                Ended::TimedOut => return Err(cut_off("it took too long".to_owned())),
                Ended::Cancelled => return Err(cut_off("it was stopped".to_owned())),
                Ended::NotStarted(program, e) => {
                    return Err(NoAnswer {
                        why: format!("cannot start {}: {e}", program.display()),
                        is_lasting: !passes(&e),
                    });
                }
            }
        }
        match String::from_utf8(output) {
            Ok(text) => Ok(AnswerText {
                ok: true,
                text: text.into(),
                errors: "".into(),
            }),
            Err(_) => Err(NoAnswer {
                why: "its answer is not UTF-8 text".to_owned(),
                is_lasting: true,
            }),
        }
    }
}

/// What is asked of the commands of a sample, which have printed so many bytes up to now.
fn question_of<'q>(
    request: &SampleRequest,
    stages: Vec<StageSpec>,
    environment: &'q Environment,
    printed: usize,
) -> Question<'q> {
    Question {
        stages,
        environment,
        reads: LookingScope::Everything,
        patience: request.timeout.map_or(PATIENCE, Duration::from_millis),
        limit: ANSWER_LIMIT.saturating_sub(printed),
        as_one: false,
        noted_by: None,
    }
}

/// No answer now; there may be one another time.
fn cut_off(why: String) -> NoAnswer {
    NoAnswer {
        why,
        is_lasting: false,
    }
}
