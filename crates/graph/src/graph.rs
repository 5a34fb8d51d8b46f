//! The graph: its tables, and questions about them.

use std::collections::HashMap;
use std::ops::Deref;
use std::sync::Arc;

use nubrik_source::WsPath;

use crate::{FileId, FileSets, Needs, Service, Step, StepId, Target, TargetId};

/// A source file or an output.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct FileNode {
    /// Where it is, from the workspace's root.
    pub path: WsPath,
    /// The step that makes it; `None` for a source.
    pub maker: Option<StepId>,
    /// Whether it is a folder with all that is in it.
    pub folder: bool,
}

/// Targets, steps, files and tools of one evaluation, while they are put together.
/// [`Tables::finish`] makes a graph of them.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Tables {
    /// All files, by [`FileId`].
    pub files: Vec<FileNode>,
    /// All steps, by [`StepId`].
    #[allow(clippy::vec_box)]
    // A step has half a thousand bytes, and is handed on from graph to graph.
    pub steps: Vec<Box<Step>>,
    /// All targets, by [`TargetId`].
    pub targets: Vec<Target>,
    /// Names of all tools, by [`ToolId`].
    pub tools: Vec<Arc<str>>,
    /// Sets of files that steps share, by [`SetId`].
    pub sets: FileSets,
}

/// Targets, steps, files and tools of one evaluation: every number in it is that of a row, and each
/// file's maker is the step that has it among its outputs.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Graph {
    tables: Tables,
}

impl Deref for Graph {
    type Target = Tables;

    fn deref(&self) -> &Tables {
        &self.tables
    }
}

impl Graph {
    /// Its tables, to be changed.
    pub fn into_tables(self) -> Tables {
        self.tables
    }
}

/// What is wrong with tables that are no graph.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Flaw(pub String);

impl Tables {
    /// The graph that the tables are.
    ///
    /// # Errors
    /// When a number in them is that of no row, or a file's maker is another step than makes it.
    pub fn finish(self) -> Result<Graph, Flaw> {
        let flaw = |what: String| Err(Flaw(what));
        let is_file = |file: &FileId| file.index() < self.files.len();
        let mut made = 0;
        for (number, step) in (0..).zip(&self.steps) {
            let place = || format!("step {number}, {}", step.folder);
            if step.target.index() >= self.targets.len()
                || step
                    .tools
                    .iter()
                    .any(|tool| tool.index() >= self.tools.len())
                || step
                    .candidates
                    .iter()
                    .any(|set| set.index() >= self.sets.len())
                || !step.inputs.iter().all(is_file)
            {
                return flaw(format!("{} speaks of a row that is not there", place()));
            }
            for output in &step.outputs {
                if self
                    .files
                    .get(output.file.index())
                    .and_then(|file| file.maker)
                    != Some(StepId(number))
                {
                    return flaw(format!(
                        "{} makes a file that is said to be made otherwise",
                        place()
                    ));
                }
                made += 1;
            }
        }
        if self
            .files
            .iter()
            .filter(|file| file.maker.is_some())
            .count()
            != made
        {
            return flaw("a file is said to be made by a step that does not make it".to_owned());
        }
        if !self.sets.iter().flatten().all(is_file)
            || !self
                .targets
                .iter()
                .flat_map(|t| &t.results)
                .all(|result| is_file(&result.file))
        {
            return flaw("a set or a target holds a file that is not there".to_owned());
        }
        Ok(Graph { tables: self })
    }

    /// The file with this number.
    pub fn file(&self, id: FileId) -> &FileNode {
        &self.files[id.index()]
    }

    /// The step with this number.
    pub fn step(&self, id: StepId) -> &Step {
        &self.steps[id.index()]
    }

    /// The target with this number.
    pub fn target(&self, id: TargetId) -> &Target {
        &self.targets[id.index()]
    }

    /// The target that a step belongs to.
    pub fn owner(&self, step: StepId) -> &Target {
        self.target(self.step(step).target)
    }

    /// The target that a step belongs to, with its variant where it has one: `tide/harmonics
    /// (mode=release)`.
    pub fn title(&self, step: StepId) -> Arc<str> {
        let address = &self.owner(step).address;
        match &*self.step(step).variant {
            "" => address.clone(),
            variant => format!("{address} ({variant})").into(),
        }
    }

    /// The files that a step may read besides its certain inputs; with repeats where its sets
    /// overlap.
    pub fn candidates(&self, step: &Step) -> impl Iterator<Item = FileId> {
        step.candidates
            .iter()
            .flat_map(|set| self.sets.files(*set))
            .copied()
    }

    /// The files that a step may read and does not certainly read, sorted, each once.
    pub fn uncertain(&self, step: &Step) -> Vec<FileId> {
        let mut files: Vec<FileId> = self.candidates(step).collect();
        files.sort_unstable();
        files.dedup();
        files.retain(|file| !step.inputs.holds(file));
        files
    }

    /// The step that says what image a step runs in; `None` where it runs in the machine's own
    /// system.
    pub fn image_of(&self, step: StepId) -> Option<StepId> {
        self.file(self.step(step).root?).maker
    }

