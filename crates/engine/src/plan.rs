//! A plan: what a build would do, without doing it.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use nubrik_graph::{Closure, FileId, Graph, Needs, SetId, StepId};
use nubrik_source::{FilePath, WsPath};
use nubrik_store::Store;

use crate::build::{Build, Options, Request};
use crate::event::{Failure, Listener, PlannedStep, Verdict};
use crate::examine::Decision;
use crate::files::FileTable;
use crate::outside::Outside;
use crate::reason::Reason;
use crate::state::{State, StepMemory};

/// What a plan supposes and tells.
#[derive(Clone, Copy, Default, Debug)]
pub struct Supposed<'a> {
    /// Files whose contents are taken to be others, by paths from the workspace's root.
    pub if_changed: &'a [WsPath],
    /// Whether steps that are not current are compared with earlier ones.
    pub compare: bool,
}

/// What a build would do, in an order in which it could; runs and changes nothing.
pub fn plan(
    request: Request<'_>,
    before: &State,
    outside: &dyn Outside,
    store: Option<&dyn Store>,
    listener: &dyn Listener,
    supposed: Supposed<'_>,
) -> Vec<PlannedStep> {
    let options = Options {
        keep_going: true,
        ..Options::plain()
    };
    let Request {
        graph,
        files,
        settled,
        ..
    } = request;
    let mut build = Build::new(request, before, outside, store, listener, options);
    build.table =
        FileTable::new(&before.files).with_changed(supposed.if_changed.iter().map(FilePath::from));
    let mut order = Closure::of(graph, files.iter().copied()).steps;
    let settled: HashSet<StepId> = settled.iter().copied().collect();
    order.retain(|step| !settled.contains(step));
    let needs = Needs::of(graph);
    let mut planned: Vec<PlannedStep> = Vec::new();
    // Steps whose outputs show only when they have run.
    let mut unknown: HashSet<StepId> = HashSet::new();
    let mut blamed = BlamedSteps::default();
    for step in order {
        let memory = before.steps.get(graph.step(step).folder.shared());
        let micros = memory
            .as_ref()
            .filter(|m| !m.outputs.is_empty())
            .map(|m| m.micros);
        let (verdict, reason) = match blamed.failing_need(graph, &needs, step) {
            Some(failing) => {
                blamed.steps.insert(step, failing);
                let target = graph.owner(failing).address.clone();
                let say = graph.step(failing).say.clone();
                (Verdict::Blocked, Reason::NeedFailed { target, say })
            }
            None => build.plan_step(step, &needs, &unknown),
        };
        if verdict == Verdict::Failed {
            blamed.steps.insert(step, step);
        }
        if matches!(verdict, Verdict::Ran | Verdict::Unstarted | Verdict::Failed) {
            unknown.insert(step);
        }
        let compared = supposed.compare && verdict != Verdict::Current;
        let comparison = if compared { build.compare(step) } else { None };
        planned.push(PlannedStep {
            step,
            verdict,
            reason,
            micros,
            comparison,
        });
    }
    planned
}

/// Steps that would not begin, and those that would fail, each with the one that fails.
#[derive(Default)]
struct BlamedSteps {
    steps: HashMap<StepId, StepId>,
    /// For each set of files that was asked for, the step among its makers that fails.
    sets: HashMap<SetId, Option<StepId>>,
}

impl BlamedSteps {
    /// The step that fails of those that a step needs. What makes a set's files was planned before
    /// any step that reads it: each set is asked once.
    fn failing_need(&mut self, graph: &Graph, needs: &Needs<'_>, step: StepId) -> Option<StepId> {
        if self.steps.is_empty() {
            return None;
        }
        let node = graph.step(step);
        let BlamedSteps { steps, sets } = self;
        let blame = |need: &StepId| steps.get(need).copied();
        let mut of_set = |set: &SetId| {
            *sets
                .entry(*set)
                .or_insert_with(|| needs.of_set(*set).iter().find_map(blame))
        };
        let mut own = node
            .inputs
            .iter()
            .filter_map(|file| graph.file(*file).maker);
        own.find_map(|need| blame(&need))
            .or_else(|| node.candidates.iter().find_map(&mut of_set))
    }
}

