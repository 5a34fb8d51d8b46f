//! Files that programs made while a folder was built, as steps with the commands of these programs.

use std::collections::{BTreeMap, BTreeSet};

use super::dataflow::Dataflow;
use super::{SeenBuild, SeenProgram};
use crate::proposal::{
    Body, Definition, DefinitionAddress, Expression, FieldValue, FormCall, Keyword, WritablePlace,
};
use crate::tree::{SourceTree, name_of};
use crate::writing::quoted;

/// A file that a definition makes.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct MadeFile {
    /// The definition.
    pub address: DefinitionAddress,
    /// Its name among several outputs.
    pub output: Option<String>,
}

impl MadeFile {
    /// The value of a field that takes it.
    pub fn value(&self) -> FieldValue {
        match &self.output {
            None => FieldValue::Of(self.address.clone()),
            Some(_) => FieldValue::Expression(self.reference()),
        }
    }

    /// How it is written.
    fn reference(&self) -> Expression {
        let name = Expression::of(&self.address);
        match &self.output {
            None => name,
            Some(output) => name.then(&format!(".{output}")),
        }
    }
}

/// What is known while commands become steps.
pub(super) struct Generators<'a> {
    pub tree: &'a SourceTree,
    /// The folder, from the workspace's root.
    pub top: &'a str,
    pub build: &'a SeenBuild,
    pub flow: &'a Dataflow,
    /// Files that compilers read.
    pub compiled: BTreeSet<String>,
    /// The definitions of programs that are built, by their artifacts.
    pub programs: BTreeMap<usize, DefinitionAddress>,
    /// What is defined already.
    pub made: BTreeMap<String, Option<MadeFile>>,
    /// The definitions.
    pub definitions: Vec<Definition>,
    /// Programs that make something that is compiled.
    pub needed: BTreeSet<usize>,
    /// For what no definition could be written, and why.
    pub left: Vec<(String, String)>,
}

/// A command that makes files, while it is written.
#[derive(Default)]
struct Recipe {
    /// The files that it makes, each with the name of the output where there are several.
    outputs: Vec<(String, Option<String>)>,
    /// Outputs that a word names.
    named: BTreeSet<String>,
    /// Inputs that a word names.
    inputs: BTreeSet<String>,
    /// Files of the tree that it takes.
    takes: BTreeSet<String>,
    /// Definitions whose results it takes.
    uses: BTreeSet<DefinitionAddress>,
    /// The programs of the command, where it is made of their words.
    programs: Vec<usize>,
}

/// A run of a program that was built, which makes nothing that is compiled.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct SeenRun {
    /// The program that ran, by its place.
    pub number: usize,
    /// The same run as a check.
    pub check: FormCall,
    /// Whether it reads nothing that is made but its own program, so that a kit's test can say it.
    pub is_plain: bool,
}

/// Why a file gets no definition.
const NOBODY: &str = "no program was seen that makes it";

