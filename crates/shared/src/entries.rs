//! Results, and the contents that they name.

use std::collections::BTreeSet;

use nubrik_bytes::Digest;
use nubrik_store::{Basis, OutputRecord, RecordEntry, TreeKind};

/// Whether two results are the same, wherever they come from.
pub(crate) fn is_same(one: &RecordEntry, other: &RecordEntry) -> bool {
    one.found == other.found && one.passed_over == other.passed_over && one.outputs == other.outputs
}

/// The contents that a result names, and whether each may be executed.
pub(crate) fn contents_of(entry: &RecordEntry) -> BTreeSet<(Digest, bool)> {
    let mut all: BTreeSet<(Digest, bool)> = places_of(entry)
        .into_iter()
        .map(|(_, digest, executable)| (digest, executable))
        .collect();
    if let Basis::Noted(parts) = &entry.basis {
        all.extend(parts.iter().map(|part| (*part, false)));
    }
    all
}

/// The files of a result: the number of the output and the path in it, the content, and whether it
/// may be executed.
pub(crate) fn places_of(entry: &RecordEntry) -> Vec<((usize, &str), Digest, bool)> {
    let mut places = Vec::new();
    for (number, output) in entry.outputs.iter().enumerate() {
        match output {
            OutputRecord::File { digest, executable } => {
                places.push(((number, ""), *digest, *executable))
            }
            OutputRecord::Folder(entries) => {
                places.extend(entries.iter().filter_map(|entry| match entry.kind {
                    TreeKind::File { digest, executable } => {
                        Some(((number, &*entry.path), digest, executable))
                    }
                    TreeKind::Link { .. } | TreeKind::EmptyFolder => None,
                }))
            }
        }
    }
    places
}
