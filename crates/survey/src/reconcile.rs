//! A proposal compared with definitions that are there already: what is new, and where the two
//! differ.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use crate::existing::{Call, Declaration, Existing, Field, FileView};
use crate::names::NameGiver;
use crate::omitted::{CauseFacts, OmissionLine, gone};
use crate::proposal::{
    Definition, DefinitionAddress, ExpressionPart, FieldValue, KindCall, Kit, Proposal,
};
use crate::tree::{SourceTree, joined, name_of};
use crate::writing::{DefinitionWriter, WIDTH, use_line};

/// In what definitions and sources differ.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum ChangeKind {
    /// A definition for sources that none takes.
    NewDefinition,
    /// A file that belongs to a definition, and that none takes.
    NewFile,
    /// Something is imported or included, and not among the needs.
    NewNeed,
    /// Something is among the needs, and not imported or included.
    UnusedNeed,
}

impl ChangeKind {
    /// The word for it, for programs.
    pub fn word(self) -> &'static str {
        match self {
            ChangeKind::NewDefinition => "new_definition",
            ChangeKind::NewFile => "new_file",
            ChangeKind::NewNeed => "new_need",
            ChangeKind::UnusedNeed => "unused_need",
        }
    }
}

/// A definition file that would be another one.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct FileChange {
    /// The package, from the tree's top.
    pub package: String,
    /// The text that is there; `None` where there is no file.
    pub before: Option<String>,
    /// The text that it would be.
    pub after: String,
    /// What differs: the definition, how, and in words.
    pub differences: Vec<(String, ChangeKind, String)>,
}

/// Why definitions cannot be compared with a proposal, or changed.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ReconcileProblem {
    /// The definitions of a package cannot be read: why.
    Unreadable {
        /// The package, from the tree's top.
        package: String,
        /// What is wrong, for people.
        why: String,
    },
    /// With the changes the definitions of this package could not be read.
    Unfit {
        /// The package, from the tree's top.
        package: String,
    },
}

/// Files that definitions take, whatever way they have to say so.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct TakenFiles {
    /// All of them.
    pub all: BTreeSet<String>,
    /// Those of each definition.
    pub by: BTreeMap<DefinitionAddress, BTreeSet<String>>,
}

/// The definitions of each package, as they can be changed.
fn views_of(
    tree: &SourceTree,
    existing: &Existing,
    packages: &BTreeSet<String>,
) -> Result<BTreeMap<String, FileView>, ReconcileProblem> {
    let read = |(package, text): (&String, &String)| {
        let unreadable = |why| ReconcileProblem::Unreadable {
            package: package.clone(),
            why,
        };
        let view = FileView::read(tree, package, packages, text).map_err(unreadable)?;
        Ok((package.clone(), view))
    };
    existing.iter().map(read).collect()
}

