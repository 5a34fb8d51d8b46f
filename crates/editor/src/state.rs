//! What is known of the workspace when an editor asks: the last evaluation that was done, beside which the next one goes on.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use nubrik_graph::{StepId, TargetId};
use nubrik_lang::topics::Topic;
use nubrik_lang::{AddressPattern, Evaluation, ToldName};
use nubrik_session::Session;
use nubrik_source::WsPath;

/// A workspace with no more definition files than this is evaluated whole, and told what is only questionable in it, too.
const WHOLE: usize = 300;

/// How long nothing is typed before it is evaluated.
const PAUSE: Duration = Duration::from_millis(120);

/// What an evaluation gave.
pub struct Evaluated {
    pub evaluation: Evaluation,
    /// All definition files that there were.
    pub files: Vec<WsPath>,
    /// How many steps each target has, and how long they took the last time, in microseconds.
    pub costs: HashMap<TargetId, (usize, u64)>,
    /// What names of the packages are that an editor looks at.
    pub names: Vec<ToldName>,
}

/// UnsavedTexts that an editor has, by their paths.
pub type UnsavedTexts = HashMap<WsPath, Arc<str>>;

/// Evaluates on a thread of its own, so that nobody who types waits for it.
pub fn evaluate_beside(mut session: Session, wanted: Receiver<UnsavedTexts>, done: Sender<Arc<Evaluated>>) {
    let count = session.definition_files(&WsPath::root()).len();
    while let Ok(mut texts) = wanted.recv() {
        // Only the last texts count.
        while let Ok(newer) = wanted.recv_timeout(PAUSE) {
            texts = newer;
        }
        let mut packages: Vec<WsPath> = texts.keys().filter_map(WsPath::parent).collect();
        packages.sort();
        packages.dedup();
        let unsaved: Vec<WsPath> =
            texts.keys().filter(|path| path.as_str().ends_with(".nub")).cloned().collect();
        session.take_unsaved(texts);
        let evaluation = if count <= WHOLE {
            session.lint()
        } else {
            let patterns: Vec<AddressPattern> = packages.iter().map(AddressPattern::below).collect();
            session.evaluate(&patterns)
        };
        let costs = costs(&session, &evaluation);
        let names = session.told_names(&packages);
        let mut files = session.definition_files(&WsPath::root());
        files.extend(unsaved);
        files.sort();
        files.dedup();
        if done.send(Arc::new(Evaluated { evaluation, files, costs, names })).is_err() {
            return;
        }
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
    pub topics: Vec<Topic>,
}

impl EditorKnowledge {
    pub fn topic(&self, name: &str) -> Option<&Topic> {
        self.topics.iter().find(|topic| topic.name == name)
    }
}

/// The two ends of a thread that evaluates.
pub type Beside = (Sender<UnsavedTexts>, Receiver<Arc<Evaluated>>);

/// Begins to evaluate beside whoever asks.
pub fn begin(session: Session) -> Beside {
    let (wanted, receiver) = channel();
    let (sender, done) = channel();
    std::thread::spawn(move || evaluate_beside(session, receiver, sender));
    (wanted, done)
}
