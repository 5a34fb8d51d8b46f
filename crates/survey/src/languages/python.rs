//! Packages of Python: the `[project]` table of `pyproject.toml`, `setup.cfg`, and what sources
//! import.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_pins::{Registry, python_name};
use regex::Regex;

use super::python_facts::{ProjectFacts, facts_of};
use super::{folders_of, goes_through, is_sample};
use crate::Survey;
use crate::proposal::{
    Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit, WantedPin,
};
use crate::tree::{below, ext_of, folder_of, is_below, joined, name_of, stem_of};

const TEST_FOLDERS: [&str; 3] = ["test", "tests", "testing"];
const OTHER_FOLDERS: [&str; 18] = [
    "docs",
    "doc",
    "examples",
    "example",
    "benchmarks",
    "bench",
    "scripts",
    "tools",
    "build",
    "dist",
    "devtools",
    "dev",
    "ci",
    "contrib",
    "hack",
    "utils",
    "samples",
    "third_party",
];

/// The requirement of a package of which only an import is known.
pub(super) const GUESSED: &str = "?";

/// Files in a package that are no part of what is installed.
const NOT_INSTALLED: [&str; 11] = [
    "c", "h", "cc", "cpp", "hpp", "pyx", "pxd", "so", "pyc", "o", "orig",
];

pub(super) fn look(survey: &mut Survey<'_>) {
    let tree = survey.tree;
    let sources: Vec<&String> = tree
        .files()
        .iter()
        .filter(|file| ext_of(file) == "py")
        .collect();
    survey.count(Kit::Python, sources.len());
    let mut folders: BTreeSet<String> = ["pyproject.toml", "setup.cfg", "setup.py"]
        .iter()
        .flat_map(|name| folders_of(survey, name))
        .filter(|folder| !is_sample(folder) && !goes_through(&format!("{folder}/x"), &TEST_FOLDERS))
        .collect();
    // Without a manifest, packages at the top are a project, too.
    let is_package = |file: &&&String| {
        name_of(file) == "__init__.py"
            && !goes_through(file, &TEST_FOLDERS)
            && !goes_through(file, &OTHER_FOLDERS)
    };
    if folders.is_empty() && sources.iter().any(|file| is_package(&file)) {
        let tops = sources
            .iter()
            .filter(is_package)
            .map(|file| folder_of(folder_of(file)).to_owned());
        folders.extend(tops.min_by_key(|top| top.len()));
    }
    let all: Vec<String> = folders.into_iter().collect();
    let mut projects: Vec<Project> = Vec::new();
    for folder in &all {
        projects.extend(Project::read(survey, folder, &all));
    }
    let mut names = BTreeMap::new();
    for project in &projects {
        let address = survey.names.give(&project.folder, &project.name, "package");
        names.insert(python_name(&project.name), address);
    }
    for project in &projects {
        ProjectReader {
            survey,
            project,
            names: &names,
        }
        .propose();
    }
    leave_out_loose(survey, &projects, &sources);
}

/// Notes that sources of no project need no build.
fn leave_out_loose(survey: &mut Survey<'_>, projects: &[Project], sources: &[&String]) {
    let is_loose = |file: &&&String| {
        let mut folders = projects.iter().map(|project| &project.folder);
        !folders.any(|folder| is_below(file, folder))
    };
    let what = match sources.iter().filter(is_loose).count() {
        0 => return,
        1 => "a source in Python".to_owned(),
        loose => format!("{loose} sources in Python"),
    };
    survey.leave_out(what, "scripts of no package need no build");
}

pub(super) struct Project {
    pub folder: String,
    pub name: String,
    pub facts: ProjectFacts,
    /// The folder in which its modules are.
    pub root: String,
    /// Its top modules: folders and files below the root.
    pub modules: BTreeSet<String>,
    /// Its sources, with their data.
    pub sources: BTreeSet<String>,
    /// Its tests and what is beside them.
    pub tests: BTreeSet<String>,
    pub others: BTreeSet<String>,
}

