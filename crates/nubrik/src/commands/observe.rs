//! `nubrik build --observe`: what steps really read and write, against what they declare.

use std::sync::Arc;

use nubrik_engine::{ObservedStep, Refusal};
use nubrik_graph::Graph;
use nubrik_lang::Evaluation;
use nubrik_session::Session;
use nubrik_wording::counted;
use serde::Serialize;

use super::{CommandResult, Silent, labelled, say_wrong};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::wrapped;

/// How many paths of one sort are named; more of them are only counted.
const NAMED: usize = 12;

#[derive(Serialize)]
struct ObservedEvent<'a> {
    event: &'static str,
    target: &'a str,
    say: &'a str,
    read: &'a [Arc<str>],
    unused: &'a [Arc<str>],
    refused: Vec<String>,
    /// Undeclared paths of the workspace that were asked for, and whether something is there.
    looked_up: Vec<LookedUp<'a>>,
    system_files: usize,
    /// Files of the system that it read and that do not count.
    uncounted: &'a [Arc<str>],
    differs: &'a [Arc<str>],
    #[serde(skip_serializing_if = "Option::is_none")]
    failure: Option<String>,
}

#[derive(Serialize)]
struct LookedUp<'a> {
    path: &'a str,
    there: bool,
}

/// Runs the steps of the requested targets once more under a recorder, and shows what was seen.
pub fn observe(console: Console, session: &Session, evaluation: &Evaluation) -> CommandResult<Exit> {
    let Some(observed_steps) = session.observe(evaluation, &Silent) else {
        let message = "this machine cannot record what steps do";
        let mend =
            "it takes a kernel that supports system-call supervision (Linux 5.5), and the right to use that";
        return Err(say_wrong(console, Exit::Machine, message, &[mend]));
    };
    let graph = &evaluation.graph;
    if console.is_json() {
        for step in &observed_steps {
            print_json(console, graph, step);
        }
    } else {
        let paint = console.paint(OutputStream::Output);
        for step in &observed_steps {
            out!(console, "{}", render(graph, step, paint));
        }
        outln!(console, "{}", paint.ink(Ink::Strong, &sum(&observed_steps)));
    }
    let bad =
        observed_steps.iter().any(|a| a.failure.is_some() || !a.refused.is_empty() || !a.differs.is_empty());
    Ok(if bad { Exit::Failed } else { Exit::Done })
}

fn print_json(console: Console, graph: &Graph, step: &ObservedStep) {
    let looked_up = step.looked_up.iter().map(|(path, there)| LookedUp { path, there: *there });
    console.event(&ObservedEvent {
        event: "observed",
        target: &graph.title(step.step),
        say: &graph.step(step.step).say,
        read: &step.read,
        unused: &step.unused,
        refused: step.refused.iter().map(ToString::to_string).collect(),
        looked_up: looked_up.collect(),
        system_files: step.system,
        uncounted: &step.uncounted,
        differs: &step.differs,
        failure: step.failure.as_ref().map(ToString::to_string),
    });
}

fn render(graph: &Graph, step: &ObservedStep, paint: Paint) -> String {
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
            out.push_str(&format!("  {}\n", labelled(paint, ink, if i == 0 { label } else { "" }, text)));
        }
    };
    let name = |path: &Arc<str>| shown(graph, path);
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
    let (there, missing): (Vec<_>, Vec<_>) = step.looked_up.iter().partition(|(_, there)| *there);
    let paths = |list: &[&(Arc<str>, bool)]| list.iter().map(|(p, _)| p.clone()).collect::<Vec<_>>();
    if !there.is_empty() {
        let text = named(&paths(&there), name, "");
        line(Ink::Doubt, "asked for", &format!("{text}: there, but not declared"));
    }
    if !missing.is_empty() {
        line(Ink::Calm, "asked for", &format!("{}: not there", named(&paths(&missing), name, "")));
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

/// A path as people know it: what steps make by name and target.
fn shown(graph: &Graph, path: &Arc<str>) -> String {
    let Some(node) = graph.files.iter().find(|f| f.path.shared() == path) else { return path.to_string() };
    match node.maker {
        None => path.to_string(),
        Some(maker) => {
            let name = node.path.below(&graph.step(maker).folder).unwrap_or(node.path.name());
            format!("{name} of {}", graph.title(maker))
        }
    }
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
    let count = |of: fn(&ObservedStep) -> usize| observed_steps.iter().map(of).sum::<usize>();
    let counts = [
        (count(|a| a.refused.iter().filter(|r| **r != Refusal::Network).count()), "refused"),
        (count(|a| usize::from(a.refused.contains(&Refusal::Network))), "refused the network"),
        (count(|a| a.unused.len()), "declared and not read"),
        (
            count(|a| a.looked_up.iter().filter(|(_, there)| *there).count()),
            "asked for without being declared",
        ),
        (count(|a| a.differs.len()), "with other bytes than before"),
        (count(|a| usize::from(a.failure.is_some())), "failed"),
    ];
    let said: Vec<String> =
        counts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect();
    match said.is_empty() {
        true => format!(
            "{steps} ran again: each read all that it declares and nothing else, and made the same bytes"
        ),
        false => format!("{steps} ran again: {}", said.join(", ")),
    }
}
