//! The graph's tables.

use std::sync::Arc;

use nubrik_source::WsPath;

use crate::service::Service;
use crate::sets::{FileSets, Needs, SetId};

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

/// A file that the tool writes for a step: one path a line.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ListFile {
    /// Where it is, in the step's folder.
    pub path: WsPath,
    /// What it holds.
    pub lines: Vec<Arc<str>>,
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
        Limits { network: false, timeout: None, memory: None, processors: 1 }
    }
}

/// Format of an archive.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ArchiveFormat {
    /// Plain tar.
    Tar,
    /// Tar, compressed by gzip.
    TarGz,
    /// Tar, compressed by Zstandard.
    TarZst,
    /// Zip.
    Zip,
}

impl ArchiveFormat {
    /// All formats by their names.
    pub const ALL: [(&'static str, ArchiveFormat); 4] = [
        ("tar.gz", ArchiveFormat::TarGz),
        ("tar.zst", ArchiveFormat::TarZst),
        ("zip", ArchiveFormat::Zip),
        ("tar", ArchiveFormat::Tar),
    ];

    /// The format of this name.
    pub fn named(name: &str) -> Option<ArchiveFormat> {
        Self::ALL.iter().find(|(n, _)| *n == name).map(|(_, format)| *format)
    }

    /// The format that a file's name tells of.
    pub fn of_file(name: &str) -> Option<ArchiveFormat> {
        if name.ends_with(".tgz") {
            return Some(ArchiveFormat::TarGz);
        }
        Self::ALL.iter().find(|(n, _)| name.ends_with(&format!(".{n}"))).map(|(_, format)| *format)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(_, f)| *f == self).map_or("", |(name, _)| name)
    }
}

/// The name of the file that an address leads to, without what asks for it.
pub fn url_name(url: &str) -> &str {
    url.split(['?', '#']).next().unwrap_or("").rsplit('/').next().unwrap_or("")
}

/// A file's or made folder's place in a folder or archive that the tool makes.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Placement {
    /// Where it goes: the file itself, or for a folder what its files go below (empty: the top).
    pub to: Arc<str>,
    /// What goes there.
    pub from: FileId,
}

/// Something that the tool does itself, without a command.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Native {
    /// Writes a text to the output.
    Write {
        /// The text.
        text: Arc<str>,
        /// Whether the file may be executed.
        executable: bool,
    },
    /// Puts files together in the output folder.
    Stage {
        /// What goes where, sorted.
        files: Vec<Placement>,
    },
    /// Packs files into the output, the same bytes on every machine.
    Pack {
        /// The archive's format.
        format: ArchiveFormat,
        /// What goes where, sorted.
        files: Vec<Placement>,
    },
    /// Unpacks an archive into the output folder.
    Unpack {
        /// The archive.
        archive: FileId,
        /// How many leading folders of each name are dropped.
        strip: u32,
    },
    /// Fetches what has a known digest.
    Fetch {
        /// Where from: mirrors, tried in order.
        urls: Vec<Arc<str>>,
        /// `sha256:…` or `blake3:…`.
        digest: Arc<str>,
        /// Whether what was fetched is an archive to unpack into the output folder, and how many
        /// leading folders of each name are dropped.
        unpack: Option<u32>,
        /// Whether the file may be executed.
        executable: bool,
    },
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

/// Stands before and behind the name of a secret, and other marks, in words and variables (see
/// [`crate::Mark`]); no word can hold it otherwise.
pub const SECRET: char = '\0';

/// Something done for its effect: commands that make nothing for others.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Effect {
    /// The address of the value that it is: `deploy/publish`.
    pub address: Arc<str>,
    /// Its commands and what they need; it has no outputs. Secrets stand as their names between [`SECRET`]s.
    pub step: Step,
    /// Whether it goes on until somebody stops it.
    pub lasting: bool,
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
    /// Sets of files that may be inputs, sorted: which of them are, the commands list in [`Step::found`]. They may
    /// overlap, and hold certain inputs, too. Empty where the commands list nothing: then everything declared is in
    /// [`Step::inputs`].
    pub candidates: Vec<SetId>,
    /// What the commands make; at least one.
    pub outputs: Vec<OutputNode>,
    /// Files in which the commands list what they read.
    pub found: Vec<WsPath>,
    /// Files and folders that are thrown away afterwards.
    pub scratch: Vec<WsPath>,
    /// Tools that the commands start.
    pub tools: Vec<ToolId>,
    /// What the tool does itself, before any command.
    pub native: Option<Box<Native>>,
    /// Files with lists of paths, written before the commands run.
    pub lists: Vec<ListFile>,
    /// The folder in which the commands run.
    pub work: WorkFolder,
    /// Paths below the folder in which the commands run, taken from there as the outputs of the same
    /// number: commands that choose where they write.
    pub taken: Vec<(Arc<str>, FileId)>,
    /// An output into which the exit code of the last command is written: then a failure of the
    /// commands is a result.
    pub status: Option<FileId>,
    /// What it may take of the machine.
    pub limits: Limits,
    /// What it says of what it was run for, if it gives a verdict.
    pub check: Option<Box<Check>>,
    /// Services that run while it does, in the order of their folders. Their files and tools are among its own,
    /// and where its words and variables speak of them there are marks.
    pub services: Vec<Arc<Service>>,
    /// The options that tell it from the same step of the same target: `mode=release`. For people.
    pub variant: Arc<str>,
    /// Where the step was written.
    pub place: Place,
}

impl Step {
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
            inputs: Vec::new(),
            candidates: Vec::new(),
            outputs: Vec::new(),
            found: Vec::new(),
            scratch: Vec::new(),
            tools: Vec::new(),
            native: None,
            lists: Vec::new(),
            work: WorkFolder::Root,
            taken: Vec::new(),
            status: None,
            limits: Limits::default(),
            check: None,
            services: Vec::new(),
            variant: nothing.clone(),
            place: Place { file: nothing.clone(), line: 0 },
        }
    }
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

