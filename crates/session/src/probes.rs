//! Probes: cheap commands whose answers definitions read, run whenever a request reaches them. They may
//! read whatever their starter may, write nothing, and use no network.

use std::io::Read;
use std::os::fd::AsRawFd;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use nubrik_confine::{Access, Capture, Ended, PipelineSpec, RuleSet, StageSpec};
use nubrik_lang::{AnswerText, ProbeCommand, ProbeProgram, ProbeRequest};
use nubrik_source::WsPath;
use nubrik_store::{Decoder, Digest, Encoder, Truncated};

use crate::machine::Machine;

/// How much of an answer is read, in bytes.
const ANSWER_LIMIT: usize = 4 << 20;

/// How long a probe may take when it does not say.
const PATIENCE: Duration = Duration::from_secs(60);

/// What a probe answers, or why it could not run.
pub(crate) fn answer(machine: &Machine, request: &ProbeRequest) -> Result<AnswerText, String> {
    let rules = RuleSet::new(machine.system()).map_err(|e| e.to_string())?;
    rules.allow(std::path::Path::new("/"), Access::Read).map_err(|e| e.to_string())?;
    let mut environment: Vec<(String, String)> = Vec::new();
    for (name, value) in [("LANG", "C.UTF-8"), ("LC_ALL", "C.UTF-8"), ("TZ", "UTC")] {
        environment.push((name.to_owned(), value.to_owned()));
    }
    for name in ["PATH", "HOME", "USER"] {
        environment.extend(std::env::var(name).ok().map(|value| (name.to_owned(), value)));
    }
    for (name, value) in &request.env {
        environment.retain(|(n, _)| **n != **name);
        environment.push((name.to_string(), value.to_string()));
    }
    let mut capture = Capture::new(ANSWER_LIMIT);
    for stages in &request.commands {
        let errors =
            rustix::fs::memfd_create("errors", rustix::fs::MemfdFlags::CLOEXEC).map_err(|e| e.to_string())?;
        let errors_path = PathBuf::from(format!("/proc/self/fd/{}", errors.as_raw_fd()));
        let mut specs = Vec::new();
        for stage in stages {
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
            specs.push(StageSpec {
                program,
                words,
                stdin: None,
                stdout: None,
                stderr: Some(errors_path.clone()),
            });
        }
        let spec = PipelineSpec {
            stages: specs,
            folder: machine.root(),
            work: machine.root(),
            environment: &environment,
            rules: Some(&rules),
            filter_network: machine.filters_network(),
            apart: None,
            timeout: Some(request.timeout.map_or(PATIENCE, Duration::from_millis)),
            memory: None,
            recorder: None,
            attached: false,
        };
        let said = || {
            let mut text = String::new();
            let mut file = std::fs::File::open(&errors_path).map_err(|e| e.to_string())?;
            file.read_to_string(&mut text).map_err(|e| e.to_string())?;
            Ok::<_, String>(text)
        };
        match nubrik_confine::run(&spec, &mut capture, machine.cancel()) {
            Ended::Well => {}
            Ended::Code(_) | Ended::Signal(_) => {
                return Ok(AnswerText { ok: false, text: said().unwrap_or_default().into() });
            }
            Ended::TimedOut => return Err("it took too long".to_owned()),
            Ended::Cancelled => return Err("it was stopped".to_owned()),
            Ended::NotStarted(program, e) => return Err(format!("cannot start {}: {e}", program.display())),
        }
    }
    if capture.cut > 0 {
        return Err(format!("its answer has more than {} MiB", ANSWER_LIMIT >> 20));
    }
    match String::from_utf8(capture.bytes) {
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
