//! Files that a step may read and did not: whether one of them could have changed what it made.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use nubrik_bytes::{Digest, Encoder, Layout};
use nubrik_graph::{SetId, Step, StepId};
use nubrik_source::{FilePath, FilePlace};
use nubrik_store::{FoundInput, OutputRecord, TreeKind};

use crate::build::{Build, OnSystem};
use crate::candidates::{Candidates, FileNumbers, name_of};
use crate::event::Failure;
use crate::examine::paths_of;
use crate::files::Began;
use crate::key::candidate_names;
use crate::outside::FoundTool;
use crate::words::{Asked, asked_about};

/// The name by which a linker is asked for a library; `None` for other files.
fn library_name(path: &str) -> Option<&str> {
    let name = path
        .rsplit_once('/')
        .map_or(path, |(_, name)| name)
        .strip_prefix("lib")?;
    let name = name
        .strip_suffix(".a")
        .or_else(|| name.split_once(".so").map(|(name, _)| name))?;
    (!name.is_empty()).then_some(name)
}

/// All words of a step's commands, those in its lists, too.
fn words_of(step: &Step) -> Vec<&str> {
    let words = step
        .commands
        .iter()
        .flat_map(|p| &p.stages)
        .flat_map(|stage| &stage.words);
    let lines = step.lists.iter().flat_map(|list| list.text.lines());
    words.map(|word| &**word).chain(lines).collect()
}

/// Folders of the machine in which a linker looks for libraries, in their order: those that words
/// name, and those of the tools.
fn library_folders(words: &[&str], tools: &[FoundTool]) -> Vec<Arc<str>> {
    if tools.iter().all(|tool| tool.libraries.is_empty()) {
        return Vec::new();
    }
    let mut folders = Vec::new();
    for (at, word) in words.iter().enumerate() {
        let folder = match word.strip_prefix("-L") {
            Some("") => words.get(at + 1).copied(),
            folder => folder,
        };
        folders.extend(
            folder
                .filter(|folder| folder.starts_with('/'))
                .map(|f| Arc::from(f.trim_end_matches('/'))),
        );
    }
    folders.extend(tools.iter().flat_map(|tool| tool.libraries.iter().cloned()));
    folders
}

