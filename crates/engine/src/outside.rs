//! What the engine asks of the machine.

use std::fmt;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_disk::{MadeThing, Signature, TreeFile};
use nubrik_graph::{ImageSearch, ImageSource, Limits, Native, PlainFile, Service, Stage};
use nubrik_source::{FilePath, WsPath};
use nubrik_store::StoredContent;

use crate::seen::{Recording, Seen};

/// Where a step sees the workspace, where the kernel lets it have a view of its own: the same on
/// every machine.
pub const CONSTANT_ROOT: &str = "/nubrik";

/// A tool of the machine.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct FoundTool {
    /// The program's file.
    pub path: PathBuf,
    /// Digest of everything that makes the tool what it is: the program and what it starts.
    pub identity: Digest,
    /// Absolute paths of these files.
    pub parts: Vec<Arc<str>>,
    /// Folders of the system in which it looks for what the sources name, in its order: a
    /// compiler's headers.
    pub search: Vec<Arc<str>>,
    /// Digest of the state of these folders on this machine: while it stays, no name appeared in
    /// them.
    pub search_state: Digest,
    /// Folders of the system in which its linker looks for libraries, in its order.
    pub libraries: Vec<Arc<str>>,
    /// What it was asked and did not answer, so that not all of it is known: such a tool runs
    /// nothing.
    pub unanswered: Option<Arc<str>>,
}

/// Why a tool is not there.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ToolProblem {
    /// The tool's name.
    pub name: Arc<str>,
    /// The folders that were searched.
    pub searched: Vec<String>,
    /// What to do about it, such as which package to install.
    pub mend: Option<String>,
    /// What it was asked and did not answer, where it is there.
    pub unanswered: Option<Arc<str>>,
    /// The image that does not have it, where it was searched for in one.
    pub image: Option<Arc<str>>,
}

impl fmt::Display for ToolProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let ToolProblem {
            name,
            unanswered,
            image,
            ..
        } = self;
        match unanswered {
            None if image.is_some() => {
                write!(
                    f,
                    "there is no tool `{name}` in the image {}",
                    image.as_deref().unwrap_or_default()
                )
            }
            None => write!(f, "there is no tool `{name}` on this machine"),
            Some(question) => write!(
                f,
                "the tool `{name}` does not say what belongs to it: {question}"
            ),
        }
    }
}

/// Processes to run for a step.
pub struct Job<'a> {
    /// Processes of one pipeline, with their programs' files.
    pub stages: Vec<(PathBuf, &'a Stage)>,
    /// Variables that the definition sets.
    pub env: &'a [(Arc<str>, Arc<str>)],
    /// The step's own folder: the only place it may write to.
    pub folder: &'a WsPath,
    /// What it may read.
    pub readable: &'a Readables,
    /// Tools that it starts.
    pub tools: &'a [FoundTool],
    /// The root that it sees in place of this machine's system.
    pub root: Option<&'a OpenRoot>,
    /// The folder in which it runs.
    pub work: &'a WsPath,
    /// What it may take of the machine.
    pub limits: Limits,
    /// The services that run at the same time.
    pub lent: Option<&'a Lent>,
}

/// A root that is on this machine, in which commands can run.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct OpenRoot {
    /// The digest of its tree, as hexadecimal digits, by which the machine knows it.
    pub tree: Arc<str>,
    /// Variables of commands in it, unless a definition says otherwise.
    pub env: Vec<(Arc<str>, Arc<str>)>,
    /// Folders in which programs are looked for, in their order.
    pub search: Vec<String>,
}

/// Something that a step may read.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Readable {
    /// Where it is.
    pub path: WsPath,
    /// Whether it is a folder, with all that is in it.
    pub folder: bool,
    /// Whether a step makes it: such a path leads through no links.
    pub made: bool,
}

/// What commands may read.
#[derive(Clone, Default, Debug)]
pub struct Readables {
    /// What is declared for these commands alone.
    pub own: Vec<Readable>,
    /// Sets that many commands declare. In one build the same set is the same allocation, so that
    /// what follows from it can be found again by that.
    pub shared: Vec<Arc<[Readable]>>,
}

impl Readables {
    /// All of it; with repeats where sets overlap.
    pub fn iter(&self) -> impl Iterator<Item = &Readable> {
        self.own
            .iter()
            .chain(self.shared.iter().flat_map(|set| set.iter()))
    }
}

/// Services that run for someone.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Lent {
    /// By which the machine knows the loan.
    pub number: u64,
    /// Whether they have their usual addresses, so that what is made with them is the same in every
    /// run.
    pub as_always: bool,
}

/// Why a service is not there for who needs it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ServiceFailure {
    /// The service's address.
    pub service: Arc<str>,
    /// Where it is defined.
    pub place: Arc<str>,
    /// What went wrong.
    pub problem: ServiceProblem,
    /// What it printed at the end.
    pub printed: Vec<u8>,
}

