//! `image`: a file system in which steps can run.

use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{ImageFiles, ImageSource, Native, PROCESSORS};
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::natives::without_ending;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "image",
        builtin: Builtin::Image,
        shape: CallShape::Braces,
        doc: "An image of the OCI specification: a file system that steps run in, by `root`, in place of this machine's system. What it holds is a part of their keys, and nothing else of the machine is.",
        fields: &[
            field(
                "layout",
                FieldType::Folder,
                false,
                "the folder that holds it, with its file `oci-layout`",
            ),
            field(
                "archive",
                FieldType::File,
                false,
                "the same as a tar archive",
            ),
            field(
                "manifest",
                FieldType::File,
                false,
                "its manifest alone, with `blobs`: how kits have it that is pinned",
            ),
            field(
                "blobs",
                FieldType::Files,
                false,
                "what the manifest names, each called by the hexadecimal digits of its digest",
            ),
            field(
                "name",
                FieldType::Text,
                false,
                "what the layout calls it, such as \"1.2\", where that holds several",
            ),
            field(
                "processor",
                FieldType::Text,
                false,
                "the processor that it must be for, this machine's by default, such as \"aarch64\"",
            ),
        ],
        gives: &[],
        example: "let base = image { archive = \"images/base.tar\" }",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.image_form(scope, values, span)),
};

/// Fields of which one says where an image is.
const PLACES: [&str; 3] = ["layout", "archive", "manifest"];

impl Evaluator<'_> {
    /// The processor that a field names; this machine's where there is none.
    pub(in crate::eval) fn processor_of(&mut self, values: &FormValues) -> Result<Arc<str>> {
        match self.plain(values, "processor")? {
            None => Ok(std::env::consts::ARCH.into()),
            Some((processor, _)) if PROCESSORS.contains(&&*processor) => Ok(processor),
            Some((processor, at)) => {
                let known: Vec<Arc<str>> = PROCESSORS.iter().map(|known| (*known).into()).collect();
                self.fail(at, crate::types::not_an_alternative(&processor, &known))
            }
        }
    }

    pub(in crate::eval) fn image_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let given: Vec<(&str, Value, Span)> = PLACES
            .iter()
            .filter_map(|name| {
                values
                    .get(name)
                    .map(|(value, span)| (*name, value.clone(), span))
            })
            .collect();
        let (place, given, given_span) = match given.as_slice() {
            [one] => one.clone(),
            [_, (second, _, second_span), ..] => {
                let error =
                    Diagnostic::error("wrong-call", "an image is in one place, and two are named");
                return self.fail(*second_span, error.mend(format!("leave out `{second}`")));
            }
            [] => {
                let error = Diagnostic::error(
                    "missing-field",
                    "this `image` does not say where the image is",
                );
                let error = error
                    .mend("layout = \"images/base\"")
                    .mend("archive = \"images/base.tar\"");
                return self.fail(span, error);
            }
        };
        let file = match given {
            Value::File(file) => file,
            other => self.one_file(&other, given_span)?,
        };
        let blobs = self.files_of(&values.value("blobs"), span)?;
        match (place, values.get("blobs")) {
            ("manifest", None) => {
                let error = Diagnostic::error(
                    "missing-field",
                    "the manifest names blobs, and there are none",
                );
                return self.fail(given_span, error.mend("blobs = [ … ]"));
            }
            ("layout" | "archive", Some((_, at))) => {
                let error =
                    Diagnostic::error("wrong-call", format!("the blobs are in the {place}"));
                return self.fail(at, error.mend("leave out `blobs`"));
            }
            _ => {}
        }
        let name = self.plain(values, "name")?.map(|(name, _)| name);
        let processor = self.processor_of(values)?;
        self.image_in(scope, (place, file), blobs, (name, processor), given_span)
    }

    /// The statement of an image in a place, one of [`PLACES`].
    pub(super) fn image_in(
        &mut self,
        scope: &Scope,
        (place, file): (&str, FileRef),
        blobs: Vec<FileRef>,
        (name, processor): (Option<Arc<str>>, Arc<str>),
        span: Span,
    ) -> Result<Value> {
        let stem = match file.folder {
            true => file.path.name().to_owned(),
            false if place == "manifest" => file.path.name().trim_end_matches(".json").to_owned(),
            false => without_ending(file.path.name()).to_owned(),
        };
        let called = name
            .as_deref()
            .map_or_else(String::new, |name| format!("-{}", name.replace('/', "+")));
        let mut draft = self.native_draft(scope, &format!("{stem}{called}.image"), false, span)?;
        let first = self.file_id(&file);
        let rest = blobs.iter().map(|blob| self.file_id(blob)).collect();
        draft.inputs.push(file);
        draft.inputs.extend(blobs);
        let files = match place {
            "manifest" => ImageFiles::Blobs {
                manifest: first,
                blobs: rest,
            },
            _ => ImageFiles::Layout(first),
        };
        let platform = (std::env::consts::OS.into(), processor);
        let native = Native::Image(ImageSource {
            files,
            name,
            platform,
        });
        if let Some(known) = self.known_native(&draft, &native) {
            return Ok(Value::Step(known));
        }
        self.enter_native(
            scope,
            draft,
            native,
            format!("unpack image {stem}{called}"),
            span,
        )
    }
}
