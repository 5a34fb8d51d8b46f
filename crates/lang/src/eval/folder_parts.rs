//! `folder / "path"`: what is below a source folder, or in a folder that a step makes.

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::Native;
use nubrik_source::{Span, WsPath};

use super::{Evaluator, Result, Scope};
use crate::value::*;
use crate::world::{Answer, EntryKind};

impl Evaluator<'_> {
    /// What is below a folder.
    pub(super) fn join_path(
        &mut self,
        scope: &Scope,
        folder: Value,
        path: Value,
        span: Span,
    ) -> Result<Value> {
        let folder = match &folder {
            Value::File(file) => Some(file.clone()),
            Value::Step(_) | Value::Record(_) | Value::Files(_) => self.lone_file(&folder).cloned(),
            _ => None,
        };
        let (Some(folder), Value::Text(Text::Plain(text))) = (folder.filter(|f| f.folder), &path)
        else {
            let error = Diagnostic::error(
                "wrong-type",
                "`/` joins a folder and a path; there is no division",
            );
            return self.fail(
                span,
                error.note(format!("found {} at its right side", path.described())),
            );
        };
        let inner = folder.path.resolve(text.trim_start_matches('/'));
        let inner = self.at(
            span,
            inner.map_err(|p| Diagnostic::error("bad-path", p.to_string())),
        )?;
        if folder.maker.is_some() {
            return self.made_part(scope, folder, &inner, text.ends_with('/'), span);
        }
        match self.world.kind(&inner) {
            Answer::Pending => self.wait(),
            Answer::Ready(Some(kind)) => Ok(Value::File(FileRef {
                path: inner,
                maker: None,
                folder: kind == EntryKind::Folder,
            })),
            Answer::Ready(None) => {
                let error = Diagnostic::error(
                    "no-such-file",
                    format!("there is no file or folder `{inner}`"),
                );
                self.fail(span, error)
            }
        }
    }

    /// A part of a folder that a step makes: what the folder holds is known when it is there, so
    /// that the part is a result of its own, taken out then. Who uses it depends on nothing else in
    /// the folder.
    fn made_part(
        &mut self,
        scope: &Scope,
        from: FileRef,
        inner: &WsPath,
        folder: bool,
        span: Span,
    ) -> Result<Value> {
        let Some(path) = inner.below(&from.path).filter(|path| !path.is_empty()) else {
            if inner == &from.path {
                return Ok(Value::File(from));
            }
            let error = Diagnostic::error("bad-path", "this path leads out of the folder");
            return self.fail(span, error.note("`/` takes what is below a folder"));
        };
        let path = self.path_within(path, span)?;
        // Parts of different folders may have one name.
        let place = blake3::hash(inner.as_str().as_bytes()).to_hex();
        let name = inner.name().to_owned();
        let mut draft = self.draft(
            &scope.owner,
            &format!(
                "part-{}{}",
                &place[..12],
                if folder { "-folder" } else { "" }
            ),
        );
        let native = Native::Part {
            folder: self.file_id(&from),
            path: path.clone(),
            is_folder: folder,
        };
        let step = match self.known_native(&draft, &native) {
            Some(known) => Value::Step(known),
            None => {
                self.outline_output(&mut draft, &None, &name.into(), folder, span)?;
                draft.inputs.push(from);
                self.enter_native(scope, draft, native, format!("take {path}"), span)?
            }
        };
        Ok(Value::File(self.one_file(&step, span)?))
    }
}
