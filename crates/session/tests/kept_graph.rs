//! A graph written and read back is the graph that was written, damaged ones are refused, and sets
//! are kept once.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::collections::BTreeSet;
use std::fs;
use std::sync::Arc;

use nubrik_bytes::{Decoder, Encoder};
use nubrik_confine::CancelSwitch;
use nubrik_engine::FileBytes;
use nubrik_graph::{Graph, Purpose, Step, write_step};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_memory::{
    Heap, Journal, NO_NODE, NewSeal, Pieces, Seal, Sealed, Snapshot, Trails, read_snapshot,
    save_graph, splice, write_seal,
};
use nubrik_session::Session;
use nubrik_source::WsPath;
use proptest::prelude::*;

/// Definition files and sources, by their paths.
type Files = Vec<(String, String)>;

fn evaluated(files: &Files) -> (Evaluation, Trails) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("nubrik.toml"), "").unwrap();
    for (path, text) in files {
        let path = folder.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    let mut session = Session::open(folder.path(), Arc::new(CancelSwitch::new().unwrap())).unwrap();
    session.take_notes();
    let evaluation = session.evaluate(&[AddressPattern::below(&WsPath::root())]);
    assert!(
        evaluation.diagnostics.is_empty(),
        "{:#?}",
        evaluation.diagnostics
    );
    let trails = Trails::of(&evaluation.trail);
    (evaluation, trails)
}

/// A package with so many steps, each of which may read the same so many headers, and makes one of
/// them itself.
fn package(sources: usize, headers: usize, flag: &str) -> Files {
    let definition = format!(
        "let made = step {{ run = `touch {{out \"made.h\"}}` }}\n\
         let reach: files = [glob(\"inc/*.h\"), made]\n\
         target all = [each source in glob(\"src/*.c\") give\n    step {{\n        \
         run   = `cc {flag} -MF {{depfile \"d\"}} {{source}} -o {{out \"{{source.stem}}.o\"}}`\n        \
         reads = reach\n    }}]\n"
    );
    let mut files = vec![("targets.nub".to_owned(), definition)];
    files.extend((0..sources).map(|n| (format!("src/s{n:03}.c"), String::new())));
    files.extend((0..headers).map(|n| (format!("inc/h{n:03}.h"), String::new())));
    files
}

/// A file with these bytes.
fn file(bytes: Vec<u8>) -> FileBytes {
    Arc::new(bytes)
}

/// The snapshot as it is read back from its files' bytes.
fn read_back(snapshot: &Snapshot) -> Snapshot {
    let folder = tempfile::tempdir().unwrap();
    let own = nubrik_disk::Below::new(folder.path()).unwrap();
    // With a heap of its own: one that was spliced adds to its file.
    let mut written = snapshot.clone().compacted();
    written.heap.save(&own, "heap").unwrap();
    let heap = std::fs::read(folder.path().join("heap")).unwrap();
    Snapshot::decode(&file(written.encode()), Arc::new(heap)).unwrap()
}

/// A step without the numbers of its graph: its bytes, its target, and the paths that it may read.
fn described(graph: &Graph, step: &Step) -> (Vec<u8>, String, Vec<String>) {
    let mut body = Encoder::new();
    write_step(graph, step, Purpose::Whole, &mut body);
    let mut may_read: Vec<String> = graph
        .candidates(step)
        .map(|f| format!("{} {}", graph.file(f).path, graph.file(f).folder))
        .collect();
    may_read.sort();
    (
        body.bytes,
        graph.target(step.target).address.to_string(),
        may_read,
    )
}

fn described_all(graph: &Graph) -> BTreeSet<(Vec<u8>, String, Vec<String>)> {
    graph
        .steps
        .iter()
        .map(|step| described(graph, step))
        .collect()
}

#[test]
fn what_is_read_back_is_what_was_written() {
    let (evaluation, trails) = evaluated(&package(5, 4, "-O1"));
    let snapshot = read_back(&Snapshot::of(&evaluation, &trails));
    let part = snapshot.part(&vec![true; snapshot.steps.len()]).unwrap();
    assert_eq!(described_all(&part.graph), described_all(&evaluation.graph));
    assert_eq!(
        (part.steps, part.settled.len(), part.graph.sets.len()),
        (6, 0, 1)
    );
    assert_eq!(part.requested.len(), evaluation.requested.len());
}

