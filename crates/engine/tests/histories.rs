//! Random graphs and long random histories of edits, deletions, renames, interruptions, changed
//! options and tools, spoilt results, lost states and stores: after each build every result is what
//! one from nothing would be, and exactly those steps ran whose result was not there already, by a
//! model of the rules that is too simple to be wrong.
//!
//! `NUBRIK_TEST_CASES` sets how many histories are tried.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod fake;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;

use fake::{Bench, FakeStore, Joins, expanded};
use nubrik_engine::{Options, State};
use nubrik_graph::{FileId, FileNode, OutputNode, Pipeline, Program, Stage, Step, StepId, ToolId};
use nubrik_source::WsPath;
use proptest::prelude::*;

const MAINS: [&str; 3] = ["m0", "m1", "m2"];
/// Headers in two folders that bear the same names, so that one can hide the other.
const HEADERS: [&str; 6] = ["a/h0", "a/h1", "b/h0", "b/h1", "b/h2", "a/h2"];
const STEPS: usize = 6;

/// What a step is, so that all else follows from it, from the files that are there, and from the
/// option.
#[derive(Clone, Debug)]
struct Shape {
    /// Which of [`MAINS`] it reads.
    mains: Vec<usize>,
    /// Earlier steps whose first output it reads.
    needs: Vec<usize>,
    /// Whether it reads all main files that are there, too, as from a glob.
    globs: bool,
    /// Whether it looks for headers in the folders `a`, `b` and those of `made_headers`, and lists
    /// what it read.
    listing: bool,
    /// Whether `b` comes before `a`.
    b_first: bool,
    /// Earlier steps whose output is a header `h<number>` that it may include.
    made_headers: Vec<usize>,
    /// How many letters it keeps: many edits make no difference then.
    keep: Option<usize>,
    /// How many files it makes.
    outputs: usize,
    /// Whether it makes a folder, too.
    parts: bool,
    /// Whether it reads the option.
    option: bool,
}

#[derive(Clone, Debug)]
enum Edit {
    Write(usize, String),
    Touch(usize),
    Delete(usize),
    Rename(usize, usize),
    Spoil(usize),
    Remove(usize),
    /// A file more in a folder that a step made.
    Stray(usize),
    Reshape(usize, Shape),
    SetOption(u8),
    SetTool(bool),
    /// The next build is stopped after so many steps.
    Interrupt(usize),
    ForgetState,
    /// The state goes through its file and log.
    Reload,
    LoseStore,
    /// What is kept cannot be put in place.
    BreakStore(bool),
}

fn shape() -> impl Strategy<Value = Shape> {
    let few = |n: usize| prop::collection::vec(0..n, 0..3);
    let flags = (
        any::<bool>(),
        any::<bool>(),
        any::<bool>(),
        any::<bool>(),
        any::<bool>(),
    );
    (
        few(3),
        few(STEPS),
        few(STEPS),
        prop::option::of(0usize..6),
        1usize..3,
        flags,
    )
        .prop_map(
            |(
                mains,
                needs,
                made_headers,
                keep,
                outputs,
                (globs, listing, b_first, parts, option),
            )| Shape {
                mains,
                needs,
                globs: globs && option,
                listing,
                b_first,
                made_headers,
                keep,
                outputs,
                parts: parts && globs,
                option,
            },
        )
}

fn edit() -> impl Strategy<Value = Edit> {
    let file = 0..MAINS.len() + HEADERS.len();
    let text = "([abc]|<h0>|<h1>|<h2>){0,4}!?";
    prop_oneof![
        8 => (file.clone(), text).prop_map(|(f, t)| Edit::Write(f, t)),
        1 => file.clone().prop_map(Edit::Touch),
        2 => file.clone().prop_map(Edit::Delete),
        1 => (file.clone(), file).prop_map(|(a, b)| Edit::Rename(a, b)),
        1 => (0..STEPS).prop_map(Edit::Spoil),
        1 => (0..STEPS).prop_map(Edit::Remove),
        1 => (0..STEPS).prop_map(Edit::Stray),
        2 => (0..STEPS, shape()).prop_map(|(s, shape)| Edit::Reshape(s, shape)),
        2 => (0u8..3).prop_map(Edit::SetOption),
        1 => any::<bool>().prop_map(Edit::SetTool),
        2 => (0usize..4).prop_map(Edit::Interrupt),
        1 => Just(Edit::ForgetState),
        2 => Just(Edit::Reload),
        1 => Just(Edit::LoseStore),
        1 => any::<bool>().prop_map(Edit::BreakStore),
    ]
}

