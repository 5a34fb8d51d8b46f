//! Files that programs made while a folder was built, as steps with the commands of these programs.

use std::collections::{BTreeMap, BTreeSet};

use super::dataflow::Dataflow;
use super::{SeenBuild, SeenProgram};
use crate::proposal::{Body, Definition, DefinitionAddress, Keyword};
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
    /// How definitions of the same package write it.
    pub fn reference(&self) -> String {
        match &self.output {
            None => self.address.name.clone(),
            Some(output) => format!("{}.{output}", self.address.name),
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
    /// Inputs that are made, as they are written.
    made: Vec<String>,
}

/// Why a file gets no definition.
const NOBODY: &str = "no program was seen that makes it";

impl Generators<'_> {
    /// The definition that makes a file; written now if it is not there yet. Nothing where none can be.
    pub fn file(&mut self, path: &str, name: &mut dyn FnMut(&str) -> DefinitionAddress) -> Option<MadeFile> {
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

    /// A file as the commands that were seen make it.
    fn written(&mut self, path: &str, name: &mut dyn FnMut(&str) -> DefinitionAddress) -> Option<MadeFile> {
        let writers = self.flow.writers.get(path)?.clone();
        let (number, by_text) = self.maker(path, &writers)?;
        let family = self.flow.family(number);
        let all_writes = family.iter().flat_map(|one| {
            let program = &self.build.programs[*one];
            program.writes.iter().chain(&program.stdout).chain(program.renamed.iter().map(|(_, to)| to))
        });
        let is_output = |file: &&String| {
            self.build.made.contains(*file) && (self.compiled.contains(*file) || *file == path)
        };
        let outputs: BTreeSet<String> = all_writes.filter(is_output).cloned().collect();
        let mut recipe = Recipe {
            outputs: match outputs.len() {
                0 => return None,
                1 => outputs.into_iter().map(|file| (file, None)).collect(),
                _ => outputs.into_iter().map(|file| (file.clone(), Some(output_name(&file)))).collect(),
            },
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
        self.needed.extend(&family);
        let mut fields = vec![format!("    say = {}", quoted(&format!("make {}", name_of(path))))];
        let unnamed: Vec<&(String, Option<String>)> =
            recipe.outputs.iter().filter(|(file, _)| !recipe.named.contains(file)).collect();
        // Who chooses itself where it writes cannot be given a place for some of it.
        if !unnamed.is_empty() && !recipe.named.is_empty() {
            return None;
        }
        fields.push(format!("    run = {command}"));
        if !unnamed.is_empty() {
            let own = self.build.programs[number].folder.clone().unwrap_or_default();
            let row = |(file, output): &&(String, Option<String>)| {
                let output = output.clone().unwrap_or_else(|| output_name(file));
                format!("{}: {}", quoted(&output), quoted(crate::tree::below(file, &own)))
            };
            let rows: Vec<String> = unnamed.iter().map(row).collect();
            fields.push(format!("    makes = {{ {} }}", rows.join(", ")));
        }
        let more = self.more_inputs(number, &mut recipe, name);
        if !more.is_empty() {
            fields.push(format!("    reads = [{}]", more.join(", ")));
        }
        let code = format!("step {{\n{}\n}}", fields.join("\n"));
        let address = name(&output_name(path));
        let command = &self.build.command;
        self.define(
            Definition::new(
                Keyword::Target,
                &address,
                format!("{}, as `{command}` makes it.", name_of(path)),
                Body::Code(code, recipe.takes.clone()),
            )
            .private(),
        );
        for (file, output) in recipe.outputs {
            self.made.insert(file, Some(MadeFile { address: address.clone(), output }));
        }
        self.made.get(path).cloned().flatten()
    }

    /// Whether a file can be an input: it is in the tree, or made and there when all is over, or an output of the command itself.
    fn is_lasting(&self, path: &str, recipe: &Recipe) -> bool {
        self.tree.has(path)
            || self.build.made.contains(path)
            || recipe.outputs.iter().any(|(output, _)| self.leads_to(path, output))
    }

    /// A short text as it was made here, where nobody can say how.
    fn copied(&mut self, path: &str, name: &mut dyn FnMut(&str) -> DefinitionAddress) -> Option<MadeFile> {
        let text = self.build.texts.get(path)?;
        let begins = text.lines().any(|line| line.starts_with(|c: char| !c.is_whitespace()));
        if text.contains("'''") || !text.ends_with('\n') || text.contains('\r') || !begins {
            return None;
        }
        let lines: String = text
            .lines()
            .map(|line| if line.is_empty() { "\n".to_owned() } else { format!("        {line}\n") })
            .collect();
        let code = format!("write {{\n    path = {}\n    text = '''\n{lines}        '''\n}}", quoted(path));
        let address = name(&output_name(path));
        let reason = format!(
            "As `{}` made it on this machine: nubrik does not know how, so another machine gets the same.",
            self.build.command
        );
        self.define(
            Definition::new(
                Keyword::Target,
                &address,
                format!("{}.", name_of(path)),
                Body::Code(code, BTreeSet::new()),
            )
            .private()
            .because(vec![reason]),
        );
        let made = MadeFile { address, output: None };
        self.made.insert(path.to_owned(), Some(made.clone()));
        Some(made)
    }

    fn define(&mut self, definition: Definition) {
        self.definitions.push(definition);
    }

    /// The program whose command makes a file, and whether that is the text of a shell's command.
    fn maker(&self, path: &str, writers: &[usize]) -> Option<(usize, bool)> {
        let programs = &self.build.programs;
        // A redirection of a shell is its own work, but what is written is the program's.
        let by_stream: Vec<usize> = writers
            .iter()
            .copied()
            .filter(|number| programs[*number].stdout.as_deref().is_some_and(|to| self.leads_to(to, path)))
            .collect();
        let own: Vec<usize> =
            writers.iter().copied().filter(|number| shell_text(&programs[*number]).is_none()).collect();
        let one = match (by_stream.as_slice(), own.as_slice()) {
            // The shell that started it opened the file for it.
            ([one], _) if own.iter().all(|other| other == one || self.is_above(*other, *one)) => Some(*one),
            ([], [one]) => Some(*one),
            _ => None,
        };
        // A script that runs as a whole is not taken apart: its own commands depend on what it knows.
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
        let renames = self.build.programs.iter().flat_map(|program| &program.renamed);
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
        let compiles =
            |one: &usize| super::compilers::compiler_call(&self.build.programs[*one].words).is_some();
        !family.iter().any(compiles)
    }

    /// The words of a program, and of those whose output it reads, as a command.
    fn words_command(
        &mut self,
        number: usize,
        recipe: &mut Recipe,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Option<String> {
        let mut stages = vec![number];
        let build = self.build;
        while let Some(pipe) = stages.last().and_then(|last| build.programs[*last].pipe_in.clone()) {
            let last = *stages.last()?;
            let before = &build.programs[..last.max(1)];
            let giver = before.iter().rposition(|one| one.pipe_out.as_ref() == Some(&pipe))?;
            stages.push(giver);
        }
        stages.reverse();
        let mut parts = Vec::new();
        for stage in stages {
            self.needed.insert(stage);
            let program = &build.programs[stage];
            let folder = program.folder.clone()?;
            let mut words = Vec::new();
            for (at, word) in program.words.iter().enumerate() {
                words.push(self.word(word, &folder, recipe, name, at == 0)?);
            }
            if let Some(from) = &program.stdin {
                words.push(format!("< {}", self.hole(from, recipe, name)?));
            }
            if let Some(to) = &program.stdout {
                words.push(format!("> {}", self.output_behind(to, recipe)?));
            }
            parts.push(words.join(" "));
        }
        Some(format!("`{}`", parts.join(" | ")))
    }

    /// The hole for an output that is written under this name, or renamed to its own later.
    fn output_behind(&self, written: &str, recipe: &mut Recipe) -> Option<String> {
        let path =
            recipe.outputs.iter().map(|(path, _)| path).find(|path| self.leads_to(written, path))?.clone();
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
    ) -> Option<String> {
        if word.contains('`') || word.contains('\n') {
            return None;
        }
        // A path alone, behind `=`, or behind an option of one letter.
        let behind = word.find('=').map(|at| at + 1);
        let short = (word.starts_with('-') && word.len() > 2 && word.is_char_boundary(2)).then_some(2);
        for at in [Some(0), behind, short].into_iter().flatten() {
            let Some(path) = self.build.path(folder, &word[at..]).filter(|path| !path.is_empty()) else {
                continue;
            };
            let before = if at == 0 { String::new() } else { plain(&word[..at]) };
            if let Some(hole) = self.known_hole(&path, recipe, name) {
                return Some(before + &hole);
            }
            if at > 0 && self.tree.has_folder(&path) {
                return Some(before + &plain(&self.in_workspace(&path)));
            }
        }
        Some(if is_first { plain(name_of(word)) } else { plain(word) })
    }

    fn in_workspace(&self, path: &str) -> String {
        if self.top.is_empty() { path.to_owned() } else { format!("{}/{path}", self.top) }
    }

    /// The hole for a file that is known: an output, a file of the tree, something that is made.
    fn known_hole(
        &mut self,
        path: &str,
        recipe: &mut Recipe,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Option<String> {
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
    ) -> Option<String> {
        if let Some(program) = self.flow.artifact_at(path).and_then(|artifact| self.programs.get(&artifact)) {
            recipe.inputs.insert(path.to_owned());
            return Some(format!("{{{}}}", program.name));
        }
        if self.tree.has(path) {
            recipe.inputs.insert(path.to_owned());
            recipe.takes.insert(path.to_owned());
            return Some(format!("{{in {}}}", quoted(path)));
        }
        if self.build.made.contains(path) && self.flow.writers.contains_key(path) {
            let made = self.file(path, name)?;
            recipe.inputs.insert(path.to_owned());
            return Some(format!("{{{}}}", made.reference()));
        }
        None
    }

    /// The text of a shell's command, with the files that are used in holes.
    fn text_command(
        &mut self,
        number: usize,
        recipe: &mut Recipe,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Option<String> {
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
                program.reads.iter().chain(&program.writes).chain(&program.file).cloned()
            })
            .collect();
        let is_of_path = |c: char| c.is_alphanumeric() || "_./+-".contains(c);
        let mut out = String::new();
        let mut rest = text.as_str();
        while !rest.is_empty() {
            let end = rest.find(|c| !is_of_path(c)).unwrap_or(rest.len());
            if end == 0 {
                let next = rest.chars().next()?;
                match next {
                    '{' => out.push_str("{{"),
                    '}' => out.push_str("}}"),
                    other => out.push(other),
                }
                rest = &rest[next.len_utf8()..];
                continue;
            }
            let token = &rest[..end];
            let path = self.build.path(&folder, token).filter(|path| touched.contains(path));
            match path.and_then(|path| self.known_hole(&path, recipe, name)) {
                Some(hole) => out.push_str(&hole),
                None => out.push_str(token),
            }
            rest = &rest[end..];
        }
        Some(format!("sh`{out}`"))
    }

    /// What a command reads besides the files in its words, as it is written in a list.
    fn more_inputs(
        &mut self,
        number: usize,
        recipe: &mut Recipe,
        name: &mut dyn FnMut(&str) -> DefinitionAddress,
    ) -> Vec<String> {
        let reads = self.flow.reads(self.build, number);
        let mut more = Vec::new();
        for path in reads.into_iter().filter(|path| !recipe.outputs.iter().any(|(output, _)| output == path))
        {
            if recipe.inputs.contains(&path) {
                continue;
            }
            if self.tree.has(&path) {
                more.push(quoted(&path));
                recipe.takes.insert(path);
            } else if let Some(program) =
                self.flow.artifact_at(&path).and_then(|artifact| self.programs.get(&artifact))
            {
                more.push(program.name.clone());
            } else if self.build.made.contains(&path)
                && self.flow.writers.contains_key(&path)
                && let Some(made) = self.file(&path, name)
            {
                recipe.made.push(made.reference());
                more.push(made.reference());
            }
        }
        more
    }
}

/// The hole for an output.
fn output_hole(path: &str, recipe: &mut Recipe) -> Option<String> {
    let (_, output) = recipe.outputs.iter().find(|(known, _)| known == path)?;
    recipe.named.insert(path.to_owned());
    Some(match output {
        Some(output) => format!("{{out {output} {}}}", quoted(path)),
        None => format!("{{out {}}}", quoted(path)),
    })
}

/// The name of an output: that of its file, in the letters of a name.
fn output_name(path: &str) -> String {
    let letters = name_of(path).to_lowercase();
    let letter = |c: char| if c.is_ascii_lowercase() || c.is_ascii_digit() { c } else { '_' };
    letters.chars().map(letter).collect::<String>().trim_matches('_').to_owned()
}

/// The text that a shell was given as its command.
fn shell_text(program: &SeenProgram) -> Option<&str> {
    let [shell, option, text, ..] = program.words.as_slice() else { return None };
    let is_shell = ["sh", "bash", "dash", "ksh", "zsh"].contains(&name_of(shell));
    let gives_text = option.starts_with('-') && !option.starts_with("--") && option.ends_with('c');
    (is_shell && gives_text).then_some(text)
}

/// Whether a program is a script of the tree, or a shell that runs one.
fn is_script(program: &SeenProgram, tree: &SourceTree) -> bool {
    if program.file.as_deref().is_some_and(|file| tree.has(file)) {
        return true;
    }
    let [shell, script, ..] = program.words.as_slice() else { return false };
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
