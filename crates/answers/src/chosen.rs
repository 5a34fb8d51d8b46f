//! Which tests are run: by tag, path, last result, and changes.

use std::collections::BTreeMap;

use nubrik_diagnostic::nearest;
use nubrik_graph::{FileId, Step, StepId, steps_after};
use nubrik_lang::Evaluation;
use nubrik_session::{Session, SinceProblem};

/// The tests that are asked for: their verdicts and the steps that give them.
pub fn tests_of(evaluation: &Evaluation) -> Vec<(FileId, StepId)> {
    let graph = &evaluation.graph;
    let through = &evaluation.through;
    let tests = evaluation
        .requested
        .iter()
        .filter_map(|file| Some((*file, graph.file(*file).maker?)));
    if through.is_empty() {
        return tests.collect();
    }
    let mut is_named = vec![false; graph.targets.len()];
    through
        .iter()
        .for_each(|target| is_named[target.index()] = true);
    let index = graph.target_index();
    let uses = steps_after(graph, |id| {
        let step = graph.step(id);
        let mut services = Vec::new();
        step.services
            .iter()
            .for_each(|service| service.add_to(&mut services));
        let mut served = services
            .iter()
            .filter_map(|service| index.of_service(service));
        is_named[step.target.index()] || served.any(|target| is_named[target.index()])
    });
    tests.filter(|(_, step)| uses[step.index()]).collect()
}

/// Tests that are left out, by why.
pub type LeftOut = BTreeMap<String, usize>;

/// Which tests are wanted. Without any wish all are.
#[derive(Clone, Copy, Default)]
pub struct TestsWanted<'a> {
    /// Those with a tag.
    pub tag: Option<&'a str>,
    /// Those with one of these texts in their paths.
    pub filter: &'a [String],
    /// Those that failed the last time.
    pub failed: bool,
    /// Those that a change since a revision can affect.
    pub since: Option<&'a str>,
}

/// Why no test can be chosen.
pub enum NoSuchTests {
    /// None has the tag: all tags that there are, sorted, and the one that was probably meant.
    Tag {
        /// The tags of all tests.
        known: Vec<String>,
        /// The nearest one.
        near: Option<String>,
    },
    /// None has one of the texts in its path.
    Filter,
    /// Git does not know what changed.
    Since(SinceProblem),
}

/// Tests that are chosen, and those that are left out.
pub struct ChosenTests {
    /// Their verdicts and the steps that give them.
    pub tests: Vec<(FileId, StepId)>,
    /// How many are left out, by why.
    pub left_out: LeftOut,
}

impl ChosenTests {
    /// Those of an evaluation's tests that are wanted.
    ///
    /// # Errors
    /// Where a wish fits no test at all, or git does not know what changed.
    pub fn of(
        session: &Session,
        evaluation: &Evaluation,
        wanted: TestsWanted<'_>,
    ) -> Result<ChosenTests, NoSuchTests> {
        let graph = &evaluation.graph;
        let mut chosen = ChosenTests {
            tests: tests_of(evaluation),
            left_out: LeftOut::new(),
        };
        if let Some(tag) = wanted.tag {
            let has_tag = |step: StepId| graph.owner(step).tags.iter().any(|t| **t == *tag);
            if !chosen.tests.iter().any(|(_, step)| has_tag(*step)) {
                return Err(no_tag(evaluation, &chosen.tests, tag));
            }
            chosen.leave(|step| (!has_tag(step)).then(|| format!("not tagged {tag}")));
        }
        if !wanted.filter.is_empty() {
            let path = |step: StepId| {
                graph
                    .step(step)
                    .check
                    .as_ref()
                    .map_or("", |check| &check.address)
            };
            let is_meant = |step: StepId| {
                wanted
                    .filter
                    .iter()
                    .any(|text| path(step).contains(text.as_str()))
            };
            if !chosen.tests.iter().any(|(_, step)| is_meant(*step)) {
                return Err(NoSuchTests::Filter);
            }
            let texts = wanted.filter.join(" or ");
            chosen.leave(|step| {
                (!is_meant(step)).then(|| format!("the path does not contain {texts}"))
            });
        }
        if wanted.failed {
            chosen.leave(|step| unless_failed(session, graph.step(step)));
        }
        if let Some(revision) = wanted.since {
            let changed = session
                .changed_since(revision, evaluation)
                .map_err(NoSuchTests::Since)?;
            let reached = changed.steps_reached(graph);
            chosen.leave(|step| {
                (!reached[step.index()])
                    .then(|| format!("nothing they depend on changed since {revision}"))
            });
        }
        Ok(chosen)
    }

    /// Keeps some of the tests: those of which `why` gives no reason to leave them out.
    pub fn leave(&mut self, why: impl Fn(StepId) -> Option<String>) {
        let ChosenTests { tests, left_out } = self;
        tests.retain(|(_, step)| match why(*step) {
            None => true,
            Some(why) => {
                *left_out.entry(why).or_default() += 1;
                false
            }
        });
    }

    /// The verdicts of the chosen tests.
    pub fn files(&self) -> Vec<FileId> {
        self.tests.iter().map(|(file, _)| *file).collect()
    }
}

/// Why a test is no one that failed the last time; nothing where it is one.
fn unless_failed(session: &Session, step: &Step) -> Option<String> {
    match session.state().steps.get(step.folder.as_str()) {
        Some(memory) if memory.outputs.is_empty() => None,
        Some(_) => Some("passed the last time".to_owned()),
        None => Some("never ran here".to_owned()),
    }
}

fn no_tag(evaluation: &Evaluation, tests: &[(FileId, StepId)], tag: &str) -> NoSuchTests {
    let graph = &evaluation.graph;
    let mut known: Vec<&str> = tests
        .iter()
        .flat_map(|(_, step)| &graph.owner(*step).tags)
        .map(|tag| &**tag)
        .collect();
    known.sort_unstable();
    known.dedup();
    let near = nearest(tag, known.iter().copied()).map(str::to_owned);
    NoSuchTests::Tag {
        known: known.into_iter().map(str::to_owned).collect(),
        near,
    }
}
