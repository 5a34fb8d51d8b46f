//! `nubrik why TARGET --shared`: what keeps steps from being taken from the shared cache.

use std::collections::HashSet;

use nubrik_engine::{HeldAgainst, RestMismatch};
use nubrik_graph::{Closure, Graph, StepId};
use nubrik_session::SharedCache;
use nubrik_shared::GivenResult;
use nubrik_wording::counted;
use serde::Serialize;

use super::why::Differs;
use super::{CommandResult, evaluate, labelled, open, patterns, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::{padded, width};

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
    channel: Option<&'a str>,
    differences: Vec<Differs>,
    #[serde(skip_serializing_if = "Option::is_none")]
    rests_on: Option<&'a str>,
    /// Whether the list of what the result rests on was not fetched yet.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    not_fetched: bool,
}

/// Steps of a target that others did not make as they are here.
struct NotTaken<'g> {
    graph: &'g Graph,
    /// Steps that others made of something else, or on another machine than this.
    others: Vec<(StepId, GivenResult, HeldAgainst)>,
    /// Steps without a result.
    nobodys: Vec<StepId>,
    /// How many steps have commands.
    all: usize,
}

pub fn why_shared(console: Console, choice: &Choice, address: &str) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    session.look_at_shared().map_err(|problem| say_wrong(console, Exit::Usage, &problem.to_string(), &[]))?;
    if !matches!(session.shared(), SharedCache::Used(_)) {
        let message = "this workspace uses no shared cache";
        return Err(say_wrong(console, Exit::Usage, message, &["nubrik shared   says what it proposes"]));
    }
    let patterns = patterns(console, &mut session, &[address.to_owned()])?;
    let evaluation = evaluate(console, &mut session, &patterns)?;
    let graph = &evaluation.graph;
    let held = session.held_against_shared(&evaluation);
    let given: HashSet<StepId> = held.iter().map(|(step, ..)| *step).collect();
    let all = Closure::of(graph, evaluation.requested.iter().copied()).steps;
    let with_commands: Vec<StepId> =
        all.into_iter().filter(|step| !graph.step(*step).commands.is_empty()).collect();
    let not_taken = NotTaken {
        graph,
        others: held.into_iter().filter(|(_, _, held)| !held.is_usable()).collect(),
        nobodys: with_commands.iter().copied().filter(|step| !given.contains(step)).collect(),
        all: with_commands.len(),
    };
    match console.is_json() {
        true => not_taken.print_json(console),
        false => out!(console, "{}", not_taken.render(address, console.paint(OutputStream::Output))),
    }
    Ok(Exit::Done)
}

impl NotTaken<'_> {
    fn print_json(&self, console: Console) {
        let event = |step: StepId| NotTakenEvent {
            event: "not_reused",
            target: &self.graph.owner(step).address,
            say: &self.graph.step(step).say,
            writer: None,
            channel: None,
            differences: Vec::new(),
            rests_on: None,
            not_fetched: false,
        };
        for (step, one, held) in &self.others {
            console.event(&NotTakenEvent {
                writer: Some(&one.writer),
                channel: Some(&one.channel),
                differences: held.differences.iter().map(Differs::of).collect(),
                rests_on: match mismatch(held) {
                    Some(RestMismatch::Other(path)) => Some(path),
                    Some(RestMismatch::NotHere) | None => None,
                },
                not_fetched: mismatch(held) == Some(&RestMismatch::NotHere),
                ..event(*step)
            });
        }
        self.nobodys.iter().for_each(|step| console.event(&event(*step)));
    }

    fn render(&self, address: &str, paint: Paint) -> String {
        let (others, nobodys) = (&self.others, &self.nobodys);
        let taken = self.all - others.len() - nobodys.len();
        let head = format!("{taken} of {} of {address} are in the shared cache", counted(self.all, "step"));
        let mut out = format!("{}\n", paint.ink(Ink::Strong, &head));
        let steps = others.iter().map(|(step, ..)| *step).take(STEPS);
        let steps: Vec<StepId> = steps.chain(nobodys.iter().copied().take(STEPS)).collect();
        let address_of = |step: StepId| &*self.graph.owner(step).address;
        let say_of = |step: StepId| &*self.graph.step(step).say;
        let targets = steps.iter().map(|step| width(address_of(*step))).max().unwrap_or(0).min(40);
        let says = steps.iter().map(|step| width(say_of(*step))).max().unwrap_or(0).min(40);
        let line = |word: &str, ink: Ink, step: StepId, text: &str| {
            let (address, say) = (padded(address_of(step), targets), padded(say_of(step), says));
            format!("{}\n", labelled(paint, ink, word, &format!("{address}   {say}   {text}")))
        };
        for (step, one, held) in others.iter().take(STEPS) {
            let gave = format!("{} uploaded one to {}", one.writer, one.channel);
            let text = match mismatch(held) {
                Some(RestMismatch::NotHere) => format!("{gave}; whether it fits is not known here yet"),
                Some(RestMismatch::Other(_)) => format!("{gave} that was made on another system"),
                None => format!("{gave} that was made of something else"),
            };
            out.push_str(&line("other", Ink::Doubt, *step, &text));
            out.push_str(&differing(held, paint));
        }
        let more = |count: usize, what: &str| {
            let text =
                format!("{} more steps {what}; `--json` shows all of them", count.saturating_sub(STEPS));
            if count > STEPS {
                format!("{}\n", labelled(paint, Ink::Faint, "", &text))
            } else {
                String::new()
            }
        };
        out.push_str(&more(others.len(), "differ"));
        for step in nobodys.iter().take(STEPS) {
            out.push_str(&line("none", Ink::Faint, *step, "there is no result of it"));
        }
        out.push_str(&more(nobodys.len(), "without a result"));
        out
    }
}

/// What differs, below the line of a step.
fn differing(held: &HeldAgainst, paint: Paint) -> String {
    let lines = held.differences.iter().take(SHOWN).filter_map(|one| Differs::of(one).line(paint));
    let mut out: String = lines.collect();
    if held.differences.len() > SHOWN {
        let more = format!("and {} more; `--json` shows all of them", held.differences.len() - SHOWN);
        out.push_str(&format!("{:10}{}\n", "", paint.ink(Ink::Faint, &more)));
    }
    let text = match mismatch(held) {
        Some(RestMismatch::Other(path)) => format!("it rests on {path}, which is another one here"),
        Some(RestMismatch::NotHere) => {
            "the list of files that it rests on is not on this machine; a build asks for it".to_owned()
        }
        None => return out,
    };
    let word = paint.ink(Ink::Busy, &format!("{:<8}", "system"));
    out.push_str(&format!("{:10}{word}  {text}\n", ""));
    out
}

/// Why the system may be another one, where nothing else differs.
fn mismatch(held: &HeldAgainst) -> Option<&RestMismatch> {
    held.mismatch.as_ref().filter(|_| held.differences.is_empty())
}
