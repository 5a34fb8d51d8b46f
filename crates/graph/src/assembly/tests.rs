//! What is written whole is read back as it was, in any graph; what is cut off is refused.

use super::*;
use crate::FileNode;
use crate::{
    ArchiveFormat, ArgumentFile, Graph, ImageFiles, ImageSearch, ImageSource, NewImage, NewLayer,
    Numbers, Place, PlainFile, Purpose, Role, ServiceImage, SetId, Unpacking, WorkFolder,
    write_service, write_step, write_target,
};
use nubrik_bytes::Encoder;
use nubrik_source::PathWithin;

fn at(path: &str) -> WsPath {
    WsPath::from_normal(path)
}

fn within(path: &str) -> PathWithin {
    PathWithin::new(path).expect("a path within")
}

fn stages<T, F>(program: Program<T, F>) -> Vec<Stage<T, F>> {
    let redirect = |path: &str| Some(at(path));
    let words = vec!["cc".into(), "-c".into()];
    vec![Stage {
        program,
        words,
        stdin: redirect("in"),
        stdout: redirect("out"),
        stderr: None,
        answers: true,
    }]
}

fn service(needs: Vec<Arc<Service>>, serving: Serving) -> Service {
    Service {
        address: "tide/board".into(),
        folder: at(".nubrik/made/tide/board"),
        serving,
        ready: Some(stages(Program::Tool("ask".into()))),
        patience: 7,
        env: vec![("A".into(), "b".into())],
        inputs: vec![at("a.sql")].into(),
        tools: vec!["server".into()],
        folders: vec!["x".into()],
        lists: vec![ArgumentFile {
            path: at("l"),
            text: "one\n".into(),
        }],
        work: at("tide"),
        root: Some(ServiceImage {
            statement: at("made/base.image"),
            files: ImageFiles::Layout(PlainFile {
                path: at("base"),
                folder: true,
            }),
            name: Some("1.2".into()),
            platform: ("linux".into(), "x86_64".into()),
        }),
        needs,
        place: Place {
            file: "targets.nub".into(),
            line: 3,
        },
    }
}

fn services() -> Vec<Arc<Service>> {
    let elsewhere = Serving::Elsewhere {
        address: "\0HOST\0".into(),
        port: "1".into(),
    };
    let here = Serving::Here {
        prepare: vec![
            stages(Program::Tool("init".into())),
            stages(Program::File(at("more"))),
        ],
        run: stages(Program::Tool("server".into())),
        fill: vec![stages(Program::Tool("load".into()))],
        stop: Some(stages(Program::Tool("halt".into()))),
        shared: true,
    };
    let elsewhere = Arc::new(service(Vec::new(), elsewhere));
    vec![Arc::new(service(vec![elsewhere.clone()], here)), elsewhere]
}

