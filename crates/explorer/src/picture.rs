//! A graph as a picture: layers from what depends on the left to what is needed on the right, nodes
//! of one package in one tint. The order within a layer keeps lines short (Sugiyama's barycentres).

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

use nubrik_wording::xml;

use crate::drawn::{DrawnNode, Shape};

const ROW: usize = 46;
const GAP: usize = 70;
const MARGIN: usize = 24;
const LETTER: f64 = 7.9;

/// Tints of packages: shallow water to dunes.
const TINTS: [&str; 8] = [
    "#dcebf2", "#e3eedd", "#f3ead3", "#eadff0", "#f3dfdb", "#dff0ec", "#eceadf", "#e0e4f2",
];

/// How many columns a text takes, near enough: letters of East Asia are wide.
fn width(text: &str) -> usize {
    text.chars()
        .map(|c| {
            if matches!(c as u32, 0x1100..=0x115f | 0x2e80..=0xffdc) {
                2
            } else {
                1
            }
        })
        .sum()
}

/// Room for a line that passes a layer.
const PASSING: f64 = 14.0;

/// Nodes in layers, with places in the layers that lines pass: a line that leads far goes beside
/// the nodes between.
struct Layered {
    /// The layer of each node, and of each place behind them.
    layers: Vec<usize>,
    /// Edges from layer to layer.
    edges: Vec<(usize, usize)>,
    /// For each edge of the shape, what it leads through.
    ways: Vec<Vec<usize>>,
}

impl Layered {
    fn of(shape: &Shape) -> Layered {
        let mut layers = layers(shape);
        let mut edges = BTreeSet::new();
        // Lines to the same node share their way.
        let mut passed: BTreeMap<(usize, usize), usize> = BTreeMap::new();
        let mut ways = Vec::new();
        for (from, to) in &shape.edges {
            let mut way = vec![*from];
            for layer in layers[*from] + 1..layers[*to] {
                let next = layers.len();
                let place = *passed.entry((*to, layer)).or_insert(next);
                if place == next {
                    layers.push(layer);
                }
                way.push(place);
            }
            way.push(*to);
            edges.extend(way.windows(2).map(|pair| (pair[0], pair[1])));
            ways.push(way);
        }
        Layered {
            layers,
            edges: edges.into_iter().collect(),
            ways,
        }
    }
}

/// Where a node, or a place where an edge passes, is drawn.
#[derive(Clone, Copy, Default)]
struct Spot {
    left: f64,
    top: f64,
    width: f64,
    /// How far below its top edges meet it.
    middle: f64,
}

impl Spot {
    fn right(self) -> f64 {
        self.left + self.width
    }

    fn middle(self) -> f64 {
        self.top + self.middle
    }
}

/// Where everything is drawn, and the width and height of the whole.
fn spots(shape: &Shape, layered: &Layered) -> (Vec<Spot>, (f64, f64)) {
    let order = ordered(layered);
    let count = shape.nodes.len();
    let height = |n: usize| if n < count { ROW as f64 } else { PASSING };
    let tall = |layer: &[usize]| layer.iter().map(|n| height(*n)).sum::<f64>();
    let tallest = order.iter().map(|layer| tall(layer)).fold(0.0, f64::max);
    let mut spots = vec![Spot::default(); layered.layers.len()];
    let mut left = MARGIN as f64;
    for layer in &order {
        let box_width = |n: &usize| {
            let Some(node) = shape.nodes.get(*n) else {
                return 0.0;
            };
            width(&node.name).max(width(&node.kind)) as f64 * LETTER + 20.0
        };
        let widest = layer.iter().map(box_width).fold(0.0, f64::max);
        let mut top = MARGIN as f64 + (tallest - tall(layer)) / 2.0;
        for n in layer {
            let middle = if *n < count { 16.0 } else { PASSING / 2.0 };
            spots[*n] = Spot {
                left,
                top,
                width: widest,
                middle,
            };
            top += height(*n);
        }
        left += widest + GAP as f64;
    }
    (
        spots,
        (
            left - GAP as f64 + MARGIN as f64,
            2.0 * MARGIN as f64 + tallest,
        ),
    )
}

