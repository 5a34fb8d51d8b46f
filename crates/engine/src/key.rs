//! What identifies a step: a documented, versioned byte format (`docs/formats.md`).
//!
//! A mistake here is a wrong result without a message. Whatever can change what a step makes must
//! be in; nothing else may be: no times, no absolute paths of the workspace, no user, no order of a
//! hash map.

use std::sync::Arc;

use nubrik_bytes::{Digest, Encoder};
use nubrik_graph::{Purpose, Step, Tables, platform_of, write_step};
use nubrik_source::FilePath;

use crate::outside::FoundTool;

/// Version of the format, of the confinement's rules and of the environment that steps get. Any
/// change to one of them raises it.
pub const KEY_VERSION: u32 = 14;

/// The digests of what a step is made of, apart from one another so that a change can be named.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct KeyParts {
    /// Words, environment, names of outputs.
    pub command: Digest,
    /// Tools by name, with their identities.
    pub tools: Vec<(Arc<str>, Digest)>,
    /// Certain inputs by path, with their contents.
    pub inputs: Vec<(FilePath, Digest)>,
}

/// The digest of a step's words, environment and names.
pub(crate) fn command_digest(graph: &Tables, step: &Step) -> Digest {
    let mut out = Encoder::new();
    write_step(graph, step, Purpose::Key, &mut out);
    Digest::of(&out.bytes)
}

/// The first part of a step's key: everything that is known before it runs.
pub(crate) fn first_key(step: &Step, parts: &KeyParts) -> Digest {
    let mut out = Encoder::new();
    out.text("nubrik step");
    out.u32(KEY_VERSION);
    // Of the machine that runs it.
    platform_of(&step.machine)
        .iter()
        .for_each(|name| out.text(name));
    out.digest(&parts.command);
    out.list(&parts.tools, |out, (name, digest)| {
        out.text(name);
        out.digest(digest);
    });
    out.list(&parts.inputs, |out, (path, digest)| {
        out.text(path.as_str());
        out.digest(digest);
    });
    Digest::of(&out.bytes)
}

/// The first part of a step's key from its digests; for tools and tests that compute keys apart
/// from a build. Inputs are in the order of the step, tools by name.
pub fn declared_key(
    graph: &Tables,
    step: &Step,
    tools: &[(Arc<str>, Digest)],
    inputs: &[(FilePath, Digest)],
) -> Digest {
    let command = command_digest(graph, step);
    first_key(
        step,
        &KeyParts {
            command,
            tools: tools.to_vec(),
            inputs: inputs.to_vec(),
        },
    )
}

