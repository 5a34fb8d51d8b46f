//! Pictures of what depends on what. A picture never holds more than a screen can show: it is drawn
//! less deep, and then packages take the place of their targets.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use maud::{Markup, html};
use nubrik_graph::{Graph, Role, TargetId, shortest_way};
use nubrik_wording::{counted, duration};

use crate::drawn::{DrawnNode, Shape, reached};
use crate::links::{About, page};
use crate::look::{PagesFor, SitePage, raw};
use crate::pages::naming::target_link;
use crate::picture::svg;
use crate::site::{Site, kind_of};

/// So many nodes can be read on a screen.
const NODES: usize = 60;

/// The deepest that anybody may ask for.
const DEEPEST: usize = 12;

/// Which way a picture goes from what it is about.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Direction {
    Needs,
    Users,
    Both,
}

impl Direction {
    const ALL: [(Direction, &'static str, &'static str); 3] = [
        (Direction::Both, "both", "both ways"),
        (Direction::Needs, "needs", "what it needs"),
        (Direction::Users, "users", "what uses it"),
    ];

    fn named(word: &str) -> Direction {
        Direction::ALL
            .iter()
            .find(|(_, name, _)| *name == word)
            .map_or(Direction::Both, |(way, _, _)| *way)
    }
}

/// How a picture is wanted.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct PictureWish {
    pub depth: usize,
    pub way: Direction,
    pub packages: bool,
}

impl PictureWish {
    /// As a query says it.
    pub fn read(query: &HashMap<String, String>) -> PictureWish {
        let depth = query
            .get("depth")
            .and_then(|depth| depth.parse().ok())
            .unwrap_or(2);
        PictureWish {
            depth: depth.clamp(1, DEEPEST),
            way: Direction::named(query.get("way").map_or("", String::as_str)),
            packages: query.contains_key("packages"),
        }
    }
}

/// Targets around one, each with how far it is.
fn around(site: &Site, focus: TargetId, depth: usize, way: Direction) -> BTreeSet<TargetId> {
    let mut found = BTreeSet::from([focus]);
    let lists: [(bool, &Vec<Vec<TargetId>>); 2] = [
        (way != Direction::Users, &site.needs),
        (way != Direction::Needs, &site.users),
    ];
    for (_, list) in lists.into_iter().filter(|(is_wanted, _)| *is_wanted) {
        found.extend(reached(list, [focus], Some(depth)));
    }
    found
}

/// A name for each target, by which nodes are made: targets with one name are one node.
type NodeName = (String, bool);

fn shape(
    site: &Site,
    targets: &BTreeSet<TargetId>,
    focus: Option<TargetId>,
    name: impl Fn(TargetId) -> NodeName,
) -> Shape {
    let graph = site.graph();
    let mut names: BTreeMap<NodeName, Vec<TargetId>> = BTreeMap::new();
    for id in targets {
        names.entry(name(*id)).or_default().push(*id);
    }
    let mut number_of: HashMap<TargetId, usize> = HashMap::new();
    let mut costs = Vec::new();
    let mut nodes = Vec::new();
    for (number, ((name, is_package), members)) in names.iter().enumerate() {
        number_of.extend(members.iter().map(|id| (*id, number)));
        let cost: u64 = members.iter().map(|id| site.cost(*id)).sum();
        costs.push(cost);
        let is_focus = focus.is_some_and(|focus| members.contains(&focus));
        nodes.push(node(graph, (name, *is_package), members, cost, is_focus));
    }
    let mut edges = BTreeSet::new();
    for id in targets {
        for need in &site.needs[id.index()] {
            if let (Some(from), Some(to)) = (number_of.get(id), number_of.get(need)) {
                edges.insert((*from, *to));
            }
        }
    }
    edges.retain(|(from, to)| from != to);
    let edges: Vec<_> = edges.into_iter().collect();
    let chain = chain(&edges, &costs);
    Shape {
        nodes,
        edges,
        chain,
    }
}

