//! A graph drawn in text: a line for each node, with all that depend on it above it. Lanes at the
//! right of the names lead down to the dependencies.
//!
//! ```text
//! tide/tidecast  ●─╮  program
//!                │ │
//!     tide/moon  ○─┤  library
//!                  │
//!    base/clock    ○  library
//!
//! ● asked for   ○ not asked for
//! ```

use nubrik_explorer::{DrawnNode, Shape};

use super::paint::{Ink, Paint};
use super::text::{cut, width};

/// More lanes than this cannot be followed by eye.
const MOST_LANES: usize = 24;

/// More nodes than this are not drawn in text.
const MOST_NODES: usize = 120;

/// Columns that names need at least.
const NAME_COLUMNS: usize = 24;

/// What a filled sign of a node means, and a hollow one.
pub type Legend = [&'static str; 2];

/// Draws a graph; `None` where it is too large to be read so, or too wide for the terminal.
pub fn draw(shape: &Shape, [filled, hollow]: Legend, paint: Paint) -> Option<String> {
    if shape.nodes.len() > MOST_NODES {
        return None;
    }
    let mut needs: Vec<Vec<usize>> = vec![Vec::new(); shape.nodes.len()];
    shape
        .edges
        .iter()
        .for_each(|(from, to)| needs[*from].push(*to));
    let mut canvas = Canvas {
        paint,
        lanes: Vec::new(),
        rows: Vec::new(),
        marked: None,
    };
    for node in order(&needs) {
        canvas.node(node, &needs[node], shape.nodes[node].focus);
    }
    let widths = canvas.rows.iter().map(|(row, _)| width(row));
    let lanes = widths.max().unwrap_or(0);
    let room = paint
        .width
        .map_or(usize::MAX, |w| w.saturating_sub(lanes + 5));
    if lanes > 2 * MOST_LANES || room < NAME_COLUMNS {
        return None;
    }
    let more = paint.glyph("…", "...");
    let names = shape.nodes.iter();
    let names: Vec<String> = names.map(|node| cut(&node.name, room, more)).collect();
    let widest = names.iter().map(|name| width(name)).max().unwrap_or(0);
    let mut out = String::new();
    let room = paint
        .width
        .map_or(usize::MAX, |w| w.saturating_sub(widest + lanes + 5));
    for (row, node) in canvas.rows {
        let (name, kind, ink) = match node {
            Some(node) => {
                let DrawnNode { kind, focus, .. } = &shape.nodes[node];
                let ink = if *focus { Ink::Strong } else { Ink::Calm };
                (&*names[node], cut(kind, room, more), ink)
            }
            None => ("", String::new(), Ink::Calm),
        };
        let before = " ".repeat(widest - width(name));
        let after = " ".repeat(lanes - width(&row));
        let (name, row) = (paint.ink(ink, name), paint.ink(Ink::Calm, &row));
        let kind = paint.ink(Ink::Faint, &kind);
        out.push_str(format!("{before}{name}  {row}{after}  {kind}").trim_end());
        out.push('\n');
    }
    let asked = shape.nodes.iter().filter(|node| node.focus).count();
    if asked > 0 && asked < shape.nodes.len() {
        let (yes, no) = (mark(true, paint), mark(false, paint));
        let legend = format!("{yes} {filled}   {no} {hollow}");
        out.push_str(&format!("\n{}\n", paint.ink(Ink::Faint, &legend)));
    }
    Some(out)
}

/// The sign of a node.
fn mark(focus: bool, paint: Paint) -> &'static str {
    if focus {
        paint.glyph("●", "#")
    } else {
        paint.glyph("○", "o")
    }
}

