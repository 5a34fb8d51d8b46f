//! Fortran: libraries by folder, programs, and which of them use modules and procedures of which.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};

use super::fortran_scan::{FortranFacts, facts};
use crate::proposal::{Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit};
use crate::tree::{ext_of, folder_of, joined, name_of, stem_of};
use crate::{InstalledFile, Survey};

/// Whether a file is a source of Fortran.
pub(crate) fn is_source(path: &str) -> bool {
    ENDINGS.contains(&ext_of(path))
}

const ENDINGS: [&str; 15] = [
    "f", "for", "ftn", "f77", "f90", "f95", "f03", "f08", "F", "FOR", "F77", "F90", "F95", "F03",
    "F08",
];

/// Folders that say what is in them, not to whom it belongs.
const PARTS: [&str; 10] = [
    "src", "source", "sources", "lib", "test", "tests", "app", "example", "examples", "programs",
];

/// What is linked for procedures that nobody here defines: the interfaces BLAS and LAPACK.
const LAPACK: [&str; 2] = ["-llapack", "-lblas"];

pub(super) fn look(survey: &mut Survey<'_>) {
    let tree = survey.tree;
    let is_own = |file: &&String| is_source(file) && !survey.is_claimed(file);
    let files: Vec<&String> = tree.files().iter().filter(is_own).collect();
    survey.count(Kit::Fortran, files.len());
    if files.is_empty() {
        return;
    }
    let sources = files.iter().map(|file| {
        let facts = facts(&tree.text(file).unwrap_or_default(), ext_of(file));
        (file.as_str(), facts)
    });
    let sources: BTreeMap<&str, FortranFacts> = sources.collect();
    let procedures = sources
        .values()
        .flat_map(|facts| facts.procedures.iter().cloned())
        .collect();
    let (installed, includes) = Default::default();
    let mut all = FortranSources {
        sources,
        names: tree.by_name(),
        installed,
        procedures,
        includes,
    };
    let included = all.all_included(survey);
    all.sources.retain(|source, _| !included.contains(*source));
    all.leave_out_lost(survey);
    let mut parts = all.parts();
    FortranSources::join_circles(&mut parts);
    all.propose(&parts, survey);
}

/// The folder that a folder with sources is a part of.
fn owner_of(folder: &str) -> String {
    let mut folder = folder;
    while PARTS.contains(&name_of(folder).to_lowercase().as_str()) {
        folder = folder_of(folder);
    }
    folder.to_owned()
}

fn is_test(source: &str) -> bool {
    super::goes_through(source, &["test", "tests", "testing"])
        || stem_of(source).to_lowercase().contains("test")
}

/// What sources include.
#[derive(Default)]
struct IncludedFiles {
    files: BTreeSet<String>,
    /// Folders from which on some of it is named.
    searched: BTreeSet<String>,
}

/// What some sources become.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
enum FortranRole {
    Library,
    /// What tests share.
    Helpers,
    Program,
    Test,
}

impl FortranRole {
    fn is_linked(self) -> bool {
        matches!(self, FortranRole::Library | FortranRole::Helpers)
    }
}

/// Sources that become one thing.
struct FortranPart<'a> {
    /// The folder to which they belong.
    owner: String,
    role: FortranRole,
    sources: BTreeSet<&'a str>,
    /// Other parts that they use, by number.
    needs: BTreeSet<usize>,
}

/// All sources of a tree.
struct FortranSources<'a> {
    sources: BTreeMap<&'a str, FortranFacts>,
    /// All files of the tree by their names.
    names: BTreeMap<&'a str, Vec<&'a str>>,
    /// Modules that are in no source, and where this machine has them.
    installed: BTreeMap<String, InstalledFile>,
    /// Procedures that some source defines.
    procedures: BTreeSet<String>,
    /// What files include that are included, each looked at once.
    includes: RefCell<BTreeMap<String, BTreeSet<String>>>,
}

impl<'a> FortranSources<'a> {
    /// The files that a file includes: beside it, or by their names, the nearest of several.
    /// Each with the folder from which on it is named, where that is not beside the file.
    fn included_by(
        &self,
        file: &str,
        wanted: &BTreeSet<String>,
        survey: &Survey<'_>,
    ) -> Vec<(String, Option<String>)> {
        let folder = folder_of(file);
        let of = |name: &String| {
            let beside = joined(folder, name).filter(|path| survey.tree.has(path));
            let found = beside.map(|path| (path, None));
            found.or_else(|| {
                let name = name.trim_start_matches("./");
                let named = self.names.get(name_of(name)).into_iter().flatten();
                let ends = |path: &&&str| path.ends_with(name);
                let path = *named.filter(ends).max_by_key(|path| shared(folder, path))?;
                // The folders of what is included are searched anyway.
                let from = name
                    .contains('/')
                    .then(|| path[..path.len() - name.len()].trim_end_matches('/'));
                Some((path.to_owned(), from.map(str::to_owned)))
            })
        };
        wanted.iter().filter_map(of).collect()
    }

