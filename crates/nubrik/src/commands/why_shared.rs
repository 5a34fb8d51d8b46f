//! `nubrik why TARGET --shared`: what keeps steps from being taken from the shared cache.

use nubrik_answers::{NotTaken, OtherResult};
use nubrik_engine::RestMismatch;
use nubrik_graph::StepId;
use nubrik_session::SharedCache;
use nubrik_wording::counted;

use super::why::difference_line;
use super::{CommandResult, evaluate, labelled, open, patterns, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::{padded, width};

/// How many differences of a step are shown, and how many steps.
const SHOWN: usize = 6;
const STEPS: usize = 12;

pub fn why_shared(console: Console, choice: &Choice, address: &str) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    session
        .look_at_shared()
        .map_err(|problem| say_wrong(console, Exit::Usage, &problem.to_string(), &[]))?;
    if !matches!(session.shared(), SharedCache::Used(_)) {
        let message = "this workspace uses no shared cache";
        return Err(say_wrong(
            console,
            Exit::Usage,
            message,
            &["nubrik shared   says what it proposes"],
        ));
    }
    let patterns = patterns(console, &mut session, &[address.to_owned()])?;
    let evaluation = evaluate(console, &mut session, &patterns)?;
    let not_taken = NotTaken::of(&session, &evaluation);
    match console.is_json() {
        true => not_taken.events().for_each(|event| console.event(&event)),
        false => {
            let paint = console.paint(OutputStream::Output);
            out!(
                console,
                "{}",
                ShownNotTaken(&not_taken).render(address, paint)
            );
        }
    }
    Ok(Exit::Done)
}

/// Steps that would not be taken, as people read them.
struct ShownNotTaken<'a>(&'a NotTaken<'a>);

impl<'a> ShownNotTaken<'a> {
    fn render(&self, address: &str, paint: Paint) -> String {
        let NotTaken {
            graph,
            others,
            nobodys,
            all,
        } = self.0;
        let taken = self.0.taken();
        let head = format!(
            "{taken} of {} of {address} are in the shared cache",
            counted(*all, "step")
        );
        let mut out = format!("{}\n", paint.ink(Ink::Strong, &head));
        let steps = others.iter().map(|other| other.step).take(STEPS);
        let steps: Vec<StepId> = steps.chain(nobodys.iter().copied().take(STEPS)).collect();
        let address_of = |step: StepId| &*graph.owner(step).address;
        let say_of = |step: StepId| &*graph.step(step).say;
        let widest = |text: &dyn Fn(StepId) -> &'a str| {
            let widths = steps.iter().map(|step| width(text(*step)));
            widths.max().unwrap_or(0).min(40)
        };
        let (targets, says) = (widest(&address_of), widest(&say_of));
        let line = |word: &str, ink: Ink, step: StepId, text: &str| {
            let address = padded(address_of(step), targets);
            let say = padded(say_of(step), says);
            let line = labelled(paint, ink, word, &format!("{address}   {say}   {text}"));
            line + "\n"
        };
        for other in others.iter().take(STEPS) {
            let gave = format!(
                "{} uploaded one to {}",
                other.given.writer, other.given.channel
            );
            let text = match other.mismatch() {
                Some(RestMismatch::NotHere) => {
                    format!("{gave}; whether it fits is not known here yet")
                }
                Some(RestMismatch::Other(_)) => format!("{gave} that was made on another system"),
                None => format!("{gave} that was made of something else"),
            };
            out.push_str(&line("other", Ink::Doubt, other.step, &text));
            out.push_str(&differing(other, paint));
        }
        let more = |count: usize, what: &str| match count.saturating_sub(STEPS) {
            0 => String::new(),
            more => {
                let text = format!("{more} more steps {what}; `--json` shows all of them");
                labelled(paint, Ink::Faint, "", &text) + "\n"
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
fn differing(other: &OtherResult, paint: Paint) -> String {
    let differences = other.differences();
    let lines = differences
        .iter()
        .take(SHOWN)
        .filter_map(|differs| difference_line(differs, paint));
    let mut out: String = lines.collect();
    if differences.len() > SHOWN {
        let more = format!(
            "and {} more; `--json` shows all of them",
            differences.len() - SHOWN
        );
        out.push_str(&format!("{:10}{}\n", "", paint.ink(Ink::Faint, &more)));
    }
    let text = match other.mismatch() {
        Some(RestMismatch::Other(path)) => format!("it rests on {path}, which is another one here"),
        Some(RestMismatch::NotHere) => {
            "the list of files that it rests on is not on this machine; a build asks for it"
                .to_owned()
        }
        None => return out,
    };
    let word = paint.ink(Ink::Busy, &format!("{:<8}", "system"));
    out.push_str(&format!("{:10}{word}  {text}\n", ""));
    out
}
