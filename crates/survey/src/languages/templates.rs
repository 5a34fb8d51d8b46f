//! A header that is not in the tree, but a template of it is, in which nothing but versions is filled in.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;

use super::config_header::version_value;
use super::holes::{HOLES, asks_machine};
use crate::Survey;
use crate::proposal::{Body, Definition, DefinitionAddress, Keyword};
use crate::tree::{below, is_below, name_of};
use crate::writing::quoted;

/// What represents versions in templates, whoever fills them in.
const VERSIONS: [&str; 9] = [
    "VERSION",
    "PACKAGE_VERSION",
    "PROJECT_VERSION",
    "PROJECT_VERSION_MAJOR",
    "PROJECT_VERSION_MINOR",
    "PROJECT_VERSION_PATCH",
    "VERSION_MAJOR",
    "VERSION_MINOR",
    "VERSION_PATCH",
];

/// A definition of a step that fills a template in, if there is one and all is known that it wants.
pub(super) fn propose(survey: &mut Survey<'_>, component: &str, header: &str) -> Option<DefinitionAddress> {
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
        if !VERSIONS.contains(&wanted) {
            return None;
        }
        let value = version_value(survey.tree, wanted.strip_prefix("PROJECT_").unwrap_or(wanted))?;
        values.insert(hole[0].to_owned(), value.trim_matches('"').to_owned());
    }
    let mut words = String::from("sed");
    for (hole, value) in &values {
        words.push_str(&format!(" -e {{{}}}", quoted(&format!("s,{},{value},g", regex::escape(hole)))));
    }
    let input = quoted(below(&template, component));
    let run = match values.is_empty() {
        true => format!("`cp {{in {input}}} {{out {}}}`", quoted(name)),
        false => format!("sh`{words} {{in {input}}} > {{out {}}}`", quoted(name)),
    };
    let code = format!("step {{\n    say = \"make {name}\"\n    run = {run}\n}}");
    let address = survey.names.give(component, &name.replace('.', "_"), "header");
    let documentation = format!("{name}, which sources include, of its template.");
    let body = Body::Code(code, BTreeSet::from([template]));
    survey.define(Definition::new(Keyword::Target, &address, documentation, body).private());
    Some(address)
}
