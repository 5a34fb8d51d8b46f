//! `unpack`: what is in an archive, made by the tool itself.

use nubrik_graph::{Native, Unpacking};
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::natives::{FORMATS, without_ending};
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "unpack",
        builtin: Builtin::Unpack,
        shape: CallShape::Braces,
        doc: "The folder that an archive holds.",
        fields: &[
            field(
                "archive",
                FieldType::File,
                true,
                "a .tar, .tar.gz, .tar.zst or .zip",
            ),
            field("format", FieldType::Text, false, FORMATS),
            field(
                "strip",
                FieldType::Int,
                false,
                "how many leading folders of each name are dropped",
            ),
            field(
                "path",
                FieldType::Text,
                false,
                "the name of the folder; the archive's without its ending by default",
            ),
        ],
        gives: &[],
        example: "target charts = unpack { archive = \"charts.tar.gz\", strip = 1 }",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.unpack_form(scope, values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn unpack_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let (archive, archive_span) = values
            .get("archive")
            .map_or((Value::None, span), |(v, s)| (v.clone(), s));
        let archive = self.one_file(&archive, archive_span)?;
        let name = archive.path.name().to_owned();
        let format = self.archive_format(values, &name, archive_span)?;
        let (path, path_span) = self
            .plain(values, "path")?
            .unwrap_or_else(|| (without_ending(&name).into(), span));
        let strip = self.small_number(values, "strip")?.unwrap_or(0);
        let mut draft = self.native_draft(scope, &path, true, path_span)?;
        let id = self.file_id(&archive);
        draft.inputs.push(archive);
        let native = Native::Unpack {
            archive: id,
            how: Unpacking { format, strip },
        };
        self.enter_native(scope, draft, native, format!("unpack {name}"), span)
    }
}
