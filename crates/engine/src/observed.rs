//! Inputs of steps whose commands list nothing: of what they may read, that which they were seen to
//! read, to list and to look for.
//!
//! What counts of a path is what a step finds there, by its declarations: a file with its content,
//! a folder, or nothing.
//! Of a folder that was listed its names count.

use std::collections::BTreeSet;
use std::sync::Arc;

use nubrik_bytes::{Digest, Encoder};
use nubrik_graph::{FileId, StepId};
use nubrik_source::{FilePath, WsPath};
use nubrik_store::{FoundInput, OutputRecord, TreeKind};

use crate::build::Build;
use crate::event::Failure;
use crate::files::Began;
use crate::seen::{Seen, Touch};

/// What a step finds at a path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Present {
    Nothing,
    Folder,
    File,
}

impl Present {
    /// What represents it among inputs.
    pub(crate) fn digest(self) -> Digest {
        Digest::of(match self {
            Present::Nothing => b"nothing",
            Present::Folder => b"folder",
            Present::File => b"file",
        })
    }
}

/// The part of some sorted paths that lies below a folder; all of it for the root.
fn below<'p>(paths: &'p [Arc<str>], folder: &str) -> &'p [Arc<str>] {
    if folder.is_empty() {
        return paths;
    }
    let from = paths.partition_point(|path| **path < *format!("{folder}/"));
    // The character after `/` ends it.
    let to = paths.partition_point(|path| **path < *format!("{folder}0"));
    &paths[from..to.max(from)]
}

/// What some sorted paths have at a path.
fn found_at(paths: &[Arc<str>], path: &str) -> Present {
    match paths.binary_search_by(|p| (**p).cmp(path)) {
        Ok(_) => Present::File,
        Err(_) if !below(paths, path).is_empty() => Present::Folder,
        Err(_) => Present::Nothing,
    }
}

/// Adds the names directly in a folder, each with whether it is a folder, too. What is in these is
/// passed over at once.
fn add_names(paths: &[Arc<str>], folder: &str, names: &mut BTreeSet<(String, bool)>) {
    let mut rest = below(paths, folder);
    let start = if folder.is_empty() {
        0
    } else {
        folder.len() + 1
    };
    while let Some(first) = rest.first() {
        let inside = &first[start..];
        match inside.split_once('/') {
            None => {
                names.insert((inside.to_owned(), false));
                rest = &rest[1..];
            }
            Some((name, _)) => {
                names.insert((name.to_owned(), true));
                let whole = format!("{}{name}0", &first[..start]);
                rest = &rest[rest.partition_point(|path| **path < *whole)..];
            }
        }
    }
}

