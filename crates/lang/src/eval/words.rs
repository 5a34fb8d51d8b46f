//! Words of commands as their processes see them.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{ArgumentFile, FileId, Mark, Program, Stage, Step};
use nubrik_source::{Span, WsPath};

use super::steps::Draft;
use super::strands::{Leaves, all_strands, kept_path, leaves, scratch_path};
use super::{Evaluator, Result};
use crate::value::*;

impl Evaluator<'_> {
    /// Refuses paths of what other steps make, spelled out in words, where nothing there is
    /// declared: whether the step finds anything would hang on what was built before.
    pub(super) fn check_spelled(
        &mut self,
        spelled: &[(String, Span)],
        own: &WsPath,
        declared: &[FileId],
    ) -> Result<()> {
        let files = declared
            .iter()
            .map(|id| &self.drafting.graph.files[id.index()])
            .filter(|file| file.maker.is_some());
        let mut paths: Vec<(&str, bool)> = files
            .map(|file| (file.path.as_str(), file.folder))
            .collect();
        paths.sort_unstable();
        let at = |path: &str| {
            paths
                .binary_search_by(|(declared, _)| (*declared).cmp(path))
                .ok()
        };
        let is_declared = |path: &str| {
            let below = format!("{path}/");
            let first = paths.partition_point(|(declared, _)| *declared < below.as_str());
            let mut above = path.match_indices('/').map(|(end, _)| &path[..end]);
            at(path).is_some()
                || paths
                    .get(first)
                    .is_some_and(|(declared, _)| declared.starts_with(&below))
                || above.any(|folder| at(folder).is_some_and(|at| paths[at].1))
        };
        let is_wrong = |path: &str| !WsPath::from_normal(path).is_in(own) && !is_declared(path);
        let Some((path, span)) = spelled.iter().find(|(path, _)| is_wrong(path)) else {
            return Ok(());
        };
        let place = WsPath::from_normal(path);
        let maker = self
            .drafting
            .graph
            .steps
            .iter()
            .find(|s| place.is_in(&s.folder) || s.folder.is_in(&place));
        let address = maker.map(|step| &self.drafting.graph.targets[step.target.index()].address);
        let what = address.map_or("what another step makes".to_owned(), |a| {
            format!("what `{a}` makes")
        });
        let message = format!("this names {what} and does not declare it");
        let error = Diagnostic::error("undeclared-made", message)
            .note(format!(
                "the word holds {path}; a path as text carries no file"
            ))
            .mend("{the file itself} in the command")
            .mend("reads = the file, or all files there");
        self.fail(*span, error)
    }

    /// Refuses two files of one name with different texts.
    pub(super) fn check_argument_files(&mut self, draft: &Draft, span: Span) -> Result<()> {
        let lists = &draft.step.lists;
        let twice = lists
            .iter()
            .enumerate()
            .find(|(i, list)| lists[..*i].iter().any(|l| l.path == list.path));
        let Some((_, twice)) = twice else {
            return Ok(());
        };
        let message = format!(
            "two files with different texts are called `{}`",
            twice.path.name()
        );
        let error = Diagnostic::error("made-twice", message);
        self.fail(
            span,
            error.mend("{textfile \"…\" text} with a name of its own for each"),
        )
    }

    pub(super) fn stage_of(
        &mut self,
        stage: &StageValue,
        span: Span,
        draft: &mut Draft,
    ) -> Result<Stage> {
        let mut words = self.words_of(stage, span, draft)?;
        let program = self.program_of(stage, &mut words, span, draft)?;
        let stdin = self.read_from(stage.stdin.as_ref(), draft)?;
        let stdout = self.redirected(stage.stdout.as_ref(), draft)?;
        let stderr = self.redirected(stage.stderr.as_ref(), draft)?;
        Ok(Stage {
            program,
            words,
            stdin,
            stdout,
            stderr,
            answers: false,
        })
    }

    /// A command that is a request to a program that stays: its words are what is asked.
    pub(super) fn request_of(
        &mut self,
        asked: &CommandValue,
        server: &CommandValue,
        draft: &mut Draft,
    ) -> Result<Stage> {
        let plain = |command: &CommandValue| match command.stages.as_slice() {
            [stage]
                if [&stage.stdin, &stage.stdout, &stage.stderr]
                    .iter()
                    .all(|r| r.is_none()) =>
            {
                Some(command.stages[0].clone())
            }
            _ => None,
        };
        let (Some(request), Some(server_stage)) = (plain(asked), plain(server)) else {
            let at = if plain(asked).is_none() {
                asked.span
            } else {
                server.span
            };
            let message =
                "neither a program that stays nor what it is asked has pipes or redirects";
            let error = Diagnostic::error("wrong-type", message);
            return self.fail(
                at,
                error.mend("{out \"…\"} as a word: the program writes there"),
            );
        };
        let mut stage = self.stage_of(&server_stage, server.span, draft)?;
        let words = self.words_of(&request, asked.span, draft)?;
        let number = draft
            .step
            .lists
            .iter()
            .filter(|list| list.path.name().starts_with("request-"))
            .count();
        let path = scratch_path(&draft.step.folder, &format!("request-{}.json", number + 1));
        let text = super::json::json_line(&words);
        draft.step.lists.push(ArgumentFile {
            path: path.clone(),
            text: text.into(),
        });
        (stage.stdin, stage.answers) = (Some(path), true);
        Ok(stage)
    }

    /// The words of a stage; what they name is noted in the draft.
    fn words_of(
        &mut self,
        stage: &StageValue,
        span: Span,
        draft: &mut Draft,
    ) -> Result<Vec<Arc<str>>> {
        let mut words: Vec<Arc<str>> = Vec::with_capacity(stage.words.len());
        for (_, word) in &stage.words {
            words.push(self.written_word(word, draft));
        }
        let mut strands = Leaves::new();
        stage
            .words
            .iter()
            .chain(&stage.stdin)
            .flat_map(|(_, w)| w)
            .for_each(|s| leaves(s, &mut strands));
        let at = stage.words.first().map(|(at, _)| *at);
        for strand in strands {
            match strand {
                WordStrand::Literal(text) => draft.spelled.extend(spelled_in(text, at)),
                WordStrand::File(file) => draft.inputs.push(file.clone()),
                WordStrand::ArgFile(files) => draft.inputs.extend(files.iter().cloned()),
                WordStrand::Tool(tool) => draft.tools.push(self.tool_id(&tool.name)),
                WordStrand::Secret(_) if !draft.keeps_secrets => {
                    return self.fail(at.unwrap_or(span), super::forms::secret::no_secret());
                }
                WordStrand::Served(service, _) => self.use_service(service, draft),
                WordStrand::Own(_) if !draft.is_service() => {
                    return self.fail(at.unwrap_or(span), super::services::not_own());
                }
                _ => {}
            }
        }
        Ok(words)
    }

    /// What a stage starts, by its first word; in `words` a tool is written by its name.
    fn program_of(
        &mut self,
        stage: &StageValue,
        words: &mut [Arc<str>],
        span: Span,
        draft: &mut Draft,
    ) -> Result<Program> {
        let Some((span, first)) = stage.words.first() else {
            return self.failed_before(span);
        };
        match first.as_slice() {
            [WordStrand::File(file)] if !file.folder => Ok(Program::File(self.file_id(file))),
            [WordStrand::Tool(tool)] => {
                words[0] = tool.name.clone();
                Ok(Program::Tool(self.tool_id(&tool.name)))
            }
            [WordStrand::Literal(name)] if !name.contains('/') => {
                if let Some((what, mends)) = only_a_shell_does(name) {
                    let error = Diagnostic::error("shell-syntax", what);
                    return self.fail(*span, mends.into_iter().fold(error, Diagnostic::mend));
                }
                let tool = self.tool_id(name);
                draft.tools.push(tool);
                Ok(Program::Tool(tool))
            }
            [WordStrand::Literal(path)] if path.starts_with('/') && draft.is_in_image() => {
                let tool = self.tool_id(path);
                draft.tools.push(tool);
                Ok(Program::Tool(tool))
            }
            [WordStrand::Literal(path)] => {
                let error = Diagnostic::error(
                    "bad-path",
                    format!("`{path}` is a path where a tool's name is wanted"),
                );
                let name = path.rsplit('/').next().unwrap_or(path);
                let of_workspace = format!("{{in \"{path}\"}} for a program of the workspace");
                let error = match (path.starts_with('/'), draft.is_in_image()) {
                    (true, _) => error.mend("root = …   for a program of an image"),
                    (false, true) => error
                        .mend(of_workspace)
                        .mend(format!("/{path} for a program of the image")),
                    (false, false) => error.mend(of_workspace),
                };
                self.fail(
                    *span,
                    error.mend(format!("{name} for a tool that is on the search path")),
                )
            }
            _ => {
                let error = Diagnostic::error(
                    "wrong-type",
                    "a command begins with a tool's name or one program",
                );
                self.fail(*span, error)
            }
        }
    }

    fn read_from(
        &mut self,
        word: Option<&FilledWord>,
        draft: &mut Draft,
    ) -> Result<Option<WsPath>> {
        let Some((span, word)) = word else {
            return Ok(None);
        };
        match word.as_slice() {
            [WordStrand::File(file)] if !file.folder => Ok(Some(file.path.clone())),
            [WordStrand::TextFile { path, .. }] => {
                self.written(word, draft);
                Ok(Some(scratch_path(&draft.step.folder, path)))
            }
            [WordStrand::Scratch { path, .. }] => Ok(Some(scratch_path(&draft.step.folder, path))),
            _ => {
                let error = Diagnostic::error("wrong-type", "`<` reads one file that is declared");
                self.fail(*span, error.mend("< {in \"table.csv\"}"))
            }
        }
    }

    pub(super) fn redirected(
        &mut self,
        word: Option<&FilledWord>,
        draft: &Draft,
    ) -> Result<Option<WsPath>> {
        let Some((span, word)) = word else {
            return Ok(None);
        };
        match word.as_slice() {
            [
                WordStrand::Out {
                    path,
                    folder: false,
                    ..
                }
                | WordStrand::DepFile { path, .. },
            ] => Ok(Some(draft.made(path))),
            [WordStrand::Scratch { path, .. }] => Ok(Some(scratch_path(&draft.step.folder, path))),
            [WordStrand::Literal(name)] => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("`{name}` is written to but not declared"),
                );
                self.fail(*span, error.mend(format!("{{out \"{name}\"}}")))
            }
            _ => {
                let error =
                    Diagnostic::error("wrong-type", "a redirect writes to one declared output");
                self.fail(*span, error.mend("> {out \"result.txt\"}"))
            }
        }
    }

    pub(super) fn step_env(
        &mut self,
        env: Value,
        draft: &mut Draft,
        span: Span,
    ) -> Result<Vec<(Arc<str>, Arc<str>)>> {
        let Value::Map(map) = env else {
            return Ok(Vec::new());
        };
        let mut variables = Vec::new();
        for (name, thunk) in &map.entries {
            let Value::Text(text) = self.force(thunk, span)? else {
                return self.failed_before(span);
            };
            let set_by_us = matches!(&**name, "PWD" | "HOME" | "TMPDIR");
            if set_by_us || name.contains('=') || name.is_empty() {
                let message = format!("the variable `{name}` cannot be set for a step");
                let error = Diagnostic::error("bad-key", message);
                return self.fail(
                    thunk.span,
                    error.note("PWD, HOME and TMPDIR are the step's own"),
                );
            }
            let strands: Vec<WordStrand> =
                text.strands().into_iter().map(WordStrand::from).collect();
            let value = self.written(&strands, draft);
            for strand in text.strands() {
                match strand {
                    Strand::Literal(text) => {
                        draft.spelled.extend(spelled_in(&text, Some(thunk.span)))
                    }
                    Strand::File(file) => draft.inputs.push(file),
                    Strand::Tool(tool) => draft.tools.push(self.tool_id(&tool.name)),
                    Strand::Secret(_) if !draft.keeps_secrets => {
                        let error = super::forms::secret::no_secret();
                        return self.fail(thunk.span, error);
                    }
                    Strand::Served(service, _) => self.use_service(&service, draft),
                    Strand::Own(_) if !draft.is_service() => {
                        return self.fail(thunk.span, super::services::not_own());
                    }
                    Strand::Secret(_) | Strand::Own(_) => {}
                }
            }
            variables.push((name.clone(), value.into()));
        }
        variables.sort();
        Ok(variables)
    }

    /// One word of a command, as [`Evaluator::written`] has it; most often it is there already.
    pub(super) fn written_word(&mut self, word: &[WordStrand], draft: &mut Draft) -> Arc<str> {
        match (word, draft.step.work.below_root()) {
            ([WordStrand::Literal(literal)], _) => literal.clone(),
            ([WordStrand::File(file)], None) if !file.path.is_root() => file.path.shared().clone(),
            ([WordStrand::Out { path, .. }], None) => draft.made(path).shared().clone(),
            _ => self.written(word, draft).into(),
        }
    }

    /// A word as the process sees it: paths are given from the folder in which it runs.
    pub(super) fn written(&mut self, word: &[WordStrand], draft: &mut Draft) -> String {
        let work = draft.step.work.path();
        let mut text = String::new();
        for strand in word {
            match strand {
                WordStrand::Literal(literal) => text.push_str(literal),
                WordStrand::Tool(tool) => text.push_str(&tool.path),
                WordStrand::Secret(name) => text.push_str(&Mark::Secret(name).to_string()),
                WordStrand::Served(service, what) => {
                    text.push_str(&super::services::mark(&service.service.folder, *what))
                }
                WordStrand::Own(what) => {
                    if let Some(own) = &draft.own {
                        text.push_str(&super::services::mark(own, *what));
                    }
                }
                WordStrand::File(file) => text.push_str(&path_from(&work, &file.path)),
                WordStrand::Out { path, .. } | WordStrand::DepFile { path, .. } => {
                    text.push_str(&path_from(&work, &draft.step.folder.join(path)));
                }
                WordStrand::Scratch { path, .. } => {
                    text.push_str(&path_from(&work, &scratch_path(&draft.step.folder, path)));
                }
                WordStrand::Kept { path, .. } => {
                    text.push_str(&path_from(&work, &kept_path(&draft.step.folder, path)));
                }
                WordStrand::ArgFile(files) => {
                    let path = argument_file(files, &work, &mut draft.step);
                    text.push_str(&path_from(&work, &path));
                }
                WordStrand::TextFile {
                    path, text: inner, ..
                } => {
                    let held = self.written(inner, draft);
                    let path = scratch_path(&draft.step.folder, path);
                    text.push_str(&path_from(&work, &path));
                    let lists = &mut draft.step.lists;
                    if !lists.iter().any(|l| l.path == path && *l.text == *held) {
                        lists.push(ArgumentFile {
                            path,
                            text: held.into(),
                        });
                    }
                }
                WordStrand::Quoted(inner) => text.push_str(&quoted(&self.written(inner, draft))),
            }
        }
        text
    }
}