impl Build<'_> {
    fn plan_step(
        &self,
        step: StepId,
        needs: &Needs<'_>,
        unknown: &HashSet<StepId>,
    ) -> (Verdict, Reason) {
        let node = self.graph.step(step);
        let memory = self.before.steps.get(node.folder.shared());
        let is_unknown = |file: &FileId| {
            self.graph
                .file(*file)
                .maker
                .is_some_and(|m| unknown.contains(&m))
        };
        let of_sets = node
            .candidates
            .iter()
            .filter(|set| needs.of_set(**set).iter().any(|m| unknown.contains(m)));
        let mut of_sets = of_sets.flat_map(|set| self.graph.sets.files(*set));
        let uncertain = node
            .inputs
            .iter()
            .find(|f| is_unknown(f))
            .or_else(|| of_sets.find(|f| is_unknown(f)));
        if let Some(&file) = uncertain {
            return self.plan_uncertain(step, memory, file);
        }
        let now = match self.examine(step) {
            Ok(now) => now,
            Err(Failure::NoInput { path, .. }) => {
                return (Verdict::Failed, Reason::InputRemoved { path });
            }
            Err(Failure::NoTool(problem)) if problem.unanswered.is_none() => {
                return (Verdict::Failed, Reason::ToolMissing { tool: problem.name });
            }
            // Nobody is asked now: a build may find one.
            Err(Failure::NoMachine { .. }) => {
                let reason = memory.map_or(Reason::New, |memory| memory.why_unfinished());
                return (Verdict::Ran, reason);
            }
            Err(_) => return (Verdict::Failed, Reason::Unfinished),
        };
        match self.decide(step, &now) {
            Decision::Unchanged(memory) => {
                self.know_outputs(step, &memory);
                (Verdict::Current, Reason::Unchanged)
            }
            Decision::Current(memory, reason) => {
                self.know_outputs(step, &Arc::new(*memory));
                (Verdict::Current, reason)
            }
            Decision::Reuse(entry, reason) => {
                let memory = self.memory_of(&now, &entry, Vec::new(), &reason);
                self.know_outputs(step, &Arc::new(memory));
                (Verdict::Reused, reason)
            }
            Decision::Run(reason) => (Verdict::Ran, reason),
        }
    }

    /// What becomes of a step of which it is not known yet what one of its files will be.
    fn plan_uncertain(
        &self,
        step: StepId,
        memory: Option<Arc<StepMemory>>,
        file: FileId,
    ) -> (Verdict, Reason) {
        let node = self.graph.step(step);
        match memory {
            None => (Verdict::Ran, Reason::New),
            Some(memory) if memory.outputs.is_empty() => (Verdict::Ran, memory.why_unfinished()),
            Some(memory) if memory.command != crate::key::command_digest(self.graph, node) => {
                // Inputs that the tool adds itself are known only when the step can be examined.
                let own = memory.inputs.iter().map(|(path, _)| path);
                let own = own.filter(|path| !path.is_of_workspace());
                let path = |file: &FileId| FilePath::from(&self.graph.file(*file).path);
                let files: Vec<FilePath> = node.inputs.iter().map(path).collect();
                let other = self.other_inputs(&memory, files.iter().chain(own));
                let reason = other.unwrap_or_else(|| self.edit_of(step, &memory));
                (Verdict::Ran, reason)
            }
            Some(_) => {
                let path = self.graph.file(file).path.shared().clone();
                let target = self.maker_of(&path).unwrap_or_else(|| "".into());
                (Verdict::Unstarted, Reason::MaybeChanged { target, path })
            }
        }
    }
}