/// How a package or a target is drawn.
fn node(
    graph: &Graph,
    (name, is_package): (&str, bool),
    members: &[TargetId],
    cost: u64,
    focus: bool,
) -> DrawnNode {
    let took = match cost {
        0 => String::new(),
        cost => format!(", {}", duration(cost)),
    };
    if is_package {
        let shown = if name.is_empty() { "root" } else { name };
        return DrawnNode {
            name: format!("{shown}/…"),
            kind: format!("{}{took}", counted(members.len(), "target")),
            group: String::new(),
            focus,
            link: Some(page(About::Package, name)),
        };
    }
    let target = graph.target(members[0]);
    DrawnNode {
        name: name.to_owned(),
        kind: format!("{}{took}", kind_of(target)),
        group: target.package.to_string(),
        focus,
        link: Some(page(About::Graph, name)),
    }
}

/// The edges of the chain that takes longest; none where edges go round, or nothing took any time.
fn chain(edges: &[(usize, usize)], costs: &[u64]) -> BTreeSet<(usize, usize)> {
    let count = costs.len();
    let mut users = vec![0usize; count];
    let mut needs: Vec<Vec<usize>> = vec![Vec::new(); count];
    for (from, to) in edges {
        needs[*from].push(*to);
        users[*to] += 1;
    }
    let mut ready: Vec<usize> = (0..count).filter(|node| users[*node] == 0).collect();
    let mut order = Vec::new();
    while let Some(node) = ready.pop() {
        order.push(node);
        for need in &needs[node] {
            users[*need] -= 1;
            if users[*need] == 0 {
                ready.push(*need);
            }
        }
    }
    if order.len() < count || costs.iter().all(|cost| *cost == 0) {
        return BTreeSet::new();
    }
    let mut longest: Vec<(u64, Option<usize>)> = costs.iter().map(|cost| (*cost, None)).collect();
    for node in order.iter().rev() {
        let best = needs[*node]
            .iter()
            .max_by_key(|need| (longest[**need].0, **need));
        if let Some(best) = best {
            longest[*node] = (costs[*node] + longest[*best].0, Some(*best));
        }
    }
    let mut at = (0..count).max_by_key(|node| longest[*node].0);
    let mut edges = BTreeSet::new();
    while let Some(node) = at {
        at = longest[node].1;
        edges.extend(at.map(|next| (node, next)));
    }
    edges
}

/// The first folders of a package's path, so many of them.
fn folders(path: &str, count: usize) -> &str {
    let mut ends = path.match_indices('/').map(|(at, _)| at);
    ends.nth(count.saturating_sub(1))
        .map_or(path, |end| &path[..end])
}

/// All of a workspace, in as many packages as can be read.
fn whole(site: &Site) -> (Shape, bool) {
    let all: BTreeSet<TargetId> = site
        .declared()
        .filter(|(_, target)| !matches!(target.role, Role::Job | Role::Service))
        .map(|(id, _)| id)
        .collect();
    let address = |id: TargetId| (site.graph().target(id).address.to_string(), false);
    if all.len() <= NODES {
        return (shape(site, &all, None, address), false);
    }
    let package = |id: TargetId| site.graph().target(id).package.as_str();
    let count = |deep: usize| {
        all.iter()
            .map(|id| folders(package(*id), deep))
            .collect::<BTreeSet<_>>()
            .len()
    };
    let deep = (1..8).rev().find(|deep| count(*deep) <= NODES).unwrap_or(1);
    let drawn = shape(site, &all, None, |id| {
        (folders(package(id), deep).to_owned(), true)
    });
    (largest(drawn), true)
}

