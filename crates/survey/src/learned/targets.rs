//! Libraries and programs of a build that was watched, as definitions with kits.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use super::SeenBuild;
use super::compilers::{Language, about_places, family};
use super::configured::configured;
use super::dataflow::{Artifact, ArtifactKind, Dataflow, ObjectUnit};
use super::generators::{Generators, MadeFile, SeenRun};
use super::java::with_java;
use crate::languages::{Include, is_c_header, is_c_source, is_fortran_source, scan_c};
use crate::names::NameGiver;
use crate::proposal::{
    Body, Definition, DefinitionAddress, Expression, FieldValue, FormCall, Keyword, KindCall, Kit,
    Omission, Proposal, WritablePlace,
};
use crate::tree::{SourceTree, folder_of, is_below, joined, name_of, stem_of};

/// What was learned of a build.
#[derive(Clone, Debug)]
pub struct LearnedBuild {
    /// What is proposed.
    pub proposal: Proposal,
    /// The libraries, programs and generated files in it, each with where the build that was
    /// watched put it.
    pub targets: Vec<LearnedTarget>,
}

/// A library, a program or a generated file that a build made.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct LearnedTarget {
    /// Its definition.
    pub address: DefinitionAddress,
    /// Private definitions whose contents are in it, too: libraries that are linked whole.
    pub parts: Vec<DefinitionAddress>,
    /// Where the build put it, from the folder; for classes the folder that they are in.
    pub path: String,
}

/// How the definitions of the learned languages are called that others lead to, where nothing
/// better is known.
const LIBRARY: &str = "library";
const PROGRAM: &str = "program";

/// Proposes what a build showed, in the place of what a survey proposes for the same languages.
/// `top` is the folder, from the workspace's root.
pub fn learn(tree: &SourceTree, top: &str, build: &SeenBuild, surveyed: Proposal) -> LearnedBuild {
    let flow = Dataflow::of(build);
    let mut names = NameGiver::default();
    let (mut proposal, replaced) = without_learned(tree, surveyed);
    for one in &proposal.definitions {
        names.take(&one.address.package, &one.address.name);
    }
    let mut work = Learning {
        tree,
        build,
        flow: &flow,
        plans: Vec::new(),
        by_artifact: BTreeMap::new(),
        includes: RefCell::default(),
    };
    work.plan(&mut names);
    let mut generators = work.generators(top);
    work.make_files(&mut generators, &replaced, &mut names);
    let runs = work.runs(&mut generators, &mut |wish| names.give("", wish, "file"));
    let Generators {
        made,
        definitions,
        needed,
        left,
        ..
    } = generators;
    proposal.definitions.extend(definitions);
    let omissions = left.into_iter().map(|(what, why)| Omission {
        what,
        why,
        files: BTreeSet::new(),
    });
    proposal.left_out.extend(omissions);
    let common = work
        .common_flags()
        .map(|flags| (names.give("", "build_flags", "flags"), flags));
    if let Some(flags) = &common {
        let definition = flags_definition(flags, &build.command);
        proposal.definitions.insert(0, definition);
    }
    work.settle_headers();
    for plan in &work.plans {
        let is_own = |(artifact, run): &&(usize, SeenRun)| {
            Some(*artifact) == plan.artifact && !needed.contains(&run.number)
        };
        let runs: Vec<&SeenRun> = runs.iter().filter(is_own).map(|(_, run)| run).collect();
        let own_test = match runs.as_slice() {
            [run] if run.is_plain && work.is_test(plan) => Some(*run),
            _ => None,
        };
        let definition = work.definition(plan, &made, own_test, common.as_ref());
        proposal.definitions.push(definition);
        if own_test.is_none() && !runs.is_empty() {
            let address = names.give("", &format!("{}_runs", plan.address.name), "runs");
            proposal
                .definitions
                .push(work.checks(&address, plan, &runs));
        }
    }
    let mut targets = work.results(&made);
    targets.extend(with_java(&mut proposal, tree, build));
    let objects = work.plans.iter().flat_map(|plan| &plan.objects);
    let count = objects.collect::<BTreeSet<_>>().len();
    proposal.sources.insert(Kit::C, count);
    proposal.sources.remove(&Kit::Fortran);
    LearnedBuild { proposal, targets }
}

