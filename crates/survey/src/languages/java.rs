//! Java: where packages begin, what descriptors of archives say, and which classes are tests or
//! programs.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_pins::Registry;
use regex::Regex;
use roxmltree::{Document, Node};

use super::is_sample;
use crate::Survey;
use crate::proposal::{
    Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit, WantedPin,
};
use crate::tree::{SourceTree, below, ext_of, folder_of, is_below, joined, name_of, stem_of};

/// Endings of files that may describe an archive, as the layout of Java's repositories has it.
const DESCRIPTOR_ENDINGS: [&str; 2] = ["pom", "xml"];

/// What compiles for an older release is compiled for this one: compilers know none before.
const OLDEST_RELEASE: u32 = 8;

#[derive(Clone, Default, Debug)]
struct ArchiveFacts {
    group: String,
    name: String,
    version: String,
    properties: BTreeMap<String, String>,
    managed: BTreeMap<(String, String), (String, String)>,
    needs: Vec<ArchiveNeed>,
}

#[derive(Clone, Debug)]
struct ArchiveNeed {
    group: String,
    name: String,
    version: String,
    is_for_tests: bool,
}

/// Sources below one folder in which packages begin.
#[derive(Default)]
struct SourceRoot {
    sources: BTreeSet<String>,
    is_test: bool,
}

pub(super) fn look(survey: &mut Survey<'_>) {
    let tree = survey.tree;
    let is_java = |file: &&String| ext_of(file) == "java" && !is_sample(folder_of(file));
    let sources: Vec<&String> = tree.files().iter().filter(is_java).collect();
    survey.count(Kit::Java, sources.len());
    if sources.is_empty() {
        return;
    }
    let described = described_folders(tree);
    let mut projects: BTreeMap<String, BTreeMap<String, SourceRoot>> = BTreeMap::new();
    for source in sources {
        let text = tree.text(source).unwrap_or_default();
        let root = root_of(source, &text);
        let around = described
            .iter()
            .filter(|folder| is_below(&root, folder))
            .max_by_key(|folder| folder.len());
        let project = around.cloned().unwrap_or_else(|| project_of(&root));
        let part = projects
            .entry(project)
            .or_default()
            .entry(root.clone())
            .or_default();
        part.is_test |= root
            .split('/')
            .any(|part| ["test", "tests"].contains(&part))
            || is_test(&text);
        part.sources.insert(source.clone());
    }
    let mut names = BTreeMap::new();
    let descriptors: BTreeMap<String, ArchiveFacts> = described
        .iter()
        .filter_map(|folder| Some((folder.clone(), descriptor_of(tree, folder, 0)?)))
        .collect();
    for folder in projects.keys() {
        let described = descriptors.get(folder);
        let wish =
            described.map_or_else(|| survey.name_of_folder(folder), |found| found.name.clone());
        let address = survey.names.give(folder, &wish, "library");
        if let Some(found) = described {
            names.insert((found.group.clone(), found.name.clone()), address.clone());
        }
        names.insert((String::new(), folder.clone()), address);
    }
    let imported = imported_projects(tree, &projects);
    for (folder, roots) in &projects {
        let descriptor = descriptors.get(folder);
        let imported = imported.get(folder.as_str()).cloned().unwrap_or_default();
        JavaProject {
            survey,
            folder,
            roots,
            descriptor,
            names: &names,
            imported,
        }
        .propose();
    }
}

/// The other projects of which a project imports classes: for its users' sources, and for its
/// tests.
#[derive(Clone, Default)]
struct ImportedProjects {
    by_sources: BTreeSet<String>,
    by_tests: BTreeSet<String>,
}

