//! What identifies a step: a documented, versioned byte format (`docs/formats.md`).
//!
//! A mistake here is a wrong result without a message. Whatever can change what a step makes must
//! be in; nothing else may be: no times, no absolute paths of the workspace, no user, no order of a
//! hash map.

use std::sync::Arc;

use nubrik_graph::{
    FileId, Graph, Native, Placement, Program, Service, ServiceCommand, ServiceProgram, Serving, Step,
    WorkFolder,
};
use nubrik_store::{Digest, Encoder};

/// Version of the format, of the confinement's rules and of the environment that steps get. Any
/// change to one of them raises it.
pub const KEY_VERSION: u32 = 3;

/// The digests of what a step is made of, apart from one another so that a change can be named.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct KeyParts {
    /// Words, environment, names of outputs.
    pub command: Digest,
    /// Tools by name, with their identities.
    pub tools: Vec<(Arc<str>, Digest)>,
    /// Certain inputs by path, with their contents.
    pub inputs: Vec<(Arc<str>, Digest)>,
}

/// The digest of a step's words, environment and names.
pub(crate) fn command_digest(graph: &Graph, step: &Step) -> Digest {
    let mut out = Encoder::new();
    out.list(&step.commands, |out, pipeline| {
        out.list(&pipeline.stages, |out, stage| {
            match &stage.program {
                Program::Tool(tool) => {
                    out.u8(0);
                    out.text(&graph.tools[tool.0 as usize]);
                }
                Program::File(file) => {
                    out.u8(1);
                    out.text(graph.file(*file).path.as_str());
                }
            }
            out.list(&stage.words, |out, word| out.text(word));
            for redirect in [&stage.stdin, &stage.stdout, &stage.stderr] {
                out.text(redirect.as_ref().map_or("", |path| path.as_str()));
            }
        });
    });
    out.list(&step.env, |out, (name, value)| {
        out.text(name);
        out.text(value);
    });
    out.text(step.folder.as_str());
    out.list(&step.outputs, |out, output| {
        out.text(&output.name);
        out.bool(graph.file(output.file).folder);
    });
    out.list(&step.found, |out, path| out.text(path.as_str()));
    out.list(&step.scratch, |out, path| out.text(path.as_str()));
    native_part(graph, step, &mut out);
    out.list(&step.lists, |out, list| {
        out.text(list.path.as_str());
        out.list(&list.lines, |out, line| out.text(line));
    });
    match &step.work {
        WorkFolder::Root => out.u8(0),
        WorkFolder::Source(path) => {
            out.u8(1);
            out.text(path.as_str());
        }
        WorkFolder::Private { at, copy_of } => {
            out.u8(2);
            out.text(at.as_str());
            out.text(copy_of.map_or("", |f| graph.file(f).path.as_str()));
        }
    }
    out.list(&step.taken, |out, (path, file)| {
        out.text(path);
        out.text(graph.file(*file).path.as_str());
    });
    out.text(step.status.map_or("", |f| graph.file(f).path.as_str()));
    // The other limits decide whether there is a result, never which one.
    out.bool(step.limits.network);
    // A step without services has the bytes that it had before there were any.
    if !step.services.is_empty() {
        out.list(&step.services, |out, service| service_part(service, out));
    }
    Digest::of(&out.bytes)
}

/// What a service is. Where it is when it runs, how long it may take to be ready and how it is stopped decide
/// whether there is a result, never which one.
fn service_part(service: &Service, out: &mut Encoder) {
    let command = |out: &mut Encoder, command: &ServiceCommand| {
        out.list(command, |out, stage| {
            match &stage.program {
                ServiceProgram::Tool(name) => {
                    out.u8(0);
                    out.text(name);
                }
                ServiceProgram::File(path) => {
                    out.u8(1);
                    out.text(path.as_str());
                }
            }
            out.list(&stage.words, |out, word| out.text(word));
            for redirect in [&stage.stdin, &stage.stdout, &stage.stderr] {
                out.text(redirect.as_ref().map_or("", |path| path.as_str()));
            }
        });
    };
    out.text(service.folder.as_str());
    match &service.serving {
        Serving::Here { prepare, run, fill, shared, .. } => {
            out.u8(0);
            out.list(prepare, command);
            command(out, run);
            out.list(fill, command);
            out.bool(*shared);
        }
        Serving::Elsewhere { address, port } => {
            out.u8(1);
            out.text(address);
            out.text(port);
        }
    }
    out.list(&service.env, |out, (name, value)| {
        out.text(name);
        out.text(value);
    });
    out.list(&service.lists, |out, list| {
        out.text(list.path.as_str());
        out.list(&list.lines, |out, line| out.text(line));
    });
    out.list(&service.folders, |out, folder| out.text(folder));
    out.text(service.work.as_str());
    out.list(&service.needs, |out, need| service_part(need, out));
}

