//! Go modules: `go.mod`, and what sources import and embed.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_pins::{GoManifest, GoSource, Registry, Unreadable, is_standard_import};
use regex::Regex;

use super::{folders_of, goes_through, is_sample};
use crate::Survey;
use crate::proposal::{
    Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit, WantedPin,
};
use crate::tree::{SourceTree, below, ext_of, folder_of, is_below, joined, name_of};

/// A module with its packages.
struct GoModule {
    folder: String,
    manifest: GoManifest,
    /// Whether there is no go.mod, so that it is guessed of which modules imports are.
    is_guessed: bool,
    /// Packages by their folders.
    packages: BTreeMap<String, Package>,
}

#[derive(Default)]
struct Package {
    name: String,
    sources: BTreeSet<String>,
    imports: BTreeSet<String>,
    test_imports: BTreeSet<String>,
    embedded: BTreeSet<String>,
    has_tests: bool,
    has_bridge: bool,
}

pub(super) fn look(survey: &mut Survey<'_>) {
    let folders = folders_of(survey, "go.mod");
    let folders: Vec<String> = folders
        .into_iter()
        .filter(|folder| !is_sample(folder))
        .collect();
    let sources = survey
        .tree
        .files()
        .iter()
        .filter(|file| ext_of(file) == "go")
        .count();
    survey.count(Kit::Go, sources);
    let mut modules: Vec<GoModule> = Vec::new();
    for folder in &folders {
        match GoModule::read(survey.tree, folder, &folders) {
            Ok(module) => modules.push(module),
            Err(problem) => {
                let what = joined(folder, "go.mod").unwrap_or_default();
                survey.leave_out(what, format!("it cannot be understood: {problem}"));
            }
        }
    }
    if folders.is_empty() && sources > 0 {
        modules.extend(guessed_module(survey));
    }
    let mut names = BTreeMap::new();
    for module in &modules {
        let short = module
            .path()
            .rsplit('/')
            .find(|part| !is_version(part))
            .unwrap_or(module.path());
        names.insert(
            module.path().to_owned(),
            survey.names.give(&module.folder, short, "module"),
        );
        survey.claim(&module.folder, &["go"]);
    }
    for module in &modules {
        ModuleReader {
            module,
            modules: &modules,
            names: &names,
        }
        .propose(survey);
    }
}

/// The module of sources that have no manifest, where they themselves say by which path they are
/// imported, or where nobody imports one of them, so that any path will do.
fn guessed_module(survey: &mut Survey<'_>) -> Option<GoModule> {
    let packages = packages_below(survey.tree, "", &[String::new()]);
    let stands_alone = |package: &Package| {
        let mut imports = package.imports.iter().chain(&package.test_imports);
        imports.all(|import| is_standard_import(import))
    };
    let free = || {
        let all = packages.values().all(stands_alone);
        all.then(|| survey.name_of_folder(""))
    };
    let Some(path) = inferred_path(survey.tree).or_else(free) else {
        survey.leave_out(
            "sources in Go",
            "neither a go.mod nor they themselves say by which path they are imported",
        );
        return None;
    };
    let manifest = GoManifest {
        requires: guessed_modules(&packages, &path),
        path,
        ..GoManifest::default()
    };
    Some(GoModule {
        folder: String::new(),
        manifest,
        is_guessed: true,
        packages,
    })
}

fn is_version(part: &str) -> bool {
    part.strip_prefix('v')
        .is_some_and(|rest| !rest.is_empty() && rest.bytes().all(|b| b.is_ascii_digit()))
}

impl GoModule {
    fn read(tree: &SourceTree, folder: &str, all: &[String]) -> Result<GoModule, Unreadable> {
        let text = joined(folder, "go.mod").and_then(|path| tree.text(&path));
        let no_text = || Unreadable::Form("it is no text".to_owned());
        let manifest = GoManifest::read(&text.ok_or_else(no_text)?)?;
        let packages = packages_below(tree, folder, all);
        Ok(GoModule {
            folder: folder.to_owned(),
            manifest,
            is_guessed: false,
            packages,
        })
    }

    fn path(&self) -> &str {
        &self.manifest.path
    }

    /// The module of other people that an import is of, as the manifest requires it, with its least
    /// version.
    fn required(&self, import: &str) -> Option<(&String, &String)> {
        let requires = || {
            self.manifest
                .requires
                .iter()
                .filter(|(path, _)| is_of(import, path))
        };
        requires().max_by_key(|(path, _)| path.len())
    }

