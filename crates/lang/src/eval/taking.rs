//! What is taken from which declaration: a part of the definitions can only be evaluated again by
//! itself because this is known.

use std::sync::Arc;

use super::Evaluator;
use crate::hir::{DeclId, ModuleId};
use crate::trail::WatchedWorld;

/// Says that it was noted that the value being evaluated takes something from a declaration. What a
/// declaration says of its value is only given to who holds one ([`crate::hir::Decl::content`]),
/// and nothing but taking note makes one.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Taken(());

impl Evaluator<'_> {
    /// Takes note that the value being evaluated takes something from a declaration.
    pub(super) fn take_from(&mut self, id: DeclId) -> Taken {
        if let Some(watched) = self.watched {
            watched.take_from(self.unit_of(id));
        }
        Taken(())
    }

    /// Takes note that a name was looked for in a module and is not there.
    pub(super) fn miss(&mut self, module_id: ModuleId, name: &Arc<str>) {
        if let Some(watched) = self.watched {
            let unit = watched.unit(&self.definitions.modules.get(module_id).title, name, true);
            watched.take_from(unit);
        }
    }

    pub(super) fn unit_of(&mut self, id: DeclId) -> u32 {
        let Some(watched) = self.watched else {
            return 0;
        };
        if let Some(unit) = self.definitions.units.get(&id) {
            return *unit;
        }
        let module = self.definitions.modules.get(id.module);
        let unit = watched.unit(&module.title, &module.decl(id).name.text, false);
        self.definitions.units.insert(id, unit);
        unit
    }

    /// The unit that is being evaluated.
    pub(super) fn unit(&self) -> u32 {
        self.watched.map_or(0, WatchedWorld::current)
    }

    pub(super) fn enter_unit(&mut self, id: DeclId) -> Option<u32> {
        let watched = self.watched?;
        Some(watched.enter(self.unit_of(id)))
    }

    pub(super) fn leave_unit(&mut self, outer: Option<u32>) {
        if let (Some(watched), Some(outer)) = (self.watched, outer) {
            watched.enter(outer);
        }
    }

    /// Does something as a part of a declaration.
    pub(super) fn in_unit<T>(&mut self, id: DeclId, work: impl FnOnce(&mut Self) -> T) -> T {
        let outer = self.enter_unit(id);
        let result = work(self);
        self.leave_unit(outer);
        result
    }
}
