//! Sets of files that steps may read. What a set is, and which of its files a text speaks of, is
//! found out once a run, however many steps share the set or read the text.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use aho_corasick::{AhoCorasick, AhoCorasickKind, MatchKind};
use nubrik_bytes::{Digest, Encoder};
use nubrik_graph::FileId;
use nubrik_source::FilePath;
use parking_lot::Mutex;

use crate::outside::Readable;

/// Up to so many texts are looked for by the means that is quickest and takes most memory.
const QUICK: usize = 1_000;

/// What a set of files is in this run.
pub(crate) struct Candidates {
    /// Paths of its files, sorted, each once: of made folders what is in them.
    pub paths: Vec<Arc<str>>,
    /// The digest of these.
    pub names: Digest,
    /// Its files as commands may read them.
    pub readable: Arc<[Readable]>,
    /// Its files that steps make.
    pub made: Vec<FileId>,
    /// Empty folders in made folders, by their paths, sorted.
    pub empty: Vec<Arc<str>>,
    /// Those of its paths that links lead to, or that are links: known when they are asked for.
    pub linked: OnceLock<Vec<Arc<str>>>,
    index: OnceLock<Index>,
    /// Which of its files each text speaks of, by the text's path.
    spoken: Mutex<HashMap<FilePath, Arc<[u32]>>>,
}

/// The files of a set by their names.
pub(crate) struct Index {
    pub by_name: Texts,
    by_stem: Texts,
}

/// Some texts that are looked for at once, each with the numbers of what has it.
pub(crate) struct Texts {
    numbers: HashMap<Box<str>, u32>,
    holders: Vec<Vec<u32>>,
    search: Option<AhoCorasick>,
}

/// Numbers of files of a set.
pub(crate) struct FileNumbers {
    /// A bit for each number.
    words: Vec<u64>,
}

impl FileNumbers {
    /// No number, of those below `count`.
    pub(crate) fn none_of(count: usize) -> FileNumbers {
        FileNumbers {
            words: vec![0; count.div_ceil(64)],
        }
    }

    fn contains(&self, number: u32) -> bool {
        self.words[number as usize / 64] & (1 << (number % 64)) != 0
    }

    /// Adds some numbers.
    pub(crate) fn add<'n>(&mut self, numbers: impl IntoIterator<Item = &'n u32>) {
        numbers
            .into_iter()
            .for_each(|number| self.words[*number as usize / 64] |= 1 << (number % 64));
    }

    /// The numbers, the smallest first.
    pub(crate) fn iter(&self) -> impl Iterator<Item = u32> {
        // Most words hold none.
        (0..)
            .zip(&self.words)
            .filter(|(_, word)| **word != 0)
            .flat_map(|(at, word)| {
                let rest = |left: &u64| Some(left & (left - 1)).filter(|left| *left != 0);
                std::iter::successors(Some(*word), rest)
                    .map(move |left| at * 64 + left.trailing_zeros())
            })
    }
}

/// The name of the file at a path.
pub(crate) fn name_of(path: &str) -> &str {
    path.rsplit_once('/').map_or(path, |(_, name)| name)
}

/// A file's name without its last ending.
fn stem_of(path: &str) -> &str {
    let name = name_of(path);
    name.rfind('.')
        .filter(|dot| *dot > 0)
        .map_or(name, |dot| &name[..dot])
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
        // It cannot be made of more than some two thousand million bytes: then each text counts as
        // one that speaks of all.
        let mut search = AhoCorasick::builder();
        search.match_kind(MatchKind::Standard);
        if patterns.len() <= QUICK {
            search.kind(Some(AhoCorasickKind::DFA));
        }
        let search = search.build(&patterns).ok();
        Texts {
            numbers,
            holders,
            search,
        }
    }

    /// Adds what has just this text.
    pub(crate) fn add_same(&self, text: &str, found: &mut FileNumbers) {
        if let Some(number) = self.numbers.get(text) {
            found.add(&self.holders[*number as usize]);
        }
    }

    /// Adds everything whose text is somewhere in another one.
    pub(crate) fn add_within(&self, text: &[u8], found: &mut FileNumbers) {
        let Some(search) = &self.search else {
            return found.add(self.holders.iter().flatten());
        };
        for hit in search.find_overlapping_iter(text) {
            let holders = &self.holders[hit.pattern().as_usize()];
            // Whatever was met before is there with all its holders, of which each has one text
            // only.
            if !found.contains(holders[0]) {
                found.add(holders);
            }
        }
    }
}

