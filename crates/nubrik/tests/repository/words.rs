//! One word for one thing: words that were retired appear in nothing that a person sees.

use std::fs;
use std::path::{Path, PathBuf};

use regex::Regex;

/// Retired words, as expressions, each with the word of today.
const RETIRED: [(&str, &str); 24] = [
    (r"\b(the|a|its|and) box\b", "sandbox"),
    (
        r"\brooms\b|\b(in|of|a|the) room\b[^.]{0,20}\bstep",
        "sandbox",
    ),
    (r"team's store|store (for|of) a team", "shared cache"),
    (r"\bkept results?\b", "cache"),
    (r"\bthe store\b", "the cache, or the shared cache"),
    (r"\bunsteady\b|\bunreliable\b", "flaky"),
    (
        r"[Oo]ther people's|somebody else",
        "third-party, someone else",
    ),
    (r"\b(is|are|be) held against\b", "compared with"),
    (r"\blongest chain\b", "critical path"),
    (
        r"\bwho (writes|works|has work|asks)\b",
        "writer, worker, client",
    ),
    (r"\bnobody works\b", "no worker"),
    (r"\blines? of builds\b", "channel"),
    (r"\buntold\b", "not covered"),
    (r"\bmends?\b", "fix, or try"),
    (r"\bwork spared\b|\bspared_", "saved"),
    (r"\bresident program", "persistent worker"),
    (
        r"nubrik (pin|unpin|share|align|bill|how|serve-editor|trace|worker|completions|manual)\b",
        "its new name: usage.rs",
    ),
    (
        r"--(external|gather|features|bare|no-shared|require-shared|unused|line)\b[^-]",
        "its new name: usage.rs",
    ),
    (
        r"NUBRIK_(ROOMS|SHARED_LINE|SHARED_ROOT\b)",
        "NUBRIK_SANDBOX, …_CHANNEL, …_ROOT_KEY",
    ),
    (
        r"\b(has_header|has_function|has_symbol|size_of|prefix_header|line_counter|whole_program)\b",
        "kits/c.nub",
    ),
    (r"\b(c|fortran)\.dependency\b", "linked"),
    (r"\bdocuments\.(bound|manual)\b", "merged, man_page"),
    (r"\brust\.optimise\b", "rust.tuning"),
    (
        r"\btarget's address\b|\baddress of a target\b",
        "target path",
    ),
];

/// Words that are still needed: a place, and a part of its line.
const NEEDED: [(&str, &str); 10] = [
    // Names of before are answered with those of today.
    ("crates/nubrik/src/usage.rs", "\""),
    ("crates/lang/src/renamed.rs", "\""),
    ("crates/answers/src/topics/guesses.rs", "\""),
    ("crates/workspace/src/settings/shared.rs", "RENAMED"),
    // Languages and libraries have these names.
    ("crates/survey/", "\""),
    ("crates/lang/src/data.rs", "has_headers"),
    ("crates/workspace/src/settings/", "{mend}"),
    ("kits/go.nub", "line_counter"),
    ("crates/editor/", "{mend}"),
    ("crates/lang/src/eval/", "{mend}"),
];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("../..")
        .canonicalize()
        .unwrap()
}

fn files_below(folder: &Path, ending: &str, into: &mut Vec<PathBuf>) {
    // Beside the crates lies what their definitions have in common.
    for entry in fs::read_dir(folder).into_iter().flatten() {
        let path = entry.unwrap().path();
        if path.is_dir() && !path.ends_with("target") {
            files_below(&path, ending, into);
        } else if path.extension().is_some_and(|found| found == ending) {
            into.push(path);
        }
    }
}

/// The texts between quotes of a line of a source, or all of it where it is documentation that the
/// command line shows.
fn shown(line: &str, is_help: bool, quoted: &Regex) -> Vec<String> {
    let start = line.trim_start();
    if start.starts_with("///") && is_help {
        return vec![line.to_owned()];
    }
    if start.starts_with("//") {
        return Vec::new();
    }
    quoted
        .captures_iter(line)
        .map(|found| found[1].to_owned())
        .collect()
}

/// All texts that a person can see, each with its file and line.
fn texts() -> Vec<(String, usize, String)> {
    let root = root();
    let quoted = Regex::new(r#""((?:[^"\\]|\\.)*)""#).unwrap();
    let mut all = Vec::new();
    let mut pages = vec![root.join("README.md"), root.join("editors/README.md")];
    files_below(&root.join("docs"), "md", &mut pages);
    files_below(&root.join("kits"), "nub", &mut pages);
    files_below(&root.join("demo"), "nub", &mut pages);
    let mut sources = Vec::new();
    for entry in fs::read_dir(root.join("crates")).unwrap() {
        files_below(&entry.unwrap().path().join("src"), "rs", &mut sources);
    }
    for path in pages.into_iter().chain(sources) {
        let name = path.strip_prefix(&root).unwrap().display().to_string();
        let text = fs::read_to_string(&path).unwrap();
        let product = text.split("#[cfg(test)]").next().unwrap();
        let is_source = name.ends_with(".rs");
        let is_help = name.starts_with("crates/nubrik/src/arguments");
        let mut after = product.lines().skip(1);
        for (number, line) in product.lines().enumerate() {
            // A text of a page may go on in the next line.
            let next = after.next().unwrap_or_default();
            let page = || vec![format!("{line} {}", next.trim_start())];
            let shown = if is_source {
                shown(line, is_help, &quoted)
            } else {
                page()
            };
            all.extend(
                shown
                    .into_iter()
                    .map(|text| (name.clone(), number + 1, text)),
            );
        }
    }
    all
}

#[test]
fn retired_words_are_shown_nowhere() {
    let mut found = Vec::new();
    let texts = texts();
    assert!(texts.len() > 10_000, "{} texts", texts.len());
    for (retired, now) in RETIRED {
        let expression = Regex::new(retired).unwrap();
        for (file, line, text) in texts
            .iter()
            .filter(|(_, _, text)| expression.is_match(text))
        {
            let whole = format!("\"{text}\"");
            let is_needed =
                |(place, part): &(&str, &str)| file.starts_with(place) && whole.contains(part);
            if !NEEDED.iter().any(is_needed) {
                found.push(format!("{file}:{line}: {text}\n    now: {now}"));
            }
        }
    }
    assert!(
        found.is_empty(),
        "{} places\n{}",
        found.len(),
        found.join("\n")
    );
}