fn file_name(number: usize) -> &'static str {
    MAINS
        .get(number)
        .copied()
        .unwrap_or_else(|| HEADERS[number - MAINS.len()])
}

/// A workspace with its model.
struct World {
    bench: Bench,
    shapes: Vec<Shape>,
    option: u8,
    tool: &'static str,
    /// What is in the source files.
    sources: BTreeMap<&'static str, String>,
    /// The model's store: results by all that decides them.
    kept: HashSet<String>,
    /// By folder: what decided the result that is in place, while that is true.
    in_place: HashMap<String, String>,
    store_is_broken: bool,
}

/// What the model says of one step.
struct Expected {
    /// All that decides its result.
    key: String,
    /// Its outputs with their contents; `None` where it fails or cannot run.
    outputs: Option<Vec<(String, String)>>,
    /// Whether it fails by itself.
    fails: bool,
}

impl World {
    fn folder(&self, step: usize) -> String {
        let variant = if self.shapes[step].option && self.option > 0 {
            format!("~o{}/", self.option)
        } else {
            String::new()
        };
        format!("made/t{step}/{variant}@f{step}")
    }

    /// The header that a step makes for others: its first output.
    fn first_output(&self, step: usize) -> String {
        format!("{}/h{}", self.folder(step), step % 3)
    }

    fn folders_searched(&self, step: usize) -> Vec<String> {
        let shape = &self.shapes[step];
        let mut folders: Vec<String> = if shape.b_first {
            vec!["b".into(), "a".into()]
        } else {
            vec!["a".into(), "b".into()]
        };
        let made = shape.made_headers.iter().filter(|s| **s < step);
        made.for_each(|s| folders.insert(0, self.folder(*s)));
        folders
    }

    /// Certain inputs in the order of the words, and candidates.
    fn inputs(&self, step: usize) -> (Vec<String>, Vec<String>) {
        let shape = &self.shapes[step];
        let mut certain: Vec<String> = shape.mains.iter().map(|m| MAINS[*m].to_owned()).collect();
        if shape.globs {
            certain.extend(
                MAINS
                    .iter()
                    .filter(|m| self.sources.contains_key(*m))
                    .map(|m| (*m).to_owned()),
            );
        }
        certain.extend(
            shape
                .needs
                .iter()
                .filter(|s| **s < step)
                .map(|s| self.first_output(*s)),
        );
        let mut seen = BTreeSet::new();
        certain.retain(|path| seen.insert(path.clone()));
        let mut candidates: Vec<String> = Vec::new();
        if shape.listing {
            candidates.extend(
                HEADERS
                    .iter()
                    .filter(|h| self.sources.contains_key(*h))
                    .map(|h| (*h).to_owned()),
            );
            let made = shape.made_headers.iter().filter(|s| **s < step);
            candidates.extend(made.map(|s| self.first_output(*s)));
            candidates.retain(|c| !certain.contains(c));
            candidates.sort();
            candidates.dedup();
        }
        (certain, candidates)
    }

    fn output_names(&self, step: usize) -> Vec<String> {
        let shape = &self.shapes[step];
        let mut names = vec![format!("h{}", step % 3)];
        names.extend((1..shape.outputs).map(|n| format!("more{n}")));
        names
    }

    fn words(&self, step: usize) -> Vec<String> {
        let shape = &self.shapes[step];
        let folder = self.folder(step);
        let mut words = vec!["expand".to_owned()];
        words.extend(self.inputs(step).0);
        if shape.listing {
            words.extend(
                self.folders_searched(step)
                    .into_iter()
                    .map(|f| format!("dir={f}")),
            );
            words.push(format!("listing={folder}/x.d"));
        }
        words.extend(shape.keep.map(|n| format!("keep={n}")));
        words.extend(
            self.output_names(step)
                .into_iter()
                .map(|n| format!("out={folder}/{n}")),
        );
        if shape.parts {
            words.push(format!("parts={folder}/parts"));
        }
        words
    }

