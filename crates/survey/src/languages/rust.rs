//! Crates: what their manifests say, and which of their dependencies are in use.

use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use cargo_platform::{Cfg, Platform};
use nubrik_pins::Registry;

use super::rust_manifest::{CrateManifest, UsedCrate};
use super::{folders_of, is_sample};
use crate::Survey;
use crate::proposal::{
    Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit, WantedPin,
};
use crate::tree::{ext_of, joined};

pub(super) fn look(survey: &mut Survey<'_>) {
    let mut crates = Vec::new();
    for folder in folders_of(survey, "Cargo.toml") {
        survey.claim(&folder, &["rs", "c", "h", "cc", "cpp", "S", "s"]);
        let path = joined(&folder, "Cargo.toml").unwrap_or_default();
        if is_sample(&folder) {
            survey.leave_out(path, "it is a sample for tests");
            continue;
        }
        match CrateManifest::read(survey.tree, &folder) {
            Ok(Some(manifest)) => crates.push(manifest),
            Ok(None) => {}
            Err(problem) => survey.leave_out(
                path,
                format!("its manifest cannot be understood: {problem}"),
            ),
        }
    }
    let sources = survey
        .tree
        .files()
        .iter()
        .filter(|file| ext_of(file) == "rs")
        .count();
    if crates.is_empty() && sources > 0 {
        survey.leave_out(
            "sources in Rust",
            "no Cargo.toml says which crates they are",
        );
    }
    survey.count(Kit::Rust, sources);
    let asked = features_asked(&crates);
    // Names first: crates use one another.
    let mut names: BTreeMap<String, CrateNames> = BTreeMap::new();
    for manifest in &crates {
        let folder = &manifest.folder;
        let programs = manifest.programs.iter();
        let programs: Vec<DefinitionAddress> = programs
            .map(|(name, _, _)| survey.names.give(folder, name, "program"))
            .collect();
        let library = manifest
            .library
            .as_ref()
            .map(|_| survey.names.give(folder, &manifest.name, "library"));
        names.insert(folder.clone(), CrateNames { programs, library });
    }
    for manifest in &crates {
        let mut reader = CrateReader {
            survey,
            manifest,
            crates: &crates,
            names: &names,
            asked: &asked,
        };
        reader.propose();
    }
}

struct CrateNames {
    programs: Vec<DefinitionAddress>,
    library: Option<DefinitionAddress>,
}

type FeaturesAsked = BTreeMap<String, BTreeSet<String>>;

/// The features that each crate of the tree has on: its default ones, and those that others of the
/// tree ask for.
fn features_asked(crates: &[CrateManifest]) -> FeaturesAsked {
    let mut asked: FeaturesAsked = crates
        .iter()
        .map(|manifest| {
            let default = manifest
                .features
                .contains_key("default")
                .then(|| "default".to_owned());
            (manifest.folder.clone(), default.into_iter().collect())
        })
        .collect();
    loop {
        let mut next = asked.clone();
        for manifest in crates {
            let (_, used) = manifest.reached(&asked[&manifest.folder]);
            for need in manifest
                .needs
                .iter()
                .chain(&manifest.test_needs)
                .filter(|need| fits(need))
            {
                let Some(features) = need.folder.as_ref().and_then(|folder| next.get_mut(folder))
                else {
                    continue;
                };
                features.extend(need.features.iter().cloned());
                features.extend(used.get(&need.alias).into_iter().flatten().cloned());
            }
        }
        if next == asked {
            return asked;
        }
        asked = next;
    }
}

/// Whether a dependency is for this machine.
fn fits(need: &UsedCrate) -> bool {
    let Some(platform) = &need.platform else {
        return true;
    };
    let arch = std::env::consts::ARCH;
    let pairs = [
        ("target_os", std::env::consts::OS),
        ("target_arch", arch),
        ("target_family", "unix"),
        ("target_env", "gnu"),
    ];
    let fixed = [
        ("target_endian", "little"),
        ("target_pointer_width", "64"),
        ("target_vendor", "unknown"),
    ];
    let pairs = pairs
        .into_iter()
        .chain(fixed)
        .map(|(name, value)| format!("{name}=\"{value}\""));
    let texts = pairs.chain(["unix".to_owned()]);
    let cfgs: Vec<Cfg> = texts.filter_map(|text| text.parse().ok()).collect();
    let triple = format!("{arch}-unknown-{}-gnu", std::env::consts::OS);
    platform
        .parse::<Platform>()
        .is_ok_and(|platform| platform.matches(&triple, &cfgs))
}