/// Compares a proposal with what is there. With `is_whole` definitions that are there are changed,
/// too; else only new ones are added.
///
/// Definitions of the proposal that are there already get the names that they have there, and are
/// taken out of it.
///
/// # Errors
/// When definitions cannot be read, or could not be with the changes.
pub fn reconcile(
    tree: &SourceTree,
    top: &str,
    proposal: &mut Proposal,
    existing: &Existing,
    all_taken: &TakenFiles,
    (is_whole, facts): (bool, CauseFacts<'_>),
) -> Result<Vec<FileChange>, ReconcileProblem> {
    let packages: BTreeSet<String> = existing.keys().cloned().collect();
    let views = views_of(tree, existing, &packages)?;
    let gone = gone(tree, existing, proposal, facts);
    let taken = &with_decided(tree, existing, &all_taken.all, &gone);
    let mut matched = matches(proposal, &views);
    let mut covered = covered_by(proposal, &matched, &views, taken);
    let own_ways = own_ways(proposal, &matched, &covered, &views, all_taken);
    covered.extend(own_ways.keys().cloned());
    covered.extend(for_nobody(proposal, &matched, &covered, is_whole));
    leave_packages_whole(proposal, existing, taken, &covered);
    let found: BTreeSet<DefinitionAddress> = matched.values().cloned().collect();
    matched.extend(own_ways.clone());
    rename(proposal, &matched, &views, &covered);
    covered.retain(|address| !own_ways.contains_key(address));
    let own: BTreeSet<&DefinitionAddress> = own_ways.values().collect();
    let writer = DefinitionWriter::new(tree, top, proposal, &packages);
    let others = proposal.definitions.iter().filter(|one| !is_library(one));
    let elsewhere: BTreeSet<String> = others.flat_map(|one| one.sources()).collect();
    let mut changes = Vec::new();
    for (package, mine) in proposal.by_package() {
        let (known, rest): (Vec<&Definition>, Vec<&Definition>) = mine
            .into_iter()
            .partition(|one| found.contains(&one.address));
        let (by_hand, rest): (Vec<&Definition>, Vec<&Definition>) =
            rest.into_iter().partition(|one| own.contains(&one.address));
        let new: Vec<&Definition> = rest
            .into_iter()
            .filter(|one| !covered.contains(&one.address))
            .collect();
        let Some((view, text)) = views.get(package).zip(existing.get(package)) else {
            changes.extend(new_package(package, &new, top, &writer));
            continue;
        };
        let mut edits = TextEdits::new(view, &writer, package, top, &elsewhere);
        if is_whole {
            for definition in known {
                edits.align(definition, taken, &packages);
            }
            for definition in by_hand {
                edits.lacks(definition, taken);
            }
        }
        edits.add(&new, text);
        edits.forget_omissions(text);
        changes.extend(edits.change(text)?);
    }
    let there: BTreeSet<&DefinitionAddress> = found.iter().chain(&covered).chain(own).collect();
    proposal
        .definitions
        .retain(|one| !there.contains(&one.address));
    Ok(changes)
}

/// The definition file of a package that has none, where something is new there.
fn new_package(
    package: &str,
    new: &[&Definition],
    top: &str,
    writer: &DefinitionWriter<'_>,
) -> Option<FileChange> {
    let differences = new.iter().map(|one| added(one, top)).collect();
    (!new.is_empty()).then(|| FileChange {
        package: package.to_owned(),
        before: None,
        after: writer.package(new),
        differences,
    })
}

/// Definitions that are written in a way of their own, such as by a kind of the workspace, and have
/// at least half of the sources of a proposed one: they are what the proposal means.
fn own_ways(
    proposal: &Proposal,
    matched: &BTreeMap<DefinitionAddress, DefinitionAddress>,
    covered: &BTreeSet<DefinitionAddress>,
    views: &BTreeMap<String, FileView>,
    taken: &TakenFiles,
) -> BTreeMap<DefinitionAddress, DefinitionAddress> {
    let known: BTreeSet<&DefinitionAddress> = matched.values().collect();
    let mut takers: BTreeMap<&str, Vec<&DefinitionAddress>> = BTreeMap::new();
    for (address, files) in &taken.by {
        files
            .iter()
            .for_each(|file| takers.entry(file).or_default().push(address));
    }
    let mut found = BTreeMap::new();
    for definition in proposal
        .definitions
        .iter()
        .filter(|one| !matched.contains_key(&one.address))
    {
        let sources = definition.sources();
        let is_covered = covered.contains(&definition.address);
        let fits = |address: &DefinitionAddress| {
            let is_there = views
                .get(&address.package)
                .is_some_and(|view| view.names.contains(&address.name));
            is_there && (is_covered || !known.contains(address))
        };
        let mut common: BTreeMap<&DefinitionAddress, usize> = BTreeMap::new();
        for address in sources
            .iter()
            .filter_map(|file| takers.get(file.as_str()))
            .flatten()
        {
            *common.entry(address).or_default() += 1;
        }
        let near = common
            .into_iter()
            .filter(|(address, count)| count * 2 >= sources.len() && fits(address));
        let best = near
            .max_by_key(|(address, count)| (*count, address.package == definition.address.package));
        if let Some((address, _)) = best {
            found.insert(definition.address.clone(), address.clone());
        }
    }
    found
}

/// Definitions of the proposal whose files are all taken by what people wrote in their own way:
/// nothing is to be added for them.
fn covered_by(
    proposal: &Proposal,
    matched: &BTreeMap<DefinitionAddress, DefinitionAddress>,
    views: &BTreeMap<String, FileView>,
    taken: &BTreeSet<String>,
) -> BTreeSet<DefinitionAddress> {
    let is_taken = |definition: &Definition| {
        let takes = definition.sources();
        // A command may take no file of the tree: its name is all that says which one it is.
        let view = views
            .get(&definition.address.package)
            .filter(|_| !definition.body.forms().is_empty());
        let is_there = view.is_some_and(|view| view.names.contains(&definition.address.name));
        is_there || (!takes.is_empty() && takes.iter().all(|file| taken.contains(file)))
    };
    let own = proposal
        .definitions
        .iter()
        .filter(|one| !matched.contains_key(&one.address) && is_taken(one));
    own.map(|definition| definition.address.clone()).collect()
}

/// The kinds that others need, whatever the kit.
const LIBRARY_KINDS: [&str; 3] = ["library", "package", "typescript"];

fn is_library(definition: &Definition) -> bool {
    definition
        .body
        .calls()
        .iter()
        .any(|call| LIBRARY_KINDS.contains(&call.kind))
}

/// Private definitions that only others need for which nothing is to be written.
fn for_nobody(
    proposal: &Proposal,
    matched: &BTreeMap<DefinitionAddress, DefinitionAddress>,
    covered: &BTreeSet<DefinitionAddress>,
    is_whole: bool,
) -> BTreeSet<DefinitionAddress> {
    let mut nobodys: BTreeSet<DefinitionAddress> = BTreeSet::new();
    loop {
        let is_written = |one: &&Definition| {
            let is_there = matched.contains_key(&one.address);
            !is_there && !covered.contains(&one.address) && !nobodys.contains(&one.address)
        };
        let written: Vec<&Definition> = proposal.definitions.iter().filter(is_written).collect();
        let mut needed: BTreeSet<DefinitionAddress> =
            written.iter().flat_map(|one| one.needs()).collect();
        // Of what is there, needs are aligned and nothing else that leads to definitions.
        let there = proposal
            .definitions
            .iter()
            .filter(|one| is_whole && matched.contains_key(&one.address));
        for value in there
            .flat_map(|one| one.body.calls())
            .filter_map(|call| call.field("needs"))
        {
            value.walk(&mut |value| {
                if let FieldValue::Of(address) = value {
                    needed.insert(address.clone());
                }
            });
        }
        let is_for_nobody = |one: &&&Definition| {
            one.is_private && !matched.contains_key(&one.address) && !needed.contains(&one.address)
        };
        let more: Vec<DefinitionAddress> = written
            .iter()
            .filter(is_for_nobody)
            .map(|one| one.address.clone())
            .collect();
        if more.is_empty() {
            return nobodys;
        }
        nobodys.extend(more);
    }
}

/// The files that are taken, with those of which a comment says that they are left out: that was
/// decided.
fn with_decided(
    tree: &SourceTree,
    existing: &Existing,
    taken: &BTreeSet<String>,
    gone: &[OmissionLine],
) -> BTreeSet<String> {
    let mut decided = taken.clone();
    for (package, text) in existing {
        for line in OmissionLine::all_in(package, text).filter(|line| !gone.contains(line)) {
            decided.extend(
                line.paths
                    .iter()
                    .flat_map(|path| tree.below(path))
                    .map(str::to_owned),
            );
        }
    }
    decided
}

/// Proposes no package in the middle of another one, which would take files of its definitions
/// away.
fn leave_packages_whole(
    proposal: &mut Proposal,
    existing: &Existing,
    taken: &BTreeSet<String>,
    covered: &BTreeSet<DefinitionAddress>,
) {
    let is_in_use = |package: &str| {
        let start = if package.is_empty() {
            String::new()
        } else {
            format!("{package}/")
        };
        taken
            .range(start.clone()..)
            .next()
            .is_some_and(|file| file.starts_with(&start))
    };
    let split: Vec<DefinitionAddress> = proposal
        .by_package()
        .into_iter()
        .filter(|(package, _)| !existing.contains_key(*package) && is_in_use(package))
        .flat_map(|(_, mine)| mine)
        .map(|one| one.address.clone())
        .filter(|address| !covered.contains(address))
        .collect();
    for address in split {
        proposal.leave_out(
            &address,
            "files in its folder belong to definitions of another package",
        );
    }
}

/// A text with definitions at its end, and the kits that these use.
pub fn with_more(writer: &DefinitionWriter<'_>, text: &str, definitions: &[&Definition]) -> String {
    // Which files it names does not matter here.
    let view = FileView::read(&SourceTree::of(&[]), "", &BTreeSet::new(), text).unwrap_or_default();
    let mut edits = TextEdits {
        view: &view,
        writer,
        package: definitions
            .first()
            .map_or("", |one| one.address.package.as_str()),
        edits: Vec::new(),
        differences: Vec::new(),
        top: "",
        elsewhere: &BTreeSet::new(),
        more: BTreeSet::new(),
    };
    edits.add(definitions, text);
    edits.forget_omissions(text);
    changed(edits.edits, text)
}

fn added(definition: &Definition, top: &str) -> (String, ChangeKind, String) {
    let address = definition.address.below(top);
    (address, ChangeKind::NewDefinition, definition.in_words())
}

/// Which proposed definitions are there already: of the same package with common sources, or of the
/// same name and kit.
fn matches(
    proposal: &Proposal,
    views: &BTreeMap<String, FileView>,
) -> BTreeMap<DefinitionAddress, DefinitionAddress> {
    let mut matched = BTreeMap::new();
    let mut used: BTreeSet<DefinitionAddress> = BTreeSet::new();
    for definition in &proposal.definitions {
        let package = &definition.address.package;
        let Some(view) = views.get(package) else {
            continue;
        };
        let sources = definition.sources();
        let kits: BTreeSet<Kit> = definition
            .body
            .calls()
            .iter()
            .map(|call| call.kit)
            .collect();
        let fits = |one: &&Declaration| {
            let address = DefinitionAddress {
                package: package.clone(),
                name: one.name.clone(),
            };
            !used.contains(&address) && one.calls.iter().any(|call| kits.contains(&call.kit))
        };
        let score = |one: &Declaration| {
            let same_kind = definition
                .body
                .calls()
                .iter()
                .any(|call| one.calls.iter().any(|other| other.kind == call.kind));
            let common = one.files.intersection(&sources).count();
            let same_name = one.name == definition.address.name
                || definition
                    .body
                    .calls()
                    .iter()
                    .any(|call| one.calls.iter().any(|other| names_the_same(call, other)));
            let counts = (same_kind && (common > 0 || same_name)) || common * 2 > sources.len();
            counts.then_some((same_name, same_kind, common))
        };
        let best = view
            .declarations
            .iter()
            .filter(fits)
            .filter_map(|one| Some((score(one)?, one)))
            .max_by_key(|(score, _)| *score);
        if let Some((_, one)) = best {
            let address = DefinitionAddress {
                package: package.clone(),
                name: one.name.clone(),
            };
            used.insert(address.clone());
            matched.insert(definition.address.clone(), address);
        }
    }
    matched
}

/// Gives proposed definitions the names that they have where they are there, and free ones where a
/// name is taken.
fn rename(
    proposal: &mut Proposal,
    matched: &BTreeMap<DefinitionAddress, DefinitionAddress>,
    views: &BTreeMap<String, FileView>,
    covered: &BTreeSet<DefinitionAddress>,
) {
    let mut names = NameGiver::default();
    for (package, view) in views {
        view.names.iter().for_each(|name| names.take(package, name));
    }
    let mut renamed: BTreeMap<DefinitionAddress, DefinitionAddress> = matched.clone();
    for definition in &proposal.definitions {
        let address = &definition.address;
        let is_taken = views
            .get(&address.package)
            .is_some_and(|view| view.names.contains(&address.name));
        if !matched.contains_key(address) && is_taken && !covered.contains(address) {
            let kind = definition
                .body
                .calls()
                .first()
                .map_or("step", |call| call.kind);
            renamed.insert(
                address.clone(),
                names.give(&address.package, &address.name, kind),
            );
        }
    }
    for definition in &mut proposal.definitions {
        if let Some(new) = renamed.get(&definition.address) {
            definition.address = new.clone();
        }
        for call in definition.body.calls_mut() {
            call.fields
                .iter_mut()
                .for_each(|(_, value)| renamed_in(value, &renamed));
        }
        for form in definition.body.forms_mut() {
            form.fields
                .iter_mut()
                .for_each(|(_, value)| renamed_in(value, &renamed));
        }
        let assumed = std::mem::take(&mut definition.assumed);
        definition.assumed = assumed
            .into_iter()
            .map(|one| renamed.get(&one).cloned().unwrap_or(one))
            .collect();
    }
}

fn renamed_in(value: &mut FieldValue, renamed: &BTreeMap<DefinitionAddress, DefinitionAddress>) {
    match value {
        FieldValue::Of(address) => {
            if let Some(new) = renamed.get(address) {
                *address = new.clone();
            }
        }
        FieldValue::Expression(expression) => {
            for part in &mut expression.parts {
                if let ExpressionPart::Of(address) = part
                    && let Some(new) = renamed.get(address)
                {
                    *address = new.clone();
                }
            }
        }
        FieldValue::List(items) => items.iter_mut().for_each(|item| renamed_in(item, renamed)),
        FieldValue::Map(rows) => rows
            .iter_mut()
            .for_each(|(_, value)| renamed_in(value, renamed)),
        _ => {}
    }
}

/// Changes of one file's text.
struct TextEdits<'a> {
    view: &'a FileView,
    writer: &'a DefinitionWriter<'a>,
    package: &'a str,
    top: &'a str,
    edits: Vec<(Range<usize>, String)>,
    differences: Vec<(String, ChangeKind, String)>,
    /// The sources that are in no library, as far as a survey sees.
    elsewhere: &'a BTreeSet<String>,
    /// Files that are taken now and were not.
    more: BTreeSet<String>,
}