    /// All that a source includes, and what that includes, with the folders from which on some of
    /// it is named.
    fn included(&self, source: &str, survey: &Survey<'_>) -> IncludedFiles {
        let mut found = IncludedFiles::default();
        let wanted = self.sources.get(source).map(|facts| &facts.includes);
        let mut queue = wanted
            .map(|wanted| self.included_by(source, wanted, survey))
            .unwrap_or_default();
        while let Some((file, from)) = queue.pop() {
            found.searched.extend(from);
            if found.files.insert(file.clone()) {
                let look =
                    || facts(&survey.tree.text(&file).unwrap_or_default(), ext_of(&file)).includes;
                let mut known = self.includes.borrow_mut();
                let wanted = known.entry(file.clone()).or_insert_with(look);
                queue.extend(self.included_by(&file, wanted, survey));
            }
        }
        found
    }

    fn all_included(&self, survey: &Survey<'_>) -> BTreeSet<String> {
        self.sources
            .keys()
            .flat_map(|source| self.included(source, survey).files)
            .collect()
    }

    /// Leaves out sources that nothing can compile: pieces, a module's second variant, and those
    /// that use modules which are nowhere.
    fn leave_out_lost(&mut self, survey: &mut Survey<'_>) {
        let mut lost: BTreeMap<&str, String> = BTreeMap::new();
        for (source, facts) in &self.sources {
            if facts.is_fragment {
                lost.insert(*source, "it is no whole program unit".to_owned());
            }
        }
        for (source, facts) in &self.sources {
            let is_nowhere = |name: &&String| {
                let named = BTreeSet::from([(*name).clone()]);
                self.included_by(source, &named, survey).is_empty()
                    && !survey.machine.has_file(&format!("/usr/include/{name}"))
            };
            if let Some(name) = facts.must_include.iter().find(is_nowhere) {
                lost.insert(*source, format!("it includes {name}, which is nowhere"));
            }
        }
        for (source, module, other) in self.variants() {
            lost.insert(
                source,
                format!("the module {module} is defined by {other}, too"),
            );
        }
        loop {
            let missing = self.find_installed(&lost, survey);
            let before = lost.len();
            for (source, facts) in &self.sources {
                let nowhere = facts
                    .uses
                    .iter()
                    .find(|n| missing.contains(*n) && !self.installed.contains_key(*n));
                if let Some(name) = nowhere {
                    lost.entry(*source)
                        .or_insert_with(|| format!("it uses the module {name}, which is nowhere"));
                }
            }
            if lost.len() == before {
                break;
            }
        }
        for (source, why) in lost {
            self.sources.remove(source);
            survey.leave_out(source, why);
        }
    }

    /// Looks on the machine for modules that the sources use and that none defines but lost ones.
    fn find_installed(
        &mut self,
        lost: &BTreeMap<&str, String>,
        survey: &Survey<'_>,
    ) -> BTreeSet<String> {
        let kept = self.sources.iter();
        let kept = kept.filter(|(source, _)| !lost.contains_key(*source));
        let there: BTreeSet<&String> = kept.flat_map(|(_, facts)| &facts.modules).collect();
        let used = self.sources.values().flat_map(|facts| &facts.uses);
        let missing: BTreeSet<String> =
            used.filter(|name| !there.contains(name)).cloned().collect();
        for name in &missing {
            if !self.installed.contains_key(name)
                && let Some(found) = survey.machine.library_with(&format!("{name}.mod"))
            {
                self.installed.insert(name.clone(), found);
            }
        }
        missing
    }