struct CrateReader<'r, 'a> {
    survey: &'r mut Survey<'a>,
    manifest: &'r CrateManifest,
    crates: &'r [CrateManifest],
    names: &'r BTreeMap<String, CrateNames>,
    asked: &'r FeaturesAsked,
}

impl CrateReader<'_, '_> {
    fn propose(&mut self) {
        let manifest = self.manifest;
        let (features, used) = manifest.reached(&self.asked[&manifest.folder]);
        let in_use: Vec<&UsedCrate> = manifest
            .needs
            .iter()
            .filter(|need| used.contains_key(&need.alias))
            .collect();
        let needs = self.values(&in_use, &used);
        let own: Vec<FieldValue> = self.library(&needs).into_iter().collect();
        let names = &self.names[&manifest.folder];
        let all: Vec<FieldValue> = own.iter().cloned().chain(needs.iter().cloned()).collect();
        for ((name, root, needed), address) in manifest.programs.iter().zip(&names.programs) {
            if let Some(missing) = needed.iter().find(|feature| !features.contains(*feature)) {
                let why = format!(
                    "the feature `{missing}`, without which it is not made, is off by default"
                );
                self.survey.leave_out(format!("the program {name}"), why);
                continue;
            }
            let mut call = self.call("program", name, &address.name);
            if root != "src/main.rs" {
                call.set("root", FieldValue::text(root));
            }
            if *name != manifest.name {
                call.set("package", FieldValue::text(&manifest.name));
            }
            call.set("needs", FieldValue::List(all.clone()));
            self.define(
                address,
                Keyword::Target,
                format!("The program {name}."),
                Body::Kind(call),
            );
        }
        self.tests(&needs, &own);
    }

    /// A call with what all parts of the crate have alike; `name` is said where the target's name
    /// does not say it.
    fn call(&self, kind: &'static str, name: &str, target: &str) -> KindCall {
        let manifest = self.manifest;
        let (features, _) = manifest.reached(&self.asked[&manifest.folder]);
        let mut call = KindCall::new(Kit::Rust, kind)
            .with("source", FieldValue::Folder(manifest.folder.clone()));
        if name != target {
            call.set("name", FieldValue::text(name));
        }
        call.set("version", FieldValue::text(&manifest.version));
        if manifest.edition != "2021" {
            call.set("edition", FieldValue::text(&manifest.edition));
        }
        call.with(
            "features",
            FieldValue::texts(features.iter().filter(|name| *name != "default")),
        )
    }

    /// The library or the macros of the crate, if it has one.
    fn library(&mut self, needs: &[FieldValue]) -> Option<FieldValue> {
        let manifest = self.manifest;
        let (part, address) = manifest
            .library
            .as_ref()
            .zip(self.names[&manifest.folder].library.as_ref())?;
        let mut call = self.call("library", &manifest.name, &address.name);
        if part.root != "src/lib.rs" {
            call.set("root", FieldValue::text(&part.root));
        }
        if let Some(name) = part
            .name
            .as_ref()
            .filter(|name| **name != manifest.name.replace('-', "_"))
        {
            call.set("used_as", FieldValue::text(name));
        }
        if part.is_macros {
            call.set("macros", FieldValue::Bool(true));
        }
        if let Some(script) = &manifest.build_script {
            let needs = self.values(
                &manifest.script_needs.iter().collect::<Vec<_>>(),
                &BTreeMap::new(),
            );
            call.set("build_script", FieldValue::text(script));
            call.set("script_needs", FieldValue::List(needs));
        }
        if !manifest.links.is_empty() {
            call.set("links", FieldValue::text(&manifest.links));
        }
        call.set("needs", FieldValue::List(needs.to_vec()));
        let what = if part.is_macros {
            "The macros of"
        } else {
            "The library of"
        };
        let documentation = format!("{what} the crate {}.", manifest.name);
        self.define(address, Keyword::Target, documentation, Body::Kind(call));
        Some(FieldValue::Of(address.clone()))
    }

    fn define(
        &mut self,
        address: &DefinitionAddress,
        keyword: Keyword,
        documentation: String,
        body: Body,
    ) {
        let address = address.clone();
        self.survey
            .define(Definition::new(keyword, &address, documentation, body));
    }

