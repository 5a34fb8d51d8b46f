//! `nubrik why TARGET NEED`: the dependency path from one target to another

use std::collections::HashSet;
use std::sync::Arc;

use nubrik_answers::{Hop, dependency_path};

use super::{CommandResult, evaluate, open, patterns, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;
use crate::ui::text::{padded, width};

/// How many files of an edge are named; more of them are only counted.
const NAMED: usize = 3;

pub fn how(console: Console, choice: &Choice, from: &str, to: &str) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let wanted = patterns(console, &mut session, &[from.to_owned()])?;
    let goal = patterns(console, &mut session, &[to.to_owned()])?;
    let goal = evaluate(console, &mut session, &goal)?;
    let goals: HashSet<Arc<str>> = goal
        .targets
        .iter()
        .map(|t| goal.graph.target(*t).address.clone())
        .collect();
    let evaluation = evaluate(console, &mut session, &wanted)?;
    let hops = dependency_path(&evaluation, &goals).map_err(|none| {
        let mend = match none.leads_back {
            true => format!("nubrik why {to} {from}   shows the other direction"),
            false => format!("nubrik tree {from}   shows what it depends on"),
        };
        let message = format!("`{from}` does not depend on `{to}`");
        say_wrong(console, Exit::Failed, &message, &[&mend])
    })?;
    if console.is_json() {
        hops.iter().for_each(|hop| console.event(hop));
        return Ok(Exit::Done);
    }
    show(console, &hops, &evaluation.graph);
    Ok(Exit::Done)
}

/// Shows a dependency path, a line a target.
fn show(console: Console, hops: &[Hop<'_>], graph: &nubrik_graph::Graph) {
    let paint = console.paint(OutputStream::Output);
    let last = hops.last().map_or("", |hop| hop.needs);
    let widths = hops.iter().map(|hop| width(hop.target));
    let widest = widths.max().unwrap_or(0).max(width(last));
    for Hop {
        target,
        defined,
        files,
        ..
    } in hops
    {
        let some = files.iter().take(NAMED).copied();
        let some = some.collect::<Vec<_>>().join(", ");
        let more = match files.len().saturating_sub(NAMED) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        let (target, defined) = (padded(target, widest), paint.ink(Ink::Faint, defined));
        outln!(console, "{target}  {defined}  uses {some}{more}");
    }
    if let Some(id) = graph.find_target(last) {
        let place = paint.ink(Ink::Faint, &graph.target(id).place.to_string());
        outln!(console, "{}  {place}", padded(last, widest));
    }
}
