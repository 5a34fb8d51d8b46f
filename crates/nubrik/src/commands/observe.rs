//! `nubrik build --observe`: what steps really read and write, against what they declare.

use std::sync::Arc;

use nubrik_answers::{KnownPaths, ObservedEvent, is_amiss, sums_of};
use nubrik_engine::ObservedStep;
use nubrik_graph::Graph;
use nubrik_lang::Evaluation;
use nubrik_session::Session;
use nubrik_wording::counted;

use super::{CommandResult, Silent, labelled, say_wrong};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::wrapped;

/// How many paths of one sort are named; more of them are only counted.
const NAMED: usize = 12;

/// Runs the steps of the requested targets once more under a recorder, and shows what was seen.
pub fn observe(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
) -> CommandResult<Exit> {
    let Some(observed_steps) = session.observe(evaluation, &Silent) else {
        let message = "this machine cannot record what steps do";
        let mend = "it takes a kernel that supports system-call supervision (Linux 5.5), and the right to use that";
        return Err(say_wrong(console, Exit::Machine, message, &[mend]));
    };
    let graph = &evaluation.graph;
    if console.is_json() {
        observed_steps
            .iter()
            .for_each(|step| console.event(&ObservedEvent::of(graph, step)));
    } else {
        let paint = console.paint(OutputStream::Output);
        let paths = KnownPaths::of(graph);
        for step in &observed_steps {
            out!(console, "{}", render(graph, &paths, step, paint));
        }
        outln!(console, "{}", paint.ink(Ink::Strong, &sum(&observed_steps)));
    }
    Ok(if observed_steps.iter().any(is_amiss) {
        Exit::Failed
    } else {
        Exit::Done
    })
}

fn render(graph: &Graph, paths: &KnownPaths<'_>, step: &ObservedStep, paint: Paint) -> String {
    let declared = graph.step(step.step);
    let title = graph.title(step.step);
    let head = format!("{title}   {}", declared.say);
    let mut out = format!(
        "{}  {}\n",
        paint.ink(Ink::Strong, &head),
        paint.ink(Ink::Faint, &declared.place.to_string())
    );
    let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(13));
    let mut line = |ink: Ink, label: &str, text: &str| {
        for (i, text) in wrapped(text, room).iter().enumerate() {
            out.push_str(&format!(
                "  {}\n",
                labelled(paint, ink, if i == 0 { label } else { "" }, text)
            ));
        }
    };
    let name = |path: &Arc<str>| paths.name(path);
    let mut read = named(&step.read, name, "nothing of the workspace");
    if step.system > 0 {
        let files = counted(step.system, "file");
        read.push_str(&format!(", and {files} of the system"));
    }
    line(Ink::Calm, "read", &read);
    if !step.uncounted.is_empty() {
        line(Ink::Calm, "uncounted", &excerpt(&step.uncounted));
    }
    if !step.unused.is_empty() {
        line(Ink::Doubt, "unused", &named(&step.unused, name, ""));
    }
    for (is_there, what) in [(true, "there, but not declared"), (false, "not there")] {
        let paths = step
            .looked_up
            .iter()
            .filter(|(_, there)| *there == is_there);
        let paths: Vec<Arc<str>> = paths.map(|(path, _)| path.clone()).collect();
        if !paths.is_empty() {
            let ink = if is_there { Ink::Doubt } else { Ink::Calm };
            line(
                ink,
                "asked for",
                &format!("{}: {what}", named(&paths, name, "")),
            );
        }
    }
    for refusal in &step.refused {
        line(Ink::Wrong, "refused", &refusal.to_string());
    }
    for output in &step.differs {
        line(
            Ink::Wrong,
            "differs",
            &format!("{output}: other bytes than the last time, from the same inputs"),
        );
    }
    if let Some(failure) = &step.failure {
        line(Ink::Wrong, "failed", &failure.to_string());
    }
    out + "\n"
}

/// Some of many paths: which they are in full, `--json` tells.
fn excerpt(paths: &[Arc<str>]) -> String {
    let some: Vec<&str> = paths.iter().take(SOME).map(|path| &**path).collect();
    match paths.len().saturating_sub(SOME) {
        0 => some.join(", "),
        more => format!("{} and {more} more of the system", some.join(", ")),
    }
}

/// How many files of the system are named that do not count.
const SOME: usize = 3;

fn named(paths: &[Arc<str>], name: impl Fn(&Arc<str>) -> String, none: &str) -> String {
    let some: Vec<String> = paths.iter().take(NAMED).map(name).collect();
    match paths.len() {
        0 => none.to_owned(),
        n if n > NAMED => format!("{} and {} more", some.join(", "), n - NAMED),
        _ => some.join(", "),
    }
}

fn sum(observed_steps: &[ObservedStep]) -> String {
    let steps = counted(observed_steps.len(), "step");
    let said: Vec<String> = sums_of(observed_steps)
        .iter()
        .map(|(count, what)| format!("{count} {what}"))
        .collect();
    match said.is_empty() {
        true => format!(
            "{steps} ran again: each read all that it declares and nothing else, and made the same bytes"
        ),
        false => format!("{steps} ran again: {}", said.join(", ")),
    }
}
