//! `nubrik build --verify`: what was taken runs again.

use nubrik_answers::{VerifiedEvent, first_difference};
use nubrik_engine::{Options, VerifiedStep, VerifyEnd};
use nubrik_graph::FileId;
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::{BuildReport, Workshop};
use nubrik_wording::counted;

use super::{CommandResult, Silent, labelled, own_problem};
use crate::ui::console::{Console, OutputStream};
use crate::ui::paint::Ink;

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
        verified
            .iter()
            .for_each(|step| console.event(&VerifiedEvent::of(graph, step)));
        return Ok(());
    }
    let paint = console.paint(stream);
    let line =
        |ink, word: &str, text: &str| console.line(stream, &labelled(paint, ink, word, text));
    for VerifiedStep { step, end } in &verified {
        let title = format!("{}   {}", graph.title(*step), graph.step(*step).say);
        match end {
            VerifyEnd::Same | VerifyEnd::Stopped => {}
            VerifyEnd::Differs(other) => {
                let difference = first_difference(other);
                let text = format!("then and now, in {}: {difference}", other.name);
                line(Ink::Wrong, "differs", &title);
                line(Ink::Wrong, "", &text);
            }
            VerifyEnd::Failed(failure) => {
                let text = format!("{title}   it ended well before: {failure}");
                line(Ink::Wrong, "fails", &text);
            }
        }
    }
    let same = count(|end| matches!(end, VerifyEnd::Same));
    if same > 0 {
        let steps = counted(same, "step");
        let text = format!("{steps} ran again and made the same bytes");
        line(Ink::Found, "verified", &text);
    } else if verified.is_empty() && !is_quiet {
        let text = "nothing here was taken from the shared cache";
        line(Ink::Faint, "verified", text);
    }
    if report.flaky > 0 {
        let text = "results that differ are not uploaded; write no times, random numbers or paths of the machine into them";
        line(Ink::Faint, "try", text);
    }
    Ok(())
}
