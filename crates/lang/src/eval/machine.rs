//! What definitions ask of the machine: tools, installed libraries, probes, variables.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::calls::Given;
use super::forms::FormValues;
use super::{Evaluator, Result, Scope};
use crate::value::*;
use crate::world::{
    Answer, AnswerText, EntryKind, LibraryRequest, ProbeCommand, ProbeProgram, ProbeRequest, ToolRequest,
};

/// A text and its place.
type PlacedText = (Arc<str>, Span);

impl Evaluator<'_> {
    pub(super) fn tool_form(&mut self, values: &FormValues, span: Span) -> Result<Value> {
        let names = values.texts("names");
        if names.is_empty() || names.iter().any(|n| n.is_empty() || n.contains('/')) {
            let error = Diagnostic::error("wrong-type", "a tool is looked up by bare names");
            return self.fail(values.get("names").map_or(span, |v| v.1), error.mend("names = [\"python3\"]"));
        }
        let at_least = self.plain(values, "at_least")?;
        let version = match self.plain(values, "version")? {
            // The word is given to a program of the machine: more than a plain option may make it do anything.
            Some((word, at)) if !is_version_word(&word) => {
                let message = format!("{word:?} does not only ask for a version");
                let error = Diagnostic::error("wrong-type", message)
                    .note("the word is letters and `-`, with up to two `-` before it");
                return self.fail(at, error.mend("version = \"--version\"").mend("version = \"-V\""));
            }
            version => version.map(|(word, _)| word),
        };
        let wants_version = version.is_some() || at_least.is_some();
        let request = ToolRequest {
            names: names.clone(),
            version: wants_version.then(|| version.unwrap_or_else(|| "--version".into())),
        };
        let Answer::Ready(answer) = self.world.tool(&request) else { return self.wait() };
        let may_fail = values.bool("may_fail");
        // The first of the names that is there and new enough.
        let mut old: Vec<String> = Vec::new();
        for found in answer.found {
            if let Some((wanted, _)) = &at_least {
                match &found.version {
                    Some(version) if is_at_least(version, wanted) => {}
                    Some(version) => {
                        old.push(format!("{} is version {version}", found.path));
                        continue;
                    }
                    None => {
                        old.push(format!("{} does not tell its version", found.path));
                        continue;
                    }
                }
            }
            let tool = ToolValue { name: found.name, path: found.path, version: found.version };
            return Ok(Value::Tool(Rc::new(tool)));
        }
        if may_fail {
            return Ok(Value::None);
        }
        let listed = names.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(" or ");
        let error = match old.is_empty() {
            true => Diagnostic::error("no-tool", format!("the machine has no {listed}")),
            false => {
                let wanted = at_least.as_ref().map_or("", |(w, _)| w);
                let message = format!("the machine has no {listed} of version {wanted} or newer");
                old.iter().fold(Diagnostic::error("old-tool", message), |e, o| e.note(o.clone()))
            }
        };
        let error = error.note(format!("searched: {}", answer.searched.join(", ")));
        let error = error.maybe_mend(answer.mend).mend("may_fail = true where it is not needed");
        self.fail(span, error)
    }

    pub(super) fn library_form(&mut self, values: &FormValues, span: Span) -> Result<Value> {
        let names = values.texts("names");
        let at_least = self.plain(values, "at_least")?;
        let request = LibraryRequest { names: names.clone(), for_static: values.bool("static") };
        let Answer::Ready(answer) = self.world.library(&request) else { return self.wait() };
        let may_fail = values.bool("may_fail");
        let mut old = Vec::new();
        for found in answer.found {
            if let Some((wanted, _)) = &at_least
                && !is_at_least(&found.version, wanted)
            {
                old.push(format!("`{}` is version {}", found.name, found.version));
                continue;
            }
            let texts = |list: &[String]| Value::List(list.iter().map(|t| Value::text(t)).collect());
            let fields = vec![
                ("name".into(), Value::text(&found.name)),
                ("version".into(), Value::text(&found.version)),
                ("offers".into(), texts(&found.compile)),
                ("links".into(), texts(&found.link)),
                ("files".into(), Value::Files(Rc::new([]))),
                ("archives".into(), Value::List(Rc::new([]))),
                ("headers".into(), Value::Files(Rc::new([]))),
                ("include".into(), Value::List(Rc::new([]))),
            ];
            return Ok(Value::Record(Rc::new(Record { fields, kind: Some("system_library".into()) })));
        }
        if may_fail {
            return Ok(Value::None);
        }
        let listed = names.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(" or ");
        let error = match (old.is_empty(), answer.problem) {
            (_, Some(problem)) => Diagnostic::error("no-library", problem),
            (true, None) => Diagnostic::error("no-library", format!("no library {listed} is installed")),
            (false, None) => {
                let wanted = at_least.as_ref().map_or("", |(w, _)| w);
                let message = format!("no library {listed} of version {wanted} or newer is installed");
                old.iter().fold(Diagnostic::error("old-library", message), |e, o| e.note(o.clone()))
            }
        };
        let searched = answer.searched.join(", ");
        let error = error.note(format!("searched for its .pc file in {searched}"));
        let name = names.first().map_or("", |n| n);
        let error = error
            .mend(format!("install the package with {name}.pc, often called {name}-dev or {name}-devel"));
        self.fail(span, error.mend("may_fail = true where it is not needed"))
    }

    pub(super) fn probe_form(&mut self, values: &FormValues, span: Span) -> Result<Value> {
        let mut commands = Vec::new();
        for command in values.commands() {
            let stages = self.all(&command.stages, |this, stage| this.probe_stage(stage))?;
            commands.push(stages);
        }
        let mut env = Vec::new();
        if let Value::Map(map) = values.value("env") {
            for (name, thunk) in &map.entries {
                match self.force(thunk, span)? {
                    Value::Text(Text::Plain(text)) => env.push((name.clone(), text)),
                    _ => {
                        let error =
                            Diagnostic::error("wrong-type", "a variable of a probe cannot carry files");
                        return self.fail(thunk.span, error);
                    }
                }
            }
        }
        env.sort();
        let may_fail = values.bool("may_fail");
        let request = ProbeRequest { commands, env, timeout: values.duration("timeout") };
        let Answer::Ready(answer) = self.world.probe(&request) else { return self.wait() };
        match answer {
            Ok(AnswerText { ok, text }) if ok || may_fail => {
                Ok(Value::Answer(Rc::new(AnswerValue { ok, text })))
            }
            Ok(AnswerText { text, .. }) => {
                let error = Diagnostic::error("probe-failed", "this probe failed");
                let said = text.lines().last().unwrap_or("").to_owned();
                let error = if said.is_empty() { error } else { error.note(format!("it said: {said}")) };
                self.fail(span, error.mend("may_fail = true where a failure is an answer, too"))
            }
            Err(_) if may_fail => Ok(Value::Answer(Rc::new(AnswerValue { ok: false, text: "".into() }))),
            Err(problem) => {
                let error = Diagnostic::error("probe-failed", format!("this probe could not run: {problem}"));
                self.fail(span, error.mend("may_fail = true where a failure is an answer, too"))
            }
        }
    }

    fn probe_stage(&mut self, stage: &StageValue) -> Result<ProbeCommand> {
        let mut words = Vec::new();
        let mut program = None;
        for (i, (span, word)) in stage.words.iter().enumerate() {
            let mut text = String::new();
            for strand in word {
                match strand {
                    WordStrand::Literal(literal) => text.push_str(literal),
                    WordStrand::Tool(tool) => text.push_str(&tool.path),
                    WordStrand::File(file) if file.maker.is_none() => text.push_str(file.path.as_str()),
                    WordStrand::Secret(_) => return self.fail(*span, super::checks::no_secret()),
                    WordStrand::Served(..) | WordStrand::Own(_) => {
                        let error = Diagnostic::error("wrong-type", "a probe cannot use a service");
                        let error =
                            error.note("it runs whenever a request reaches it, before anything is started");
                        return self.fail(*span, error.mend("scan { … } is kept, and may use one"));
                    }
                    WordStrand::File(_) | WordStrand::List(_) => {
                        let error = Diagnostic::error("wrong-type", "a probe cannot read what a step makes");
                        let error = error.note("it runs whenever a request reaches it, before any step");
                        return self.fail(*span, error.mend("scan { … } waits for the steps that it needs"));
                    }
                    _ => {
                        let error = Diagnostic::error("wrong-type", "a probe makes nothing");
                        return self.fail(*span, error.mend("step { … } makes files"));
                    }
                }
            }
            if i == 0 {
                program = Some(match word.as_slice() {
                    [WordStrand::File(file)] => ProbeProgram::File(file.path.clone()),
                    [WordStrand::Tool(tool)] => ProbeProgram::Tool(tool.name.clone()),
                    _ => ProbeProgram::Tool(text.as_str().into()),
                });
            }
            words.push(text.into());
        }
        let odd = stage.stdin.as_ref().or(stage.stdout.as_ref()).or(stage.stderr.as_ref());
        if let Some((span, _)) = odd {
            let error =
                Diagnostic::error("wrong-type", "what a probe prints is its answer: it has no redirects");
            return self.fail(*span, error);
        }
        match program {
            Some(program) => Ok(ProbeCommand { program, words }),
            None => Err(super::Stop::Failed),
        }
    }

    /// `env("NAME", default = "…")`.
    /// A text that stands for a variable's value, which evaluation never sees.
    pub(super) fn secret_call(&mut self, args: Vec<Given<'_>>, span: Span) -> Result<Value> {
        let (name, _) = self.one_text_and(args, "secret", &[], span)?;
        if name.0.is_empty() || name.0.contains(['=', '\0', ':']) {
            let error =
                Diagnostic::error("wrong-type", format!("{:?} is not the name of a variable", &*name.0));
            return self.fail(name.1, error);
        }
        Ok(Value::Text(Text::Carrying(Rc::new([Strand::Secret(name.0)]))))
    }

    pub(super) fn env_call(&mut self, args: Vec<Given<'_>>, span: Span) -> Result<Value> {
        let (name, default) = self.one_text_and(args, "env", &["default"], span)?;
        if name.0.is_empty() || name.0.contains(['=', '\0']) {
            let error =
                Diagnostic::error("wrong-type", format!("{:?} is not the name of a variable", &*name.0));
            return self.fail(name.1, error);
        }
        let default = default.into_iter().next().map(|given| given.value);
        match (self.world.env(&name.0), default) {
            (Ok(Some(value)), _) => Ok(Value::text(&value)),
            (Ok(None), Some(default)) => Ok(default),
            (Ok(None), None) => {
                let error = Diagnostic::error("no-variable", format!("the variable `{}` is not set", name.0));
                let error = error.mend(format!("{}=… nubrik build", name.0));
                self.fail(span, error.mend(format!("env(\"{}\", default = \"…\")", name.0)))
            }
            (Err(problem), _) => self.fail(span, Diagnostic::error("no-variable", problem)),
        }
    }

    /// `beside("scan.py")`: a file next to the definition file.
    pub(super) fn beside_call(&mut self, scope: &Scope, args: Vec<Given<'_>>, span: Span) -> Result<Value> {
        let (name, _) = self.one_text_and(args, "beside", &[], span)?;
        let module = self.module(scope.module);
        let Some(folder) = module.folder.clone() else {
            let error = Diagnostic::error("bad-path", "a kit that ships with nubrik has no files beside it");
            return self.fail(span, error);
        };
        let path = folder.resolve(&name.0).map_err(|p| Diagnostic::error("bad-path", p.to_string()));
        let path = self.at(name.1, path)?;
        let file = self.existing(path, EntryKind::File, scope.module, name.1)?;
        Ok(Value::File(file))
    }

    /// The one text without a name that a function wants, and what was given by the other names.
    pub(super) fn one_text_and<'a>(
        &mut self,
        args: Vec<Given<'a>>,
        function: &str,
        others: &[&str],
        span: Span,
    ) -> Result<(PlacedText, Vec<Given<'a>>)> {
        let mut text = None;
        let mut rest = Vec::new();
        for arg in args {
            match (&arg.name, &arg.value) {
                (None, Value::Text(Text::Plain(t))) if text.is_none() => text = Some((t.clone(), arg.span)),
                (None, value) => {
                    let message = format!("`{function}` takes one text, found {}", value.described());
                    return self.fail(arg.span, Diagnostic::error("wrong-type", message));
                }
                (Some(name), _) if others.contains(&&*name.text) => rest.push(arg),
                (Some(name), _) => {
                    let message = format!("`{function}` has no parameter `{}`", name.text);
                    let near = nubrik_diagnostic::nearest(&name.text, others.iter().copied());
                    return self
                        .fail(name.span, Diagnostic::error("unknown-field", message).maybe_mend(near));
                }
            }
        }
        match text {
            Some(text) => Ok((text, rest)),
            None => {
                let error = Diagnostic::error("wrong-call", format!("`{function}` needs a text"));
                self.fail(span, error.mend(format!("{function}(\"…\")")))
            }
        }
    }
}