    /// Why an import of other people's code cannot be had; `None` if it can.
    fn why_not(&self, import: &str) -> Option<String> {
        match self.required(import) {
            None if self.is_guessed => Some(format!(
                "it imports {import}, and nothing says which module that is of"
            )),
            None => Some(format!(
                "it imports {import}, which its go.mod does not require"
            )),
            Some((path, _)) => self.manifest.replaced.get(path).map(
                |(other, version)| match version {
                    Some(version) => {
                        format!(
                            "it imports {import}, in whose place its go.mod puts {other} {version}"
                        )
                    }
                    None => format!(
                        "it imports {import}, in whose place its go.mod puts the folder {other}"
                    ),
                },
            ),
        }
    }

    fn import_path(&self, folder: &str) -> String {
        let inside = below(folder, &self.folder);
        if inside.is_empty() || folder == self.folder {
            self.path().to_owned()
        } else {
            format!("{}/{inside}", self.path())
        }
    }
}

/// Modules that imports of other people's packages are likely of, without a least version: an
/// address begins with a host, and where many keep their modules, an owner and a name follow. A
/// host that redirects has only a name.
fn guessed_modules(packages: &BTreeMap<String, Package>, own: &str) -> BTreeMap<String, String> {
    let imports = packages
        .values()
        .flat_map(|package| package.imports.iter().chain(&package.test_imports));
    let foreign = imports.filter(|import| !is_standard_import(import) && !is_of(import, own));
    let module = |import: &String| {
        let parts: Vec<&str> = import.split('/').collect();
        let has_host = parts[0].contains('.') && parts.len() > 1;
        has_host.then(|| (parts[..parts.len().min(3)].join("/"), String::new()))
    };
    foreign.filter_map(module).collect()
}

/// The packages below a folder, without those of modules further below.
fn packages_below(tree: &SourceTree, folder: &str, all: &[String]) -> BTreeMap<String, Package> {
    let mut packages: BTreeMap<String, Package> = BTreeMap::new();
    for file in tree.below(folder).filter(|file| ext_of(file) == "go") {
        let deepest = all
            .iter()
            .filter(|other| is_below(file, other))
            .max_by_key(|other| other.len());
        let place = folder_of(file);
        let is_hidden = below(place, folder)
            .split('/')
            .any(|part| part == "testdata" || part.starts_with('_'));
        let is_vendored = goes_through(below(file, folder), &["vendor"]);
        if deepest.is_some_and(|deepest| deepest != folder)
            || is_hidden
            || is_vendored
            || name_of(file).starts_with('_')
        {
            continue;
        }
        let package = packages.entry(place.to_owned()).or_default();
        package.add(tree, file);
    }
    packages
}

/// The path by which a package at the top is imported, where no go.mod says so: in a comment beside
/// its name, or in its tests.
fn inferred_path(tree: &SourceTree) -> Option<String> {
    path_at_top(tree).or_else(|| path_by_imports(tree))
}

/// The path of a module by how its sources import the packages of its folders.
fn path_by_imports(tree: &SourceTree) -> Option<String> {
    let files = || tree.files().iter().filter(|file| ext_of(file) == "go");
    let folders: BTreeSet<&str> = files()
        .map(|file| folder_of(file))
        .filter(|folder| !folder.is_empty())
        .collect();
    let imports = files()
        .filter_map(|file| tree.text(file))
        .flat_map(|text| GoSource::read(&text).imports);
    imports
        .filter(|import| !is_standard_import(import))
        .find_map(|import| {
            let above = import.match_indices('/').map(|(at, _)| at);
            let at = above
                .into_iter()
                .find(|at| folders.contains(&import[at + 1..]))?;
            Some(import[..at].to_owned())
        })
}

/// The path of the package at the top.
fn path_at_top(tree: &SourceTree) -> Option<String> {
    let files = || tree.inside("").filter(|file| ext_of(file) == "go");
    let texts: Vec<_> = files().filter_map(|file| tree.text(file)).collect();
    let said = texts
        .iter()
        .flat_map(|text| text.lines())
        .filter(|line| line.starts_with("package "));
    let mut said = said.filter_map(|line| {
        line.split("// import \"")
            .nth(1)?
            .split('"')
            .next()
            .map(str::to_owned)
    });
    let mut declared = texts.iter().map(|text| GoSource::read(text).package);
    let name =
        declared.find(|name| !name.is_empty() && !name.ends_with("_test") && name != "main")?;
    let tests = files()
        .filter(|file| file.ends_with("_test.go"))
        .filter_map(|file| tree.text(file));
    let imported = || {
        let all = tests
            .flat_map(|text| GoSource::read(&text).imports)
            .filter(|path| !is_standard_import(path));
        all.into_iter().find(|path| {
            path.rsplit('/')
                .next()
                .is_some_and(|last| last.trim_start_matches("go-") == name)
        })
    };
    said.next().or_else(imported).or(Some(name.clone()))
}

