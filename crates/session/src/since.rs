//! What changed since a revision of git, and which steps that can affect.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use nubrik_graph::{Closure, FileId, Graph};
use nubrik_lang::TARGETS_FILE;
use nubrik_source::WsPath;

/// Files of a workspace that differ from a revision, uncommitted ones included.
pub struct ChangedFiles {
    files: BTreeSet<String>,
    /// Folders of definition files and of data that definitions read.
    packages: BTreeSet<WsPath>,
    /// A file that decides about everything, such as a kit.
    everything: Option<String>,
}

impl ChangedFiles {
    /// Asks git. `read` says whether evaluation took something from a file.
    ///
    /// # Errors
    /// What git says where it cannot tell, such as that there is no such revision.
    pub fn since(root: &Path, revision: &str, read: impl Fn(&str) -> bool) -> Result<ChangedFiles, String> {
        let mut files = ask(root, &["diff", "--name-only", "--relative", "-z", revision, "--", "."])?;
        files.extend(ask(root, &["ls-files", "--others", "--exclude-standard", "-z", "--", "."])?);
        let mut packages = BTreeSet::new();
        let mut everything = None;
        for file in &files {
            let path = WsPath::from_normal(file);
            let folder = path.parent().unwrap_or_else(WsPath::root);
            if path.name() == TARGETS_FILE {
                packages.insert(folder);
            } else if file.ends_with(".nub") || path.name() == crate::SETTINGS_FILE || read(file) {
                everything.get_or_insert_with(|| file.clone());
            } else if !root.join(file).exists() {
                // What a glob found before is nowhere in the graph: its package may have used it.
                packages.extend(std::iter::successors(Some(folder), WsPath::parent));
            }
        }
        Ok(ChangedFiles { files, packages, everything })
    }

    /// How many files changed.
    pub fn count(&self) -> usize {
        self.files.len()
    }

    /// What among the changes can affect how a file is made; `None` where nothing can.
    pub fn affects(&self, graph: &Graph, file: FileId) -> Option<String> {
        if let Some(file) = &self.everything {
            return Some(file.clone());
        }
        for step in Closure::of(graph, [file]).steps {
            let node = graph.step(step);
            let mut inputs = node.inputs.iter().chain(&node.candidates).map(|f| graph.file(*f).path.as_str());
            // Folders count with all that is in them.
            if let Some(input) = inputs.find(|path| self.files.contains(*path)) {
                return Some(input.to_owned());
            }
            let package = &graph.owner(step).package;
            if self.packages.contains(package) {
                return Some(package.child(TARGETS_FILE).to_string());
            }
        }
        None
    }
}

fn ask(root: &Path, words: &[&str]) -> Result<BTreeSet<String>, String> {
    let output = Command::new("git").arg("-C").arg(root).args(words).output();
    let output = output.map_err(|e| format!("cannot start git: {e}"))?;
    if !output.status.success() {
        let said = String::from_utf8_lossy(&output.stderr);
        return Err(said.lines().next().unwrap_or("git failed").trim_start_matches("fatal: ").to_owned());
    }
    let text = String::from_utf8_lossy(&output.stdout);
    Ok(text.split('\0').filter(|name| !name.is_empty()).map(str::to_owned).collect())
}
