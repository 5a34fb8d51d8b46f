//! Scripts in manifests: what each one is for, by the usual meaning of its name, and what it runs.

use std::collections::BTreeMap;

/// Clients of the registry by which scripts call other scripts.
pub(super) const RUNNERS: [&str; 5] = ["npm", "yarn", "pnpm", "npx", "bun"];

/// What a script is for.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum ScriptPurpose {
    /// It makes files.
    Make,
    /// It passes or fails.
    Check,
    /// It is done when somebody wants it, or goes on until it is stopped.
    Job,
    /// Its name says nothing: trying shows whether it ends, and whether it makes files.
    Unknown,
    /// Nothing of it is needed here; why.
    Nothing(&'static str),
}

/// First words of names of scripts that installers and publishers run.
const OF_INSTALLERS: [&str; 10] = [
    "preinstall",
    "install",
    "postinstall",
    "prepare",
    "prepublish",
    "prepublishOnly",
    "prepack",
    "postpack",
    "dependencies",
    "preuninstall",
];

/// First words of names of scripts that change something outside.
const OUTSIDE: [&str; 7] = [
    "release",
    "publish",
    "deploy",
    "version",
    "preversion",
    "postversion",
    "bump",
];

/// Words in names of scripts that go on until they are stopped, or change sources.
const JOBS: [&str; 12] = [
    "watch",
    "dev",
    "start",
    "serve",
    "server",
    "preview",
    "open",
    "debug",
    "storybook",
    "fix",
    "write",
    "update",
];

/// First words of names of scripts that check something.
const CHECKS: [&str; 20] = [
    "test",
    "tests",
    "lint",
    "check",
    "spec",
    "unit",
    "typecheck",
    "types",
    "tsc",
    "verify",
    "validate",
    "e2e",
    "tsd",
    "coverage",
    "cover",
    "xo",
    "standard",
    "eslint",
    "format",
    "size",
];

/// First words of names of scripts that make files.
const MAKERS: [&str; 12] = [
    "build",
    "compile",
    "bundle",
    "dist",
    "generate",
    "codegen",
    "transpile",
    "docs",
    "doc",
    "typedoc",
    "make",
    "minify",
];

/// What a script is for, by its name; `None` where that says nothing.
pub(super) fn purpose_of(name: &str) -> Option<ScriptPurpose> {
    let parts: Vec<&str> = name.split([':', '-', '.', '_']).collect();
    let has = |words: &[&str]| parts.iter().any(|part| words.contains(part));
    let begins = |words: &[&str]| parts.first().is_some_and(|part| words.contains(part));
    if begins(&OF_INSTALLERS) {
        return Some(ScriptPurpose::Nothing(
            "it is for installers and publishers",
        ));
    }
    if begins(&OUTSIDE) {
        return Some(ScriptPurpose::Nothing(
            "it changes things outside of this folder",
        ));
    }
    if begins(&["clean", "clear", "reset"]) {
        return Some(ScriptPurpose::Nothing(
            "it removes results, and nothing made here lies among the sources",
        ));
    }
    if has(&JOBS) || begins(&["format", "fmt", "prettier"]) && !has(&["check"]) {
        return Some(ScriptPurpose::Job);
    }
    if begins(&CHECKS) {
        return Some(ScriptPurpose::Check);
    }
    begins(&MAKERS).then_some(ScriptPurpose::Make)
}

/// The command of a script, with those that it calls by the names of other scripts put in their
/// places, and with what runs before and after it. `None` where it calls one that is not there, or
/// itself.
pub(super) fn whole_command(scripts: &BTreeMap<String, String>, name: &str) -> Option<String> {
    expanded(scripts, name, &mut Vec::new())
}

fn expanded<'s>(
    scripts: &'s BTreeMap<String, String>,
    name: &'s str,
    around: &mut Vec<&'s str>,
) -> Option<String> {
    if around.contains(&name) {
        return None;
    }
    let command = scripts.get(name)?;
    around.push(name);
    let mut whole = Some(Vec::new());
    for other in before_and_after(scripts, name) {
        let (text, key) = match other.is_empty() {
            true => (Some(command), name),
            false => match scripts.get_key_value(&other) {
                Some((key, text)) => (Some(text), key.as_str()),
                None => (None, name),
            },
        };
        let Some(text) = text else { continue };
        let own = with_calls(scripts, text, key, around);
        whole = whole.zip(own).map(|(mut parts, own)| {
            parts.push(own);
            parts
        });
    }
    around.pop();
    whole.map(|parts| parts.join(" && "))
}

