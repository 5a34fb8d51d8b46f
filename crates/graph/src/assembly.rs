//! A graph put together from steps and targets that were written whole, in any order and from any
//! graph.

use std::sync::Arc;

use crate::joining::Joining;
use crate::{Flaw, Graph, Tables};
use nubrik_bytes::{Decoder, Layout, Truncated};
use nubrik_source::WsPath;

use crate::{
    Check, FileId, ImageFiles, ImageSource, Limits, Native, NewImage, NewLayer, OutputNode,
    Pipeline, Placement, Program, ResultFile, Service, ServiceCommand, Serving, SetId, Stage, Step,
    StepId, Target, TargetId, ToolId, WorkFolder,
};

/// Services need services only so deep; more is damage.
const DEEPEST: usize = 64;

type Read<T> = Result<T, Truncated>;

/// Puts a graph together.
#[derive(Default)]
pub struct Assembly {
    joined: Joining,
    /// How many files and tools there are, where they are known beforehand and bytes hold their
    /// numbers.
    numbered: Option<(usize, usize)>,
}

impl Assembly {
    /// One that reads steps and targets of a graph with so many files and tools, written with their
    /// numbers.
    pub(crate) fn numbered(files: usize, tools: usize) -> Assembly {
        Assembly {
            numbered: Some((files, tools)),
            ..Assembly::default()
        }
    }

    /// The graph so far.
    pub fn tables(&self) -> &Tables {
        &self.joined.tables
    }

    /// The graph.
    ///
    /// # Errors
    /// When it does not hold together.
    pub fn finish(self) -> Result<Graph, Flaw> {
        self.joined.tables.finish()
    }

    /// The number of the file at a path, entered on first use.
    pub fn file(&mut self, path: &str, folder: bool) -> FileId {
        match self.joined.known_file(path) {
            Some(known) => known,
            None => self.joined.file(WsPath::from_normal(path), folder),
        }
    }

    /// The number of a set of files.
    pub fn set(&mut self, files: Vec<FileId>) -> SetId {
        self.joined.tables.sets.intern(files)
    }

    /// Adds a step of a target, with the sets of its candidates.
    ///
    /// # Errors
    /// When the bytes are no step.
    pub fn step(&mut self, bytes: &[u8], target: TargetId, candidates: Vec<SetId>) -> Read<StepId> {
        let step = self.step_of(&mut Decoder::new(bytes), target, candidates)?;
        Ok(self.joined.new_step(Box::new(step)))
    }

