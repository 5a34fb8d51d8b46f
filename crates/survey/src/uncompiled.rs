//! Sources of libraries that do not compile here, when nothing else is known that would help: sources of another system, alternatives,
//! unfinished ones. Without them the library is there for all who do not need them.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;

use crate::proposal::{DefinitionAddress, KindCall, Kit, Proposal};
use crate::tree::below;
use crate::tried::TryFailure;

/// Leaves sources that do not compile out of their libraries, and says of which and why. A library of which more than half does not
/// compile lacks something else: it stays as it is.
pub fn without_uncompiled(
    proposal: &mut Proposal,
    failures: &[(DefinitionAddress, TryFailure)],
) -> Vec<(DefinitionAddress, String)> {
    let mut by_definition: BTreeMap<&DefinitionAddress, Vec<&TryFailure>> = BTreeMap::new();
    for (address, failure) in failures {
        by_definition.entry(address).or_default().push(failure);
    }
    let mut changes = Vec::new();
    for (address, failures) in by_definition {
        let Some(definition) = proposal.definition_mut(address) else { continue };
        let mut reasons = Vec::new();
        for call in definition.body.calls_mut().into_iter().filter(|call| is_library(call)) {
            let mut sources = call.files("sources");
            let culprits: BTreeMap<String, String> =
                failures.iter().filter_map(|failure| culprit(&sources, failure)).collect();
            if culprits.is_empty() || culprits.len() * 2 > sources.len() {
                continue;
            }
            sources.retain(|source| !culprits.contains_key(source));
            call.set_files("sources", sources);
            reasons.extend(culprits);
        }
        for (source, why) in reasons {
            let inside = below(&source, &address.package);
            definition.reasons.push(format!("Without {inside}: {NOT_COMPILED}: {why}."));
            changes.push((address.clone(), format!("without {source}: {NOT_COMPILED}: {why}")));
        }
    }
    changes
}

const NOT_COMPILED: &str = "it does not compile";

fn is_library(call: &KindCall) -> bool {
    matches!(call.kit, Kit::C | Kit::Fortran) && matches!(call.kind, "library" | "shared_library")
}

/// The one source that a compiler had when it failed, and its first error.
fn culprit(sources: &BTreeSet<String>, failure: &TryFailure) -> Option<(String, String)> {
    let error = Regex::new(r"(?i)\berror: ([^\n]+)").ok()?;
    let said = error.captures(&failure.printed)?[1].trim().trim_end_matches('.').to_owned();
    let mut had = sources.intersection(&failure.inputs);
    match (had.next(), had.next()) {
        (Some(source), None) => Some((source.clone(), said)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::proposal::{Body, Definition, FieldValue, Keyword};

    fn proposal(kind: &'static str, sources: &[&str]) -> (Proposal, DefinitionAddress) {
        let address = DefinitionAddress { package: "src".into(), name: "tide".into() };
        let files = sources.iter().map(|source| (*source).to_owned()).collect();
        let call = KindCall::new(Kit::C, kind).with("sources", FieldValue::Files(files));
        let definition = Definition::new(Keyword::Target, &address, String::new(), Body::Kind(call));
        (Proposal { definitions: vec![definition], ..Proposal::default() }, address)
    }

    fn fails(source: &str, printed: &str) -> TryFailure {
        TryFailure { printed: printed.into(), inputs: [source.to_owned()].into(), ..TryFailure::default() }
    }

    #[test]
    fn sources_that_do_not_compile_are_left_out_unless_they_are_most() {
        let all = ["src/a.c", "src/b.c", "src/c.c", "src/d.c"];
        let error = "src/b.c:3:38: error: ‘struct loop’ has no member named ‘kq’.\nmore";
        let (mut two, address) = proposal("library", &all);
        let failures = ["src/b.c", "src/c.c"].map(|source| (address.clone(), fails(source, error)));
        let changes = without_uncompiled(&mut two, &failures);
        assert_eq!(
            changes[0].1,
            "without src/b.c: it does not compile: ‘struct loop’ has no member named ‘kq’"
        );
        assert_eq!(changes.len(), 2);
        let definition = two.definition(&address).cloned().unwrap_or_else(|| panic!("it is there"));
        assert_eq!(definition.sources(), ["src/a.c", "src/d.c"].map(str::to_owned).into());
        assert!(definition.reasons[0].starts_with("Without b.c: it does not compile: "));
        // Of three of four something else is wrong, and so it is where no compiler says an error.
        for (kind, failing, printed) in [
            ("library", &all[..3], error),
            ("library", &all[..1], "undefined reference to `x'"),
            ("program", &all[..1], error),
        ] {
            let (mut one, address) = proposal(kind, &all);
            let failures: Vec<_> =
                failing.iter().map(|source| (address.clone(), fails(source, printed))).collect();
            assert_eq!(without_uncompiled(&mut one, &failures), Vec::new(), "{kind} {printed}");
            assert_eq!(one.definition(&address).map(|one| one.sources().len()), Some(4));
        }
    }
}