/// A proposal without what a watched build shows itself, and what was taken out of it.
fn without_learned(tree: &SourceTree, surveyed: Proposal) -> (Proposal, Vec<Definition>) {
    let Proposal {
        definitions,
        pins,
        mut left_out,
        questions,
        sources,
        given_up,
        needed: tried,
    } = surveyed;
    // What of the same languages is built, the build says.
    left_out.retain(|left| {
        !is_c_source(&left.what) && !is_fortran_source(&left.what) && !tree.has_folder(&left.what)
    });
    let is_other = |one: &Definition| {
        let calls = one.body.calls();
        !calls.is_empty()
            && calls
                .iter()
                .all(|call| ![Kit::C, Kit::Fortran].contains(&call.kit))
    };
    let (others, learned): (Vec<Definition>, Vec<Definition>) =
        definitions.into_iter().partition(is_other);
    let needed = others.iter().flat_map(Definition::needs).collect();
    let mut definitions = with_needs(&learned, needed);
    definitions.extend(others);
    (
        Proposal {
            definitions,
            pins,
            left_out,
            questions,
            sources,
            given_up,
            needed: tried,
        },
        learned,
    )
}

/// Some of all definitions, with all that they need of them.
fn with_needs(all: &[Definition], wanted: BTreeSet<DefinitionAddress>) -> Vec<Definition> {
    let mut wanted: Vec<DefinitionAddress> = wanted.into_iter().collect();
    let mut seen = BTreeSet::new();
    while let Some(address) = wanted.pop() {
        if let Some(one) = all.iter().find(|one| one.address == address)
            && seen.insert(address)
        {
            wanted.extend(one.needs());
        }
    }
    all.iter()
        .filter(|one| seen.contains(&one.address))
        .cloned()
        .collect()
}

/// A library or program that gets a definition.
struct PlannedTarget {
    address: DefinitionAddress,
    kind: ArtifactKind,
    /// What it is of the build; nothing for sources that only their flags set apart.
    artifact: Option<usize>,
    objects: Vec<usize>,
    /// Other plans, by their places.
    needs: Vec<usize>,
    link_flags: Vec<String>,
    /// Headers that users may include, and those that are its own.
    headers: BTreeSet<String>,
    internal: BTreeSet<String>,
    /// Whether all of it is linked.
    is_whole: bool,
}

struct Learning<'a> {
    tree: &'a SourceTree,
    build: &'a SeenBuild,
    flow: &'a Dataflow,
    plans: Vec<PlannedTarget>,
    by_artifact: BTreeMap<usize, usize>,
    /// What each file includes: many sources read the same headers.
    includes: RefCell<BTreeMap<String, Rc<[Include]>>>,
}

/// Where users read many headers of a folder, and the library nearly all of the others, a pattern
/// says that better than two long lists do.
fn keep_folders_whole(tree: &SourceTree, plan: &mut PlannedTarget) {
    const MANY: usize = 4;
    let folders: BTreeSet<String> = plan
        .headers
        .iter()
        .map(|path| folder_of(path).to_owned())
        .collect();
    for folder in folders {
        let is_here = |path: &&String| folder_of(path) == folder && tree.has(path);
        let own: Vec<String> = plan.internal.iter().filter(is_here).cloned().collect();
        let public = plan.headers.iter().filter(is_here).count();
        let all = tree
            .inside(&folder)
            .filter(|path| is_c_header(path))
            .count();
        if public >= MANY
            && (public + own.len()) * 4 >= all * 3
            && own.iter().all(|path| is_c_header(path))
        {
            plan.internal.retain(|path| !own.contains(path));
            plan.headers.extend(own);
        }
    }
}

/// So many runs of a program become checks.
const MOST_RUNS: usize = 100;

/// Flags that all have, with the definition that names them.
type CommonFlags = (DefinitionAddress, Vec<String>);

impl<'a> Learning<'a> {
    fn units<'s>(&'s self, objects: &'s [usize]) -> impl Iterator<Item = &'s ObjectUnit> {
        objects.iter().map(|object| &self.flow.objects[*object])
    }

