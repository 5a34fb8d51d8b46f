//! The tests of a project in Python, and what they import.

use std::collections::BTreeSet;
use std::rc::Rc;

use super::python::{GUESSED, ProjectReader};
use super::python_names::{is_standard, package_of};
use crate::proposal::{Body, DefinitionAddress, FieldValue, Keyword, KindCall, Kit};
use crate::tree::{ext_of, folder_of, is_below, joined, name_of, stem_of};

impl ProjectReader<'_, '_> {
    /// Proposes tests, file by file, with the packages that they import.
    pub fn tests(&mut self, address: &DefinitionAddress, needs: &[FieldValue]) {
        let project = self.project;
        if project.tests.is_empty() {
            return;
        }
        let tree = self.survey.tree;
        let mut helpers = self.helpers();
        let texts: Vec<Rc<str>> = project
            .tests
            .iter()
            .chain(&helpers)
            .filter(|file| ext_of(file) == "py")
            .filter_map(|file| tree.text(file))
            .collect();
        let imported: BTreeSet<String> = texts
            .iter()
            .flat_map(|text| imports(text))
            .map(|(name, _)| name)
            .collect();
        let foreign = self.foreign(&imported);
        let certain = self.foreign(&self.certain_imports(&helpers));
        let uses_pytest = foreign.contains("pytest")
            || texts
                .iter()
                .any(|text| text.contains("\ndef test_") || text.contains("\nasync def test_"));
        let mut all = vec![FieldValue::Of(address.clone())];
        all.extend(self.packages_for_tests(&foreign, &certain, uses_pytest, &texts, needs));
        let pinned = |name: &str| all.contains(&FieldValue::Pinned(Kit::Python, name.to_owned()));
        let required =
            |name: &str| needs.contains(&FieldValue::Pinned(Kit::Python, name.to_owned()));
        let unpinned = foreign
            .iter()
            .filter(|name| !pinned(name) && !required(name) && !certain.contains(*name));
        let reasons: Vec<String> = unpinned
            .map(|name| format!("{name} is not pinned: no manifest lists it, and tests do without it or only their data names it."))
            .collect();
        if self.tests_import_others(&imported) {
            helpers.extend(project.tests.iter().cloned());
        }
        // Tests in a package are imported from there, and are no files beside it.
        let tests = project.tests.iter().cloned();
        let (inner, outer): (BTreeSet<String>, BTreeSet<String>) =
            tests.partition(|file| project.sources.contains(file));
        if !inner.is_empty() && outer.is_empty() {
            let others = project.sources.iter().filter(|file| !inner.contains(*file));
            helpers.extend(others.cloned());
        }
        let sources = if outer.is_empty() { inner } else { outer };
        let kind = if uses_pytest { "tests" } else { "unit_tests" };
        let call = KindCall::new(Kit::Python, kind)
            .with("sources", FieldValue::Files(sources))
            .with("helpers", FieldValue::Files(helpers))
            .with("needs", FieldValue::List(all));
        let test = self.survey.names.give(&project.folder, "unit", "tests");
        let documentation = format!("The tests of {}, file by file.", project.name);
        let body = Body::Kind(call);
        self.define(&test, Keyword::Test, documentation, reasons, body);
    }

    /// Whether some tests import others.
    fn tests_import_others(&self, imported: &BTreeSet<String>) -> bool {
        let project = self.project;
        let own: BTreeSet<&str> = project
            .modules
            .iter()
            .map(|module| stem_of(module))
            .collect();
        let tests = project.tests.iter();
        let tested: BTreeSet<&str> = tests
            .flat_map(|file| [stem_of(file), name_of(folder_of(file))])
            .collect();
        let mut imported = imported.iter().map(String::as_str);
        imported.any(|module| tested.contains(module) && !own.contains(module))
    }

