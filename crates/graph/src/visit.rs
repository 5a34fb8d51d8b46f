//! Walks over all numbers that a step holds. What is taken apart here is taken apart whole: a new
//! field does not compile until someone decides whether there are numbers in it.

use crate::{
    Check, FileId, Native, NewImage, NewLayer, Program, SetId, Stage, Step, TargetId, ToolId,
    WorkFolder,
};

/// What the numbers of one graph are in another.
pub struct Numbers<'a> {
    /// By the number of a file.
    pub files: &'a [FileId],
    /// By the number of a tool.
    pub tools: &'a [ToolId],
    /// By the number of a target.
    pub targets: &'a [TargetId],
    /// By the number of a set.
    pub sets: &'a [SetId],
}

/// Knows what the numbers of one graph are in another. Each number is asked for when a step with it
/// is renumbered.
pub trait Renumbering {
    /// The number of a file there.
    fn file(&mut self, id: FileId) -> FileId;
    /// The number of a tool there.
    fn tool(&mut self, id: ToolId) -> ToolId;
    /// The number of a target there.
    fn target(&mut self, id: TargetId) -> TargetId;
    /// The number of a set there.
    fn set(&mut self, id: SetId) -> SetId;
}

impl Renumbering for Numbers<'_> {
    fn file(&mut self, id: FileId) -> FileId {
        self.files[id.index()]
    }

    fn tool(&mut self, id: ToolId) -> ToolId {
        self.tools[id.index()]
    }

    fn target(&mut self, id: TargetId) -> TargetId {
        self.targets[id.index()]
    }

    fn set(&mut self, id: SetId) -> SetId {
        self.sets[id.index()]
    }
}

impl Step {
    /// Puts the numbers of another graph in place of those of the graph that the step was made in.
    /// Lists that are sorted stay so.
    pub fn renumber(&mut self, numbers: &mut impl Renumbering) {
        let Step {
            target,
            commands,
            inputs,
            candidates,
            outputs,
            tools,
            native,
            work,
            root,
            changes,
            taken,
            status,
            check,
            // No numbers are in these.
            say: _,
            env: _,
            folder: _,
            found: _,
            observed: _,
            scratch: _,
            kept: _,
            lists: _,
            limits: _,
            machine: _,
            services: _,
            variant: _,
            place: _,
        } = self;
        *target = numbers.target(*target);
        for Stage {
            program,
            words: _,
            stdin: _,
            stdout: _,
            stderr: _,
            answers: _,
        } in commands
            .iter_mut()
            .flat_map(|pipeline| &mut pipeline.stages)
        {
            match program {
                Program::Tool(tool) => *tool = numbers.tool(*tool),
                Program::File(file) => *file = numbers.file(*file),
            }
        }
        inputs.change(|file| *file = numbers.file(*file));
        candidates.change(|set| *set = numbers.set(*set));
        outputs
            .iter_mut()
            .for_each(|output| output.file = numbers.file(output.file));
        tools
            .iter_mut()
            .for_each(|tool| *tool = numbers.tool(*tool));
        tools.sort_unstable();
        if let Some(native) = native {
            native.each_file(|file| *file = numbers.file(*file));
        }
        match work {
            WorkFolder::Private {
                copy_of: Some(file),
                ..
            } => *file = numbers.file(*file),
            WorkFolder::Private { copy_of: None, .. }
            | WorkFolder::Root
            | WorkFolder::Source(_) => {}
        }
        taken
            .iter_mut()
            .for_each(|(_, file)| *file = numbers.file(*file));
        root.iter_mut()
            .chain(changes)
            .chain(status)
            .for_each(|file| *file = numbers.file(*file));
        if let Some(check) = check {
            let Check {
                verdict,
                report,
                quarantined: _,
                address: _,
            } = &mut **check;
            *verdict = numbers.file(*verdict);
            report
                .iter_mut()
                .for_each(|file| *file = numbers.file(*file));
        }
    }
}

impl<F> Native<F> {
    /// Calls on each file that it takes.
    pub fn each_file(&mut self, mut visit: impl FnMut(&mut F)) {
        match self {
            Native::Stage { files } | Native::Pack { format: _, files } => {
                files
                    .iter_mut()
                    .for_each(|placement| visit(&mut placement.from));
            }
            Native::Unpack { archive, how: _ } => visit(archive),
            Native::Image(image) => image.each_file_mut(&mut visit),
            Native::MakeImage(new) => {
                let NewImage {
                    base,
                    layer,
                    env: _,
                    start: _,
                    folder: _,
                    platform: _,
                } = &mut **new;
                base.iter_mut()
                    .for_each(|base| base.each_file_mut(&mut visit));
                match layer {
                    NewLayer::Files(files) => {
                        files
                            .iter_mut()
                            .for_each(|placement| visit(&mut placement.from));
                    }
                    NewLayer::Tar(layer) => visit(layer),
                }
            }
            Native::Part {
                folder,
                path: _,
                is_folder: _,
            } => visit(folder),
            Native::Extract { file, patterns: _ } => visit(file),
            Native::Write {
                text: _,
                executable: _,
            }
            | Native::Find(_)
            | Native::Fetch {
                urls: _,
                digest: _,
                unpack: _,
                executable: _,
            } => {}
        }
    }

    /// The same with files that are known by something else.
    pub fn with_files<G>(&self, name: impl Fn(&F) -> G) -> Native<G> {
        let placed = |files: &[crate::Placement<F>]| {
            files
                .iter()
                .map(|p| crate::Placement {
                    to: p.to.clone(),
                    from: name(&p.from),
                })
                .collect()
        };
        match self {
            Native::Write { text, executable } => Native::Write {
                text: text.clone(),
                executable: *executable,
            },
            Native::Stage { files } => Native::Stage {
                files: placed(files),
            },
            Native::Pack { format, files } => Native::Pack {
                format: *format,
                files: placed(files),
            },
            Native::Unpack { archive, how } => Native::Unpack {
                archive: name(archive),
                how: *how,
            },
            Native::Extract { file, patterns } => Native::Extract {
                file: name(file),
                patterns: patterns.clone(),
            },
            Native::Part {
                folder,
                path,
                is_folder,
            } => Native::Part {
                folder: name(folder),
                path: path.clone(),
                is_folder: *is_folder,
            },
            Native::Fetch {
                urls,
                digest,
                unpack,
                executable,
            } => Native::Fetch {
                urls: urls.clone(),
                digest: digest.clone(),
                unpack: *unpack,
                executable: *executable,
            },
            Native::Find(finding) => Native::Find(finding.clone()),
            Native::Image(image) => Native::Image(image.with_files(name)),
            Native::MakeImage(new) => {
                let NewImage {
                    base,
                    layer,
                    env,
                    start,
                    folder,
                    platform,
                } = &**new;
                Native::MakeImage(Box::new(NewImage {
                    base: base.as_ref().map(|base| base.with_files(&name)),
                    layer: match layer {
                        NewLayer::Files(files) => NewLayer::Files(placed(files)),
                        NewLayer::Tar(layer) => NewLayer::Tar(name(layer)),
                    },
                    env: env.clone(),
                    start: start.clone(),
                    folder: folder.clone(),
                    platform: platform.clone(),
                }))
            }
        }
    }
}