/// Nodes in an order in which each one is before what it needs, and near to it.
fn order(needs: &[Vec<usize>]) -> Vec<usize> {
    let mut users = vec![0usize; needs.len()];
    needs.iter().flatten().for_each(|need| users[*need] += 1);
    // What was reached last is drawn first: lanes stay short.
    let mut ready: Vec<usize> = (0..needs.len())
        .rev()
        .filter(|node| users[*node] == 0)
        .collect();
    let mut order = Vec::with_capacity(needs.len());
    while let Some(node) = ready.pop() {
        order.push(node);
        for need in needs[node].iter().rev() {
            users[*need] -= 1;
            if users[*need] == 0 {
                ready.push(*need);
            }
        }
    }
    order
}

struct Canvas {
    paint: Paint,
    /// By lane, the node that it leads to.
    lanes: Vec<Option<usize>>,
    /// Lines of lanes so far, with the node that is on each.
    rows: Vec<(String, Option<usize>)>,
    /// The lane of the last node.
    marked: Option<usize>,
}

impl Canvas {
    fn node(&mut self, node: usize, needs: &[usize], focus: bool) {
        let own = match self.lane_of(node) {
            Some(lane) => {
                // Right below the node before it, which needs it: a line shows that.
                if self.marked == Some(lane) {
                    self.gap();
                }
                lane
            }
            None => {
                self.gap();
                self.free_lane(node)
            }
        };
        let before: Vec<bool> = self.lanes.iter().map(Option::is_some).collect();
        self.lanes[own] = None;
        let joined: Vec<usize> = needs.iter().map(|need| self.lane_to(*need, own)).collect();
        self.rows.push((
            self.row(own, mark(focus, self.paint), &before, &joined),
            Some(node),
        ));
        self.marked = Some(own);
        while self.lanes.last().is_some_and(Option::is_none) {
            self.lanes.pop();
        }
    }

    /// A row with lanes only. It joins a node with a dependency right below it, and parts a node
    /// from the one above that does not need it.
    fn gap(&mut self) {
        let bar = self.paint.glyph("│ ", "| ");
        let row: String = self
            .lanes
            .iter()
            .map(|lane| if lane.is_some() { bar } else { "  " })
            .collect();
        if !self.rows.is_empty() {
            self.rows.push((row.trim_end().to_owned(), None));
        }
    }

    fn lane_of(&self, node: usize) -> Option<usize> {
        self.lanes.iter().position(|lane| *lane == Some(node))
    }

    /// The lane that leads to a need: one that does already, the node's own, or a new one.
    fn lane_to(&mut self, need: usize, own: usize) -> usize {
        if let Some(lane) = self.lane_of(need) {
            return lane;
        }
        if self.lanes[own].is_none() {
            self.lanes[own] = Some(need);
            return own;
        }
        self.free_lane(need)
    }

    fn free_lane(&mut self, node: usize) -> usize {
        let free = self
            .lanes
            .iter()
            .position(Option::is_none)
            .unwrap_or_else(|| {
                self.lanes.push(None);
                self.lanes.len() - 1
            });
        self.lanes[free] = Some(node);
        free
    }

