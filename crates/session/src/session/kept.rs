//! Requests of commands that only read: their result is kept, and is the answer as long as nothing
//! changes that evaluation looked at.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use nubrik_diagnostic::Severity;
use nubrik_disk::Below;
use nubrik_engine::OutsideFiles;
use nubrik_lang::{AddressPattern, Answer, AnswerText, Evaluation, World};
use nubrik_memory::{
    Change, Entry, KeptRead, Names, NewSeal, ReadTrails, Roles, Seal, SealNews, Sealed, env_digest,
    keep_read, read_path,
};
use nubrik_source::{FilePath, WsPath};
use rustc_hash::FxHashSet;

use super::Session;
use super::again::{AgainEvaluated, AskedBefore, kind};
use super::standing::threads;
use crate::world::DiskWorld;

/// What is evaluated in less time than this is evaluated each time: to keep it would cost more than
/// it saves.
pub(super) const WORTH_KEEPING: Duration = Duration::from_millis(50);

/// What is evaluated for a command that only reads.
#[derive(Clone, Copy, PartialEq, Eq)]
enum ReadRequest {
    /// What some addresses mean.
    Addresses,
    /// The same, and more is evaluated in this session afterwards.
    AddressesAndMore,
    /// All options. Of this no part can be replaced.
    Options,
}

impl ReadRequest {
    /// What it is called in the digest of a request.
    fn word(self) -> &'static str {
        match self {
            ReadRequest::Addresses | ReadRequest::AddressesAndMore => "addresses",
            ReadRequest::Options => "options",
        }
    }
}

impl Session {
    /// Evaluates what some addresses ask for, as [`Session::evaluate`] does, for a command that
    /// only reads: where nothing changed since the same was asked before, the answer is what it was
    /// then.
    pub fn evaluate_to_read(&self, patterns: &[AddressPattern]) -> Evaluation {
        self.kept_or(patterns, ReadRequest::Addresses, |session, watching| {
            session.evaluate_watching(patterns, watching)
        })
    }

    /// The same for a caller that evaluates more in this session afterwards. What is kept may rest
    /// on answers of probes that this session does not have: then the evaluation waits for them, as
    /// one that follows would.
    pub fn evaluate_to_go_on(&self, patterns: &[AddressPattern]) -> Evaluation {
        self.kept_or(
            patterns,
            ReadRequest::AddressesAndMore,
            |session, watching| session.evaluate_watching(patterns, watching),
        )
    }

    /// Evaluates everything with all options and who reached them, or takes it from what is kept of
    /// it.
    pub fn options_to_read(&self) -> Evaluation {
        self.kept_or(
            &[AddressPattern::below(&WsPath::root())],
            ReadRequest::Options,
            |session, _| session.evaluate_options(),
        )
    }

    /// Has evaluations kept that took at least so long.
    pub fn keep_evaluations_from(&mut self, time: Duration) {
        self.worth_keeping = time;
    }

    fn kept_or(
        &self,
        patterns: &[AddressPattern],
        request: ReadRequest,
        evaluate: impl FnOnce(&Session, bool) -> Evaluation,
    ) -> Evaluation {
        // Without a folder of the tool's own nothing is kept, and who wants the trail itself gets
        // all of it. What an editor has not saved is never kept.
        let is_of_disk = !self.takes_notes && !self.is_held && self.unsaved.is_empty();
        let own = self.own().ok().filter(|_| is_of_disk);
        let Some(own) = own else {
            return evaluate(self, self.wants_trails());
        };
        let path = read_path(&self.request_digest(patterns, request.word()));
        let lacks_answers = |kept: &Evaluation| {
            request == ReadRequest::AddressesAndMore && self.answers.len() < kept.answers as usize
        };
        if let Some(kept) = self
            .kept(own, &path, patterns)
            .filter(|kept| !lacks_answers(kept))
        {
            return kept;
        }
        // Noting what is taken from where takes a third longer. It is worth it for those who edit:
        // something was kept, and is not true any more.
        let watching = request != ReadRequest::Options && own.open_to_read(&path).is_ok();
        let (began, now) = (Instant::now(), self.machine.now());
        let mut evaluation = evaluate(self, watching);
        evaluation.answers = self.answers.len() as u32;
        if began.elapsed() >= self.worth_keeping
            && let Some(seal) = self.read_seal(&evaluation, now)
        {
            let replaceable = Some(&evaluation).filter(|it| watching && it.is_replaceable());
            let trails = replaceable.and_then(ReadTrails::of);
            // Without it the next command takes longer: nothing else is lost.
            if keep_read(own, &path, &evaluation, trails.as_ref(), seal).is_ok() {
                self.have_learnt(own, &path);
            }
        }
        evaluation
    }

    fn kept(&self, own: &Below, path: &str, patterns: &[AddressPattern]) -> Option<Evaluation> {
        let (mut seal, changes) = self.sealed_at(own, path)?;
        let kept = KeptRead::open(own, path, &seal)?;
        let evaluation = match self.same_entries(&seal, &changes) {
            Some(news) => {
                if !news.entries.is_empty() {
                    // Without it the same folders are listed once more.
                    let _ = seal.add(own, path, news);
                }
                kept.read(threads())?
            }
            None => {
                self.kept_in_part(&kept, &kept.trails(own, path)?, &seal, &changes, patterns)?
            }
        };
        // Reasons name files that were edited.
        let mut seen = self.seen.lock();
        for (path, entry) in seal.with_role(Roles::READ) {
            seen.files.entry(path).or_insert(entry);
        }
        Some(evaluation)
    }

