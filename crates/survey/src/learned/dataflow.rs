//! What became of what while a folder was built: which sources are in which objects, archives and
//! programs, and who wrote the rest.

use std::collections::{BTreeMap, BTreeSet};

use super::compilers::{
    ArchiverCall, CompilerCall, CompilerResult, Language, LinkItem, archiver_call, compiler_call,
    without_root,
};
use super::{SeenBuild, SeenProgram};
use crate::languages::is_fortran_source;
use crate::tree::{below, folder_of, joined, name_of};

/// A compiled source.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct ObjectUnit {
    pub source: String,
    pub language: Language,
    pub flags: Vec<String>,
    /// Folders of the tree that are searched, in order.
    pub include: Vec<String>,
    /// What the compiler read below the folder, but for the source.
    pub reads: BTreeSet<String>,
    /// The name of the object's file.
    name: String,
}

/// Something that is linked, or kept for that.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct Artifact {
    pub kind: ArtifactKind,
    /// Where it was made.
    pub path: String,
    /// Objects in it, by their places.
    pub objects: Vec<usize>,
    /// Archives and shared libraries that it was linked with, by their places.
    pub needs: Vec<usize>,
    /// Words for the linker that name no library of the folder.
    pub link_flags: Vec<String>,
    /// Other files that these words name.
    pub reads: BTreeSet<String>,
    /// Whether it is there when all is over.
    pub is_kept: bool,
    /// The programs that it ran as, by their places.
    pub runs: Vec<usize>,
}

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(super) enum ArtifactKind {
    Archive,
    Shared,
    Program,
}

/// What is at a path.
#[derive(Clone, PartialEq, Eq, Debug)]
enum Thing {
    /// Objects that became one file.
    Objects(Vec<usize>),
    Artifact(usize),
}

/// All that was made of sources.
#[derive(Default)]
pub(super) struct Dataflow {
    pub objects: Vec<ObjectUnit>,
    pub artifacts: Vec<Artifact>,
    /// The programs that wrote a file last, by its path: those that compile are not among them.
    pub writers: BTreeMap<String, Vec<usize>>,
    at: BTreeMap<String, Thing>,
    /// Which programs are part of another one that is understood as a whole.
    inside: Vec<bool>,
    /// The programs that each one started.
    children: Vec<Vec<usize>>,
}

impl Dataflow {
    /// Follows all programs of a build.
    pub fn of(build: &SeenBuild) -> Dataflow {
        let mut flow = Dataflow {
            children: vec![Vec::new(); build.programs.len()],
            ..Dataflow::default()
        };
        for (number, program) in build.programs.iter().enumerate() {
            if let Some(parent) = program.started_by {
                flow.children[parent].push(number);
            }
        }
        flow.inside = vec![false; build.programs.len()];
        for (number, program) in build.programs.iter().enumerate() {
            let is_inside = program.started_by.is_some_and(|parent| {
                flow.inside[parent] || flow.is_understood(&build.programs[parent])
            });
            flow.inside[number] = is_inside;
            if !is_inside {
                flow.follow(build, number, program);
            }
        }
        for (path, thing) in &flow.at {
            if let (Thing::Artifact(number), true) = (thing, build.made.contains(path)) {
                let artifact = &mut flow.artifacts[*number];
                artifact.is_kept = true;
                if !build.made.contains(&artifact.path) {
                    artifact.path = path.clone();
                }
            }
        }
        flow
    }

    fn is_understood(&self, program: &SeenProgram) -> bool {
        compiler_call(&program.words).is_some() || archiver_call(&program.words).is_some()
    }

    /// A program with all that it started.
    pub fn family(&self, number: usize) -> Vec<usize> {
        let mut all = vec![number];
        let mut next = 0;
        while next < all.len() {
            all.extend(&self.children[all[next]]);
            next += 1;
        }
        all
    }

    /// What a program and all that it started read.
    pub fn reads(&self, build: &SeenBuild, number: usize) -> BTreeSet<String> {
        let family = self.family(number);
        family
            .into_iter()
            .flat_map(|one| build.programs[one].reads.iter().cloned())
            .collect()
    }

