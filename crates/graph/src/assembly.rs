//! A graph put together from steps and targets that were written whole, in any order and from any graph.

use std::collections::HashMap;
use std::sync::Arc;

use crate::Tables;
use nubrik_bytes::{Decoder, Truncated};
use nubrik_source::{PathWithin, WsPath};

use crate::{
    ArchiveFormat, ArgumentFile, Check, FileId, FileNode, Limits, Native, OutputNode, Pipeline, Place,
    Placement, Program, ResultFile, Role, Service, ServiceCommand, Serving, SetId, Stage, Step, StepId,
    Target, TargetId, ToolId, Unpacking, WorkFolder,
};

/// Services need services only so deep; more is damage.
const DEEPEST: usize = 64;

type Read<T> = Result<T, Truncated>;

/// Puts a graph together.
#[derive(Default)]
pub struct Assembly {
    /// The graph so far.
    pub graph: Tables,
    files: HashMap<Arc<str>, FileId>,
    tools: HashMap<Arc<str>, ToolId>,
    /// How many files and tools there are, where they are known beforehand and bytes hold their numbers.
    numbered: Option<(usize, usize)>,
}

impl Assembly {
    /// One that reads steps and targets of a graph with so many files and tools, written with their numbers.
    pub(crate) fn numbered(files: usize, tools: usize) -> Assembly {
        Assembly { numbered: Some((files, tools)), ..Assembly::default() }
    }

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
    ///
    /// # Errors
    /// When the bytes are no step.
    pub fn step(&mut self, bytes: &[u8], target: TargetId, candidates: Vec<SetId>) -> Read<StepId> {
        let step = self.step_of(&mut Decoder::new(bytes), target, candidates)?;
        let id = StepId(self.graph.steps.len() as u32);
        for output in &step.outputs {
            self.graph.files[output.file.index()].maker = Some(id);
        }
        self.graph.steps.push(Box::new(step));
        Ok(id)
    }

    /// Reads a step without adding it.
    pub(crate) fn step_of(
        &mut self,
        from: &mut Decoder<'_>,
        target: TargetId,
        candidates: Vec<SetId>,
    ) -> Read<Step> {
        // In the order in which they are written; all fields are named, so that none is left as it would be in an empty step.
        let folder = path(from)?;
        let outputs = from.list(|from| {
            Ok(OutputNode { file: self.read_file(from)?, name: text(from)?, early: from.bool()? })
        })?;
        let commands = from.list(|from| Ok(Pipeline { stages: from.list(|from| self.read_stage(from))? }))?;
        let env = from.list(|from| Ok((text(from)?, text(from)?)))?;
        let found = from.list(path)?;
        let observed = from.bool()?;
        let scratch = from.list(path)?;
        let kept = from.list(path)?;
        let native = optional(from, |from| self.native(from))?.map(Box::new);
        let lists = from.list(list_file)?;
        let work = self.work(from)?;
        let taken = from.list(|from| Ok((within(from)?, self.read_file(from)?)))?;
        let status = optional(from, |from| self.read_file(from))?;
        let network = from.bool()?;
        let machine = from.list(text)?;
        let check = optional(from, |from| self.check(from))?.map(Box::new);
        let services = from.list(|from| service_below(from, 0))?;
        let inputs = from.list(|from| self.read_file(from))?.into();
        let mut tools = from.list(|from| self.read_tool(from))?;
        tools.sort_unstable();
        let timeout = optional(from, |from| from.u64())?;
        let memory = optional(from, |from| from.u64())?;
        let limits = Limits { network, timeout, memory, processors: from.u32()? };
        let (say, variant, place) = (text(from)?, text(from)?, place(from)?);
        let candidates = candidates.into();
        Ok(Step {
            target,
            say,
            commands,
            env,
            folder,
            inputs,
            candidates,
            outputs,
            found,
            observed,
            scratch,
            kept,
            tools,
            native,
            lists,
            work,
            taken,
            status,
            limits,
            machine,
            check,
            services,
            variant,
            place,
        })
    }

    fn read_stage(&mut self, from: &mut Decoder<'_>) -> Read<Stage> {
        // A byte before either says which of the two it is.
        let program = match from.u8()? {
            0 => Program::Tool(self.read_tool(from)?),
            1 => Program::File(self.read_file(from)?),
            _ => return Err(Truncated),
        };
        stage(program, from)
    }

    fn work(&mut self, from: &mut Decoder<'_>) -> Read<WorkFolder> {
        Ok(match from.u8()? {
            0 => WorkFolder::Root,
            1 => WorkFolder::Source(path(from)?),
            2 => {
                WorkFolder::Private { at: path(from)?, copy_of: optional(from, |from| self.read_file(from))? }
            }
            _ => return Err(Truncated),
        })
    }

    fn check(&mut self, from: &mut Decoder<'_>) -> Read<Check> {
        Ok(Check {
            verdict: self.read_file(from)?,
            report: optional(from, |from| self.read_file(from))?,
            coverage: optional(from, |from| self.read_file(from))?,
            quarantined: optional(from, text)?,
            address: text(from)?,
        })
    }

    /// Adds a target.
    ///
    /// # Errors
    /// When the bytes are no target.
    pub fn target(&mut self, bytes: &[u8]) -> Read<TargetId> {
        let target = self.target_of(&mut Decoder::new(bytes))?;
        self.graph.targets.push(target);
        Ok(TargetId(self.graph.targets.len() as u32 - 1))
    }