impl<'a> TextEdits<'a> {
    /// Edits of the definition file of a package; none at first.
    fn new(
        view: &'a FileView,
        writer: &'a DefinitionWriter<'a>,
        package: &'a str,
        top: &'a str,
        elsewhere: &'a BTreeSet<String>,
    ) -> Self {
        TextEdits {
            view,
            writer,
            package,
            top,
            edits: Vec::new(),
            differences: Vec::new(),
            elsewhere,
            more: BTreeSet::new(),
        }
    }

    /// The file with the changes. `None` if there is none to make.
    fn change(self, text: &str) -> Result<Option<FileChange>, ReconcileProblem> {
        if self.edits.is_empty() && self.differences.is_empty() {
            return Ok(None);
        }
        let package = self.package.to_owned();
        let (before, differences) = (Some(text.to_owned()), self.differences);
        match applied(self.edits, text) {
            Some(after) => Ok(Some(FileChange {
                package,
                before,
                after,
                differences,
            })),
            None => Err(ReconcileProblem::Unfit { package }),
        }
    }

    /// Appends definitions, and the kits that they use.
    fn add(&mut self, new: &[&Definition], text: &str) {
        self.more.extend(new.iter().flat_map(|one| one.takes()));
        if new.is_empty() {
            return;
        }
        let known: BTreeSet<Kit> = self
            .view
            .kits
            .iter()
            .filter(|(name, kit)| name.as_str() == kit.name())
            .map(|(_, kit)| *kit)
            .collect();
        let missing: String = crate::writing::kits_of(new)
            .into_iter()
            .filter(|kit| !known.contains(kit))
            .map(use_line)
            .collect();
        if !missing.is_empty() {
            let at = self.view.after_uses;
            let text = if at == 0 {
                format!("{missing}\n")
            } else {
                format!("\n{}", missing.trim_end())
            };
            self.edits.push((at..at, text));
        }
        let mut more = String::new();
        for definition in new {
            more.push('\n');
            more.push_str(&self.writer.definition(definition));
            self.differences.push(added(definition, self.top));
        }
        let start = if text.ends_with('\n') || text.is_empty() {
            ""
        } else {
            "\n"
        };
        self.edits
            .push((text.len()..text.len(), format!("{start}{more}")));
    }

