//! What changed since a revision of git, and which steps that can affect.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use nubrik_graph::{Closure, FileId, Graph, Role, Target};
use nubrik_lang::TARGETS_FILE;
use nubrik_source::WsPath;

/// Files of a workspace that differ from a revision, uncommitted ones included.
pub struct ChangedFiles {
    files: BTreeSet<String>,
    /// Folders of definition files and of data that definitions read.
    packages: BTreeSet<WsPath>,
    /// Whether a file is among them that decides about everything, such as a kit.
    everything: bool,
}

impl ChangedFiles {
    /// Asks git. `read` says whether evaluation took something from a file.
    ///
    /// # Errors
    /// What git says where it cannot tell, such as that there is no such revision.
    pub fn since(root: &Path, revision: &str, read: impl Fn(&str) -> bool) -> Result<ChangedFiles, String> {
        if revision.starts_with('-') {
            return Err("no revision begins with `-`".to_owned());
        }
        // Outside of a repository `git diff` compares any two files, and says something else.
        ask(root, &["rev-parse", "--git-dir"])?;
        let mut files = ask(root, &["diff", "--name-only", "--relative", "-z", revision, "--", "."])?;
        files.extend(ask(root, &["ls-files", "--others", "--exclude-standard", "-z", "--", "."])?);
        // What is kept in there is nobody's source, though somebody may have committed it.
        files.retain(|file| !file.starts_with(".nubrik/"));
        let mut packages = BTreeSet::new();
        let mut everything = false;
        for file in &files {
            let path = WsPath::from_normal(file);
            let folder = path.parent().unwrap_or_else(WsPath::root);
            if path.name() == TARGETS_FILE {
                packages.insert(folder);
            } else if file.ends_with(".nub") || path.name() == crate::SETTINGS_FILE || read(file) {
                everything = true;
            } else if !root.join(file).exists() {
                // What a glob found before is nowhere in the graph: its package may have used it.
                packages.extend(std::iter::successors(Some(folder), WsPath::parent));
            }
        }
        Ok(ChangedFiles { files, packages, everything })
    }

    /// Which steps the changes can affect, by their numbers: those that read a changed file or whose definitions
    /// changed, and all that need what such a step makes.
    pub fn steps_reached(&self, graph: &Graph) -> Vec<bool> {
        let mut reached = vec![self.everything; graph.steps.len()];
        if self.everything {
            return reached;
        }
        let all = (0..graph.files.len() as u32).map(FileId);
        for step in Closure::of(graph, all).steps {
            let node = graph.step(step);
            let mut inputs = node.inputs.iter().chain(&node.candidates);
            reached[step.0 as usize] = self.packages.contains(&graph.owner(step).package)
                // Folders count with all that is in them.
                || inputs.any(|file| self.files.contains(graph.file(*file).path.as_str()))
                || graph.needs(step).iter().any(|need| reached[need.0 as usize]);
        }
        reached
    }

    /// Which targets the changes can affect, by their numbers: what they make, or their definitions. What jobs and
    /// services use is known only when they are asked for, so that any change may reach them.
    pub fn targets_reached(&self, graph: &Graph) -> Vec<bool> {
        let steps = self.steps_reached(graph);
        let by_definition = |target: &Target| {
            let is_unknown = matches!(target.role, Role::Job | Role::Service) && !self.files.is_empty();
            self.everything || is_unknown || self.packages.contains(&target.package)
        };
        let mut reached: Vec<bool> = graph.targets.iter().map(by_definition).collect();
        for (step, _) in graph.steps.iter().zip(&steps).filter(|(_, is_reached)| **is_reached) {
            reached[step.target.0 as usize] = true;
        }
        // A result may be what another one's step makes.
        for (number, target) in graph.targets.iter().enumerate() {
            let mut makers = target.results.iter().filter_map(|result| graph.file(result.file).maker);
            reached[number] |= makers.any(|maker| steps[maker.0 as usize]);
        }
        reached
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
