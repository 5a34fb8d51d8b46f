//! `extract`: what regular expressions find in a file, for the definitions.

use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::Native;
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;
use crate::world::Answer;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "extract",
        builtin: Builtin::Extract,
        shape: CallShape::Braces,
        doc: "What regular expressions find in a file: a map from the name of each to a list of texts, each once: the first group of each match, or else all of it. `^` and `$` are the ends of lines. The answer is kept, and decides what that of a `probe` can decide; no process is started.",
        fields: &[
            field(
                "file",
                FieldType::File,
                true,
                "a source file, or one that a step makes",
            ),
            field(
                "patterns",
                FieldType::TextMap,
                true,
                "names, and what to look for",
            ),
        ],
        gives: &[],
        example: "let told = {each source in glob(\"src/*.f90\") give source.stem: extract {\n    file = source\n    patterns = { \"uses\": '(?i)^\\s*use\\s+(\\w+)', \"modules\": '(?i)^\\s*module\\s+(\\w+)\\s*$' }\n}}\nlet uses = told[\"fit\"].uses",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.extract_form(scope, values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn extract_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let (file, file_span) = values
            .get("file")
            .map_or((Value::None, span), |(v, s)| (v.clone(), s));
        let file = self.one_file(&file, file_span)?;
        let Value::Map(map) = values.value("patterns") else {
            return self.failed_before(span);
        };
        let mut patterns: Vec<(Arc<str>, Arc<str>)> = Vec::new();
        for (name, thunk) in &map.entries {
            let Value::Text(Text::Plain(pattern)) = self.force(thunk, span)? else {
                let error = Diagnostic::error(
                    "wrong-type",
                    "a regular expression is a text that carries nothing",
                );
                return self.fail(thunk.span, error);
            };
            self.prepared_pattern(&pattern, thunk.span)?;
            patterns.push((name.clone(), pattern));
        }
        // What is looked for tells one search from another of the same target.
        let mut what = blake3::Hasher::new();
        std::iter::once(file.path.as_str())
            .chain(patterns.iter().flat_map(|(n, p)| [&**n, &**p]))
            .for_each(|part| {
                what.update(part.as_bytes());
                what.update(&[0]);
            });
        let mut draft = self.draft(
            &scope.owner,
            &format!("answer-{}", &what.finalize().to_hex()[..12]),
        );
        let native = Native::Extract {
            file: self.file_id(&file),
            patterns,
        };
        let step = match self.known_native(&draft, &native) {
            Some(known) => Value::Step(known),
            None => {
                self.outline_output(
                    &mut draft,
                    &Some("answer".into()),
                    &"answer".into(),
                    false,
                    span,
                )?;
                let say = format!("look into {}", self.shown_path(&file));
                draft.inputs.push(file);
                self.enter_native(scope, draft, native, say, span)?
            }
        };
        let Value::Step(number) = step else {
            return self.failed_before(span);
        };
        self.note_probe();
        let (folder, output) = {
            let step = &self.drafting.graph.steps[number as usize];
            (step.folder.clone(), step.outputs[0].file)
        };
        match self.world.probe(&folder) {
            Answer::Ready(answer) => self.parsed_json(&answer.text, "answer", span),
            Answer::Pending => {
                self.wanted.probes.push(output);
                self.wait()
            }
        }
    }

    /// A file's path for people: of an output the name that it was given.
    fn shown_path(&self, file: &FileRef) -> String {
        let made = file.maker.and_then(|maker| {
            file.path
                .below(&self.drafting.graph.steps[maker as usize].folder)
                .map(str::to_owned)
        });
        made.unwrap_or_else(|| file.path.as_str().to_owned())
    }
}
