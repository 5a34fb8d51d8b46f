//! `nubrik tree`

use std::collections::{HashMap, HashSet};

use nubrik_engine::State;
use nubrik_graph::{Graph, TargetId};
use nubrik_lang::AddressPattern;
use nubrik_source::WsPath;
use nubrik_wording::duration;
use serde::Serialize;

use super::{CommandResult, evaluate, open, patterns};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out};
use crate::ui::json;
use crate::ui::paint::{Ink, Paint};

pub fn tree(
    console: Console,
    choice: &Choice,
    address: &str,
    depth: Option<usize>,
    users: bool,
) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let wanted = patterns(console, &mut session, &[address.to_owned()])?;
    let asked = evaluate(console, &mut session, &wanted)?;
    let addresses: Vec<_> = asked.targets.iter().map(|t| asked.graph.target(*t).address.clone()).collect();
    // Users may be anywhere in the workspace.
    let evaluation = match users {
        true => evaluate(console, &mut session, &[AddressPattern::below(&WsPath::root())])?,
        false => asked,
    };
    let graph = &evaluation.graph;
    let mut edges = graph.target_needs();
    if users {
        edges = reversed(&edges);
    }
    let index = graph.target_index();
    let roots: Vec<TargetId> = addresses.iter().filter_map(|a| index.find(a)).collect();
    let costs = costs(graph, &reachable(&edges, &roots), session.state());
    let shape = TreeShape { graph, edges, depth: depth.unwrap_or(usize::MAX), costs };
    if console.is_json() {
        shape.print_json(console, roots);
    } else {
        out!(console, "{}", shape.render(roots, console.paint(OutputStream::Output)));
    }
    Ok(Exit::Done)
}

fn reversed(edges: &[Vec<TargetId>]) -> Vec<Vec<TargetId>> {
    let mut users = vec![Vec::new(); edges.len()];
    for (from, list) in edges.iter().enumerate() {
        for to in list {
            users[to.index()].push(TargetId(from as u32));
        }
    }
    users
}

/// Some targets, and all that edges lead to from them.
fn reachable(edges: &[Vec<TargetId>], roots: &[TargetId]) -> HashSet<TargetId> {
    let mut open = roots.to_vec();
    let mut reached: HashSet<TargetId> = open.iter().copied().collect();
    while let Some(target) = open.pop() {
        open.extend(edges[target.index()].iter().copied().filter(|next| reached.insert(*next)));
    }
    reached
}

/// What the steps of each of some targets took the last time they ran, in microseconds.
fn costs(graph: &Graph, targets: &HashSet<TargetId>, state: &State) -> HashMap<TargetId, u64> {
    let mut costs = HashMap::new();
    for step in graph.steps.iter().filter(|step| targets.contains(&step.target)) {
        if let Some(memory) = state.steps.get(step.folder.shared()) {
            *costs.entry(step.target).or_default() += memory.micros;
        }
    }
    costs
}

struct TreeShape<'g> {
    graph: &'g Graph,
    edges: Vec<Vec<TargetId>>,
    depth: usize,
    costs: HashMap<TargetId, u64>,
}

#[derive(Serialize)]
struct TreeNodeEvent<'a> {
    event: &'static str,
    target: &'a str,
    kind: &'a str,
    needs: Vec<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    last_seconds: Option<f64>,
}

impl TreeShape<'_> {
    fn render(&self, roots: Vec<TargetId>, paint: Paint) -> String {
        let mut out = String::new();
        let mut shown = HashSet::new();
        for root in roots {
            out.push_str(&self.line(root, paint, shown.contains(&root)));
            out.push('\n');
            if shown.insert(root) {
                self.branches(root, "", 1, paint, &mut shown, &mut out);
            }
        }
        out
    }

    fn branches(
        &self,
        at: TargetId,
        margin: &str,
        depth: usize,
        paint: Paint,
        shown: &mut HashSet<TargetId>,
        out: &mut String,
    ) {
        if depth > self.depth {
            return;
        }
        let below = &self.edges[at.index()];
        for (i, next) in below.iter().enumerate() {
            let last = i + 1 == below.len();
            let (twig, trunk) = match last {
                false => (paint.glyph("├ ", "|-"), paint.glyph("│ ", "| ")),
                true => (paint.glyph("└ ", "`-"), "  "),
            };
            let repeat = shown.contains(next);
            let twig = paint.ink(Ink::Faint, &format!("{margin}{twig}"));
            out.push_str(&format!("{twig}{}\n", self.line(*next, paint, repeat)));
            if shown.insert(*next) {
                self.branches(*next, &format!("{margin}{trunk}"), depth + 1, paint, shown, out);
            }
        }
    }

    fn line(&self, id: TargetId, paint: Paint, repeat: bool) -> String {
        let target = self.graph.target(id);
        let took = self.costs.get(&id).map(|m| format!("  {}", duration(*m))).unwrap_or_default();
        let kind = if target.kind.is_empty() { "value" } else { &*target.kind };
        let more = if repeat && !self.edges[id.index()].is_empty() { "  (shown above)" } else { "" };
        format!("{}  {}", target.address, paint.ink(Ink::Faint, &format!("{kind}{took}{more}")))
    }

    fn print_json(&self, console: Console, roots: Vec<TargetId>) {
        let mut queue: Vec<(TargetId, usize)> = roots.into_iter().map(|r| (r, 0)).collect();
        let mut seen: HashSet<TargetId> = queue.iter().map(|(id, _)| *id).collect();
        let mut at = 0;
        while let Some(&(id, level)) = queue.get(at) {
            at += 1;
            let target = self.graph.target(id);
            let below = &self.edges[id.index()];
            console.event(&TreeNodeEvent {
                event: "node",
                target: &target.address,
                kind: &target.kind,
                needs: below.iter().map(|b| &*self.graph.target(*b).address).collect(),
                last_seconds: self.costs.get(&id).map(|m| json::rounded(*m as f64 / 1e6)),
            });
            if level < self.depth {
                queue.extend(below.iter().filter(|b| seen.insert(**b)).map(|b| (*b, level + 1)));
            }
        }
    }
}
