//! Sources of libraries and programs that do not compile here, when nothing else is known that
//! would help: sources of another system, alternatives, unfinished ones. Without them the library
//! is there for all who do not need them.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;

use crate::proposal::{Definition, DefinitionAddress, GivenUp, KindCall, Kit, Proposal};
use crate::tree::SourceTree;
use crate::tried::TryFailure;

/// Leaves sources that do not compile out of their libraries and programs, and says of which and
/// why. A library of which more than half does not compile lacks something else: it stays as it is.
/// A program is nothing without the source that it begins in.
pub fn without_uncompiled(
    tree: &SourceTree,
    proposal: &mut Proposal,
    failures: &[(DefinitionAddress, TryFailure)],
) -> Vec<(DefinitionAddress, String)> {
    let mut by_definition: BTreeMap<&DefinitionAddress, Vec<&TryFailure>> = BTreeMap::new();
    for (address, failure) in failures {
        by_definition.entry(address).or_default().push(failure);
    }
    let mut changes = Vec::new();
    for (address, failures) in by_definition {
        let at = proposal
            .definitions
            .iter()
            .position(|one| one.address == *address);
        let Some(definition) = at.map(|at| &mut proposal.definitions[at]) else {
            continue;
        };
        let mut reasons = Vec::new();
        for call in definition
            .body
            .calls_mut()
            .into_iter()
            .filter(|call| is_linked(call))
        {
            let mut sources = call.files("sources");
            let culprits: BTreeMap<String, String> = failures
                .iter()
                .filter_map(|failure| culprit(&sources, failure))
                .collect();
            let is_needed = |source: &String| proposal.needed.contains(source);
            let is_too_much = culprits.len() * 2 > sources.len();
            if culprits.is_empty() || is_too_much || culprits.keys().any(is_needed) {
                continue;
            }
            let begins = |source: &String| begins_program(tree, source);
            let mut others = sources
                .iter()
                .filter(|source| !culprits.contains_key(*source));
            if !is_library(call) && culprits.keys().any(begins) && !others.any(begins) {
                continue;
            }
            sources.retain(|source| !culprits.contains_key(source));
            call.set_files("sources", sources);
            reasons.extend(culprits);
        }
        for (source, why) in reasons {
            let why = format!("{NOT_COMPILED}: {why}");
            changes.push((address.clone(), format!("without {source}: {why}")));
            definition.without.insert(source.clone(), why.clone());
            proposal.given_up.push(GivenUp {
                address: address.clone(),
                source,
                why,
            });
        }
    }
    changes
}

/// Puts sources back without which nothing of what uses their library can be linked: it is the
/// library then that does not work. Gives which they are.
pub fn with_needed(
    tree: &SourceTree,
    proposal: &mut Proposal,
    failures: &[(DefinitionAddress, TryFailure)],
) -> Vec<(DefinitionAddress, String)> {
    let misses = |one: &GivenUp, user: &DefinitionAddress| {
        let text = tree.text(&one.source).unwrap_or_default();
        let mut own = failures.iter().filter(|(address, _)| address == user);
        own.any(|(_, failure)| {
            undefined_in(&failure.printed)
                .iter()
                .any(|symbol| defines(&text, symbol))
        })
    };
    let is_needed = |one: &GivenUp| {
        let uses = |other: &&Definition| {
            other.address != one.address && other.needs().contains(&one.address)
        };
        let mut users = proposal.definitions.iter().filter(uses).peekable();
        // A program that misses it itself is linked with it or not at all.
        misses(one, &one.address)
            || (users.peek().is_some() && users.all(|user| misses(one, &user.address)))
    };
    let (needed, kept) = proposal
        .given_up
        .iter()
        .cloned()
        .partition::<Vec<GivenUp>, _>(is_needed);
    proposal.given_up = kept;
    let mut changes = Vec::new();
    for gone in needed {
        let GivenUp {
            address, source, ..
        } = gone;
        let Some(definition) = proposal.definition_mut(&address) else {
            continue;
        };
        definition.without.remove(&source);
        for call in definition
            .body
            .calls_mut()
            .into_iter()
            .filter(|call| is_linked(call))
        {
            let mut sources = call.files("sources");
            sources.insert(source.clone());
            call.set_files("sources", sources);
        }
        changes.push((
            address,
            format!("with {source}, which all that use it need"),
        ));
        proposal.needed.insert(source);
    }
    changes
}

