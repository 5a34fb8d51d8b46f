//! What `Cargo.toml` says of a crate, with what it takes from its workspace.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_pins::Unreadable;
use toml::{Table, Value};

use crate::tree::{SourceTree, folder_of, joined, stem_of};

/// Another crate that a crate uses.
#[derive(Clone, Debug, Default)]
pub(super) struct UsedCrate {
    /// By which name.
    pub alias: String,
    /// Its own name.
    pub package: String,
    pub requirement: String,
    pub features: BTreeSet<String>,
    pub has_defaults: bool,
    pub is_optional: bool,
    /// Where it is in the tree.
    pub folder: Option<String>,
    /// For which systems.
    pub platform: Option<String>,
    /// Where else it comes from, which no registry has.
    pub elsewhere: Option<&'static str>,
}

/// A crate's manifest.
#[derive(Clone, Debug, Default)]
pub(super) struct CrateManifest {
    pub folder: String,
    pub name: String,
    pub version: String,
    pub edition: String,
    pub library: Option<LibraryPart>,
    /// Programs by their names, with where they begin and the features without which they are not
    /// made.
    pub programs: Vec<(String, String, Vec<String>)>,
    /// Tests beside the library by their names, with where they begin.
    pub tests: Vec<(String, String)>,
    pub build_script: Option<String>,
    pub links: String,
    pub features: BTreeMap<String, Vec<String>>,
    pub needs: Vec<UsedCrate>,
    pub test_needs: Vec<UsedCrate>,
    pub script_needs: Vec<UsedCrate>,
}

/// The library of a crate.
#[derive(Clone, Debug)]
pub(super) struct LibraryPart {
    pub root: String,
    pub is_macros: bool,
    /// Its name, if it is another one than the crate's.
    pub name: Option<String>,
}

impl CrateManifest {
    /// The manifest of a folder; `None` where it describes no crate.
    ///
    /// # Errors
    /// When it cannot be understood.
    pub fn read(tree: &SourceTree, folder: &str) -> Result<Option<CrateManifest>, Unreadable> {
        let table = table_of(tree, folder)?;
        let Some(package) = table.get("package").and_then(Value::as_table) else {
            return Ok(None);
        };
        let workspace = workspace_of(tree, folder);
        let shared = workspace
            .as_ref()
            .map(|(folder, table)| (folder.as_str(), table));
        let inherited = shared.and_then(|(_, table)| table.get("package")?.as_table());
        let own = |key: &str| -> Option<String> {
            let value = package.get(key)?;
            let from_workspace = value.get("workspace").and_then(Value::as_bool) == Some(true);
            let value = if from_workspace {
                inherited?.get(key)?
            } else {
                value
            };
            value.as_str().map(str::to_owned)
        };
        let no_name = || Unreadable::Form("it has no name".to_owned());
        let name = own("name").ok_or_else(no_name)?;
        let all_needs = |keys: &[&str]| needs_of(&table, keys, folder, shared);
        let file = |path: &str| joined(folder, path).filter(|path| tree.has(path));
        Ok(Some(CrateManifest {
            version: own("version").unwrap_or_else(|| "0.0.0".to_owned()),
            edition: own("edition").unwrap_or_else(|| "2015".to_owned()),
            library: library_of(&table, tree, folder),
            programs: programs_of(&table, tree, folder, &name),
            tests: tests_of(&table, tree, folder),
            build_script: match package.get("build") {
                Some(Value::Boolean(false)) => None,
                Some(Value::String(path)) => file(path).map(|_| path.clone()),
                _ => file("build.rs").map(|_| "build.rs".to_owned()),
            },
            links: own("links").unwrap_or_default(),
            features: table
                .get("features")
                .and_then(Value::as_table)
                .map(features_of)
                .unwrap_or_default(),
            needs: all_needs(&["dependencies"]),
            test_needs: all_needs(&["dev-dependencies", "dev_dependencies"]),
            script_needs: all_needs(&["build-dependencies", "build_dependencies"]),
            folder: folder.to_owned(),
            name,
        }))
    }

