//! Something to run: its commands, and what they read, make and need.

use std::sync::Arc;

use crate::Sorted;
use nubrik_source::{PathWithin, WsPath};

use crate::{FileId, Native, Service, SetId, TargetId, ToolId};

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

/// An output as the definition named it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct OutputNode {
    /// The file or folder.
    pub file: FileId,
    /// The name that the definition gave it (`site/almanac.html`), without the folder the tool
    /// chose.
    pub name: Arc<str>,
    /// Whether others may use it as soon as it is whole, while the step still runs. Only of files.
    pub early: bool,
    /// Whether the commands tell in it which lines of sources ran, as LCOV or Cobertura XML.
    pub lines: bool,
}

impl OutputNode {
    /// An output that others may use when the step has ended.
    pub fn new(file: FileId, name: impl Into<Arc<str>>) -> OutputNode {
        OutputNode {
            file,
            name: name.into(),
            early: false,
            lines: false,
        }
    }
}

/// What a command starts. Tools and files are numbers of a graph, or names that are the same in
/// every graph.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Program<T = ToolId, F = FileId> {
    /// A program of the machine, found by its name.
    Tool(T),
    /// A file of the workspace: a source or an output.
    File(F),
}

/// One process of a command.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Stage<T = ToolId, F = FileId> {
    /// What is started.
    pub program: Program<T, F>,
    /// All words, the first one included, as the process sees them.
    pub words: Vec<Arc<str>>,
    /// File that standard input is read from; nothing by default.
    pub stdin: Option<WsPath>,
    /// File that standard output is written to; captured by default.
    pub stdout: Option<WsPath>,
    /// File that standard error is written to; captured by default.
    pub stderr: Option<WsPath>,
    /// Whether it may stay and answer requests of several steps: what this one asks is the file of
    /// its standard input, one line of JSON, and so is the answer.
    pub answers: bool,
}

/// A command: processes, each one's output the next one's input.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Pipeline {
    /// The processes; at least one.
    pub stages: Vec<Stage>,
}

/// A file that the tool writes for a step's commands: arguments, a path a line, or a text of
/// theirs.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ArgumentFile {
    /// Where it is, in the step's folder.
    pub path: WsPath,
    /// What it holds.
    pub text: Arc<str>,
}

/// The folder in which a step's commands run.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub enum WorkFolder {
    /// The workspace's root.
    #[default]
    Root,
    /// A source folder.
    Source(WsPath),
    /// A folder of the step's own that is thrown away afterwards.
    Private {
        /// Where it is, in the step's folder.
        at: WsPath,
        /// The made folder that it is a copy of; empty without one.
        copy_of: Option<FileId>,
    },
}

impl WorkFolder {
    /// The folder, from the workspace's root.
    pub fn path(&self) -> WsPath {
        self.below_root().cloned().unwrap_or_else(WsPath::root)
    }

    /// The folder, unless it is the workspace's root itself.
    pub fn below_root(&self) -> Option<&WsPath> {
        match self {
            WorkFolder::Root => None,
            WorkFolder::Source(path) | WorkFolder::Private { at: path, .. } => Some(path),
        }
    }
}

/// What a step may take of the machine.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Limits {
    /// Whether it may use the network.
    pub network: bool,
    /// How long each of its commands may take, in milliseconds.
    pub timeout: Option<u64>,
    /// How much memory each of its processes may have, in bytes.
    pub memory: Option<u64>,
    /// How many processors it keeps busy; at least one.
    pub processors: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Limits {
            network: false,
            timeout: None,
            memory: None,
            processors: 1,
        }
    }
}

/// That a step gives a verdict: its commands end well, or fail.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Check {
    /// The output that says that it passed; written by the tool.
    pub verdict: FileId,
    /// The output in which the commands tell of single cases.
    pub report: Option<FileId>,
    /// Why a failure is not to stop anything.
    pub quarantined: Option<Arc<str>>,
    /// The address of the value that it is: `tide/fit/spring`.
    pub address: Arc<str>,
}

/// Stands before and after the name of a secret, and other marks, in words and variables (see
/// [`crate::Mark`]); no word can hold it otherwise.
pub const SECRET: char = '\0';

/// Something done for its effect: commands that make nothing for others.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Effect {
    /// The address of the value that it is: `deploy/publish`.
    pub address: Arc<str>,
    /// Its commands and what they need; it has no outputs. Secrets are written as their names
    /// between [`SECRET`]s.
    pub step: Step,
    /// Whether it goes on until someone stops it.
    pub lasting: bool,
}