/// A shape with no more nodes than can be read: those with the most edges.
fn largest(shape: Shape) -> Shape {
    if shape.nodes.len() <= NODES {
        return shape;
    }
    let mut degrees = vec![0usize; shape.nodes.len()];
    for (from, to) in &shape.edges {
        degrees[*from] += 1;
        degrees[*to] += 1;
    }
    let mut order: Vec<usize> = (0..shape.nodes.len()).collect();
    order.sort_by_key(|node| {
        (
            !shape.nodes[*node].focus,
            std::cmp::Reverse(degrees[*node]),
            *node,
        )
    });
    let kept: HashMap<usize, usize> = order
        .iter()
        .take(NODES - 1)
        .enumerate()
        .map(|(new, old)| (*old, new))
        .collect();
    let mut nodes: Vec<DrawnNode> = order
        .iter()
        .take(NODES - 1)
        .map(|node| shape.nodes[*node].clone())
        .collect();
    let left = shape.nodes.len() - nodes.len();
    nodes.push(DrawnNode {
        name: format!("{left} more"),
        kind: "not drawn".to_owned(),
        ..DrawnNode::default()
    });
    let edge = |(from, to): &(usize, usize)| Some((*kept.get(from)?, *kept.get(to)?));
    let edges = shape.edges.iter().filter_map(edge).collect();
    Shape {
        nodes,
        edges,
        chain: shape.chain.iter().filter_map(edge).collect(),
    }
}

/// What is around a target, as deep as can be read; says how deep that is, and whether packages
/// represent targets.
fn near(site: &Site, focus: TargetId, wish: PictureWish) -> (Shape, usize, bool) {
    let address = |id: TargetId| (site.graph().target(id).address.to_string(), false);
    let mut depth = wish.depth;
    let mut targets = around(site, focus, depth, wish.way);
    while targets.len() > NODES && depth > 1 && !wish.packages {
        depth -= 1;
        targets = around(site, focus, depth, wish.way);
    }
    if targets.len() <= NODES && !wish.packages {
        return (shape(site, &targets, Some(focus), address), depth, false);
    }
    let package = |id: TargetId| match id == focus {
        true => address(id),
        false => (site.graph().target(id).package.to_string(), true),
    };
    (
        largest(shape(site, &targets, Some(focus), package)),
        depth,
        true,
    )
}

/// A picture that is not wider than this is made to fit; a wider one would have letters too small
/// to be read.
const FITTING: usize = 1_900;

fn picture(shape: &Shape, what: &str) -> Markup {
    let drawn = svg(shape);
    let wide = drawn
        .split(" width=\"")
        .nth(1)
        .and_then(|rest| rest.split('"').next()?.parse().ok());
    let class = if wide.is_some_and(|wide: usize| wide <= FITTING) {
        "picture fit"
    } else {
        "picture"
    };
    html! {
        div class=(class) tabindex="0" role="group" aria-label=(what) { (raw(drawn)) }
        @if !shape.chain.is_empty() { p.lead { "The thick line is the critical path, by the latest run of each step." } }
    }
}

/// The graph of the whole workspace.
pub(crate) fn all(site: &Site) -> SitePage {
    let (shape, are_packages) = whole(site);
    let body = html! {
        h1 { "Graph" }
        p.lead {
            @if are_packages { "Packages; what one holds is behind it, and each target has a picture of what is around it." }
            @else { "All targets: arrows point from a target to what it needs." }
        }
        (way_form(site, "", ""))
        (picture(&shape, "Graph of the workspace"))
    };
    SitePage {
        title: "Graph".to_owned(),
        part: "graph.html",
        body,
    }
}

/// What is around a target.
pub(crate) fn focus(
    site: &Site,
    address: &str,
    query: &HashMap<String, String>,
) -> Option<SitePage> {
    let id = site.find(address)?;
    let wish = PictureWish::read(query);
    let (shape, depth, are_packages) = near(site, id, wish);
    let body = html! {
        h1 { "Around " (address) }
        p { (target_link(site, id)) ", " (kind_of(site.graph().target(id))) }
        @if site.reading == PagesFor::Served {
            form.controls action=(page(About::Graph, address)) {
                label { "Depth" select name="depth" { @for n in 1..=DEEPEST { option value=(n) selected[n == wish.depth] { (n) } } } }
                label { "Direction" select name="way" { @for (way, name, title) in Direction::ALL { option value=(name) selected[way == wish.way] { (title) } } } }
                label.check { input type="checkbox" name="packages" value="yes" checked[wish.packages]; "Packages for targets" }
                button { "Draw" }
            }
        }
        @if depth < wish.depth { p.notice { "Drawn " (depth) " deep: deeper there is more than a screen can show." } }
        @if are_packages { p.lead { "Packages stand for their targets." } }
        (picture(&shape, &format!("Graph around {address}")))
        (way_form(site, address, ""))
    };
    Some(SitePage {
        title: format!("Around {address}"),
        part: "graph.html",
        body,
    })
}

