//! `nubrik why`

use nubrik_answers::{Cause, Differs, WhyAnswer};
use nubrik_engine::{Supposed, Verdict};

use super::{CommandResult, Silent, evaluate, labelled, open, patterns};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::step_line::Columns;
use crate::ui::text::harmless;

/// How many differences of one step are shown; more of them are only counted.
const SHOWN: usize = 10;

pub fn why(console: Console, choice: &Choice, address: &str) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let patterns = patterns(console, &mut session, &[address.to_owned()])?;
    let evaluation = evaluate(console, &mut session, &patterns)?;
    let planned = session.plan(
        &evaluation,
        &Silent,
        Supposed {
            compare: true,
            ..Supposed::default()
        },
    );
    let paint = console.paint(OutputStream::Output);
    let answer = WhyAnswer::of(&evaluation, &planned, session.state());
    let chain = answer.chain();
    if console.is_json() {
        chain.iter().for_each(|link| console.event(link));
        return Ok(Exit::Done);
    }
    outln!(
        console,
        "{}",
        paint.ink(Ink::Strong, &headline(address, &answer))
    );
    let columns = Columns::of_rows(chain.iter().map(|cause| (&*cause.target, &*cause.say)));
    for (i, cause) in chain.iter().enumerate() {
        let word = (if i == 0 { "because" } else { "since" }, Ink::Calm);
        let Cause {
            target,
            say,
            reason,
            ..
        } = cause;
        out!(
            console,
            "{}",
            columns.cause(paint, word, (target, say), reason)
        );
        out!(console, "{}", differences(paint, cause));
    }
    Ok(Exit::Done)
}

/// What becomes of a target, in a line.
fn headline(address: &str, answer: &WhyAnswer) -> String {
    let word = match answer {
        WhyAnswer::Pending(verdict, _) => match verdict {
            Verdict::Ran => "would run",
            Verdict::Reused => "would be reused",
            Verdict::Unstarted => "might run",
            Verdict::Failed => "would fail",
            Verdict::Blocked => "would be blocked",
            Verdict::Current => "is current",
        },
        WhyAnswer::Current(last, _) => {
            let of = if last.build == last.newest {
                ", the newest".to_owned()
            } else {
                format!(" of {}", last.newest)
            };
            return format!(
                "{address} is current; it last ran in build {}{of}",
                last.build
            );
        }
        WhyAnswer::NoSteps => return format!("{address} has no steps of its own"),
    };
    format!("{address} {word} now")
}

/// A difference in a line; nothing where there is nothing to say.
pub fn difference_line(differs: &Differs, paint: Paint) -> Option<String> {
    let text = match (&differs.before, &differs.now) {
        (Some(before), Some(now)) if before == now => format!("{now} has another content"),
        (Some(before), Some(now)) => {
            format!(
                "{} instead of {}",
                harmless(now, false),
                harmless(before, false)
            )
        }
        (None, Some(now)) => format!("{} is new", harmless(now, false)),
        (Some(before), None) => format!("{} is gone", harmless(before, false)),
        (None, None) => return None,
    };
    Some(format!(
        "{:10}{}  {text}\n",
        "",
        paint.ink(Ink::Busy, &format!("{:<8}", differs.part))
    ))
}

/// What differs from the earlier time, below the line of a cause. One input that changed is said by
/// the reason.
fn differences(paint: Paint, cause: &Cause) -> String {
    let said = |d: &Differs| {
        d.part == "input"
            && d.now
                .as_ref()
                .is_some_and(|n| cause.reason.starts_with(&**n))
    };
    let Some(build) = cause
        .since_build
        .filter(|_| !cause.differences.iter().all(said))
    else {
        return String::new();
    };
    let than = match &cause.other_options {
        Some(options) => format!("nearest to it is build {build} with {options}; what differs:"),
        None => format!("since build {build}:"),
    };
    let mut out = format!(
        "{}\n",
        labelled(paint, Ink::Calm, "", &paint.ink(Ink::Faint, &than))
    );
    cause
        .differences
        .iter()
        .take(SHOWN)
        .filter_map(|differs| difference_line(differs, paint))
        .for_each(|line| out.push_str(&line));
    if cause.differences.len() > SHOWN {
        let more = format!(
            "and {} more; `--json` shows all of them",
            cause.differences.len() - SHOWN
        );
        out.push_str(&format!("{:10}{}\n", "", paint.ink(Ink::Faint, &more)));
    }
    out
}
