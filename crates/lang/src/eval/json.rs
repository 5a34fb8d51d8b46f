//! Values as JSON (RFC 8259).

use std::fmt::Write;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::{Evaluator, Result};
use crate::value::*;

impl Evaluator<'_> {
    /// Writes a value as JSON, in one line. Files have no form there: a text is what is wanted of them.
    pub(super) fn write_json(&mut self, value: &Value, span: Span, out: &mut String) -> Result<()> {
        self.check_nesting(self.budget.nesting, span)?;
        self.budget.nesting += 1;
        let written = self.write_json_inside(value, span, out);
        self.budget.nesting -= 1;
        written?;
        self.room_for_text(out.len(), span)
    }

    fn write_json_inside(&mut self, value: &Value, span: Span, out: &mut String) -> Result<()> {
        match value {
            Value::None => out.push_str("null"),
            Value::Bool(value) => out.push_str(if *value { "true" } else { "false" }),
            Value::Int(number) => drop(write!(out, "{number}")),
            Value::Text(Text::Plain(text)) => write_json_text(text, out),
            Value::List(items) => {
                out.push('[');
                for (i, item) in items.iter().enumerate() {
                    out.push_str(if i > 0 { "," } else { "" });
                    self.write_json(item, span, out)?;
                }
                out.push(']');
            }
            Value::Map(map) => {
                out.push('{');
                for (i, (key, thunk)) in map.entries.iter().enumerate() {
                    out.push_str(if i > 0 { "," } else { "" });
                    write_json_text(key, out);
                    out.push(':');
                    let value = self.force(thunk, span)?;
                    self.write_json(&value, span, out)?;
                }
                out.push('}');
            }
            Value::Record(record) => {
                out.push('{');
                for (i, (name, value)) in record.fields.iter().enumerate() {
                    out.push_str(if i > 0 { "," } else { "" });
                    write_json_text(name, out);
                    out.push(':');
                    self.write_json(value, span, out)?;
                }
                out.push('}');
            }
            other => {
                let error = Diagnostic::error("wrong-type", format!("{} cannot be JSON", other.described()));
                return self
                    .fail(span, error.note("texts, numbers, bools, `none`, lists, maps and records can"));
            }
        }
        Ok(())
    }
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
        for text in ["high \"water\"", "a\\b", "one\n\ttwo\r\u{1}", "Ärdle, 😀", ""] {
            let mut json = String::new();
            write_json_text(text, &mut json);
            let datum = crate::data::json(&json).map(|datum| datum.kind);
            assert_eq!(datum.ok(), Some(crate::data::DatumKind::Text(text.to_owned())), "{json}");
        }
    }
}