    /// The graph, as evaluation would make it of the shapes and the files that are there.
    fn graph(&self) -> Joins {
        let mut joins = Joins::new();
        for step in 0..STEPS {
            joins.step(&[], &[]);
            // The step is written again below, with outputs of its own.
            let placeholder = joins.graph.steps[step].outputs[0].file;
            joins.graph.files[placeholder.index()].maker = None;
            let folder = WsPath::from_normal(&self.folder(step));
            let id = StepId(step as u32);
            let mut file = |path: &str, maker: Option<StepId>, is_folder: bool| {
                let known = joins
                    .graph
                    .files
                    .iter()
                    .position(|f| f.path.as_str() == path);
                let at = known.unwrap_or_else(|| {
                    let path = WsPath::from_normal(path);
                    joins.graph.files.push(FileNode {
                        path,
                        maker,
                        folder: is_folder,
                    });
                    joins.graph.files.len() - 1
                });
                FileId(at as u32)
            };
            let (certain, candidates) = self.inputs(step);
            let mut inputs: Vec<FileId> = certain.iter().map(|p| file(p, None, false)).collect();
            let candidates: Vec<FileId> = candidates.iter().map(|p| file(p, None, false)).collect();
            inputs.sort();
            let names = self.output_names(step);
            let mut outputs: Vec<OutputNode> = names
                .iter()
                .map(|name| {
                    let made = file(&format!("{}/{name}", folder.as_str()), Some(id), false);
                    OutputNode::new(made, name.as_str())
                })
                .collect();
            if self.shapes[step].parts {
                let path = format!("{}/parts", folder.as_str());
                outputs.push(OutputNode::new(file(&path, Some(id), true), "parts"));
            }
            let found = match self.shapes[step].listing {
                true => vec![WsPath::from_normal(&format!("{}/x.d", folder.as_str()))],
                false => Vec::new(),
            };
            let words: Vec<Arc<str>> = self.words(step).iter().map(|w| w.as_str().into()).collect();
            let program = Program::Tool(ToolId(0));
            let stage = Stage {
                program,
                words,
                stdin: None,
                stdout: None,
                stderr: None,
                answers: false,
            };
            let option = self.shapes[step].option;
            let candidates = match candidates.is_empty() {
                true => vec![],
                false => vec![joins.graph.sets.intern(candidates)],
            };
            *joins.graph.steps[step] = Step {
                commands: vec![Pipeline {
                    stages: vec![stage],
                }],
                env: if option {
                    vec![("O".into(), self.option.to_string().into())]
                } else {
                    vec![]
                },
                inputs: inputs.into(),
                candidates: candidates.into(),
                outputs,
                found,
                ..Step {
                    folder,
                    ..(*joins.graph.steps[step]).clone()
                }
            };
        }
        joins
    }

    /// What each step must result in, in order.
    fn expected(&self) -> Vec<Expected> {
        let mut all: Vec<Expected> = Vec::new();
        let mut files: BTreeMap<String, String> = self
            .sources
            .iter()
            .map(|(path, text)| ((*path).to_owned(), text.clone()))
            .collect();
        for step in 0..STEPS {
            let shape = &self.shapes[step];
            let (certain, candidates) = self.inputs(step);
            let needed = shape.needs.iter().chain(if shape.listing {
                shape.made_headers.iter()
            } else {
                [].iter()
            });
            let blocked = needed
                .filter(|s| **s < step)
                .any(|s| all[*s].outputs.is_none());
            if blocked || certain.iter().any(|path| !files.contains_key(path)) {
                all.push(Expected {
                    key: String::new(),
                    outputs: None,
                    fails: !blocked,
                });
                continue;
            }
            let folders = if shape.listing {
                self.folders_searched(step)
            } else {
                Vec::new()
            };
            let folders: Vec<&str> = folders.iter().map(String::as_str).collect();
            let read = |path: &str| {
                let may = candidates.iter().chain(&certain).any(|c| c == path);
                files.get(path).filter(|_| may).cloned()
            };
            let mut listed: Vec<String> = Vec::new();
            let mut text = String::new();
            for path in &certain {
                listed.push(path.clone());
                text.push_str(&expanded(&files[path], &folders, &read, &mut listed, 0));
            }
            listed.sort();
            listed.dedup();
            let content = |path: &String| format!("{path}={:?}", files[path]);
            let mut key = format!("{} {:?} ", self.tool, self.words(step));
            if shape.option {
                key.push_str(&self.option.to_string());
            }
            key.push_str(&certain.iter().map(content).collect::<Vec<_>>().join(" "));
            if shape.listing {
                key.push_str(&listed.iter().map(content).collect::<Vec<_>>().join(" "));
                // Files that were passed over, and whose name is one that matters.
                let matters = |c: &&String| {
                    let name = c.rsplit('/').next().unwrap();
                    !listed.contains(c)
                        && (listed.iter().any(|l| l.rsplit('/').next() == Some(name))
                            || listed.iter().any(|l| files[l].contains(name)))
                };
                key.push_str(&format!(
                    " over {:?}",
                    candidates.iter().filter(matters).collect::<Vec<_>>()
                ));
            }
            if text.contains('!') {
                all.push(Expected {
                    key,
                    outputs: None,
                    fails: true,
                });
                continue;
            }
            if let Some(keep) = shape.keep {
                text.truncate(keep);
            }
            let folder = self.folder(step);
            let named = self.output_names(step).into_iter().enumerate();
            let mut outputs: Vec<(String, String)> = named
                .map(|(n, name)| (format!("{folder}/{name}"), format!("{text}{n}")))
                .collect();
            if shape.parts {
                let letters: BTreeSet<char> = text.chars().collect();
                outputs.push((format!("{folder}/parts/all"), text.clone()));
                outputs.extend(
                    letters
                        .iter()
                        .map(|c| (format!("{folder}/parts/{c}"), c.to_string())),
                );
            }
            files.insert(outputs[0].0.clone(), outputs[0].1.clone());
            all.push(Expected {
                key,
                outputs: Some(outputs),
                fails: false,
            });
        }
        all
    }

