//! `nubrik list`

use std::collections::BTreeMap;

use nubrik_graph::Target;
use serde::Serialize;

use super::{Outcome, evaluate, open, patterns};
use crate::arguments::{Choice, Face};
use crate::exit::Exit;
use crate::ui::json;
use crate::ui::paint::Ink;
use crate::ui::text::{cut, padded, width};

#[derive(Serialize)]
struct TargetEvent<'a> {
    event: &'static str,
    address: &'a str,
    kind: &'a str,
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
            println!("{count:>6}  {}", paint.ink(Ink::Calm, kind));
        }
    }
}

/// Which targets are listed, and how.
pub struct Which {
    /// Whether they are only counted.
    pub kinds: bool,
    pub kind: Option<String>,
    pub tag: Option<String>,
}

pub fn list(face: Face, choice: &Choice, words: &[String], which: Which) -> Outcome<Exit> {
    let mut session = open(face, choice)?;
    let patterns = patterns(face, &mut session, words)?;
    let evaluation = evaluate(face, &mut session, &patterns)?;
    let all: Vec<&Target> = evaluation.targets.iter().map(|t| evaluation.graph.target(*t)).collect();
    let targets: Vec<&Target> = all
        .iter()
        .copied()
        .filter(|t| which.kind.as_ref().is_none_or(|kind| *t.kind == **kind))
        .filter(|t| which.tag.as_ref().is_none_or(|tag| t.tags.iter().any(|other| **other == **tag)))
        .collect();
    if targets.is_empty() && !all.is_empty() {
        return Err(nothing_of_that(face, &all, &which));
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
                entries: entries(target),
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
    let kinds = targets.iter().map(|t| width(&shown_kind(t))).max().unwrap_or(0);
    for (i, (package, mut targets)) in packages.into_iter().enumerate() {
        if i > 0 {
            println!();
        }
        let title = if package.is_empty() { "the workspace's root" } else { package };
        println!("{}", paint.ink(Ink::Strong, title));
        targets.sort_by_key(|t| (t.kind.clone(), t.address.clone()));
        for target in targets {
            let kind = paint.ink(Ink::Calm, &padded(&shown_kind(target), kinds));
            let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(2 + kinds + 2 + names + 3));
            let tags: String = target.tags.iter().map(|t| format!("  #{t}")).collect();
            let documentation = format!("{}{tags}", target.documentation);
            let documentation = cut(documentation.trim_start(), room, paint.glyph("…", "..."));
            let line = format!(
                "  {kind}  {}   {}",
                padded(&name(target), names),
                paint.ink(Ink::Faint, &documentation)
            );
            println!("{}", line.trim_end());
        }
    }
    Ok(Exit::Done)
}

fn entries(target: &Target) -> usize {
    let mut addresses: Vec<&str> = target.results.iter().map(|r| &*r.address).collect();
    addresses.sort_unstable();
    addresses.dedup();
    addresses.len()
}

fn shown_kind(target: &Target) -> String {
    match (&*target.kind, entries(target)) {
        ("map", count) => format!("map of {count}"),
        (kind, _) => kind.to_owned(),
    }
}
