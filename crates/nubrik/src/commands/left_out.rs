//! With `--keep-going` an error in some definitions does not stop the rest: what has none is built
//! and tested, and what was left out is said, here and in all reports.

use nubrik_answers::{Unevaluated, error_lines};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::{Narrowed, Workshop};

use super::{Answering, CommandResult, labelled, stop_on_errors};
use crate::arguments::How;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// How many addresses one line names.
const NAMED: usize = 6;

/// What could be evaluated of a request.
pub struct PartEvaluated {
    pub evaluation: Evaluation,
    /// What of the request that is.
    pub patterns: Vec<AddressPattern>,
    pub left_out: Unevaluated,
}

/// Evaluates a request, as often as answers of probes are missing; where it is to go on after
/// errors (`how`), the part of it that has none.
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
        let errors = error_lines(&evaluation);
        if !errors.is_empty() {
            // Said before the rest is tried. Without `--keep-going` it ends there.
            let stopped = stop_on_errors(console, evaluation)
                .err()
                .unwrap_or(Exit::Definitions);
            let narrowed = if how.keep_going {
                workshop.session().narrowed(&patterns)
            } else {
                Narrowed::default()
            };
            if workshop.session().is_stopped() {
                return Err(Exit::Interrupted);
            }
            // What is well in parts and wrong together cannot be made less.
            if narrowed.good.is_empty() || narrowed.left_out.is_empty() {
                return Err(stopped);
            }
            patterns = narrowed.good;
            let now = Unevaluated {
                addresses: narrowed.left_out,
                errors,
            };
            say(console, &now);
            left_out.addresses.extend(now.addresses);
            left_out.errors.extend(now.errors);
            continue;
        }
        if !evaluation.waiting || evaluation.probes.is_empty() {
            return Ok(PartEvaluated {
                evaluation,
                patterns,
                left_out,
            });
        }
        Answering::answer(workshop, console, &evaluation, Some((how, stream)))?;
    }
}

fn named(addresses: &[String]) -> String {
    let some = addresses
        .iter()
        .take(NAMED)
        .map(String::as_str)
        .collect::<Vec<_>>()
        .join(", ");
    match addresses.len().saturating_sub(NAMED) {
        0 => some,
        more => format!("{some} and {more} more"),
    }
}

/// Says at the end once more what was left out: the errors may be far above.
pub fn remind(console: Console, addresses: &[String], stream: OutputStream) {
    if !addresses.is_empty() && !console.is_json() {
        let text = format!(
            "{}: not even tried, since their definitions have errors",
            named(addresses)
        );
        console.line(
            stream,
            &labelled(console.paint(stream), Ink::Doubt, "left out", &text),
        );
    }
}

/// Says what is not built or tested.
fn say(console: Console, left_out: &Unevaluated) {
    if console.is_json() {
        return console.event(&left_out.event());
    }
    let paint = console.paint(OutputStream::Output);
    let named = named(&left_out.addresses);
    let text = format!("{named}: they have errors, or need what has some; the rest goes on");
    outln!(
        console,
        "\n{}",
        labelled(paint, Ink::Doubt, "left out", &text)
    );
}
