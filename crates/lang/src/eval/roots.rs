//! The image that something runs in: said by its own field `root`, by `under { root = … }` or
//! another choice of options, or by the settings of the workspace.

use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{ImageSearch, ImageSource, Native, PlainFile, ServiceImage};
use nubrik_source::{Span, WsPath};

use super::chosen::{Config, DEFAULTS, ROOT, SetOption, Setting, SettingValue};
use super::forms::FormValues;
use super::{Evaluator, Result, Scope, Stop};
use crate::value::*;
use crate::world::{Answer, NO_IMAGE};

/// What the option is called that says which image steps run in.
pub(crate) const ROOT_NAME: &str = "root";

impl Evaluator<'_> {
    /// The image that something of a form runs in.
    pub(super) fn root_for(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Option<FileRef>> {
        if let Some((root, root_span)) = values.get(ROOT_NAME) {
            let root = root.clone();
            return self.image_of(&root, root_span);
        }
        let set = self.choices.configs[scope.config.index()]
            .set
            .get(&ROOT)
            .cloned();
        self.note_read(ROOT, set.as_ref().map(|set| set.written.clone()));
        match (set, self.world.roots().of(&scope.owner.package).cloned()) {
            (Some(set), _) => self.image_of(&set.value, span),
            (None, None) => Ok(None),
            (None, Some(address)) => self
                .image_at(&address, "`[steps]` in nubrik.toml")
                .map(Some),
        }
    }

    /// The statement of the image that a value is; nothing for `none`.
    pub(super) fn image_of(&mut self, value: &Value, span: Span) -> Result<Option<FileRef>> {
        if let Value::None = value {
            return Ok(None);
        }
        let file = self.lone_file(value).cloned();
        let maker = file.as_ref().and_then(|file| file.maker);
        let native =
            maker.and_then(|maker| self.drafting.graph.steps[maker as usize].native.as_deref());
        match (file, native) {
            (Some(file), Some(Native::Image(_))) => Ok(Some(file)),
            _ => {
                let message = format!("expected an image, found {}", value.described());
                let error = Diagnostic::error("wrong-type", message);
                self.fail(
                    span,
                    error.mend("root = image { archive = \"images/base.tar\" }"),
                )
            }
        }
    }

    /// The image at an address that settings name, by `origin`. What is wrong with it is reported
    /// once.
    fn image_at(&mut self, address: &str, origin: &str) -> Result<FileRef> {
        if let Some(reported) = self.choices.bad_root {
            return Err(Stop::Failed(reported));
        }
        let image = self.image_by(address, origin);
        if let Err(Stop::Failed(reported)) = &image {
            self.choices.bad_root = Some(*reported);
        }
        image
    }

    fn image_by(&mut self, address: &str, origin: &str) -> Result<FileRef> {
        let wanted = format!("steps are to run in `{address}` ({origin})");
        let path = match WsPath::root().resolve(address.trim_start_matches('/')) {
            Ok(path) => path,
            Err(problem) => {
                let error = Diagnostic::error("bad-path", problem.to_string());
                return self.fail_whole(error.note(wanted));
            }
        };
        let meanings = self.meanings(&path)?;
        let [meaning] = meanings.as_slice() else {
            let error = match meanings.is_empty() {
                true => self.no_such_address(&path),
                false => Diagnostic::error("two-meanings", format!("`{path}` means two things"))
                    .mend("write the whole path: package, target, then the way into it"),
            };
            return self.fail_whole(error.note(wanted));
        };
        let declared_at = self
            .module(meaning.decl.module)
            .decl(meaning.decl)
            .name
            .span;
        let value = self.declaration(meaning.decl, DEFAULTS, declared_at)?;
        let value = self.way_into(value, &meaning.way, declared_at)?;
        match self.image_of(&value, declared_at)? {
            Some(image) => Ok(image),
            None => {
                let error = Diagnostic::error("wrong-type", format!("`{path}` is no image"));
                self.fail(declared_at, error.note(wanted))
            }
        }
    }

    /// Sets the image in a choice of options. What all steps have anyway is no choice.
    fn set_root(&mut self, config: &mut Config, image: Option<FileRef>) {
        let set = match image {
            None => SetOption {
                value: Value::None,
                written: NO_IMAGE.into(),
            },
            Some(image) => SetOption {
                written: self.address_of(&image),
                value: Value::File(image),
            },
        };
        let roots = self.world.roots();
        let usual = roots
            .usual
            .as_deref()
            .map_or(NO_IMAGE, |usual| usual.trim_start_matches('/'));
        match roots.are_the_same() && *usual == *set.written {
            true => drop(config.set.remove(&ROOT)),
            false => drop(config.set.insert(ROOT, set)),
        }
    }

    /// Sets the image that `under` names.
    pub(super) fn set_root_under(
        &mut self,
        config: &mut Config,
        value: &Value,
        span: Span,
    ) -> Result<()> {
        let image = self.image_of(value, span)?;
        self.set_root(config, image);
        Ok(())
    }

    /// What an image is called among options: its target.
    fn address_of(&self, image: &FileRef) -> Arc<str> {
        let graph = &self.drafting.graph;
        let target = image.maker.map(|maker| graph.steps[maker as usize].target);
        target.map_or_else(
            || image.path.shared().clone(),
            |target| graph.targets[target.index()].address.clone(),
        )
    }

    /// Sets the image as a setting from outside says.
    pub(super) fn set_root_by(&mut self, config: &mut Config, setting: &Setting) -> Result<()> {
        let image = match &setting.value {
            SettingValue::Word(word) if word == NO_IMAGE => None,
            SettingValue::Word(address) => Some(self.image_at(address, &setting.origin)?),
            other => {
                let message = format!("{other} is no image ({})", setting.origin);
                let error = Diagnostic::error("option-value", message);
                return self.fail_whole(error.mend("root = \"/images/base\""));
            }
        };
        self.set_root(config, image);
        Ok(())
    }

    /// Where an image is, by its statement.
    pub(super) fn source_of(&self, statement: &FileRef) -> Option<ImageSource> {
        let maker = statement
            .maker
            .map(|maker| &self.drafting.graph.steps[maker as usize]);
        match maker.and_then(|maker| maker.native.as_deref()) {
            Some(Native::Image(source)) => Some(source.clone()),
            _ => None,
        }
    }

    /// A file of the graph, as values have it.
    pub(super) fn file_ref(&self, file: nubrik_graph::FileId) -> FileRef {
        let node = self.drafting.graph.file(file);
        FileRef {
            path: node.path.clone(),
            maker: node.maker.map(|maker| maker.0),
            folder: node.folder,
        }
    }

    /// The image that a service runs in.
    pub(super) fn service_image(&self, statement: &FileRef) -> Option<ServiceImage> {
        let graph = &self.drafting.graph;
        let maker = &graph.steps[statement.maker? as usize];
        let Some(Native::Image(image)) = maker.native.as_deref() else {
            return None;
        };
        let plain = |file: &nubrik_graph::FileId| {
            let node = graph.file(*file);
            PlainFile {
                path: node.path.clone(),
                folder: node.folder,
            }
        };
        let ImageSource {
            files,
            name,
            platform,
        } = image.with_files(plain);
        Some(ServiceImage {
            statement: statement.path.clone(),
            files,
            name,
            platform,
        })
    }

    /// What is found in an image: by a step that is kept, whose answer is there or waited for.
    pub(super) fn found_in_image(
        &mut self,
        scope: &Scope,
        image: FileRef,
        finding: ImageSearch,
        span: Span,
    ) -> Result<Arc<str>> {
        let native = Native::Find(finding);
        let mut what = blake3::Hasher::new();
        what.update(image.path.as_str().as_bytes());
        what.update(format!("{native:?}").as_bytes());
        let mut draft = self.draft(
            &scope.owner,
            &format!("found-{}", &what.finalize().to_hex()[..12]),
        );
        let number = match self.known_native(&draft, &native) {
            Some(known) => known,
            None => {
                self.outline_output(
                    &mut draft,
                    &Some("answer".into()),
                    &"answer".into(),
                    false,
                    span,
                )?;
                draft.step.root = Some(self.file_id(&image));
                let say = format!("look into image {}", self.address_of(&image));
                draft.inputs.push(image);
                match self.enter_native(scope, draft, native, say, span)? {
                    Value::Step(number) => number,
                    _ => return self.failed_before(span),
                }
            }
        };
        self.note_probe();
        let (folder, output) = {
            let step = &self.drafting.graph.steps[number as usize];
            (step.folder.clone(), step.outputs[0].file)
        };
        match self.world.probe(&folder) {
            Answer::Ready(answer) => Ok(answer.text),
            Answer::Pending => {
                self.wanted.probes.push(output);
                self.wait()
            }
        }
    }
}
