//! `nubrik build --verify`: what was taken runs again.

use nubrik_engine::{Options, OtherOutput, VerifiedStep, VerifyEnd};
use nubrik_graph::{FileId, Graph};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::{BuildReport, Workshop};
use nubrik_wording::counted;
use serde::Serialize;

use super::{CommandResult, Silent, labelled, own_problem};
use crate::ui::console::{Console, OutputStream};
use crate::ui::paint::Ink;

#[derive(Serialize)]
struct VerifiedStepEvent<'a> {
    event: &'static str,
    target: &'a str,
    say: &'a str,
    state: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    output: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    difference: Option<String>,
}

/// Runs a share of what was taken again, and says what came out.
pub fn verify(
    console: Console,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    (evaluation, files): (&Evaluation, &[FileId]),
    (is_quiet, options): (bool, Options),
    stream: OutputStream,
    report: &mut BuildReport,
) -> CommandResult<()> {
    if workshop.verify_rate() == 0 {
        return Ok(());
    }
    let verified = workshop.verify(patterns, evaluation, files, &Silent, options);
    let verified = verified.map_err(|problem| own_problem(console, &problem))?;
    let graph = &evaluation.graph;
    let count = |is: fn(&VerifyEnd) -> bool| verified.iter().filter(|step| is(&step.end)).count();
    report.flaky = count(|end| matches!(end, VerifyEnd::Differs(_) | VerifyEnd::Failed(_)));
    report.cancelled |= count(|end| matches!(end, VerifyEnd::Stopped)) > 0;
    if console.is_json() {
        verified.iter().for_each(|step| tell(console, graph, step));
        return Ok(());
    }
    let paint = console.paint(stream);
    let line = |ink, word: &str, text: &str| console.line(stream, &labelled(paint, ink, word, text));
    for VerifiedStep { step, end } in &verified {
        let title = format!("{}   {}", graph.title(*step), graph.step(*step).say);
        match end {
            VerifyEnd::Same | VerifyEnd::Stopped => {}
            VerifyEnd::Differs(other) => {
                line(Ink::Wrong, "differs", &title);
                line(Ink::Wrong, "", &format!("then and now, in {}: {}", other.name, difference(other)));
            }
            VerifyEnd::Failed(failure) => {
                line(Ink::Wrong, "fails", &format!("{title}   it ended well before: {failure}"));
            }
        }
    }
    let same = count(|end| matches!(end, VerifyEnd::Same));
    if same > 0 {
        let steps = counted(same, "step");
        line(Ink::Found, "verified", &format!("{steps} ran again and made the same bytes"));
    } else if verified.is_empty() && !is_quiet {
        line(Ink::Faint, "verified", "nothing here was taken from the shared cache");
    }
    if report.flaky > 0 {
        let text = "results that differ are not uploaded; write no times, random numbers or paths of the machine into them";
        line(Ink::Faint, "try", text);
    }
    Ok(())
}

/// What differs first.
fn difference(other: &OtherOutput) -> String {
    match (&other.before, &other.now) {
        (Some(before), Some(now)) => match nubrik_contrast::first_difference(before, now) {
            Some(difference) => difference.to_string(),
            None => "it may be executed now, or no longer".to_owned(),
        },
        (None, Some(_)) => "it was not there, or its bytes are not known any more".to_owned(),
        (_, None) => "it is not there now, or something else".to_owned(),
    }
}

fn tell(console: Console, graph: &Graph, step: &VerifiedStep) {
    let (state, output, difference) = match &step.end {
        VerifyEnd::Same => ("same", None, None),
        VerifyEnd::Stopped => ("stopped", None, None),
        VerifyEnd::Differs(other) => ("differs", Some(other.name.as_str()), Some(difference(other))),
        VerifyEnd::Failed(failure) => ("failed", None, Some(failure.to_string())),
    };
    console.event(&VerifiedStepEvent {
        event: "verified",
        target: &graph.title(step.step),
        say: &graph.step(step.step).say,
        state,
        output,
        difference,
    });
}
