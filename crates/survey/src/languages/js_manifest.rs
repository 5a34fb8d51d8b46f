//! What `package.json` says of a package, and which files are it.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value as Json;

use super::goes_through;
use crate::Survey;
use crate::tree::{below, ext_of, is_below, joined, name_of};

pub(super) const CODE: [&str; 8] = ["js", "mjs", "cjs", "jsx", "ts", "mts", "cts", "tsx"];

/// Folders and endings of tests.
pub(super) const TEST_FOLDERS: [&str; 6] =
    ["test", "tests", "__tests__", "spec", "specs", "__mocks__"];
const OTHER_FOLDERS: [&str; 9] = [
    "bench",
    "benchmark",
    "benchmarks",
    "example",
    "examples",
    "docs",
    "doc",
    "website",
    "scripts",
];

/// A package's manifest.
pub(super) struct NodePackage {
    pub folder: String,
    pub name: String,
    pub manifest: Json,
    pub scripts: BTreeMap<String, String>,
    /// All files of it that are not another package's.
    pub files: BTreeSet<String>,
}

impl NodePackage {
    pub fn read(survey: &mut Survey<'_>, folder: &str, all: &[String]) -> Option<NodePackage> {
        let path = joined(folder, "package.json")?;
        let text = survey.tree.text(&path)?;
        let manifest: Json = match serde_json::from_str(&text) {
            Ok(manifest) => manifest,
            Err(e) => {
                survey.leave_out(path, format!("it is no JSON: {e}"));
                return None;
            }
        };
        let scripts = texts_of(&manifest["scripts"]);
        let inner = |file: &str| {
            let deepest = all
                .iter()
                .filter(|other| is_below(file, other))
                .max_by_key(|other| other.len());
            deepest.is_some_and(|deepest| deepest != folder)
        };
        let files = survey
            .tree
            .below(folder)
            .filter(|file| !inner(file))
            .map(str::to_owned)
            .collect();
        let name = manifest["name"].as_str().map(str::to_owned);
        let name = name.unwrap_or_else(|| survey.name_of_folder(folder));
        Some(NodePackage {
            folder: folder.to_owned(),
            name,
            manifest,
            scripts,
            files,
        })
    }

    /// The modules and data that make the package, without tests and what is only for its authors.
    pub fn sources(&self) -> BTreeSet<String> {
        let listed: Vec<String> = self.manifest["files"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(Json::as_str)
            .map(|path| {
                path.trim_start_matches("./")
                    .trim_end_matches("/**/*")
                    .trim_end_matches("/*")
                    .trim_matches('/')
                    .to_owned()
            })
            .collect();
        let entries = self.entries();
        let is_listed = |inside: &str| {
            listed.is_empty()
                || listed
                    .iter()
                    .any(|path| is_below(inside, path) || fits_star(path, inside))
                || entries.iter().any(|entry| entry == inside)
        };
        let data = ["json", "node", "wasm", "css", "html", "txt"];
        let files = self.files.iter().filter(|file| {
            let inside = below(file, &self.folder);
            let is_kind = CODE.contains(&ext_of(file)) || data.contains(&ext_of(file));
            let is_own =
                inside != "package.json" && inside != "package-lock.json" && !is_test(inside);
            let is_settings = !inside.contains('/')
                && (inside.contains(".config.") || inside.starts_with("tsconfig"));
            let is_beside = goes_through(inside, &OTHER_FOLDERS) && listed.is_empty();
            is_kind && is_own && !is_settings && !is_beside && is_listed(inside)
        });
        files.cloned().collect()
    }

    /// What the manifest names as the package's modules and programs.
    fn entries(&self) -> BTreeSet<String> {
        fn gather(value: &Json, found: &mut BTreeSet<String>) {
            match value {
                Json::String(path) if !path.contains('*') => {
                    found.insert(path.trim_start_matches("./").to_owned());
                }
                Json::Array(items) => items.iter().for_each(|item| gather(item, found)),
                Json::Object(rows) => rows.values().for_each(|value| gather(value, found)),
                _ => {}
            }
        }
        let mut found = BTreeSet::new();
        for key in ["main", "module", "exports", "bin", "types", "typings"] {
            gather(&self.manifest[key], &mut found);
        }
        found
    }

    /// Entries that are no files: something has to make them.
    pub fn made_entries(&self) -> Vec<String> {
        let is_there = |entry: &str| {
            let path = joined(&self.folder, entry).unwrap_or_default();
            ["", ".js", ".json", "/index.js"]
                .iter()
                .any(|end| self.files.contains(&format!("{path}{end}")))
        };
        let code = |entry: &String| CODE.contains(&ext_of(entry)) && !entry.ends_with(".d.ts");
        self.entries()
            .into_iter()
            .filter(code)
            .filter(|entry| !is_there(entry))
            .collect()
    }

    pub fn is_library(&self, survey: &Survey<'_>) -> bool {
        let has_entries = ["main", "exports", "module", "bin"]
            .iter()
            .any(|key| !self.manifest[key].is_null());
        let is_top = survey
            .tree
            .has(&joined(&self.folder, "index.js").unwrap_or_default());
        !self.sources().is_empty() && (has_entries || is_top || self.is_typescript(survey))
    }

    pub fn is_typescript(&self, survey: &Survey<'_>) -> bool {
        let settings = joined(&self.folder, "tsconfig.json").unwrap_or_default();
        survey.tree.has(&settings) && self.sources().iter().any(|file| is_typescript(file))
    }
}

pub(super) fn is_typescript(file: &str) -> bool {
    matches!(ext_of(file), "ts" | "tsx" | "mts" | "cts") && !file.ends_with(".d.ts")
}

pub(super) fn is_test(inside: &str) -> bool {
    let name = name_of(inside);
    let named = [".test.", ".spec.", "-test.", "_test.", ".bench."]
        .iter()
        .any(|mark| name.contains(mark));
    named
        || goes_through(inside, &TEST_FOLDERS)
        || ["test.js", "tests.js", "test.mjs"].contains(&inside)
}

fn fits_star(pattern: &str, path: &str) -> bool {
    let Some((before, after)) = pattern.split_once('*') else {
        return false;
    };
    path.starts_with(before) && path.ends_with(after.trim_start_matches(['*', '/']))
}

pub(super) fn texts_of(value: &Json) -> BTreeMap<String, String> {
    let rows = value.as_object().into_iter().flatten();
    rows.filter_map(|(name, value)| Some((name.clone(), value.as_str()?.to_owned())))
        .collect()
}