fn way_form(site: &Site, from: &str, to: &str) -> Markup {
    html! {
        @if site.reading == PagesFor::Served {
            form.controls action="way.html" {
                label { "How does" input name="from" value=(from) size="28"; }
                label { "depend on" input name="to" value=(to) size="28"; }
                button { "Find path" }
            }
        }
    }
}

/// The shortest way from one target to another one that it depends on.
pub(crate) fn way(site: &Site, query: &HashMap<String, String>) -> SitePage {
    let word = |name: &str| query.get(name).map_or("", |text| text.trim());
    let (from, to) = (word("from"), word("to"));
    let find = |address: &str| site.find(address);
    let found = find(from)
        .zip(find(to))
        .and_then(|(a, b)| shortest_way(&[a], &site.needs, |id| id == b));
    let back = find(to)
        .zip(find(from))
        .and_then(|(a, b)| shortest_way(&[a], &site.needs, |id| id == b));
    let unknown: Vec<&str> = [from, to]
        .into_iter()
        .filter(|name| find(name).is_none())
        .collect();
    let body = html! {
        h1 { "From " (from) " to " (to) }
        (way_form(site, from, to))
        @for name in &unknown { div.notice { p { "There is no target " code { (name) } ": " a href=(format!("search.html?words={}", crate::query::escaped(name))) { "search for it" } } } }
        @if let Some(way) = &found { (hops(site, way)) }
        @else if unknown.is_empty() {
            p { (from) " does not depend on " (to) @if back.is_some() { "; it is the other way round:" } "." }
            @if let Some(back) = &back { (hops(site, back)) }
        }
    };
    SitePage {
        title: format!("From {from} to {to}"),
        part: "graph.html",
        body,
    }
}

fn hops(site: &Site, way: &[TargetId]) -> Markup {
    let graph = site.graph();
    let nodes: BTreeSet<TargetId> = way.iter().copied().collect();
    let drawn = shape(site, &nodes, way.first().copied(), |id| {
        (graph.target(id).address.to_string(), false)
    });
    html! {
        ol { @for id in way { li { (target_link(site, *id)) " " span.lead { (kind_of(graph.target(*id))) } } } }
        (picture(&drawn, "The way"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_longest_chain_is_that_which_takes_longest() {
        // 0 needs 1 and 2, both need 3; 2 takes longer than 1.
        let edges = [(0, 1), (0, 2), (1, 3), (2, 3)];
        assert_eq!(
            chain(&edges, &[1, 5, 9, 1]),
            BTreeSet::from([(0, 2), (2, 3)])
        );
        assert_eq!(chain(&edges, &[0, 0, 0, 0]), BTreeSet::new());
        assert_eq!(chain(&[(0, 1), (1, 0)], &[1, 1]), BTreeSet::new());
    }

    #[test]
    fn what_cannot_be_read_is_left_out_and_counted() {
        let node = |n: usize| DrawnNode {
            name: format!("n{n}"),
            focus: n == 99,
            ..DrawnNode::default()
        };
        let star = Shape {
            nodes: (0..100).map(node).collect(),
            edges: (1..100).map(|n| (0, n)).collect(),
            ..Shape::default()
        };
        let drawn = largest(star);
        assert_eq!(drawn.nodes.len(), NODES);
        assert!(
            drawn.nodes.iter().any(|node| node.focus)
                && drawn.nodes.iter().any(|node| node.name == "n0")
        );
        assert_eq!(drawn.nodes[NODES - 1].name, "41 more");
        assert_eq!(drawn.edges.len(), NODES - 2);
    }

    #[test]
    fn packages_are_cut_to_their_first_folders() {
        assert_eq!(
            (
                folders("a/b/c", 1),
                folders("a/b/c", 2),
                folders("a", 3),
                folders("", 1)
            ),
            ("a", "a/b", "a", "")
        );
    }
}
