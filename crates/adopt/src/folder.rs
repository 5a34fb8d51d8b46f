//! The folder that is looked at, in its workspace or as a new one.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use nubrik_graph::{Graph, StepId};
use nubrik_session::{LibraryIndex, SETTINGS_FILE};
use nubrik_source::{TARGETS_FILE, WsPath};
use nubrik_survey::{
    CauseFacts, DefinitionAddress, Existing, FileChange, InstalledFile, MachineView, Proposal,
    ReconcileProblem, SourceTree, TakenFiles, reconcile,
};

use crate::AdoptProblem;

/// What a survey asks of this machine.
pub struct MachineFacts;

impl MachineView for MachineFacts {
    fn has_library(&self, name: &str) -> bool {
        nubrik_session::has_library(name)
    }

    fn has_program(&self, name: &str) -> bool {
        nubrik_session::on_persons_path(name).is_some()
    }

    fn has_file(&self, path: &str) -> bool {
        Path::new(path).is_file()
    }

    fn library_with(&self, file: &str) -> Option<InstalledFile> {
        // They stay the same while a folder is looked at.
        static LIBRARIES: OnceLock<LibraryIndex> = OnceLock::new();
        let (library, folder) = LIBRARIES
            .get_or_init(nubrik_session::installed_libraries)
            .with(file)?;
        let is_in_plain_folder = folder == Path::new("/usr/include");
        Some(InstalledFile {
            library: library.to_owned(),
            is_in_plain_folder,
        })
    }

    fn has_function(&self, name: &str) -> bool {
        static FUNCTIONS: OnceLock<BTreeSet<String>> = OnceLock::new();
        FUNCTIONS
            .get_or_init(|| nubrik_session::system_functions().unwrap_or_default())
            .contains(name)
    }
}

/// A folder with sources, and what is defined in it already.
pub struct AdoptedFolder {
    /// The workspace's root, or where it will be.
    pub root: PathBuf,
    /// The folder, from the root; empty for the root.
    pub top: String,
    /// Its files, as they were when it was looked at.
    pub tree: SourceTree,
    /// Definition files by their packages, from the folder.
    pub existing: Existing,
    /// Files that definitions take.
    pub taken: TakenFiles,
    /// What `pins.toml` said at first.
    pub pins: Option<Vec<u8>>,
    /// Whether the folder belongs to a workspace already.
    pub is_workspace: bool,
}

impl AdoptedFolder {
    /// Looks at a folder; the files that definitions take are not known yet.
    ///
    /// # Errors
    ///
    /// It is no folder that can become, or be part of, a workspace; or one of its definition files
    /// is no text.
    pub fn of(place: &Path) -> Result<AdoptedFolder, AdoptProblem> {
        let place = place
            .canonicalize()
            .map_err(|error| AdoptProblem::NoPlace {
                place: place.to_owned(),
                error,
            })?;
        if !place.is_dir() {
            return Err(AdoptProblem::NoFolder(place));
        }
        let root = place
            .ancestors()
            .find(|folder| folder.join(SETTINGS_FILE).is_file());
        let is_workspace = root.is_some();
        let root = root.unwrap_or(&place).to_owned();
        let home = std::env::var_os("HOME").map(PathBuf::from);
        let is_home = home.is_some_and(|home| home.canonicalize().is_ok_and(|home| home == place));
        if !is_workspace && (is_home || place.parent().is_none()) {
            return Err(AdoptProblem::TooMuch(place));
        }
        let top = place
            .strip_prefix(&root)
            .unwrap_or(Path::new(""))
            .to_string_lossy()
            .into_owned();
        if is_workspace && WsPath::checked(&top).is_some_and(|top| top.is_below_made()) {
            return Err(AdoptProblem::OwnFolder(place));
        }
        let tree = SourceTree::look(&place);
        let existing = existing_in(&place, &tree)?;
        let pins = nubrik_session::read_pins(&root);
        let taken = TakenFiles::default();
        Ok(AdoptedFolder {
            root,
            top,
            tree,
            existing,
            taken,
            pins,
            is_workspace,
        })
    }

    /// Whether definitions may take files of the folder: those in it, and those around it.
    pub fn has_definitions(&self) -> bool {
        let place = self.root.join(&self.top);
        let mut around = place
            .ancestors()
            .take_while(|folder| folder.starts_with(&self.root));
        let is_there = |folder: &Path| folder.join(TARGETS_FILE).is_file();
        self.is_workspace && (!self.existing.is_empty() || around.any(is_there))
    }

    /// Notes which files the definitions of the whole workspace take, as their graph says.
    pub fn note_taken(&mut self, graph: &Graph) {
        let mut taken = TakenFiles::default();
        let sources = graph.files.iter().filter(|file| file.maker.is_none());
        taken
            .all
            .extend(sources.filter_map(|file| self.inside(file.path.as_str())));
        for step in (0..graph.steps.len() as u32).map(StepId) {
            let Some(address) = self.declared(&graph.owner(step).address) else {
                continue;
            };
            let inputs = graph.step(step).inputs.iter().map(|file| graph.file(*file));
            let sources = inputs.filter(|file| file.maker.is_none());
            let files = sources.filter_map(|file| self.inside(file.path.as_str()));
            taken.by.entry(address).or_default().extend(files);
        }
        self.taken = taken;
    }

