//! Steps under a recorder: what they really read and write against what they declare.

use std::collections::HashSet;
use std::sync::Arc;

use nubrik_graph::{FileId, Graph, Step, StepId, WorkFolder};
use nubrik_source::{FilePath, WsPath};
use nubrik_store::Store;

use crate::build::{Build, Options, Request};
use crate::event::{Failure, Listener, Refusal};
use crate::outside::{FoundTool, Job, Outside};
use crate::seen::{Seen, Touch, Touched};
use crate::state::State;

/// Steps that failed sooner than this are run once more to be observed, in microseconds.
const QUICK: u64 = 1_000_000;

/// Steps that printed something of a refusal, and failed sooner than this, too.
const BEARABLE: u64 = 300_000_000;

/// How many refusals are reported.
const TOLD: usize = 6;

/// Names that interpreters try to write beside what they read, and do without when they may not.
const HARMLESS: [&str; 1] = ["__pycache__"];

/// Where runtimes look how the machine is set up, and leave notes for themselves; they go on where
/// they may not.
const OF_RUNTIMES: [&str; 6] = ["/sys/", "/proc/", "/dev/", "/tmp/", "/var/tmp/", "/run/"];

/// What a step was seen to do when it ran once more, beside what it declares. Paths are from the
/// workspace's root; each list is sorted.
#[derive(Clone, Debug)]
pub struct ObservedStep {
    /// The step.
    pub step: StepId,
    /// How it failed, if it did.
    pub failure: Option<Failure>,
    /// Declared inputs that it read.
    pub read: Vec<Arc<str>>,
    /// Certain inputs that it did not read. What commands may read only by way of their listing is
    /// not among them.
    pub unused: Vec<Arc<str>>,
    /// What it was refused.
    pub refused: Vec<Refusal>,
    /// Undeclared paths of the workspace that it asked for, and whether something is there: that a
    /// command learns even in its box.
    pub looked_up: Vec<(Arc<str>, bool)>,
    /// How many files of the system it read.
    pub system: usize,
    /// Those of them that are no part of its tools and no input otherwise: when they change, it
    /// does not run again.
    pub uncounted: Vec<Arc<str>>,
    /// Outputs whose bytes were not the same this time, as the definition names them.
    pub differs: Vec<Arc<str>>,
}

/// Runs steps that are current once more, each under a recorder, and leaves their results as they
/// were. Steps without commands are passed over. `None` where the machine cannot record.
pub fn observe(
    graph: &Graph,
    steps: &[StepId],
    before: &State,
    outside: &dyn Outside,
    store: Option<&dyn Store>,
    listener: &dyn Listener,
) -> Option<Vec<ObservedStep>> {
    let options = Options {
        keep_going: true,
        ..Options::plain()
    };
    let mut build = Build::new(
        Request::whole(graph, &[]),
        before,
        outside,
        store,
        listener,
        options,
    );
    // What is made here is thrown away again.
    build.store = None;
    let mut observed_steps = Vec::new();
    for step in steps
        .iter()
        .copied()
        .filter(|s| !graph.step(*s).commands.is_empty())
    {
        if outside.is_cancelled() {
            break;
        }
        observed_steps.push(build.observe_step(step)?);
    }
    Some(observed_steps)
}

