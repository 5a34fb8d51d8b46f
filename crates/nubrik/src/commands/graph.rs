//! `nubrik graph`: what depends on what, for other programs and as a picture.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::fmt::Write;
use std::path::{Path, PathBuf};

use nubrik_explorer::{DrawnNode, Shape};
use nubrik_graph::{Graph, Role, TargetId, users_of};
use nubrik_lang::AddressPattern;
use nubrik_source::WsPath;
use nubrik_wording::counted;
use serde::Serialize;

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
        let ending = self.output.as_deref().and_then(Path::extension).and_then(|ending| ending.to_str());
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

#[derive(Serialize)]
struct GraphNodeEvent<'a> {
    event: &'static str,
    target: &'a str,
    kind: &'a str,
    #[serde(skip_serializing_if = "str::is_empty")]
    package: &'a str,
    asked_for: bool,
    needs: Vec<&'a str>,
}

pub fn graph(console: Console, choice: &Choice, words: &[String], drawing: &Drawing) -> CommandResult<Exit> {
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
    let drawn_ones = reached.as_ref().map_or(&asked.targets, |reached| &reached.targets);
    let addresses: Vec<_> = drawn_ones.iter().map(|t| asked.graph.target(*t).address.clone()).collect();
    let evaluation = match drawing.users {
        true => evaluate(console, &mut session, &[AddressPattern::below(&WsPath::root())])?,
        false => asked,
    };
    let graph = &evaluation.graph;
    let index = graph.target_index();
    let mut roots: Vec<TargetId> = addresses.iter().filter_map(|a| index.find(a)).collect();
    // What a job uses shows only when it is asked for: without that it would be alone.
    if roots.len() > 1 {
        roots.retain(|id| !matches!(graph.target(*id).role, Role::Job | Role::Service));
    }
    let format = if console.is_json() { GraphFormat::Json } else { drawing.format() };
    let paint = console.paint(OutputStream::Output);
    // Lines in a file are not cut, and have no colours.
    let paint = if drawing.output.is_some() { Paint { colours: false, width: None, ..paint } } else { paint };
    let mut shape = targets(graph, &roots, drawing);
    if drawing.packages {
        shape = packages(&shape);
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
        errln!(console, "{}", super::labelled(paint, Ink::Doubt, "note", &note));
        shape = packages(&shape);
        text = drawn(&shape, legend, (format, paint), false);
    }
    let Some(text) = text else {
        let message = format!("a graph of {} nodes is too large to be read as text here", shape.nodes.len());
        let mends = ["nubrik graph --output graph.svg", "nubrik graph --depth 1 TARGET"];
        return Err(say_wrong(console, Exit::Usage, &message, &mends));
    };
    write(console, drawing, format, &text)
}

/// Writes a drawing where it is wanted.
fn write(console: Console, drawing: &Drawing, format: GraphFormat, text: &str) -> CommandResult<Exit> {
    match &drawing.output {
        None if format == GraphFormat::Json => console.raw(OutputStream::Output, text),
        None => out!(console, "{text}"),
        Some(file) => super::write_whole(file, text).map_err(|e| {
            say_wrong(console, Exit::Own, &format!("cannot write {}: {e}", file.display()), &[])
        })?,
    }
    Ok(Exit::Done)
}

fn targets(graph: &Graph, roots: &[TargetId], drawing: &Drawing) -> Shape {
    let needs = graph.target_needs();
    let edges_of = if drawing.users { users_of(&needs) } else { needs.clone() };
    let is_root: HashSet<TargetId> = roots.iter().copied().collect();
    let mut levels: BTreeMap<TargetId, usize> = roots.iter().map(|r| (*r, 0)).collect();
    let mut queue: std::collections::VecDeque<TargetId> = roots.iter().copied().collect();
    while let Some(at) = queue.pop_front() {
        let level = levels[&at];
        if drawing.depth.is_some_and(|depth| level >= depth) {
            continue;
        }
        for next in &edges_of[at.index()] {
            if !levels.contains_key(next) {
                levels.insert(*next, level + 1);
                queue.push_back(*next);
            }
        }
    }
    let numbers: HashMap<TargetId, usize> = levels.keys().enumerate().map(|(n, id)| (*id, n)).collect();
    let nodes = levels
        .keys()
        .map(|id| {
            let target = graph.target(*id);
            let kind = if target.kind.is_empty() { "value" } else { &*target.kind };
            DrawnNode {
                name: target.address.to_string(),
                kind: kind.to_owned(),
                group: target.package.to_string(),
                focus: is_root.contains(id),
                link: None,
            }
        })
        .collect();
    let mut edges = Vec::new();
    for id in levels.keys() {
        for need in &needs[id.index()] {
            if let Some(to) = numbers.get(need) {
                edges.push((numbers[id], *to));
            }
        }
    }
    Shape { nodes, edges, ..Shape::default() }
}

