//! The rule inside each crate: files use one another in one direction. The circles that there are
//! have their reasons in `ARCHITECTURE.md`.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;

/// The circles that `ARCHITECTURE.md` gives reasons for: a crate, and modules of it.
const KNOWN: [(&str, &[&str]); 4] = [
    (
        "lang",
        &[
            "eval::forms::check",
            "eval::natives",
            "eval::services",
            "eval::steps",
            "eval::words",
        ],
    ),
    ("lang", &["builtins", "eval", "hir", "types", "value"]),
    (
        "machine",
        &[
            "asking",
            "boxes",
            "machine",
            "places",
            "residents",
            "roots",
            "services",
            "tool_parts",
            "tools",
        ],
    ),
    (
        "syntax",
        &[
            "grammar::collections",
            "grammar::commands",
            "grammar::declarations",
            "grammar::expressions",
            "grammar::texts",
            "grammar::types",
        ],
    ),
];

/// The sources of a crate by their modules' names.
fn modules(src: &Path) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    let mut open = vec![src.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                open.push(path);
                continue;
            }
            let name = path
                .strip_prefix(src)
                .unwrap()
                .with_extension("")
                .display()
                .to_string();
            let name = name.trim_end_matches("/mod").replace('/', "::");
            let text = fs::read_to_string(&path).unwrap();
            let text = text.split("#[cfg(test)]").next().unwrap_or_default();
            let lines = text
                .lines()
                .map(|line| line.split("//").next().unwrap_or_default());
            let name = if name == "lib" || name == "main" {
                String::new()
            } else {
                name
            };
            found.insert(name, lines.collect::<Vec<_>>().join("\n"));
        }
    }
    found
}

/// Paths in a tree such as `a::{b, c::{d, e}}`.
fn spread(before: &str, tree: &str, paths: &mut Vec<String>) {
    let Some((head, rest)) = tree.split_once('{') else {
        paths.push(format!("{before}{}", tree.trim()));
        return;
    };
    let inner = rest.rsplit_once('}').map_or(rest, |(inner, _)| inner);
    let (mut depth, mut start) = (0, 0);
    for (at, c) in inner.char_indices().chain([(inner.len(), ',')]) {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                let part = inner[start..at].trim();
                if !part.is_empty() {
                    spread(&format!("{before}{}", head.trim()), part, paths);
                }
                start = at + 1;
            }
            _ => {}
        }
    }
}

/// The modules that a module's text names.
fn named(module: &str, text: &str, modules: &BTreeMap<String, String>) -> BTreeSet<String> {
    let mut paths = Vec::new();
    let is_of_name = |c: char| c.is_alphanumeric() || "_:".contains(c);
    for start in ["crate::", "super::", "self::"] {
        for (at, _) in text.match_indices(start) {
            if text[..at].ends_with(is_of_name) {
                continue;
            }
            let path = &text[at..];
            let end = path.find(|c: char| !is_of_name(c)).unwrap_or(path.len());
            match path[end..].starts_with('{') {
                true => spread(
                    "",
                    &path[..path.find(';').unwrap_or(path.len())],
                    &mut paths,
                ),
                false => paths.push(path[..end].to_owned()),
            }
        }
    }
    let own: Vec<&str> = if module.is_empty() {
        Vec::new()
    } else {
        module.split("::").collect()
    };
    let mut found = BTreeSet::new();
    for path in paths {
        let mut parts: Vec<&str> = path.split("::").collect();
        let mut from = if parts[0] == "crate" {
            Vec::new()
        } else {
            own.clone()
        };
        if parts[0] != "super" {
            parts.remove(0);
        }
        while parts.first() == Some(&"super") {
            from.pop();
            parts.remove(0);
        }
        from.extend(parts);
        let is_module = |count: &usize| modules.contains_key(&from[..*count].join("::"));
        if let Some(count) = (1..=from.len()).rev().find(is_module) {
            found.insert(from[..count].join("::"));
        }
    }
    found.remove(module);
    found
}

/// All that can be reached from a module.
fn reached<'a>(from: &'a str, uses: &'a BTreeMap<String, BTreeSet<String>>) -> BTreeSet<&'a str> {
    let mut found = BTreeSet::new();
    let mut open = vec![from];
    while let Some(at) = open.pop() {
        for next in &uses[at] {
            if found.insert(next.as_str()) {
                open.push(next);
            }
        }
    }
    found
}

#[test]
fn files_go_in_no_circle_without_a_reason() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut circles: BTreeSet<(String, Vec<String>)> = BTreeSet::new();
    for entry in fs::read_dir(crates)
        .unwrap()
        .flatten()
        .filter(|entry| entry.path().is_dir())
    {
        let modules = modules(&entry.path().join("src"));
        let uses: BTreeMap<String, BTreeSet<String>> = modules
            .iter()
            .map(|(name, text)| (name.clone(), named(name, text, &modules)))
            .collect();
        let all: BTreeMap<&str, BTreeSet<&str>> = uses
            .keys()
            .map(|name| (name.as_str(), reached(name, &uses)))
            .collect();
        for (name, reached) in all.iter().filter(|(name, reached)| reached.contains(*name)) {
            let circle = reached.iter().filter(|other| all[*other].contains(name));
            let circle = circle.map(|other| (*other).to_owned()).collect();
            circles.insert((entry.file_name().to_string_lossy().into_owned(), circle));
        }
    }
    let known = KNOWN.iter().map(|(name, circle)| {
        (
            (*name).to_owned(),
            circle.iter().map(|module| (*module).to_owned()).collect(),
        )
    });
    assert_eq!(
        circles,
        known.collect(),
        "untie it, or give a reason in ARCHITECTURE.md and here"
    );
}
