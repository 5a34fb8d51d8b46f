//! What evaluation asks of the outside.

use std::collections::BTreeMap;
use std::sync::Arc;

use nubrik_source::WsPath;
use serde::{Deserialize, Serialize};

/// An answer, or the word that it is not there yet: then evaluation suspends what needs it, goes on
/// with the rest, and is asked again when all that was wanted has been answered.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Answer<T> {
    /// The answer.
    Ready(T),
    /// It is being found; ask again.
    Pending,
}

/// What is in a folder: names only, sorted, without what is ignored.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Listing {
    /// Names of files.
    pub files: Vec<Arc<str>>,
    /// Names of folders.
    pub folders: Vec<Arc<str>>,
    /// Why the folder could not be read, if so.
    pub problem: Option<String>,
}

/// What a path is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum EntryKind {
    /// A file.
    File,
    /// A folder.
    Folder,
}

/// That the value of a variable is not text.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct NotText;

/// A definition file's text.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum DefinitionText {
    /// The text.
    Text(Arc<str>),
    /// There is no such file.
    Missing,
    /// It cannot be read, and why.
    Unreadable(String),
}

/// Where a kit is that comes in an archive.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum KitPlace {
    /// Its files are in this folder, and these at its top are definition files.
    Here(WsPath, Vec<String>),
    /// They are not there, and why.
    NotHere(String),
    /// No kit has the name; these are named.
    Unnamed(Vec<String>),
}

/// The outside, as definitions may see it. Answers must not change during one evaluation.
pub trait World: Sync {
    /// The text of a definition file.
    fn definition(&self, path: &WsPath) -> Answer<DefinitionText>;
    /// The text of a kit that ships with the tool, by its name without `nub:`.
    fn shipped_kit(&self, name: &str) -> Option<&'static str>;
    /// The names of the kits that ship with the tool.
    fn shipped_kits(&self) -> Vec<&'static str>;
    /// The kit in an archive that the settings of the workspace give this name.
    fn kit_archive(&self, name: &str) -> KitPlace;
    /// What is in a folder, without what is ignored.
    fn list(&self, folder: &WsPath) -> Answer<Arc<Listing>>;
    /// Everything at and below a folder will be asked for: a hint, for worlds that can look at many
    /// folders at once.
    fn expect_all_below(&self, _folder: &WsPath) {}
    /// What a path is, ignored or not; `None` where nothing is.
    fn kind(&self, path: &WsPath) -> Answer<Option<EntryKind>>;
    /// A variable of the environment.
    ///
    /// # Errors
    /// When its value is not text.
    fn env(&self, name: &str) -> Result<Option<String>, NotText>;
    /// Names in a folder that are links which lead nowhere: lists leave them out.
    fn dangling(&self, folder: &WsPath) -> Vec<String>;
    /// Names of all files in the folders in which programs are searched for: to correct a name that
    /// none has.
    fn tool_names(&self) -> Vec<String>;
    /// Programs of the machine.
    fn tool(&self, request: &ToolRequest) -> Answer<ToolSearch>;
    /// Libraries installed on the machine.
    fn library(&self, request: &LibraryRequest) -> Answer<LibrarySearch>;
    /// What a sample answers, or why it could not run.
    fn sample(&self, request: &SampleRequest) -> Answer<Result<AnswerText, NoAnswer>>;
    /// The images that steps run in where no definition says another.
    fn roots(&self) -> &StepRoots;
    /// How long each command of a check may take that does not say it, in milliseconds.
    fn test_patience(&self) -> u64;
    /// Whether evaluation is to end, since nobody wants its result any more.
    fn is_stopped(&self) -> bool {
        false
    }
    /// The answer of the probe that is in a folder: kept, and true for this run.
    fn probe(&self, folder: &WsPath) -> Answer<AnswerText>;
}

/// The word for the machine's own system where an image is asked for.
pub const NO_IMAGE: &str = "none";

/// The images that steps run in where no definition says another: addresses from the workspace's
/// root.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct StepRoots {
    /// That of all packages but those below; `None` for the machine's own system.
    pub usual: Option<Arc<str>>,
    /// Those of packages and all packages in them; the one of the nearest package counts.
    pub of_packages: BTreeMap<WsPath, Option<Arc<str>>>,
}

