//! `serve`: something that runs while others need it.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{
    Program, SERVICE_PATIENCE, Service, ServiceCommand, ServiceProgram, ServiceStage, Serving,
    instance_folder,
};
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::services::parent_below;
use crate::eval::steps::Draft;
use crate::eval::strands::{Leaves, all_strands, leaves, scratch_path};
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "serve",
        builtin: Builtin::Serve,
        shape: CallShape::Braces,
        doc: "Something that runs while other things need it: a database, a server. Each step, test or job that uses its `address` or `port` gets one of its own, or shares one. Both are part of no key, so that results of its users are kept. With `address` and `port` instead of `run` the service runs somewhere else.",
        fields: &[
            field(
                "run",
                FieldType::Commands,
                false,
                "the command that serves until it is stopped, at `self.address` and `self.port`",
            ),
            field(
                "prepare",
                FieldType::Commands,
                false,
                "commands before it is started, such as one that makes its data folder in {scratch \"data\"}",
            ),
            field(
                "ready",
                FieldType::Commands,
                false,
                "a command that succeeds as soon as the service is ready; without it, the service is ready when it accepts a connection",
            ),
            field(
                "timeout",
                FieldType::Duration,
                false,
                "how long it may take until it is ready; 30s by default",
            ),
            field(
                "fill",
                FieldType::Commands,
                false,
                "commands that run when it is ready, before its first use",
            ),
            field(
                "stop",
                FieldType::Commands,
                false,
                "the command that stops it, if a signal is not enough",
            ),
            field(
                "shared",
                FieldType::Bool,
                false,
                "whether all its users share one; otherwise each has a fresh one",
            ),
            READS,
            ENV,
            ROOT,
            field(
                "folder",
                FieldType::Folder,
                false,
                "the source folder in which the commands run",
            ),
            field(
                "address",
                FieldType::Text,
                false,
                "the host of a service that runs somewhere else; may be a `secret`",
            ),
            field(
                "port",
                FieldType::Port,
                false,
                "the port of a service that runs somewhere else; may be a `secret`",
            ),
        ],
        gives: &[
            ("address", "the host on which it listens"),
            ("port", "the port on which it listens"),
        ],
        example: "service board = serve { run = `redis-server --bind {self.address} --port {self.port} --save \"\"` }\ntest counts = check { run = `redis-cli -h {board.address} -p {board.port} incr tides` }",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.serve_form(scope, values, span)),
};

