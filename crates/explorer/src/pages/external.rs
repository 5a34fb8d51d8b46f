//! What comes from elsewhere: pinned code, archives, tools, libraries.

use std::collections::{BTreeMap, HashSet, VecDeque};

use maud::{Markup, html};
use nubrik_answers::FetchedArchives;
use nubrik_graph::{Native, StepId, TargetId};
use nubrik_pins::{ASKED, Pin, Pins, Shelf, pin_id};
use nubrik_wording::counted;

use crate::look::{SitePage, state};
use crate::pages::naming::{place_link, target_link};
use crate::site::Site;

/// So many users are named of each thing.
const USERS: usize = 3;

pub(crate) fn external(site: &Site) -> SitePage {
    let body = html! {
        h1 { "Dependencies" }
        (tools(site))
        (images(site))
        (libraries(site))
        (pins(site))
        (archives(site))
    };
    SitePage {
        title: "Dependencies".to_owned(),
        part: "external.html",
        body,
    }
}

fn users(site: &Site, all: &[TargetId]) -> Markup {
    html! {
        @for (n, id) in all.iter().take(USERS).enumerate() { @if n > 0 { ", " } (target_link(site, *id)) }
        @if all.len() > USERS { " and " (all.len() - USERS) " more" }
    }
}

/// Images, and what runs in them.
fn images(site: &Site) -> Markup {
    let graph = site.graph();
    let mut used: BTreeMap<TargetId, Vec<TargetId>> = BTreeMap::new();
    for (number, step) in graph.steps.iter().enumerate() {
        let statements = step
            .services
            .iter()
            .filter_map(|service| service.root.as_ref());
        let of_services = statements.filter_map(|image| {
            let statement = step
                .inputs
                .iter()
                .find(|file| graph.file(**file).path == image.statement);
            graph.file(*statement?).maker
        });
        for image in graph
            .image_of(StepId(number as u32))
            .into_iter()
            .chain(of_services)
        {
            let list = used.entry(graph.step(image).target).or_default();
            if list.last() != Some(&step.target) {
                list.push(step.target);
            }
        }
    }
    for list in used.values_mut() {
        list.sort_unstable();
        list.dedup();
    }
    html! {
        @if !used.is_empty() {
            h2 { "Images" }
            div.scroll { table {
                thead { tr { th scope="col" { "Image" } th scope="col" { "Defined" } th scope="col" { "Used by" } } }
                tbody { @for (image, by) in &used { tr {
                    td { (target_link(site, *image)) }
                    td { (place_link(site, &graph.target(*image).place)) }
                    td { (users(site, by)) }
                } } }
            } }
        }
    }
}

fn tools(site: &Site) -> Markup {
    let graph = site.graph();
    let mut used: BTreeMap<usize, Vec<TargetId>> = BTreeMap::new();
    // What a step in an image starts is in the image.
    for step in graph.steps.iter().filter(|step| step.root.is_none()) {
        for tool in &step.tools {
            let list = used.entry(tool.index()).or_default();
            if list.last() != Some(&step.target) {
                list.push(step.target);
            }
        }
    }
    let mut rows: Vec<(&str, Vec<TargetId>)> = used
        .into_iter()
        .map(|(tool, mut users)| {
            users.sort_unstable();
            users.dedup();
            (&*graph.tools[tool], users)
        })
        .collect();
    rows.sort();
    html! {
        h2 { "Tools" }
        @if rows.is_empty() { p { "No step starts a program of this machine." } } @else {
            div.scroll { table {
                thead { tr { th scope="col" { "Tool" } th scope="col" { "Found" } th scope="col" { "Version" } th scope="col" { "Tracked files" } th scope="col" { "Used by" } } }
                tbody { @for (name, by) in &rows {
                    @let found = site.session.find_tool(&(*name).into());
                    tr {
                        td { code { (name) } }
                        @match &found {
                            Ok((tool, version)) => { td.name { (tool.path.display().to_string()) } td { (version.as_deref().unwrap_or("")) } td.number { (tool.parts.len()) } },
                            Err(problem) => { td colspan="3" { (state("failed")) " " (problem.mend.as_deref().unwrap_or("it is not there")) } },
                        }
                        td { (users(site, by)) }
                    }
                } }
            } }
        }
    }
}

fn libraries(site: &Site) -> Markup {
    let looked_for = site.session.looked_for();
    html! {
        @if !looked_for.libraries.is_empty() {
            h2 { "System libraries" }
            div.scroll { table {
                thead { tr { th scope="col" { "Library" } th scope="col" { "Version" } th scope="col" { "Linked with" } } }
                tbody { @for (request, search) in &looked_for.libraries {
                    tr {
                        td { code { (request.names.iter().map(|name| &**name).collect::<Vec<_>>().join(" or ")) } }
                        @match search.found.first() {
                            Some(found) => { td { (found.version) } td { code { (found.link.join(" ")) } } },
                            None => { td colspan="2" { (state("failed")) " it is not there" } },
                        }
                    }
                } }
            } }
        }
    }
}

/// Digests of all archives that a step fetches.
fn pins(site: &Site) -> Markup {
    let pins = match site.session.pins() {
        Ok(pins) => pins,
        Err(problem) => {
            return html! { h2 { "Pinned" } div.notice.wrong { p { (problem.message) } } };
        }
    };
    let fetched = FetchedArchives::of(site.graph());
    html! { @for part in pin_parts(&pins, &fetched) { (part) } }
}

