//! Declarations whose text leads back to themselves, found before anything is evaluated.
//!
//! Maps are left out: an entry may use other entries, so whether a map needs itself shows only when
//! its entries are evaluated.

use std::collections::BTreeSet;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{Edge, shortest_cycles};
use nubrik_source::Span;
use rustc_hash::FxHashMap;

use crate::value::Title;

/// How many members of a long cycle are shown, from its beginning and from its end.
const SHOWN_FIRST: usize = 12;
const SHOWN_LAST: usize = 8;

/// The error for a cycle: each title with the place at which it uses the next one.
pub(crate) fn cycle_error(hops: &[(Title, Span)]) -> Diagnostic {
    let first = &hops[0];
    let message = match hops.len() {
        1 => format!("{} depends on itself", first.0),
        2 => format!("{} depends on itself through 1 other", first.0),
        n => format!("{} depends on itself through {} others", first.0, n - 1),
    };
    let mut error = Diagnostic::error("cycle", message).at(first.1);
    let left_out = hops.len().saturating_sub(SHOWN_FIRST + SHOWN_LAST);
    for (i, (title, span)) in hops.iter().enumerate() {
        if left_out > 1 && (SHOWN_FIRST..SHOWN_FIRST + left_out).contains(&i) {
            continue;
        }
        let next = &hops[(i + 1) % hops.len()].0;
        error = error.related(*span, format!("{title} uses {next}"));
    }
    if left_out > 1 {
        error = error.note(format!("{left_out} of them in the middle are not shown"));
    }
    error.mend("remove one of these references, or move what both need into a value of its own")
}

/// References between declarations, collected for the search.
#[derive(Default)]
pub(crate) struct References<K> {
    numbers: FxHashMap<K, u32>,
    titles: Vec<(K, Title)>,
    /// In the order in which they were met.
    edges: Vec<(u32, u32, Span)>,
}

impl<K: Clone + Eq + std::hash::Hash> References<K> {
    pub fn new() -> Self {
        References {
            numbers: FxHashMap::default(),
            titles: Vec::new(),
            edges: Vec::new(),
        }
    }

    /// The number of a declaration; in the order in which they are first met.
    pub fn node(&mut self, key: &K, title: impl FnOnce() -> Title) -> u32 {
        if let Some(number) = self.numbers.get(key) {
            return *number;
        }
        let number = self.titles.len() as u32;
        self.numbers.insert(key.clone(), number);
        self.titles.push((key.clone(), title()));
        number
    }

    /// Adds a use; of several uses of the same thing the first one is shown.
    pub fn edge(&mut self, from: u32, to: u32, span: Span) {
        self.edges.push((from, to, span));
    }

    /// All cycles, as errors, and what lies on them.
    pub fn cycles(&self) -> (Vec<Diagnostic>, Vec<K>) {
        let edges: Vec<Edge> = self
            .edges
            .iter()
            .map(|&(from, to, _)| Edge { from, to })
            .collect();
        let mut errors = Vec::new();
        let mut on_cycle: BTreeSet<u32> = BTreeSet::new();
        for cycle in shortest_cycles(self.titles.len() as u32, &edges) {
            let count = cycle.nodes.len();
            let mut hops = Vec::new();
            for (i, node) in cycle.nodes.iter().enumerate() {
                let to = cycle.nodes[(i + 1) % count];
                if let Some((_, _, span)) = self.edges.iter().find(|e| (e.0, e.1) == (*node, to)) {
                    hops.push((self.titles[*node as usize].1.clone(), *span));
                }
            }
            on_cycle.extend(&cycle.nodes);
            errors.push(cycle_error(&hops));
        }
        let keys = on_cycle
            .into_iter()
            .map(|n| self.titles[n as usize].0.clone())
            .collect();
        (errors, keys)
    }
}
