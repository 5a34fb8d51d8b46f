//! What is known of the workspace when an editor asks: the last evaluation that was done, beside
//! which the next one goes on.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, unbounded};
use nubrik_graph::{FileNode, StepId, Target, TargetId};
use nubrik_lang::topics::Topic;
use nubrik_lang::{AddressPattern, Evaluation, ToldName};
use nubrik_session::Session;
use nubrik_source::WsPath;

/// A workspace with no more definition files than this is evaluated whole each time.
const SMALL: usize = 300;

/// How long nothing is typed before it is evaluated.
const PAUSE: Duration = Duration::from_millis(120);

/// How long nothing is typed before a large workspace is evaluated whole.
const QUIET: Duration = Duration::from_secs(2);

/// What an evaluation gave.
pub struct Evaluated {
    pub evaluation: Evaluation,
    /// All definition files that there were.
    pub files: Vec<WsPath>,
    /// How many steps each target has, and how long they took the last time, in microseconds.
    pub costs: HashMap<TargetId, (usize, u64)>,
    /// What names of the packages are that an editor looks at.
    pub names: Vec<ToldName>,
    /// The packages that an editor looks at: they were evaluated with all below them.
    pub packages: Vec<WsPath>,
    /// The texts that the editor had then.
    pub texts: UnsavedTexts,
    /// Whether all packages were evaluated, and what is only questionable is reported, too;
    /// otherwise those that the editor looks at, with what they need.
    pub is_whole: bool,
}

/// Texts that an editor has and that may not be saved, by their paths.
pub type UnsavedTexts = HashMap<WsPath, Arc<str>>;

/// Evaluates on a thread of its own, so that nobody who types waits for it: of a large workspace
/// what the editor looks at, and all of it as soon as nothing was typed for a while.
pub fn evaluate_beside(
    mut session: Session,
    wanted: Receiver<UnsavedTexts>,
    done: Sender<Arc<Evaluated>>,
) {
    let is_small = session.definition_files(&WsPath::root()).len() <= SMALL;
    // What was evaluated last, if only in part.
    let mut in_part: Option<UnsavedTexts> = None;
    loop {
        let next = match &in_part {
            Some(texts) => match wanted.recv_timeout(QUIET) {
                Err(RecvTimeoutError::Timeout) => Some((texts.clone(), true)),
                next => next.ok().map(|texts| (texts, is_small)),
            },
            None => wanted.recv().ok().map(|texts| (texts, is_small)),
        };
        let Some((mut texts, is_whole)) = next else {
            return;
        };
        // Only the last texts count.
        while let Ok(newer) = wanted.recv_timeout(if is_whole && !is_small {
            Duration::ZERO
        } else {
            PAUSE
        }) {
            texts = newer;
        }
        in_part = (!is_whole).then(|| texts.clone());
        if done
            .send(Arc::new(evaluated(&mut session, texts, is_whole)))
            .is_err()
        {
            return;
        }
    }
}

fn evaluated(session: &mut Session, texts: UnsavedTexts, is_whole: bool) -> Evaluated {
    let mut packages: Vec<WsPath> = texts.keys().filter_map(WsPath::parent).collect();
    packages.sort();
    packages.dedup();
    let unsaved: Vec<WsPath> = texts
        .keys()
        .filter(|path| path.as_str().ends_with(".nub"))
        .cloned()
        .collect();
    session.take_unsaved(texts.clone());
    let evaluation = if is_whole {
        session.lint()
    } else {
        let patterns: Vec<AddressPattern> = packages.iter().map(AddressPattern::below).collect();
        session.evaluate(&patterns)
    };
    let costs = costs(session, &evaluation);
    let names = session.told_names(&packages);
    let mut files = session.definition_files(&WsPath::root());
    files.extend(unsaved);
    files.sort();
    files.dedup();
    Evaluated {
        evaluation,
        files,
        costs,
        names,
        packages,
        texts,
        is_whole,
    }
}

