//! What `tsconfig.json` tells the compiler of TypeScript, as words for its command line.

use serde_json::{Map, Value};

use crate::tree::{SourceTree, folder_of, joined};

/// Options that the kit sets itself, or that say where things are, which is another place in a
/// step.
const NOT_PASSED: [&str; 27] = [
    "allowJs",
    "baseUrl",
    "checkJs",
    "composite",
    "declaration",
    "declarationDir",
    "declarationMap",
    "emitDeclarationOnly",
    "incremental",
    "inlineSourceMap",
    "inlineSources",
    "mapRoot",
    "newLine",
    "noEmit",
    "outDir",
    "outFile",
    "paths",
    "plugins",
    "pretty",
    "rootDir",
    "rootDirs",
    "skipLibCheck",
    "sourceMap",
    "sourceRoot",
    "tsBuildInfoFile",
    "typeRoots",
    "types",
];

/// What is said of a folder with sources.
#[derive(Default, Debug)]
pub(super) struct TypeScriptSettings {
    /// Words for the compiler.
    pub flags: Vec<String>,
    /// The folder in which sources are, from the manifest's folder on, if one is named.
    pub root: Option<String>,
    /// The folder for results, in the same way.
    pub results: Option<String>,
    /// What could not be followed.
    pub problems: Vec<String>,
}

impl TypeScriptSettings {
    /// The settings of a folder; `None` where there are none.
    pub fn read(tree: &SourceTree, folder: &str) -> Option<TypeScriptSettings> {
        let path = joined(folder, "tsconfig.json").filter(|path| tree.has(path))?;
        let mut settings = TypeScriptSettings::default();
        let options = settings.options(tree, &path, 0);
        let text = |name: &str| options.get(name).and_then(Value::as_str);
        settings.root = text("rootDir").map(plain);
        settings.results = text("outDir").map(plain);
        for (name, value) in &options {
            if NOT_PASSED.contains(&name.as_str()) {
                continue;
            }
            let word = match value {
                Value::Bool(is) => is.to_string(),
                Value::String(text) => text.clone(),
                Value::Number(number) => number.to_string(),
                Value::Array(items) => items
                    .iter()
                    .filter_map(Value::as_str)
                    .collect::<Vec<_>>()
                    .join(","),
                Value::Null | Value::Object(_) => continue,
            };
            settings.flags.push(format!("--{name}"));
            // A switch that is on needs no word.
            if word != "true" {
                settings.flags.push(word);
            }
        }
        Some(settings)
    }

    fn options(&mut self, tree: &SourceTree, path: &str, depth: usize) -> Map<String, Value> {
        let Some(value) = tree.text(path).and_then(|text| lenient(&text)) else {
            self.problems.push(format!("{path} cannot be understood"));
            return Map::new();
        };
        let mut options = Map::new();
        let above = match &value["extends"] {
            Value::String(one) => vec![one.clone()],
            Value::Array(many) => many
                .iter()
                .filter_map(Value::as_str)
                .map(str::to_owned)
                .collect(),
            _ => Vec::new(),
        };
        for name in above {
            let place = joined(folder_of(path), &name).filter(|_| name.starts_with('.'));
            let places = place
                .into_iter()
                .flat_map(|place| [place.clone(), format!("{place}.json")]);
            match places.into_iter().find(|place| tree.has(place)) {
                Some(place) if depth < 8 => options.extend(self.options(tree, &place, depth + 1)),
                _ => self
                    .problems
                    .push(format!("{path} goes on in {name}, which is not here")),
            }
        }
        if let Some(own) = value["compilerOptions"].as_object() {
            options.extend(own.clone());
        }
        options
    }
}

fn plain(path: &str) -> String {
    path.trim_start_matches("./")
        .trim_end_matches('/')
        .to_owned()
}

/// JSON with comments and commas at ends.
pub(super) fn lenient(text: &str) -> Option<Value> {
    jsonc_parser::parse_to_serde_value::<Value>(text, &jsonc_parser::ParseOptions::default()).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_come_from_all_files_that_one_goes_on_in() {
        let tree = SourceTree::of(&[
            (
                "p/tsconfig.json",
                "{ // ours\n \"extends\": \"../base\", \"compilerOptions\": { \"outDir\": \"./lib/\", \"lib\": [\"es2022\", \"dom\"], }, }",
            ),
            (
                "base.json",
                "{ \"extends\": \"@harbour/settings\", \"compilerOptions\": { \"strict\": true, \"noImplicitAny\": false, \"target\": \"es2020\" } }",
            ),
        ]);
        let settings = TypeScriptSettings::read(&tree, "p").expect("settings");
        assert_eq!(
            settings.flags.join(" "),
            "--lib es2022,dom --noImplicitAny false --strict --target es2020"
        );
        assert_eq!(settings.results.as_deref(), Some("lib"));
        assert_eq!(
            settings.problems,
            ["base.json goes on in @harbour/settings, which is not here"]
        );
    }
}