    /// The files that a step reads or may read, sorted, each once.
    pub fn declared(&self, step: &Step) -> Vec<FileId> {
        let mut all: Vec<FileId> = step
            .inputs
            .iter()
            .copied()
            .chain(self.candidates(step))
            .collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Whether a step reads or may read a file.
    pub fn declares(&self, step: &Step, file: FileId) -> bool {
        step.inputs.holds(&file) || step.candidates.iter().any(|s| self.sets.holds(*s, file))
    }

    /// The target with this address.
    pub fn find_target(&self, address: &str) -> Option<TargetId> {
        self.targets
            .iter()
            .position(|t| &*t.address == address)
            .map(|i| TargetId(i as u32))
    }

    /// The targets whose outputs the steps and results of each target use, without repeats, in
    /// order.
    pub fn target_needs(&self) -> Vec<Vec<TargetId>> {
        let mut needs = vec![Vec::new(); self.targets.len()];
        let needs_of = Needs::of(self);
        for (i, step) in self.steps.iter().enumerate() {
            let of = needs_of.of_step(StepId(i as u32));
            needs[step.target.index()].extend(of.iter().map(|s| self.step(*s).target));
        }
        self.add_services(&mut needs);
        for (i, target) in self.targets.iter().enumerate() {
            let makers = target
                .results
                .iter()
                .filter_map(|r| self.file(r.file).maker);
            needs[i].extend(makers.map(|s| self.step(s).target));
        }
        for (i, list) in needs.iter_mut().enumerate() {
            list.sort_unstable();
            list.dedup();
            list.retain(|t| t.index() != i);
        }
        needs
    }

    /// The steps of each target, in the order of steps.
    pub fn steps_of_targets(&self) -> Vec<Vec<StepId>> {
        let mut steps = vec![Vec::new(); self.targets.len()];
        for (number, step) in (0..).zip(&self.steps) {
            steps[step.target.index()].push(StepId(number));
        }
        steps
    }

    /// The targets of the services that run while a step does.
    pub fn service_targets(&self, step: StepId) -> Vec<TargetId> {
        let mut all = Vec::new();
        self.step(step)
            .services
            .iter()
            .for_each(|service| service.add_to(&mut all));
        all.iter()
            .filter_map(|service| self.target_of_service(service))
            .collect()
    }

    /// The target whose value a service is, or has in it.
    pub fn target_of_service(&self, service: &Service) -> Option<TargetId> {
        target_of_service(service, |address| self.find_target(address))
    }

    /// All targets by their addresses.
    pub fn target_index(&self) -> TargetIndex<'_> {
        let mut ids = HashMap::with_capacity(self.targets.len());
        for (number, target) in (0..).zip(&self.targets) {
            ids.entry(&*target.address).or_insert(TargetId(number));
        }
        TargetIndex { ids }
    }

    /// The targets that make what a service reads.
    pub fn service_needs(&self, service: &Service) -> Vec<TargetId> {
        let made = self.files.iter().filter(|f| f.maker.is_some());
        let read = made.filter(|f| service.inputs.holds(&f.path));
        let own = read
            .filter_map(|f| f.maker)
            .map(|maker| self.step(maker).target);
        own.chain(
            service
                .needs
                .iter()
                .filter_map(|need| self.target_of_service(need)),
        )
        .collect()
    }

    fn add_services(&self, needs: &mut [Vec<TargetId>]) {
        let mut known: Vec<Arc<Service>> = Vec::new();
        let mut using = self
            .steps
            .iter()
            .filter(|s| !s.services.is_empty())
            .peekable();
        if using.peek().is_none() {
            return;
        }
        let index = self.target_index();
        for step in using {
            for service in &step.services {
                needs[step.target.index()].extend(index.of_service(service));
                service.add_to(&mut known);
            }
        }
        for service in &known {
            if let Some(target) = index.of_service(service) {
                needs[target.index()].extend(self.service_needs(service));
            }
        }
    }
}

/// Targets by their addresses, for who looks for many of them: to look for one goes through all.
pub struct TargetIndex<'g> {
    ids: HashMap<&'g str, TargetId>,
}

impl TargetIndex<'_> {
    /// The target with an address, as [`Tables::find_target`] finds it.
    pub fn find(&self, address: &str) -> Option<TargetId> {
        self.ids.get(address).copied()
    }

    /// The target whose value a service is, or has in it, as [`Tables::target_of_service`] finds
    /// it.
    pub fn of_service(&self, service: &Service) -> Option<TargetId> {
        target_of_service(service, |address| self.find(address))
    }
}

fn target_of_service(
    service: &Service,
    find: impl Fn(&str) -> Option<TargetId>,
) -> Option<TargetId> {
    let ends = service
        .address
        .match_indices('/')
        .map(|(at, _)| at)
        .chain([service.address.len()]);
    let mut ends: Vec<usize> = ends.collect();
    ends.reverse();
    ends.iter().find_map(|end| find(&service.address[..*end]))
}
