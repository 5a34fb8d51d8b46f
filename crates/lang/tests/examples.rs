//! Example definitions with the expected messages beside the code that they blame.
//!
//! An example is one file: `#=== path` begins a file of the example's workspace, and `#! message`
//! behind code expects a diagnostic with exactly this message on this line. `#! … >> mend` also
//! expects that mend. `#!! message` expects one without a place.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod memory_world;

use memory_world::MemoryWorld;
use nubrik_lang::{AddressPattern, Evaluator};
use nubrik_source::WsPath;

fn expected(world: &MemoryWorld) -> Vec<(String, String)> {
    let mut expected = Vec::new();
    for (path, text) in world.files() {
        for (n, line) in text.lines().enumerate() {
            for part in line.split("#! ").skip(1) {
                expected.push((format!("{path}:{}", n + 1), part.trim().to_owned()));
            }
            // `#!@ file:line: message` expects one in a file that can hold no markers.
            if let Some((place, message)) =
                line.strip_prefix("#!@ ").and_then(|l| l.split_once(": "))
            {
                expected.push((place.to_owned(), message.trim().to_owned()));
            }
            if let Some((_, message)) = line.split_once("#!! ") {
                expected.push(("-".to_owned(), message.trim().to_owned()));
            }
        }
    }
    expected.sort();
    expected
}

fn found(world: &MemoryWorld, expected: &[(String, String)]) -> Vec<(String, String)> {
    let evaluation = Evaluator::new(world).request(&[AddressPattern::below(&WsPath::root())]);
    let mut found: Vec<(String, String)> = evaluation
        .diagnostics
        .iter()
        .map(|d| {
            let place = d
                .span
                .map_or("-".to_owned(), |s| evaluation.sources.place(s));
            // A mend is compared where the example names one.
            let with_mend = d.mends.iter().map(|m| format!("{} >> {m}", d.message));
            let wanted = with_mend
                .into_iter()
                .find(|m| expected.iter().any(|(p, e)| *p == place && e == m));
            (place, wanted.unwrap_or_else(|| d.message.clone()))
        })
        .collect();
    found.sort();
    found
}

#[test]
fn examples_give_their_messages() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/examples");
    let mut paths: Vec<_> = std::fs::read_dir(folder)
        .unwrap()
        .map(|e| e.unwrap().path())
        .collect();
    paths.sort();
    assert!(!paths.is_empty());
    let mut wrong = String::new();
    for path in paths {
        let text = std::fs::read_to_string(&path).unwrap();
        let world = MemoryWorld::from_example(&text);
        let expected = expected(&world);
        let found = found(&world, &expected);
        for (place, message) in found.iter().filter(|f| !expected.contains(f)) {
            wrong.push_str(&format!(
                "{}: not expected: {place}: {message}\n",
                path.display()
            ));
        }
        for (place, message) in expected.iter().filter(|e| !found.contains(e)) {
            wrong.push_str(&format!(
                "{}: missing: {place}: {message}\n",
                path.display()
            ));
        }
    }
    assert!(wrong.is_empty(), "\n{wrong}");
}
