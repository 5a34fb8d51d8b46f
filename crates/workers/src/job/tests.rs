//! Jobs and answers: who may give them, and what they may name.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use nubrik_shared::Member;

use nubrik_graph::Step;

use super::*;

/// What went by the shared cache.
#[derive(Default)]
struct Hold(std::cell::RefCell<Vec<Vec<u8>>>);

impl Freight for Hold {
    fn give(&self, bytes: &[u8]) -> Result<Digest, SharedTrouble> {
        self.0.borrow_mut().push(bytes.to_vec());
        Ok(Digest::of(bytes))
    }

    fn fetch(&self, digest: &Digest, _: u64) -> Option<Vec<u8>> {
        self.0
            .borrow()
            .iter()
            .find(|bytes| Digest::of(bytes) == *digest)
            .cloned()
    }
}

/// A job without any step in its graph.
fn a_job() -> JobSheet {
    JobSheet {
        build: "b7".to_owned(),
        number: 3,
        first_key: Digest::of(b"key"),
        is_bound: false,
        tools: vec![("cc".into(), Digest::of(b"cc"))],
        graph: nubrik_graph::Tables::default().finish().unwrap(),
        step: StepId(0),
        makers: Vec::new(),
        made: Vec::new(),
        sources: Vec::new(),
        sets: Vec::new(),
        rows: Vec::new(),
    }
}

/// A client that may give jobs, and whoever may do what.
fn client() -> (SecretKey, KeyList) {
    let client = SecretKey::generate().unwrap();
    let member = Member {
        name: "c".to_owned(),
        key: client.public(),
        channels: vec![JOBS.to_owned()],
    };
    (
        client,
        KeyList {
            members: vec![member],
            ..KeyList::default()
        },
    )
}

/// What becomes of a job of a step, signed by one who may, after a change to it.
fn opened(change: impl FnOnce(&mut nubrik_graph::Tables)) -> Result<JobSheet, RefusedMessage> {
    let path = nubrik_source::WsPath::from_normal;
    let mut tables = nubrik_graph::Tables::default();
    tables.targets.push(nubrik_graph::Target::plain("all"));
    tables.tools.push("cc".into());
    for file in ["a.c", ".nubrik/made/a/a.o"] {
        tables.files.push(nubrik_graph::FileNode {
            path: path(file),
            maker: None,
            folder: false,
        });
    }
    tables.files[1].maker = Some(StepId(0));
    let stage = nubrik_graph::Stage {
        program: nubrik_graph::Program::Tool(nubrik_graph::ToolId(0)),
        words: Vec::new(),
        stdin: None,
        stdout: None,
        stderr: None,
        answers: false,
    };
    let file = nubrik_graph::FileId(1);
    tables.steps.push(Box::new(Step {
        commands: vec![nubrik_graph::Pipeline {
            stages: vec![stage],
        }],
        outputs: vec![nubrik_graph::OutputNode::new(file, "a.o")],
        ..Step::empty(path(".nubrik/made/a"))
    }));
    change(&mut tables);
    let job = JobSheet {
        graph: tables.finish().unwrap(),
        ..a_job()
    };
    let (client, members) = client();
    let hold = Hold::default();
    JobSheet::open(&job.sign(&client, &hold).unwrap(), &members, &hold)
}

#[test]
fn paths_of_a_job_lead_nowhere_else() {
    use nubrik_source::WsPath;
    assert!(opened(|_| ()).is_ok());
    // `from_normal` takes what it is given: here the paths of one who means harm.
    let odd = || WsPath::root().join("../a");
    let step = |change: fn(&mut Step, WsPath)| opened(|tables| change(&mut tables.steps[0], odd()));
    for (what, read) in [
        ("a file", opened(|tables| tables.files[0].path = odd())),
        ("an output", opened(|tables| tables.files[1].path = odd())),
        ("its folder", step(|step, odd| step.folder = odd)),
        (
            "a list of what it read",
            step(|step, odd| step.found.push(odd)),
        ),
        ("a scratch path", step(|step, odd| step.scratch.push(odd))),
        (
            "its work folder",
            step(|step, odd| step.work = nubrik_graph::WorkFolder::Source(odd)),
        ),
        (
            "a list",
            step(|step, path| {
                step.lists.push(nubrik_graph::ArgumentFile {
                    path,
                    text: "".into(),
                })
            }),
        ),
        (
            "where it writes",
            step(|step, odd| step.commands[0].stages[0].stdout = Some(odd)),
        ),
        (
            "a target's package",
            opened(|tables| tables.targets[0].package = odd()),
        ),
    ] {
        assert_eq!(read.err(), Some(RefusedMessage::Damaged), "{what}");
    }
}