    /// Says which files a definition lacks that is written in a way of its own: how they are added
    /// there, only people know.
    fn lacks(&mut self, definition: &Definition, taken: &BTreeSet<String>) {
        for file in definition
            .sources()
            .iter()
            .filter(|file| !taken.contains(*file))
        {
            let file = joined(self.top, file).unwrap_or_default();
            let words = format!(
                "no definition takes {file}; it is written in a way of its own: add it by hand"
            );
            self.differences.push((
                definition.address.below(self.top),
                ChangeKind::NewFile,
                words,
            ));
        }
    }

    /// Compares the files and needs of a definition with those that are written. What is written as
    /// one is compared with all that is proposed for it, once.
    fn align(
        &mut self,
        definition: &Definition,
        taken: &BTreeSet<String>,
        packages: &BTreeSet<String>,
    ) {
        let view = self.view;
        let mut twins: BTreeMap<(usize, usize), Vec<&KindCall>> = BTreeMap::new();
        for call in definition.body.calls() {
            if let Some(twin) = self.twin(definition, call) {
                twins.entry(twin).or_default().push(call);
            }
        }
        for ((number, of), calls) in twins {
            let one = &view.declarations[number];
            let twin = &one.calls[of];
            let address = DefinitionAddress {
                name: one.name.clone(),
                ..definition.address.clone()
            }
            .below(self.top);
            let files = calls.iter().flat_map(|call| call.files("sources"));
            let new: BTreeSet<String> = files
                .filter(|file| !taken.contains(file) && !one.files.contains(file))
                .collect();
            if !new.is_empty()
                && let Some(field) = twin.fields.get("sources")
            {
                self.more_files(&address, field, &new);
                for call in &calls {
                    self.with_headers(one, twin, call);
                }
            }
            let mut wanted: Vec<&FieldValue> = Vec::new();
            for value in calls.iter().filter_map(|call| call.field("needs")) {
                let items = match value {
                    FieldValue::List(items) => items.iter().collect(),
                    one => vec![one],
                };
                wanted.extend(
                    items
                        .into_iter()
                        .filter(|item| !wanted.contains(item))
                        .collect::<Vec<_>>(),
                );
            }
            self.needs(&address, (&wanted, &definition.assumed), twin, packages);
        }
    }

