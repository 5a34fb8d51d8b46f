//! Parts of a build, each beside a limit that is measured in the same run:
//!
//! - `key`: putting together and hashing a step's key / hashing as many bytes
//! - `files`: asking for the times of 10,000 known files / `stat` of the same paths
//! - `state`: reading the state of 2,000 steps and looking each up / reading the file and hashing
//!   it
//! - `evaluation`: 2,000 targets in 100 packages / reading the same files

use std::fs;
use std::hint::black_box;
use std::path::PathBuf;
use std::sync::Arc;

use criterion::{Criterion, criterion_group, criterion_main};

use nubrik_benches::{compiling_step, write_packages};
use nubrik_bytes::Digest;
use nubrik_confine::CancelSwitch;
use nubrik_engine::{OutsideFiles, declared_key};
use nubrik_lang::AddressPattern;
use nubrik_session::{Machine, Session};
use nubrik_source::{FilePath, WsPath};

fn key(c: &mut Criterion) {
    let graph = compiling_step();
    let digest = Digest::of(b"content");
    let tools: Vec<(Arc<str>, Digest)> = vec![("cc".into(), digest)];
    let inputs: Vec<(FilePath, Digest)> = graph.steps[0]
        .inputs
        .iter()
        .map(|f| (FilePath::from(&graph.file(*f).path), digest))
        .collect();
    let words: usize = graph.steps[0].commands[0].stages[0]
        .words
        .iter()
        .map(|w| w.len() + 4)
        .sum();
    let paths: usize = inputs
        .iter()
        .map(|(path, _)| path.as_str().len() + 36)
        .sum();
    let bytes = vec![7u8; words + paths];
    let mut group = c.benchmark_group("key");
    group.bench_function("ours", |b| {
        b.iter(|| declared_key(&graph, &graph.steps[0], &tools, &inputs))
    });
    group.bench_function("limit", |b| b.iter(|| blake3::hash(black_box(&bytes))));
    group.finish();
}

fn files(c: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a folder");
    let names: Vec<String> = (0..10_000)
        .map(|i| format!("part{}/file{i}.c", i % 100))
        .collect();
    for part in 0..100 {
        fs::create_dir_all(folder.path().join(format!("part{part}"))).expect("a folder");
    }
    names
        .iter()
        .for_each(|name| fs::write(folder.path().join(name), name).expect("a file"));
    let cancel = Arc::new(CancelSwitch::new().expect("a switch"));
    let machine = Machine::new(folder.path(), "/usr/bin".into(), b"", cancel).expect("a machine");
    let paths: Vec<PathBuf> = names.iter().map(|name| folder.path().join(name)).collect();
    let mut group = c.benchmark_group("files");
    group.sample_size(30);
    let files: Vec<FilePath> = names
        .iter()
        .map(|name| FilePath::from(&WsPath::from_normal(name)))
        .collect();
    group.bench_function("ours", |b| {
        b.iter(|| files.iter().filter_map(|f| machine.check(f)).count())
    });
    group.bench_function("limit", |b| {
        b.iter(|| paths.iter().filter(|p| p.metadata().is_ok()).count())
    });
    group.finish();
}

/// A session in a folder with the packages, evaluated as a whole.
fn evaluate(session: &Session) -> usize {
    let all = AddressPattern::below(&WsPath::root());
    let evaluation = session.evaluate(&[all]);
    assert!(
        evaluation.diagnostics.is_empty(),
        "{:?}",
        evaluation.diagnostics
    );
    evaluation.graph.steps.len()
}

struct Quiet;

impl nubrik_engine::Listener for Quiet {
    fn hear(&self, _: &nubrik_engine::Event) {}
}

fn state(c: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a folder");
    write_packages(folder.path()).expect("packages");
    let open = || {
        let cancel = Arc::new(CancelSwitch::new().expect("a switch"));
        Session::open(folder.path(), cancel)
            .map_err(|_| "no session")
            .expect("a session")
    };
    let mut session = open();
    session.keep_results_in(folder.path().join("store"));
    let mut session = session
        .lock(|| ())
        .expect("a lock")
        .expect("nobody ends it");
    let all = [AddressPattern::below(&WsPath::root())];
    let evaluation = session.evaluate(&all);
    let options = nubrik_engine::Options {
        jobs: 2,
        keep_going: true,
        ..nubrik_engine::Options::plain()
    };
    let report = session.build(&all, &evaluation, &Quiet, options);
    let summary = report.map_err(|_| "no build").expect("a build").summary;
    assert_eq!((summary.counts.ran, summary.counts.steps), (2000, 2000));
    drop(session);
    let written = [
        folder.path().join(".nubrik/state"),
        folder.path().join(".nubrik/state-log"),
    ];
    let mut group = c.benchmark_group("state");
    group.sample_size(30);
    group.bench_function("ours", |b| {
        b.iter(|| {
            // What is remembered is read once a session.
            let reader = open();
            let steps = &reader.state().steps;
            evaluation
                .graph
                .steps
                .iter()
                .filter(|s| steps.get(s.folder.as_str()).is_some())
                .count()
        })
    });
    group.bench_function("limit", |b| {
        b.iter(|| {
            written
                .iter()
                .map(|path| blake3::hash(&fs::read(path).unwrap_or_default()))
                .count()
        })
    });
    group.finish();
}

fn evaluation(c: &mut Criterion) {
    let folder = tempfile::tempdir().expect("a folder");
    write_packages(folder.path()).expect("packages");
    let cancel = Arc::new(CancelSwitch::new().expect("a switch"));
    let session = Session::open(folder.path(), cancel)
        .map_err(|_| "no session")
        .expect("a session");
    let files: Vec<PathBuf> = (0..100)
        .map(|p| folder.path().join(format!("place{p}/targets.nub")))
        .collect();
    let mut group = c.benchmark_group("evaluation");
    group.sample_size(20);
    group.bench_function("ours", |b| b.iter(|| evaluate(&session)));
    group.bench_function("limit", |b| {
        b.iter(|| {
            files
                .iter()
                .map(|f| fs::read(f).expect("definitions").len())
                .sum::<usize>()
        })
    });
    group.finish();
}

criterion_group!(parts, key, files, state, evaluation);
criterion_main!(parts);
