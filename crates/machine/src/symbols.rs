//! The names that a library or program defines for others, as the machine's own tool lists them.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::search_path::on_persons_path;

/// What lists symbols; it is part of the tools that every C compiler needs.
const LISTER: &str = "nm";

/// The global names that a file defines; nothing where no tool lists them, or the file has none.
pub fn defined_symbols(file: &Path) -> Option<BTreeSet<String>> {
    let lister = on_persons_path(LISTER)?;
    let mut command = Command::new(lister);
    command
        .args(["-g", "--defined-only", "-f", "posix"])
        .arg(file)
        .stdin(Stdio::null())
        .stderr(Stdio::null());
    let listed = command.output().ok()?;
    let text = String::from_utf8_lossy(&listed.stdout);
    // Lines of archives that name a member end with a colon.
    let lines = text.lines().filter(|line| !line.trim_end().ends_with(':'));
    let names: BTreeSet<String> =
        lines.filter_map(|line| line.split_whitespace().next()).map(str::to_owned).collect();
    (listed.status.success() && !names.is_empty()).then_some(names)
}