    /// The line of a node: its mark in its lane, and lines from there to the lanes that it joins.
    fn row(&self, own: usize, mark: &str, before: &[bool], joined: &[usize]) -> String {
        let first = joined.iter().copied().chain([own]).min().unwrap_or(own);
        let last = joined.iter().copied().chain([own]).max().unwrap_or(own);
        let glyph = |beyond, ascii| self.paint.glyph(beyond, ascii);
        let mut row = String::new();
        for lane in 0..self.lanes.len().max(before.len()) {
            let up = before.get(lane).is_some_and(|b| *b);
            row.push_str(match (lane == own, joined.contains(&lane)) {
                (true, _) => mark,
                (false, true) => match (up, lane < own) {
                    (true, true) if lane == first => glyph("├", "+"),
                    (true, false) if lane == last => glyph("┤", "+"),
                    (true, _) => glyph("┼", "+"),
                    (false, true) if lane == first => glyph("╭", "."),
                    (false, false) if lane == last => glyph("╮", "."),
                    (false, _) => glyph("┬", "."),
                },
                // A lane that is only crossed stays in front.
                (false, false) if up => glyph("│", "|"),
                (false, false) if first < lane && lane < last => glyph("─", "-"),
                (false, false) => " ",
            });
            row.push_str(if first <= lane && lane < last {
                glyph("─", "-")
            } else {
                " "
            });
        }
        row.trim_end().to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LEGEND: Legend = ["asked for", "not asked for"];
    const PLAIN: Paint = Paint {
        colours: false,
        glyphs: true,
        width: None,
        plain: false,
    };

    fn shape(nodes: &[&str], edges: &[(usize, usize)]) -> Shape {
        let node = |name: &&str| DrawnNode {
            name: (*name).to_owned(),
            kind: "step".to_owned(),
            group: String::new(),
            focus: *name == "all",
            link: None,
        };
        Shape {
            nodes: nodes.iter().map(node).collect(),
            edges: edges.to_vec(),
            ..Shape::default()
        }
    }

    #[test]
    fn each_node_is_above_what_it_needs_and_lanes_lead_there() {
        let one = shape(
            &["all", "left", "right", "base"],
            &[(0, 1), (0, 2), (1, 3), (2, 3)],
        );
        let drawn = draw(&one, LEGEND, PLAIN).unwrap_or_default();
        assert_eq!(
            drawn,
            "  all  ●─╮  step\n       │ │\n left  ○ │  step\nright  ├─○  step\n base  ○    step\n\n\
             ● asked for   ○ not asked for\n"
        );
        let ascii = draw(
            &one,
            LEGEND,
            Paint {
                glyphs: false,
                ..PLAIN
            },
        )
        .unwrap_or_default();
        assert_eq!(
            ascii,
            "  all  #-.  step\n       | |\n left  o |  step\nright  +-o  step\n base  o    step\n\n\
             # asked for   o not asked for\n"
        );
    }

    #[test]
    fn a_lane_that_is_crossed_is_told_from_one_that_is_joined() {
        let one = shape(&["all", "a", "b", "c"], &[(0, 1), (0, 2), (0, 3), (1, 3)]);
        let drawn = draw(&one, LEGEND, PLAIN).unwrap_or_default();
        let nodes: Vec<&str> = drawn.lines().take_while(|line| !line.is_empty()).collect();
        assert_eq!(
            nodes,
            [
                "all  ●─┬─╮  step",
                "     │ │ │",
                "  a  ○─│─┤  step",
                "  c    │ ○  step",
                "  b    ○    step"
            ]
        );
    }

    #[test]
    fn what_nothing_above_needs_stands_apart() {
        let one = shape(&["all", "a", "b", "c"], &[(0, 1), (2, 3)]);
        let drawn = draw(&one, LEGEND, PLAIN).unwrap_or_default();
        let nodes: Vec<&str> = drawn.lines().take(7).collect();
        assert_eq!(
            nodes,
            [
                "all  ●  step",
                "     │",
                "  a  ○  step",
                "",
                "  b  ○  step",
                "     │",
                "  c  ○  step"
            ]
        );
    }

    #[test]
    fn what_does_not_fit_is_not_drawn() {
        let names: Vec<String> = (0..60).map(|n| format!("t{n}")).collect();
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let wide: Vec<(usize, usize)> = (1..60).map(|n| (0, n)).collect();
        assert!(
            draw(&shape(&names, &wide), LEGEND, PLAIN).is_none(),
            "too many lanes"
        );
        let chain: Vec<(usize, usize)> = (1..60).map(|n| (n - 1, n)).collect();
        let drawn = draw(
            &shape(&names, &chain),
            LEGEND,
            Paint {
                width: Some(40),
                ..PLAIN
            },
        )
        .unwrap_or_default();
        assert_eq!(drawn.lines().count(), 119);
        assert!(
            draw(
                &shape(&names, &chain),
                LEGEND,
                Paint {
                    width: Some(20),
                    ..PLAIN
                }
            )
            .is_none(),
            "too narrow"
        );
        assert!(drawn.lines().all(|line| width(line) < 40));
    }
}