/// Which projects import classes of which, but for those that import one another.
fn imported_projects<'p>(
    tree: &SourceTree,
    projects: &'p BTreeMap<String, BTreeMap<String, SourceRoot>>,
) -> BTreeMap<&'p str, ImportedProjects> {
    let mut classes: BTreeMap<String, &str> = BTreeMap::new();
    for (folder, roots) in projects {
        for (root, part) in roots.iter().filter(|(_, part)| !part.is_test) {
            let class = |source: &String| {
                below(source, root)
                    .trim_end_matches(".java")
                    .replace('/', ".")
            };
            classes.extend(
                part.sources
                    .iter()
                    .map(|source| (class(source), folder.as_str())),
            );
        }
    }
    let Ok(import) = Regex::new(r"(?m)^\s*import\s+(?:static\s+)?([\w.]+?)(?:\.\*)?\s*;") else {
        return BTreeMap::new();
    };
    let mut found: BTreeMap<&str, ImportedProjects> = BTreeMap::new();
    for (folder, roots) in projects {
        for part in roots.values() {
            for text in part.sources.iter().filter_map(|source| tree.text(source)) {
                for name in import.captures_iter(&text) {
                    let owner = imported_class(&classes, &name[1]);
                    let Some(owner) = owner.filter(|owner| *owner != folder.as_str()) else {
                        continue;
                    };
                    let mine = found.entry(folder).or_default();
                    let of = match part.is_test {
                        true => &mut mine.by_tests,
                        false => &mut mine.by_sources,
                    };
                    of.insert(owner.to_owned());
                }
            }
        }
    }
    let numbers: BTreeMap<&str, u32> = projects.keys().map(String::as_str).zip(0..).collect();
    let next = projects.keys().map(|folder| {
        let one = found.get(folder.as_str()).into_iter();
        let others = one.flat_map(|one| &one.by_sources);
        let number = |other: &String| numbers.get(other.as_str()).copied();
        others.filter_map(number).collect()
    });
    let next: Vec<Vec<u32>> = next.collect();
    let circles = nubrik_graph::components(&next);
    let circle = |folder: &str| numbers.get(folder).map(|number| circles[*number as usize]);
    for (folder, one) in &mut found {
        one.by_sources
            .retain(|other| circle(other) != circle(folder));
    }
    found
}

/// The project of the class that is imported by a name: of what is inside of a class, the class is.
fn imported_class<'p>(classes: &BTreeMap<String, &'p str>, name: &str) -> Option<&'p str> {
    let mut ends = name
        .match_indices('.')
        .map(|(at, _)| at)
        .chain([name.len()]);
    ends.find_map(|end| classes.get(&name[..end])).copied()
}

/// The folders in which an archive is described, sorted.
fn described_folders(tree: &SourceTree) -> Vec<String> {
    let files = tree.files().iter().filter(|file| is_descriptor(tree, file));
    let folders: BTreeSet<String> = files.map(|file| folder_of(file).to_owned()).collect();
    folders.into_iter().collect()
}

/// Whether a file describes an archive: by what it says, whatever its name.
fn is_descriptor(tree: &SourceTree, file: &str) -> bool {
    DESCRIPTOR_ENDINGS.contains(&ext_of(file))
        && tree
            .text(file)
            .filter(|text| text.contains("<artifactId>"))
            .is_some_and(|text| {
                Document::parse(&text).is_ok_and(|document| {
                    let top = document.root_element();
                    top.tag_name().name() == "project" && child(top, "artifactId").is_some()
                })
            })
}

/// The descriptor in a folder.
fn descriptor_file<'t>(tree: &'t SourceTree, folder: &'t str) -> Option<&'t str> {
    tree.inside(folder).find(|file| is_descriptor(tree, file))
}

/// The folder in which the packages of a source begin: without the folders that its package is.
fn root_of(source: &str, text: &str) -> String {
    let line = text
        .lines()
        .find_map(|line| line.trim_start().strip_prefix("package "));
    let package = line
        .and_then(|line| line.split(';').next())
        .unwrap_or("")
        .trim()
        .replace('.', "/");
    let folder = folder_of(source);
    match folder.strip_suffix(package.as_str()) {
        Some(root) if root.is_empty() || root.ends_with('/') => {
            root.trim_end_matches('/').to_owned()
        }
        _ => folder.to_owned(),
    }
}

/// The folder of a project without descriptor: above what only says which sources these are.
fn project_of(root: &str) -> String {
    let parts = [
        "src",
        "source",
        "java",
        "main",
        "test",
        "tests",
        "testFixtures",
        "unit",
    ];
    let mut folder = root;
    while parts.contains(&name_of(folder)) {
        folder = folder_of(folder);
    }
    folder.to_owned()
}

fn is_test(text: &str) -> bool {
    let marks = [
        "@Test",
        "@ParameterizedTest",
        "@TestFactory",
        "@RepeatedTest",
    ];
    marks.iter().any(|mark| text.contains(mark))
        && (text.contains("org.junit") || text.contains("extends TestCase"))
}

