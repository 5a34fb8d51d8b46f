//! Regular expressions: of the kind whose search takes time in proportion to the text.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;
use regex::{Match, Regex, RegexBuilder};

use super::calls::Given;
use super::{Evaluator, Result};
use crate::builtins::Method;
use crate::value::*;

/// How many bytes a text may have in which a regular expression is looked for.
const SEARCHED_LIMIT: usize = 64 << 10;

/// How many bytes a regular expression may take once it is prepared: the smallest of these that are
/// enough say how much work it was. Each byte counts as one expression: to prepare one takes longer
/// than to evaluate one.
const PREPARED_LIMITS: [usize; 4] = [16 << 10, 64 << 10, 256 << 10, 1 << 20];

impl Evaluator<'_> {
    /// `matches`, `captures` and `replace_matches`.
    pub(super) fn matched(
        &mut self,
        text: &Arc<str>,
        method: Method,
        args: &[Given<'_>],
        span: Span,
    ) -> Result<Value> {
        let pattern = self.pattern(&args[0])?;
        if text.len() > SEARCHED_LIMIT {
            let error = Diagnostic::error(
                "too-large",
                "this text is too large for a regular expression",
            );
            let error = error.note("a text that is searched may have 64 KiB");
            return self.fail(span, error.mend("a step that searches the file"));
        }
        self.count(
            1 + (text.len() * pattern.as_str().len() / 1024) as u64,
            span,
        )?;
        let group = |found: Option<Match<'_>>| {
            found.map_or(Value::None, |found| Value::text(found.as_str()))
        };
        match method {
            Method::Matches => Ok(Value::Bool(pattern.is_match(text))),
            Method::Captures => Ok(match pattern.captures(text) {
                Some(found) => Value::List(found.iter().map(group).collect()),
                None => Value::None,
            }),
            Method::FindAll => {
                let mut all = Vec::new();
                for found in pattern.captures_iter(text) {
                    let first = found.iter().skip(1).flatten().next().or(found.get(0));
                    all.push(group(first));
                    let end = found.get(0).map_or(0, |whole| whole.end());
                    self.count(1 + ((text.len() - end) / 1024) as u64, span)?;
                }
                self.room_for_texts(all.len(), span)?;
                Ok(Value::List(all.into()))
            }
            _ => {
                let to = self.text_arg(&args[1])?;
                let (mut replaced, mut end) = (String::new(), 0);
                for found in pattern.captures_iter(text) {
                    let Some(whole) = found.get(0) else { continue };
                    replaced.push_str(&text[end..whole.start()]);
                    found.expand(&to, &mut replaced);
                    end = whole.end();
                    // A search may look at all the rest.
                    self.count(1 + ((text.len() - end) / 1024) as u64, span)?;
                    if replaced.len() > super::limits::TEXT_LIMIT {
                        break;
                    }
                }
                replaced.push_str(&text[end..]);
                self.room_for_text(replaced.len(), span)?;
                Ok(Value::text(&replaced))
            }
        }
    }

    /// A regular expression; each is prepared once.
    fn pattern(&mut self, arg: &Given<'_>) -> Result<Rc<Regex>> {
        let text = self.text_arg(arg)?;
        self.prepared_pattern(&text, arg.span)
    }

    /// A regular expression by its text; reports what is wrong with it.
    pub(super) fn prepared_pattern(&mut self, text: &Arc<str>, span: Span) -> Result<Rc<Regex>> {
        if let Some(known) = self.memos.patterns.get(text) {
            return Ok(known.clone());
        }
        let mut prepared = Err(regex::Error::CompiledTooBig(0));
        for limit in PREPARED_LIMITS {
            self.count(limit as u64, span)?;
            prepared = RegexBuilder::new(text)
                .size_limit(limit)
                .nest_limit(50)
                .build();
            if !matches!(prepared, Err(regex::Error::CompiledTooBig(_))) {
                break;
            }
        }
        match prepared {
            Ok(pattern) => {
                let pattern = Rc::new(pattern);
                self.count(text.len() as u64, span)?;
                self.memos.patterns.insert(text.clone(), pattern.clone());
                Ok(pattern)
            }
            Err(regex::Error::CompiledTooBig(_)) => {
                let error =
                    Diagnostic::error("too-large", "this regular expression grows too large");
                self.fail(span, error.note("repetitions such as {1000} multiply"))
            }
            Err(wrong) => {
                let written = wrong.to_string();
                let why = written
                    .lines()
                    .last()
                    .unwrap_or("")
                    .trim_start_matches("error: ")
                    .to_owned();
                let error =
                    Diagnostic::error("bad-pattern", format!("{text:?} is no regular expression"));
                let error = error.note(why);
                self.fail(
                    span,
                    error.note("between '…' nothing needs escaping but the quote itself"),
                )
            }
        }
    }
}