    /// The artifact at a path.
    pub fn artifact_at(&self, path: &str) -> Option<usize> {
        match self.at.get(path)? {
            Thing::Artifact(artifact) => Some(*artifact),
            Thing::Objects(_) => None,
        }
    }

    fn follow(&mut self, build: &SeenBuild, number: usize, program: &SeenProgram) {
        let file = program
            .file
            .as_deref()
            .map(|file| build.behind(file).unwrap_or(file));
        if let Some(artifact) = file.and_then(|file| self.artifact_at(file)) {
            self.artifacts[artifact].runs.push(number);
        }
        // Where it ran outside of the folder, its words lead there.
        let Some(folder) = program.folder.as_deref() else {
            return;
        };
        let here = |word: &str| build.path(folder, word);
        let words = build.words(program);
        if let Some(call) = compiler_call(&words) {
            return self.compiles(build, number, &call, &here);
        }
        match archiver_call(&words) {
            Some(ArchiverCall::Adds { archive, members }) => {
                return self.archives(&archive, &members, &here);
            }
            Some(ArchiverCall::Extracts { archive }) => {
                return self.extracts(folder, &archive, &here);
            }
            None => {}
        }
        if name_of(program.words.first().map_or("", String::as_str)) == "ld"
            && self.joins(program, &here)
        {
            return;
        }
        self.moves(program, &here);
        let to_stream = program.stdout.iter();
        for path in program.writes.iter().chain(to_stream) {
            if self.at.contains_key(path) && !program.renamed.iter().any(|(_, to)| to == path) {
                continue;
            }
            let writers = self.writers.entry(path.clone()).or_default();
            if !writers.contains(&number) {
                writers.push(number);
            }
        }
        for (from, to) in &program.renamed {
            if let Some(writers) = self.writers.get(from).cloned() {
                self.writers.insert(to.clone(), writers);
            }
        }
    }

    fn compiles(
        &mut self,
        build: &SeenBuild,
        number: usize,
        call: &CompilerCall,
        here: &dyn Fn(&str) -> Option<String>,
    ) {
        let reads = self.reads(build, number);
        let mut own = Vec::new();
        for source in &call.sources {
            let Some(path) = here(source) else { continue };
            let own_flags = call
                .flags
                .iter()
                .map(|flag| without_root(&build.root, flag));
            let (mut include, mut flags): (Vec<String>, Vec<String>) =
                (Vec::new(), own_flags.collect());
            for folder in &call.include {
                match here(folder) {
                    Some(folder) => include.push(folder),
                    None => flags.push(format!("-I{folder}")),
                }
            }
            with_included(&mut flags, &include, &reads, build, here);
            let language = match is_fortran_source(&path) {
                true => Language::Fortran,
                false => call.language,
            };
            // What is linked by the same call is no part of the source.
            let is_source = |read: &&String| **read != path && !self.at.contains_key(*read);
            let reads = reads.iter().filter(is_source).cloned().collect();
            let name = name_of(&call.object_of(source)).to_owned();
            self.objects.push(ObjectUnit {
                source: path,
                language,
                flags,
                include,
                reads,
                name,
            });
            own.push(self.objects.len() - 1);
        }
        if call.stage == CompilerResult::Objects {
            for (source, object) in call.sources.iter().zip(own) {
                if let Some(path) = here(&call.object_of(source)) {
                    self.at.insert(path, Thing::Objects(vec![object]));
                }
            }
            return;
        }
        self.links(build, call, (own, &reads), here);
    }

