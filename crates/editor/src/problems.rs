//! Errors and warnings as an editor shows them, and mends that it can apply.

use std::collections::{BTreeMap, HashMap};

use lsp_types::{
    CodeAction, CodeActionKind, CodeActionOrCommand, DiagnosticRelatedInformation,
    DiagnosticSeverity, Location, NumberOrString, Position, Range, TextEdit, Uri, WorkspaceEdit,
};
use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_lang::Evaluation;
use nubrik_source::{Span, WsPath};

use crate::document::OpenText;
use crate::places::FileAddresses;
use crate::state::EditorKnowledge;

/// A place of a text that an evaluation read.
fn location(places: &FileAddresses, evaluation: &Evaluation, span: Span) -> Option<Location> {
    let name = evaluation.sources.name(span.file);
    let uri = places.uri(&WsPath::root().resolve(name).ok()?)?;
    Some(Location {
        uri,
        range: range(evaluation, span),
    })
}

/// A place in a text that an evaluation read, as the protocol counts.
fn position(evaluation: &Evaluation, file: nubrik_source::TextId, byte: u32) -> Position {
    let at = evaluation.sources.line_column(file, byte);
    let before = evaluation
        .sources
        .line_text(file, at.line)
        .chars()
        .take(at.column as usize - 1);
    Position {
        line: at.line - 1,
        character: before.map(char::len_utf16).sum::<usize>() as u32,
    }
}

fn range(evaluation: &Evaluation, span: Span) -> Range {
    Range {
        start: position(evaluation, span.file, span.start),
        end: position(evaluation, span.file, span.end),
    }
}

/// All problems that are known, by the paths of their files, as the protocol has them. Where the
/// newest evaluation has only the packages that the editor looks at, the last one of all packages
/// tells the problems of the others, and the warnings of texts that did not change.
pub fn problems(
    places: &FileAddresses,
    known: &EditorKnowledge,
) -> BTreeMap<WsPath, Vec<lsp_types::Diagnostic>> {
    let newest = &known.evaluated;
    let mut all = problems_of(places, &newest.evaluation);
    for older in known.all().skip(1) {
        for (path, mut problems) in problems_of(places, &older.evaluation) {
            if known.is_outdated(older, &path) {
                let is_same = older.texts.get(&path) == newest.texts.get(&path);
                problems.retain(|problem| {
                    is_same && problem.severity == Some(DiagnosticSeverity::WARNING)
                });
            }
            let told = all.entry(path).or_default();
            problems.retain(|problem| !told.contains(problem));
            told.extend(problems);
        }
    }
    all
}

fn problems_of(
    places: &FileAddresses,
    evaluation: &Evaluation,
) -> BTreeMap<WsPath, Vec<lsp_types::Diagnostic>> {
    let mut all: BTreeMap<WsPath, Vec<lsp_types::Diagnostic>> = BTreeMap::new();
    for problem in &evaluation.diagnostics {
        let Some(span) = problem.span else { continue };
        let name = evaluation.sources.name(span.file);
        let Ok(path) = WsPath::root().resolve(name) else {
            continue;
        };
        all.entry(path).or_default().push(told(
            places,
            evaluation,
            problem,
            range(evaluation, span),
        ));
    }
    all
}

fn told(
    places: &FileAddresses,
    evaluation: &Evaluation,
    problem: &Diagnostic,
    range: Range,
) -> lsp_types::Diagnostic {
    let mut message = problem.message.clone();
    problem
        .notes
        .iter()
        .for_each(|note| message.push_str(&format!("\n{note}")));
    problem
        .mends
        .iter()
        .for_each(|mend| message.push_str(&format!("\ntry: {mend}")));
    let related = problem.related.iter().filter_map(|related| {
        let location = location(places, evaluation, related.span)?;
        Some(DiagnosticRelatedInformation {
            location,
            message: related.message.clone(),
        })
    });
    let related: Vec<_> = related.collect();
    lsp_types::Diagnostic {
        range,
        severity: Some(match problem.severity {
            Severity::Error => DiagnosticSeverity::ERROR,
            Severity::Warning => DiagnosticSeverity::WARNING,
        }),
        code: Some(NumberOrString::String(problem.code.to_owned())),
        source: Some("nubrik".to_owned()),
        message,
        related_information: (!related.is_empty()).then_some(related),
        data: serde_json::to_value(&problem.mends).ok(),
        ..lsp_types::Diagnostic::default()
    }
}

/// Whether a text is one name, or one address, that can stand where another one stood.
fn is_name_like(text: &str) -> bool {
    let is_fine = |c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '/' | '&' | '-');
    !text.is_empty() && text.chars().all(is_fine)
}

#[allow(clippy::mutable_key_type)] // The protocol's own types say so.
/// Mends of problems in a text: those that say what is to stand there instead.
pub fn actions(
    document: &OpenText,
    uri: &Uri,
    problems: &[lsp_types::Diagnostic],
) -> Vec<CodeActionOrCommand> {
    let mut actions = Vec::new();
    for problem in problems {
        let (from, to) = (
            document.byte(problem.range.start),
            document.byte(problem.range.end),
        );
        let there = document.text.get(from..to).unwrap_or("");
        let mends: Vec<String> = problem
            .data
            .clone()
            .and_then(|data| serde_json::from_value(data).ok())
            .unwrap_or_default();
        for mend in mends
            .iter()
            .filter(|mend| is_name_like(mend) && is_name_like(there))
        {
            let edit = TextEdit {
                range: problem.range,
                new_text: mend.clone(),
            };
            let changes = HashMap::from([(uri.clone(), vec![edit])]);
            actions.push(CodeActionOrCommand::CodeAction(CodeAction {
                title: format!("Write {mend} instead of {there}"),
                kind: Some(CodeActionKind::QUICKFIX),
                diagnostics: Some(vec![problem.clone()]),
                edit: Some(WorkspaceEdit {
                    changes: Some(changes),
                    ..WorkspaceEdit::default()
                }),
                is_preferred: Some(mends.len() == 1),
                ..CodeAction::default()
            }));
        }
    }
    actions
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_names_take_the_place_of_names() {
        assert!(is_name_like("&base/clock") && is_name_like("tide_2"));
        assert!(!is_name_like("close it with `}`") && !is_name_like(""));
    }
}
