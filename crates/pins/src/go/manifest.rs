//! `go.mod`: what a module is called, for which language it is written, and what it needs.

use std::collections::BTreeMap;

use crate::Unreadable;

/// What a `go.mod` says.
///
/// ```
/// let manifest = nubrik_pins::GoManifest::read("module example.org/tides\n\ngo 1.21\n\nrequire example.org/moon v1.2.0\n")?;
/// assert_eq!((manifest.path.as_str(), manifest.language.as_deref()), ("example.org/tides", Some("1.21")));
/// assert_eq!(manifest.requires["example.org/moon"], "v1.2.0");
/// # Ok::<(), nubrik_pins::Unreadable>(())
/// ```
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct GoManifest {
    /// The path of the module.
    pub path: String,
    /// The version of the language, as compilers take it (`1.21` also where `1.21.3` is written);
    /// `None` if nothing says it.
    pub language: Option<String>,
    /// The least versions of other modules.
    pub requires: BTreeMap<String, String>,
    /// What replaces other modules where this one is the main one: a path, and for a module its
    /// version.
    pub replaced: BTreeMap<String, (String, Option<String>)>,
    /// Versions of this module that its author took back: from the first to the second.
    pub retracted: Vec<(String, String)>,
}

impl GoManifest {
    /// Reads it. Lines of kinds that are not known here are passed, as newer versions add some.
    ///
    /// # Errors
    /// When a line that counts cannot be read.
    pub fn read(text: &str) -> Result<GoManifest, Unreadable> {
        let mut manifest = GoManifest::default();
        let mut block: Option<String> = None;
        for (n, line) in text.lines().enumerate() {
            let wrong = |what: &str| Unreadable::Form(format!("go.mod, line {}: {what}", n + 1));
            let words = words(line).ok_or_else(|| wrong("a text has no end"))?;
            let Some(first) = words.first() else { continue };
            if first == ")" {
                block = None;
            } else if block.is_none() && words.get(1).is_some_and(|word| word == "(") {
                block = Some(first.clone());
            } else {
                let (kind, rest) = match &block {
                    Some(kind) => (kind.as_str(), words.as_slice()),
                    None => (first.as_str(), &words[1..]),
                };
                manifest
                    .take(kind, rest)
                    .map_err(|what| wrong(&what.to_string()))?;
            }
        }
        match manifest.path.is_empty() {
            true => Err(Unreadable::form("go.mod names no module")),
            false => Ok(manifest),
        }
    }

    fn take(&mut self, kind: &str, words: &[String]) -> Result<(), Unreadable> {
        match (kind, words) {
            ("module", [path]) => self.path.clone_from(path),
            ("go", [version]) => {
                let parts: Vec<&str> = version.split('.').collect();
                // A version of before a release counts as that: `1.21rc2`.
                let minor = parts
                    .get(1)
                    .map(|part| part.trim_end_matches(|c: char| !c.is_ascii_digit()));
                let minor = minor.map(|part| {
                    part.split(|c: char| !c.is_ascii_digit())
                        .next()
                        .unwrap_or(part)
                });
                self.language = Some(match minor {
                    Some(minor) => format!("{}.{minor}", parts[0]),
                    None => version.clone(),
                });
            }
            ("require", [path, version]) => {
                self.requires.insert(path.clone(), version.clone());
            }
            ("replace", words) => {
                let without = || Unreadable::form("a replacement without `=>`");
                let at = words
                    .iter()
                    .position(|word| word == "=>")
                    .ok_or_else(without)?;
                if let (Some(old), Some(new)) = (words[..at].first(), words.get(at + 1)) {
                    self.replaced
                        .insert(old.clone(), (new.clone(), words.get(at + 2).cloned()));
                }
            }
            ("retract", [version]) => self.retracted.push((version.clone(), version.clone())),
            ("retract", [open, low, comma, high, close])
                if (open.as_str(), comma.as_str(), close.as_str()) == ("[", ",", "]") =>
            {
                self.retracted.push((low.clone(), high.clone()));
            }
            ("module" | "go" | "require" | "retract", _) => {
                return Err(Unreadable::Form(format!(
                    "`{kind}` is not followed by what belongs there"
                )));
            }
            _ => {}
        }
        Ok(())
    }