/// The descriptor in a folder, with what those above it in the tree say.
fn descriptor_of(tree: &SourceTree, folder: &str, depth: usize) -> Option<ArchiveFacts> {
    let text = tree.text(descriptor_file(tree, folder)?)?;
    let document = Document::parse(&text).ok()?;
    let top = document.root_element();
    let mut found = said_above(tree, folder, top, depth);
    found.group = text_of(top, "groupId").unwrap_or(found.group);
    found.version = text_of(top, "version").unwrap_or(found.version);
    found.name = text_of(top, "artifactId")?;
    for property in child(top, "properties")
        .into_iter()
        .flat_map(|node| node.children())
    {
        found.properties.insert(
            property.tag_name().name().to_owned(),
            property.text().unwrap_or("").trim().to_owned(),
        );
    }
    let own = [
        ("project.version", &found.version),
        ("project.groupId", &found.group),
        ("version", &found.version),
    ];
    for (name, value) in own {
        found.properties.insert(name.to_owned(), value.clone());
    }
    for (need, scope) in needs_in(child(top, "dependencyManagement"), &found.properties) {
        found
            .managed
            .insert((need.group, need.name), (need.version, scope));
    }
    for (mut need, scope) in needs_in(Some(top), &found.properties) {
        let managed = found.managed.get(&(need.group.clone(), need.name.clone()));
        if let Some((version, managed_scope)) = managed {
            if need.version.is_empty() {
                need.version.clone_from(version);
            }
            need.is_for_tests |= scope.is_empty() && managed_scope == "test";
        }
        if scope != "system" {
            found.needs.push(need);
        }
    }
    Some(found)
}

/// What a descriptor takes from the one above it, which may be in the tree.
fn said_above(tree: &SourceTree, folder: &str, top: Node<'_, '_>, depth: usize) -> ArchiveFacts {
    let Some(above) = child(top, "parent") else {
        return ArchiveFacts::default();
    };
    let mut found = ArchiveFacts::default();
    let place = text_of(above, "relativePath").unwrap_or_else(|| "..".to_owned());
    // It may name the file, or the folder that it is in.
    let place = if DESCRIPTOR_ENDINGS.contains(&ext_of(&place)) {
        folder_of(&place)
    } else {
        &place
    };
    let place = joined(folder, place);
    if depth < 8
        && !folder.is_empty()
        && let Some(parent) = place.and_then(|place| descriptor_of(tree, &place, depth + 1))
    {
        found = parent;
    }
    found.group = text_of(above, "groupId").unwrap_or(found.group);
    found.version = text_of(above, "version").unwrap_or(found.version);
    found
}

/// The archives that a part of a descriptor lists, each with its scope.
fn needs_in(
    part: Option<Node<'_, '_>>,
    properties: &BTreeMap<String, String>,
) -> Vec<(ArchiveNeed, String)> {
    let list = part
        .and_then(|part| child(part, "dependencies"))
        .into_iter()
        .flat_map(|list| list.children());
    let read = |node: Node<'_, '_>| {
        let text = |name: &str| {
            text_of(node, name)
                .map(|text| filled(&text, properties))
                .unwrap_or_default()
        };
        let (group, name, version, scope) = (
            text("groupId"),
            text("artifactId"),
            text("version"),
            text("scope"),
        );
        (
            ArchiveNeed {
                group,
                name,
                version,
                is_for_tests: scope == "test",
            },
            scope,
        )
    };
    list.filter(|node| node.tag_name().name() == "dependency")
        .map(read)
        .collect()
}

fn child<'a, 'i>(node: Node<'a, 'i>, name: &str) -> Option<Node<'a, 'i>> {
    node.children()
        .find(|child| child.tag_name().name() == name)
}

fn text_of(node: Node<'_, '_>, name: &str) -> Option<String> {
    child(node, name)
        .and_then(|child| child.text())
        .map(|text| text.trim().to_owned())
        .filter(|text| !text.is_empty())
}

/// A text with its properties filled in.
fn filled(text: &str, properties: &BTreeMap<String, String>) -> String {
    let mut text = text.to_owned();
    for _ in 0..8 {
        let Some((before, rest)) = text.split_once("${") else {
            break;
        };
        let Some((name, after)) = rest.split_once('}') else {
            break;
        };
        let value = properties.get(name).cloned().unwrap_or_default();
        text = format!("{before}{value}{after}");
    }
    text
}

/// The first release of Java with modules.
const FIRST_WITH_MODULES: u32 = 9;

