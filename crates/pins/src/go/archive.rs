//! What is in the archive of a module: its packages, what they import, and its digest.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::Read;
use std::path::Path;

use nubrik_web::{Checksum, ChecksumMethod};

use super::source::GoSource;
use super::sums::sum_of;
use super::versions::ModuleVersion;
use crate::Unreadable;

/// The most that the files of a module may hold together, in bytes: what the format allows.
const LIMIT: u64 = 500 << 20;

/// A module's archive.
#[derive(Debug, Default)]
pub(crate) struct ModuleArchive {
    /// What each package imports, whatever the system and the tags, by its folder below the module;
    /// empty for the top.
    pub packages: BTreeMap<String, BTreeSet<String>>,
    /// The digest of its files.
    pub sum: String,
}

impl ModuleArchive {
    /// Reads an archive. If the digest of its files is known, because its bytes are those of which
    /// it was computed, only sources are read.
    pub(crate) fn read(
        path: &Path,
        module: &ModuleVersion,
        sum: Option<String>,
    ) -> Result<ModuleArchive, Unreadable> {
        let wrong = |e: &dyn std::fmt::Display| {
            Unreadable::Form(format!("it is no archive of a module: {e}"))
        };
        let file = File::open(path)?;
        let mut zip = zip::ZipArchive::new(file).map_err(|e| wrong(&e))?;
        let prefix = format!("{}/", module.key());
        let (known, mut archive) = (sum, ModuleArchive::default());
        let (mut sums, mut left) = (Vec::new(), LIMIT);
        for n in 0..zip.len() {
            let mut entry = zip.by_index(n).map_err(|e| wrong(&e))?;
            let name = entry.name().map_err(|e| wrong(&e))?.into_owned();
            if name.ends_with('/') {
                continue;
            }
            let inside = name.strip_prefix(&prefix);
            let outside =
                || Unreadable::Form(format!("it holds `{name}`, which is not below `{prefix}`"));
            let inside = inside.ok_or_else(outside)?;
            let package = package_of(inside);
            if known.is_some() && package.is_none() {
                continue;
            }
            let (mut sum, mut source) = (Checksum::new(ChecksumMethod::Sha256), Vec::new());
            let mut buffer = [0; 1 << 16];
            loop {
                let count = entry.read(&mut buffer).map_err(|e| wrong(&e))?;
                let piece = &buffer[..count];
                if piece.is_empty() {
                    break;
                }
                let too_large = || Unreadable::form("its files hold more than 500 MiB");
                left = left.checked_sub(piece.len() as u64).ok_or_else(too_large)?;
                if known.is_none() {
                    sum.take(piece);
                }
                if package.is_some() {
                    source.extend_from_slice(piece);
                }
            }
            sums.push((name.clone(), sum));
            if let Some(package) = package {
                archive.add(package, &String::from_utf8_lossy(&source));
            }
        }
        archive.sum = match known {
            Some(known) => known,
            None => sum_of(sums)?,
        };
        Ok(archive)
    }

    fn add(&mut self, package: &str, text: &str) {
        let source = GoSource::read(text);
        // A package is there even if no source of it counts; only what is never compiled says
        // nothing of what it needs.
        let imports = self.packages.entry(package.to_owned()).or_default();
        let counts = |constraint: &super::BuildConstraint| {
            constraint.may_hold(&|tag| (tag == "ignore").then_some(false))
        };
        if source.constraint.as_ref().is_none_or(counts) {
            imports.extend(source.imports);
        }
    }
}

/// The package that a file is a source of, by its folder; `None` if it is none of a package that
/// can be imported.
fn package_of(path: &str) -> Option<&str> {
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    let is_source =
        name.ends_with(".go") && !name.ends_with("_test.go") && !name.starts_with(['_', '.']);
    let is_passed =
        |part: &str| part.starts_with(['_', '.']) || matches!(part, "testdata" | "vendor");
    (is_source && !folder.split('/').any(is_passed)).then_some(folder)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_that_cannot_be_imported_have_no_packages() {
        assert_eq!(package_of("tides.go"), Some(""));
        assert_eq!(package_of("internal/a/b.go"), Some("internal/a"));
        for none in [
            "a_test.go",
            "testdata/a.go",
            "x/vendor/y/a.go",
            "_old/a.go",
            ".git/a.go",
            "a.c",
            "_a.go",
        ] {
            assert_eq!(package_of(none), None, "{none}");
        }
    }
}
