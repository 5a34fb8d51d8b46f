//! `nubrik list`

use std::collections::BTreeMap;

use nubrik_graph::{Graph, Role, Step, Target};
use serde::Serialize;

use super::since::Reached;
use super::{Outcome, evaluate, open, patterns};
use crate::arguments::{Choice, Face};
use crate::exit::Exit;
use crate::ui::json;
use crate::ui::out::outln;
use crate::ui::paint::Ink;
use crate::ui::text::{cut, padded, width};
use nubrik_graph::TargetId;
use nubrik_lang::Evaluation;
use nubrik_session::Session;

#[derive(Serialize)]
struct TargetEvent<'a> {
    event: &'static str,
    address: &'a str,
    kind: &'a str,
    role: &'static str,
    documentation: &'a str,
    defined: String,
    private: bool,
    entries: usize,
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    tags: &'a [std::sync::Arc<str>],
}

#[derive(Serialize)]
struct KindEvent<'a> {
    event: &'static str,
    kind: &'a str,
    targets: usize,
}

fn nothing_of_that(face: Face, all: &[&Target], which: &Which) -> Exit {
    let mut kinds: Vec<&str> = all.iter().map(|t| &*t.kind).collect();
    let mut tags: Vec<&str> = all.iter().flat_map(|t| t.tags.iter().map(|t| &**t)).collect();
    for list in [&mut kinds, &mut tags] {
        list.sort_unstable();
        list.dedup();
    }
    let (what, known) = match (&which.tag, &which.kind) {
        (Some(tag), _) => (format!("no target here is tagged `{tag}`"), tags),
        (None, Some(kind)) => (format!("no target here is of kind `{kind}`"), kinds),
        (None, None) => ("nothing here".to_owned(), Vec::new()),
    };
    let known = if known.is_empty() {
        "there are none".to_owned()
    } else {
        format!("there is: {}", known.join(", "))
    };
    super::say_wrong(face, Exit::Usage, &what, &[&known])
}

fn count_kinds(face: Face, targets: &[&Target]) {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for target in targets {
        *counts.entry(&target.kind).or_default() += 1;
    }
    let mut counts: Vec<(&str, usize)> = counts.into_iter().collect();
    counts.sort_by_key(|(kind, count)| (std::cmp::Reverse(*count), *kind));
    let paint = super::paint(face);
    for (kind, count) in counts {
        if face.json {
            json::print(&KindEvent { event: "kind", kind, targets: count });
        } else {
            outln!("{count:>6}  {}", paint.ink(Ink::Calm, kind));
        }
    }
}

#[derive(Serialize)]
struct CaseEvent<'a> {
    event: &'static str,
    test: &'a str,
    group: &'a str,
    name: &'a str,
    outcome: &'static str,
}

/// Lists tests with the cases that they told of the last time.
fn list_cases(face: Face, session: &Session, graph: &Graph, targets: &[TargetId]) -> Outcome<Exit> {
    let paint = super::paint(face);
    let mut any = false;
    for step in graph.steps.iter().filter(|s| targets.contains(&s.target)) {
        let Some(check) = &step.check else { continue };
        any = true;
        let passed = session.state().steps.get(step.folder.as_str()).map(|m| !m.outputs.is_empty());
        let word = match passed {
            Some(true) => "passed",
            Some(false) => "failed",
            None => "not run",
        };
        let cases = session.cases(graph, step).filter(|_| passed.is_some()).unwrap_or_default();
        if face.json {
            for case in &cases {
                let (group, name) = (&case.group, &case.name);
                json::print(&CaseEvent {
                    event: "case",
                    test: &check.address,
                    group,
                    name,
                    outcome: case.outcome.word(),
                });
            }
            if cases.is_empty() {
                json::print(&CaseEvent {
                    event: "case",
                    test: &check.address,
                    group: "",
                    name: "",
                    outcome: word,
                });
            }
            continue;
        }
        let ink = |word: &str| match word {
            "failed" => Ink::Wrong,
            "passed" => Ink::Calm,
            _ => Ink::Faint,
        };
        outln!("{}{}", paint.ink(ink(word), &format!("{word:<10}")), paint.ink(Ink::Strong, &check.address));
        for case in &cases {
            let group = if case.group.is_empty() { String::new() } else { format!("{} ", case.group) };
            let word = case.outcome.word();
            outln!(
                "  {}{}{}",
                paint.ink(ink(word), &format!("{word:<10}")),
                paint.ink(Ink::Faint, &group),
                case.name
            );
        }
    }
    if !any && !face.json {
        outln!("there are no tests here");
    }
    Ok(Exit::Done)
}

/// Which targets are listed, and how.
pub struct Which {
    /// Whether they are only counted.
    pub kinds: bool,
    /// Whether the cases of tests are listed instead.
    pub cases: bool,
    pub kind: Option<String>,
    pub tag: Option<String>,
    /// Only those that a change since this revision can affect.
    pub since: Option<String>,
}

