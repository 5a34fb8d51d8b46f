//! `write`: a file with a text, made by the tool itself.

use nubrik_graph::Native;
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::words::plain_path_text;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "write",
        builtin: Builtin::Write,
        shape: CallShape::Braces,
        doc: "A file with a text, which nubrik writes itself.",
        fields: &[
            field("path", FieldType::Text, true, "the name of the output"),
            field(
                "text",
                FieldType::Text,
                true,
                "what it holds; a file in the text is written as its path",
            ),
            field(
                "executable",
                FieldType::Bool,
                false,
                "whether it may be executed",
            ),
        ],
        gives: &[],
        example: "target version_header = write {\n    path = \"version.h\"\n    text = \"#define VERSION \\\"1.2\\\"\\n\"\n}",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.write_form(scope, values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn write_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let (path, path_span) = self
            .plain(values, "path")?
            .unwrap_or_else(|| ("".into(), span));
        let mut draft = self.native_draft(scope, &path, false, path_span)?;
        let Value::Text(text) = values.value("text") else {
            return self.failed_before(span);
        };
        for strand in &text.strands() {
            match strand {
                Strand::File(file) => draft.inputs.push(file.clone()),
                Strand::Tool(tool) => draft.tools.push(self.tool_id(&tool.name)),
                Strand::Secret(_) | Strand::Served(..) | Strand::Own(_) => {
                    let at = values.get("text").map_or(span, |(_, at)| at);
                    return self.fail(at, crate::eval::services::not_written(strand));
                }
                Strand::Literal(_) => {}
            }
        }
        let native = Native::Write {
            text: plain_path_text(&text).into(),
            executable: values.bool("executable"),
        };
        self.enter_native(scope, draft, native, format!("write {path}"), span)
    }
}
