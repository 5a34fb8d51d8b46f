//! Python's distributions: wheels from a simple index.

mod index;
mod metadata;
mod nodes;
mod resolve;
mod tags;

pub(crate) use index::locate;
pub(crate) use index::newest;
pub(crate) use resolve::resolve;
pub use tags::Interpreter;

use std::str::FromStr;

use pep440_rs::{Version, VersionSpecifiers};

use crate::PinProblem;

/// A name as indexes have it (PEP 503): in small letters, with one `-` for each run of `-`, `_` and
/// `.`.
pub fn normal_name(name: &str) -> String {
    let mut out = String::new();
    for c in name.chars() {
        match c {
            '-' | '_' | '.' if out.ends_with('-') => {}
            '-' | '_' | '.' => out.push('-'),
            c => out.push(c.to_ascii_lowercase()),
        }
    }
    out
}

/// A requirement of the command line or of `pins.toml`.
pub(crate) fn specifiers_of(
    name: &str,
    requirement: &str,
) -> Result<VersionSpecifiers, PinProblem> {
    if requirement.trim().is_empty() {
        return Ok(VersionSpecifiers::empty());
    }
    // A bare version is what people write for exactly this one.
    if Version::from_str(requirement.trim()).is_ok() {
        let problem = PinProblem::new(format!(
            "`{requirement}` does not say how `{name}` compares with it"
        ));
        return Err(problem
            .mend(format!("\"=={requirement}\""))
            .mend(format!("\">={requirement}\"")));
    }
    requirement
        .parse()
        .map_err(|e: pep440_rs::VersionSpecifiersParseError| {
            let why = e.to_string();
            let why = why.lines().next().unwrap_or_default().trim_end_matches(':');
            let why = why.rsplit(": ").next().unwrap_or_default().to_lowercase();
            let problem = PinProblem::new(format!(
                "`{requirement}` is no requirement of versions of `{name}`"
            ));
            problem.note(why).mend("\">=8,<9\"").mend("\"~=8.1\"")
        })
}