    /// What is known when commands become steps.
    fn generators(&self, top: &'a str) -> Generators<'a> {
        let mut compiled: BTreeSet<String> = BTreeSet::new();
        for unit in self.plans.iter().flat_map(|plan| self.units(&plan.objects)) {
            compiled.insert(unit.source.clone());
            compiled.extend(unit.reads.iter().cloned());
        }
        let programs = self.plans.iter().filter_map(|plan| match plan.artifact {
            Some(artifact) if plan.kind == ArtifactKind::Program => {
                Some((artifact, plan.address.clone()))
            }
            _ => None,
        });
        Generators {
            tree: self.tree,
            top,
            build: self.build,
            flow: self.flow,
            compiled,
            programs: programs.collect(),
            made: BTreeMap::new(),
            definitions: Vec::new(),
            needed: BTreeSet::new(),
            left: Vec::new(),
        }
    }

    /// Defines all files that are compiled and are none of the tree.
    fn make_files(
        &self,
        generators: &mut Generators<'_>,
        replaced: &[Definition],
        names: &mut NameGiver,
    ) {
        let is_made = |file: &&String| !self.tree.has(file);
        let files: Vec<String> = generators
            .compiled
            .iter()
            .filter(is_made)
            .cloned()
            .collect();
        for file in files {
            // What a survey asks of the machine holds on other machines, too.
            let is_found = folder_of(&file).is_empty() || self.searches(folder_of(&file));
            let text = self.build.texts.get(&file).filter(|_| is_found);
            let known = text.and_then(|text| {
                replaced
                    .iter()
                    .find_map(|one| configured(one, &file, text, self.tree, self.build))
            });
            match known {
                Some(mut definition) => {
                    definition.address = names.give("", &definition.address.name, "header");
                    let made = MadeFile {
                        address: definition.address.clone(),
                        output: None,
                    };
                    generators.made.insert(file, Some(made));
                    generators.definitions.push(definition);
                }
                None => drop(generators.file(&file, &mut |wish| names.give("", wish, "file"))),
            }
        }
    }

    /// What the build made and a definition makes, too.
    fn results(&self, made: &BTreeMap<String, Option<MadeFile>>) -> Vec<LearnedTarget> {
        let files = made
            .iter()
            .filter(|(path, _)| self.build.made.contains(*path));
        let file = |(path, file): (&String, &Option<MadeFile>)| {
            let address = file.as_ref()?.address.clone();
            Some(LearnedTarget {
                address,
                parts: Vec::new(),
                path: path.clone(),
            })
        };
        let linked = |plan: &PlannedTarget| {
            let path = self.flow.artifacts[plan.artifact?].path.clone();
            let parts = plan.needs.iter().map(|need| &self.plans[*need]);
            let parts = parts
                .filter(|need| need.artifact.is_none())
                .map(|need| need.address.clone());
            Some(LearnedTarget {
                address: plan.address.clone(),
                parts: parts.collect(),
                path,
            })
        };
        files
            .filter_map(file)
            .chain(self.plans.iter().filter_map(linked))
            .collect()
    }

    /// Whether sources search a folder for headers.
    fn searches(&self, folder: &str) -> bool {
        let mut units = self.plans.iter().flat_map(|plan| self.units(&plan.objects));
        units.any(|unit| {
            unit.include.iter().any(|one| one == folder) || folder_of(&unit.source) == folder
        })
    }

    /// Decides what gets a definition: what is there when all is over, what that needs, and
    /// programs that ran on the way.
    fn plan(&mut self, names: &mut NameGiver) {
        let artifacts = &self.flow.artifacts;
        let mut wanted: BTreeSet<usize> = BTreeSet::new();
        let makers = self.makers();
        let is_wanted = |one: &Artifact| {
            let is_of_sources = !one.objects.is_empty() || !one.needs.is_empty();
            is_of_sources
                && (one.is_kept
                    || (one.kind == ArtifactKind::Program && self.makes_something(one, &makers)))
        };
        let mut next: Vec<usize> = (0..artifacts.len())
            .filter(|number| is_wanted(&artifacts[*number]))
            .collect();
        while let Some(number) = next.pop() {
            if wanted.insert(number) {
                next.extend(&artifacts[number].needs);
            }
        }
        // The same thing once, where it is made twice: the last one counts.
        let mut by_path: BTreeMap<&str, usize> = BTreeMap::new();
        for number in &wanted {
            by_path.insert(&artifacts[*number].path, *number);
        }
        let mut order: Vec<usize> = wanted
            .iter()
            .copied()
            .filter(|n| by_path[&*artifacts[*n].path] == *n)
            .collect();
        order.sort_by_key(|number| (artifacts[*number].kind, *number));
        for number in order {
            self.plan_one(number, names);
        }
        // Needs are known when all have their places.
        for place in 0..self.plans.len() {
            let Some(artifact) = self.plans[place].artifact else {
                continue;
            };
            let needs = artifacts[artifact].needs.iter();
            let needs = needs.filter_map(|need| {
                let latest = by_path.get(&*artifacts[*need].path)?;
                self.by_artifact.get(latest).copied()
            });
            let needs: Vec<usize> = needs.collect();
            for need in needs {
                if need != place && !self.plans[place].needs.contains(&need) {
                    self.plans[place].needs.push(need);
                }
            }
        }
    }

    /// Whether a program wrote something that is compiled.
    fn makes_something(&self, artifact: &Artifact, makers: &BTreeSet<usize>) -> bool {
        let family = artifact.runs.iter().flat_map(|run| self.flow.family(*run));
        family.into_iter().any(|program| makers.contains(&program))
    }

    /// The programs that wrote something that is compiled.
    fn makers(&self) -> BTreeSet<usize> {
        let objects = &self.flow.objects;
        let sources = objects.iter().map(|unit| &unit.source);
        let compiled: BTreeSet<&String> = sources
            .chain(objects.iter().flat_map(|unit| &unit.reads))
            .collect();
        let written = self
            .flow
            .writers
            .iter()
            .filter(|(path, _)| compiled.contains(path));
        written.flat_map(|(_, writers)| writers).copied().collect()
    }

    fn plan_one(&mut self, number: usize, names: &mut NameGiver) {
        let artifact = &self.flow.artifacts[number];
        let name = name_of(&artifact.path);
        let plain = match artifact.kind {
            ArtifactKind::Program => stem_of(name),
            ArtifactKind::Archive | ArtifactKind::Shared => {
                let stem = name.split(".so").next().unwrap_or(name);
                let stem = stem.strip_suffix(".a").unwrap_or(stem);
                stem.strip_prefix("lib").unwrap_or(stem)
            }
        };
        let or_else = match artifact.kind {
            ArtifactKind::Program => PROGRAM,
            ArtifactKind::Archive => LIBRARY,
            ArtifactKind::Shared => "shared",
        };
        let address = names.give("", plain, or_else);
        // Sources with other flags, or in another language, are a library of their own that is
        // linked whole.
        let groups = self.by_flags(&artifact.objects);
        let mut groups = groups.into_iter();
        let own = groups.next().unwrap_or_default();
        let mut needs = Vec::new();
        for group in groups {
            let first = group
                .first()
                .map_or("", |object| self.flow.objects[*object].source.as_str());
            let part = names.give("", &format!("{}_{}", address.name, stem_of(first)), LIBRARY);
            needs.push(self.add(PlannedTarget {
                address: part,
                kind: ArtifactKind::Archive,
                artifact: None,
                objects: group,
                needs: Vec::new(),
                link_flags: Vec::new(),
                headers: BTreeSet::new(),
                internal: BTreeSet::new(),
                is_whole: true,
            }));
        }
        let place = self.add(PlannedTarget {
            address,
            kind: artifact.kind,
            artifact: Some(number),
            objects: own,
            needs,
            link_flags: artifact.link_flags.clone(),
            headers: BTreeSet::new(),
            internal: BTreeSet::new(),
            is_whole: false,
        });
        self.by_artifact.insert(number, place);
    }

    /// Objects by the language and the flags of their sources, the largest group first; each source
    /// counts once.
    fn by_flags(&self, objects: &[usize]) -> Vec<Vec<usize>> {
        let mut groups: BTreeMap<(bool, Vec<String>), Vec<usize>> = BTreeMap::new();
        let mut seen = BTreeSet::new();
        for object in objects {
            let unit = &self.flow.objects[*object];
            if seen.insert(&unit.source) {
                let key = (unit.language == Language::Fortran, unit.flags.clone());
                groups.entry(key).or_default().push(*object);
            }
        }
        let mut groups: Vec<Vec<usize>> = groups.into_values().collect();
        groups.sort_by_key(|group| std::cmp::Reverse(group.len()));
        groups
    }

    fn add(&mut self, plan: PlannedTarget) -> usize {
        self.plans.push(plan);
        self.plans.len() - 1
    }

    /// All that a plan needs, over any number of others.
    fn all_needs(&self, place: usize) -> BTreeSet<usize> {
        let mut all = BTreeSet::new();
        let mut next = self.plans[place].needs.clone();
        while let Some(need) = next.pop() {
            if all.insert(need) {
                next.extend(&self.plans[need].needs);
            }
        }
        all
    }

    /// Which headers are for users, and which each one's own.
    fn settle_headers(&mut self) {
        let read = |place: usize| -> BTreeSet<String> {
            self.units(&self.plans[place].objects)
                .flat_map(|unit| unit.reads.iter().cloned())
                .collect()
        };
        let reads: Vec<BTreeSet<String>> = (0..self.plans.len()).map(read).collect();
        let needs: Vec<BTreeSet<usize>> = (0..self.plans.len())
            .map(|place| self.all_needs(place))
            .collect();
        for place in 0..self.plans.len() {
            let users = (0..self.plans.len()).filter(|user| needs[*user].contains(&place));
            let of_users: BTreeSet<&String> = users.flat_map(|user| &reads[user]).collect();
            let (headers, own): (BTreeSet<String>, BTreeSet<String>) = reads[place]
                .iter()
                .cloned()
                .partition(|read| of_users.contains(read));
            self.plans[place].headers = headers;
            self.plans[place].internal = own;
        }
        self.give_headers(&needs);
        for (place, needs) in needs.iter().enumerate() {
            let given: BTreeSet<String> = needs
                .iter()
                .flat_map(|need| self.plans[*need].headers.iter().cloned())
                .collect();
            let plan = &mut self.plans[place];
            plan.internal = plan.internal.difference(&given).cloned().collect();
            // Programs and whole parts have no users of headers.
            if plan.kind == ArtifactKind::Program {
                let headers = std::mem::take(&mut plan.headers);
                plan.internal.extend(headers);
            } else {
                keep_folders_whole(self.tree, plan);
            }
        }
    }

    /// Gives headers that only its users read to the library whose other headers are in the same
    /// folder.
    fn give_headers(&mut self, needs: &[BTreeSet<usize>]) {
        for (place, needs) in needs.iter().enumerate() {
            for header in self.plans[place].internal.clone() {
                let is_beside = |need: &&usize| {
                    let plan = &self.plans[**need];
                    let beside = |other: &String| folder_of(other) == folder_of(&header);
                    plan.artifact.is_some() && plan.headers.iter().any(beside)
                };
                let own = self
                    .units(&self.plans[place].objects)
                    .map(|unit| folder_of(&unit.source));
                let is_own = own.into_iter().any(|folder| folder == folder_of(&header));
                if let Some(need) = needs
                    .iter()
                    .find(is_beside)
                    .filter(|_| !is_own && self.tree.has(&header))
                {
                    self.plans[*need].headers.insert(header.clone());
                }
            }
        }
    }

    /// Flags that all compilers were given, where several definitions would repeat them.
    fn common_flags(&self) -> Option<Vec<String>> {
        let signatures: Vec<&Vec<String>> = self
            .plans
            .iter()
            .filter_map(|plan| Some(&self.flow.objects[*plan.objects.first()?].flags))
            .collect();
        let first = *signatures.first().filter(|_| signatures.len() > 1)?;
        let is_common = |at: usize| {
            let (flag, group) = (&first[at], family(&first[at]));
            let has_value = [
                "-include",
                "-imacros",
                "--param",
                "-Xclang",
                "-Xpreprocessor",
                "-Xassembler",
            ];
            let belongs = |flag: &String| has_value.contains(&flag.as_str());
            let is_part = belongs(flag) || (at > 0 && belongs(&first[at - 1]));
            // Where the order decides, it stays as it is.
            let is_alone = |flags: &Vec<String>| {
                flags.contains(flag)
                    && flags
                        .iter()
                        .all(|other| other == flag || family(other) != group)
            };
            !is_part && signatures.iter().all(|flags| is_alone(flags))
        };
        let mut flags: Vec<String> = Vec::new();
        for at in (0..first.len()).filter(|at| is_common(*at)) {
            if !flags.contains(&first[at]) {
                flags.push(first[at].clone());
            }
        }
        (!flags.is_empty()).then_some(flags)
    }

    fn definition(
        &self,
        plan: &PlannedTarget,
        made: &BTreeMap<String, Option<MadeFile>>,
        run: Option<&SeenRun>,
        common: Option<&CommonFlags>,
    ) -> Definition {
        let units: Vec<&ObjectUnit> = self.units(&plan.objects).collect();
        let is_fortran = units
            .first()
            .is_some_and(|unit| unit.language == Language::Fortran);
        let kit = if is_fortran { Kit::Fortran } else { Kit::C };
        let kind = kind_of(plan.kind, is_fortran, run.is_some());
        let files = |paths: &BTreeSet<String>| self.files(paths, made);
        let sources: BTreeSet<String> = units.iter().map(|unit| unit.source.clone()).collect();
        let mut call = KindCall::new(kit, kind).with("sources", files(&sources));
        self.set_headers(&mut call, plan, &units, made);
        if let Some(version) = self.version_of(plan).filter(|_| kind == "shared_library") {
            call.set("version", FieldValue::text(version));
        }
        if let Some(unit) = units.first() {
            call.set("flags", flags_value(&unit.flags, common));
        }
        let needs = plan
            .needs
            .iter()
            .map(|need| FieldValue::Of(self.plans[*need].address.clone()));
        call.set("needs", FieldValue::List(needs.collect()));
        call.set(
            "link_flags",
            FieldValue::texts(self.link_flags(plan, is_fortran)),
        );
        if plan.is_whole && !is_fortran {
            call.set("whole", FieldValue::Bool(true));
        }
        if plan.kind == ArtifactKind::Archive && self.is_in_shared(plan) && !is_fortran {
            call.set("position_independent", FieldValue::Bool(true));
        }
        let linked = plan
            .artifact
            .map(|number| &self.flow.artifacts[number].reads);
        if let Some(reads) = linked.filter(|reads| !reads.is_empty() && !is_fortran) {
            let there = reads.iter().filter(|path| self.tree.has(path));
            call.add_files("reads", there.cloned());
        }
        let keyword = match run {
            Some(_) => Keyword::Test,
            None => Keyword::Target,
        };
        if let Some(run) = run {
            self.say_run(&mut call, run);
        }
        let command = &self.build.command;
        let artifact = plan
            .artifact
            .map(|number| &self.flow.artifacts[number].path);
        let documentation = match artifact.map(|path| name_of(path)) {
            Some(path) => format!("{path}, as `{command}` makes it."),
            None => "Sources in a language or with flags of their own.".to_owned(),
        };
        let first = units.first();
        let mut named: Vec<String> = first.map(|unit| unit.flags.clone()).unwrap_or_default();
        named.extend(plan.link_flags.iter().cloned());
        let definition = Definition::new(keyword, &plan.address, documentation, Body::Kind(call))
            .because(about_places(&named, &format!("`{command}`")));
        match artifact {
            None => definition.private(),
            Some(_) => definition,
        }
    }

    /// Gives a call the headers and other files that its sources include.
    fn set_headers(
        &self,
        call: &mut KindCall,
        plan: &PlannedTarget,
        units: &[&ObjectUnit],
        made: &BTreeMap<String, Option<MadeFile>>,
    ) {
        let files = |paths: &BTreeSet<String>| self.files(paths, made);
        if call.kit == Kit::Fortran {
            let both = plan.headers.union(&plan.internal);
            let both = both.filter(|path| !path.ends_with(".mod"));
            return call.set("included", files(&both.cloned().collect()));
        }
        if plan.kind != ArtifactKind::Program {
            call.set("headers", files(&plan.headers));
        }
        call.set("internal", files(&plan.internal));
        let include = self.include(units).into_iter().map(FieldValue::Folder);
        call.set("include", FieldValue::List(include.collect()));
    }

    fn link_flags(&self, plan: &PlannedTarget, is_fortran: bool) -> Vec<String> {
        let mut flags: Vec<String> = Vec::new();
        // The last place of a library counts.
        for flag in plan.link_flags.iter().rev() {
            if !(flags.contains(flag) && flag.starts_with("-l")) {
                flags.push(flag.clone());
            }
        }
        flags.reverse();
        let is_library = plan.kind == ArtifactKind::Archive;
        if is_fortran && is_library && !flags.is_empty() {
            flags.extend(["-lgfortran", "-lm"].map(str::to_owned));
        }
        flags
    }

    /// Whether a shared library is linked with an archive, directly or not.
    fn is_in_shared(&self, plan: &PlannedTarget) -> bool {
        let place = self
            .plans
            .iter()
            .position(|other| other.address == plan.address);
        let shared =
            (0..self.plans.len()).filter(|other| self.plans[*other].kind == ArtifactKind::Shared);
        shared
            .into_iter()
            .any(|other| place.is_some_and(|place| self.all_needs(other).contains(&place)))
    }

    /// The version in the name of a shared library's file.
    fn version_of(&self, plan: &PlannedTarget) -> Option<String> {
        let path = &self.flow.artifacts[plan.artifact?].path;
        let (_, version) = name_of(path).split_once(".so.")?;
        Some(version.to_owned())
    }

    /// Files of the tree, and what is made, as the value of a field.
    fn files(
        &self,
        paths: &BTreeSet<String>,
        made: &BTreeMap<String, Option<MadeFile>>,
    ) -> FieldValue {
        let own: BTreeSet<String> = paths
            .iter()
            .filter(|path| self.tree.has(path))
            .cloned()
            .collect();
        let mut items: Vec<FieldValue> = Vec::new();
        if !own.is_empty() {
            items.push(FieldValue::Files(own));
        }
        for path in paths {
            let Some(Some(file)) = made.get(path) else {
                continue;
            };
            let value = file.value();
            if !items.contains(&value) {
                items.push(value);
            }
        }
        match items.len() {
            1 => items.remove(0),
            _ => FieldValue::List(items),
        }
    }

    /// What a file of the tree includes.
    fn includes_of(&self, path: &str) -> Rc<[Include]> {
        if let Some(known) = self.includes.borrow().get(path) {
            return known.clone();
        }
        let text = self.tree.text(path);
        let all: Rc<[Include]> = text
            .map_or(Vec::new(), |text| scan_c(path, &text).includes)
            .into();
        self.includes
            .borrow_mut()
            .insert(path.to_owned(), all.clone());
        all
    }

    /// Folders of the tree that must be searched for what sources include.
    fn include(&self, units: &[&ObjectUnit]) -> Vec<String> {
        let mut folders: Vec<String> = Vec::new();
        for unit in units {
            let mut includers: Vec<&String> = unit.reads.iter().collect();
            includers.push(&unit.source);
            let includes: Vec<(&String, Rc<[Include]>)> = includers
                .into_iter()
                .map(|path| (path, self.includes_of(path)))
                .collect();
            for (includer, include) in includes
                .iter()
                .flat_map(|(path, all)| all.iter().map(move |one| (path, one)))
            {
                let beside = joined(folder_of(includer), &include.path);
                if include.is_quoted && beside.is_some_and(|path| unit.reads.contains(&path)) {
                    continue;
                }
                let mut found = unit.include.iter().filter(|folder| {
                    joined(folder, &include.path).is_some_and(|path| unit.reads.contains(&path))
                });
                if let Some(folder) = found.next()
                    && !folders.contains(folder)
                    && (folder.is_empty() || self.tree.has_folder(folder))
                {
                    folders.push(folder.clone());
                }
            }
        }
        // As compilers were given them.
        let order = |folder: &String| {
            units
                .iter()
                .find_map(|unit| unit.include.iter().position(|one| one == folder))
        };
        folders.sort_by_key(order);
        folders
    }

    /// The runs of programs that make nothing that is compiled, by their artifacts, each one once.
    fn runs(
        &self,
        generators: &mut Generators<'_>,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Vec<(usize, SeenRun)> {
        const ASKS: [&str; 4] = ["--version", "--help", "-h", "-V"];
        let mut all: Vec<(usize, SeenRun)> = Vec::new();
        for artifact in self
            .plans
            .iter()
            .filter(|plan| plan.kind == ArtifactKind::Program)
        {
            let Some(artifact) = artifact.artifact else {
                continue;
            };
            let mut seen: BTreeSet<(Option<&String>, &[String])> = BTreeSet::new();
            for run in &self.flow.artifacts[artifact].runs {
                let program = &self.build.programs[*run];
                // Where its output goes on, another one judges.
                let whole_output = self
                    .build
                    .programs
                    .first()
                    .and_then(|first| first.pipe_out.as_ref());
                let goes_on =
                    program.pipe_out.is_some() && program.pipe_out.as_ref() != whole_output;
                let is_whole = program.stdout.is_none() && !goes_on;
                let asks = program
                    .words
                    .iter()
                    .any(|word| ASKS.contains(&word.as_str()));
                let is_known = !seen.insert((program.folder.as_ref(), &program.words));
                if program.folder.is_none()
                    || !is_whole
                    || asks
                    || is_known
                    || generators.needed.contains(run)
                {
                    continue;
                }
                match generators.run(*run, name) {
                    Ok(run) => all.push((artifact, run)),
                    Err(why) => generators.left.push((program.words.join(" "), why)),
                }
            }
        }
        all
    }

    /// Whether a program is a test, by its name or that of a source or folder.
    fn is_test(&self, plan: &PlannedTarget) -> bool {
        let artifact = plan
            .artifact
            .map(|artifact| self.flow.artifacts[artifact].path.as_str());
        let sources = self.units(&plan.objects).map(|unit| unit.source.as_str());
        let mut parts = artifact
            .into_iter()
            .chain(sources)
            .flat_map(|path| path.split('/'));
        parts.any(|part| {
            let part = part.to_lowercase();
            ["test", "check", "spec"]
                .iter()
                .any(|word| part.contains(word))
                || part == "t"
        })
    }

    /// A program's runs as a test.
    fn checks(
        &self,
        address: &DefinitionAddress,
        plan: &PlannedTarget,
        runs: &[&SeenRun],
    ) -> Definition {
        let path = plan
            .artifact
            .map_or("", |artifact| name_of(&self.flow.artifacts[artifact].path));
        let command = &self.build.command;
        let documentation = format!("Runs of {path}, as `{command}` makes them.");
        let mut forms: BTreeMap<String, FormCall> = BTreeMap::new();
        for run in runs.iter().take(MOST_RUNS) {
            let words = &self.build.programs[run.number].words[1..];
            let mut key = if words.is_empty() {
                "alone".to_owned()
            } else {
                words.join(" ")
            };
            while forms.contains_key(&key) {
                key.push('\'');
            }
            forms.insert(key, run.check.clone());
        }
        let body = match runs {
            [run] => Body::Form(run.check.clone()),
            _ => Body::Forms(forms.into_iter().collect()),
        };
        let reasons = match runs.len() {
            many if many > MOST_RUNS => vec![format!("The first {MOST_RUNS} of {many}.")],
            _ => Vec::new(),
        };
        Definition::new(Keyword::Test, address, documentation, body).because(reasons)
    }

    /// What a test's program is called with, where, and what it reads.
    fn say_run(&self, call: &mut KindCall, run: &SeenRun) {
        let program = &self.build.programs[run.number];
        call.set("args", FieldValue::texts(&program.words[1..]));
        let mut reads = run.check.takes.clone();
        if let Some(FieldValue::List(more)) = run.check.field("reads") {
            let files = more.iter().filter_map(|value| match value {
                FieldValue::Files(files) => Some(files),
                _ => None,
            });
            reads.extend(files.flatten().cloned());
        }
        match run.check.field("folder") {
            Some(FieldValue::Place(place)) => {
                let (beside, others): (BTreeSet<String>, BTreeSet<String>) = reads
                    .into_iter()
                    .partition(|path| is_below(path, &place.root));
                let files = place.files.union(&beside).cloned().collect();
                call.set("reads", FieldValue::Files(others));
                call.set(
                    "folder",
                    FieldValue::Place(WritablePlace {
                        files,
                        ..place.clone()
                    }),
                );
            }
            Some(FieldValue::Folder(folder)) => {
                // All of its folder is there anyway.
                reads.retain(|path| !is_below(path, folder));
                call.set("reads", FieldValue::Files(reads));
                call.set("folder", FieldValue::Folder(folder.clone()));
            }
            _ => call.set("reads", FieldValue::Files(reads)),
        }
    }
}

/// The flags of a definition, with those that all have by their name.
fn flags_value(flags: &[String], common: Option<&CommonFlags>) -> FieldValue {
    let Some((address, shared)) = common else {
        return FieldValue::texts(flags);
    };
    let own: Vec<&String> = flags.iter().filter(|flag| !shared.contains(flag)).collect();
    if own.is_empty() {
        return FieldValue::Of(address.clone());
    }
    let own: Vec<String> = own
        .into_iter()
        .map(|flag| crate::writing::quoted(flag))
        .collect();
    FieldValue::Expression(Expression::of(address).then(&format!(" + [{}]", own.join(", "))))
}

fn flags_definition((address, flags): &CommonFlags, command: &str) -> Definition {
    let flags: Vec<String> = flags
        .iter()
        .map(|flag| crate::writing::quoted(flag))
        .collect();
    let code = format!("[{}]", flags.join(", "));
    let documentation = format!("Compiler flags of `{command}` that all sources have.");
    Definition::new(
        Keyword::Let,
        address,
        documentation,
        Body::Code(code, BTreeSet::new()),
    )
    .private()
}

/// The kind of a kit that makes an artifact.
fn kind_of(artifact: ArtifactKind, is_fortran: bool, is_test: bool) -> &'static str {
    match artifact {
        ArtifactKind::Archive => "library",
        ArtifactKind::Shared if is_fortran => "library",
        ArtifactKind::Shared => "shared_library",
        ArtifactKind::Program if is_test => "test_program",
        ArtifactKind::Program => "program",
    }
}
