//! The graph's tables.

use std::sync::Arc;

use nubrik_source::WsPath;

/// A file's number in [`Graph::files`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct FileId(pub u32);

/// A step's number in [`Graph::steps`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct StepId(pub u32);

/// A target's number in [`Graph::targets`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct TargetId(pub u32);

/// A tool's number in [`Graph::tools`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct ToolId(pub u32);

/// Where in the definitions something was written.
#[derive(Clone, PartialEq, Eq, Hash, Debug, PartialOrd, Ord)]
pub struct Place {
    /// The definition file as people name it.
    pub file: Arc<str>,
    /// Line, from 1.
    pub line: u32,
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

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

/// An output as the definition named it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct OutputNode {
    /// The file or folder.
    pub file: FileId,
    /// The name that the definition gave it (`site/almanac.html`), without the folder the tool chose.
    pub name: Arc<str>,
}

/// What a command starts.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Program {
    /// A program of the machine, found by its name.
    Tool(ToolId),
    /// A file of the workspace: a source or an output.
    File(FileId),
}

/// One process of a command.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Stage {
    /// What is started.
    pub program: Program,
    /// All words, the first one included, as the process sees them.
    pub words: Vec<Arc<str>>,
    /// File that standard input is read from; nothing by default.
    pub stdin: Option<WsPath>,
    /// File that standard output is written to; captured by default.
    pub stdout: Option<WsPath>,
    /// File that standard error is written to; captured by default.
    pub stderr: Option<WsPath>,
}

/// A command: processes, each one's output the next one's input.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Pipeline {
    /// The processes; at least one.
    pub stages: Vec<Stage>,
}

/// Something to run: commands in order, from inputs to outputs.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Step {
    /// The target that the step belongs to.
    pub target: TargetId,
    /// What it does, for people: `compile src/fit.c`.
    pub say: Arc<str>,
    /// What runs, in order.
    pub commands: Vec<Pipeline>,
    /// Variables that the commands see, sorted by name.
    pub env: Vec<(Arc<str>, Arc<str>)>,
    /// The folder that only this step may write to.
    pub folder: WsPath,
    /// Files that certainly are inputs, sorted.
    pub inputs: Vec<FileId>,
    /// Files that may be inputs, sorted: which of them are, the commands list in [`Step::found`].
    /// Empty where the commands list nothing: then everything declared is in [`Step::inputs`].
    pub candidates: Vec<FileId>,
    /// What the commands make; at least one.
    pub outputs: Vec<OutputNode>,
    /// Files in which the commands list what they read.
    pub found: Vec<WsPath>,
    /// Files and folders that are thrown away afterwards.
    pub scratch: Vec<WsPath>,
    /// Tools that the commands start.
    pub tools: Vec<ToolId>,
    /// Where the step was written.
    pub place: Place,
}

/// A result of a target and the readable name under which it is published.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ResultFile {
    /// The address of the value that it belongs to: `tide/pages/ardle`.
    pub address: Arc<str>,
    /// The file or folder.
    pub file: FileId,
    /// Where it is published, below the folder of results.
    pub publish: WsPath,
}

/// A declaration that owns steps or results.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Target {
    /// Package and name: `tide/harmonics`.
    pub address: Arc<str>,
    /// The package's folder.
    pub package: WsPath,
    /// What it is: the name of its kind, or of the form that made it.
    pub kind: Arc<str>,
    /// Its documentation; empty where there is none.
    pub documentation: Arc<str>,
    /// Where it was declared.
    pub place: Place,
    /// Whether it was declared as a target (a value with steps of its own is listed by no command).
    pub declared: bool,
    /// Whether only its own package may use it.
    pub private: bool,
    /// Its results. Empty until the target is asked for.
    pub results: Vec<ResultFile>,
}

/// Targets, steps, files and tools of one evaluation.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Graph {
    /// All files, by [`FileId`].
    pub files: Vec<FileNode>,
    /// All steps, by [`StepId`].
    pub steps: Vec<Step>,
    /// All targets, by [`TargetId`].
    pub targets: Vec<Target>,
    /// Names of all tools, by [`ToolId`].
    pub tools: Vec<Arc<str>>,
}

impl Graph {
    /// The file with this number.
    pub fn file(&self, id: FileId) -> &FileNode {
        &self.files[id.0 as usize]
    }

    /// The step with this number.
    pub fn step(&self, id: StepId) -> &Step {
        &self.steps[id.0 as usize]
    }

    /// The target with this number.
    pub fn target(&self, id: TargetId) -> &Target {
        &self.targets[id.0 as usize]
    }

    /// The target that a step belongs to.
    pub fn owner(&self, step: StepId) -> &Target {
        self.target(self.step(step).target)
    }

    /// The steps that make what a step reads or may read, without repeats, in order.
    pub fn needs(&self, step: StepId) -> Vec<StepId> {
        let step = self.step(step);
        let mut needs: Vec<StepId> =
            step.inputs.iter().chain(&step.candidates).filter_map(|f| self.file(*f).maker).collect();
        needs.sort_unstable();
        needs.dedup();
        needs
    }

    /// The target with this address.
    pub fn find_target(&self, address: &str) -> Option<TargetId> {
        self.targets.iter().position(|t| &*t.address == address).map(|i| TargetId(i as u32))
    }

    /// The targets whose outputs the steps and results of each target use, without repeats, in order.
    pub fn target_needs(&self) -> Vec<Vec<TargetId>> {
        let mut needs = vec![Vec::new(); self.targets.len()];
        for (i, step) in self.steps.iter().enumerate() {
            let of = self.needs(StepId(i as u32));
            needs[step.target.0 as usize].extend(of.iter().map(|s| self.step(*s).target));
        }
        for (i, target) in self.targets.iter().enumerate() {
            let makers = target.results.iter().filter_map(|r| self.file(r.file).maker);
            needs[i].extend(makers.map(|s| self.step(s).target));
        }
        for (i, list) in needs.iter_mut().enumerate() {
            list.sort_unstable();
            list.dedup();
            list.retain(|t| t.0 as usize != i);
        }
        needs
    }
}