impl Project {
    fn read(survey: &mut Survey<'_>, folder: &str, all: &[String]) -> Option<Project> {
        let tree = survey.tree;
        let facts = facts_of(survey, folder);
        let is_mine = |file: &&str| {
            let deepest = all
                .iter()
                .filter(|other| is_below(file, other))
                .max_by_key(|other| other.len());
            deepest.is_some_and(|deepest| deepest == folder)
        };
        let files: Vec<&str> = tree.below(folder).filter(is_mine).collect();
        let src = joined(folder, "src").unwrap_or_default();
        let has_src = files
            .iter()
            .any(|file| is_below(file, &src) && ext_of(file) == "py");
        let root = match &facts.root {
            Some(root) => joined(folder, root).unwrap_or_default(),
            None if has_src => src,
            None => folder.to_owned(),
        };
        let named = facts.name.as_deref();
        let named = named.map(|name| python_name(name).replace('-', "_"));
        let in_root = files.iter().filter(|file| is_below(file, &root));
        let modules: BTreeSet<String> = in_root
            .filter(|file| ext_of(file) == "py")
            .filter_map(|file| {
                module_of(below(file, &root), named.as_deref(), root != folder, &facts)
            })
            .collect();
        if modules.is_empty() {
            return None;
        }
        let of_module = |file: &str| {
            let inside = below(file, &root);
            is_below(file, &root) && modules.iter().any(|module| is_below(inside, module))
        };
        let (own, others): (Vec<&str>, Vec<&str>) = files.iter().partition(|file| of_module(file));
        let sources = own
            .iter()
            .filter(|file| !NOT_INSTALLED.contains(&ext_of(file)));
        let sources: BTreeSet<String> = sources.map(|file| (*file).to_owned()).collect();
        let tests = others
            .iter()
            .filter(|file| ext_of(file) == "py" && is_test(below(file, folder)));
        let mut tests: BTreeSet<String> = tests.map(|file| (*file).to_owned()).collect();
        // Tests may be part of the package.
        let inner = sources.iter().filter(|file| is_test_name(name_of(file)));
        tests.extend(inner.cloned());
        let others = others.iter().map(|file| (*file).to_owned()).collect();
        let first = || modules.first().map(|module| stem_of(module).to_owned());
        let name = facts.name.clone().or_else(first)?;
        Some(Project {
            folder: folder.to_owned(),
            name,
            facts,
            root,
            modules,
            sources,
            tests,
            others,
        })
    }
}

/// The module of a project that a file is, or is in; its path from the root of the modules is given.
/// `is_apart` says whether that root holds nothing else.
fn module_of(
    inside: &str,
    named: Option<&str>,
    is_apart: bool,
    facts: &ProjectFacts,
) -> Option<String> {
    let Some((top, rest)) = inside.split_once('/') else {
        let stem = stem_of(inside);
        let is_helper = ["setup", "conftest", "conf"].contains(&stem);
        let is_module = named == Some(stem) || is_apart || facts.modules.contains(stem);
        return (!is_helper && is_module && !is_test(inside)).then(|| inside.to_owned());
    };
    let usual = !TEST_FOLDERS.contains(&top) && !OTHER_FOLDERS.contains(&top);
    let is_module = (rest == "__init__.py" && usual) || named == Some(top);
    is_module.then(|| top.to_owned())
}

fn is_test_name(name: &str) -> bool {
    (name.starts_with("test_") || name.ends_with("_test.py") || name == "tests.py")
        && name.ends_with(".py")
}

fn is_test(inside: &str) -> bool {
    is_test_name(name_of(inside)) && !goes_through(inside, &OTHER_FOLDERS)
}

pub(super) struct ProjectReader<'r, 'a> {
    pub survey: &'r mut Survey<'a>,
    pub project: &'r Project,
    pub names: &'r BTreeMap<String, DefinitionAddress>,
}

