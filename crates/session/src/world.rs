//! Definitions and folders on disk, as evaluation sees them.

use std::collections::{BTreeMap, HashMap};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ignore::gitignore::Gitignore;
use nubrik_disk::{IGNORE_FILE, Signature, TEXT_LIMIT, ignored_in, read_file};
use nubrik_engine::{OutsideFiles, OutsideSystem};
use nubrik_lang::{
    Answer, AnswerText, DefinitionText, EntryKind, KitPlace, LibraryRequest, LibrarySearch,
    Listing, NoAnswer, NotText, SampleRequest, StepRoots, ToolAnswer, ToolRequest, ToolSearch,
    World,
};
use nubrik_memory::{Entry, Names, Roles};
use nubrik_source::{FilePath, WsPath};
use parking_lot::{Condvar, Mutex};
use rustc_hash::FxHashMap;

use crate::SETTINGS_FILE;
use crate::kits::SHIPPED;
use nubrik_machine::Machine;
use nubrik_workspace::KitArchive;
use nubrik_workspace::Workspace;

/// The workspace on disk. Remembers what it was asked, so that a later run can tell whether any
/// answer would be another one.
pub(crate) struct DiskWorld<'m> {
    /// How long each command of a test may take that does not say it, in seconds.
    test_timeout: u64,
    step_roots: &'m StepRoots,
    root: PathBuf,
    machine: &'m Machine,
    /// Kits in archives, by their names.
    kits: &'m BTreeMap<String, KitArchive>,
    /// Where those are that were asked for.
    kit_places: Mutex<FxHashMap<String, KitPlace>>,
    listings: Mutex<FxHashMap<WsPath, Arc<Listing>>>,
    ignores: Mutex<FxHashMap<WsPath, Arc<Ignore>>>,
    /// Answers of probes that are kept and true for this run, by their folders.
    probes: &'m HashMap<WsPath, AnswerText>,
    /// Texts of definitions that an editor has and the disk has not.
    unsaved: Option<&'m HashMap<WsPath, Arc<str>>>,
    seen: Mutex<SeenOfMachine>,
}

/// What is ignored in a folder and below it.
struct Ignore {
    patterns: Gitignore,
    /// Why that is not known.
    problem: Option<String>,
}

/// What evaluation saw of the machine: when any of it changes, evaluation may have another result.
#[derive(Default, Clone)]
pub(crate) struct SeenOfMachine {
    /// Paths that were looked at, with why, and their metadata at the first time.
    pub files: FxHashMap<FilePath, Entry>,
    /// Variables of the environment.
    pub env: HashMap<String, Option<String>>,
    /// Tools that were looked for.
    pub tools: Vec<(ToolRequest, ToolSearch)>,
    /// Libraries that were looked for.
    pub libraries: Vec<(LibraryRequest, LibrarySearch)>,
    /// Samples with their answers.
    pub samples: HashMap<SampleRequest, Result<AnswerText, NoAnswer>>,
}

impl<'m> DiskWorld<'m> {
    pub fn new(
        workspace: &'m Workspace,
        machine: &'m Machine,
        probes: &'m HashMap<WsPath, AnswerText>,
    ) -> Self {
        DiskWorld {
            test_timeout: workspace.settings.test_timeout.unwrap_or(TEST_TIMEOUT),
            step_roots: &workspace.settings.steps.roots,
            root: workspace.root.clone(),
            machine,
            kits: &workspace.settings.kits,
            kit_places: Mutex::default(),
            listings: Mutex::default(),
            ignores: Mutex::default(),
            probes,
            unsaved: None,
            seen: Mutex::default(),
        }
    }

    /// The same where some texts are others than on the disk: an editor has not saved them.
    pub fn with_unsaved(mut self, unsaved: &'m HashMap<WsPath, Arc<str>>) -> Self {
        self.unsaved = Some(unsaved);
        self
    }

    /// Everything that answers were taken from.
    pub fn into_seen(self) -> SeenOfMachine {
        self.seen.into_inner()
    }

    fn disk(&self, path: &WsPath) -> PathBuf {
        self.root.join(path.as_str())
    }

    /// Takes note of a path before it is looked into.
    fn look_at(&self, path: &WsPath, role: Roles) -> Option<Signature> {
        let file = if path.is_root() {
            FilePath::root()
        } else {
            FilePath::from(path)
        };
        let signature = self.machine.check(&file);
        self.note(file, signature, role);
        signature
    }

    fn note(&self, file: FilePath, signature: Option<Signature>, role: Roles) {
        let mut seen = self.seen.lock();
        let entry = seen
            .files
            .entry(file)
            .or_insert_with(|| Entry::new(signature));
        entry.roles = entry.roles.and(role);
    }