    /// Where a proposed kind is written: the number of its declaration, and of the kind in it. It
    /// is of the same kit and kind, and names the same, or files of it; what is the only one of a
    /// declaration with the definition's name is meant, too.
    fn twin(&self, definition: &Definition, call: &KindCall) -> Option<(usize, usize)> {
        let files = files_of(call);
        let is_only = definition.body.calls().len() == 1;
        let score = |one: &Declaration, other: &Call| {
            let same_name = is_only && one.name == definition.address.name;
            let common = one.files.intersection(&files).count();
            let score = (names_the_same(call, other), same_name, common);
            (score != (false, false, 0)).then_some(score)
        };
        let all = self
            .view
            .declarations
            .iter()
            .enumerate()
            .flat_map(|(number, one)| {
                let calls = one.calls.iter().enumerate();
                calls.filter_map(move |(of, other)| {
                    let is_like = other.kit == call.kit && other.kind == call.kind;
                    is_like
                        .then(|| score(one, other))
                        .flatten()
                        .map(|score| (score, (number, of)))
                })
            });
        // Of several that are as near, the first.
        let mut best = None;
        for (score, place) in all {
            if best.is_none_or(|(known, _)| score > known) {
                best = Some((score, place));
            }
        }
        best.map(|(_, place)| place)
    }

