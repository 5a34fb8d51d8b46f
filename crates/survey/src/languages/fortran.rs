//! Fortran: programs and what they use, by folder.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;

use crate::Survey;
use crate::proposal::{Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit};
use crate::tree::{ext_of, folder_of, joined, name_of, stem_of};

/// Whether a file is a source of Fortran.
pub(crate) fn is_source(path: &str) -> bool {
    ENDINGS.contains(&ext_of(path))
}

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
    let is_own = |file: &&String| is_source(file) && !survey.is_claimed(file);
    let sources: Vec<&String> = tree.files().iter().filter(is_own).collect();
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
    let names = tree.by_name();
    for (folder, sources) in owners {
        FortranFolder { survey, folder: &folder, sources: &sources, names: &names }.propose();
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

/// Sources of one folder, to be proposed.
struct FortranFolder<'r, 'a> {
    survey: &'r mut Survey<'a>,
    folder: &'r str,
    sources: &'r BTreeMap<&'r String, SourceFacts>,
    /// All files of the tree by their names.
    names: &'r BTreeMap<&'a str, Vec<&'a str>>,
}

impl FortranFolder<'_, '_> {
    fn propose(&mut self) {
        let sources = self.sources;
        let included: BTreeSet<String> = sources.keys().flat_map(|source| self.included_by(source)).collect();
        let set = |wanted: &dyn Fn(&SourceFacts) -> bool| -> BTreeSet<String> {
            let chosen =
                sources.iter().filter(|(source, facts)| wanted(facts) && !included.contains(**source));
            chosen.map(|(source, _)| (*source).clone()).collect()
        };
        let library = set(&|facts| !facts.has_program && !facts.is_test);
        let helpers = set(&|facts| !facts.has_program && facts.is_test);
        let mains: Vec<(&String, bool)> = sources
            .iter()
            .filter(|(_, facts)| facts.has_program)
            .map(|(source, facts)| (*source, facts.is_test))
            .collect();
        if let ([(main, false)], true) = (mains.as_slice(), helpers.is_empty()) {
            let files = library.into_iter().chain([(*main).clone()]).collect();
            let call = self.call("program", files, &[]);
            self.define(
                stem_of(main),
                "program",
                Keyword::Target,
                format!("The program {}.", stem_of(main)),
                call,
            );
            return;
        }
        let mut needs = Vec::new();
        if !library.is_empty() {
            let name = self.survey.name_of_folder(self.folder);
            let call = self.call("library", library, &[]);
            let documentation = format!("The library {name}.");
            needs.push(FieldValue::Of(self.define(&name, "library", Keyword::Target, documentation, call)));
        }
        if !helpers.is_empty() {
            let call = self.call("library", helpers, &needs);
            let documentation = "What the tests share.".to_owned();
            let address = self.define("testing", "library", Keyword::Target, documentation, call);
            needs.insert(0, FieldValue::Of(address));
        }
        for (source, is_test) in mains {
            let kind = if is_test { "test_program" } else { "program" };
            let call = self.call(kind, BTreeSet::from([source.clone()]), &needs);
            let (keyword, what) =
                if is_test { (Keyword::Test, "test") } else { (Keyword::Target, "program") };
            self.define(stem_of(source), what, keyword, format!("The {what} {}.", stem_of(source)), call);
        }
    }

    /// The files that a source includes, beside it or by their names.
    fn included_by(&self, source: &str) -> Vec<String> {
        let tree = self.survey.tree;
        let names = self.names;
        let mut found = Vec::new();
        for name in self.sources.get(&source.to_owned()).into_iter().flat_map(|facts| &facts.includes) {
            let beside = joined(folder_of(source), name).filter(|path| tree.has(path));
            let named =
                || names.get(name_of(name)).and_then(|paths| paths.first()).map(|path| (*path).to_owned());
            found.extend(beside.or_else(named));
        }
        found
    }

    /// A call for some sources, with what they include.
    fn call(&self, kind: &'static str, files: BTreeSet<String>, needs: &[FieldValue]) -> KindCall {
        let included = files.iter().flat_map(|file| self.included_by(file)).collect();
        KindCall::new(Kit::Fortran, kind)
            .with("sources", FieldValue::Files(files))
            .with("included", FieldValue::Files(included))
            .with("needs", FieldValue::List(needs.to_vec()))
    }

    fn define(
        &mut self,
        wish: &str,
        or_else: &str,
        keyword: Keyword,
        documentation: String,
        call: KindCall,
    ) -> DefinitionAddress {
        let address = self.survey.names.give(self.folder, wish, or_else);
        self.survey.define(Definition::new(keyword, &address, documentation, Body::Kind(call)));
        address
    }
}