    /// What is ignored in a folder, by its own `.gitignore`.
    fn ignore(&self, folder: &WsPath) -> Arc<Ignore> {
        if let Some(known) = self.ignores.lock().get(folder) {
            return known.clone();
        }
        let mut ignore = Ignore {
            patterns: Gitignore::empty(),
            problem: None,
        };
        if self
            .look_at(&folder.child(IGNORE_FILE), Roles::READ)
            .is_some()
        {
            match ignored_in(&self.disk(folder)) {
                Err(e) => ignore.problem = Some(format!("its {IGNORE_FILE} cannot be read: {e}")),
                Ok(patterns) => ignore.patterns = patterns,
            }
        }
        let ignore = Arc::new(ignore);
        self.ignores.lock().insert(folder.clone(), ignore.clone());
        ignore
    }

    fn is_ignored(&self, folder: &WsPath, path: &Path, is_folder: bool) -> bool {
        let mut at = Some(folder.clone());
        while let Some(folder) = at {
            let ignore = self.ignore(&folder);
            let matched = ignore.patterns.matched(path, is_folder);
            if !matched.is_none() {
                return matched.is_ignore();
            }
            at = folder.parent();
        }
        false
    }

    fn read_folder(&self, folder: &WsPath) -> Listing {
        let mut listing = Listing::default();
        if self.look_at(folder, Roles::LISTED).is_none() {
            return listing;
        }
        let entries = match fs::read_dir(self.disk(folder)) {
            Ok(entries) => entries,
            Err(e)
                if matches!(
                    e.kind(),
                    io::ErrorKind::NotFound | io::ErrorKind::NotADirectory
                ) =>
            {
                return listing;
            }
            Err(e) => {
                listing.problem = Some(e.to_string());
                return listing;
            }
        };
        if let Some(problem) = &self.ignore(folder).problem {
            listing.problem = Some(problem.clone());
            return listing;
        }
        for entry in entries {
            let entry = match entry {
                Ok(entry) => entry,
                Err(e) => {
                    listing.problem = Some(e.to_string());
                    return listing;
                }
            };
            // A name that is no text cannot be written in a definition.
            let Ok(name) = entry.file_name().into_string() else {
                continue;
            };
            let is_results = folder.is_root() && name == "out";
            if name.starts_with('.') || name.contains(['\n', '\r']) || is_results {
                continue;
            }
            let Ok(kind) = entry.file_type() else {
                continue;
            };
            // A link to a file is a file; a link to a folder could lead round, and is passed over.
            // Where it leads may appear, vanish or become something else while this folder stays as
            // it is.
            let leads_to_file = || {
                let found = self.look_at(&folder.child(&name), Roles::KIND);
                found.is_some_and(|found| found.is_file())
            };
            let is_file = kind.is_file() || (kind.is_symlink() && leads_to_file());
            let is_folder = kind.is_dir();
            if (!is_file && !is_folder) || self.is_ignored(folder, &entry.path(), is_folder) {
                continue;
            }
            match is_file {
                true => listing.files.push(name.into()),
                false => listing.folders.push(name.into()),
            }
        }
        listing.files.sort_unstable();
        listing.folders.sort_unstable();
        if !folder.is_root() && listing.files.iter().any(|f| &**f == SETTINGS_FILE) {
            return Listing::default(); // Another workspace is there.
        }
        listing
    }
}

/// How long each command of a check may take that does not say it, in seconds: a test that hangs
/// fails.
const TEST_TIMEOUT: u64 = 10 * 60;