    /// Takes out lines by which files are left out that are taken now.
    fn forget_omissions(&mut self, text: &str) {
        let is_taken = |line: &OmissionLine| line.paths.iter().any(|path| self.more.contains(path));
        let lines = OmissionLine::all_in(self.package, text).filter(is_taken);
        let edits: Vec<_> = lines
            .map(|line| (line.range.clone(), line.without_taken(WIDTH, &self.more)))
            .collect();
        self.edits.extend(edits);
    }

    fn more_files(&mut self, address: &str, field: &Field, new: &BTreeSet<String>) {
        let value = self
            .writer
            .value(self.package, &FieldValue::Files(new.clone()));
        let inner = value
            .strip_prefix('[')
            .and_then(|rest| rest.strip_suffix(']'))
            .unwrap_or(&value)
            .to_owned();
        self.more.extend(new.iter().cloned());
        for file in new {
            let words = format!(
                "no definition takes {}",
                joined(self.top, file).unwrap_or_default()
            );
            self.differences
                .push((address.to_owned(), ChangeKind::NewFile, words));
        }
        self.extend(field, &inner);
    }

    /// Adds headers, and folders to search for them, that new sources include.
    fn with_headers(&mut self, one: &Declaration, twin: &Call, call: &KindCall) {
        for name in ["headers", "internal", "include"] {
            let more: Vec<String> = match call.field(name) {
                Some(FieldValue::Files(files)) => {
                    let more: BTreeSet<String> = files.difference(&one.files).cloned().collect();
                    if more.is_empty() {
                        Vec::new()
                    } else {
                        vec![self.writer.value(self.package, &FieldValue::Files(more))]
                    }
                }
                Some(FieldValue::List(items)) if name == "include" => items
                    .iter()
                    .map(|item| self.writer.value(self.package, item))
                    .collect(),
                _ => continue,
            };
            let field = twin.fields.get(name);
            let is_there = |text: &String| {
                field
                    .and_then(|field| field.items.as_ref())
                    .is_some_and(|items| items.iter().any(|(_, item)| item == text))
            };
            let more: Vec<String> = more.into_iter().filter(|text| !is_there(text)).collect();
            match field {
                _ if more.is_empty() => {}
                // What is computed is a person's business.
                Some(field) if field.items.is_some() => self.extend(field, &more.join(", ")),
                Some(_) => {}
                None => {
                    let value = if more.len() == 1 {
                        more[0].clone()
                    } else {
                        format!("[{}]", more.join(", "))
                    };
                    self.edits
                        .push((twin.end..twin.end, format!(", {name} = {value} ")));
                }
            }
        }
    }

