//! What a wheel says of itself: the headers of its `METADATA`.

use std::io::Read;
use std::path::Path;

use pep440_rs::{Version, VersionSpecifiers};
use pep508_rs::{Requirement, VerbatimUrl};

use crate::Unreadable;

/// The most that a `METADATA` may hold, in bytes.
const LIMIT: u64 = 16 << 20;

/// What a version of a distribution needs.
#[derive(Clone, Debug, Default)]
pub(crate) struct Metadata {
    /// What it says that it is: a name and a version, where it says that.
    pub name: Option<String>,
    pub version: Option<String>,
    pub requires: Vec<Requirement<VerbatimUrl>>,
    pub python: Option<VersionSpecifiers>,
    pub extras: Vec<String>,
    pub licence: Option<String>,
}

impl Metadata {
    /// Reads it.
    pub(crate) fn read(text: &str) -> Result<Metadata, Unreadable> {
        let mut metadata = Metadata::default();
        let (mut classified, mut written) = (None, None);
        // Longer values go on in lines that begin with a space.
        for line in text.lines().take_while(|line| !line.is_empty()) {
            let Some((name, value)) = line.split_once(':') else {
                continue;
            };
            let value = value.trim();
            match name.to_ascii_lowercase().as_str() {
                "name" => metadata.name = Some(super::normal_name(value)),
                "version" => metadata.version = Some(value.to_owned()),
                "requires-dist" => {
                    let wrong = |e| Unreadable::Form(format!("it needs `{value}`: {e}"));
                    metadata.requires.push(value.parse().map_err(wrong)?);
                }
                "requires-python" => {
                    let wrong = |e| Unreadable::Form(format!("`{value}`: {e}"));
                    metadata.python = Some(value.parse().map_err(wrong)?);
                }
                "provides-extra" => metadata.extras.push(super::normal_name(value)),
                "license-expression" => metadata.licence = Some(value.to_owned()),
                // Some put the whole text there.
                "license" if value.len() <= 60 && !value.is_empty() && value != "UNKNOWN" => {
                    written = Some(value.to_owned());
                }
                "classifier" => {
                    let licence = value.strip_prefix("License :: ");
                    classified = licence
                        .and_then(|l| l.rsplit(" :: ").next())
                        .map(str::to_owned)
                        .or(classified);
                }
                _ => {}
            }
        }
        metadata.licence = metadata.licence.or(written).or(classified);
        Ok(metadata)
    }

    /// The same, of what a registry calls by a name and a version: one that says that it is
    /// something else is refused.
    pub(crate) fn read_of(
        text: &str,
        name: &str,
        version: &Version,
    ) -> Result<Metadata, Unreadable> {
        let metadata = Metadata::read(text)?;
        let is_other = |own: &String| *own != super::normal_name(name);
        if let Some(own) = metadata.name.as_ref().filter(|own| is_other(own)) {
            return Err(Unreadable::Another(format!("`{own}`")));
        }
        let is_same = |own: &str| own.parse::<Version>().is_ok_and(|own| own == *version);
        match metadata.version.as_ref().filter(|own| !is_same(own)) {
            Some(own) => Err(Unreadable::Another(format!("version {own}"))),
            None => Ok(metadata),
        }
    }

    /// The text of a wheel's `METADATA`.
    pub(crate) fn in_wheel(path: &Path) -> Result<String, Unreadable> {
        let wrong = |e| Unreadable::Form(format!("it is not a wheel: {e}"));
        let mut archive = zip::ZipArchive::new(std::fs::File::open(path)?).map_err(wrong)?;
        let is_it = |name: &str| {
            name.split_once('/')
                .is_some_and(|(top, rest)| top.ends_with(".dist-info") && rest == "METADATA")
        };
        let name = archive
            .file_names()
            .flatten()
            .find(|name| is_it(name))
            .map(|name| name.into_owned());
        let name = name.ok_or_else(|| Unreadable::form("it is not a wheel: it has no METADATA"))?;
        let entry = archive.by_name(&name).map_err(wrong)?;
        let mut bytes = Vec::new();
        entry.take(LIMIT).read_to_end(&mut bytes)?;
        Ok(String::from_utf8_lossy(&bytes).into_owned())
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn headers_are_read_up_to_the_description() {
        let text = "Metadata-Version: 2.1\nName: tides\nRequires-Python: >=3.8\nLicense: MIT\n\
            Classifier: License :: OSI Approved :: BSD License\nProvides-Extra: Moon_Phase\n\
            Requires-Dist: ebb (>=1) ; extra == 'moon-phase'\n\nRequires-Dist: not one\n";
        let metadata = Metadata::read(text).unwrap();
        assert_eq!(metadata.requires.len(), 1);
        assert_eq!(metadata.extras, ["moon-phase"]);
        assert_eq!(metadata.licence.as_deref(), Some("MIT"));
        assert!(Metadata::read("Requires-Dist: ???").is_err());
        let of = |name: &str, version: &str| {
            Metadata::read_of(
                "Name: Tide_Lib\nVersion: 1.0\n",
                name,
                &version.parse().unwrap(),
            )
            .err()
        };
        assert_eq!(
            (of("tide-lib", "1.0"), of("tide-lib", "1.0.0")),
            (None, None)
        );
        assert_eq!(
            of("moon", "1.0").unwrap().to_string(),
            "it says that it is `tide-lib`"
        );
        assert_eq!(
            of("tide-lib", "99.0").unwrap().to_string(),
            "it says that it is version 1.0"
        );
    }
}