impl Generators<'_> {
    /// The definition that makes a file; written now if it is not there yet. Nothing where none can
    /// be.
    pub fn file(
        &mut self,
        path: &str,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Option<MadeFile> {
        if let Some(known) = self.made.get(path) {
            return known.clone();
        }
        // Whoever leads back here finds nothing.
        self.made.insert(path.to_owned(), None);
        let written = self.written(path, name).or_else(|| self.copied(path, name));
        if written.is_none() {
            self.left.push((path.to_owned(), NOBODY.to_owned()));
        }
        written
    }

    /// What of the files that programs wrote is compiled, and `path`.
    fn outputs_of(&self, programs: &[usize], path: &str) -> BTreeSet<String> {
        let all_writes = programs.iter().flat_map(|one| {
            let program = &self.build.programs[*one];
            program
                .writes
                .iter()
                .chain(&program.stdout)
                .chain(program.renamed.iter().map(|(_, to)| to))
        });
        let is_output = |file: &&String| {
            self.build.made.contains(*file) && (self.compiled.contains(*file) || *file == path)
        };
        all_writes.filter(is_output).cloned().collect()
    }

    /// A file as the commands that were seen make it.
    fn written(
        &mut self,
        path: &str,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Option<MadeFile> {
        let writers = self.flow.writers.get(path)?.clone();
        let (number, by_text) = self.maker(path, &writers)?;
        let family = self.flow.family(number);
        let outputs = self.outputs_of(&family, path);
        let mut recipe = Recipe {
            outputs: named_outputs(outputs)?,
            ..Recipe::default()
        };
        let command = match by_text {
            true => self.text_command(number, &mut recipe, name)?,
            false => self.words_command(number, &mut recipe, name)?,
        };
        // What was there for a moment only is nobody's input.
        let reads = self.flow.reads(self.build, number);
        if !reads.iter().all(|read| self.is_lasting(read, &recipe)) {
            return None;
        }
        self.needed.extend(family.iter().chain(&recipe.programs));
        let mut fields = vec![("say", FieldValue::text(format!("make {}", name_of(path))))];
        let outputs = recipe.outputs.iter();
        let unnamed: Vec<&(String, Option<String>)> = outputs
            .filter(|(file, _)| !recipe.named.contains(file))
            .collect();
        // Who chooses itself where it writes cannot be given a place for some of it.
        if !unnamed.is_empty() && !recipe.named.is_empty() {
            return None;
        }
        fields.push(("run", FieldValue::Expression(command)));
        if !unnamed.is_empty() {
            let program = &self.build.programs[number];
            let own = program.folder.clone().unwrap_or_default();
            let row = |(file, output): &&(String, Option<String>)| {
                let output = output.clone().unwrap_or_else(|| output_name(file));
                (output, FieldValue::text(crate::tree::below(file, &own)))
            };
            fields.push(("makes", FieldValue::Map(unnamed.iter().map(row).collect())));
        }
        let more = self.more_inputs(number, &mut recipe, name);
        if !more.is_empty() {
            fields.push(("reads", FieldValue::List(more)));
        }
        let address = name(&output_name(path));
        let command = &self.build.command;
        let documentation = format!("{}, as `{command}` makes it.", name_of(path));
        let body = Body::Form(FormCall {
            form: "step",
            fields,
            takes: recipe.takes,
        });
        let definition = Definition::new(Keyword::Target, &address, documentation, body);
        self.definitions.push(definition.private());
        for (file, output) in recipe.outputs {
            let address = address.clone();
            self.made.insert(file, Some(MadeFile { address, output }));
        }
        self.made.get(path).cloned().flatten()
    }

    /// A run of a program as a check.
    ///
    /// # Errors
    /// Why it cannot be one.
    pub fn run(
        &mut self,
        number: usize,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Result<SeenRun, String> {
        let program = &self.build.programs[number];
        let own = program.folder.clone().unwrap_or_default();
        let mut recipe = Recipe::default();
        let command = self.words_command(number, &mut recipe, name);
        let command = command.ok_or("it reads what nobody was seen to make")?;
        let is_plain =
            recipe.uses.len() <= 1 && program.stdin.is_none() && program.pipe_in.is_none();
        let named = recipe.inputs.len();
        let more = self.more_inputs(number, &mut recipe, name);
        self.only_what_is_made(number, &recipe)?;
        let is_plain = is_plain && recipe.uses.len() <= 1;
        let mut fields = vec![("run", FieldValue::Expression(command))];
        let mut files: BTreeSet<String> = more.iter().flat_map(files_of).collect();
        let is_made = |value: &FieldValue| !matches!(value, FieldValue::Files(_));
        let made: Vec<FieldValue> = more.into_iter().filter(is_made).collect();
        let writes = self.writes_where_it_runs(number);
        let mut empty = BTreeSet::new();
        for folder in self.folders_written(number) {
            let first = self.tree.inside(&folder).next().map(str::to_owned);
            match first {
                Some(file) => drop(files.insert(file)),
                None => drop(empty.insert(folder)),
            }
        }
        let is_beside = |path: &String| writes && crate::tree::is_below(path, &own);
        let (beside, elsewhere): (BTreeSet<String>, BTreeSet<String>) =
            files.into_iter().partition(is_beside);
        if writes {
            let place = WritablePlace {
                root: own,
                files: beside,
                empty,
            };
            fields.push(("folder", FieldValue::Place(place)));
        } else if own.is_empty() || (named == recipe.inputs.len() && self.listed(number).is_empty())
        {
            // All that it reads has its place in the words.
        } else if self.tree.has_folder(&own) {
            fields.push(("folder", FieldValue::Folder(own)));
        } else {
            return Err(format!(
                "it runs in {own}, which is no folder of the sources"
            ));
        }
        let elsewhere = Some(elsewhere).filter(|files| !files.is_empty());
        let mut reads: Vec<FieldValue> = elsewhere.map(FieldValue::Files).into_iter().collect();
        reads.extend(made);
        if !reads.is_empty() {
            fields.push(("reads", FieldValue::List(reads)));
        }
        let check = FormCall {
            form: "check",
            fields,
            takes: recipe.takes,
        };
        Ok(SeenRun {
            number,
            check,
            is_plain,
        })
    }

    /// Refuses a run of a program that reads what nobody was seen to make.
    fn only_what_is_made(&self, number: usize, recipe: &Recipe) -> Result<(), String> {
        let lasting = self.flow.reads(self.build, number);
        let is_input =
            |path: &&String| self.build.made.contains(*path) && !self.is_own_work(number, path);
        let is_unknown = |path: &&String| !recipe.inputs.contains(*path) && !self.is_of_kit(path);
        match lasting.iter().filter(is_input).find(is_unknown) {
            Some(path) => Err(format!("it reads {path}, and nobody was seen to make that")),
            None => Ok(()),
        }
    }

    /// Whether a program writes in the folder where it runs, or below it.
    fn writes_where_it_runs(&self, number: usize) -> bool {
        let family = self.flow.family(number);
        let own = self.build.programs[number]
            .folder
            .clone()
            .unwrap_or_default();
        let mut writes = family
            .iter()
            .flat_map(|one| &self.build.programs[*one].writes);
        writes.any(|path| crate::tree::is_below(path, &own))
    }

    /// The folders below its own in which a program writes: they must be there.
    fn folders_written(&self, number: usize) -> BTreeSet<String> {
        let family = self.flow.family(number);
        let writes = family
            .iter()
            .flat_map(|one| &self.build.programs[*one].writes);
        let own = self.build.programs[number]
            .folder
            .clone()
            .unwrap_or_default();
        let folders = writes.map(|path| crate::tree::folder_of(path).to_owned());
        folders
            .filter(|folder| *folder != own && crate::tree::is_below(folder, &own))
            .collect()
    }

    /// Whether a program made a file itself, or one that it started.
    fn is_own_work(&self, number: usize, path: &str) -> bool {
        let family = self.flow.family(number);
        self.flow
            .writers
            .get(path)
            .is_some_and(|writers| writers.iter().all(|one| family.contains(one)))
    }

    /// Whether a kit makes a file, which knows itself who needs it.
    fn is_of_kit(&self, path: &str) -> bool {
        !self.flow.writers.contains_key(path)
    }

    /// Whether a file can be an input: it is in the tree, or made and there when all is over, or an
    /// output of the command itself.
    fn is_lasting(&self, path: &str, recipe: &Recipe) -> bool {
        self.tree.has(path)
            || self.build.made.contains(path)
            || recipe
                .outputs
                .iter()
                .any(|(output, _)| self.leads_to(path, output))
    }

    /// A short text as it was made here, where nobody can say how.
    fn copied(
        &mut self,
        path: &str,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Option<MadeFile> {
        let text = self.build.texts.get(path)?;
        let begins = text
            .lines()
            .any(|line| line.starts_with(|c: char| !c.is_whitespace()));
        if text.contains("'''")
            || !text.ends_with('\n')
            || text
                .chars()
                .any(|c| c.is_control() && !['\n', '\t'].contains(&c))
            || !begins
        {
            return None;
        }
        let lines: String = text
            .lines()
            .map(|line| {
                if line.is_empty() {
                    "\n".to_owned()
                } else {
                    format!("        {line}\n")
                }
            })
            .collect();
        let code = format!(
            "write {{\n    path = {}\n    text = '''\n{lines}        '''\n}}",
            quoted(path)
        );
        let address = name(&output_name(path));
        let reason = format!(
            "As `{}` made it on this machine: nubrik does not know how, so another machine gets the same.",
            self.build.command
        );
        let body = Body::Code(code, BTreeSet::new());
        let copy = Definition::new(
            Keyword::Target,
            &address,
            format!("{}.", name_of(path)),
            body,
        );
        self.definitions.push(copy.private().because(vec![reason]));
        let made = MadeFile {
            address,
            output: None,
        };
        self.made.insert(path.to_owned(), Some(made.clone()));
        Some(made)
    }

    /// The program whose command makes a file, and whether that is the text of a shell's command.
    fn maker(&self, path: &str, writers: &[usize]) -> Option<(usize, bool)> {
        let programs = &self.build.programs;
        // A redirection of a shell is its own work, but what is written is the program's.
        let by_stream: Vec<usize> = writers
            .iter()
            .copied()
            .filter(|number| {
                programs[*number]
                    .stdout
                    .as_deref()
                    .is_some_and(|to| self.leads_to(to, path))
            })
            .collect();
        let own: Vec<usize> = writers
            .iter()
            .copied()
            .filter(|number| shell_text(&programs[*number]).is_none())
            .collect();
        let one = match (by_stream.as_slice(), own.as_slice()) {
            // The shell that started it opened the file for it.
            ([one], _)
                if own
                    .iter()
                    .all(|other| other == one || self.is_above(*other, *one)) =>
            {
                Some(*one)
            }
            ([], [one]) => Some(*one),
            _ => None,
        };
        // A script that runs as a whole is not taken apart: its own commands depend on what it
        // knows.
        if let Some(one) = one
            && !self.is_of_script(one)
        {
            return Some((one, false));
        }
        let first = *writers.first()?;
        let mut above = Some(first);
        while let Some(number) = above {
            let program = &programs[number];
            if shell_text(program).is_some_and(|text| number > 0 && text.contains(name_of(path))) {
                return Some((number, true));
            }
            if is_script(program, self.tree) && number > 0 && self.is_small(number) {
                return Some((number, false));
            }
            above = program.started_by;
        }
        None
    }

    /// Whether a program started another one, directly or not.
    fn is_above(&self, number: usize, other: usize) -> bool {
        let above = |one: &usize| self.build.programs[*one].started_by;
        std::iter::successors(above(&other), above).any(|one| one == number)
    }

    /// Whether a file became another one by being renamed.
    fn leads_to(&self, from: &str, path: &str) -> bool {
        let mut at = from.to_owned();
        let renames = self
            .build
            .programs
            .iter()
            .flat_map(|program| &program.renamed);
        for (old, new) in renames {
            if *old == at {
                at.clone_from(new);
            }
        }
        from == path || at == path
    }

    /// Whether a program was started by a script of the tree that is one command.
    fn is_of_script(&self, number: usize) -> bool {
        let mut above = self.build.programs[number].started_by;
        while let Some(number) = above {
            let program = &self.build.programs[number];
            if number > 0 && is_script(program, self.tree) && self.is_small(number) {
                return true;
            }
            above = self.build.programs[number].started_by;
        }
        false
    }

    /// Whether a script is one command and no whole build: it compiles nothing.
    fn is_small(&self, number: usize) -> bool {
        let family = self.flow.family(number);
        let compiles = |one: &usize| {
            super::compilers::compiler_call(&self.build.words(&self.build.programs[*one])).is_some()
        };
        !family.iter().any(compiles)
    }

    /// The words of a program, and of those whose output it reads, as a command.
    fn words_command(
        &mut self,
        number: usize,
        recipe: &mut Recipe,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Option<Expression> {
        let mut stages = vec![number];
        let build = self.build;
        while let Some(pipe) = stages
            .last()
            .and_then(|last| build.programs[*last].pipe_in.clone())
        {
            let last = *stages.last()?;
            let before = &build.programs[..last.max(1)];
            let giver = before
                .iter()
                .rposition(|one| one.pipe_out.as_ref() == Some(&pipe))?;
            stages.push(giver);
        }
        stages.reverse();
        let mut parts = Vec::new();
        for stage in stages {
            recipe.programs.push(stage);
            let program = &build.programs[stage];
            let folder = program.folder.clone()?;
            let mut words = Vec::new();
            for (at, word) in program.words.iter().enumerate() {
                // How it was called is not where it is.
                let own = program.file.as_deref().filter(|_| at == 0);
                let own = own.and_then(|file| self.known_hole(file, recipe, name));
                words.push(match own {
                    Some(own) => own,
                    None => self.word(word, &folder, recipe, name, at == 0)?,
                });
            }
            if let Some(from) = &program.stdin {
                words.push(Expression::text("< ").with(self.hole(from, recipe, name)?));
            }
            if let Some(to) = &program.stdout {
                words.push(Expression::text("> ").with(self.output_behind(to, recipe)?));
            }
            parts.push(Expression::joined(words, " "));
        }
        Some(
            Expression::text("`")
                .with(Expression::joined(parts, " | "))
                .then("`"),
        )
    }

    /// The hole for an output that is written under this name, or renamed to its own later.
    fn output_behind(&self, written: &str, recipe: &mut Recipe) -> Option<Expression> {
        let path = recipe
            .outputs
            .iter()
            .map(|(path, _)| path)
            .find(|path| self.leads_to(written, path))?
            .clone();
        output_hole(&path, recipe)
    }

    /// One word of a command.
    fn word(
        &mut self,
        word: &str,
        folder: &str,
        recipe: &mut Recipe,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
        is_first: bool,
    ) -> Option<Expression> {
        if word.contains('`') || word.contains('\n') {
            return None;
        }
        // A path alone, behind `=`, or behind an option of one letter.
        let behind = word.find('=').map(|at| at + 1);
        let short =
            (word.starts_with('-') && word.len() > 2 && word.is_char_boundary(2)).then_some(2);
        for at in [Some(0), behind, short].into_iter().flatten() {
            let Some(path) = self
                .build
                .path(folder, &word[at..])
                .filter(|path| !path.is_empty())
            else {
                continue;
            };
            let before = if at == 0 {
                String::new()
            } else {
                plain(&word[..at])
            };
            let before = Expression::text(before);
            if let Some(hole) = self.known_hole(&path, recipe, name) {
                return Some(before.with(hole));
            }
            if at > 0 && self.tree.has_folder(&path) {
                return Some(before.then(&plain(&self.in_workspace(&path))));
            }
        }
        Some(Expression::text(if is_first {
            plain(name_of(word))
        } else {
            plain(word)
        }))
    }

    fn in_workspace(&self, path: &str) -> String {
        if self.top.is_empty() {
            path.to_owned()
        } else {
            format!("{}/{path}", self.top)
        }
    }

    /// The hole for a file that is known: an output, a file of the tree, something that is made.
    fn known_hole(
        &mut self,
        path: &str,
        recipe: &mut Recipe,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Option<Expression> {
        if recipe.outputs.iter().any(|(output, _)| output == path) {
            return output_hole(path, recipe);
        }
        self.hole(path, recipe, name)
    }

    /// The hole for an input.
    fn hole(
        &mut self,
        path: &str,
        recipe: &mut Recipe,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Option<Expression> {
        if let Some(program) = self
            .flow
            .artifact_at(path)
            .and_then(|artifact| self.programs.get(&artifact))
        {
            recipe.inputs.insert(path.to_owned());
            recipe.uses.insert(program.clone());
            return Some(
                Expression::text("{")
                    .with(Expression::of(program))
                    .then("}"),
            );
        }
        if self.tree.has(path) {
            recipe.inputs.insert(path.to_owned());
            recipe.takes.insert(path.to_owned());
            return Some(Expression::text(format!("{{in {}}}", quoted(path))));
        }
        if self.build.made.contains(path) && self.flow.writers.contains_key(path) {
            let made = self.file(path, name)?;
            recipe.inputs.insert(path.to_owned());
            recipe.uses.insert(made.address.clone());
            return Some(Expression::text("{").with(made.reference()).then("}"));
        }
        None
    }

    /// The text of a shell's command, with the files that are used in holes.
    fn text_command(
        &mut self,
        number: usize,
        recipe: &mut Recipe,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Option<Expression> {
        let program = self.build.programs[number].clone();
        let (text, folder) = (shell_text(&program)?.to_owned(), program.folder?);
        if text.contains('`') {
            return None;
        }
        let family = self.flow.family(number);
        let touched: BTreeSet<String> = family
            .iter()
            .flat_map(|one| {
                let program = &self.build.programs[*one];
                program
                    .reads
                    .iter()
                    .chain(&program.writes)
                    .chain(&program.file)
                    .cloned()
            })
            .collect();
        let is_of_path = |c: char| c.is_alphanumeric() || "_./+-".contains(c);
        let mut out = Expression::text("sh`");
        let mut rest = text.as_str();
        while !rest.is_empty() {
            let end = rest.find(|c| !is_of_path(c)).unwrap_or(rest.len());
            if end == 0 {
                let next = rest.chars().next()?;
                out = match next {
                    '{' => out.then("{{"),
                    '}' => out.then("}}"),
                    other => out.then(other.encode_utf8(&mut [0; 4])),
                };
                rest = &rest[next.len_utf8()..];
                continue;
            }
            let token = &rest[..end];
            let path = self
                .build
                .path(&folder, token)
                .filter(|path| touched.contains(path));
            out = match path.and_then(|path| self.known_hole(&path, recipe, name)) {
                Some(hole) => out.with(hole),
                None => out.then(token),
            };
            rest = &rest[end..];
        }
        Some(out.then("`"))
    }

    /// What a command reads besides the files in its words, as it is written in a list.
    fn more_inputs(
        &mut self,
        number: usize,
        recipe: &mut Recipe,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Vec<FieldValue> {
        let mut reads = self.flow.reads(self.build, number);
        reads.extend(self.listed(number));
        let mut more = Vec::new();
        let mut files = BTreeSet::new();
        for path in reads
            .into_iter()
            .filter(|path| !recipe.outputs.iter().any(|(output, _)| output == path))
        {
            if recipe.inputs.contains(&path) {
                continue;
            }
            if self.tree.has(&path) {
                recipe.inputs.insert(path.clone());
                files.insert(path);
            } else if let Some(program) = self
                .flow
                .artifact_at(&path)
                .and_then(|artifact| self.programs.get(&artifact))
            {
                recipe.inputs.insert(path);
                recipe.uses.insert(program.clone());
                more.push(FieldValue::Of(program.clone()));
            } else if self.build.made.contains(&path)
                && self.flow.writers.contains_key(&path)
                && !self.is_own_work(number, &path)
                && let Some(made) = self.file(&path, name)
            {
                recipe.inputs.insert(path);
                recipe.uses.insert(made.address.clone());
                more.push(made.value());
            }
        }
        if !files.is_empty() {
            more.insert(0, FieldValue::Files(files));
        }
        more
    }

    /// The files of the tree in folders that a program looked through.
    fn listed(&self, number: usize) -> BTreeSet<String> {
        let family = self.flow.family(number);
        let folders = family
            .iter()
            .flat_map(|one| &self.build.programs[*one].lists);
        folders
            .flat_map(|folder| self.tree.inside(folder))
            .map(str::to_owned)
            .collect()
    }
}

/// Outputs of a command with their names, which several need.
fn named_outputs(outputs: BTreeSet<String>) -> Option<Vec<(String, Option<String>)>> {
    let is_alone = outputs.len() == 1;
    let named = outputs.into_iter().map(|file| {
        let name = (!is_alone).then(|| output_name(&file));
        (file, name)
    });
    let named: Vec<_> = named.collect();
    (!named.is_empty()).then_some(named)
}

/// The files of the tree that a value names.
fn files_of(value: &FieldValue) -> BTreeSet<String> {
    match value {
        FieldValue::Files(files) => files.clone(),
        _ => BTreeSet::new(),
    }
}

/// The hole for an output.
fn output_hole(path: &str, recipe: &mut Recipe) -> Option<Expression> {
    let (_, output) = recipe.outputs.iter().find(|(known, _)| known == path)?;
    recipe.named.insert(path.to_owned());
    Some(Expression::text(match output {
        Some(output) => format!("{{out {output} {}}}", quoted(path)),
        None => format!("{{out {}}}", quoted(path)),
    }))
}

/// The name of an output: that of its file, in the letters of a name.
fn output_name(path: &str) -> String {
    let letters = name_of(path).to_lowercase();
    let letter = |c: char| {
        if c.is_ascii_lowercase() || c.is_ascii_digit() {
            c
        } else {
            '_'
        }
    };
    letters
        .chars()
        .map(letter)
        .collect::<String>()
        .trim_matches('_')
        .to_owned()
}

/// The text that a shell was given as its command.
fn shell_text(program: &SeenProgram) -> Option<&str> {
    let [shell, option, text, ..] = program.words.as_slice() else {
        return None;
    };
    let is_shell = ["sh", "bash", "dash", "ksh", "zsh"].contains(&name_of(shell));
    let gives_text = option.starts_with('-') && !option.starts_with("--") && option.ends_with('c');
    (is_shell && gives_text).then_some(text)
}

/// Whether a program is a script of the tree, or a shell that runs one.
fn is_script(program: &SeenProgram, tree: &SourceTree) -> bool {
    if program.file.as_deref().is_some_and(|file| tree.has(file)) {
        return true;
    }
    let [shell, script, ..] = program.words.as_slice() else {
        return false;
    };
    let is_shell = ["sh", "bash", "dash", "ksh", "zsh"].contains(&name_of(shell));
    let folder = program.folder.as_deref().unwrap_or_default();
    is_shell && crate::tree::joined(folder, script).is_some_and(|path| tree.has(&path))
}

/// A word of a command as it is written.
fn plain(word: &str) -> String {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "_./=:,+@%-".contains(c);
    if word.chars().all(is_plain) && !word.is_empty() {
        return word.to_owned();
    }
    if !word.contains('\'') {
        return format!("'{word}'");
    }
    let mut text = String::from("\"");
    for c in word.chars() {
        match c {
            '"' | '\\' => {
                text.push('\\');
                text.push(c);
            }
            '{' => text.push_str("{{"),
            '}' => text.push_str("}}"),
            other => text.push(other),
        }
    }
    text + "\""
}
