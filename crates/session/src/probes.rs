//! Probes: cheap commands whose answers definitions read, run whenever a request reaches them. They may
//! read whatever their starter may, write nothing, and use no network.

use std::sync::Arc;
use std::time::Duration;

use nubrik_bytes::{Decoder, Digest, Encoder, Truncated};
use nubrik_confine::{Ended, StageSpec};
use nubrik_lang::{AnswerText, ProbeCommand, ProbeProgram, ProbeRequest};
use nubrik_source::WsPath;

use crate::looking::{Question, variables};
use crate::machine::Machine;

/// How much of an answer is read, in bytes.
const ANSWER_LIMIT: usize = 4 << 20;

/// How long a probe may take when it does not say.
const PATIENCE: Duration = Duration::from_secs(60);

/// What a probe answers, or why it could not run.
pub(crate) fn answer(machine: &Machine, request: &ProbeRequest) -> Result<AnswerText, String> {
    let mut environment = variables(&["PATH", "HOME", "USER"]);
    for (name, value) in &request.env {
        environment.retain(|(n, _)| **n != **name);
        environment.push((name.to_string(), value.to_string()));
    }
    let mut output: Vec<u8> = Vec::new();
    for commands in &request.commands {
        let mut stages = Vec::new();
        for stage in commands {
            let program = match &stage.program {
                ProbeProgram::Tool(name) => {
                    machine
                        .tools
                        .find(machine, name)
                        .map_err(|_| format!("the machine has no tool `{name}`"))?
                        .path
                }
                ProbeProgram::File(path) => machine.root().join(path.as_str()),
            };
            let words = stage.words.iter().map(|w| w.to_string()).collect();
            stages.push(StageSpec { program, words, stdin: None, stdout: None, stderr: None });
        }
        let question = Question {
            stages,
            environment: &environment,
            patience: request.timeout.map_or(PATIENCE, Duration::from_millis),
            limit: ANSWER_LIMIT.saturating_sub(output.len()),
        };
        let looked = machine.look(question).map_err(|e| e.to_string())?;
        match looked.ended {
            Ended::Well => {}
            Ended::Code(_) | Ended::Signal(_) => {
                let said = String::from_utf8_lossy(&looked.errors).into();
                return Ok(AnswerText { ok: false, text: said });
            }
            Ended::TimedOut => return Err("it took too long".to_owned()),
            Ended::Cancelled => return Err("it was stopped".to_owned()),
            Ended::NotStarted(program, e) => return Err(format!("cannot start {}: {e}", program.display())),
        }
        if looked.is_cut {
            return Err(format!("its answer has more than {} MiB", ANSWER_LIMIT >> 20));
        }
        output.extend(looked.output);
    }
    match String::from_utf8(output) {
        Ok(text) => Ok(AnswerText { ok: true, text: text.into() }),
        Err(_) => Err("its answer is not UTF-8 text".to_owned()),
    }
}

/// A digest of an answer.
pub(crate) fn digest_of(answer: &Result<AnswerText, String>) -> Digest {
    let mut out = Encoder::new();
    match answer {
        Ok(answer) => {
            out.u8(if answer.ok { 0 } else { 1 });
            // What a failure says is for messages only.
            out.text(if answer.ok { &answer.text } else { "" });
        }
        Err(_) => out.u8(2),
    }
    Digest::of(&out.bytes)
}

pub(crate) fn encode(request: &ProbeRequest, out: &mut Encoder) {
    out.list(&request.commands, |out, stages| {
        out.list(stages, |out, stage| {
            match &stage.program {
                ProbeProgram::Tool(name) => {
                    out.u8(0);
                    out.text(name);
                }
                ProbeProgram::File(path) => {
                    out.u8(1);
                    out.text(path.as_str());
                }
            }
            out.list(&stage.words, |out, word| out.text(word));
        });
    });
    out.list(&request.env, |out, (name, value)| {
        out.text(name);
        out.text(value);
    });
    out.u64(request.timeout.unwrap_or(0));
}

pub(crate) fn decode(from: &mut Decoder<'_>) -> Result<ProbeRequest, Truncated> {
    let commands = from.list(|from| {
        from.list(|from| {
            let kind = from.u8()?;
            let name = from.text()?;
            let program = match kind {
                0 => ProbeProgram::Tool(name.into()),
                _ => ProbeProgram::File(WsPath::from_normal(name)),
            };
            let words = from.list(|from| Ok(Arc::from(from.text()?)))?;
            Ok(ProbeCommand { program, words })
        })
    })?;
    let env = from.list(|from| Ok((Arc::from(from.text()?), Arc::from(from.text()?))))?;
    let timeout = from.u64()?;
    Ok(ProbeRequest { commands, env, timeout: (timeout > 0).then_some(timeout) })
}