/// What went wrong with a service.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ServiceProblem {
    /// It was not ready in time: how long it had, in milliseconds, and how often it was asked.
    NotReady(u64, u32),
    /// It runs somewhere else, and did not answer: how long it had, in milliseconds, and how often
    /// it was asked.
    NoAnswer(u64, u32),
    /// It ended before it was ready, so.
    Ended(String),
    /// A command of it failed: which field it is in, and how it ended.
    Command(&'static str, String),
    /// A program cannot be started: which, and why.
    NotStarted(String, String),
    /// A tool is not on this machine.
    NoTool(ToolProblem),
    /// The variable of a secret is not set.
    NoSecret(String),
    /// It had to be ended by signals: its `stop` failed so, or ended well and left it running
    /// (`None`).
    NotStopped(Option<String>),
    /// What represents its port is none.
    BadPort,
    /// It did not come up for someone else, who says why.
    SaidBefore,
    /// The machine refused something.
    Machine(String),
}

impl ServiceProblem {
    /// Whether another machine, or another environment, would do.
    pub fn lies_in_machine(&self) -> bool {
        matches!(self, Self::NoTool(_) | Self::NoSecret(_) | Self::Machine(_))
    }
}

/// Something that the tool does itself, without a command.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Work {
    /// What a definition says.
    Native(Native<PlainFile>),
    /// Copies a folder to one that may be written to; without a folder, makes an empty one.
    Copy(Option<WsPath>),
    /// Moves what commands made in their folder to the place of an output.
    Take(WsPath),
    /// Looks for something in a root, and writes down what is there.
    Find(OpenRoot, ImageSearch),
}

impl Work {
    /// Writes a text to a file that is not executable.
    pub fn write(text: &str) -> Work {
        Work::Native(Native::Write {
            text: text.into(),
            executable: false,
        })
    }
}

/// How a job ended.
#[derive(Debug)]
pub enum JobEnd {
    /// Well.
    Well,
    /// With this exit code.
    Code(i32),
    /// By this signal.
    Signal(i32),
    /// It took longer than it may.
    TimedOut,
    /// Everything is being stopped.
    Cancelled,
    /// Names appeared in a folder, or went, that was shown to it whole: its path.
    Disturbed(String),
    /// A program could not be started.
    NotStarted(PathBuf, io::Error),
    /// It is to be repeated from the beginning, in a folder that was made again: a program that
    /// answered others before broke.
    ToBeRepeated,
    /// A program that is asked requests did not answer, or not so that it can be understood: how
    /// its answer begins.
    NoAnswer(String),
}

/// Whether a program is ended by a signal because it broke, as it does each time: it did what it
/// must not. By all others it is ended from outside (by a person, for want of memory, by a limit),
/// and would have gone on another time.
pub fn is_own_end(signal: i32) -> bool {
    const ILLEGAL: i32 = 4;
    const TRAP: i32 = 5;
    const ABORT: i32 = 6;
    const ARITHMETIC: i32 = 8;
    const MEMORY: i32 = 11;
    [ILLEGAL, TRAP, ABORT, ARITHMETIC, MEMORY].contains(&signal)
}

/// Whether a shell says by a code that a program of its own was ended from outside.
pub fn is_cut_off(code: i32) -> bool {
    (129..160).contains(&code) && !is_own_end(code - 128)
}

/// Files of the workspace and of the machine, and what a step makes.
pub trait OutsideFiles: Sync {
    /// A file's metadata, links followed; `None` where nothing is.
    fn check(&self, path: &FilePath) -> Option<Signature>;

    /// The metadata of what is at a path itself, links not followed; `None` where nothing is.
    fn check_itself(&self, path: &WsPath) -> Option<Signature>;

    /// What a step left at the place of an output. A link that leads to a file of the step's own
    /// (below `folder`) is replaced by that file: a result is a file, and stays one.
    fn look_at_made(&self, path: &WsPath, folder: &WsPath) -> MadeThing;

    /// The symbolic links of the workspace that a path leads through, itself among them: each link,
    /// and where it leads, as it is written, in the order in which they are met.
    fn links_to(&self, path: &WsPath) -> Vec<(WsPath, Arc<str>)>;

    /// Where a listed name leads, when links on its way are followed: `..` behind a link is above
    /// what that leads to.
    fn followed(&self, path: &WsPath) -> Option<WsPath>;

    /// The digest of a file's content.
    ///
    /// # Errors
    /// When it cannot be read, or is not a file.
    fn digest(&self, path: &FilePath) -> io::Result<Digest>;

    /// Whether a program may change a file without a new time: it has it open for writing.
    fn is_being_written(&self, path: &FilePath) -> bool;

