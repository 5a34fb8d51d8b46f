//! What steps, services and targets are as bytes: files by their paths, tools by their names, so
//! that the same step is the same bytes, whatever numbers its files have in a graph. One layout for
//! all purposes; everything is taken apart whole, so that a new field does not compile until
//! someone decides what it is for. [`crate::Assembly`] reads back what is written whole.

use std::sync::Arc;

use nubrik_bytes::{Decoder, Encoder, Layout, Truncated, layout};
use nubrik_source::WsPath;

use crate::{
    ArchiveFormat, ArgumentFile, Check, FileId, ImageFiles, ImageSearch, ImageSource, Limits,
    Native, NewImage, NewLayer, OutputNode, Pipeline, Place, Placement, PlainFile, Program,
    ResultFile, Role, Service, ServiceCommand, ServiceImage, Serving, Stage, Step, Tables, Target,
    ToolId, Unpacking, WorkFolder,
};

layout!(Place { file, line });
layout!(ArgumentFile { path, text });
layout!(Unpacking { format, strip });
layout!(PlainFile { path, folder });
layout!(ServiceImage {
    statement,
    files,
    name,
    platform
});

/// A byte that says which, and the files.
impl Layout for ImageFiles<PlainFile> {
    fn write(&self, out: &mut Encoder) {
        match self {
            ImageFiles::Layout(layout) => {
                out.u8(0);
                layout.write(out);
            }
            ImageFiles::Blobs { manifest, blobs } => {
                out.u8(1);
                manifest.write(out);
                blobs.write(out);
            }
        }
    }

    fn read(from: &mut Decoder<'_>) -> Result<ImageFiles<PlainFile>, Truncated> {
        Ok(match from.u8()? {
            0 => ImageFiles::Layout(Layout::read(from)?),
            1 => ImageFiles::Blobs {
                manifest: Layout::read(from)?,
                blobs: Layout::read(from)?,
            },
            _ => return Err(Truncated),
        })
    }
}
layout!(enum ImageSearch { 0 => Tools { names, version }, 1 => Libraries { names, for_static } });
layout!(enum Role { 0 => Inner, 1 => Target, 2 => Test, 3 => Job, 4 => Service });

/// By its name.
impl Layout for ArchiveFormat {
    fn write(&self, out: &mut Encoder) {
        out.text(self.name());
    }

    fn read(from: &mut Decoder<'_>) -> Result<ArchiveFormat, Truncated> {
        ArchiveFormat::named(from.text()?).ok_or(Truncated)
    }
}

/// What bytes are for.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Purpose {
    /// To be read back into any graph: everything.
    Whole,
    /// To be read back into the same graph: everything, files and tools by their numbers.
    Numbers,
    /// To identify results: only what can decide which result there is. Contents of files and what
    /// tools are have parts of a key of their own.
    Key,
}

/// Writes a step without the target that it belongs to and the sets of its candidates, which many
/// steps share.
pub fn write_step(graph: &Tables, step: &Step, purpose: Purpose, out: &mut Encoder) {
    let Step {
        // Numbers of this graph alone: kept beside the bytes.
        target: _,
        candidates: _,
        say,
        commands,
        env,
        folder,
        inputs,
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
    } = step;
    let file = |out: &mut Encoder, id: &FileId| write_file(graph, *id, purpose, out);
    let tool = |out: &mut Encoder, id: &ToolId| match purpose {
        Purpose::Numbers => out.u32(id.0),
        Purpose::Whole | Purpose::Key => out.text(&graph.tools[id.index()]),
    };
    folder.write(out);
    out.list(
        outputs,
        |out,
         OutputNode {
             file: id,
             name,
             early,
             lines,
         }| {
            file(out, id);
            name.write(out);
            // They say when others may begin and who reads it, and nothing of what they find.
            if purpose != Purpose::Key {
                early.write(out);
                lines.write(out);
            }
        },
    );
    out.list(commands, |out, Pipeline { stages }| {
        out.list(stages, |out, stage| write_stage(stage, out, tool, file));
    });
    env.write(out);
    found.write(out);
    observed.write(out);
    scratch.write(out);
    // Of these the words say all that counts; what is in them must not.
    if purpose != Purpose::Key {
        kept.write(out);
    }
    optional(native.as_deref(), out, |out, native| {
        write_native(graph, native, purpose, out)
    });
    lists.write(out);
    write_work(graph, work, purpose, out);
    out.list(taken, |out, (from, id)| {
        from.write(out);
        file(out, id);
    });
    optional(status.as_ref(), out, file);
    let Limits {
        network,
        timeout,
        memory,
        processors,
    } = limits;
    network.write(out);
    machine.write(out);
    optional(check.as_deref(), out, |out, check| {
        write_check(graph, check, purpose, out)
    });
    out.list(services, |out, service| {
        write_service(service, purpose, out)
    });
    if purpose == Purpose::Key {
        // At the end, and only where it is: the keys of all others are as they were.
        if let Some(changes) = changes {
            file(out, changes);
        }
        return;
    }
    // Whose it is and how it is reported; what has a part of a key of its own; and limits that
    // decide whether there is a result, never which one.
    // By path and name: the order of numbers is that of evaluation.
    let mut inputs = inputs.to_vec();
    inputs.sort_by_key(|id| &graph.file(*id).path);
    out.list(&inputs, file);
    let mut tools = tools.clone();
    tools.sort_by_key(|id| &graph.tools[id.index()]);
    out.list(&tools, tool);
    // What it holds counts, not what it is called here.
    optional(root.as_ref(), out, file);
    optional(changes.as_ref(), out, file);
    timeout.write(out);
    memory.write(out);
    processors.write(out);
    say.write(out);
    variant.write(out);
    place.write(out);
}

