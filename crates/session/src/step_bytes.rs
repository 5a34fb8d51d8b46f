//! A step and a target as bytes that stand alone: files by their paths, tools by their names. The same
//! step is the same bytes, whatever numbers its files have in a graph.

use std::sync::Arc;

use nubrik_graph::{
    ArchiveFormat, Check, FileId, FileNode, Graph, Limits, ListFile, Native, OutputNode, Pipeline, Place,
    Placement, Program, ResultFile, Role, SetId, Stage, Step, StepId, Target, TargetId, ToolId, WorkFolder,
};
use nubrik_source::WsPath;
use nubrik_store::{Decoder, Encoder, Truncated};
use rustc_hash::FxHashMap;

use crate::service_bytes::{decode_service, encode_service};

/// Writes a step without the target that it belongs to and the sets of its candidates, which many steps share.
pub(crate) fn encode_step(graph: &Graph, step: &Step, out: &mut Encoder) {
    let file = |out: &mut Encoder, id: &FileId| encode_file(graph, *id, out);
    out.text(step.folder.as_str());
    out.list(&step.outputs, |out, output| {
        file(out, &output.file);
        out.text(&output.name);
    });
    // By path: the order of numbers is that of evaluation.
    let mut inputs = step.inputs.clone();
    inputs.sort_by_key(|f| &graph.file(*f).path);
    out.list(&inputs, file);
    let mut tools: Vec<&Arc<str>> = step.tools.iter().map(|t| &graph.tools[t.0 as usize]).collect();
    tools.sort();
    out.list(&tools, |out, name| out.text(name));
    out.text(&step.say);
    out.list(&step.commands, |out, pipeline| {
        out.list(&pipeline.stages, |out, stage| encode_stage(graph, stage, out));
    });
    out.list(&step.env, |out, (name, value)| {
        out.text(name);
        out.text(value);
    });
    for list in [&step.found, &step.scratch] {
        out.list(list, |out, path| out.text(path.as_str()));
    }
    encode_native(graph, step.native.as_deref(), out);
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
            encode_option(copy_of.as_ref(), out, file);
        }
    }
    out.list(&step.taken, |out, (path, id)| {
        out.text(path);
        file(out, id);
    });
    encode_option(step.status.as_ref(), out, file);
    out.bool(step.limits.network);
    for limit in [&step.limits.timeout, &step.limits.memory] {
        encode_option(limit.as_ref(), out, |out, n| out.u64(*n));
    }
    out.u32(step.limits.processors);
    encode_option(step.check.as_ref(), out, |out, check| {
        encode_file(graph, check.verdict, out);
        encode_option(check.report.as_ref(), out, file);
        encode_option(check.quarantined.as_ref(), out, |out, why| out.text(why));
        out.text(&check.address);
    });
    out.list(&step.services, |out, service| encode_service(service, out));
    out.text(&step.variant);
    encode_place(&step.place, out);
}

fn encode_file(graph: &Graph, id: FileId, out: &mut Encoder) {
    let node = graph.file(id);
    out.text(node.path.as_str());
    out.bool(node.folder);
}

fn encode_option<T>(value: Option<&T>, out: &mut Encoder, write: impl Fn(&mut Encoder, &T)) {
    out.bool(value.is_some());
    if let Some(value) = value {
        write(out, value);
    }
}

fn encode_place(place: &Place, out: &mut Encoder) {
    out.text(&place.file);
    out.u32(place.line);
}

fn encode_stage(graph: &Graph, stage: &Stage, out: &mut Encoder) {
    match &stage.program {
        Program::Tool(tool) => {
            out.u8(0);
            out.text(&graph.tools[tool.0 as usize]);
        }
        Program::File(id) => {
            out.u8(1);
            encode_file(graph, *id, out);
        }
    }
    out.list(&stage.words, |out, word| out.text(word));
    for redirect in [&stage.stdin, &stage.stdout, &stage.stderr] {
        encode_option(redirect.as_ref(), out, |out, path| out.text(path.as_str()));
    }
}