impl ProjectReader<'_, '_> {
    fn propose(&mut self) {
        let project = self.project;
        let address = self.names[&python_name(&project.name)].clone();
        let mut reasons = Vec::new();
        let version = project
            .facts
            .version
            .clone()
            .or_else(|| self.version_in_sources())
            .unwrap_or_else(|| {
                reasons.push("No manifest and no module says its version.".to_owned());
                "0".to_owned()
            });
        let manifest = self.manifest();
        let needs = self.needs(&project.facts.requires.clone(), &manifest, |_| true);
        let extensions = self.extensions();
        let mut call = KindCall::new(Kit::Python, "package")
            .with("name", FieldValue::text(&project.name))
            .with("version", FieldValue::text(&version))
            .with("root", FieldValue::Folder(project.root.clone()))
            .with("sources", self.own_sources())
            .with("extensions", FieldValue::List(extensions))
            .with("generated", self.version_modules(&version));
        let facts = &project.facts;
        if let Some(summary) = facts.summary.as_ref().filter(|text| !text.is_empty()) {
            let first = summary.lines().next().unwrap_or_default();
            call.set("summary", FieldValue::text(first));
        }
        call.set("install_requires", FieldValue::texts(facts.requires.iter()));
        let scripts = project
            .facts
            .scripts
            .iter()
            .map(|(name, point)| (name.clone(), FieldValue::text(point)));
        call.set("scripts", FieldValue::Map(scripts.collect()));
        let groups = project.facts.entry_points.iter().map(|(group, points)| {
            let points = points
                .iter()
                .map(|(name, object)| (name.clone(), FieldValue::text(object)));
            (group.clone(), FieldValue::Map(points.collect()))
        });
        call.set("entry_points", FieldValue::Map(groups.collect()));
        call.set("needs", FieldValue::List(needs.clone()));
        let documentation = format!("The package {}.", project.name);
        let (keyword, body) = (Keyword::Target, Body::Kind(call));
        self.define(&address, keyword, documentation, reasons, body);
        self.programs(&address);
        self.tests(&address, &needs);
    }

    /// The programs that a package names, each in one file.
    fn programs(&mut self, address: &DefinitionAddress) {
        let project = self.project;
        for (name, point) in &project.facts.scripts {
            let point = point.split('[').next().unwrap_or(point).trim();
            let call = KindCall::new(Kit::Python, "program")
                .with("entry_point", FieldValue::text(point))
                .with("needs", FieldValue::Of(address.clone()));
            let program = self.survey.names.give(&project.folder, name, "program");
            let documentation = format!("The program {name} in one file.");
            let (keyword, body) = (Keyword::Target, Body::Kind(call));
            self.define(&program, keyword, documentation, Vec::new(), body);
        }
    }

    pub fn define(
        &mut self,
        address: &DefinitionAddress,
        keyword: Keyword,
        documentation: String,
        reasons: Vec<String>,
        body: Body,
    ) {
        let address = address.clone();
        self.survey
            .define(Definition::new(keyword, &address, documentation, body).because(reasons));
    }

    /// The sources, below the package where there is only one.
    fn own_sources(&self) -> FieldValue {
        let project = self.project;
        let mut modules = project.modules.iter();
        match (modules.next(), modules.next()) {
            (Some(one), None) => {
                match joined(&project.root, one).filter(|place| self.survey.tree.has_folder(place))
                {
                    Some(place) => FieldValue::Below(place, project.sources.clone()),
                    None => FieldValue::Files(project.sources.clone()),
                }
            }
            _ => FieldValue::Files(project.sources.clone()),
        }
    }