/// What a definition lacks that failed for want of a source that was given up, in words.
pub fn lacks_given_up(
    tree: &SourceTree,
    proposal: &Proposal,
    failure: &TryFailure,
) -> Option<String> {
    let missing = undefined_in(&failure.printed);
    proposal.given_up.iter().find_map(|one| {
        let text = tree.text(&one.source).unwrap_or_default();
        let symbol = missing.iter().find(|symbol| defines(&text, symbol))?;
        Some(format!(
            "it needs {symbol} of {}, and {}",
            one.source, one.why
        ))
    })
}

/// The names that a linker did not find.
fn undefined_in(printed: &str) -> BTreeSet<String> {
    let Ok(said) = Regex::new(r"undefined reference to [`']([^'`(]+)") else {
        return BTreeSet::new();
    };
    said.captures_iter(printed)
        .map(|found| found[1].to_owned())
        .collect()
}

/// Whether the text of a source has the beginning of a function, in C or Fortran, or of a variable.
fn defines(text: &str, symbol: &str) -> bool {
    let name = symbol
        .rsplit("::")
        .next()
        .unwrap_or(symbol)
        .trim_end_matches('_');
    let begins = format!(
        r"(?mi)^[\w\s\*]*\b{}\s*(?:\([^;]*$|[=\[])",
        regex::escape(name)
    );
    Regex::new(&begins).is_ok_and(|begins| begins.is_match(text))
}

const NOT_COMPILED: &str = "it does not compile";

/// Whether a source has the function or the unit of a program that is called first.
fn begins_program(tree: &SourceTree, source: &str) -> bool {
    let Ok(begins) = Regex::new(r"(?mi)\bmain\s*\(|^\s*program\s+\w+\s*$") else {
        return true;
    };
    tree.text(source).is_none_or(|text| begins.is_match(&text))
}

/// Whether several sources are linked to one.
fn is_linked(call: &KindCall) -> bool {
    is_library(call) || (matches!(call.kit, Kit::C | Kit::Fortran) && call.kind == "program")
}

fn is_library(call: &KindCall) -> bool {
    matches!(call.kit, Kit::C | Kit::Fortran) && matches!(call.kind, "library" | "shared_library")
}

