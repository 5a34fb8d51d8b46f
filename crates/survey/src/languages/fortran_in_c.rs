//! Procedures of Fortran that are written in C: who calls them needs the library that has them.
//!
//! Compilers of Fortran call a procedure `tide` by the symbol `tide_`. Sources in C that serve
//! several compilers have their functions under other names, and a macro for each that is set to
//! the symbol where a name is defined which says so.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

use regex::Regex;

use super::fortran_scan::{expression, facts};
use crate::Survey;
use crate::proposal::{Body, DefinitionAddress, FieldValue, Kit};
use crate::tree::ext_of;

/// A procedure that a library in C has: the library, and the name that has to be defined, if there
/// is one.
type InC = (DefinitionAddress, Option<String>);

static RENAMED: LazyLock<Regex> =
    LazyLock::new(|| expression(r"^\s*#\s*define\s+(\w+)\s+([a-z]\w*)_\s*$"));
static FUNCTION: LazyLock<Regex> =
    LazyLock::new(|| expression(r"^[A-Za-z_][\w\s*]*?\b([a-z]\w*)_\s*\([^;]*$"));
static ASKED: LazyLock<Regex> =
    LazyLock::new(|| expression(r"^\s*#\s*if(?:def\s+|\s+defined\s*\(?\s*)(\w+)\s*\)?\s*$"));

/// Adds what is needed of C to the definitions of Fortran.
pub(super) fn look(survey: &mut Survey<'_>) {
    let in_c = procedures_in_c(survey);
    if in_c.is_empty() {
        return;
    }
    let mut own = BTreeSet::new();
    let mut wanted: BTreeMap<DefinitionAddress, BTreeSet<String>> = BTreeMap::new();
    for definition in &survey.proposal.definitions {
        let calls = definition.body.calls();
        for source in calls
            .iter()
            .filter(|call| call.kit == Kit::Fortran)
            .flat_map(|call| call.files("sources"))
        {
            let facts = facts(
                &survey.tree.text(&source).unwrap_or_default(),
                ext_of(&source),
            );
            own.extend(facts.procedures);
            wanted
                .entry(definition.address.clone())
                .or_default()
                .extend(facts.calls);
        }
    }
    for (address, calls) in wanted {
        let found: BTreeSet<&InC> = calls
            .difference(&own)
            .filter_map(|name| in_c.get(name))
            .collect();
        for (library, define) in found {
            if let Some(user) = survey.proposal.definition_mut(&address) {
                user.body
                    .add_item("needs", &FieldValue::Of(library.clone()));
            }
            if let (Some(define), Some(library)) = (define, survey.proposal.definition_mut(library))
            {
                library
                    .body
                    .add_item("flags", &FieldValue::text(format!("-D{define}")));
            }
        }
    }
}

/// The procedures that libraries in C define, by their names in Fortran. Of several that define the
/// same the first counts.
fn procedures_in_c(survey: &Survey<'_>) -> BTreeMap<String, InC> {
    let mut found = BTreeMap::new();
    for definition in &survey.proposal.definitions {
        let Body::Kind(call) = &definition.body else {
            continue;
        };
        if call.kit != Kit::C || call.kind != "library" {
            continue;
        }
        for text in call
            .files("sources")
            .iter()
            .filter_map(|file| survey.tree.text(file))
        {
            for (name, define) in procedures(&text) {
                found
                    .entry(name)
                    .or_insert_with(|| (definition.address.clone(), define));
            }
        }
    }
    found
}

/// The procedures that a source in C defines, each with the name that has to be defined for that.
fn procedures(text: &str) -> BTreeMap<String, Option<String>> {
    let mut found = BTreeMap::new();
    let mut conditions: Vec<Option<String>> = Vec::new();
    for line in text.lines() {
        if let Some(asked) = ASKED.captures(line) {
            conditions.push(Some(asked[1].to_owned()));
        } else if line.trim_start().starts_with("#if") {
            conditions.push(None);
        } else if line.trim_start().starts_with("#el") {
            // What is so otherwise needs nothing to be defined.
            conditions
                .last_mut()
                .into_iter()
                .for_each(|condition| *condition = None);
        } else if line.trim_start().starts_with("#endif") {
            conditions.pop();
        } else if let Some(renamed) = RENAMED.captures(line) {
            let is_used = expression(&format!(
                r"(?m)^[A-Za-z_][\w\s*]*\b{}\s*\([^;]*$",
                regex::escape(&renamed[1])
            ));
            if is_used.is_match(text) {
                let define = conditions.iter().flatten().next_back().cloned();
                found.entry(renamed[2].to_owned()).or_insert(define);
            }
        } else if let Some(function) = FUNCTION
            .captures(line)
            .filter(|_| !line.starts_with("static"))
        {
            found.entry(function[1].to_owned()).or_insert(None);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn functions_are_known_by_their_symbols_and_by_macros_for_them() {
        let text = "\
#ifdef TRAILING
#define HIGH high_
#define UNUSED unused_
#else
#define HIGH high
#endif
#if defined(SEA)
int depth_(int *at)
{
#endif
void HIGH(float *x)
{
}
void later_(int *x);
static int own_(int x) {
  ebb_(x);
";
        let trailing = Some("TRAILING".to_owned());
        assert_eq!(
            procedures(text),
            BTreeMap::from([("high".to_owned(), trailing), ("depth".to_owned(), None)])
        );
    }
}
