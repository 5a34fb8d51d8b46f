//! Which lines of the workspace's sources tests ran.

use std::collections::BTreeSet;
use std::ops::RangeInclusive;
use std::time::SystemTime;

use nubrik_disk::read_open;
use nubrik_engine::{CONSTANT_ROOT, OutsideFiles};
use nubrik_graph::{Closure, FileId, Graph, Native, Needs, SetId, StepId};
use nubrik_lang::Evaluation;
use nubrik_reports::coverage::{BranchSum, Coverage, LineCounts};
use nubrik_session::{ChangedLines, Session};
use nubrik_source::{FilePath, WsPath};
use rustc_hash::FxHashMap;
use serde::Serialize;

/// What tests reported of the lines that they ran.
#[derive(Default)]
pub struct Covered {
    /// The lines of the workspace's sources, by paths from its root.
    pub lines: Coverage,
    /// Tests that passed and tell of no lines.
    pub not_counted: Vec<StepId>,
    /// Tests whose account cannot be read, with what is wrong with it.
    pub unreadable: Vec<(StepId, String)>,
    /// Sources of the tests and of what they need that no test tells of, though of others with the
    /// same ending some do.
    pub not_covered: Vec<WsPath>,
}

/// Where files that steps put together come from.
struct SourceOrigins<'g> {
    graph: &'g Graph,
    staged: FxHashMap<WsPath, FileId>,
    sources: BTreeSet<&'g str>,
}

impl Covered {
    /// What some tests, which passed, reported of the lines that they ran: now, or when their
    /// verdicts were made.
    pub fn of(session: &Session, evaluation: &Evaluation, tests: &[StepId]) -> Covered {
        let graph = &evaluation.graph;
        let mut covered = Covered::default();
        let mut verdicts: Vec<FileId> = Vec::new();
        verdicts.extend(
            tests
                .iter()
                .filter_map(|test| Some(graph.step(*test).check.as_ref()?.verdict)),
        );
        // Of each step, whether it or one behind it tells: those behind it come first. What several
        // tests need ran once.
        let mut tells = vec![false; graph.steps.len()];
        let needs = Needs::of(graph);
        for step in Closure::of(graph, verdicts.iter().copied()).steps {
            tells[step.index()] = needs.of_step(step).iter().any(|need| tells[need.index()]);
            for account in graph.step(step).accounts_of_lines() {
                tells[step.index()] = true;
                match lines_in(session, &graph.file(account).path) {
                    Ok(lines) => covered.lines.merge(lines),
                    Err(problem) => covered.unreadable.push((step, problem)),
                }
            }
        }
        let silent = tests
            .iter()
            .filter(|test| graph.step(**test).check.is_some() && !tells[test.index()]);
        covered.not_counted.extend(silent);
        let origins = SourceOrigins::of(graph, verdicts);
        let roots = [
            session.workspace.root.to_string_lossy().into_owned(),
            CONSTANT_ROOT.to_owned(),
        ];
        covered.lines = covered.lines.renamed(|path| {
            let inside = roots
                .iter()
                .find_map(|root| path.strip_prefix(root.as_str())?.strip_prefix('/'));
            origins.source(inside.unwrap_or(path))
        });
        covered.not_covered = origins.not_covered(&covered.lines);
        covered
    }
}

/// The lines that a step reported in a file as those that ran in it.
///
/// # Errors
/// When that cannot be read, for people.
fn lines_in(session: &Session, path: &WsPath) -> Result<Coverage, String> {
    let bytes = session
        .machine()
        .read(&FilePath::from(path))
        .map_err(|e| e.to_string())?;
    // A program that was named and did not run tells nothing.
    if bytes.is_empty() {
        return Ok(Coverage::default());
    }
    nubrik_reports::coverage::read(&bytes).map_err(|e| e.to_string())
}

/// The files in which steps tell which lines ran, of all steps behind some files.
pub fn accounts_of_lines(graph: &Graph, files: &[FileId]) -> Vec<FileId> {
    let steps = Closure::of(graph, files.iter().copied()).steps;
    steps
        .iter()
        .flat_map(|step| graph.step(*step).accounts_of_lines())
        .collect()
}