/// The digest of the names among which a step's commands may find something: while it stays, no
/// name appeared. It says only whether there is more to look at, and is no part of a key.
pub(crate) fn candidate_names(mut sets: Vec<Digest>, tools: &[FoundTool]) -> Digest {
    let mut out = Encoder::new();
    // Numbers of sets follow the order of evaluation.
    sets.sort_unstable();
    out.list(&sets, |out, set| out.digest(set));
    for tool in tools.iter().filter(|tool| !tool.search.is_empty()) {
        out.digest(&tool.search_state);
    }
    Digest::of(&out.bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use nubrik_graph::{
        ArchiveFormat, ArgumentFile, Check, FileId, FileNode, ImageFiles, ImageSearch, ImageSource,
        Native, NewImage, NewLayer, OutputNode, Pipeline, Place, Placement, PlainFile, Program,
        Service, ServiceCommand, ServiceImage, ServiceProgram, ServiceStage, Serving, SetId,
        Sorted, Stage, StepId, TargetId, ToolId, Unpacking, WorkFolder,
    };
    use nubrik_source::{PathWithin, WsPath};

    fn within(path: &str) -> PathWithin {
        PathWithin::new(path).unwrap()
    }

    fn graph() -> Tables {
        let mut graph = Tables::default();
        graph.tools.push("cc".into());
        let out = WsPath::from_normal(".nubrik/made/tide/@fit.o/fit.o");
        graph.files.push(FileNode {
            path: WsPath::from_normal("fit.c"),
            maker: None,
            folder: false,
        });
        graph.files.push(FileNode {
            path: out,
            maker: Some(StepId(0)),
            folder: false,
        });
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
                    answers: false,
                }],
            }],
            env: vec![("LANG".into(), "C".into())],
            folder: WsPath::from_normal(".nubrik/made/tide/@fit.o"),
            inputs: vec![FileId(0)].into(),
            candidates: vec![].into(),
            outputs: vec![OutputNode::new(FileId(1), "fit.o")],
            found: vec![],
            observed: false,
            scratch: vec![],
            tools: vec![ToolId(0)],
            place: Place {
                file: "targets.nub".into(),
                line: 1,
            },
            ..Step::empty(WsPath::root())
        }));
        graph
    }

    fn key(graph: &Tables) -> Digest {
        let tools = [("cc".into(), Digest::of(b"cc"))];
        declared_key(
            graph,
            &graph.steps[0],
            &tools,
            &[(
                FilePath::from(&WsPath::from_normal("fit.c")),
                Digest::of(b"int x;"),
            )],
        )
    }

    #[test]
    fn format_is_fixed() {
        // A change here makes every stored result a miss: raise KEY_VERSION, and describe it in
        // docs/formats.md.
        if (std::env::consts::OS, std::env::consts::ARCH) == ("linux", "x86_64") {
            assert_eq!(&key(&graph()).hex()[..16], "a872b2ac3c7ff521");
        }
    }

    fn service() -> Service {
        let command = || {
            vec![ServiceStage {
                program: ServiceProgram::Tool("boardd".into()),
                words: vec!["boardd".into()],
                stdin: None,
                stdout: None,
                stderr: None,
                answers: false,
            }]
        };
        Service {
            address: "tide/board".into(),
            folder: WsPath::from_normal(".nubrik/made/tide/@board"),
            serving: Serving::Here {
                prepare: vec![command()],
                run: command(),
                fill: vec![command()],
                stop: None,
                shared: false,
            },
            ready: None,
            patience: 30_000,
            env: vec![("A".into(), "b".into())],
            inputs: vec![WsPath::from_normal("board.conf")].into(),
            tools: vec!["boardd".into()],
            folders: vec!["data".into()],
            lists: vec![ArgumentFile {
                path: WsPath::from_normal("list"),
                text: "a".into(),
            }],
            work: WsPath::root(),
            root: None,
            needs: vec![],
            place: Place {
                file: "targets.nub".into(),
                line: 3,
            },
        }
    }

    /// What is changed, and how.
    type Alteration<T> = (&'static str, fn(&mut T));

    fn path(path: &str) -> WsPath {
        WsPath::from_normal(path)
    }

    /// Asks for another key after each change, or for the same one.
    fn hold<T>(
        changes: &[Alteration<T>],
        differs: bool,
        key_with: impl Fn(&dyn Fn(&mut T)) -> Digest,
    ) {
        let plain = key_with(&|_| {});
        for (what, change) in changes {
            assert_eq!(key_with(&|value| change(value)) != plain, differs, "{what}");
        }
    }

    fn key_with(change: &dyn Fn(&mut Step)) -> Digest {
        let mut graph = graph();
        change(&mut graph.steps[0]);
        key(&graph)
    }

    #[test]
    fn each_field_of_a_step_is_in_or_has_a_reason_not_to_be() {
        fn stage(step: &mut Step) -> &mut Stage {
            &mut step.commands[0].stages[0]
        }
        let matters: &[Alteration<Step>] = &[
            ("a process more", |s| {
                let more = stage(s).clone();
                s.commands[0].stages.push(more);
            }),
            ("a command more", |s| {
                let more = s.commands[0].clone();
                s.commands.push(more);
            }),
            ("program", |s| stage(s).program = Program::File(FileId(0))),
            ("word", |s| stage(s).words.push("-g".into())),
            ("standard input", |s| stage(s).stdin = Some(path("x"))),
            ("standard output", |s| stage(s).stdout = Some(path("x"))),
            ("standard error", |s| stage(s).stderr = Some(path("x"))),
            ("whether it answers requests", |s| stage(s).answers = true),
            ("variable's value", |s| s.env[0].1 = "D".into()),
            ("variable's name", |s| s.env[0].0 = "LC_ALL".into()),
            ("folder", |s| s.folder = path(".nubrik/made/ebb/@fit.o")),
            ("output's name", |s| s.outputs[0].name = "fat.o".into()),
            ("an output more", |s| {
                s.outputs.push(OutputNode::new(FileId(1), "log"))
            }),
            ("listing", |s| s.found.push(path("d"))),
            ("observed", |s| s.observed = true),
            ("scratch", |s| s.scratch.push(path("d"))),
            ("native", |s| {
                s.native = Some(Box::new(Native::Write {
                    text: "x".into(),
                    executable: false,
                }))
            }),
            ("list", |s| {
                s.lists.push(ArgumentFile {
                    path: path("l"),
                    text: "".into(),
                })
            }),
            ("work in a source folder", |s| {
                s.work = WorkFolder::Source(path("tide"))
            }),
            ("work in its own folder", |s| {
                s.work = WorkFolder::Private {
                    at: path("w"),
                    copy_of: None,
                }
            }),
            ("taken", |s| s.taken.push((within("a"), FileId(1)))),
            ("status", |s| s.status = Some(FileId(1))),
            ("layer of what changed", |s| s.changes = Some(FileId(1))),
            ("network", |s| s.limits.network = true),
            ("machine", |s| s.machine.push("tide-board".into())),
            ("processor", |s| s.machine.push("mips64".into())),
            ("check", |s| s.check = Some(Box::new(check()))),
            ("services", |s| s.services.push(Arc::new(service()))),
        ];
        hold(matters, true, key_with);
        let not: &[Alteration<Step>] = &[
            ("what people read", |s| s.say = "other".into()),
            ("variant, which is in the folder", |s| {
                s.variant = "mode=release".into()
            }),
            ("place", |s| s.place.line = 99),
            ("number of its target", |s| s.target = TargetId(7)),
            ("timeout", |s| s.limits.timeout = Some(1)),
            ("memory", |s| s.limits.memory = Some(1)),
            ("processors", |s| s.limits.processors = 2),
            ("when others may use an output", |s| {
                s.outputs[0].early = true
            }),
            ("who reads an output", |s| s.outputs[0].lines = true),
            ("what it finds again, whose path is in its words", |s| {
                s.kept.push(path("k"))
            }),
            // These are in the other parts of the key.
            ("image", |s| s.root = Some(FileId(0))),
            ("inputs", |s| s.inputs = Sorted::default()),
            ("candidates", |s| s.candidates = vec![SetId(0)].into()),
            ("tools", |s| s.tools.clear()),
        ];
        hold(not, false, key_with);
    }

    fn check() -> Check {
        Check {
            verdict: FileId(1),
            report: None,
            quarantined: None,
            address: "tide/fit".into(),
        }
    }

    #[test]
    fn each_field_of_a_check_is_in_or_has_a_reason_not_to_be() {
        let with = |change: &dyn Fn(&mut Check)| {
            let mut check = check();
            change(&mut check);
            key_with(&|step| step.check = Some(Box::new(check.clone())))
        };
        let matters: &[Alteration<Check>] = &[
            ("verdict", |c| c.verdict = FileId(0)),
            ("report", |c| c.report = Some(FileId(1))),
        ];
        hold(matters, true, with);
        let not: &[Alteration<Check>] = &[
            ("quarantine: failures are not kept", |c| {
                c.quarantined = Some("flaky".into())
            }),
            ("address, for people", |c| c.address = "tide/fat".into()),
        ];
        hold(not, false, with);
    }

    #[test]
    fn each_field_of_what_the_tool_does_itself_is_in_or_has_a_reason_not_to_be() {
        let place = |to: &str, from: u32| Placement {
            to: within(to),
            from: FileId(from),
        };
        let as_tar = |strip| Unpacking {
            format: ArchiveFormat::Tar,
            strip,
        };
        let as_zip = Unpacking {
            format: ArchiveFormat::Zip,
            strip: 0,
        };
        let extract = |file, name: &str, pattern: &str| Native::Extract {
            file: FileId(file),
            patterns: vec![(name.into(), pattern.into())],
        };
        let fetch = |url: &str, unpack: Option<Unpacking>, digest: &str| Native::Fetch {
            urls: vec![url.into()],
            digest: digest.into(),
            unpack,
            executable: false,
        };
        let image = |file, name: Option<&str>, processor: &str| {
            let (name, platform) = (name.map(Arc::from), ("linux".into(), processor.into()));
            Native::Image(ImageSource {
                files: ImageFiles::Layout(FileId(file)),
                name,
                platform,
            })
        };
        let new_image = |change: &dyn Fn(&mut NewImage)| {
            let Native::Image(base) = image(1, None, "x86_64") else {
                unreachable!("it is one")
            };
            let mut new = NewImage {
                base: Some(base),
                layer: NewLayer::Files(vec![place("a", 0)]),
                env: vec![("A".into(), "b".into())],
                start: vec!["/bin/tide".into()],
                folder: Some("/srv".into()),
                platform: ("linux".into(), "x86_64".into()),
            };
            change(&mut new);
            Native::MakeImage(Box::new(new))
        };
        let all = [
            Native::Write {
                text: "a".into(),
                executable: false,
            },
            Native::Write {
                text: "b".into(),
                executable: false,
            },
            Native::Write {
                text: "a".into(),
                executable: true,
            },
            Native::Stage {
                files: vec![place("a", 0)],
            },
            Native::Stage {
                files: vec![place("b", 0)],
            },
            Native::Stage {
                files: vec![place("a", 1)],
            },
            Native::Pack {
                format: ArchiveFormat::Tar,
                files: vec![place("a", 0)],
            },
            Native::Pack {
                format: ArchiveFormat::Zip,
                files: vec![place("a", 0)],
            },
            Native::Pack {
                format: ArchiveFormat::Tar,
                files: vec![place("b", 0)],
            },
            Native::Unpack {
                archive: FileId(0),
                how: as_tar(0),
            },
            Native::Unpack {
                archive: FileId(0),
                how: as_tar(1),
            },
            Native::Unpack {
                archive: FileId(0),
                how: as_zip,
            },
            Native::Unpack {
                archive: FileId(1),
                how: as_tar(0),
            },
            Native::Part {
                folder: FileId(0),
                path: within("a"),
                is_folder: false,
            },
            Native::Part {
                folder: FileId(0),
                path: within("a"),
                is_folder: true,
            },
            Native::Part {
                folder: FileId(0),
                path: within("b"),
                is_folder: false,
            },
            Native::Part {
                folder: FileId(1),
                path: within("a"),
                is_folder: false,
            },
            extract(0, "uses", "a"),
            extract(1, "uses", "a"),
            extract(0, "names", "a"),
            extract(0, "uses", "b"),
            fetch("https://a.example/a.tar", None, "sha256:1"),
            fetch("https://a.example/a.tar", None, "sha256:2"),
            fetch("https://a.example/a.tar", Some(as_tar(0)), "sha256:1"),
            fetch("https://a.example/a.tar", Some(as_tar(1)), "sha256:1"),
            fetch("https://a.example/a.tar", Some(as_zip), "sha256:1"),
            image(0, None, "x86_64"),
            image(1, None, "x86_64"),
            image(0, Some("1.2"), "x86_64"),
            image(0, None, "aarch64"),
            new_image(&|_| {}),
            new_image(&|new| new.base = None),
            new_image(&|new| new.layer = NewLayer::Files(vec![place("b", 0)])),
            new_image(&|new| new.layer = NewLayer::Tar(FileId(0))),
            new_image(&|new| new.layer = NewLayer::Tar(FileId(1))),
            new_image(&|new| new.env.clear()),
            new_image(&|new| new.start.clear()),
            new_image(&|new| new.folder = None),
            new_image(&|new| new.platform.1 = "aarch64".into()),
            Native::Find(ImageSearch::Tools {
                names: vec!["cc".into()],
                version: None,
            }),
            Native::Find(ImageSearch::Tools {
                names: vec!["ar".into()],
                version: None,
            }),
            Native::Find(ImageSearch::Tools {
                names: vec!["cc".into()],
                version: Some("-V".into()),
            }),
            Native::Find(ImageSearch::Libraries {
                names: vec!["cc".into()],
                for_static: false,
            }),
            Native::Find(ImageSearch::Libraries {
                names: vec!["cc".into()],
                for_static: true,
            }),
        ];
        let key_of =
            |native: &Native| key_with(&|step| step.native = Some(Box::new(native.clone())));
        for (i, one) in all.iter().enumerate() {
            for other in &all[i + 1..] {
                assert_ne!(key_of(one), key_of(other), "{one:?} {other:?}");
            }
        }
        // The same content from somewhere else.
        let elsewhere = fetch("https://b.example/other", None, "sha256:1");
        let there = fetch("https://a.example/a.tar", None, "sha256:1");
        assert_eq!(key_of(&elsewhere), key_of(&there));
    }

    #[test]
    fn each_field_of_a_service_is_in_or_has_a_reason_not_to_be() {
        let with = |change: &dyn Fn(&mut Service)| {
            let mut service = service();
            change(&mut service);
            let service = Arc::new(service);
            key_with(&|step| step.services = vec![service.clone()])
        };
        fn here(
            service: &mut Service,
        ) -> (
            &mut Vec<ServiceCommand>,
            &mut ServiceCommand,
            &mut Vec<ServiceCommand>,
        ) {
            match &mut service.serving {
                Serving::Here {
                    prepare, run, fill, ..
                } => (prepare, run, fill),
                Serving::Elsewhere { .. } => unreachable!("it runs here"),
            }
        }
        let matters: &[Alteration<Service>] = &[
            ("folder", |s| s.folder = path("x")),
            ("prepare", |s| here(s).0.clear()),
            ("run", |s| here(s).1[0].words.push("-v".into())),
            ("program", |s| {
                here(s).1[0].program = ServiceProgram::File(path("boardd"))
            }),
            ("redirect", |s| here(s).1[0].stdout = Some(path("log"))),
            ("fill", |s| here(s).2.clear()),
            ("shared", |s| {
                let Serving::Here { shared, .. } = &mut s.serving else {
                    return;
                };
                *shared = true;
            }),
            ("elsewhere", |s| {
                s.serving = Serving::Elsewhere {
                    address: "a".into(),
                    port: "1".into(),
                }
            }),
            ("variable", |s| s.env[0].1 = "c".into()),
            ("list", |s| s.lists[0].text = "".into()),
            ("folders", |s| s.folders.clear()),
            ("work", |s| s.work = path("tide")),
            ("needs", |s| s.needs.push(Arc::new(service()))),
        ];
        hold(matters, true, with);
        let not: &[Alteration<Service>] = &[
            ("address, for people", |s| s.address = "x".into()),
            ("place", |s| s.place.line = 9),
            ("how it is asked whether it is ready", |s| {
                s.ready = Some(vec![])
            }),
            ("how long it may take", |s| s.patience = 1),
            ("how it is stopped", |s| {
                let Serving::Here { stop, .. } = &mut s.serving else {
                    return;
                };
                *stop = Some(vec![]);
            }),
            // These are among those of the step.
            ("image", |s| {
                s.root = Some(ServiceImage {
                    statement: path("base.image"),
                    files: ImageFiles::Layout(PlainFile {
                        path: path("base"),
                        folder: true,
                    }),
                    name: None,
                    platform: ("linux".into(), "x86_64".into()),
                });
            }),
            ("inputs", |s| s.inputs = Sorted::default()),
            ("tools", |s| s.tools.clear()),
        ];
        hold(not, false, with);
    }
}