/// The file that lists files for a command which runs in `work`: one for each list.
fn argument_file(files: &[FileRef], work: &WsPath, step: &mut Step) -> WsPath {
    let lines = files
        .iter()
        .map(|f| format!("{}\n", path_from(work, &f.path)));
    let listed: String = lines.collect();
    let lists = &mut step.lists;
    if let Some(known) = lists.iter().find(|list| *list.text == *listed) {
        return known.path.clone();
    }
    let path = scratch_path(&step.folder, &format!("list-{}", lists.len() + 1));
    lists.push(ArgumentFile {
        path: path.clone(),
        text: listed.into(),
    });
    path
}

/// What is wrong with a first word that only a shell understands, and what to write instead; `None`
/// for the name of a tool.
pub(super) fn only_a_shell_does(word: &str) -> Option<(String, Vec<String>)> {
    let name = |name: &str| {
        let letter = |c: char| c.is_ascii_alphanumeric() || c == '_';
        name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && name.chars().all(letter)
    };
    if let Some((variable, value)) = word.split_once('=').filter(|(variable, _)| name(variable)) {
        let what =
            format!("`{word}` before a command sets a variable, and only a shell understands that");
        return Some((
            what,
            vec![format!("env = {{ \"{variable}\": \"{value}\" }}")],
        ));
    }
    let what = format!("`{word}` is a shell built-in, not a program");
    match word {
        "cd" => Some((
            what,
            vec![
                "folder = \"…\"   for the folder in which all commands run".to_owned(),
                "sh`cd …; …`".to_owned(),
            ],
        )),
        "export" => Some((what, vec!["env = { \"NAME\": \"value\" }".to_owned()])),
        "source" | "set" | "eval" | "exec" | "umask" | "ulimit" | "trap" | "alias" | "." => {
            Some((what, vec![format!("sh`{word} …; …`")]))
        }
        _ => None,
    }
}

