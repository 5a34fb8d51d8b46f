//! `nubrik cache save` and `nubrik cache load`

use std::path::Path;

use nubrik_answers::CacheFileEvent;
use nubrik_explorer::everything;
use nubrik_session::{SavedResults, StaysHere, load_results};
use nubrik_wording::{counted, size};

use super::writing::write_file;
use super::{CommandResult, as_far_as_known, labelled, open, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// Writes the results of the workspace to a file.
pub fn save(console: Console, choice: &Choice, file: &Path) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let evaluation = as_far_as_known(console, &mut session, everything);
    let mut saved = None;
    let written = write_file(file, |to| {
        saved = Some(
            session
                .save_results(&evaluation.graph, to)
                .map_err(std::io::Error::other)?,
        );
        Ok(())
    });
    let shown = file.display().to_string();
    let cannot = |why: &dyn std::fmt::Display| {
        let message = format!("cannot write the results to {shown}: {why}");
        say_wrong(
            console,
            Exit::Own,
            &message,
            &["name a file in a folder that can be written"],
        )
    };
    written.map_err(|e| cannot(&e))?;
    let saved = saved.unwrap_or_default();
    let file_bytes = std::fs::metadata(file).map_or(0, |found| found.len());
    if console.is_json() {
        console.event(&CacheFileEvent::saved(&shown, file_bytes, &saved));
        return Ok(Exit::Done);
    }
    let SavedResults { amount, kept_back } = saved;
    let paint = console.paint(OutputStream::Output);
    let text = format!(
        "{}, {} of contents, in {} of {shown}",
        counted(amount.results as usize, "result"),
        size(amount.bytes),
        size(file_bytes)
    );
    outln!(console, "{}", labelled(paint, Ink::Found, "saved", &text));
    for (why, count) in &kept_back {
        let text = format!("{}: {why}", counted(*count, "result"));
        outln!(
            console,
            "{}",
            labelled(paint, Ink::Faint, "not saved", &text)
        );
    }
    if kept_back.iter().any(|(why, _)| *why == StaysHere::Unnoted) {
        let text = "nubrik build --portable --rerun   runs steps again and notes what they rest on";
        outln!(console, "{}", labelled(paint, Ink::Calm, "try", text));
    }
    Ok(Exit::Done)
}

/// Reads the results of a file into the cache of this machine.
pub fn load(console: Console, file: &Path) -> CommandResult<Exit> {
    let shown = file.display().to_string();
    let amount = load_results(file).map_err(|why| {
        let mends = ["without it the next build runs more steps, and gives the same results"];
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot load {shown}: {why}"),
            &mends,
        )
    })?;
    if console.is_json() {
        let file_bytes = std::fs::metadata(file).map_or(0, |found| found.len());
        console.event(&CacheFileEvent::loaded(&shown, file_bytes, amount));
        return Ok(Exit::Done);
    }
    let paint = console.paint(OutputStream::Output);
    let text = format!(
        "{}, {} of contents",
        counted(amount.results as usize, "result"),
        size(amount.bytes)
    );
    outln!(console, "{}", labelled(paint, Ink::Found, "loaded", &text));
    Ok(Exit::Done)
}
