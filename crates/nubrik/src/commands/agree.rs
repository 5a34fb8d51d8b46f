//! `nubrik agree`: what a workspace asks to use and to send, and what its user agreed to.

use nubrik_answers::AgreementEvent;
use nubrik_session::{Agreement, Agreements};

use super::{CommandResult, labelled, open, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// Says what the workspace asks for; with `yes`, agrees to all of it.
pub fn agree(console: Console, choice: &Choice, yes: bool) -> CommandResult<Exit> {
    let session = open(console, choice)?;
    let asked = session.asked();
    if yes {
        let new: Vec<Agreement> = asked
            .iter()
            .filter(|(_, is)| !is)
            .map(|(asked, _)| asked.clone())
            .collect();
        note(console, &new)?;
    }
    if console.is_json() {
        for (asked, is_agreed) in &asked {
            console.event(&AgreementEvent::of(asked, yes || *is_agreed));
        }
        return Ok(Exit::Done);
    }
    if asked.is_empty() {
        outln!(
            console,
            "this workspace asks for nothing: it names no shared cache, no workers and no secrets"
        );
        return Ok(Exit::Done);
    }
    let paint = console.paint(OutputStream::Output);
    for (asked, is_agreed) in &asked {
        let (ink, word) = if yes || *is_agreed {
            (Ink::Calm, "agreed")
        } else {
            (Ink::Doubt, "asks to")
        };
        outln!(
            console,
            "{}",
            labelled(paint, ink, word, &asked.to_string())
        );
    }
    if !yes && asked.iter().any(|(_, is_agreed)| !is_agreed) {
        outln!(
            console,
            "\nnothing of it happens before you agree: nubrik agree --yes"
        );
    }
    Ok(Exit::Done)
}

/// Takes note of what the person agrees to.
pub fn note(console: Console, asked: &[Agreement]) -> CommandResult<()> {
    Agreements::note(asked).map_err(|e| {
        let message = format!("cannot write down what you agreed to: {e}");
        say_wrong(console, Exit::Own, &message, &[])
    })
}