#[test]
fn a_change_reaches_all_who_share_a_set_and_takes_what_they_need() {
    let (evaluation, trails) = evaluated(&package(3, 2, "-O1"));
    let snapshot = read_back(&Snapshot::of(&evaluation, &trails));
    let count = |path: &str| {
        let reached = snapshot.reached(&[snapshot.node(path).unwrap()], &[]);
        (
            reached.iter().filter(|r| **r).count(),
            snapshot.part(&reached).unwrap(),
        )
    };
    let (of_source, part) = count("src/s001.c");
    // The header that a step makes is taken along, and is not made again.
    assert_eq!(
        (of_source, part.settled.len(), part.graph.steps.len()),
        (1, 1, 2)
    );
    assert_eq!(count("inc/h000.h").0, 3);
    let made = evaluation
        .graph
        .files
        .iter()
        .find(|f| f.path.name() == "made.h")
        .unwrap();
    assert_eq!(count(made.path.as_str()).0, 4);
    // A node that somebody takes to be a file's is believed only where it is.
    let (source, header) = ("src/s001.c", made.path.as_str());
    for likely in [
        None,
        snapshot.node(source),
        snapshot.node(header),
        Some(NO_NODE),
        Some(9_999),
    ] {
        assert_eq!(
            snapshot.maker_of(header, likely).as_deref(),
            Some("made"),
            "{likely:?}"
        );
        assert_eq!(snapshot.maker_of(source, likely), None, "{likely:?}");
    }
}

#[test]
fn what_is_kept_grows_with_the_sum_of_steps_and_headers() {
    let size = |n: usize| {
        let (evaluation, trails) = evaluated(&package(n, n, "-O1"));
        assert_eq!(evaluation.graph.sets.len(), 1);
        let snapshot = Snapshot::of(&evaluation, &trails);
        snapshot.encode().len() as u64 + snapshot.heap.size()
    };
    let (small, large) = (size(40), size(160));
    assert!(
        large < 5 * small,
        "{small} bytes for 40, {large} bytes for 160"
    );
}

#[test]
fn what_is_evaluated_again_is_as_though_all_had_been() {
    let (old, old_trails) = evaluated(&package(4, 3, "-O1"));
    let before = read_back(&Snapshot::of(&old, &old_trails));
    for now in [
        package(4, 3, "-O2"),
        package(4, 5, "-O1"),
        package(6, 3, "-O1"),
        package(2, 1, "-O3"),
    ] {
        let (again, trails) = evaluated(&now);
        let reached = vec![true; old.trail.units.len()];
        let Some(spliced) = splice(&before, &old_trails, &reached, &again) else {
            panic!("not spliced")
        };
        let after = read_back(&spliced.snapshot);
        let whole = read_back(&Snapshot::of(&again, &trails));
        let all = |snapshot: &Snapshot| {
            let part = snapshot.part(&vec![true; snapshot.steps.len()]).unwrap();
            described_all(&part.graph)
        };
        assert_eq!(all(&after), all(&whole));
        // Sets that no step has any more are left behind.
        assert_eq!(after.sets.len(), 1);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 200, ..Default::default() })]

    #[test]
    fn a_flipped_byte_is_noticed(at in any::<prop::sample::Index>(), bit in 0u8..8) {
        let (evaluation, trails) = evaluated(&package(2, 2, "-O1"));
        let snapshot = Snapshot::of(&evaluation, &trails);
        let folder = tempfile::tempdir().unwrap();
        let own = nubrik_disk::Below::new(folder.path()).unwrap();
        let mut written = snapshot.clone();
        written.heap.save(&own, "heap").unwrap();
        let mut heap = std::fs::read(folder.path().join("heap")).unwrap();
        let mut tables = written.encode();
        let at = at.index(heap.len() + tables.len());
        match at.checked_sub(heap.len()) {
            None => heap[at] ^= 1 << bit,
            Some(at) => tables[at] ^= 1 << bit,
        }
        // Paths have checksums that nobody compares: they are looked up, and what is not found is
        // evaluated.
        if let Ok(read) = Snapshot::decode(&file(tables.clone()), Arc::new(heap)) {
            let steps = (0..read.steps.len()).any(|n| read.step(n).is_err());
            let targets = (0..read.targets.len()).any(|n| read.target_body(n).is_err());
            let paths = (0..read.paths.len()).any(|n| read.heap.get(&read.paths, n).is_err());
            prop_assert!(steps || targets || paths, "byte {at} of {} and {}", tables.len(), written.heap.size());
        }
    }
}

