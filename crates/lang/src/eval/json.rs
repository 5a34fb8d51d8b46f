//! Values as JSON (RFC 8259).

use std::fmt::Write;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::{Evaluator, Result};
use crate::value::*;

impl Evaluator<'_> {
    /// Writes a value as JSON, in one line. Files have no form there: a text is what is wanted of
    /// them, and what texts carry is carried on.
    pub(super) fn write_json(&mut self, value: &Value, span: Span, out: &mut Joined) -> Result<()> {
        self.check_nesting(self.budget.nesting, span)?;
        self.budget.nesting += 1;
        let written = self.write_json_inside(value, span, out);
        self.budget.nesting -= 1;
        written?;
        self.room_for_text(out.size(), span)
    }

    fn write_json_inside(&mut self, value: &Value, span: Span, out: &mut Joined) -> Result<()> {
        match value {
            Value::None => out.push_str("null"),
            Value::Bool(value) => out.push_str(if *value { "true" } else { "false" }),
            Value::Int(number) => out.push_str(&number.to_string()),
            Value::Text(text) => self.write_json_strands(text, span, out)?,
            Value::List(items) => {
                out.push_str("[");
                for (i, item) in items.iter().enumerate() {
                    out.push_str(if i > 0 { "," } else { "" });
                    self.write_json(item, span, out)?;
                }
                out.push_str("]");
            }
            Value::Map(map) => {
                out.push_str("{");
                for (i, (key, thunk)) in map.entries.iter().enumerate() {
                    out.push_str(if i > 0 { "," } else { "" });
                    out.push_str(&json_text(key));
                    out.push_str(":");
                    let value = self.force(thunk, span)?;
                    self.write_json(&value, span, out)?;
                }
                out.push_str("}");
            }
            Value::Record(record) => {
                out.push_str("{");
                for (i, (name, value)) in record.fields.iter().enumerate() {
                    out.push_str(if i > 0 { "," } else { "" });
                    out.push_str(&json_text(name));
                    out.push_str(":");
                    self.write_json(value, span, out)?;
                }
                out.push_str("}");
            }
            other => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("{} cannot be JSON", other.described()),
                );
                return self.fail(
                    span,
                    error.note("texts, numbers, bools, `none`, lists, maps and records can"),
                );
            }
        }
        Ok(())
    }

    /// Writes a text with what it carries. That must need no other form in JSON, for it is put in
    /// as it is.
    fn write_json_strands(&mut self, text: &Text, span: Span, out: &mut Joined) -> Result<()> {
        out.push_str("\"");
        for strand in text.strands() {
            let path = match &strand {
                Strand::Literal(characters) => {
                    let quoted = json_text(characters);
                    out.push_str(&quoted[1..quoted.len() - 1]);
                    continue;
                }
                Strand::File(file) => file.path.as_str(),
                Strand::Tool(tool) => &tool.path,
                Strand::Secret(name) => {
                    let message = format!("the secret `{name}` cannot be in JSON");
                    let error = Diagnostic::error("wrong-type", message);
                    return self.fail(
                        span,
                        error.note("nobody may see whether its value needs other characters there"),
                    );
                }
                Strand::Served(..) | Strand::Own(_) => "",
            };
            if json_text(path).len() != path.len() + 2 {
                let message =
                    format!("`{path}` has characters in its name that JSON writes otherwise");
                return self.fail(span, Diagnostic::error("wrong-type", message));
            }
            out.push(strand);
        }
        out.push_str("\"");
        Ok(())
    }
}

/// A list of texts as JSON, in a line of its own.
pub(super) fn json_line(texts: &[Arc<str>]) -> String {
    let texts: Vec<String> = texts.iter().map(|text| json_text(text)).collect();
    format!("[{}]\n", texts.join(","))
}

fn json_text(text: &str) -> String {
    let mut out = String::new();
    write_json_text(text, &mut out);
    out
}

/// Adds a text as JSON: between quotes, with what JSON writes otherwise.
pub fn write_json_text(text: &str, out: &mut String) {
    out.push('"');
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if u32::from(c) < 0x20 => drop(write!(out, "\\u{:04x}", u32::from(c))),
            c => out.push(c),
        }
    }
    out.push('"');
}

#[cfg(test)]
mod tests {
    use super::write_json_text;

    #[test]
    fn what_a_text_holds_comes_back() {
        for text in [
            "high \"water\"",
            "a\\b",
            "one\n\ttwo\r\u{1}",
            "Ärdle, 😀",
            "",
        ] {
            let mut json = String::new();
            write_json_text(text, &mut json);
            let datum = crate::data::json(&json).map(|datum| datum.kind);
            assert_eq!(
                datum.ok(),
                Some(crate::data::DatumKind::Text(text.to_owned())),
                "{json}"
            );
        }
    }
}
