//! Methods of plain texts.

use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;

use super::calls::Given;
use super::{Evaluator, Result};
use crate::builtins::Method;
use crate::hir::Name;
use crate::value::*;

impl Evaluator<'_> {
    /// What a method gives for a plain text; `None` if it is not one of texts alone.
    pub(super) fn text_method(
        &mut self,
        t: &Arc<str>,
        method: Method,
        args: &[Given<'_>],
        name: &Name,
    ) -> Result<Option<Value>> {
        Ok(Some(match method {
            Method::Len => Value::Int(t.chars().count() as i64),
            Method::Lower | Method::Upper => {
                self.room_for_text(t.len(), name.span)?;
                Value::text(&if method == Method::Lower {
                    t.to_lowercase()
                } else {
                    t.to_uppercase()
                })
            }
            Method::Trim => Value::text(t.trim()),
            Method::Lines => {
                self.room_for_text(t.len(), name.span)?;
                self.room_for_texts(t.lines().count(), name.span)?;
                Value::List(t.lines().map(Value::text).collect())
            }
            Method::ToInt => match t.trim().parse() {
                Ok(number) => Value::Int(number),
                Err(_) => {
                    let error = Diagnostic::error(
                        "wrong-type",
                        format!("{:?} is not a whole number", &**t),
                    );
                    return self.fail(name.span, error);
                }
            },
            Method::Split => {
                let separator = self.text_arg(&args[0])?;
                if separator.is_empty() {
                    let error = Diagnostic::error("wrong-call", "cannot split at an empty text");
                    return self.fail(args[0].span, error);
                }
                self.room_for_text(t.len(), name.span)?;
                self.room_for_texts(t.matches(&*separator).count() + 1, name.span)?;
                Value::List(t.split(&*separator).map(Value::text).collect())
            }
            Method::Replace => self.replaced(t, args, name)?,
            Method::StartsWith => {
                let part = self.text_arg(&args[0])?;
                Value::Bool(t.starts_with(&*part))
            }
            Method::EndsWith => {
                let part = self.text_arg(&args[0])?;
                Value::Bool(t.ends_with(&*part))
            }
            Method::FromJson => self.parsed_json(t, "text", name.span)?,
            Method::Matches | Method::Captures | Method::FindAll | Method::ReplaceMatches => {
                self.matched(t, method, args, name.span)?
            }
            _ => return Ok(None),
        }))
    }

    /// A text with others in place of parts of it.
    fn replaced(&mut self, t: &str, args: &[Given<'_>], name: &Name) -> Result<Value> {
        let (from, to) = (self.text_arg(&args[0])?, self.text_arg(&args[1])?);
        if from.is_empty() {
            let error = Diagnostic::error("wrong-call", "cannot replace an empty text");
            return self.fail(args[0].span, error);
        }
        let found = t.matches(&*from).count();
        let size = (t.len() - found * from.len()).saturating_add(found.saturating_mul(to.len()));
        self.room_for_text(t.len().max(size), name.span)?;
        Ok(Value::text(&t.replace(&*from, &to)))
    }

    /// An argument that must be a plain text.
    pub(super) fn text_arg(&mut self, arg: &Given<'_>) -> Result<Arc<str>> {
        match &arg.value {
            Value::Text(Text::Plain(text)) => Ok(text.clone()),
            other => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("expected a text, found {}", other.described()),
                );
                self.fail(arg.span, error)
            }
        }
    }
}