    /// Modules with the version that publishing would write, and that others import.
    fn version_modules(&self, version: &str) -> FieldValue {
        let Ok(pattern) =
            Regex::new(r"(?m)^\s*from \.(_version|version|__version__|_about) import ([^\n#]+)")
        else {
            return FieldValue::Map(Vec::new());
        };
        let mut rows = std::collections::BTreeMap::new();
        for source in self
            .project
            .sources
            .iter()
            .filter(|file| ext_of(file) == "py")
        {
            let Some(text) = self.survey.tree.text(source) else {
                continue;
            };
            for found in pattern.captures_iter(&text) {
                let module =
                    joined(folder_of(source), &format!("{}.py", &found[1])).unwrap_or_default();
                if self.survey.tree.has(&module) {
                    continue;
                }
                let numbers: Vec<&str> = version
                    .split('.')
                    .filter(|part| part.bytes().all(|b| b.is_ascii_digit()))
                    .collect();
                let names = found[2]
                    .split([',', '(', ')'])
                    .filter_map(|word| word.split_whitespace().next());
                let lines: String = names
                    .map(
                        |name| match name.contains("tuple") || name.contains("info") {
                            true => format!("{name} = ({},)\\n", numbers.join(", ")),
                            false => format!("{name} = \\\"{version}\\\"\\n"),
                        },
                    )
                    .collect();
                let code = format!(
                    "write {{ path = \"{}.py\", text = \"{lines}\" }}",
                    &found[1]
                );
                rows.insert(
                    below(&module, &self.project.root).to_owned(),
                    FieldValue::Code(code),
                );
            }
        }
        FieldValue::Map(rows.into_iter().collect())
    }

    pub fn manifest(&self) -> String {
        let names = ["pyproject.toml", "setup.cfg", "setup.py"];
        let paths = names
            .iter()
            .filter_map(|name| joined(&self.project.folder, name));
        paths
            .into_iter()
            .find(|path| self.survey.tree.has(path))
            .unwrap_or_else(|| self.project.folder.clone())
    }

    fn version_in_sources(&self) -> Option<String> {
        let pattern = Regex::new(
            r#"(?m)^(?:__version__|version|VERSION)\s*(?::\s*str\s*)?=\s*["']([^"']+)["']"#,
        )
        .ok()?;
        let files = self.project.sources.iter().filter(|file| {
            [
                "__init__.py",
                "_version.py",
                "version.py",
                "__about__.py",
                "__version__.py",
            ]
            .contains(&name_of(file))
                || self.project.modules.contains(name_of(file))
        });
        files
            .filter_map(|file| self.survey.tree.text(file))
            .find_map(|text| Some(pattern.captures(&text)?[1].to_owned()))
    }

    /// Modules in C: sources in the package that say how they are set up.
    fn extensions(&mut self) -> Vec<FieldValue> {
        let tree = self.survey.tree;
        let Ok(start) = Regex::new(r"\bPyInit_(\w+)\s*\(") else {
            return Vec::new();
        };
        let project = self.project;
        let mut values = Vec::new();
        let sources = tree
            .below(&project.root)
            .filter(|file| ["c", "cc", "cpp"].contains(&ext_of(file)));
        for source in sources.collect::<Vec<_>>() {
            let Some(text) = tree.text(source) else {
                continue;
            };
            let Some(found) = start.captures(&text) else {
                continue;
            };
            let inside = below(folder_of(source), &project.root);
            let is_own = project
                .modules
                .iter()
                .any(|module| is_below(inside, module));
            let place = if is_own {
                inside.replace('/', ".")
            } else {
                String::new()
            };
            let name = if place.is_empty() {
                found[1].to_owned()
            } else {
                format!("{place}.{}", &found[1])
            };
            let headers = tree
                .inside(folder_of(source))
                .filter(|file| ext_of(file) == "h")
                .map(str::to_owned);
            let call = KindCall::new(Kit::Python, "extension")
                .with("name", FieldValue::text(&name))
                .with(
                    "sources",
                    FieldValue::Files(BTreeSet::from([source.to_owned()])),
                )
                .with("headers", FieldValue::Files(headers.collect()));
            let address = self
                .survey
                .names
                .give(&project.folder, &found[1], "extension");
            self.define(
                &address,
                Keyword::Target,
                format!("The module {name} in C."),
                Vec::new(),
                Body::Kind(call),
            );
            self.survey.claimed.insert(source.to_owned());
            values.push(FieldValue::Of(address));
        }
        values
    }

