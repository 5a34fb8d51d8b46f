//! What a crate's archive says of how it is compiled.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;

use flate2::read::GzDecoder;
use toml::Value;

use crate::Unreadable;

/// The most that a manifest may hold, in bytes.
const LIMIT: u64 = 4 << 20;

/// What a kit has to know of a crate, and its licence.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Manifest {
    pub facts: BTreeMap<String, String>,
    pub licence: Option<String>,
}

impl Manifest {
    /// Reads the manifest in an archive.
    pub(crate) fn in_archive(
        path: &Path,
        name: &str,
        version: &str,
    ) -> Result<Manifest, Unreadable> {
        let mut archive = tar::Archive::new(GzDecoder::new(BufReader::new(File::open(path)?)));
        let (mut text, mut has_script) = (None, false);
        let wrong = |e: std::io::Error| Unreadable::Form(format!("it is not a crate: {e}"));
        let no_text = |_| Unreadable::form("its manifest is not text");
        for entry in archive.entries().map_err(wrong)? {
            let entry = entry.map_err(wrong)?;
            let path = entry.path().map_err(wrong)?.to_string_lossy().into_owned();
            match path.strip_prefix(&format!("{name}-{version}/")) {
                Some("Cargo.toml") => {
                    let mut bytes = Vec::new();
                    entry.take(LIMIT).read_to_end(&mut bytes).map_err(wrong)?;
                    text = Some(String::from_utf8(bytes).map_err(no_text)?);
                }
                Some("build.rs") => has_script = true,
                _ => {}
            }
        }
        let none = || Unreadable::form("it is not a crate: it has no manifest");
        Manifest::read(&text.ok_or_else(none)?, has_script)
    }

    fn read(text: &str, has_script: bool) -> Result<Manifest, Unreadable> {
        let wrong = |e: toml::de::Error| Unreadable::Form(format!("its manifest: {}", e.message()));
        let value: Value = toml::from_str(text).map_err(wrong)?;
        let at = |keys: &[&str]| keys.iter().try_fold(&value, |at, key| at.get(key));
        let text = |keys: &[&str]| at(keys).and_then(Value::as_str).map(str::to_owned);
        let is_on = |keys: &[&str]| at(keys).and_then(Value::as_bool).unwrap_or(false);
        let mut facts = BTreeMap::new();
        facts.insert(
            "edition".to_owned(),
            text(&["package", "edition"]).unwrap_or_else(|| "2015".to_owned()),
        );
        facts.insert(
            "root".to_owned(),
            text(&["lib", "path"]).unwrap_or_else(|| "src/lib.rs".to_owned()),
        );
        facts.extend(text(&["lib", "name"]).map(|name| ("library".to_owned(), name)));
        if is_on(&["lib", "proc-macro"]) || is_on(&["lib", "proc_macro"]) {
            facts.insert("macros".to_owned(), "true".to_owned());
        }
        let script = match at(&["package", "build"]) {
            Some(Value::String(path)) => Some(path.clone()),
            Some(Value::Boolean(false)) => None,
            _ => has_script.then(|| "build.rs".to_owned()),
        };
        facts.extend(script.map(|path| ("build_script".to_owned(), path)));
        facts.extend(text(&["package", "links"]).map(|links| ("links".to_owned(), links)));
        Ok(Manifest {
            facts,
            licence: text(&["package", "license"]),
        })
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn what_is_not_said_is_the_usual() {
        let facts = |text: &str, has_script: bool| {
            let manifest = Manifest::read(text, has_script).unwrap();
            manifest
                .facts
                .iter()
                .map(|(k, v)| format!("{k}={v}"))
                .collect::<Vec<_>>()
                .join(" ")
        };
        assert_eq!(
            facts("[package]\nname = 'tides'", false),
            "edition=2015 root=src/lib.rs"
        );
        assert_eq!(
            facts(
                "[package]\nedition = '2021'\n[lib]\nproc-macro = true\nname = 'ebb'\npath = 'lib.rs'",
                true
            ),
            "build_script=build.rs edition=2021 library=ebb macros=true root=lib.rs"
        );
        assert_eq!(
            facts("[package]\nbuild = false", true),
            "edition=2015 root=src/lib.rs"
        );
        assert!(Manifest::read("[package", false).is_err());
    }
}