impl Build<'_> {
    /// Empty folders in made folders among some files, by their paths, sorted.
    pub(crate) fn empty_folders(&self, files: &[FileId]) -> Vec<Arc<str>> {
        let mut empty = Vec::new();
        for file in files.iter().filter(|file| self.graph.file(**file).folder) {
            let Some((memory, at)) = self.entries_of(*file) else {
                continue;
            };
            let OutputRecord::Folder(entries) = &memory.outputs[at] else {
                continue;
            };
            let path = &self.graph.file(*file).path;
            let folders = entries
                .iter()
                .filter(|entry| entry.kind == TreeKind::EmptyFolder);
            empty.extend(folders.map(|entry| Arc::from(format!("{path}/{}", entry.path))));
        }
        empty.sort();
        empty
    }

    /// What certain inputs of a step are called: of made folders what is in them.
    fn certain_paths(&self, id: StepId) -> Vec<Arc<str>> {
        let mut paths = Vec::new();
        for file in &self.graph.step(id).inputs {
            let node = self.graph.file(*file);
            match self.entries_of(*file).filter(|_| node.folder) {
                None => paths.push(node.path.shared().clone()),
                Some((memory, at)) => {
                    let OutputRecord::Folder(entries) = &memory.outputs[at] else {
                        continue;
                    };
                    paths.extend(
                        entries
                            .iter()
                            .map(|e| Arc::from(format!("{}/{}", node.path, e.path))),
                    );
                }
            }
        }
        paths.sort();
        paths
    }

    /// What a step finds at a path, by what it declares.
    pub(crate) fn presence(&self, id: StepId, path: &str) -> Present {
        if path.is_empty() {
            return Present::Folder;
        }
        let mut found = found_at(&self.certain_paths(id), path);
        for set in &self.graph.step(id).candidates {
            let set = self.candidates(*set);
            let here = match found_at(&set.paths, path) {
                Present::Nothing if found_at(&set.empty, path) != Present::Nothing => {
                    Present::Folder
                }
                here => here,
            };
            found = match (found, here) {
                (Present::File, _) | (_, Present::File) => Present::File,
                (Present::Folder, _) | (_, Present::Folder) => Present::Folder,
                _ => Present::Nothing,
            };
        }
        found
    }

    /// The digest of the names that a step finds in a folder.
    pub(crate) fn names_in(&self, id: StepId, folder: &str) -> Digest {
        let mut names = BTreeSet::new();
        add_names(&self.certain_paths(id), folder, &mut names);
        for set in &self.graph.step(id).candidates {
            let set = self.candidates(*set);
            add_names(&set.paths, folder, &mut names);
            let mut empty = BTreeSet::new();
            add_names(&set.empty, folder, &mut empty);
            names.extend(empty.into_iter().map(|(name, _)| (name, true)));
        }
        let mut out = Encoder::new();
        let names: Vec<(String, bool)> = names.into_iter().collect();
        out.list(&names, |out, (name, is_folder)| {
            out.text(name);
            out.bool(*is_folder);
        });
        Digest::of(&out.bytes)
    }

    /// The inputs that a step's commands were seen to use; everything that they may read, if they
    /// were not seen.
    pub(crate) fn observed_inputs(
        &self,
        id: StepId,
        seen: Option<&Seen>,
        began: Began,
    ) -> Result<Vec<FoundInput>, Failure> {
        let step = self.graph.step(id);
        let (files, asked) = self.seen_files(id, seen);
        let is_certain = |path: &str| {
            let file = self.known.files_by_path.get(path);
            file.is_some_and(|file| step.inputs.holds(file))
                || self
                    .folder_around(path)
                    .is_some_and(|(folder, _)| step.inputs.holds(&folder))
        };
        let mut found = Vec::with_capacity(files.len() + asked.len());
        for path in files.iter().filter(|path| !is_certain(path)) {
            let file = FilePath::from_text(path.clone());
            if self.folder_around(path).is_none() {
                self.must_be_unmoved(&file, Some(began))?;
                for (link, text) in self
                    .outside
                    .links_to(&WsPath::from_normal_text(path.clone()))
                {
                    let digest = Digest::of(text.as_bytes());
                    found.push(FoundInput {
                        path: FilePath::of_link(&link).shared().clone(),
                        digest,
                    });
                }
            }
            if let Some(digest) = self.listed_content(id, &file) {
                found.push(FoundInput {
                    path: path.clone(),
                    digest,
                });
            }
        }
        for path in asked {
            if let Some(digest) = self.listed_content(id, &path) {
                found.push(FoundInput {
                    path: path.shared().clone(),
                    digest,
                });
            }
        }
        found.sort_by(|a, b| a.path.cmp(&b.path));
        found.dedup_by(|a, b| a.path == b.path);
        Ok(found)
    }

    /// The files that a step's commands were seen to use, and paths of which it counts whether they are
    /// there; all that they may read, if they were not seen.
    fn seen_files(&self, id: StepId, seen: Option<&Seen>) -> (BTreeSet<Arc<str>>, Vec<FilePath>) {
        let step = self.graph.step(id);
        let mut files: BTreeSet<Arc<str>> = BTreeSet::new();
        let mut asked: Vec<FilePath> = Vec::new();
        match seen {
            None => {
                for set in &step.candidates {
                    let set = self.candidates(*set);
                    files.extend(set.paths.iter().cloned());
                    asked.extend(set.empty.iter().map(|path| FilePath::of_presence(path)));
                }
            }
            Some(seen) => {
                self.add_seen(id, seen, &mut files, &mut asked);
                // Where links lead decides what is read by their names: it counts, read or not.
                for set in &step.candidates {
                    files.extend(self.linked(*set).iter().cloned());
                }
            }
        }
        (files, asked)
    }

    /// What commands were seen to read, and what they asked of paths, as little as says all of it.
    fn add_seen(
        &self,
        id: StepId,
        seen: &Seen,
        files: &mut BTreeSet<Arc<str>>,
        asked: &mut Vec<FilePath>,
    ) {
        let step = self.graph.step(id);
        let mut listed: BTreeSet<String> = BTreeSet::new();
        let mut looked_for: BTreeSet<String> = BTreeSet::new();
        for touched in &seen.touched {
            let Some(path) = touched.path.in_workspace() else {
                continue;
            };
            if path.is_in(&step.folder) {
                continue;
            }
            // A folder around the step's own is there in any case; what is in it besides counts.
            if step.folder.is_in(&path) && !path.is_root() {
                if touched.touch == Touch::Read {
                    listed.insert(path.as_str().to_owned());
                }
                continue;
            }
            let path = if path.is_root() { "" } else { path.as_str() };
            match self.presence(id, path) {
                Present::File => {
                    files.insert(path.into());
                    if touched.touch == Touch::Started {
                        files.extend(self.interpreters_of(id, path));
                    }
                }
                Present::Folder if touched.touch == Touch::Read => {
                    listed.insert(path.to_owned());
                }
                Present::Folder => drop(looked_for.insert(path.to_owned())),
                // Nothing is there while the nearest folder around is not.
                Present::Nothing => drop(looked_for.insert(self.first_missing(id, path))),
            }
        }
        asked.extend(listed.iter().map(|folder| FilePath::of_names(folder)));
        let is_told = |path: &String| {
            let above = path.rsplit_once('/').map_or("", |(above, _)| above);
            listed.contains(above)
        };
        asked.extend(
            looked_for
                .iter()
                .filter(|path| !is_told(path))
                .map(|path| FilePath::of_presence(path)),
        );
    }

    /// Files of a step that run a script of the workspace. The kernel opens them itself, where
    /// nothing is seen of it.
    fn interpreters_of(&self, id: StepId, script: &str) -> Vec<Arc<str>> {
        let found = self
            .outside
            .interpreters(&FilePath::from(&WsPath::from_normal(script)));
        let found = found.iter().filter_map(FilePath::in_workspace);
        let is_file = |path: &WsPath| self.presence(id, path.as_str()) == Present::File;
        found
            .filter(is_file)
            .map(|path| path.shared().clone())
            .collect()
    }

    /// The shortest part of a path at which a step finds nothing.
    fn first_missing(&self, id: StepId, path: &str) -> String {
        let ends = path.match_indices('/').map(|(end, _)| end);
        let missing = ends
            .into_iter()
            .find(|end| self.presence(id, &path[..*end]) == Present::Nothing);
        missing.map_or(path, |end| &path[..end]).to_owned()
    }

    /// Paths of a set that links lead to, or that are links in made folders; looked for once.
    fn linked(&self, set: nubrik_graph::SetId) -> &[Arc<str>] {
        let candidates = self.candidates(set);
        candidates.linked.get_or_init(|| {
            let mut linked = Vec::new();
            for file in self.graph.sets.files(set) {
                let node = self.graph.file(*file);
                match self.entries_of(*file).filter(|_| node.folder) {
                    Some((memory, at)) => {
                        let OutputRecord::Folder(entries) = &memory.outputs[at] else {
                            continue;
                        };
                        let links = entries
                            .iter()
                            .filter(|e| matches!(e.kind, TreeKind::Link { .. }));
                        linked
                            .extend(links.map(|e| Arc::from(format!("{}/{}", node.path, e.path))));
                    }
                    None if node.maker.is_none()
                        && !self.outside.links_to(&node.path).is_empty() =>
                    {
                        linked.push(node.path.shared().clone());
                    }
                    None => {}
                }
            }
            linked
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn paths() -> Vec<Arc<str>> {
        let mut paths = [
            "a",
            "pkg/a.py",
            "pkg/sub/b.py",
            "pkg/sub/c.py",
            "pkg-other/x",
            "z/y",
        ]
        .map(Arc::from);
        paths.sort_unstable();
        paths.to_vec()
    }

    #[test]
    fn paths_say_what_is_where() {
        let paths = paths();
        for (path, present) in [
            ("a", Present::File),
            ("pkg", Present::Folder),
            ("pkg/sub", Present::Folder),
            ("pkg/sub/b.py", Present::File),
            ("pkg/su", Present::Nothing),
            ("pk", Present::Nothing),
            ("zz", Present::Nothing),
        ] {
            assert_eq!(found_at(&paths, path), present, "{path}");
        }
    }

    #[test]
    fn names_are_those_directly_in_a_folder() {
        let names = |folder: &str| {
            let mut names = BTreeSet::new();
            add_names(&paths(), folder, &mut names);
            names
                .into_iter()
                .map(|(name, is_folder)| format!("{name}{}", if is_folder { "/" } else { "" }))
                .collect::<Vec<_>>()
                .join(" ")
        };
        assert_eq!(names(""), "a pkg/ pkg-other/ z/");
        assert_eq!(names("pkg"), "a.py sub/");
        assert_eq!(names("pkg/sub"), "b.py c.py");
        assert_eq!(names("gone"), "");
    }
}