/// A graph with one step in which everything is there that a step can have.
fn graph(native: Native, work: WorkFolder) -> Tables {
    let mut graph = Tables::default();
    for path in [
        "fit.c",
        "made/fit.o",
        "made/verdict",
        "made/report.xml",
        "tree",
    ] {
        let maker = path.starts_with("made/").then_some(StepId(0));
        graph.files.push(FileNode {
            path: at(path),
            maker,
            folder: path == "tree",
        });
    }
    graph.tools.extend(["cc".into(), "as".into()]);
    graph.sets.intern(vec![FileId(0), FileId(4)]);
    graph.targets.push(Target {
        address: "tide/fit".into(),
        package: at("tide"),
        kind: "library".into(),
        reads_field: "internal".into(),
        documentation: "Fits.".into(),
        place: Place {
            file: "tide/targets.nub".into(),
            line: 4,
        },
        role: Role::Test,
        private: true,
        tags: vec!["slow".into()],
        results: vec![ResultFile {
            address: "tide/fit".into(),
            file: FileId(1),
            publish: at("tide/fit.o"),
        }],
    });
    graph.steps.push(Box::new(Step {
        target: TargetId(0),
        say: "compile".into(),
        commands: vec![
            Pipeline {
                stages: stages(Program::Tool(ToolId(0))),
            },
            Pipeline {
                stages: stages(Program::File(FileId(0))),
            },
        ],
        env: vec![("LANG".into(), "C".into())],
        folder: at("made"),
        inputs: vec![FileId(0), FileId(4)].into(),
        candidates: vec![SetId(0)].into(),
        outputs: [1, 2, 3]
            .map(|n| OutputNode {
                lines: n == 2,
                early: n == 3,
                ..OutputNode::new(FileId(n), format!("o{n}"))
            })
            .into(),
        found: vec![at("made/d")],
        observed: true,
        scratch: vec![at("made/s")],
        kept: vec![at("made/.kept/k")],
        tools: vec![ToolId(0), ToolId(1)],
        native: Some(Box::new(native)),
        lists: vec![ArgumentFile {
            path: at("made/l"),
            text: "fit.c\n".into(),
        }],
        work,
        root: Some(FileId(4)),
        changes: Some(FileId(3)),
        taken: vec![(within("x"), FileId(1))],
        status: Some(FileId(2)),
        machine: vec!["sparc64".into(), "tide-board".into()],
        limits: Limits {
            network: true,
            timeout: Some(5),
            memory: Some(6),
            processors: 2,
        },
        check: Some(Box::new(Check {
            verdict: FileId(2),
            report: Some(FileId(3)),
            quarantined: Some("flaky".into()),
            address: "tide/fit/spring".into(),
        })),
        services: services(),
        variant: "mode=release".into(),
        place: Place {
            file: "targets.nub".into(),
            line: 9,
        },
    }));
    graph
}

fn graphs() -> Vec<Tables> {
    let place = || {
        vec![Placement {
            to: within("a"),
            from: FileId(4),
        }]
    };
    let natives = [
        Native::Write {
            text: "a".into(),
            executable: true,
        },
        Native::Stage { files: place() },
        Native::Pack {
            format: ArchiveFormat::TarZst,
            files: place(),
        },
        Native::Unpack {
            archive: FileId(0),
            how: Unpacking {
                format: ArchiveFormat::Zip,
                strip: 2,
            },
        },
        Native::Part {
            folder: FileId(4),
            path: within("a/b"),
            is_folder: true,
        },
        Native::Extract {
            file: FileId(0),
            patterns: vec![("uses".into(), "use (.*)".into())],
        },
        Native::Fetch {
            urls: vec!["https://a.example/a.tar".into()],
            digest: "sha256:1".into(),
            unpack: Some(Unpacking {
                format: ArchiveFormat::Tar,
                strip: 1,
            }),
            executable: false,
        },
        Native::Image(ImageSource {
            files: ImageFiles::Blobs {
                manifest: FileId(1),
                blobs: vec![FileId(0), FileId(4)],
            },
            name: None,
            platform: ("linux".into(), "aarch64".into()),
        }),
        Native::Image(ImageSource {
            files: ImageFiles::Layout(FileId(4)),
            name: Some("1.2".into()),
            platform: ("linux".into(), "x86_64".into()),
        }),
        Native::MakeImage(Box::new(NewImage {
            base: Some(ImageSource {
                files: ImageFiles::Layout(FileId(4)),
                name: None,
                platform: ("linux".into(), "x86_64".into()),
            }),
            layer: NewLayer::Files(place()),
            env: vec![("A".into(), "b".into())],
            start: vec!["/bin/tide".into()],
            folder: Some("/srv".into()),
            platform: ("linux".into(), "x86_64".into()),
        })),
        Native::MakeImage(Box::new(NewImage {
            base: None,
            layer: NewLayer::Tar(FileId(1)),
            env: Vec::new(),
            start: Vec::new(),
            folder: None,
            platform: ("linux".into(), "x86_64".into()),
        })),
        Native::Find(ImageSearch::Tools {
            names: vec!["cc".into()],
            version: Some("-V".into()),
        }),
        Native::Find(ImageSearch::Libraries {
            names: vec!["z".into()],
            for_static: true,
        }),
    ];
    let works = [
        WorkFolder::Root,
        WorkFolder::Source(at("tide")),
        WorkFolder::Private {
            at: at("made/w"),
            copy_of: Some(FileId(4)),
        },
        WorkFolder::Private {
            at: at("made/w"),
            copy_of: None,
        },
    ];
    let mut all: Vec<Tables> = natives
        .into_iter()
        .map(|native| graph(native, WorkFolder::Root))
        .collect();
    let write = || Native::Write {
        text: "a".into(),
        executable: true,
    };
    all.extend(works.into_iter().map(|work| graph(write(), work)));
    all
}