impl Candidates {
    /// A set of files by their paths.
    pub(crate) fn new(
        mut paths: Vec<Arc<str>>,
        readable: Arc<[Readable]>,
        made: Vec<FileId>,
        empty: Vec<Arc<str>>,
    ) -> Candidates {
        paths.sort_unstable();
        paths.dedup();
        let mut out = Encoder::new();
        out.list(&paths, |out, path| out.text(path));
        let names = Digest::of(&out.bytes);
        let (linked, index) = (OnceLock::new(), OnceLock::new());
        Candidates {
            paths,
            names,
            readable,
            made,
            empty,
            linked,
            index,
            spoken: Mutex::default(),
        }
    }

    pub(crate) fn index(&self) -> &Index {
        self.index.get_or_init(|| Index {
            by_name: Texts::of(self.paths.iter().map(|path| name_of(path))),
            by_stem: Texts::of(self.paths.iter().map(|path| stem_of(path))),
        })
    }

    /// The numbers of files that a text speaks of by their stems: all, where it cannot be read.
    pub(crate) fn spoken_of(
        &self,
        path: &FilePath,
        read: impl FnOnce() -> Option<Vec<u8>>,
    ) -> Arc<[u32]> {
        let lock = || self.spoken.lock();
        if let Some(known) = lock().get(path) {
            return known.clone();
        }
        let found: Arc<[u32]> = match read() {
            Some(text) => {
                let mut found = FileNumbers::none_of(self.paths.len());
                self.index().by_stem.add_within(&text, &mut found);
                found.iter().collect()
            }
            None => (0..self.paths.len() as u32).collect(),
        };
        lock().insert(path.clone(), found.clone());
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn found(texts: &[String], search: impl Fn(&Texts, &mut FileNumbers)) -> Vec<u32> {
        let index = Texts::of(texts.iter().map(String::as_str));
        let mut found = FileNumbers::none_of(texts.len());
        search(&index, &mut found);
        found.iter().collect()
    }

    #[test]
    fn numbers_are_those_that_were_added_the_smallest_first() {
        let mut numbers = FileNumbers::none_of(130);
        numbers.add(&[129, 0, 63, 64, 0]);
        assert_eq!(numbers.iter().collect::<Vec<_>>(), [0, 63, 64, 129]);
        assert!(numbers.contains(64) && !numbers.contains(65));
        assert_eq!(FileNumbers::none_of(0).iter().count(), 0);
    }

    #[test]
    fn names_and_stems_are_those_of_paths() {
        assert_eq!(
            (name_of("a/fit.tar.gz"), stem_of("a/fit.tar.gz")),
            ("fit.tar.gz", "fit.tar")
        );
        assert_eq!(
            (
                name_of(".hidden"),
                stem_of("x/.hidden"),
                stem_of("x.y/plain")
            ),
            (".hidden", ".hidden", "plain")
        );
    }

    #[test]
    fn a_text_that_cannot_be_read_may_speak_of_anything() {
        let set = Candidates::new(
            ["inc/ebb.h", "inc/flood.h"].map(Arc::from).to_vec(),
            Arc::new([]),
            Vec::new(),
            Vec::new(),
        );
        let spoken = |path: &str, text: Option<&str>| {
            set.spoken_of(&FilePath::from_text(path.into()), || {
                text.map(|text| text.as_bytes().to_vec())
            })
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