fn costs(session: &Session, evaluation: &Evaluation) -> HashMap<TargetId, (usize, u64)> {
    let graph = &evaluation.graph;
    let mut costs: HashMap<TargetId, (usize, u64)> = HashMap::new();
    for number in 0..graph.steps.len() as u32 {
        let step = graph.step(StepId(number));
        let micros = session.state().cost_of(step.folder.as_str()).unwrap_or(0);
        let cost = costs.entry(step.target).or_default();
        *cost = (cost.0 + 1, cost.1 + micros);
    }
    costs
}

/// What answers are made from.
pub struct EditorKnowledge {
    pub evaluated: Arc<Evaluated>,
    /// The last evaluation of all packages, which may be an older one.
    pub whole: Option<Arc<Evaluated>>,
    pub topics: Vec<Topic>,
}

impl EditorKnowledge {
    /// Takes what an evaluation gave.
    pub fn take(&mut self, evaluated: Arc<Evaluated>) {
        if evaluated.is_whole {
            self.whole = Some(evaluated.clone());
        }
        self.evaluated = evaluated;
    }

    /// What was evaluated, the newest first.
    pub fn all(&self) -> impl Iterator<Item = &Evaluated> {
        let older = self
            .whole
            .iter()
            .filter(|whole| !Arc::ptr_eq(whole, &self.evaluated));
        std::iter::once(&self.evaluated)
            .chain(older)
            .map(|evaluated| &**evaluated)
    }

    /// Whether what an evaluation says of a definition file is of an older state than the newest
    /// one knows.
    pub fn is_outdated(&self, evaluated: &Evaluated, file: &WsPath) -> bool {
        let newest = &*self.evaluated;
        !std::ptr::eq(evaluated, newest)
            && newest.packages.iter().any(|package| file.is_in(package))
    }

    fn is_current(&self, evaluated: &Evaluated, target: &Target) -> bool {
        let file = WsPath::root().resolve(&target.place.file);
        file.is_ok_and(|file| !self.is_outdated(evaluated, &file))
    }

    /// A target by its address, with the evaluation that knows it.
    pub fn target(&self, address: &str) -> Option<(&Evaluated, TargetId)> {
        self.all().find_map(|known| {
            let id = known.evaluation.graph.find_target(address)?;
            self.is_current(known, known.evaluation.graph.target(id))
                .then_some((known, id))
        })
    }

    /// A file by its path, with the evaluation that knows it.
    pub fn file(&self, path: &str) -> Option<(&Evaluated, &FileNode)> {
        self.all().find_map(|known| {
            let mut files = known.evaluation.graph.files.iter();
            Some((known, files.find(|file| file.path.as_str() == path)?))
        })
    }

    /// Targets that are declared and fit, each once.
    pub fn targets<'k>(
        &'k self,
        fits: impl Fn(&Target) -> bool + 'k,
    ) -> impl Iterator<Item = &'k Target> {
        // Only older evaluations are looked through by it.
        let newest = std::cell::LazyCell::new(|| self.evaluated.evaluation.graph.target_index());
        let all = self.all().flat_map(|known| {
            known
                .evaluation
                .graph
                .targets
                .iter()
                .map(move |t| (known, t))
        });
        let fitting = all.filter(move |(_, target)| target.is_declared() && fits(target));
        let once = fitting.filter(move |(known, target)| {
            let is_newest = std::ptr::eq(*known, &*self.evaluated);
            is_newest || newest.find(&target.address).is_none() && self.is_current(known, target)
        });
        once.map(|(_, target)| target)
    }

    pub fn topic(&self, name: &str) -> Option<&Topic> {
        self.topics.iter().find(|topic| topic.name == name)
    }
}

/// The two ends of a thread that evaluates.
pub type Beside = (Sender<UnsavedTexts>, Receiver<Arc<Evaluated>>);

/// Begins to evaluate beside whoever asks.
pub fn begin(session: Session) -> Beside {
    let (wanted, receiver) = unbounded();
    let (sender, done) = unbounded();
    std::thread::spawn(move || evaluate_beside(session, receiver, sender));
    (wanted, done)
}
