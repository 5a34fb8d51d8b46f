//! `tool`: a program of this machine.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_graph::ImageSearch;
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;
use crate::world::{Answer, ToolAnswer, ToolRequest, ToolSearch};

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "tool",
        builtin: Builtin::Tool,
        shape: CallShape::Braces,
        doc: "A program of the machine. It is found once, checked for its version, and found again when the machine changes.",
        fields: &[
            field(
                "names",
                FieldType::Texts,
                true,
                "names to look for, or absolute paths, the best first",
            ),
            field(
                "version",
                FieldType::Text,
                false,
                "the word that makes it print its version, `--version` by default",
            ),
            field(
                "at_least",
                FieldType::Text,
                false,
                "the oldest version that is good enough, such as \"3.9\"",
            ),
            OR_NONE,
            ROOT,
        ],
        gives: &[
            ("name", "the name that was found"),
            ("version", "its version, such as \"3.11.7\""),
        ],
        example: "let python = tool { names = [\"python3\", \"python\"], at_least = \"3.9\" }",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.tool_form(scope, values, span)),
};

/// Why a tool is not new enough, for people; nothing where it is.
fn too_old(found: &ToolAnswer, wanted: &str) -> Option<String> {
    match &found.version {
        Some(version) if is_at_least(version, wanted) => None,
        Some(version) => Some(format!("{} is version {version}", found.path)),
        None => Some(format!("{} does not tell its version", found.path)),
    }
}

impl Evaluator<'_> {
    pub(in crate::eval) fn tool_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let names = values.texts("names");
        let is_name = |name: &Arc<str>| match name.strip_prefix('/') {
            Some(path) => path.split('/').all(|part| !matches!(part, "" | "." | "..")),
            None => !name.is_empty() && !name.contains('/'),
        };
        if names.is_empty() || !names.iter().all(is_name) {
            let error = Diagnostic::error(
                "wrong-type",
                "a tool is looked up by bare names or absolute paths",
            );
            return self.fail(
                values.get("names").map_or(span, |v| v.1),
                error.mend("names = [\"python3\"]"),
            );
        }
        let at_least = self.plain(values, "at_least")?;
        let version = match self.plain(values, "version")? {
            // The word is given to a program of the machine: more than a plain option may make it
            // do anything.
            Some((word, at)) if !is_version_word(&word) => {
                let message = format!("{word:?} does not only ask for a version");
                let error = Diagnostic::error("wrong-type", message)
                    .note("the word is letters and `-`, with up to two `-` before it");
                return self.fail(
                    at,
                    error
                        .mend("version = \"--version\"")
                        .mend("version = \"-V\""),
                );
            }
            version => version.map(|(word, _)| word),
        };
        let wants_version = version.is_some() || at_least.is_some();
        let request = ToolRequest {
            names: names.clone(),
            version: wants_version.then(|| version.unwrap_or_else(|| "--version".into())),
        };
        let image = self.root_for(scope, values, span)?;
        let in_image = image.is_some();
        let answer = match image {
            Some(image) => {
                let ToolRequest { names, version } = request;
                let said =
                    self.found_in_image(scope, image, ImageSearch::Tools { names, version }, span)?;
                ToolSearch::from_json(&said).unwrap_or_default()
            }
            None => {
                let Answer::Ready(answer) = self.world.tool(&request) else {
                    return self.wait();
                };
                answer
            }
        };
        // The first of the names that is there and new enough.
        let mut old: Vec<String> = Vec::new();
        for found in answer.found {
            if let Some(why) = at_least
                .as_ref()
                .and_then(|(wanted, _)| too_old(&found, wanted))
            {
                old.push(why);
                continue;
            }
            let tool = ToolValue {
                name: found.name,
                path: found.path,
                version: found.version,
            };
            return Ok(Value::Tool(Rc::new(tool)));
        }
        if values.bool("or_none") {
            return Ok(Value::None);
        }
        let wanted = at_least.as_ref().map_or("", |(wanted, _)| wanted);
        let error = no_tool(&names, wanted, &old, in_image)
            .note(format!("searched: {}", answer.searched.join(", ")));
        let near = || {
            // What is there and too old has its right name.
            if !old.is_empty() || in_image {
                return None;
            }
            let known = self.world.tool_names();
            let near = names
                .iter()
                .find_map(|name| nearest(name, known.iter().map(String::as_str)))?;
            Some(format!("names = \"{near}\""))
        };
        let install = || {
            let newer = if old.is_empty() { "" } else { "a newer " };
            let way = if in_image {
                "an image that has"
            } else {
                "install"
            };
            Some(format!("{way} {newer}{}", names[0]))
        };
        let mend = answer.mend.or_else(near).or_else(install);
        self.fail(
            span,
            error
                .maybe_mend(mend)
                .mend("or_none = true if it can do without"),
        )
    }
}

/// That the machine has none of some tools, or none that is new enough: `old` says which are too
/// old.
fn no_tool(names: &[Arc<str>], wanted: &str, old: &[String], in_image: bool) -> Diagnostic {
    let place = if in_image { "the image" } else { "the machine" };
    let listed = names
        .iter()
        .map(|n| format!("`{n}`"))
        .collect::<Vec<_>>()
        .join(" or ");
    if old.is_empty() {
        return Diagnostic::error("no-tool", format!("{place} has no {listed}"));
    }
    let message = format!("{place} has no {listed} of version {wanted} or newer");
    old.iter()
        .fold(Diagnostic::error("old-tool", message), |e, o| {
            e.note(o.clone())
        })
}

/// Whether a version such as `3.11.7` is another one such as `3.9`, or newer: numbers are compared
/// part by part, and missing ones count as 0.
pub(super) fn is_at_least(version: &str, wanted: &str) -> bool {
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
    pub(super) fn versions_are_compared_by_number() {
        assert!(is_at_least("3.11.7", "3.9"));
        assert!(is_at_least("3.9", "3.9.0"));
        assert!(!is_at_least("3.8.20", "3.9"));
        assert!(is_at_least("12.2.0-14+deb12u1", "12"));
    }
}