    /// The tests inside the library or program, and those beside it.
    fn tests(&mut self, needs: &[FieldValue], own: &[FieldValue]) {
        let manifest = self.manifest;
        let mut calls: Vec<(String, KindCall)> = Vec::new();
        calls.extend(
            self.tests_inside(needs)
                .map(|call| ("inside".to_owned(), call)),
        );
        for (name, root) in &manifest.tests {
            calls.extend(
                self.test_beside(name, root, needs, own)
                    .map(|call| (name.clone(), call)),
            );
        }
        self.define_once(&mut calls);
        if calls.is_empty() {
            return;
        }
        let address = self.survey.names.give(&manifest.folder, "unit", "tests");
        let documentation = format!("The tests of the crate {}.", manifest.name);
        let body = match calls.as_slice() {
            [(name, call)] if name == "inside" => {
                let mut call = call.clone();
                if call.field("name").is_none() {
                    call.set("name", FieldValue::text(&manifest.name));
                }
                Body::Kind(call)
            }
            _ => Body::Several(calls),
        };
        self.define(&address, Keyword::Test, documentation, body);
    }

    /// The tests among the crate's own sources, if there are any.
    fn tests_inside(&mut self, needs: &[FieldValue]) -> Option<KindCall> {
        let manifest = self.manifest;
        let tree = self.survey.tree;
        let source_folder = joined(&manifest.folder, "src").unwrap_or_default();
        let texts: Vec<Rc<str>> = tree
            .below(&source_folder)
            .filter(|file| ext_of(file) == "rs" && self.owner_of(file) == manifest.folder)
            .filter_map(|file| tree.text(file))
            .collect();
        let has_tests = |text: &Rc<str>| text.contains("#[test]") || text.contains("::test]");
        // What tests use may be named in any source, such as the first one.
        let inner: String = match texts.iter().any(has_tests) {
            true => texts.iter().map(|text| text.to_string()).collect(),
            false => String::new(),
        };
        let main = manifest
            .programs
            .iter()
            .find(|(_, root, _)| root == "src/main.rs");
        let root = match (&manifest.library, main.or(manifest.programs.first())) {
            (Some(part), _) => Some(part.root.clone()),
            (None, Some((_, root, _))) => Some(root.clone()),
            (None, None) => None,
        };
        let root = root.filter(|_| !inner.is_empty())?;
        let mut call = self.call("tests", &manifest.name, "inside");
        if root != "src/lib.rs" {
            call.set("root", FieldValue::text(root));
        }
        let more = self.test_needs(&inner);
        call.set(
            "needs",
            FieldValue::List(needs.iter().cloned().chain(more).collect()),
        );
        Some(call)
    }

    /// The tests of a file beside the crate; `None` where they cannot run here, or it holds none.
    fn test_beside(
        &mut self,
        name: &str,
        root: &str,
        needs: &[FieldValue],
        own: &[FieldValue],
    ) -> Option<KindCall> {
        let manifest = self.manifest;
        let tree = self.survey.tree;
        let path = joined(&manifest.folder, root);
        let text = path
            .as_ref()
            .and_then(|path| tree.text(path))
            .unwrap_or_default();
        if text.contains("CARGO_BIN_EXE_") || text.contains("cargo_bin") {
            let why = "it starts the crate's programs by paths that only another tool sets";
            self.survey.leave_out(path.unwrap_or_default(), why);
            return None;
        }
        if !text.contains("test]") && !text.contains("mod ") {
            return None;
        }
        let mut call = self
            .call("tests", name, name)
            .with("root", FieldValue::text(root));
        call.set("package", FieldValue::text(&manifest.name));
        // Modules beside it may use other crates.
        let place = joined(&manifest.folder, "tests").unwrap_or_default();
        let texts = tree
            .below(&place)
            .filter(|file| ext_of(file) == "rs")
            .filter_map(|file| tree.text(file));
        let all: String = texts.map(|text| text.to_string()).collect();
        let more = self.test_needs(if text.contains("mod ") { &all } else { &text });
        call.set(
            "needs",
            FieldValue::List(own.iter().chain(needs).cloned().chain(more).collect()),
        );
        Some(call)
    }