/// Makes everything as it is when a step's commands begin, and lets `act` do something there with a
/// job that starts nothing yet. What the step made before is put back afterwards.
///
/// # Errors
/// When its tools or its folder cannot be had.
pub fn in_box(
    graph: &Graph,
    step: StepId,
    before: &State,
    outside: &dyn Outside,
    listener: &dyn Listener,
    act: &mut dyn FnMut(&Job<'_>),
) -> Result<(), Failure> {
    let options = Options {
        keep_going: true,
        ..Options::plain()
    };
    let build = Build::new(
        Request::whole(graph, &[]),
        before,
        outside,
        None,
        listener,
        options,
    );
    let tools = build.tools_of(step)?;
    let node = graph.step(step);
    build.beside_results(step, || {
        let stopped = || Failure::Machine {
            problem: "it was stopped".to_owned(),
        };
        build
            .prepare(step)
            .map_err(|why| why.unwrap_or_else(stopped))?;
        let (readable, work) = (build.readable(step), node.work.path());
        let lent = match node.services.as_slice() {
            [] => None,
            services => {
                let lent = outside.lend(node.folder.as_str(), services, node.limits.network);
                Some(lent.map_err(|why| {
                    why.map_or_else(stopped, |why| Failure::Service(Box::new(why)))
                })?)
            }
        };
        let job = build.job(node, Vec::new(), &readable, &tools, &work);
        let acted = build.with_root(step, None, |root| {
            act(&Job {
                lent: lent.as_ref(),
                root,
                ..job
            });
            Ok(())
        });
        acted.map_err(|why| why.unwrap_or_else(stopped))?;
        lent.map(|lent| outside.give_back(lent));
        Ok(())
    })?
}

impl Build<'_> {
    /// A step's tools.
    pub(crate) fn tools_of(&self, id: StepId) -> Result<Vec<FoundTool>, Failure> {
        let step = self.graph.step(id);
        let tools = self.tools_of_machine(step).into_iter();
        tools
            .map(|tool| self.tool(tool).map_err(Failure::NoTool))
            .collect()
    }

    /// Does something in a step's folder while what the step made is kept elsewhere.
    pub(crate) fn beside_results<T>(
        &self,
        id: StepId,
        work: impl FnOnce() -> T,
    ) -> Result<T, Failure> {
        let folder = &self.graph.step(id).folder;
        // No step has a folder of such a name.
        let kept = folder
            .parent()
            .unwrap_or_else(WsPath::root)
            .child(&format!("~{}.kept", folder.name()));
        let problem = |e: std::io::Error| Failure::Machine {
            problem: e.to_string(),
        };
        let was_made = self.outside.check(&folder.into()).is_some();
        if was_made {
            self.outside.set_aside(folder, &kept).map_err(problem)?;
        }
        let done = work();
        self.outside.discard(folder);
        if was_made {
            self.outside.set_aside(&kept, folder).map_err(problem)?;
        }
        Ok(done)
    }

    /// Runs a failed step once more under a recorder, where that is quick or promises an answer,
    /// and adds what was seen to its failure. `watched` is what it was refused where it was
    /// recorded already.
    pub(crate) fn look_closer(
        &self,
        id: StepId,
        tools: &[FoundTool],
        failure: Failure,
        (micros, printed): (u64, &[u8]),
        watched: Option<Vec<Refusal>>,
    ) -> Failure {
        if let Some(refused) = watched.as_ref().filter(|refused| !refused.is_empty()) {
            return failure.observed(refused.clone(), false);
        }
        let step = self.graph.step(id);
        let telling = matches!(
            failure,
            Failure::Code(_)
                | Failure::Signal(_)
                | Failure::NoOutput { .. }
                | Failure::Cases { .. }
        );
        let promising = micros < QUICK || (micros < BEARABLE && speaks_of_refusal(printed));
        // What goes out to the network is not done twice.
        if !telling || !promising || step.limits.network || step.commands.is_empty() {
            return failure;
        }
        // Who was recorded runs without a recorder now: it shall not be the cause.
        let mut seen = watched.is_none().then(Seen::default);
        let ended = self.run_commands(id, tools, &mut Vec::new(), seen.as_mut(), None);
        self.note_kept(id, ended.as_ref().map(|_| ()).map_err(Option::as_ref));
        let refused = seen
            .map(|seen| self.refusals(id, &seen, Some(printed)))
            .unwrap_or_default();
        let well_again = ended.is_ok() && !matches!(failure, Failure::NoOutput { .. });
        failure.observed(refused, well_again)
    }

    /// What commands were refused, the likeliest cause of a failure first. `failed` is what they
    /// printed where they failed:
    /// then only what may be the cause counts.
    pub(crate) fn refusals(&self, id: StepId, seen: &Seen, failed: Option<&[u8]>) -> Vec<Refusal> {
        let complaint = failed.map(|printed| String::from_utf8_lossy(printed).into_owned());
        let readable = self.readable(id);
        let own_folders: HashSet<&str> = readable
            .iter()
            .map(|own| folder_of(own.path.as_str()))
            .collect();
        let mut ranked: Vec<(u8, Refusal)> = Vec::new();
        for touched in seen.touched.iter().filter(|touched| !is_harmless(touched)) {
            ranked.extend(self.refused_listing(id, touched, complaint.as_deref()));
            // Interpreters look around beside the script that they run.
            let looks_around = touched.folder == Some(true)
                && touched.touch == Touch::Read
                && own_folders.contains(touched.path.as_str());
            // A root that is the step's own to change refuses nothing.
            let in_own_root = self.graph.step(id).changes.is_some() && touched.path.is_of_machine();
            if !touched.allowed && !looks_around && !in_own_root {
                ranked.extend(self.refused_path(touched, complaint.as_deref()));
            }
        }
        if seen.wanted_network {
            ranked.push((2, Refusal::Network));
        }
        ranked.sort_by_key(|(rank, _)| *rank);
        // That a folder could not be listed says little where something plainer was refused.
        if ranked.first().is_some_and(|(rank, _)| *rank < 3) {
            ranked.retain(|(rank, _)| *rank < 4);
        }
        ranked
            .into_iter()
            .map(|(_, refusal)| refusal)
            .take(TOLD)
            .collect()
    }

    /// That a command could not see all that it listed in a folder, and how little that says of a
    /// failure; where it complained of a name, that this was not seen.
    fn refused_listing(
        &self,
        id: StepId,
        touched: &Touched,
        complaint: Option<&str>,
    ) -> Option<(u8, Refusal)> {
        let [first, more @ ..] = &*touched.lacks else {
            return None;
        };
        let missed = |name: &&Arc<str>| complaint.is_some_and(|text| names(text, name));
        if let Some(name) = touched.lacks.iter().find(missed) {
            let path = WsPath::from_normal(touched.path.as_str()).child(name);
            let refusal = Refusal::Path {
                path: FilePath::from(&path),
                touch: Touch::Read,
                folder: false,
                target: None,
            };
            return Some((0, refusal));
        }
        let refusal = Refusal::Listing {
            folder: touched.path.told(),
            first: first.clone(),
            more: more.len(),
        };
        (!self.looks_for_modules(id, touched.path.as_str())).then_some((4, refusal))
    }

    /// That a command could not use a path, and how little that says of a failure.
    fn refused_path(&self, touched: &Touched, complaint: Option<&str>) -> Option<(u8, Refusal)> {
        // A command that looks for a file, and does not find it, may do something else, or give up.
        let looks_for_file = touched.folder == Some(false) && touched.path.is_of_workspace();
        let reads = touched.touch != Touch::LookedUp || looks_for_file;
        // What is not there cannot be read by anyone; what is to be made may well not be there.
        let there = touched.folder.is_some() || touched.touch == Touch::Written;
        if !reads || !there {
            return None;
        }
        let folder = touched.folder == Some(true);
        let is_named =
            || complaint.is_some_and(|text| names(text, file_name(touched.path.as_str())));
        let rank = match (touched.path.is_of_machine(), touched.touch, folder) {
            (false, Touch::Read | Touch::Started, false) => 0,
            (false, Touch::LookedUp, false) if is_named() => 0,
            (false, Touch::Written, _) => 1,
            (true, ..) => 3,
            (false, Touch::LookedUp, _) => 5,
            (false, ..) => 4,
        };
        let refusal = Refusal::Path {
            path: touched.path.clone(),
            touch: touched.touch,
            folder,
            target: self.maker_of(touched.path.as_str()),
        };
        Some((rank, refusal))
    }

    /// Whether a folder is that of a script which an interpreter runs that looks for its modules
    /// beside it by listing the folder. What a module of the script's own lists is another matter.
    fn looks_for_modules(&self, id: StepId, folder: &str) -> bool {
        let step = self.graph.step(id);
        let words = || {
            step.commands
                .iter()
                .flat_map(|pipeline| &pipeline.stages)
                .flat_map(|stage| &stage.words)
        };
        let is_beside = |path: &str| folder_of(path) == folder;
        let script =
            |word: &Arc<str>| word.ends_with(".py") && is_beside(word.trim_start_matches("./"));
        words().any(script) && !words().any(|word| &**word == "-m")
    }

    fn observe_step(&self, id: StepId) -> Option<ObservedStep> {
        let graph = self.graph;
        let step = graph.step(id);
        let mut observed = ObservedStep {
            step: id,
            failure: None,
            read: Vec::new(),
            unused: Vec::new(),
            refused: Vec::new(),
            looked_up: Vec::new(),
            system: 0,
            uncounted: Vec::new(),
            differs: Vec::new(),
        };
        let mut seen = Seen::default();
        let ran = self.tools_of(id).and_then(|tools| {
            self.beside_results(id, || {
                self.run_commands(id, &tools, &mut Vec::new(), Some(&mut seen), None)?;
                let made = self.take_outputs(id)?;
                self.discard_scratch(id);
                Ok(made.0)
            })
        });
        let made = match ran {
            Ok(Ok(made)) => made,
            Ok(Err(failure)) => {
                observed.failure = failure;
                Vec::new()
            }
            Err(failure) => {
                observed.failure = Some(failure);
                return Some(observed);
            }
        };
        if seen.touched.is_empty() && observed.failure.is_none() {
            // A process cannot even be started without being seen.
            return None;
        }
        let remembered = self.before.steps.get(step.folder.shared());
        if let Some(memory) = remembered {
            let pairs = step.outputs.iter().zip(made.iter().zip(&memory.outputs));
            let other = pairs.filter(|(_, (now, then))| now.digest() != then.digest());
            observed.differs = other.map(|(output, _)| output.name.clone()).collect();
        }
        self.hold_against(id, &seen, &mut observed);
        Some(observed)
    }

    /// Holds what was seen against what is declared.
    fn hold_against(&self, id: StepId, seen: &Seen, observed: &mut ObservedStep) {
        let graph = self.graph;
        let step = graph.step(id);
        let touched = touched_paths(graph, step, seen);
        let listed: HashSet<&str> = seen
            .touched
            .iter()
            .filter(|t| t.folder == Some(true) && t.touch == Touch::Read && t.allowed)
            .map(|t| t.path.as_str())
            .collect();
        let declared = |files: &[FileId], was_read: bool| {
            let paths = files.iter().map(|f| graph.file(*f).path.shared());
            let mut some: Vec<Arc<str>> = paths
                .filter(|p| touched.contains(&***p) == was_read)
                .cloned()
                .collect();
            some.sort();
            some
        };
        let all = graph.declared(step);
        observed.read = declared(&all, true);
        // The image is all around it.
        let readable: Vec<FileId> = step
            .inputs
            .iter()
            .copied()
            .filter(|f| Some(*f) != step.root)
            .collect();
        observed.unused = declared(&readable, false);
        // A value that lists a folder depends on each name in it.
        observed
            .unused
            .retain(|path| !listed.contains(folder_of(path)));
        // What its services read is among its inputs, and not its own to read.
        let mut services = Vec::new();
        step.services
            .iter()
            .for_each(|service| service.add_to(&mut services));
        observed.unused.retain(|path| {
            !services
                .iter()
                .any(|s| s.inputs.iter().any(|i| i.as_str() == &**path))
        });
        observed.refused = self.refusals(id, seen, None);
        // That is reported for all that was looked for.
        observed.refused.retain(|r| {
            !matches!(
                r,
                Refusal::Path {
                    touch: Touch::LookedUp,
                    ..
                }
            )
        });
        self.count_system(id, seen, observed);
    }

    /// Holds what a step touched beside the workspace's declared files against what counts.
    fn count_system(&self, id: StepId, seen: &Seen, observed: &mut ObservedStep) {
        let step = self.graph.step(id);
        let tools = self.tools_of(id).unwrap_or_default();
        let memory = self.before.steps.get(step.folder.shared());
        let listed = memory
            .iter()
            .flat_map(|memory| memory.inputs.iter().chain(&memory.found));
        let counted: HashSet<&str> = tools
            .iter()
            .flat_map(|tool| &tool.parts)
            .map(|part| &**part)
            .chain(listed.map(|(path, _)| path.as_str()))
            .collect();
        for seen in &seen.touched {
            let path = seen.path.in_workspace();
            let inside =
                path.is_some_and(|path| !path.is_root() && path.below(&step.folder).is_none());
            // Folders on the way to something are asked for by everyone.
            if inside && !seen.allowed && seen.touch == Touch::LookedUp && seen.folder != Some(true)
            {
                observed
                    .looked_up
                    .push((seen.path.told(), seen.folder.is_some()));
            }
            let of_runtimes = OF_RUNTIMES
                .iter()
                .any(|folder| seen.path.as_str().starts_with(folder));
            let is_system = step.root.is_none()
                && seen.path.is_of_machine()
                && !of_runtimes
                && seen.folder == Some(false);
            if is_system && seen.allowed && seen.touch != Touch::LookedUp {
                observed.system += 1;
                if !counted.contains(seen.path.as_str()) {
                    observed.uncounted.push(seen.path.told());
                }
            }
        }
    }
}

