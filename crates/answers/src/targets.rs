//! A target: its relations, its steps, and the commands that only run on request.

use std::collections::HashMap;
use std::sync::Arc;

use nubrik_engine::State;
use nubrik_graph::{
    ArgumentFile, Effect, FileId, Graph, Service, StepId, Target, TargetId, shown_command,
    shown_service,
};
use nubrik_lang::Evaluation;
use nubrik_source::WsPath;
use serde::Serialize;

use crate::seconds;

/// What a step printed when it ran the last time, for programs.
#[derive(Serialize)]
pub struct PrintedEvent<'a> {
    event: &'static str,
    target: Arc<str>,
    say: &'a str,
    /// Whether it is still kept.
    known: bool,
    text: String,
}

impl<'a> PrintedEvent<'a> {
    /// The event about a step of a graph, and what is kept of it.
    pub fn of(graph: &'a Graph, step: StepId, printed: Option<&[u8]>) -> PrintedEvent<'a> {
        PrintedEvent {
            event: "printed",
            target: graph.title(step),
            say: &graph.step(step).say,
            known: printed.is_some(),
            text: String::from_utf8_lossy(printed.unwrap_or_default()).into_owned(),
        }
    }
}

/// A target, for programs.
#[derive(Serialize)]
pub struct DetailEvent<'a> {
    event: &'static str,
    target: &'a str,
    kind: &'a str,
    documentation: &'a str,
    defined: String,
    private: bool,
    tags: &'a [Arc<str>],
    results: Vec<String>,
    needs: Vec<&'a str>,
    used_by: Vec<&'a str>,
    steps: Vec<StepDetail<'a>>,
    /// The commands of each effect of a job.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    does: Vec<Vec<String>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    serves: Vec<ServiceDetail<'a>>,
}

#[derive(Serialize)]
struct ServiceDetail<'a> {
    target: &'a str,
    defined: String,
    shared: bool,
    elsewhere: bool,
    /// By the fields that they are in.
    commands: Vec<(&'static str, String)>,
    reads: Vec<&'a str>,
}

impl<'a> ServiceDetail<'a> {
    fn of(service: &'a Arc<Service>) -> ServiceDetail<'a> {
        ServiceDetail {
            target: &service.address,
            defined: service.place.to_string(),
            shared: service.is_shared(),
            elsewhere: service.is_elsewhere(),
            commands: shown_service(service),
            reads: service.inputs.iter().map(|p| p.as_str()).collect(),
        }
    }
}

#[derive(Serialize)]
struct TextDetail<'a> {
    path: &'a str,
    text: &'a str,
}

#[derive(Serialize)]
struct StepDetail<'a> {
    say: &'a str,
    #[serde(skip_serializing_if = "str::is_empty")]
    variant: &'a str,
    defined: String,
    commands: Vec<String>,
    /// Files that are written for the commands: lists of their arguments, and texts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    texts: Vec<TextDetail<'a>>,
    reads: Vec<&'a str>,
    may_read: Vec<&'a str>,
    /// Addresses of the services that run while it does.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    services: Vec<&'a str>,
    /// The image that it sees in place of this machine's system.
    #[serde(skip_serializing_if = "Option::is_none")]
    image: Option<&'a str>,
    /// What is said of the machine that may run it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    machine: Vec<&'a str>,
    makes: Vec<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    last_seconds: Option<f64>,
}

/// Answers about several targets, whose relations are found for all of them at once.
pub struct TargetAnswers<'g> {
    graph: &'g Graph,
    asked: &'g [TargetId],
    state: &'g State,
    /// The folder of results, from the workspace's root.
    out: WsPath,
    /// By the number of each target: the targets that it needs.
    needs: Vec<Vec<TargetId>>,
    /// By the number of each target: its steps.
    steps: Vec<Vec<StepId>>,
    /// By the address of each target that is asked for: its users in the whole workspace.
    users: HashMap<&'g str, Vec<&'g str>>,
    /// By the number of each target.
    on_call: Vec<OnCall<'g>>,
}