    /// The definition in this folder that an address of the workspace is of: it may be that of one
    /// key of several.
    fn declared(&self, address: &str) -> Option<DefinitionAddress> {
        let address = self.inside(address)?;
        let packages = self.existing.keys().filter(|package| {
            package.is_empty()
                || address
                    .strip_prefix(package.as_str())
                    .is_some_and(|rest| rest.starts_with('/'))
        });
        let package = packages.max_by_key(|package| package.len())?.clone();
        let rest = address[package.len()..].trim_start_matches('/');
        let name = rest.split('/').next()?.to_owned();
        Some(DefinitionAddress { package, name })
    }

    /// A path of the workspace from this folder; nothing for one that is elsewhere.
    pub fn inside(&self, path: &str) -> Option<String> {
        match self.top.as_str() {
            "" => Some(path.to_owned()),
            top => path.strip_prefix(top)?.strip_prefix('/').map(str::to_owned),
        }
    }

    /// How the folder's definition files differ from a proposal: with `updates` what they say is
    /// changed, too, and not only added to.
    ///
    /// # Errors
    ///
    /// A file cannot be read as definitions, before or afterwards.
    pub fn changes(
        &self,
        proposal: &mut Proposal,
        updates: bool,
    ) -> Result<Vec<FileChange>, AdoptProblem> {
        // Who adds definitions tries them, and asks for packages again; who compares only looks.
        let facts = CauseFacts {
            machine: &MachineFacts,
            asks_registries: !updates,
        };
        let how = (updates, facts);
        let changes = reconcile(
            &self.tree,
            &self.top,
            proposal,
            &self.existing,
            &self.taken,
            how,
        );
        changes.map_err(|problem| match problem {
            ReconcileProblem::Unreadable { package, why } => AdoptProblem::Unreadable {
                path: self.path(&package, TARGETS_FILE),
                why,
            },
            ReconcileProblem::Unfit { package } => {
                AdoptProblem::Unfit(self.path(&package, TARGETS_FILE))
            }
        })
    }

    /// A path as people see it, from the workspace's root.
    pub fn path(&self, package: &str, name: &str) -> String {
        let parts = [self.top.as_str(), package, name];
        parts
            .into_iter()
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join("/")
    }

    /// Makes the folder a workspace with these settings, unless it belongs to one.
    ///
    /// # Errors
    ///
    /// The file cannot be written, or somebody else wrote it in the meantime.
    pub fn write_settings(&self, text: &str) -> Result<(), AdoptProblem> {
        if self.is_workspace {
            return Ok(());
        }
        // Created, never written over: someone else may be quicker.
        let created = fs::File::create_new(self.root.join(SETTINGS_FILE));
        created
            .and_then(|mut file| file.write_all(text.as_bytes()))
            .map_err(|error| match error.kind() {
                std::io::ErrorKind::AlreadyExists => {
                    AdoptProblem::ChangedBySomebody(SETTINGS_FILE.to_owned())
                }
                _ => AdoptProblem::Unwritable {
                    name: SETTINGS_FILE.to_owned(),
                    error,
                },
            })
    }

    /// Writes definition files. `before` are the texts of the last time: a file that says something
    /// else by now was changed by somebody, and is left alone. Files that hold nothing any more go.
    ///
    /// # Errors
    ///
    /// A file cannot be written, or was changed by somebody.
    pub fn write_all(
        &self,
        texts: &BTreeMap<String, String>,
        before: &BTreeMap<String, String>,
    ) -> Result<(), AdoptProblem> {
        let unwritable = |name: &str, error| AdoptProblem::Unwritable {
            name: name.to_owned(),
            error,
        };
        let below = nubrik_disk::Below::new(&self.root).map_err(|e| unwritable(TARGETS_FILE, e))?;
        let packages: BTreeSet<&String> = texts.keys().chain(before.keys()).collect();
        for package in packages {
            let name = self.path(package, TARGETS_FILE);
            let path = self.root.join(&name);
            let known = before.get(package).or_else(|| self.existing.get(package));
            let is_there = nubrik_disk::read_text(&path).ok();
            if is_there.as_ref() != known {
                return Err(AdoptProblem::ChangedBySomebody(name));
            }
            let wrote = match texts.get(package).or_else(|| self.existing.get(package)) {
                Some(text) if Some(text) == known => Ok(()),
                Some(text) => below.replace(&name, |file| file.write_all(text.as_bytes())),
                None => below.remove(&name),
            };
            wrote.map_err(|e| unwritable(&name, e))?;
        }
        Ok(())
    }
}

/// The definition files of a tree, by their packages.
fn existing_in(place: &Path, tree: &SourceTree) -> Result<Existing, AdoptProblem> {
    let mut existing = Existing::new();
    let is_definition = |file: &&String| file.rsplit('/').next() == Some(TARGETS_FILE);
    for file in tree.files().iter().filter(is_definition) {
        let package = file
            .strip_suffix(TARGETS_FILE)
            .unwrap_or_default()
            .trim_end_matches('/');
        // The survey's own texts have replacements for bytes that are no text; what is written
        // again must not.
        let text =
            nubrik_disk::read_text(&place.join(file)).map_err(|error| AdoptProblem::NoText {
                name: file.clone(),
                error,
            })?;
        existing.insert(package.to_owned(), text);
    }
    Ok(existing)
}