/// What runs before and after a script, by name; empty for the script itself. Of a check only what
/// makes something before it counts: all others are checks themselves, or reports.
fn before_and_after(scripts: &BTreeMap<String, String>, name: &str) -> Vec<String> {
    let (before, after) = (format!("pre{name}"), format!("post{name}"));
    if purpose_of(name) != Some(ScriptPurpose::Check) {
        return vec![before, String::new(), after];
    }
    let words = [
        "build", "compile", "tsc", "babel", "bundle", "generate", "roll", "pack",
    ];
    let makes = scripts
        .get(&before)
        .is_some_and(|command| words.iter().any(|word| command.contains(word)));
    if makes {
        vec![before, String::new()]
    } else {
        vec![String::new()]
    }
}

/// A command with calls of other scripts put in their places.
fn with_calls<'s>(
    scripts: &'s BTreeMap<String, String>,
    command: &str,
    _name: &'s str,
    around: &mut Vec<&'s str>,
) -> Option<String> {
    let mut parts = Vec::new();
    let mut rest = command;
    loop {
        let end = rest.find("&&").or_else(|| rest.find(';'));
        let (part, mark) = match end {
            Some(end) if rest[end..].starts_with("&&") => (&rest[..end], "&&"),
            Some(end) => (&rest[..end], ";"),
            None => (rest, ""),
        };
        parts.push(one_command(scripts, part.trim(), around)?);
        let Some(end) = end else { break };
        parts.push(mark.to_owned());
        rest = &rest[end + mark.len()..];
    }
    Some(parts.join(" ").replace(" ;", ";"))
}

fn one_command<'s>(
    scripts: &'s BTreeMap<String, String>,
    command: &str,
    around: &mut Vec<&'s str>,
) -> Option<String> {
    let words: Vec<&str> = command.split_whitespace().collect();
    let runner = words.first().copied().unwrap_or_default();
    if !RUNNERS.contains(&runner) {
        return Some(command.to_owned());
    }
    if runner == "npx" {
        let words = words
            .iter()
            .skip(1)
            .skip_while(|word| word.starts_with('-'));
        return Some(words.copied().collect::<Vec<_>>().join(" "));
    }
    let mut words = words
        .into_iter()
        .skip(1)
        .filter(|word| !matches!(*word, "-s" | "--silent" | "-q"));
    let mut called = words.next()?;
    if matches!(called, "run" | "run-script" | "exec") {
        called = words.next()?;
    }
    if called == "t" {
        called = "test";
    }
    let more: Vec<&str> = words.filter(|word| *word != "--").collect();
    let (key, _) = scripts.get_key_value(called)?;
    let whole = expanded(scripts, key, around)?;
    Some(
        match (more.is_empty(), whole.contains("&&") || whole.contains(';')) {
            (true, false) => whole,
            (true, true) => format!("( {whole} )"),
            (false, _) => format!("{whole} {}", more.join(" ")),
        },
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_say_what_scripts_are_for() {
        for name in [
            "test",
            "test:unit",
            "lint",
            "check-types",
            "typecheck",
            "format:check",
        ] {
            assert_eq!(purpose_of(name), Some(ScriptPurpose::Check), "{name}");
        }
        for name in ["build", "build:esm", "compile", "docs"] {
            assert_eq!(purpose_of(name), Some(ScriptPurpose::Make), "{name}");
        }
        for name in [
            "dev",
            "start",
            "build:watch",
            "lint:fix",
            "format",
            "test:watch",
        ] {
            assert_eq!(purpose_of(name), Some(ScriptPurpose::Job), "{name}");
        }
        for name in ["prepare", "clean", "release", "postinstall"] {
            assert!(
                matches!(purpose_of(name), Some(ScriptPurpose::Nothing(_))),
                "{name}"
            );
        }
        assert_eq!(purpose_of("tide"), None);
    }

    #[test]
    fn scripts_that_call_others_become_one_command() {
        let rows = [
            ("build", "npm run clean && tsc -p ."),
            ("clean", "rm -rf dist"),
            ("pretest", "npm run build"),
            ("test", "node --test"),
            ("cover", "npm test -- --coverage"),
            ("all", "yarn lint; npx --yes tide"),
            ("round", "npm run round"),
            ("lint", "check ."),
        ];
        let scripts = rows
            .into_iter()
            .map(|(name, text)| (name.to_owned(), text.to_owned()))
            .collect();
        let whole = |name: &str| whole_command(&scripts, name);
        assert_eq!(whole("build").as_deref(), Some("rm -rf dist && tsc -p ."));
        assert_eq!(
            whole("test").as_deref(),
            Some("( rm -rf dist && tsc -p . ) && node --test")
        );
        assert_eq!(
            whole("cover").as_deref(),
            Some("( rm -rf dist && tsc -p . ) && node --test --coverage")
        );
        assert_eq!(whole("all").as_deref(), Some("check .; tide"));
        assert_eq!((whole("round"), whole("none")), (None, None));
    }
}