/// The parts of a target that are no steps of the graph.
#[derive(Default)]
struct OnCall<'g> {
    effects: Vec<&'g Effect>,
    services: Vec<&'g Arc<Service>>,
}

impl<'g> TargetAnswers<'g> {
    /// Answers about the targets that an evaluation was of. `whole` is the graph of the workspace,
    /// in which their users are; `state` and `out` are its state and its folder of results.
    pub fn of(
        evaluation: &'g Evaluation,
        whole: &'g Graph,
        state: &'g State,
        out: WsPath,
    ) -> TargetAnswers<'g> {
        let graph = &evaluation.graph;
        let shown = evaluation
            .targets
            .iter()
            .map(|id| &*graph.target(*id).address);
        let mut users: HashMap<&str, Vec<&str>> =
            shown.map(|address| (address, Vec::new())).collect();
        let needs_of_all = whole.target_needs();
        for (user, needs) in whole
            .targets
            .iter()
            .zip(&needs_of_all)
            .filter(|(user, _)| user.is_declared())
        {
            for need in needs {
                // Who uses several variants of a target is one user.
                if let Some(users) = users.get_mut(&*whole.target(*need).address)
                    && users.last() != Some(&&*user.address)
                {
                    users.push(&user.address);
                }
            }
        }
        let (needs, steps) = (graph.target_needs(), graph.steps_of_targets());
        let on_call = on_call(evaluation);
        TargetAnswers {
            graph,
            asked: &evaluation.targets,
            state,
            out,
            needs,
            steps,
            users,
            on_call,
        }
    }

    /// One answer after another, in the order of the request.
    pub fn each(&self) -> impl Iterator<Item = TargetAnswer<'_>> {
        self.asked
            .iter()
            .map(|id| TargetAnswer { all: self, id: *id })
    }
}

/// Effects and services by the number of the target that each belongs to.
fn on_call(evaluation: &Evaluation) -> Vec<OnCall<'_>> {
    let graph = &evaluation.graph;
    let mut all: Vec<OnCall<'_>> = graph.targets.iter().map(|_| OnCall::default()).collect();
    for effect in &evaluation.effects {
        all[effect.step.target.index()].effects.push(effect);
    }
    let index = (!evaluation.services.is_empty()).then(|| graph.target_index());
    for service in &evaluation.services {
        if let Some(target) = index.as_ref().and_then(|index| index.of_service(service)) {
            all[target.index()].services.push(service);
        }
    }
    all
}

/// The answer about a target.
#[derive(Clone, Copy)]
pub struct TargetAnswer<'a> {
    all: &'a TargetAnswers<'a>,
    id: TargetId,
}

