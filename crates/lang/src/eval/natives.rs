//! Forms whose work the tool does itself: files written, put together, packed, unpacked and
//! fetched.

use std::collections::BTreeMap;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{ArchiveFormat, KEPT, Native, Placement};
use nubrik_source::{PathWithin, Span, WsPath, written_text};

use super::forms::FormValues;
use super::steps::Draft;
use super::words::ends_path;
use super::{Evaluator, Result, Scope};
use crate::globs::{all_below, is_pattern};
use crate::hir::*;
use crate::types::Type;
use crate::value::*;
use crate::world::{Answer, EntryKind};

/// Where each file goes in a folder or archive. Several folders may be laid at one place: then the
/// path of each is part of its key.
type Places = BTreeMap<(Arc<str>, Option<WsPath>), FileRef>;

impl Evaluator<'_> {
    pub(super) fn small_number(&mut self, values: &FormValues, name: &str) -> Result<Option<u32>> {
        match values.int(name) {
            None => Ok(None),
            Some((number, span)) => match u32::try_from(number).ok().filter(|n| *n <= 4096) {
                Some(number) => Ok(Some(number)),
                None => {
                    let message = format!("`{name}` is a number from 0 to 4096, found {number}");
                    self.fail(span, Diagnostic::error("out-of-range", message))
                }
            },
        }
    }

    pub(super) fn native_draft(
        &mut self,
        scope: &Scope,
        output: &str,
        folder: bool,
        span: Span,
    ) -> Result<Draft> {
        self.check_name(output, span)?;
        let output: Arc<str> = output.into();
        let mut draft = self.draft(&scope.owner, &output);
        self.outline_output(&mut draft, &None, &output, folder, span)?;
        Ok(draft)
    }

    /// The step that does the very same in the same folder, wherever it was written.
    pub(super) fn known_native(&self, draft: &Draft, native: &Native) -> Option<u32> {
        let steps = &self.drafting.graph.steps;
        let folder = &draft.step.folder;
        let same =
            |n: usize| steps[n].folder == *folder && steps[n].native.as_deref() == Some(native);
        self.drafting
            .steps
            .find(nubrik_graph::row_digest(folder.as_str()), same)
            .map(|n| n as u32)
    }

    pub(super) fn enter_native(
        &mut self,
        scope: &Scope,
        mut draft: Draft,
        native: Native,
        say: String,
        span: Span,
    ) -> Result<Value> {
        let mut inputs = Vec::new();
        for file in std::mem::take(&mut draft.inputs) {
            self.add_input(&file, &mut inputs)?;
        }
        draft.step.inputs = inputs.into();
        draft.step.say = say.into();
        draft.step.native = Some(Box::new(native));
        self.enter(scope, draft, span)
    }

    /// The format of an archive: as the field `format` says, else its name.
    pub(super) fn archive_format(
        &mut self,
        values: &FormValues,
        name: &str,
        name_span: Span,
    ) -> Result<ArchiveFormat> {
        if let Some((format, span)) = self.plain(values, "format")? {
            let names: Vec<Arc<str>> = ArchiveFormat::ALL
                .iter()
                .map(|(n, _)| (*n).into())
                .collect();
            return match ArchiveFormat::named(&format) {
                Some(format) => Ok(format),
                None => self.fail(span, crate::types::not_an_alternative(&format, &names)),
            };
        }
        if let Some(format) = ArchiveFormat::of_file(name) {
            return Ok(format);
        }
        let error = Diagnostic::error(
            "wrong-type",
            format!("the name \"{name}\" does not say a format"),
        );
        let error = error
            .note("archives end in .tar.gz, .tgz, .tar.zst, .tar, .zip, or in .crate, .jar, .whl")
            .mend("format = \"tar.gz\"")
            .mend("format = \"zip\"");
        self.fail(name_span, error)
    }

    /// What goes where: the entries of a map, or files at the top.
    pub(super) fn places(&mut self, value: Value, base: ModuleId, span: Span) -> Result<Places> {
        let mut places = Places::new();
        match value {
            Value::Map(map) => {
                for (key, thunk) in &map.entries {
                    let inside = key.strip_suffix('/').unwrap_or(key);
                    if !key.is_empty()
                        && inside
                            .split('/')
                            .any(|part| matches!(part, "" | "." | ".."))
                    {
                        let error = Diagnostic::error(
                            "bad-path",
                            format!("{key:?} is no place in a folder"),
                        );
                        let error =
                            error.note("a place is a path below the top, such as \"share/doc\"");
                        return self.fail(thunk.span, error.mend("\"\": …   for the top itself"));
                    }
                    let value = self.force(thunk, span)?;
                    self.place_value(&mut places, key, value, base, thunk.span)?;
                }
            }
            Value::Record(record) if record.get("files").is_none() && record.fields.is_empty() => {}
            other => self.place_value(&mut places, "", other, base, span)?,
        }
        // A file cannot be a folder as well.
        let mut before: Option<&Arc<str>> = None;
        for (path, _) in places.keys() {
            if let Some(first) =
                before.filter(|b| path.strip_prefix(&***b).is_some_and(|r| r.starts_with('/')))
            {
                let message = format!("`{first}` is a file, so `{path}` cannot be below it");
                return self.fail(span, Diagnostic::error("made-twice", message));
            }
            before = Some(path);
        }
        Ok(places)
    }

    pub(super) fn place_value(
        &mut self,
        places: &mut Places,
        at: &str,
        value: Value,
        base: ModuleId,
        span: Span,
    ) -> Result<()> {
        // A place that ends with `/` is a folder, whatever is put there; any other is one file,
        // however it was written.
        let (at, single) = match at.strip_suffix('/') {
            Some(folder) => (folder, false),
            None => (at, !at.is_empty()),
        };
        let files = match &value {
            Value::Text(text) if is_single_path(text) => {
                vec![self.file_or_folder(text, base, span)?]
            }
            _ => {
                let files = self.coerce(value, &Type::Files, base, span)?;
                self.files_of(&files, span)?
            }
        };
        if single && files.len() > 1 {
            let error = Diagnostic::error(
                "bad-path",
                format!("{} files cannot all be `{at}`", files.len()),
            );
            let error = error.note("a place that ends with `/` is a folder that holds them");
            return self.fail(span, error.mend(format!("\"{at}/\"")));
        }
        for file in files {
            let below = |name: &str| match at.is_empty() {
                true => name.to_owned(),
                false => format!("{at}/{name}"),
            };
            if !file.folder {
                let to = match single {
                    true => at.to_owned(),
                    false => below(file.path.name()),
                };
                self.place_file(places, to, file, span)?;
            } else if file.maker.is_some() {
                self.place_file(places, at.to_owned(), file, span)?;
            } else {
                let Answer::Ready(paths) = all_below(self.world, &file.path) else {
                    return self.wait();
                };
                for path in paths {
                    let to = below(path.below(&file.path).unwrap_or(path.name()));
                    let file = FileRef {
                        path,
                        maker: None,
                        folder: false,
                    };
                    self.place_file(places, to, file, span)?;
                }
            }
        }
        Ok(())
    }

    pub(super) fn file_or_folder(
        &mut self,
        text: &Text,
        base: ModuleId,
        span: Span,
    ) -> Result<FileRef> {
        let path = self.resolve_path(text, base, span)?;
        let kind = match self.world.kind(&path) {
            Answer::Pending => return self.wait(),
            Answer::Ready(kind) => kind.unwrap_or(EntryKind::File),
        };
        self.existing(path, kind, base, span)
    }

    pub(super) fn place_file(
        &mut self,
        places: &mut Places,
        to: String,
        file: FileRef,
        span: Span,
    ) -> Result<()> {
        let key: (Arc<str>, _) = match file.folder {
            true => (
                format!("{to}/").trim_start_matches('/').into(),
                Some(file.path.clone()),
            ),
            false => (to.into(), None),
        };
        match places.get(&key) {
            Some(first) if *first != file => {
                let message = format!(
                    "both `{}` and `{}` would be `{}`",
                    first.path, file.path, key.0
                );
                let error = Diagnostic::error("made-twice", message);
                self.fail(
                    span,
                    error.mend(
                        "{each f in files give \"folder/{f.below(self.folder)}\": f} keeps folders apart",
                    ),
                )
            }
            _ => {
                places.insert(key, file);
                Ok(())
            }
        }
    }

    pub(super) fn placements(
        &mut self,
        places: &Places,
        (prefix, span): (&str, Span),
        draft: &mut Draft,
    ) -> Result<Vec<Placement>> {
        let mut placements = Vec::new();
        for ((to, _), file) in places {
            draft.inputs.push(file.clone());
            let to = self.path_within(format!("{prefix}{to}").trim_end_matches('/'), span)?;
            placements.push(Placement {
                to,
                from: self.file_id(file),
            });
        }
        Ok(placements)
    }

    /// A path within a folder that the tool makes or takes something from.
    pub(super) fn path_within(&mut self, text: &str, span: Span) -> Result<PathWithin> {
        match PathWithin::new(text) {
            Some(path) => Ok(path),
            None => {
                let error =
                    Diagnostic::error("bad-path", format!("{text:?} leads out of its folder"));
                self.fail(
                    span,
                    error.note("a path within a folder has no `.`, no `..` and no empty part"),
                )
            }
        }
    }

    /// Refuses a name that no output and no folder in an archive may have.
    pub(super) fn check_name(&mut self, text: &str, span: Span) -> Result<()> {
        let odd = text.split('/').any(|p| matches!(p, "" | "." | ".."))
            || text.starts_with(['@', '~'])
            // What is made there is thrown away, or the step's own.
            || matches!(text.split('/').next(), Some(".scratch" | KEPT))
            || text.chars().any(|c| c.is_control());
        if !odd {
            return Ok(());
        }
        let error = Diagnostic::error(
            "bad-path",
            format!("{text:?} cannot be the name of an output"),
        );
        let error = error.note(
            "the tool chooses the folder; you write a relative name, such as \"almanac.html\"",
        );
        let name = text
            .rsplit('/')
            .find(|p| !matches!(*p, "" | "." | ".."))
            .map(|n| format!("\"{n}\""));
        self.fail(span, error.maybe_mend(name))
    }
}

