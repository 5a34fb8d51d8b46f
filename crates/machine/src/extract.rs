//! Looking in files for what regular expressions find: what sources say of one another.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, OnceLock};

use nubrik_disk::read_file;
use nubrik_engine::WorkProblem;
use nubrik_lang::write_json_text;
use parking_lot::Mutex;
use regex::{Regex, RegexBuilder};

/// The largest file that is searched, in bytes.
const LIMIT: u64 = 16 << 20;

/// The most of what was found that is kept, in bytes.
const FOUND_LIMIT: usize = 4 << 20;

/// What patterns find in a file, as JSON: an object with a list for each, which holds the first
/// group of each match, or else all of it, each text once. `^` and `$` are the ends of lines.
pub(crate) fn extract(
    file: &Path,
    patterns: &[(Arc<str>, Arc<str>)],
) -> Result<String, WorkProblem> {
    let bytes = read_file(file, LIMIT).map_err(|e| WorkProblem::Input(e.to_string()))?;
    let text = String::from_utf8_lossy(&bytes);
    let mut json = String::from("{");
    for (i, (name, pattern)) in patterns.iter().enumerate() {
        let pattern = prepared(pattern)?;
        json.push_str(if i > 0 { "," } else { "" });
        write_json_text(name, &mut json);
        json.push_str(":[");
        let mut seen = std::collections::HashSet::new();
        for found in pattern.captures_iter(&text) {
            let group = found.iter().skip(1).flatten().next().or(found.get(0));
            let Some(group) = group
                .map(|group| group.as_str())
                .filter(|group| seen.insert(*group))
            else {
                continue;
            };
            json.push_str(if seen.len() > 1 { "," } else { "" });
            write_json_text(group, &mut json);
            if json.len() > FOUND_LIMIT {
                let what = format!("`{name}` finds more than {} MiB", FOUND_LIMIT >> 20);
                return Err(WorkProblem::Input(what));
            }
        }
        json.push(']');
    }
    json.push('}');
    Ok(json)
}

/// A regular expression; each is prepared once for all files.
fn prepared(pattern: &Arc<str>) -> Result<Regex, WorkProblem> {
    static PREPARED: OnceLock<Mutex<HashMap<Arc<str>, Regex>>> = OnceLock::new();
    let all = PREPARED.get_or_init(Mutex::default);
    if let Some(known) = all.lock().get(pattern) {
        return Ok(known.clone());
    }
    let made = RegexBuilder::new(pattern).multi_line(true).build();
    let made = made.map_err(|e| WorkProblem::Input(e.to_string()))?;
    all.lock().insert(pattern.clone(), made.clone());
    Ok(made)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_found_is_listed_once_in_order() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("fit.f90");
        std::fs::write(
            &file,
            b"use harmonics\n  use tides, only: t\n! \"use\" \xff\nuse harmonics\n",
        )
        .unwrap();
        let patterns = [
            ("uses", r"^\s*use\s+(\w+)"),
            ("all", r#""\w+""#),
            ("none", "depth|(x)y"),
        ];
        let patterns = patterns.map(|(name, pattern)| (name.into(), pattern.into()));
        let found = extract(&file, &patterns).unwrap();
        assert_eq!(
            found,
            r#"{"uses":["harmonics","tides"],"all":["\"use\""],"none":[]}"#
        );
        assert!(extract(&folder.path().join("gone"), &patterns).is_err());
        assert!(extract(&file, &[("x".into(), "(".into())]).is_err());
    }
}
