//! The parts of C and C++ in a tree, and what each of them reaches by including.

use std::collections::{BTreeMap, BTreeSet};

use super::c_index::{IncludeIndex, IncludedFile};
use super::c_places::is_sample_or_test;
use super::c_scan::{Include, is_header, is_source};
use super::c_system::{SystemPart, is_of_another_system, is_standard, part_of};
use crate::proposal::DefinitionAddress;
use crate::{MachineView, Survey};

/// What a part is.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(super) enum CRole {
    /// For others to be linked with.
    Library,
    /// What people start.
    Program,
    /// A program that shows how something is used, or how fast it is.
    Sample,
    /// A program that passes or fails.
    Test,
    /// What several tests share.
    Helpers,
}

impl CRole {
    /// The kind that makes it.
    pub fn kind(self) -> &'static str {
        match self {
            CRole::Library | CRole::Helpers => "library",
            CRole::Program | CRole::Sample => "program",
            CRole::Test => "test_program",
        }
    }
}

/// What a part is, and of which component.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct CPlace {
    pub component: String,
    pub role: CRole,
    /// The folder that tests or samples are in, which share what is in it.
    pub folder: String,
}

/// Sources that become one thing.
#[derive(Clone, Debug)]
pub(super) struct CPart {
    pub place: CPlace,
    pub sources: BTreeSet<String>,
    pub main: Option<String>,
    pub address: Option<DefinitionAddress>,
}

impl CPart {
    /// What it is, in a sentence.
    pub fn documentation(&self, survey: &Survey<'_>, address: &DefinitionAddress) -> String {
        match self.place.role {
            CRole::Library => {
                format!(
                    "The library {}.",
                    super::c_places::plain_name(survey, &self.place.component)
                )
            }
            CRole::Program => format!("The program {}.", address.name),
            CRole::Sample => format!("A program that shows the use of it: {}.", address.name),
            CRole::Test => format!("The test {}.", address.name),
            CRole::Helpers => "What the tests share.".to_owned(),
        }
    }
}

/// All parts of a tree.
#[derive(Default)]
pub(super) struct Parts {
    pub all: Vec<CPart>,
    /// Libraries by their components.
    libraries: BTreeMap<String, usize>,
    /// All by their addresses.
    addresses: BTreeMap<DefinitionAddress, usize>,
    /// Folders with sources of libraries.
    library_folders: BTreeSet<String>,
    /// Folders that hold all sources of a program.
    program_folders: BTreeSet<String>,
}

/// What a part reaches.
#[derive(Default)]
pub(super) struct Included {
    /// Libraries of the tree that nothing includes, but that lie beside it.
    pub assumed: BTreeSet<DefinitionAddress>,
    /// Libraries of the tree.
    pub needs: BTreeSet<DefinitionAddress>,
    /// Headers that are its own.
    pub own_headers: BTreeSet<String>,
    /// Headers of libraries of the tree.
    pub used_headers: BTreeSet<String>,
    /// Sources beside its own headers, which are compiled with it.
    pub more_sources: BTreeSet<String>,
    /// Other files that it includes.
    pub reads: BTreeSet<String>,
    /// Folders in which headers are searched, by whose headers these are.
    pub searched: BTreeMap<DefinitionAddress, BTreeSet<String>>,
    /// Headers that are included below a folder in which they do not lie, by whose they are, that
    /// folder, and where they lie.
    pub laid: BTreeSet<(DefinitionAddress, String, String)>,
    /// Words for the linker.
    pub links: BTreeSet<&'static str>,
    /// Libraries of the machine.
    pub libraries: BTreeSet<String>,
    /// Headers that are nowhere, with who includes them whatever is asked about.
    pub missing: BTreeSet<(String, String)>,
    /// Whether a configuration header is wanted.
    pub wants_config: bool,
}

impl Parts {
    /// Adds a part.
    pub fn add(&mut self, place: CPlace, sources: BTreeSet<String>, main: Option<String>) {
        self.all.push(CPart {
            place,
            sources,
            main,
            address: None,
        });
    }

    /// Takes note of where everything is, once all parts have their names.
    pub fn settle(&mut self) {
        for (number, part) in self.all.iter().enumerate() {
            self.addresses
                .extend(part.address.clone().map(|address| (address, number)));
            let folders: BTreeSet<&str> = part
                .sources
                .iter()
                .map(|source| crate::tree::folder_of(source))
                .collect();
            let owned = folders.iter().map(|folder| (*folder).to_owned());
            match part.place.role {
                CRole::Library => {
                    self.libraries.insert(part.place.component.clone(), number);
                    self.library_folders.extend(owned);
                }
                CRole::Program if part.sources.len() > 1 && folders.len() == 1 => {
                    self.program_folders.extend(owned)
                }
                _ => {}
            }
        }
    }

    fn library(&self, component: &str) -> Option<&CPart> {
        self.libraries
            .get(component)
            .map(|number| &self.all[*number])
    }