    /// A program or shared library that a call makes of its own objects, and of what it is given.
    fn links(
        &mut self,
        build: &SeenBuild,
        call: &CompilerCall,
        (own, reads): (Vec<usize>, &BTreeSet<String>),
        here: &dyn Fn(&str) -> Option<String>,
    ) {
        let Some(path) = here(call.linked()) else {
            return;
        };
        let kind = match call.stage {
            CompilerResult::Shared => ArtifactKind::Shared,
            _ => ArtifactKind::Program,
        };
        let mut made = Artifact {
            kind,
            path: path.clone(),
            objects: own,
            needs: Vec::new(),
            link_flags: call.link_words(),
            reads: BTreeSet::new(),
            is_kept: false,
            runs: Vec::new(),
        };
        made.link_flags.retain(|word| word != "-shared");
        for word in &mut made.link_flags {
            let (mapped, named) = with_files_from_root(word, reads, here);
            *word = without_root(&build.root, &mapped);
            made.reads.extend(named);
        }
        let elsewhere = call.library_folders.iter();
        let elsewhere = elsewhere.filter(|folder| here(folder).is_none());
        made.link_flags
            .extend(elsewhere.map(|folder| format!("-L{folder}")));
        for item in &call.links {
            match item {
                LinkItem::File(file) => match self.thing_of(build, file, here) {
                    Some(Thing::Objects(objects)) => made.objects.extend(objects),
                    Some(Thing::Artifact(artifact)) => made.needs.push(*artifact),
                    None => {}
                },
                LinkItem::Library(name) => match self.library(build, name, call, here) {
                    Some(artifact) => made.needs.push(artifact),
                    None => made.link_flags.push(format!("-l{name}")),
                },
                LinkItem::Word(_) => {}
            }
        }
        // However it is named: a library that was read is linked.
        let read = reads.iter().filter_map(|path| self.artifact_at(path));
        for artifact in read {
            let is_library = self.artifacts[artifact].kind != ArtifactKind::Program;
            if is_library && !made.needs.contains(&artifact) {
                made.needs.push(artifact);
            }
        }
        self.artifacts.push(made);
        self.at
            .insert(path, Thing::Artifact(self.artifacts.len() - 1));
    }

    /// The thing that a file of the build is, perhaps by way of a link.
    fn thing_of(
        &self,
        build: &SeenBuild,
        file: &str,
        here: &dyn Fn(&str) -> Option<String>,
    ) -> Option<&Thing> {
        let path = here(file)?;
        let behind = || self.at.get(build.behind(&path)?);
        self.at.get(&path).or_else(behind)
    }

    /// The library of the folder that a name means, where a call searches for it.
    fn library(
        &self,
        build: &SeenBuild,
        name: &str,
        call: &CompilerCall,
        here: &dyn Fn(&str) -> Option<String>,
    ) -> Option<usize> {
        let folders = call
            .library_folders
            .iter()
            .filter_map(|folder| here(folder));
        let mut paths = folders
            .flat_map(|folder| ["so", "a"].map(|end| joined(&folder, &format!("lib{name}.{end}"))));
        paths.find_map(|path| {
            let path = path?;
            self.artifact_at(&path)
                .or_else(|| self.artifact_at(build.behind(&path)?))
        })
    }

    fn archives(
        &mut self,
        archive: &str,
        members: &[String],
        here: &dyn Fn(&str) -> Option<String>,
    ) {
        let Some(path) = here(archive) else { return };
        let known = self.artifact_at(&path);
        let number = known.unwrap_or_else(|| {
            self.artifacts.push(Artifact {
                kind: ArtifactKind::Archive,
                path: path.clone(),
                objects: Vec::new(),
                needs: Vec::new(),
                link_flags: Vec::new(),
                reads: BTreeSet::new(),
                is_kept: false,
                runs: Vec::new(),
            });
            self.artifacts.len() - 1
        });
        for member in members {
            let Some(member) = here(member) else { continue };
            match self.at.get(&member) {
                Some(Thing::Objects(objects)) => {
                    for object in objects {
                        // An object of the same name takes the place of the one before.
                        let name = &self.objects[*object].name;
                        let artifact = &mut self.artifacts[number];
                        artifact
                            .objects
                            .retain(|other| self.objects[*other].name != *name);
                        artifact.objects.push(*object);
                    }
                }
                Some(Thing::Artifact(other)) if *other != number => {
                    let more = self.artifacts[*other].objects.clone();
                    self.artifacts[number].objects.extend(more);
                }
                _ => {}
            }
        }
        self.at.insert(path, Thing::Artifact(number));
    }

