//! Digests of Go's modules, as `go.sum` has them: of the files in an archive, not of its bytes.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::path::Path;

use nubrik_archive::digest_of_listing;
use nubrik_disk::read_file;
use nubrik_web::{Checksum, ChecksumMethod};

use super::versions::ModuleVersion;
use crate::{PinProblem, Unreadable};

/// The name of the file with digests beside a `go.mod`.
const SUMS_FILE: &str = "go.sum";

/// The most that one may hold, in bytes.
const LIMIT: u64 = 64 << 20;

/// Digests that the workspace already trusts: `h1:…`, by module and version, and by those with
/// `/go.mod` behind them. Files of several modules may speak of the same one.
#[derive(Debug, Default)]
pub(crate) struct KnownSums(BTreeMap<String, BTreeSet<String>>);

impl KnownSums {
    /// Those of all `go.sum` beside a `go.mod` in a workspace, but for what is made or only
    /// represents something in tests.
    ///
    /// # Errors
    /// When one cannot be read: what it says would not be compared with anything.
    pub(crate) fn below(root: &Path) -> Result<KnownSums, PinProblem> {
        let mut sums = KnownSums::default();
        let mut open = vec![root.to_owned()];
        while let Some(folder) = open.pop() {
            let cannot = |e: io::Error| {
                PinProblem::new(format!(
                    "cannot look for {SUMS_FILE} in {}: {e}",
                    folder.display()
                ))
            };
            let entries = match fs::read_dir(&folder) {
                Ok(entries) => entries,
                // What a person may not read is no source of theirs, and what is gone is none any
                // more.
                Err(e)
                    if matches!(
                        e.kind(),
                        io::ErrorKind::PermissionDenied | io::ErrorKind::NotFound
                    ) =>
                {
                    continue;
                }
                Err(e) => return Err(cannot(e)),
            };
            let (mut has_manifest, mut has_sums) = (false, false);
            for entry in entries {
                let entry = entry.map_err(cannot)?;
                let name = entry.file_name();
                let name = name.to_string_lossy();
                has_manifest |= name == "go.mod";
                has_sums |= name == SUMS_FILE;
                let is_made = name == "out" && folder == root;
                let is_passed =
                    name.starts_with(['.', '_']) || matches!(&*name, "testdata" | "node_modules");
                if !is_made && !is_passed && entry.file_type().map_err(cannot)?.is_dir() {
                    open.push(entry.path());
                }
            }
            if has_manifest && has_sums {
                sums.add(&String::from_utf8_lossy(
                    &read_file(&folder.join(SUMS_FILE), LIMIT).map_err(cannot)?,
                ));
            }
        }
        Ok(sums)
    }

    fn add(&mut self, text: &str) {
        for line in text.lines() {
            if let [path, version, sum] = line.split_whitespace().collect::<Vec<_>>().as_slice() {
                self.0
                    .entry(format!("{path} {version}"))
                    .or_default()
                    .insert((*sum).to_owned());
            }
        }
    }

    /// A digest of a module's archive that is another one than was found.
    pub(crate) fn against_archive(&self, module: &ModuleVersion, found: &str) -> Option<&str> {
        self.against(&module.to_string(), found)
    }

    /// A digest of a module's `go.mod` that is another one than was found.
    pub(crate) fn against_manifest(&self, module: &ModuleVersion, found: &str) -> Option<&str> {
        self.against(&format!("{module}/go.mod"), found)
    }

    fn against(&self, key: &str, found: &str) -> Option<&str> {
        // Those of other functions are not computed here.
        let known = self
            .0
            .get(key)
            .into_iter()
            .flatten()
            .filter(|sum| sum.starts_with(METHOD));
        known.map(String::as_str).find(|sum| *sum != found)
    }
}

/// What digests of this kind begin with.
pub(crate) const METHOD: &str = "h1:";

/// The digest of files, of each its name and its own digest.
pub(crate) fn sum_of(files: Vec<(String, Checksum)>) -> Result<String, Unreadable> {
    let digits = |sum: Checksum| sum.written(false).replace("sha256:", "");
    let files = files
        .into_iter()
        .map(|(name, sum)| (name, digits(sum)))
        .collect();
    let digest = digest_of_listing(files).map_err(|e| Unreadable::form(e.to_string()))?;
    Ok(format!("{METHOD}{digest}"))
}

/// The digest of a `go.mod`.
pub(crate) fn manifest_sum(bytes: &[u8]) -> Result<String, Unreadable> {
    let mut sum = Checksum::new(ChecksumMethod::Sha256);
    sum.take(bytes);
    sum_of(vec![("go.mod".to_owned(), sum)])
}
