//! `nubrik graph`: what depends on what, for other programs and as a picture.

use std::path::{Path, PathBuf};

use nubrik_explorer::Shape;
use nubrik_graph::{Role, TargetId};
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
    let drawn_ones = reached
        .as_ref()
        .map_or(&asked.targets, |reached| &reached.targets);
    let addresses: Vec<_> = drawn_ones
        .iter()
        .map(|t| asked.graph.target(*t).address.clone())
        .collect();
    let evaluation = match drawing.users {
        true => evaluate(
            console,
            &mut session,
            &[AddressPattern::below(&WsPath::root())],
        )?,
        false => asked,
    };
    let graph = &evaluation.graph;
    let index = graph.target_index();
    let mut roots: Vec<TargetId> = addresses.iter().filter_map(|a| index.find(a)).collect();
    // What a job uses shows only when it is asked for: without that it would be alone.
    if roots.len() > 1 {
        roots.retain(|id| !matches!(graph.target(*id).role, Role::Job | Role::Service));
    }
    let format = if console.is_json() {
        GraphFormat::Json
    } else {
        drawing.format()
    };
    let paint = console.paint(OutputStream::Output);
    // Lines in a file are not cut, and have no colours.
    let paint = if drawing.output.is_some() {
        Paint {
            colours: false,
            width: None,
            ..paint
        }
    } else {
        paint
    };
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
        let note = format!(
            "{} targets are too many to be read: these are packages; name some targets or give --depth for less",
            shape.nodes.len()
        );
        let paint = console.paint(OutputStream::Error);
        errln!(
            console,
            "{}",
            super::labelled(paint, Ink::Doubt, "note", &note)
        );
        shape = shape.of_packages();
        text = drawn(&shape, legend, (format, paint), false);
    }
    let Some(text) = text else {
        let message = format!(
            "a graph of {} nodes is too large to be read as text here",
            shape.nodes.len()
        );
        let mends = [
            "nubrik graph --output graph.svg",
            "nubrik graph --depth 1 TARGET",
        ];
        return Err(say_wrong(console, Exit::Usage, &message, &mends));
    };
    write(console, drawing, format, &text)
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
