//! Values taken as files and folders.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::{Span, WsPath};
use nubrik_wording::some_of;

use super::{Evaluator, Result};
use crate::KITS_FOLDER;
use crate::globs::{glob, is_pattern};
use crate::hir::*;
use crate::types::{Type, wrong_type};
use crate::value::*;
use crate::world::{Answer, EntryKind};

impl Evaluator<'_> {
    /// The folder against which a text in this module is a path.
    pub(super) fn base_folder(
        &mut self,
        module_id: ModuleId,
        text: &str,
        span: Span,
    ) -> Result<WsPath> {
        let module = self.module(module_id);
        match module.base() {
            Some(folder) => Ok(folder.clone()),
            None if text.starts_with('/') && module.folder.is_some() => Ok(WsPath::root()),
            None => {
                let error = Diagnostic::error(
                    "bad-path",
                    format!("\"{text}\" has no folder to start from in a kit"),
                );
                let error = error.note("a kit is used from many folders");
                self.fail(
                    span,
                    error.mend(format!(
                        "self.folder / \"{text}\" inside a kind, for the folder of the one who uses it"
                    )),
                )
            }
        }
    }

    pub(super) fn resolve_path(
        &mut self,
        text: &Text,
        base: ModuleId,
        span: Span,
    ) -> Result<WsPath> {
        let Some(text) = text.plain() else {
            let error = Diagnostic::error("wrong-type", "a text made from files is not a path");
            return self.fail(span, error);
        };
        let folder = self.base_folder(base, text, span)?;
        let path = folder.resolve(text).map_err(|problem| {
            let error = Diagnostic::error("bad-path", problem.to_string());
            match problem {
                nubrik_source::PathProblem::LeavesWorkspace => {
                    error.note("steps read files of the workspace only: copy it in, or `fetch` it")
                }
                nubrik_source::PathProblem::OddCharacter => error,
            }
        });
        self.at(span, path)
    }

    pub(super) fn as_file(&mut self, value: Value, base: ModuleId, span: Span) -> Result<FileRef> {
        match value {
            Value::File(file) if !file.folder => Ok(file),
            Value::Text(text) => {
                if let Some(pattern) = text.plain().filter(|t| is_pattern(t)) {
                    let error = Diagnostic::error(
                        "wrong-type",
                        format!("expected one file, found the pattern \"{pattern}\""),
                    );
                    return self.fail(span, error);
                }
                let path = self.resolve_path(&text, base, span)?;
                self.existing(path, EntryKind::File, base, span)
            }
            value @ (Value::Step(_) | Value::Record(_) | Value::Files(_)) => {
                self.one_file(&value, span)
            }
            other => self.fail(span, wrong_type(&other.described(), &Type::File)),
        }
    }

    pub(super) fn as_folder(
        &mut self,
        value: Value,
        base: ModuleId,
        span: Span,
    ) -> Result<FileRef> {
        match value {
            Value::File(file) if file.folder => Ok(file),
            Value::Text(text) => {
                let path = self.resolve_path(&text, base, span)?;
                self.existing(path, EntryKind::Folder, base, span)
            }
            value @ Value::Step(_) => {
                let file = self.one_file(&value, span)?;
                if file.folder {
                    return Ok(file);
                }
                let error = wrong_type("a step that makes a file", &Type::Folder);
                self.fail(span, error.mend("{outfolder \"…\"}"))
            }
            other => self.fail(span, wrong_type(&other.described(), &Type::Folder)),
        }
    }

    /// Adds the files that a value is taken as to a list.
    pub(super) fn as_files(
        &mut self,
        value: &Value,
        base: ModuleId,
        span: Span,
        list: &mut Vec<FileRef>,
    ) -> Result<()> {
        match value {
            Value::Text(text) => {
                if let Some(pattern) = text.plain().filter(|t| is_pattern(t)) {
                    let folder = self.base_folder(base, pattern, span)?;
                    let files = self.globbed(&folder, pattern, &[], false, span)?;
                    return self.add_files(&files, span, list);
                }
                list.push(self.as_file(value.clone(), base, span)?);
                Ok(())
            }
            Value::List(items) => {
                self.count_items(items.len(), span)?;
                self.all(items, |this, item| this.as_files(item, base, span, list))
                    .map(drop)
            }
            Value::File(_)
            | Value::Files(_)
            | Value::Step(_)
            | Value::Record(_)
            | Value::Map(_) => self.add_files(value, span, list),
            other => self.fail(span, wrong_type(&other.described(), &Type::Files)),
        }
    }

    pub(super) fn globbed(
        &mut self,
        base: &WsPath,
        pattern: &str,
        except: &[String],
        or_none: bool,
        span: Span,
    ) -> Result<Value> {
        match glob(self.world, base, pattern, except, or_none) {
            Answer::Pending => self.wait(),
            Answer::Ready(result) => {
                let paths = self.at(span, result)?;
                if self.wanted.linting {
                    for link in crate::globs::dangling(self.world, base, pattern, &paths) {
                        let message =
                            format!("`{link}` is a link that leads nowhere: it is left out");
                        let warning = Diagnostic::warning("dangling-link", message).at(span);
                        self.definitions
                            .modules
                            .diagnostics
                            .push(warning.mend("remove the link, or let it lead to a file"));
                    }
                }
                let files = paths.into_iter().map(|path| FileRef {
                    path,
                    maker: None,
                    folder: false,
                });
                let files: Rc<[FileRef]> = files.collect();
                if self.wanted.linting
                    && let Some(target) = self.current_target()
                {
                    self.wanted.globs.push(crate::lints::GlobUse {
                        span,
                        target,
                        files: files.clone(),
                    });
                }
                Ok(Value::Files(files))
            }
        }
    }

    /// A path as the definitions of a module write it: from their own folder on, or from the root
    /// with a `/`.
    pub(super) fn written_path(&self, path: &WsPath, module: ModuleId) -> String {
        let folder = self.definitions.modules.get(module).folder.clone();
        match folder
            .as_ref()
            .and_then(|folder| path.below(folder))
            .filter(|rest| !rest.is_empty())
        {
            Some(rest) => rest.to_owned(),
            None if path.is_root() => String::new(),
            None => format!("/{path}"),
        }
    }

    /// A source file or folder that must be there.
    pub(super) fn existing(
        &mut self,
        path: WsPath,
        wanted: EntryKind,
        base: ModuleId,
        span: Span,
    ) -> Result<FileRef> {
        let folder = wanted == EntryKind::Folder;
        let is_of_kit = || {
            self.module(base)
                .folder
                .as_ref()
                .is_some_and(|folder| of_one_archive(folder, &path))
        };
        if (path.as_str().starts_with(".nubrik/") && !is_of_kit())
            || path.as_str().starts_with("out/")
        {
            let error =
                Diagnostic::error("bad-path", format!("`{path}` is a result, not a source"));
            return self.fail(
                span,
                error.mend("refer to the target that makes it: `&package/target`"),
            );
        }
        match self.world.kind(&path) {
            Answer::Pending => self.wait(),
            Answer::Ready(Some(kind)) if kind == wanted => Ok(FileRef {
                path,
                maker: None,
                folder,
            }),
            Answer::Ready(Some(EntryKind::Folder)) => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("expected a file, but `{path}` is a folder"),
                );
                self.fail(
                    span,
                    error.mend(format!(
                        "\"{}/*\" for the files in it",
                        self.written_path(&path, base)
                    )),
                )
            }
            Answer::Ready(Some(EntryKind::File)) => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("expected a folder, but `{path}` is a file"),
                );
                self.fail(span, error)
            }
            Answer::Ready(None) => {
                let error = self.no_such_file(&path, folder, base);
                self.fail(span, error)
            }
        }
    }

    pub(super) fn no_such_file(
        &mut self,
        path: &WsPath,
        folder: bool,
        base: ModuleId,
    ) -> Diagnostic {
        let what = if folder { "folder" } else { "file" };
        let error = Diagnostic::error("no-such-file", format!("there is no {what} `{path}`"));
        // A file that another target makes: offer the reference.
        let module = self.module(base);
        let maker = module.decls.iter().find(|d| {
            let names = d.to_tell().body.is_some().then(|| output_names(&module, d));
            names.is_some_and(|names| names.iter().any(|n| **n == *path.name()))
        });
        if let Some(decl) = maker {
            return error
                .related(
                    decl.name.span,
                    format!("`{}` makes a file of this name", decl.name.text),
                )
                .mend(decl.name.text.to_string());
        }
        let above = path.parent().unwrap_or_else(WsPath::root);
        let Answer::Ready(listing) = self.world.list(&above) else {
            return error;
        };
        let names = if folder {
            &listing.folders
        } else {
            &listing.files
        };
        let near = nearest(path.name(), names.iter().map(|n| &**n)).map(|near| {
            let found = above.child(near);
            let relative = module
                .base()
                .and_then(|b| found.below(b).map(str::to_owned));
            format!(
                "\"{}\"",
                relative.unwrap_or_else(|| format!("/{}", found.as_str()))
            )
        });
        if near.is_none()
            && !above.is_root()
            && matches!(self.world.kind(&above), Answer::Ready(None))
        {
            return no_such_folder(error, path, &above);
        }
        match near {
            None if !names.is_empty() && !above.is_root() => {
                error.note(format!("`{above}` has: {}", some_of(names.iter())))
            }
            near => error.maybe_mend(near),
        }
    }

    /// The files that a value represents.
    pub(super) fn files_of(&mut self, value: &Value, span: Span) -> Result<Vec<FileRef>> {
        let mut files = Vec::new();
        self.add_files(value, span, &mut files)?;
        Ok(files)
    }

    /// Adds the files that a value represents to a list.
    pub(super) fn add_files(
        &mut self,
        value: &Value,
        span: Span,
        list: &mut Vec<FileRef>,
    ) -> Result<()> {
        self.check_nesting(self.budget.nesting, span)?;
        self.budget.nesting += 1;
        let result = self.add_files_inside(value, span, list);
        self.budget.nesting -= 1;
        result
    }

    pub(super) fn add_files_inside(
        &mut self,
        value: &Value,
        span: Span,
        list: &mut Vec<FileRef>,
    ) -> Result<()> {
        match value {
            Value::None => {}
            Value::File(file) => list.push(file.clone()),
            Value::Files(files) => {
                self.count_items(files.len(), span)?;
                list.extend(files.iter().cloned());
            }
            Value::Step(step) => list.extend(
                self.drafting
                    .outputs
                    .of(*step)
                    .iter()
                    .map(|(_, f)| f.clone()),
            ),
            Value::List(items) => {
                self.count_items(items.len(), span)?;
                self.all(items, |this, item| this.add_files(item, span, list))?;
            }
            Value::Map(map) => {
                self.count_items(map.entries.len(), span)?;
                self.all(&map.entries, |this, (_, thunk)| {
                    let value = this.force(thunk, span)?;
                    this.add_files(&value, span, list)
                })?;
            }
            Value::Record(record) => match record.get("files") {
                Some(files) => return self.add_files(files, span, list),
                None => {
                    let names: Vec<&str> = record.fields.iter().map(|(n, _)| &**n).collect();
                    let error = Diagnostic::error(
                        "no-files",
                        "this record has no field `files`, so it has no files",
                    );
                    let error = error.note(format!("it has: {}", names.join(", ")));
                    return self.fail(span, error.mend("take one of its fields: `….field`"));
                }
            },
            other => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("expected files, found {}", other.described()),
                );
                let error = match other {
                    Value::Text(_) => error
                        .note("a text is a path only where a type says so")
                        .mend("{in \"…\"}"),
                    Value::Kind(..) => error.mend("call the kind: `name { … }`"),
                    _ => error,
                };
                return self.fail(span, error);
            }
        }
        Ok(())
    }

    /// The file that a value represents, where it is seen at once that it is one file.
    pub(super) fn lone_file<'v>(&'v self, mut value: &'v Value) -> Option<&'v FileRef> {
        loop {
            match value {
                Value::File(file) => return Some(file),
                Value::Files(files) if files.len() == 1 => return files.first(),
                Value::Step(step) => match self.drafting.outputs.of(*step) {
                    [(_, file)] => return Some(file),
                    _ => return None,
                },
                Value::Record(record) => value = record.get("files")?,
                _ => return None,
            }
        }
    }

    /// The one file that a value represents.
    pub(super) fn one_file(&mut self, value: &Value, span: Span) -> Result<FileRef> {
        if let Some(file) = self.lone_file(value) {
            return Ok(file.clone());
        }
        let files = self.files_of(value, span)?;
        match files.as_slice() {
            [file] => Ok(file.clone()),
            _ => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("expected one file, found {}", files.len()),
                );
                let error = match value {
                    Value::Step(step) => {
                        let names: Vec<String> = self
                            .drafting
                            .outputs
                            .of(*step)
                            .iter()
                            .filter_map(|(n, _)| n.as_ref().map(|n| format!("….{n}")))
                            .collect();
                        names.into_iter().fold(error, Diagnostic::mend)
                    }
                    _ => error,
                };
                self.fail(span, error)
            }
        }
    }
}