/// The folder in a step's own that holds what it keeps for itself from one run to the next.
pub const KEPT: &str = ".kept";

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
    /// Files that certainly are inputs.
    pub inputs: Sorted<FileId>,
    /// Sets of files that may be inputs: which of them are, the commands list in [`Step::found`].
    /// They may overlap, and hold certain inputs, too. Empty where the commands list nothing: then
    /// everything declared is in [`Step::inputs`].
    pub candidates: Sorted<SetId>,
    /// What the commands make; at least one.
    pub outputs: Vec<OutputNode>,
    /// Files in which the commands list what they read.
    pub found: Vec<WsPath>,
    /// Whether only those of its candidates are inputs that its commands are seen to use: they list
    /// nothing themselves.
    pub observed: bool,
    /// Files and folders that are thrown away afterwards.
    pub scratch: Vec<WsPath>,
    /// Folders below [`KEPT`] that the commands find as they left them when they ran the last time;
    /// empty at first.
    pub kept: Vec<WsPath>,
    /// Tools that the commands start.
    pub tools: Vec<ToolId>,
    /// What the tool does itself, before any command.
    pub native: Option<Box<Native>>,
    /// Files with lists of paths, written before the commands run.
    pub lists: Vec<ArgumentFile>,
    /// The folder in which the commands run.
    pub work: WorkFolder,
    /// The statement of the image whose root they see in place of this machine's system: what a
    /// [`Native::Image`] makes. It is among the inputs.
    pub root: Option<FileId>,
    /// An output: a tar of what the commands change in that root, as a layer of an image. Then they
    /// see a copy of it, which they may change as its superuser.
    pub changes: Option<FileId>,
    /// Paths below the folder in which the commands run, taken from there as the outputs of the
    /// same number: commands that choose where they write.
    pub taken: Vec<(PathWithin, FileId)>,
    /// An output into which the exit code of the last command is written: then a failure of the
    /// commands is a result.
    pub status: Option<FileId>,
    /// What it may take of the machine.
    pub limits: Limits,
    /// What is said of a machine on which it may run, sorted: its system, its processor, and labels
    /// that somebody gave it (`aarch64`, `tide-board`). Nothing where it may run on one like this.
    pub machine: Vec<Arc<str>>,
    /// What it says of what it was run for, if it gives a verdict.
    pub check: Option<Box<Check>>,
    /// Services that run while it does, in the order of their folders. Their files and tools are
    /// among its own, and where its words and variables speak of them there are marks.
    pub services: Vec<Arc<Service>>,
    /// The options that tell it from the same step of the same target: `mode=release`. For people.
    pub variant: Arc<str>,
    /// Where the step was written.
    pub place: Place,
}

impl Step {
    /// What it reads besides the image that it runs in.
    pub fn inputs_besides_image(&self) -> Vec<FileId> {
        self.inputs
            .iter()
            .copied()
            .filter(|file| Some(*file) != self.root)
            .collect()
    }

    /// The outputs that others may use before the step ends.
    pub fn early_outputs(&self) -> impl Iterator<Item = FileId> {
        self.outputs
            .iter()
            .filter(|output| output.early)
            .map(|output| output.file)
    }

    /// The outputs in which its commands tell which lines ran.
    pub fn accounts_of_lines(&self) -> impl Iterator<Item = FileId> {
        self.outputs
            .iter()
            .filter(|output| output.lines)
            .map(|output| output.file)
    }

    /// Whether what it may read is more than what counts: which of its candidates do is known when
    /// it ran.
    pub fn narrows(&self) -> bool {
        self.observed || !self.found.is_empty()
    }

    /// Whether only the machine that asks for it can do it: it uses the network, a service, a
    /// folder that it keeps, a program that stays, or gives an output early; or it is no commands,
    /// but something that the tool does itself.
    pub fn is_tied(&self) -> bool {
        let answers = self
            .commands
            .iter()
            .flat_map(|pipeline| &pipeline.stages)
            .any(|stage| stage.answers);
        let has_commands_alone = !self.commands.is_empty() && self.native.is_none();
        !has_commands_alone
            || answers
            || self.limits.network
            || !self.services.is_empty()
            || !self.kept.is_empty()
            || self.early_outputs().next().is_some()
    }

    /// Whether it is done by the tool itself, and sooner than a result of it could be asked for
    /// anywhere. What an image is, and what is in it, takes long to find out, and follows from the
    /// image alone.
    pub fn is_made_anywhere(&self) -> bool {
        let of_image = matches!(
            self.native.as_deref(),
            Some(Native::Image(_) | Native::Find(_))
        );
        self.commands.is_empty() && !of_image
    }

    /// A step that does nothing yet, in a folder of its own.
    pub fn empty(folder: WsPath) -> Step {
        Step::empty_with(folder, &"".into())
    }

    /// The same, where an empty text is at hand for what is not known yet.
    pub fn empty_with(folder: WsPath, nothing: &Arc<str>) -> Step {
        Step {
            target: TargetId(0),
            say: nothing.clone(),
            commands: Vec::new(),
            env: Vec::new(),
            folder,
            inputs: Sorted::default(),
            candidates: Sorted::default(),
            outputs: Vec::new(),
            found: Vec::new(),
            observed: false,
            scratch: Vec::new(),
            kept: Vec::new(),
            tools: Vec::new(),
            native: None,
            lists: Vec::new(),
            work: WorkFolder::Root,
            root: None,
            changes: None,
            taken: Vec::new(),
            status: None,
            limits: Limits::default(),
            machine: Vec::new(),
            check: None,
            services: Vec::new(),
            variant: nothing.clone(),
            place: Place {
                file: nothing.clone(),
                line: 0,
            },
        }
    }
}