fn written(graph: &Tables, purpose: Purpose) -> Vec<u8> {
    let mut out = Encoder::new();
    write_step(graph, &graph.steps[0], purpose, &mut out);
    out.bytes
}

/// The graph that is read back, whose numbers are others.
fn read_back(graph: &Tables) -> Tables {
    let mut target = Encoder::new();
    write_target(graph, &graph.targets[0], Purpose::Whole, &mut target);
    let mut assembly = Assembly::default();
    // So that numbers differ.
    assembly.file("first", false);
    assembly.joined.tool("first");
    let target = assembly.target(&target.bytes).expect("a target");
    let files = graph.sets.files(SetId(0)).iter();
    let files = files
        .map(|f| assembly.file(graph.file(*f).path.as_str(), graph.file(*f).folder))
        .collect();
    let set = assembly.set(files);
    assembly
        .step(&written(graph, Purpose::Whole), target, vec![set])
        .expect("a step");
    assembly.joined.tables
}

#[test]
fn a_step_with_everything_comes_back_with_everything() {
    for graph in graphs() {
        let back = read_back(&graph);
        assert_eq!(
            written(&back, Purpose::Whole),
            written(&graph, Purpose::Whole)
        );
        // What no number is in is equal as it is.
        let (one, other) = (&graph.steps[0], &back.steps[0]);
        assert_eq!(
            (&one.env, &one.services, one.limits),
            (&other.env, &other.services, other.limits)
        );
        assert_eq!(
            (&one.say, &one.place, &one.variant),
            (&other.say, &other.place, &other.variant)
        );
        assert_eq!(back.candidates(other).count(), 2);
        // The numbers of one graph put in place of the other's make the very same step.
        let file = |path: &str| back.files.iter().position(|f| f.path.as_str() == path);
        let files = graph
            .files
            .iter()
            .map(|f| FileId(file(f.path.as_str()).unwrap_or(0) as u32));
        let tool = |name: &Arc<str>| back.tools.iter().position(|t| t == name);
        let tools = graph
            .tools
            .iter()
            .map(|name| ToolId(tool(name).unwrap_or(0) as u32));
        let (files, tools): (Vec<FileId>, Vec<ToolId>) = (files.collect(), tools.collect());
        let mut numbers = Numbers {
            files: &files,
            tools: &tools,
            targets: &[TargetId(0)],
            sets: &[SetId(0)],
        };
        let mut moved = one.clone();
        moved.renumber(&mut numbers);
        assert_eq!(&moved, other);
    }
}

#[test]
fn numbers_are_in_no_bytes() {
    for graph in graphs() {
        assert_eq!(
            written(&read_back(&graph), Purpose::Key),
            written(&graph, Purpose::Key)
        );
    }
}

#[test]
fn what_is_cut_off_is_refused() {
    for graph in graphs() {
        let bytes = written(&graph, Purpose::Whole);
        for cut in 0..bytes.len() {
            let step = Assembly::default().step(&bytes[..cut], TargetId(0), Vec::new());
            assert!(step.is_err(), "cut at {cut}");
        }
    }
    let mut out = Encoder::new();
    write_service(&services()[0], Purpose::Whole, &mut out);
    for cut in 0..out.bytes.len() {
        assert!(
            service_below(&mut Decoder::new(&out.bytes[..cut]), 0).is_err(),
            "cut at {cut}"
        );
    }
}