impl<'a> TargetAnswer<'a> {
    /// The graph that it is in.
    pub fn graph(self) -> &'a Graph {
        self.all.graph
    }

    /// The target.
    pub fn target(self) -> &'a Target {
        self.all.graph.target(self.id)
    }

    /// Its steps, in the order of the graph.
    pub fn steps(self) -> &'a [StepId] {
        &self.all.steps[self.id.index()]
    }

    /// The effects of a job, as far as they were asked for.
    pub fn effects(self) -> &'a [&'a Effect] {
        &self.all.on_call[self.id.index()].effects
    }

    /// The services that it is, or has in it, as far as they were asked for.
    pub fn services(self) -> &'a [&'a Arc<Service>] {
        &self.all.on_call[self.id.index()].services
    }

    /// Addresses of the targets that use it, in the whole workspace.
    pub fn users(self) -> &'a [&'a str] {
        self.all
            .users
            .get(&*self.target().address)
            .map_or(&[], Vec::as_slice)
    }

    /// Paths of its results from the workspace's root, sorted.
    pub fn results(self) -> Vec<String> {
        let results = self.target().results.iter();
        let mut results: Vec<String> = results
            .map(|r| format!("{}/{}", self.all.out, r.publish.as_str()))
            .collect();
        results.sort();
        results.dedup();
        results
    }

    /// Addresses of the targets that it needs, sorted.
    pub fn needs(self) -> Vec<&'a str> {
        let graph = self.all.graph;
        let mut needs = self.all.needs[self.id.index()].clone();
        let inputs = self.effects().iter().flat_map(|e| &e.step.inputs);
        let makers = inputs.filter_map(|f| graph.file(*f).maker);
        needs.extend(makers.map(|s| graph.step(s).target));
        let used = self.effects().iter().flat_map(|e| &e.step.services);
        needs.extend(used.filter_map(|s| graph.target_of_service(s)));
        needs.extend(self.services().iter().flat_map(|s| graph.service_needs(s)));
        let mut names: Vec<&str> = needs.iter().map(|n| &*graph.target(*n).address).collect();
        names.sort_unstable();
        names.dedup();
        names
    }

    /// The image that a step sees in place of this machine's system, by its address.
    pub fn image(self, id: StepId) -> Option<&'a str> {
        let graph = self.all.graph;
        graph.image_of(id).map(|image| &*graph.owner(image).address)
    }

    /// How long a step took the last time it ran here, in microseconds.
    pub fn last_micros(self, step: StepId) -> Option<u64> {
        let memory = self
            .all
            .state
            .steps
            .get(self.all.graph.step(step).folder.shared())?;
        (!memory.outputs.is_empty()).then_some(memory.micros)
    }

    /// Files as programs know them: by their paths, sorted.
    fn paths(self, files: &[FileId]) -> Vec<&'a str> {
        let graph = self.all.graph;
        let mut paths: Vec<&str> = files.iter().map(|f| graph.file(*f).path.as_str()).collect();
        paths.sort_unstable();
        paths
    }

    /// Files as people know them, sorted: sources by their paths, files that steps make by name and
    /// target.
    pub fn files(self, files: &[FileId]) -> Vec<String> {
        let graph = self.all.graph;
        let name = |file: &FileId| {
            let node = graph.file(*file);
            let Some(maker) = node.maker else {
                return node.path.to_string();
            };
            let folder = &graph.step(maker).folder;
            let name = node.path.below(folder).unwrap_or(node.path.name());
            format!("{name} of {}", graph.title(maker))
        };
        let mut names: Vec<String> = files.iter().map(name).collect();
        names.sort();
        names
    }

    fn step_detail(self, id: StepId) -> StepDetail<'a> {
        let graph = self.all.graph;
        let step = graph.step(id);
        let text = |file: &'a ArgumentFile| TextDetail {
            path: file.path.as_str(),
            text: &file.text,
        };
        StepDetail {
            say: &step.say,
            variant: &step.variant,
            defined: step.place.to_string(),
            commands: shown_command(step),
            texts: step.lists.iter().map(text).collect(),
            reads: self.paths(&step.inputs_besides_image()),
            image: self.image(id),
            may_read: self.paths(&graph.uncertain(step)),
            services: step.services.iter().map(|s| &*s.address).collect(),
            machine: step.machine.iter().map(|label| &**label).collect(),
            makes: step.outputs.iter().map(|o| &*o.name).collect(),
            last_seconds: self.last_micros(id).map(seconds),
        }
    }

    /// The same for programs.
    pub fn event(self) -> DetailEvent<'a> {
        let target = self.target();
        DetailEvent {
            event: "detail",
            target: &target.address,
            kind: &target.kind,
            documentation: &target.documentation,
            defined: target.place.to_string(),
            private: target.private,
            tags: &target.tags,
            results: self.results(),
            needs: self.needs(),
            used_by: self.users().to_vec(),
            steps: self
                .steps()
                .iter()
                .map(|id| self.step_detail(*id))
                .collect(),
            does: self
                .effects()
                .iter()
                .map(|e| shown_command(&e.step))
                .collect(),
            serves: self
                .services()
                .iter()
                .map(|s| ServiceDetail::of(s))
                .collect(),
        }
    }
}
