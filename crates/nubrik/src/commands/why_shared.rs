//! `nubrik why TARGET --shared`: what keeps steps from being taken from the team's store.

use std::collections::HashSet;

use nubrik_graph::{Closure, StepId};
use nubrik_session::TeamStore;
use serde::Serialize;

use super::why::Differs;
use super::{CommandResult, evaluate, labelled, open, patterns, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::Ink;

/// How many differences of a step are shown, and how many steps.
const SHOWN: usize = 6;
const STEPS: usize = 12;

/// A step that would not be taken.
#[derive(Serialize)]
struct NotTakenEvent<'a> {
    event: &'static str,
    target: &'a str,
    say: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    writer: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<&'a str>,
    differences: Vec<Differs>,
    #[serde(skip_serializing_if = "Option::is_none")]
    rests_on: Option<&'a str>,
}

pub fn why_shared(console: Console, choice: &Choice, address: &str) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    session.look_at_shared().map_err(|problem| say_wrong(console, Exit::Usage, &problem, &[]))?;
    if !matches!(session.shared(), TeamStore::Used(_)) {
        let message = "this workspace uses no team's store";
        return Err(say_wrong(console, Exit::Usage, message, &["nubrik share   says what it proposes"]));
    }
    let patterns = patterns(console, &mut session, &[address.to_owned()])?;
    let evaluation = evaluate(console, &mut session, &patterns)?;
    let graph = &evaluation.graph;
    let held = session.held_against_shared(&evaluation);
    let given: HashSet<StepId> = held.iter().map(|(step, ..)| *step).collect();
    let all = Closure::of(graph, evaluation.requested.iter().copied()).steps;
    let with_commands: Vec<StepId> =
        all.into_iter().filter(|s| !graph.step(*s).commands.is_empty()).collect();
    let others: Vec<_> = held.iter().filter(|(_, _, held)| !held.is_usable()).collect();
    let nobodys: Vec<StepId> = with_commands.iter().copied().filter(|step| !given.contains(step)).collect();
    if console.is_json() {
        for (step, one, held) in &others {
            console.event(&NotTakenEvent {
                event: "not-taken",
                target: &graph.owner(*step).address,
                say: &graph.step(*step).say,
                writer: Some(&one.writer),
                line: Some(&one.line),
                differences: held.differences.iter().map(Differs::of).collect(),
                rests_on: held.rests_on.as_deref().filter(|_| held.differences.is_empty()),
            });
        }
        for step in nobodys {
            let (target, say) = (&*graph.owner(step).address, &*graph.step(step).say);
            let (writer, line, rests_on) = (None, None, None);
            let differences = Vec::new();
            console.event(&NotTakenEvent {
                event: "not-taken",
                target,
                say,
                writer,
                line,
                differences,
                rests_on,
            });
        }
        return Ok(Exit::Done);
    }
    let paint = console.paint(OutputStream::Output);
    let taken = with_commands.len() - others.len() - nobodys.len();
    let noun = if with_commands.len() == 1 { "step" } else { "steps" };
    let head = format!(
        "{taken} of {} {noun} of {address} are in the team's store as they are here",
        with_commands.len()
    );
    outln!(console, "{}", paint.ink(Ink::Strong, &head));
    for (step, one, held) in others.iter().take(STEPS) {
        let step = graph.step(*step);
        let text = format!(
            "{}   {}   {} gave another one to {}",
            graph.target(step.target).address,
            step.say,
            one.writer,
            one.line
        );
        outln!(console, "{}", labelled(paint, Ink::Doubt, "other", &text));
        let shown =
            held.differences.iter().take(SHOWN).filter_map(|difference| Differs::of(difference).line(paint));
        shown.for_each(|line| out!(console, "{line}"));
        if held.differences.len() > SHOWN {
            let more = format!("and {} more; `--json` shows all of them", held.differences.len() - SHOWN);
            outln!(console, "{:10}{}", "", paint.ink(Ink::Faint, &more));
        }
        if let (Some(path), true) = (&held.rests_on, held.differences.is_empty()) {
            let word = paint.ink(Ink::Busy, &format!("{:<8}", "system"));
            outln!(console, "{:10}{word}  it rests on {path}, which is another one here", "");
        }
    }
    if others.len() > STEPS {
        let more = format!("{} more steps differ; `--json` shows all of them", others.len() - STEPS);
        outln!(console, "{}", labelled(paint, Ink::Faint, "", &more));
    }
    for step in nobodys.iter().take(STEPS) {
        let step = graph.step(*step);
        let text =
            format!("{}   {}   nobody gave a result of it", graph.target(step.target).address, step.say);
        outln!(console, "{}", labelled(paint, Ink::Faint, "none", &text));
    }
    if nobodys.len() > STEPS {
        let more = format!("{} more steps of which nobody gave a result", nobodys.len() - STEPS);
        outln!(console, "{}", labelled(paint, Ink::Faint, "", &more));
    }
    Ok(Exit::Done)
}
