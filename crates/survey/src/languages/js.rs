//! Packages of JavaScript and TypeScript: `package.json`, with its scripts.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_pins::Registry;
use serde_json::Value as Json;

use super::js_manifest::{CODE, NodePackage, TEST_FOLDERS, is_test, is_typescript, texts_of};
use super::node_scripts::{RUNNERS, ScriptPurpose, purpose_of, whole_command};
use super::tsconfig::TypeScriptSettings;
use super::{folders_of, goes_through, is_sample};
use crate::Survey;
use crate::proposal::{
    Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit, WantedPin,
};
use crate::tree::{below, ext_of, folder_of, is_below, joined, name_of};

/// Scripts that make modules, the likeliest first.
const MAKERS: [&str; 7] = [
    "build",
    "compile",
    "bundle",
    "dist",
    "prepare",
    "prepublishOnly",
    "prepack",
];

/// How long a script may take whose purpose a try is to show, as definitions have it.
pub(crate) const TRIED_FOR: &str = "1min";

pub(super) fn look(survey: &mut Survey<'_>) {
    let folders: Vec<String> = folders_of(survey, "package.json")
        .into_iter()
        .filter(|folder| !is_sample(folder) && !goes_through(&format!("{folder}/x"), &TEST_FOLDERS))
        .collect();
    let is_code = |file: &&String| CODE.contains(&ext_of(file)) && !file.ends_with(".d.ts");
    let sources = survey.tree.files().iter().filter(is_code).count();
    survey.count(Kit::Js, sources);
    let packages: Vec<NodePackage> = folders
        .iter()
        .filter_map(|folder| NodePackage::read(survey, folder, &folders))
        .collect();
    let mut names: BTreeMap<String, DefinitionAddress> = BTreeMap::new();
    for package in &packages {
        if !package.is_library(survey) {
            continue;
        }
        let short = name_of(&package.name);
        names.insert(
            package.name.clone(),
            survey.names.give(&package.folder, short, "package"),
        );
    }
    for package in &packages {
        PackageReader {
            survey,
            package,
            names: &names,
        }
        .propose();
    }
}

struct PackageReader<'r, 'a> {
    survey: &'r mut Survey<'a>,
    package: &'r NodePackage,
    names: &'r BTreeMap<String, DefinitionAddress>,
}

impl PackageReader<'_, '_> {
    fn propose(&mut self) {
        let package = self.package;
        let needs = self.needs(&["dependencies"], |_| true);
        let mut made = None;
        if let Some(address) = self.names.get(&package.name).cloned() {
            made = self.library(&address, &needs);
            self.programs(&address);
        }
        self.scripts(&needs, made.as_deref());
    }

