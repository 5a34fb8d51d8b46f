//! Where tests run, and files that they look for there.

use std::collections::BTreeSet;

use crate::proposal::{Body, DefinitionAddress, FieldValue, Keyword, Kit, Proposal, WritablePlace};
use crate::tree::{SourceTree, ext_of, folder_of, name_of};
use crate::tried::{TryFailure, of_key};

/// Lets tests write where they run, in a folder of their own.
pub(crate) fn with_place(
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
) -> Option<String> {
    if !trouble.writes {
        return None;
    }
    let definition = proposal.definition_mut(address)?;
    let mut is_changed = false;
    for call in of_key(&mut definition.body, &trouble.key) {
        let (field, value) = match (call.kit, call.kind) {
            (Kit::C, "test_program") => {
                // What it reads lies beside what it writes.
                let is_own = |file: &String| crate::tree::is_below(file, &address.package);
                let (own, others) = call.files("reads").into_iter().partition(is_own);
                if call.field("folder").is_none() {
                    call.set("reads", FieldValue::Files(others));
                }
                let root = address.package.clone();
                (
                    "folder",
                    FieldValue::Place(WritablePlace {
                        root,
                        files: own,
                        empty: BTreeSet::new(),
                    }),
                )
            }
            (Kit::Go, "tests") => ("writes", FieldValue::Bool(true)),
            _ => continue,
        };
        if call.field(field).is_none() {
            call.set(field, value);
            is_changed = true;
        }
    }
    for form in definition.body.forms_mut() {
        if form.field("folder").is_none() {
            let place = WritablePlace {
                root: address.package.clone(),
                ..WritablePlace::default()
            };
            form.fields.push(("folder", FieldValue::Place(place)));
            is_changed = true;
        }
    }
    is_changed.then(|| "it writes where it runs".to_owned())
}

/// Lets a test run in the folder of its source, where its data may be.
pub(crate) fn beside_its_data(
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
) -> Option<String> {
    let definition = proposal.definition_mut(address)?;
    let Body::Kind(call) = &mut definition.body else {
        return None;
    };
    let has_run = trouble.is_test_run;
    if call.kit != Kit::C
        || call.kind != "test_program"
        || call.field("folder").is_some()
        || !has_run
    {
        return None;
    }
    let sources = call.files("sources");
    let folder = crate::tree::folder_of(sources.first()?).to_owned();
    if folder == address.package {
        return None;
    }
    call.set("folder", FieldValue::Folder(folder.clone()));
    Some(format!("it runs in {folder}"))
}

/// Lets tests use the network that were refused it: most of them ask only what they have started
/// themselves.
pub(crate) fn with_network(
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
) -> Option<String> {
    if !trouble.wants_network {
        return None;
    }
    let definition = proposal.definition_mut(address)?;
    let mut is_changed = false;
    for call in of_key(&mut definition.body, &trouble.key) {
        let is_test = ["tests", "unit_tests", "test_program", "script_check"].contains(&call.kind);
        let has_field = matches!(
            call.kit,
            Kit::C | Kit::Go | Kit::Java | Kit::Js | Kit::Python | Kit::Rust
        );
        if is_test && has_field && call.field("network").is_none() {
            call.set("network", FieldValue::Bool(true));
            is_changed = true;
        }
    }
    let is_test = definition.keyword == Keyword::Test;
    for form in definition
        .body
        .forms_mut()
        .iter_mut()
        .filter(|form| is_test && form.field("network").is_none())
    {
        form.fields.push(("network", FieldValue::Bool(true)));
        is_changed = true;
    }
    if is_changed {
        definition.reasons.push(
            "It was refused the network, and may use it now: what answers there is no input."
                .to_owned(),
        );
    }
    is_changed.then(|| "it may use the network".to_owned())
}

/// Gives tests files of the tree that their output speaks of: they look for them in ways that no
/// recorder names.
pub(crate) fn with_mentioned(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
) -> Option<String> {
    let end = |c: char| c.is_whitespace() || "'\"`:,()[]{}<>".contains(c);
    let words = trouble
        .printed
        .split(end)
        .filter(|word| word.contains('/'))
        .map(|word| word.trim_start_matches("./"));
    let known = words
        .filter_map(|word| crate::tree::joined(&address.package, word))
        .filter(|path| !trouble.inputs.contains(path));
    let files: BTreeSet<String> = known
        .filter(|path| tree.has(path) || tree.has_folder(path))
        .take(64)
        .collect();
    let refused = files
        .iter()
        .map(|path| {
            if tree.has(path) {
                path.clone()
            } else {
                format!("{path}/")
            }
        })
        .collect();
    let told = TryFailure {
        refused,
        ..trouble.clone()
    };
    let definition = proposal.definition(address)?;
    (definition.keyword == Keyword::Test && !files.is_empty()).then_some(())?;
    with_refused(tree, proposal, address, &told)
}

/// Gives a definition the files that its commands wanted and were refused.
pub(crate) fn with_refused(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
) -> Option<String> {
    let mut wanted: BTreeSet<String> = BTreeSet::new();
    for path in &trouble.refused {
        match path.strip_suffix('/') {
            // The whole tree is no answer: what of it is meant, the files that are refused say.
            Some("") => {}
            Some(folder) => wanted.extend(tree.below(folder).map(str::to_owned)),
            None if tree.has(path) => {
                wanted.insert(path.clone());
            }
            None => {}
        }
    }
    // Where tests read one file of a folder of data, they mostly read the others, too.
    // Where tests read one file of a folder of data, they mostly read the others, too.
    let tried = proposal.definition(address);
    if tried.is_some_and(|one| one.keyword == Keyword::Test) {
        let data = wanted.iter().filter(|file| is_data(file));
        let folders: BTreeSet<String> = data.map(|file| folder_of(file).to_owned()).collect();
        for folder in folders.iter().filter(|folder| **folder != address.package) {
            let others = tree.inside(folder).filter(|file| is_data(file));
            wanted.extend(others.map(str::to_owned));
        }
    }
    wanted.retain(|file| !["targets.nub", "nubrik.toml", "pins.toml"].contains(&name_of(file)));
    if wanted.is_empty() {
        return None;
    }
    let count = wanted.len();
    let first = wanted.first().cloned().unwrap_or_default();
    let definition = proposal.definition_mut(address)?;
    let key = &trouble.key;
    let mut is_changed = false;
    for call in of_key(&mut definition.body, key) {
        let field = match (call.kit, call.kind) {
            (Kit::Python, "tests" | "unit_tests" | "type_check") => "helpers",
            (Kit::Js, "tests") => "helpers",
            (Kit::Js, "script" | "script_check" | "script_job" | "library") => "sources",
            (Kit::C, "test_program" | "program" | "library" | "shared_library") => "reads",
            (Kit::Fortran, "test_program") => "reads",
            (Kit::Rust | Kit::Go | Kit::Java, "tests") => "reads",
            _ => continue,
        };
        is_changed |= call.add_files(field, wanted.iter().cloned());
    }
    for form in definition.body.forms_mut() {
        is_changed |= form.add_reads(&wanted);
    }
    is_changed.then(|| match count {
        1 => format!("it reads {first}"),
        _ => format!("it reads {first} and {} more", count - 1),
    })
}

/// Whether a file is no source of a language.
fn is_data(file: &str) -> bool {
    ![
        "c", "cc", "cpp", "h", "hpp", "py", "rs", "go", "java", "js", "ts",
    ]
    .contains(&ext_of(file))
}
