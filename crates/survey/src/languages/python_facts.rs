//! What the manifests of a project in Python say, of all ages.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;
use toml::{Table, Value as Toml};

use crate::Survey;
use crate::tree::{ext_of, joined, name_of};

/// What manifests say of a project.
#[derive(Default, Debug)]
pub(super) struct ProjectFacts {
    pub name: Option<String>,
    pub version: Option<String>,
    pub summary: Option<String>,
    pub requires: Vec<String>,
    /// Further requirements, that tests may have.
    pub more: Vec<String>,
    pub scripts: BTreeMap<String, String>,
    /// Other objects that are found by a group and a name.
    pub entry_points: BTreeMap<String, BTreeMap<String, String>>,
    /// Where its modules are, from the project's folder on.
    pub root: Option<String>,
    /// Modules of one file each that it names.
    pub modules: BTreeSet<String>,
}

/// What the manifests in a folder say.
pub(super) fn facts_of(survey: &mut Survey<'_>, folder: &str) -> ProjectFacts {
    let tree = survey.tree;
    let path = |name: &str| joined(folder, name).unwrap_or_default();
    let mut facts = ProjectFacts::default();
    if let Some(text) = tree.text(&path("pyproject.toml")) {
        match text.parse::<Table>() {
            Ok(table) => facts.take_project(&table),
            Err(e) => survey.leave_out(
                path("pyproject.toml"),
                format!("it cannot be understood: {}", e.message()),
            ),
        }
    }
    if let Some(text) = tree.text(&path("setup.cfg")) {
        facts.take_settings(&settings_of(&text));
    }
    if let Some(text) = tree.text(&path("setup.py")) {
        facts.take_script(&text);
        // It may read what it requires from the list for installers.
        let list = Regex::new(r#"open\(\s*["']([\w./-]*require[\w./-]*\.txt)["']"#).ok();
        if let Some(found) =
            list.and_then(|list| list.captures(&text).map(|found| found[1].to_owned()))
            && facts.requires.is_empty()
            && let Some(text) = tree.text(&path(&found))
        {
            facts.requires = requirement_lines(&text);
        }
    }
    if let Some(text) = tree.text(&path("PKG-INFO")) {
        facts.take_published(&text);
    }
    for file in tree
        .inside(folder)
        .filter(|file| name_of(file).contains("requirements") && ext_of(file) == "txt")
    {
        facts
            .more
            .extend(requirement_lines(&tree.text(file).unwrap_or_default()));
    }
    facts
}

/// The requirements in a list for installers, one a line.
fn requirement_lines(text: &str) -> Vec<String> {
    let lines = text.lines().map(|line| {
        line.split(" #")
            .next()
            .unwrap_or(line)
            .split(" --")
            .next()
            .unwrap_or(line)
            .trim()
    });
    lines
        .filter(|line| line.starts_with(|c: char| c.is_alphanumeric()) && !line.contains("://"))
        .map(str::to_owned)
        .collect()
}

/// The parts of an INI file with their rows.
fn settings_of(text: &str) -> BTreeMap<String, BTreeMap<String, String>> {
    let mut parts: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
    let (mut part, mut key) = (String::new(), String::new());
    for line in text
        .lines()
        .filter(|line| !line.trim_start().starts_with(['#', ';']))
    {
        if let Some(name) = line.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            part = name.0.to_owned();
            key.clear();
        } else if line.starts_with([' ', '\t']) && !key.is_empty() {
            let value = parts
                .entry(part.clone())
                .or_default()
                .entry(key.clone())
                .or_default();
            value.push('\n');
            value.push_str(line.trim());
        } else if let Some((name, value)) = line.split_once('=') {
            key = name.trim().to_owned();
            parts
                .entry(part.clone())
                .or_default()
                .insert(key.clone(), value.trim().to_owned());
        }
    }
    parts
}

/// The group of entry points that are programs of a command line.
const SCRIPTS: &str = "console_scripts";

/// A line `name = module:object` of a group of entry points.
fn entry_point(line: &str) -> Option<(String, String)> {
    let (name, object) = line.split_once('=')?;
    Some((name.trim().to_owned(), object.trim().to_owned()))
}

impl ProjectFacts {
    /// Takes what tools wrote of the project when it was published.
    fn take_published(&mut self, text: &str) {
        let head = || text.lines().take_while(|line| !line.is_empty());
        let field = |name: &str| head().find_map(|line| line.strip_prefix(name));
        let or = |known: &mut Option<String>, found: Option<&str>| {
            if known.is_none() {
                *known = found.map(|text| text.trim().to_owned());
            }
        };
        or(&mut self.name, field("Name:"));
        or(&mut self.version, field("Version:"));
        or(&mut self.summary, field("Summary:"));
        if !self.requires.is_empty() {
            return;
        }
        let required = head().filter_map(|line| line.strip_prefix("Requires-Dist:"));
        let (more, own): (Vec<&str>, Vec<&str>) = required
            .map(str::trim)
            .partition(|line| line.contains("extra =="));
        self.requires = own.into_iter().map(str::to_owned).collect();
        let bare = |line: &str| line.split(';').next().unwrap_or(line).trim().to_owned();
        self.more.extend(more.into_iter().map(bare));
    }