/// For which release of Java sources are, as far as a property of the compiler says so.
fn release_of(descriptor: Option<&ArchiveFacts>) -> Option<String> {
    let properties = &descriptor?.properties;
    let ends = [
        ".compiler.release",
        ".compiler.target",
        ".compiler.source",
        "java.version",
        "release",
    ];
    let value = ends
        .iter()
        .find_map(|end| properties.iter().find(|(name, _)| name.ends_with(end)))?
        .1;
    let value = filled(value, properties);
    let number: u32 = value.trim_start_matches("1.").parse().ok()?;
    Some(number.max(OLDEST_RELEASE).to_string())
}

type KnownArchives = BTreeMap<(String, String), DefinitionAddress>;

/// Sources of one project, and what describes their archive.
struct JavaProject<'r, 'a> {
    survey: &'r mut Survey<'a>,
    folder: &'r str,
    roots: &'r BTreeMap<String, SourceRoot>,
    descriptor: Option<&'r ArchiveFacts>,
    names: &'r KnownArchives,
    imported: ImportedProjects,
}

impl<'r> JavaProject<'r, '_> {
    fn propose(&mut self) {
        let sources: BTreeSet<String> = self
            .by_test(false)
            .flat_map(|(_, root)| root.sources.iter().cloned())
            .collect();
        let needs = self.needs(false);
        let mut own = Vec::new();
        if !sources.is_empty() {
            own.push(FieldValue::Of(self.library(sources, &needs)));
        }
        self.tests(own.into_iter().chain(needs).collect());
    }

    /// The folders of sources for tests, or those for users.
    fn by_test(
        &self,
        wanted: bool,
    ) -> impl Iterator<Item = (&'r String, &'r SourceRoot)> + use<'r> {
        let roots = self.roots;
        roots.iter().filter(move |(_, root)| root.is_test == wanted)
    }

    fn name(&self) -> String {
        self.descriptor.map_or_else(
            || self.survey.name_of_folder(self.folder),
            |found| found.name.clone(),
        )
    }

    /// The file that wants what is pinned.
    fn wanted_by(&self) -> String {
        descriptor_file(self.survey.tree, self.folder)
            .unwrap_or(self.folder)
            .to_owned()
    }

    /// What the descriptor says that the sources need, or the tests: projects of this tree, and
    /// archives to pin.
    fn needs(&mut self, for_tests: bool) -> Vec<FieldValue> {
        let wanted_by = self.wanted_by();
        let needs = self.descriptor.into_iter().flat_map(|found| &found.needs);
        let mut values = Vec::new();
        for need in needs.filter(|need| need.is_for_tests == for_tests) {
            if let Some(other) = self.names.get(&(need.group.clone(), need.name.clone())) {
                values.push(FieldValue::Of(other.clone()));
                continue;
            }
            let name = format!("{}:{}", need.group, need.name);
            pin(self.survey, &name, &need.version, &wanted_by);
            values.push(FieldValue::Pinned(Kit::Java, name));
        }
        let imported = if for_tests {
            &self.imported.by_tests
        } else {
            &self.imported.by_sources
        };
        for other in imported
            .iter()
            .filter_map(|folder| self.names.get(&(String::new(), folder.clone())))
        {
            let value = FieldValue::Of(other.clone());
            if !values.contains(&value) {
                values.push(value);
            }
        }
        values
    }

    fn with_release(&self, call: KindCall) -> KindCall {
        match release_of(self.descriptor) {
            Some(release) if release != "17" => call.with("release", FieldValue::text(release)),
            _ => call,
        }
    }

    fn define(
        &mut self,
        address: &DefinitionAddress,
        keyword: Keyword,
        documentation: String,
        call: KindCall,
    ) {
        self.survey.define(Definition::new(
            keyword,
            address,
            documentation,
            Body::Kind(call),
        ));
    }

    /// Leaves out what declares a module, where all is compiled for a release that knows none.
    fn leave_out_modules(&mut self, sources: &mut BTreeSet<String>) {
        let Some(release) = release_of(self.descriptor) else {
            return;
        };
        if release
            .parse()
            .is_ok_and(|number: u32| number >= FIRST_WITH_MODULES)
        {
            return;
        }
        let why = format!("the sources are compiled for Java {release}, which knows no modules");
        sources.retain(|file| {
            let declares = name_of(file) == "module-info.java";
            if declares {
                self.survey.leave_out(file, &*why);
            }
            !declares
        });
    }

    /// The library for users, and the programs in it.
    fn library(
        &mut self,
        mut sources: BTreeSet<String>,
        needs: &[FieldValue],
    ) -> DefinitionAddress {
        self.leave_out_modules(&mut sources);
        let address = self.names[&(String::new(), self.folder.to_owned())].clone();
        let folders = self.by_test(false).map(|(root, _)| root.as_str());
        let resource_folder = resources(self.survey.tree, folders);
        let call = KindCall::new(Kit::Java, "library")
            .with("sources", below_first(self.by_test(false), sources.clone()))
            .with("resource_folder", resource_folder);
        let mut call = self.with_release(call);
        call.set("needs", FieldValue::List(needs.to_vec()));
        let documentation = format!("The library {}.", self.name());
        self.define(&address, Keyword::Target, documentation, call);
        programs(self.survey, self.folder, &sources, &address);
        address
    }

    /// The tests, class by class; `needs` is what the library needs, and itself.
    fn tests(&mut self, mut needs: Vec<FieldValue>) {
        let tree = self.survey.tree;
        let Some((root, _)) = self.by_test(true).next() else {
            return;
        };
        let sources: BTreeSet<String> = self
            .by_test(true)
            .flat_map(|(_, root)| root.sources.iter().cloned())
            .collect();
        let is_class = |text: &str| is_test(text) && !text.contains("abstract class");
        let classes: BTreeSet<String> = sources
            .iter()
            .filter(|file| tree.text(file).is_some_and(|text| is_class(&text)))
            .cloned()
            .collect();
        let test_needs = if sources.is_empty() {
            Vec::new()
        } else {
            self.needs(true)
        };
        if classes.is_empty() {
            return;
        }
        let has_old = classes
            .iter()
            .filter_map(|file| tree.text(file))
            .any(|text| text.contains("org.junit.Test") || text.contains("junit.framework"));
        let mut listed = self.descriptor.into_iter().flat_map(|found| &found.needs);
        let version = listed.find(|need| need.group == "org.junit.jupiter");
        let version = version.map(|need| need.version.clone()).unwrap_or_default();
        let is_jupiter = |value: &FieldValue| matches!(value, FieldValue::Pinned(_, name) if name.starts_with("org.junit"));
        needs.extend(test_needs.into_iter().filter(|value| !is_jupiter(value)));
        let wanted_by = self.wanted_by();
        let junit = junit(self.survey, &version, has_old, &wanted_by);
        let call = KindCall::new(Kit::Java, "tests")
            .with("sources", FieldValue::Below(root.clone(), sources))
            .with("classes", FieldValue::Below(root.clone(), classes))
            .with("root", FieldValue::Folder(root.clone()))
            .with(
                "resource_folder",
                resources(tree, std::iter::once(root.as_str())),
            );
        let mut call = self.with_release(call);
        call.set("needs", FieldValue::List(needs));
        call.set("junit", junit);
        let address = self.survey.names.give(self.folder, "unit", "tests");
        let documentation = format!("The tests of {}, class by class.", self.name());
        self.define(&address, Keyword::Test, documentation, call);
    }
}

