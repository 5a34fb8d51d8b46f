//! Files that a step may read and did not: whether one of them could have changed what it made. What a set of files is, and
//! which of them a text speaks of, is found out once a run, however many steps share the set or read the text.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use aho_corasick::{AhoCorasick, AhoCorasickKind, MatchKind};
use nubrik_bytes::{Digest, Encoder};
use nubrik_graph::{FileId, SetId, Step, StepId};
use nubrik_source::{FilePath, FilePlace};
use nubrik_store::{OutputRecord, TreeKind};

use crate::build::Build;
use crate::examine::OnSystem;
use crate::key::candidate_names;
use crate::outside::{FoundTool, Readable};
use crate::words::{Asked, asked_about};

/// Up to so many texts are looked for by the means that is quickest and takes most memory.
const QUICK: usize = 1_000;

/// What a set of files is in this run.
pub(crate) struct Candidates {
    /// Paths of its files, sorted, each once: of made folders what is in them.
    paths: Vec<Arc<str>>,
    /// The digest of these.
    names: Digest,
    /// Its files as commands may read them.
    pub readable: Arc<[Readable]>,
    /// Its files that steps make.
    pub made: Vec<FileId>,
    index: OnceLock<Index>,
    /// Which of its files each text speaks of, by the text's path.
    spoken: Mutex<HashMap<FilePath, Arc<[u32]>>>,
}

/// The files of a set by their names.
struct Index {
    by_name: Texts,
    by_stem: Texts,
}

/// Some texts that are looked for at once, each with the numbers of what has it.
struct Texts {
    numbers: HashMap<Box<str>, u32>,
    holders: Vec<Vec<u32>>,
    search: Option<AhoCorasick>,
}

/// The name of the file at a path.
fn name_of(path: &str) -> &str {
    path.rsplit_once('/').map_or(path, |(_, name)| name)
}

/// A file's name without its last ending.
fn stem_of(path: &str) -> &str {
    let name = name_of(path);
    name.rfind('.').filter(|dot| *dot > 0).map_or(name, |dot| &name[..dot])
}

impl Texts {
    fn of<'p>(texts: impl Iterator<Item = &'p str>) -> Texts {
        let mut numbers: HashMap<Box<str>, u32> = HashMap::new();
        let mut holders: Vec<Vec<u32>> = Vec::new();
        let mut patterns: Vec<&str> = Vec::new();
        for (holder, text) in texts.enumerate() {
            let number = *numbers.entry(text.into()).or_insert_with(|| {
                holders.push(Vec::new());
                patterns.push(text);
                holders.len() as u32 - 1
            });
            holders[number as usize].push(holder as u32);
        }
        // It cannot be made of more than some two thousand million bytes: then each text counts as one that speaks of all.
        let mut search = AhoCorasick::builder();
        search.match_kind(MatchKind::Standard);
        if patterns.len() <= QUICK {
            search.kind(Some(AhoCorasickKind::DFA));
        }
        let search = search.build(&patterns).ok();
        Texts { numbers, holders, search }
    }

    /// Adds what has just this text.
    fn add_same(&self, text: &str, found: &mut BTreeSet<u32>) {
        if let Some(number) = self.numbers.get(text) {
            found.extend(&self.holders[*number as usize]);
        }
    }

    /// Adds everything whose text is somewhere in another one.
    fn add_within(&self, text: &[u8], found: &mut BTreeSet<u32>) {
        let Some(search) = &self.search else {
            return found.extend(self.holders.iter().flatten());
        };
        for hit in search.find_overlapping_iter(text) {
            let holders = &self.holders[hit.pattern().as_usize()];
            // Whatever was met before is there with all its holders, of which each has one text only.
            if !found.contains(&holders[0]) {
                found.extend(holders);
            }
        }
    }
}

impl Candidates {
    fn index(&self) -> &Index {
        self.index.get_or_init(|| Index {
            by_name: Texts::of(self.paths.iter().map(|path| name_of(path))),
            by_stem: Texts::of(self.paths.iter().map(|path| stem_of(path))),
        })
    }

