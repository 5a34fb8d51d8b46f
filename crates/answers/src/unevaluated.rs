//! The part of a request that cannot be evaluated, where the rest goes on without it.

use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_lang::Evaluation;
use nubrik_reports::cases::{Case, CaseOutcome, Suite};
use nubrik_source::Sources;
use serde::Serialize;

/// Targets and packages that were asked for and have errors, or need some that have.
#[derive(Clone, Default)]
pub struct Unevaluated {
    /// Packages with a `/` behind them, and targets.
    pub addresses: Vec<String>,
    /// The errors, each with its place.
    pub errors: Vec<String>,
}

/// The same, for programs.
#[derive(Serialize)]
pub struct UnevaluatedEvent<'a> {
    event: &'static str,
    addresses: &'a [String],
    errors: usize,
}

/// The errors of an evaluation, without its warnings.
pub fn errors_of(evaluation: &Evaluation) -> Vec<Diagnostic> {
    evaluation
        .diagnostics
        .iter()
        .filter(|d| d.severity == Severity::Error)
        .cloned()
        .collect()
}

/// The errors of an evaluation in a line each, with their places.
pub fn error_lines(evaluation: &Evaluation) -> Vec<String> {
    errors_of(evaluation)
        .iter()
        .map(|error| with_place(error, &evaluation.sources))
        .collect()
}

fn with_place(error: &Diagnostic, sources: &Sources) -> String {
    match error.span {
        Some(span) => format!("{}: {}", sources.place(span), error.message),
        None => error.message.clone(),
    }
}

impl Unevaluated {
    /// The event about it.
    pub fn event(&self) -> UnevaluatedEvent<'_> {
        UnevaluatedEvent {
            event: "unevaluated",
            addresses: &self.addresses,
            errors: self.errors.len(),
        }
    }

    /// What a report of tests says of it: a failed case for each error.
    pub fn suites(&self) -> Vec<Suite> {
        let case = |error: &String| Case {
            group: String::new(),
            name: error.split(": ").next().unwrap_or_default().to_owned(),
            outcome: CaseOutcome::Failed,
            seconds: None,
            text: error.clone(),
        };
        let cases: Vec<Case> = self.errors.iter().map(case).collect();
        let name = format!("definitions of {}", self.addresses.join(", "));
        if cases.is_empty() {
            Vec::new()
        } else {
            vec![Suite {
                name,
                seconds: 0.0,
                cases,
            }]
        }
    }
}
