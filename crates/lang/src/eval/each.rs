//! Maps and lists that are made entry by entry: written out, or by `each`.

use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;
use rustc_hash::FxHashSet;

use super::reads::Reads;
use super::{Env, Evaluator, Result, Scope, Slot};
use crate::hir::*;
use crate::value::*;

impl Evaluator<'_> {
    /// A map of entries; `probed` says whether the answer of a probe decides which there are.
    pub(super) fn map(
        &mut self,
        entries: Vec<(Arc<str>, Span, Scope, ExprId)>,
        probed: bool,
    ) -> Result<Value> {
        let mut seen: FxHashSet<Arc<str>> = FxHashSet::default();
        let mut thunks = Vec::new();
        for (key, key_span, scope, value) in entries {
            if !seen.insert(key.clone()) {
                let error = Diagnostic::error(
                    "declared-twice",
                    format!("the key \"{key}\" is there twice"),
                );
                return self.fail(key_span, error);
            }
            let inner = scope.at_part(&key);
            let span = self.module(scope.module).span(value);
            let thunk = Thunk {
                state: RefCell::new(ThunkState::New(ThunkSource::Expr {
                    scope: inner,
                    expr: value,
                    ty: None,
                })),
                title: Title {
                    word: "entry",
                    name: key.clone(),
                },
                span,
                captured: self.captured(),
                origin: self.unit(),
            };
            thunks.push((key, Rc::new(thunk)));
        }
        let keys = if probed { Keys::Lookup } else { Keys::Names };
        Ok(Value::Map(Rc::new(Map {
            keys,
            ..Map::new(thunks)
        })))
    }

    pub(super) fn each(&mut self, scope: &Scope, each: &Each, span: Span) -> Result<Value> {
        let items_span = self.module(scope.module).span(each.items);
        let (items, mut probed) = self.probes_in(|this| this.eval(scope, each.items))?;
        let rows = self.rows(items, probed, each.names, items_span)?;
        let mut inner_scopes = Vec::new();
        for slots in rows {
            self.count_work(span)?;
            let env = Env {
                parent: scope.env.clone(),
                slots: RefCell::new(slots),
            };
            inner_scopes.push(Scope {
                env: Some(Rc::new(env)),
                ..scope.clone()
            });
        }
        if let Some(test) = each.test {
            let (kept, tests_probed) = self.probes_in(|this| {
                this.all(&inner_scopes, |this, inner| this.boolean(inner, test))
            })?;
            probed |= tests_probed;
            let mut kept = kept.into_iter();
            inner_scopes.retain(|_| kept.next().unwrap_or(false));
        }
        let Some(key) = each.key else {
            let values = self.all(&inner_scopes, |this, inner| this.eval(inner, each.give))?;
            return Ok(Value::List(values.into()));
        };
        let key_span = self.module(scope.module).span(key);
        let (entries, keys_probed) = self.probes_in(|this| {
            this.all(&inner_scopes, |this, inner| {
                Ok((this.key(inner, key)?, key_span, inner.clone(), each.give))
            })
        })?;
        self.map(entries, probed || keys_probed)
    }

    /// The values of an `each`'s names for each round; `probed` says whether what it goes through
    /// rests on a probe.
    pub(super) fn rows(
        &mut self,
        items: Value,
        probed: bool,
        names: u8,
        span: Span,
    ) -> Result<Vec<Vec<Slot>>> {
        let pair_names = names == 2;
        let row = |value: Value| vec![Slot::of(value, probed)];
        let rows: Vec<Vec<Slot>> = match items {
            Value::Map(map) => {
                let mut rows = Vec::new();
                for (key, thunk) in &map.entries {
                    let (value, of_value) = self.probes_in(|this| this.force(thunk, span))?;
                    let key = pair_names.then(|| Slot::of(Value::text(key), probed));
                    rows.push(
                        key.into_iter()
                            .chain([Slot::of(value, probed || of_value)])
                            .collect(),
                    );
                }
                return Ok(rows);
            }
            Value::List(items) => items.iter().map(|i| row(i.clone())).collect(),
            Value::Files(files) => files.iter().map(|f| row(Value::File(f.clone()))).collect(),
            value @ (Value::Step(_) | Value::Record(_)) => self
                .files_of(&value, span)?
                .into_iter()
                .map(|f| row(Value::File(f)))
                .collect(),
            other => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("expected a list or map, found {}", other.described()),
                );
                return self.fail(span, error);
            }
        };
        if pair_names {
            let error = Diagnostic::error(
                "wrong-type",
                "a list gives one name, a map gives key and value",
            );
            return self.fail(span, error.mend("each item in …"));
        }
        Ok(rows)
    }

    pub(super) fn noting_probes<T>(
        &mut self,
        work: impl FnOnce(&mut Self) -> Result<T>,
    ) -> (Result<T>, bool) {
        self.choices.frames.push(Reads::default());
        let value = work(self);
        let reads = self.choices.frames.pop().unwrap_or_default();
        self.note_reads(&reads);
        (value, reads.has(super::chosen::PROBE))
    }

    /// The result of some work, and whether that rests on the answer of a probe.
    pub(super) fn probes_in<T>(
        &mut self,
        work: impl FnOnce(&mut Self) -> Result<T>,
    ) -> Result<(T, bool)> {
        let (value, probed) = self.noting_probes(work);
        Ok((value?, probed))
    }

    pub(super) fn key(&mut self, scope: &Scope, id: ExprId) -> Result<Arc<str>> {
        let span = self.module(scope.module).span(id);
        let value = self.eval(scope, id)?;
        match value {
            Value::Text(Text::Plain(text)) => {
                if text.chars().any(char::is_control) {
                    let message = format!("{:?} cannot be the key of an entry", &*text);
                    return self.fail(span, Diagnostic::error("bad-key", message));
                }
                Ok(text)
            }
            Value::Text(Text::Carrying(_)) => {
                let error = Diagnostic::error("wrong-type", "a key cannot carry files");
                self.fail(span, error.mend("{….path}").mend("{….stem}"))
            }
            other => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("expected a text as the key, found {}", other.described()),
                );
                self.fail(span, error)
            }
        }
    }

    /// Refuses a map as the value of a declaration if its keys may rest on the answer of a probe.
    pub(super) fn check_keys(&mut self, map: &Map, span: Span) -> Result<()> {
        if map.keys == Keys::Names {
            return Ok(());
        }
        let error = Diagnostic::error(
            "probe-in-key",
            "the answer of a probe cannot decide which keys there are",
        );
        let error = error.note("`nubrik list` shows all targets without running anything");
        let error = error.mend("keys from a glob or a data file, and the probe inside the entry");
        match map.entries.first() {
            Some((_, thunk)) => self.fail(
                span,
                error.related(thunk.span, "this is the value of such an entry"),
            ),
            None => self.fail(span, error),
        }
    }

    /// Refuses a part of a target's path that no folder can be called after.
    pub(super) fn check_part(&mut self, part: &str, span: Span) -> Result<()> {
        if names_a_folder(part) {
            return Ok(());
        }
        let error = Diagnostic::error(
            "bad-key",
            format!("{part:?} cannot be part of a target's path"),
        );
        self.fail(span, error.note("keys in paths of targets have parts between `/`, none of them empty, `.` or `..`, or beginning with `@` or `~`"))
    }
}

/// Whether a key can be in the path of what is made.
fn names_a_folder(key: &str) -> bool {
    key.split('/')
        .all(|p| !p.is_empty() && p != "." && p != ".." && !p.starts_with(['@', '~']))
}