#[test]
fn a_job_is_commands_and_uses_nothing_of_one_machine() {
    use nubrik_graph::{FileId, Native};
    use nubrik_source::PathWithin;
    let step = |change: fn(&mut Step)| opened(|tables| change(&mut tables.steps[0]));
    let native =
        |native: fn() -> Native| opened(|tables| tables.steps[0].native = Some(Box::new(native())));
    for (what, read) in [
        ("no commands", step(|step| step.commands.clear())),
        ("the network", step(|step| step.limits.network = true)),
        (
            "a kept folder",
            step(|step| step.kept.push(step.folder.child(".kept"))),
        ),
        ("an early output", step(|step| step.outputs[0].early = true)),
        (
            "a program that stays",
            step(|step| step.commands[0].stages[0].answers = true),
        ),
        (
            "a part of a folder besides",
            native(|| Native::Part {
                folder: FileId(0),
                path: PathWithin::top(),
                is_folder: true,
            }),
        ),
        (
            "fetching besides",
            native(|| Native::Fetch {
                urls: Vec::new(),
                digest: "".into(),
                unpack: None,
                executable: false,
            }),
        ),
    ] {
        assert_eq!(read.err(), Some(RefusedMessage::Tied), "{what}");
    }
}

#[test]
fn sources_lie_where_a_checkout_has_them() {
    let is_read = |path: &str| {
        let source = JobSource {
            path: path.to_owned(),
            content: Digest::of(b"x"),
            executable: false,
        };
        let set = JobSet {
            sources: vec![source],
            ..JobSet::default()
        };
        JobSet::decode(&set.encode()) == Ok(set)
    };
    assert!(is_read("src/a.c") && is_read("nubrik.toml") && is_read("src/out/.nubrik"));
    for path in [
        "",
        "..",
        "../a",
        "/etc/a",
        "a/../b",
        ".nubrik",
        ".nubrik/made/x/link/.profile",
        "out/a",
    ] {
        assert!(!is_read(path), "{path:?}");
    }
}

#[test]
fn nothing_may_come_behind_a_sheet() {
    let (key, members) = client();
    let hold = Hold::default();
    let sheet = a_job().to_version(VERSION);
    let frame = nubrik_shared::squeezed(&sheet).unwrap();
    let mut whole = Encoder::new();
    whole.u64(sheet.len() as u64);
    whole.bool(true);
    whole.bytes(&frame);
    let longer = [&whole.bytes[..], b"x"].concat();
    let read = |body: &[u8]| {
        let message = message::signed(&key, message::SignedThing::Job, body);
        message::received(&message, &members, JOBS, (message::SignedThing::Job, &hold))
    };
    assert!(read(&whole.bytes).is_ok());
    assert_eq!(read(&longer).err(), Some(RefusedMessage::Damaged));
}