/// The paths of what steps make that plain characters hold; most often none. Every text of every
/// command is searched, so that one character is looked for first.
pub(super) fn spelled_in(text: &str, at: Option<Span>) -> impl Iterator<Item = (String, Span)> {
    let starts = text.match_indices('.').map(|(start, _)| &text[start..]);
    starts.filter_map(move |path| {
        // Only what lies below that folder is a step's.
        if !path.strip_prefix(super::natives::MADE)?.starts_with('/') {
            return None;
        }
        let end = path.find(ends_path).unwrap_or(path.len());
        let path = path[..end].trim_end_matches('/');
        (path.len() > super::natives::MADE.len()).then_some((path.to_owned(), at?))
    })
}

/// Whether a character ends a path that is in a text.
pub(super) fn ends_path(c: char) -> bool {
    c.is_whitespace() || "\"'`;:,|&()<>".contains(c)
}

/// A text as one word of a shell.
pub(super) fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// A path as seen from a folder, both from the workspace's root.
pub(super) fn path_from(folder: &WsPath, path: &WsPath) -> String {
    if folder.is_root() {
        return if path.is_root() {
            ".".to_owned()
        } else {
            path.as_str().to_owned()
        };
    }
    let (from, to): (Vec<&str>, Vec<&str>) = (folder.parts().collect(), path.parts().collect());
    let shared = from.iter().zip(&to).take_while(|(a, b)| a == b).count();
    let up = std::iter::repeat_n("..", from.len() - shared);
    let parts: Vec<&str> = up.chain(to[shared..].iter().copied()).collect();
    if parts.is_empty() {
        ".".to_owned()
    } else {
        parts.join("/")
    }
}