    fn apply(&mut self, edit: &Edit) {
        match edit {
            Edit::Write(file, text) => self.write(file_name(*file), text.clone()),
            Edit::Touch(file) => {
                if let Some(text) = self.sources.get(file_name(*file)).cloned() {
                    self.write(file_name(*file), text);
                }
            }
            Edit::Delete(file) => self.delete(file_name(*file)),
            Edit::Rename(from, to) => {
                if let Some(text) = self.sources.get(file_name(*from)).cloned() {
                    self.delete(file_name(*from));
                    self.write(file_name(*to), text);
                }
            }
            Edit::Spoil(step) => {
                let path = self.first_output(*step);
                if self.bench.machine.text(&path).is_some() {
                    self.bench.machine.write(&path, "spoilt");
                    self.in_place.remove(&self.folder(*step));
                }
            }
            Edit::Remove(step) => {
                let path = self.first_output(*step);
                self.bench.machine.remove(&path);
                self.in_place.remove(&self.folder(*step));
            }
            Edit::Stray(step) => {
                let path = format!("{}/parts/all", self.folder(*step));
                if self.bench.machine.text(&path).is_some() {
                    self.bench
                        .machine
                        .write(&path.replace("/all", "/stray"), "");
                    self.in_place.remove(&self.folder(*step));
                }
            }
            Edit::Reshape(step, shape) => self.shapes[*step] = shape.clone(),
            Edit::SetOption(value) => self.option = *value,
            Edit::SetTool(first) => {
                self.tool = if *first { "one" } else { "two" };
                *self.bench.machine.tool.lock() = Some(self.tool);
            }
            Edit::Interrupt(after) => *self.bench.machine.stops_after.lock() = Some(*after),
            Edit::ForgetState => {
                self.bench.state = State::default();
                self.in_place.clear();
            }
            Edit::Reload => {
                let bytes = self.bench.state.encode();
                self.bench.state = State::decode(Arc::new(bytes)).unwrap();
            }
            Edit::LoseStore => {
                self.bench.store = FakeStore::default();
                self.bench
                    .store
                    .loses
                    .store(self.store_is_broken, Ordering::SeqCst);
                self.kept.clear();
            }
            Edit::BreakStore(broken) => {
                self.store_is_broken = *broken;
                self.bench.store.loses.store(*broken, Ordering::SeqCst);
            }
        }
        self.bench.machine.wait();
    }

    fn write(&mut self, path: &'static str, text: String) {
        self.bench.machine.write(path, &text);
        self.sources.insert(path, text);
    }

    fn delete(&mut self, path: &'static str) {
        self.bench.machine.remove(path);
        self.sources.remove(path);
    }

