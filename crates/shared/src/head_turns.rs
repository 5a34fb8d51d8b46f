//! Several builds with one key at once: each head leads to all that was given, also by those who
//! wrote it last.

use std::sync::Arc;

use crate::heads::{ChannelHead, SIGNED_LIMIT};
use crate::index::{Branch, SegmentRow};
use crate::publish::{Next, Publisher};
use crate::settling::{TRIES, let_settle};
use crate::shelf::{SharedStore, SharedTrouble};

impl SharedStore {
    /// What a key wrote last of a channel, as it is there now.
    ///
    /// # Errors
    /// When that cannot be had whole: a new head would leave it out.
    pub(crate) fn branch_now(
        &self,
        channel: &str,
        key: &Publisher,
    ) -> Result<Option<Arc<Branch>>, SharedTrouble> {
        let own = key.public();
        let name = ChannelHead::object(channel, &own);
        let bytes = self.get(&name, None, SIGNED_LIMIT);
        let whole = |trouble: Option<SharedTrouble>| trouble.map_or(Ok(()), Err);
        whole(self.hidden())?;
        let Some(bytes) = bytes else { return Ok(None) };
        let head = ChannelHead::open(&bytes, channel, &own).ok_or(SharedTrouble::Lies(name))?;
        let branch = self.branch(own, head).map(Arc::new);
        whole(self.hidden())?;
        Ok(branch)
    }
}

impl Publisher {
    /// Lets the head lead to what `build` makes of what is there at that moment, `row` among it.
    /// Where the store is a folder one after another does so. Elsewhere it is looked whether
    /// somebody wrote over it, and done again.
    ///
    /// # Errors
    /// When something cannot be read or put, or others write all the time.
    pub(crate) fn add_to_head(
        &self,
        shared: &SharedStore,
        row: Option<&SegmentRow>,
        build: &dyn Fn(Option<&Branch>) -> Result<Next, SharedTrouble>,
    ) -> Result<(), SharedTrouble> {
        let name = self.head_name();
        for tried in 0..TRIES {
            let turn = shared.turn_of(&name)?;
            let before = shared.branch_now(self.channel(), self)?;
            let manifest = self.put_head(shared, before.as_deref(), build(before.as_deref())?)?;
            if turn.is_some() {
                return Ok(());
            }
            let_settle(tried);
            let now = shared.branch_now(self.channel(), self)?;
            let leads_there = |branch: &Branch| {
                let has_row = row.is_some_and(|row| {
                    branch
                        .manifest
                        .segments
                        .iter()
                        .any(|s| s.digest == row.digest)
                });
                branch.head.manifest == manifest || has_row
            };
            if now.is_some_and(|branch| leads_there(&branch)) {
                return Ok(());
            }
        }
        Err(SharedTrouble::Machine(
            "others give results with the same key all the time".to_owned(),
        ))
    }

    /// The object in which the head is.
    pub(crate) fn head_name(&self) -> String {
        ChannelHead::object(self.channel(), &self.public())
    }

    /// Makes sure that nobody wrote with this key since something was read.
    ///
    /// # Errors
    /// When somebody did.
    pub(crate) fn must_be_last(
        &self,
        shared: &SharedStore,
        read: &Branch,
    ) -> Result<(), SharedTrouble> {
        let now = shared.branch_now(self.channel(), self)?;
        match now.map(|now| now.head.manifest) {
            Some(now) if now == read.head.manifest => Ok(()),
            _ => Err(SharedTrouble::Machine(
                "results were given meanwhile with the same key: do it again".to_owned(),
            )),
        }
    }
}