    /// Whether what it needs indirectly is named in it, too: since Go 1.17.
    pub(crate) fn names_all(&self) -> bool {
        let numbers = self
            .language
            .as_deref()
            .and_then(|language| language.split_once('.'));
        let numbers = numbers.and_then(|(major, minor)| {
            Some((major.parse::<u32>().ok()?, minor.parse::<u32>().ok()?))
        });
        numbers.is_some_and(|numbers| numbers >= (1, 17))
    }
}

/// The words of a line; texts in quotes are one. `None` if a text has no end.
fn words(line: &str) -> Option<Vec<String>> {
    let mut words: Vec<String> = Vec::new();
    let mut rest = line.trim();
    while !rest.is_empty() && !rest.starts_with("//") {
        let next = match rest.chars().next() {
            Some(quote @ ('"' | '`')) => {
                let (word, next) = rest[1..].split_once(quote)?;
                words.push(word.to_owned());
                next
            }
            Some(sign @ ('(' | ')' | '[' | ']' | ',')) => {
                words.push(sign.to_string());
                &rest[1..]
            }
            _ => {
                let is_end =
                    |c: char| c.is_whitespace() || matches!(c, '(' | ')' | '[' | ']' | ',');
                let end = rest.find(is_end).unwrap_or(rest.len());
                words.push(rest[..end].to_owned());
                &rest[end..]
            }
        };
        rest = next.trim_start();
    }
    Some(words)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn all_that_counts_is_read() {
        let text = "module \"example.org/tides/v2\" // why\n\ngo 1.21.3\ntoolchain go1.22.1\n\nrequire (\n\texample.org/moon v1.2.0 // indirect\n\
            \texample.org/ebb v0.3.0+incompatible\n)\nrequire example.org/flow v1.0.0\nexclude example.org/flow v0.9.0\n\
            replace example.org/moon => ../moon\nreplace example.org/ebb v0.3.0 => example.org/neap v1.0.0\n\
            retract v2.0.1 // broken\nretract (\n\t[v2.1.0, v2.1.3]\n)\n";
        let manifest = GoManifest::read(text).unwrap();
        assert_eq!(
            (manifest.path.as_str(), manifest.language.as_deref()),
            ("example.org/tides/v2", Some("1.21"))
        );
        let requires: Vec<String> = manifest
            .requires
            .iter()
            .map(|(path, version)| format!("{path} {version}"))
            .collect();
        assert_eq!(
            requires,
            [
                "example.org/ebb v0.3.0+incompatible",
                "example.org/flow v1.0.0",
                "example.org/moon v1.2.0"
            ]
        );
        assert_eq!(
            manifest.replaced["example.org/moon"],
            ("../moon".to_owned(), None)
        );
        assert_eq!(
            manifest.replaced["example.org/ebb"],
            ("example.org/neap".to_owned(), Some("v1.0.0".to_owned()))
        );
        assert_eq!(
            manifest.retracted,
            [
                ("v2.0.1".to_owned(), "v2.0.1".to_owned()),
                ("v2.1.0".to_owned(), "v2.1.3".to_owned())
            ]
        );
        assert!(manifest.names_all());
    }

    #[test]
    fn what_cannot_be_read_is_told_with_its_line() {
        assert_eq!(
            GoManifest::read("go 1.16\n").unwrap_err().to_string(),
            "go.mod names no module"
        );
        assert_eq!(
            GoManifest::read("module \"a").unwrap_err().to_string(),
            "go.mod, line 1: a text has no end"
        );
        let problem = GoManifest::read("module a\nrequire (\nb\n)")
            .unwrap_err()
            .to_string();
        assert_eq!(
            problem,
            "go.mod, line 3: `require` is not followed by what belongs there"
        );
        assert_eq!(
            GoManifest::read("module a\nreplace b ../b")
                .unwrap_err()
                .to_string(),
            "go.mod, line 2: a replacement without `=>`"
        );
    }

    #[test]
    fn the_language_is_what_compilers_take() {
        let language = |text: &str| {
            GoManifest::read(&format!("module a\ngo {text}\n"))
                .unwrap()
                .language
                .unwrap()
        };
        assert_eq!(
            [
                language("1.16"),
                language("1.21.0"),
                language("1.22rc1"),
                language("2")
            ],
            ["1.16", "1.21", "1.22", "2"]
        );
        let old = GoManifest::read("module a\ngo 1.16\n").unwrap();
        assert!(!old.names_all() && !GoManifest::read("module a").unwrap().names_all());
    }
}