#[test]
fn a_whole_graph_comes_back_as_it_was() {
    for tables in graphs() {
        let graph = tables.finish().expect("a graph");
        let mut out = Encoder::new();
        graph.encode(&mut out);
        let back = Graph::decode(&mut Decoder::new(&out.bytes), 2).expect("a graph");
        assert_eq!(back, graph);
        for cut in 0..out.bytes.len() {
            assert!(
                Graph::decode(&mut Decoder::new(&out.bytes[..cut]), 1).is_err(),
                "cut at {cut}"
            );
        }
        let step = (*graph.steps[0]).clone();
        let effect = crate::Effect {
            address: "tide/send".into(),
            step,
            lasting: true,
        };
        let mut out = Encoder::new();
        graph.encode_effect(&effect, &mut out);
        assert_eq!(
            graph.decode_effect(&mut Decoder::new(&out.bytes)),
            Ok(effect)
        );
    }
}

#[test]
fn an_index_finds_the_targets_that_looking_through_all_finds() {
    for mut tables in graphs() {
        // Of two with one address, the first.
        tables.targets.extend(tables.targets.clone());
        let graph = tables.finish().expect("a graph");
        let index = graph.target_index();
        for address in graph
            .targets
            .iter()
            .map(|target| &*target.address)
            .chain(["", "nowhere"])
        {
            assert_eq!(index.find(address), graph.find_target(address), "{address}");
        }
        for service in graph
            .steps
            .iter()
            .flat_map(|step| &step.services)
            .chain(&services())
        {
            assert_eq!(
                index.of_service(service),
                graph.target_of_service(service),
                "{}",
                service.address
            );
        }
    }
}

/// Changes tables in a way that makes them no graph.
type Spoil = fn(&mut Tables);

#[test]
fn tables_with_numbers_of_no_row_are_no_graph() {
    let whole = graph(Native::Stage { files: Vec::new() }, WorkFolder::Root);
    assert!(whole.clone().finish().is_ok());
    let spoils: [Spoil; 9] = [
        |t| t.steps[0].target = TargetId(1),
        |t| t.steps[0].tools.push(ToolId(2)),
        |t| t.steps[0].candidates = vec![SetId(1)].into(),
        |t| t.steps[0].inputs = vec![FileId(5)].into(),
        |t| t.steps[0].outputs[0].file = FileId(0),
        |t| t.files[1].maker = None,
        |t| t.files[0].maker = Some(StepId(0)),
        |t| t.targets[0].results[0].file = FileId(5),
        |t| {
            t.sets.intern(vec![FileId(5)]);
        },
    ];
    for (number, spoil) in spoils.into_iter().enumerate() {
        let mut tables = whole.clone();
        spoil(&mut tables);
        assert!(tables.finish().is_err(), "spoilt in way {number}");
    }
}

#[test]
fn bytes_with_numbers_of_no_row_are_refused() {
    let whole = graph(Native::Stage { files: Vec::new() }, WorkFolder::Root)
        .finish()
        .expect("a graph");
    let effect = crate::Effect {
        address: "a".into(),
        step: (*whole.steps[0]).clone(),
        lasting: false,
    };
    let mut bytes = Encoder::new();
    whole.encode_effect(&effect, &mut bytes);
    // The same rows without steps, so that they can be fewer.
    let mut rows = whole.into_tables();
    rows.steps.clear();
    rows.files.iter_mut().for_each(|file| file.maker = None);
    let fewer: [Spoil; 3] = [
        |t| t.files.truncate(3),
        |t| t.tools.truncate(1),
        |t| t.targets.clear(),
    ];
    let read = |rows: Tables| {
        rows.finish()
            .expect("a graph")
            .decode_effect(&mut Decoder::new(&bytes.bytes))
    };
    assert_eq!(read(rows.clone()), Ok(effect));
    rows.targets[0].results.clear();
    rows.sets = crate::FileSets::default();
    rows.sets.intern(vec![FileId(0)]);
    for spoil in fewer {
        let mut rows = rows.clone();
        spoil(&mut rows);
        assert!(read(rows).is_err());
    }
}