/// The one source that a compiler had when it failed, and its first error.
fn culprit(sources: &BTreeSet<String>, failure: &TryFailure) -> Option<(String, String)> {
    let error = Regex::new(r"(?i)\berror: ([^\n]+)").ok()?;
    let said = error.captures(&failure.printed)?[1]
        .trim()
        .trim_end_matches('.')
        .to_owned();
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
        let address = DefinitionAddress {
            package: "src".into(),
            name: "tide".into(),
        };
        let files = sources.iter().map(|source| (*source).to_owned()).collect();
        let call = KindCall::new(Kit::C, kind).with("sources", FieldValue::Files(files));
        let definition =
            Definition::new(Keyword::Target, &address, String::new(), Body::Kind(call));
        (
            Proposal {
                definitions: vec![definition],
                ..Proposal::default()
            },
            address,
        )
    }

    fn fails(source: &str, printed: &str) -> TryFailure {
        TryFailure {
            printed: printed.into(),
            inputs: [source.to_owned()].into(),
            ..TryFailure::default()
        }
    }

    #[test]
    fn what_nothing_can_be_linked_without_comes_back() {
        let (mut one, library) = proposal("library", &["src/a.c", "src/b.c", "src/c.c"]);
        let user = |name: &str| {
            let address = DefinitionAddress {
                package: "src".into(),
                name: name.into(),
            };
            let call =
                KindCall::new(Kit::C, "program").with("needs", FieldValue::Of(library.clone()));
            (
                Definition::new(Keyword::Target, &address, String::new(), Body::Kind(call)),
                address,
            )
        };
        let (users, addresses): (Vec<_>, Vec<_>) = ["ebb", "flow"].map(user).into_iter().unzip();
        one.definitions.extend(users);
        let tree = SourceTree::of(&[(
            "src/b.c",
            "int b;\nint spring_tide(int x)\n{\n return x;\n}\n",
        )]);
        let fails_to_compile = (library.clone(), fails("src/b.c", "error: `x' undeclared"));
        assert_eq!(
            without_uncompiled(&tree, &mut one, std::slice::from_ref(&fails_to_compile)).len(),
            1
        );
        let misses = |address: &DefinitionAddress, symbol: &str| {
            (
                address.clone(),
                fails(
                    "src/e.c",
                    &format!("x.c: undefined reference to `{symbol}'\n"),
                ),
            )
        };
        // One of two can be linked, or misses something else.
        let some = [misses(&addresses[0], "spring_tide")];
        assert_eq!(with_needed(&tree, &mut one, &some), Vec::new());
        let other = [
            misses(&addresses[0], "spring_tide"),
            misses(&addresses[1], "neap"),
        ];
        assert_eq!(with_needed(&tree, &mut one, &other), Vec::new());
        let lacks = lacks_given_up(&tree, &one, &some[0].1);
        assert_eq!(
            lacks.as_deref(),
            Some("it needs spring_tide of src/b.c, and it does not compile: `x' undeclared")
        );
        let both = [
            misses(&addresses[0], "spring_tide"),
            misses(&addresses[1], "spring_tide"),
        ];
        assert_eq!(with_needed(&tree, &mut one, &both).len(), 1);
        let definition = one
            .definition(&library)
            .cloned()
            .unwrap_or_else(|| panic!("it is there"));
        assert!(
            definition.sources().contains("src/b.c") && definition.without.is_empty(),
            "{definition:?}"
        );
        // It is not left out a second time.
        assert_eq!(
            without_uncompiled(&tree, &mut one, &[fails_to_compile]),
            Vec::new()
        );
    }

    #[test]
    fn sources_that_do_not_compile_are_left_out_unless_they_are_most() {
        let all = ["src/a.c", "src/b.c", "src/c.c", "src/d.c"];
        let error = "src/b.c:3:38: error: ‘struct loop’ has no member named ‘kq’.\nmore";
        let (mut two, address) = proposal("library", &all);
        let failures = ["src/b.c", "src/c.c"].map(|source| (address.clone(), fails(source, error)));
        let changes = without_uncompiled(&SourceTree::of(&[]), &mut two, &failures);
        assert_eq!(
            changes[0].1,
            "without src/b.c: it does not compile: ‘struct loop’ has no member named ‘kq’"
        );
        assert_eq!(changes.len(), 2);
        let definition = two
            .definition(&address)
            .cloned()
            .unwrap_or_else(|| panic!("it is there"));
        assert_eq!(
            definition.sources(),
            ["src/a.c", "src/d.c"].map(str::to_owned).into()
        );
        assert!(definition.without["src/b.c"].starts_with("it does not compile: "));
        // Of three of four something else is wrong, and so it is where no compiler says an error.
        for (kind, failing, printed) in [
            ("library", &all[..3], error),
            ("library", &all[..1], "undefined reference to `x'"),
            ("program", &all[..1], error),
        ] {
            let (mut one, address) = proposal(kind, &all);
            let failures: Vec<_> = failing
                .iter()
                .map(|source| (address.clone(), fails(source, printed)))
                .collect();
            let main = "int main(void) { return 0; }";
            let tree = SourceTree::of(&[
                ("src/a.c", main),
                ("src/b.c", ""),
                ("src/c.c", ""),
                ("src/d.c", ""),
            ]);
            assert_eq!(
                without_uncompiled(&tree, &mut one, &failures),
                Vec::new(),
                "{kind} {printed}"
            );
            assert_eq!(
                one.definition(&address).map(|one| one.sources().len()),
                Some(4)
            );
        }
    }
    #[test]
    fn a_program_does_without_what_does_not_compile_if_it_can_be_linked() {
        let tree = SourceTree::of(&[
            ("src/a.c", "int main(void) { return 0; }\n"),
            ("src/b.c", "int spring_tide(int x)\n{\n return x;\n}\n"),
        ]);
        let (mut one, address) = proposal("program", &["src/a.c", "src/b.c"]);
        let fails_to_compile = [(address.clone(), fails("src/b.c", "error: `x' undeclared"))];
        assert_eq!(
            without_uncompiled(&tree, &mut one, &fails_to_compile).len(),
            1
        );
        assert_eq!(
            one.definition(&address).map(|one| one.sources().len()),
            Some(1)
        );
        let misses = (
            address,
            fails("src/a.c", "x.c: undefined reference to `spring_tide'\n"),
        );
        assert_eq!(with_needed(&tree, &mut one, &[misses]).len(), 1);
        // It is what does not compile that is wrong with it.
        assert_eq!(
            without_uncompiled(&tree, &mut one, &fails_to_compile),
            Vec::new()
        );
    }
}
