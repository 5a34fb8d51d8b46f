//! Services: what runs while others need it.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{Mark, instance_folder};
use nubrik_source::{Span, WsPath};

use super::forms::secret::no_secret;
use super::steps::Draft;
use super::{Evaluator, Result};
use crate::value::*;

/// The placeholder in words for where a service is.
pub(super) fn mark(folder: &WsPath, what: Whereabouts) -> String {
    match what {
        Whereabouts::Port => Mark::Port(folder.as_str()).to_string(),
        Whereabouts::Address => Mark::Address(folder.as_str()).to_string(),
    }
}

/// The folder in which a scratch file of a service lies, below the instance's.
pub(super) fn parent_below(path: &WsPath) -> Option<Arc<str>> {
    let below = path.below(&instance_folder())?;
    below.rsplit_once('/').map(|(folder, _)| folder.into())
}

/// Refuses a service's own place outside of its definition.
pub(super) fn not_own() -> Diagnostic {
    let error = Diagnostic::error(
        "not-here",
        "`self.address` and `self.port` are a service's own",
    );
    error
        .note("they are known to the commands and variables of `serve` only")
        .mend("name the service: database.address, database.port")
}

/// Refuses in a written text what is not known when it is written.
pub(super) fn not_written(strand: &Strand) -> Diagnostic {
    let Strand::Served(service, _) = strand else {
        return if matches!(strand, Strand::Own(_)) {
            not_own()
        } else {
            no_secret()
        };
    };
    let message = format!(
        "where `{}` is, is known only while it runs",
        service.service.address
    );
    Diagnostic::error("not-here", message)
        .note("what is written here is kept, and would be wrong the next time")
        .mend("step { … } writes it while the service runs")
}

impl Draft {
    /// Whether it is a service's.
    pub fn is_service(&self) -> bool {
        self.own.is_some()
    }
}

impl Evaluator<'_> {
    /// Takes note that something runs while a service does.
    pub(super) fn use_service(&mut self, value: &Rc<ServiceValue>, draft: &mut Draft) {
        if draft
            .services
            .iter()
            .any(|s| s.folder == value.service.folder)
        {
            return;
        }
        draft.inputs.extend(value.files.iter().cloned());
        let mut all = Vec::new();
        value.service.add_to(&mut all);
        // Those of a service in an image are the image's.
        for tool in all
            .iter()
            .filter(|s| s.root.is_none())
            .flat_map(|s| &s.tools)
        {
            let tool = self.tool_id(tool);
            draft.tools.push(tool);
        }
        draft.services.push(value.service.clone());
        draft.services.sort_by(|a, b| a.folder.cmp(&b.folder));
    }

    /// The services of a service's value.
    pub(super) fn services_of(
        &mut self,
        value: &Value,
        name: &str,
        span: Span,
        found: &mut Vec<Rc<ServiceValue>>,
    ) -> Result<()> {
        let inner: Vec<(Arc<str>, Value)> = match value {
            Value::Service(service) => {
                found.push(service.clone());
                return Ok(());
            }
            Value::Map(map) => {
                self.check_keys(map, span)?;
                self.all(&map.entries, |this, (key, thunk)| {
                    Ok((key.clone(), this.force(thunk, span)?))
                })?
            }
            Value::Record(record) => record.fields.clone(),
            _ => Vec::new(),
        };
        let are_services =
            !inner.is_empty() && inner.iter().all(|(_, v)| matches!(v, Value::Service(_)));
        if are_services && self.wanted.linting {
            return Ok(());
        }
        let (code, message) = if are_services {
            (
                "wrong-type",
                format!("`{name}` is several services: say which"),
            )
        } else {
            (
                "wrong-type",
                format!(
                    "a service runs while others need it, and this one is {}",
                    value.described()
                ),
            )
        };
        let error = Diagnostic::error(code, message);
        let error = match are_services {
            true => inner.iter().take(6).fold(error, |e, (key, _)| {
                e.mend(format!("nubrik run {name}/{key}"))
            }),
            false => error.mend(format!("service {name} = serve {{ run = `…` }}")),
        };
        self.fail(span, error)
    }
}
