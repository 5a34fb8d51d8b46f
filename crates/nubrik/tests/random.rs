//! Random small workspaces and random edits: after each edit, the incremental build gives the same
//! bytes as one from nothing, and a second one runs nothing.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod sandbox;

use std::fs;

use proptest::prelude::*;
use sandbox::Sandbox;

const SOURCES: usize = 4;
const STEPS: usize = 5;

/// What a step reads (sources and earlier steps by number), and how many letters of it it keeps.
type StepShape = (Vec<usize>, Vec<usize>, usize);

#[derive(Clone, Debug)]
enum Edit {
    Write { source: usize, text: String },
    Touch { source: usize },
    Reshape { step: usize, shape: StepShape },
    DeleteResult { step: usize },
    SpoilResult { step: usize },
    DeleteMade { step: usize },
    ForgetState,
}

fn shape() -> impl Strategy<Value = StepShape> {
    (prop::collection::vec(0..SOURCES, 1..3), prop::collection::vec(0..STEPS, 0..3), 1usize..12)
}

fn edit() -> impl Strategy<Value = Edit> {
    prop_oneof![
        4 => (0..SOURCES, "[a-c]{1,8}").prop_map(|(source, text)| Edit::Write { source, text }),
        1 => (0..SOURCES).prop_map(|source| Edit::Touch { source }),
        2 => (0..STEPS, shape()).prop_map(|(step, shape)| Edit::Reshape { step, shape }),
        1 => (0..STEPS).prop_map(|step| Edit::DeleteResult { step }),
        1 => (0..STEPS).prop_map(|step| Edit::SpoilResult { step }),
        1 => (0..STEPS).prop_map(|step| Edit::DeleteMade { step }),
        1 => Just(Edit::ForgetState),
    ]
}

/// Definitions in which each step keeps the first letters of what it reads: many edits make no
/// difference to many steps. Half of the steps read from a listing of their own.
fn definitions(shapes: &[StepShape]) -> String {
    let mut text = String::new();
    for (i, (sources, steps, letters)) in shapes.iter().enumerate() {
        let mut inputs: Vec<String> = sources.iter().map(|s| format!("\"s{s}\"")).collect();
        let needs: Vec<String> = steps.iter().filter(|s| **s < i).map(|s| format!("t{s}")).collect();
        inputs.sort();
        inputs.dedup();
        let script = format!("out=$1; shift; cat \"$@\" | head -c {letters} > \"$out\"");
        let files = format!(
            "{{in [{}]}} {}",
            inputs.join(", "),
            needs.iter().map(|n| format!("{{{n}}}")).collect::<Vec<_>>().join(" ")
        );
        text.push_str(&format!(
            "target t{i} = step {{ run = `sh -c '{script}' sh {{out \"r{i}\"}} {files}` }}\n"
        ));
    }
    text
}

fn apply(sandbox: &Sandbox, shapes: &mut [StepShape], edit: &Edit) {
    match edit {
        Edit::Write { source, text } => sandbox.write(&format!("s{source}"), text),
        Edit::Touch { source } => {
            let text = sandbox.read(&format!("s{source}"));
            sandbox.write(&format!("s{source}"), &text);
        }
        Edit::Reshape { step, shape } => {
            shapes[*step] = shape.clone();
            sandbox.write("targets.nub", &definitions(shapes));
        }
        Edit::DeleteResult { step } => {
            let _ = fs::remove_file(sandbox.folder.join(format!("out/base/t{step}/r{step}")));
        }
        Edit::SpoilResult { step } => {
            sandbox.write(&format!("out/base/t{step}/r{step}"), "edited by mistake")
        }
        Edit::DeleteMade { step } => {
            let _ = fs::remove_dir_all(sandbox.folder.join(format!(".nubrik/made/t{step}")));
        }
        Edit::ForgetState => {
            let _ = fs::remove_file(sandbox.folder.join(".nubrik/state"));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, failure_persistence: None, ..Default::default() })]

    #[test]
    fn incremental_is_the_same_as_from_nothing(
        first in prop::collection::vec(shape(), STEPS),
        edits in prop::collection::vec(edit(), 1..6),
    ) {
        let sandbox = Sandbox::new(&[("s0", "abc"), ("s1", "bca"), ("s2", "cab"), ("s3", "")]);
        let mut shapes = first;
        sandbox.write("targets.nub", &definitions(&shapes));
        sandbox.build();
        for edit in &edits {
            apply(&sandbox, &mut shapes, edit);
            sandbox.build();
            let again = sandbox.build();
            prop_assert_eq!(again.summary()["current"].clone(), again.summary()["steps"].clone());
            let fresh = sandbox.copy_from_nothing();
            fresh.build();
            prop_assert_eq!(sandbox.files_below("out/base"), fresh.files_below("out/base"), "after {:?}", edit);
        }
    }
}