impl Build<'_> {
    /// What a set of files is in this run. The steps that make its files have ended.
    pub(crate) fn candidates(&self, set: SetId) -> &Candidates {
        self.known.candidates[set.index()].get_or_init(|| {
            let files = self.graph.sets.files(set);
            let mut paths: Vec<Arc<str>> = Vec::with_capacity(files.len());
            for file in files {
                let node = self.graph.file(*file);
                match self.entries_of(*file).filter(|_| node.folder) {
                    None => paths.push(node.path.shared().clone()),
                    Some((memory, at)) => {
                        let OutputRecord::Folder(entries) = &memory.outputs[at] else {
                            continue;
                        };
                        let files = entries
                            .iter()
                            .filter(|e| !matches!(e.kind, TreeKind::EmptyFolder));
                        paths.extend(files.map(|e| Arc::from(format!("{}/{}", node.path, e.path))));
                    }
                }
            }
            let empty = self.empty_folders(files);
            let made = files
                .iter()
                .copied()
                .filter(|file| self.graph.file(*file).maker.is_some());
            Candidates::new(
                paths,
                self.readable_files(files).into(),
                made.collect(),
                empty,
            )
        })
    }

    /// The digest of the names among which a step's commands may find something.
    pub(crate) fn candidate_names(&self, step: &Step, tools: &[FoundTool]) -> Digest {
        let mut names: Vec<Digest> = step
            .candidates
            .iter()
            .map(|set| self.candidates(*set).names)
            .collect();
        let folders = library_folders(&words_of(step), tools);
        if !folders.is_empty() {
            names.push(self.library_state(folders));
        }
        candidate_names(names, tools)
    }

    /// What the metadata of folders with libraries says: while it stays, no library appeared.
    fn library_state(&self, folders: Vec<Arc<str>>) -> Digest {
        let known = || self.known.library_states.lock();
        if let Some(state) = known().get(&folders) {
            return *state;
        }
        let mut out = Encoder::new();
        for folder in &folders {
            out.text(folder);
            self.outside
                .check(&FilePath::of_machine(folder))
                .unwrap_or_default()
                .write(&mut out);
        }
        let state = Digest::of(&out.bytes);
        known().insert(folders, state);
        state
    }

    /// Files that were not read though their being there may matter, sorted: candidates of which a
    /// listed file has the name, or of whose name a file that was read or the command speaks;
    /// headers of the system that another one of the name was taken before, or that a file asks
    /// about. What commands were seen to look for is kept with what they read.
    /// `found` is sorted.
    pub(crate) fn passed_over(
        &self,
        id: StepId,
        found: &[FilePath],
        tools: &[FoundTool],
    ) -> Vec<Arc<str>> {
        let step = self.graph.step(id);
        if step.found.is_empty() {
            return Vec::new();
        }
        let mut asked: HashSet<Asked> = HashSet::new();
        for path in found.iter().filter(|path| {
            matches!(
                path.place(),
                FilePlace::Workspace(_) | FilePlace::Machine(_)
            )
        }) {
            asked.extend(self.asked_by(path).iter().cloned());
        }
        let asks_for_anything = asked.contains(&Asked::Computed);
        // What the step makes has a name, too, which says nothing of what it reads.
        let mut words = words_of(step);
        words.retain(|word| !word.contains(step.folder.as_str()));
        let mut passed_over: Vec<Arc<str>> = Vec::new();
        // What was looked for and was not there counts for a step that was seen.
        for set in step.candidates.iter().filter(|_| !step.observed) {
            let set = self.candidates(*set);
            if asks_for_anything {
                passed_over.extend(set.paths.iter().cloned());
            } else {
                passed_over.extend(self.spoken_of(set, found, &words));
            }
        }
        let was_read = |path: &Arc<str>| found.binary_search_by(|f| f.shared().cmp(path)).is_ok();
        let is_input = |path: &Arc<str>| {
            self.known
                .files_by_path
                .get(&**path)
                .is_some_and(|file| step.inputs.holds(file))
        };
        passed_over.retain(|path| !was_read(path) && !is_input(path));
        for tool in tools.iter().filter(|tool| !tool.search.is_empty()) {
            self.add_system_headers(tool, found, &asked, &mut passed_over);
        }
        self.add_system_libraries(&library_folders(&words, tools), found, &mut passed_over);
        passed_over.sort();
        passed_over.dedup();
        passed_over
    }

    /// The candidates of a set of which a file that was found, or a word of the step, speaks.
    fn spoken_of(&self, set: &Candidates, found: &[FilePath], words: &[&str]) -> Vec<Arc<str>> {
        let index = set.index();
        let mut spoken = FileNumbers::none_of(set.paths.len());
        for path in found {
            index.by_name.add_same(name_of(path.as_str()), &mut spoken);
        }
        for word in words {
            index.by_name.add_within(word.as_bytes(), &mut spoken);
        }
        for path in found.iter().filter(|path| path.is_of_workspace()) {
            spoken.add(&*set.spoken_of(path, || {
                self.bring_path(path.as_str());
                self.outside.read(path).ok()
            }));
        }
        let numbers = spoken.iter();
        numbers
            .map(|number| set.paths[number as usize].clone())
            .collect()
    }

    /// Adds files that a step took in and that no compiler lists: of candidates, those of which
    /// files that were read, or its words, speak, where one of these takes files in so. They count
    /// with their contents, and may take in others themselves.
    pub(crate) fn add_unlisted(
        &self,
        id: StepId,
        found: &mut Vec<FoundInput>,
        tools: &[FoundTool],
        began: Began,
    ) -> Result<(), Failure> {
        loop {
            let paths = paths_of(found);
            let is_plain = |path: &&FilePath| {
                matches!(
                    path.place(),
                    FilePlace::Workspace(_) | FilePlace::Machine(_)
                )
            };
            let takes = |path: &FilePath| self.asked_by(path).contains(&Asked::Unlisted);
            if self.graph.step(id).found.is_empty() || !paths.iter().filter(is_plain).any(takes) {
                return Ok(());
            }
            let before = found.len();
            for path in self.passed_over(id, &paths, tools) {
                let file = FilePath::from_text(path.clone());
                if !file.is_of_workspace() {
                    continue;
                }
                if self.folder_around(&path).is_none() {
                    self.must_be_unmoved(&file, Some(began))?;
                }
                if let Some(digest) = self.listed_content(id, &file) {
                    found.push(FoundInput { path, digest });
                }
            }
            if found.len() == before {
                return Ok(());
            }
            found.sort_by(|a, b| a.path.cmp(&b.path));
            found.dedup_by(|a, b| a.path == b.path);
        }
    }

    /// Libraries of the system that a linker would take in the place of those that were read, were
    /// it not for their order: all of the same names in the folders in which it looks.
    fn add_system_libraries(
        &self,
        folders: &[Arc<str>],
        found: &[FilePath],
        passed_over: &mut Vec<Arc<str>>,
    ) {
        let of_machine = found.iter().filter_map(|path| match path.place() {
            FilePlace::Machine(path) => library_name(path),
            _ => None,
        });
        let mut names: Vec<&str> = of_machine.collect();
        names.sort_unstable();
        names.dedup();
        for (folder, name) in folders
            .iter()
            .flat_map(|folder| names.iter().map(move |name| (folder, name)))
        {
            for ending in ["so", "a"] {
                let path = FilePath::of_machine(&format!("{folder}/lib{name}.{ending}"));
                // What is not there is looked at, too: it may appear.
                let is_there = matches!(self.table.entry(self.outside, &path), Ok(Some(_)));
                if is_there && found.binary_search(&path).is_err() {
                    passed_over.push(path.shared().clone());
                }
            }
        }
    }

    /// What a file asks about: anything, where it cannot be read.
    fn asked_by(&self, path: &FilePath) -> Arc<[Asked]> {
        let lock = || self.known.asked.lock();
        if let Some(known) = lock().get(path) {
            return known.clone();
        }
        self.bring_path(path.as_str());
        let asked = self
            .outside
            .read(path)
            .map_or_else(|_| vec![Asked::Computed], |text| asked_about(&text));
        let asked: Arc<[Asked]> = asked.into();
        lock().insert(path.clone(), asked.clone());
        asked
    }

    /// The files of some names in folders of the system, by name; looked up once a run.
    fn system_headers(&self, folders: &[Arc<str>], names: &[&str]) -> Vec<Arc<[FilePath]>> {
        let mut known = self.known.system_headers.lock();
        if !known.contains_key(folders) {
            known.insert(folders.to_vec(), HashMap::new());
        }
        let Some(known) = known.get_mut(folders) else {
            return Vec::new();
        };
        let mut all = Vec::with_capacity(names.len());
        for name in names {
            let found = known.get(*name).cloned().unwrap_or_else(|| {
                let paths = folders
                    .iter()
                    .map(|folder| FilePath::of_machine(&format!("{folder}/{name}")));
                let found: Arc<[FilePath]> = paths
                    .filter(|path| self.on_system(path) == OnSystem::File)
                    .collect();
                known.insert((*name).into(), found.clone());
                found
            });
            all.push(found);
        }
        all
    }

    /// Headers of the system that a compiler passed over: those of the names that were read, and
    /// those asked about.
    fn add_system_headers(
        &self,
        tool: &FoundTool,
        found: &[FilePath],
        asked: &HashSet<Asked>,
        passed_over: &mut Vec<Arc<str>>,
    ) {
        let mut names: Vec<&str> = Vec::new();
        for path in found {
            let FilePlace::Machine(path) = path.place() else {
                continue;
            };
            let below = tool
                .search
                .iter()
                .filter_map(|folder| path.strip_prefix(&**folder)?.strip_prefix('/'));
            names.extend(below.min_by_key(|name| name.len()));
        }
        #[allow(clippy::iter_over_hash_type)] // Sorted below.
        for asked in asked {
            match asked {
                Asked::Name(name) => names.push(name),
                Asked::Computed | Asked::Unlisted => {}
            }
        }
        names.sort_unstable();
        names.dedup();
        for path in self
            .system_headers(&tool.search, &names)
            .iter()
            .flat_map(|paths| paths.iter())
        {
            if found.binary_search(path).is_err() {
                passed_over.push(path.shared().clone());
            }
        }
        if asked.contains(&Asked::Computed) {
            // Which name that is no one knows: any that appears may be it.
            passed_over
                .push(format!("{}: {}", tool.path.display(), tool.search_state.hex()).into());
        }
    }
}