fn pin_parts(pins: &Pins, fetched: &FetchedArchives<'_>) -> Vec<Markup> {
    let is_used = |pin: &Pin| fetched.has_of(pin);
    let part = |(registry, shelf): (&nubrik_pins::Registry, &nubrik_pins::Shelf)| {
        let ways = ways(shelf);
        let unused = shelf
            .pins
            .values()
            .filter(|pin| pin.wanted_by.iter().any(|who| who == ASKED) && !is_used(pin))
            .count();
        html! {
            h2 { "Pinned: " (registry.name()) }
            @if unused > 0 { p { (counted(unused, "package")) @if unused == 1 { " is" } @else { " are" } " asked for, and no definition uses it." } }
            div.scroll { table {
                thead { tr { th scope="col" { "Package" } th scope="col" { "Version" } th scope="col" { "Licence" } th scope="col" { "Brought in by" } th scope="col" { "Digest" } th scope="col" { "Used" } } }
                tbody { @for pin in shelf.pins.values() {
                    tr {
                        td.name { (pin.name) } td { (pin.version) } td { (pin.licence.as_deref().unwrap_or("not known")) }
                        td {
                            @for (n, who) in pin.wanted_by.iter().enumerate() { @if n > 0 { ", " } @if who == ASKED { strong { "you" } } @else { (who) } }
                            @if let Some(way) = ways.get(&*pin_id(&pin.name, &pin.version)).filter(|way| way.len() > 2) { div.lead { "by way of " (way.join(" > ")) } }
                        }
                        td { @if let Some(archive) = pin.archives.first() { code { (archive.digest.chars().take(23).collect::<String>()) "…" } } }
                        td { @if is_used(pin) { "yes" } @else if !pin.on.is_empty() { "on " (pin.on.join(", ")) } @else { span.state.maybe { "no" } } }
                    }
                } }
            } }
        }
    };
    pins.shelves.iter().map(part).collect()
}

/// For each pin the shortest way by which it comes: from one that a person asked for, to itself.
fn ways(shelf: &Shelf) -> BTreeMap<&str, Vec<&str>> {
    let asked = shelf
        .pins
        .iter()
        .filter(|(_, pin)| pin.wanted_by.iter().any(|who| who == ASKED));
    let mut ways: BTreeMap<&str, Vec<&str>> = asked
        .map(|(key, pin)| (key.as_str(), vec![pin.name.as_str()]))
        .collect();
    let mut next: VecDeque<&str> = ways.keys().copied().collect();
    while let Some(key) = next.pop_front() {
        let Some(pin) = shelf.pins.get(key) else {
            continue;
        };
        let way = ways.get(key).cloned().unwrap_or_default();
        for need in &pin.needs {
            let Some((key, needed)) = shelf.pins.get_key_value(&need.pin) else {
                continue;
            };
            if !ways.contains_key(key.as_str()) {
                ways.insert(key, [&way[..], &[needed.name.as_str()]].concat());
                next.push_back(key);
            }
        }
    }
    ways
}

/// Archives that definitions themselves name.
fn archives(site: &Site) -> Markup {
    let graph = site.graph();
    let pinned: HashSet<String> = site.session.pins().map_or_else(
        |_| HashSet::new(),
        |pins| {
            let all = pins.shelves.values().flat_map(|shelf| shelf.pins.values());
            all.flat_map(|pin| &pin.archives)
                .map(|archive| archive.digest.clone())
                .collect()
        },
    );
    let rows = graph
        .steps
        .iter()
        .filter_map(|step| match step.native.as_deref() {
            Some(Native::Fetch { urls, digest, .. }) if !pinned.contains(&**digest) => {
                Some((step, urls, digest))
            }
            _ => None,
        });
    let rows: Vec<_> = rows.collect();
    html! {
        @if !rows.is_empty() {
            h2 { "Archives and files" }
            div.scroll { table {
                thead { tr { th scope="col" { "From" } th scope="col" { "Digest" } th scope="col" { "Brought in by" } th scope="col" { "Line" } } }
                tbody { @for (step, urls, digest) in rows {
                    tr {
                        td.name { (urls.first().map_or("", |url| url)) @if urls.len() > 1 { " and " (counted(urls.len() - 1, "mirror")) } }
                        td { code { (digest.chars().take(23).collect::<String>()) "…" } }
                        td { (target_link(site, step.target)) }
                        td { (place_link(site, &step.place)) }
                    }
                } }
            } }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shortest_way_by_which_a_package_comes_is_told() {
        let pin = |name: &str, needs: &[&str], who: &[&str]| {
            let need = |name: &&str| nubrik_pins::Need {
                pin: format!("{name}@1"),
                alias: None,
                build: false,
                on: Vec::new(),
            };
            let (needs, wanted_by) = (
                needs.iter().map(need).collect(),
                who.iter().map(|w| (*w).to_owned()).collect(),
            );
            (
                format!("{name}@1"),
                Pin {
                    name: name.to_owned(),
                    version: "1".to_owned(),
                    needs,
                    wanted_by,
                    ..Pin::default()
                },
            )
        };
        let pins = [
            pin("ebb", &["moon", "flow"], &[ASKED]),
            pin("flow", &["moon", "sand"], &["ebb"]),
            pin("moon", &[], &["ebb", "flow"]),
            // A circle ends nowhere, and one that nobody wants has no way.
            pin("sand", &["flow"], &["flow"]),
            pin("lost", &[], &[]),
        ];
        let shelf = Shelf {
            pins: pins.into_iter().collect(),
            ..Shelf::default()
        };
        let ways = ways(&shelf);
        assert_eq!(ways["moon@1"], ["ebb", "moon"]);
        assert_eq!(ways["sand@1"], ["ebb", "flow", "sand"]);
        assert!(!ways.contains_key("lost@1"));
    }
}