/// What the field `format` of a form may be, for its documentation.
pub(super) const FORMATS: &str =
    "\"tar.gz\", \"tar.zst\", \"tar\" or \"zip\", if the name does not say it";

pub(super) fn without_ending(name: &str) -> &str {
    ArchiveFormat::and_stem(name)
        .map(|(_, stem)| stem)
        .filter(|stem| !stem.is_empty())
        .unwrap_or("files")
}

/// Adds a package or a key to the path of a folder: a part that cannot be in a path as it is, or
/// would look like the tool's own parts, gets a mark before it. Signs that mean something to
/// compilers, linkers or shells are written as their numbers, and so is what would end a path in
/// the middle of a text (see `words.rs`): paths of made folders are found in texts whole.
fn push_part(folder: &mut String, key: &str) {
    let is_plain = |c: char| {
        if c.is_ascii() {
            c.is_ascii_alphanumeric() || "._-+@~".contains(c)
        } else {
            !ends_path(c) && !c.is_control()
        }
    };
    for (i, part) in key.split('/').enumerate() {
        folder.push_str(if i > 0 { "/" } else { "" });
        if !part.chars().all(is_plain) {
            folder.push_str("+-");
            for c in part.chars() {
                match c != '+' && is_plain(c) {
                    true => folder.push(c),
                    false => folder.push_str(&format!("+{:02x}.", u32::from(c))),
                }
            }
            continue;
        }
        if matches!(part, "" | "." | "..") || part.starts_with(['@', '~', '+']) {
            folder.push('+');
        }
        folder.push_str(part);
    }
}

fn is_single_path(text: &Text) -> bool {
    text.plain().is_some_and(|text| !is_pattern(text))
}

/// The folder of everything that steps make, from the workspace's root.
pub(super) const MADE: &str = ".nubrik/made";

impl Evaluator<'_> {
    /// The folder of a step: package, target and keys, the variant, then the first output.
    pub(super) fn step_folder(&mut self, owner: &super::Owner, first: &str) -> (WsPath, Arc<str>) {
        let (variant_folder, variant) = self.variant();
        let folder = written_text(|folder| {
            folder.push_str(MADE);
            let package = Some(owner.package.as_str()).filter(|p| !p.is_empty());
            let variant = Some(&*variant_folder).filter(|f| !f.is_empty());
            if let Some(part) = package {
                folder.push('/');
                push_part(folder, part);
            }
            for part in &owner.parts {
                folder.push('/');
                push_part(folder, part);
            }
            if let Some(part) = variant {
                folder.push('/');
                folder.push_str(part);
            }
            folder.push_str("/@");
            for (i, part) in first.split('/').enumerate() {
                folder.push_str(if i > 0 { "+" } else { "" });
                folder.push_str(part);
            }
        });
        (WsPath::from_normal_text(folder), variant)
    }
}
