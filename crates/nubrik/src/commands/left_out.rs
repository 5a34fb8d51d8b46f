//! With `--keep-going` an error in some definitions does not stop the rest: what has none is built and tested, and what was left out is
//! said, here and in all reports.

use nubrik_cases::{Case, CaseOutcome, Suite};
use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::Workshop;
use nubrik_source::Sources;
use serde::Serialize;

use super::{Answering, CommandResult, evaluate_with, labelled, stop_on_errors};
use crate::arguments::How;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// How many addresses one line names.
const NAMED: usize = 6;

#[derive(Serialize)]
struct UnevaluatedEvent<'a> {
    event: &'static str,
    addresses: &'a [String],
    errors: usize,
}

/// What was asked for and could not be evaluated.
#[derive(Clone, Default)]
pub struct Unevaluated {
    /// Packages with a `/` behind them, and targets.
    pub addresses: Vec<String>,
    /// The errors, each with its place.
    pub errors: Vec<String>,
}

/// What could be evaluated of a request.
pub struct PartEvaluated {
    pub evaluation: Evaluation,
    /// What of the request that is.
    pub patterns: Vec<AddressPattern>,
    pub left_out: Unevaluated,
}

fn errors_of(evaluation: &Evaluation) -> Vec<Diagnostic> {
    evaluation.diagnostics.iter().filter(|d| d.severity == Severity::Error).cloned().collect()
}

fn with_place(error: &Diagnostic, sources: &Sources) -> String {
    match error.span {
        Some(span) => format!("{}: {}", sources.place(span), error.message),
        None => error.message.clone(),
    }
}

/// Evaluates a request, and where it is to go on after errors (`how`), the part of it that has none.
pub fn evaluate_part(
    console: Console,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    (how, stream): (How, OutputStream),
) -> CommandResult<PartEvaluated> {
    let (mut patterns, mut left_out) = (patterns.to_vec(), Unevaluated::default());
    if how.keep_going {
        let evaluation = workshop.evaluate(&patterns);
        let errors = errors_of(&evaluation);
        if !errors.is_empty() {
            left_out.errors = errors.iter().map(|error| with_place(error, &evaluation.sources)).collect();
            let narrowed = workshop.session().narrowed(&patterns);
            if workshop.session().is_stopped() {
                return Err(Exit::Interrupted);
            }
            let told = stop_on_errors(console, evaluation);
            if narrowed.good.is_empty() {
                return told.and(Err(Exit::Definitions));
            }
            (patterns, left_out.addresses) = (narrowed.good, narrowed.left_out);
            left_out.say(console);
        }
    }
    let evaluation = evaluate_with(console, workshop, Some((how, stream)), |s| s.evaluate(&patterns))?;
    Ok(PartEvaluated { evaluation, patterns, left_out })
}

fn named(addresses: &[String]) -> String {
    let some = addresses.iter().take(NAMED).map(String::as_str).collect::<Vec<_>>().join(", ");
    match addresses.len().saturating_sub(NAMED) {
        0 => some,
        more => format!("{some} and {more} more"),
    }
}

/// Says at the end once more what was left out: the errors may be far above.
pub fn remind(console: Console, addresses: &[String], stream: OutputStream) {
    if !addresses.is_empty() && !console.is_json() {
        let text = format!("{}: not even tried, since their definitions have errors", named(addresses));
        console.line(stream, &labelled(console.paint(stream), Ink::Doubt, "left out", &text));
    }
}

impl Unevaluated {
    /// Says what is not built or tested.
    fn say(&self, console: Console) {
        let Unevaluated { addresses, errors } = self;
        if console.is_json() {
            return console.event(&UnevaluatedEvent { event: "left-out", addresses, errors: errors.len() });
        }
        let paint = console.paint(OutputStream::Output);
        let text = format!("{}: they have errors, or need what has some; the rest goes on", named(addresses));
        outln!(console, "\n{}", labelled(paint, Ink::Doubt, "left out", &text));
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
        if cases.is_empty() { Vec::new() } else { vec![Suite { name, seconds: 0.0, cases }] }
    }
}
