//! Definitions from a build that was watched: the programs that ran, with their words, and what
//! each read and wrote.
//!
//! What compilers, linkers and archivers did becomes libraries and programs of the kits; a file
//! that another program made becomes a step with its command. Nothing is run here, and nothing read
//! but the tree and what the watched build left.

mod compilers;
mod configured;
mod database;
mod dataflow;
mod generators;
mod java;
mod targets;

use std::collections::{BTreeMap, BTreeSet};

use crate::tree::joined;

pub use configured::defines_of;
pub use database::CompilationDatabase;
pub use targets::{LearnedBuild, LearnedTarget, learn};

/// A build that was watched.
#[derive(Clone, Default, Debug)]
pub struct SeenBuild {
    /// The absolute path of the folder in which it ran: a copy.
    pub root: String,
    /// The command, as somebody gave it.
    pub command: String,
    /// The programs that ran, in the order in which they were started. The first one is the
    /// command's shell.
    pub programs: Vec<SeenProgram>,
    /// Files that are there when all is over, and were not there before or are others, from the
    /// folder.
    pub made: BTreeSet<String>,
    /// Which of them are links, and where each one leads, from the folder.
    pub links: BTreeMap<String, String>,
    /// Names that headers of a configuration get with the values that they had, since what was
    /// asked of the machine gave others.
    pub as_seen: BTreeSet<String>,
    /// The texts of those that are short enough for a definition.
    pub texts: BTreeMap<String, String>,
}

impl SeenBuild {
    /// The words of a program. Where a word names a file of more words, these take its place.
    fn words(&self, program: &SeenProgram) -> Vec<String> {
        let mut all = Vec::new();
        for word in &program.words {
            let listed = word.strip_prefix('@').and_then(|name| {
                let path = self.path(program.folder.as_deref()?, name)?;
                shlex::split(self.texts.get(&path)?)
            });
            match listed {
                Some(more) => all.extend(more),
                None => all.push(word.clone()),
            }
        }
        all
    }

    /// The file behind a link, or behind several.
    fn behind(&self, path: &str) -> Option<&str> {
        let next = |path: &&String| self.links.get(*path);
        let first = self.links.get(path)?;
        // A link may lead back to itself.
        std::iter::successors(Some(first), next)
            .take(self.links.len())
            .last()
            .map(String::as_str)
    }

    /// The path, from the folder, of what a word names for who runs in a folder of it; nothing for
    /// what lies elsewhere.
    fn path(&self, folder: &str, word: &str) -> Option<String> {
        match word.strip_prefix('/') {
            Some(_) => {
                let inside = word.strip_prefix(self.root.as_str())?;
                let inside = if inside.is_empty() {
                    inside
                } else {
                    inside.strip_prefix('/')?
                };
                joined("", inside)
            }
            None => joined(folder, word),
        }
    }
}

/// A program that ran. Paths are from the folder.
#[derive(Clone, Default, Debug)]
pub struct SeenProgram {
    /// Which one started it, by its place.
    pub started_by: Option<usize>,
    /// Its own file, where that is below the folder.
    pub file: Option<String>,
    /// All its words.
    pub words: Vec<String>,
    /// Where it ran, where that is the folder or below it.
    pub folder: Option<String>,
    /// Files that it read.
    pub reads: BTreeSet<String>,
    /// Folders that it looked through.
    pub lists: BTreeSet<String>,
    /// Files that it made or changed.
    pub writes: BTreeSet<String>,
    /// What it renamed: from where, and to where.
    pub renamed: Vec<(String, String)>,
    /// The file that its output went to.
    pub stdout: Option<String>,
    /// The file that its input came from.
    pub stdin: Option<String>,
    /// The pipe that its input came from, by the name that the kernel gave it.
    pub pipe_in: Option<String>,
    /// The pipe that its output went to.
    pub pipe_out: Option<String>,
}
