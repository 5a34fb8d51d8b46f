//! Headers that are not in the tree, and whose names say what a configuration writes into them: the
//! integers of C, or marks of what a library shows to its users, which are used and defined
//! nowhere.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;

use crate::Survey;
use crate::proposal::{Body, Definition, DefinitionAddress, Keyword};
use crate::tree::{name_of, stem_of};

/// A definition of such a header, if a header is one.
pub(super) fn propose(
    survey: &mut Survey<'_>,
    owners: &BTreeMap<&str, String>,
    component: &str,
    header: &str,
) -> Option<DefinitionAddress> {
    let stem = stem_of(header).to_lowercase();
    let has_word = |start: &str| {
        stem.split(['_', '-', '.'])
            .any(|word| word.starts_with(start))
    };
    let name = name_of(header);
    let (fields, documentation) = if has_word("stdint") || has_word("inttypes") {
        let includes = "    includes = [\"stdint.h\", \"inttypes.h\"]\n".to_owned();
        (
            includes,
            format!("The integers of C, as {name} gives them to the sources."),
        )
    } else if has_word("export") {
        let rows = marks(survey, owners, component)?;
        let documentation =
            format!("Marks of what a library shows to its users, as {name} has them.");
        (format!("    defines = {{\n{rows}    }}\n"), documentation)
    } else {
        return None;
    };
    let address = survey.names.give(component, &stem, "header");
    let code = format!("c.config_header {{\n    path = \"{name}\"\n{fields}}}");
    let body = Body::Code(code, BTreeSet::new());
    survey.define(Definition::new(Keyword::Target, &address, documentation, body).private());
    Some(address)
}

/// The marks that the sources of a component use and that nothing defines, each with its meaning.
fn marks(survey: &Survey<'_>, owners: &BTreeMap<&str, String>, component: &str) -> Option<String> {
    let used = Regex::new(r"\b[A-Z][A-Z0-9_]*_(?:EXPORTS?|API|NO_EXPORT|DEPRECATED)\b").ok()?;
    let defined = Regex::new(r"(?m)^[ \t]*#[ \t]*define[ \t]+(\w+)").ok()?;
    let (mut marks, mut known): (BTreeSet<String>, BTreeSet<String>) = Default::default();
    for file in owners.keys() {
        let Some(text) = survey.tree.text(file) else {
            continue;
        };
        known.extend(
            defined
                .captures_iter(&text)
                .map(|found| found[1].to_owned()),
        );
        if owners[file] == component {
            // In conditions they are questions, and no marks.
            let lines = text
                .lines()
                .filter(|line| !line.trim_start().starts_with('#'));
            let found = lines
                .flat_map(|line| used.find_iter(line))
                .map(|found| found.as_str().to_owned());
            marks.extend(found);
        }
    }
    marks.retain(|mark| !known.contains(mark));
    let row = |mark: &String| format!("        \"{mark}\": '{}'\n", meaning(mark));
    (!marks.is_empty()).then(|| marks.iter().map(row).collect())
}

/// What a compiler is to do with what is marked so.
fn meaning(mark: &str) -> &'static str {
    match (mark.contains("DEPRECATED"), mark.contains("NO_EXPORT")) {
        (true, _) => "__attribute__((deprecated))",
        (false, true) => "__attribute__((visibility(\"hidden\")))",
        (false, false) => "__attribute__((visibility(\"default\")))",
    }
}
