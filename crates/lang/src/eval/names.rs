//! Looking for cycles between declarations and for names that mean nothing, without evaluating
//! them.

use nubrik_graph::{Edge, is_acyclic};
use nubrik_source::{Span, WsPath};

use super::Evaluator;
use super::requests::{LONG_CHAIN, needs_first};
use super::selection::is_lazy;
use crate::cycles::References;
use crate::hir::*;
use crate::modules::Modules;
use crate::value::*;

/// A use of one declaration by another, by their numbers, and where it is.
pub(super) type NumberedEdge = (u32, u32, Span);

impl Evaluator<'_> {
    /// Reports declarations that lead back to themselves, starting from some, and marks them
    /// failed. Where there is none, gives all that is reached after what it refers to, if some of
    /// that is a long chain.
    pub(super) fn find_cycles(&mut self, roots: &[DeclId]) -> Vec<DeclId> {
        let (nodes, edges) = self.reached(roots);
        let between: Vec<Edge> = edges
            .iter()
            .map(|&(from, to, _)| Edge { from, to })
            .collect();
        let mut chains = Vec::new();
        // Nearly always: then nothing needs a name.
        if is_acyclic(nodes.len() as u32, &between) {
            let (order, longest) = needs_first(nodes.len(), &between);
            if longest > LONG_CHAIN {
                chains.extend(order.into_iter().map(|number| nodes[number as usize]));
            }
        } else {
            let mut references: References<DeclId> = References::new();
            for key in &nodes {
                let module = self.module(key.module);
                references.node(key, || title(module.decl(*key)));
            }
            edges
                .iter()
                .for_each(|&(from, to, span)| references.edge(from, to, span));
            let (errors, failed) = references.cycles();
            for error in errors {
                let reported = self.definitions.modules.report_whole(error);
                failed
                    .iter()
                    .for_each(|key| self.mark_failed(*key, reported));
            }
        }
        self.find_kit_cycles();
        chains
    }

    /// Everything that some declarations lead to, in the order in which it is met, and which of
    /// them refers to which by number, where. Maps refer to nothing: whether one needs itself shows
    /// when its entries are evaluated.
    pub(super) fn reached(&mut self, roots: &[DeclId]) -> (Vec<DeclId>, Vec<NumberedEdge>) {
        let mut numbers: Vec<Vec<Option<u32>>> = Vec::new();
        let mut nodes: Vec<DeclId> = Vec::with_capacity(roots.len());
        let mut edges = Vec::with_capacity(roots.len());
        let mut number_of = |modules: &Modules, nodes: &mut Vec<DeclId>, key: DeclId| {
            let index = key.module.index();
            if numbers.len() <= index {
                numbers.resize_with(index + 1, Vec::new);
            }
            if numbers[index].is_empty() {
                numbers[index].resize(modules.get(key.module).decls.len(), None);
            }
            *numbers[index][key.index()].get_or_insert_with(|| {
                nodes.push(key);
                nodes.len() as u32 - 1
            })
        };
        for root in roots {
            number_of(&self.definitions.modules, &mut nodes, *root);
        }
        let mut at = 0;
        while at < nodes.len() {
            let (key, from) = (nodes[at], at as u32);
            at += 1;
            let module = self.module(key.module);
            let decl = module.decl(key);
            let lazy = is_lazy(&module, decl);
            for reference in &decl.references {
                let Some(to) = self.follow(key.module, reference) else {
                    continue;
                };
                let number = number_of(&self.definitions.modules, &mut nodes, to);
                let other = self.definitions.modules.get(to.module);
                if !lazy && !is_lazy(other, other.decl(to)) {
                    edges.push((from, number, reference.span));
                }
            }
        }
        (nodes, edges)
    }

    /// The declaration that a reference means; errors are left to evaluation.
    pub(super) fn follow(&mut self, from: ModuleId, reference: &Reference) -> Option<DeclId> {
        match &reference.to {
            ReferenceTo::Decl(number) => Some(DeclId::new(from, *number)),
            ReferenceTo::Member(number, name) => {
                let kit = self
                    .definitions
                    .modules
                    .used(self.world, from, *number)
                    .ok()?;
                match self.module(kit).names.get(name) {
                    Some(Bound::Decl(decl)) => Some(DeclId::new(kit, *decl)),
                    _ => None,
                }
            }
            ReferenceTo::Address(path) => {
                let path = WsPath::root().resolve(path).ok()?;
                match self.meanings(&path).ok()?.as_slice() {
                    [meaning] => Some(meaning.decl),
                    _ => None,
                }
            }
        }
    }

    /// Reports names in `use { … }` that their kit does not have.
    pub(super) fn check_names(&mut self, module: ModuleId, number: u32, kit: &Use, to: ModuleId) {
        for name in &kit.names {
            if let Err(diagnostic) = self.definitions.modules.member(module, to, name)
                && self
                    .definitions
                    .bad_names
                    .insert((module, number, name.text.clone()))
            {
                self.definitions.modules.report(name.span, diagnostic);
            }
        }
    }

    /// Reports kits that use each other in a ring, and names that kits do not have.
    pub(super) fn find_kit_cycles(&mut self) {
        let mut references: References<ModuleId> = References::new();
        let mut at = 0;
        while at < self.definitions.modules.modules.len() {
            let id = ModuleId(at as u32);
            at += 1;
            let module = self.module(id);
            let from = references.node(&id, || Title {
                word: "kit",
                name: module.title.clone(),
            });
            for (number_of_use, kit) in module.uses.iter().enumerate() {
                let number_of_use = number_of_use as u32;
                if let Ok(to) = self.definitions.modules.used(self.world, id, number_of_use) {
                    let other = self.module(to);
                    let number = references.node(&to, || Title {
                        word: "kit",
                        name: other.title.clone(),
                    });
                    references.edge(from, number, kit.path_span);
                    self.check_names(id, number_of_use, kit, to);
                }
            }
        }
        let (errors, _) = references.cycles();
        self.definitions.modules.diagnostics.extend(errors);
    }
}

pub(super) fn title(decl: &Decl) -> Title {
    Title {
        word: decl.kind.word(),
        name: decl.name.text.clone(),
    }
}