impl Evaluator<'_> {
    pub(in crate::eval) fn serve_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let root = self.root_for(scope, values, span)?;
        let mut draft = self.draft(&scope.owner, "service");
        draft.serves_in_image = root.is_some();
        draft.inputs.extend(root.clone());
        let own = std::mem::replace(&mut draft.step.folder, instance_folder());
        draft.own = Some(own.clone());
        draft.keeps_secrets = true;
        if let Some((Value::File(folder), dir_span)) = values.get("folder")
            && folder.maker.is_some()
        {
            let error = Diagnostic::error("wrong-type", "a service runs in a source folder");
            return self.fail(
                dir_span,
                error.mend("name what is made in a hole of its command"),
            );
        }
        draft.step.work = self.work_folder(values, false, &mut draft)?;
        let serving = if values.get("run").is_some() {
            self.serving_here(values, &mut draft, span)?
        } else {
            self.serving_elsewhere(values, &mut draft, span)?
        };
        let ready = self.one_service_command(values, "ready", &mut draft)?;
        draft.step.env = self.step_env(values.value("env"), &mut draft, span)?;
        let inputs = self.all_inputs(values, &mut draft, span)?;
        let file_of = |id: &nubrik_graph::FileId| {
            let node = &self.drafting.graph.files[id.index()];
            FileRef {
                path: node.path.clone(),
                maker: node.maker.map(|m| m.0),
                folder: node.folder,
            }
        };
        let mut files: Vec<FileRef> = inputs.iter().map(file_of).collect();
        files.sort();
        files.dedup();
        let mut tools: Vec<Arc<str>> = draft
            .tools
            .iter()
            .map(|t| self.drafting.graph.tools[t.index()].clone())
            .collect();
        tools.sort();
        tools.dedup();
        let address = scope.owner.package.child(&scope.owner.parts.join("/"));
        self.check_argument_files(&draft, span)?;
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
            root: root.and_then(|root| self.service_image(&root)),
            needs: draft.services,
            place: self.place(span),
        };
        self.enter_service(Arc::new(service), files, span)
    }

    fn enter_service(
        &mut self,
        service: Arc<Service>,
        files: Vec<FileRef>,
        span: Span,
    ) -> Result<Value> {
        let known = self
            .drafting
            .services
            .entry(service.folder.clone())
            .or_insert_with(|| service.clone());
        if **known != *service {
            let error = Diagnostic::error(
                "made-twice",
                format!("two services have the path `{}`", service.address),
            );
            let error = error.note(format!("the other one is at {}", known.place));
            return self.fail(
                span,
                error.mend("{ \"key\": serve { … } } puts each under a key of its own"),
            );
        }
        Ok(Value::Service(Rc::new(ServiceValue { service, files })))
    }

    pub(in crate::eval) fn serving_here(
        &mut self,
        values: &FormValues,
        draft: &mut Draft,
        span: Span,
    ) -> Result<Serving> {
        if let Some((_, at)) = values.get("address").or(values.get("port")) {
            let error = Diagnostic::error(
                "wrong-type",
                "a service with `run` is given its address and port",
            );
            let error =
                error.note("they are free ones: its commands name them self.address and self.port");
            return self.fail(
                at,
                error.mend("leave out `run` for a service that runs somewhere else"),
            );
        }
        let prepare = self.service_commands(values, "prepare", draft)?;
        let Some(run) = self.one_service_command(values, "run", draft)? else {
            return self.failed_before(span);
        };
        let fill = self.service_commands(values, "fill", draft)?;
        let stop = self.one_service_command(values, "stop", draft)?;
        Ok(Serving::Here {
            prepare,
            run,
            fill,
            stop,
            shared: values.bool("shared"),
        })
    }

    pub(in crate::eval) fn serving_elsewhere(
        &mut self,
        values: &FormValues,
        draft: &mut Draft,
        span: Span,
    ) -> Result<Serving> {
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
            let strands: Vec<WordStrand> =
                text.strands().into_iter().map(WordStrand::from).collect();
            if !strands
                .iter()
                .all(|s| matches!(s, WordStrand::Literal(_) | WordStrand::Secret(_)))
            {
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
            return self.fail(
                at,
                error.note("with `address` and `port` it runs somewhere else"),
            );
        }
        let (Some(port), Some(address)) = (whereabouts.pop(), whereabouts.pop()) else {
            return self.failed_before(span);
        };
        Ok(Serving::Elsewhere { address, port })
    }

    pub(in crate::eval) fn one_service_command(
        &mut self,
        values: &FormValues,
        name: &str,
        draft: &mut Draft,
    ) -> Result<Option<ServiceCommand>> {
        let mut commands = self.service_commands(values, name, draft)?;
        let one = commands.pop();
        match values.get(name) {
            Some((_, span)) if !commands.is_empty() => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("`{name}` of a service is one command"),
                );
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

    pub(in crate::eval) fn service_commands(
        &mut self,
        values: &FormValues,
        name: &str,
        draft: &mut Draft,
    ) -> Result<Vec<ServiceCommand>> {
        let commands = values.commands_of(name);
        self.refuse_outputs(&commands, "a service", true)?;
        let mut strands = Leaves::new();
        commands
            .iter()
            .flat_map(|c| &c.stages)
            .flat_map(all_strands)
            .for_each(|s| leaves(s, &mut strands));
        for strand in strands {
            if let WordStrand::Scratch { path, folder, .. } = strand {
                let path = scratch_path(&draft.step.folder, path);
                draft.step.scratch.push(if *folder {
                    path.child("contents")
                } else {
                    path
                });
            }
        }
        let mut all = Vec::new();
        for command in &commands {
            let stages = self.all(&command.stages, |this, stage| {
                this.stage_of(stage, command.span, draft)
            })?;
            let stages = stages.into_iter().map(|stage| ServiceStage {
                program: match stage.program {
                    Program::Tool(tool) => {
                        ServiceProgram::Tool(self.drafting.graph.tools[tool.index()].clone())
                    }
                    Program::File(file) => {
                        ServiceProgram::File(self.drafting.graph.file(file).path.clone())
                    }
                },
                words: stage.words,
                stdin: stage.stdin,
                stdout: stage.stdout,
                stderr: stage.stderr,
                answers: false,
            });
            all.push(stages.collect());
        }
        Ok(all)
    }
}
