//! What a package's archive says of its licence.

use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;

use flate2::read::GzDecoder;
use serde_json::Value;

use crate::Unreadable;

/// The most that a manifest may hold, in bytes.
const LIMIT: u64 = 4 << 20;

/// The licence that the manifest in an archive names.
pub(crate) fn licence_in(path: &Path) -> Result<Option<String>, Unreadable> {
    let wrong = |e: std::io::Error| Unreadable::Form(format!("it is not a package: {e}"));
    let file = File::open(path).map_err(wrong)?;
    let mut archive = tar::Archive::new(GzDecoder::new(BufReader::new(file)));
    for entry in archive.entries().map_err(wrong)? {
        let entry = entry.map_err(wrong)?;
        let path = entry.path().map_err(wrong)?.to_string_lossy().into_owned();
        if path
            .split_once('/')
            .is_some_and(|(_, rest)| rest == "package.json")
        {
            let mut bytes = Vec::new();
            entry.take(LIMIT).read_to_end(&mut bytes).map_err(wrong)?;
            let no_json = |e| Unreadable::Form(format!("its package.json: {e}"));
            let value: Value = serde_json::from_slice(&bytes).map_err(no_json)?;
            let licence = value
                .get("license")
                .or_else(|| value.get("licenses").and_then(|all| all.get(0)));
            let named =
                licence.and_then(|l| l.as_str().or_else(|| l.get("type").and_then(Value::as_str)));
            return Ok(named.map(str::to_owned));
        }
    }
    Err(Unreadable::form(
        "it is not a package: it has no package.json",
    ))
}
