//! `nubrik why TARGET NEED`: the dependency path from one target to another

use std::collections::HashSet;
use std::sync::Arc;

use nubrik_graph::{Graph, TargetId, shortest_way};
use serde::Serialize;

use super::{CommandResult, evaluate, open, patterns, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;
use crate::ui::text::{padded, width};

#[derive(Serialize)]
struct HopEvent<'a> {
    event: &'static str,
    target: &'a str,
    needs: &'a str,
    defined: String,
    files: Vec<&'a str>,
}

pub fn how(console: Console, choice: &Choice, from: &str, to: &str) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let wanted = patterns(console, &mut session, &[from.to_owned()])?;
    let goal = patterns(console, &mut session, &[to.to_owned()])?;
    let goal = evaluate(console, &mut session, &goal)?;
    let goals: HashSet<Arc<str>> =
        goal.targets.iter().map(|t| goal.graph.target(*t).address.clone()).collect();
    let evaluation = evaluate(console, &mut session, &wanted)?;
    let graph = &evaluation.graph;
    let needs = graph.target_needs();
    let is_goal = |id: TargetId| goals.contains(&*graph.target(id).address);
    let Some(way) = shortest_way(&evaluation.targets, &needs, is_goal) else {
        let mend: &str = match leads_back(graph, &needs, &evaluation.targets, &goals) {
            true => &format!("nubrik why {to} {from}   shows the other direction"),
            false => &format!("nubrik tree {from}   shows what it depends on"),
        };
        return Err(say_wrong(
            console,
            Exit::Failed,
            &format!("`{from}` does not depend on `{to}`"),
            &[mend],
        ));
    };
    let paint = console.paint(OutputStream::Output);
    let widest = way.iter().map(|t| width(&graph.target(*t).address)).max().unwrap_or(0);
    for pair in way.windows(2) {
        let (user, need) = (graph.target(pair[0]), graph.target(pair[1]));
        let (place, files) = hop(graph, pair[0], pair[1]);
        if console.is_json() {
            let files = files.iter().map(String::as_str).collect();
            console.event(&HopEvent {
                event: "hop",
                target: &user.address,
                needs: &need.address,
                defined: place,
                files,
            });
            continue;
        }
        let some: Vec<&str> = files.iter().take(3).map(String::as_str).collect();
        let more = if files.len() > 3 { format!(" and {} more", files.len() - 3) } else { String::new() };
        let uses = format!("uses {}{more}", some.join(", "));
        outln!(console, "{}  {}  {}", padded(&user.address, widest), paint.ink(Ink::Faint, &place), uses);
    }
    if !console.is_json()
        && let Some(last) = way.last()
    {
        let last = graph.target(*last);
        let text =
            format!("{}  {}", padded(&last.address, widest), paint.ink(Ink::Faint, &last.place.to_string()));
        outln!(console, "{text}");
    }
    Ok(Exit::Done)
}

/// Whether one of the goals is among what depends on the starts, as far as it was evaluated.
fn leads_back(
    graph: &Graph,
    needs: &[Vec<TargetId>],
    starts: &[TargetId],
    goals: &HashSet<Arc<str>>,
) -> bool {
    let starts: HashSet<&TargetId> = starts.iter().collect();
    let mut all = graph.targets.iter().zip(needs);
    all.any(|(target, needs)| {
        goals.contains(&target.address) && needs.iter().any(|need| starts.contains(need))
    })
}

/// Where one target uses another, and which files: the first step that does, else the declaration.
fn hop(graph: &Graph, user: TargetId, need: TargetId) -> (String, Vec<String>) {
    let mut place = None;
    let mut files = Vec::new();
    for step in graph.steps.iter().filter(|s| s.target == user) {
        for file in &graph.declared(step) {
            let node = graph.file(*file);
            if node.maker.is_some_and(|m| graph.step(m).target == need) {
                place.get_or_insert_with(|| step.place.to_string());
                files.push(node.path.name().to_owned());
            }
        }
    }
    let user = graph.target(user);
    for result in &user.results {
        let node = graph.file(result.file);
        if node.maker.is_some_and(|m| graph.step(m).target == need) {
            files.push(node.path.name().to_owned());
        }
    }
    files.sort();
    files.dedup();
    // A step of a kit says less than the declaration that called it.
    let place =
        place.filter(|p| p.split(':').next() == Some(&*user.place.file)).unwrap_or(user.place.to_string());
    (place, files)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn finds_the_shortest_way() {
        let id = TargetId;
        let edges = [vec![id(1), id(2)], vec![id(3)], vec![id(1)], vec![]];
        assert_eq!(shortest_way(&[id(0)], &edges, |t| t == id(3)), Some(vec![id(0), id(1), id(3)]));
        assert_eq!(shortest_way(&[id(3)], &edges, |t| t == id(0)), None);
        assert_eq!(shortest_way(&[id(0)], &edges, |t| t == id(0)), None, "nothing depends on itself");
    }
}