/// The lines that tests ran the last time that this was asked, in the tool's own folder.
const LINES: &str = "lines.info";

/// The lines that are kept may have so many bytes.
const LINES_LIMIT: u64 = 64 << 20;

/// Keeps which lines tests ran, for pages that show them later. That it cannot be kept harms
/// nothing else.
pub fn keep_lines(session: &Session, lines: &Coverage) {
    if let Ok(own) = session.workspace.own() {
        let _ = own.write_whole(LINES, lines.to_lcov().as_bytes());
    }
}

/// The lines that tests ran when that was asked the last time, and when that was; nothing where it
/// never was.
pub fn kept_lines(session: &Session) -> Option<(Coverage, SystemTime)> {
    let file = session
        .workspace
        .own()
        .and_then(|own| own.open_to_read(LINES))
        .ok()?;
    let when = file.metadata().and_then(|meta| meta.modified()).ok()?;
    let bytes = read_open(file, LINES_LIMIT).ok()?;
    Some((nubrik_reports::coverage::read(&bytes).ok()?, when))
}

/// Lines that changed since a revision, and how many of them ran.
#[derive(Clone, Copy)]
pub struct ChangedSince<'a> {
    /// The revision, as it was named.
    pub revision: &'a str,
    /// The lines.
    pub lines: &'a ChangedLines,
}

impl ChangedSince<'_> {
    /// How many changed lines of a file ran, and how many can.
    pub fn ran_and_all(&self, path: &str, lines: &LineCounts) -> (usize, usize) {
        let here = || lines.iter().filter(|(line, _)| self.lines.has(path, *line));
        (
            here().filter(|(_, times)| *times > 0).count(),
            here().count(),
        )
    }

    /// How many changed lines of all files ran, and how many can.
    pub fn sum(&self, covered: &Covered) -> (usize, usize) {
        let files = covered.lines.files.iter();
        let counts = files.map(|(path, lines)| self.ran_and_all(path, lines));
        counts.fold((0, 0), |(ran, all), (ran_here, all_here)| {
            (ran + ran_here, all + all_here)
        })
    }
}

/// The path of a test, or of the target that a step belongs to.
pub fn test_path(graph: &Graph, step: StepId) -> &str {
    let step = graph.step(step);
    match &step.check {
        Some(check) => &check.address,
        None => &graph.target(step.target).address,
    }
}

/// The lines of a file that tests ran.
#[derive(Serialize)]
pub struct CoverageEvent<'a> {
    event: &'static str,
    file: &'a str,
    lines: usize,
    covered: usize,
    /// First and last lines of those that did not run.
    uncovered: Vec<(u32, u32)>,
    /// Where the counter knows branches.
    #[serde(skip_serializing_if = "Option::is_none")]
    branches: Option<BranchCounts>,
    #[serde(skip_serializing_if = "Option::is_none")]
    uncovered_changed: Option<Vec<(u32, u32)>>,
}

/// The lines of all files that tests ran.
#[derive(Serialize)]
pub struct CoverageSumEvent<'a> {
    event: &'static str,
    files: usize,
    lines: usize,
    covered: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    branches: Option<BranchCounts>,
    #[serde(skip_serializing_if = "Option::is_none")]
    changed: Option<ChangedSum>,
    not_covered: Vec<&'a str>,
    not_counted: Vec<&'a str>,
    unreadable: Vec<&'a str>,
}

#[derive(Serialize)]
struct BranchCounts {
    all: usize,
    taken: usize,
    /// Lines that ran and have a branch that was never taken.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    partly: Vec<u32>,
}

impl BranchCounts {
    fn of(sum: BranchSum, partly: Vec<u32>) -> Option<BranchCounts> {
        (sum.all > 0).then_some(BranchCounts {
            all: sum.all,
            taken: sum.taken,
            partly,
        })
    }
}

#[derive(Serialize)]
struct ChangedSum {
    lines: usize,
    covered: usize,
}