/// What tells a probe from others of the same target: its words without paths that depend on it.
pub(super) fn probe_words(commands: &[Rc<CommandValue>]) -> String {
    let mut text = String::new();
    for stage in commands.iter().flat_map(|c| &c.stages) {
        let mut strands = Leaves::new();
        all_strands(stage).for_each(|s| leaves(s, &mut strands));
        for strand in strands {
            match strand {
                WordStrand::Literal(literal) => text.push_str(literal),
                WordStrand::File(file) => text.push_str(file.path.as_str()),
                WordStrand::Tool(tool) => text.push_str(&tool.name),
                WordStrand::Secret(name) => text.push_str(name),
                WordStrand::Served(service, what) => {
                    text.push_str(&super::services::mark(&service.service.folder, *what));
                }
                WordStrand::Own(_) => {}
                WordStrand::ArgFile(files) => {
                    files.iter().for_each(|f| text.push_str(f.path.as_str()))
                }
                WordStrand::Out { path, .. }
                | WordStrand::DepFile { path, .. }
                | WordStrand::Scratch { path, .. }
                | WordStrand::Kept { path, .. }
                | WordStrand::TextFile { path, .. } => {
                    text.push_str(path);
                }
                WordStrand::Quoted(_) => {}
            }
            text.push('\0');
        }
    }
    text
}

/// A text for people, with the paths of the files that it carries.
pub(super) fn plain_path_text(text: &Text) -> String {
    let strands = text.strands();
    strands
        .iter()
        .map(|s| match s {
            Strand::Literal(text) => text,
            Strand::File(file) => file.path.as_str(),
            Strand::Tool(tool) => &tool.name,
            Strand::Secret(name) => name,
            Strand::Served(service, _) => &service.service.address,
            Strand::Own(_) => "self",
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_given_from_the_folder() {
        let path = |folder: &str, path: &str| {
            path_from(&WsPath::from_normal(folder), &WsPath::from_normal(path))
        };
        assert_eq!(path("", "a/b"), "a/b");
        assert_eq!(path("a", "a/b"), "b");
        assert_eq!(path("a/c", "a/b"), "../b");
        assert_eq!(path("a/c", ".nubrik/made/x"), "../../.nubrik/made/x");
        assert_eq!(path("a", "a"), ".");
        assert_eq!(quoted("it's"), "'it'\\''s'");
    }
}
