//! `nubrik tree`

use std::collections::HashSet;

use nubrik_answers::TreeShape;
use nubrik_graph::TargetId;
use nubrik_lang::AddressPattern;
use nubrik_source::WsPath;
use nubrik_wording::duration;

use super::{CommandResult, evaluate, open, patterns};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out};
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
    let tree = TreeShape::of(&evaluation.graph, &addresses, users, session.state());
    let depth = depth.unwrap_or(usize::MAX);
    if console.is_json() {
        tree.events(depth).iter().for_each(|node| console.event(node));
    } else {
        let paint = console.paint(OutputStream::Output);
        out!(console, "{}", ShownTree { tree: &tree, depth, paint }.render());
    }
    Ok(Exit::Done)
}

/// A tree, as people read it.
struct ShownTree<'t> {
    tree: &'t TreeShape<'t>,
    depth: usize,
    paint: Paint,
}

impl ShownTree<'_> {
    fn render(&self) -> String {
        let mut out = String::new();
        let mut shown = HashSet::new();
        for root in self.tree.roots() {
            out.push_str(&self.line(*root, shown.contains(root)));
            out.push('\n');
            if shown.insert(*root) {
                self.branches(*root, "", 1, &mut shown, &mut out);
            }
        }
        out
    }

    fn branches(
        &self,
        at: TargetId,
        margin: &str,
        depth: usize,
        shown: &mut HashSet<TargetId>,
        out: &mut String,
    ) {
        if depth > self.depth {
            return;
        }
        let below = self.tree.below(at);
        for (i, next) in below.iter().enumerate() {
            let last = i + 1 == below.len();
            let (twig, trunk) = match last {
                false => (self.paint.glyph("├ ", "|-"), self.paint.glyph("│ ", "| ")),
                true => (self.paint.glyph("└ ", "`-"), "  "),
            };
            let twig = self.paint.ink(Ink::Faint, &format!("{margin}{twig}"));
            out.push_str(&format!("{twig}{}\n", self.line(*next, shown.contains(next))));
            if shown.insert(*next) {
                self.branches(*next, &format!("{margin}{trunk}"), depth + 1, shown, out);
            }
        }
    }

    fn line(&self, id: TargetId, repeat: bool) -> String {
        let target = self.tree.target(id);
        let took = self.tree.micros(id).map(|m| format!("  {}", duration(m))).unwrap_or_default();
        let kind = if target.kind.is_empty() { "value" } else { &*target.kind };
        let more = if repeat && !self.tree.below(id).is_empty() { "  (shown above)" } else { "" };
        format!("{}  {}", target.address, self.paint.ink(Ink::Faint, &format!("{kind}{took}{more}")))
    }
}
