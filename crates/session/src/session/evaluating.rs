//! Evaluation of what is asked for.

use nubrik_lang::{AddressPattern, Evaluation, Evaluator, WatchedWorld};
use nubrik_source::WsPath;

use super::Session;
use crate::world::DiskWorld;

/// Stack for evaluation, in bytes: definitions nest deeper than a thread's usual stack allows.
const EVALUATION_STACK: usize = 256 << 20;

impl Session {
    /// Has evaluation note what is taken from where.
    pub fn take_notes(&mut self) {
        self.takes_notes = true;
    }

    /// Evaluation takes these texts for those of the definition files with their paths, whatever
    /// the disk holds: an editor has not saved them.
    pub fn take_unsaved(&mut self, texts: std::collections::HashMap<WsPath, std::sync::Arc<str>>) {
        self.unsaved = texts;
    }

    /// Evaluates what some addresses ask for. Where answers of probes are missing the evaluation is
    /// waiting: [`Session::answer`] finds them, and then evaluation is to be asked again.
    pub fn evaluate(&self, patterns: &[AddressPattern]) -> Evaluation {
        self.evaluate_watching(patterns, self.wants_trails())
    }

    /// Whether what values are taken from is wanted: for a seal, or by the caller.
    pub(super) fn wants_trails(&self) -> bool {
        self.is_held || self.takes_notes
    }

    /// Evaluates what some addresses ask for; `watching` says whether it is noted what values are
    /// taken from.
    pub(super) fn evaluate_watching(
        &self,
        patterns: &[AddressPattern],
        watching: bool,
    ) -> Evaluation {
        nubrik_confine::allow_huge_pages(true);
        // A folder may hold many packages; anything narrower is quicker by one thread.
        if let [pattern] = patterns
            && !pattern.is_glob()
        {
            let threads = std::thread::available_parallelism().map_or(1, usize::from);
            let world = DiskWorld::new(&self.workspace, &self.machine, &self.answers)
                .with_unsaved(&self.unsaved);
            let below = nubrik_lang::evaluate_below(
                &world,
                &self.settings,
                pattern,
                threads,
                EVALUATION_STACK,
                watching,
            );
            if let Some(evaluation) = below {
                *self.seen.lock() = world.into_seen();
                return evaluation;
            }
        }
        self.with_evaluator(watching, |evaluator| evaluator.request(patterns))
    }

    /// The same for everything that is declared, with all options and who reached them.
    pub fn evaluate_options(&self) -> Evaluation {
        let all = AddressPattern::below(&WsPath::root());
        self.with_evaluator(self.wants_trails(), |evaluator| {
            evaluator.with_option_infos().request(&[all])
        })
    }

    /// Evaluates everything, and reports what is only questionable, too.
    pub fn lint(&self) -> Evaluation {
        self.with_evaluator(self.wants_trails(), |evaluator| {
            evaluator.lint(&self.other_profiles())
        })
    }

    /// Tries the examples in the documentation of kits that an evaluation read.
    pub fn try_examples(&self, read: &[WsPath]) -> nubrik_lang::ExampleReport {
        let world = DiskWorld::new(&self.workspace, &self.machine, &self.answers)
            .with_unsaved(&self.unsaved);
        on_large_stack(|| nubrik_lang::try_examples(&world, read))
    }

    /// What targets that some patterns mean, and those that they need, were given, where a kind
    /// makes them.
    pub fn told_fields(&self, patterns: &[AddressPattern]) -> Vec<nubrik_lang::ToldCall> {
        let world = DiskWorld::new(&self.workspace, &self.machine, &self.answers)
            .with_unsaved(&self.unsaved);
        on_large_stack(|| {
            Evaluator::new(&world)
                .with_settings(&self.settings)
                .told_fields(patterns)
        })
    }

    /// What all `let`s and options of some packages are, as far as they can be evaluated.
    pub fn told_names(&self, packages: &[WsPath]) -> Vec<nubrik_lang::ToldName> {
        let world = DiskWorld::new(&self.workspace, &self.machine, &self.answers)
            .with_unsaved(&self.unsaved);
        on_large_stack(|| {
            Evaluator::new(&world)
                .with_settings(&self.settings)
                .told_names(packages)
        })
    }

    pub(super) fn with_evaluator(
        &self,
        watching: bool,
        work: impl FnOnce(Evaluator<'_>) -> Evaluation + Send,
    ) -> Evaluation {
        let world = DiskWorld::new(&self.workspace, &self.machine, &self.answers)
            .with_unsaved(&self.unsaved);
        let evaluation = on_large_stack(|| {
            let watched = watching.then(|| WatchedWorld::new(&world));
            let evaluator = match &watched {
                Some(watched) => Evaluator::watching(watched),
                None => Evaluator::new(&world),
            };
            work(evaluator.with_settings(&self.settings))
        });
        *self.seen.lock() = world.into_seen();
        evaluation
    }
}

/// What a panic carries where it is no fault of this program: the machine, or a limit that it was
/// started with, lacks something.
#[derive(Debug)]
pub struct MachineLacks(pub String);

/// Does something on a thread with room for definitions that nest deep.
fn on_large_stack<T: Send>(work: impl FnOnce() -> T + Send) -> T {
    std::thread::scope(|scope| {
        let running = std::thread::Builder::new()
            .stack_size(EVALUATION_STACK)
            .spawn_scoped(scope, work);
        match running.map(std::thread::ScopedJoinHandle::join) {
            Ok(Ok(done)) => done,
            Ok(Err(panic)) => std::panic::resume_unwind(panic),
            // Nothing can be said of definitions then; whoever runs this program says it to the
            // person.
            Err(e) => {
                std::panic::panic_any(MachineLacks(format!("a thread cannot be started: {e}")))
            }
        }
    })
}