pub fn list(face: Face, choice: &Choice, words: &[String], which: Which) -> Outcome<Exit> {
    let mut session = open(face, choice)?;
    if which.since.is_some() {
        session.take_notes();
    }
    let patterns = patterns(face, &mut session, words)?;
    let evaluation = evaluate(face, &mut session, &patterns)?;
    let reached = match &which.since {
        Some(revision) => Some(Reached::of(face, &session, &evaluation, revision)?),
        None => None,
    };
    let listed = reached.as_ref().map_or(&evaluation.targets, |reached| &reached.targets);
    let exit = list_targets(face, &mut session, &evaluation, listed, &which)?;
    if let Some(reached) = &reached {
        // What is left out belongs to no package of the list.
        if reached.left > 0 && !reached.targets.is_empty() && !face.json {
            outln!();
        }
        reached.say_left(face);
    }
    Ok(exit)
}

fn list_targets(
    face: Face,
    session: &mut Session,
    evaluation: &Evaluation,
    listed: &[TargetId],
    which: &Which,
) -> Outcome<Exit> {
    let graph = &evaluation.graph;
    let all: Vec<&Target> = listed.iter().map(|t| graph.target(*t)).collect();
    let targets: Vec<&Target> = all
        .iter()
        .copied()
        .filter(|t| which.kind.as_ref().is_none_or(|kind| *t.kind == **kind))
        .filter(|t| which.tag.as_ref().is_none_or(|tag| t.tags.iter().any(|other| **other == **tag)))
        .collect();
    if targets.is_empty() && !all.is_empty() {
        return Err(nothing_of_that(face, &all, which));
    }
    if which.cases {
        let targets: Vec<TargetId> = listed
            .iter()
            .copied()
            .filter(|t| targets.iter().any(|other| other.address == graph.target(*t).address))
            .collect();
        return list_cases(face, session, graph, &targets);
    }
    if which.kinds {
        count_kinds(face, &targets);
        return Ok(Exit::Done);
    }
    if face.json {
        for target in targets {
            json::print(&TargetEvent {
                event: "target",
                address: &target.address,
                kind: &target.kind,
                documentation: &target.documentation,
                defined: target.place.to_string(),
                private: target.private,
                entries: entries(graph, target),
                role: target.role.word(),
                tags: &target.tags,
            });
        }
        return Ok(Exit::Done);
    }
    let paint = super::paint(face);
    let mut packages: BTreeMap<&str, Vec<&Target>> = BTreeMap::new();
    for target in &targets {
        packages.entry(target.package.as_str()).or_default().push(target);
    }
    let name = |t: &Target| t.address.rsplit('/').next().unwrap_or("").to_owned();
    let names = targets.iter().map(|t| width(&name(t))).max().unwrap_or(0).min(32);
    let kinds = targets.iter().map(|t| width(&shown_kind(graph, t))).max().unwrap_or(0);
    for (i, (package, mut targets)) in packages.into_iter().enumerate() {
        if i > 0 {
            outln!();
        }
        let title = if package.is_empty() { "the workspace's root" } else { package };
        outln!("{}", paint.ink(Ink::Strong, title));
        targets.sort_by_key(|t| (t.role, t.kind.clone(), t.address.clone()));
        for target in targets {
            let kind = paint.ink(Ink::Calm, &padded(&shown_kind(graph, target), kinds));
            let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(2 + kinds + 2 + names + 3));
            let tags: String = target.tags.iter().map(|t| format!("  #{t}")).collect();
            let documentation = format!("{}{tags}", target.documentation);
            let documentation = cut(documentation.trim_start(), room, paint.glyph("…", "..."));
            let line = format!(
                "  {kind}  {}   {}",
                padded(&name(target), names),
                paint.ink(Ink::Faint, &documentation)
            );
            outln!("{}", line.trim_end());
        }
    }
    Ok(Exit::Done)
}

fn entries(graph: &Graph, target: &Target) -> usize {
    let mut addresses: Vec<&str> = match target.role {
        Role::Test => {
            let own = |step: &Step| graph.target(step.target).address == target.address;
            let checks = graph.steps.iter().filter(|s| own(s)).filter_map(|s| s.check.as_ref());
            checks.map(|c| &*c.address).collect()
        }
        _ => target.results.iter().map(|r| &*r.address).collect(),
    };
    addresses.sort_unstable();
    addresses.dedup();
    addresses.len()
}

fn shown_kind(graph: &Graph, target: &Target) -> String {
    let kind = shown_form(graph, target);
    // What is run or tested is told from what is built.
    match target.role {
        Role::Test => match entries(graph, target) {
            1 => "test".to_owned(),
            count => format!("{count} tests"),
        },
        Role::Job => "job".to_owned(),
        Role::Service => "service".to_owned(),
        _ => kind,
    }
}

fn shown_form(graph: &Graph, target: &Target) -> String {
    match (&*target.kind, entries(graph, target)) {
        ("map", count) => format!("map of {count}"),
        (kind, _) => kind.to_owned(),
    }
}