    /// Defines tests beside the crate that are alike once, so that a new one is found, and takes
    /// them out of the list.
    fn define_once(&mut self, calls: &mut Vec<(String, KindCall)>) {
        let manifest = self.manifest;
        let beside: Vec<&(String, KindCall)> =
            calls.iter().filter(|(name, _)| name != "inside").collect();
        let plain = |call: &KindCall| {
            let fields = call
                .fields
                .iter()
                .filter(|(name, _)| *name != "root" && *name != "name");
            fields.cloned().collect::<Vec<_>>()
        };
        let is_file = |(name, call): &&(String, KindCall)| matches!(call.field("root"), Some(FieldValue::Text(root)) if *root == format!("tests/{name}.rs"));
        let are_alike = beside.len() > 2
            && beside.iter().all(is_file)
            && beside
                .iter()
                .all(|(_, call)| plain(call) == plain(&beside[0].1));
        if !are_alike {
            return;
        }
        let files = beside
            .iter()
            .filter_map(|(name, _)| joined(&manifest.folder, &format!("tests/{name}.rs")));
        let files: BTreeSet<String> = files.collect();
        let mut call = beside[0].1.clone();
        call.fields
            .retain(|(name, _)| *name != "root" && *name != "name");
        calls.retain(|(name, _)| name == "inside");
        let address = self.survey.names.give(&manifest.folder, "beside", "tests");
        let documentation = format!(
            "The tests beside the crate {}, file by file.",
            manifest.name
        );
        self.define(
            &address,
            Keyword::Test,
            documentation,
            Body::Each(files, "root", call),
        );
    }

    /// The crate whose folder a file is in.
    fn owner_of(&self, file: &str) -> &str {
        let around = self
            .crates
            .iter()
            .filter(|other| crate::tree::is_below(file, &other.folder));
        around
            .max_by_key(|other| other.folder.len())
            .map_or("", |other| &other.folder)
    }

    /// Those of the dependencies of tests that a text names.
    fn test_needs(&mut self, text: &str) -> Vec<FieldValue> {
        let manifest = self.manifest;
        let is_named = |need: &&UsedCrate| {
            let name = need.alias.replace('-', "_");
            text.match_indices(&name).any(|(at, _)| {
                let before = text[..at].chars().next_back();
                let rest = &text[at + name.len()..];
                !before.is_some_and(|c| c.is_alphanumeric() || c == '_')
                    && (rest.starts_with("::")
                        || rest.starts_with(';')
                        || rest.starts_with(" as ")
                        || rest.starts_with('!'))
            })
        };
        let also_needed = |need: &&UsedCrate| {
            !manifest
                .needs
                .iter()
                .any(|other| !other.is_optional && other.alias == need.alias)
        };
        let named: Vec<&UsedCrate> = manifest
            .test_needs
            .iter()
            .filter(is_named)
            .filter(also_needed)
            .collect();
        self.values(&named, &BTreeMap::new())
    }

    /// Dependencies as values; those of registries are pinned.
    fn values(
        &mut self,
        needs: &[&UsedCrate],
        used: &BTreeMap<String, BTreeSet<String>>,
    ) -> Vec<FieldValue> {
        let mut values = Vec::new();
        for need in needs.iter().filter(|need| fits(need)) {
            let local = need
                .folder
                .as_ref()
                .and_then(|folder| self.names.get(folder));
            if let Some(names) = local {
                values.extend(names.library.iter().cloned().map(FieldValue::Of));
                continue;
            }
            let manifest = joined(&self.manifest.folder, "Cargo.toml").unwrap_or_default();
            let path_only = need.folder.is_some() && need.requirement.is_empty();
            if let Some(place) = need
                .elsewhere
                .or(path_only.then_some("a folder that is not here"))
            {
                let why = format!(
                    "{manifest} takes it from {place}; without it, what uses it cannot be compiled"
                );
                self.survey
                    .leave_out(format!("the crate {}", need.package), why);
                continue;
            }
            let more = used.get(&need.alias).into_iter().flatten().cloned();
            self.survey.pin(WantedPin {
                registry: Registry::Rust,
                name: need.package.clone(),
                requirement: need.requirement.clone(),
                features: need
                    .features
                    .iter()
                    .cloned()
                    .chain(more)
                    .filter(|name| name != "default")
                    .collect(),
                is_bare: !need.has_defaults,
                is_guess: false,
                wanted_by: manifest,
            });
            let value = FieldValue::Pinned(Kit::Rust, need.package.clone());
            if !values.contains(&value) {
                values.push(value);
            }
        }
        values.sort_by_key(|value| !matches!(value, FieldValue::Of(_)));
        values
    }
}