impl StepRoots {
    /// The machine's own system for all.
    pub fn none() -> &'static StepRoots {
        static NONE: StepRoots = StepRoots {
            usual: None,
            of_packages: BTreeMap::new(),
        };
        &NONE
    }

    /// That of steps of a package.
    pub fn of(&self, package: &WsPath) -> Option<&Arc<str>> {
        let mut at = Some(package.clone()).filter(|_| !self.are_the_same());
        while let Some(around) = at {
            if let Some(root) = self.of_packages.get(&around) {
                return root.as_ref();
            }
            at = around.parent();
        }
        self.usual.as_ref()
    }

    /// Whether all steps have the same one.
    pub fn are_the_same(&self) -> bool {
        self.of_packages.is_empty()
    }
}

/// What a tool is to be found by.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct ToolRequest {
    /// Names to look for, the best first.
    pub names: Vec<Arc<str>>,
    /// The word that makes it print its version; `None` where no one asks.
    pub version: Option<Arc<str>>,
}

/// A tool that was found.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
pub struct ToolAnswer {
    /// The name that it was found under.
    pub name: Arc<str>,
    /// Where it is.
    pub path: Arc<str>,
    /// Its version, where it was asked for and the tool named one.
    pub version: Option<Arc<str>>,
}

/// What came of looking for a tool.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
pub struct ToolSearch {
    /// The tools that are there, in the order of their names.
    pub found: Vec<ToolAnswer>,
    /// Folders that were searched.
    pub searched: Vec<String>,
    /// What to install.
    pub mend: Option<String>,
}

impl ToolSearch {
    /// The text by which an answer is kept that was found in an image.
    pub fn to_json(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }

    /// The answer that a text is; `None` where it is none.
    pub fn from_json(text: &str) -> Option<ToolSearch> {
        serde_json::from_str(text).ok()
    }
}

impl LibrarySearch {
    /// The text by which an answer is kept that was found in an image.
    pub fn to_json(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }

    /// The answer that a text is; `None` where it is none.
    pub fn from_json(text: &str) -> Option<LibrarySearch> {
        serde_json::from_str(text).ok()
    }
}

/// What an installed library is to be found by.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct LibraryRequest {
    /// Names of `.pc` files without their ending, the best first.
    pub names: Vec<Arc<str>>,
    /// Whether the flags for static linking are wanted.
    pub for_static: bool,
}

/// A library that was found.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
pub struct LibraryAnswer {
    /// The name that it was found under.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Compiler flags.
    pub compile: Vec<String>,
    /// Linker flags.
    pub link: Vec<String>,
}

/// What came of looking for a library.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
pub struct LibrarySearch {
    /// The libraries that are there, in the order of their names.
    pub found: Vec<LibraryAnswer>,
    /// Folders that were searched.
    pub searched: Vec<String>,
    /// What was wrong with a file that was found.
    pub problem: Option<String>,
}

/// A program that a sample starts.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub enum SampleProgram {
    /// A tool of the machine, by its name.
    Tool(Arc<str>),
    /// A source file.
    File(WsPath),
}

/// One process of a sample.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct SampleCommand {
    /// What is started.
    pub program: SampleProgram,
    /// All words, the first one included.
    pub words: Vec<Arc<str>>,
}

/// A cheap command whose answer the definitions read.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct SampleRequest {
    /// Commands in order, each with the processes of its pipe.
    pub commands: Vec<Vec<SampleCommand>>,
    /// Variables, sorted by name.
    pub env: Vec<(Arc<str>, Arc<str>)>,
    /// How long each command may take, in milliseconds.
    pub timeout: Option<u64>,
}

/// What a sample or probe answered.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct AnswerText {
    /// Whether it succeeded.
    pub ok: bool,
    /// What it printed.
    pub text: Arc<str>,
    /// What it printed as errors, where it failed.
    pub errors: Arc<str>,
}

/// Why a sample has no answer.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct NoAnswer {
    /// For people.
    pub why: String,
    /// Whether it has none each time, since there is no such program or its answer is no text.
    /// Otherwise it was cut off: by a limit, by a signal, or because the machine lacked something,
    /// and nobody knows what the answer would have been.
    pub is_lasting: bool,
}
