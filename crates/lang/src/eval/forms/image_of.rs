//! `image_of`: an image that the tool makes.

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{ArchiveFormat, Native, NewImage};
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "image_of",
        builtin: Builtin::ImageOf,
        shape: CallShape::Braces,
        doc: "An image of the OCI specification, as an archive of a layout, the same bytes on every machine: the layers of another image, and one with these files.",
        fields: &[
            field("path", FieldType::Text, true, "the name of the archive, which ends with .tar"),
            field(
                "base",
                FieldType::File,
                false,
                "the image whose layers it begins with; without one it holds these files alone",
            ),
            field("files", FieldType::Places, true, "what goes where in it"),
            field("start", FieldType::Texts, false, "the program that is started in it, and its words"),
            field("env", FieldType::TextMap, false, "variables that programs in it have"),
            field(
                "folder",
                FieldType::Text,
                false,
                "the folder in which the program is started, such as \"/srv\"",
            ),
            field(
                "processor",
                FieldType::Text,
                false,
                "the processor that it is for, this machine's by default",
            ),
        ],
        gives: &[],
        example: "target almanac_image = image_of {\n    path = \"almanac.tar\"\n    base = image { archive = \"images/base.tar\" }\n    files = { \"usr/bin/tidecast\": tidecast }\n    start = [\"/usr/bin/tidecast\", \"--serve\"]\n}",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.image_of_form(scope, values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn image_of_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let (path, path_span) = self.plain(values, "path")?.unwrap_or_else(|| ("".into(), span));
        if ArchiveFormat::of_file(&path) != Some(ArchiveFormat::Tar) {
            let error = Diagnostic::error("wrong-type", format!("\"{path}\" does not end with .tar"));
            let error = error.note("the layers in it are compressed on their own");
            return self.fail(path_span, error.mend("path = \"almanac.tar\""));
        }
        let base = match values.get("base") {
            Some((base, base_span)) => self.image_source(&base.clone(), base_span)?,
            None => None,
        };
        let folder = self.plain(values, "folder")?;
        if let Some((folder, at)) = folder.as_ref().filter(|(folder, _)| !folder.starts_with('/')) {
            let error = Diagnostic::error("wrong-type", format!("\"{folder}\" is no folder of an image"));
            return self.fail(*at, error.mend(format!("folder = \"/{folder}\"")));
        }
        let processor = self.processor_of(values)?;
        let mut env = Vec::new();
        if let Value::Map(map) = values.value("env") {
            self.check_keys(&map, span)?;
            for (name, thunk) in &map.entries {
                match self.force(thunk, span)? {
                    Value::Text(Text::Plain(value)) => env.push((name.clone(), value)),
                    _ => {
                        let error = Diagnostic::error(
                            "wrong-type",
                            "a variable of an image is a plain text: it carries no file",
                        );
                        return self.fail(thunk.span, error);
                    }
                }
            }
        }
        env.sort();
        let (files, files_span) = values.get("files").map_or((Value::None, span), |(v, s)| (v.clone(), s));
        let places = self.places(files, scope.module, files_span)?;
        let mut draft = self.native_draft(scope, &path, false, path_span)?;
        let files = self.placements(&places, ("", files_span), &mut draft)?;
        if let Some(base) = &base {
            let below = base.each_file().map(|file| self.file_ref(*file)).collect::<Vec<_>>();
            draft.inputs.extend(below);
        }
        let platform = (std::env::consts::OS.into(), processor);
        let start = values.texts("start");
        let folder = folder.map(|(folder, _)| folder);
        let new = NewImage { base, files, env, start, folder, platform };
        self.enter_native(scope, draft, Native::MakeImage(Box::new(new)), format!("make image {path}"), span)
    }
}