impl Covered {
    /// An event for each file.
    pub fn events<'a>(
        &'a self,
        changed: Option<ChangedSince<'a>>,
    ) -> impl Iterator<Item = CoverageEvent<'a>> {
        let pairs = |lines: Vec<RangeInclusive<u32>>| {
            lines
                .into_iter()
                .map(RangeInclusive::into_inner)
                .collect::<Vec<_>>()
        };
        self.lines
            .files
            .iter()
            .map(move |(path, lines)| CoverageEvent {
                event: "coverage",
                file: path,
                lines: lines.len(),
                covered: lines.covered(),
                uncovered: pairs(lines.uncovered()),
                branches: BranchCounts::of(lines.branch_sum(), lines.partly_run()),
                uncovered_changed: changed
                    .map(|changed| pairs(lines.uncovered_of(|line| changed.lines.has(path, line)))),
            })
    }

    /// The event about all of them.
    pub fn sum_event<'a>(
        &'a self,
        graph: &'a Graph,
        changed: Option<ChangedSince<'_>>,
    ) -> CoverageSumEvent<'a> {
        let (ran, all) = self.lines.total();
        let changed = changed.map(|changed| changed.sum(self));
        CoverageSumEvent {
            event: "coverage_sum",
            files: self.lines.files.len(),
            lines: all,
            covered: ran,
            branches: BranchCounts::of(self.lines.branch_sum(), Vec::new()),
            changed: changed.map(|(covered, lines)| ChangedSum { lines, covered }),
            not_covered: self.not_covered.iter().map(WsPath::as_str).collect(),
            not_counted: self
                .not_counted
                .iter()
                .map(|test| test_path(graph, *test))
                .collect(),
            unreadable: self
                .unreadable
                .iter()
                .map(|(test, _)| test_path(graph, *test))
                .collect(),
        }
    }
}

impl<'g> SourceOrigins<'g> {
    fn of(graph: &'g Graph, wanted: Vec<FileId>) -> SourceOrigins<'g> {
        let mut staged = FxHashMap::default();
        let mut sources = BTreeSet::new();
        let mut note = |file: &FileId| {
            let node = graph.file(*file);
            if node.maker.is_none() && !node.folder {
                sources.insert(node.path.as_str());
            }
        };
        let mut sets: BTreeSet<SetId> = BTreeSet::new();
        for id in Closure::of(graph, wanted).steps {
            let step = graph.step(id);
            step.inputs.iter().for_each(&mut note);
            // Many steps have the same ones.
            sets.extend(&step.candidates);
            if let (Some(Native::Stage { files }), Some(made)) =
                (step.native.as_deref(), step.outputs.first())
            {
                let top = &graph.file(made.file).path;
                staged.extend(
                    files
                        .iter()
                        .map(|placed| (top.join_within(&placed.to), placed.from)),
                );
            }
        }
        sets.iter()
            .flat_map(|set| graph.sets.files(*set))
            .for_each(&mut note);
        SourceOrigins {
            graph,
            staged,
            sources,
        }
    }

    /// The source that a file is, or was put together from; `None` where it is none of the
    /// workspace.
    fn source(&self, path: &str) -> Option<String> {
        let mut path = WsPath::root().resolve(path).ok()?;
        // What is put together may be put together again.
        for _ in 0..8 {
            if self.sources.contains(path.as_str()) {
                return Some(path.as_str().to_owned());
            }
            let mut above = std::iter::successors(Some(path.clone()), WsPath::parent);
            let (place, from) =
                above.find_map(|place| self.staged.get(&place).map(|from| (place, *from)))?;
            let from = &self.graph.file(from).path;
            path = path
                .below(&place)
                .map_or_else(|| from.clone(), |below| from.join(below));
        }
        None
    }

    fn not_covered(&self, lines: &Coverage) -> Vec<WsPath> {
        let ending = |path: &str| WsPath::from_normal(path).extension().to_owned();
        let endings: BTreeSet<String> = lines.files.keys().map(|path| ending(path)).collect();
        let of_kind = |path: &&&str| {
            // Headers mostly declare, and then have no line that can run; some languages never
            // count lines of tests.
            let (name, ending) = (path.rsplit('/').next().unwrap_or(path), ending(path));
            endings.contains(&ending)
                && !ending.starts_with('h')
                && !name.to_lowercase().contains("test")
        };
        let not_covered = self
            .sources
            .iter()
            .filter(of_kind)
            .filter(|path| !lines.files.contains_key(**path));
        not_covered.map(|path| WsPath::from_normal(path)).collect()
    }
}