    /// Follows what a part includes.
    pub fn reach(
        &self,
        index: &IncludeIndex<'_>,
        owners: &BTreeMap<&str, String>,
        part: &CPart,
        machine: &dyn MachineView,
    ) -> Included {
        let Some(address) = &part.address else {
            return Included::default();
        };
        let mut walk = IncludeWalk {
            parts: self,
            index,
            owners,
            part,
            address,
            machine,
            found: Included::default(),
            included: BTreeSet::new(),
            queue: part.sources.iter().cloned().collect(),
        };
        walk.begin();
        let mut seen: BTreeSet<String> = BTreeSet::new();
        while let Some(file) = walk.queue.pop() {
            if seen.insert(file.clone()) {
                walk.file(&file);
            }
        }
        let (mut found, included) = (walk.found, walk.included);
        found.needs.remove(address);
        // What is linked or included is not compiled once more.
        let linked: BTreeSet<DefinitionAddress> =
            found.needs.union(&found.assumed).cloned().collect();
        found
            .more_sources
            .retain(|source| !included.contains(source) && !self.is_linked(source, &linked));
        // What headers of others want, their users want as well.
        if let Some(config) = found
            .used_headers
            .iter()
            .find_map(|header| index.wanted_config(header))
        {
            found.wants_config = true;
            found.missing.insert((config.to_owned(), String::new()));
        }
        found
            .assumed
            .retain(|other| other != address && !found.needs.contains(other));
        found.needs.extend(found.assumed.iter().cloned());
        found
    }

    /// Whether a source is part of one of some libraries.
    fn is_linked(&self, source: &str, needs: &BTreeSet<DefinitionAddress>) -> bool {
        let parts = needs
            .iter()
            .filter_map(|need| self.addresses.get(need))
            .map(|number| &self.all[*number]);
        parts.into_iter().any(|part| part.sources.contains(source))
    }

    /// Whether a header lies beside the sources of a program, which others do not use.
    fn is_of_program(&self, header: &str) -> bool {
        let folder = crate::tree::folder_of(header);
        self.program_folders.contains(folder) && !self.library_folders.contains(folder)
    }
}

/// What a part includes, as far as it was followed.
struct IncludeWalk<'w> {
    parts: &'w Parts,
    index: &'w IncludeIndex<'w>,
    owners: &'w BTreeMap<&'w str, String>,
    part: &'w CPart,
    address: &'w DefinitionAddress,
    machine: &'w dyn MachineView,
    found: Included,
    /// Sources that are included.
    included: BTreeSet<String>,
    queue: Vec<String>,
}

impl IncludeWalk<'_> {
    fn is_library(&self) -> bool {
        self.part.place.role == CRole::Library
    }

    /// What a part has by its place, whatever it includes.
    fn begin(&mut self) {
        let component = &self.part.place.component;
        if self.is_library() {
            // A library is for all headers of its component, included or not.
            let is_own = |(file, owner): &(&&str, &String)| {
                is_header(file)
                    && *owner == component
                    && !is_sample_or_test(file)
                    && !self.parts.is_of_program(file)
            };
            let headers: Vec<String> = self
                .owners
                .iter()
                .filter(is_own)
                .map(|(file, _)| (*file).to_owned())
                .collect();
            self.found.own_headers.extend(headers.iter().cloned());
            self.queue.extend(headers);
        } else if let Some(own) = self.parts.library(component) {
            self.found.assumed.extend(own.address.clone());
        }
        if matches!(self.part.place.role, CRole::Test | CRole::Sample) {
            let place = CPlace {
                role: CRole::Helpers,
                ..self.part.place.clone()
            };
            let shared = self.parts.all.iter().find(|other| other.place == place);
            self.found
                .needs
                .extend(shared.and_then(|shared| shared.address.clone()));
        }
    }

    fn file(&mut self, file: &str) {
        let read;
        let scan = match self.index.scans.get(file) {
            Some(scan) => scan,
            // It is included, and has the ending of no source.
            None => {
                read = super::c_scan::scan(file, &self.index.tree.text(file).unwrap_or_default());
                &read
            }
        };
        self.found.wants_config |= scan.wants_config;
        for include in &scan.includes {
            match self.index.included(file, &include.path, include.is_quoted) {
                Some(found) => self.in_tree(&found),
                None if self.is_laid(&include.path) => {}
                None if self.index.is_made(&include.path) && !include.is_conditional => {
                    self.found
                        .missing
                        .insert((include.path.clone(), file.to_owned()));
                }
                None => {
                    self.found.of_machine(file, include, self.machine);
                    if scan.wants_config && include.path.contains("config") {
                        self.found
                            .missing
                            .insert((include.path.clone(), String::new()));
                    }
                }
            }
        }
        if self.part.place.role == CRole::Test && scan.has_cases && self.part.sources.contains(file)
        {
            self.found.framework(self.index, self.part, self.machine);
        }
    }

    /// The definition whose header a file is: a library of the tree, or the part itself.
    fn owner(&self, file: &str) -> DefinitionAddress {
        let library = self
            .owners
            .get(file)
            .and_then(|owner| self.parts.library(owner));
        library
            .and_then(|library| library.address.clone())
            .unwrap_or_else(|| self.address.clone())
    }

    /// Takes note of a header that building lays below another folder, if a path means one.
    fn is_laid(&mut self, path: &str) -> bool {
        let Some((header, place)) = self.index.laid(path) else {
            return false;
        };
        if self.machine.has_file(&format!("/usr/include/{path}")) {
            return false;
        }
        let owner = self.owner(header);
        self.found.laid.insert((
            owner.clone(),
            place,
            crate::tree::folder_of(header).to_owned(),
        ));
        if owner == *self.address {
            self.found.own_headers.insert(header.to_owned());
            self.queue.push(header.to_owned());
        } else {
            self.found.needs.insert(owner);
            self.found.used_headers.insert(header.to_owned());
        }
        true
    }

    /// Takes note of a file of the tree that is included.
    fn in_tree(&mut self, found: &IncludedFile<'_>) {
        let path = found.path;
        if is_source(path) {
            self.included.insert(path.to_owned());
        }
        let is_shared =
            is_header(path) && !is_sample_or_test(path) && !self.parts.is_of_program(path);
        let owner = if is_shared {
            self.owner(path)
        } else {
            self.address.clone()
        };
        if let Some(folder) = &found.searched {
            self.found
                .searched
                .entry(owner.clone())
                .or_default()
                .insert(folder.clone());
        }
        if owner != *self.address {
            self.found.needs.insert(owner);
            self.found.used_headers.insert(path.to_owned());
            return;
        }
        if matches!(
            self.part.place.role,
            CRole::Test | CRole::Sample | CRole::Helpers
        ) && let Some(twin) = self.index.twin(path)
            && !self.part.sources.contains(twin)
            && !self.parts.is_linked(twin, &self.found.needs)
        {
            self.found.more_sources.insert(twin.to_owned());
            self.queue.push(twin.to_owned());
        }
        if is_header(path) || (self.is_library() && !is_source(path)) {
            self.found.own_headers.insert(path.to_owned());
        } else if !self.part.sources.contains(path) {
            self.found.reads.insert(path.to_owned());
        }
        self.queue.push(path.to_owned());
    }
}