fn packages(shape: &Shape) -> Shape {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    shape.nodes.iter().for_each(|node| *counts.entry(&node.group).or_default() += 1);
    let numbers: HashMap<&str, usize> = counts.keys().copied().zip(0..).collect();
    let node = |(name, count): (&&str, &usize)| DrawnNode {
        name: (*name).to_owned(),
        kind: counted(*count, "target"),
        ..DrawnNode::default()
    };
    let nodes = counts.iter().map(node).collect();
    let group = |at: usize| numbers[shape.nodes[at].group.as_str()];
    let edges: BTreeSet<(usize, usize)> =
        shape.edges.iter().map(|(a, b)| (group(*a), group(*b))).filter(|(a, b)| a != b).collect();
    Shape { nodes, edges: edges.into_iter().collect(), ..Shape::default() }
}

/// A graph in a format; `None` where nobody could read that, and where less of it may be drawn (`may_shrink`).
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
        GraphFormat::Dot => Some(dot(shape)),
        GraphFormat::Mermaid => Some(mermaid(shape)),
        GraphFormat::Json => Some(json(shape)),
    }
}

fn json(shape: &Shape) -> String {
    let mut needs: Vec<Vec<&str>> = vec![Vec::new(); shape.nodes.len()];
    for (from, to) in &shape.edges {
        needs[*from].push(&shape.nodes[*to].name);
    }
    let events = shape.nodes.iter().zip(needs).map(|(node, needs)| GraphNodeEvent {
        event: "node",
        target: &node.name,
        kind: &node.kind,
        package: &node.group,
        asked_for: node.focus,
        needs,
    });
    events.filter_map(|event| json_text::line(&event)).collect()
}

fn dot(shape: &Shape) -> String {
    let quoted = |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
    let mut out =
        String::from("digraph nubrik {\n  rankdir=LR\n  node [shape=box, fontname=\"sans-serif\"]\n");
    let mut groups: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (n, node) in shape.nodes.iter().enumerate() {
        groups.entry(&node.group).or_default().push(n);
    }
    for (i, (group, members)) in groups.iter().enumerate() {
        let inside = if group.is_empty() { "  " } else { "    " };
        if !group.is_empty() {
            let _ = writeln!(out, "  subgraph cluster_{i} {{\n    label={}", quoted(group));
        }
        for n in members {
            let node = &shape.nodes[*n];
            let style = if node.focus { ", style=bold" } else { "" };
            let label = format!("{}\n{}", node.name, node.kind).replace('\n', "\\n");
            let label = format!("\"{}\"", label.replace('"', "\\\""));
            let _ = writeln!(out, "{inside}n{n} [label={label}{style}]");
        }
        if !group.is_empty() {
            out.push_str("  }\n");
        }
    }
    for (from, to) in &shape.edges {
        let _ = writeln!(out, "  n{from} -> n{to}");
    }
    out + "}\n"
}

fn mermaid(shape: &Shape) -> String {
    let mut out = String::from("flowchart LR\n");
    for (n, node) in shape.nodes.iter().enumerate() {
        let name = node.name.replace('"', "#quot;");
        let _ = writeln!(out, "  n{n}[\"{name}<br/>{}\"]", node.kind);
    }
    for (from, to) in &shape.edges {
        let _ = writeln!(out, "  n{from} --> n{to}");
    }
    out
}