/// Whether a version such as `3.11.7` is another one such as `3.9`, or newer: numbers are compared
/// part by part, and missing ones count as 0.
fn is_at_least(version: &str, wanted: &str) -> bool {
    let parts = |text: &str| -> Vec<u64> {
        text.split(|c: char| !c.is_ascii_digit())
            .filter(|p| !p.is_empty())
            .map(|p| p.parse().unwrap_or(u64::MAX))
            .collect()
    };
    let (mut version, mut wanted) = (parts(version), parts(wanted));
    let length = version.len().max(wanted.len());
    version.resize(length, 0);
    wanted.resize(length, 0);
    version >= wanted
}

/// Whether a word asks a tool for its version: `--version`, `-V`, `version`.
fn is_version_word(word: &str) -> bool {
    let plain = word.strip_prefix('-').unwrap_or(word);
    let plain = plain.strip_prefix('-').unwrap_or(plain);
    plain.starts_with(|c: char| c.is_ascii_alphabetic())
        && plain.chars().all(|c| c.is_ascii_alphabetic() || c == '-')
}

#[cfg(test)]
mod tests {
    use super::is_at_least;

    #[test]
    fn versions_are_compared_by_number() {
        assert!(is_at_least("3.11.7", "3.9"));
        assert!(is_at_least("3.9", "3.9.0"));
        assert!(!is_at_least("3.8.20", "3.9"));
        assert!(is_at_least("12.2.0-14+deb12u1", "12"));
    }
}
