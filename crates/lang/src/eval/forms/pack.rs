//! `pack`: an archive, made by the tool itself.

use nubrik_graph::Native;
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::natives::FORMATS;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "pack",
        builtin: Builtin::Pack,
        shape: CallShape::Braces,
        doc: "An archive, the same bytes on every machine: order, times and owners are fixed.",
        fields: &[
            field(
                "path",
                FieldType::Text,
                true,
                "the name of the archive; its ending says the format: .tar.gz, .tar.zst, .tar, .zip",
            ),
            field(
                "files",
                FieldType::Places,
                true,
                "what goes where in the archive",
            ),
            field(
                "prefix",
                FieldType::Text,
                false,
                "a folder in the archive that holds everything",
            ),
            field("format", FieldType::Text, false, FORMATS),
        ],
        gives: &[],
        example: "target release = pack {\n    path = \"almanac-1.2.tar.gz\"\n    prefix = \"almanac-1.2\"\n    files = { \"bin/tidecast\": tidecast }\n}",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.pack_form(scope, values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn pack_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let (path, path_span) = self
            .plain(values, "path")?
            .unwrap_or_else(|| ("".into(), span));
        let format = self.archive_format(values, &path, path_span)?;
        let prefix = match self.plain(values, "prefix")? {
            Some((prefix, span)) => {
                self.check_name(&prefix, span)?;
                format!("{prefix}/")
            }
            None => String::new(),
        };
        let (files, files_span) = values
            .get("files")
            .map_or((Value::None, span), |(v, s)| (v.clone(), s));
        let places = self.places(files, scope.module, files_span)?;
        let mut draft = self.native_draft(scope, &path, false, path_span)?;
        let files = self.placements(&places, (&prefix, files_span), &mut draft)?;
        self.enter_native(
            scope,
            draft,
            Native::Pack { format, files },
            format!("pack {path}"),
            span,
        )
    }
}