#[test]
fn a_path_that_leads_out_is_none_of_a_step() {
    const FINE: &[u8] = b"aa/etc/passwd";
    let mut tables = Tables::default();
    tables.targets.push(Target::plain("t"));
    tables.files.push(FileNode {
        path: at("aa/etc/passwd"),
        maker: None,
        folder: false,
    });
    let step = Step {
        inputs: [FileId(0)].into_iter().collect(),
        ..Step::empty(at("made/t"))
    };
    tables.steps.push(Box::new(step));
    let graph = tables.finish().unwrap();
    let (mut row, mut owner) = (Encoder::new(), Encoder::new());
    write_step(
        &graph,
        graph.step(crate::StepId(0)),
        Purpose::Whole,
        &mut row,
    );
    write_target(
        &graph,
        graph.target(TargetId(0)),
        Purpose::Whole,
        &mut owner,
    );
    let place = row
        .bytes
        .windows(FINE.len())
        .position(|part| part == FINE)
        .unwrap();
    let reads = |path: &[u8]| {
        let mut bytes = row.bytes.clone();
        bytes[place..place + FINE.len()].copy_from_slice(path);
        let mut assembly = Assembly::default();
        let target = assembly.target(&owner.bytes).unwrap();
        assembly.step(&bytes, target, Vec::new()).is_ok()
    };
    assert!(reads(FINE));
    for path in [
        b"../etc/passwd",
        b"//a/etc/passw",
        b"a/../../passw",
        b"a//etc/passwd",
        b"./aetc/passwd",
    ] {
        assert!(!reads(path), "{}", String::from_utf8_lossy(path));
    }
}

#[test]
fn services_that_need_one_another_without_end_are_refused() {
    let elsewhere = || Serving::Elsewhere {
        address: "a".into(),
        port: "1".into(),
    };
    let nested = |depth: usize| {
        let mut last = Arc::new(service(Vec::new(), elsewhere()));
        for _ in 0..depth {
            last = Arc::new(service(vec![last], elsewhere()));
        }
        let mut out = Encoder::new();
        write_service(&last, Purpose::Whole, &mut out);
        Assembly::service(&mut Decoder::new(&out.bytes)).is_ok()
    };
    assert!(nested(DEEPEST - 1) && !nested(DEEPEST + 1));
}

#[test]
fn a_set_of_a_graph_names_files_that_are_there_and_is_there_once() {
    let mut tables = Tables::default();
    tables.files.push(FileNode {
        path: at("a"),
        maker: None,
        folder: false,
    });
    let none = tables.clone().finish().unwrap();
    let mut whole = Encoder::new();
    none.encode(&mut whole);
    let mut before = Encoder::new();
    (none.files.to_vec(), none.tools.to_vec()).write(&mut before);
    let rest = whole
        .bytes
        .strip_prefix(&*before.bytes)
        .expect("files and tools come first");
    let with = |sets: &[Vec<FileId>]| {
        let mut out = Encoder::new();
        out.bytes.extend_from_slice(&before.bytes);
        out.u32(sets.len() as u32);
        sets.iter().for_each(|set| set.write(&mut out));
        // The number of sets was none.
        out.bytes.extend_from_slice(&rest[4..]);
        Graph::decode(&mut Decoder::new(&out.bytes), 1).is_ok()
    };
    assert!(with(&[]) && with(&[vec![FileId(0)]]));
    assert!(!with(&[vec![FileId(1)]]), "a file that is not there");
    assert!(
        !with(&[vec![FileId(0)], vec![FileId(0)]]),
        "the same set twice"
    );
}