    /// The numbers of files that a text speaks of by their stems: all, where it cannot be read.
    fn spoken_of(&self, path: &FilePath, read: impl FnOnce() -> Option<Vec<u8>>) -> Arc<[u32]> {
        let lock = || self.spoken.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = lock().get(path) {
            return known.clone();
        }
        let mut found = BTreeSet::new();
        match read() {
            Some(text) => self.index().by_stem.add_within(&text, &mut found),
            None => found.extend(0..self.paths.len() as u32),
        }
        let found: Arc<[u32]> = found.into_iter().collect();
        lock().insert(path.clone(), found.clone());
        found
    }
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
                        let OutputRecord::Folder(entries) = &memory.outputs[at] else { continue };
                        let files = entries.iter().filter(|e| !matches!(e.kind, TreeKind::EmptyFolder));
                        paths.extend(files.map(|e| Arc::from(format!("{}/{}", node.path, e.path))));
                    }
                }
            }
            paths.sort_unstable();
            paths.dedup();
            let mut out = Encoder::new();
            out.list(&paths, |out, path| out.text(path));
            let made = files.iter().copied().filter(|file| self.graph.file(*file).maker.is_some());
            Candidates {
                names: Digest::of(&out.bytes),
                paths,
                readable: self.readable_files(files).into(),
                made: made.collect(),
                index: OnceLock::new(),
                spoken: Mutex::default(),
            }
        })
    }

    /// The digest of the names among which a step's commands may find something.
    pub(crate) fn candidate_names(&self, step: &Step, tools: &[FoundTool]) -> Digest {
        candidate_names(step.candidates.iter().map(|set| self.candidates(*set).names).collect(), tools)
    }

    /// Files that were not read though their being there may matter, sorted: candidates of which a listed file has the
    /// name, or of whose name a file that was read or the command speaks; headers of the system that another one of the
    /// name was taken before, or that a file asks about. `found` is sorted.
    pub(crate) fn passed_over(&self, id: StepId, found: &[FilePath], tools: &[FoundTool]) -> Vec<Arc<str>> {
        let step = self.graph.step(id);
        let mut asked: HashSet<Asked> = HashSet::new();
        for path in found.iter().filter(|path| !matches!(path.place(), FilePlace::Link(_))) {
            asked.extend(self.asked_by(path).iter().cloned());
        }
        let asks_for_anything = asked.contains(&Asked::Computed);
        let words = step.commands.iter().flat_map(|p| &p.stages).flat_map(|stage| &stage.words);
        let words = words.chain(step.lists.iter().flat_map(|list| &list.lines));
        // What the step makes has a name, too, which says nothing of what it reads.
        let words: Vec<&Arc<str>> = words.filter(|word| !word.contains(step.folder.as_str())).collect();
        let mut passed_over: Vec<Arc<str>> = Vec::new();
        let mut spoken = BTreeSet::new();
        for set in &step.candidates {
            let set = self.candidates(*set);
            let index = set.index();
            spoken.clear();
            if asks_for_anything {
                spoken.extend(0..set.paths.len() as u32);
            } else {
                found.iter().for_each(|path| index.by_name.add_same(name_of(path.as_str()), &mut spoken));
                words.iter().for_each(|word| index.by_name.add_within(word.as_bytes(), &mut spoken));
                for path in found.iter().filter(|path| path.is_of_workspace()) {
                    spoken.extend(&*set.spoken_of(path, || self.outside.read(path).ok()));
                }
            }
            passed_over.extend(spoken.iter().map(|number| set.paths[*number as usize].clone()));
        }
        let was_read = |path: &Arc<str>| found.binary_search_by(|f| f.shared().cmp(path)).is_ok();
        let is_input = |path: &Arc<str>| {
            self.known.files_by_path.get(&**path).is_some_and(|file| step.inputs.holds(file))
        };
        passed_over.retain(|path| !was_read(path) && !is_input(path));
        for tool in tools.iter().filter(|tool| !tool.search.is_empty()) {
            self.add_system_headers(tool, found, &asked, &mut passed_over);
        }
        passed_over.sort();
        passed_over.dedup();
        passed_over
    }

    /// What a file asks about: anything, where it cannot be read.
    fn asked_by(&self, path: &FilePath) -> Arc<[Asked]> {
        let lock = || self.known.asked.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = lock().get(path) {
            return known.clone();
        }
        let asked = self.outside.read(path).map_or_else(|_| vec![Asked::Computed], |text| asked_about(&text));
        let asked: Arc<[Asked]> = asked.into();
        lock().insert(path.clone(), asked.clone());
        asked
    }

    /// Headers of the system that a compiler passed over: those of the names that were read, and those asked about.
    fn add_system_headers(
        &self,
        tool: &FoundTool,
        found: &[FilePath],
        asked: &HashSet<Asked>,
        passed_over: &mut Vec<Arc<str>>,
    ) {
        let mut names: Vec<&str> = Vec::new();
        for path in found {
            let FilePlace::Machine(path) = path.place() else { continue };
            let below =
                tool.search.iter().filter_map(|folder| path.strip_prefix(&**folder)?.strip_prefix('/'));
            names.extend(below.min_by_key(|name| name.len()));
        }
        #[allow(clippy::iter_over_hash_type)] // Sorted below.
        for asked in asked {
            match asked {
                Asked::Name(name) => names.push(name),
                Asked::Computed => {}
            }
        }
        names.sort_unstable();
        names.dedup();
        for name in names {
            for folder in &tool.search {
                let path = FilePath::of_machine(&format!("{folder}/{name}"));
                if found.binary_search(&path).is_err() && self.on_system(&path) == OnSystem::File {
                    passed_over.push(path.shared().clone());
                }
            }
        }
        if asked.contains(&Asked::Computed) {
            // Which name that is nobody knows: any that appears may be it.
            passed_over.push(format!("{}: {}", tool.path.display(), tool.search_state.hex()).into());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn found(texts: &[String], search: impl Fn(&Texts, &mut BTreeSet<u32>)) -> Vec<u32> {
        let texts = Texts::of(texts.iter().map(String::as_str));
        let mut found = BTreeSet::new();
        search(&texts, &mut found);
        found.into_iter().collect()
    }

    #[test]
    fn names_and_stems_are_those_of_paths() {
        assert_eq!((name_of("a/fit.tar.gz"), stem_of("a/fit.tar.gz")), ("fit.tar.gz", "fit.tar"));
        assert_eq!(
            (name_of(".hidden"), stem_of("x/.hidden"), stem_of("x.y/plain")),
            (".hidden", ".hidden", "plain")
        );
    }

    #[test]
    fn a_text_that_cannot_be_read_may_speak_of_anything() {
        let set = Candidates {
            paths: ["inc/ebb.h", "inc/flood.h"].map(Arc::from).to_vec(),
            names: Digest::default(),
            readable: Arc::new([]),
            made: Vec::new(),
            index: OnceLock::new(),
            spoken: Mutex::default(),
        };
        let spoken = |path: &str, text: Option<&str>| {
            set.spoken_of(&FilePath::from_text(path.into()), || text.map(|text| text.as_bytes().to_vec()))
                .to_vec()
        };
        assert_eq!(spoken("a.c", Some("#include \"flood.h\"")), [1]);
        assert_eq!(spoken("b.c", None), [0, 1]);
        // It is looked for once.
        assert_eq!(spoken("a.c", None), [1]);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn an_index_finds_what_a_search_for_each_text_finds(
            texts in prop::collection::vec("[ab]{1,4}|[a-d_.é]{1,3}", 0..12),
            text in "[abc_.é ]{0,40}",
        ) {
            let all = |holds: &dyn Fn(&String) -> bool| -> Vec<u32> {
                (0..texts.len() as u32).filter(|n| holds(&texts[*n as usize])).collect()
            };
            let within = found(&texts, |index, found| index.add_within(text.as_bytes(), found));
            prop_assert_eq!(within, all(&|t| text.contains(t.as_str())));
            let same = found(&texts, |index, found| index.add_same(&text, found));
            prop_assert_eq!(same, all(&|t| *t == text));
        }
    }
}