    /// The features that are on, and for each dependency in use the features that these ask for.
    pub fn reached(
        &self,
        asked: &BTreeSet<String>,
    ) -> (BTreeSet<String>, BTreeMap<String, BTreeSet<String>>) {
        let mut on = BTreeSet::new();
        let mut used: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for need in self.needs.iter().filter(|need| !need.is_optional) {
            used.insert(need.alias.clone(), BTreeSet::new());
        }
        let mut weak: Vec<(String, String)> = Vec::new();
        let mut queue: Vec<String> = asked.iter().cloned().collect();
        while let Some(word) = queue.pop() {
            if let Some(alias) = word.strip_prefix("dep:") {
                used.entry(alias.to_owned()).or_default();
            } else if let Some((alias, feature)) = word.split_once('/') {
                match alias.strip_suffix('?') {
                    Some(alias) => weak.push((alias.to_owned(), feature.to_owned())),
                    None => {
                        used.entry(alias.to_owned())
                            .or_default()
                            .insert(feature.to_owned());
                        if self.implies(alias) {
                            on.insert(alias.to_owned());
                        }
                    }
                }
            } else if let Some(words) = self.features.get(&word) {
                if on.insert(word) {
                    queue.extend(words.iter().cloned());
                }
            } else if self
                .needs
                .iter()
                .any(|need| need.is_optional && need.alias == word)
            {
                used.entry(word.clone()).or_default();
                on.insert(word);
            }
        }
        for (alias, feature) in weak {
            if let Some(features) = used.get_mut(&alias) {
                features.insert(feature);
            }
        }
        (on, used)
    }

    /// Whether an optional dependency is a feature of the same name.
    fn implies(&self, alias: &str) -> bool {
        let named = format!("dep:{alias}");
        self.needs
            .iter()
            .any(|need| need.is_optional && need.alias == alias)
            && !self.features.values().flatten().any(|word| *word == named)
    }
}

fn table_of(tree: &SourceTree, folder: &str) -> Result<Table, Unreadable> {
    let path = joined(folder, "Cargo.toml").unwrap_or_default();
    let unread = || Unreadable::File("it cannot be read".to_owned());
    let text = tree.text(&path).ok_or_else(unread)?;
    text.parse::<Table>()
        .map_err(|e| Unreadable::Form(e.message().to_owned()))
}

/// The workspace that a crate is in: its folder, and what its manifest says for all.
fn workspace_of(tree: &SourceTree, folder: &str) -> Option<(String, Table)> {
    let mut above = folder;
    loop {
        if let Ok(mut table) = table_of(tree, above)
            && let Some(Value::Table(shared)) = table.remove("workspace")
        {
            return Some((above.to_owned(), shared));
        }
        if above.is_empty() {
            return None;
        }
        above = folder_of(above);
    }
}

fn features_of(table: &Table) -> BTreeMap<String, Vec<String>> {
    let words = |value: &Value| {
        let items = value.as_array().into_iter().flatten();
        items.filter_map(Value::as_str).map(str::to_owned).collect()
    };
    table
        .iter()
        .map(|(name, value)| (name.clone(), words(value)))
        .collect()
}

fn needs_of(
    table: &Table,
    keys: &[&str],
    folder: &str,
    shared: Option<(&str, &Table)>,
) -> Vec<UsedCrate> {
    let mut needs = Vec::new();
    let mut add = |table: &Table, platform: Option<&str>| {
        for key in keys {
            let rows = table
                .get(*key)
                .and_then(Value::as_table)
                .into_iter()
                .flatten();
            needs.extend(rows.map(|(alias, value)| {
                let need = dependency(alias, value, folder, shared);
                UsedCrate {
                    platform: platform.map(str::to_owned),
                    ..need
                }
            }));
        }
    };
    add(table, None);
    for (platform, table) in table
        .get("target")
        .and_then(Value::as_table)
        .into_iter()
        .flatten()
    {
        if let Some(table) = table.as_table() {
            add(table, Some(platform));
        }
    }
    needs
}

fn dependency(
    alias: &str,
    value: &Value,
    folder: &str,
    shared: Option<(&str, &Table)>,
) -> UsedCrate {
    if let Some(version) = value.as_str() {
        return UsedCrate {
            alias: alias.to_owned(),
            package: alias.to_owned(),
            requirement: version.to_owned(),
            has_defaults: true,
            ..UsedCrate::default()
        };
    }
    let flag = |name: &str| value.get(name).and_then(Value::as_bool);
    let text = |name: &str| value.get(name).and_then(Value::as_str).map(str::to_owned);
    let features = value
        .get("features")
        .and_then(Value::as_array)
        .into_iter()
        .flatten();
    let features = features.filter_map(Value::as_str).map(str::to_owned);
    let mut need = match (flag("workspace"), shared) {
        (Some(true), Some((root, table))) => {
            let row = table.get("dependencies").and_then(|rows| rows.get(alias));
            row.map_or_else(UsedCrate::default, |row| dependency(alias, row, root, None))
        }
        _ => UsedCrate {
            has_defaults: true,
            ..UsedCrate::default()
        },
    };
    need.alias = alias.to_owned();
    need.features.extend(features);
    need.is_optional = flag("optional") == Some(true);
    if let Some(defaults) = flag("default-features").or_else(|| flag("default_features")) {
        need.has_defaults = defaults;
    }
    if let Some(package) = text("package") {
        need.package = package;
    } else if need.package.is_empty() {
        need.package = alias.to_owned();
    }
    if let Some(version) = text("version") {
        need.requirement = version;
    }
    if let Some(path) = text("path") {
        need.folder = joined(folder, &path);
    }
    need.elsewhere = [("git", "a repository"), ("registry", "another registry")]
        .into_iter()
        .find(|(key, _)| value.get(*key).is_some())
        .map(|(_, what)| what)
        .or(need.elsewhere);
    need
}

