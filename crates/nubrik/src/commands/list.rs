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
}

pub fn list(face: Face, choice: &Choice, words: &[String]) -> Outcome<Exit> {
    let mut session = open(face, choice)?;
    let patterns = patterns(face, &mut session, words)?;
    let evaluation = evaluate(face, &mut session, &patterns)?;
    let targets: Vec<&Target> = evaluation.targets.iter().map(|t| evaluation.graph.target(*t)).collect();
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
            let documentation = cut(&target.documentation, room, paint.glyph("…", "..."));
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