    /// A file's content.
    ///
    /// # Errors
    /// When it cannot be read.
    fn read(&self, path: &FilePath) -> io::Result<Vec<u8>>;

    /// Everything in and below a folder that no link leads to, sorted by path. Folders that hold
    /// something follow from what they hold, and are not among it.
    ///
    /// # Errors
    /// When it cannot be read.
    fn tree(&self, folder: &WsPath) -> io::Result<Vec<TreeFile>>;

    /// Puts a content into a folder that was just made.
    ///
    /// # Errors
    /// When it cannot, or something has its name there already.
    fn put(&self, path: &WsPath, content: StoredContent, executable: bool) -> io::Result<()>;

    /// Makes a link in a folder that was just made.
    ///
    /// # Errors
    /// When it cannot.
    fn make_link(&self, path: &WsPath, target: &str) -> io::Result<()>;

    /// Makes a step's folder again and empty, with the folders that files in it need.
    ///
    /// # Errors
    /// When it cannot.
    fn fresh_folder(&self, folder: &WsPath, inner: &[String]) -> io::Result<()>;

    /// Moves a file or folder; what is at the new place is replaced.
    ///
    /// # Errors
    /// When it cannot.
    fn set_aside(&self, from: &WsPath, to: &WsPath) -> io::Result<()>;

    /// Does something, and tells meanwhile of each of some files when it is whole, by its number
    /// and perhaps more than once; of none where the machine does not tell.
    fn while_watching(
        &self,
        files: &[WsPath],
        whole: &(dyn Fn(usize) + Sync),
        act: &mut dyn FnMut(),
    );

    /// Throws away a file or folder, if it is there.
    fn discard(&self, path: &WsPath);

    /// Copies a result to the place where people find it.
    ///
    /// # Errors
    /// When it cannot.
    fn publish(&self, from: &WsPath, to: &WsPath) -> io::Result<()>;

    /// Where a path is on this machine.
    fn locate(&self, path: &WsPath) -> PathBuf;

    /// Looks whether nothing more can be written where steps make their outputs, and gives how
    /// often that was seen so far.
    /// Each [`OutsideFiles::discard`] looks, too: it may make room before anyone else looks.
    fn times_full(&self) -> u64;

    /// Nanoseconds since 1970.
    fn now(&self) -> i64;
}

/// Tools, and what else of the machine decides results.
pub trait OutsideSystem: Sync {
    /// A tool by its name.
    ///
    /// # Errors
    /// When it is not there.
    fn tool(&self, name: &Arc<str>) -> Result<FoundTool, ToolProblem>;

    /// A tool's version, as it tells it; it is asked once, as long as it stays the same.
    fn version_told(&self, name: &Arc<str>) -> Option<Arc<str>>;

    /// Whether all files of a tool are what they were when it was found: an upgrade may replace
    /// them while steps run.
    fn is_as_found(&self, tool: &FoundTool) -> bool;

    /// Where a step's commands look for a program, in their order, up to the first place that has
    /// it.
    fn looked_up(&self, program: &str) -> Vec<FilePath>;

    /// Files by which the kernel runs a program: what the first line of a script says, and what
    /// loads a compiled one; none for others.
    fn interpreters(&self, script: &FilePath) -> Vec<FilePath>;

    /// Whether an absolute path is in a folder of the system that all steps may read.
    fn is_system(&self, path: &str) -> bool;

    /// The names in a folder of the machine, each with the bits of its kind among those of a mode,
    /// sorted.
    ///
    /// # Errors
    /// When it cannot be listed.
    fn names_in(&self, folder: &str) -> io::Result<Vec<(String, u32)>>;

    /// The links of the machine that a path leads through, itself among them, each with its text.
    fn links_of_machine(&self, path: &str) -> Vec<(String, Arc<str>)>;

    /// Where the list that the machine's loader keeps has a library, by the name that programs ask
    /// for; `None` where it has none of that name, or there is no such list.
    fn loaded_from(&self, library: &str) -> Option<Arc<str>>;

    /// What tells this run of the machine from others: since when it runs. `None` where that cannot
    /// be known.
    fn running_since(&self) -> Option<String>;

    /// Whether this machine is all that some labels say: its system, its processor, and what it was
    /// called besides.
    fn has_labels(&self, labels: &[Arc<str>]) -> bool;

    /// What commands get from the process that builds, and could not be made the same everywhere:
    /// limits and niceness, in words.
    fn inherits(&self) -> Option<Arc<str>>;

    /// What commands see besides what they declare, where that is not nothing: part of what
    /// identifies a step, since it may decide a result.
    fn sees_besides(&self) -> Option<Arc<str>>;
}

/// Commands, and what is done without them.
pub trait OutsideWork: Sync {
    /// One of so many threads begins to perform steps, and will do nothing else until it ends.
    fn begin_worker(&self, workers: usize);

