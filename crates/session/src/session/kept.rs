//! Requests of commands that only read: their result is kept, and is the answer as long as nothing changes that evaluation
//! looked at.

use std::collections::BTreeMap;
use std::sync::PoisonError;
use std::time::{Duration, Instant};

use nubrik_diagnostic::Severity;
use nubrik_disk::Below;
use nubrik_engine::Outside;
use nubrik_lang::{AddressPattern, Answer, AnswerText, Evaluation, SampleRequest, World};
use nubrik_memory::{
    Entry, Journal, Names, NewSeal, Roles, Seal, SealNews, Sealed, env_digest, keep_read, kept_read,
    read_path,
};
use nubrik_source::{FilePath, WsPath};

use super::Session;
use super::standing::{kind, threads};
use crate::world::DiskWorld;

/// What is evaluated in less time than this is evaluated each time: to keep it would cost more than it saves.
pub(super) const WORTH_KEEPING: Duration = Duration::from_millis(50);

impl Session {
    /// Evaluates what some addresses ask for, as [`Session::evaluate`] does, for a command that only reads: where nothing
    /// changed since the same was asked before, the answer is what it was then.
    pub fn evaluate_to_read(&self, patterns: &[AddressPattern]) -> Evaluation {
        self.kept_or(patterns, "addresses", |session| session.evaluate(patterns))
    }

    /// Evaluates everything with all options and who reached them, or takes it from what is kept of it.
    pub fn options_to_read(&self) -> Evaluation {
        self.kept_or(&[AddressPattern::below(&WsPath::root())], "options", Session::evaluate_options)
    }

    /// Has evaluations kept that took at least so long.
    pub fn keep_evaluations_from(&mut self, time: Duration) {
        self.worth_keeping = time;
    }

    fn kept_or(
        &self,
        patterns: &[AddressPattern],
        what: &str,
        evaluate: impl FnOnce(&Session) -> Evaluation,
    ) -> Evaluation {
        // Notes of what was taken from where are not kept. Without a folder of the tool's own nothing is, either.
        let own = self.own().ok().filter(|_| !self.takes_notes && !self.is_held);
        let Some(own) = own else { return evaluate(self) };
        let path = read_path(&self.request_digest(patterns, what));
        if let Some(kept) = self.kept(own, &path) {
            return kept;
        }
        let (began, now) = (Instant::now(), self.machine.now());
        let evaluation = evaluate(self);
        if began.elapsed() >= self.worth_keeping
            && let Some(seal) = self.read_seal(&evaluation, now)
        {
            // Without it the next command takes longer: nothing else is lost.
            let _ = keep_read(own, &path, &evaluation, seal);
        }
        evaluation
    }

    fn kept(&self, own: &Below, path: &str) -> Option<Evaluation> {
        let mut seal = Journal::<Seal>::load(own, path)?;
        let ask = |sample: &SampleRequest| AnswerText::digest(&self.machine.answer_sample(sample));
        let changes = seal.check(self.machine.below(), ask, threads())?;
        let mut news = SealNews::default();
        let world = DiskWorld::new(&self.workspace, &self.machine, &self.answers);
        for change in changes {
            let (entry, at) = (seal.entry(change.number), seal.path(change.number));
            // A folder in which a file was put in place by renaming holds what it held.
            let is_same = entry.roles == entry.roles.only(Roles::LISTED.and(Roles::KIND))
                && kind(entry.signature) == kind(change.now)
                && (!entry.roles.has(Roles::LISTED) || is_listed_as(&world, at, entry.listing));
            if !is_same {
                return None;
            }
            news.entries.insert(FilePath::from_text(at.into()), Entry { signature: change.now, ..entry });
        }
        let evaluation = kept_read(own, path, &seal, threads())?;
        // Reasons name files that were edited.
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        seen.files.extend(seal.with_role(Roles::READ));
        drop(seen);
        if !news.entries.is_empty() {
            // Without it the same folders are listed once more.
            let _ = seal.add(own, path, news);
        }
        Some(evaluation)
    }

    /// A seal on what evaluation looked at since `began` (nanoseconds since 1970); `None` where the same request may come to
    /// something else though none of that seems to change.
    fn read_seal(&self, evaluation: &Evaluation, began: i64) -> Option<NewSeal> {
        let is_error = |d: &nubrik_diagnostic::Diagnostic| d.severity == Severity::Error;
        if evaluation.waiting || evaluation.diagnostics.iter().any(is_error) {
            return None;
        }
        let seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let mut entries: BTreeMap<FilePath, Entry> = BTreeMap::new();
        #[allow(clippy::iter_over_hash_type)] // Into a sorted map.
        for (path, entry) in &seen.files {
            entries.insert(path.clone(), *entry);
        }
        entries.extend(self.looked_at_besides()?);
        if entries.values().filter_map(|entry| entry.signature).any(|found| found.is_young_since(began)) {
            return None;
        }
        let mut env: Vec<_> = seen.env.iter().map(|(n, v)| (n.clone(), env_digest(v.as_deref()))).collect();
        env.sort();
        let samples =
            seen.samples.iter().map(|(r, answer)| (r.clone(), AnswerText::digest(answer))).collect();
        Some(NewSeal { sealed: Sealed::default(), graph: Default::default(), env, samples, entries })
    }
}

/// Whether a folder holds the names that it held.
fn is_listed_as(world: &DiskWorld<'_>, path: &str, before: Names) -> bool {
    let path = if path == "." { "" } else { path };
    let Answer::Ready(listing) = world.list(&WsPath::from_normal(path)) else { return false };
    Names::of(&listing) == before
}