    /// Reads a step without adding it.
    pub(crate) fn step_of(
        &mut self,
        from: &mut Decoder<'_>,
        target: TargetId,
        candidates: Vec<SetId>,
    ) -> Read<Step> {
        // In the order in which they are written; all fields are named, so that none is left as it
        // would be in an empty step.
        let folder = Layout::read(from)?;
        let outputs = from.list(|from| {
            let (file, name) = (self.read_file(from)?, Layout::read(from)?);
            Ok(OutputNode {
                file,
                name,
                early: from.bool()?,
                lines: from.bool()?,
            })
        })?;
        let commands = from.list(|from| {
            Ok(Pipeline {
                stages: from.list(|from| self.read_stage(from))?,
            })
        })?;
        let (env, found, observed, scratch, kept) = Layout::read(from)?;
        let native = optional(from, |from| self.native(from))?.map(Box::new);
        let lists = Layout::read(from)?;
        let work = self.work(from)?;
        let taken = from.list(|from| Ok((Layout::read(from)?, self.read_file(from)?)))?;
        let status = optional(from, |from| self.read_file(from))?;
        let (network, machine) = Layout::read(from)?;
        let check = optional(from, |from| self.check(from))?.map(Box::new);
        let services = from.list(|from| service_below(from, 0))?;
        let inputs = from.list(|from| self.read_file(from))?.into();
        let mut tools = from.list(|from| self.read_tool(from))?;
        tools.sort_unstable();
        let root = optional(from, |from| self.read_file(from))?;
        let changes = optional(from, |from| self.read_file(from))?;
        let (timeout, memory, processors) = Layout::read(from)?;
        let limits = Limits {
            network,
            timeout,
            memory,
            processors,
        };
        let (say, variant, place) = Layout::read(from)?;
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
            root,
            changes,
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
            1 => WorkFolder::Source(Layout::read(from)?),
            2 => WorkFolder::Private {
                at: Layout::read(from)?,
                copy_of: optional(from, |from| self.read_file(from))?,
            },
            _ => return Err(Truncated),
        })
    }

    fn check(&mut self, from: &mut Decoder<'_>) -> Read<Check> {
        Ok(Check {
            verdict: self.read_file(from)?,
            report: optional(from, |from| self.read_file(from))?,
            quarantined: Layout::read(from)?,
            address: Layout::read(from)?,
        })
    }

    /// Adds a target.
    ///
    /// # Errors
    /// When the bytes are no target.
    pub fn target(&mut self, bytes: &[u8]) -> Read<TargetId> {
        let target = self.target_of(&mut Decoder::new(bytes))?;
        Ok(self.joined.target(target))
    }

    /// Reads a target without adding it.
    pub(crate) fn target_of(&mut self, from: &mut Decoder<'_>) -> Read<Target> {
        Ok(Target {
            address: Layout::read(from)?,
            package: Layout::read(from)?,
            kind: Layout::read(from)?,
            reads_field: Layout::read(from)?,
            documentation: Layout::read(from)?,
            place: Layout::read(from)?,
            role: Layout::read(from)?,
            private: Layout::read(from)?,
            tags: Layout::read(from)?,
            results: from.list(|from| {
                Ok(ResultFile {
                    address: Layout::read(from)?,
                    file: self.read_file(from)?,
                    publish: Layout::read(from)?,
                })
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
            Some((_, count)) => Some(from.u32()?)
                .filter(|n| (*n as usize) < count)
                .map(ToolId)
                .ok_or(Truncated),
            None => Ok(self.joined.tool(from.text()?)),
        }
    }

    fn read_file(&mut self, from: &mut Decoder<'_>) -> Read<FileId> {
        if let Some((count, _)) = self.numbered {
            return Some(from.u32()?)
                .filter(|n| (*n as usize) < count)
                .map(FileId)
                .ok_or(Truncated);
        }
        let path = from.text()?;
        if self.joined.known_file(path).is_none() && WsPath::checked(path).is_none() {
            return Err(Truncated);
        }
        Ok(self.file(path, from.bool()?))
    }

    fn native(&mut self, from: &mut Decoder<'_>) -> Read<Native> {
        Ok(match from.u8()? {
            1 => Native::Write {
                text: Layout::read(from)?,
                executable: from.bool()?,
            },
            2 => Native::Stage {
                files: self.placements(from)?,
            },
            3 => {
                let format = Layout::read(from)?;
                Native::Pack {
                    format,
                    files: self.placements(from)?,
                }
            }
            4 => Native::Unpack {
                archive: self.read_file(from)?,
                how: Layout::read(from)?,
            },
            7 => Native::Extract {
                file: self.read_file(from)?,
                patterns: Layout::read(from)?,
            },
            6 => {
                let folder = self.read_file(from)?;
                Native::Part {
                    folder,
                    path: Layout::read(from)?,
                    is_folder: from.bool()?,
                }
            }
            5 => Native::Fetch {
                urls: Layout::read(from)?,
                digest: Layout::read(from)?,
                unpack: Layout::read(from)?,
                executable: Layout::read(from)?,
            },
            9 => Native::Find(Layout::read(from)?),
            8 => Native::Image(self.image(from)?),
            kind @ (10 | 11) => Native::MakeImage(Box::new(NewImage {
                base: optional(from, |from| self.image(from))?,
                layer: match kind {
                    10 => NewLayer::Files(self.placements(from)?),
                    _ => NewLayer::Tar(self.read_file(from)?),
                },
                env: Layout::read(from)?,
                start: Layout::read(from)?,
                folder: Layout::read(from)?,
                platform: Layout::read(from)?,
            })),
            _ => return Err(Truncated),
        })
    }

    fn image(&mut self, from: &mut Decoder<'_>) -> Read<ImageSource> {
        let files = match from.u8()? {
            0 => ImageFiles::Layout(self.read_file(from)?),
            1 => {
                let manifest = self.read_file(from)?;
                ImageFiles::Blobs {
                    manifest,
                    blobs: from.list(|from| self.read_file(from))?,
                }
            }
            _ => return Err(Truncated),
        };
        Ok(ImageSource {
            files,
            name: Layout::read(from)?,
            platform: Layout::read(from)?,
        })
    }

    fn placements(&mut self, from: &mut Decoder<'_>) -> Read<Vec<Placement>> {
        from.list(|from| {
            Ok(Placement {
                to: Layout::read(from)?,
                from: self.read_file(from)?,
            })
        })
    }
}

/// The rest of a process whose program was read.
fn stage<T, F>(program: Program<T, F>, from: &mut Decoder<'_>) -> Read<Stage<T, F>> {
    Ok(Stage {
        program,
        words: Layout::read(from)?,
        stdin: Layout::read(from)?,
        stdout: Layout::read(from)?,
        stderr: Layout::read(from)?,
        answers: Layout::read(from)?,
    })
}

fn service_below(from: &mut Decoder<'_>, depth: usize) -> Read<Arc<Service>> {
    if depth > DEEPEST {
        return Err(Truncated);
    }
    let folder = Layout::read(from)?;
    let serving = match from.u8()? {
        0 => Serving::Here {
            prepare: from.list(command)?,
            run: command(from)?,
            fill: from.list(command)?,
            shared: from.bool()?,
            stop: optional(from, command)?,
        },
        1 => Serving::Elsewhere {
            address: Layout::read(from)?,
            port: Layout::read(from)?,
        },
        _ => return Err(Truncated),
    };
    Ok(Arc::new(Service {
        folder,
        serving,
        env: Layout::read(from)?,
        lists: Layout::read(from)?,
        folders: Layout::read(from)?,
        work: Layout::read(from)?,
        needs: from.list(|from| service_below(from, depth + 1))?,
        address: Layout::read(from)?,
        inputs: Layout::read(from)?,
        tools: Layout::read(from)?,
        root: Layout::read(from)?,
        ready: optional(from, command)?,
        patience: Layout::read(from)?,
        place: Layout::read(from)?,
    }))
}

fn command(from: &mut Decoder<'_>) -> Read<ServiceCommand> {
    from.list(|from| {
        let program = match from.u8()? {
            0 => Program::Tool(Layout::read(from)?),
            1 => Program::File(Layout::read(from)?),
            _ => return Err(Truncated),
        };
        stage(program, from)
    })
}

fn optional<'a, T>(
    from: &mut Decoder<'a>,
    read: impl FnOnce(&mut Decoder<'a>) -> Read<T>,
) -> Read<Option<T>> {
    if from.bool()? {
        read(from).map(Some)
    } else {
        Ok(None)
    }
}

#[cfg(test)]
#[allow(clippy::expect_used)] // A test that panics has failed, which is right.
mod tests;
