//! What is known of the paths of one seal.

use std::collections::VecDeque;

use nubrik_disk::Signature;
use nubrik_memory::{Journal, Seal, Version};

use crate::kernel::WatchId;

/// What is known of a path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Sight {
    /// It is as the seal says.
    Same,
    /// It may be another one.
    Doubtful,
    /// It can never be known to be the same: it is elsewhere, or nobody may watch it.
    Apart,
    /// The same, since the kernel allows no more watches.
    Lacking,
}

/// A seal, and what is known of its paths.
pub(crate) struct WatchedSeal {
    /// Tells it from others that were watched before.
    pub id: u32,
    /// Where it is, in the tool's own folder.
    pub path: String,
    /// Which state of it is known.
    pub version: Version,
    /// The metadata of its file, which was whole then.
    pub file: Signature,
    /// Itself.
    pub seal: Journal<Seal>,
    /// By number.
    pub sights: Vec<Sight>,
    /// The watch of each that is a file, by number.
    pub watches: Vec<Option<WatchId>>,
    /// Numbers that are to be looked at.
    pub to_see: VecDeque<u32>,
}

impl WatchedSeal {
    /// One of which nothing is known yet.
    pub fn new(
        id: u32,
        path: &str,
        seal: Journal<Seal>,
        (version, file): (Version, Signature),
    ) -> WatchedSeal {
        let count = seal.len();
        WatchedSeal {
            id,
            path: path.to_owned(),
            version,
            file,
            seal,
            sights: vec![Sight::Doubtful; count],
            watches: vec![None; count],
            to_see: (0..count as u32).collect(),
        }
    }

    /// The same file with another log, which is not shorter: what either log speaks of may be
    /// another entry now.
    pub fn grow(&mut self, seal: Journal<Seal>, (version, file): (Version, Signature)) {
        self.sights.resize(seal.len(), Sight::Doubtful);
        self.watches.resize(seal.len(), None);
        for number in self.seal.of_log().chain(seal.of_log()) {
            let is_other = number >= self.seal.len()
                || self.seal.entry(number) != seal.entry(number)
                || self.seal.path(number) != seal.path(number);
            if is_other {
                self.sights[number] = Sight::Doubtful;
                self.to_see.push_back(number as u32);
            }
        }
        (self.seal, self.version, self.file) = (seal, version, file);
    }

    /// Something happened to some of its paths.
    pub fn doubt(&mut self, numbers: impl IntoIterator<Item = usize>) {
        for number in numbers {
            // What is apart stays so: it is looked at in any case.
            if let Some(sight @ Sight::Same) = self.sights.get_mut(number) {
                *sight = Sight::Doubtful;
            }
        }
    }

    /// Numbers of the paths that may have changed.
    pub fn doubtful(&self) -> Vec<u32> {
        let all = self.sights.iter().enumerate();
        all.filter(|(_, sight)| **sight != Sight::Same)
            .map(|(number, _)| number as u32)
            .collect()
    }

    /// Has what may have changed looked at again.
    pub fn see_again(&mut self) {
        if self.to_see.is_empty() {
            let all = self.sights.iter().enumerate();
            let doubtful = all
                .filter(|(_, sight)| **sight == Sight::Doubtful)
                .map(|(number, _)| number as u32);
            self.to_see = doubtful.collect();
        }
    }

    /// How many of its paths are known so.
    pub fn count(&self, sight: Sight) -> usize {
        self.sights.iter().filter(|known| **known == sight).count()
    }
}