/// The way of an edge through the places that it passes, from the first to the last one.
fn curve(way: &[Spot], passes: impl Fn(usize) -> bool) -> String {
    let Some(first) = way.first() else {
        return String::new();
    };
    let mut path = format!("M{:.0} {:.0}", first.right(), first.middle());
    for (at, pair) in way.windows(2).enumerate() {
        let (x1, y1) = (pair[0].right(), pair[0].middle());
        let (x2, y2) = (pair[1].left, pair[1].middle());
        let bend = ((x2 - x1) / 2.0).max(20.0);
        let _ = write!(
            path,
            "C{:.0} {y1:.0} {:.0} {y2:.0} {x2:.0} {y2:.0}",
            x1 + bend,
            x2 - bend
        );
        if passes(at + 1) {
            let _ = write!(path, "H{:.0}", pair[1].right());
        }
    }
    path
}

/// The box of a node.
fn node_box(node: &DrawnNode, spot: Spot, number: usize) -> String {
    let Spot {
        left: x,
        top: y,
        width: w,
        ..
    } = spot;
    let (stroke, thick) = if node.focus {
        ("#1f5a78", 2)
    } else {
        ("#9fb4bd", 1)
    };
    let tint = TINTS[number];
    let (before, after) = match &node.link {
        Some(link) => (format!("<a href=\"{}\">", xml(link)), "</a>"),
        None => (String::new(), ""),
    };
    let focus = if node.focus { " focus" } else { "" };
    format!(
        "{before}<g class=\"node tint{number}{focus}\"><title>{name} ({kind})</title><rect x=\"{x:.0}\" y=\"{y:.0}\" width=\"{w:.0}\" height=\"34\" rx=\"5\" fill=\"{tint}\" stroke=\"{stroke}\" stroke-width=\"{thick}\"/><text class=\"name\" x=\"{tx:.0}\" y=\"{t1:.0}\" fill=\"#15262e\">{name}</text><text class=\"kind\" x=\"{tx:.0}\" y=\"{t2:.0}\" fill=\"#5b7480\" font-size=\"10.5\">{kind}</text></g>{after}\n",
        name = xml(&node.name),
        kind = xml(&node.kind),
        tx = x + 10.0,
        t1 = y + 15.0,
        t2 = y + 28.0,
    )
}

/// The picture as SVG. Its classes let a page that holds it choose other colours.
pub fn svg(shape: &Shape) -> String {
    let layered = Layered::of(shape);
    let (spots, whole) = spots(shape, &layered);
    let tints = tints(shape);
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {0:.0} {1:.0}\" width=\"{0:.0}\" height=\"{1:.0}\" font-family=\"ui-sans-serif, system-ui, sans-serif\" font-size=\"13\">\n",
        whole.0.max(1.0),
        whole.1
    );
    let _ = writeln!(
        out,
        "<defs><marker id=\"needs\" viewBox=\"0 0 8 8\" refX=\"8\" refY=\"4\" markerUnits=\"userSpaceOnUse\" markerWidth=\"8\" markerHeight=\"8\" orient=\"auto\"><path d=\"M0 1L8 4L0 7z\" fill=\"#7d99a6\"/></marker></defs>"
    );
    let _ = writeln!(
        out,
        "<rect class=\"paper\" width=\"100%\" height=\"100%\" fill=\"#fbfcfc\"/>"
    );
    for (edge, way) in shape.edges.iter().zip(&layered.ways) {
        let (class, thick) = if shape.chain.contains(edge) {
            ("edge chain", 2.4)
        } else {
            ("edge", 1.0)
        };
        let places: Vec<Spot> = way.iter().map(|n| spots[*n]).collect();
        let path = curve(&places, |at| way[at] >= shape.nodes.len());
        let _ = writeln!(
            out,
            "<path class=\"{class}\" stroke-width=\"{thick}\" d=\"{path}\" fill=\"none\" stroke=\"#7d99a6\" stroke-opacity=\"0.7\" marker-end=\"url(#needs)\"/>"
        );
    }
    for (node, spot) in shape.nodes.iter().zip(&spots) {
        let number = tints.get(node.group.as_str()).copied().unwrap_or(0);
        out.push_str(&node_box(node, *spot, number));
    }
    out + "</svg>\n"
}

/// The number of the tint of each package.
fn tints(shape: &Shape) -> BTreeMap<&str, usize> {
    let mut tints = BTreeMap::new();
    for node in &shape.nodes {
        let next = tints.len() % TINTS.len();
        tints.entry(node.group.as_str()).or_insert(next);
    }
    tints
}