impl Package {
    fn add(&mut self, tree: &SourceTree, file: &str) {
        let Some(text) = tree.text(file) else { return };
        self.sources.insert(file.to_owned());
        let is_test = name_of(file).ends_with("_test.go");
        let source = GoSource::read(&text);
        let counts = counts_here(file, &source);
        if !is_test && counts && !source.package.is_empty() {
            self.name = source.package;
        }
        self.has_tests |= is_test && counts && text.contains("func Test");
        if !counts {
            return;
        }
        for import in source.imports {
            self.has_bridge |= import == "C";
            if is_test {
                &mut self.test_imports
            } else {
                &mut self.imports
            }
            .insert(import);
        }
        let folder = folder_of(file);
        for line in text
            .lines()
            .filter_map(|line| line.strip_prefix("//go:embed "))
        {
            for pattern in line.split_whitespace() {
                let pattern = pattern.trim_matches(['"', '`']).trim_start_matches("all:");
                self.embedded.extend(fitting(tree, folder, pattern));
            }
        }
    }
}

/// The files that a pattern of an embed directive means; of a folder all that is in it.
fn fitting(tree: &SourceTree, folder: &str, pattern: &str) -> Vec<String> {
    let mut expression = String::from("^");
    for c in pattern.chars() {
        match c {
            '*' => expression.push_str("[^/]*"),
            '?' => expression.push_str("[^/]"),
            c => expression.push_str(&regex::escape(&c.to_string())),
        }
    }
    let Ok(expression) = Regex::new(&(expression + "(/.*)?$")) else {
        return Vec::new();
    };
    tree.below(folder)
        .filter(|file| expression.is_match(below(file, folder)))
        .map(str::to_owned)
        .collect()
}

const SYSTEMS: [&str; 13] = [
    "aix",
    "android",
    "darwin",
    "dragonfly",
    "freebsd",
    "illumos",
    "ios",
    "js",
    "netbsd",
    "openbsd",
    "plan9",
    "solaris",
    "windows",
];

const PROCESSORS: [&str; 10] = [
    "386", "amd64", "arm", "arm64", "loong64", "mips", "ppc64le", "riscv64", "s390x", "wasm",
];

/// Tags that are set here besides those of versions.
const SET: [&str; 4] = ["cgo", "gc", "linux", "unix"];

/// Whether a source counts on this machine: by the ending of its name, and by its build constraint.
fn counts_here(file: &str, source: &GoSource) -> bool {
    let cpu = match std::env::consts::ARCH {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        other => other,
    };
    let stem = name_of(file)
        .trim_end_matches(".go")
        .trim_end_matches("_test");
    let other = |word: &&str| SYSTEMS.contains(word) || (PROCESSORS.contains(word) && *word != cpu);
    if stem
        .split('_')
        .skip(1)
        .collect::<Vec<_>>()
        .iter()
        .any(other)
    {
        return false;
    }
    let is_set = |tag: &str| SET.contains(&tag) || tag == cpu || tag.starts_with("go1.");
    source
        .constraint
        .as_ref()
        .is_none_or(|constraint| constraint.may_hold(&|tag| Some(is_set(tag))))
}

/// Whether an import is of the module with this path.
fn is_of(import: &str, module: &str) -> bool {
    import
        .strip_prefix(module)
        .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// What a module needs.
struct ModuleNeeds {
    /// Modules of the tree.
    own: BTreeSet<String>,
    /// Modules of other people, with their least versions.
    foreign: BTreeMap<String, String>,
}

/// A module among those of the tree.
struct ModuleReader<'r> {
    module: &'r GoModule,
    modules: &'r [GoModule],
    names: &'r BTreeMap<String, DefinitionAddress>,
}