#[test]
fn trails_are_read_back_and_damaged_ones_are_refused() {
    let (_, trails) = evaluated(&package(3, 2, "-O1"));
    let bytes = trails.encode();
    let id = Trails::id_in(&bytes).unwrap();
    let back = Trails::decode(&file(bytes.clone()), id).unwrap();
    assert!(back == trails, "what is read back is what was written");
    for at in 0..bytes.len() {
        let mut damaged = bytes.clone();
        damaged[at] ^= 1 << (at % 8);
        assert!(Trails::decode(&file(damaged), id).is_err(), "byte {at}");
        assert!(
            Trails::decode(&file(bytes[..at].to_vec()), id).is_err(),
            "cut at {at}"
        );
    }
}

#[test]
fn a_heap_is_added_to_and_what_an_interrupted_command_added_is_none_of_it() {
    let folder = tempfile::tempdir().unwrap();
    let own = nubrik_disk::Below::new(folder.path()).unwrap();
    let read = |tables: &[u8]| {
        let heap = std::fs::read(folder.path().join("heap")).unwrap();
        Heap::decode(&mut Decoder::new(tables), Arc::new(heap))
    };
    let tables = |heap: &Heap| {
        let mut out = Encoder::new();
        heap.encode(&mut out);
        out.bytes
    };
    let (mut heap, mut pieces) = (Heap::default(), Pieces::default());
    heap.push(&mut pieces, b"ebb");
    heap.save(&own, "heap").unwrap();
    let first = tables(&heap);
    let mut again = read(&first).unwrap();
    again.push(&mut pieces, b"flood");
    again.save(&own, "heap").unwrap();
    let second = read(&tables(&again)).unwrap();
    assert_eq!(
        (second.get(&pieces, 0), second.get(&pieces, 1)),
        (Ok(&b"ebb"[..]), Ok(&b"flood"[..]))
    );
    // The tables of before still tell of what was there then, whatever was added behind it.
    let mut before = read(&first).unwrap();
    assert!(before.get(&pieces, 1).is_err());
    let mut other = Pieces::default();
    before.push(&mut other, b"slack water");
    before.save(&own, "heap").unwrap();
    let third = read(&tables(&before)).unwrap();
    assert_eq!(third.get(&other, 0), Ok(&b"slack water"[..]));
    assert_eq!(third.get(&pieces, 0), Ok(&b"ebb"[..]));
    // One that is shorter than its tables say is damaged.
    std::fs::write(folder.path().join("heap"), b"nbheap 2").unwrap();
    assert!(read(&first).is_err());
}

#[test]
fn who_reads_without_the_lock_has_a_graph_that_nobody_writes_over() {
    let (evaluation, trails) = evaluated(&package(4, 3, "-O1"));
    let snapshot = Snapshot::of(&evaluation, &trails);
    let folder = tempfile::tempdir().unwrap();
    let own = nubrik_disk::Below::new(folder.path()).unwrap();
    let graph = save_graph(&own, "seal", None, snapshot, Some(&trails)).unwrap();
    let (env, samples, entries) = Default::default();
    let seal = NewSeal {
        sealed: Sealed::default(),
        graph,
        env,
        samples,
        entries,
    };
    write_seal(&own, "seal", &seal).unwrap();
    let seal = Journal::<Seal>::load(&own, "seal").unwrap();
    let read = read_snapshot(&own, "seal", &seal, false).unwrap();
    // A build that ends meanwhile writes over the file, which may be shorter then.
    fs::File::options()
        .write(true)
        .open(folder.path().join("seal.graph"))
        .unwrap()
        .set_len(0)
        .unwrap();
    let part = read.part(&vec![true; read.steps.len()]).unwrap();
    assert_eq!(described_all(&part.graph), described_all(&evaluation.graph));
}
