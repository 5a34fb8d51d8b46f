//! The names that a library or program defines for others, as the machine's own tool lists them.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::search_path::on_persons_path;

/// What lists symbols; it is part of the tools that every C compiler needs.
const LISTER: &str = "nm";

/// The global names that a file defines; nothing where no tool lists them, or the file has none.
pub fn defined_symbols(file: &Path) -> Option<BTreeSet<String>> {
    listed(file, &["-g", "--defined-only", "-f", "posix"])
}

/// The names that the system's library of C gives to programs; nothing where no compiler or lister
/// says so.
pub fn system_functions() -> Option<BTreeSet<String>> {
    let compiler = on_persons_path("cc")?;
    let mut command = Command::new(compiler);
    command
        .arg("-print-file-name=libc.so.6")
        .stdin(Stdio::null())
        .stderr(Stdio::null());
    let said = command.output().ok()?;
    let library = String::from_utf8_lossy(&said.stdout).trim().to_owned();
    let names = listed(
        Path::new(&library),
        &["-D", "-g", "--defined-only", "-f", "posix"],
    )?;
    // Behind the name is the version of the library since which it is there.
    Some(
        names
            .iter()
            .map(|name| name.split('@').next().unwrap_or(name).to_owned())
            .collect(),
    )
}

/// What the lister says of a file.
fn listed(file: &Path, options: &[&str]) -> Option<BTreeSet<String>> {
    let lister = on_persons_path(LISTER)?;
    let mut command = Command::new(lister);
    command
        .args(options)
        .arg(file)
        .stdin(Stdio::null())
        .stderr(Stdio::null());
    let listed = command.output().ok()?;
    let text = String::from_utf8_lossy(&listed.stdout);
    // Lines of archives that name a member end with a colon.
    let lines = text.lines().filter(|line| !line.trim_end().ends_with(':'));
    let names: BTreeSet<String> = lines
        .filter_map(|line| line.split_whitespace().next())
        .map(str::to_owned)
        .collect();
    (listed.status.success() && !names.is_empty()).then_some(names)
}