impl ModuleReader<'_> {
    /// The module of the tree that an import is of.
    fn owner(&self, import: &str) -> Option<&GoModule> {
        let mine = self
            .modules
            .iter()
            .filter(|other| is_of(import, other.path()));
        mine.max_by_key(|other| other.path().len())
    }

    fn is_own(&self, import: &str) -> bool {
        self.owner(import)
            .is_some_and(|other| other.path() == self.module.path())
    }

    /// The folder of a package of this module.
    fn folder(&self, import: &str) -> String {
        joined(&self.module.folder, below(import, self.module.path())).unwrap_or_default()
    }

    /// Why the first import cannot be had that cannot: it is of nobody who is known, or of a
    /// package that is blocked by one.
    fn missing(
        &self,
        imports: &BTreeSet<String>,
        blocked: &BTreeMap<String, String>,
    ) -> Option<String> {
        imports.iter().find_map(|import| match self.owner(import) {
            Some(_) if self.is_own(import) => blocked.get(&self.folder(import)).cloned(),
            Some(_) => None,
            None if is_standard_import(import) => None,
            None => self.module.why_not(import),
        })
    }

    /// Packages that reach a module that cannot be had, with the reason: they cannot be compiled,
    /// and neither can their users.
    fn blocked(&self) -> BTreeMap<String, String> {
        let mut blocked: BTreeMap<String, String> = BTreeMap::new();
        loop {
            let open = self
                .module
                .packages
                .iter()
                .filter(|(folder, _)| !blocked.contains_key(*folder));
            let more: Vec<(String, String)> = open
                .filter_map(|(folder, package)| {
                    Some((folder.clone(), self.missing(&package.imports, &blocked)?))
                })
                .collect();
            if more.is_empty() {
                return blocked;
            }
            blocked.extend(more);
        }
    }

    /// The other modules of the tree that imports are of, by their paths.
    fn others(&self, imports: &BTreeSet<String>) -> BTreeSet<String> {
        let others = imports.iter().filter_map(|import| self.owner(import));
        others
            .filter(|other| other.path() != self.module.path())
            .map(|other| other.path().to_owned())
            .collect()
    }

    /// The modules of other people that imports are of, by their paths, with their least versions.
    fn foreign<'i>(&self, imports: impl Iterator<Item = &'i String>) -> BTreeMap<String, String> {
        let foreign =
            imports.filter(|import| self.owner(import).is_none() && !is_standard_import(import));
        let required = foreign.filter_map(|import| self.module.required(import));
        required
            .map(|(path, version)| (path.clone(), version.clone()))
            .collect()
    }

    /// What is needed: modules of the tree, and such of other people, which are to be pinned.
    fn values<'p>(
        &self,
        paths: impl Iterator<Item = &'p String>,
        foreign: impl Iterator<Item = &'p String>,
    ) -> FieldValue {
        let own = paths.map(|path| FieldValue::Of(self.names[path].clone()));
        FieldValue::List(
            own.chain(foreign.map(|path| FieldValue::Pinned(Kit::Go, path.clone())))
                .collect(),
        )
    }

    fn pin(&self, survey: &mut Survey<'_>, foreign: &BTreeMap<String, String>) {
        for (path, version) in foreign {
            survey.pin(WantedPin {
                registry: Registry::Go,
                name: path.clone(),
                requirement: if version.is_empty() {
                    String::new()
                } else {
                    format!(">={version}")
                },
                features: BTreeSet::new(),
                is_bare: false,
                is_guess: self.module.is_guessed,
                wanted_by: match self.module.is_guessed {
                    true => "an import".to_owned(),
                    false => joined(&self.module.folder, "go.mod").unwrap_or_default(),
                },
            });
        }
    }

    fn propose(&self, survey: &mut Survey<'_>) {
        let blocked = self.blocked();
        for (folder, why) in &blocked {
            let what = match folder.is_empty() {
                true => "the package at the top",
                false => folder,
            };
            survey.leave_out(what, why);
        }
        let kept: BTreeMap<&String, &Package> = self
            .module
            .packages
            .iter()
            .filter(|(folder, _)| !blocked.contains_key(*folder))
            .collect();
        if kept.is_empty() {
            return;
        }
        let mut untested: BTreeSet<&String> = BTreeSet::new();
        for (folder, package) in &kept {
            if let Some(why) = self.missing(&package.test_imports, &blocked) {
                let place = if folder.is_empty() {
                    "at the top".to_owned()
                } else {
                    format!("of {folder}")
                };
                survey.leave_out(format!("the tests {place}"), why);
                untested.insert(folder);
            }
        }
        let needs = ModuleNeeds {
            own: kept
                .values()
                .flat_map(|package| self.others(&package.imports))
                .collect(),
            foreign: self.foreign(kept.values().flat_map(|package| &package.imports)),
        };
        self.pin(survey, &needs.foreign);
        self.library(survey, &kept, &untested, &needs);
        let mut tests = Vec::new();
        for (folder, package) in &kept {
            if package.name == "main" {
                self.program(survey, folder);
            }
            if package.has_tests && !untested.contains(folder) {
                tests.push(self.tests(survey, folder, package, &needs));
            }
        }
        if !tests.is_empty() {
            let address = survey.names.give(&self.module.folder, "unit", "tests");
            let documentation = format!("The tests of {}, package by package.", self.module.path());
            survey.define(Definition::new(
                Keyword::Test,
                &address,
                documentation,
                Body::Several(tests),
            ));
        }
    }

    fn library(
        &self,
        survey: &mut Survey<'_>,
        kept: &BTreeMap<&String, &Package>,
        untested: &BTreeSet<&String>,
        needs: &ModuleNeeds,
    ) {
        let module = self.module;
        let mut sources = BTreeSet::new();
        for (folder, package) in kept {
            let is_kept =
                |file: &&String| !(untested.contains(folder) && file.ends_with("_test.go"));
            sources.extend(package.sources.iter().filter(is_kept).cloned());
            let c = ["c", "cc", "cpp", "cxx", "h", "hh", "hpp", "S"];
            let beside = survey.tree.inside(folder).filter(|file| {
                ext_of(file) == "s" || (package.has_bridge && c.contains(&ext_of(file)))
            });
            sources.extend(beside.map(str::to_owned));
        }
        survey.claimed.extend(sources.iter().cloned());
        let assets = kept
            .values()
            .flat_map(|package| package.embedded.iter().cloned())
            .collect();
        let mut call = KindCall::new(Kit::Go, "library")
            .with("path", FieldValue::text(module.path()))
            .with("root", FieldValue::Folder(module.folder.clone()))
            .with("sources", FieldValue::Below(module.folder.clone(), sources))
            .with("assets", FieldValue::Files(assets));
        if let Some(language) = &module.manifest.language {
            call.set("go_version", FieldValue::text(language));
        }
        call.set("needs", self.values(needs.own.iter(), needs.foreign.keys()));
        let documentation = format!("The module {}.", module.path());
        let address = &self.names[module.path()];
        survey.define(Definition::new(
            Keyword::Target,
            address,
            documentation,
            Body::Kind(call),
        ));
    }

    fn program(&self, survey: &mut Survey<'_>, folder: &String) {
        let module = self.module;
        let last = name_of(if *folder == module.folder {
            module.path()
        } else {
            folder
        });
        let wish = if is_version(last) {
            name_of(folder_of(module.path()))
        } else {
            last
        };
        let address = survey.names.give(&module.folder, wish, "program");
        let call = KindCall::new(Kit::Go, "program")
            .with("package", FieldValue::text(module.import_path(folder)))
            .with("module", FieldValue::Of(self.names[module.path()].clone()));
        let documentation = format!("The program {wish}.");
        survey.define(Definition::new(
            Keyword::Target,
            &address,
            documentation,
            Body::Kind(call),
        ));
    }

    fn tests(
        &self,
        survey: &mut Survey<'_>,
        folder: &String,
        package: &Package,
        needs: &ModuleNeeds,
    ) -> (String, KindCall) {
        let module = self.module;
        let data = survey
            .tree
            .below(folder)
            .filter(|file| below(file, folder).starts_with("testdata/"));
        let data = FieldValue::Files(data.map(str::to_owned).collect());
        let more = self.others(&package.test_imports);
        let mut foreign = self.foreign(package.test_imports.iter());
        foreign.retain(|path, _| !needs.foreign.contains_key(path));
        self.pin(survey, &foreign);
        let call = KindCall::new(Kit::Go, "tests")
            .with("package", FieldValue::text(module.import_path(folder)))
            .with("module", FieldValue::Of(self.names[module.path()].clone()))
            .with("reads", data)
            .with(
                "needs",
                self.values(more.difference(&needs.own), foreign.keys()),
            );
        let name = if *folder == module.folder {
            name_of(module.path())
        } else {
            below(folder, &module.folder)
        };
        (name.replace('/', "_"), call)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sources_for_other_systems_do_not_count() {
        let counts_here = |file: &str, text: &str| counts_here(file, &GoSource::read(text));
        assert!(counts_here("a/b.go", "package b\n"));
        assert!(!counts_here("a/b_windows.go", "package b\n"));
        assert!(!counts_here("a/b_darwin_test.go", "package b\n"));
        assert!(!counts_here(
            "gen.go",
            "//go:build ignore\n\npackage main\n"
        ));
        assert!(!counts_here(
            "b.go",
            "//go:build windows || plan9\npackage b\n"
        ));
        assert!(counts_here(
            "b.go",
            "//go:build linux || darwin\npackage b\n"
        ));
        assert!(!counts_here("b.go", "//go:build !linux\npackage b\n"));
        assert!(counts_here("b.go", "//go:build !windows\npackage b\n"));
    }
}