/// Whether a header is one of a library by its name, too: several have a `config.h`, and none of
/// them is meant by that of a project.
fn is_named_for(library: &str, header: &str) -> bool {
    let plain = |name: &str| {
        name.trim_start_matches("lib")
            .to_lowercase()
            .replace(['-', '_'], "")
    };
    let (library, stem) = (plain(library), plain(crate::tree::stem_of(header)));
    header.contains('/')
        || stem.len() > 2
            && (library.starts_with(&stem) || library.len() > 2 && stem.starts_with(&library))
}

impl Included {
    /// Takes note of a header that is not in the tree.
    fn of_machine(&mut self, from: &str, include: &Include, machine: &dyn MachineView) {
        let Include {
            path: header,
            is_quoted,
            is_conditional,
        } = include;
        let (is_quoted, is_conditional) = (*is_quoted, *is_conditional);
        if is_of_another_system(header) {
            return;
        }
        match part_of(header) {
            Some(SystemPart::Link(word)) => {
                self.links.insert(word);
            }
            Some(SystemPart::Installed(word))
                if !is_conditional && machine.has_file(&format!("/usr/include/{header}")) =>
            {
                self.links.insert(word);
            }
            Some(SystemPart::Library(name)) if !is_conditional && machine.has_library(name) => {
                self.libraries.insert(name.to_owned());
            }
            Some(SystemPart::Installed(_) | SystemPart::Library(_)) => {}
            None if is_conditional => {}
            None => {
                // What all compilers find is meant, and no header of the same name that belongs to
                // a library.
                let is_plain = machine.has_file(&format!("/usr/include/{header}"));
                let found = machine
                    .library_with(header)
                    .filter(|found| found.is_in_plain_folder || !is_plain);
                let found = found.map(|found| found.library);
                if is_quoted && !is_standard(header) {
                    self.missing.insert((header.clone(), from.to_owned()));
                } else if let Some(library) = found.filter(|library| is_named_for(library, header))
                {
                    self.libraries.insert(library);
                }
            }
        }
    }

    /// What a framework of tests brings, where no file of the tests has `main`.
    fn framework(&mut self, index: &IncludeIndex<'_>, part: &CPart, machine: &dyn MachineView) {
        let has_main = part.sources.iter().any(|file| {
            index
                .scans
                .get(file.as_str())
                .is_some_and(|scan| scan.has_main)
        });
        if has_main {
            return;
        }
        for (library, with_main) in [("gmock", "gmock_main"), ("gtest", "gtest_main")] {
            if self.libraries.contains(library) && machine.has_library(with_main) {
                self.libraries.remove(library);
                self.libraries.insert(with_main.to_owned());
            }
        }
    }
}
