//! An evaluation in which some targets are evaluated again: their result takes the place of what
//! they were, and the rest is taken over as it is.

use std::sync::Arc;

use nubrik_graph::{Closure, FileId, Joining, Renumbering, Target, TargetId};
use nubrik_source::WsPath;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::eval::{Evaluation, Shares};

impl Evaluation {
    /// Whether some of its targets can be replaced: it asks for whole targets only, and there is no
    /// step in it but what they need.
    pub fn is_replaceable(&self) -> bool {
        let needed = || {
            Closure::of(&self.graph, self.requested.iter().copied())
                .steps
                .len()
        };
        self.asks_for_whole_targets() && needed() == self.graph.steps.len()
    }

    /// Whether it asks for targets and nothing else, for each as a whole.
    fn asks_for_whole_targets(&self) -> bool {
        let Evaluation {
            graph,
            requested,
            targets,
            shares,
            effects,
            services,
            through,
            options,
            // Of what is wrong or missing nothing is taken over, and what was read belongs to a
            // seal.
            diagnostics: _,
            sources: _,
            read: _,
            kept: _,
            answers: _,
            probes: _,
            trail: _,
            digests: _,
            waiting,
        } = self;
        let asks_for_more = !(effects.is_empty()
            && services.is_empty()
            && through.is_empty()
            && options.is_empty());
        !asks_for_more
            && !waiting
            && shares.ends.len() == targets.len()
            && shares.each_once(graph.files.len()) == *requested
    }

    /// This evaluation after some of its targets were evaluated `again`. `gone` says by place in
    /// [`Evaluation::targets`] which may be others now; all targets of `packages` are gone, and
    /// what is in them now is in `again`. This one must be
    /// [replaceable](Evaluation::is_replaceable).
    ///
    /// `None` where what is new cannot be distinguished from the rest, or where a result has the
    /// name of another one: then everything is to be evaluated.
    pub fn replaced(
        self,
        gone: &[bool],
        packages: &[WsPath],
        again: Evaluation,
    ) -> Option<Evaluation> {
        if !again.asks_for_whole_targets() {
            return None;
        }
        let names = PublishedNames::new(&self, gone, &again);
        let stay = |place: usize| gone.get(place) == Some(&false);
        let results = self.results_that_stay(&stay, &names)?;
        let needed = Closure::of(&self.graph, results).steps;
        let mut new = NewTargets::of(&again, packages);
        let Evaluation {
            graph,
            shares: new_shares,
            diagnostics,
            sources,
            read,
            trail,
            ..
        } = again;
        let kept = self.definitions_besides(&read, packages);
        // Rows of the newer graph keep their numbers.
        let newer = Joining::from_tables(graph.into_tables());
        let mut taking = newer.taking_from(self.graph.into_tables());
        for id in needed {
            taking.step(id)?;
        }
        let mut targets = Vec::with_capacity(self.targets.len());
        let mut shares = Shares::default();
        for (place, id) in self.targets.into_iter().enumerate() {
            if stay(place) {
                targets.push(taking.target(id));
                let files = self.shares.get(place)?.iter();
                shares.push(files.map(|file| taking.file(*file)));
                continue;
            }
            let row = taking.left(id)?;
            for (id, place) in new.take(&row.package, &row.address)? {
                targets.push(id);
                shares.push(new_shares.get(place)?.iter().copied());
            }
        }
        if new.is_any_left() {
            return None;
        }
        let graph = taking.finish()?;
        let mut evaluation = Evaluation {
            targets,
            shares,
            diagnostics,
            sources,
            read,
            kept,
            trail,
            answers: self.answers,
            ..Evaluation::default()
        };
        evaluation.graph = graph.finish().ok()?;
        evaluation.requested = evaluation.shares.each_once(evaluation.graph.files.len());
        Some(evaluation)
    }

    /// The definition files that are neither in such packages nor among those that were read again.
    fn definitions_besides(&self, read: &[WsPath], packages: &[WsPath]) -> Vec<WsPath> {
        let is_new: FxHashSet<&WsPath> = read.iter().collect();
        let whole: FxHashSet<&WsPath> = packages.iter().collect();
        let stays = |path: &&WsPath| {
            let package = path.parent();
            !is_new.contains(path) && package.is_none_or(|package| !whole.contains(&package))
        };
        self.definitions().filter(stays).cloned().collect()
    }

