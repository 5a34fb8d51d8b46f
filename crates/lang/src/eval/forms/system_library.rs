//! `system_library`: a library of this machine.

use std::rc::Rc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::ImageSearch;
use nubrik_source::Span;

use super::fields::*;
use super::tool::is_at_least;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;
use crate::world::{Answer, LibraryRequest, LibrarySearch};

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "system_library",
        builtin: Builtin::SystemLibrary,
        shape: CallShape::Braces,
        doc: "A library that is installed on the machine, found by its .pc file.",
        fields: &[
            field(
                "names",
                FieldType::Texts,
                true,
                "names of .pc files to look for, without the ending, the best first",
            ),
            field(
                "at_least",
                FieldType::Text,
                false,
                "the oldest version that is good enough",
            ),
            field(
                "static",
                FieldType::Bool,
                false,
                "whether the flags for static linking are wanted",
            ),
            OR_NONE,
            ROOT,
        ],
        gives: &[
            ("name", "the name that was found"),
            ("version", "its version"),
            ("exported_flags", "compiler flags, a list"),
            ("link_flags", "linker flags, a list"),
        ],
        example: "let zlib = system_library { names = \"zlib\", at_least = \"1.2.11\" }",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.library_form(scope, values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn library_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let names = values.texts("names");
        let at_least = self.plain(values, "at_least")?;
        let request = LibraryRequest {
            names: names.clone(),
            for_static: values.bool("static"),
        };
        let answer = match self.root_for(scope, values, span)? {
            Some(image) => {
                let LibraryRequest { names, for_static } = request;
                let finding = ImageSearch::Libraries { names, for_static };
                let said = self.found_in_image(scope, image, finding, span)?;
                LibrarySearch::from_json(&said).unwrap_or_default()
            }
            None => {
                let Answer::Ready(answer) = self.world.library(&request) else {
                    return self.wait();
                };
                answer
            }
        };
        let or_none = values.bool("or_none");
        let mut old = Vec::new();
        for found in answer.found {
            if let Some((wanted, _)) = &at_least
                && !is_at_least(&found.version, wanted)
            {
                old.push(format!("`{}` is version {}", found.name, found.version));
                continue;
            }
            let texts =
                |list: &[String]| Value::List(list.iter().map(|t| Value::text(t)).collect());
            let fields = vec![
                ("name".into(), Value::text(&found.name)),
                ("version".into(), Value::text(&found.version)),
                ("exported_flags".into(), texts(&found.compile)),
                ("link_flags".into(), texts(&found.link)),
                ("files".into(), Value::Files(Rc::new([]))),
                ("archives".into(), Value::List(Rc::new([]))),
                ("headers".into(), Value::Files(Rc::new([]))),
                ("include".into(), Value::List(Rc::new([]))),
            ];
            return Ok(Value::Record(Rc::new(RecordValue {
                fields,
                kind: Some("system_library".into()),
            })));
        }
        if or_none {
            return Ok(Value::None);
        }
        let listed = names
            .iter()
            .map(|n| format!("`{n}`"))
            .collect::<Vec<_>>()
            .join(" or ");
        let error = match (old.is_empty(), answer.problem) {
            (_, Some(problem)) => Diagnostic::error("no-library", problem),
            (true, None) => {
                Diagnostic::error("no-library", format!("no library {listed} is installed"))
            }
            (false, None) => {
                let wanted = at_least.as_ref().map_or("", |(w, _)| w);
                let message =
                    format!("no library {listed} of version {wanted} or newer is installed");
                old.iter()
                    .fold(Diagnostic::error("old-library", message), |e, o| {
                        e.note(o.clone())
                    })
            }
        };
        let searched = answer.searched.join(", ");
        let error = error.note(format!("searched for its .pc file in {searched}"));
        let name = names.first().map_or("", |n| n);
        let error = error.mend(format!(
            "install the package with {name}.pc, often called {name}-dev or {name}-devel"
        ));
        self.fail(span, error.mend("or_none = true"))
    }
}