impl World for DiskWorld<'_> {
    fn roots(&self) -> &StepRoots {
        self.step_roots
    }

    fn test_patience(&self) -> u64 {
        self.test_timeout.saturating_mul(1000)
    }

    fn definition(&self, path: &WsPath) -> Answer<DefinitionText> {
        let Some(signature) = self.look_at(path, Roles::READ) else {
            return Answer::Ready(DefinitionText::Missing);
        };
        if signature.is_folder() {
            return Answer::Ready(DefinitionText::Missing);
        }
        if let Some(text) = self.unsaved.and_then(|unsaved| unsaved.get(path)) {
            return Answer::Ready(DefinitionText::Text(text.clone()));
        }
        Answer::Ready(match read_file(&self.disk(path), TEXT_LIMIT) {
            Ok(bytes) => match String::from_utf8(bytes) {
                Ok(text) => DefinitionText::Text(text.into()),
                Err(e) => {
                    let line = e.as_bytes()[..e.utf8_error().valid_up_to()]
                        .iter()
                        .filter(|b| **b == b'\n')
                        .count()
                        + 1;
                    DefinitionText::Unreadable(format!("line {line} is not UTF-8 text"))
                }
            },
            Err(e) => DefinitionText::Unreadable(e.to_string()),
        })
    }

    fn shipped_kit(&self, name: &str) -> Option<&'static str> {
        SHIPPED
            .iter()
            .find(|(n, _)| *n == name)
            .map(|(_, text)| *text)
    }

    fn shipped_kits(&self) -> Vec<&'static str> {
        SHIPPED.iter().map(|(name, _)| *name).collect()
    }

    fn kit_archive(&self, name: &str) -> KitPlace {
        let Some(kit) = self.kits.get(name) else {
            return KitPlace::Unnamed(self.kits.keys().cloned().collect());
        };
        // All that was read of it is hashed for that: once is enough.
        self.kit_places
            .lock()
            .entry(name.to_owned())
            .or_insert_with(|| kit.place(name, self.machine.below()))
            .clone()
    }

    fn list(&self, folder: &WsPath) -> Answer<Arc<Listing>> {
        if let Some(known) = self.listings.lock().get(folder) {
            return Answer::Ready(known.clone());
        }
        let listing = Arc::new(self.read_folder(folder));
        let name = if folder.is_root() {
            "."
        } else {
            folder.as_str()
        };
        if let Some(entry) = self.seen.lock().files.get_mut(name) {
            entry.listing = Names::of(&listing);
        }
        self.listings.lock().insert(folder.clone(), listing.clone());
        Answer::Ready(listing)
    }

    fn expect_all_below(&self, folder: &WsPath) {
        let threads = std::thread::available_parallelism().map_or(1, usize::from);
        // Folders to look at, and how many are being looked at.
        let open = Mutex::new((vec![folder.clone()], 0usize));
        let changed = Condvar::new();
        let work = || {
            let mut found = Vec::new();
            let mut busy = false;
            loop {
                let mut state = open.lock();
                state.0.append(&mut found);
                if std::mem::take(&mut busy) {
                    state.1 -= 1;
                    changed.notify_all();
                }
                let next = loop {
                    match state.0.pop() {
                        Some(folder) => break folder,
                        None if state.1 == 0 => return,
                        None => changed.wait(&mut state),
                    }
                };
                state.1 += 1;
                busy = true;
                drop(state);
                if let Answer::Ready(listing) = self.list(&next) {
                    found.extend(listing.folders.iter().map(|name| next.child(name)));
                }
            }
        };
        std::thread::scope(|scope| {
            for _ in 1..threads {
                scope.spawn(work);
            }
            work();
        });
    }

    fn kind(&self, path: &WsPath) -> Answer<Option<EntryKind>> {
        let kind = self.look_at(path, Roles::KIND).map(|s| {
            if s.is_folder() {
                EntryKind::Folder
            } else {
                EntryKind::File
            }
        });
        Answer::Ready(kind)
    }

    fn env(&self, name: &str) -> Result<Option<String>, NotText> {
        let value = match std::env::var(name) {
            Ok(value) => Some(value),
            Err(std::env::VarError::NotPresent) => None,
            Err(std::env::VarError::NotUnicode(_)) => return Err(NotText),
        };
        self.seen.lock().env.insert(name.to_owned(), value.clone());
        Ok(value)
    }

    fn dangling(&self, folder: &WsPath) -> Vec<String> {
        let entries = fs::read_dir(self.disk(folder))
            .into_iter()
            .flatten()
            .flatten();
        let links = entries.filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_symlink()));
        let gone = links
            .filter(|link| !link.path().exists() && !self.is_ignored(folder, &link.path(), false));
        let mut names: Vec<String> = gone
            .filter_map(|link| link.file_name().into_string().ok())
            .collect();
        names.sort_unstable();
        names
    }

    fn tool_names(&self) -> Vec<String> {
        self.machine.tool_names()
    }

    fn tool(&self, request: &ToolRequest) -> Answer<ToolSearch> {
        let mut search = ToolSearch {
            searched: self.machine.tool_folders(),
            ..ToolSearch::default()
        };
        for name in &request.names {
            match self.machine.tool(name) {
                Ok(tool) => {
                    let version = request
                        .version
                        .as_ref()
                        .and_then(|word| self.machine.tool_version(name, word));
                    let path = tool.path.to_string_lossy().into();
                    search.found.push(ToolAnswer {
                        name: name.clone(),
                        path,
                        version,
                    });
                }
                Err(problem) => search.mend = search.mend.or(problem.mend),
            }
        }
        self.seen
            .lock()
            .tools
            .push((request.clone(), search.clone()));
        Answer::Ready(search)
    }

    fn library(&self, request: &LibraryRequest) -> Answer<LibrarySearch> {
        let path = self
            .env(nubrik_machine::LIBRARY_PATH_VARIABLE)
            .ok()
            .flatten();
        let mut read = |path: &Path| {
            let file = FilePath::of_machine(&path.to_string_lossy());
            let signature = self.machine.check(&file);
            self.note(file, signature, Roles::WHOLE);
        };
        let search = nubrik_machine::search_library(request, path.as_deref(), &mut read);
        self.seen
            .lock()
            .libraries
            .push((request.clone(), search.clone()));
        Answer::Ready(search)
    }

    fn sample(&self, request: &SampleRequest) -> Answer<Result<AnswerText, NoAnswer>> {
        if let Some(known) = self.seen.lock().samples.get(request) {
            return Answer::Ready(known.clone());
        }
        let answer = self.machine.answer_sample(request);
        self.seen
            .lock()
            .samples
            .insert(request.clone(), answer.clone());
        Answer::Ready(answer)
    }

    fn is_stopped(&self) -> bool {
        self.machine.cancel().is_thrown()
    }

    fn probe(&self, folder: &WsPath) -> Answer<AnswerText> {
        self.probes
            .get(folder)
            .map_or(Answer::Pending, |answer| Answer::Ready(answer.clone()))
    }
}