/// JUnit with its launcher: as the machine has it, or pinned.
fn junit(survey: &mut Survey<'_>, version: &str, has_old: bool, wanted_by: &str) -> FieldValue {
    let jar = |name: &str| format!("/usr/share/java/{name}.jar");
    if survey.machine.has_file(&jar("junit-platform-launcher")) {
        let installed = FieldValue::Code("java.installed_junit".to_owned());
        let old = ["junit-vintage-engine", "junit4", "hamcrest-core"].map(jar);
        if !has_old || !old.iter().all(|path| survey.machine.has_file(path)) {
            return installed;
        }
        let paths: Vec<String> = old.iter().map(|path| format!("\"{path}\"")).collect();
        return FieldValue::List(vec![
            installed,
            FieldValue::Code(format!("java.system_jars([{}])", paths.join(", "))),
        ]);
    }
    // A launcher 1.x belongs to each engine 5.x.
    let launcher = version
        .strip_prefix("5.")
        .map(|rest| format!("1.{rest}"))
        .unwrap_or_default();
    let mut wanted = vec![
        (
            "org.junit.platform:junit-platform-launcher",
            launcher.as_str(),
        ),
        ("org.junit.jupiter:junit-jupiter", version),
    ];
    if has_old {
        wanted.push(("org.junit.vintage:junit-vintage-engine", version));
    }
    let pinned = wanted.into_iter().map(|(name, version)| {
        pin(survey, name, version, wanted_by);
        FieldValue::Pinned(Kit::Java, name.to_owned())
    });
    FieldValue::List(pinned.collect())
}