    /// Runs processes to their end; appends what they print.
    fn run(&self, job: &Job<'_>, printed: &mut Vec<u8>) -> JobEnd;

    /// Whether commands can be recorded.
    fn records(&self) -> bool;

    /// The same under a recorder, which tells what the processes did; `None` where the machine has
    /// none.
    fn run_recorded(
        &self,
        job: &Job<'_>,
        printed: &mut Vec<u8>,
        recording: Recording,
    ) -> Option<(JobEnd, Seen)>;

    /// Does something itself, making the file or folder `to`.
    ///
    /// # Errors
    /// What went wrong.
    fn work(&self, work: &Work, to: &WsPath) -> Result<(), WorkProblem>;

    /// Whether all places are on this machine from which something with a digest is to be fetched:
    /// then the network is not asked.
    fn is_at_hand(&self, _places: &[Arc<str>], _digest: &str) -> bool;

    /// How many of the cases that a check's report lists failed, and how many it lists.
    ///
    /// # Errors
    /// When the report cannot be read, or is none.
    fn judge(&self, report: &WsPath) -> io::Result<(usize, usize)>;

    /// Nothing more is performed: what stays for the next step may end.
    fn rest(&self);

    /// Whether everything is to stop.
    fn is_cancelled(&self) -> bool;
}

/// Why something that the tool does itself was not done. Its text is for people.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum WorkProblem {
    /// This machine could not do it: what could not be made, and why.
    Machine(String),
    /// What it works on is not as it has to be.
    Input(String),
    /// No address gave what has the digest.
    NotFetched {
        /// What each of them said.
        said: Vec<String>,
        /// Whether one gave something that has another digest.
        is_another: bool,
    },
}

impl fmt::Display for WorkProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            WorkProblem::Machine(what) | WorkProblem::Input(what) => f.write_str(what),
            WorkProblem::NotFetched { said, .. } => f.write_str(&said.join("\n")),
        }
    }
}

impl std::error::Error for WorkProblem {}

/// Roots of images, in which steps run.
pub trait OutsideRoots: Sync {
    /// Opens the root that a statement names, a file of the workspace; where it is not on this
    /// machine, it is put together from the image that the statement was made of, whose files
    /// `bring` brings here.
    ///
    /// # Errors
    /// When it cannot be had.
    fn open_root(
        &self,
        statement: &WsPath,
        image: &ImageSource<PlainFile>,
        bring: &dyn Fn(),
    ) -> Result<OpenRoot, WorkProblem>;

    /// Where a program is in a root, as commands in it see that: by its name, or at an absolute
    /// path.
    ///
    /// # Errors
    /// When it is not there.
    fn program_in(&self, root: &OpenRoot, name: &Arc<str>) -> Result<PathBuf, ToolProblem>;

    /// Opens a copy of a root, which commands may change.
    ///
    /// # Errors
    /// When it cannot be had.
    fn open_copy(&self, root: &OpenRoot) -> Result<OpenRoot, WorkProblem>;

    /// Throws a copy away; before that, writes the changes that commands made in it as a layer of
    /// an image, with a path for it.
    ///
    /// # Errors
    /// When no layer can hold them, or this machine refuses. The copy is gone then, too.
    fn close_copy(&self, copy: &OpenRoot, layer: Option<&WsPath>) -> Result<(), WorkProblem>;
}

/// Services that steps use.
pub trait OutsideServices: Sync {
    /// Makes services ready for a user, a step's folder or another name: those that are shared and
    /// run already as they are, others are started. `network` says whether the user sees this
    /// machine's network.
    ///
    /// # Errors
    /// Why one of them is not there; `None` when everything is being stopped.
    fn lend(
        &self,
        user: &str,
        services: &[Arc<Service>],
        network: bool,
    ) -> Result<Lent, Option<ServiceFailure>>;

    /// Takes services back from their user; those that only it had are stopped. Gives what they
    /// printed at the end, each with its address.
    fn give_back(&self, lent: Lent) -> Vec<(Arc<str>, Vec<u8>)>;

    /// Takes note that no one will need a shared service any more: it is stopped when all have
    /// given it back.
    fn no_longer_needed(&self, service: &Service);

    /// The secret that is in a file below a folder, in its name or in where a link leads, of those
    /// that the services of a loan know: its name, and the file.
    ///
    /// # Errors
    /// When something there cannot be searched.
    fn tells_secret(&self, folder: &WsPath, lent: &Lent) -> io::Result<Option<(String, String)>>;
}

/// The machine, as the engine sees it. None of it has an answer of its own: whoever plays a machine
/// says all of it.
pub trait Outside:
    OutsideFiles + OutsideSystem + OutsideWork + OutsideRoots + OutsideServices
{
}

impl<T: OutsideFiles + OutsideSystem + OutsideWork + OutsideRoots + OutsideServices> Outside for T {}