/// The folder in which a step's commands run.
fn write_work(graph: &Tables, work: &WorkFolder, purpose: Purpose, out: &mut Encoder) {
    match work {
        WorkFolder::Root => out.u8(0),
        WorkFolder::Source(at) => {
            out.u8(1);
            at.write(out);
        }
        WorkFolder::Private { at, copy_of } => {
            out.u8(2);
            at.write(out);
            optional(copy_of.as_ref(), out, |out, id| {
                write_file(graph, *id, purpose, out)
            });
        }
    }
}

fn write_check(graph: &Tables, check: &Check, purpose: Purpose, out: &mut Encoder) {
    let Check {
        verdict,
        report,
        quarantined,
        address,
    } = check;
    write_file(graph, *verdict, purpose, out);
    optional(report.as_ref(), out, |out, id| {
        write_file(graph, *id, purpose, out)
    });
    // Only a check that passed is kept: how a failure counts is no part of that.
    if purpose != Purpose::Key {
        quarantined.write(out);
        address.write(out);
    }
}

fn write_file(graph: &Tables, id: FileId, purpose: Purpose, out: &mut Encoder) {
    if purpose == Purpose::Numbers {
        return out.u32(id.0);
    }
    let node = graph.file(id);
    node.write(out);
}

fn optional<T>(value: Option<&T>, out: &mut Encoder, write: impl FnOnce(&mut Encoder, &T)) {
    out.bool(value.is_some());
    if let Some(value) = value {
        write(out, value);
    }
}

fn write_stage<T, F>(
    stage: &Stage<T, F>,
    out: &mut Encoder,
    tool: impl Fn(&mut Encoder, &T),
    file: impl Fn(&mut Encoder, &F),
) {
    let Stage {
        program,
        words,
        stdin,
        stdout,
        stderr,
        answers,
    } = stage;
    match program {
        Program::Tool(id) => {
            out.u8(0);
            tool(out, id);
        }
        Program::File(id) => {
            out.u8(1);
            file(out, id);
        }
    }
    words.write(out);
    [stdin, stdout, stderr]
        .into_iter()
        .for_each(|redirect| redirect.write(out));
    answers.write(out);
}

/// Where an image is, and which one of several.
fn write_image(graph: &Tables, image: &ImageSource, purpose: Purpose, out: &mut Encoder) {
    let ImageSource {
        files,
        name,
        platform,
    } = image;
    match files {
        ImageFiles::Layout(layout) => {
            out.u8(0);
            write_file(graph, *layout, purpose, out);
        }
        ImageFiles::Blobs { manifest, blobs } => {
            out.u8(1);
            write_file(graph, *manifest, purpose, out);
            out.list(blobs, |out, blob| write_file(graph, *blob, purpose, out));
        }
    }
    name.write(out);
    platform.write(out);
}

