//! Results of targets: values entered under their readable names.

use std::collections::BTreeSet;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{FileId, StepId, TargetId};
use nubrik_source::Span;
use smallvec::{SmallVec, smallvec};

use super::addresses::Meaning;
use super::{Evaluator, Result};
use crate::hir::*;
use crate::output::published_name;
use crate::value::*;

impl Evaluator<'_> {
    pub(super) fn evaluate_target(&mut self, meaning: &Meaning) -> Result<Vec<FileId>> {
        let module = self.module(meaning.decl.module);
        let decl = module.decl(meaning.decl);
        let span = decl.name.span;
        let whole = self.declaration(meaning.decl, self.choices.chosen, span)?;
        let target = self.target_of(meaning.decl);
        let value = self.way_into(whole, &meaning.way, span)?;
        match decl.kind {
            DeclKind::Test => {
                let mut verdicts = Vec::new();
                self.verdicts(&value, &decl.name.text, span, &mut verdicts)?;
                return Ok(verdicts);
            }
            DeclKind::Job => {
                let mut effects = Vec::new();
                // All of them are right, and none is asked for, where everything is looked at.
                if self.wanted.linting && matches!(value, Value::Map(_)) {
                    return Ok(Vec::new());
                }
                self.effects_of(&value, &decl.name.text, span, &mut effects)?;
                let inputs = effects
                    .iter()
                    .flat_map(|e| self.drafting.effects[*e as usize].step.inputs.to_vec());
                let made: Vec<FileId> = inputs
                    .filter(|f| self.drafting.graph.files[f.index()].maker.is_some())
                    .collect();
                self.wanted.asked_effects.extend(effects);
                return Ok(made);
            }
            DeclKind::Service => {
                let mut services = Vec::new();
                self.services_of(&value, &decl.name.text, span, &mut services)?;
                if self.wanted.linting {
                    return Ok(Vec::new());
                }
                let files = services
                    .iter()
                    .flat_map(|s| s.files.clone())
                    .filter(|f| f.maker.is_some());
                let files: Vec<FileRef> = files.collect();
                self.wanted
                    .asked_services
                    .extend(services.iter().map(|s| s.service.clone()));
                return Ok(files.iter().map(|f| self.file_id(f)).collect());
            }
            _ => {}
        }
        let mut parts: SmallVec<[Arc<str>; 2]> = smallvec![decl.name.text.clone()];
        parts.extend(meaning.way.iter().cloned());
        let before = self.drafting.graph.targets[target.index()].results.len();
        self.publish(&value, &parts, target, span)?;
        let results = &mut self.drafting.graph.targets[target.index()].results;
        let files: Vec<FileId> = results[before..].iter().map(|r| r.file).collect();
        if results.len() > 1 {
            let mut seen = BTreeSet::new();
            results.retain(|r| seen.insert((r.file, r.publish.clone())));
        }
        Ok(files)
    }

    /// Enters the results of a value, each under its readable name.
    pub(super) fn publish(
        &mut self,
        value: &Value,
        parts: &[Arc<str>],
        target: TargetId,
        span: Span,
    ) -> Result<()> {
        self.check_nesting(parts.len(), span)?;
        let inner: Vec<(Arc<str>, Value)> = match value {
            Value::Map(map) => {
                self.check_keys(map, span)?;
                self.all(&map.entries, |this, (key, thunk)| {
                    Ok((key.clone(), this.force(thunk, span)?))
                })?
            }
            Value::Record(record) if record.get("files").is_none() => record
                .fields
                .iter()
                .filter(|(_, v)| may_be_files(v) || matches!(v, Value::Map(_)))
                .cloned()
                .collect(),
            Value::Text(_) | Value::Int(_) | Value::Bool(_) | Value::None => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!(
                        "a target makes files, and this one is {}",
                        value.described()
                    ),
                );
                let name = &parts[0];
                return self.fail(span, error.mend(format!("let {name} = …")));
            }
            Value::List(items) if !items.iter().all(may_be_files) => Vec::new(),
            Value::Service(_) => {
                let error = Diagnostic::error(
                    "wrong-type",
                    "a target makes files, and this one is a service",
                );
                return self.fail(
                    span,
                    error.mend(format!("service {} = serve {{ … }}", parts[0])),
                );
            }
            value => {
                if let Value::Step(number) = value {
                    self.refuse_check(StepId(*number), &parts.join("/"), span)?;
                }
                let files = self.files_of(value, span)?;
                return self.publish_files(files, parts, target);
            }
        };
        for (key, value) in &inner {
            let mut parts = parts.to_vec();
            self.check_part(key, span)?;
            parts.push(key.clone());
            self.publish(value, &parts, target, span)?;
        }
        Ok(())
    }

    pub(super) fn publish_files(
        &mut self,
        files: Vec<FileRef>,
        parts: &[Arc<str>],
        target: TargetId,
    ) -> Result<()> {
        let whole = &self.drafting.graph.targets[target.index()];
        let package = whole.package.clone();
        let address = match parts {
            [_] => whole.address.clone(),
            _ => package.join(&parts.join("/")).shared().clone(),
        };
        let made: Vec<FileRef> = files.into_iter().filter(|f| f.maker.is_some()).collect();
        self.drafting.graph.targets[target.index()]
            .results
            .reserve_exact(made.len());
        for file in &made {
            let step = file.maker.map_or(0, |m| m as usize);
            let written = file
                .path
                .below(&self.drafting.graph.steps[step].folder)
                .unwrap_or(file.path.name());
            let publish = published_name(&package, parts, written, made.len() == 1);
            let id = self.file_id(file);
            self.drafting.graph.targets[target.index()]
                .results
                .push(nubrik_graph::ResultFile {
                    address: address.clone(),
                    file: id,
                    publish,
                });
        }
        Ok(())
    }
}

/// Whether a value may represent files by itself.
fn may_be_files(value: &Value) -> bool {
    matches!(
        value,
        Value::Step(_) | Value::File(_) | Value::Files(_) | Value::Record(_) | Value::List(_)
    )
}
