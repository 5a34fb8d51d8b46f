//! Which options a value reached, and values by these.

use std::rc::Rc;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::chosen::{Config, OptionId};
use super::{Result, Stop};
use crate::reported::Reported;

use crate::value::*;

/// Options that were reached, sorted, with what they were set to (`None`: not set).
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Reads(Vec<(OptionId, Option<Arc<str>>)>);

/// A value that is known, with the options that it reached, or why there is none in this
/// evaluation.
pub(super) type KnownValue = (Rc<Reads>, Result<Value>);

/// Values of one declaration by the options that they reached. Which one holds under a choice of
/// options is looked up, however many choices there were.
#[derive(Default)]
pub(crate) struct Known {
    /// The value where it reached no option.
    plain: Option<KnownValue>,
    /// Others: by which options they reached, then by what these were set to.
    by_options: Vec<KnownUnder>,
}

/// Values that reached the same options.
pub(super) struct KnownUnder {
    options: Vec<OptionId>,
    by_values: FxHashMap<Vec<Option<Arc<str>>>, KnownValue>,
}

impl Reads {
    pub fn iter(&self) -> impl Iterator<Item = &(OptionId, Option<Arc<str>>)> {
        self.0.iter()
    }

    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub fn without(&self, option: OptionId) -> Reads {
        Reads(
            self.0
                .iter()
                .filter(|(o, _)| *o != option)
                .cloned()
                .collect(),
        )
    }

    pub fn has(&self, option: OptionId) -> bool {
        self.0.binary_search_by_key(&option, |(o, _)| *o).is_ok()
    }

    pub fn add(&mut self, option: OptionId, set: Option<Arc<str>>) {
        match self.0.binary_search_by_key(&option, |(o, _)| *o) {
            Ok(at) => self.0[at].1 = set,
            Err(at) => self.0.insert(at, (option, set)),
        }
    }

    pub fn add_all(&mut self, other: &Reads) {
        for (option, set) in &other.0 {
            self.add(*option, set.clone());
        }
    }
}

impl Known {
    /// The value under some options.
    pub fn find(&self, config: &Config) -> Option<&KnownValue> {
        if self.plain.is_some() {
            return self.plain.as_ref();
        }
        self.by_options.iter().find_map(|known| {
            let set = |option: &OptionId| config.set.get(option).map(|set| set.written.clone());
            known
                .by_values
                .get(&known.options.iter().map(set).collect::<Vec<_>>())
        })
    }

    /// Adds a value with the options that it reached.
    pub fn add(&mut self, reads: Rc<Reads>, value: Result<Value>) {
        if reads.is_empty() {
            self.plain = Some((reads, value));
            return;
        }
        let options = || reads.iter().map(|(option, _)| *option);
        let values = reads.iter().map(|(_, set)| set.clone()).collect();
        let place = self
            .by_options
            .iter()
            .position(|known| known.options.iter().copied().eq(options()));
        let place = place.unwrap_or_else(|| {
            self.by_options.push(KnownUnder {
                options: options().collect(),
                by_values: FxHashMap::default(),
            });
            self.by_options.len() - 1
        });
        self.by_options[place]
            .by_values
            .insert(values, (reads, value));
    }

    /// What was reported where evaluation failed under some options.
    pub fn failure(&self) -> Option<Reported> {
        let others = self
            .by_options
            .iter()
            .flat_map(|known| known.by_values.values());
        self.plain
            .iter()
            .chain(others)
            .find_map(|known| match &known.1 {
                Err(Stop::Failed(reported)) => Some(*reported),
                Err(Stop::Waiting) | Ok(_) => None,
            })
    }

    /// Forgets that evaluation failed, under whatever options.
    pub fn forget_failures(&mut self) {
        let is_kept = |known: &KnownValue| !matches!(known.1, Err(Stop::Failed(_)));
        self.plain = self.plain.take().filter(is_kept);
        for known in &mut self.by_options {
            known.by_values.retain(|_, known| is_kept(known));
        }
    }
}