/// What the tool does itself.
fn native_part(graph: &Graph, step: &Step, out: &mut Encoder) {
    let placed = |out: &mut Encoder, files: &[Placement]| {
        out.list(files, |out, place| {
            out.text(&place.to);
            out.text(graph.file(place.from).path.as_str());
        });
    };
    match step.native.as_deref() {
        None => out.u8(0),
        Some(Native::Write { text, executable }) => {
            out.u8(1);
            out.text(text);
            out.bool(*executable);
        }
        Some(Native::Stage { files }) => {
            out.u8(2);
            placed(out, files);
        }
        Some(Native::Pack { format, files }) => {
            out.u8(3);
            out.text(format.name());
            placed(out, files);
        }
        Some(Native::Unpack { archive, strip }) => {
            out.u8(4);
            out.text(graph.file(*archive).path.as_str());
            out.u32(*strip);
        }
        // Where it comes from does not matter: its digest says what it is.
        Some(Native::Fetch { digest, unpack, executable, .. }) => {
            out.u8(5);
            out.text(digest);
            out.bool(unpack.is_some());
            out.u32(unpack.unwrap_or(0));
            out.bool(*executable);
        }
    }
}

/// The first part of a step's key: everything that is known before it runs.
pub(crate) fn first_key(parts: &KeyParts) -> Digest {
    let mut out = Encoder::new();
    out.text("nubrik step");
    out.u32(KEY_VERSION);
    out.text(std::env::consts::OS);
    out.text(std::env::consts::ARCH);
    out.digest(&parts.command);
    let pairs = |out: &mut Encoder, list: &[(Arc<str>, Digest)]| {
        out.list(list, |out, (name, digest)| {
            out.text(name);
            out.digest(digest);
        });
    };
    pairs(&mut out, &parts.tools);
    pairs(&mut out, &parts.inputs);
    Digest::of(&out.bytes)
}

/// The first part of a step's key from its digests; for tools and tests that compute keys apart
/// from a build. Inputs are in the order of the step, tools by name.
pub fn declared_key(
    graph: &Graph,
    step: &Step,
    tools: &[(Arc<str>, Digest)],
    inputs: &[(Arc<str>, Digest)],
) -> Digest {
    let command = command_digest(graph, step);
    first_key(&KeyParts { command, tools: tools.to_vec(), inputs: inputs.to_vec() })
}

/// The digest of the names of a step's candidates.
pub(crate) fn candidate_names(graph: &Graph, candidates: &[FileId]) -> Digest {
    let mut out = Encoder::new();
    let mut names: Vec<&str> = candidates.iter().map(|f| graph.file(*f).path.as_str()).collect();
    names.sort_unstable();
    out.list(&names, |out, name| out.text(name));
    Digest::of(&out.bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use nubrik_graph::{FileNode, OutputNode, Pipeline, Place, Stage, StepId, TargetId, ToolId};
    use nubrik_source::WsPath;

    fn graph() -> Graph {
        let mut graph = Graph::default();
        graph.tools.push("cc".into());
        let out = WsPath::from_normal(".nubrik/made/tide/@fit.o/fit.o");
        graph.files.push(FileNode { path: WsPath::from_normal("fit.c"), maker: None, folder: false });
        graph.files.push(FileNode { path: out, maker: Some(StepId(0)), folder: false });
        let words = ["cc", "-c", "fit.c"].map(Arc::from).to_vec();
        graph.steps.push(Box::new(Step {
            target: TargetId(0),
            say: "compile".into(),
            commands: vec![Pipeline {
                stages: vec![Stage {
                    program: Program::Tool(ToolId(0)),
                    words,
                    stdin: None,
                    stdout: None,
                    stderr: None,
                }],
            }],
            env: vec![("LANG".into(), "C".into())],
            folder: WsPath::from_normal(".nubrik/made/tide/@fit.o"),
            inputs: vec![FileId(0)],
            candidates: vec![],
            outputs: vec![OutputNode { file: FileId(1), name: "fit.o".into() }],
            found: vec![],
            scratch: vec![],
            tools: vec![ToolId(0)],
            place: Place { file: "targets.nub".into(), line: 1 },
            ..Step::empty(WsPath::root())
        }));
        graph
    }

    fn key(graph: &Graph) -> Digest {
        let tools = [("cc".into(), Digest::of(b"cc"))];
        declared_key(graph, &graph.steps[0], &tools, &[("fit.c".into(), Digest::of(b"int x;"))])
    }

    #[test]
    fn format_is_fixed() {
        // A change here makes every stored result a miss: raise KEY_VERSION, and describe it in
        // docs/formats.md.
        if (std::env::consts::OS, std::env::consts::ARCH) == ("linux", "x86_64") {
            assert_eq!(&key(&graph()).hex()[..16], "c09800650f7d8071");
        }
    }

    #[test]
    fn all_that_matters_is_in_and_nothing_else() {
        let plain = key(&graph());
        type Change = fn(&mut Step);
        let matters: [Change; 5] = [
            |s| s.commands[0].stages[0].words.push("-g".into()),
            |s| s.env[0].1 = "D".into(),
            |s| s.outputs[0].name = "fat.o".into(),
            |s| s.commands[0].stages[0].stdin = Some(WsPath::from_normal("x")),
            |s| s.folder = WsPath::from_normal(".nubrik/made/ebb/@fit.o"),
        ];
        for (i, change) in matters.iter().enumerate() {
            let mut graph = graph();
            change(&mut graph.steps[0]);
            assert_ne!(key(&graph), plain, "change {i}");
        }
        let not: [Change; 3] =
            [|s| s.say = "other".into(), |s| s.place.line = 99, |s| s.target = TargetId(7)];
        for (i, change) in not.iter().enumerate() {
            let mut graph = graph();
            change(&mut graph.steps[0]);
            assert_eq!(key(&graph), plain, "change {i}");
        }
    }
}