    /// Reads a target without adding it.
    pub(crate) fn target_of(&mut self, from: &mut Decoder<'_>) -> Read<Target> {
        Ok(Target {
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
        })
    }

    /// Reads a service.
    ///
    /// # Errors
    /// When the bytes are no service.
    pub fn service(from: &mut Decoder<'_>) -> Read<Arc<Service>> {
        service_below(from, 0)
    }

    fn read_tool(&mut self, from: &mut Decoder<'_>) -> Read<ToolId> {
        match self.numbered {
            Some((_, count)) => {
                Some(from.u32()?).filter(|n| (*n as usize) < count).map(ToolId).ok_or(Truncated)
            }
            None => Ok(self.tool(from.text()?)),
        }
    }

    fn read_file(&mut self, from: &mut Decoder<'_>) -> Read<FileId> {
        if let Some((count, _)) = self.numbered {
            return Some(from.u32()?).filter(|n| (*n as usize) < count).map(FileId).ok_or(Truncated);
        }
        let path = from.text()?;
        if !self.files.contains_key(path) && WsPath::checked(path).is_none() {
            return Err(Truncated);
        }
        Ok(self.file(path, from.bool()?))
    }

    fn native(&mut self, from: &mut Decoder<'_>) -> Read<Native> {
        Ok(match from.u8()? {
            1 => Native::Write { text: text(from)?, executable: from.bool()? },
            2 => Native::Stage { files: self.placements(from)? },
            3 => {
                let format = ArchiveFormat::named(from.text()?).ok_or(Truncated)?;
                Native::Pack { format, files: self.placements(from)? }
            }
            4 => Native::Unpack { archive: self.read_file(from)?, how: unpacking(from)? },
            7 => Native::Extract {
                file: self.read_file(from)?,
                patterns: from.list(|from| Ok((text(from)?, text(from)?)))?,
            },
            6 => Native::Part { folder: self.read_file(from)?, path: within(from)?, is_folder: from.bool()? },
            5 => Native::Fetch {
                urls: from.list(text)?,
                digest: text(from)?,
                unpack: optional(from, unpacking)?,
                executable: from.bool()?,
            },
            _ => return Err(Truncated),
        })
    }

    fn placements(&mut self, from: &mut Decoder<'_>) -> Read<Vec<Placement>> {
        from.list(|from| Ok(Placement { to: within(from)?, from: self.read_file(from)? }))
    }
}

fn unpacking(from: &mut Decoder<'_>) -> Read<Unpacking> {
    let format = ArchiveFormat::named(from.text()?).ok_or(Truncated)?;
    Ok(Unpacking { format, strip: from.u32()? })
}

/// The rest of a process whose program was read.
fn stage<T, F>(program: Program<T, F>, from: &mut Decoder<'_>) -> Read<Stage<T, F>> {
    Ok(Stage {
        program,
        words: from.list(text)?,
        stdin: optional(from, path)?,
        stdout: optional(from, path)?,
        stderr: optional(from, path)?,
        answers: from.bool()?,
    })
}

fn service_below(from: &mut Decoder<'_>, depth: usize) -> Read<Arc<Service>> {
    if depth > DEEPEST {
        return Err(Truncated);
    }
    let folder = path(from)?;
    let serving = match from.u8()? {
        0 => Serving::Here {
            prepare: from.list(command)?,
            run: command(from)?,
            fill: from.list(command)?,
            shared: from.bool()?,
            stop: optional(from, command)?,
        },
        1 => Serving::Elsewhere { address: text(from)?, port: text(from)? },
        _ => return Err(Truncated),
    };
    Ok(Arc::new(Service {
        folder,
        serving,
        env: from.list(|from| Ok((text(from)?, text(from)?)))?,
        lists: from.list(list_file)?,
        folders: from.list(text)?,
        work: path(from)?,
        needs: from.list(|from| service_below(from, depth + 1))?,
        address: text(from)?,
        inputs: from.list(path)?.into(),
        tools: from.list(text)?,
        ready: optional(from, command)?,
        patience: from.u64()?,
        place: place(from)?,
    }))
}

fn command(from: &mut Decoder<'_>) -> Read<ServiceCommand> {
    from.list(|from| {
        let program = match from.u8()? {
            0 => Program::Tool(text(from)?),
            1 => Program::File(path(from)?),
            _ => return Err(Truncated),
        };
        stage(program, from)
    })
}

fn optional<'a, T>(
    from: &mut Decoder<'a>,
    read: impl FnOnce(&mut Decoder<'a>) -> Read<T>,
) -> Read<Option<T>> {
    if from.bool()? { read(from).map(Some) } else { Ok(None) }
}

fn list_file(from: &mut Decoder<'_>) -> Read<ArgumentFile> {
    Ok(ArgumentFile { path: path(from)?, text: text(from)? })
}

fn text(from: &mut Decoder<'_>) -> Read<Arc<str>> {
    Ok(from.text()?.into())
}

fn path(from: &mut Decoder<'_>) -> Read<WsPath> {
    // Wherever the bytes came from, no path in them leads out of the workspace.
    WsPath::checked(from.text()?).ok_or(Truncated)
}

fn within(from: &mut Decoder<'_>) -> Read<PathWithin> {
    PathWithin::new(from.text()?).ok_or(Truncated)
}

fn place(from: &mut Decoder<'_>) -> Read<Place> {
    Ok(Place { file: text(from)?, line: from.u32()? })
}

#[cfg(test)]
#[allow(clippy::expect_used)] // A test that panics has failed, which is right.
mod tests;
