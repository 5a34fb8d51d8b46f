//! Services: what runs while others need it.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{
    Mark, Program, SERVICE_PATIENCE, Service, ServiceCommand, ServiceProgram, ServiceStage, Serving,
    instance_folder,
};
use nubrik_source::{Span, WsPath};

use super::checks::no_secret;
use super::forms::FormValues;
use super::steps::Draft;
use super::words::{Leaves, all_strands, leaves, scratch_path};
use super::{Evaluator, Result, Scope};
use crate::value::*;

/// What stands in words for where a service is.
pub(super) fn mark(folder: &WsPath, what: Whereabouts) -> String {
    match what {
        Whereabouts::Port => Mark::Port(folder.as_str()).to_string(),
        Whereabouts::Address => Mark::Address(folder.as_str()).to_string(),
    }
}

/// The folder in which a scratch file of a service lies, below the instance's.
fn parent_below(path: &WsPath) -> Option<Arc<str>> {
    let below = path.below(&instance_folder())?;
    below.rsplit_once('/').map(|(folder, _)| folder.into())
}

/// Refuses a service's own place outside of its definition.
pub(super) fn not_own() -> Diagnostic {
    let error = Diagnostic::error("not-here", "`self.address` and `self.port` are a service's own");
    error
        .note("they are known to the commands and variables of `serve` only")
        .mend("name the service: database.address, database.port")
}