fn library_of(table: &Table, tree: &SourceTree, folder: &str) -> Option<LibraryPart> {
    let part = table.get("lib");
    let text = |key: &str| part.and_then(|part| part.get(key)).and_then(Value::as_str);
    let root = text("path")
        .unwrap_or("src/lib.rs")
        .trim_start_matches("./")
        .to_owned();
    joined(folder, &root).filter(|path| tree.has(path))?;
    let is_macros = ["proc-macro", "proc_macro"].iter().any(|key| {
        part.and_then(|part| part.get(*key))
            .and_then(Value::as_bool)
            == Some(true)
    });
    Some(LibraryPart {
        root,
        is_macros,
        name: text("name").map(str::to_owned),
    })
}

type ProgramRow = (String, String, Vec<String>);

fn programs_of(table: &Table, tree: &SourceTree, folder: &str, name: &str) -> Vec<ProgramRow> {
    let has = |path: &str| joined(folder, path).is_some_and(|path| tree.has(&path));
    let mut programs: Vec<ProgramRow> = Vec::new();
    for part in table
        .get("bin")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
    {
        let Some(own) = part.get("name").and_then(Value::as_str) else {
            continue;
        };
        let usual = [
            format!("src/bin/{own}.rs"),
            format!("src/bin/{own}/main.rs"),
            "src/main.rs".to_owned(),
        ];
        let path = part.get("path").and_then(Value::as_str).map(str::to_owned);
        let Some(path) = path.or_else(|| usual.into_iter().find(|path| has(path))) else {
            continue;
        };
        let needed = part
            .get("required-features")
            .and_then(Value::as_array)
            .into_iter()
            .flatten();
        let needed = needed
            .filter_map(Value::as_str)
            .map(str::to_owned)
            .collect();
        programs.push((own.to_owned(), path, needed));
    }
    let finds = table
        .get("package")
        .and_then(|p| p.get("autobins"))
        .and_then(Value::as_bool)
        != Some(false);
    if finds {
        let mut found = Vec::new();
        if has("src/main.rs") {
            found.push((name.to_owned(), "src/main.rs".to_owned()));
        }
        found.extend(beginnings(tree, folder, "src/bin"));
        for (own, path) in found {
            if !programs
                .iter()
                .any(|(other, at, _)| *other == own || *at == path)
            {
                programs.push((own, path, Vec::new()));
            }
        }
    }
    programs
}

fn tests_of(table: &Table, tree: &SourceTree, folder: &str) -> Vec<(String, String)> {
    let mut tests = beginnings(tree, folder, "tests");
    for part in table
        .get("test")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
    {
        let text = |key: &str| part.get(key).and_then(Value::as_str).map(str::to_owned);
        let (Some(name), Some(path)) = (text("name"), text("path")) else {
            continue;
        };
        if !tests.iter().any(|(_, at)| *at == path) {
            tests.push((name, path));
        }
    }
    tests
}

/// The files in a folder of a crate with which something begins, and folders with a `main.rs`.
fn beginnings(tree: &SourceTree, folder: &str, place: &str) -> Vec<(String, String)> {
    let Some(top) = joined(folder, place) else {
        return Vec::new();
    };
    let mut found = Vec::new();
    for file in tree.below(&top) {
        let inside = crate::tree::below(file, &top);
        match inside.split_once('/') {
            None if inside.ends_with(".rs") => {
                found.push((stem_of(inside).to_owned(), format!("{place}/{inside}")))
            }
            Some((name, "main.rs")) => {
                found.push((name.to_owned(), format!("{place}/{name}/main.rs")))
            }
            _ => {}
        }
    }
    found
}