    /// Adds an item to a field.
    fn extend(&mut self, field: &Field, item: &str) {
        match (&field.items, field.is_list) {
            (Some(items), true) => {
                let (at, comma) = items
                    .last()
                    .map_or((field.range.start + 1, ""), |(range, _)| (range.end, ", "));
                self.edits.push((at..at, format!("{comma}{item}")));
            }
            (Some(_), false) => {
                self.edits
                    .push((field.range.start..field.range.start, "[".to_owned()));
                self.edits
                    .push((field.range.end..field.range.end, format!(", {item}]")));
            }
            (None, _) => self
                .edits
                .push((field.range.end..field.range.end, format!(" + [{item}]"))),
        }
    }

    fn needs(
        &mut self,
        address: &str,
        (wanted, assumed): (&[&FieldValue], &BTreeSet<DefinitionAddress>),
        twin: &Call,
        packages: &BTreeSet<String>,
    ) {
        let texts: Vec<String> = wanted.iter().map(|value| self.own_words(value)).collect();
        let field = twin.fields.get("needs");
        let written: Option<Vec<(Range<usize>, String)>> = match field {
            None => Some(Vec::new()),
            Some(field) => field.items.clone(),
        };
        // What is computed cannot be compared with anything.
        let Some(written) = written else { return };
        let has = |text: &str| written.iter().any(|(_, other)| same_need(other, text));
        // What only lies beside it may be needed or not.
        let is_certain =
            |value: &FieldValue| !matches!(value, FieldValue::Of(other) if assumed.contains(other));
        let certain = wanted
            .iter()
            .zip(&texts)
            .filter(|(value, _)| is_certain(value))
            .map(|(_, text)| text);
        let missing: Vec<&String> = certain.filter(|text| !has(text)).collect();
        for text in &missing {
            let what = format!("its sources use {text}, which is not among its needs");
            self.differences
                .push((address.to_owned(), ChangeKind::NewNeed, what));
        }
        let unused: Vec<&(Range<usize>, String)> = written
            .iter()
            .filter(|(_, text)| {
                !texts.iter().any(|other| same_need(text, other)) && self.is_judged(text, packages)
            })
            .collect();
        for (_, text) in &unused {
            let what = format!("nothing in its sources uses {text}");
            self.differences
                .push((address.to_owned(), ChangeKind::UnusedNeed, what));
        }
        if missing.is_empty() && unused.is_empty() {
            return;
        }
        let kept = written.iter().filter(|row| !unused.contains(row));
        let kept = kept.map(|(_, text)| text.clone());
        let kept: Vec<String> = kept.chain(missing.into_iter().cloned()).collect();
        let value = match &*kept {
            [one] => one.clone(),
            _ => format!("[{}]", kept.join(", ")),
        };
        match field {
            Some(field) => self.edits.push((field.range.clone(), value)),
            None => self
                .edits
                .push((twin.end..twin.end, format!(", needs = {value} "))),
        }
    }

    /// A need as this file writes it, with its own names for kits.
    fn own_words(&self, value: &FieldValue) -> String {
        let text = self.writer.value(self.package, value);
        let FieldValue::Pinned(kit, _) = value else {
            return text;
        };
        let own = self
            .view
            .kits
            .iter()
            .find(|(_, other)| *other == kit)
            .map_or(kit.name(), |(name, _)| name);
        text.replacen(kit.name(), own, 1)
    }

    /// Whether a survey would propose such a need: a pin, or a definition of the tree. All others
    /// are a person's business.
    fn is_judged(&self, text: &str, packages: &BTreeSet<String>) -> bool {
        let is_pin = self
            .view
            .kits
            .keys()
            .any(|alias| text.starts_with(&format!("{alias}.pinned(")));
        let is_library = |name: &str| {
            let declared = self.view.declarations.iter().find(|one| one.name == name);
            let is_kind = |one: &Declaration| {
                one.calls
                    .iter()
                    .any(|call| LIBRARY_KINDS.contains(&call.kind.as_str()))
            };
            // Of a library that a survey takes for something else, it cannot say who uses it.
            declared.is_some_and(|one| is_kind(one) && one.files.is_disjoint(self.elsewhere))
        };
        let path = text.trim_start_matches('&').trim_matches('"');
        let is_other = text.starts_with('&')
            && packages.iter().any(|package| {
                joined(self.top, package).is_some_and(|whole| path.starts_with(&whole))
                    && !package.is_empty()
            });
        is_pin || is_library(text) || (is_other && !name_of(path).is_empty())
    }
}

