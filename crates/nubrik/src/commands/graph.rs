//! `nubrik graph`: what depends on what, for other programs and as a picture.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_explorer::Shape;
use nubrik_graph::{Graph, Role, TargetId};
use nubrik_lang::AddressPattern;
use nubrik_source::WsPath;

use super::since::affected;
use super::{CommandResult, evaluate, open, patterns, say_wrong};
use crate::arguments::{Choice, GraphFormat};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln, out};
use crate::ui::paint::{Ink, Paint};
use crate::ui::{json_text, lanes};

/// A picture with more nodes shows packages instead, unless something narrower was asked for.
const READABLE_NODES: usize = 150;

impl Drawing {
    /// How it is painted. Lines in a file are not cut, and have no colours.
    fn paint(&self, console: Console) -> Paint {
        let paint = console.paint(OutputStream::Output);
        match self.output {
            None => paint,
            Some(_) => Paint {
                colours: false,
                width: None,
                ..paint
            },
        }
    }

    /// The format that was asked for, or that the file's ending means.
    fn format(&self) -> GraphFormat {
        let ending = self
            .output
            .as_deref()
            .and_then(Path::extension)
            .and_then(|ending| ending.to_str());
        let by_ending = match ending {
            Some("svg") => GraphFormat::Svg,
            Some("dot" | "gv") => GraphFormat::Dot,
            Some("mmd") => GraphFormat::Mermaid,
            Some("json" | "jsonl") => GraphFormat::Json,
            _ => GraphFormat::Text,
        };
        self.format.unwrap_or(by_ending)
    }
}

/// What is drawn, and how.
pub struct Drawing {
    pub format: Option<GraphFormat>,
    pub output: Option<PathBuf>,
    pub depth: Option<usize>,
    pub users: bool,
    pub packages: bool,
    /// Only what a change since this revision can affect.
    pub since: Option<String>,
}

pub fn graph(
    console: Console,
    choice: &Choice,
    words: &[String],
    drawing: &Drawing,
) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    if drawing.since.is_some() {
        session.take_notes();
    }
    let wanted = patterns(console, &mut session, words)?;
    let asked = evaluate(console, &mut session, &wanted)?;
    let reached = match &drawing.since {
        Some(revision) => Some(affected(console, &session, &asked, revision)?),
        None => None,
    };
    let reached = reached.as_ref();
    let drawn_ones = reached.map_or(&asked.targets, |reached| &reached.targets);
    let addresses = drawn_ones
        .iter()
        .map(|t| asked.graph.target(*t).address.clone());
    let addresses: Vec<_> = addresses.collect();
    let evaluation = match drawing.users {
        true => {
            let everything = [AddressPattern::below(&WsPath::root())];
            evaluate(console, &mut session, &everything)?
        }
        false => asked,
    };
    let graph = &evaluation.graph;
    let roots = roots_of(graph, &addresses);
    let format = match console.is_json() {
        true => GraphFormat::Json,
        false => drawing.format(),
    };
    let paint = drawing.paint(console);
    let mut shape = Shape::of_targets(graph, &roots, drawing.depth, drawing.users);
    if drawing.packages {
        shape = shape.of_packages();
    }
    let may_shrink = !drawing.packages && drawing.depth.is_none();
    let legend = match drawing.since {
        None => ["asked for", "not asked for"],
        Some(_) => ["affected", "not affected"],
    };
    let mut text = drawn(&shape, legend, (format, paint), may_shrink);
    if text.is_none() && may_shrink {
        note_packages(console, shape.nodes.len());
        shape = shape.of_packages();
        text = drawn(&shape, legend, (format, paint), false);
    }
    let Some(text) = text else {
        let nodes = shape.nodes.len();
        let message = format!("a graph of {nodes} nodes is too large to be read as text here");
        let mends = [
            "nubrik graph --output graph.svg",
            "nubrik graph --depth 1 TARGET",
        ];
        return Err(say_wrong(console, Exit::Usage, &message, &mends));
    };
    write(console, drawing, format, &text)
}

/// Says that packages are drawn in place of so many targets.
fn note_packages(console: Console, targets: usize) {
    let note = format!(
        "{targets} targets are too many to be read: these are packages; name some targets or give --depth for less"
    );
    let paint = console.paint(OutputStream::Error);
    let line = super::labelled(paint, Ink::Doubt, "note", &note);
    errln!(console, "{line}");
}

/// The targets to begin a drawing with.
fn roots_of(graph: &Graph, addresses: &[Arc<str>]) -> Vec<TargetId> {
    let index = graph.target_index();
    let mut roots: Vec<TargetId> = addresses.iter().filter_map(|a| index.find(a)).collect();
    // What a job uses shows only when it is asked for: without that it would be alone.
    if roots.len() > 1 {
        roots.retain(|id| !matches!(graph.target(*id).role, Role::Job | Role::Service));
    }
    roots
}

/// Writes a drawing where it is wanted.
fn write(
    console: Console,
    drawing: &Drawing,
    format: GraphFormat,
    text: &str,
) -> CommandResult<Exit> {
    match &drawing.output {
        None if format == GraphFormat::Json => console.raw(OutputStream::Output, text),
        None => out!(console, "{text}"),
        Some(file) => super::write_whole(file, text).map_err(|e| {
            say_wrong(
                console,
                Exit::Own,
                &format!("cannot write {}: {e}", file.display()),
                &[],
            )
        })?,
    }
    Ok(Exit::Done)
}

/// A graph in a format; `None` where nobody could read that, and where less of it may be drawn
/// (`may_shrink`).
fn drawn(
    shape: &Shape,
    legend: lanes::Legend,
    (format, paint): (GraphFormat, Paint),
    may_shrink: bool,
) -> Option<String> {
    match format {
        GraphFormat::Text => lanes::draw(shape, legend, paint),
        GraphFormat::Svg if may_shrink && shape.nodes.len() > READABLE_NODES => None,
        GraphFormat::Svg => Some(nubrik_explorer::svg(shape)),
        GraphFormat::Dot => Some(shape.to_dot()),
        GraphFormat::Mermaid => Some(shape.to_mermaid()),
        GraphFormat::Json => Some(shape.events().iter().filter_map(json_text::line).collect()),
    }
}