    /// Sources of libraries that define a module which another one of their folder defines, too:
    /// which module, and who. The one that is named as the module stays, or the first.
    fn variants(&self) -> Vec<(&'a str, String, String)> {
        let mut definers: BTreeMap<(String, &str), Vec<&'a str>> = BTreeMap::new();
        for (source, facts) in self.sources.iter().filter(|(_, facts)| !facts.has_program) {
            for module in &facts.modules {
                definers
                    .entry((owner_of(folder_of(source)), module))
                    .or_default()
                    .push(source);
            }
        }
        let mut found = Vec::new();
        for ((_, module), sources) in definers
            .into_iter()
            .filter(|(_, sources)| sources.len() > 1)
        {
            let is_named = |source: &&&str| stem_of(source).eq_ignore_ascii_case(module);
            let stays = sources.iter().find(is_named).unwrap_or(&sources[0]);
            let others = sources.iter().filter(|source| *source != stays);
            found.extend(others.map(|source| (*source, module.to_owned(), (*stays).to_owned())));
        }
        found
    }

    /// What the sources become, and what each of these uses.
    fn parts(&self) -> Vec<FortranPart<'a>> {
        let mut parts: Vec<FortranPart<'a>> = Vec::new();
        let mut linked: BTreeMap<(String, FortranRole), usize> = BTreeMap::new();
        for (source, facts) in &self.sources {
            let owner = owner_of(folder_of(source));
            let role = match (facts.has_program, is_test(source)) {
                (false, false) => FortranRole::Library,
                (false, true) => FortranRole::Helpers,
                (true, false) => FortranRole::Program,
                (true, true) => FortranRole::Test,
            };
            let known = linked.get(&(owner.clone(), role)).copied();
            let number = known.unwrap_or_else(|| {
                let (sources, needs) = Default::default();
                parts.push(FortranPart {
                    owner: owner.clone(),
                    role,
                    sources,
                    needs,
                });
                parts.len() - 1
            });
            parts[number].sources.insert(*source);
            if role.is_linked() {
                linked.insert((owner, role), number);
            }
        }
        let providers = Providers::of(self, &parts);
        for number in 0..parts.len() {
            let mut needs = providers.wanted_by(self, &parts, number);
            let own = [FortranRole::Library, FortranRole::Helpers]
                .into_iter()
                .filter(|role| match parts[number].role {
                    FortranRole::Library => false,
                    FortranRole::Helpers | FortranRole::Program => *role == FortranRole::Library,
                    FortranRole::Test => true,
                });
            let own = own.filter_map(|role| linked.get(&(parts[number].owner.clone(), role)));
            needs.extend(own.copied());
            needs.remove(&number);
            parts[number].needs = needs;
        }
        parts
    }

    /// Makes one library of those that use one another.
    fn join_circles(parts: &mut [FortranPart<'a>]) {
        let next: Vec<Vec<u32>> = parts
            .iter()
            .map(|part| {
                part.needs
                    .iter()
                    .filter_map(|need| u32::try_from(*need).ok())
                    .collect()
            })
            .collect();
        let circles = nubrik_graph::components(&next);
        let mut first: BTreeMap<u32, usize> = BTreeMap::new();
        let homes: Vec<usize> = circles
            .iter()
            .enumerate()
            .map(|(number, circle)| *first.entry(*circle).or_insert(number))
            .collect();
        for number in 0..parts.len() {
            let home = homes[number];
            let needs = parts[number]
                .needs
                .iter()
                .map(|need| homes[*need])
                .collect();
            parts[number].needs = needs;
            if home != number {
                let sources = std::mem::take(&mut parts[number].sources);
                let (needs, owner) = (
                    parts[number].needs.clone(),
                    common(&parts[home].owner, &parts[number].owner),
                );
                parts[home].sources.extend(sources);
                parts[home].needs.extend(needs);
                parts[home].owner = owner;
                // A part of tests that a library needs is of the library.
                parts[home].role = parts[home].role.min(parts[number].role);
            }
        }
        for (number, part) in parts.iter_mut().enumerate() {
            part.needs.remove(&number);
        }
    }

    fn propose(&self, parts: &[FortranPart<'a>], survey: &mut Survey<'_>) {
        let mut addresses: BTreeMap<usize, DefinitionAddress> = BTreeMap::new();
        let whole = whole_programs(parts);
        let is_part = |number: usize| whole.values().any(|library| *library == number);
        let mut order: Vec<usize> = (0..parts.len()).collect();
        order.sort_by_key(|number| (&parts[*number].owner, parts[*number].role, *number));
        // Libraries have their names before others use them.
        for linked in [true, false] {
            for number in order.iter().copied() {
                let part = &parts[number];
                if part.role.is_linked() != linked || part.sources.is_empty() || is_part(number) {
                    continue;
                }
                let (wish, or_else) = match part.role {
                    FortranRole::Library => (survey.name_of_folder(&part.owner), "library"),
                    FortranRole::Helpers => ("testing".to_owned(), "library"),
                    FortranRole::Program => (stem_of(first_of(part)).to_owned(), "program"),
                    FortranRole::Test => (stem_of(first_of(part)).to_owned(), "test"),
                };
                addresses.insert(number, survey.names.give(&part.owner, &wish, or_else));
            }
        }
        for number in order {
            let Some(address) = addresses.get(&number) else {
                continue;
            };
            let part = &parts[number];
            let mut sources = part.sources.clone();
            let mut needs = part.needs.clone();
            if let Some(library) = whole.get(&number).map(|library| &parts[*library]) {
                sources.extend(&library.sources);
                needs.extend(&library.needs);
            }
            // Who tests names what helps first.
            let mut needs: Vec<usize> = needs.into_iter().collect();
            needs.sort_by_key(|need| (std::cmp::Reverse(parts[*need].role), *need));
            let needs = needs.iter().filter_map(|need| addresses.get(need));
            let needs = needs.cloned().map(FieldValue::Of);
            let call = self.call(part.role, &sources, needs.collect(), survey);
            let stem = || stem_of(first_of(part));
            let (keyword, documentation) = match part.role {
                FortranRole::Library => {
                    let name = survey.name_of_folder(&part.owner);
                    (Keyword::Target, format!("The library {name}."))
                }
                FortranRole::Helpers => (Keyword::Target, "What the tests share.".to_owned()),
                FortranRole::Program => (Keyword::Target, format!("The program {}.", stem())),
                FortranRole::Test => (Keyword::Test, format!("The test {}.", stem())),
            };
            let body = Body::Kind(call);
            survey.define(Definition::new(keyword, address, documentation, body));
        }
    }

    /// A call for some sources, with what they include.
    fn call(
        &self,
        role: FortranRole,
        sources: &BTreeSet<&str>,
        mut needs: Vec<FieldValue>,
        survey: &Survey<'_>,
    ) -> KindCall {
        let mut included = IncludedFiles::default();
        for more in sources.iter().map(|source| self.included(source, survey)) {
            included.files.extend(more.files);
            included.searched.extend(more.searched);
        }
        let used = sources.iter().flat_map(|source| &self.sources[source].uses);
        let installed: BTreeSet<&InstalledFile> =
            used.filter_map(|name| self.installed.get(name)).collect();
        needs.extend(
            installed
                .iter()
                .map(|found| FieldValue::SystemLibrary(found.library.clone())),
        );
        // Headers are found there by themselves, modules are not.
        let plain = installed.iter().any(|found| found.is_in_plain_folder);
        let flags: &[&str] = if plain { &["-I/usr/include"] } else { &[] };
        let links: &[&str] =
            if sources.iter().any(|source| self.wants_lapack(source)) && has_lapack(survey) {
                &LAPACK
            } else {
                &[]
            };
        let (kind, own): (_, &[&str]) = match role {
            FortranRole::Library | FortranRole::Helpers if links.is_empty() => ("library", &[]),
            FortranRole::Library | FortranRole::Helpers => ("library", &["-lgfortran", "-lm"]),
            FortranRole::Program => ("program", &[]),
            FortranRole::Test => ("test_program", &[]),
        };
        KindCall::new(Kit::Fortran, kind)
            .with(
                "sources",
                FieldValue::Files(sources.iter().map(|source| (*source).to_owned()).collect()),
            )
            .with("included", FieldValue::Files(included.files))
            .with(
                "include",
                FieldValue::List(
                    included
                        .searched
                        .into_iter()
                        .map(FieldValue::Folder)
                        .collect(),
                ),
            )
            .with("flags", FieldValue::texts(flags.iter().copied()))
            .with(
                "link_flags",
                FieldValue::texts(links.iter().chain(own).copied()),
            )
            .with("needs", FieldValue::List(needs))
    }

    /// Whether a source calls something of BLAS or LAPACK that no source defines.
    fn wants_lapack(&self, source: &str) -> bool {
        let calls = &self.sources[source].calls;
        calls
            .iter()
            .any(|name| is_of_lapack(name) && !self.procedures.contains(name))
    }
}

/// Whether a name is made as those of BLAS and LAPACK are: the kind of numbers, the kind of matrix,
/// and what is done.
fn is_of_lapack(name: &str) -> bool {
    const BLAS: [&str; 12] = [
        "axpy", "copy", "scal", "swap", "gemm", "gemv", "syrk", "symm", "symv", "trsm", "trsv",
        "rot",
    ];
    const MATRICES: [&str; 12] = [
        "ge", "gb", "gt", "po", "pp", "pb", "sy", "sp", "st", "tr", "he", "or",
    ];
    const DONE: [&str; 16] = [
        "sv", "svx", "trf", "trs", "tri", "con", "ev", "evd", "evr", "evx", "es", "svd", "qrf",
        "els", "lss", "qr",
    ];
    let Some(rest) = name.strip_prefix(['s', 'd', 'c', 'z']) else {
        return false;
    };
    BLAS.contains(&rest)
        || (rest.is_char_boundary(2)
            && rest.len() > 3
            && MATRICES.contains(&&rest[..2])
            && DONE.contains(&&rest[2..]))
}

fn has_lapack(survey: &Survey<'_>) -> bool {
    survey.machine.has_library("lapack")
}

fn first_of<'p>(part: &FortranPart<'p>) -> &'p str {
    part.sources.first().copied().unwrap_or_default()
}