/// An error about a path whose folder is not there, either.
fn no_such_folder(error: Diagnostic, path: &WsPath, above: &WsPath) -> Diagnostic {
    let error = error.note(format!("there is no folder `{above}`"));
    let is_of_machine = [
        "bin", "dev", "etc", "home", "opt", "proc", "root", "tmp", "usr", "var",
    ];
    let first = path.parts().next();
    match first.filter(|first| is_of_machine.contains(first)) {
        Some(_) => {
            error.note("`/` begins at the workspace's root: files of the machine cannot be inputs")
        }
        None => error,
    }
}

/// The plain names of outputs in a declaration's commands, as far as they are literal.
pub(super) fn output_names(module: &Module, decl: &Decl) -> Vec<Arc<str>> {
    let mut names = Vec::new();
    let Some(whole) = decl.to_tell().body.map(|body| module.span(body)) else {
        return names;
    };
    let (first, last) = (whole.start, whole.end);
    for (i, expr) in module.exprs.iter().enumerate() {
        let span = module.spans[i];
        if span.start < first || span.end > last {
            continue;
        }
        let Expr::Command(command) = expr else {
            continue;
        };
        for stage in &command.stages {
            let words = stage.words.iter().chain(&stage.stdout).chain(&stage.stderr);
            for piece in words.flat_map(|w| &w.pieces) {
                if let WordPiece::Out { path, .. } = piece
                    && let Expr::Plain(text) = module.expr(*path)
                {
                    names.push(text.rsplit('/').next().unwrap_or(text).into());
                }
            }
        }
    }
    names
}

/// Whether two paths are in the same unpacked kit.
fn of_one_archive(one: &WsPath, other: &WsPath) -> bool {
    let archive = |path: &WsPath| {
        let below = path.as_str().strip_prefix(KITS_FOLDER)?.strip_prefix('/')?;
        Some(below.split('/').next().unwrap_or_default().to_owned())
    };
    archive(one).is_some_and(|name| archive(other) == Some(name))
}
