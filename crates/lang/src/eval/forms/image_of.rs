//! `image_of`: an image that the tool makes.

use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{ArchiveFormat, Native, NewImage, NewLayer};
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::counting::StepCommands;
use crate::eval::natives::without_ending;
use crate::eval::strands::leaves_of;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "image_of",
        builtin: Builtin::ImageOf,
        shape: CallShape::Braces,
        doc: "An image of the OCI specification, as an archive of a layout, the same bytes on every machine: the layers of another image, one with these files, and one with what commands change.",
        fields: &[
            field(
                "path",
                FieldType::Text,
                true,
                "the name of the archive, which ends with .tar",
            ),
            field(
                "base",
                FieldType::File,
                false,
                "the image whose layers it begins with; without one it holds only these files",
            ),
            field("files", FieldType::Places, false, "what goes where in it"),
            field(
                "run",
                FieldType::Commands,
                false,
                "commands that run in it once the files are there, as its superuser: all that they change in it is a part of it",
            ),
            field(
                "reads",
                FieldType::Files,
                false,
                "what `run` reads of the workspace, and no word of it names",
            ),
            field(
                "network",
                FieldType::Bool,
                false,
                "whether `run` may use the network",
            ),
            TIMEOUT,
            MEMORY,
            field(
                "start",
                FieldType::Texts,
                false,
                "the program that is started in it, and its words",
            ),
            field(
                "env",
                FieldType::TextMap,
                false,
                "variables that programs in it have",
            ),
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

/// Fields that say how `run` runs.
const OF_RUN: [&str; 5] = ["run", "reads", "network", "timeout", "memory"];

/// How what is in a new image is run, and on which machines.
struct RunSettings {
    env: Vec<(Arc<str>, Arc<str>)>,
    start: Vec<Arc<str>>,
    folder: Option<Arc<str>>,
    platform: (Arc<str>, Arc<str>),
}

impl RunSettings {
    /// Nothing but for which machines it is.
    fn of_platform(platform: (Arc<str>, Arc<str>)) -> RunSettings {
        RunSettings {
            env: Vec::new(),
            start: Vec::new(),
            folder: None,
            platform,
        }
    }
}

/// The layer that an image is made with, and the files that this takes.
struct LayerOf {
    layer: NewLayer,
    files: Vec<FileRef>,
}

impl Evaluator<'_> {
    pub(in crate::eval) fn image_of_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let (path, path_span) = self
            .plain(values, "path")?
            .unwrap_or_else(|| ("".into(), span));
        if ArchiveFormat::of_file(&path) != Some(ArchiveFormat::Tar) {
            let error =
                Diagnostic::error("wrong-type", format!("\"{path}\" does not end with .tar"));
            let error = error.note("the layers in it are compressed on their own");
            return self.fail(path_span, error.mend("path = \"almanac.tar\""));
        }
        let folder = self.folder_in_image(values)?;
        let platform = (std::env::consts::OS.into(), self.processor_of(values)?);
        let settings = RunSettings {
            env: self.variables_in_image(values, span)?,
            start: values.texts("start"),
            folder,
            platform: platform.clone(),
        };
        let base = match values.get("base") {
            Some((base, base_span)) => self.image_of(&base.clone(), base_span)?,
            None => None,
        };
        let Some((_, run_span)) = values.get("run") else {
            if let Some((_, at)) = OF_RUN.iter().find_map(|name| values.get(name)) {
                let error =
                    Diagnostic::error("wrong-call", "this is for commands, and there are none");
                return self.fail(at, error.mend("run = `…`"));
            }
            return self.image_of_files(scope, values, (&path, base.as_ref()), settings, span);
        };
        let begun = match (values.get("files"), base) {
            (None, Some(base)) => base,
            (None, None) => {
                let error = Diagnostic::error(
                    "missing-field",
                    "there is no image in which the commands could run",
                );
                return self.fail(
                    run_span,
                    error.mend("base = image { archive = \"images/base.tar\" }"),
                );
            }
            (Some(_), base) => {
                let begun: Arc<str> = format!("{}.begun.tar", without_ending(&path)).into();
                let settings = RunSettings::of_platform(platform.clone());
                let made =
                    self.image_of_files(scope, values, (&begun, base.as_ref()), settings, span)?;
                let archive = self.one_file(&made, span)?;
                let processor = platform.1;
                let image = self.image_in(
                    scope,
                    ("archive", archive),
                    Vec::new(),
                    (None, processor),
                    span,
                )?;
                self.one_file(&image, span)?
            }
        };
        let layer = self.layer_by_commands(scope, values, (&path, &begun), run_span)?;
        let layer = LayerOf {
            layer: NewLayer::Tar(self.file_id(&layer)),
            files: vec![layer],
        };
        self.enter_image(scope, (&path, path_span), Some(&begun), layer, settings)
    }

    /// The folder in which the program of an image is started.
    fn folder_in_image(&mut self, values: &FormValues) -> Result<Option<Arc<str>>> {
        match self.plain(values, "folder")? {
            Some((folder, at)) if !folder.starts_with('/') => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("\"{folder}\" is no folder of an image"),
                );
                self.fail(at, error.mend(format!("folder = \"/{folder}\"")))
            }
            folder => Ok(folder.map(|(folder, _)| folder)),
        }
    }

    /// The variables of an image, sorted by name.
    fn variables_in_image(
        &mut self,
        values: &FormValues,
        span: Span,
    ) -> Result<Vec<(Arc<str>, Arc<str>)>> {
        let mut env = Vec::new();
        let Value::Map(map) = values.value("env") else {
            return Ok(env);
        };
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
        env.sort();
        Ok(env)
    }

    /// An image with a layer of the files that the field `files` says.
    fn image_of_files(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        (path, base): (&Arc<str>, Option<&FileRef>),
        settings: RunSettings,
        span: Span,
    ) -> Result<Value> {
        let Some((files, files_span)) = values.get("files") else {
            let error = Diagnostic::error("missing-field", "this image has nothing of its own");
            let error = error
                .mend("files = { \"usr/bin/tidecast\": tidecast }")
                .mend("run = `…`");
            return self.fail(span, error);
        };
        let places = self.places(files.clone(), scope.module, files_span)?;
        let mut taken = self.draft(&scope.owner, path);
        let files = self.placements(&places, ("", files_span), &mut taken)?;
        let layer = LayerOf {
            layer: NewLayer::Files(files),
            files: taken.inputs.into_vec(),
        };
        self.enter_image(scope, (path, span), base, layer, settings)
    }

    /// Enters the step that makes an image.
    fn enter_image(
        &mut self,
        scope: &Scope,
        (path, span): (&Arc<str>, Span),
        base: Option<&FileRef>,
        layer: LayerOf,
        settings: RunSettings,
    ) -> Result<Value> {
        let mut draft = self.native_draft(scope, path, false, span)?;
        draft.inputs.extend(layer.files);
        let base = base.and_then(|base| self.source_of(base));
        if let Some(base) = &base {
            let below = base
                .each_file()
                .map(|file| self.file_ref(*file))
                .collect::<Vec<_>>();
            draft.inputs.extend(below);
        }
        let RunSettings {
            env,
            start,
            folder,
            platform,
        } = settings;
        let new = NewImage {
            base,
            layer: layer.layer,
            env,
            start,
            folder,
            platform,
        };
        self.enter_native(
            scope,
            draft,
            Native::MakeImage(Box::new(new)),
            format!("make image {path}"),
            span,
        )
    }

    /// A layer of all that commands change in an image.
    fn layer_by_commands(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        (path, image): (&str, &FileRef),
        span: Span,
    ) -> Result<FileRef> {
        let commands = StepCommands::of(values.commands());
        for strand in leaves_of(commands.own()) {
            if let WordStrand::Out { span, .. } = strand {
                let error = Diagnostic::error(
                    "wrong-type",
                    "what these commands change is in the image: they have no outputs",
                );
                return self.fail(
                    *span,
                    error.mend("write to a path of the image, such as /usr/share/tide"),
                );
            }
        }
        let first: Arc<str> = format!("{}.layer.tar", without_ending(path)).into();
        let mut draft = self.draft(&scope.owner, &first);
        self.outline_output(&mut draft, &None, &first, false, span)?;
        for strand in leaves_of(commands.own()) {
            self.outline_strand(&mut draft, strand, false)?;
        }
        draft.changes_root = true;
        draft.step.root = Some(self.file_id(image));
        draft.inputs.push(image.clone());
        let values = values.only(&OF_RUN);
        let made = self.finish_step(scope, draft, &commands, &values, span)?;
        self.one_file(&made, span)
    }
}