fn encode_native(graph: &Graph, native: Option<&Native>, out: &mut Encoder) {
    let places = |out: &mut Encoder, files: &[Placement]| {
        out.list(files, |out, place| {
            out.text(&place.to);
            encode_file(graph, place.from, out);
        });
    };
    match native {
        None => out.u8(0),
        Some(Native::Write { text, executable }) => {
            out.u8(1);
            out.text(text);
            out.bool(*executable);
        }
        Some(Native::Stage { files }) => {
            out.u8(2);
            places(out, files);
        }
        Some(Native::Pack { format, files }) => {
            out.u8(3);
            out.text(format.name());
            places(out, files);
        }
        Some(Native::Unpack { archive, strip }) => {
            out.u8(4);
            encode_file(graph, *archive, out);
            out.u32(*strip);
        }
        Some(Native::Fetch { urls, digest, unpack, executable }) => {
            out.u8(5);
            out.list(urls, |out, url| out.text(url));
            out.text(digest);
            encode_option(unpack.as_ref(), out, |out, n| out.u32(*n));
            out.bool(*executable);
        }
    }
}

/// Writes a target with its results.
pub(crate) fn encode_target(graph: &Graph, target: &Target, out: &mut Encoder) {
    out.text(&target.address);
    out.text(target.package.as_str());
    out.text(&target.kind);
    out.text(&target.documentation);
    encode_place(&target.place, out);
    out.u8(match target.role {
        Role::Inner => 0,
        Role::Target => 1,
        Role::Test => 2,
        Role::Job => 3,
        Role::Service => 4,
    });
    out.bool(target.private);
    out.list(&target.tags, |out, tag| out.text(tag));
    out.list(&target.results, |out, result| {
        out.text(&result.address);
        encode_file(graph, result.file, out);
        out.text(result.publish.as_str());
    });
}

/// Puts a graph together from steps and targets that were read back.
#[derive(Default)]
pub(crate) struct Assembly {
    /// The graph so far.
    pub graph: Graph,
    files: FxHashMap<Arc<str>, FileId>,
    tools: FxHashMap<Arc<str>, ToolId>,
}

type Read<T> = Result<T, Truncated>;

impl Assembly {
    /// The number of the file at a path, entered on first use.
    pub fn file(&mut self, path: &str, folder: bool) -> FileId {
        if let Some(id) = self.files.get(path) {
            return *id;
        }
        let id = FileId(self.graph.files.len() as u32);
        let path = WsPath::from_normal(path);
        self.files.insert(path.shared().clone(), id);
        self.graph.files.push(FileNode { path, maker: None, folder });
        id
    }

    fn tool(&mut self, name: &str) -> ToolId {
        if let Some(id) = self.tools.get(name) {
            return *id;
        }
        let name: Arc<str> = name.into();
        let id = ToolId(self.graph.tools.len() as u32);
        self.graph.tools.push(name.clone());
        self.tools.insert(name, id);
        id
    }

    /// Adds a step of a target, with the sets of its candidates.
    pub fn step(&mut self, bytes: &[u8], target: TargetId, mut candidates: Vec<SetId>) -> Read<StepId> {
        let from = &mut Decoder::new(bytes);
        candidates.sort_unstable();
        let mut step = Step { target, candidates, ..Step::empty(path(from)?) };
        step.outputs = from.list(|from| Ok(OutputNode { file: self.read_file(from)?, name: text(from)? }))?;
        step.inputs = from.list(|from| self.read_file(from))?;
        step.inputs.sort_unstable();
        step.tools = from.list(|from| Ok(self.tool(from.text()?)))?;
        step.tools.sort_unstable();
        step.say = text(from)?;
        step.commands = from.list(|from| Ok(Pipeline { stages: from.list(|from| self.stage(from))? }))?;
        step.env = from.list(|from| Ok((text(from)?, text(from)?)))?;
        step.found = from.list(path)?;
        step.scratch = from.list(path)?;
        step.native = self.native(from)?.map(Box::new);
        step.lists = from.list(|from| Ok(ListFile { path: path(from)?, lines: from.list(text)? }))?;
        step.work = match from.u8()? {
            0 => WorkFolder::Root,
            1 => WorkFolder::Source(path(from)?),
            2 => WorkFolder::Private {
                at: path(from)?,
                copy_of: if from.bool()? { Some(self.read_file(from)?) } else { None },
            },
            _ => return Err(Truncated),
        };
        step.taken = from.list(|from| Ok((text(from)?, self.read_file(from)?)))?;
        step.status = if from.bool()? { Some(self.read_file(from)?) } else { None };
        step.limits = Limits {
            network: from.bool()?,
            timeout: if from.bool()? { Some(from.u64()?) } else { None },
            memory: if from.bool()? { Some(from.u64()?) } else { None },
            processors: from.u32()?,
        };
        step.check = match from.bool()? {
            false => None,
            true => Some(Box::new(Check {
                verdict: self.read_file(from)?,
                report: if from.bool()? { Some(self.read_file(from)?) } else { None },
                quarantined: if from.bool()? { Some(text(from)?) } else { None },
                address: text(from)?,
            })),
        };
        step.services = from.list(decode_service)?;
        step.variant = text(from)?;
        step.place = place(from)?;
        let id = StepId(self.graph.steps.len() as u32);
        for output in &step.outputs {
            self.graph.files[output.file.0 as usize].maker = Some(id);
        }
        self.graph.steps.push(Box::new(step));
        Ok(id)
    }