/// How much of their folders two paths share, in bytes.
fn shared(folder: &str, path: &str) -> usize {
    common(folder, folder_of(path)).len()
}

/// The folder that two folders are in, or that one of them is.
fn common(one: &str, other: &str) -> String {
    let same = one
        .split('/')
        .zip(other.split('/'))
        .take_while(|(a, b)| a == b);
    same.map(|(part, _)| part).collect::<Vec<_>>().join("/")
}

/// Programs that are all there is of their folder, with the library there that only they use: they
/// are made as one.
fn whole_programs(parts: &[FortranPart<'_>]) -> BTreeMap<usize, usize> {
    let mut users: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
    for (number, part) in parts.iter().enumerate() {
        part.needs
            .iter()
            .for_each(|need| users.entry(*need).or_default().push(number));
    }
    let only_user = |(library, users): (usize, Vec<usize>)| match &*users {
        [user]
            if parts[*user].role == FortranRole::Program
                && parts[*user].owner == parts[library].owner =>
        {
            Some((*user, library))
        }
        _ => None,
    };
    let of_role =
        |role: FortranRole| move |(library, _): &(usize, Vec<usize>)| parts[*library].role == role;
    users
        .into_iter()
        .filter(of_role(FortranRole::Library))
        .filter_map(only_user)
        .collect()
}

/// Who defines what.
struct Providers<'p> {
    modules: BTreeMap<&'p str, Vec<usize>>,
    procedures: BTreeMap<&'p str, Vec<usize>>,
}