#[test]
fn only_those_are_read_that_someone_signed_who_may() {
    let (client, worker) = (
        SecretKey::generate().unwrap(),
        SecretKey::generate().unwrap(),
    );
    let member = |key: &SecretKey, channel: &str| Member {
        name: channel.to_owned(),
        key: key.public(),
        channels: vec![channel.to_owned()],
    };
    let members = KeyList {
        members: vec![member(&client, JOBS), member(&worker, WORKERS)],
        ..KeyList::default()
    };
    let job = a_job();
    let hold = Hold::default();
    // There is no such step in it.
    assert!(JobSheet::open(&job.sign(&client, &hold).unwrap(), &members, &hold).is_err());
    let refused = JobSheet::open(&job.sign(&worker, &hold).unwrap(), &members, &hold).err();
    assert_eq!(
        refused,
        Some(RefusedMessage::NoMember(worker.public(), JOBS.to_owned()))
    );
    let failed = FailedJob {
        code: Some(-3),
        signal: None,
        printed: b"no tide".to_vec(),
        micros: 7,
    };
    let answer = AnswerSheet {
        build: "b7".to_owned(),
        number: 3,
        by: "one".to_owned(),
        end: Err(NotMade {
            why: "no".to_owned(),
            failed: Some(failed.clone()),
        }),
        rows: vec![7],
    };
    let bytes = answer.sign(&worker, &hold).unwrap();
    let (key, read) = AnswerSheet::open(&bytes, &members, &hold).unwrap();
    assert_eq!(
        read.end.as_ref().err().and_then(|not| not.failed.as_ref()),
        Some(&failed)
    );
    assert_eq!(
        (key, read.build.as_str(), read.number),
        (worker.public(), "b7", 3)
    );
    assert!(AnswerSheet::open(&answer.sign(&client, &hold).unwrap(), &members, &hold).is_err());
    for at in 0..bytes.len() {
        let mut bad = bytes.clone();
        bad[at] ^= 1;
        assert!(AnswerSheet::open(&bad, &members, &hold).is_err());
        assert!(AnswerSheet::open(&bytes[..at], &members, &hold).is_err());
    }
}

#[test]
fn what_another_version_wrote_is_refused_as_such() {
    let (client, members) = client();
    let hold = Hold::default();
    for (version, word) in [
        (VERSION - 1, "an older version"),
        (VERSION + 1, "a newer version"),
    ] {
        let message = sent(
            &client,
            SignedThing::Job,
            &a_job().to_version(version),
            &hold,
        )
        .unwrap();
        let refused = JobSheet::open(&message, &members, &hold).err();
        assert_eq!(refused, Some(RefusedMessage::OtherVersion(version)));
        assert!(refused.is_some_and(|refused| refused.to_string().starts_with(word)));
    }
    let message = sent(&client, SignedThing::Job, &[], &hold).unwrap();
    assert_eq!(
        JobSheet::open(&message, &members, &hold).err(),
        Some(RefusedMessage::Damaged)
    );
}

#[test]
fn what_is_too_long_for_a_message_goes_by_the_store() {
    let worker = SecretKey::generate().unwrap();
    let member = Member {
        name: "w".to_owned(),
        key: worker.public(),
        channels: Vec::new(),
    };
    let members = KeyList {
        members: vec![member],
        ..KeyList::default()
    };
    let answer = |printed: Vec<u8>| AnswerSheet {
        build: "b7".to_owned(),
        number: 3,
        by: "one".to_owned(),
        end: Err(NotMade {
            why: "no".to_owned(),
            failed: Some(FailedJob {
                code: Some(1),
                signal: None,
                printed,
                micros: 7,
            }),
        }),
        rows: Vec::new(),
    };
    let hold = Hold::default();
    // What repeats itself is short.
    let calm = answer(vec![b'a'; 4 << 20]).sign(&worker, &hold).unwrap();
    assert!(
        calm.len() < 2_000 && hold.0.borrow().is_empty(),
        "{}",
        calm.len()
    );
    let noise = |count: u64| {
        (0..count)
            .flat_map(|at| Digest::of(&at.to_le_bytes()).0)
            .collect::<Vec<u8>>()
    };
    let loud = answer(noise(40_000)).sign(&worker, &hold).unwrap();
    assert!(
        loud.len() < 300 && hold.0.borrow().len() == 1,
        "{}",
        loud.len()
    );
    for (message, printed) in [(&calm, vec![b'a'; 4 << 20]), (&loud, noise(40_000))] {
        let (_, read) = AnswerSheet::open(message, &members, &hold).unwrap();
        assert!(read.end.err().unwrap().failed.unwrap().printed == printed);
    }
    // Other bytes than those that were signed are none.
    assert!(
        AnswerSheet::open(&loud, &members, &Hold::default()).err()
            == Some(RefusedMessage::NotThere)
    );
    let other = Hold(vec![b"other".to_vec()].into());
    assert!(AnswerSheet::open(&loud, &members, &other).is_err());
}