/// Refuses in a written text what is not known when it is written.
pub(super) fn not_written(strand: &Strand) -> Diagnostic {
    let Strand::Served(service, _) = strand else {
        return if matches!(strand, Strand::Own(_)) { not_own() } else { no_secret() };
    };
    let message = format!("where `{}` is, is known only while it runs", service.service.address);
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
        if draft.services.iter().any(|s| s.folder == value.service.folder) {
            return;
        }
        draft.inputs.extend(value.files.iter().cloned());
        let mut all = Vec::new();
        value.service.add_to(&mut all);
        for tool in all.iter().flat_map(|s| &s.tools) {
            let tool = self.tool_id(tool);
            draft.tools.push(tool);
        }
        draft.services.push(value.service.clone());
        draft.services.sort_by(|a, b| a.folder.cmp(&b.folder));
    }

    pub(super) fn serve_form(&mut self, scope: &Scope, values: &FormValues, span: Span) -> Result<Value> {
        let mut draft = self.draft(&scope.owner, "service");
        let own = std::mem::replace(&mut draft.step.folder, instance_folder());
        draft.own = Some(own.clone());
        draft.keeps_secrets = true;
        if let Some((Value::File(folder), dir_span)) = values.get("dir")
            && folder.maker.is_some()
        {
            let error = Diagnostic::error("wrong-type", "a service runs in a source folder");
            return self.fail(dir_span, error.mend("name what is made in a hole of its command"));
        }
        draft.step.work = self.work_folder(values, false, &mut draft)?;
        let serving = if values.get("run").is_some() {
            self.serving_here(values, &mut draft)?
        } else {
            self.serving_elsewhere(values, &mut draft, span)?
        };
        let ready = self.one_service_command(values, "ready", &mut draft)?;
        draft.step.env = self.step_env(values.value("env"), &mut draft, span)?;
        let inputs = self.all_inputs(values, &mut draft, span)?;
        let file_of = |id: &nubrik_graph::FileId| {
            let node = &self.drafting.graph.files[id.index()];
            FileRef { path: node.path.clone(), maker: node.maker.map(|m| m.0), folder: node.folder }
        };
        let mut files: Vec<FileRef> = inputs.iter().map(file_of).collect();
        files.sort();
        files.dedup();
        let mut tools: Vec<Arc<str>> =
            draft.tools.iter().map(|t| self.drafting.graph.tools[t.index()].clone()).collect();
        tools.sort();
        tools.dedup();
        let address = scope.owner.package.child(&scope.owner.parts.join("/"));
        let service = Service {
            address: address.as_str().into(),
            folder: own,
            serving,
            ready,
            patience: values.duration("timeout").unwrap_or(SERVICE_PATIENCE),
            env: draft.step.env,
            inputs: files.iter().map(|f| f.path.clone()).collect(),
            tools,
            folders: draft.step.scratch.iter().filter_map(parent_below).collect(),
            lists: draft.step.lists,
            work: draft.step.work.path(),
            needs: draft.services,
            place: self.place(span),
        };
        let service = Arc::new(service);
        let known = self.drafting.services.entry(service.folder.clone()).or_insert_with(|| service.clone());
        if **known != *service {
            let error =
                Diagnostic::error("made-twice", format!("two services stand at `{}`", service.address));
            let error = error.note(format!("the other one is at {}", known.place));
            return self.fail(span, error.mend("{ \"key\": serve { … } } puts each under a key of its own"));
        }
        Ok(Value::Service(Rc::new(ServiceValue { service, files })))
    }

    fn serving_here(&mut self, values: &FormValues, draft: &mut Draft) -> Result<Serving> {
        if let Some((_, at)) = values.get("address").or(values.get("port")) {
            let error = Diagnostic::error("wrong-type", "a service with `run` is given its address and port");
            let error = error.note("they are free ones: its commands name them self.address and self.port");
            return self.fail(at, error.mend("leave out `run` for a service that runs somewhere else"));
        }
        let prepare = self.service_commands(values, "prepare", draft)?;
        let Some(run) = self.one_service_command(values, "run", draft)? else {
            return Err(super::Stop::Failed);
        };
        let fill = self.service_commands(values, "fill", draft)?;
        let stop = self.one_service_command(values, "stop", draft)?;
        Ok(Serving::Here { prepare, run, fill, stop, shared: values.bool("shared") })
    }

    fn serving_elsewhere(&mut self, values: &FormValues, draft: &mut Draft, span: Span) -> Result<Serving> {
        let mut whereabouts = Vec::new();
        for name in ["address", "port"] {
            let Some((Value::Text(text), at)) = values.get(name) else {
                let error = Diagnostic::error("missing-field", "this `serve` has nothing to run");
                return self.fail(
                    span,
                    error
                        .mend("run = `server --bind {self.address} --port {self.port}`")
                        .mend("address = …, port = … for one that runs somewhere else"),
                );
            };
            let strands: Vec<WordStrand> = text.strands().into_iter().map(WordStrand::from).collect();
            if !strands.iter().all(|s| matches!(s, WordStrand::Literal(_) | WordStrand::Secret(_))) {
                let error = Diagnostic::error("wrong-type", format!("`{name}` cannot carry files"));
                return self.fail(at, error);
            }
            if let Some(text) = text.plain()
                && name == "port"
                && text.parse::<std::num::NonZeroU16>().is_err()
            {
                let error = Diagnostic::error("wrong-type", format!("\"{text}\" is not a port"));
                return self.fail(at, error.note("a port is a number from 1 to 65535"));
            }
            whereabouts.push(Arc::from(self.written(&strands, draft)));
        }
        let of_one_here = ["prepare", "fill", "stop", "shared"];
        if let Some((name, (_, at))) = of_one_here.iter().find_map(|n| Some((n, values.get(n)?))) {
            let message = format!("`{name}` is for a service that is started here");
            let error = Diagnostic::error("wrong-type", message);
            return self.fail(at, error.note("with `address` and `port` it runs somewhere else"));
        }
        let (Some(port), Some(address)) = (whereabouts.pop(), whereabouts.pop()) else {
            return Err(super::Stop::Failed);
        };
        Ok(Serving::Elsewhere { address, port })
    }

    fn one_service_command(
        &mut self,
        values: &FormValues,
        name: &str,
        draft: &mut Draft,
    ) -> Result<Option<ServiceCommand>> {
        let mut commands = self.service_commands(values, name, draft)?;
        let one = commands.pop();
        match values.get(name) {
            Some((_, span)) if !commands.is_empty() => {
                let error = Diagnostic::error("wrong-type", format!("`{name}` of a service is one command"));
                let error = error.mend("sh`…` runs several in order");
                self.fail(
                    span,
                    if name == "run" {
                        error.mend("prepare = [ … ] runs commands before it")
                    } else {
                        error
                    },
                )
            }
            _ => Ok(one),
        }
    }

    fn service_commands(
        &mut self,
        values: &FormValues,
        name: &str,
        draft: &mut Draft,
    ) -> Result<Vec<ServiceCommand>> {
        let commands = values.commands_of(name);
        self.refuse_outputs(&commands, "a service", true)?;
        let mut strands = Leaves::new();
        commands.iter().flat_map(|c| &c.stages).flat_map(all_strands).for_each(|s| leaves(s, &mut strands));
        for strand in strands {
            if let WordStrand::Scratch { path, .. } = strand {
                draft.step.scratch.push(scratch_path(&draft.step.folder, path));
            }
        }
        let mut all = Vec::new();
        for command in &commands {
            let stages = self.all(&command.stages, |this, stage| this.stage_of(stage, draft))?;
            let stages = stages.into_iter().map(|stage| ServiceStage {
                program: match stage.program {
                    Program::Tool(tool) => {
                        ServiceProgram::Tool(self.drafting.graph.tools[tool.index()].clone())
                    }
                    Program::File(file) => ServiceProgram::File(self.drafting.graph.file(file).path.clone()),
                },
                words: stage.words,
                stdin: stage.stdin,
                stdout: stage.stdout,
                stderr: stage.stderr,
            });
            all.push(stages.collect());
        }
        Ok(all)
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
                self.all(&map.entries, |this, (key, thunk)| Ok((key.clone(), this.force(thunk, span)?)))?
            }
            Value::Record(record) => record.fields.clone(),
            _ => Vec::new(),
        };
        let are_services = !inner.is_empty() && inner.iter().all(|(_, v)| matches!(v, Value::Service(_)));
        if are_services && self.wanted.linting {
            return Ok(());
        }
        let (code, message) = if are_services {
            ("wrong-type", format!("`{name}` is several services: say which"))
        } else {
            (
                "wrong-type",
                format!("a service runs while others need it, and this one is {}", value.described()),
            )
        };
        let error = Diagnostic::error(code, message);
        let error = match are_services {
            true => {
                inner.iter().take(6).fold(error, |e, (key, _)| e.mend(format!("nubrik run {name}/{key}")))
            }
            false => error.mend(format!("service {name} = serve {{ run = `…` }}")),
        };
        self.fail(span, error)
    }
}
