//! Fortran: programs and what they use, by folder.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;

use crate::Survey;
use crate::proposal::{Body, Definition, FieldValue, Keyword, KindCall, Kit};
use crate::tree::{ext_of, folder_of, joined, name_of, stem_of};

const ENDINGS: [&str; 10] = ["f", "for", "ftn", "f77", "f90", "f95", "f03", "f08", "F", "F90"];

/// Folders that say what is in them, not to whom it belongs.
const PARTS: [&str; 10] =
    ["src", "source", "sources", "lib", "test", "tests", "app", "example", "examples", "programs"];

struct SourceFacts {
    has_program: bool,
    is_test: bool,
    includes: Vec<String>,
}

pub(super) fn look(survey: &mut Survey<'_>) {
    let tree = survey.tree;
    let is_source = |file: &&String| ENDINGS.contains(&ext_of(file)) && !survey.is_claimed(file);
    let sources: Vec<&String> = tree.files().iter().filter(is_source).collect();
    survey.count(Kit::Fortran, sources.len());
    let (Ok(program), Ok(include)) = (
        Regex::new(r"(?im)^\s*program\s+\w+\s*$"),
        Regex::new(r#"(?im)^\s*(?:#\s*)?include\s*['"<]([^'">]+)['">]"#),
    ) else {
        return;
    };
    let mut owners: BTreeMap<String, BTreeMap<&String, SourceFacts>> = BTreeMap::new();
    for source in sources {
        let text = tree.text(source).unwrap_or_default();
        let facts = SourceFacts {
            has_program: program.is_match(&text),
            is_test: super::goes_through(source, &["test", "tests", "testing"])
                || stem_of(source).to_lowercase().contains("test"),
            includes: include.captures_iter(&text).map(|found| found[1].to_owned()).collect(),
        };
        owners.entry(owner_of(folder_of(source))).or_default().insert(source, facts);
    }
    for (folder, sources) in owners {
        propose(survey, &folder, &sources);
    }
}

/// The folder that a folder with sources is a part of.
fn owner_of(folder: &str) -> String {
    let mut folder = folder;
    while PARTS.contains(&name_of(folder).to_lowercase().as_str()) {
        folder = folder_of(folder);
    }
    folder.to_owned()
}

fn propose(survey: &mut Survey<'_>, folder: &str, sources: &BTreeMap<&String, SourceFacts>) {
    let tree = survey.tree;
    let names = tree.by_name();
    let included_by = |facts: &SourceFacts, source: &str| -> Vec<String> {
        let mut found = Vec::new();
        for name in &facts.includes {
            let beside = joined(folder_of(source), name).filter(|path| tree.has(path));
            let named =
                || names.get(name_of(name)).and_then(|paths| paths.first()).map(|path| (*path).to_owned());
            found.extend(beside.or_else(named));
        }
        found
    };
    let included: BTreeSet<String> =
        sources.iter().flat_map(|(source, facts)| included_by(facts, source)).collect();
    let set = |wanted: &dyn Fn(&SourceFacts) -> bool| -> BTreeSet<String> {
        let chosen = sources.iter().filter(|(source, facts)| wanted(facts) && !included.contains(**source));
        chosen.map(|(source, _)| (*source).clone()).collect()
    };
    let library = set(&|facts| !facts.has_program && !facts.is_test);
    let helpers = set(&|facts| !facts.has_program && facts.is_test);
    let mains: Vec<(&String, bool)> = sources
        .iter()
        .filter(|(_, facts)| facts.has_program)
        .map(|(source, facts)| (*source, facts.is_test))
        .collect();
    let with_included = |call: KindCall, files: &BTreeSet<String>| {
        let all = files.iter().filter_map(|file| sources.get(file).map(|facts| included_by(facts, file)));
        call.with("included", FieldValue::Files(all.flatten().collect()))
    };
    let mut needs = Vec::new();
    let name = survey.name_of_folder(folder);
    let single = matches!(mains.as_slice(), [(_, false)]) && helpers.is_empty();
    let define =
        |survey: &mut Survey<'_>, wish: &str, or_else: &str, keyword, documentation: String, call| {
            let address = survey.names.give(folder, wish, or_else);
            survey.define(Definition::new(keyword, &address, documentation, Body::Kind(call)));
            address
        };
    if single {
        let files: BTreeSet<String> =
            library.iter().cloned().chain(mains.iter().map(|(source, _)| (*source).clone())).collect();
        let call = with_included(
            KindCall::new(Kit::Fortran, "program").with("sources", FieldValue::Files(files.clone())),
            &files,
        );
        define(
            survey,
            stem_of(mains[0].0),
            "program",
            Keyword::Target,
            format!("The program {}.", stem_of(mains[0].0)),
            call,
        );
        return;
    }
    if !library.is_empty() {
        let call = with_included(
            KindCall::new(Kit::Fortran, "library").with("sources", FieldValue::Files(library.clone())),
            &library,
        );
        let address = define(survey, &name, "library", Keyword::Target, format!("The library {name}."), call);
        needs.push(FieldValue::Of(address));
    }
    if !helpers.is_empty() {
        let call = with_included(
            KindCall::new(Kit::Fortran, "library").with("sources", FieldValue::Files(helpers.clone())),
            &helpers,
        );
        let call = call.with("needs", FieldValue::List(needs.clone()));
        let address =
            define(survey, "testing", "library", Keyword::Target, "What the tests share.".to_owned(), call);
        needs.insert(0, FieldValue::Of(address));
    }
    for (source, is_test) in mains {
        let files = BTreeSet::from([source.clone()]);
        let kind = if is_test { "test_program" } else { "program" };
        let call = KindCall::new(Kit::Fortran, kind).with("sources", FieldValue::Files(files.clone()));
        let call = with_included(call, &files).with("needs", FieldValue::List(needs.clone()));
        let (keyword, what) = if is_test { (Keyword::Test, "test") } else { (Keyword::Target, "program") };
        define(survey, stem_of(source), what, keyword, format!("The {what} {}.", stem_of(source)), call);
    }
}
