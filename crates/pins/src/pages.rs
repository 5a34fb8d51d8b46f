//! What is known of packages in one resolution: each page read once, several asked for at once.

use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use crate::PinProblem;
use crate::desk::Desk;

/// How many pages are asked for at once.
const AT_ONCE: usize = 16;

/// What gives the page of a package; `None` if no origin has one.
type AskForPage<T> = fn(&Desk<'_>, &str) -> Result<Option<Arc<T>>, PinProblem>;

/// Pages of packages by their names.
pub(crate) struct PackagePages<'a, T> {
    desk: &'a Desk<'a>,
    ask: AskForPage<T>,
    known: RefCell<HashMap<String, Option<Arc<T>>>>,
}

impl<'a, T: Send + Sync> PackagePages<'a, T> {
    pub(crate) fn new(desk: &'a Desk<'a>, ask: AskForPage<T>) -> Self {
        PackagePages {
            desk,
            ask,
            known: RefCell::default(),
        }
    }

    /// The page of a package; `None` if no origin has one.
    pub(crate) fn get(&self, name: &str) -> Result<Option<Arc<T>>, PinProblem> {
        if let Some(known) = self.known.borrow().get(name) {
            return Ok(known.clone());
        }
        let page = (self.ask)(self.desk, name)?;
        self.known
            .borrow_mut()
            .insert(name.to_owned(), page.clone());
        Ok(page)
    }

    /// Whether a page was asked for.
    pub(crate) fn has(&self, name: &str) -> bool {
        self.known.borrow().contains_key(name)
    }

    /// Asks for all these pages that are not known yet, several at once.
    pub(crate) fn expect<'n>(
        &self,
        names: impl Iterator<Item = &'n str>,
    ) -> Result<(), PinProblem> {
        let unknown: BTreeSet<&str> = names.filter(|name| !self.has(name)).collect();
        let unknown: Vec<&str> = unknown.into_iter().collect();
        let (desk, ask) = (self.desk, self.ask);
        for some in unknown.chunks(AT_ONCE) {
            let found: Vec<_> = std::thread::scope(|scope| {
                let asked: Vec<_> = some
                    .iter()
                    .map(|name| (*name, scope.spawn(move || ask(desk, name))))
                    .collect();
                asked
                    .into_iter()
                    .filter_map(|(name, asking)| Some((name, asking.join().ok()?)))
                    .collect()
            });
            for (name, page) in found {
                self.known.borrow_mut().insert(name.to_owned(), page?);
            }
        }
        Ok(())
    }
}