/// Whether a path says nothing of what commands use, wherever it is.
fn is_harmless(touched: &Touched) -> bool {
    let path = touched.path.as_str();
    path.split('/').any(|name| HARMLESS.contains(&name))
        || OF_RUNTIMES.iter().any(|folder| path.starts_with(folder))
}

/// The paths that a step used, with the folders around them.
fn touched_paths<'s>(graph: &'s Graph, step: &Step, seen: &'s Seen) -> HashSet<&'s str> {
    let mut touched: HashSet<&str> = HashSet::new();
    let used = || {
        let all = seen.touched.iter();
        all.filter(|touched| touched.touch != Touch::LookedUp)
    };
    if let WorkFolder::Private {
        at,
        copy_of: Some(file),
    } = &step.work
    {
        // What it reads of its copy it reads of what was copied.
        let in_copy = |path: &FilePath| {
            path.in_workspace()
                .is_some_and(|path| path.below(at).is_some())
        };
        if used().any(|touched| in_copy(&touched.path)) {
            touched.insert(graph.file(*file).path.as_str());
        }
    }
    for seen in used().filter(|touched| touched.folder.is_some()) {
        let path = seen.path.as_str();
        touched.insert(path);
        // A file in a declared folder was read: so was the folder.
        touched.extend(path.match_indices('/').map(|(at, _)| &path[..at]));
    }
    touched
}

/// The last part of a path.
fn file_name(path: &str) -> &str {
    path.rsplit_once('/').map_or(path, |(_, name)| name)
}

/// The folder that a path is in; empty for the root.
fn folder_of(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// Whether a text speaks of a file by the name that others know it by, with or without its ending.
fn names(text: &str, file: &str) -> bool {
    let stem = file.split_once('.').map_or(file, |(stem, _)| stem);
    let is_word = |c: char| c.is_alphanumeric() || c == '_';
    let ends = |at: usize| {
        let (before, after) = (
            text[..at].chars().next_back(),
            text[at + stem.len()..].chars().next(),
        );
        !before.is_some_and(is_word) && !after.is_some_and(is_word)
    };
    stem.len() > 1 && text.match_indices(stem).any(|(at, _)| ends(at))
}

/// Whether what a command printed sounds as though it was refused something.
fn speaks_of_refusal(printed: &[u8]) -> bool {
    let text = String::from_utf8_lossy(printed).to_lowercase();
    [
        "denied",
        "not permitted",
        "eacces",
        "eperm",
        "no access",
        "unreachable",
    ]
    .iter()
    .any(|w| text.contains(w))
}