/// Each node's layer: one more than the deepest of those that depend on it. Edges that lead round
/// are followed once.
fn layers(shape: &Shape) -> Vec<usize> {
    let count = shape.nodes.len();
    let mut incoming = vec![0usize; count];
    let mut users: Vec<Vec<usize>> = vec![Vec::new(); count];
    for (from, to) in &shape.edges {
        incoming[*to] += 1;
        users[*from].push(*to);
    }
    let mut layers = vec![0usize; count];
    let mut ready: Vec<usize> = (0..count).filter(|n| incoming[*n] == 0).collect();
    let mut done = vec![false; count];
    loop {
        while let Some(at) = ready.pop() {
            done[at] = true;
            for to in &users[at] {
                layers[*to] = layers[*to].max(layers[at] + 1);
                incoming[*to] = incoming[*to].saturating_sub(1);
                if incoming[*to] == 0 && !done[*to] {
                    ready.push(*to);
                }
            }
        }
        match (0..count).find(|n| !done[*n]) {
            Some(rest) => {
                done[rest] = true;
                ready.push(rest);
            }
            None => return layers,
        }
    }
}

/// Nodes and places of each layer from top to bottom.
fn ordered(Layered { layers, edges, .. }: &Layered) -> Vec<Vec<usize>> {
    let depth = layers.iter().max().map_or(0, |d| d + 1);
    let mut order: Vec<Vec<usize>> = vec![Vec::new(); depth];
    for (n, layer) in layers.iter().enumerate() {
        order[*layer].push(n);
    }
    let mut neighbours: Vec<Vec<usize>> = vec![Vec::new(); layers.len()];
    for (from, to) in edges {
        neighbours[*from].push(*to);
        neighbours[*to].push(*from);
    }
    let mut rows = vec![0.0f64; layers.len()];
    let settle = |order: &[Vec<usize>], rows: &mut Vec<f64>| {
        for layer in order {
            for (row, n) in layer.iter().enumerate() {
                rows[*n] = row as f64 - layer.len() as f64 / 2.0;
            }
        }
    };
    settle(&order, &mut rows);
    for _ in 0..8 {
        for layer in &mut order {
            let middle = |n: usize| {
                let near: Vec<f64> = neighbours[n].iter().map(|m| rows[*m]).collect();
                if near.is_empty() {
                    rows[n]
                } else {
                    near.iter().sum::<f64>() / near.len() as f64
                }
            };
            let mut keyed: Vec<(f64, usize)> = layer.iter().map(|n| (middle(*n), *n)).collect();
            keyed.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
            *layer = keyed.into_iter().map(|(_, n)| n).collect();
        }
        settle(&order, &mut rows);
    }
    order
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::drawn::DrawnNode;

    fn shape(count: usize, edges: &[(usize, usize)]) -> Shape {
        let node = |n: usize| DrawnNode {
            name: format!("n{n}"),
            kind: "step".into(),
            group: "tide".into(),
            focus: n == 0,
            link: (n == 1).then(|| "a\"b".to_owned()),
        };
        Shape {
            nodes: (0..count).map(node).collect(),
            edges: edges.to_vec(),
            ..Shape::default()
        }
    }

    #[test]
    fn what_is_needed_stands_to_the_right() {
        let shape = shape(4, &[(0, 1), (1, 2), (0, 2), (3, 2)]);
        assert_eq!(layers(&shape), [0, 1, 2, 0]);
        let picture = svg(&shape);
        assert_eq!(picture.matches("marker-end").count(), 4);
        assert_eq!(picture.matches("<g ").count(), 4);
        assert_eq!(picture.matches("<a href=\"a&quot;b\">").count(), 1);
    }

    #[test]
    fn a_line_that_leads_far_passes_beside_the_nodes_between() {
        // 0 needs 1, 1 needs 2, 2 needs 3; 0 and 1 need 3 as well.
        let shape = shape(4, &[(0, 1), (1, 2), (2, 3), (0, 3), (1, 3)]);
        let layered = Layered::of(&shape);
        assert_eq!(layered.layers, [0, 1, 2, 3, 1, 2]);
        // Both share the place in the third layer.
        assert_eq!(layered.ways[3..], [vec![0, 4, 5, 3], vec![1, 5, 3]]);
        let order = ordered(&layered);
        assert_eq!(order.iter().map(Vec::len).collect::<Vec<_>>(), [1, 2, 2, 1]);
    }

    #[test]
    fn a_ring_of_packages_is_drawn_too() {
        assert_eq!(
            svg(&shape(2, &[(0, 1), (1, 0)]))
                .matches("marker-end")
                .count(),
            2
        );
    }
}
