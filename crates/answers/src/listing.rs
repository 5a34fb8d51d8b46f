//! Targets as they are listed: by kind and tag, with how many entries each has, and the cases of
//! tests.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use nubrik_diagnostic::nearest;
use nubrik_graph::{Graph, Role, Step, Target, TargetId};
use nubrik_reports::cases::Case;
use nubrik_session::Session;
use serde::Serialize;

/// A target of a list, for programs.
#[derive(Serialize)]
pub struct TargetEvent<'a> {
    event: &'static str,
    target: &'a str,
    kind: &'a str,
    role: &'static str,
    documentation: &'a str,
    defined: String,
    private: bool,
    entries: usize,
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    tags: &'a [Arc<str>],
}

impl<'a> TargetEvent<'a> {
    /// The event about a target of a graph, whose entries are counted.
    pub fn of(target: &'a Target, entries: &EntryCounts<'_>) -> TargetEvent<'a> {
        TargetEvent {
            event: "target",
            target: &target.address,
            kind: &target.kind,
            role: target.role.word(),
            documentation: &target.documentation,
            defined: target.place.to_string(),
            private: target.private,
            entries: entries.count(target),
            tags: &target.tags,
        }
    }
}

/// How many targets there are of a kind, for programs.
#[derive(Serialize)]
pub struct KindEvent<'a> {
    event: &'static str,
    /// The kind.
    pub kind: &'a str,
    /// How many.
    pub targets: usize,
}

/// How many targets there are of each kind, the most first.
pub fn kinds_of<'a>(targets: &[&'a Target]) -> Vec<KindEvent<'a>> {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for target in targets {
        *counts.entry(&target.kind).or_default() += 1;
    }
    let mut counts: Vec<KindEvent<'a>> = counts
        .into_iter()
        .map(|(kind, targets)| KindEvent {
            event: "kind",
            kind,
            targets,
        })
        .collect();
    counts.sort_by_key(|kind| (std::cmp::Reverse(kind.targets), kind.kind));
    counts
}

/// Which targets are listed.
#[derive(Clone, Copy, Default)]
pub struct TargetsOf<'a> {
    /// Those of a kind alone.
    pub kind: Option<&'a str>,
    /// Those with a tag alone.
    pub tag: Option<&'a str>,
}

/// No target is of the kind or has the tag that was asked for.
#[derive(Debug)]
pub struct NothingOfThat<'a> {
    /// Whether it was the tag; else it was the kind.
    pub is_tag: bool,
    /// The word that was asked for.
    pub wanted: &'a str,
    /// All kinds, or all tags, that there are, sorted.
    pub known: Vec<&'a str>,
    /// The one of them that was probably meant.
    pub near: Option<&'a str>,
}

impl<'a> TargetsOf<'a> {
    /// Those of some targets that are meant.
    ///
    /// # Errors
    /// Where there are targets, and none of them is meant.
    pub fn among(self, all: &[&'a Target]) -> Result<Vec<&'a Target>, NothingOfThat<'a>> {
        let is_meant = |target: &&&'a Target| {
            self.kind.is_none_or(|kind| *target.kind == *kind)
                && self
                    .tag
                    .is_none_or(|tag| target.tags.iter().any(|other| **other == *tag))
        };
        let targets: Vec<&Target> = all.iter().filter(is_meant).copied().collect();
        if targets.is_empty() && !all.is_empty() {
            Err(self.nothing(all))
        } else {
            Ok(targets)
        }
    }

