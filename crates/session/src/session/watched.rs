//! Looking at what a seal covers: at what a watcher doubts, or at everything where none answers.

use std::sync::atomic::{AtomicBool, Ordering};

use nubrik_bytes::{Digest, Layout};
use nubrik_disk::{Below, Signature};
use nubrik_lang::{AnswerText, SampleRequest};
use nubrik_memory::{Change, Journal, OpenJournal, Seal, ToLookAt};
use nubrik_watcher::{Doubt, WatcherAnswer, WatcherHeld, WatcherPlace, WatcherStatus};

use super::Session;
use super::standing::threads;

/// What starts a watcher, with the tool's own folder, and the path in it of the seal that it begins
/// with.
pub type StartWatcher = Box<dyn Fn(&Below, &str) + Send + Sync>;

/// How a session has to do with its workspace's watcher.
#[derive(Default)]
pub(super) struct Watching {
    start: Option<StartWatcher>,
    /// Whether one was started: one is enough.
    has_started: AtomicBool,
}

impl Session {
    /// Has a watcher started where one is to be kept and none answers.
    pub fn start_watchers_by(&mut self, start: StartWatcher) {
        self.watching.start = Some(start);
    }

    /// Whether the kernel says all that happens to the workspace's files.
    ///
    /// # Errors
    /// Why not.
    pub fn can_watch(&self) -> Result<(), Doubt> {
        nubrik_watcher::can_watch(self.machine.below().top())
    }

    /// How the workspace's watcher is; `None` where there is none.
    pub fn watcher_status(&self) -> Option<WatcherStatus> {
        self.watcher_of(self.own().ok()?).status()
    }

    /// Has the watcher stay as long as what this gives; `None` where there is none.
    pub fn keep_watcher(&self) -> Option<WatcherHeld> {
        self.watcher_of(self.own().ok()?).stay()
    }

    fn watcher_of<'s>(&'s self, own: &'s Below) -> WatcherPlace<'s> {
        WatcherPlace::new(self.machine.below(), own, this_program())
    }

    /// The seal at a path of the tool's own folder, with what changed of it; `None` where there is
    /// none, or more changed than can be listed.
    pub(super) fn sealed_at(
        &self,
        own: &Below,
        path: &str,
    ) -> Option<(Journal<Seal>, Vec<Change>)> {
        let open = OpenJournal::<Seal>::open(own, path)?;
        let ask = |sample: &SampleRequest| AnswerText::digest(&self.machine.answer_sample(sample));
        let (seal, which) = match self.doubtful(own, path, &open) {
            Some(numbers) => (open.known_to_be_whole()?, Some(numbers)),
            None => (open.checked()?, None),
        };
        let which = which.as_deref().map_or(ToLookAt::All, ToLookAt::Only);
        let changes = seal.check(self.machine.below(), which, ask, threads())?;
        Some((seal, changes))
    }

    /// What a watcher doubts of a seal; `None` where everything is to be looked at.
    fn doubtful(&self, own: &Below, path: &str, seal: &OpenJournal<Seal>) -> Option<Vec<u32>> {
        match self
            .watcher_of(own)
            .doubtful(path, seal.version, seal.signature)
        {
            Some(WatcherAnswer::Doubtful(numbers)) => Some(numbers),
            Some(WatcherAnswer::All(_)) => None,
            _ => {
                self.start_watcher(own, path);
                None
            }
        }
    }

    /// A seal was written: a watcher learns it.
    pub(super) fn have_learnt(&self, own: &Below, path: &str) {
        if !self.watcher_of(own).learn(path) {
            self.start_watcher(own, path);
        }
    }

    fn start_watcher(&self, own: &Below, path: &str) {
        let Some(start) = &self.watching.start else {
            return;
        };
        if self.can_watch().is_ok() && !self.watching.has_started.swap(true, Ordering::Relaxed) {
            start(own, path);
        }
    }
}

/// What tells this program from all others: a watcher of another one may mean something else by the
/// same words.
pub fn this_program() -> Digest {
    let own = std::env::current_exe().ok().and_then(|path| {
        let path = path.to_str()?.to_owned();
        Signature::at(rustix::fs::CWD, path.as_bytes(), true)
    });
    Digest::of(&own.unwrap_or_default().to_bytes())
}
