//! `nubrik tree`

use std::collections::HashSet;

use nubrik_answers::TreeShape;
use nubrik_graph::TargetId;
use nubrik_lang::AddressPattern;
use nubrik_source::WsPath;
use nubrik_wording::duration;

use super::{CommandResult, evaluate, labelled, open, patterns};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
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
    let addresses: Vec<_> = asked
        .targets
        .iter()
        .map(|t| asked.graph.target(*t).address.clone())
        .collect();
    // Users may be anywhere in the workspace.
    let evaluation = match users {
        true => evaluate(
            console,
            &mut session,
            &[AddressPattern::below(&WsPath::root())],
        )?,
        false => asked,
    };
    let tree = TreeShape::of(&evaluation.graph, &addresses, users, session.state());
    if console.is_json() {
        tree.events(depth.unwrap_or(usize::MAX))
            .iter()
            .for_each(|node| console.event(node));
        return Ok(Exit::Done);
    }
    let paint = console.paint(OutputStream::Output);
    let (text, is_cut) = ShownTree {
        tree: &tree,
        depth: depth.unwrap_or(DEEPEST),
        paint,
    }
    .render();
    out!(console, "{text}");
    if is_cut && depth.is_none() {
        let note = format!(
            "it goes deeper than {DEEPEST} levels: --depth N shows more, and --json all of it"
        );
        outln!(console, "\n{}", labelled(paint, Ink::Doubt, "note", &note));
    }
    Ok(Exit::Done)
}

/// Nobody reads lines that begin further to the right than so many levels, unless somebody asks for
/// them.
const DEEPEST: usize = 100;

/// A tree, as people read it.
struct ShownTree<'t> {
    tree: &'t TreeShape<'t>,
    depth: usize,
    paint: Paint,
}

impl ShownTree<'_> {
    /// The lines, and whether there would be more below the deepest of them.
    fn render(&self) -> (String, bool) {
        let mut out = String::new();
        let mut is_cut = false;
        let mut shown = HashSet::new();
        for root in self.tree.roots() {
            out.push_str(&format!("{}\n", self.line(*root, shown.contains(root))));
            // What is open: targets, with their next branch and what is at the left of it. Trees
            // may be deep.
            let mut open: Vec<(TargetId, usize, String)> = Vec::new();
            if shown.insert(*root) {
                open.push((*root, 0, String::new()));
            }
            while let Some((at, branch, margin)) = open.last_mut() {
                let below = self.tree.below(*at);
                let Some(next) = below.get(*branch).copied() else {
                    open.pop();
                    continue;
                };
                let is_last = *branch + 1 == below.len();
                let (twig, trunk) = match is_last {
                    false => (self.paint.glyph("├ ", "|-"), self.paint.glyph("│ ", "| ")),
                    true => (self.paint.glyph("└ ", "`-"), "  "),
                };
                let twig = self.paint.ink(Ink::Faint, &format!("{margin}{twig}"));
                let deeper = format!("{margin}{trunk}");
                *branch += 1;
                if open.len() > self.depth {
                    is_cut = true;
                    open.pop();
                    continue;
                }
                out.push_str(&format!(
                    "{twig}{}\n",
                    self.line(next, shown.contains(&next))
                ));
                if shown.insert(next) {
                    open.push((next, 0, deeper));
                }
            }
        }
        (out, is_cut)
    }

    fn line(&self, id: TargetId, repeat: bool) -> String {
        let target = self.tree.target(id);
        let took = self
            .tree
            .micros(id)
            .map(|m| format!("  {}", duration(m)))
            .unwrap_or_default();
        let kind = if target.kind.is_empty() {
            "value"
        } else {
            &*target.kind
        };
        let more = if repeat && !self.tree.below(id).is_empty() {
            "  (shown above)"
        } else {
            ""
        };
        format!(
            "{}  {}",
            target.address,
            self.paint.ink(Ink::Faint, &format!("{kind}{took}{more}"))
        )
    }
}