    fn nothing(self, all: &[&'a Target]) -> NothingOfThat<'a> {
        let mut known: Vec<&str> = match self.tag {
            Some(_) => all
                .iter()
                .flat_map(|t| t.tags.iter().map(|t| &**t))
                .collect(),
            None => all.iter().map(|t| &*t.kind).collect(),
        };
        known.sort_unstable();
        known.dedup();
        let wanted = self.tag.or(self.kind).unwrap_or_default();
        // Tests, jobs and services go by the words that declare them.
        let declared = match wanted {
            "check" => Some("test"),
            "effect" => Some("job"),
            "serve" => Some("service"),
            _ => None,
        };
        let declared = declared.filter(|word| known.contains(word));
        let near = declared.or_else(|| nearest(wanted, known.iter().copied()));
        NothingOfThat {
            is_tag: self.tag.is_some(),
            wanted,
            known,
            near,
        }
    }
}

/// How many entries targets have: single tests of tests, results of all others.
pub struct EntryCounts<'g> {
    tests: HashMap<&'g str, BTreeSet<&'g str>>,
}

impl<'g> EntryCounts<'g> {
    /// Those of the targets of a graph.
    pub fn of(graph: &'g Graph) -> EntryCounts<'g> {
        let mut tests: HashMap<&str, BTreeSet<&str>> = HashMap::new();
        for step in &graph.steps {
            if let Some(check) = &step.check {
                tests
                    .entry(&graph.target(step.target).address)
                    .or_default()
                    .insert(&check.address);
            }
        }
        EntryCounts { tests }
    }

    fn count(&self, target: &Target) -> usize {
        if target.role == Role::Test {
            return self.tests.get(&*target.address).map_or(0, BTreeSet::len);
        }
        let mut addresses: Vec<&str> = target.results.iter().map(|r| &*r.address).collect();
        addresses.sort_unstable();
        addresses.dedup();
        addresses.len()
    }

    /// What a target is, for people: what is run or tested is distinguished from what is built.
    pub fn kind<'t>(&self, target: &'t Target) -> Cow<'t, str> {
        match target.role {
            Role::Test => match self.count(target) {
                1 => "test".into(),
                count => format!("{count} tests").into(),
            },
            Role::Job => "job".into(),
            Role::Service => "service".into(),
            Role::Inner | Role::Target => match &*target.kind {
                "map" => format!("map of {}", self.count(target)).into(),
                kind => kind.into(),
            },
        }
    }
}

/// A case of a test, for programs; of a test without any case one that has its state.
#[derive(Serialize)]
pub struct ListedCase<'a> {
    event: &'static str,
    target: &'a str,
    group: &'a str,
    name: &'a str,
    state: &'static str,
}

/// A test with the cases that it reported the last time.
pub struct TestCases<'g> {
    /// The address of the test.
    pub test: &'g str,
    /// `passed`, `failed` or `not run`.
    pub state: &'static str,
    /// Its cases; none where it reported none, or never ran.
    pub cases: Vec<Case>,
}

impl<'g> TestCases<'g> {
    /// Those of all tests of some targets.
    pub fn of<'s>(
        session: &'s Session,
        graph: &'g Graph,
        targets: &'s HashSet<TargetId>,
    ) -> impl Iterator<Item = TestCases<'g>> + use<'s, 'g> {
        let steps = graph
            .steps
            .iter()
            .filter(|step| targets.contains(&step.target));
        steps.filter_map(|step| TestCases::of_step(session, graph, step))
    }

    fn of_step(session: &Session, graph: &'g Graph, step: &'g Step) -> Option<TestCases<'g>> {
        let check = step.check.as_ref()?;
        let passed = session
            .state()
            .steps
            .get(step.folder.as_str())
            .map(|m| !m.outputs.is_empty());
        let state = match passed {
            Some(true) => "passed",
            Some(false) => "failed",
            None => "not run",
        };
        let cases = session
            .cases(graph, step)
            .filter(|_| passed.is_some())
            .unwrap_or_default();
        Some(TestCases {
            test: &check.address,
            state,
            cases,
        })
    }

    /// The same for programs.
    pub fn events(&self) -> Vec<ListedCase<'_>> {
        let event = |group, name, state| ListedCase {
            event: "case",
            target: self.test,
            group,
            name,
            state,
        };
        match self.cases.as_slice() {
            [] => vec![event("", "", self.state)],
            cases => cases
                .iter()
                .map(|case| event(&case.group, &case.name, case.outcome.word()))
                .collect(),
        }
    }
}