fn pin(survey: &mut Survey<'_>, name: &str, version: &str, wanted_by: &str) {
    survey.pin(WantedPin {
        registry: Registry::Java,
        name: name.to_owned(),
        requirement: version.to_owned(),
        features: BTreeSet::new(),
        is_bare: false,
        is_guess: false,
        wanted_by: wanted_by.to_owned(),
    });
}

/// Sources, below the only folder in which they begin.
fn below_first<'r>(
    roots: impl Iterator<Item = (&'r String, &'r SourceRoot)>,
    files: BTreeSet<String>,
) -> FieldValue {
    let roots: Vec<&String> = roots.map(|(root, _)| root).collect();
    match roots.as_slice() {
        [root] => FieldValue::Below((*root).clone(), files),
        _ => FieldValue::Files(files),
    }
}

/// The folder of resources beside a folder of sources.
fn resources<'r>(tree: &SourceTree, roots: impl Iterator<Item = &'r str>) -> FieldValue {
    let beside = roots.filter(|root| name_of(root) == "java").map(|root| {
        let above = folder_of(root);
        if above.is_empty() {
            "resources".to_owned()
        } else {
            format!("{above}/resources")
        }
    });
    match beside.into_iter().find(|folder| tree.has_folder(folder)) {
        Some(folder) => FieldValue::Folder(folder),
        None => FieldValue::List(Vec::new()),
    }
}

fn programs(
    survey: &mut Survey<'_>,
    folder: &str,
    sources: &BTreeSet<String>,
    library: &DefinitionAddress,
) {
    let Ok(main) =
        Regex::new(r"public\s+static\s+(?:final\s+)?void\s+main\s*\(\s*(?:final\s+)?String")
    else {
        return;
    };
    for source in sources {
        let Some(text) = survey.tree.text(source).filter(|text| main.is_match(text)) else {
            continue;
        };
        let root = root_of(source, &text);
        let class = below(source, &root)
            .trim_end_matches(".java")
            .replace('/', ".");
        let call = KindCall::new(Kit::Java, "program").with("main", FieldValue::text(&class));
        let call = call.with("needs", FieldValue::Of(library.clone()));
        let address = survey.names.give(folder, stem_of(source), "program");
        survey.define(Definition::new(
            Keyword::Target,
            &address,
            format!("The program {}, in one archive.", stem_of(source)),
            Body::Kind(call),
        ));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn descriptors_take_from_those_above() {
        let tree = SourceTree::of(&[
            (
                "all.pom",
                "<project><groupId>isles</groupId><artifactId>all</artifactId><version>2</version><properties><a.compiler.release>11</a.compiler.release><v>1.9</v></properties><dependencyManagement><dependencies><dependency><groupId>g</groupId><artifactId>m</artifactId><version>${v}</version></dependency></dependencies></dependencyManagement></project>",
            ),
            (
                "tide/tide.xml",
                "<project><parent><groupId>isles</groupId><artifactId>all</artifactId><version>2</version></parent><artifactId>tide</artifactId><dependencies><dependency><groupId>g</groupId><artifactId>m</artifactId></dependency><dependency><groupId>isles</groupId><artifactId>sea</artifactId><version>${project.version}</version><scope>test</scope></dependency></dependencies></project>",
            ),
        ]);
        let found = descriptor_of(&tree, "tide", 0).expect("a descriptor");
        assert_eq!(
            (
                found.group.as_str(),
                found.name.as_str(),
                found.version.as_str()
            ),
            ("isles", "tide", "2")
        );
        let needs: Vec<String> = found
            .needs
            .iter()
            .map(|need| {
                format!(
                    "{}:{} {} {}",
                    need.group, need.name, need.version, need.is_for_tests
                )
            })
            .collect();
        assert_eq!(needs, ["g:m 1.9 false", "isles:sea 2 true"]);
        assert_eq!(release_of(Some(&found)).as_deref(), Some("11"));
    }

    #[test]
    fn packages_begin_where_their_names_end() {
        assert_eq!(
            root_of(
                "src/main/java/isles/tide/A.java",
                "/* x */\npackage isles.tide;\n"
            ),
            "src/main/java"
        );
        assert_eq!(root_of("A.java", "class A {}"), "");
        assert_eq!(project_of("lib/src/main/java"), "lib");
    }
}