    fn extracts(&mut self, folder: &str, archive: &str, here: &dyn Fn(&str) -> Option<String>) {
        let Some(artifact) = here(archive).and_then(|path| self.artifact_at(&path)) else {
            return;
        };
        for object in self.artifacts[artifact].objects.clone() {
            if let Some(path) = joined(folder, &self.objects[object].name) {
                self.at.insert(path, Thing::Objects(vec![object]));
            }
        }
    }

    /// Objects that a linker makes one of. Says whether it did.
    fn joins(&mut self, program: &SeenProgram, here: &dyn Fn(&str) -> Option<String>) -> bool {
        if !program.words.iter().any(|word| word == "-r") {
            return false;
        }
        let at_output = program.words.iter().position(|word| word == "-o");
        let Some(output) = at_output.and_then(|at| here(program.words.get(at + 1)?)) else {
            return false;
        };
        let inputs = program
            .words
            .iter()
            .filter_map(|word| self.at.get(&here(word)?));
        let objects = inputs.filter_map(|thing| match thing {
            Thing::Objects(objects) => Some(objects.clone()),
            Thing::Artifact(_) => None,
        });
        let objects = objects.flatten().collect();
        self.at.insert(output, Thing::Objects(objects));
        true
    }

    /// What is copied, linked or renamed is the same thing at another place.
    fn moves(&mut self, program: &SeenProgram, here: &dyn Fn(&str) -> Option<String>) {
        for (from, to) in &program.renamed {
            if let Some(thing) = self.at.get(from).cloned() {
                self.now_at(to, thing);
            }
        }
        let name = name_of(program.words.first().map_or("", String::as_str));
        if !["cp", "ln", "mv", "install", "ginstall"].contains(&name) {
            return;
        }
        let from: Vec<String> = program.words[1..]
            .iter()
            .filter_map(|word| here(word))
            .filter(|path| self.at.contains_key(path))
            .collect();
        for to in program.writes.iter().filter(|to| !from.contains(to)) {
            let same_name = from.iter().find(|path| name_of(path) == name_of(to));
            let only = if from.len() == 1 { from.first() } else { None };
            if let Some(thing) = same_name
                .or(only)
                .and_then(|path| self.at.get(path))
                .cloned()
            {
                self.now_at(to, thing);
            }
        }
    }

    fn now_at(&mut self, path: &str, thing: Thing) {
        // People get it from where it is in the end.
        if let Thing::Artifact(number) = thing
            && folder_of(&self.artifacts[number].path).ends_with(".libs")
        {
            self.artifacts[number].path = path.to_owned();
        }
        self.at.insert(path.to_owned(), thing);
    }
}

/// Names headers that flags include as they are found from the workspace's root, wherever the
/// compiler ran.
fn with_included(
    flags: &mut [String],
    include: &[String],
    reads: &BTreeSet<String>,
    build: &SeenBuild,
    here: &dyn Fn(&str) -> Option<String>,
) {
    for at in 1..flags.len() {
        if !["-include", "-imacros"].contains(&flags[at - 1].as_str()) {
            continue;
        }
        let Some(path) = here(&flags[at]).filter(|path| reads.contains(path)) else {
            continue;
        };
        let inside = |folder: &String| {
            crate::tree::is_below(&path, folder).then(|| below(&path, folder).to_owned())
        };
        flags[at] = match build.made.contains(&path) {
            // What is made is elsewhere, and found as other headers are.
            true => include
                .iter()
                .find_map(inside)
                .unwrap_or_else(|| name_of(&path).to_owned()),
            false => path,
        };
    }
}

/// A word for the linker with the paths of files that it read from the workspace's root, and these
/// files.
fn with_files_from_root(
    word: &str,
    reads: &BTreeSet<String>,
    here: &dyn Fn(&str) -> Option<String>,
) -> (String, Vec<String>) {
    let mut named = Vec::new();
    let parts = word.split_inclusive([',', '=']).map(|part| {
        let bare = part.trim_end_matches([',', '=']);
        match here(bare).filter(|path| !bare.is_empty() && reads.contains(path)) {
            Some(path) => {
                named.push(path.clone());
                path + &part[bare.len()..]
            }
            None => part.to_owned(),
        }
    });
    let word = parts.collect();
    (word, named)
}