    fn define(
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

    /// The package for those who import it. Gives the name of the script that makes its modules, if
    /// one does.
    fn library(&mut self, address: &DefinitionAddress, needs: &[FieldValue]) -> Option<String> {
        let package = self.package;
        let sources = package.sources();
        let manifest = joined(&package.folder, "package.json").unwrap_or_default();
        let documentation = match package.manifest["description"].as_str() {
            Some(text) if !text.trim().is_empty() => {
                format!(
                    "The package {}: {}",
                    package.name,
                    text.trim().replace('\n', " ")
                )
            }
            _ => format!("The package {}.", package.name),
        };
        let manifest = FieldValue::Files(BTreeSet::from([manifest]));
        let missing = package.made_entries();
        let typescript = sources.iter().filter(|file| is_typescript(file));
        let typescript: BTreeSet<String> = typescript.cloned().collect();
        let settings = TypeScriptSettings::read(self.survey.tree, &package.folder);
        let is_compiled = !missing.is_empty() && !typescript.is_empty();
        if let Some(settings) = settings.filter(|_| is_compiled && self.only_compiles()) {
            let entry = (missing[0].as_str(), manifest);
            let (problems, call) = self.compiled(settings, typescript, entry, needs);
            let body = Body::Kind(call);
            self.define(address, Keyword::Target, documentation, problems, body);
            return None;
        }
        let mut call = KindCall::new(Kit::Js, "library")
            .with("name", FieldValue::text(&package.name))
            .with("root", FieldValue::Folder(package.folder.clone()))
            .with(
                "sources",
                FieldValue::Below(package.folder.clone(), sources),
            )
            .with("manifest", manifest);
        let maker = MAKERS.iter().copied();
        let maker = maker
            .filter(|_| !missing.is_empty())
            .find(|name| package.scripts.contains_key(*name));
        let mut reasons = Vec::new();
        if maker.is_some() {
            let made = DefinitionAddress {
                package: package.folder.clone(),
                name: "built".to_owned(),
            };
            call.set("generated", FieldValue::List(vec![FieldValue::Of(made)]));
        } else if !missing.is_empty() {
            reasons.push(format!(
                "Its manifest names {}, which is not here, and no script makes it.",
                missing.join(", ")
            ));
        }
        call.set("needs", FieldValue::List(needs.to_vec()));
        let body = Body::Kind(call);
        self.define(address, Keyword::Target, documentation, reasons, body);
        maker.map(str::to_owned)
    }

    /// The package as the compiler of its sources makes it, which is to make a file that its
    /// manifest names; with what could not be read of its settings.
    fn compiled(
        &mut self,
        settings: TypeScriptSettings,
        typescript: BTreeSet<String>,
        (made, manifest): (&str, FieldValue),
        needs: &[FieldValue],
    ) -> (Vec<String>, KindCall) {
        let package = self.package;
        let root = settings
            .root
            .clone()
            .unwrap_or_else(|| top_folder(&typescript, &package.folder));
        let root = joined(&package.folder, &root).unwrap_or_default();
        let results = made
            .split('/')
            .next()
            .filter(|_| made.contains('/'))
            .unwrap_or("dist");
        let inside = typescript
            .into_iter()
            .filter(|file| is_below(file, &root))
            .collect();
        let types = self.needs(&["devDependencies"], |name| name.starts_with("@types/"));
        let mut call = KindCall::new(Kit::Js, "typescript")
            .with("name", FieldValue::text(&package.name))
            .with("root", FieldValue::Folder(root.clone()))
            .with("sources", FieldValue::Below(root, inside))
            .with("manifest", manifest)
            .with(
                "compiler",
                self.pinned("typescript", self.requirement("typescript")),
            )
            .with("flags", FieldValue::texts(settings.flags));
        if results != "dist" {
            call.set("results", FieldValue::text(results));
        }
        call.set("needs", FieldValue::List(needs.to_vec()));
        call.set("type_needs", FieldValue::List(types));
        (settings.problems, call)
    }

    /// Whether the script that makes the package does nothing but compile: then the kit does it
    /// better.
    fn only_compiles(&self) -> bool {
        let build = ["build", "compile"]
            .into_iter()
            .find_map(|name| whole_command(&self.package.scripts, name));
        build.is_none_or(|command| {
            let parts = command
                .split("&&")
                .map(str::trim)
                .filter(|part| !part.starts_with("rm ") && !part.starts_with("rimraf "));
            parts.clone().count() == 1
                && parts
                    .into_iter()
                    .all(|part| part == "tsc" || part.starts_with("tsc "))
        })
    }

    fn programs(&mut self, library: &DefinitionAddress) {
        let package = self.package;
        let programs = match &package.manifest["bin"] {
            Json::String(path) => {
                BTreeMap::from([(name_of(&package.name).to_owned(), path.clone())])
            }
            rows => texts_of(rows),
        };
        for (name, path) in programs {
            let main = format!("{}/{}", package.name, path.trim_start_matches("./"));
            let call = KindCall::new(Kit::Js, "program").with("main", FieldValue::text(main));
            let call = call.with("needs", FieldValue::Of(library.clone()));
            let address = self.survey.names.give(&package.folder, &name, "program");
            self.define(
                &address,
                Keyword::Target,
                format!("The program {name}, with its packages."),
                Vec::new(),
                Body::Kind(call),
            );
        }
    }

    /// The steps, tests and jobs that the manifest's scripts are.
    fn scripts(&mut self, needs: &[FieldValue], maker: Option<&str>) {
        let package = self.package;
        let mut checks = Vec::new();
        for (name, own) in &package.scripts {
            let is_maker = maker == Some(name.as_str());
            let Some((purpose, command)) = self.wanted_script(name, own, is_maker) else {
                continue;
            };
            let call = self.script_call(purpose, &command, needs);
            let (keyword, documentation) = match purpose {
                ScriptPurpose::Check => {
                    checks.push((name.replace([':', '/', '.'], "_"), call));
                    continue;
                }
                ScriptPurpose::Make | ScriptPurpose::Unknown => (
                    Keyword::Target,
                    format!("What the script {name} of the manifest makes."),
                ),
                ScriptPurpose::Job | ScriptPurpose::Nothing(_) => {
                    (Keyword::Job, format!("The script {name} of the manifest."))
                }
            };
            let wish = if is_maker { "built" } else { name.as_str() };
            let address = self.survey.names.give(&package.folder, wish, "script");
            self.define(
                &address,
                keyword,
                documentation,
                Vec::new(),
                Body::Kind(call),
            );
        }
        if !checks.is_empty() {
            let address = self.survey.names.give(&package.folder, "scripts", "checks");
            let documentation = format!("What the scripts of {} check.", package.name);
            self.define(
                &address,
                Keyword::Test,
                documentation,
                Vec::new(),
                Body::Several(checks),
            );
        }
    }

    /// What a script is for, and its whole command; `None` where it is left out, or is a part of
    /// another one.
    fn wanted_script(
        &mut self,
        name: &str,
        own: &str,
        is_maker: bool,
    ) -> Option<(ScriptPurpose, String)> {
        let package = self.package;
        let leave_out = |survey: &mut Survey<'_>, why: String| {
            survey.leave_out(format!("the script {name} of {}", package.name), why);
        };
        let around = ["pre", "post"].iter().any(|word| {
            name.strip_prefix(word)
                .is_some_and(|rest| package.scripts.contains_key(rest))
        });
        let purpose = match purpose_of(name) {
            _ if is_maker => ScriptPurpose::Make,
            _ if around => return None,
            Some(ScriptPurpose::Nothing(why)) => {
                leave_out(self.survey, why.to_owned());
                return None;
            }
            Some(purpose) => purpose,
            None => match self.asked_purpose(name, own) {
                Some(purpose) => purpose,
                None => {
                    leave_out(self.survey, "that was the answer".to_owned());
                    return None;
                }
            },
        };
        let Some(command) = whole_command(&package.scripts, name) else {
            leave_out(
                self.survey,
                format!("it calls a script that is not there: {own}"),
            );
            return None;
        };
        if let Some(tool) = outside_tool(&command) {
            let why = format!(
                "it calls {tool}, which works on the whole folder outside of any step: {own}"
            );
            leave_out(self.survey, why);
            return None;
        }
        let makes_nothing_more =
            purpose == ScriptPurpose::Make && !is_maker && self.is_made_by_kit(&command);
        (!makes_nothing_more).then_some((purpose, command))
    }