/// What a declaration that owns steps or results is for.
#[derive(Clone, Copy, PartialEq, Eq, Debug, PartialOrd, Ord)]
pub enum Role {
    /// A value with steps of its own; listed by no command.
    Inner,
    /// It makes files.
    Target,
    /// It gives verdicts.
    Test,
    /// It is done for its effect.
    Job,
    /// It runs while others need it.
    Service,
}

impl Role {
    /// The word that declares it.
    pub fn word(self) -> &'static str {
        match self {
            Role::Inner => "let",
            Role::Target => "target",
            Role::Test => "test",
            Role::Job => "job",
            Role::Service => "service",
        }
    }
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
    /// What it was declared as.
    pub role: Role,
    /// Whether only its own package may use it.
    pub private: bool,
    /// Its tags.
    pub tags: Vec<Arc<str>>,
    /// Its results. Empty until the target is asked for.
    pub results: Vec<ResultFile>,
}

/// Targets, steps, files and tools of one evaluation.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Graph {
    /// All files, by [`FileId`].
    pub files: Vec<FileNode>,
    /// All steps, by [`StepId`].
    #[allow(clippy::vec_box)] // A step has half a thousand bytes, and is handed on from graph to graph.
    pub steps: Vec<Box<Step>>,
    /// All targets, by [`TargetId`].
    pub targets: Vec<Target>,
    /// Names of all tools, by [`ToolId`].
    pub tools: Vec<Arc<str>>,
    /// Sets of files that steps share, by [`SetId`].
    pub sets: FileSets,
}

impl Target {
    /// Whether people know it by its address.
    pub fn is_declared(&self) -> bool {
        self.role != Role::Inner
    }
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

    /// The target that a step belongs to, with its variant where it has one: `tide/harmonics (mode=release)`.
    pub fn title(&self, step: StepId) -> Arc<str> {
        let address = &self.owner(step).address;
        match &*self.step(step).variant {
            "" => address.clone(),
            variant => format!("{address} ({variant})").into(),
        }
    }

    /// The files that a step may read besides its certain inputs; with repeats where its sets overlap.
    pub fn candidates(&self, step: &Step) -> impl Iterator<Item = FileId> {
        step.candidates.iter().flat_map(|set| self.sets.files(*set)).copied()
    }

    /// The files that a step may read and does not certainly read, sorted, each once.
    pub fn uncertain(&self, step: &Step) -> Vec<FileId> {
        let mut files: Vec<FileId> = self.candidates(step).collect();
        files.sort_unstable();
        files.dedup();
        files.retain(|file| step.inputs.binary_search(file).is_err());
        files
    }

    /// The files that a step reads or may read, sorted, each once.
    pub fn declared(&self, step: &Step) -> Vec<FileId> {
        let mut all: Vec<FileId> = step.inputs.iter().copied().chain(self.candidates(step)).collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Whether a step reads or may read a file.
    pub fn declares(&self, step: &Step, file: FileId) -> bool {
        step.inputs.binary_search(&file).is_ok() || step.candidates.iter().any(|s| self.sets.holds(*s, file))
    }

    /// The target with this address.
    pub fn find_target(&self, address: &str) -> Option<TargetId> {
        self.targets.iter().position(|t| &*t.address == address).map(|i| TargetId(i as u32))
    }

    /// The targets whose outputs the steps and results of each target use, without repeats, in order.
    pub fn target_needs(&self) -> Vec<Vec<TargetId>> {
        let mut needs = vec![Vec::new(); self.targets.len()];
        let needs_of = Needs::of(self);
        for (i, step) in self.steps.iter().enumerate() {
            let of = needs_of.of_step(StepId(i as u32));
            needs[step.target.0 as usize].extend(of.iter().map(|s| self.step(*s).target));
        }
        self.add_services(&mut needs);
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

    /// The targets of the services that run while a step does.
    pub fn service_targets(&self, step: StepId) -> Vec<TargetId> {
        let mut all = Vec::new();
        self.step(step).services.iter().for_each(|service| service.add_to(&mut all));
        all.iter().filter_map(|service| self.target_of_service(service)).collect()
    }

    /// The target whose value a service is, or has in it.
    pub fn target_of_service(&self, service: &Service) -> Option<TargetId> {
        let ends = service.address.match_indices('/').map(|(at, _)| at).chain([service.address.len()]);
        let mut ends: Vec<usize> = ends.collect();
        ends.reverse();
        ends.iter().find_map(|end| self.find_target(&service.address[..*end]))
    }

    /// The targets that make what a service reads.
    pub fn service_needs(&self, service: &Service) -> Vec<TargetId> {
        let made = self.files.iter().filter(|f| f.maker.is_some());
        let read = made.filter(|f| service.inputs.binary_search(&f.path).is_ok());
        let own = read.filter_map(|f| f.maker).map(|maker| self.step(maker).target);
        own.chain(service.needs.iter().filter_map(|need| self.target_of_service(need))).collect()
    }

    fn add_services(&self, needs: &mut [Vec<TargetId>]) {
        let mut known: Vec<Arc<Service>> = Vec::new();
        for step in self.steps.iter().filter(|s| !s.services.is_empty()) {
            for service in &step.services {
                needs[step.target.0 as usize].extend(self.target_of_service(service));
                service.add_to(&mut known);
            }
        }
        for service in &known {
            if let Some(target) = self.target_of_service(service) {
                needs[target.0 as usize].extend(self.service_needs(service));
            }
        }
    }
}