    /// Adds entry points of a group.
    fn take_group(&mut self, group: &str, points: impl Iterator<Item = (String, String)>) {
        if group == SCRIPTS {
            self.scripts.extend(points);
        } else {
            self.entry_points
                .entry(group.to_owned())
                .or_default()
                .extend(points);
        }
        self.entry_points.retain(|_, points| !points.is_empty());
    }

    fn take_project<'t>(&mut self, table: &'t Table) {
        // Before there was a table for all, each tool had one of its own for the same rows.
        let of_tool = || {
            let tools = table.get("tool").and_then(Toml::as_table)?;
            let says = |table: &Toml, key: &str| table.get(key).is_some_and(Toml::is_str);
            tools
                .values()
                .find(|table| says(table, "name") && says(table, "version"))
        };
        let Some(project) = table
            .get("project")
            .or_else(of_tool)
            .and_then(Toml::as_table)
        else {
            return;
        };
        let text = |key: &str| project.get(key).and_then(Toml::as_str).map(str::to_owned);
        (self.name, self.version, self.summary) =
            (text("name"), text("version"), text("description"));
        self.requires = requirements(project.get("dependencies"));
        let tables = |value: Option<&'t Toml>| {
            let table = value.and_then(Toml::as_table);
            table.into_iter().flat_map(Table::values)
        };
        let extras = tables(project.get("optional-dependencies"));
        for group in extras.chain(tables(table.get("dependency-groups"))) {
            self.more.extend(requirements(Some(group)));
        }
        let groups = tables(project.get("group")).map(|group| group.get("dependencies"));
        for group in groups.chain([project.get("dev-dependencies")]) {
            self.more.extend(requirements(group));
        }
        let points = |table: Option<&Toml>| -> Vec<(String, String)> {
            let rows = table.and_then(Toml::as_table).into_iter().flatten();
            rows.filter_map(|(name, point)| Some((name.clone(), point.as_str()?.to_owned())))
                .collect()
        };
        self.take_group(SCRIPTS, points(project.get("scripts")).into_iter());
        self.take_group(
            "gui_scripts",
            points(project.get("gui-scripts")).into_iter(),
        );
        let groups = [project.get("entry-points"), project.get("plugins")];
        for (group, table) in groups
            .into_iter()
            .flatten()
            .filter_map(Toml::as_table)
            .flatten()
        {
            self.take_group(group, points(Some(table)).into_iter());
        }
    }

    fn take_settings(&mut self, parts: &BTreeMap<String, BTreeMap<String, String>>) {
        let row = |part: &str, key: &str| parts.get(part).and_then(|rows| rows.get(key)).cloned();
        let is_plain = |text: &String| !text.starts_with("attr:") && !text.starts_with("file:");
        self.name = self.name.take().or_else(|| row("metadata", "name"));
        self.version = self
            .version
            .take()
            .or_else(|| row("metadata", "version").filter(is_plain));
        self.summary = self
            .summary
            .take()
            .or_else(|| row("metadata", "description"));
        let lines = |text: String| {
            text.lines()
                .map(|line| line.trim().to_owned())
                .filter(|line| !line.is_empty())
                .collect::<Vec<_>>()
        };
        if self.requires.is_empty() {
            self.requires = row("options", "install_requires")
                .map(lines)
                .unwrap_or_default();
        }
        for text in parts
            .get("options.extras_require")
            .into_iter()
            .flat_map(BTreeMap::values)
        {
            self.more.extend(lines(text.clone()));
        }
        for (group, text) in parts.get("options.entry_points").into_iter().flatten() {
            self.take_group(
                group,
                lines(text.clone())
                    .iter()
                    .filter_map(|line| entry_point(line)),
            );
        }
        if let Some(place) = row("options", "package_dir") {
            self.root = place
                .lines()
                .find_map(|line| line.trim().strip_prefix('='))
                .map(|root| root.trim().to_owned())
                .or(self.root.take());
        }
    }

    /// What a script of a project says in plain words, without running it.
    fn take_script(&mut self, text: &str) {
        let first = |pattern: String| -> Option<String> {
            Some(Regex::new(&pattern).ok()?.captures(text)?[1].to_owned())
        };
        // Its value, or that of the variable that stands for it.
        let by_variable = |key: &str| first(format!(r"\b{key}\s*=\s*([A-Za-z_]\w*)\s*(?:,|\)|\n)"));
        let find = |key: &str| {
            first(format!(r#"\b{key}\s*=\s*["']([^"'\n]+)["']"#)).or_else(|| {
                let name = by_variable(key)?;
                first(format!(r#"(?m)^{name}\s*=\s*["']([^"'\n]+)["']"#))
            })
        };
        let names = |list: String| -> Vec<String> {
            let quoted = Regex::new(r#"["']([^"'\n]+)["']"#).ok();
            let found = quoted.iter().flat_map(|quoted| quoted.captures_iter(&list));
            found.map(|one| one[1].to_owned()).collect()
        };
        let modules = first(r"\bpy_modules\s*=\s*[\[(]([^\])]*)".to_owned()).or_else(|| {
            let name = by_variable("py_modules")?;
            first(format!(r"(?m)^{name}\s*=\s*[\[(]([^\])]*)"))
        });
        self.modules.extend(modules.map(names).unwrap_or_default());
        self.name = self.name.take().or_else(|| find("name"));
        self.version = self.version.take().or_else(|| find("version"));
        self.summary = self.summary.take().or_else(|| find("description"));
        let points = first(r"\bentry_points\s*=\s*(\{[^}]*\})".to_owned()).unwrap_or_default();
        if let Ok(group) = Regex::new(r#"["']([\w.-]+)["']\s*:\s*[\[(]([^\])]*)"#) {
            for found in group.captures_iter(&points) {
                self.take_group(
                    &found[1],
                    names(found[2].to_owned())
                        .iter()
                        .filter_map(|line| entry_point(line)),
                );
            }
        }
        if self.requires.is_empty()
            && let Ok(list) = Regex::new(r"install_requires\s*=\s*\[([^\]]*)\]")
            && let (Some(found), Ok(quoted)) =
                (list.captures(text), Regex::new(r#"["']([^"'\n]+)["']"#))
        {
            self.requires = quoted
                .captures_iter(&found[1])
                .map(|one| one[1].to_owned())
                .collect();
        }
    }
}

/// What a list of a manifest requires. In a table versions may be written in ways that only its tool
/// reads: there the names count.
fn requirements(value: Option<&Toml>) -> Vec<String> {
    let items = value.and_then(Toml::as_array).into_iter().flatten();
    let items = items.filter_map(Toml::as_str).map(str::to_owned);
    let table = value.and_then(Toml::as_table).into_iter();
    let names = table.flat_map(Table::keys).cloned();
    items.chain(names.filter(|name| name != "python")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn manifests_of_all_ages_are_read() {
        let mut facts = ProjectFacts::default();
        facts.take_settings(&settings_of(
            "[metadata]\nname = tide\nversion = attr: tide.v\n[options]\ninstall_requires =\n    click>=8\n    # why\n    yarl\npackage_dir =\n    = src\n[options.entry_points]\nconsole_scripts =\n    tide = tide.main:run\n",
        ));
        assert_eq!(
            (facts.name.as_deref(), facts.version.as_deref()),
            (Some("tide"), None)
        );
        assert_eq!(
            (facts.requires.join(" "), facts.root.as_deref()),
            ("click>=8 yarl".to_owned(), Some("src"))
        );
        assert_eq!(facts.scripts["tide"], "tide.main:run");
        assert!(facts.entry_points.is_empty());
        let mut facts = ProjectFacts::default();
        facts.take_script("setup(\n    name='gauge',\n    version = \"1.2\",\n    install_requires=['six', \"attrs>=20\"],\n)");
        assert_eq!(
            (facts.name.as_deref(), facts.version.as_deref()),
            (Some("gauge"), Some("1.2"))
        );
        assert_eq!(facts.requires, ["six", "attrs>=20"]);
        let mut facts = ProjectFacts::default();
        facts.take_script("setup(name='ebb', entry_points={'tide.models': ['ebb = ebb:Ebb',\n 'flow=ebb:Flow'], \"console_scripts\": (\"ebb=ebb.main:run\",)})");
        assert_eq!(facts.entry_points["tide.models"]["flow"], "ebb:Flow");
        assert_eq!(
            (facts.entry_points.len(), facts.scripts["ebb"].as_str()),
            (1, "ebb.main:run")
        );
        let mut facts = ProjectFacts::default();
        let manifest = "[tool.checks]\nname = 1\n[tool.tides]\nname = \"ebb\"\nversion = \"2\"\n[tool.tides.dependencies]\npython = \"^3.9\"\nclick = \"^8.0\"\n[tool.tides.group.dev.dependencies]\nyarl = \"*\"\n[tool.tides.plugins.\"tide.models\"]\nebb = \"ebb:Ebb\"\n";
        facts.take_project(&manifest.parse().unwrap());
        assert_eq!(
            (facts.name.as_deref(), facts.version.as_deref()),
            (Some("ebb"), Some("2"))
        );
        assert_eq!(
            (facts.requires.join(" "), facts.more.join(" ")),
            ("click".to_owned(), "yarl".to_owned())
        );
        assert_eq!(facts.entry_points["tide.models"]["ebb"], "ebb:Ebb");
        let mut facts = ProjectFacts::default();
        facts.take_script("PACKAGE = 'ebb'\nMODULES = (\n  'ebb',\n  'flow',\n)\nsetup(name=PACKAGE, version=VERSION,\n py_modules=MODULES)");
        assert_eq!(
            (facts.name.as_deref(), facts.version.as_deref()),
            (Some("ebb"), None)
        );
        assert_eq!(facts.modules, ["ebb", "flow"].map(str::to_owned).into());
    }
}