impl<'p> Providers<'p> {
    fn of(all: &'p FortranSources<'p>, parts: &[FortranPart<'p>]) -> Providers<'p> {
        let mut found = Providers {
            modules: BTreeMap::new(),
            procedures: BTreeMap::new(),
        };
        for (number, part) in parts
            .iter()
            .enumerate()
            .filter(|(_, part)| part.role.is_linked())
        {
            for facts in part.sources.iter().map(|source| &all.sources[source]) {
                for (names, into) in [
                    (&facts.modules, &mut found.modules),
                    (&facts.procedures, &mut found.procedures),
                ] {
                    for name in names {
                        let known = into.entry(name.as_str()).or_default();
                        if known.last() != Some(&number) {
                            known.push(number);
                        }
                    }
                }
            }
        }
        found
    }

    /// The parts that define what a part uses. Of several that define a module the nearest counts;
    /// of procedures with the same name only those are known that one part alone defines.
    fn wanted_by(
        &self,
        all: &FortranSources<'_>,
        parts: &[FortranPart<'_>],
        number: usize,
    ) -> BTreeSet<usize> {
        let part = &parts[number];
        let fits = |other: &&usize| {
            parts[**other].role == FortranRole::Library || part.role != FortranRole::Library
        };
        let mut wanted = BTreeSet::new();
        for facts in part.sources.iter().map(|source| &all.sources[source]) {
            for name in facts.uses.iter().chain(&facts.may_use) {
                let known = self.modules.get(name.as_str()).into_iter().flatten();
                let near = |other: &&usize| {
                    (
                        **other == number,
                        shared(&part.owner, &format!("{}/", parts[**other].owner)),
                    )
                };
                wanted.extend(known.filter(fits).max_by_key(near));
            }
            for name in &facts.calls {
                let known: Vec<&usize> = self
                    .procedures
                    .get(name.as_str())
                    .into_iter()
                    .flatten()
                    .filter(fits)
                    .collect();
                if let [one] = &*known {
                    wanted.insert(**one);
                }
            }
        }
        wanted
    }
}
