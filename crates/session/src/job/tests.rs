//! Jobs and answers: who may give them, and what they may name.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use nubrik_shared::Member;

use super::*;

/// What went by the team's store.
#[derive(Default)]
struct Hold(std::cell::RefCell<Vec<Vec<u8>>>);

impl Freight for Hold {
    fn give(&self, bytes: &[u8]) -> Result<Digest, String> {
        self.0.borrow_mut().push(bytes.to_vec());
        Ok(Digest::of(bytes))
    }

    fn fetch(&self, digest: &Digest, _: u64) -> Option<Vec<u8>> {
        self.0.borrow().iter().find(|bytes| Digest::of(bytes) == *digest).cloned()
    }
}

#[test]
fn paths_lead_nowhere_else() {
    let graph = |path: &str, folder: &str| {
        let mut tables = nubrik_graph::Tables::default();
        tables.targets.push(nubrik_graph::Target::plain("all"));
        let path = nubrik_source::WsPath::from_normal(path);
        tables.files.push(nubrik_graph::FileNode { path, maker: None, folder: false });
        tables.steps.push(Box::new(Step::empty(nubrik_source::WsPath::from_normal(folder))));
        tables.finish().unwrap()
    };
    assert!(has_plain_paths(&graph("src/a.c", ".nubrik/made/x")));
    for (path, folder) in [("../a", "x"), ("a/../../b", "x"), ("a", "../x"), ("a", "x/..")] {
        assert!(!has_plain_paths(&graph(path, folder)), "{path} {folder}");
    }
}

#[test]
fn sources_lie_where_a_checkout_has_them() {
    let is_read = |path: &str| {
        let source = JobSource { path: path.to_owned(), content: Digest::of(b"x"), executable: false };
        let set = JobSet { sources: vec![source], ..JobSet::default() };
        JobSet::decode(&set.encode()) == Ok(set)
    };
    assert!(is_read("src/a.c") && is_read("nubrik.toml") && is_read("src/out/.nubrik"));
    for path in ["", "..", "../a", "/etc/a", "a/../b", ".nubrik", ".nubrik/made/x/link/.profile", "out/a"] {
        assert!(!is_read(path), "{path:?}");
    }
}

#[test]
fn only_those_are_read_that_someone_signed_who_may() {
    let (client, worker) = (SecretKey::generate().unwrap(), SecretKey::generate().unwrap());
    let member = |key: &SecretKey, line: &str| Member {
        name: line.to_owned(),
        key: key.public(),
        lines: vec![line.to_owned()],
    };
    let members =
        KeyList { members: vec![member(&client, JOBS), member(&worker, WORKERS)], ..KeyList::default() };
    let graph = nubrik_graph::Tables::default().finish().unwrap();
    let job = JobSheet {
        build: "b7".to_owned(),
        number: 3,
        first_key: Digest::of(b"key"),
        is_bound: false,
        tools: vec![("cc".into(), Digest::of(b"cc"))],
        graph,
        step: StepId(0),
        makers: Vec::new(),
        made: Vec::new(),
        sources: Vec::new(),
        sets: Vec::new(),
        rows: Vec::new(),
    };
    let hold = Hold::default();
    // There is no such step in it.
    assert!(JobSheet::open(&job.sign(&client, &hold).unwrap(), &members, &hold).is_err());
    assert!(
        JobSheet::open(&job.sign(&worker, &hold).unwrap(), &members, &hold)
            .err()
            .unwrap()
            .contains("no member")
    );
    let failed = FailedJob { code: Some(-3), signal: None, printed: b"no tide".to_vec(), micros: 7 };
    let answer = AnswerSheet {
        build: "b7".to_owned(),
        number: 3,
        by: "one".to_owned(),
        end: Err(NotMade { why: "no".to_owned(), failed: Some(failed.clone()) }),
        rows: vec![7],
    };
    let bytes = answer.sign(&worker, &hold).unwrap();
    let (key, read) = AnswerSheet::open(&bytes, &members, &hold).unwrap();
    assert_eq!(read.end.as_ref().err().and_then(|not| not.failed.as_ref()), Some(&failed));
    assert_eq!((key, read.build.as_str(), read.number), (worker.public(), "b7", 3));
    assert!(AnswerSheet::open(&answer.sign(&client, &hold).unwrap(), &members, &hold).is_err());
    for at in 0..bytes.len() {
        let mut bad = bytes.clone();
        bad[at] ^= 1;
        assert!(AnswerSheet::open(&bad, &members, &hold).is_err());
        assert!(AnswerSheet::open(&bytes[..at], &members, &hold).is_err());
    }
}

#[test]
fn what_is_too_long_for_a_message_goes_by_the_store() {
    let worker = SecretKey::generate().unwrap();
    let member = Member { name: "w".to_owned(), key: worker.public(), lines: Vec::new() };
    let members = KeyList { members: vec![member], ..KeyList::default() };
    let answer = |printed: Vec<u8>| AnswerSheet {
        build: "b7".to_owned(),
        number: 3,
        by: "one".to_owned(),
        end: Err(NotMade {
            why: "no".to_owned(),
            failed: Some(FailedJob { code: Some(1), signal: None, printed, micros: 7 }),
        }),
        rows: Vec::new(),
    };
    let hold = Hold::default();
    // What repeats itself is short.
    let calm = answer(vec![b'a'; 4 << 20]).sign(&worker, &hold).unwrap();
    assert!(calm.len() < 2_000 && hold.0.borrow().is_empty(), "{}", calm.len());
    let noise = |count: u64| (0..count).flat_map(|at| Digest::of(&at.to_le_bytes()).0).collect::<Vec<u8>>();
    let loud = answer(noise(40_000)).sign(&worker, &hold).unwrap();
    assert!(loud.len() < 300 && hold.0.borrow().len() == 1, "{}", loud.len());
    for (message, printed) in [(&calm, vec![b'a'; 4 << 20]), (&loud, noise(40_000))] {
        let (_, read) = AnswerSheet::open(message, &members, &hold).unwrap();
        assert!(read.end.err().unwrap().failed.unwrap().printed == printed);
    }
    // Other bytes than those that were signed are none.
    assert!(AnswerSheet::open(&loud, &members, &Hold::default()).err().unwrap().contains("is not in"));
    let other = Hold(vec![b"other".to_vec()].into());
    assert!(AnswerSheet::open(&loud, &members, &other).is_err());
}
