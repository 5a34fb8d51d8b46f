//! The folder that is looked at, in its workspace or as a new one.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use nubrik_lang::AddressPattern;
use nubrik_session::SETTINGS_FILE;
use nubrik_source::WsPath;
use nubrik_survey::{Existing, MachineView, SourceTree};

use super::super::{CommandResult, evaluate, open_at, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::Console;

const TARGETS_FILE: &str = "targets.nub";

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
}

/// A folder with sources, and what is defined in it already.
pub struct AdoptedFolder {
    /// The workspace's root, or where it will be.
    pub root: PathBuf,
    /// The folder, from the root; empty for the root.
    pub top: String,
    pub tree: SourceTree,
    /// Definition files by their packages, from the folder.
    pub existing: Existing,
    /// Files that definitions take.
    pub taken: BTreeSet<String>,
    /// What `pins.toml` said at first.
    pub pins: Option<Vec<u8>>,
    /// Whether the folder belongs to a workspace already.
    pub is_workspace: bool,
}

impl AdoptedFolder {
    /// Looks at a folder.
    pub fn of(console: Console, choice: &Choice, place: &Path) -> CommandResult<AdoptedFolder> {
        let place = place.canonicalize().map_err(|e| {
            say_wrong(console, Exit::Usage, &format!("cannot look at {}: {e}", place.display()), &[])
        })?;
        if !place.is_dir() {
            let message = format!("{} is no folder", place.display());
            return Err(say_wrong(console, Exit::Usage, &message, &["nubrik adopt   looks at this folder"]));
        }
        let root = place.ancestors().find(|folder| folder.join(SETTINGS_FILE).is_file());
        let is_workspace = root.is_some();
        let root = root.unwrap_or(&place).to_owned();
        let home = std::env::var_os("HOME").map(PathBuf::from);
        let is_home = home.is_some_and(|home| home.canonicalize().is_ok_and(|home| home == place));
        if !is_workspace && (is_home || place.parent().is_none()) {
            let message = format!(
                "{} holds more than one project's sources, so it becomes no workspace",
                place.display()
            );
            return Err(say_wrong(
                console,
                Exit::Usage,
                &message,
                &["nubrik adopt FOLDER   for the folder of a project"],
            ));
        }
        let top = place.strip_prefix(&root).unwrap_or(Path::new("")).to_string_lossy().into_owned();
        let first = top.split('/').next().unwrap_or("");
        if is_workspace && [".nubrik", "out"].contains(&first) {
            let message = format!("{} is the tool's own folder: what is in it was made", place.display());
            return Err(say_wrong(console, Exit::Usage, &message, &[]));
        }
        let tree = SourceTree::look(&place);
        let existing = existing_in(console, &tree)?;
        // Definitions around the folder may take files of it, too.
        let mut around = place.ancestors().take_while(|folder| folder.starts_with(&root));
        let has_definitions =
            !existing.is_empty() || around.any(|folder| folder.join(TARGETS_FILE).is_file());
        let taken = match is_workspace && has_definitions {
            true => taken_below(console, choice, &root, &top)?,
            false => BTreeSet::new(),
        };
        let pins = nubrik_session::read_pins(&root);
        Ok(AdoptedFolder { root, top, tree, existing, taken, pins, is_workspace })
    }

    /// A path as people see it, from the workspace's root.
    pub fn path(&self, package: &str, name: &str) -> String {
        let parts = [self.top.as_str(), package, name];
        parts.into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("/")
    }

    /// Makes the folder a workspace, unless it belongs to one.
    pub fn write_settings(&self, console: Console, text: &str) -> CommandResult<()> {
        if self.is_workspace {
            return Ok(());
        }
        // Created, never written over: someone else may be quicker.
        let created = fs::File::create_new(self.root.join(SETTINGS_FILE));
        created
            .and_then(|mut file| file.write_all(text.as_bytes()))
            .map_err(|e| cannot_write(console, SETTINGS_FILE, &e))
    }

    /// Writes definition files. `before` are the texts of the last time: a file that says something else by now was changed by
    /// somebody, and is left alone. Files that hold nothing any more go.
    pub fn write_all(
        &self,
        console: Console,
        texts: &BTreeMap<String, String>,
        before: &BTreeMap<String, String>,
    ) -> CommandResult<BTreeMap<String, String>> {
        let below =
            nubrik_disk::Below::new(&self.root).map_err(|e| cannot_write(console, TARGETS_FILE, &e))?;
        let packages: BTreeSet<&String> = texts.keys().chain(before.keys()).collect();
        for package in packages {
            let name = self.path(package, TARGETS_FILE);
            let path = self.root.join(&name);
            let known = before.get(package).or_else(|| self.existing.get(package));
            let is_there = nubrik_disk::read_text(&path).ok();
            if is_there.as_ref() != known {
                let message =
                    format!("{name} was changed by someone else in the meantime, and is left alone");
                return Err(say_wrong(console, Exit::Failed, &message, &["nubrik adopt   again"]));
            }
            let wrote = match texts.get(package).or_else(|| self.existing.get(package)) {
                Some(text) if Some(text) == known => Ok(()),
                Some(text) => below.replace(&name, |file| file.write_all(text.as_bytes())),
                None => below.remove(&name),
            };
            wrote.map_err(|e| cannot_write(console, &name, &e))?;
        }
        Ok(texts.clone())
    }
}

/// The definition files of a tree, by their packages.
fn existing_in(console: Console, tree: &SourceTree) -> CommandResult<Existing> {
    let mut existing = Existing::new();
    let is_definition = |file: &&String| *file == TARGETS_FILE || file.ends_with("/targets.nub");
    for file in tree.files().iter().filter(is_definition) {
        let package = file.strip_suffix(TARGETS_FILE).unwrap_or_default().trim_end_matches('/');
        let Some(text) = tree.text(file) else {
            let message = format!("{file} is too large to be read, or no text");
            return Err(say_wrong(console, Exit::Definitions, &message, &["nubrik lint"]));
        };
        existing.insert(package.to_owned(), text.to_string());
    }
    Ok(existing)
}

/// The files below a folder of a workspace that its definitions take, from that folder.
fn taken_below(console: Console, choice: &Choice, root: &Path, top: &str) -> CommandResult<BTreeSet<String>> {
    let mut session = open_at(console, root)?;
    session.choose(choice.profile.as_deref(), &choice.set).map_err(|problem| {
        let mends: Vec<&str> = problem.mends.iter().map(String::as_str).collect();
        say_wrong(console, Exit::Usage, &problem.message, &mends)
    })?;
    let evaluation = evaluate(console, &mut session, &[AddressPattern::below(&WsPath::root())])?;
    let sources = evaluation.graph.files.iter().filter(|file| file.maker.is_none());
    let inside = |path: &str| match top {
        "" => Some(path.to_owned()),
        top => path.strip_prefix(top)?.strip_prefix('/').map(str::to_owned),
    };
    Ok(sources.filter_map(|file| inside(file.path.as_str())).collect())
}

pub fn cannot_write(console: Console, what: &str, e: &std::io::Error) -> Exit {
    say_wrong(
        console,
        Exit::Own,
        &format!("cannot write {what}: {e}"),
        &["check the rights and the space there"],
    )
}