    /// What lies beside tests: their helpers, data, and settings at the top.
    fn helpers(&self) -> BTreeSet<String> {
        let project = self.project;
        let tops: BTreeSet<&str> = project.tests.iter().map(|file| folder_of(file)).collect();
        let mut helpers: BTreeSet<String> = project
            .others
            .iter()
            .filter(|file| {
                tops.iter()
                    .any(|top| *top != project.folder && is_below(file, top))
            })
            .filter(|file| !project.tests.contains(*file) && ext_of(file) != "pyc")
            .cloned()
            .collect();
        for name in [
            "conftest.py",
            "pyproject.toml",
            "setup.cfg",
            "pytest.ini",
            "tox.ini",
        ] {
            let path = joined(&project.folder, name).filter(|path| self.survey.tree.has(path));
            helpers.extend(path);
        }
        helpers
    }

    /// The modules that tests cannot do without: what they import under no condition, with what the
    /// helpers import that they import. A name that is in data, or that is tried, may be anybody's:
    /// nothing is pinned for it.
    fn certain_imports(&self, helpers: &BTreeSet<String>) -> BTreeSet<String> {
        let tree = self.survey.tree;
        let mut queue: Vec<&String> = self.project.tests.iter().collect();
        queue.extend(helpers.iter().filter(|file| name_of(file) == "conftest.py"));
        let mut seen: BTreeSet<&String> = BTreeSet::new();
        let mut certain = BTreeSet::new();
        while let Some(file) = queue.pop() {
            if !seen.insert(file) {
                continue;
            }
            let Some(text) = tree.text(file).filter(|_| ext_of(file) == "py") else {
                continue;
            };
            // A helper is imported by its own name, whatever is before it: `from .level import x`,
            // `from tests import level`.
            let named = import_words(&text);
            let is_imported = |helper: &&String| {
                let stem = stem_of(helper);
                named.contains(stem)
                    || (stem == "__init__" && named.contains(name_of(folder_of(helper))))
            };
            queue.extend(helpers.iter().filter(is_imported));
            let found = imports(&text).into_iter().filter(|(_, is_tried)| !is_tried);
            certain.extend(found.map(|(name, _)| name));
        }
        certain
    }

    /// Packages of others that tests import.
    fn foreign(&self, imported: &BTreeSet<String>) -> BTreeSet<String> {
        let project = self.project;
        let own: BTreeSet<&str> = project
            .modules
            .iter()
            .map(|module| stem_of(module))
            .collect();
        let around = || project.others.iter().chain(&project.tests);
        let beside: BTreeSet<&str> = around().map(|file| stem_of(file)).collect();
        let folders: BTreeSet<&str> = around().flat_map(|file| file.split('/')).collect();
        imported
            .iter()
            .filter(|module| !is_standard(module) && !own.contains(module.as_str()))
            .filter(|module| {
                !beside.contains(module.as_str()) && !folders.contains(module.as_str())
            })
            .map(|module| package_of(module))
            .collect()
    }

    /// The packages of others that tests need and the project does not: those that its manifest
    /// lists for tests, and those that are only imported.
    fn packages_for_tests(
        &mut self,
        foreign: &BTreeSet<String>,
        certain: &BTreeSet<String>,
        uses_pytest: bool,
        texts: &[Rc<str>],
        needs: &[FieldValue],
    ) -> Vec<FieldValue> {
        let project = self.project;
        let manifest = self.manifest();
        let mut all = self.needs(&project.facts.more.clone(), &manifest, |name| {
            foreign.contains(name) || (uses_pytest && is_plugin(name, texts))
        });
        let required: BTreeSet<String> = needs
            .iter()
            .filter_map(|value| match value {
                FieldValue::Pinned(_, name) => Some(name.clone()),
                _ => None,
            })
            .collect();
        let known = |all: &[FieldValue], name: &str| {
            all.contains(&FieldValue::Pinned(Kit::Python, name.to_owned()))
                || required.contains(name)
        };
        for name in certain {
            if !known(&all, name) && !self.names.contains_key(name) {
                let first = project.tests.iter().next().cloned().unwrap_or_default();
                all.push(self.pinned(name, GUESSED, BTreeSet::new(), &first));
            }
        }
        if uses_pytest && !known(&all, "pytest") {
            all.push(self.pinned("pytest", "", BTreeSet::new(), &manifest));
        }
        all
    }
}