    /// Requirements as values; those of registries are pinned.
    pub fn needs(
        &mut self,
        requirements: &[String],
        manifest: &str,
        wanted: impl Fn(&str) -> bool,
    ) -> Vec<FieldValue> {
        let mut values = Vec::new();
        for requirement in requirements {
            let (requirement, marker) = requirement.split_once(';').unwrap_or((requirement, ""));
            let end = requirement
                .find(|c: char| !(c.is_alphanumeric() || "-_.".contains(c)))
                .unwrap_or(requirement.len());
            let name = python_name(&requirement[..end]);
            if name.is_empty() || !wanted(&name) || is_other_system(marker) {
                continue;
            }
            if let Some(address) = self.names.get(&name) {
                values.push(FieldValue::Of(address.clone()));
                continue;
            }
            let rest = requirement[end..].trim();
            if rest.contains('@') {
                self.survey.leave_out(
                    format!("the package {name}"),
                    format!("{manifest} takes it from an address: {rest}"),
                );
                continue;
            }
            let (extras, rest) = match rest.strip_prefix('[').and_then(|rest| rest.split_once(']'))
            {
                Some((extras, rest)) => (
                    extras
                        .split(',')
                        .map(|extra| extra.trim().to_owned())
                        .collect(),
                    rest,
                ),
                None => (BTreeSet::new(), rest),
            };
            values.push(self.pinned(
                &name,
                rest.trim().trim_matches(['(', ')']),
                extras,
                manifest,
            ));
        }
        values.dedup();
        values
    }

    pub fn pinned(
        &mut self,
        name: &str,
        requirement: &str,
        extras: BTreeSet<String>,
        wanted_by: &str,
    ) -> FieldValue {
        // No manifest writes a requirement like this one.
        let is_guess = requirement == GUESSED;
        let requirement = if is_guess { "" } else { requirement };
        self.survey.pin(WantedPin {
            registry: Registry::Python,
            name: name.to_owned(),
            requirement: requirement.to_owned(),
            features: extras,
            is_bare: false,
            is_guess,
            wanted_by: wanted_by.to_owned(),
        });
        FieldValue::Pinned(Kit::Python, name.to_owned())
    }
}

/// The last version of Python 3 of which nobody takes care any more.
const LAST_OLD_MINOR: u32 = 8;

/// Whether a requirement is for other systems only, or for versions of Python that are no more.
fn is_other_system(marker: &str) -> bool {
    let is_choice = marker.contains(" or ");
    let marker = marker.replace([' ', '(', ')'], "").replace('"', "'");
    let of_old = ["python_version<'", "python_version<='"]
        .iter()
        .any(|start| {
            let version = marker
                .split(start)
                .nth(1)
                .and_then(|rest| rest.split('\'').next());
            version.is_some_and(|version| match version.split_once('.') {
                Some(("3", minor)) => minor
                    .parse()
                    .is_ok_and(|minor: u32| minor <= LAST_OLD_MINOR),
                Some((major, _)) => major == "2",
                None => version == "3",
            })
        });
    if of_old && !is_choice {
        return true;
    }
    [
        "sys_platform=='win32'",
        "platform_system=='Windows'",
        "os_name=='nt'",
        "sys_platform=='darwin'",
    ]
    .iter()
    .any(|other| marker.contains(other))
        && !is_choice
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn requirements_for_other_systems_and_older_pythons_are_known() {
        for other in [
            "sys_platform == 'win32'",
            "python_version < \"3.8\"",
            "(python_version<='3.6')",
            "python_version < '3'",
        ] {
            assert!(is_other_system(other), "{other}");
        }
        for own in [
            "",
            "python_version < '3.11'",
            "python_version >= '3.8'",
            "python_version < '3.8' or os_name == 'posix'",
        ] {
            assert!(!is_other_system(own), "{own}");
        }
    }
}