    /// A call of the kit that runs a command of a script.
    fn script_call(
        &mut self,
        purpose: ScriptPurpose,
        command: &str,
        needs: &[FieldValue],
    ) -> KindCall {
        let kind = match purpose {
            ScriptPurpose::Make | ScriptPurpose::Unknown => "script",
            ScriptPurpose::Check => "script_check",
            ScriptPurpose::Job | ScriptPurpose::Nothing(_) => "script_job",
        };
        let mut all: Vec<FieldValue> = Vec::new();
        for value in needs.iter().cloned().chain(self.tools_of(command)) {
            if !all.contains(&value) {
                all.push(value);
            }
        }
        let limit = match purpose {
            ScriptPurpose::Unknown => FieldValue::Code(TRIED_FOR.to_owned()),
            _ => FieldValue::List(Vec::new()),
        };
        KindCall::new(Kit::Js, kind)
            .with("timeout", limit)
            .with("command", FieldValue::text(command))
            .with("root", FieldValue::Folder(self.package.folder.clone()))
            .with("sources", FieldValue::Files(self.files_for(purpose)))
            .with("needs", FieldValue::List(all))
    }

    /// What a script is for whose name does not say it: as somebody answers, or as a try will show;
    /// `None` to leave it out.
    fn asked_purpose(&mut self, name: &str, own: &str) -> Option<ScriptPurpose> {
        let package = &self.package.name;
        let choices = [
            "try it",
            "it makes files",
            "it checks something",
            "it is a job",
            "leave it out",
        ];
        let id = format!("script.{package}.{name}");
        let text = format!("What is the script `{name}` of {package} for ({own})?");
        match self
            .survey
            .ask(&id, text, choices.map(str::to_owned).to_vec())
            .as_str()
        {
            "it makes files" => Some(ScriptPurpose::Make),
            "it checks something" => Some(ScriptPurpose::Check),
            "it is a job" => Some(ScriptPurpose::Job),
            "leave it out" => None,
            _ => Some(ScriptPurpose::Unknown),
        }
    }

