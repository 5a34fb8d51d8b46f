//! A header that is not in the tree, but a template of it is, in which nothing is filled in but
//! versions and what the machine has.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;

use super::config_header::{code_of, hole_answer};
use super::holes::{HOLES, asks_machine};
use crate::Survey;
use crate::proposal::{Body, Definition, DefinitionAddress, Keyword};
use crate::tree::{below, is_below, name_of};
use crate::writing::quoted;

/// A definition that fills a template in, if there is one and all is known that it wants.
pub(super) fn propose(
    survey: &mut Survey<'_>,
    component: &str,
    header: &str,
) -> Option<DefinitionAddress> {
    let name = name_of(header);
    if name != header {
        return None;
    }
    let is_template = |file: &&String| {
        let end = name_of(file).strip_prefix(name);
        is_below(file, component) && end.is_some_and(|end| end.len() > 1 && end.starts_with('.'))
    };
    let template = survey.tree.files().iter().find(is_template)?.clone();
    let text = survey.tree.text(&template)?;
    if asks_machine(&text) {
        return None;
    }
    let holes = Regex::new(HOLES).ok()?;
    let mut values: BTreeMap<String, String> = BTreeMap::new();
    for hole in holes.captures_iter(&text) {
        let wanted = hole.get(1).or_else(|| hole.get(2))?.as_str();
        values.insert(wanted.to_owned(), hole_answer(survey.tree, wanted)?);
    }
    let from = below(&template, component);
    let code = match values.is_empty() {
        true => {
            let run = format!("`cp {{in {}}} {{out {}}}`", quoted(from), quoted(name));
            format!("step {{\n    say = \"make {name}\"\n    run = {run}\n}}")
        }
        false => code_of(name, Some(from), &[], &values),
    };
    let address = survey
        .names
        .give(component, &name.replace('.', "_"), "header");
    let documentation = format!("{name}, which sources include, of its template.");
    let body = Body::Code(code, BTreeSet::from([template]));
    survey.define(Definition::new(Keyword::Target, &address, documentation, body).private());
    Some(address)
}
