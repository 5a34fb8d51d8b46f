//! With `--keep-going` an error in some definitions does not stop the rest: what has none is built and tested, and what was left out is
//! said, here and in all reports.

use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_reports::cases::{Case, CaseOutcome, Suite};
use nubrik_session::{Narrowed, Workshop};
use nubrik_source::Sources;
use serde::Serialize;

use super::{Answering, CommandResult, labelled, stop_on_errors};
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

/// Evaluates a request, as often as answers of probes are missing; where it is to go on after errors (`how`), the part of it that has none.
pub fn evaluate_part(
    console: Console,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    (how, stream): (How, OutputStream),
) -> CommandResult<PartEvaluated> {
    let (mut patterns, mut left_out) = (patterns.to_vec(), Unevaluated::default());
    loop {
        let evaluation = workshop.evaluate(&patterns);
        if workshop.session().is_stopped() {
            return Err(Exit::Interrupted);
        }
        let errors = errors_of(&evaluation);
        if !errors.is_empty() {
            let errors = errors.iter().map(|error| with_place(error, &evaluation.sources)).collect();
            // Said before the rest is tried. Without `--keep-going` it ends there.
            let stopped = stop_on_errors(console, evaluation).err().unwrap_or(Exit::Definitions);
            let narrowed =
                if how.keep_going { workshop.session().narrowed(&patterns) } else { Narrowed::default() };
            if workshop.session().is_stopped() {
                return Err(Exit::Interrupted);
            }
            // What is well in parts and wrong together cannot be made less.
            if narrowed.good.is_empty() || narrowed.left_out.is_empty() {
                return Err(stopped);
            }
            patterns = narrowed.good;
            let now = Unevaluated { addresses: narrowed.left_out, errors };
            now.say(console);
            left_out.addresses.extend(now.addresses);
            left_out.errors.extend(now.errors);
            continue;
        }
        if !evaluation.waiting || evaluation.probes.is_empty() {
            return Ok(PartEvaluated { evaluation, patterns, left_out });
        }
        Answering::answer(workshop, console, &evaluation, Some((how, stream)))?;
    }
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
            return console.event(&UnevaluatedEvent {
                event: "unevaluated",
                addresses,
                errors: errors.len(),
            });
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