/// What the tool does itself.
fn write_native(graph: &Tables, native: &Native, purpose: Purpose, out: &mut Encoder) {
    let placed = |out: &mut Encoder, files: &[Placement]| {
        out.list(files, |out, Placement { to, from }| {
            to.write(out);
            write_file(graph, *from, purpose, out);
        });
    };
    match native {
        Native::Write { text, executable } => {
            out.u8(1);
            text.write(out);
            executable.write(out);
        }
        Native::Stage { files } => {
            out.u8(2);
            placed(out, files);
        }
        Native::Pack { format, files } => {
            out.u8(3);
            format.write(out);
            placed(out, files);
        }
        Native::Unpack { archive, how } => {
            out.u8(4);
            write_file(graph, *archive, purpose, out);
            how.write(out);
        }
        Native::Extract { file, patterns } => {
            out.u8(7);
            write_file(graph, *file, purpose, out);
            patterns.write(out);
        }
        Native::Part {
            folder,
            path,
            is_folder,
        } => {
            out.u8(6);
            write_file(graph, *folder, purpose, out);
            path.write(out);
            is_folder.write(out);
        }
        Native::Fetch {
            urls,
            digest,
            unpack,
            executable,
        } => {
            out.u8(5);
            match purpose {
                Purpose::Whole | Purpose::Numbers => urls.write(out),
                // Where it comes from does not matter: its digest says what it is.
                Purpose::Key => {}
            }
            digest.write(out);
            unpack.write(out);
            executable.write(out);
        }
        Native::Find(finding) => {
            out.u8(9);
            finding.write(out);
        }
        Native::Image(image) => {
            out.u8(8);
            write_image(graph, image, purpose, out);
        }
        Native::MakeImage(new) => {
            let NewImage {
                base,
                layer,
                env,
                start,
                folder,
                platform,
            } = &**new;
            let write_base = |out: &mut Encoder| {
                optional(base.as_ref(), out, |out, base| {
                    write_image(graph, base, purpose, out)
                });
            };
            match layer {
                NewLayer::Files(files) => {
                    out.u8(10);
                    write_base(out);
                    placed(out, files);
                }
                NewLayer::Tar(layer) => {
                    out.u8(11);
                    write_base(out);
                    write_file(graph, *layer, purpose, out);
                }
            }
            env.write(out);
            start.write(out);
            folder.write(out);
            platform.write(out);
        }
    }
}

/// Writes a service, with all that it needs. It holds no numbers of a graph.
pub fn write_service(service: &Service, purpose: Purpose, out: &mut Encoder) {
    let Service {
        address,
        folder,
        serving,
        ready,
        patience,
        env,
        inputs,
        tools,
        folders,
        lists,
        work,
        root,
        needs,
        place,
    } = service;
    folder.write(out);
    match serving {
        Serving::Here {
            prepare,
            run,
            fill,
            stop,
            shared,
        } => {
            out.u8(0);
            out.list(prepare, write_command);
            write_command(out, run);
            out.list(fill, write_command);
            shared.write(out);
            if purpose != Purpose::Key {
                optional(stop.as_ref(), out, write_command);
            }
        }
        Serving::Elsewhere { address, port } => {
            out.u8(1);
            address.write(out);
            port.write(out);
        }
    }
    env.write(out);
    lists.write(out);
    folders.write(out);
    work.write(out);
    out.list(needs, |out, need| write_service(need, purpose, out));
    if purpose == Purpose::Key {
        return;
    }
    // How it is reported; what is among the inputs and tools of the steps that use it; and when it
    // is ready, which decides whether there is a result, never which one.
    address.write(out);
    inputs.write(out);
    tools.write(out);
    // What it holds is among the inputs.
    root.write(out);
    optional(ready.as_ref(), out, write_command);
    patience.write(out);
    place.write(out);
}

/// Writes a command of a service.
fn write_command(out: &mut Encoder, command: &ServiceCommand) {
    let name = |out: &mut Encoder, name: &Arc<str>| name.write(out);
    out.list(command, |out, stage| {
        write_stage(stage, out, name, |out, at: &WsPath| at.write(out))
    });
}

/// Writes a target with its results; of no purpose is it less than whole.
pub fn write_target(graph: &Tables, target: &Target, purpose: Purpose, out: &mut Encoder) {
    let Target {
        address,
        package,
        kind,
        reads_field,
        documentation,
        place,
        role,
        private,
        tags,
        results,
    } = target;
    address.write(out);
    package.write(out);
    kind.write(out);
    reads_field.write(out);
    documentation.write(out);
    place.write(out);
    role.write(out);
    private.write(out);
    tags.write(out);
    out.list(
        results,
        |out,
         ResultFile {
             address,
             file,
             publish,
         }| {
            address.write(out);
            write_file(graph, *file, purpose, out);
            publish.write(out);
        },
    );
}