/// Whether a package extends pytest in a way that tests use without importing it.
fn is_plugin(name: &str, texts: &[Rc<str>]) -> bool {
    let Some(short) = name.strip_prefix("pytest-") else {
        return false;
    };
    let marks: &[&str] = match short {
        "asyncio" => &["async def test_", "mark.asyncio"],
        "trio" => &["mark.trio"],
        "mock" => &["mocker"],
        "benchmark" => &["benchmark"],
        "timeout" => &["mark.timeout"],
        "httpserver" => &["httpserver"],
        "subtests" => &["subtests"],
        "freezer" => &["freezer"],
        "datadir" => &["datadir"],
        "randomly" | "xdist" | "cov" | "sugar" | "pretty" => &[],
        _ => {
            return texts
                .iter()
                .any(|text| text.contains(&short.replace('-', "_")));
        }
    };
    texts
        .iter()
        .any(|text| marks.iter().any(|mark| text.contains(mark)))
}

/// All words in the lines in which a source imports something.
fn import_words(text: &str) -> BTreeSet<&str> {
    let lines = text.lines().map(str::trim_start);
    let lines = lines.filter(|line| line.starts_with("from ") || line.starts_with("import "));
    lines
        .flat_map(|line| line.split(|c: char| !c.is_alphanumeric() && c != '_'))
        .collect()
}

/// The top modules that a source imports, outside of its own package, each with whether that is
/// tried or under a condition.
fn imports(text: &str) -> BTreeSet<(String, bool)> {
    // Around an import only these say nothing of whether it is needed: any other block may do
    // without it.
    const PLAIN: [&str; 3] = ["def ", "async def ", "class "];
    let mut found = BTreeSet::new();
    // The blocks around a line: how deep they are indented, and whether they are plain.
    let mut blocks: Vec<(usize, bool)> = Vec::new();
    for whole in text.lines() {
        let line = whole.trim_start();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let depth = whole.len() - line.len();
        // A signature over several lines ends with its bracket.
        if line.starts_with(')') {
            continue;
        }
        while blocks.last().is_some_and(|(above, _)| *above >= depth) {
            blocks.pop();
        }
        let is_tried = blocks.iter().any(|(_, is_plain)| !is_plain);
        blocks.push((depth, PLAIN.iter().any(|word| line.starts_with(word))));
        let names = if let Some((name, _)) = line
            .strip_prefix("from ")
            .and_then(|rest| rest.split_once(" import "))
        {
            vec![name.trim()]
        } else if let Some(rest) = line.strip_prefix("import ") {
            rest.split(',')
                .map(|part| part.split_whitespace().next().unwrap_or(""))
                .collect()
        } else {
            continue;
        };
        for name in names {
            let top = name.split('.').next().unwrap_or("");
            if !top.is_empty() && top.chars().all(|c| c.is_alphanumeric() || c == '_') {
                found.insert((top.to_owned(), is_tried));
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn imports_are_the_first_parts_of_names() {
        let text = "import os, tide.sea as s\nfrom click.testing import CliRunner\nfrom . import x\n    import late\n";
        let names: Vec<_> = imports(text).into_iter().collect();
        let names: Vec<&str> = names.iter().map(|(name, _)| &**name).collect();
        assert_eq!(names, ["click", "late", "os", "tide"]);
        let text = "try:\n    import a\nexcept ImportError:\n    import b\nimport c\nif c:\n    import d\ndef f(\n    x,\n):\n    import e\nwith suppress(ImportError):\n    import g\n";
        let found = imports(text);
        let tried: Vec<&str> = found
            .iter()
            .filter(|(_, is)| *is)
            .map(|(name, _)| &**name)
            .collect();
        assert_eq!(tried, ["a", "b", "d", "g"]);
    }
}