    fn is_made_by_kit(&self, command: &str) -> bool {
        let compiles = command
            .split("&&")
            .any(|part| part.trim().starts_with("tsc"));
        compiles && self.only_compiles() && self.names.contains_key(&self.package.name)
    }

    /// The files beside which a script runs: of a build without tests, so that an edited test
    /// builds nothing.
    fn files_for(&self, purpose: ScriptPurpose) -> BTreeSet<String> {
        let files = self.package.files.iter().filter(|file| {
            let inside = below(file, &self.package.folder);
            let is_lock = [
                "package-lock.json",
                "yarn.lock",
                "pnpm-lock.yaml",
                "targets.nub",
                "pins.toml",
                "nubrik.toml",
            ]
            .contains(&inside);
            let is_prose = matches!(ext_of(inside), "md" | "png" | "gif" | "jpg" | "svg")
                && purpose == ScriptPurpose::Make;
            !is_lock && !is_prose && (purpose != ScriptPurpose::Make || !is_test(inside))
        });
        files.cloned().collect()
    }

    /// Packages that are named by a command, by settings, or by any module: they are needed to run
    /// scripts.
    fn tools_of(&mut self, command: &str) -> Vec<FieldValue> {
        let tree = self.survey.tree;
        let package = self.package;
        let manifest = without_lists(package.manifest.clone());
        let words: BTreeSet<String> = command
            .split(|c: char| c.is_whitespace() || "&|;()=\"'".contains(c))
            .map(|word| word.rsplit('/').next().unwrap_or(word).to_owned())
            .collect();
        let is_read = |file: &str| is_read_by(file, &words);
        let mut texts = manifest.to_string();
        for file in package.files.iter().filter(|file| is_read(file)) {
            if name_of(file) != "package.json" && name_of(file) != "package-lock.json" {
                texts.push_str(&tree.text(file).unwrap_or_default());
            }
        }
        let listed = texts_of(&package.manifest["devDependencies"]);
        let tools: Vec<&str> = listed
            .keys()
            .map(|name| name_of(name))
            .filter(|name| name.len() > 3)
            .collect();
        // Programs that no package is called like: one that has them, or brings them along, begins
        // with the same word.
        let unnamed: Vec<&str> = programs_of(command)
            .filter(|program| program.len() > 2 && !["node", "npm", "npx"].contains(program))
            .filter(|program| !listed.keys().any(|name| name_of(name) == *program))
            .collect();
        let begins = |one: &str, other: &str| {
            one.strip_prefix(other)
                .is_some_and(|rest| rest.starts_with('-'))
        };
        self.needs(&["devDependencies", "peerDependencies"], |name| {
            let brings = unnamed
                .iter()
                .any(|program| begins(program, name_of(name)) || begins(name_of(name), program));
            let bare = name.strip_prefix("@types/").unwrap_or(name);
            let quoted = [
                format!("\"{bare}\""),
                format!("'{bare}'"),
                format!("\"{bare}/"),
                format!("'{bare}/"),
            ];
            // Plugins have the name of their tool in theirs.
            let extends = tools
                .iter()
                .any(|tool| words.contains(*tool) && name.contains(*tool));
            extends
                || brings
                || programs_like(name)
                    .iter()
                    .any(|program| words.contains(program))
                || quoted.iter().any(|quoted| texts.contains(quoted.as_str()))
                || (name == "typescript"
                    && (words.iter().any(|word| word.starts_with("ts"))
                        || texts.contains("typescript")))
                || (name == "@types/node" && words.contains("tsc"))
        })
    }

    fn requirement(&self, name: &str) -> String {
        let lists = ["dependencies", "devDependencies", "peerDependencies"];
        lists
            .iter()
            .find_map(|list| self.package.manifest[list][name].as_str())
            .unwrap_or_default()
            .to_owned()
    }