    /// Adds a target.
    pub fn target(&mut self, bytes: &[u8]) -> Read<TargetId> {
        let from = &mut Decoder::new(bytes);
        let target = Target {
            address: text(from)?,
            package: path(from)?,
            kind: text(from)?,
            documentation: text(from)?,
            place: place(from)?,
            role: match from.u8()? {
                0 => Role::Inner,
                1 => Role::Target,
                2 => Role::Test,
                3 => Role::Job,
                4 => Role::Service,
                _ => return Err(Truncated),
            },
            private: from.bool()?,
            tags: from.list(text)?,
            results: from.list(|from| {
                Ok(ResultFile { address: text(from)?, file: self.read_file(from)?, publish: path(from)? })
            })?,
        };
        self.graph.targets.push(target);
        Ok(TargetId(self.graph.targets.len() as u32 - 1))
    }

    fn read_file(&mut self, from: &mut Decoder<'_>) -> Read<FileId> {
        let path = from.text()?;
        Ok(self.file(path, from.bool()?))
    }

    fn stage(&mut self, from: &mut Decoder<'_>) -> Read<Stage> {
        let program = match from.u8()? {
            0 => Program::Tool(self.tool(from.text()?)),
            1 => Program::File(self.read_file(from)?),
            _ => return Err(Truncated),
        };
        let words = from.list(text)?;
        let mut redirect = || Ok(if from.bool()? { Some(path(from)?) } else { None });
        Ok(Stage { program, words, stdin: redirect()?, stdout: redirect()?, stderr: redirect()? })
    }

    fn native(&mut self, from: &mut Decoder<'_>) -> Read<Option<Native>> {
        Ok(Some(match from.u8()? {
            0 => return Ok(None),
            1 => Native::Write { text: text(from)?, executable: from.bool()? },
            2 => Native::Stage { files: self.places(from)? },
            3 => {
                let format = ArchiveFormat::named(from.text()?).ok_or(Truncated)?;
                Native::Pack { format, files: self.places(from)? }
            }
            4 => Native::Unpack { archive: self.read_file(from)?, strip: from.u32()? },
            5 => Native::Fetch {
                urls: from.list(text)?,
                digest: text(from)?,
                unpack: if from.bool()? { Some(from.u32()?) } else { None },
                executable: from.bool()?,
            },
            _ => return Err(Truncated),
        }))
    }

    fn places(&mut self, from: &mut Decoder<'_>) -> Read<Vec<Placement>> {
        from.list(|from| Ok(Placement { to: text(from)?, from: self.read_file(from)? }))
    }
}

fn text(from: &mut Decoder<'_>) -> Read<Arc<str>> {
    Ok(from.text()?.into())
}

fn path(from: &mut Decoder<'_>) -> Read<WsPath> {
    Ok(WsPath::from_normal(from.text()?))
}

fn place(from: &mut Decoder<'_>) -> Read<Place> {
    Ok(Place { file: text(from)?, line: from.u32()? })
}
