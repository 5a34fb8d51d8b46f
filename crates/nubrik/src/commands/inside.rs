//! `nubrik inside`: a shell where a step's commands run.

use nubrik_graph::shown_command;
use nubrik_graph::{Graph, StepId, Target};
use nubrik_lang::Evaluation;

use super::build::{build_files, exit_of, lock};
use super::{CommandResult, Silent, evaluate_address, labelled, open_to_build, say_wrong};
use crate::arguments::{Choice, How};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::wrapped;

pub fn inside(
    console: Console,
    choice: &Choice,
    address: &str,
    step: Option<&str>,
) -> CommandResult<Exit> {
    let mut session = open_to_build(console, choice, How::default())?;
    let mut workshop = lock(console, &mut session)?;
    let (patterns, evaluation) = evaluate_address(console, &mut workshop, address)?;
    let how = How::default();
    let graph = &evaluation.graph;
    let id = choose(console, &evaluation, address, step)?;
    let node = graph.step(id);
    let files: Vec<_> = graph.declared(node);
    let needed = (&evaluation, &*files);
    let report = build_files(
        console,
        &mut workshop,
        &patterns,
        needed,
        how,
        OutputStream::Error,
    )?;
    let exit = exit_of(&report);
    if exit != Exit::Done {
        return Ok(exit);
    }
    let paint = console.paint(OutputStream::Error);
    introduce(console, graph, id, paint);
    crate::interrupt::leave_to_children(true);
    let ended = workshop.inside(&evaluation, id, &Silent);
    crate::interrupt::leave_to_children(false);
    match ended {
        Ok(code) => Ok(Exit::Other(u8::try_from(code).unwrap_or(1))),
        Err(failure) => {
            let message = format!("cannot go inside {address}: {failure}");
            Err(say_wrong(
                console,
                Exit::Machine,
                &message,
                &["`nubrik doctor` looks at this machine"],
            ))
        }
    }
}

/// The step that is meant: the only one with commands, or the one whose words say so.
fn choose(
    console: Console,
    evaluation: &Evaluation,
    address: &str,
    wanted: Option<&str>,
) -> CommandResult<StepId> {
    let graph = &evaluation.graph;
    let own = evaluation
        .own_steps()
        .filter(|step| !graph.step(*step).commands.is_empty());
    let steps: Vec<StepId> = own
        .filter(|s| wanted.is_none_or(|w| graph.step(*s).say.contains(w)))
        .collect();
    let commands: Vec<String> = steps
        .iter()
        .take(8)
        .map(|s| {
            format!(
                "nubrik inside {address} {}",
                nubrik_graph::shown_word(&graph.step(*s).say)
            )
        })
        .collect();
    let mends: Vec<&str> = commands.iter().map(String::as_str).collect();
    match (steps.as_slice(), wanted) {
        ([step], _) => Ok(*step),
        ([], None) => Err(say_wrong(
            console,
            Exit::Usage,
            &format!("`{address}` has no step that runs commands"),
            &["`nubrik show` tells what a target does"],
        )),
        ([], Some(wanted)) => Err(say_wrong(
            console,
            Exit::Usage,
            &format!("no step of `{address}` says `{wanted}`"),
            &["`nubrik show` lists its steps"],
        )),
        (several, Some(wanted)) if exact(graph, several, wanted).is_some() => {
            Ok(exact(graph, several, wanted).unwrap_or(several[0]))
        }
        (several, _) => {
            let message = format!("`{address}` has {} steps: say which", several.len());
            Err(say_wrong(console, Exit::Usage, &message, &mends))
        }
    }
}

fn exact(graph: &Graph, steps: &[StepId], wanted: &str) -> Option<StepId> {
    let mut same = steps.iter().filter(|s| *graph.step(**s).say == *wanted);
    match (same.next(), same.next()) {
        (Some(step), None) => Some(*step),
        _ => None,
    }
}

/// What the step would do, to be pasted, and how to leave.
fn introduce(console: Console, graph: &Graph, id: StepId, paint: Paint) {
    let step = graph.step(id);
    let owner: &Target = graph.owner(id);
    errln!(
        console,
        "{}",
        paint.ink(Ink::Strong, &format!("{}   {}", graph.title(id), step.say))
    );
    let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(11));
    for (i, command) in shown_command(step).iter().enumerate() {
        for (n, text) in wrapped(command, room).iter().enumerate() {
            let label = match (i, n) {
                (0, 0) => "command",
                (_, 0) => "then",
                _ => "",
            };
            errln!(console, "{}", labelled(paint, Ink::Calm, label, text));
        }
    }
    errln!(
        console,
        "{}",
        labelled(paint, Ink::Calm, "writes", step.folder.as_str())
    );
    errln!(
        console,
        "{}",
        labelled(paint, Ink::Calm, "defined", &owner.place.to_string())
    );
    let note = "this is the step's folder, environment and sandbox; files made here are removed at the end. Leave with `exit`";
    errln!(console, "{}", paint.ink(Ink::Faint, note));
}