/// A text with some changes; `None` where it could not be read as definitions.
fn applied(edits: Vec<(Range<usize>, String)>, text: &str) -> Option<String> {
    Some(changed(edits, text)).filter(|after| parses(after))
}

/// A text with some changes, as the formatter has it where it was formatted before. Of two changes
/// of one place the first holds.
fn changed(mut edits: Vec<(Range<usize>, String)>, text: &str) -> String {
    edits.sort_by_key(|(range, _)| (range.start, range.end));
    let mut end = 0;
    edits.retain(|(range, _)| {
        let is_free = range.start >= end;
        end = end.max(range.end);
        is_free
    });
    let mut out = text.to_owned();
    for (range, new) in edits.into_iter().rev() {
        out.replace_range(range, &new);
    }
    let formatted = |text: &str| nubrik_syntax::format(nubrik_source::TextId(0), &text.into());
    match formatted(text) {
        Ok(tidy) if tidy == text => formatted(&out).unwrap_or(out),
        _ => out,
    }
}

/// Whether a text can be read as definitions.
fn parses(text: &str) -> bool {
    nubrik_syntax::parse(nubrik_source::TextId(0), &text.into())
        .diagnostics
        .is_empty()
}

/// The files of the tree that a kind is for.
fn files_of(call: &KindCall) -> BTreeSet<String> {
    let mut files = BTreeSet::new();
    for (_, value) in &call.fields {
        value.walk(&mut |value| {
            if let FieldValue::Files(more) | FieldValue::Below(_, more) = value {
                files.extend(more.iter().cloned());
            }
        });
    }
    // A crate's test is one file of its folder.
    if let (Some(FieldValue::Text(root)), Some(FieldValue::Folder(folder))) =
        (call.field("root"), call.field("source"))
    {
        files.extend(joined(folder, root));
    }
    files
}

/// Whether two texts name the same need.
fn same_need(one: &str, other: &str) -> bool {
    // A target with the name of its folder is also meant by the folder alone.
    let plain = |text: &str| {
        let text = text.replace([' ', '"', '\''], "");
        let (above, name) = text.rsplit_once('/').unwrap_or(("", ""));
        if text.starts_with('&') && above.trim_start_matches('&').rsplit('/').next() == Some(name) {
            above.to_owned()
        } else {
            text
        }
    };
    plain(one) == plain(other)
}

/// Whether two are for the same class, package or function, which they name.
fn names_the_same(call: &KindCall, other: &Call) -> bool {
    ["main", "package", "entry_point"].into_iter().any(|field| {
        let Some(FieldValue::Text(text)) = call.field(field) else {
            return false;
        };
        let items = other
            .fields
            .get(field)
            .and_then(|field| field.items.as_ref());
        items.is_some_and(|items| {
            items
                .iter()
                .any(|(_, item)| item.trim_matches(['"', '\'']) == text)
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_could_not_be_read_is_not_written_and_no_place_is_changed_twice() {
        let text = "target a = write { path = \"a\", text = \"x\" }\n";
        let at = |part: &str| {
            text.find(part)
                .map_or(0..0, |start| start..start + part.len())
        };
        let edit = |part: &str, new: &str| (at(part), new.to_owned());
        let once = applied(vec![edit("\"x\"", "\"y\"")], text);
        assert_eq!(
            once.as_deref(),
            Some("target a = write { path = \"a\", text = \"y\" }\n")
        );
        // The second one lies in the first one, whichever was found first.
        let both = vec![edit("text = \"x\"", "text = \"z\""), edit("\"x\"", "\"y\"")];
        let changed = Some("target a = write { path = \"a\", text = \"z\" }\n");
        assert_eq!(applied(both.clone(), text).as_deref(), changed);
        assert_eq!(
            applied(both.into_iter().rev().collect(), text).as_deref(),
            changed
        );
        assert_eq!(applied(vec![edit(" }", "")], text), None);
        assert_eq!(applied(vec![edit("\"x\"", "\"x")], text), None);
    }
}