    /// The results of the targets that stay; nothing where one has a name that a new one has, too.
    fn results_that_stay(
        &self,
        stay: &dyn Fn(usize) -> bool,
        names: &PublishedNames,
    ) -> Option<Vec<FileId>> {
        let mut results = Vec::new();
        let targets = self.targets.iter().enumerate();
        for (place, id) in targets.filter(|(place, _)| stay(*place)) {
            if names.clash(self.graph.target(*id)) {
                return None;
            }
            results.extend_from_slice(self.shares.get(place)?);
        }
        Some(results)
    }
}

/// Names under which results are published now that no target had that is gone.
struct PublishedNames {
    names: FxHashSet<WsPath>,
    /// The folders on the way to them.
    above: FxHashSet<WsPath>,
}

impl PublishedNames {
    fn new(old: &Evaluation, gone: &[bool], again: &Evaluation) -> PublishedNames {
        let names = |evaluation: &Evaluation, id: &TargetId| -> Vec<WsPath> {
            evaluation
                .graph
                .target(*id)
                .results
                .iter()
                .map(|result| result.publish.clone())
                .collect()
        };
        let was_there = old.targets.iter().zip(gone).filter(|(_, gone)| **gone);
        let before: FxHashSet<WsPath> = was_there.flat_map(|(id, _)| names(old, id)).collect();
        let now = again.targets.iter().flat_map(|id| names(again, id));
        let names: FxHashSet<WsPath> = now.filter(|name| !before.contains(name)).collect();
        let above = names
            .iter()
            .flat_map(|name| std::iter::successors(name.parent(), WsPath::parent));
        PublishedNames {
            above: above.collect(),
            names,
        }
    }

    /// Whether a target publishes something under one of the names, below it or above it.
    fn clash(&self, target: &Target) -> bool {
        let is_one = |name: &WsPath| {
            let mut at_and_above = std::iter::successors(Some(name.clone()), WsPath::parent);
            self.above.contains(name) || at_and_above.any(|folder| self.names.contains(&folder))
        };
        !self.names.is_empty() && target.results.iter().any(|result| is_one(&result.publish))
    }
}

/// A target that was evaluated again, and its place there.
type NewTarget = (TargetId, usize);

/// Targets that were evaluated again, on their way to the places where they were.
struct NewTargets {
    /// Those of whole packages, in their order, until they are taken.
    packages: FxHashMap<WsPath, Vec<NewTarget>>,
    /// Packages that are evaluated again as wholes.
    whole: FxHashSet<WsPath>,
    /// Single ones by their addresses.
    single: FxHashMap<Arc<str>, NewTarget>,
}

impl NewTargets {
    fn of(again: &Evaluation, packages: &[WsPath]) -> NewTargets {
        let whole: FxHashSet<WsPath> = packages.iter().cloned().collect();
        let mut new = NewTargets {
            packages: FxHashMap::default(),
            whole,
            single: FxHashMap::default(),
        };
        for (place, id) in again.targets.iter().enumerate() {
            let target = again.graph.target(*id);
            if new.whole.contains(&target.package) {
                new.packages
                    .entry(target.package.clone())
                    .or_default()
                    .push((*id, place));
            } else {
                new.single.insert(target.address.clone(), (*id, place));
            }
        }
        new
    }

    /// What takes the place of a target; `None` where nothing does that was asked for.
    fn take(&mut self, package: &WsPath, address: &Arc<str>) -> Option<Vec<NewTarget>> {
        if self.whole.contains(package) {
            // The first one that is gone makes room for all.
            return Some(self.packages.remove(package).unwrap_or_default());
        }
        Some(vec![self.single.remove(address)?])
    }

    /// Whether there are some for which there is no place: of packages without a target until now.
    fn is_any_left(&self) -> bool {
        !self.packages.is_empty() || !self.single.is_empty()
    }
}