    /// Builds everything, and holds what happened against the model.
    fn build(&mut self, jobs: usize) -> Result<(), TestCaseError> {
        let joins = self.graph();
        let all: Vec<FileId> = joins
            .graph
            .steps
            .iter()
            .flat_map(|s| &s.outputs)
            .map(|o| o.file)
            .collect();
        let expected = self.expected();
        let (outcome, log) = self.bench.build_files(
            &joins,
            &all,
            Options {
                jobs,
                keep_going: true,
                ..Options::plain()
            },
        );
        if std::env::var_os("NUBRIK_TEST_LOG").is_some() {
            eprintln!("{log:#?} {:?}", self.words(0));
        }
        let said = |step: usize| {
            let with = |word: &str| log.iter().any(|l| l.starts_with(&format!("{word} {step}")));
            ["ran", "current", "reused", "failed", "blocked", "unstarted"]
                .into_iter()
                .find(|word| with(word))
        };
        for (step, expected) in expected.iter().enumerate() {
            let folder = self.folder(step);
            let state = said(step).unwrap_or("nothing");
            if outcome.cancelled && matches!(state, "unstarted" | "blocked" | "failed") {
                // It may have been stopped in the middle, with its folder cleared.
                if log.contains(&format!("will run {step}")) {
                    self.in_place.remove(&folder);
                }
                continue;
            }
            let Some(outputs) = &expected.outputs else {
                let wanted = if expected.fails { "failed" } else { "blocked" };
                prop_assert_eq!(state, wanted, "step {}: {:#?}", step, &log);
                // A step that failed for want of an input did not begin.
                if log.contains(&format!("will run {step}")) {
                    self.in_place.remove(&folder);
                }
                continue;
            };
            for (path, text) in outputs {
                let made = self.bench.machine.text(path);
                prop_assert_eq!(
                    made.as_deref(),
                    Some(text.as_str()),
                    "{} by step {}: {:#?}",
                    path,
                    step,
                    &log
                );
            }
            let stray = self.bench.machine.text(&format!("{folder}/parts/stray"));
            prop_assert!(
                stray.is_none(),
                "a stray file stayed in step {}: {:#?}",
                step,
                &log
            );
            let is_kept = self.kept.contains(&expected.key);
            let is_in_place = self.in_place.get(&folder) == Some(&expected.key);
            match state {
                "ran" => prop_assert!(
                    !is_in_place && (!is_kept || self.store_is_broken),
                    "step {step} ran though its result was there: {log:#?}"
                ),
                // The same outputs may be known from another key.
                "current" | "reused" => prop_assert!(
                    is_in_place || is_kept,
                    "step {step} is {state}, but nothing like it ran: {} {log:#?}",
                    expected.key
                ),
                other => prop_assert!(false, "step {step} is {other}: {log:#?}"),
            }
            // What is current is not kept again where the store lost it.
            if state == "ran" {
                self.kept.insert(expected.key.clone());
            }
            self.in_place.insert(folder, expected.key.clone());
        }
        self.bench.machine.cancelled.store(false, Ordering::SeqCst);
        *self.bench.machine.stops_after.lock() = None;
        Ok(())
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: nubrik_testing::cases(200), failure_persistence: None, ..Default::default() })]

    #[test]
    fn after_any_history_results_are_those_from_nothing_and_nothing_superfluous_ran(
        shapes in prop::collection::vec(shape(), STEPS),
        first in prop::collection::vec(("([abc]|<h0>|<h1>|<h2>){0,4}", any::<bool>()), MAINS.len() + HEADERS.len()),
        edits in prop::collection::vec((edit(), any::<bool>()), 1..25),
        jobs in 1usize..4,
    ) {
        let mut world = World {
            bench: Bench::new(&[]),
            shapes,
            option: 0,
            tool: "one",
            sources: BTreeMap::new(),
            kept: HashSet::new(),
            in_place: HashMap::new(),
            store_is_broken: false,
        };
        for (file, (text, there)) in first.into_iter().enumerate() {
            if there || file < MAINS.len() {
                world.write(file_name(file), text);
            }
        }
        world.bench.machine.wait();
        world.build(jobs)?;
        for (edit, builds) in edits {
            world.apply(&edit);
            // Several edits may come before the next build.
            if builds {
                world.build(jobs)?;
            }
        }
        world.build(jobs)?;
        world.build(jobs)?;
    }
}