    fn pinned(&mut self, name: &str, requirement: String) -> FieldValue {
        self.survey.pin(WantedPin {
            registry: Registry::Js,
            name: name.to_owned(),
            requirement,
            features: BTreeSet::new(),
            is_bare: false,
            is_guess: false,
            wanted_by: joined(&self.package.folder, "package.json").unwrap_or_default(),
        });
        FieldValue::Pinned(Kit::Js, name.to_owned())
    }

    fn needs(&mut self, lists: &[&str], wanted: impl Fn(&str) -> bool) -> Vec<FieldValue> {
        let mut values = Vec::new();
        for list in lists {
            for (name, requirement) in texts_of(&self.package.manifest[list]) {
                if !wanted(&name) {
                    continue;
                }
                if let Some(address) = self.names.get(&name).filter(|_| name != self.package.name) {
                    values.push(FieldValue::Of(address.clone()));
                    continue;
                }
                let is_elsewhere = [
                    "git",
                    "http",
                    "file:",
                    "link:",
                    "github:",
                    "workspace:",
                    "portal:",
                ];
                if let Some(place) = is_elsewhere
                    .iter()
                    .find(|place| requirement.starts_with(**place))
                {
                    let what = format!("the package {name}");
                    let why = format!(
                        "the manifest of {} takes it from {}",
                        self.package.name,
                        place.trim_end_matches(':')
                    );
                    self.survey.leave_out(what, why);
                    continue;
                }
                let requirement = requirement
                    .strip_prefix("npm:")
                    .unwrap_or(&requirement)
                    .to_owned();
                let value = self.pinned(&name, requirement);
                if !values.contains(&value) {
                    values.push(value);
                }
            }
        }
        values
    }
}

/// A manifest without the lists of what it depends on and of scripts.
fn without_lists(mut manifest: Json) -> Json {
    for key in [
        "dependencies",
        "devDependencies",
        "peerDependencies",
        "scripts",
    ] {
        manifest[key] = Json::Null;
    }
    manifest
}

/// Whether a file is read by a command of such words: settings of a tool count for commands that
/// name the tool.
fn is_read_by(file: &str, words: &BTreeSet<String>) -> bool {
    match name_of(file).strip_prefix('.') {
        Some(hidden) => {
            let tool = hidden.split('.').next().unwrap_or(hidden);
            words.contains(tool.trim_end_matches("rc"))
        }
        None => {
            let tool = name_of(file).split_once(".config.").map(|(tool, _)| tool);
            (CODE.contains(&ext_of(file)) || ext_of(file) == "json")
                && tool.is_none_or(|tool| words.contains(tool))
        }
    }
}

/// The programs that a package is taken to have: those that are called like it.
fn programs_like(package: &str) -> Vec<String> {
    let name = name_of(package);
    let short = name.trim_end_matches("-cli").trim_end_matches(".js");
    match package {
        "typescript" => vec!["tsc".to_owned()],
        _ => vec![name.to_owned(), short.to_owned()],
    }
}

/// The programs that a command starts, as they are written.
fn programs_of(command: &str) -> impl Iterator<Item = &str> {
    let parts = command.split(['&', '|', ';', '(', ')']);
    parts.filter_map(|part| part.split_whitespace().find(|word| !word.contains('=')))
}

/// A client of the registry, or of the repository, in a command: it works on the whole folder and
/// asks other machines, which no step can let it.
fn outside_tool(command: &str) -> Option<&'static str> {
    let firsts: Vec<&str> = programs_of(command).collect();
    RUNNERS
        .into_iter()
        .chain(["git"])
        .find(|tool| firsts.contains(tool))
}

/// The folder that all files are in, from a package's folder on.
fn top_folder(files: &BTreeSet<String>, folder: &str) -> String {
    let inside: BTreeSet<&str> = files.iter().map(|file| below(file, folder)).collect();
    let src: BTreeSet<&str> = inside
        .iter()
        .copied()
        .filter(|file| file.starts_with("src/"))
        .collect();
    if !src.is_empty() {
        "src".to_owned()
    } else {
        folder_of(inside.first().copied().unwrap_or("")).to_owned()
    }
}