    /// What is to be noted of changes by which nothing is another thing: a folder in which a file
    /// was put in place by renaming holds what it held. `None` where something else changed.
    fn same_entries(&self, seal: &Seal, changes: &[Change]) -> Option<SealNews> {
        let mut news = SealNews::default();
        let world = DiskWorld::new(&self.workspace, &self.machine, &self.answers)
            .with_unsaved(&self.unsaved);
        for change in changes {
            let (entry, at) = (seal.entry(change.number), seal.path(change.number));
            let is_same = entry.roles == entry.roles.only(Roles::LISTED.and(Roles::KIND))
                && kind(entry.signature) == kind(change.now)
                && (!entry.roles.has(Roles::LISTED) || is_listed_as(&world, at, entry.listing));
            if !is_same {
                return None;
            }
            news.entries.insert(
                FilePath::from_text(at.into()),
                Entry {
                    signature: change.now,
                    ..entry
                },
            );
        }
        Some(news)
    }

    /// What was kept with what some changes reach evaluated again; `None` where everything is to be
    /// evaluated. It is not kept:
    /// what was edited just now is likely to be edited again, and each time only what differs from
    /// what was kept is evaluated.
    fn kept_in_part(
        &self,
        kept: &KeptRead,
        trails: &ReadTrails,
        seal: &Seal,
        changes: &[Change],
        patterns: &[AddressPattern],
    ) -> Option<Evaluation> {
        let touched = self.touched(seal, changes, Some(&trails.trails))?;
        let old = kept.read(threads())?;
        let asked = KeptTargets {
            evaluation: &old,
            trails,
        };
        let AgainEvaluated {
            evaluation: again,
            reached,
            packages,
        } = self.evaluated_again(patterns, &touched, &asked, &trails.trails)?;
        let is_reached = |unit: u32| reached.get(unit as usize).is_some_and(|reached| *reached);
        let whole: FxHashSet<&WsPath> = packages.iter().collect();
        let gone: Vec<bool> = old
            .targets
            .iter()
            .enumerate()
            .map(|(place, id)| {
                trails.unit(place).is_some_and(is_reached)
                    || whole.contains(&old.graph.target(*id).package)
            })
            .collect();
        let mut evaluation = old.replaced(&gone, &packages, again)?;
        let root = &self.workspace.root;
        evaluation.retain_definitions(|path| root.join(path.as_str()).is_file());
        Some(evaluation)
    }

    /// A seal on what evaluation looked at since `began` (nanoseconds since 1970); `None` where the
    /// same request may come to something else though none of that seems to change.
    fn read_seal(&self, evaluation: &Evaluation, began: i64) -> Option<NewSeal> {
        let is_error = |d: &nubrik_diagnostic::Diagnostic| d.severity == Severity::Error;
        if evaluation.waiting || evaluation.diagnostics.iter().any(is_error) {
            return None;
        }
        let seen = self.seen.lock();
        let mut entries: BTreeMap<FilePath, Entry> = BTreeMap::new();
        #[allow(clippy::iter_over_hash_type)] // Into a sorted map.
        for (path, entry) in &seen.files {
            entries.insert(path.clone(), *entry);
        }
        entries.extend(self.looked_at_besides()?);
        if entries
            .values()
            .filter_map(|entry| entry.signature)
            .any(|found| found.is_young_since(began))
        {
            return None;
        }
        let mut env: Vec<_> = seen
            .env
            .iter()
            .map(|(n, v)| (n.clone(), env_digest(v.as_deref())))
            .collect();
        env.sort();
        let samples = seen
            .samples
            .iter()
            .map(|(r, answer)| (r.clone(), AnswerText::digest(answer)))
            .collect();
        Some(NewSeal {
            sealed: Sealed::default(),
            graph: Default::default(),
            env,
            samples,
            entries,
        })
    }
}

/// The targets of a kept evaluation.
struct KeptTargets<'k> {
    evaluation: &'k Evaluation,
    trails: &'k ReadTrails,
}

impl AskedBefore for KeptTargets<'_> {
    fn count(&self) -> usize {
        self.evaluation.targets.len()
    }

    fn place(&self, number: usize) -> Option<(WsPath, Arc<str>)> {
        let target = self
            .evaluation
            .graph
            .target(*self.evaluation.targets.get(number)?);
        let name = target.address.rsplit('/').next().unwrap_or(&target.address);
        Some((target.package.clone(), name.into()))
    }

    fn unit(&self, number: usize) -> Option<u32> {
        self.trails.unit(number)
    }
}

/// Whether a folder holds the names that it held.
fn is_listed_as(world: &DiskWorld<'_>, path: &str, before: Names) -> bool {
    let path = if path == "." { "" } else { path };
    let Answer::Ready(listing) = world.list(&WsPath::from_normal(path)) else {
        return false;
    };
    Names::of(&listing) == before
}
