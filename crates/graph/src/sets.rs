//! Sets of files that steps share. What many steps may read is one set, however many they are: it
//! is put together, kept and compared once.

use std::collections::HashMap;
use std::sync::Arc;

use crate::{FileId, StepId};

/// A set's number in [`FileSets`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct SetId(pub u32);

nubrik_bytes::layout!(SetId(number));

impl SetId {
    /// The set's place among all.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// All sets of a graph, each once: two sets with the same files have the same number.
///
/// ```
/// use nubrik_graph::{FileId, FileSets};
///
/// let mut sets = FileSets::default();
/// let headers = sets.intern(vec![FileId(2), FileId(1), FileId(2)]);
/// assert_eq!(sets.files(headers), [FileId(1), FileId(2)]);
/// assert_eq!(sets.intern(vec![FileId(1), FileId(2)]), headers);
/// assert!(sets.holds(headers, FileId(2)) && !sets.holds(headers, FileId(3)));
/// ```
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct FileSets {
    rows: Vec<Arc<[FileId]>>,
    known: HashMap<Arc<[FileId]>, SetId>,
}

impl FileSets {
    /// The set that holds just these files, in any order.
    pub fn intern(&mut self, mut files: Vec<FileId>) -> SetId {
        files.sort_unstable();
        files.dedup();
        if let Some(known) = self.known.get(files.as_slice()) {
            return *known;
        }
        let files: Arc<[FileId]> = files.into();
        let id = SetId(self.rows.len() as u32);
        self.rows.push(files.clone());
        self.known.insert(files, id);
        id
    }

    /// The files of a set, sorted, each once.
    pub fn files(&self, set: SetId) -> &[FileId] {
        &self.rows[set.index()]
    }

    /// Whether a file is in a set.
    pub fn holds(&self, set: SetId, file: FileId) -> bool {
        self.files(set).binary_search(&file).is_ok()
    }

    /// How many sets there are.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// The files of all sets, by the sets' numbers.
    pub fn iter(&self) -> impl Iterator<Item = &[FileId]> {
        self.rows.iter().map(|files| &**files)
    }
}

/// The steps that make what steps read: of each set they are looked for once.
pub struct Needs<'g> {
    graph: &'g crate::Tables,
    /// By set: the steps that make its files, sorted, each once.
    of_sets: Vec<Vec<StepId>>,
    /// By file: whether its step gives it before it ends. Empty where no step does.
    early: Vec<bool>,
    /// By set: the steps that make its other files, sorted, each once. Empty where no step gives
    /// anything early.
    late_of_sets: Vec<Vec<StepId>>,
}

impl<'g> Needs<'g> {
    /// Those of a graph.
    pub fn of(graph: &'g crate::Tables) -> Needs<'g> {
        let makers = |files: &mut dyn Iterator<Item = &FileId>| {
            let mut makers: Vec<StepId> = files.filter_map(|f| graph.file(*f).maker).collect();
            makers.sort_unstable();
            makers.dedup();
            makers
        };
        let of_sets = graph
            .sets
            .iter()
            .map(|files| makers(&mut files.iter()))
            .collect();
        let (mut early, mut late_of_sets) = (Vec::new(), Vec::new());
        let mut given_early = graph
            .steps
            .iter()
            .flat_map(|step| step.early_outputs())
            .peekable();
        if given_early.peek().is_some() {
            early.resize(graph.files.len(), false);
            given_early.for_each(|file| early[file.index()] = true);
            let late =
                |files: &[FileId]| makers(&mut files.iter().filter(|file| !early[file.index()]));
            late_of_sets = graph.sets.iter().map(late).collect();
        }
        Needs {
            graph,
            of_sets,
            early,
            late_of_sets,
        }
    }

    /// The steps that make the files of a set, sorted, each once.
    pub fn of_set(&self, set: SetId) -> &[StepId] {
        &self.of_sets[set.index()]
    }

    /// The steps that make what a step reads or may read, sorted, each once.
    pub fn of_step(&self, step: StepId) -> Vec<StepId> {
        let step = self.graph.step(step);
        let of_sets = step
            .candidates
            .iter()
            .flat_map(|set| self.of_set(*set))
            .copied();
        let mut needs: Vec<StepId> = step
            .inputs
            .iter()
            .filter_map(|f| self.graph.file(*f).maker)
            .chain(of_sets)
            .collect();
        needs.sort_unstable();
        needs.dedup();
        needs
    }

    /// The steps whose end a step must wait for, sorted, each once. Of the others that it needs it
    /// takes only what they give before they end. `None` where no step gives anything before: it
    /// waits for all.
    pub fn ends_for_step(&self, step: StepId) -> Option<Vec<StepId>> {
        if self.early.is_empty() {
            return None;
        }
        let step = self.graph.step(step);
        let of_sets = step
            .candidates
            .iter()
            .flat_map(|set| &self.late_of_sets[set.index()])
            .copied();
        let late = step.inputs.iter().filter(|file| !self.early[file.index()]);
        let mut ends: Vec<StepId> = late
            .filter_map(|f| self.graph.file(*f).maker)
            .chain(of_sets)
            .collect();
        ends.sort_unstable();
        ends.dedup();
        Some(ends)
    }
}
